//! Files with their states, and the difference between two lists of them.

use crate::{
    arith::Sat,
    files::{
        naming::ADRIFT,
        path::TreePath,
        record::{FileRecord, State},
    },
};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, HashMap};

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
    use crate::{files::record::Attributes, medium::Extent};

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
