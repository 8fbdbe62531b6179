//! What one reading of a volume comes to: findings, files by state, the story.

use super::{
    finding::{Finding, Weight},
    gap::{self, Part},
    wording::{capital, counted, listed},
};
use crate::{
    arith::Sat,
    files::{
        filler,
        record::{FileRecord, State},
    },
    medium::{Extent, Gap, Interval, Medium},
};
use schemars::JsonSchema;
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

impl Exhibit {
    /// The bytes at `offset`, the first sixteen of `length`.
    pub(crate) fn of(medium: &dyn Medium, place: &str, offset: u64, length: usize, note: String) -> Self {
        let bytes = medium.lenient(offset, length.min(16)).bytes;
        Self { place: place.to_owned(), offset, bytes, note }
    }
    /// Sector 0 where it is no boot sector: what there is instead, and `starts`, what one begins with.
    pub(crate) fn of_lost_sector(medium: &dyn Medium, starts: &str) -> Self {
        let first = medium.lenient(0, 512).bytes;
        let is = match first.first() {
            Some(0) if first.iter().all(|byte| *byte == 0) => "all zero",
            Some(0xFF) if first.iter().all(|byte| *byte == 0xFF) => "all FF",
            _ => "foreign bytes",
        };
        Self::of(medium, "sector 0", 0, 16, format!("{is}; {starts}"))
    }
}

/// How many files are in which state.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
    /// How many files are whole, in words.
    fn whole(&self) -> String {
        let (files, folders) =
            (counted(self.intact, "file", "files"), counted(self.folders, "folder", "folders"));
        let all = if self.damaged == 0 && self.orphans == 0 { "all " } else { "" };
        format!("{all}{files} in {folders}")
    }
    /// What the files that are not whole come to, in a sentence; `damaged` is what those are that can be reached, `lost`
    /// what else there can be.
    pub(crate) fn broken(&self, damaged: &str, lost: (&str, &str)) -> String {
        let files = |count| counted(count, "file or folder is", "files and folders are");
        match (self.damaged, self.orphans) {
            (0, 0) => String::new(),
            (count, 0) => format!(" {} {damaged}.", files(count)),
            (0, count) => format!(" {} out of reach.", counted(count, lost.0, lost.1)),
            (count, more) => {
                format!(" {} damaged, {} out of reach.", files(count), counted(more, "more is", "more are"))
            }
        }
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
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, JsonSchema)]
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
    /// Bytes that are left out of the image.
    pub left_out: Vec<Gap>,
    /// Bytes that the image has too many; where both ends of the place are the same, it is known to the byte.
    pub inserted: Vec<Gap>,
    /// Places at a regular distance that read blank.
    pub blank_intervals: Vec<Interval>,
}

/// How what stands behind a lost structure is told of, where nothing is wrong with it, and else.
const EVERYTHING: &str = "everything behind it is whole";
const NOTHING: &str = "Nothing is wrong with this volume.";
const SOMETHING: &str = "behind it is whole";
/// What is said where the image ends before the volume does: nothing else comes first.
const CUT: &str = "the image was cut short while copying, or the medium claims more room than it has; image the medium again before anything else";
/// The findings of which that is said.
const CUT_CODES: [&str; 3] =
    ["fat/volume-beyond-image", "exfat/volume-beyond-image", "ntfs/volume-longer-than-image"];

impl Examination {
    /// Names one accident behind many findings: an imager's filler, gaps across `parts`, the volume's structures in
    /// order, or what was written over the first of them. With a blank end the cause is known.
    pub(crate) fn find_cause(&mut self, medium: &dyn Medium, blank_end: bool, parts: &[Part]) {
        let places = self.findings.iter().filter_map(|finding| finding.extents.first().copied());
        if let Some(found) = filler::in_places(medium, places) {
            self.likely = Some(filler::likely(&found));
        } else if !blank_end && !self.sound() {
            let all: Vec<Extent> =
                self.findings.iter().flat_map(|finding| finding.extents.iter().copied()).collect();
            // Where copies differ a finding has the places of all: behind a boot sector that is gone the first was hit.
            let firsts: Vec<Extent> =
                self.findings.iter().filter_map(|f| f.extents.first().copied()).collect();
            let gone = self.findings.iter().any(|finding| finding.entry.code.ends_with("/boot-gone"));
            let over = || if gone { gap::written_over(medium, parts, &firsts) } else { None };
            self.likely = gap::across(medium, parts, &all).or_else(over).or(self.likely.take());
        }
        let cut = self.findings.iter().any(|finding| CUT_CODES.contains(&finding.entry.code));
        if cut && !blank_end {
            let besides = self.likely.take().map(|why| format!("; besides, {why}"));
            self.likely = Some(format!("{CUT}{}", besides.unwrap_or_default()));
        }
    }
    /// Says of the files how many are whole: the last of what is intact.
    pub(crate) fn count_files(&mut self) {
        self.intact.push(self.tally.whole());
    }
    /// Takes back what was said of files, and of everything, where the content of some is in doubt.
    pub(crate) fn doubt(&mut self, tally: Tally) {
        let (old, new) = (self.tally.whole(), tally.whole());
        for text in self.intact.iter_mut().chain([&mut self.story]) {
            *text = text.replace(&old, &new).replace(EVERYTHING, SOMETHING);
        }
        self.tally = tally;
    }
    /// Puts what is wrong into a sentence or two: `gone` is the structure without which nothing is found, and whether
    /// everything behind it is whole; `broken` is what the files come to.
    pub(crate) fn tell(&mut self, gone: Option<(&str, bool)>, broken: &str) {
        let whole = listed(&self.intact);
        let none = self.tally.folders == 0 && self.tally.intact == 0 && self.tally.all() > 0;
        self.story = match gone {
            _ if self.sound() => NOTHING.to_owned(),
            Some((what, _)) if none && self.intact.len() == 1 => {
                format!("The {what} is gone; nothing behind it is whole as it stands.{broken}")
            }
            Some((what, all)) => {
                let lead = if all { EVERYTHING } else { SOMETHING };
                format!("The {what} is gone; {lead}: {whole}.{broken}")
            }
            None => {
                let first = self.findings.first().map_or(String::new(), |finding| capital(&finding.summary));
                let faults = self.findings.iter().filter(|finding| finding.weight != Weight::Remark);
                let more = match faults.count().wide().minus(1) {
                    0 => String::new(),
                    more => format!(" {} besides.", counted(more, "finding", "findings")),
                };
                format!("{first}.{more} Whole: {whole}.{broken}")
            }
        };
        if none && self.tally.orphans > 0 {
            self.story
                .push_str(" Out of reach means that no folder leads there: `files` lists what can be had.");
        }
    }
    /// Says that another volume claims some of the same bytes: that nothing is wrong is then said of this one alone.
    pub(crate) fn tell_contested(&mut self) {
        let alone = "By itself nothing is wrong with this volume.";
        let more = "Another volume claims some of the same bytes; which of the two is in use is not known.";
        self.story = format!("{} {more}", self.story.replace(NOTHING, alone));
    }
    /// True when nothing weighs more than a remark.
    pub fn sound(&self) -> bool {
        self.findings.iter().all(|f| f.weight == Weight::Remark)
    }
}
