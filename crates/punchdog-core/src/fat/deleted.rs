//! Deleted files and folders: what their entries still say, and how much of it can still be read.
//!
//! Deleting sets the first byte of an entry to E5 and frees the chain (specification, "FAT Directory
//! Structure"): where a file began is left, where it went on is not. Clusters in a row are the usual case.
//! A deleted folder still names what it held, as long as its own cluster is nobody else's.

use super::{
    folder::{Item, Reading},
    geometry::evidence::dots,
    layout::ENTRY_BYTES,
    modified,
    survey::Survey,
};
use crate::{
    arith::Sat,
    files::{
        content::Content,
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::{Extent, Medium},
    report::examination::Deleted,
};
use std::collections::{HashMap, HashSet, VecDeque};

/// Records at most: folders can be made to name one another for ever.
const MOST: usize = 200_000;
/// Clusters of a deleted folder that are read at most.
const CLUSTERS: u32 = 256;

/// The first letter of names that lost it, where others tell: cameras name their files and folders in rows.
#[derive(Debug, Default)]
struct Letters(HashMap<(String, String), char>);

impl Letters {
    /// From the files and folders that are there.
    fn of(survey: &Survey) -> Self {
        let mut letters = Self::default();
        for node in &survey.tree.nodes {
            let mut rest = node.name.chars();
            if let Some(first) = rest.next() {
                letters.0.entry(tail(rest.as_str())).or_insert(first);
            }
        }
        letters
    }
    /// The name of a deleted entry, with its first letter where one is told; a long name has all of its own.
    fn name(&self, item: &Item) -> String {
        let told = || {
            let rest = item.name.strip_prefix('_').filter(|_| item.long.is_empty())?;
            // The folder for pictures has one name on all cameras (CIPA DC-009, 3.2.1).
            let dcim = (rest == "CIM").then_some('D');
            let row = tail(rest);
            let neighbour = || self.0.get(&row).copied().filter(|_| row.0.len() > 1);
            Some(format!("{}{rest}", dcim.or_else(neighbour)?))
        };
        told().unwrap_or_else(|| item.name.clone())
    }
}

/// What names of a row have in common behind their first letter: letters before the number, and the extension.
fn tail(rest: &str) -> (String, String) {
    let (stem, extension) = rest.rsplit_once('.').unwrap_or((rest, ""));
    let letters = stem.chars().take_while(|letter| !letter.is_ascii_digit()).collect();
    (letters, extension.to_owned())
}

/// All deleted files and folders, those in deleted folders too.
pub(super) fn files(medium: &dyn Medium, survey: &Survey, paths: &[TreePath]) -> Vec<FileRecord> {
    let geometry = survey.geometry;
    let mut found = Vec::new();
    let mut folders: VecDeque<(TreePath, u32)> = VecDeque::new();
    let mut entered = HashSet::new();
    // Whoever only counts asks for no names.
    let letters = if paths.is_empty() { Letters::default() } else { Letters::of(survey) };
    for (folder, place, item) in &survey.tree.deleted {
        let path = survey.tree.path_in(paths, *folder, &letters.name(item));
        take(survey, item, *place, path, &mut found, &mut folders);
    }
    while let Some((path, first)) = folders.pop_front() {
        if found.len() >= MOST || !entered.insert(first) {
            continue;
        }
        let (bytes, place) = (content(medium, survey, first), geometry.cluster_offset(first));
        let reading = Reading::of(&bytes, geometry.bounds(), false);
        for item in reading.items.iter().chain(&reading.deleted) {
            let place = place.plus(item.index.times(ENTRY_BYTES).wide());
            take(survey, item, place, path.child(&letters.name(item)), &mut found, &mut folders);
        }
    }
    found
}

/// How many deleted files there are, and how many of them nobody has written over.
pub(super) fn count(medium: &dyn Medium, survey: &Survey) -> Deleted {
    if survey.tree.deleted.is_empty() {
        return Deleted::default();
    }
    // Numbers need no paths.
    Deleted::of(&files(medium, survey, &[]))
}

fn take(
    survey: &Survey,
    item: &Item,
    place: u64,
    path: TreePath,
    found: &mut Vec<FileRecord>,
    folders: &mut VecDeque<(TreePath, u32)>,
) {
    let geometry = survey.geometry;
    let first = item.entry.first_cluster(geometry.wide());
    let folder = item.entry.is_folder();
    let size = if folder { 0 } else { item.entry.size.get().wide() };
    if folder && geometry.has(first) {
        folders.push_back((path.clone(), first));
    }
    // The chain is gone; the usual case is that the clusters lay in a row.
    let mut taken = false;
    let content = if geometry.has(first) && size > 0 {
        // No further than the volume goes, whatever the size says.
        let start = geometry.cluster_offset(first);
        let end = geometry.cluster_offset(geometry.last_cluster().plus(1));
        let last = first.plus(geometry.clusters_for(size)).min(geometry.last_cluster().plus(1));
        taken = survey.claimed.contains_any_in_range(first.size()..last.size());
        Content::stored([Extent::new(start, end.minus(start))], size)
    } else {
        Content::default()
    };
    let note = if taken {
        "deleted, and part of its clusters belong to something else now"
    } else {
        "deleted; its clusters are taken to lie in a row, and nothing that is there now has them"
    };
    found.push(FileRecord {
        path,
        folder,
        size,
        state: State::Deleted,
        modified: modified(item.entry.written_date.get(), item.entry.written_time.get()),
        attributes: Attributes::from_bits_truncate(item.entry.attributes.into()),
        content,
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

/// What is left of a deleted folder: its first cluster, and those behind it as long as entries go on.
fn content(medium: &dyn Medium, survey: &Survey, first: u32) -> Vec<u8> {
    let geometry = survey.geometry;
    let each = geometry.cluster_bytes().size();
    let mask = if geometry.wide() { u32::MAX } else { 0xFFFF };
    let mut bytes: Vec<u8> = Vec::new();
    for cluster in (first..=geometry.last_cluster()).take(CLUSTERS.size()) {
        if survey.claimed.contains(cluster.size()) {
            break;
        }
        let next = medium.lenient(geometry.cluster_offset(cluster), each).bytes;
        let named = dots(&next).is_some_and(|(own, _)| own & mask == cluster);
        let goes_on = !named && super::folder::looks_like_folder(&next, geometry.bounds(), false);
        if !(if cluster == first { named } else { goes_on }) {
            break;
        }
        let ends = next.chunks_exact(ENTRY_BYTES).any(|entry| entry.first() == Some(&0));
        bytes.extend(next);
        if ends {
            break;
        }
    }
    bytes
}
