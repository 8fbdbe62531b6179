//! The record of `$Secure`, made anew around the descriptors, which are found by their hashes.

use super::rebuild::{Made, Search};
use crate::{
    arith::{Peek, Sat},
    cluster::set::ClusterSet,
    ntfs::{
        build::{Order, Outside, index, outside, resident},
        fresh::{BY_HASH, BY_NUMBER, Facts, SDS_STEP, descriptor_entries, descriptor_stream, set_bit},
        layout::{RECORD_VIEW, kind, own, put},
        runs::{Mapping, Run},
        secure::{self, FIRST_ID, HEAD},
    },
};

/// Bytes of entries that the root node of an index in blocks gets: two of them stand in one record.
const ROOT: usize = 96;
/// Blocks of descriptors with their copies that are looked for.
const BLOCKS: u64 = 128;

/// Where the descriptors stand, and what stands there.
struct Stream {
    runs: Vec<Run>,
    bytes: Vec<u8>,
}

pub(super) fn made(search: &mut Search<'_>, facts: &Facts) -> Option<Made> {
    let (geometry, cluster) = (facts.geometry, facts.geometry.cluster());
    let mut content = Vec::new();
    let mut write = |runs: &[Run], bytes: &[u8]| {
        for (skip, extent) in Mapping::of(runs, cluster).places(0, bytes.len().wide()) {
            content.push((extent.offset, bytes.part(skip.size(), extent.length.size()).to_vec()));
        }
    };
    let (found, from, lost) = match there(search) {
        Found::Stream(stream) => (
            Ok(stream),
            "clusters that no file has hold the descriptors, each twice, with hashes that fit",
            None,
        ),
        Found::Copy(bytes) => (
            Err(bytes),
            "clusters that no file has hold the descriptors once, with hashes that fit; they are written twice, into \
             free clusters",
            None,
        ),
        Found::Untold => return None,
        Found::Nothing => (
            Err(descriptor_stream()),
            "the usual descriptors, written into free clusters",
            Some(
                "the descriptors are not found: who may read which file is what is usual, until it is set again",
            ),
        ),
    };
    let Stream { runs, bytes } = match found {
        Ok(stream) => stream,
        Err(bytes) => {
            let runs = search.taken(bytes.len().wide())?;
            write(&runs, &bytes);
            Stream { runs, bytes }
        }
    };
    let heads =
        secure::descriptors(&bytes).iter().map(|one| one.entry(&bytes).part(0, HEAD).to_vec()).collect();
    let (by_hash, by_id) = descriptor_entries(heads);
    let base = facts.named(own::SECURE, (0, 0), RECORD_VIEW);
    let stream = outside(kind::DATA, "$SDS", Outside::plain(&runs, bytes.len().wide(), cluster));
    let base = base.with(stream);
    let views: [(&str, Vec<Vec<u8>>, Order); 2] = [("$SDH", by_hash, BY_HASH), ("$SII", by_id, BY_NUMBER)];
    let small = views.iter().fold(base.clone(), |record, (name, entries, order)| {
        let laid = index(entries.clone(), *order, facts.room(usize::MAX));
        record.with(resident(kind::INDEX_ROOT, name, &laid.root))
    });
    let record = if let Some(record) = small.bytes(geometry.record()) {
        record
    } else {
        let mut large = base;
        for (name, entries, order) in views {
            let laid = index(entries, order, facts.room(ROOT));
            let all = laid.blocks.concat();
            let runs = search.taken(all.len().wide())?;
            write(&runs, &all);
            let mut bits = vec![0; laid.blocks.len().per_up(64).max(1).times(8)];
            (0..laid.blocks.len().wide()).for_each(|block| set_bit(&mut bits, block));
            let blocks = Outside::plain(&runs, all.len().wide(), cluster);
            large = large
                .with(resident(kind::INDEX_ROOT, name, &laid.root))
                .with(outside(kind::INDEX_ALLOCATION, name, blocks))
                .with(resident(kind::BITMAP, name, &bits));
        }
        large.bytes(geometry.record())?
    };
    let (judged, lost) = (lost.is_some(), lost.map(str::to_owned));
    Some(Made { record, content, from: from.to_owned(), judged, lost })
}

/// What the search for the descriptors gave.
enum Found {
    Nothing,
    /// Some begin there, and what follows is another's.
    Untold,
    /// They are there once, and it is not told whether they are the first or the second copy: the stream to write.
    Copy(Vec<u8>),
    Stream(Stream),
}

