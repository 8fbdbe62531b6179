//! Run lists in which one byte was struck.
//!
//! A list has to count as many clusters as its attribute says, and each of them has to be in use and nobody else's. Where
//! just one change of one byte brings that about, it is taken.

use super::{Job, by_content, records::step};
use crate::{
    arith::Sat,
    medium::{Medium, MediumError},
    mending::step::Provenance,
    ntfs::{
        catalogue as c,
        layout::{COMPRESSED, SPARSE, own, put},
        record::attributes,
        records::{Flaw, Piece, Use},
        runs::{BadRuns, Run, decode},
        survey::Survey,
        tree::Why,
    },
    report::finding::Entry,
};
use std::ops::Range;

/// Bytes of a list that are tried.
const TRIED: usize = 256;
/// Lists of one round that are tried.
const LISTS: usize = 500;

/// The byte of an attribute that has to be another one.
pub(super) struct Struck {
    /// Where in the attribute it stands.
    pub(super) byte: usize,
    /// What it has to be.
    pub(super) value: u8,
    /// The runs with it.
    pub(super) runs: Vec<Run>,
    /// All the clusters are in use.
    whole: bool,
}

/// The run lists that cannot be read, or do not fit their attributes.
pub(super) fn damaged(survey: &Survey) -> Vec<(Piece, BadRuns)> {
    let records = &survey.records;
    let list = |(number, flaw): &(u32, Flaw)| {
        let Flaw::Runs(_, at, bad) = flaw else { return None };
        let file = records.file(records.base_of(*number))?;
        let mut pieces = records.pieces_of(file).iter();
        let piece = pieces.find(|piece| piece.holder == *number && usize::from(piece.at) == *at)?;
        Some((piece.clone(), *bad))
    };
    let lists: Vec<(Piece, BadRuns)> = records.flaws.iter().filter_map(list).collect();
    // Trying every byte takes its time.
    if lists.len() > LISTS { Vec::new() } else { lists }
}

/// The byte of each that was struck, where that is told.
pub(super) fn by_one_byte(
    survey: &Survey,
    medium: &dyn Medium,
    lists: &[(Piece, BadRuns)],
) -> Vec<Option<Struck>> {
    // All of them; half of them where $Bitmap may be damaged too.
    let struck = |piece, part| struck(survey, medium, piece, part);
    let found = lists.iter().map(|(piece, _)| struck(piece, 1).or_else(|| struck(piece, 2)));
    without_clashes(found.collect())
}

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let lists = damaged(survey);
    if lists.is_empty() {
        return Ok(());
    }
    // What is nobody's may be of a file whose record is lost.
    let lost =
        survey.records.uses.contains(&Use::Noise) || survey.strays.iter().any(|stray| stray.why == Why::Lost);
    let paths = crate::ntfs::check::paths(survey);
    let found = by_one_byte(survey, job.window, &lists);
    // What they get is nobody's any more when all was read again.
    if found.iter().all(Option::is_none) {
        return by_content::mend(job, &lists);
    }
    for ((piece, bad), found) in lists.iter().zip(found) {
        let Some(found) = found else { continue };
        let mends = bad.entry();
        let (how, from) = if found.whole {
            let from = "the one byte with which it has the clusters that it counts, all of them in use and nobody else's";
            (if lost { Provenance::Judged } else { Provenance::Derived }, from)
        } else {
            (
                Provenance::Judged,
                "the one byte with which it has the clusters that it counts, nobody else's, most of them in use",
            )
        };
        set(job, piece, &found, (how, from), (mends, paths.get(&piece.file)))?;
    }
    Ok(())
}

