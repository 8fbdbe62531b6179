//! Lost files that lay in several pieces: of clusters in use and nobody's, those that follow their beginnings in order.
//!
//! ```text
//! the lost file's   ████      ██        ███
//! others'               ██████  ████████   ███
//! ```
//!
//! A host that writes a file fills what is free, from front to back, and what it passed over was others'. So the clusters of
//! one lost file are, in order, those that no record has. That is believed where sums or codes run through all of the content,
//! or where it takes all that is nobody's and ends where its size says.

use super::by_content::{Beginning, Wanted, unshared};
use crate::{
    arith::Sat,
    cluster::set::ClusterSet,
    files::end::Ends,
    formats::Format,
    medium::{Extent, Medium},
    ntfs::{geometry::Geometry, runs::Run},
};

/// Runs that one file may have.
const RUNS: usize = 1 << 12;
/// Beginnings of one file that are tried.
const TRIED: usize = 64;

/// What is searched.
pub(super) struct Search<'s> {
    pub(super) medium: &'s dyn Medium,
    pub(super) geometry: Geometry,
    pub(super) beginnings: &'s [Beginning],
    pub(super) ends: &'s Ends,
}

impl Search<'_> {
    /// Gives the files that have nothing the clusters that are nobody's and no other's: `open` are those in use.
    pub(super) fn fill(
        &self,
        open: &ClusterSet,
        wanted: &[Wanted<'_>],
        kinds: &[Vec<Format>],
        found: &mut [Option<Vec<Run>>],
    ) {
        let mut left = open.clone();
        for run in found.iter().flatten().flatten() {
            left.remove_range(run.first.unwrap_or(0).size()..run.end().size());
        }
        let lacking = found.iter().filter(|runs| runs.is_none()).count();
        let all = left.count_in(0..left.len()).wide();
        let fits = |((one, kinds), runs): ((&Wanted<'_>, &Vec<Format>), &Option<Vec<Run>>)| {
            let exact = lacking == 1 && all == one.clusters;
            if runs.is_some() { None } else { self.of(&left, one, kinds, exact) }
        };
        let more: Vec<Option<Vec<Run>>> = wanted.iter().zip(kinds).zip(&*found).map(fits).collect();
        for (found, more) in found.iter_mut().zip(unshared(more)) {
            if more.is_some() {
                *found = more;
            }
        }
    }

    /// The only such clusters for a file; `exact` where it needs all there are.
    fn of(&self, open: &ClusterSet, one: &Wanted<'_>, kinds: &[Format], exact: bool) -> Option<Vec<Run>> {
        let like = |beginning: &&Beginning| {
            kinds.iter().any(|kind| kind.is_like(beginning.format))
                && beginning.row.first.is_some_and(|first| open.contains(first.size()))
        };
        let mut fit = self.beginnings.iter().filter(like).take(TRIED).filter_map(|beginning| {
            let runs = from(open, beginning.row.first?, one.clusters)?;
            let place = |run: &Run| {
                Some(Extent::new(self.geometry.place(run.first?), self.geometry.place(run.length)))
            };
            let extents: Vec<Extent> = runs.iter().map(place).collect::<Option<_>>()?;
            let fits = self.ends.proves(self.medium, &extents, one.size)
                || exact
                    && self.ends.is_at(self.medium, &extents, self.geometry.cluster(), one.size)
                        == Some(true);
            fits.then_some(runs)
        });
        let runs = fit.next()?;
        fit.next().is_none().then_some(runs)
    }
}

/// So many open clusters in order, from the first one on.
fn from(open: &ClusterSet, first: u64, clusters: u64) -> Option<Vec<Run>> {
    let mut runs: Vec<Run> = Vec::new();
    let (mut at, mut left) = (first.size(), clusters);
    while at < open.len() && runs.len() < RUNS {
        let gap = open.gap_in(at..open.len()).unwrap_or(open.len()..open.len());
        let length = gap.start.minus(at).wide().min(left);
        runs.push(Run::new(at.wide(), length));
        left = left.minus(length);
        if left == 0 {
            return Some(runs);
        }
        at = gap.end;
    }
    None
}