/// The descriptors, in clusters in a row that nobody has. In several pieces they are not looked for.
fn there(search: &mut Search<'_>) -> Found {
    let (medium, survey) = (search.medium, search.survey);
    let geometry = survey.mft.geometry;
    let marked = |cluster: u64| survey.bitmap.as_ref().is_some_and(|bitmap| bitmap.contains(cluster.size()));
    let begins = |cluster: u64, head: &[u8]| {
        let length = head.le32(16).size();
        head.le32(4) == FIRST_ID
            && head.le64(8) == 0
            && (HEAD..=SDS_STEP).contains(&length)
            && secure::whole(&medium.lenient(geometry.place(cluster), length).bytes, 0, 0)
    };
    // The record itself may still lead to them, under another name.
    if let Some(file) = survey.records.live(own::SECURE).filter(|_| search.trusts()) {
        for piece in survey.records.pieces_of(file).iter().filter(|piece| piece.kind == kind::DATA) {
            let first = survey.records.runs_of(piece).first().and_then(|run| run.first);
            let Some(first) = first.filter(|_| !piece.resident) else { continue };
            let head = medium.lenient(geometry.place(first), HEAD).bytes;
            if begins(first, &head)
                && let Some((stream, _)) = stream_of(search, first, true)
            {
                return Found::Stream(stream);
            }
        }
    }
    // Those in use first: what is free may be from before they grew.
    let in_use = search.found(1, &|cluster, head| marked(cluster) && begins(cluster, head));
    let found = in_use.or_else(|| search.found(1, &begins));
    let Some(first) = found.and_then(|runs| runs.first()?.first) else { return Found::Nothing };
    // It is the first copy, or the second of one whose first is damaged.
    let before = first.checked_sub(geometry.clusters_for(SDS_STEP.wide()));
    let both = [Some(first), before].map(|at| at.and_then(|at| stream_at(search, at)));
    let told = match both {
        [Some((one, sure)), Some((other, surer))] if sure != surer => {
            Some(if sure > surer { one } else { other })
        }
        // In the clusters of either the other would stand.
        [Some((one, _)), Some(_)] => return Found::Copy(twice(&one.bytes)),
        [one, other] => one.or(other).map(|(stream, _)| stream),
    };
    let clusters = |run: &Run| run.first.unwrap_or(0).size()..run.end().size();
    let told = told.filter(|stream| stream.runs.iter().all(|run| search.claim(clusters(run))));
    told.map_or(Found::Untold, Found::Stream)
}

/// A stream of these descriptors, each in both copies.
fn twice(bytes: &[u8]) -> Vec<u8> {
    let mut all = vec![0; bytes.len()];
    for one in secure::descriptors(bytes) {
        for at in [one.at, one.at.plus(SDS_STEP)] {
            put(&mut all, at, &one.entry(bytes));
        }
    }
    all
}

/// How many of the descriptors are whole in both copies; that all the clusters are in use; that nothing but zeros stands
/// between the last one and its copy, as behind the first copy, but not behind the second, where others' clusters follow.
type Speaks = (usize, bool, bool);

/// The descriptors that begin in a cluster, where nobody has that or what follows; and what speaks for it.
fn stream_at(search: &Search<'_>, first: u64) -> Option<(Stream, Speaks)> {
    stream_of(search, first, false)
}

/// The same, also in clusters that the record has already.
fn stream_of(search: &Search<'_>, first: u64, own: bool) -> Option<(Stream, Speaks)> {
    let (medium, survey) = (search.medium, search.survey);
    let geometry = survey.mft.geometry;
    let place = geometry.place(first);
    let mut bytes = Vec::new();
    for block in 0..BLOCKS {
        let both = SDS_STEP.times(2).wide();
        let begin = place.plus(block.times(both));
        let offset = bytes.len();
        bytes.extend(medium.lenient(begin, both.min(medium.len().minus(begin)).size()).bytes);
        if !secure::whole(&bytes, offset, offset) && !secure::whole(&bytes, offset.plus(SDS_STEP), offset) {
            bytes.truncate(offset);
            break;
        }
    }
    let all = secure::descriptors(&bytes);
    let last = all.last()?;
    let block = last.at.per(SDS_STEP).times(SDS_STEP);
    let behind = last.at.plus(last.length);
    let padding = bytes.part(behind, block.plus(SDS_STEP).minus(behind));
    let padded = padding.iter().all(|byte| *byte == 0);
    // The second copy of the last one ends the stream.
    bytes.truncate(last.at.plus(SDS_STEP).plus(last.length));
    let run = Run::new(first, geometry.clusters_for(bytes.len().wide()));
    let clusters = first.size()..run.end().size();
    let marked = |bitmap: &ClusterSet| bitmap.count_in(clusters.clone()).wide() == run.length;
    let in_use = survey.bitmap.as_ref().is_some_and(marked);
    let agree = all.iter().filter(|one| one.whole == [true, true]).count();
    let free = if own { &survey.crossed } else { &survey.claimed };
    let free = !free.contains_any_in_range(clusters.clone());
    free.then(|| (Stream { runs: vec![run], bytes }, (agree, in_use, padded)))
}
