//! What one reading of a volume comes to: findings, files by state, the story.

use super::{
    finding::{Finding, Weight},
    gap::{self, Part},
};
use crate::{
    arith::Sat,
    files::{
        filler,
        record::{FileRecord, State},
    },
    medium::Medium,
};
use serde::{Deserialize, Serialize};

/// A few bytes worth looking at, with what they show.
#[derive(Debug, Clone)]
pub struct Exhibit {
    /// The place's name, such as `sector 0`.
    pub place: String,
    /// Bytes from the start of the volume.
    pub offset: u64,
    /// The bytes, at most sixteen.
    pub bytes: Vec<u8>,
    /// What they show.
    pub note: String,
}

/// How many files are in which state.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Folders that can be reached, without the root.
    pub folders: u64,
    /// Files that can be reached whole.
    pub intact: u64,
    /// Files that can be reached but have lost something.
    pub damaged: u64,
    /// Files and folders that nothing names any more.
    pub orphans: u64,
}

impl Tally {
    /// Counts files (`false`) and folders (`true`) by state, and what else is out of reach.
    pub(crate) fn of(all: impl Iterator<Item = (State, bool)>, lost: usize) -> Self {
        let mut tally = Self { orphans: lost.wide(), ..Self::default() };
        for one in all {
            let count = match one {
                (State::Orphan, _) => &mut tally.orphans,
                (_, true) => &mut tally.folders,
                (State::Intact, _) => &mut tally.intact,
                _ => &mut tally.damaged,
            };
            *count = count.plus(1);
        }
        tally
    }
    /// All of them.
    pub(crate) fn all(&self) -> u64 {
        self.folders.plus(self.intact).plus(self.damaged).plus(self.orphans)
    }
    /// Adds what another volume has.
    pub(crate) fn add(&mut self, other: &Self) {
        self.folders = self.folders.plus(other.folders);
        self.intact = self.intact.plus(other.intact);
        self.damaged = self.damaged.plus(other.damaged);
        self.orphans = self.orphans.plus(other.orphans);
    }
}

/// How many deleted files can be had again.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Deleted {
    /// Files that are marked deleted, in deleted folders too.
    pub files: u64,
    /// Of those, files whose clusters nothing has now.
    pub readable: u64,
}

impl Deleted {
    pub(crate) fn of(files: &[FileRecord]) -> Self {
        let all = files.iter().filter(|file| !file.folder);
        let readable =
            all.clone().filter(|file| !file.taken && (file.size == 0 || file.content.identity().is_some()));
        Self { files: all.count().wide(), readable: readable.count().wide() }
    }
}

/// All that one reading of a volume shows.
#[derive(Debug, Default)]
pub struct Examination {
    /// The volume's label, if it has one.
    pub label: Option<String>,
    /// The faults, heaviest first.
    pub findings: Vec<Finding>,
    /// The files by state.
    pub tally: Tally,
    /// The deleted ones.
    pub deleted: Deleted,
    /// What is wrong, in one or two sentences.
    pub story: String,
    /// What probably happened.
    pub likely: Option<String>,
    /// What is still intact, a sentence each.
    pub intact: Vec<String>,
    /// The bytes that show it.
    pub exhibits: Vec<Exhibit>,
}

impl Examination {
    /// Names one accident behind many findings: an imager's filler, or else a gap across `parts`, the volume's
    /// structures in order. With a blank end the cause is known.
    pub(crate) fn find_cause(&mut self, medium: &dyn Medium, blank_end: bool, parts: &[Part]) {
        let places = self.findings.iter().filter_map(|finding| finding.extents.first().copied());
        if let Some(found) = filler::in_places(medium, places) {
            self.likely = Some(filler::likely(&found));
        } else if !blank_end
            && !self.sound()
            && let Some(gap) = gap::across(medium, parts)
        {
            self.likely = Some(gap);
        }
    }
    /// True when nothing weighs more than a remark.
    pub fn sound(&self) -> bool {
        self.findings.iter().all(|f| f.weight == Weight::Remark)
    }
}
