//! Files with their states, and the difference between two lists of them.

use crate::{
    arith::Sat,
    files::{
        naming::ADRIFT,
        path::TreePath,
        record::{FileRecord, State},
    },
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What becomes of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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

/// What becomes of files: how many have which fate, and those that do not simply stay as they are.
#[derive(Debug, Default)]
pub struct Changes {
    /// How many have which fate.
    pub counts: BTreeMap<Fate, u64>,
    /// The first of each fate that are not [`Fate::Intact`], in the order in which they came.
    pub named: Vec<Change>,
}

/// Files of one fate that are named.
pub const NAMED: u64 = 5000;

impl Changes {
    fn add(&mut self, change: Change) {
        let count = self.counts.entry(change.fate).or_insert(0);
        *count = count.plus(1);
        if change.fate != Fate::Intact && *count <= NAMED {
            self.named.push(change);
        }
    }
    /// Adds those of a volume, under the byte where it begins if that is to be told.
    pub fn extend(&mut self, others: Self, volume: Option<u64>) {
        for (fate, count) in others.counts {
            let sum = self.counts.entry(fate).or_insert(0);
            *sum = sum.plus(count);
        }
        self.named.extend(others.named.into_iter().map(|change| Change { volume, ..change }));
    }
}

/// What is kept of a file to tell what becomes of it.
#[derive(Debug, Clone)]
struct Entry {
    path: TreePath,
    folder: bool,
    state: State,
    masked: bool,
    nameless: bool,
    /// Bytes that its entry says.
    size: u64,
    /// Bytes that can be had.
    held: u64,
    place: u64,
    content: Option<(u64, u64)>,
}

/// A list of files, without deleted ones, with a digest of paths, sizes, states and places of content: equal
/// digests, equal inventories.
#[derive(Clone, Default)]
pub struct Inventory {
    files: Vec<Entry>,
    hash: Sha256,
}

impl std::fmt::Debug for Inventory {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} files, {}", self.files.len(), self.digest())
    }
}

impl Inventory {
    /// Adds the next file by path, unless it is deleted.
    pub fn add(&mut self, file: FileRecord) {
        if file.state == State::Deleted {
            return;
        }
        self.hash.update(file.path.to_string().as_bytes());
        self.hash.update([0, u8::from(file.folder)]);
        self.hash.update(file.state.name().as_bytes());
        self.hash.update(file.size.to_le_bytes());
        for extent in file.content.extents() {
            self.hash.update(extent.offset.to_le_bytes());
            self.hash.update(extent.length.to_le_bytes());
        }
        let (held, content) = (file.content.held(), file.content.identity());
        let FileRecord { path, folder, state, masked, nameless, size, place, .. } = file;
        self.files.push(Entry { path, folder, state, masked, nameless, size, held, place, content });
    }

    /// The digest.
    pub fn digest(&self) -> String {
        hex::encode(self.hash.clone().finalize())
    }

    /// What becomes of each file from this inventory to `after`. A file is the same when its
    /// entry stands in the same place, or else when its content lies in the same place, or else, where both have
    /// moved, when it is the one with its path. With `hidden`, no host could reach anything before, so what is whole
    /// afterwards is back.
    pub fn changes_to(&self, after: &Self, hidden: bool) -> Changes {
        let mut by_place: HashMap<u64, &Entry> = HashMap::new();
        let mut by_content: HashMap<(u64, u64), &Entry> = HashMap::new();
        for file in after.files.iter().filter(|file| !file.folder) {
            by_place.insert(file.place, file);
            if let Some(content) = file.content {
                by_content.insert(content, file);
            }
        }
        // By address: two files can have one path.
        let mut met: HashSet<*const Entry> = HashSet::new();
        let mut changes = Changes::default();
        let mut gone: BTreeMap<String, Vec<&Entry>> = BTreeMap::new();
        let fate = |file: &Entry, now: &Entry| change(file, now, hidden || file.masked && !now.masked);
        for file in self.files.iter().filter(|file| !file.folder) {
            let same_content = file.content.and_then(|content| by_content.get(&content));
            let same_place = by_place.get(&file.place).filter(|_| file.place != 0);
            match same_place.or(same_content) {
                Some(now) => {
                    met.insert(std::ptr::from_ref(*now));
                    changes.add(fate(file, now));
                }
                None => gone.entry(file.path.to_string()).or_default().push(file),
            }
        }
        for file in
            after.files.iter().filter(|file| !file.folder && !met.contains(&std::ptr::from_ref(*file)))
        {
            let before =
                if gone.is_empty() { None } else { gone.get_mut(&file.path.to_string()).and_then(Vec::pop) };
            changes.add(match (before, file.state) {
                (Some(before), _) => fate(before, file),
                _ if is_adrift(&file.path) => alone(file, Fate::Adrift),
                (None, State::Intact) => alone(file, Fate::Back),
                (None, _) => alone(file, Fate::Damaged),
            });
        }
        for file in gone.into_values().flatten() {
            changes.add(alone(file, Fate::Lost));
        }
        changes
    }
}

