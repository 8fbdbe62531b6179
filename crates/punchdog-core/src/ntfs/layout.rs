//! The structures of NTFS as they lie on the medium.
//!
//! Its maker has published the boot sector and no more. What stands here rests on that, on what the driver of Linux
//! 6.12 (`fs/ntfs3/ntfs.h`) demands, and on volumes that were looked at; each was held against that driver.
//!
//! ```text
//! sector 0            boot sector; its copy is in the sector behind the last one that it counts
//! $MFT cluster        records of 1024 or 4096 bytes; 0 $MFT, 1 $MFTMirr, 2 $LogFile, 3 $Volume, 4 $AttrDef, 5 the root
//!                     folder, 6 $Bitmap, 7 $Boot, 8 $BadClus, 9 $Secure, 10 $UpCase, 11 $Extend
//! $MFTMirr cluster    copies of the first four records (of more where a cluster holds more)
//!
//! record     0 FILE   4 fixup offset   6 fixup count   8 log number   16 sequence   18 links   20 first attribute
//!            22 flags   24 bytes used   28 bytes allocated   32 base record   40 next attribute id   44 own number
//! attribute  0 type   4 length   8 not resident   9 name length   10 name offset   12 flags   14 id
//!   resident       16 value length   20 value offset   22 indexed
//!   not resident   16 first VCN   24 last VCN   32 runs offset   34 compression unit   40 allocated   48 size
//!                  56 valid   64 total allocated, where sparse or compressed
//! INDX block 0 INDX   4 fixup offset   6 fixup count   8 log number   16 VCN   24 index header
//! index header        0 entries offset   4 bytes used   8 bytes allocated   12 flags; offsets from its own start
//! index entry         0 record   8 length   10 key length   12 flags   16 key   last 8 bytes: VCN of the node below
//! ```

use crate::arith::{Peek, Sat};
use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    little_endian::{U16, U32, U64},
};

/// The boot sector, or its copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct BootSector {
    /// EB 52 90.
    pub jump: [u8; 3],
    /// "NTFS    ".
    pub name: [u8; 8],
    /// Bytes per sector.
    pub bytes_per_sector: U16,
    /// Sectors per cluster; above 128, 2 to the power of 256 less this.
    pub sectors_per_cluster: u8,
    /// Where FAT has reserved sectors, tables, root entries and small sectors; zero.
    pub must_be_zero: [u8; 7],
    /// Media descriptor.
    pub media: u8,
    /// Where FAT has the sectors of a table; zero.
    pub table_sectors: U16,
    /// Sectors per track, for INT 13h.
    pub sectors_per_track: U16,
    /// Heads, for INT 13h.
    pub heads: U16,
    /// Sectors before the volume.
    pub hidden_sectors: U32,
    /// Where FAT has large sectors; zero.
    pub sectors_32: U32,
    /// Drive number and flags, usually 80 00 80 00.
    pub drive: U32,
    /// Sectors of the volume, without the copy of this sector.
    pub total_sectors: U64,
    /// First cluster of $MFT.
    pub mft: U64,
    /// First cluster of $MFTMirr.
    pub mirror: U64,
    /// Bytes of a record: clusters, or where negative 2 to the power of its amount.
    pub record_size: i8,
    /// Unused.
    pub unused_1: [u8; 3],
    /// Bytes of an index block, written like those of a record.
    pub index_size: i8,
    /// Unused.
    pub unused_2: [u8; 3],
    /// Serial number.
    pub serial: U64,
    /// Checksum; nobody computes it.
    pub checksum: U32,
    /// Boot code.
    pub code: [u8; 426],
    /// 55 AA.
    pub signature: [u8; 2],
}
const _: () = assert!(size_of::<BootSector>() == 512);

impl BootSector {
    /// The sector that these bytes are.
    #[inline]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        Self::read_from_prefix(bytes).ok().map(|(sector, _)| sector)
    }
    /// It says that it is NTFS.
    #[inline]
    pub fn named(&self) -> bool {
        self.name == *b"NTFS    "
    }
}

