//! Files with their states, and the difference between two lists of them.

use crate::{
    arith::Sat,
    filler::Filler,
    keeping::ADRIFT,
    medium::{Extent, Medium},
    treepath::TreePath,
};
use bitflags::bitflags;
use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, HashMap};

/// What can be had of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// All of it, and it can be reached.
    Intact,
    /// Something of it is missing or in doubt.
    Damaged,
    /// Nothing names it any more.
    Orphan,
    /// Deleted; its clusters may hold something else.
    Deleted,
}

impl State {
    /// The word as people and JSON read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Intact => "intact",
            Self::Damaged => "damaged",
            Self::Orphan => "orphan",
            Self::Deleted => "deleted",
        }
    }
}

bitflags! {
    /// What hosts are told of a file: both families have the same bits (FAT 1.03, DIR_Attr; exFAT 1.00,
    /// 7.4.4).
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub struct Attributes: u16 {
        /// Not to be written.
        const READ_ONLY = 1;
        /// Not to be shown.
        const HIDDEN = 2;
        /// The host's own.
        const SYSTEM = 4;
        /// Changed since it was last saved elsewhere.
        const ARCHIVE = 0x20;
    }
}

impl Attributes {
    /// Their names, as JSON has them.
    pub fn names(self) -> Vec<&'static str> {
        let all = [
            (Self::READ_ONLY, "read-only"),
            (Self::HIDDEN, "hidden"),
            (Self::SYSTEM, "system"),
            (Self::ARCHIVE, "archive"),
        ];
        all.iter().filter(|(bit, _)| self.contains(*bit)).map(|(_, name)| *name).collect()
    }
}

/// One file or folder.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is a plain fact of its own")]
pub struct FileRecord {
    /// Its path.
    pub path: TreePath,
    /// It is a folder.
    pub folder: bool,
    /// Its size in bytes; 0 for folders.
    pub size: u64,
    /// What can be had of it.
    pub state: State,
    /// When it was last written.
    pub modified: Option<DateTime>,
    /// Its attributes.
    pub attributes: Attributes,
    /// Where its content lies: bytes from the start of the volume; shorter than `size` where some
    /// of it is missing.
    pub extents: Vec<Extent>,
    /// Bytes behind those that were never written and read as zeros.
    pub zeros: u64,
    /// Where its entry stands in the volume; 0 when it has none.
    pub place: u64,
    /// A host that reads only the first copy of the table cannot read it.
    pub masked: bool,
    /// All of its content is known, whatever keeps hosts from it.
    pub whole: bool,
    /// It is deleted, and part of its clusters belongs to something else now.
    pub taken: bool,
    /// It has content, and none of it is on the medium: beyond the end of the image, or where everything
    /// reads blank.
    pub absent: bool,
    /// Why it is not intact.
    pub note: Option<String>,
}

impl FileRecord {
    /// What is called a file because its clusters are in use and belong to none.
    pub(crate) fn adrift(path: TreePath, size: u64, mut extents: Vec<Extent>) -> Self {
        let mut left = size;
        for extent in &mut extents {
            extent.length = extent.length.min(left);
            left = left.minus(extent.length);
        }
        extents.retain(|extent| extent.length > 0);
        Self {
            path,
            folder: false,
            size,
            state: State::Orphan,
            modified: None,
            attributes: Attributes::empty(),
            extents,
            zeros: 0,
            place: 0,
            masked: false,
            whole: false,
            taken: false,
            absent: false,
            note: Some("clusters in use that belong to no file".to_owned()),
        }
    }

    /// Notes whether none of its content stands before `end`.
    pub(crate) fn mark_absent(&mut self, end: u64) {
        let stored = !self.extents.is_empty() && !self.folder;
        self.absent = stored && self.extents.iter().all(|extent| extent.offset >= end);
    }

    /// Bytes of content that can be read.
    pub fn held(&self) -> u64 {
        self.extents.iter().fold(self.zeros, |sum, extent| sum.plus(extent.length))
    }

    /// Bytes of content that stand on the medium; zeros that were never written do not.
    pub fn stored(&self) -> u64 {
        self.extents.iter().fold(0, |sum, extent| sum.plus(extent.length))
    }

