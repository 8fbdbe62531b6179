//! Run lists that are of no use, or lead to what another file has: clusters in use and nobody's that can be the file's.
//!
//! Where more than one byte of a list is wrong it does not tell any more what it was. A file that lay in one row still stands
//! in clusters that `$Bitmap` has in use and no record has: it begins as the kind of its name does, and its own structure
//! ends where its size says. One of several pieces is looked for by what is left then ([`super::in_pieces`]).

use super::{Job, in_pieces, records::step};
use crate::{
    arith::{Peek, Sat},
    cluster::set::ClusterSet,
    files::end::Ends,
    formats::{self, BEGINNING, Format},
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
    report::{finding::Entry, wording::counted},
};
use std::collections::HashSet;

/// The question.
const QUESTION: &str = "content-found";
/// Clusters of nobody that are looked at, and those of them that begin like something.
const LOOKED_AT: usize = 1 << 17;
const BEGINNINGS: usize = 1 << 12;

/// On what a row rests.
pub(super) const FROM: &str = "the only clusters that no record has, as many as it needs and in their order, that begin as its name says and whose content ends where its size does";

/// A file whose content is looked for.
pub(super) struct Wanted<'w> {
    /// What it is called.
    pub(super) names: Vec<&'w str>,
    /// The clusters that it needs.
    pub(super) clusters: u64,
    /// Bytes of content.
    pub(super) size: u64,
}

/// A cluster that begins like a file.
pub(super) struct Beginning {
    /// What is open from there on, as far as it is asked for.
    pub(super) row: Run,
    /// Where the content ends, as its kind tells.
    length: Option<u64>,
    pub(super) format: Format,
}

/// The rows of clusters that can be all of these files, by what begins there and where it ends: those that alone fit a file,
/// and no other one. They are in use, and no record has them; where nothing of that kind is in use, as `$Bitmap` is gone or
/// was counted anew, whatever it says.
///
/// `claimed` are the clusters that records have, or that were found for others.
pub(super) fn rows(
    survey: &Survey,
    medium: &dyn Medium,
    claimed: &ClusterSet,
    wanted: &[Wanted<'_>],
) -> Vec<Option<Vec<Run>>> {
    let geometry = survey.mft.geometry;
    if wanted.is_empty() {
        return Vec::new();
    }
    let marked = survey.bitmap.as_ref().map(|marked| {
        let mut open = marked.clone();
        open.difference_with(claimed);
        open
    });
    let open = marked.filter(|open| !open.is_empty()).unwrap_or_else(|| claimed.complement());
    let allowed = Ends::new();
    let most = wanted.iter().map(|one| one.clusters).max().unwrap_or(0);
    let kind = |name: &&str| name.rsplit_once('.').and_then(|(_, extension)| Format::of_extension(extension));
    let kinds: Vec<Vec<Format>> =
        wanted.iter().map(|one| one.names.iter().filter_map(kind).collect()).collect();
    let all: HashSet<Format> = kinds.iter().flatten().copied().collect();
    // Text begins with nothing of its own: behind text it goes on.
    let goes_on = |first: u64, format: Format| {
        let behind = format.is_like(Format::Text) && first > 0 && open.contains(first.minus(1).size());
        behind && medium.lenient(geometry.place(first).minus(1), 1).bytes.byte(0) != 0
    };
    let beginnings: Vec<Beginning> = open
        .ones()
        .take(LOOKED_AT)
        .map(Sat::wide)
        .filter_map(|first| {
            let start = medium.lenient(geometry.place(first), BEGINNING).bytes;
            let format =
                formats::begins(&start).filter(|format| all.iter().any(|one| one.is_like(*format)))?;
            if goes_on(first, format) {
                return None;
            }
            let end = first.plus(most).min(open.len().wide());
            let gap = open.gap_in(first.size()..end.size());
            let row = Run::new(first, gap.map_or(end, |gap| gap.start.wide()).minus(first));
            let place = Extent::new(geometry.place(first), geometry.place(row.length));
            Some(Beginning { format, row, length: allowed.length(medium, &[place]) })
        })
        .take(BEGINNINGS)
        .collect();
    let fits = |(one, kinds): (&Wanted<'_>, &[Format]), beginning: &&Beginning| {
        let run = Run { length: one.clusters, ..beginning.row };
        kinds.iter().any(|kind| kind.is_like(beginning.format))
            && beginning.row.length >= one.clusters
            && match beginning.length {
                Some(length) => length == one.size,
                // Some kinds end only where nothing of theirs can follow.
                None => ends(survey, &allowed, medium, &[run], one.size) == Some(true),
            }
    };
    let found: Vec<Option<Vec<Run>>> = wanted
        .iter()
        .zip(&kinds)
        .map(|(one, kinds)| {
            let mut all = beginnings.iter().filter(|beginning| fits((one, kinds), beginning));
            let first = all.next()?;
            all.next().is_none().then(|| vec![Run { length: one.clusters, ..first.row }])
        })
        .collect();
    let mut found = unshared(found);
    let search = in_pieces::Search { medium, geometry, beginnings: &beginnings, ends: &allowed };
    search.fill(&open, wanted, &kinds, &mut found);
    found
}

/// What two files would have is neither's.
pub(super) fn unshared(found: Vec<Option<Vec<Run>>>) -> Vec<Option<Vec<Run>>> {
    let of = |(index, runs): (usize, &Option<Vec<Run>>)| {
        let own = move |run: &Run| (run.first.unwrap_or(0), run.end(), index);
        runs.iter().flatten().map(own).collect::<Vec<_>>()
    };
    let mut all: Vec<(u64, u64, usize)> = found.iter().enumerate().flat_map(of).collect();
    all.sort_unstable();
    let mut shared: HashSet<usize> = HashSet::new();
    // How far the runs before this one reach, and whose it is that reaches furthest.
    let mut furthest = (0, usize::MAX);
    for (first, end, index) in all {
        if first < furthest.0 && furthest.1 != index {
            shared.extend([index, furthest.1]);
        }
        furthest = furthest.max((end, index));
    }
    let kept = |(index, runs)| if shared.contains(&index) { None } else { runs };
    found.into_iter().enumerate().map(kept).collect()
}

/// The clusters of these runs, in words.
pub(super) fn worded(runs: &[Run]) -> String {
    let row = |run: &Run| format!("{} to {}", run.first.unwrap_or(0), run.end().minus(1));
    match runs {
        [] => "none".to_owned(),
        [all] => row(all),
        [first, more @ ..] => {
            format!("{} and {} more", row(first), counted(more.len().wide(), "row", "rows"))
        }
    }
}

/// Whether the content of these runs ends where that of a file of this size does; `None` where that is not told.
fn ends(survey: &Survey, ends: &Ends, medium: &dyn Medium, runs: &[Run], size: u64) -> Option<bool> {
    let geometry = survey.mft.geometry;
    let place = |run: &Run| Some(Extent::new(geometry.place(run.first?), geometry.place(run.length)));
    let extents: Vec<Extent> = runs.iter().map(place).collect::<Option<_>>()?;
    ends.is_at(medium, &extents, geometry.cluster(), size)
}

/// The piece is all of the plain content of a user's file.
pub(super) fn is_all(survey: &Survey, piece: &Piece) -> bool {
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
        is_all(survey, piece) && ends(survey, &allowed, medium, runs, piece.size) == Some(true)
    };
    pieces.iter().map(told).collect()
}

