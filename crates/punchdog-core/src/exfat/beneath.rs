//! What an exFAT left that was on the medium before: entry sets, whose checksums tell them from anything else
//! (exFAT 1.00, 6.3.3). Bitmap and table are gone; files are taken to lie in a row, as most do (6.3.4.2).

use super::{
    layout::{DIRECTORY, ENTRY},
    sets::{Item, Reading},
    tree::time,
    upcase::Upcase,
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
use std::collections::{HashMap, HashSet};

/// Files at most.
const MOST: usize = 500_000;
/// Bytes of a folder at most, and folders one in the other.
const FOLDER: u64 = 32 << 20;
const DEPTH: u32 = 64;
/// Clusters that entries name and that are held against what is there.
const NAMED: usize = 256;
/// Of these, so many have to be where the clusters say.
const AGREEING: usize = 4;

/// A stretch of entries, with what it holds.
struct Run {
    place: u64,
    end: u64,
    items: Vec<Item>,
}

/// The files of an older exFAT. `medium` has what is left of it; `live` are the clusters of the volume that is there now, if
/// it is an exFAT too.
pub fn files(medium: &dyn Medium, traces: &Traces, live: Option<Grid>) -> Vec<FileRecord> {
    let Some(upcase) = Upcase::decode(&Upcase::recommended()) else { return Vec::new() };
    let runs = runs(medium, &traces.sets, &upcase);
    let Some(grid) = grid(&runs, traces, live) else { return Vec::new() };
    // Of a folder's first cluster, the run that names it and its name.
    let mut names: HashMap<u32, (usize, &str)> = HashMap::new();
    // Which folder a run is of: the last one named that begins in it, or before it.
    for (index, run) in runs.iter().enumerate() {
        for item in run.items.iter().filter(|item| item.attributes() & DIRECTORY != 0) {
            names.entry(item.stream.first).or_insert((index, &item.name));
        }
    }
    let mut found = Vec::new();
    let mut known = HashSet::new();
    for run in &runs {
        let path = path(&runs, &names, grid, run, 0);
        for item in run.items.iter().filter(|item| item.attributes() & DIRECTORY == 0) {
            if found.len() >= MOST {
                return found;
            }
            // A set can stand in two runs that overlap.
            if known.insert((item.stream.first, item.name.clone())) {
                let place = run.place.plus(item.index.size().times(ENTRY).wide());
                found.push(file(medium, grid, item, place, path.child(&item.name)));
            }
        }
    }
    found
}

/// Sectors that begin with sets, and those behind them as long as entries go on.
fn runs(medium: &dyn Medium, sets: &[u64], upcase: &Upcase) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    for place in sets {
        if runs.last().is_some_and(|last| *place < last.end) {
            continue;
        }
        let mut bytes: Vec<u8> = Vec::new();
        while bytes.len().wide() < FOLDER {
            let sector = medium.lenient(place.plus(bytes.len().wide()), 512).bytes;
            // File, stream, name, in use or not; and those that vendors add.
            let entry = matches!(sector.byte(0), 0x85 | 0xC0 | 0xC1 | 0xE0 | 0xE1 | 0x05 | 0x40 | 0x41);
            if !entry {
                break;
            }
            bytes.extend(sector);
        }
        let reading = Reading::of(&bytes, upcase, false);
        let items: Vec<Item> = reading.items.into_iter().chain(reading.deleted).collect();
        runs.push(Run { place: *place, end: place.plus(bytes.len().wide()), items });
    }
    runs
}

/// Where clusters stood: as the live volume has them, or as most of what entries name is found.
fn grid(runs: &[Run], traces: &Traces, live: Option<Grid>) -> Option<Grid> {
    let items = || runs.iter().flat_map(|run| &run.items);
    let folders = items().filter(|item| item.attributes() & DIRECTORY != 0);
    let named: Vec<u32> = folders
        .chain(items().filter(|item| item.attributes() & DIRECTORY == 0 && item.stream.length > 0))
        .map(|item| item.stream.first)
        .filter(|first| *first >= 2)
        .take(NAMED)
        .collect();
    let mut places: Vec<u64> =
        runs.iter().map(|run| run.place).chain(traces.starts.iter().copied()).collect();
    places.sort_unstable();
    let there = |grid: Grid| {
        named
            .iter()
            .filter(|number| {
                grid.place(**number, u64::MAX).is_some_and(|at| places.binary_search(&at).is_ok())
            })
            .count()
    };
    let enough = |count: usize| count >= AGREEING.min(named.len().max(1)) && count.times(5) >= named.len();
    if let Some(grid) = live.filter(|grid| enough(there(*grid))) {
        return Some(grid);
    }
    Grid::told(&named, &places)
        .filter(|(_, count)| *count >= AGREEING && enough(*count))
        .map(|(grid, _)| grid)
}

/// The path of the folder that a run is of: as far up as folders name it.
fn path(runs: &[Run], names: &HashMap<u32, (usize, &str)>, grid: Grid, run: &Run, depth: u32) -> TreePath {
    let number = grid.number(run.place);
    match number.and_then(|number| names.get(&number)) {
        Some((index, name)) if depth < DEPTH => match runs.get(*index) {
            // The root is named by nothing.
            Some(parent) if parent.place != run.place => {
                path(runs, names, grid, parent, depth.plus(1)).child(name)
            }
            _ => TreePath::in_root(name),
        },
        _ => TreePath::in_root(&match number {
            Some(number) => format!("FOLDER {number}"),
            None => format!("FOLDER AT {}", run.place),
        }),
    }
}

fn file(medium: &dyn Medium, grid: Grid, item: &Item, place: u64, path: TreePath) -> FileRecord {
    let size = item.stream.length;
    let start = grid.place(item.stream.first, medium.len()).filter(|_| item.stream.first >= 2 && size > 0);
    let content = match start {
        Some(start) => Content::stored([Extent::new(start, medium.len().minus(start))], size),
        None => Content::default(),
    };
    FileRecord {
        path,
        folder: false,
        size,
        state: State::Older,
        modified: time(item.raw.le32(12)),
        attributes: Attributes::from_bits_truncate(item.attributes()),
        content,
        place,
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