    /// Passes the content to `take` in pieces of at most 1 MiB; zeroes stand for what cannot be
    /// read. Returns how many bytes that were.
    pub fn read(&self, medium: &dyn Medium, mut take: impl FnMut(&[u8])) -> u64 {
        let mut missing = 0_u64;
        for extent in &self.extents {
            let mut at = extent.offset;
            while at < extent.end() {
                let length = extent.end().minus(at).min(1 << 20);
                let got = medium.lenient(at, length.size());
                missing = got.missing.iter().fold(missing, |sum, hole| sum.plus(hole.length));
                take(&got.bytes);
                at = at.plus(length);
            }
        }
        let zeros = vec![0_u8; self.zeros.min(1 << 20).size()];
        let mut left = self.zeros;
        while left > 0 {
            let length = left.min(1 << 20);
            take(zeros.get(..length.size()).unwrap_or(&zeros));
            left = left.minus(length);
        }
        missing
    }

    /// The SHA-256 of the content that is there, in hexadecimal.
    pub fn sha256(&self, medium: &dyn Medium) -> String {
        self.sha256_with(medium, |_| {})
    }

    /// The same, with a look at the content on the way.
    pub fn sha256_with(&self, medium: &dyn Medium, mut look: impl FnMut(&[u8])) -> String {
        let mut hash = Sha256::new();
        self.read(medium, |bytes| {
            hash.update(bytes);
            look(bytes);
        });
        hex::encode(hash.finalize())
    }

    /// Notes that an imager's filler stands in it.
    pub fn holds(&mut self, filler: &Filler) {
        if self.state == State::Intact {
            self.state = State::Damaged;
        }
        self.whole = false;
        self.note = Some(filler.note());
    }
}

/// What becomes of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Fate {
    /// As it was, whole before and after.
    Intact,
    /// Not to be had on a host before, whole afterwards.
    Back,
    /// Whole content, another path.
    Moved,
    /// Its content is kept, without its name, and perhaps without its exact length.
    Adrift,
    /// Its end is missing afterwards.
    Shorter,
    /// Damaged before and after.
    Damaged,
    /// Not there any more.
    Lost,
}

/// A file's fate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What becomes of it.
    pub fate: Fate,
    /// Where its volume begins in the image, where a plan is for several.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub volume: Option<u64>,
    /// Its path before, or afterwards where it had none.
    pub path: TreePath,
    /// Its path afterwards, where that is another.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub to: Option<TreePath>,
    /// Bytes before and afterwards, where they differ.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bytes: Option<(u64, u64)>,
}

/// A list of files, without deleted ones.
#[derive(Debug, Clone, Default)]
pub struct Inventory {
    /// The files and folders, by path.
    pub files: Vec<FileRecord>,
}

impl Inventory {
    /// An inventory of these files; deleted ones are left out.
    pub fn new(mut files: Vec<FileRecord>) -> Self {
        files.retain(|file| file.state != State::Deleted);
        Self { files }
    }

    /// A digest of paths, sizes, states and places of content: equal digests, equal inventories.
    pub fn digest(&self) -> String {
        let mut hash = Sha256::new();
        for file in &self.files {
            hash.update(file.path.to_string().as_bytes());
            hash.update([0, u8::from(file.folder)]);
            hash.update(file.state.name().as_bytes());
            hash.update(file.size.to_le_bytes());
            for extent in &file.extents {
                hash.update(extent.offset.to_le_bytes());
                hash.update(extent.length.to_le_bytes());
            }
        }
        hex::encode(hash.finalize())
    }

