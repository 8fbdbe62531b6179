//! What scouting finds: volumes with the way to them, strangers, and the table that lists them.

use super::{catalogue as c, strangers};
use crate::{
    family::Kind,
    medium::Extent,
    report::finding::{Entry, Finding, Weight},
};

/// A file system that scout can tell from its structures.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A volume of a kind that Punchdog mends.
    Volume(Kind),
    /// NTFS.
    Ntfs,
}

impl What {
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Volume(kind) => kind.name(),
            Self::Ntfs => "ntfs",
        }
    }
    /// As people write it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Volume(kind) => kind.title(),
            Self::Ntfs => "NTFS",
        }
    }
    /// As people say it: "a FAT32", "an exFAT".
    pub fn with_article(self) -> String {
        let article = if matches!(self, Self::Volume(Kind::Exfat) | Self::Ntfs) { "an" } else { "a" };
        format!("{article} {}", self.title())
    }
    /// True when the structures of one can be taken for those of the other.
    pub(super) fn shares_family(self, other: Self) -> bool {
        let family = |what| match what {
            Self::Volume(Kind::Exfat) => 0,
            Self::Volume(_) => 1,
            Self::Ntfs => 2,
        };
        family(self) == family(other)
    }
    /// True for what Punchdog can check and mend.
    pub fn is_mended(self) -> bool {
        matches!(self, Self::Volume(_))
    }
    /// The MBR type bytes that fit; the first is written.
    pub fn mbr_types(self) -> &'static [u8] {
        match self {
            Self::Volume(Kind::Fat12) => &[0x01, 0x04, 0x06, 0x0E, 0xEF],
            Self::Volume(Kind::Fat16) => &[0x0E, 0x06, 0x04, 0x01, 0xEF],
            Self::Volume(Kind::Fat32) => &[0x0C, 0x0B, 0xEF],
            Self::Volume(Kind::Exfat) | Self::Ntfs => &[0x07, 0x27],
        }
    }
}

/// How a volume was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// The image is the volume.
    Bare,
    /// A partition entry lists it.
    Listed,
    /// By its structures alone; no entry lists it.
    Lost,
}

impl Way {
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Bare => "bare",
            Self::Listed => "listed",
            Self::Lost => "lost",
        }
    }
}

/// A volume in an image.
#[derive(Debug, Clone)]
pub struct Place {
    /// What it is.
    pub what: What,
    /// The bytes of the image that are taken for it.
    pub extent: Extent,
    /// Bytes it says it has.
    pub bytes: u64,
    /// How it was found.
    pub way: Way,
    /// Its boot sector is gone; it was recognised by what lies behind.
    pub boot_gone: bool,
    /// Where it begins is what is usual; nothing that is left says so.
    pub guessed: bool,
    /// Where its first allocation table begins in the image; 0 where that was not looked at.
    pub tables_at: u64,
    /// Where its clusters begin in the image; 0 where that was not looked at.
    pub data_at: u64,
    /// What its partition entry says, in words.
    pub entry: Option<String>,
    /// What is wrong with the way to it: faults of the table that concern this volume.
    pub way_faults: Vec<&'static Entry>,
}

impl Place {
    /// Why `host` does not get as far as the volume itself: the fault of the partition table that keeps
    /// it from there.
    ///
    /// Linux makes a device of every entry that has a length, whatever its type, and of a GPT's entries
    /// only where the protective entry and the primary copy are right (Linux 6.12,
    /// `block/partitions/efi.c`, without `gpt` on its command line). Windows gives no letter where the
    /// type is not one of its own (UEFI 2.10, 5.2.1, `OSType`), and takes the backup copy (documented).
    pub fn not_found_by(&self, host: &str) -> Option<&'static Entry> {
        let passes: &[&str] = if host == "linux" {
            &[c::WRONG_LENGTH.code, c::HIDDEN.code, c::WRONG_TYPE.code]
        } else {
            &[c::WRONG_LENGTH.code, c::GPT_PRIMARY.code]
        };
        self.way_faults.iter().copied().find(|entry| !passes.contains(&entry.code))
    }
}

/// The partition table of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Table {
    /// None.
    None,
    /// An MBR.
    Mbr,
    /// A GPT: the primary is whole, the backup is whole. Of one with neither the protective entry is left.
    Gpt(bool, bool),
}

/// A range that holds something else.
#[derive(Debug, Clone, Copy)]
pub struct Stranger {
    /// Where it lies.
    pub extent: Extent,
    /// What it is.
    pub name: strangers::Name,
}

/// All that an image holds.
#[derive(Debug)]
pub struct Scouting {
    /// The partition table.
    pub table: Table,
    /// The volumes, by place; their numbers count from 1 in this order.
    pub volumes: Vec<Place>,
    /// What is not ours.
    pub strangers: Vec<Stranger>,
    /// One byte value throughout.
    pub blank: Option<strangers::Blank>,
    /// Faults of the partition table.
    pub findings: Vec<Finding>,
    /// Bits of information a byte at the beginning, where nothing was recognised.
    pub entropy: Option<f64>,
}

impl Scouting {
    /// The partition table has no fault.
    pub fn in_order(&self) -> bool {
        self.findings.iter().all(|finding| finding.weight == Weight::Remark)
    }
}
