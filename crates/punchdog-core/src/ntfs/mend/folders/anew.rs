//! An index laid anew: balanced, in the folder's own clusters where they are enough.

use super::{Change, Edits};
use crate::{
    arith::{Peek, Sat},
    ntfs::{
        build::{BY_NAME, Outside, Room, index, outside, resident},
        edit::{end_of, remove, remove_at},
        index::Index,
        layout::{self, RECORD_IN_USE, RESIDENT, kind},
        mend::{Job, room::Clusters},
        record::attributes,
        records::{File, Notes, Piece},
        runs::{Mapping, Run},
        survey::Survey,
    },
};
use std::{cmp::Reverse, collections::BTreeSet};

/// Bytes of an `$INDEX_ROOT` called `$I30` before its entries: head, name, what stands before the node, its header.
const ROOT_HEAD: usize = RESIDENT + 8 + 32;
/// Bytes of the end entry that leads to a block.
const LEAST: usize = 24;
/// Bytes of names that the root node of a large index gets: the blocks hold the others.
const PLENTY: usize = 512;

/// The sizes that indexes of this volume are built for.
pub(super) fn sizes(survey: &Survey, root: usize) -> Room {
    let geometry = survey.mft.geometry;
    Room { block: geometry.index(), cluster: geometry.cluster().size(), root }
}

/// Bytes of blocks that an index of these entries needs.
pub(super) fn bytes(survey: &Survey, wanted: &[Vec<u8>]) -> u64 {
    let blocks = index(wanted.to_vec(), BY_NAME, sizes(survey, LEAST)).blocks.len();
    blocks.times(survey.mft.geometry.index()).wide()
}

/// The bits of blocks, in whole eights of bytes.
pub(super) fn bits(used: &BTreeSet<u64>, count: u64) -> Vec<u8> {
    let mut bits = vec![0; count.per_up(64).max(1).times(8).size()];
    for block in used {
        crate::ntfs::fresh::set_bit(&mut bits, *block);
    }
    bits
}

/// Where the blocks stand, and whether that is where they stood.
struct Ground {
    runs: Vec<Run>,
    new: bool,
}

/// What has to be written; `None` where there is no room, in the record or among the clusters.
pub(super) fn lay(
    job: &Job<'_, '_, '_, '_>,
    folder: &File,
    opened: &Index<'_>,
    wanted: &[Vec<u8>],
    room: &mut Clusters,
) -> Option<Change> {
    let survey = job.survey;
    let pieces = survey.records.stream_of(folder, kind::INDEX_ALLOCATION, "$I30");
    let spread = folder.notes.intersects(Notes::LISTED | Notes::SPREAD);
    let mut edits = if spread { Edits::default() } else { without_unplaced(job, folder) };
    let small = wanted.iter().map(Vec::len).sum::<usize>() < survey.mft.geometry.record();
    if small && !spread {
        // Small enough to stand in the record alone.
        let all = index(wanted.to_vec(), BY_NAME, sizes(survey, usize::MAX));
        let record = edits.record(job, folder.number);
        if attributes(record).1.is_some() {
            return None;
        }
        let mut small = record.clone();
        remove(&mut small, kind::INDEX_ALLOCATION, "$I30");
        remove(&mut small, kind::BITMAP, "$I30");
        *record = small;
        if edits.set(job, folder.number, &resident(kind::INDEX_ROOT, "$I30", &all.root)) {
            return Some(Change { edits, ..Change::default() });
        }
        edits = without_unplaced(job, folder);
    }
    large(job, folder, opened, wanted, (pieces, spread), edits, room)
}

/// The folder's record without what says of blocks, or of their bitmap, where they stand, and cannot be.
fn without_unplaced(job: &Job<'_, '_, '_, '_>, folder: &File) -> Edits {
    let mut edits = Edits::default();
    let bad =
        job.survey.records.pieces_of(folder).iter().filter(|piece| {
            piece.bad.is_some() && matches!(piece.kind, kind::INDEX_ALLOCATION | kind::BITMAP)
        });
    let mut places: Vec<usize> = bad.map(|piece| usize::from(piece.at)).collect();
    // From behind, so that what is left stays where it is.
    places.sort_unstable_by(|one, other| other.cmp(one));
    for at in places {
        remove_at(edits.record(job, folder.number), at);
    }
    edits
}