/// Bytes of the strides whose last two the fixups stand for, whatever the sector size.
pub const STRIDE: usize = 512;
/// The records with fixed meanings.
pub mod own {
    /// The records themselves.
    pub const MFT: u32 = 0;
    /// The copies of the first records.
    pub const MIRROR: u32 = 1;
    /// The log.
    pub const LOG: u32 = 2;
    /// Label, version, flags.
    pub const VOLUME: u32 = 3;
    /// The kinds of attributes.
    pub const ATTRDEF: u32 = 4;
    /// The root folder.
    pub const ROOT: u32 = 5;
    /// Which clusters are in use.
    pub const BITMAP: u32 = 6;
    /// The boot sector as a file.
    pub const BOOT: u32 = 7;
    /// Clusters that failed.
    pub const BADCLUS: u32 = 8;
    /// Security descriptors.
    pub const SECURE: u32 = 9;
    /// Capital letters.
    pub const UPCASE: u32 = 10;
    /// The folder of the later ones.
    pub const EXTEND: u32 = 11;
    /// The first record that is not kept for the file system itself.
    pub const FIRST_FREE: u32 = 16;
    /// Those that are kept for later versions, and hold nothing.
    pub const RESERVED: std::ops::Range<u32> = 12..16;
    /// The first record that hosts give to people's files.
    pub const FIRST_USER: u32 = 24;
    /// Their names, by number.
    pub const NAMES: [&str; 12] = [
        "$MFT", "$MFTMirr", "$LogFile", "$Volume", "$AttrDef", ".", "$Bitmap", "$Boot", "$BadClus",
        "$Secure", "$UpCase", "$Extend",
    ];
}

/// Types of attributes.
pub mod kind {
    /// Times, attributes, security id.
    pub const STANDARD: u32 = 0x10;
    /// Where the other attributes of a file stand.
    pub const LIST: u32 = 0x20;
    /// A name in a folder.
    pub const NAME: u32 = 0x30;
    /// An object id.
    pub const OBJECT_ID: u32 = 0x40;
    /// A security descriptor.
    pub const SECURITY: u32 = 0x50;
    /// The volume's label.
    pub const VOLUME_NAME: u32 = 0x60;
    /// The volume's version and flags.
    pub const VOLUME_INFO: u32 = 0x70;
    /// Content.
    pub const DATA: u32 = 0x80;
    /// The root node of an index.
    pub const INDEX_ROOT: u32 = 0x90;
    /// The other nodes of an index.
    pub const INDEX_ALLOCATION: u32 = 0xA0;
    /// Which records, or index blocks, are in use.
    pub const BITMAP: u32 = 0xB0;
    /// What stands behind a name.
    pub const REPARSE: u32 = 0xC0;
    /// How long what follows is, where a host keeps properties of its own.
    pub const EXTENDED_INFO: u32 = 0xD0;
    /// Those properties.
    pub const EXTENDED: u32 = 0xE0;
    /// Logged streams of the host's own.
    pub const LOGGED: u32 = 0x100;
    /// The end mark of a record.
    pub const END: u32 = 0xFFFF_FFFF;
}

/// Flags of a record.
pub const RECORD_IN_USE: u16 = 1;
/// The record is a folder.
pub const RECORD_FOLDER: u16 = 2;
/// The record has an index that is not of names.
pub const RECORD_VIEW: u16 = 8;

/// Flags of an attribute: content is compressed.
pub const COMPRESSED: u16 = 0x00FF;
/// Content is encrypted.
pub const ENCRYPTED: u16 = 0x4000;
/// Content has holes.
pub const SPARSE: u16 = 0x8000;
/// What packed attributes have of it.
pub const PACKED: u16 = 1;
/// The flags of `$STANDARD_INFORMATION` for a file whose content is packed, or has holes.
pub const FILE_COMPRESSED: u32 = 0x800;
/// See there.
pub const FILE_SPARSE: u32 = 0x200;

/// `$FILE_NAME` namespaces.
pub const NAME_POSIX: u8 = 0;
/// A long name with a short one beside it.
pub const NAME_LONG: u8 = 1;
/// A short name.
pub const NAME_SHORT: u8 = 2;
/// A name that is both.
pub const NAME_BOTH: u8 = 3;

/// `$VOLUME_INFORMATION` flags: a check is wanted.
pub const VOLUME_DIRTY: u16 = 1;

/// The file attribute that `$FILE_NAME` has for folders.
pub const DUP_FOLDER: u32 = 0x1000_0000;

