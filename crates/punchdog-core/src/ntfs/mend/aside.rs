//! Keeping off clusters in which the medium fails: what stands there moves, and `$BadClus` has them. `$Bitmap` follows in
//! the rounds of mending behind this. The first cluster of `$MFT`, `$MFTMirr` and the boot sector stay: the boot sector
//! says where they are, and itself is at the beginning.

use super::{Job, room::Clusters, shared::exchanged, writing::write_record};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        aside::{Aside, rows},
        set::ClusterSet,
    },
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
    ntfs::{
        NtfsSurvey,
        edit::set_runs,
        layout::{COMPRESSED, kind, own},
        record::attributes,
        records::{Notes, Piece},
        runs::{Mapping, Run},
        survey::Survey,
        system,
    },
};
use std::collections::{BTreeMap, HashMap};

pub(in crate::ntfs) fn set_aside(
    seen: &mut NtfsSurvey,
    window: &mut OverlayWindow<'_, '_>,
    aside: &Aside<'_>,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let geometry = seen.believed.geometry;
    let bad = aside.clusters(0, geometry.cluster(), 0..geometry.clusters());
    if bad.is_empty() {
        return Ok(());
    }
    let claimed = seen.survey.claimed.clone();
    // Nothing is moved to where the medium fails as well.
    seen.survey.claimed.extend(bad.ones());
    let mut choices = Choices::wanting(BTreeMap::new());
    let NtfsSurvey { believed, survey, boot } = &mut *seen;
    let before = steps.count();
    let mut job = Job { window, believed, survey, boot, choices: &mut choices, steps };
    // Where records stand is known anew in the next round.
    let mut done = move_all(&mut job, aside, &bad, true).map(|_| ());
    if job.steps.count() == before {
        done = move_all(&mut job, aside, &bad, false)
            .and_then(|moved| mark(&mut job, aside, &bad, &claimed, &moved));
    }
    seen.survey.claimed = claimed;
    done
}

/// Moves what can be moved now, of `$MFT` or of all the others; gives the clusters that nothing stands in any more.
fn move_all(
    job: &mut Job<'_, '_, '_, '_>,
    aside: &Aside<'_>,
    bad: &ClusterSet,
    records: bool,
) -> Result<ClusterSet, MediumError> {
    let survey: &Survey = job.survey;
    let mut moved = ClusterSet::with_capacity(bad.len());
    let mut room = Clusters::of(survey);
    let paths: HashMap<u32, String> = crate::ntfs::check::paths(survey);
    for file in survey.records.files.iter().filter(|file| !file.notes.contains(Notes::DELETED)) {
        if (file.number == own::MFT) != records
            || matches!(file.number, own::MIRROR | own::BOOT | own::BADCLUS)
        {
            continue;
        }
        for piece in
            survey.records.pieces_of(file).iter().filter(|piece| !piece.resident && piece.bad.is_none())
        {
            let stays = u64::from(records && piece.kind == kind::DATA && piece.first_vcn == 0);
            let split = split(survey.records.runs_of(piece), bad, stays);
            let hit: Vec<Run> = split.iter().filter(|(_, hit)| *hit).map(|(run, _)| *run).collect();
            if !hit.is_empty()
                && move_one(job, aside, piece, &split, &hit, &mut room, paths.get(&file.number))?
            {
                for run in hit {
                    moved.insert_range(run.first.unwrap_or(0).size()..run.end().size());
                }
            }
        }
    }
    Ok(moved)
}

