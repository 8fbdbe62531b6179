//! Files that share clusters: a run list with one byte struck is mended; else each but the first gets its own copy of
//! them, or ends before them.

use super::{Job, by_content, ending::end_at, records::step, room::Clusters, runs, writing::write_record};
use crate::{
    arith::Sat,
    cluster::set::ClusterSet,
    medium::{Medium, MediumError},
    mending::step::Provenance,
    ntfs::{
        catalogue as c,
        edit::set_runs,
        layout::{kind, own},
        records::{File, Notes, Piece},
        runs::Run,
        survey::Survey,
    },
    report::wording::counted,
};
use std::collections::HashSet;

/// The question, as the other families put it.
pub(super) const QUESTION: &str = "cross-link";
/// Files whose run lists are looked at for a struck byte.
const LOOKED_AT: usize = 256;
/// Clusters of pieces that share some, above which nothing is parted.
const MOST: u64 = 1 << 28;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    if survey.crossed.is_empty() {
        return Ok(());
    }
    let mut sharing = sharing(survey);
    let told = told(survey, job.window, &sharing);
    let count = job.steps.count();
    if sharing.len() <= LOOKED_AT {
        let pieces: Vec<Piece> = sharing.iter().map(|(_, piece)| piece.clone()).collect();
        runs::mend_shared(job, &pieces)?;
        if job.steps.count() == count {
            let lost = sharing.iter().map(|(_, piece)| piece).filter(|piece| !told.contains(&place(piece)));
            by_content::mend_shared(job, &lost.collect::<Vec<_>>())?;
        }
        if job.steps.count() > count {
            return Ok(());
        }
    }
    // Where everything claims everything, nobody is right.
    let shared = sharing.iter().flat_map(|(_, piece)| survey.records.runs_of(piece));
    if shared.fold(0_u64, |sum, run| sum.plus(run.length)) > MOST {
        return Ok(());
    }
    put_in_order(survey, &mut sharing, &told);
    apart(job, &sharing)
}

/// Where a piece stands.
fn place(piece: &Piece) -> (u32, u16) {
    (piece.holder, piece.at)
}

/// The pieces whose content ends there as their files do.
fn told(survey: &Survey, medium: &dyn Medium, sharing: &[(File, Piece)]) -> HashSet<(u32, u16)> {
    let pieces: Vec<&Piece> = sharing.iter().map(|(_, piece)| piece).collect();
    let told = by_content::told(survey, medium, &pieces);
    pieces.into_iter().zip(told).filter(|(_, told)| *told).map(|(piece, _)| place(piece)).collect()
}

/// Those first that keep what they share: of the file system's own files, of folders, of files whose content ends there as
/// their size says, of files that come to the shared clusters in the course of a run and do not jump there, of files by
/// their records.
fn put_in_order(survey: &Survey, sharing: &mut [(File, Piece)], told: &HashSet<(u32, u16)>) {
    let jumps = |piece: &Piece| {
        let runs = survey.records.runs_of(piece).iter();
        runs.filter(|run| run.first.is_some_and(|first| survey.crossed.contains(first.size()))).count()
    };
    sharing.sort_by_cached_key(|(file, piece)| {
        let own_file = file.number <= own::EXTEND;
        let told = told.contains(&place(piece));
        (!own_file, piece.kind != kind::INDEX_ALLOCATION, !told, jumps(piece), file.number, piece.first_vcn)
    });
}

/// True where others have some of these clusters.
pub(super) fn are(survey: &Survey, runs: &[Run]) -> bool {
    let shared = |run: &Run| {
        let range = run.first.map(|first| first.size()..run.end().size());
        range.is_some_and(|range| survey.crossed.contains_any_in_range(range))
    };
    runs.iter().any(shared)
}

/// The pieces that have clusters of others.
fn sharing(survey: &Survey) -> Vec<(File, Piece)> {
    let mut all = Vec::new();
    for file in survey.records.files.iter().filter(|file| file.notes.contains(Notes::CROSSED)) {
        for piece in survey.records.pieces_of(file).iter().filter(|piece| !piece.resident) {
            if are(survey, survey.records.runs_of(piece)) {
                all.push((file.clone(), piece.clone()));
            }
        }
    }
    all
}

fn apart(job: &mut Job<'_, '_, '_, '_>, sharing: &[(File, Piece)]) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let paths = crate::ntfs::check::paths(survey);
    // An index of a folder that is damaged is laid anew elsewhere: it needs no clusters.
    let damaged = |file: &File, piece: &Piece| {
        piece.kind == kind::INDEX_ALLOCATION
            && survey.index_flaws.iter().any(|(folder, _)| *folder == file.number)
    };
    let mut owned = ClusterSet::with_capacity(survey.crossed.len());
    let mut room = Clusters::of(survey);
    // What else stands in a record is moved by a step: the next round sees it where it is then.
    let mut done: HashSet<u32> = HashSet::new();
    for (file, piece) in sharing {
        if damaged(file, piece) || piece.bad.is_some() || done.contains(&file.number) {
            continue;
        }
        let split = split(survey, piece, &mut owned);
        let shared: u64 =
            split.iter().filter(|(_, taken)| *taken).fold(0, |sum, (run, _)| sum.plus(run.length));
        if shared == 0 || file.number <= own::EXTEND || piece.kind == kind::INDEX_ALLOCATION {
            continue;
        }
        let path = paths.get(&file.number);
        let options = [
            (
                "duplicate",
                "each file gets its own copy of the shared clusters; at most one is right there".to_owned(),
            ),
            ("cut", "the first file keeps them, the others end before them".to_owned()),
        ];
        let asked = path.cloned().into_iter().collect();
        let taken = job.choices.ask(QUESTION, "Files share clusters. Who gets them?", &options, asked);
        let chosen = taken != "duplicate";
        if chosen || !duplicate(job, piece, &split, shared, path, &mut room)? {
            cut_before(job, file, piece, (&split, chosen), path)?;
        }
        done.insert(file.number);
    }
    Ok(())
}