/// Lists that cannot be read, or count other clusters than they should.
pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>, lists: &[(Piece, BadRuns)]) -> Result<(), MediumError> {
    let all: Vec<(&Piece, &'static Entry)> = lists.iter().map(|(piece, bad)| (piece, bad.entry())).collect();
    give(job, &all)
}

/// Lists that lead to what others have, whose content does not end there as their files do.
pub(super) fn mend_shared(job: &mut Job<'_, '_, '_, '_>, sharing: &[&Piece]) -> Result<(), MediumError> {
    let all: Vec<(&Piece, &'static Entry)> =
        sharing.iter().map(|piece| -> (&Piece, _) { (piece, &c::CROSSED) }).collect();
    give(job, &all)
}

/// Whether files get content that was found for them.
pub(super) fn asked(job: &mut Job<'_, '_, '_, '_>, paths: Vec<String>) -> bool {
    let give = ("give", "each gets the clusters that fit it; they should be opened afterwards".to_owned());
    let leave = ("leave", "they are taken for lost; what the clusters hold can still be searched".to_owned());
    let question = "Of some files it is lost where their content stands, and clusters of nobody hold content that fits. Shall they get it?";
    job.choices.ask(QUESTION, question, &[give, leave], paths) == "give"
}

/// The content of lists that are of no use.
pub(super) fn of_lists(
    survey: &Survey,
    medium: &dyn Medium,
    claimed: &ClusterSet,
    pieces: &[&Piece],
) -> Vec<Option<Vec<Run>>> {
    let named = |piece: &Piece| {
        let names = survey.records.live(piece.file).map_or(&[][..], |file| survey.records.names_of(file));
        names.iter().map(|name| &*name.text).collect()
    };
    let wanted =
        pieces.iter().map(|piece| Wanted { names: named(piece), clusters: piece.clusters, size: piece.size });
    rows(survey, medium, claimed, &wanted.collect::<Vec<_>>())
}

fn give(job: &mut Job<'_, '_, '_, '_>, lists: &[(&Piece, &'static Entry)]) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let lists: Vec<&(&Piece, &'static Entry)> =
        lists.iter().filter(|(piece, _)| is_all(survey, piece)).collect();
    let pieces: Vec<&Piece> = lists.iter().map(|(piece, _)| *piece).collect();
    let found = of_lists(survey, job.window, &survey.claimed, &pieces);
    if found.iter().all(Option::is_none) {
        return Ok(());
    }
    let paths = crate::ntfs::check::paths(survey);
    let found_for = lists.iter().zip(&found).filter(|(_, run)| run.is_some());
    if !asked(job, found_for.filter_map(|((piece, _), _)| paths.get(&piece.file).cloned()).collect()) {
        return Ok(());
    }
    for ((piece, mends), runs) in lists.into_iter().zip(found) {
        let Some(runs) = runs else { continue };
        let does = format!("record {}: set its run list to clusters {}", piece.holder, worded(&runs));
        let step = step("run-list-found", does, Provenance::Judged, FROM, mends, paths.get(&piece.file));
        let step = step
            .or("with --choose content-found=leave it ends before that, or gets a copy of what it shares");
        job.edit(piece.holder, step, |record| set_runs(record, usize::from(piece.at), &runs))?;
    }
    Ok(())
}
