//! Ending a stream before what cannot be had: its last runs, and records that have nothing else, go.

use super::{Job, writing::write_record};
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError},
    mending::step::{Provenance, Step},
    ntfs::{
        build::resident,
        catalogue as c,
        edit::{insert, remove_at, set_runs},
        layout::{COMPRESSED, RECORD_IN_USE, SPARSE, kind, own, put},
        record::{Attribute, attributes},
        records::{File, Flaw, Piece},
        runs::{BadRuns, Run, decode},
        survey::Survey,
    },
    report::finding::Entry,
};
use std::collections::{BTreeMap, btree_map};

/// The question.
pub(super) const QUESTION: &str = "unreadable-runs";

/// Files that lead outside the volume before its length is doubted.
const CROWD: usize = 3;

/// Ends files whose run lists cannot be read, once nothing else can be had of those.
pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let list = |(number, flaw): &(u32, Flaw)| match flaw {
        Flaw::Runs(_, at, _) => Some((*number, *at)),
        _ => None,
    };
    let lists: Vec<(u32, usize)> = survey.records.flaws.iter().filter_map(list).collect();
    let part = |(number, flaw): &(u32, Flaw)| matches!(flaw, Flaw::Pieces(kind::DATA)).then_some(*number);
    let parts: Vec<u32> = survey.records.flaws.iter().filter_map(part).collect();
    if lists.is_empty() && parts.is_empty() {
        return Ok(());
    }
    let paths = crate::ntfs::check::paths(survey);
    for number in parts {
        let file = survey.records.file(number).filter(|file| file.number >= own::FIRST_USER);
        if let Some((file, (piece, clusters))) = file.and_then(|file| Some((file, before_gap(survey, file)?)))
        {
            let does = format!("record {number}: end it before the clusters that a lost record told of");
            ended(job, file, piece, clusters, (does, &[&c::PIECES], paths.get(&number)))?;
        }
    }
    if !job.steps.is_empty() {
        return Ok(());
    }
    let mut done = u32::MAX;
    for (number, at) in lists {
        // What stands in a record is moved by a step.
        let base = survey.records.base_of(number);
        let count = job.steps.count();
        if base != done {
            before_unreadable(job, number, at, paths.get(&base))?;
        }
        if job.steps.count() > count {
            done = base;
        }
    }
    Ok(())
}

/// Ends a file whose run list cannot be read where that begins, unless it shall stay as it is.
fn before_unreadable(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    at: usize,
    path: Option<&String>,
) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let Some(file) = survey.records.file(survey.records.base_of(number)) else { return Ok(()) };
    let mut pieces = survey.records.pieces_of(file).iter();
    let found = pieces.find(|piece| piece.holder == number && usize::from(piece.at) == at);
    let Some(piece) = found.filter(|piece| piece.kind == kind::DATA && file.number > own::EXTEND) else {
        return Ok(());
    };
    let read = survey.records.runs_of(piece).iter().fold(0_u64, |sum, run| sum.plus(run.length));
    let clusters = piece.first_vcn.plus(read.min(piece.clusters));
    let does = format!("record {}: end it before the run that cannot be read", file.number);
    ended(job, file, piece, clusters, (does, &[&c::RUNS, &c::RUNS_BEYOND, &c::RUNS_COUNT], path))
}

/// A piece of content that leaves something out, and how many clusters are there before that.
fn before_gap<'s>(survey: &'s Survey, file: &File) -> Option<(&'s Piece, u64)> {
    let content = survey.records.pieces_of(file).iter().filter(|piece| piece.kind == kind::DATA);
    let pieces: Vec<&Piece> = content.collect();
    pieces.chunk_by(|one, other| one.name == other.name).find_map(|stream| {
        let first = stream.first().copied().filter(|first| !first.resident)?;
        let mut next = 0_u64;
        for piece in stream {
            if piece.first_vcn > next {
                break;
            }
            next = piece.first_vcn.plus(piece.clusters);
        }
        let all = stream.last().map_or(0, |last| last.first_vcn.plus(last.clusters));
        let partly = next < all || survey.mft.geometry.place(next) < first.allocated;
        partly.then_some((first, next))
    })
}

