//! What a FAT left that was on the medium before: folders, each of which says which cluster it is (specification, "FAT
//! Directory Structure": "." and ".."). Tables and root are gone; files are taken to lie in a row.

use super::{
    folder::{Bounds, Item, Reading},
    layout::ENTRY_BYTES,
    modified,
};
use crate::{
    arith::{Peek, Sat},
    cluster::traces::{Grid, Traces},
    files::{
        content::Content,
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::{Extent, Medium},
};
use rangemap::RangeSet;
use std::collections::HashMap;

/// Files at most, and file systems one beneath the other.
const MOST: usize = 500_000;
const LAYERS: usize = 3;
/// Sectors of entries whose files are looked for, and how many of those have to be there.
const NAMED: usize = 64;
const AGREEING: usize = 8;
/// Bytes of a folder at most, and folders one in the other.
const FOLDER: u64 = 4 << 20;
const DEPTH: u32 = 64;

/// The files of older FATs. `medium` has what is left of them; `live` are the clusters of the volume that is there now,
/// if it is a FAT too: a quick format leaves them as they were.
pub fn files(medium: &dyn Medium, traces: &Traces, live: Option<Grid>) -> Vec<FileRecord> {
    let mut left = traces.dots.clone();
    let mut found = Vec::new();
    for _ in 0..LAYERS {
        let own: Vec<(u64, u32)> = left.iter().map(|(place, number, _)| (*place, *number)).collect();
        let told = Grid::of(&own).map(|(grid, count)| (count, grid));
        let same = live.map(|grid| (grid.agree(&own), grid)).filter(|(count, _)| *count > 0);
        // Where both explain as much, it is the volume's own.
        let best =
            [told, same].into_iter().flatten().max_by_key(|(count, grid)| (*count, Some(*grid) == live));
        let Some(grid) =
            best.map(|(_, grid)| grid).or_else(|| found.is_empty().then(|| by_content(medium, traces))?)
        else {
            break;
        };
        let mine = |(place, number, _): &(u64, u32, u32)| grid.number(*place) == Some(*number);
        let folders: Vec<(u64, u32, u32)> = left.iter().copied().filter(mine).collect();
        left.retain(|folder| !mine(folder));
        let before = found.len();
        Layer::read(medium, grid, &folders, &traces.entries).files(medium, &mut found);
        if best.is_none() || found.len() == before {
            break;
        }
    }
    found
}

/// The clusters by what entries name: files that begin where these say.
fn by_content(medium: &dyn Medium, traces: &Traces) -> Option<Grid> {
    let bounds = Bounds { last_cluster: u32::MAX >> 4_u32, wide: true };
    let mut named = Vec::new();
    for place in traces.entries.iter().take(NAMED) {
        let sector = medium.lenient(*place, 512).bytes;
        let items = Reading::of(&sector, bounds, true).items;
        named.extend(
            items.iter().map(|item| item.entry.first_cluster(true)).filter(|first| *first >= 2).take(4),
        );
    }
    let needed = AGREEING.max(named.len().per(5));
    Grid::told(&named, &traces.starts).filter(|(_, count)| *count >= needed).map(|(grid, _)| grid)
}

/// A folder: where it begins, its cluster, its parent's, what it holds.
struct Folder {
    place: u64,
    number: u32,
    parent: u32,
    reading: Reading,
}

/// One older file system.
struct Layer {
    grid: Grid,
    folders: Vec<Folder>,
    /// Of a folder's cluster, the folder that names it (its number here) and its name.
    names: HashMap<u32, (usize, String)>,
}

impl Layer {
    fn read(medium: &dyn Medium, grid: Grid, dots: &[(u64, u32, u32)], entries: &[u64]) -> Self {
        let last = u32::try_from(medium.len().per(grid.cluster)).unwrap_or(u32::MAX).plus(2);
        let bounds = Bounds { last_cluster: last, wide: true };
        let mut read: Vec<(u64, u32, u32, Vec<u8>)> = dots
            .iter()
            .map(|(place, number, parent)| (*place, *number, *parent, content(medium, grid, *place, bounds)))
            .collect();
        add_pieces(medium, grid, bounds, entries, &mut read);
        let folders: Vec<Folder> = read
            .into_iter()
            .map(|(place, number, parent, bytes)| {
                let reading = Reading::of(&bytes, bounds, super::geometry::evidence::dots(&bytes).is_none());
                Folder { place, number, parent, reading }
            })
            .collect();
        let mut names = HashMap::new();
        for (index, folder) in folders.iter().enumerate() {
            for item in folder.reading.items.iter().chain(&folder.reading.deleted) {
                if item.entry.is_folder() {
                    names.entry(item.entry.first_cluster(true)).or_insert((index, item.name.clone()));
                }
            }
        }
        Self { grid, folders, names }
    }

    /// The path of a folder: as far up as folders name it.
    fn path(&self, number: u32, depth: u32) -> TreePath {
        match self.names.get(&number) {
            Some((folder, name)) if depth < DEPTH => match self.folders.get(*folder) {
                Some(parent) if parent.number != number => {
                    self.path(parent.number, depth.plus(1)).child(name)
                }
                _ => TreePath::in_root(name),
            },
            // What the root called it is gone with the root.
            _ => TreePath::in_root(&format!("FOLDER {number}")),
        }
    }

    fn files(&self, medium: &dyn Medium, found: &mut Vec<FileRecord>) {
        let wide = self.folders.iter().any(|folder| folder.number > 0xFFFF || folder.parent > 0xFFFF);
        for folder in &self.folders {
            let path = self.path(folder.number, 0);
            for item in folder.reading.items.iter().chain(&folder.reading.deleted) {
                if found.len() >= MOST {
                    return;
                }
                if !item.entry.is_folder() {
                    found.push(self.file(medium, folder, item, &path, wide));
                }
            }
        }
    }

    fn file(
        &self,
        medium: &dyn Medium,
        folder: &Folder,
        item: &Item,
        path: &TreePath,
        wide: bool,
    ) -> FileRecord {
        let entry = &item.entry;
        let size = entry.size.get().wide();
        // A narrow FAT has something else in the high half.
        let first = entry.first_cluster(true);
        let first = if wide || self.grid.place(first, medium.len()).is_some() {
            first
        } else {
            entry.first_cluster(false)
        };
        let start = self.grid.place(first, medium.len()).filter(|_| first >= 2 && size > 0);
        let content = match start {
            Some(start) => Content::stored([Extent::new(start, medium.len().minus(start))], size),
            None => Content::default(),
        };
        FileRecord {
            path: path.child(&item.name),
            folder: false,
            size,
            state: State::Older,
            modified: modified(entry.written_date.get(), entry.written_time.get()),
            attributes: Attributes::from_bits_truncate(entry.attributes.into()),
            content,
            place: folder.place.plus(item.index.times(ENTRY_BYTES).wide()),
            nameless: false,
            masked: false,
            whole: false,
            taken: false,
            absent: false,
            sought: false,
            lacks: Vec::new(),
            note: None,
        }
    }
}

/// Adds clusters of entries that no folder reached: to the folder whose entries they go on with, else as folders of
/// their own.
fn add_pieces(
    medium: &dyn Medium,
    grid: Grid,
    bounds: Bounds,
    entries: &[u64],
    read: &mut Vec<(u64, u32, u32, Vec<u8>)>,
) {
    let mut covered: RangeSet<u64> = RangeSet::new();
    for (place, _, _, bytes) in read.iter().filter(|(.., bytes)| !bytes.is_empty()) {
        covered.insert(*place..place.plus(bytes.len().wide()));
    }
    let mut open: HashMap<Seam, Vec<usize>> = HashMap::new();
    for (index, (.., held)) in read.iter().enumerate() {
        if let Some(key) = goes_on_with(held) {
            open.entry(key).or_default().push(index);
        }
    }
    for place in entries {
        let Some(number) = grid.number(*place).filter(|_| !covered.contains(place)) else { continue };
        let bytes = content(medium, grid, *place, bounds);
        if bytes.is_empty() {
            continue;
        }
        covered.insert(*place..place.plus(bytes.len().wide()));
        // A long name that goes on over the seam says which.
        let folder = open.get_mut(&begins_with(&bytes)).and_then(Vec::pop);
        let at = match folder.and_then(|index| Some((index, read.get_mut(index)?))) {
            Some((index, (.., held))) if held.len().plus(bytes.len()).wide() <= FOLDER => {
                held.extend(bytes);
                index
            }
            _ => {
                read.push((*place, number, 0, bytes));
                read.len().minus(1)
            }
        };
        if let Some(key) = read.get(at).and_then(|(.., held)| goes_on_with(held)) {
            open.entry(key).or_default().push(at);
        }
    }
}

/// What tells an entry that goes on with a long name: the number of its part, 0 for the short entry, and the sum of the
/// short name (FAT 1.03, `LDIR_Ord`, `LDIR_Chksum`).
type Seam = (u8, u8);

fn is_long(raw: &[u8]) -> bool {
    raw.byte(11) == 0x0F
}

/// The first entry of these bytes.
fn begins_with(bytes: &[u8]) -> Seam {
    let first = bytes.part(0, ENTRY_BYTES);
    if is_long(first) {
        return (first.byte(0) & 0x3F, first.byte(13));
    }
    (0, first.part(0, 11).iter().fold(0, |sum: u8, byte| sum.rotate_right(1).wrapping_add(*byte)))
}

/// What has to follow these bytes, where a long name is begun in their last entry.
fn goes_on_with(bytes: &[u8]) -> Option<Seam> {
    let last = bytes.part(bytes.len().minus(ENTRY_BYTES), ENTRY_BYTES);
    let part = (last.byte(0) & 0x3F).checked_sub(1)?;
    is_long(last).then_some((part, last.byte(13)))
}

/// A folder's first cluster, and those behind it as long as entries go on.
fn content(medium: &dyn Medium, grid: Grid, place: u64, bounds: Bounds) -> Vec<u8> {
    let mut bytes: Vec<u8> = Vec::new();
    let mut at = place;
    while bytes.len().wide() < FOLDER && at < medium.len() {
        let next = medium.lenient(at, grid.cluster.min(FOLDER).size()).bytes;
        let begins = super::geometry::evidence::dots(&next).is_some();
        let goes_on = !begins && super::folder::looks_like_folder(&next, bounds, false);
        if at > place && !goes_on {
            break;
        }
        let ends = next.chunks_exact(ENTRY_BYTES).any(|entry| entry.first() == Some(&0));
        bytes.extend(next);
        at = at.plus(grid.cluster);
        if ends {
            break;
        }
    }
    bytes
}
