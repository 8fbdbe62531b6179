//! Lost chains, and what is left of the entries they had: an entry without clusters, or the parts of a long name without
//! their short entry (FAT 1.03, Long Directory Entries: the parts stand before it, and carry the checksum of its name).

use super::{
    Job,
    keep::broken,
    writing::{edit, plain_entry, set_link},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::Link,
        keeping::{Left, Side, between, named, paired},
    },
    fat::{
        catalogue as c,
        layout::{ATTR_ARCHIVE, END_ENTRY, ENTRY_BYTES, FREE_ENTRY, LAST_LONG, LongEntry},
        names::{self, Short},
        survey::Content,
        tree::{FolderNotes, Lost, Node},
    },
    files::{filler::Filled, naming::ADRIFT},
    medium::MediumError,
    mending::step::{Provenance, Step},
};
use std::collections::HashSet;
use zerocopy::IntoBytes;

/// Numbers behind a tilde that are tried for the checksum of a short name.
const TRIED: usize = 100;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    to_entries(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    to_names(job)
}

/// Gives lost chains to empty files that they begin like.
fn to_entries(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let tree = &job.survey.tree;
    let empty = |node: &Node| !node.folder && node.size() == 0 && node.first == 0 && node.place != 0;
    let entries: Vec<(u32, &str)> = tree
        .below_root()
        .filter(|(_, node)| empty(node))
        .map(|(number, node)| (number, &*node.name))
        .collect();
    let chains = tree.lost.iter().enumerate().filter(|(_, lost)| lost.folder_in.is_none());
    let chains: Vec<(usize, &str)> =
        chains.filter_map(|(n, lost)| Some((n, lost.extension.as_deref()?))).collect();
    let pairs = paired(&entries, &chains);
    let geometry = job.believed.geometry;
    for (number, lost) in pairs {
        let Some(chain) = job.survey.tree.lost.get(lost).cloned() else { continue };
        let Some(place) = job.survey.tree.node(number).map(|node| node.place) else { continue };
        let path = job.survey.tree.path(number);
        let room = chain.length.times(geometry.cluster_bytes());
        let size = chain.bytes.map_or(room, Sat::narrow);
        let step = Step::new(
            "content-joined",
            format!("{path}: give it the lost chain at cluster {}, {size} bytes", chain.head),
            Provenance::Judged,
            "the file is empty, the chain begins as its kind does, and there is no other of either: a recording that was cut off",
            &[&c::LOST_CHAIN],
        )
        .file(path)
        .or(format!("keep the chain as a file in the folder {ADRIFT}, and the file empty"));
        let broken = broken(job, std::slice::from_ref(&chain));
        job.steps.run(job.window, step, |window| {
            broken.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::End))?;
            edit(window, place, |raw| {
                raw.size = size.into();
                raw.set_first_cluster(chain.head);
            })
        })?;
    }
    Ok(())
}

/// The parts of a long name whose entry is gone.
struct Parts {
    folder: u32,
    /// The entry behind them.
    slot: u32,
    /// Bytes of the volume at which they stand, and that entry.
    places: Vec<u64>,
    place: u64,
    name: String,
    sum: u8,
    between: Option<(u32, u32)>,
}

/// Gives lost chains to names whose entries are gone.
fn to_names(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let left = names_left(job);
    let chains = job.survey.tree.lost.iter().filter(|lost| lost.folder_in.is_none());
    let chains: Vec<Lost> = chains.cloned().collect();
    let told: Vec<Left<'_>> =
        left.iter().map(|parts| Left { name: &parts.name, between: parts.between }).collect();
    let firsts: Vec<(u32, Option<&str>)> =
        chains.iter().map(|lost| (lost.head, lost.extension.as_deref())).collect();
    let geometry = job.believed.geometry;
    let mut given: HashSet<(u32, Short)> = HashSet::new();
    for (number, chain, by_neighbours) in named(&told, &firsts, Side::First) {
        let (Some(parts), Some(chain)) = (left.get(number), chains.get(chain)) else { continue };
        let nodes = job.survey.tree.below_root().map(|(_, node)| node);
        let own =
            nodes.filter(|node| node.parent == parts.folder).map(|node| (parts.folder, node.entry.name));
        given.extend(own);
        let (short, sum) = short_of(&parts.name, parts.sum, &|name| given.contains(&(parts.folder, *name)));
        given.insert((parts.folder, short));
        let room = chain.length.times(geometry.cluster_bytes());
        let size = chain.bytes.map_or(room, Sat::narrow);
        let folder = job.survey.tree.path(parts.folder);
        let path = if folder.is_empty() { parts.name.clone() } else { format!("{folder}/{}", parts.name) };
        let step = Step::new(
            "entry-for-name",
            format!("{path}: write the entry that its name has lost, for the lost chain at cluster {}, {size} bytes", chain.head),
            Provenance::Judged,
            if by_neighbours {
                "the files of its folder lie in the order of its entries: this chain is the first behind that of the file before it, and begins as its kind does"
            } else {
                "the chain begins as its kind does, and there is no other of either"
            },
            &[&c::LOST_CHAIN, &c::LONG_STRAY],
        )
        .file(path)
        .or(format!("keep the chain as a file in the folder {ADRIFT}, and free the name"));
        let entry = plain_entry(short, ATTR_ARCHIVE, chain.head, size);
        let broken = broken(job, std::slice::from_ref(chain));
        let wrong = sum != parts.sum;
        job.steps.run(job.window, step, |window| {
            broken.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::End))?;
            for place in parts.places.iter().filter(|_| wrong) {
                window.write_at(place.plus(CHECKSUM), &[sum])?;
            }
            window.write_at(parts.place, entry.as_bytes())
        })?;
    }
    Ok(())
}

