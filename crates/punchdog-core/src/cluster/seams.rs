//! Folders that break off, and pieces of folders of which nobody knows where they belong.
//!
//! Names in a folder are often numbered on: what goes on behind a gap begins with a name that is like the last one before it.

use crate::arith::Sat;
use std::{
    cmp::Reverse,
    collections::{HashMap, HashSet},
};

/// Letters that two names in a row have in common where one numbers on from the other.
pub(crate) const ALIKE: usize = 3;
/// Folders, and pieces, that are held against each other.
pub(crate) const JOINED: usize = 1024;

/// Of folders (number, last cluster) and pieces (first cluster): the piece that each folder goes on with. `alike` says how many
/// letters the names on both sides have in common, by index. The likest come first; of several the next on the medium.
pub(crate) fn join(
    ends: &[(u32, u32)],
    pieces: &[u32],
    alike: impl Fn(usize, usize) -> usize,
) -> HashMap<u32, u32> {
    let mut ranked = Vec::new();
    for (end, (number, last)) in ends.iter().enumerate() {
        for (index, piece) in pieces.iter().enumerate() {
            let letters = alike(end, index);
            if letters >= ALIKE {
                let behind =
                    if piece > last { piece.minus(*last) } else { u32::MAX.minus(*last).plus(*piece) };
                ranked.push((Reverse(letters), behind, *number, *piece));
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

    #[test]
    fn each_folder_goes_on_with_the_piece_whose_names_are_likest() {
        let names = ["IMG_0012", "report 7", "x"];
        let firsts = ["report 9", "IMG_0031", "IMG_0019", "note"];
        let alike = |end: usize, piece: usize| -> usize {
            names[end].chars().zip(firsts[piece].chars()).take_while(|(a, b)| a == b).count()
        };
        let ends = [(1, 50), (2, 60), (3, 70)];
        let found = join(&ends, &[10, 40, 90, 80], alike);
        assert_eq!(found, HashMap::from([(1, 90), (2, 10)]), "the likest; none for a name like no other");
        // Two folders that number on alike: each piece goes to one of them, the next on the medium first.
        let found = join(&[(1, 50), (2, 85)], &[90, 40], |_, _| 6);
        assert_eq!(found, HashMap::from([(2, 90), (1, 40)]));
    }
}
