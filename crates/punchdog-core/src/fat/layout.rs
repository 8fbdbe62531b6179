//! The on-disk structures of FAT12, FAT16 and FAT32, once.
//!
//! ```text
//! boot sector (FAT specification 1.03, "Boot Sector and BPB Structure")
//!   0  3 BS_jmpBoot      11 2 BPB_BytsPerSec   13 1 BPB_SecPerClus   14 2 BPB_RsvdSecCnt
//!   3  8 BS_OEMName      16 1 BPB_NumFATs      17 2 BPB_RootEntCnt   19 2 BPB_TotSec16
//!  21  1 BPB_Media       22 2 BPB_FATSz16      24 2 BPB_SecPerTrk    26 2 BPB_NumHeads
//!  28  4 BPB_HiddSec     32 4 BPB_TotSec32
//!   FAT12/16                       FAT32
//!  36  1 BS_DrvNum                 36 4 BPB_FATSz32    40 2 BPB_ExtFlags  42 2 BPB_FSVer
//!  37  1 BS_Reserved1 (flags)      44 4 BPB_RootClus   48 2 BPB_FSInfo    50 2 BPB_BkBootSec
//!  38  1 BS_BootSig                52 12 BPB_Reserved  64 1 BS_DrvNum     65 1 BS_Reserved1 (flags)
//!  39  4 BS_VolID                  66 1 BS_BootSig     67 4 BS_VolID
//!  43 11 BS_VolLab                 71 11 BS_VolLab
//!  54  8 BS_FilSysType             82 8 BS_FilSysType
//! 510  2 signature 55 AA
//!
//! FSInfo sector              folder entry (short)          folder entry (long name part)
//!   0 4 FSI_LeadSig            0 11 DIR_Name                 0  1 LDIR_Ord
//! 484 4 FSI_StrucSig          11  1 DIR_Attr                 1 10 LDIR_Name1
//! 488 4 FSI_Free_Count        12  1 DIR_NTRes               11  1 LDIR_Attr = 0F
//! 492 4 FSI_Nxt_Free          13  1 DIR_CrtTimeTenth        12  1 LDIR_Type
//! 508 4 FSI_TrailSig          14  2 DIR_CrtTime             13  1 LDIR_Chksum
//!                             16  2 DIR_CrtDate             14 12 LDIR_Name2
//!                             18  2 DIR_LstAccDate          26  2 LDIR_FstClusLO = 0
//!                             20  2 DIR_FstClusHI           28  4 LDIR_Name3
//!                             22  2 DIR_WrtTime
//!                             24  2 DIR_WrtDate
//!                             26  2 DIR_FstClusLO
//!                             28  4 DIR_FileSize
//! ```

use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// The fields that all boot sectors share, with the FAT32 fields behind them; for FAT12 and
/// FAT16 the bytes from 36 on are read as [`BootTail16`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct BootSector {
    /// `BS_jmpBoot`.
    pub jump: [u8; 3],
    /// `BS_OEMName`.
    pub oem_name: [u8; 8],
    /// `BPB_BytsPerSec`.
    pub bytes_per_sector: U16,
    /// `BPB_SecPerClus`.
    pub sectors_per_cluster: u8,
    /// `BPB_RsvdSecCnt`.
    pub reserved_sectors: U16,
    /// `BPB_NumFATs`.
    pub tables: u8,
    /// `BPB_RootEntCnt`.
    pub root_entries: U16,
    /// `BPB_TotSec16`.
    pub total_sectors_16: U16,
    /// `BPB_Media`.
    pub media: u8,
    /// `BPB_FATSz16`.
    pub table_sectors_16: U16,
    /// `BPB_SecPerTrk`.
    pub sectors_per_track: U16,
    /// `BPB_NumHeads`.
    pub heads: U16,
    /// `BPB_HiddSec`.
    pub hidden_sectors: U32,
    /// `BPB_TotSec32`.
    pub total_sectors_32: U32,
    /// The bytes from 36 to 89.
    pub tail: [u8; 54],
    /// The boot code.
    pub boot_code: [u8; 420],
    /// The signature 55 AA.
    pub signature: [u8; 2],
}
const _: () = assert!(size_of::<BootSector>() == 512);

