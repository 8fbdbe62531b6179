//! New names that a folder does not have yet, while many are given from one reading.
//!
//! A round of mending gives all its names before anything is read again, so what was given
//! counts as taken from then on.

use crate::arith::Sat;

/// The folder for what is kept.
pub const ADRIFT: &str = "ADRIFT";
use std::{
    collections::{HashMap, HashSet},
    hash::Hash,
};

/// The names of some folders, as `N` compares them (upper-case units, an 8.3 name, …).
pub(crate) struct Names<N> {
    folders: HashMap<u32, HashSet<N>>,
    /// The number tried next behind a name, so that a crowd of one name is not counted through
    /// for each of its bearers.
    next: HashMap<(u32, N), u32>,
}

impl<N: Eq + Hash + Clone> Names<N> {
    /// For these folders (numbers of nodes), without names as yet.
    pub(crate) fn of(folders: impl IntoIterator<Item = u32>) -> Self {
        let folders = folders.into_iter().map(|folder| (folder, HashSet::new())).collect();
        Self { folders, next: HashMap::new() }
    }

    /// Whether the names of this folder are kept here.
    pub(crate) fn keeps(&self, folder: u32) -> bool {
        self.folders.contains_key(&folder)
    }

    /// The folder has this name from now on.
    pub(crate) fn take(&mut self, folder: u32, name: N) {
        if let Some(names) = self.folders.get_mut(&folder) {
            names.insert(name);
        }
    }

    /// Whether the folder has this name, or was given it.
    pub(crate) fn has(&self, folder: u32, name: &N) -> bool {
        self.folders.get(&folder).is_some_and(|names| names.contains(name))
    }

    /// `wish` if the folder does not have it, else [`another`](Self::another).
    pub(crate) fn free<W>(
        &mut self,
        folder: u32,
        wish: (W, N),
        candidate: impl Fn(u32) -> (W, N),
    ) -> Option<W> {
        if self.has(folder, &wish.1) {
            return self.another(folder, &wish.1, candidate);
        }
        self.take(folder, wish.1);
        Some(wish.0)
    }

    /// The first of `candidate(2)`, `candidate(3)`, … that the folder does not have; `candidate`
    /// gives the name as written and as compared. `None` when a million are taken.
    pub(crate) fn another<W>(
        &mut self,
        folder: u32,
        name: &N,
        candidate: impl Fn(u32) -> (W, N),
    ) -> Option<W> {
        let from = self.next.get(&(folder, name.clone())).copied().unwrap_or(2);
        for number in from..1_000_000 {
            let (written, compared) = candidate(number);
            if !self.has(folder, &compared) {
                self.next.insert((folder, name.clone()), number.plus(1));
                self.take(folder, compared);
                return Some(written);
            }
        }
        None
    }
}

/// A name with a number before its extension, in no more than `room` UTF-16 units, so that it
/// takes no more entries than before.
pub(crate) fn numbered(units: &[u16], number: u32, room: usize) -> Vec<u16> {
    let mark: Vec<u16> = format!(" {number}").encode_utf16().collect();
    let dot = units.iter().rposition(|unit| *unit == u16::from(b'.')).unwrap_or(units.len());
    let (stem, end) = units.split_at(dot);
    let (stem, end) = if end.len().plus(mark.len()) < room { (stem, end) } else { (units, &[][..]) };
    let mut name = stem.to_vec();
    name.truncate(room.minus(end.len()).minus(mark.len()));
    // No space before the space of the number, and no first half of a surrogate pair.
    while name.last().is_some_and(|unit| *unit == u16::from(b' ') || (0xD800..0xDC00).contains(unit)) {
        name.pop();
    }
    name.extend_from_slice(&mark);
    name.extend_from_slice(end);
    name.truncate(room);
    name
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_given_are_taken() {
        let mut names = Names::of([7]);
        for name in ["A", "A 3"] {
            names.take(7, name.to_owned());
        }
        names.take(8, "A 2".to_owned());
        let free = |names: &mut Names<String>, wish: &str| {
            names.free(7, (0, wish.to_owned()), |number| (number, format!("{wish} {number}")))
        };
        assert_eq!([free(&mut names, "B"), free(&mut names, "B")], [Some(0), Some(2)]);
        let mut give = |folder| names.another(folder, &"A".to_owned(), |n| (n, format!("A {n}")));
        assert_eq!([give(7), give(7), give(7)], [Some(2), Some(4), Some(5)]);
        assert!(names.keeps(7) && !names.keeps(8));
        assert!(names.has(7, &"A 5".to_owned()) && !names.has(8, &"A 2".to_owned()));
    }

    #[test]
    fn a_number_goes_before_the_extension_and_takes_no_more_entries() {
        let cases = [
            ("take.wav", "take 12.wav"),
            ("a long take.wav", "a long t 12.wav"),
            ("a quite 1 t.wav", "a quite 12.wav"),
            ("no extension", "no extension 12"),
            (".an-extension-so", ".an-extensio 12"),
            ("7 birds \u{1F426}.wav", "7 birds 12.wav"),
        ];
        for (name, expected) in cases {
            let units: Vec<u16> = name.encode_utf16().collect();
            assert_eq!(String::from_utf16_lossy(&numbered(&units, 12, 15)), expected, "{name}");
        }
    }
}
