//! Deleted files and folders: what their sets still say, and how much of it can still be read.
//!
//! Deleting clears the in-use bit of each entry of a set (exFAT 1.00, 6.2.1.4) and the bits of its clusters
//! (7.1.5); the set's checksum tells that all of it is as it was. Files in a row are where they were; of
//! others the table often still has the chain.

use super::{
    layout::{DIRECTORY, ENTRY, NO_CHAIN},
    sets::{self, Item, Reading},
    survey::{Survey, extents_of},
    tree::time,
};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::Link,
    files::{
        content::Content,
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::{Extent, Medium},
    report::examination::Deleted,
};
use std::collections::{HashSet, VecDeque};

/// Records at most: folders can be made to name one another for ever.
const MOST: usize = 200_000;
/// Bytes of a deleted folder that are read at most.
const READ: u64 = 1 << 20;

/// All deleted files and folders, those in deleted folders too.
pub(super) fn files(medium: &dyn Medium, survey: &mut Survey, paths: &[TreePath]) -> Vec<FileRecord> {
    let mut found = Vec::new();
    let mut folders: VecDeque<(TreePath, Vec<Extent>)> = VecDeque::new();
    let mut entered = HashSet::new();
    let deleted = std::mem::take(&mut survey.tree.deleted);
    for (folder, place, item) in &deleted {
        let path = survey.tree.path_in(paths, *folder, &item.name);
        take(medium, survey, item, *place, path, &mut found, &mut folders);
    }
    survey.tree.deleted = deleted;
    while let Some((path, extents)) = folders.pop_front() {
        let Some(first) = extents.first().map(|extent| extent.offset) else { continue };
        if found.len() >= MOST || !entered.insert(first) {
            continue;
        }
        let mut bytes = Vec::new();
        for extent in &extents {
            let left = READ.minus(bytes.len().wide()).min(extent.length);
            bytes.extend(medium.lenient(extent.offset, left.size()).bytes);
        }
        let start = bytes.get(..512.min(bytes.len())).unwrap_or(&[]);
        // Hosts mark what is in a folder before the folder itself.
        let reads = start.first().is_some_and(|kind| kind & super::layout::IN_USE == 0);
        if !reads && !sets::looks_like_folder(start, false) {
            continue;
        }
        let reading = Reading::of(&bytes, &survey.capitals, false);
        for item in reading.items.iter().chain(&reading.deleted) {
            let place = first.plus(item.index.size().times(ENTRY).wide());
            take(medium, survey, item, place, path.child(&item.name), &mut found, &mut folders);
        }
    }
    found
}

/// How many deleted files there are, and how many of them nobody has written over.
pub(super) fn count(medium: &dyn Medium, survey: &mut Survey) -> Deleted {
    if survey.tree.deleted.is_empty() {
        return Deleted::default();
    }
    // Numbers need no paths.
    Deleted::of(&files(medium, survey, &[]))
}

fn take(
    medium: &dyn Medium,
    survey: &mut Survey,
    item: &Item,
    place: u64,
    path: TreePath,
    found: &mut Vec<FileRecord>,
    folders: &mut VecDeque<(TreePath, Vec<Extent>)>,
) {
    let folder = item.attributes() & DIRECTORY != 0;
    let size = item.stream.length;
    let runs = runs(medium, survey, item);
    let taken = runs
        .iter()
        .any(|(first, count)| survey.claimed.contains_any_in_range(first.size()..first.plus(*count).size()));
    let content = Content::stored(extents_of(&survey.geometry, &runs), size);
    if folder && !taken {
        folders.push_back((path.clone(), content.extents().collect()));
    }
    let note = if taken {
        "deleted, and part of its clusters belong to something else now"
    } else if item.stream.flags & NO_CHAIN != 0 || runs.len() < 2 {
        "deleted; its clusters are taken to lie in a row, and nothing that is there now has them"
    } else {
        "deleted; its clusters are taken from what the table still says, and nothing that is there now has them"
    };
    found.push(FileRecord {
        path,
        folder,
        size: if folder { 0 } else { size },
        state: State::Deleted,
        modified: time(item.raw.le32(12)),
        attributes: Attributes::from_bits_truncate(item.attributes()),
        content: if folder { Content::default() } else { content },
        place,
        nameless: false,
        masked: false,
        taken,
        whole: false,
        absent: false,
        sought: false,
        lacks: Vec::new(),
        note: Some(note.into()),
    });
}

/// Where it lay: the row, or the chain where the table still has one of exactly its length.
fn runs(medium: &dyn Medium, survey: &mut Survey, item: &Item) -> Vec<(u32, u32)> {
    let geometry = survey.geometry;
    let first = item.stream.first;
    if !geometry.has(first) || item.stream.length == 0 {
        return Vec::new();
    }
    let room = geometry.last_cluster().plus(1).minus(first);
    let needed = geometry.clusters_for(item.stream.length).min(geometry.clusters.wide()).narrow();
    let row = vec![(first, needed.min(room))];
    if item.stream.flags & NO_CHAIN != 0 {
        return row;
    }
    let mut runs: Vec<(u32, u32)> = vec![(first, 1)];
    let (mut at, mut length) = (first, 1_u32);
    while length < needed {
        let Link::Next(next) = survey.links.get(medium, at) else { return row };
        if !geometry.has(next) {
            return row;
        }
        match runs.last_mut() {
            Some((start, count)) if start.plus(*count) == next => *count = count.plus(1),
            _ => runs.push((next, 1)),
        }
        (at, length) = (next, length.plus(1));
    }
    if survey.links.get(medium, at) == Link::End { runs } else { row }
}