/// Bytes 36 to 61 of a FAT12 or FAT16 boot sector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct BootTail16 {
    /// `BS_DrvNum`.
    pub drive: u8,
    /// `BS_Reserved1`; bit 0 not closed, bit 1 errors met.
    pub flags: u8,
    /// `BS_BootSig`, 29 hex.
    pub extended_signature: u8,
    /// `BS_VolID`.
    pub serial: U32,
    /// `BS_VolLab`.
    pub label: [u8; 11],
    /// `BS_FilSysType`.
    pub type_text: [u8; 8],
}
const _: () = assert!(size_of::<BootTail16>() == 26);

/// Bytes 36 to 89 of a FAT32 boot sector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct BootTail32 {
    /// `BPB_FATSz32`.
    pub table_sectors: U32,
    /// `BPB_ExtFlags`.
    pub ext_flags: U16,
    /// `BPB_FSVer`.
    pub version: U16,
    /// `BPB_RootClus`.
    pub root_cluster: U32,
    /// `BPB_FSInfo`.
    pub fsinfo_sector: U16,
    /// `BPB_BkBootSec`.
    pub backup_sector: U16,
    /// `BPB_Reserved`.
    pub reserved: [u8; 12],
    /// `BS_DrvNum` and the bytes that FAT12/16 have at 36.
    pub common: BootTail16,
}
const _: () = assert!(size_of::<BootTail32>() == 54);

impl BootSector {
    /// The sector in these bytes; `None` when there are fewer than 512.
    #[inline]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        Self::read_from_prefix(bytes).ok().map(|(sector, _)| sector)
    }
    /// The FAT32 reading of the tail.
    #[inline]
    pub fn tail32(&self) -> BootTail32 {
        zerocopy::transmute!(self.tail)
    }
    /// Puts back a FAT32 tail.
    #[inline]
    pub fn set_tail32(&mut self, tail: BootTail32) {
        self.tail = zerocopy::transmute!(tail);
    }
    /// The FAT12/16 reading of the tail.
    #[inline]
    pub fn tail16(&self) -> BootTail16 {
        BootTail16::read_from_prefix(&self.tail).map_or_else(|_| self.tail32().common, |(tail, _)| tail)
    }
    /// Puts back a FAT12/16 tail; the bytes behind it stay.
    #[inline]
    pub fn set_tail16(&mut self, tail: BootTail16) {
        for (place, byte) in self.tail.iter_mut().zip(tail.as_bytes()) {
            *place = *byte;
        }
    }
}

/// The FSInfo sector of FAT32 (specification, "FAT32 FSInfo Sector Structure").
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct FsInfo {
    /// `FSI_LeadSig`.
    pub lead: U32,
    /// `FSI_Reserved1`.
    pub reserved_1: [u8; 480],
    /// `FSI_StrucSig`.
    pub structure: U32,
    /// `FSI_Free_Count`: free clusters, or FFFFFFFF for unknown.
    pub free_count: U32,
    /// `FSI_Nxt_Free`: where to look for free clusters, or FFFFFFFF.
    pub next_free: U32,
    /// `FSI_Reserved2`.
    pub reserved_2: [u8; 12],
    /// `FSI_TrailSig`.
    pub trail: U32,
}
const _: () = assert!(size_of::<FsInfo>() == 512);

/// `FSI_LeadSig`.
pub const FSINFO_LEAD: u32 = 0x4161_5252;
/// `FSI_StrucSig`.
pub const FSINFO_STRUCTURE: u32 = 0x6141_7272;
/// `FSI_TrailSig`.
pub const FSINFO_TRAIL: u32 = 0xAA55_0000;
/// "Not known" in both counts of the FSInfo sector.
pub const FSINFO_UNKNOWN: u32 = u32::MAX;