/// Sets the byte.
fn set(
    job: &mut Job<'_, '_, '_, '_>,
    piece: &Piece,
    found: &Struck,
    (how, from): (Provenance, &str),
    (mends, path): (&'static Entry, Option<&String>),
) -> Result<(), MediumError> {
    let (number, title) = (piece.holder, crate::ntfs::check::title(piece.kind));
    let does = format!("set one byte in the run list of {title} of record {number}");
    let step = step("run-list-byte", does, how, from, mends, path);
    let step = if mends.code == c::CROSSED.code {
        step.or("give each of the files its own copy of the clusters that they share")
    } else {
        step
    };
    let (at, value) = (usize::from(piece.at).plus(found.byte), found.value);
    job.edit(number, step, |record| {
        put(record, at, &[value]);
        true
    })
}

/// What two lists would take is neither's.
fn without_clashes(mut found: Vec<Option<Struck>>) -> Vec<Option<Struck>> {
    let mut all: Vec<(u64, u64, usize)> = Vec::new();
    for (index, struck) in found.iter().enumerate() {
        let runs = struck.iter().flat_map(|struck| &struck.runs);
        all.extend(runs.filter_map(|run| run.first.map(|first| (first, run.end(), index))));
    }
    all.sort_unstable();
    let mut clash: Vec<usize> = Vec::new();
    let mut last: Option<(u64, usize)> = None;
    for (first, end, index) in all {
        if let Some((_, other)) = last.filter(|(before, other)| first < *before && *other != index) {
            clash.extend([other, index]);
        }
        last = last.filter(|(before, _)| *before > end).or(Some((end, index)));
    }
    for index in clash {
        if let Some(slot) = found.get_mut(index) {
            *slot = None;
        }
    }
    found
}

/// The byte that was struck in the run list of this piece, where that is told: with it, of the clusters that are not the
/// file's yet, one in `part` is in use.
fn struck(survey: &Survey, medium: &dyn Medium, piece: &Piece, part: usize) -> Option<Struck> {
    if piece.holder <= own::EXTEND {
        return None;
    }
    only(survey, medium, piece, part, &|_| true)
}

/// The same, of the lists that are as `so` says.
pub(super) fn only(
    survey: &Survey,
    medium: &dyn Medium,
    piece: &Piece,
    part: usize,
    so: &dyn Fn(&[Run]) -> bool,
) -> Option<Struck> {
    survey.bitmap.as_ref()?;
    if piece.resident {
        return None;
    }
    let record = survey.mft.read(medium, piece.holder)?;
    let (list, _) = attributes(&record);
    let attribute = list.iter().find(|attribute| attribute.at == usize::from(piece.at))?;
    let geometry = survey.mft.geometry;
    let wanted = attribute.clusters();
    let counted = attribute.first_vcn() > 0 || geometry.place(wanted) == attribute.allocated();
    if wanted == 0 || wanted > geometry.clusters() || !counted {
        return None;
    }
    let holes = attribute.flags() & (COMPRESSED | SPARSE) != 0;
    let own = alone(survey, survey.records.runs_of(piece));
    let begins = attribute.bytes.len().minus(attribute.runs().len());
    let mut bytes = attribute.runs().to_vec();
    let mut found: Option<Struck> = None;
    for at in 0..bytes.len().min(TRIED) {
        let before = bytes.get(at).copied().unwrap_or(0);
        for value in (0..=u8::MAX).filter(|value| *value != before) {
            put(&mut bytes, at, &[value]);
            let (runs, bad) = decode(&bytes, wanted, geometry.clusters());
            let fits = bad.is_none()
                && runs.iter().all(|run| match run.first {
                    Some(first) => is_free_for(survey, &own, first.size()..run.end().size(), part),
                    None => holes,
                })
                && apart(&runs)
                && so(&runs);
            if fits && found.as_ref().is_none_or(|known| known.runs != runs) {
                if found.is_some() {
                    return None;
                }
                found = Some(Struck { byte: begins.plus(at), value, runs, whole: part == 1 });
            }
        }
        put(&mut bytes, at, &[before]);
    }
    found
}

/// The clusters of these runs that no other file has.
fn alone(survey: &Survey, runs: &[Run]) -> Vec<Range<usize>> {
    let mut own = Vec::new();
    for run in runs.iter().filter(|run| run.first.is_some()) {
        let (mut at, end) = (run.first.unwrap_or(0).size(), run.end().size());
        while let Some(gap) = survey.crossed.gap_in(at..end) {
            at = gap.end.max(at.plus(1));
            own.push(gap);
        }
    }
    own.sort_by_key(|range| range.start);
    own
}

/// True where each of these clusters is the file's own, or nobody's, and of the latter one in `part` is in use.
fn is_free_for(survey: &Survey, own: &[Range<usize>], range: Range<usize>, part: usize) -> bool {
    let nobodys = |range: Range<usize>| {
        let length = range.end.minus(range.start);
        !survey.claimed.contains_any_in_range(range.clone())
            && survey.bitmap.as_ref().is_some_and(|marked| marked.count_in(range).times(part) >= length)
    };
    let mut at = range.start;
    for mine in own.iter().filter(|mine| mine.start < range.end && mine.end > range.start) {
        if mine.start > at && !nobodys(at..mine.start) {
            return false;
        }
        at = at.max(mine.end);
    }
    at >= range.end || nobodys(at..range.end)
}

/// No cluster twice in one list.
fn apart(runs: &[Run]) -> bool {
    let mut all: Vec<(u64, u64)> =
        runs.iter().filter_map(|run| run.first.map(|first| (first, run.end()))).collect();
    all.sort_unstable();
    all.windows(2).all(|pair| match pair {
        [one, other] => one.1 <= other.0,
        _ => true,
    })
}

/// What the mending of shared clusters does first: lists with one byte struck, where the others that share have none.
pub(super) fn mend_shared(job: &mut Job<'_, '_, '_, '_>, sharing: &[Piece]) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let found: Vec<Option<Struck>> =
        sharing.iter().map(|piece| struck(survey, job.window, piece, 1)).collect();
    let shares = |one: &Piece, other: &Piece| {
        let runs = |piece| survey.records.runs_of(piece).iter().filter(|run| run.first.is_some());
        runs(one).any(|one| {
            runs(other).any(|other| one.first < Some(other.end()) && other.first < Some(one.end()))
        })
    };
    let told: Vec<bool> = found.iter().map(Option::is_some).collect();
    let alone = |index: usize, piece: &Piece| {
        let others = sharing.iter().zip(&told).enumerate();
        !others.into_iter().any(|(other, (rival, told))| *told && other != index && shares(piece, rival))
    };
    let found = sharing.iter().zip(found).enumerate();
    let found = found.map(|(index, (piece, found))| found.filter(|_| alone(index, piece)));
    let found = without_clashes(found.collect());
    let paths = crate::ntfs::check::paths(survey);
    let from = "with it the file has the clusters that it counts, all of them in use and nobody else's; as it stands, another file has them too";
    for (piece, found) in sharing.iter().zip(found) {
        if let Some(found) = found {
            let about: (&'static Entry, _) = (&c::CROSSED, paths.get(&piece.file));
            set(job, piece, &found, (Provenance::Judged, from), about)?;
        }
    }
    Ok(())
}