/// The runs of a piece, those apart that somebody has already; the others are taken.
fn split(survey: &Survey, piece: &Piece, owned: &mut ClusterSet) -> Vec<(Run, bool)> {
    let mut all: Vec<(Run, bool)> = Vec::new();
    let mut add = |run: Run, taken: bool| match all.last_mut() {
        Some((last, same)) if *same == taken && last.first.is_some() && Some(last.end()) == run.first => {
            last.length = last.length.plus(run.length);
        }
        _ => all.push((run, taken)),
    };
    for run in survey.records.runs_of(piece) {
        let Some(first) = run.first else {
            add(*run, false);
            continue;
        };
        if !survey.crossed.contains_any_in_range(first.size()..run.end().size()) {
            add(*run, false);
            continue;
        }
        for cluster in first..run.end() {
            let shared = survey.crossed.contains(cluster.size());
            add(Run::new(cluster, 1), shared && owned.put(cluster.size()));
        }
    }
    all
}

/// Gives the file its own copy of what is shared; false where there is no room.
fn duplicate(
    job: &mut Job<'_, '_, '_, '_>,
    piece: &Piece,
    split: &[(Run, bool)],
    shared: u64,
    path: Option<&String>,
    room: &mut Clusters,
) -> Result<bool, MediumError> {
    let survey: &Survey = job.survey;
    let geometry = survey.mft.geometry;
    let Some(record) = job.record(piece.holder) else { return Ok(false) };
    let at = usize::from(piece.at);
    // A list that gets too long for its record is of one run where all of it is copied.
    let all: u64 =
        split.iter().filter(|(run, _)| run.first.is_some()).fold(0, |sum, (run, _)| sum.plus(run.length));
    let mut made = None;
    for (count, whole) in [(shared, false), (all, true)] {
        let Some(fresh) = room.rows(survey, job.window, count) else { continue };
        let (runs, copies) = exchanged(split, &fresh, whole);
        let mut record = record.clone();
        if set_runs(&mut record, at, &runs) {
            made = Some((record, copies));
            break;
        }
    }
    let Some((record, copies)) = made else { return Ok(false) };
    let step = step(
        "cross-link-duplicated",
        format!(
            "record {}: give it its own copy of {}",
            piece.file,
            counted(shared, "shared cluster", "shared clusters")
        ),
        Provenance::Judged,
        "the shared clusters as they stand; in at most one of the files they are right",
        &c::CROSSED,
        path,
    )
    .or("cut this file before the shared clusters");
    job.steps.run(job.window, step, |window| {
        for (from, to, count) in &copies {
            window.copy_at(geometry.place(*from), geometry.place(*to), geometry.place(*count))?;
        }
        write_record(window, &survey.mft, piece.holder, &record)
    })?;
    Ok(true)
}

/// The runs with fresh clusters in the place of those that are shared, or of all; and what is copied: from, to, clusters.
pub(super) fn exchanged(
    split: &[(Run, bool)],
    fresh: &[Run],
    whole: bool,
) -> (Vec<Run>, Vec<(u64, u64, u64)>) {
    let mut fresh = fresh.iter().copied();
    let mut left: Option<Run> = None;
    let (mut runs, mut copies): (Vec<Run>, Vec<(u64, u64, u64)>) = (Vec::new(), Vec::new());
    let mut add = |run: Run| match runs.last_mut() {
        Some(last) if last.first.is_some() && Some(last.end()) == run.first => {
            last.length = last.length.plus(run.length);
        }
        _ => runs.push(run),
    };
    for (run, taken) in split {
        let Some(mut from) = run.first.filter(|_| *taken || whole) else {
            add(*run);
            continue;
        };
        while from < run.end() {
            let Some(row) = left.take().or_else(|| fresh.next()) else { break };
            let (to, count) = (row.first.unwrap_or(0), row.length.min(run.end().minus(from)));
            copies.push((from, to, count));
            add(Run::new(to, count));
            left = (row.length > count).then(|| Run::new(to.plus(count), row.length.minus(count)));
            from = from.plus(count);
        }
    }
    (runs, copies)
}

/// Ends the file before the first cluster that another keeps.
fn cut_before(
    job: &mut Job<'_, '_, '_, '_>,
    file: &File,
    piece: &Piece,
    (split, chosen): (&[(Run, bool)], bool),
    path: Option<&String>,
) -> Result<(), MediumError> {
    let kept = split.iter().take_while(|(_, taken)| !taken);
    let clusters = kept.fold(piece.first_vcn, |sum, (run, _)| sum.plus(run.length));
    let step = step(
        "cross-link-cut",
        format!(
            "record {}: end it before the shared clusters{}",
            piece.file,
            if chosen { "" } else { ": there is no room for a copy of its own" }
        ),
        Provenance::Judged,
        "the other file comes to them in the course of a run, or comes first",
        &c::CROSSED,
        path,
    )
    .or("give each file its own copy of the shared clusters");
    end_at(job, file, piece, clusters, step)
}