/// `LDIR_Chksum`, bytes from the start of a part.
const CHECKSUM: u64 = 13;

/// Whole names without entries, behind which there is room for one.
fn names_left(job: &mut Job<'_, '_, '_, '_>) -> Vec<Parts> {
    let with_parts = |notes: &FolderNotes| !notes.stray_parts.is_empty();
    let notes: Vec<(u32, Vec<u32>, Vec<u32>)> = job
        .survey
        .tree
        .notes
        .iter()
        .filter(|(_, notes)| with_parts(notes))
        .map(|(folder, notes)| (*folder, notes.stray_parts.clone(), notes.junk.clone()))
        .collect();
    let mut found = Vec::new();
    for (folder, strays, junk) in notes {
        let content = job.survey.content(job.window, folder);
        let nodes = job.survey.tree.below_root().map(|(_, node)| node);
        let own: Vec<&Node> = nodes.filter(|node| node.parent == folder && node.place != 0).collect();
        let mut files: Vec<(u32, u32)> =
            own.iter().filter(|node| node.first >= 2).map(|node| (node.index, node.first)).collect();
        files.sort_unstable();
        let taken: HashSet<u32> =
            own.iter().flat_map(|node| node.index.minus(node.long.into())..=node.index).collect();
        for set in whole(&content, &strays) {
            let Some(slot) = set.last().map(|(index, _)| index.plus(1)) else { continue };
            let free = !taken.contains(&slot) && (junk.contains(&slot) || is_room(&content, slot));
            let Some(place) = content.place(slot).filter(|_| free) else {
                continue;
            };
            let parts: Vec<LongEntry> = set.iter().map(|(_, part)| *part).collect();
            let name = names::long_text(&names::long_units(&parts));
            if names::long_is_legal(&name) {
                found.push(Parts {
                    folder,
                    slot,
                    places: set.iter().filter_map(|(index, _)| content.place(*index)).collect(),
                    place,
                    name,
                    sum: parts.first().map_or(0, |part| part.checksum),
                    between: between(&files, slot),
                });
            }
        }
    }
    found.sort_by_key(|parts| (parts.folder, parts.slot));
    found
}

/// Parts of one name, with the entries they stand in.
type Set = Vec<(u32, LongEntry)>;

/// Runs of strays that are all the parts of one name, the last part first.
fn whole(content: &Content, strays: &[u32]) -> Vec<Set> {
    let mut sorted = strays.to_vec();
    sorted.sort_unstable();
    let (mut sets, mut open): (Vec<Set>, Set) = (Vec::new(), Vec::new());
    for index in sorted {
        let Some(part) = LongEntry::read(content.bytes.part(index.size().times(ENTRY_BYTES), ENTRY_BYTES))
        else {
            continue;
        };
        let goes_on = open.last().is_some_and(|(before, last)| {
            before.plus(1) == index
                && last.checksum == part.checksum
                && u32::from(last.order & !LAST_LONG) == u32::from(part.order).plus(1)
        });
        if !goes_on {
            open.clear();
        }
        if goes_on || part.order & LAST_LONG != 0 {
            open.push((index, part));
        }
        if part.order & !LAST_LONG == 1 && !open.is_empty() {
            sets.push(std::mem::take(&mut open));
        }
    }
    sets
}

/// True for an entry that is unused, or that no host wrote; for an end mark only where the folder ends behind it, too.
fn is_room(content: &Content, slot: u32) -> bool {
    let at = slot.size().times(ENTRY_BYTES);
    let next = at.plus(ENTRY_BYTES);
    match content.bytes.byte(at) {
        END_ENTRY => next >= content.bytes.len() || content.bytes.byte(next) == END_ENTRY,
        FREE_ENTRY => true,
        _ => Filled::default().at(&content.bytes, at),
    }
}

/// The short name that a host makes of `long` and that has this checksum, else one that is free with its own: the name and
/// the checksum.
fn short_of(long: &str, sum: u8, taken: &dyn Fn(&Short) -> bool) -> (Short, u8) {
    let mut tried: Vec<Short> = Vec::new();
    for _ in 0..TRIED {
        let short = names::short_for(long, &|name| taken(name) || tried.contains(name));
        if names::checksum(&short) == sum {
            return (short, sum);
        }
        tried.push(short);
    }
    let short = names::short_for(long, taken);
    (short, names::checksum(&short))
}