impl FsInfo {
    /// The sector in these bytes; `None` when there are fewer than 512.
    #[inline]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        Self::read_from_prefix(bytes).ok().map(|(sector, _)| sector)
    }
    /// True when all three signatures are right.
    #[inline]
    pub fn signed(&self) -> bool {
        self.lead.get() == FSINFO_LEAD
            && self.structure.get() == FSINFO_STRUCTURE
            && self.trail.get() == FSINFO_TRAIL
    }
    /// A fresh sector with these counts.
    pub fn with_counts(free_count: u32, next_free: u32) -> Self {
        Self {
            lead: FSINFO_LEAD.into(),
            reserved_1: [0; 480],
            structure: FSINFO_STRUCTURE.into(),
            free_count: free_count.into(),
            next_free: next_free.into(),
            reserved_2: [0; 12],
            trail: FSINFO_TRAIL.into(),
        }
    }
}

/// Bytes in a folder entry.
pub const ENTRY_BYTES: usize = 32;

/// Bytes of a folder at most: 65,536 entries (specification, "FAT Directory Structure"; Linux 6.12, `fs/fat/fat.h`).
pub const FOLDER_LONGEST: usize = 65_536 * ENTRY_BYTES;

/// A short folder entry (specification, "FAT Directory Structure").
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct ShortEntry {
    /// `DIR_Name`: eight and three characters, padded with spaces.
    pub name: [u8; 11],
    /// `DIR_Attr`.
    pub attributes: u8,
    /// `DIR_NTRes`: bit 3 lower-case name, bit 4 lower-case extension, by convention.
    pub case: u8,
    /// `DIR_CrtTimeTenth`.
    pub created_tenths: u8,
    /// `DIR_CrtTime`.
    pub created_time: U16,
    /// `DIR_CrtDate`.
    pub created_date: U16,
    /// `DIR_LstAccDate`.
    pub accessed_date: U16,
    /// `DIR_FstClusHI`.
    pub first_cluster_high: U16,
    /// `DIR_WrtTime`.
    pub written_time: U16,
    /// `DIR_WrtDate`.
    pub written_date: U16,
    /// `DIR_FstClusLO`.
    pub first_cluster_low: U16,
    /// `DIR_FileSize`, bytes.
    pub size: U32,
}
const _: () = assert!(size_of::<ShortEntry>() == ENTRY_BYTES);

impl ShortEntry {
    /// The entry in these bytes; `None` when there are fewer than 32.
    #[inline]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        Self::read_from_prefix(bytes).ok().map(|(entry, _)| entry)
    }
    /// The first cluster; FAT12/16 ignore the high half.
    #[inline]
    pub fn first_cluster(&self, wide: bool) -> u32 {
        let high = if wide { u32::from(self.first_cluster_high.get()) } else { 0 };
        high << 16_u32 | u32::from(self.first_cluster_low.get())
    }
    /// Sets the first cluster, both halves.
    #[inline]
    pub fn set_first_cluster(&mut self, cluster: u32) {
        let [a, b, c, d] = cluster.to_le_bytes();
        self.first_cluster_low = U16::from_bytes([a, b]);
        self.first_cluster_high = U16::from_bytes([c, d]);
    }
    /// True for a subfolder.
    #[inline]
    pub fn is_folder(&self) -> bool {
        self.attributes & (ATTR_DIRECTORY | ATTR_VOLUME_ID) == ATTR_DIRECTORY
    }
}

/// A part of a long name (specification, "Long File Name Implementation").
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct LongEntry {
    /// `LDIR_Ord`: 1 to 20, with bit 6 on the first of a set, which holds the end of the name.
    pub order: u8,
    /// `LDIR_Name1`: five UTF-16 units.
    pub name_1: [U16; 5],
    /// `LDIR_Attr`, 0F.
    pub attributes: u8,
    /// `LDIR_Type`, 0.
    pub kind: u8,
    /// `LDIR_Chksum`: of the short name that follows.
    pub checksum: u8,
    /// `LDIR_Name2`: six UTF-16 units.
    pub name_2: [U16; 6],
    /// `LDIR_FstClusLO`, 0.
    pub first_cluster_low: U16,
    /// `LDIR_Name3`: two UTF-16 units.
    pub name_3: [U16; 2],
}
const _: () = assert!(size_of::<LongEntry>() == ENTRY_BYTES);

/// Characters in one part of a long name.
pub const LONG_UNITS: usize = 13;
/// Parts of the longest long name (255 characters).
pub const LONG_PARTS: usize = 20;
/// Set in the order of the first part of a set.
pub const LAST_LONG: u8 = 0x40;

