//! The names of the file systems.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The file systems that Punchdog mends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// FAT with 12-bit table entries.
    Fat12,
    /// FAT with 16-bit table entries.
    Fat16,
    /// FAT with 32-bit table entries.
    Fat32,
    /// exFAT.
    Exfat,
    /// NTFS.
    Ntfs,
}

impl Kind {
    /// As people write it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Exfat => "exFAT",
            Self::Ntfs => "NTFS",
        }
    }
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fat12 => "fat12",
            Self::Fat16 => "fat16",
            Self::Fat32 => "fat32",
            Self::Exfat => "exfat",
            Self::Ntfs => "ntfs",
        }
    }
    /// As people say it: "a FAT32", "an exFAT".
    pub fn with_article(self) -> String {
        let article = if matches!(self, Self::Exfat | Self::Ntfs) { "an" } else { "a" };
        format!("{article} {}", self.title())
    }
    /// True when the structures of one can be taken for those of the other.
    pub fn shares_family(self, other: Self) -> bool {
        let family = |kind| match kind {
            Self::Exfat => 0,
            Self::Ntfs => 2,
            _ => 1,
        };
        family(self) == family(other)
    }
    /// The type bytes of an MBR entry that fit; the first is written.
    pub fn mbr_types(self) -> &'static [u8] {
        match self {
            Self::Fat12 => &[0x01, 0x04, 0x06, 0x0E, 0xEF, 0x12, 0xDE],
            Self::Fat16 => &[0x0E, 0x06, 0x04, 0x01, 0xEF, 0x12, 0xDE],
            Self::Fat32 => &[0x0C, 0x0B, 0xEF, 0x12, 0xDE],
            Self::Exfat | Self::Ntfs => &[0x07, 0x27],
        }
    }
}
