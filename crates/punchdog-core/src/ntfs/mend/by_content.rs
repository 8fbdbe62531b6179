//! Run lists that are of no use, or lead to what another file has: clusters in use and nobody's that can be the file's.
//!
//! Where more than one byte of a list is wrong it does not tell any more what it was. A file that lay in one row still stands
//! in clusters that `$Bitmap` has in use and no record has: it begins as the kind of its name does, and its own structure
//! ends where its size says.

use super::{Job, records::step};
use crate::{
    arith::Sat,
    files::{end::Ends, kinds},
    medium::{Extent, Medium, MediumError},
    mending::step::Provenance,
    ntfs::{
        catalogue as c,
        edit::set_runs,
        layout::{kind, own},
        records::Piece,
        runs::{BadRuns, Run},
        survey::Survey,
    },
    report::finding::Entry,
};
use std::ops::Range;

/// Clusters in use and nobody's that are looked at, and those of them that begin like something.
const LOOKED_AT: usize = 1 << 16;
const BEGINNINGS: usize = 1 << 12;
/// Bytes by which the kind is told.
const BEGINNING: usize = 512;

/// Clusters in use that no record has and that begin like a file.
struct Nobodys<'s> {
    survey: &'s Survey,
    /// Each with its first bytes.
    beginnings: Vec<(u64, Vec<u8>)>,
    ends: Ends,
    /// What was given to somebody.
    given: Vec<Range<u64>>,
}

impl<'s> Nobodys<'s> {
    fn of(survey: &'s Survey, medium: &dyn Medium) -> Option<Self> {
        let geometry = survey.mft.geometry;
        let open = survey.bitmap.as_ref()?.difference(&survey.claimed).take(LOOKED_AT);
        let beginnings = open.map(Sat::wide).filter_map(|cluster| {
            let start = medium.lenient(geometry.place(cluster), BEGINNING).bytes;
            kinds::extension(&start).is_some().then_some((cluster, start))
        });
        let beginnings = beginnings.take(BEGINNINGS).collect();
        Some(Self { survey, beginnings, ends: Ends::new(), given: Vec::new() })
    }

    /// The only row of them that can be this piece, all of a file's content.
    fn only(&mut self, medium: &dyn Medium, piece: &Piece) -> Option<Run> {
        let records = &self.survey.records;
        let file = records.live(piece.file)?;
        let names: Vec<&str> = records.names_of(file).iter().map(|name| &*name.text).collect();
        let own = |start: &[u8]| names.iter().any(|name| kinds::agrees(name, start) == Some(true));
        let mut fits = self.beginnings.iter().filter(|(first, start)| {
            let run = Run::new(*first, piece.clusters);
            own(start)
                && self.is_open(&run)
                && ends(self.survey, &self.ends, medium, piece, &[run]) == Some(true)
        });
        let (first, _) = fits.next()?;
        if fits.next().is_some() {
            return None;
        }
        let run = Run::new(*first, piece.clusters);
        self.given.push(*first..run.end());
        Some(run)
    }

    /// All in use, and nobody's.
    fn is_open(&self, run: &Run) -> bool {
        let Some(first) = run.first else { return false };
        let range = first.size()..run.end().size();
        let marked = self.survey.bitmap.as_ref().map_or(0, |marked| marked.count_in(range.clone()));
        let taken = |given: &Range<u64>| given.start < run.end() && first < given.end;
        marked.wide() == run.length
            && !self.survey.claimed.contains_any_in_range(range)
            && !self.given.iter().any(taken)
    }
}

/// Whether the content of these runs ends where that of the file does; `None` where that is not told.
fn ends(survey: &Survey, ends: &Ends, medium: &dyn Medium, piece: &Piece, runs: &[Run]) -> Option<bool> {
    let geometry = survey.mft.geometry;
    let place = |run: &Run| Some(Extent::new(geometry.place(run.first?), geometry.place(run.length)));
    let extents: Vec<Extent> = runs.iter().map(place).collect::<Option<_>>()?;
    ends.is_at(medium, &extents, geometry.cluster(), piece.size)
}

/// The piece is all of the plain content of a user's file.
fn is_all(survey: &Survey, piece: &Piece) -> bool {
    let held = survey.mft.geometry.place(piece.clusters);
    piece.kind == kind::DATA
        && piece.name == 0
        && piece.flags == 0
        && !piece.resident
        && piece.file >= own::FIRST_USER
        && piece.first_vcn == 0
        && piece.clusters > 0
        && piece.allocated == held
        && (1..=held).contains(&piece.size)
        && piece.valid == piece.size
}

/// Of pieces, those whose content ends where their files do.
pub(super) fn told(survey: &Survey, medium: &dyn Medium, pieces: &[&Piece]) -> Vec<bool> {
    let allowed = Ends::new();
    let told = |piece: &&Piece| {
        let runs = survey.records.runs_of(piece);
        is_all(survey, piece) && ends(survey, &allowed, medium, piece, runs) == Some(true)
    };
    pieces.iter().map(told).collect()
}

/// Lists that cannot be read, or count other clusters than they should.
pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>, lists: &[(Piece, BadRuns)]) -> Result<(), MediumError> {
    let all: Vec<(&Piece, &'static Entry)> = lists.iter().map(|(piece, bad)| (piece, bad.entry())).collect();
    give(job, &all)
}

/// Lists that lead to what others have; those whose content ends where their files do are right.
pub(super) fn mend_shared(job: &mut Job<'_, '_, '_, '_>, sharing: &[Piece]) -> Result<(), MediumError> {
    let pieces: Vec<&Piece> = sharing.iter().collect();
    let told = told(job.survey, job.window, &pieces);
    let lost = pieces.into_iter().zip(told).filter(|(_, told)| !told);
    let all: Vec<(&Piece, &'static Entry)> =
        lost.map(|(piece, _)| -> (_, _) { (piece, &c::CROSSED) }).collect();
    give(job, &all)
}

fn give(job: &mut Job<'_, '_, '_, '_>, lists: &[(&Piece, &'static Entry)]) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let lists: Vec<_> = lists.iter().filter(|(piece, _)| is_all(survey, piece)).collect();
    if lists.is_empty() {
        return Ok(());
    }
    let Some(mut nobodys) = Nobodys::of(survey, job.window) else { return Ok(()) };
    let paths = crate::ntfs::check::paths(survey);
    for (piece, mends) in lists {
        let Some(run) = nobodys.only(job.window, piece) else { continue };
        let does = format!(
            "record {}: set its run list to clusters {} to {}",
            piece.holder,
            run.first.unwrap_or(0),
            run.end().minus(1)
        );
        let from = "the only clusters in use that no record has, as many as it needs, that begin as its name says and whose content ends where its size does";
        let step = step("run-list-found", does, Provenance::Judged, from, mends, paths.get(&piece.file));
        let step = step
            .or("end the file before what cannot be read of its list, or give it a copy of what it shares");
        job.edit(piece.holder, step, |record| set_runs(record, usize::from(piece.at), &[run]))?;
    }
    Ok(())
}
