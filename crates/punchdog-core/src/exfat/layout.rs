//! The structures of exFAT as they lie on the medium, with the names of the exFAT file system
//! specification (revision 1.00).
//!
//! ```text
//! sector  0      main boot sector          12      backup boot sector
//!         1-8    extended boot sectors     13-20   the same
//!         9      OEM parameters            21      the same
//!         10     reserved                  22      the same
//!         11     boot checksum             23      the same
//! FatOffset            the table, 4 bytes a cluster; TexFAT has a second one behind it
//! ClusterHeapOffset    cluster 2, usually the allocation bitmap, then the up-case table, the root
//!
//! directory entry, 32 bytes; the first is its type: bit 7 in use, bit 6 secondary, bit 5 benign
//!   81 allocation bitmap   1 flags, 20 first cluster, 24 length
//!   82 up-case table       4 checksum, 20 first cluster, 24 length
//!   83 volume label        1 characters, 2 up to 11 of them
//!   85 file                1 secondary count, 2 set checksum, 4 attributes, 8 12 16 times
//!   C0 stream extension    1 flags, 3 name length, 4 name hash, 8 valid length, 20 first cluster, 24 length
//!   C1 file name           2 up to 15 characters
//! ```

use crate::arith::Peek;
use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    little_endian::{U16, U32, U64},
};

/// The boot sector, main or backup (section 3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct BootSector {
    /// EB 76 90.
    pub jump: [u8; 3],
    /// "EXFAT   ".
    pub name: [u8; 8],
    /// Where a FAT boot sector has its BPB; all zero, so that no FAT driver takes the volume.
    pub must_be_zero: [u8; 53],
    /// Sectors before the volume; 0 for "not known".
    pub partition_offset: U64,
    /// Sectors of the volume.
    pub volume_length: U64,
    /// Sectors before the table.
    pub fat_offset: U32,
    /// Sectors of one table.
    pub fat_length: U32,
    /// Sectors before cluster 2.
    pub heap_offset: U32,
    /// Clusters.
    pub cluster_count: U32,
    /// First cluster of the root folder.
    pub root_cluster: U32,
    /// Serial number.
    pub serial: U32,
    /// Version: the high byte is the major number.
    pub revision: U16,
    /// Bit 0 second table active, 1 dirty, 2 media failure, 3 clear to zero.
    pub flags: U16,
    /// Bytes per sector: 2 to the power of this.
    pub sector_shift: u8,
    /// Sectors per cluster: 2 to the power of this.
    pub cluster_shift: u8,
    /// Tables: 1, or 2 for TexFAT.
    pub tables: u8,
    /// For INT 13h.
    pub drive: u8,
    /// Percent of the clusters in use; FF for "not known".
    pub percent: u8,
    /// Reserved.
    pub reserved: [u8; 7],
    /// Boot code.
    pub code: [u8; 390],
    /// 55 AA.
    pub signature: U16,
}
const _: () = assert!(size_of::<BootSector>() == 512);

/// Sectors of one boot region.
pub const REGION_SECTORS: u64 = 12;
/// The sector of a region that holds its checksum.
pub const CHECKSUM_SECTOR: u64 = 11;
/// The last four bytes of each extended boot sector (section 3.2.1).
pub const EXTENDED_SIGNATURE: u32 = 0xAA55_0000;
/// Offsets of the main boot sector that its checksum leaves out: flags and percent (section 3.4).
pub const NOT_SUMMED: [usize; 3] = [106, 107, 112];

/// VolumeFlags, ActiveFat.
pub const FLAG_ACTIVE: u16 = 1;
/// VolumeFlags, VolumeDirty.
pub const FLAG_DIRTY: u16 = 1 << 1;
/// VolumeFlags, MediaFailure.
pub const FLAG_FAILURE: u16 = 1 << 2;
/// VolumeFlags, ClearToZero.
pub const FLAG_CLEAR: u16 = 1 << 3;

impl BootSector {
    /// The sector that these bytes are.
    #[inline]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        Self::read_from_prefix(bytes).ok().map(|(sector, _)| sector)
    }
    /// The values that tell an exFAT boot sector from any other.
    #[inline]
    pub fn named(&self) -> bool {
        self.name == *b"EXFAT   "
    }
}