/// A large index: the root node in the record, the others in blocks.
fn large(
    job: &Job<'_, '_, '_, '_>,
    folder: &File,
    opened: &Index<'_>,
    wanted: &[Vec<u8>],
    (pieces, spread): (&[Piece], bool),
    mut edits: Edits,
    room: &mut Clusters,
) -> Option<Change> {
    let survey = job.survey;
    let geometry = survey.mft.geometry;
    let block = geometry.index().wide();
    let most = index(wanted.to_vec(), BY_NAME, sizes(survey, LEAST)).blocks.len().wide();
    let ground = ground(job, pieces, most.times(block), room)?;
    let marks = survey.records.stream_of(folder, kind::BITMAP, "$I30");
    let count = Mapping::of(&ground.runs, geometry.cluster()).len().per(block);
    let bytes = bits(&BTreeSet::new(), count).len();
    let holds = |first: &Piece| first.bad.is_none() && first.size >= bytes.wide();
    // Where what lies over several records does not do, it goes into one again; the list of them is written anew for that.
    let gathered = spread && (ground.new || !marks.first().is_some_and(holds));
    let places = if gathered {
        gather(job, &mut edits, [pieces, marks].concat());
        let own = pieces.iter().chain(marks).map(|piece| piece.holder);
        own.chain([opened.holder, folder.number]).collect()
    } else {
        vec![folder.number]
    };
    let spread = spread && !gathered;
    let put = |edits: &mut Edits, attribute: &[u8]| {
        places.iter().copied().find(|holder| edits.set(job, *holder, attribute))
    };
    let map = Mapping::of(&ground.runs, geometry.cluster());
    if ground.new || gathered {
        let content = Outside::plain(&ground.runs, count.times(block), geometry.cluster());
        put(&mut edits, &outside(kind::INDEX_ALLOCATION, "$I30", content))?;
    }
    // The bitmap: in the record where it has room, else in clusters of its own.
    let (mut outer, mut inner) = (None, None);
    match marks.first().filter(|_| !gathered) {
        Some(first) if !first.resident && first.bad.is_none() && first.size >= bytes.wide() => {
            let map = Mapping::of(&survey.records.all_runs(marks), geometry.cluster());
            outer = (map.len() >= first.size).then_some((map, first.size.size()));
            outer.as_ref()?;
        }
        Some(first) if spread && first.resident && first.size >= bytes.wide() => {}
        _ if spread => return None,
        _ => {
            let value = resident(kind::BITMAP, "$I30", &vec![0; bytes]);
            let has_room = |edits: &mut Edits, holder: u32| {
                let own = edits.record(job, holder);
                let root = if holder == opened.holder || !gathered { ROOT_HEAD.plus(LEAST) } else { 0 };
                used_beside_root(own).plus(value.len()).plus(root).plus(64) <= own.len()
            };
            inner = places
                .iter()
                .copied()
                .find(|holder| has_room(&mut edits, *holder) && edits.set(job, *holder, &value));
            if inner.is_none() {
                let runs = room.rows(survey, job.window, geometry.clusters_for(bytes.wide()).max(1))?;
                let attribute =
                    outside(kind::BITMAP, "$I30", Outside::plain(&runs, bytes.wide(), geometry.cluster()));
                put(&mut edits, &attribute)?;
                outer = Some((Mapping::of(&runs, geometry.cluster()), bytes));
            }
        }
    }
    let holder = if spread || gathered { opened.holder } else { folder.number };
    let record = edits.record(job, holder);
    let left = record.len().minus(used_beside_root(record)).minus(ROOT_HEAD);
    if left < LEAST {
        return None;
    }
    let laid = index(wanted.to_vec(), BY_NAME, sizes(survey, left.min(PLENTY)));
    if laid.blocks.len().wide() > count
        || !edits.set(job, holder, &resident(kind::INDEX_ROOT, "$I30", &laid.root))
    {
        return None;
    }
    let used: BTreeSet<u64> = (0..laid.blocks.len().wide()).collect();
    let mut change = Change { edits, ..Change::default() };
    let mut value = bits(&used, count);
    if let Some((map, length)) = outer {
        value.resize(length, 0);
        change.bitmap = Some((map, value));
    } else {
        let first = marks.first().filter(|_| spread);
        let holder = first.map_or(inner.unwrap_or(folder.number), |first| first.holder);
        value.resize(first.map_or(value.len(), |first| first.size.size()), 0);
        if !change.edits.set(job, holder, &resident(kind::BITMAP, "$I30", &value)) {
            return None;
        }
    }
    if gathered {
        give_back(folder, &mut change.edits);
    }
    change.blocks = (0_u64..).zip(laid.blocks).map(|(at, bytes)| (at.times(block), bytes)).collect();
    change.map = Some(map);
    Some(change)
}

/// Takes these pieces out of the records that they stand in.
fn gather(job: &Job<'_, '_, '_, '_>, edits: &mut Edits, mut pieces: Vec<Piece>) {
    // From behind, so that what is left stays where it is.
    pieces.sort_unstable_by_key(|piece| Reverse(piece.at));
    for piece in pieces {
        remove_at(edits.record(job, piece.holder), usize::from(piece.at));
    }
}

/// Gives back those of a folder's records that hold nothing any more.
fn give_back(folder: &File, edits: &mut Edits) {
    for (number, record) in &mut edits.0 {
        if *number != folder.number && attributes(record).0.is_empty() {
            let flags = record.le16(22);
            layout::put(record, 22, &(flags & !RECORD_IN_USE).to_le_bytes());
        }
    }
}

/// Bytes of a record that are in use beside the root node of its index.
fn used_beside_root(record: &[u8]) -> usize {
    let (list, _) = attributes(record);
    let root = list.iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called("$I30"));
    end_of(record).minus(root.map_or(0, |root| root.bytes.len()))
}

/// Clusters for so many bytes of blocks: those that the folder has, and more where these are not enough.
fn ground(job: &Job<'_, '_, '_, '_>, pieces: &[Piece], bytes: u64, room: &mut Clusters) -> Option<Ground> {
    let survey = job.survey;
    let geometry = survey.mft.geometry;
    let own = survey.records.all_runs(pieces);
    let sound = !pieces.is_empty()
        && pieces.iter().all(|piece| !piece.resident && piece.bad.is_none())
        && own.iter().all(|run| {
            run.first
                .is_some_and(|first| !survey.crossed.contains_any_in_range(first.size()..run.end().size()))
        });
    let there = if sound { Mapping::of(&own, geometry.cluster()).len() } else { 0 };
    let known = pieces.first().map_or(0, |piece| piece.size.per(geometry.index().wide()));
    if sound && there >= bytes && known.times(geometry.index().wide()) >= bytes {
        return Some(Ground { runs: own, new: false });
    }
    let mut runs = if sound { own } else { Vec::new() };
    let missing = geometry.clusters_for(bytes.minus(there));
    if missing > 0 {
        runs.extend(room.rows(survey, job.window, missing)?);
    }
    Some(Ground { runs, new: true })
}