    /// What becomes of each file from this inventory to `after`. A file is the same when its
    /// entry stands in the same place, or else when its content lies in the same place. With
    /// `hidden`, no host could reach anything before, so what is whole afterwards is back.
    pub fn changes_to(&self, after: &Self, hidden: bool) -> Vec<Change> {
        let mut by_place: HashMap<u64, &FileRecord> = HashMap::new();
        let mut by_content: HashMap<(u64, u64), &FileRecord> = HashMap::new();
        for file in after.files.iter().filter(|file| !file.folder) {
            by_place.insert(file.place, file);
            if let Some(first) = file.extents.first() {
                by_content.insert((first.offset, first.length), file);
            }
        }
        // By address: two files can have one path.
        let mut met: std::collections::HashSet<*const FileRecord> = std::collections::HashSet::new();
        let mut changes = Vec::new();
        for file in self.files.iter().filter(|file| !file.folder) {
            let same_content = file.extents.first().and_then(|e| by_content.get(&(e.offset, e.length)));
            let same_place = by_place.get(&file.place).filter(|_| file.place != 0);
            let Some(now) = same_place.or(same_content) else {
                changes.push(Change {
                    fate: Fate::Lost,
                    volume: None,
                    path: file.path.clone(),
                    to: None,
                    bytes: None,
                });
                continue;
            };
            met.insert(std::ptr::from_ref(*now));
            changes.push(change(file, now, hidden || file.masked && !now.masked));
        }
        for file in
            after.files.iter().filter(|file| !file.folder && !met.contains(&std::ptr::from_ref(*file)))
        {
            let fate = if is_adrift(&file.path) { Fate::Adrift } else { Fate::Back };
            changes.push(Change { fate, volume: None, path: file.path.clone(), to: None, bytes: None });
        }
        changes
    }
}

/// True for what is kept without its name.
fn is_adrift(path: &TreePath) -> bool {
    path.first().starts_with(ADRIFT)
}

fn change(before: &FileRecord, after: &FileRecord, hidden: bool) -> Change {
    let moved = before.path != after.path;
    let (held, holds) = (before.size, after.size.min(after.held()));
    let whole = after.state == State::Intact;
    let fate = match (whole, before.state) {
        // A damaged file whose size was set to what is there is whole again, but shorter.
        _ if holds < held => Fate::Shorter,
        (false, _) => Fate::Damaged,
        _ if is_adrift(&after.path) && before.state != State::Intact => Fate::Adrift,
        (true, State::Intact) if moved => Fate::Moved,
        (true, State::Intact) if !hidden => Fate::Intact,
        (true, _) => Fate::Back,
    };
    Change {
        fate,
        volume: None,
        path: before.path.clone(),
        to: moved.then(|| after.path.clone()),
        bytes: (held != holds).then_some((held, holds)),
    }
}

/// How many files have which fate.
pub fn count(changes: &[Change]) -> BTreeMap<Fate, u64> {
    let mut counts = BTreeMap::new();
    for change in changes {
        let count = counts.entry(change.fate).or_insert(0_u64);
        *count = count.plus(1);
    }
    counts
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str, place: u64, size: u64, state: State) -> FileRecord {
        let extents = vec![Extent::new(place * 1000, size)];
        FileRecord {
            path: path.into(),
            folder: false,
            size,
            state,
            modified: None,
            attributes: Attributes::empty(),
            extents,
            zeros: 0,
            place,
            masked: false,
            whole: state == State::Intact,
            taken: false,
            absent: false,
            note: None,
        }
    }

    #[test]
    fn every_fate_is_told_apart() {
        let before = Inventory::new(vec![
            file("same", 1, 10, State::Intact),
            file("cut", 2, 10, State::Damaged),
            file("mended", 3, 10, State::Damaged),
            file("gone", 4, 10, State::Orphan),
            file("named", 5, 10, State::Intact),
            file("broken", 6, 10, State::Damaged),
        ]);
        let after = Inventory::new(vec![
            file("same", 1, 10, State::Intact),
            file("cut", 2, 4, State::Intact),
            file("mended", 3, 10, State::Intact),
            file("other", 5, 10, State::Intact),
            file("broken", 6, 10, State::Damaged),
            file("new", 7, 10, State::Intact),
        ]);
        let fates: Vec<(String, Fate)> =
            before.changes_to(&after, false).into_iter().map(|c| (c.path.to_string(), c.fate)).collect();
        let expected = [
            ("same", Fate::Intact),
            ("cut", Fate::Shorter),
            ("mended", Fate::Back),
            ("gone", Fate::Lost),
            ("named", Fate::Moved),
            ("broken", Fate::Damaged),
            ("new", Fate::Back),
        ];
        assert_eq!(fates, expected.map(|(path, fate)| (path.to_owned(), fate)));
        assert_eq!(before.changes_to(&before, true)[0].fate, Fate::Back);
        assert_ne!(before.digest(), after.digest());
    }
}