/// Ends a file there, unless it shall stay as it is.
fn ended(
    job: &mut Job<'_, '_, '_, '_>,
    file: &File,
    piece: &Piece,
    clusters: u64,
    (does, mends, path): (String, &[&'static Entry], Option<&String>),
) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let end = ("end", "each ends where that begins; hosts show what is before it".to_owned());
    let keep = ("keep", "all stays as it is; hosts refuse the files".to_owned());
    // Where many lead outside the volume, or it ends too early, its length may be wrong, not they.
    let beyond = |(_, flaw): &&(u32, Flaw)| matches!(flaw, Flaw::Runs(_, _, BadRuns::Beyond));
    let crowd = survey.records.flaws.iter().filter(beyond).count() > CROWD;
    let cut = job.believed.geometry.bytes() > job.window.len().plus(job.believed.geometry.sector());
    let options = if crowd || cut { [keep, end] } else { [end, keep] };
    let asked = path.cloned().into_iter().collect();
    let question =
        "Of some files, where the content stands cannot be read to the end. What shall become of these?";
    if job.choices.ask(QUESTION, question, &options, asked) != "end" {
        return Ok(());
    }
    let step = Step::new("file-ended", does, Provenance::Judged, "what of its run lists can be read", mends)
        .or("with --choose unreadable-runs=keep it stays, and hosts refuse it");
    let step = match path {
        Some(path) => step.file(path.clone()),
        None => step,
    };
    end_at(job, file, piece, clusters, step)
}

/// Gives the stream that this piece is of so many clusters, in one step.
pub(super) fn end_at(
    job: &mut Job<'_, '_, '_, '_>,
    file: &File,
    piece: &Piece,
    clusters: u64,
    step: Step,
) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let geometry = survey.mft.geometry;
    let name = survey.records.stream_name(piece.name);
    let pieces = survey.records.stream_of(file, piece.kind, name);
    let spread = pieces.iter().any(|piece| piece.flags & (COMPRESSED | SPARSE) != 0);
    // A packed unit is whole, or none.
    let unit = pieces.first().map_or(0, |first| u32::from(first.unit));
    let clusters =
        clusters.per(1_u64.checked_shl(unit).unwrap_or(1)).times(1_u64.checked_shl(unit).unwrap_or(1));
    let mut records: BTreeMap<u32, Vec<u8>> = BTreeMap::new();
    let mut held = 0_u64;
    for piece in pieces {
        let record = match records.entry(piece.holder) {
            btree_map::Entry::Occupied(known) => known.into_mut(),
            btree_map::Entry::Vacant(new) => {
                let Some(record) = job.record(piece.holder) else { return Ok(()) };
                new.insert(record)
            }
        };
        let (list, broken) = attributes(record);
        let is_it = |a: &&Attribute<'_>| {
            a.kind() == piece.kind && a.is_called(name) && !a.resident() && a.first_vcn() == piece.first_vcn
        };
        let Some(attribute) = list.iter().find(is_it).filter(|_| broken.is_none()) else { return Ok(()) };
        let at = attribute.at;
        if piece.first_vcn > 0 && piece.first_vcn >= clusters {
            let alone = list.len() == 1 && piece.holder != file.number;
            let flags = record.le16(22);
            remove_at(record, at);
            if alone {
                put(record, 22, &(flags & !RECORD_IN_USE).to_le_bytes());
            }
            continue;
        }
        let (mut runs, _) = decode(attribute.runs(), attribute.clusters(), geometry.clusters());
        let own = cut(&mut runs, clusters.minus(piece.first_vcn));
        held = runs.iter().filter(|run| run.first.is_some()).fold(held, |sum, run| sum.plus(run.length));
        put(record, at.plus(24), &piece.first_vcn.plus(own).wrapping_sub(1).to_le_bytes());
        if !set_runs(record, at, &runs) {
            return Ok(());
        }
    }
    if pieces.first().is_some_and(|first| first.first_vcn > 0) && clusters == 0 {
        // Its beginning is lost, and a file has content, be it none.
        let base = match records.entry(file.number) {
            btree_map::Entry::Occupied(known) => known.into_mut(),
            btree_map::Entry::Vacant(new) => {
                let Some(record) = job.record(file.number) else { return Ok(()) };
                new.insert(record)
            }
        };
        if !insert(base, &resident(piece.kind, name, &[])) {
            return Ok(());
        }
    }
    if let Some(first) = pieces.first().filter(|first| first.first_vcn == 0)
        && let Some(record) = records.get_mut(&first.holder)
    {
        let (list, _) = attributes(record);
        let is_it = |a: &&Attribute<'_>| a.kind() == piece.kind && a.is_called(name) && !a.resident();
        let Some(found) = list.iter().find(is_it) else { return Ok(()) };
        let (at, head) = (found.at, found.bytes.len().minus(found.runs().len()));
        let allocated = geometry.place(clusters);
        let size = first.size.min(allocated);
        put(record, at.plus(40), &allocated.to_le_bytes());
        put(record, at.plus(48), &size.to_le_bytes());
        put(record, at.plus(56), &first.valid.min(size).to_le_bytes());
        if spread && head >= 72 {
            put(record, at.plus(64), &geometry.place(held).to_le_bytes());
        }
    }
    job.steps.run(job.window, step, |window| {
        records.iter().try_for_each(|(number, record)| write_record(window, &survey.mft, *number, record))
    })
}

/// Cuts runs to so many clusters; how many there are then.
fn cut(runs: &mut Vec<Run>, clusters: u64) -> u64 {
    let mut sum = 0_u64;
    for run in runs.iter_mut() {
        run.length = run.length.min(clusters.minus(sum));
        sum = sum.plus(run.length);
    }
    runs.retain(|run| run.length > 0);
    sum
}
