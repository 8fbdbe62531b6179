//! The on-disk structures of partition tables, once.
//!
//! ```text
//! MBR sector                              GPT header (UEFI 2.10, 5.3.2)       GPT entry (5.3.3)
//!   0 440 boot code                         0  8 Signature "EFI PART"           0 16 PartitionTypeGUID
//! 440   4 disk signature                    8  4 Revision 00010000             16 16 UniquePartitionGUID
//! 446  64 four entries of 16 bytes         12  4 HeaderSize, 92                32  8 StartingLBA
//! 510   2 signature 55 AA                  16  4 HeaderCRC32                   40  8 EndingLBA
//!                                          24  8 MyLBA                         48  8 Attributes
//! MBR entry (UEFI 2.10, 5.2.1)             32  8 AlternateLBA                  56 72 PartitionName
//!  0 1 BootIndicator 00 or 80              40  8 FirstUsableLBA
//!  1 3 StartingCHS                         48  8 LastUsableLBA
//!  4 1 OSType                              56 16 DiskGUID
//!  5 3 EndingCHS                           72  8 PartitionEntryLBA
//!  8 4 StartingLBA                         80  4 NumberOfPartitionEntries
//! 12 4 SizeInLBA                           84  4 SizeOfPartitionEntry
//!                                          88  4 PartitionEntryArrayCRC32
//! ```
//!
//! LBA counts in logical sectors of the disk, 512 bytes on nearly all.

use zerocopy::little_endian::{U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// Where the entries stand in the MBR sector.
pub const ENTRIES_AT: usize = 446;

/// One of the four entries of an MBR sector (UEFI 2.10, 5.2.1, Table 5.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct MbrEntry {
    /// `BootIndicator`: 80 for the one to start from, else 0.
    pub boot: u8,
    /// `StartingCHS`; of no use today.
    pub start_chs: [u8; 3],
    /// `OSType`: what kind of volume it says it is; 0 for an empty entry.
    pub kind: u8,
    /// `EndingCHS`.
    pub end_chs: [u8; 3],
    /// `StartingLBA`: sectors; in an extended partition, from the start of the structure it counts from.
    pub start: U32,
    /// `SizeInLBA`: sectors.
    pub length: U32,
}
const _: () = assert!(size_of::<MbrEntry>() == 16);

/// A GPT header (UEFI 2.10, 5.3.2, Table 5.5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct GptHeader {
    /// `Signature`, "EFI PART".
    pub signature: [u8; 8],
    /// `Revision`.
    pub revision: U32,
    /// `HeaderSize`, bytes.
    pub header_size: U32,
    /// `HeaderCRC32`, over the header with this field zero.
    pub header_crc: U32,
    /// Reserved.
    pub reserved: U32,
    /// `MyLBA`.
    pub my_lba: U64,
    /// `AlternateLBA`: where the other header stands.
    pub alternate_lba: U64,
    /// `FirstUsableLBA`.
    pub first_usable: U64,
    /// `LastUsableLBA`.
    pub last_usable: U64,
    /// `DiskGUID`.
    pub disk_guid: [u8; 16],
    /// `PartitionEntryLBA`.
    pub entries_lba: U64,
    /// `NumberOfPartitionEntries`.
    pub entries: U32,
    /// `SizeOfPartitionEntry`, bytes.
    pub entry_bytes: U32,
    /// `PartitionEntryArrayCRC32`.
    pub entries_crc: U32,
}
const _: () = assert!(size_of::<GptHeader>() == 92);

/// A GPT entry (UEFI 2.10, 5.3.3, Table 5.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct GptEntry {
    /// `PartitionTypeGUID`; all zero for an empty entry.
    pub kind: [u8; 16],
    /// `UniquePartitionGUID`.
    pub unique: [u8; 16],
    /// `StartingLBA`.
    pub first: U64,
    /// `EndingLBA`, the last sector, included.
    pub last: U64,
    /// `Attributes`.
    pub attributes: U64,
    /// `PartitionName`, UTF-16.
    pub name: [u8; 72],
}
const _: () = assert!(size_of::<GptEntry>() == 128);

/// The GPT type of volumes with everyday file systems, in the byte order of the disk
/// (EBD0A0A2-B9E5-4433-87C0-68B6B72699C7).
pub const BASIC_DATA: [u8; 16] =
    [0xA2, 0xA0, 0xD0, 0xEB, 0xE5, 0xB9, 0x33, 0x44, 0x87, 0xC0, 0x68, 0xB6, 0xB7, 0x26, 0x99, 0xC7];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn structures_encode_to_the_bytes_they_came_from() {
        let bytes: Vec<u8> = (0..=255).collect();
        assert_eq!(MbrEntry::read_from_prefix(&bytes).unwrap().0.as_bytes(), &bytes[..16]);
        assert_eq!(GptHeader::read_from_prefix(&bytes).unwrap().0.as_bytes(), &bytes[..92]);
        let entry = GptEntry::read_from_prefix(&bytes).unwrap().0;
        assert_eq!(entry.as_bytes(), &bytes[..128]);
        assert_eq!((entry.first.get() & 0xFF, entry.last.get() & 0xFF), (32, 40));
    }
}