/// The fate of what is there before or afterwards only.
fn alone(file: &Entry, fate: Fate) -> Change {
    Change { fate, volume: None, path: file.path.clone(), to: None, bytes: None }
}

/// True for what is kept without its name.
fn is_adrift(path: &TreePath) -> bool {
    path.first().starts_with(ADRIFT)
}

fn change(before: &Entry, after: &Entry, hidden: bool) -> Change {
    let moved = before.path != after.path;
    let (held, holds) = (before.size, after.size.min(after.held));
    let whole = after.state == State::Intact;
    // What was missing before is missing still; that is no loss by the repair.
    let same = (after.size, after.held) == (before.size, before.held);
    // Where no folder for it can be made, what has no name is listed in others, under the name made up for it.
    let made_up = is_adrift(&before.path) && before.path.name() == after.path.name();
    let nameless = before.nameless || made_up || is_adrift(&after.path);
    let fate = match (whole, before.state) {
        // A damaged file whose size was set to what is there is whole again, but shorter.
        _ if holds < held && !same => Fate::Shorter,
        (false, _) => Fate::Damaged,
        _ if nameless && before.state != State::Intact => Fate::Adrift,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        files::{content::Content, record::Attributes},
        medium::Extent,
    };

    fn file(path: &str, place: u64, size: u64, state: State) -> FileRecord {
        FileRecord {
            path: path.into(),
            folder: false,
            size,
            state,
            modified: None,
            attributes: Attributes::empty(),
            content: Content::stored([Extent::new(place * 1000, size)], size),
            place,
            nameless: false,
            masked: false,
            whole: state == State::Intact,
            taken: false,
            absent: false,
            sought: false,
            lacks: Vec::new(),
            note: None,
        }
    }

    fn inventory<const N: usize>(files: [FileRecord; N]) -> Inventory {
        let mut all = Inventory::default();
        for file in files {
            all.add(file);
        }
        all
    }

    #[test]
    fn every_fate_is_told_apart() {
        let before = inventory([
            file("same", 1, 10, State::Intact),
            file("cut", 2, 10, State::Damaged),
            file("mended", 3, 10, State::Damaged),
            file("gone", 4, 10, State::Orphan),
            file("named", 5, 10, State::Intact),
            file("broken", 6, 10, State::Damaged),
            file("elsewhere", 8, 10, State::Damaged),
        ]);
        let after = inventory([
            file("same", 1, 10, State::Intact),
            file("cut", 2, 4, State::Intact),
            file("mended", 3, 10, State::Intact),
            file("other", 5, 10, State::Intact),
            file("broken", 6, 10, State::Damaged),
            file("new", 7, 10, State::Intact),
            file("elsewhere", 9, 10, State::Damaged),
            file("half", 10, 10, State::Damaged),
        ]);
        let fates: Vec<(String, Fate)> = before
            .changes_to(&after, false)
            .named
            .into_iter()
            .map(|c| (c.path.to_string(), c.fate))
            .collect();
        let expected = [
            ("cut", Fate::Shorter),
            ("mended", Fate::Back),
            ("named", Fate::Moved),
            ("broken", Fate::Damaged),
            ("new", Fate::Back),
            ("elsewhere", Fate::Damaged),
            ("half", Fate::Damaged),
            ("gone", Fate::Lost),
        ];
        assert_eq!(fates, expected.map(|(path, fate)| (path.to_owned(), fate)));
        assert_eq!(before.changes_to(&before, true).named[0].fate, Fate::Back);
        assert_eq!(before.changes_to(&after, false).counts[&Fate::Intact], 1);
        assert_ne!(before.digest(), after.digest());
    }
}
