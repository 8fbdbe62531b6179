//! The names of the file systems.

use serde::{Deserialize, Serialize};

/// The file systems that Punchdog mends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
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
}

impl Kind {
    /// As people write it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Exfat => "exFAT",
        }
    }
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fat12 => "fat12",
            Self::Fat16 => "fat16",
            Self::Fat32 => "fat32",
            Self::Exfat => "exfat",
        }
    }
}