/// The checksum of the first eleven sectors of a boot region (section 3.4, figure 1).
#[inline]
pub fn boot_checksum(region: &[u8], sector_bytes: usize) -> u32 {
    let summed = sector_bytes.saturating_mul(11);
    let left_out = |index: &usize| !NOT_SUMMED.contains(index);
    let bytes = region.iter().take(summed).enumerate().filter(|(index, _)| left_out(index));
    bytes.fold(0_u32, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u32::from(*byte)))
}

/// The checksum of an up-case table (section 7.2.2).
#[inline]
pub fn table_checksum(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0, |sum: u32, byte| sum.rotate_right(1).wrapping_add(u32::from(*byte)))
}

/// The checksum of an entry set, but for the two bytes that hold it (section 6.3.3).
#[inline]
pub fn set_checksum(set: &[u8]) -> u16 {
    let (before, behind) = (set.get(..2).unwrap_or(set), set.get(4..).unwrap_or(&[]));
    summed(summed(0, before), behind)
}

/// The sum of bytes behind others, as checksums and hashes of entries have it.
#[inline]
pub fn summed(sum: u16, bytes: &[u8]) -> u16 {
    bytes.iter().fold(sum, |sum, byte| sum.rotate_right(1).wrapping_add(u16::from(*byte)))
}

/// The hash of a name that was put into upper case (section 7.6.4).
#[inline]
pub fn name_hash(upper: &[u16]) -> u16 {
    hash_of(upper.iter().copied())
}

/// The same of units one by one.
#[inline]
pub(super) fn hash_of(upper: impl Iterator<Item = u16>) -> u16 {
    let bytes = upper.flat_map(u16::to_le_bytes);
    bytes.fold(0, |sum: u16, byte| sum.rotate_right(1).wrapping_add(u16::from(byte)))
}

/// Bytes of a directory entry.
pub const ENTRY: usize = 32;
/// The bit that says that an entry is in use.
pub const IN_USE: u8 = 0x80;
/// The bit that says that an entry belongs to the primary entry before it.
pub const SECONDARY: u8 = 0x40;
/// The bit that says that an entry may be ignored by who does not know it.
pub const BENIGN: u8 = 0x20;
/// The end mark of a folder.
pub const END: u8 = 0;
/// Allocation bitmap.
pub const BITMAP: u8 = 0x81;
/// Up-case table.
pub const UPCASE: u8 = 0x82;
/// Volume label.
pub const LABEL: u8 = 0x83;
/// File or folder.
pub const FILE: u8 = 0x85;
/// Volume GUID.
pub const GUID: u8 = 0xA0;
/// TexFAT padding.
pub const PADDING: u8 = 0xA1;
/// Stream extension.
pub const STREAM: u8 = 0xC0;
/// File name.
pub const NAME: u8 = 0xC1;
/// Characters in one file name entry.
pub const NAME_UNITS: usize = 15;
/// Characters in a name.
pub const LONGEST: usize = 255;
/// FileAttributes, Hidden.
pub const HIDDEN: u16 = 2;
/// FileAttributes, System.
pub const SYSTEM: u16 = 4;
/// FileAttributes, Archive.
pub const ARCHIVE: u16 = 0x20;
/// FileAttributes, Directory.
pub const DIRECTORY: u16 = 0x10;
/// FileAttributes that mean something: read-only, hidden, system, directory, archive.
pub const ATTRIBUTES: u16 = 0x37;
/// GeneralSecondaryFlags, AllocationPossible.
pub const POSSIBLE: u8 = 1;
/// GeneralSecondaryFlags, NoFatChain: the clusters lie in a row, the table is not asked.
pub const NO_CHAIN: u8 = 2;
/// Bytes that a folder may have at most (section 7.6.7).
pub const LONGEST_FOLDER: u64 = 256 << 20;