/// Runs, those apart that lie in failing clusters; the first `stays` clusters are taken for good ones.
fn split(runs: &[Run], bad: &ClusterSet, stays: u64) -> Vec<(Run, bool)> {
    let mut all: Vec<(Run, bool)> = Vec::new();
    let mut vcn = 0_u64;
    for run in runs {
        let Some(first) = run.first.filter(|first| bad.contains_any_in_range(first.size()..run.end().size()))
        else {
            all.push((*run, false));
            vcn = vcn.plus(run.length);
            continue;
        };
        for cluster in first..run.end() {
            let hit = bad.contains(cluster.size()) && vcn >= stays;
            match all.last_mut() {
                Some((last, same)) if *same == hit && last.first.is_some() && last.end() == cluster => {
                    last.length = last.length.plus(1);
                }
                _ => all.push((Run::new(cluster, 1), hit)),
            }
            vcn = vcn.plus(1);
        }
    }
    all
}

/// Moves the failing clusters of a piece; false where there is no room, or its record has none for the runs.
fn move_one(
    job: &mut Job<'_, '_, '_, '_>,
    aside: &Aside<'_>,
    piece: &Piece,
    split: &[(Run, bool)],
    hit: &[Run],
    room: &mut Clusters,
    path: Option<&String>,
) -> Result<bool, MediumError> {
    let survey: &Survey = job.survey;
    let geometry = survey.mft.geometry;
    let count = hit.iter().fold(0_u64, |sum, run| sum.plus(run.length));
    let name = survey.records.stream_name(piece.name).to_owned();
    let Some(record) = job.record(piece.holder) else { return Ok(false) };
    let (list, broken) = attributes(&record);
    let is_it = |a: &&crate::ntfs::record::Attribute<'_>| {
        a.kind() == piece.kind && a.is_called(&name) && !a.resident() && a.first_vcn() == piece.first_vcn
    };
    let Some(at) = list.iter().find(is_it).map(|a| a.at).filter(|_| broken.is_none()) else {
        return Ok(false);
    };
    let held = split.iter().filter(|(run, _)| run.first.is_some());
    let all = held.fold(0_u64, |sum, (run, _)| sum.plus(run.length));
    let mut made = None;
    // A list that gets too long for its record is of one run where all of it moves.
    for (count, whole) in [(count, false), (all, true)] {
        let records = piece.file == own::MFT && piece.kind == kind::DATA;
        let Some(fresh) = room.rows(survey, job.window, count).filter(|_| !(whole && records)) else {
            continue;
        };
        let (runs, copies) = exchanged(split, &fresh, whole);
        let mut record = record.clone();
        if set_runs(&mut record, at, &runs) {
            made = Some((record, copies));
            break;
        }
    }
    let Some((record, copies)) = made else { return Ok(false) };
    // What lies behind its end is none of it; packed units are counted whole.
    let mut left = if piece.flags & COMPRESSED == 0 && piece.first_vcn == 0 { piece.size } else { u64::MAX };
    let mut own = Vec::new();
    for (run, _) in split {
        let length = geometry.place(run.length).min(left);
        left = left.minus(length);
        own.extend(run.first.map(|first| Extent::new(geometry.place(first), length)));
    }
    let lost = aside.lost(
        &own,
        hit.iter().map(|run| Extent::new(geometry.place(run.first.unwrap_or(0)), geometry.place(run.length))),
    );
    let structure = piece.kind != kind::DATA || piece.file < own::FIRST_USER;
    let system = own::NAMES.get(piece.file.size()).map(|name| (*name).to_owned());
    let title = path.cloned().or(system).unwrap_or_else(|| format!("record {}", piece.file));
    let step = aside.moved(&title, structure, count.size(), lost);
    let step = if path.is_some() && piece.file >= own::FIRST_USER { step.file(title) } else { step };
    // The next round knows no more whose the old ones were.
    let bitmap = (piece.file == own::MFT).then(|| system::content(survey, own::BITMAP, "")).flatten();
    job.steps.run(job.window, step, |window| {
        for (from, to, count) in &copies {
            window.copy_at(geometry.place(*from), geometry.place(*to), geometry.place(*count))?;
            if let Some((_, _, map)) = &bitmap {
                (*from..from.plus(*count)).try_for_each(|cluster| clear_bit(window, map, cluster))?;
            }
        }
        write_record(window, &survey.mft, piece.holder, &record)
    })?;
    Ok(true)
}