impl LongEntry {
    /// The entry in these bytes; `None` when there are fewer than 32.
    #[inline]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        Self::read_from_prefix(bytes).ok().map(|(entry, _)| entry)
    }
    /// The thirteen UTF-16 units of the part.
    pub fn units(&self) -> [u16; LONG_UNITS] {
        let mut units = [0; LONG_UNITS];
        let from = self.name_1.iter().chain(&self.name_2).chain(&self.name_3);
        for (unit, value) in units.iter_mut().zip(from) {
            *unit = value.get();
        }
        units
    }
    /// True when something stands in LDIR_Type or LDIR_FstClusLO, where 0 must.
    #[inline]
    pub fn fills_reserved(&self) -> bool {
        self.kind != 0 || self.first_cluster_low.get() != 0
    }
    /// A part with these units.
    pub fn with_units(order: u8, checksum: u8, units: [u16; LONG_UNITS]) -> Self {
        let mut entry = Self {
            order,
            name_1: [U16::ZERO; 5],
            attributes: ATTR_LONG_NAME,
            kind: 0,
            checksum,
            name_2: [U16::ZERO; 6],
            first_cluster_low: U16::ZERO,
            name_3: [U16::ZERO; 2],
        };
        let places = entry.name_1.iter_mut().chain(&mut entry.name_2).chain(&mut entry.name_3);
        for (place, unit) in places.zip(units) {
            *place = unit.into();
        }
        entry
    }
}

/// Read-only.
pub const ATTR_READ_ONLY: u8 = 0x01;
/// Hidden.
pub const ATTR_HIDDEN: u8 = 0x02;
/// System.
pub const ATTR_SYSTEM: u8 = 0x04;
/// The volume label.
pub const ATTR_VOLUME_ID: u8 = 0x08;
/// A subfolder.
pub const ATTR_DIRECTORY: u8 = 0x10;
/// Changed since the last backup.
pub const ATTR_ARCHIVE: u8 = 0x20;
/// A part of a long name.
pub const ATTR_LONG_NAME: u8 = 0x0F;
/// The bits that decide whether an entry is a part of a long name.
pub const ATTR_LONG_NAME_MASK: u8 = 0x3F;
/// First byte of a free entry.
pub const FREE_ENTRY: u8 = 0xE5;
/// First byte of the entry that ends a folder.
pub const END_ENTRY: u8 = 0x00;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn structures_encode_to_the_bytes_they_came_from() {
        let bytes: Vec<u8> = (0..512_u32).map(|n| (n * 7 % 251) as u8).collect();
        let mut boot = BootSector::read(&bytes).unwrap();
        boot.set_tail32(boot.tail32());
        boot.set_tail16(boot.tail16());
        assert_eq!(boot.as_bytes(), &bytes[..]);
        assert_eq!(FsInfo::read(&bytes).unwrap().as_bytes(), &bytes[..]);
        assert_eq!(ShortEntry::read(&bytes).unwrap().as_bytes(), &bytes[..32]);
        let long = LongEntry::read(&bytes).unwrap();
        assert_eq!(long.as_bytes(), &bytes[..32]);
        let mut again = LongEntry::with_units(long.order, long.checksum, long.units());
        (again.attributes, again.kind, again.first_cluster_low) =
            (long.attributes, long.kind, long.first_cluster_low);
        assert_eq!(again, long);
        assert!(BootSector::read(&bytes[..511]).is_none());
    }

    #[test]
    fn fields_stand_where_the_specification_puts_them() {
        let mut bytes = vec![0_u8; 512];
        for (at, value) in [(11, 0x00), (12, 0x02), (13, 8), (14, 32), (44, 2), (65, 1), (37, 9), (510, 0x55)]
        {
            bytes[at] = value;
        }
        let boot = BootSector::read(&bytes).unwrap();
        assert_eq!(boot.bytes_per_sector.get(), 512);
        assert_eq!((boot.sectors_per_cluster, boot.reserved_sectors.get()), (8, 32));
        assert_eq!((boot.tail32().root_cluster.get(), boot.tail32().common.flags), (2, 1));
        assert_eq!((boot.tail16().flags, boot.signature), (9, [0x55, 0]));
    }
}