/// An allocation bitmap or up-case table entry (sections 7.1 and 7.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Owner {
    /// The flags of a bitmap, 0 for an up-case table.
    pub flags: u8,
    /// The checksum of an up-case table.
    pub checksum: u32,
    /// First cluster.
    pub first: u32,
    /// Bytes.
    pub length: u64,
}

impl Owner {
    /// The entry that these bytes are.
    pub fn read(raw: &[u8]) -> Self {
        Self {
            flags: if raw.byte(0) == BITMAP { raw.byte(1) } else { 0 },
            checksum: raw.le32(4),
            first: raw.le32(20),
            length: raw.le64(24),
        }
    }
    /// Its bytes, as an entry of type `kind`.
    pub fn entry(&self, kind: u8) -> [u8; ENTRY] {
        let mut raw = [0; ENTRY];
        put(&mut raw, 0, &[kind, self.flags]);
        if kind == UPCASE {
            put(&mut raw, 4, &self.checksum.to_le_bytes());
        }
        put(&mut raw, 20, &self.first.to_le_bytes());
        put(&mut raw, 24, &self.length.to_le_bytes());
        raw
    }
}

/// What a stream extension says (section 7.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Stream {
    /// GeneralSecondaryFlags.
    pub flags: u8,
    /// Characters of the name.
    pub name_length: u8,
    /// The hash of the name in upper case.
    pub name_hash: u16,
    /// Bytes that were ever written; the rest reads as zeros.
    pub valid: u64,
    /// First cluster; 0 for none.
    pub first: u32,
    /// Bytes.
    pub length: u64,
}

impl Stream {
    /// The entry that these bytes are.
    pub fn read(raw: &[u8]) -> Self {
        Self {
            flags: raw.byte(1),
            name_length: raw.byte(3),
            name_hash: raw.le16(4),
            valid: raw.le64(8),
            first: raw.le32(20),
            length: raw.le64(24),
        }
    }
    /// Writes it into an entry, whose other bytes stay what they are.
    pub fn put(&self, raw: &mut [u8]) {
        put(raw, 0, &[STREAM, self.flags]);
        put(raw, 3, &[self.name_length]);
        put(raw, 4, &self.name_hash.to_le_bytes());
        put(raw, 8, &self.valid.to_le_bytes());
        put(raw, 20, &self.first.to_le_bytes());
        put(raw, 24, &self.length.to_le_bytes());
    }
    /// The clusters lie in a row.
    #[inline]
    pub fn in_a_row(&self) -> bool {
        self.flags & NO_CHAIN != 0
    }
}

/// Writes `bytes` into `raw` at `at`, as far as there is room.
#[inline]
pub fn put(raw: &mut [u8], at: usize, bytes: &[u8]) {
    for (slot, byte) in raw.iter_mut().skip(at).zip(bytes) {
        *slot = *byte;
    }
}

/// A whole entry set of a file or folder, with its checksum.
pub fn entry_set(attributes: u16, times: &[u8; 17], stream: Stream, name: &[u16], upper: &[u16]) -> Vec<u8> {
    let parts = name.len().div_ceil(NAME_UNITS);
    let mut set = vec![0_u8; parts.saturating_add(2).saturating_mul(ENTRY)];
    put(&mut set, 0, &[FILE, u8::try_from(parts.saturating_add(1)).unwrap_or(u8::MAX)]);
    put(&mut set, 4, &attributes.to_le_bytes());
    put(&mut set, 8, times);
    let stream = Stream {
        name_length: u8::try_from(name.len()).unwrap_or(u8::MAX),
        name_hash: name_hash(upper),
        ..stream
    };
    if let Some(entry) = set.get_mut(ENTRY..) {
        stream.put(entry);
    }
    for (number, part) in name.chunks(NAME_UNITS).enumerate() {
        let at = number.saturating_add(2).saturating_mul(ENTRY);
        put(&mut set, at, &[NAME, 0]);
        let units: Vec<u8> = part.iter().flat_map(|unit| unit.to_le_bytes()).collect();
        put(&mut set, at.saturating_add(2), &units);
    }
    let sum = set_checksum(&set);
    put(&mut set, 2, &sum.to_le_bytes());
    set
}
