//! Names that two files of one folder have: hosts find one of them.
//!
//! A file that was saved over another, where the write that removes the older one never came; a letter of a name that was
//! struck. Names that differ in case alone are two.

use super::{
    layout::number,
    records::{Name, Notes, Records},
    survey::Survey,
};
use crate::arith::Sat;
use std::collections::{HashMap, HashSet};

/// A name that a folder has already: its number in the list of all, and that of the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Doubled {
    /// The one that no index leads to, or of two such the older file's.
    pub(super) name: u32,
    /// The one that stays.
    pub(super) stays: u32,
}

/// All such names. What an index leads to is found, so that only the others are asked about.
pub(super) fn names(records: &Records) -> Vec<Doubled> {
    let folder = |name: &Name| {
        let above = records.referred(name.parent).filter(|above| above.notes.contains(Notes::FOLDER));
        above.filter(|_| records.live(name.file).is_some()).map(|above| above.number)
    };
    // Folders that have a name which no index leads to.
    let mut asked = vec![false; records.uses.len()];
    for name in records.names.iter().filter(|name| !name.indexed) {
        if let Some(slot) = folder(name).and_then(|folder| asked.get_mut(folder.size())) {
            *slot = true;
        }
    }
    let is_asked = |name: &&Name| {
        let folder = usize::try_from(number(name.parent)).unwrap_or(usize::MAX);
        asked.get(folder).copied().unwrap_or(false)
    };
    let mut there: Vec<(u32, &str, u32)> = (0_u32..)
        .zip(&records.names)
        .filter(|(_, name)| is_asked(name))
        .filter_map(|(index, name)| Some((folder(name)?, &*name.text, index)))
        .collect();
    there.sort_unstable();
    let mut found = Vec::new();
    for alike in there.chunk_by(|one, next| (one.0, one.1) == (next.0, next.1)) {
        if alike.len() < 2 {
            continue;
        }
        let mut all: Vec<u32> = alike.iter().map(|(_, _, index)| *index).collect();
        let name = |number: &u32| records.names.get(number.size());
        // The one that hosts find stays; of others the one that was written last.
        all.sort_by_key(|number| {
            let of = name(number);
            let written = of.and_then(|of| records.live(of.file)).map_or(0, |file| file.modified);
            (of.is_none_or(|of| !of.indexed), std::cmp::Reverse(written), *number)
        });
        let Some((stays, others)) = all.split_first() else { continue };
        let file = |number: &u32| name(number).map(|of| of.file);
        let others = others
            .iter()
            .filter(|other| file(other) != file(stays) && name(other).is_some_and(|of| !of.indexed));
        found.extend(others.map(|other| Doubled { name: *other, stays: *stays }));
    }
    found.sort_by_key(|doubled| doubled.name);
    found
}

/// The paths of the files that get another name, by their records.
pub(super) fn paths(survey: &Survey, all: &[Doubled]) -> HashMap<u32, String> {
    let name = |doubled: &Doubled| survey.records.names.get(doubled.name.size());
    let files: HashSet<u32> = all.iter().filter_map(name).map(|name| name.file).collect();
    survey.paths_of(|file| files.contains(&file))
}