/// Marks a cluster free in `$Bitmap`.
fn clear_bit(window: &mut OverlayWindow<'_, '_>, bitmap: &Mapping, cluster: u64) -> Result<(), MediumError> {
    let Some(place) = bitmap.place(cluster.per(8)) else { return Ok(()) };
    let medium: &dyn Medium = window;
    let byte = medium.lenient(place, 1).bytes.byte(0);
    let mask = 1_u8.checked_shl(cluster.rest(8).narrow()).unwrap_or(0);
    window.write_at(place, &[byte & !mask])
}

/// Gives `$BadClus` those that nothing stands in.
fn mark(
    job: &mut Job<'_, '_, '_, '_>,
    aside: &Aside<'_>,
    bad: &ClusterSet,
    claimed: &ClusterSet,
    moved: &ClusterSet,
) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let Some(file) = survey.records.live(own::BADCLUS) else { return Ok(()) };
    let pieces = survey.records.stream_of(file, kind::DATA, "$Bad");
    let [piece] = pieces else { return Ok(()) };
    if piece.resident || matches!(system::badclus(survey), system::Bad::Length(..)) {
        return Ok(());
    }
    let old = survey.records.all_runs(pieces);
    let has = |cluster: usize| {
        old.iter().any(|run| run.first.is_some_and(|first| (first..run.end()).contains(&cluster.wide())))
    };
    let free = |cluster: &usize| (!claimed.contains(*cluster) || moved.contains(*cluster)) && !has(*cluster);
    // What is in use and no file's may be of one that is lost.
    let in_use = |cluster: usize| survey.bitmap.as_ref().is_some_and(|bitmap| bitmap.contains(cluster));
    let mut all = ClusterSet::with_capacity(bad.len());
    all.extend(bad.ones().filter(free).filter(|cluster| moved.contains(*cluster) || !in_use(*cluster)));
    let new = all.count();
    let stay = bad.count().minus(new).wide().minus(bad.ones().filter(|cluster| has(*cluster)).count().wide());
    let marked = old.iter().filter_map(|run| run.first.map(|first| first.size()..run.end().size()));
    marked.for_each(|range| all.insert_range(range));
    let Some(record) = job.record(own::BADCLUS) else { return Ok(()) };
    let rows = rows(&all);
    // As many rows as its record has room for.
    let fits = |count: usize| {
        let mut record = record.clone();
        let runs = among_holes(rows.get(..count).unwrap_or(&[]), survey.mft.geometry.clusters());
        set_runs(&mut record, usize::from(piece.at), &runs).then_some(record)
    };
    let counts: Vec<usize> = (0..=rows.len()).collect();
    let count = counts.partition_point(|count| fits(*count).is_some()).minus(1);
    let beyond =
        rows.get(count..).unwrap_or(&[]).iter().fold(0_u64, |sum, (_, length)| sum.plus(length.wide()));
    let Some(made) = fits(count).filter(|_| new.wide() > beyond) else { return Ok(()) };
    let step = aside.marked(new.minus(beyond.size()), stay.plus(beyond));
    job.steps.run(job.window, step, |window| write_record(window, &survey.mft, own::BADCLUS, &made))
}

/// Rows of clusters as runs of `$Bad`, in which each cluster stands at its own number.
fn among_holes(rows: &[(u32, u32)], clusters: u64) -> Vec<Run> {
    let mut runs = Vec::new();
    let mut at = 0_u64;
    for (first, count) in rows {
        let first = u64::from(*first);
        if first > at {
            runs.push(Run { first: None, length: first.minus(at) });
        }
        runs.push(Run::new(first, (*count).wide()));
        at = first.plus((*count).wide());
    }
    if clusters > at {
        runs.push(Run { first: None, length: clusters.minus(at) });
    }
    runs
}
