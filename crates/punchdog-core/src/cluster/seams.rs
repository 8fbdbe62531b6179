//! Folders that break off, and pieces of folders of which nobody knows where they belong.
//!
//! Names in a folder are often numbered on: what goes on behind a gap begins with a name that is like the last one before it.

use crate::arith::Sat;
use std::{
    cmp::Reverse,
    collections::{HashMap, HashSet},
};

/// Letters that two names in a row have in common where one numbers on from the other.
const ALIKE: usize = 3;
/// Folders, and pieces, that are held against each other.
pub(crate) const JOINED: usize = 1024;

/// How well a name follows another, the better the more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub(crate) struct Likeness {
    /// Letters in common, without those of a number in which they differ.
    stem: usize,
    /// Of a number that is higher, how close it is.
    close: u64,
    /// Letters in common.
    letters: usize,
}

impl Likeness {
    /// Of the last name before a border, and the first one behind it.
    pub(crate) fn of(last: &[u16], first: &[u16]) -> Self {
        let letters = last.iter().zip(first).take_while(|(a, b)| a == b).count();
        // A number that goes on: it began where its first digit stands.
        let begins = last.iter().take(letters).rev().take_while(|unit| is_digit(**unit)).count();
        let stem = letters.minus(begins);
        match (number(last, stem), number(first, stem)) {
            (Some(one), Some(other)) if other > one => {
                Self { stem, close: u64::MAX.minus(other.minus(one)), letters }
            }
            (Some(_), Some(_)) => Self { stem, close: 0, letters },
            _ => Self { stem: letters, close: 0, letters },
        }
    }
    /// True where the number is the next one.
    pub(crate) fn is_next(self) -> bool {
        self.close == u64::MAX.minus(1)
    }
    /// True where the two can be neighbours at all.
    pub(crate) fn is_any(self) -> bool {
        self.letters >= ALIKE || self.is_next()
    }
}

fn is_digit(unit: u16) -> bool {
    (0x30..=0x39).contains(&unit)
}

fn number(name: &[u16], from: usize) -> Option<u64> {
    let digits = name.iter().skip(from).take_while(|unit| is_digit(**unit)).take(18);
    digits.fold(None, |sum, unit| Some(sum.unwrap_or(0_u64).times(10).plus(u64::from(*unit).minus(0x30))))
}

/// Of folders (number, last cluster) and pieces (first cluster): the piece that each folder goes on with. `alike` says how well the
/// names on both sides follow one another, by index, where they can. The likest come first; of several the next on the medium.
pub(crate) fn join<Alike: Ord>(
    ends: &[(u32, u32)],
    pieces: &[u32],
    mut alike: impl FnMut(usize, usize) -> Option<Alike>,
) -> HashMap<u32, u32> {
    let mut ranked = Vec::new();
    for (end, (number, last)) in ends.iter().enumerate() {
        for (index, piece) in pieces.iter().enumerate() {
            if let Some(likeness) = alike(end, index) {
                let behind =
                    if piece > last { piece.minus(*last) } else { u32::MAX.minus(*last).plus(*piece) };
                ranked.push((Reverse(likeness), behind, *number, *piece));
            }
        }
    }
    ranked.sort_unstable();
    let (mut found, mut taken) = (HashMap::new(), HashSet::new());
    for (.., number, piece) in ranked {
        if !found.contains_key(&number) && taken.insert(piece) {
            found.insert(number, piece);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn likeness(last: &str, first: &str) -> Likeness {
        let units = |name: &str| name.encode_utf16().collect::<Vec<u16>>();
        Likeness::of(&units(last), &units(first))
    }

    #[test]
    fn a_number_that_goes_on_is_liker_than_letters_in_common() {
        for (last, better, worse) in [
            ("fill3.raw", "fill4.raw", "fill36.raw"),
            ("fill9.raw", "fill10.raw", "fill90.raw"),
            ("IMG_0012.JPG", "IMG_0013.JPG", "IMG_0001.JPG"),
            ("IMG_0012.JPG", "IMG_0019.JPG", "IMG_0112.JPG"),
            ("IMG_20260101_0012.JPG", "IMG_20260101_0013.JPG", "IMG_20260102_0001.JPG"),
            ("P1.RAW", "P2.RAW", "note.txt"),
            ("Marsh walk", "Marsh notes", "Many"),
        ] {
            assert!(likeness(last, better) > likeness(last, worse), "{last}: {better}, not {worse}");
            assert!(likeness(last, better).is_any());
        }
        assert!(!likeness("P1.RAW", "P7.RAW").is_any() && !likeness("a", "b").is_any());
    }

    #[test]
    fn each_folder_goes_on_with_the_piece_whose_names_are_likest() {
        let names = ["IMG_0012", "report 7", "x"];
        let firsts = ["report 9", "IMG_0031", "IMG_0019", "note"];
        let alike = |end: usize, piece: usize| {
            Some(likeness(names[end], firsts[piece])).filter(|likeness| likeness.is_any())
        };
        let ends = [(1, 50), (2, 60), (3, 70)];
        let found = join(&ends, &[10, 40, 90, 80], alike);
        assert_eq!(found, HashMap::from([(1, 90), (2, 10)]), "the likest; none for a name like no other");
        // Two folders that number on alike: each piece goes to one of them, the next on the medium first.
        let found = join(&[(1, 50), (2, 85)], &[90, 40], |_, _| Some(likeness("report 7", "report 8")));
        assert_eq!(found, HashMap::from([(2, 90), (1, 40)]));
    }
}
