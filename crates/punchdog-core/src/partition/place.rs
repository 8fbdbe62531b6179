//! What scouting finds: volumes with the way to them, strangers, and the table that lists them.

use super::{catalogue as c, member::Member, strangers};
use crate::{
    family::{Kind, Survey, Volume},
    medium::Extent,
    report::{
        finding::{Entry, Finding, Weight},
        wording::capital,
    },
};

use std::{cell::Cell, fmt};

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
    pub what: Kind,
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
    /// What begins where, in words.
    pub(super) fn begins(&self) -> String {
        let (what, at) = (capital(&self.what.with_article()), self.extent.offset);
        format!("{what} volume of {} bytes begins at byte {at}.", self.bytes)
    }
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

/// A volume that scouting had to read through, to tell what lies in its midst.
pub struct Through {
    extent: Extent,
    /// The volume.
    pub volume: Box<dyn Volume>,
    /// What the reading shows.
    pub survey: Box<dyn Survey>,
}

/// The first such volume: who asks for it next need not read it again. Of several the others are let go, lest all be held at
/// once.
#[derive(Default)]
pub struct Kept(Cell<Option<Through>>);

impl Kept {
    /// Keeps what was read of the volume that has these bytes of the image, unless another is kept.
    pub(super) fn keep(&self, extent: Extent, volume: Box<dyn Volume>, survey: Box<dyn Survey>) {
        let kept = self.0.take();
        self.0.set(kept.or(Some(Through { extent, volume, survey })));
    }
    /// What was read of the volume that has these bytes, which the image still has. It is given once.
    pub fn take(&self, extent: Extent) -> Option<Through> {
        let (asked, other) = match self.0.take() {
            Some(kept) if kept.extent == extent => (Some(kept), None),
            other => (None, other),
        };
        self.0.set(other);
        asked
    }
}

impl fmt::Debug for Kept {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Kept").finish_non_exhaustive()
    }
}

/// All that an image holds.
#[derive(Debug)]
pub struct Scouting {
    /// The partition table.
    pub table: Table,
    /// Bytes of the sectors that it counts in.
    pub unit: u64,
    /// The volumes, by place; their numbers count from 1 in this order.
    pub volumes: Vec<Place>,
    /// What is not ours.
    pub strangers: Vec<Stranger>,
    /// Volumes that reach out from under a stranger: not counted among the volumes.
    pub beneath: Vec<Place>,
    /// One byte value throughout.
    pub blank: Option<strangers::Blank>,
    /// Faults of the partition table.
    pub findings: Vec<Finding>,
    /// Bits of information a byte at the beginning, where nothing was recognised.
    pub entropy: Option<f64>,
    /// It is one disk of a set; then nothing else is said of it.
    pub member: Option<Member>,
    /// What was read of a volume on the way.
    pub kept: Kept,
}

impl Scouting {
    /// The partition table has no fault.
    pub fn in_order(&self) -> bool {
        self.findings.iter().all(|finding| finding.weight == Weight::Remark)
    }
}