/// Bytes of the head of a record before its fixups, versions 1.2 and 3.0, and 3.1.
pub const HEAD_OLD: usize = 42;
/// See [`HEAD_OLD`].
pub const HEAD: usize = 48;
/// Bytes that the end mark of a record takes.
pub const END_ALIGN: usize = 8;
/// Bytes of an attribute's head where its value is resident.
pub const RESIDENT: usize = 24;
/// Bytes of an attribute's head where it is not.
pub const OUTSIDE: usize = 64;
/// Bytes of `$FILE_NAME` before the name.
pub const NAME_HEAD: usize = 66;
/// Bytes of `$STANDARD_INFORMATION` that all versions have.
pub const STANDARD_LEAST: usize = 48;
/// Bytes of an index entry's head.
pub const ENTRY_HEAD: usize = 16;
/// The index entry has a node below.
pub const ENTRY_NODE: u16 = 1;
/// The index entry is the last of its node.
pub const ENTRY_LAST: u16 = 2;

/// The record number of a reference.
#[inline]
pub fn number(reference: u64) -> u64 {
    reference & 0xFFFF_FFFF_FFFF
}
/// The sequence number of a reference.
#[inline]
pub fn sequence(reference: u64) -> u16 {
    u16::try_from(reference >> 48_u32).unwrap_or(0)
}
/// The reference to a record.
#[inline]
pub fn reference(number: u32, sequence: u16) -> u64 {
    u64::from(number) | u64::from(sequence) << 48_u32
}

/// Puts `value` into `into` from `at` on, as far as there is room.
#[inline]
pub fn put(into: &mut [u8], at: usize, value: &[u8]) {
    if let Some(place) = into.get_mut(at..at.plus(value.len())) {
        place.copy_from_slice(value);
    }
}

/// What the fixups of a record or block say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fixups {
    /// Each stride ends with the update sequence number.
    Whole,
    /// These strides do not: they are of another writing than the first.
    Torn(Vec<usize>),
    /// The array cannot be where the head says.
    Bad,
}

/// Puts the bytes back that the fixups stand for, in torn strides too, as the driver of Linux does: where the last
/// two bytes of a stride alone were struck, that is right.
pub fn unfix(bytes: &mut [u8]) -> Fixups {
    let (at, count) = (usize::from(bytes.le16(4)), bytes.len().per(STRIDE));
    let room = bytes.len().min(STRIDE).minus(2);
    if at < 24 || at.rest(2) != 0 || at.plus(count.plus(1).times(2)) > room || count == 0 {
        return Fixups::Bad;
    }
    let mark = bytes.le16(at);
    let mut torn = Vec::new();
    for stride in 0..count {
        let end = stride.plus(1).times(STRIDE).minus(2);
        if bytes.le16(end) != mark {
            torn.push(stride);
        }
        let kept = bytes.le16(at.plus(2).plus(stride.times(2)));
        put(bytes, end, &kept.to_le_bytes());
    }
    if torn.is_empty() { Fixups::Whole } else { Fixups::Torn(torn) }
}

/// The head of a record or block names as many fixups as it has strides, and one more: hosts go by that number (Linux 6.12,
/// `fs/ntfs3/record.c` and `fs/ntfs3/fsntfs.c`, `ntfs_fix_post_read`).
pub fn counts_fixups(bytes: &[u8]) -> bool {
    usize::from(bytes.le16(6)) == bytes.len().per(STRIDE).plus(1)
}

/// Sets the fixups anew, with the next update sequence number.
pub fn fix(bytes: &mut [u8]) {
    let (at, count) = (usize::from(bytes.le16(4)), bytes.len().per(STRIDE));
    let next = match bytes.le16(at).wrapping_add(1) {
        0 | 0xFFFF => 1,
        number => number,
    };
    put(bytes, at, &next.to_le_bytes());
    for stride in 0..count {
        let end = stride.plus(1).times(STRIDE).minus(2);
        let kept = bytes.le16(end);
        put(bytes, at.plus(2).plus(stride.times(2)), &kept.to_le_bytes());
        put(bytes, end, &next.to_le_bytes());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fixups_go_on_and_off() {
        let mut record: Vec<u8> = (0..1024_u32).map(|n| n.to_le_bytes()[0] ^ 0x5A).collect();
        put(&mut record, 4, &[48, 0, 3, 0]);
        let before = record.clone();
        fix(&mut record);
        assert_eq!(record[510..512], record[1022..1024]);
        let written = record.clone();
        assert_eq!(unfix(&mut record), Fixups::Whole);
        assert_eq!(record[54..], before[54..]);
        let mut torn = written;
        torn[1022] ^= 1;
        assert_eq!(unfix(&mut torn), Fixups::Torn(vec![1]));
        put(&mut torn, 4, &[0xFF, 0xFF]);
        assert_eq!(unfix(&mut torn), Fixups::Bad);
    }
}
