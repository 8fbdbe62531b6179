//! Files that break off, and clusters that are nobody's: whose they are not, by what stands in them.

use super::lengths::Runs;
use crate::{
    arith::Sat,
    files::end::Ends,
    formats::{self, BEGINNING, Format},
    medium::{Extent, Medium},
};

/// Where clusters stand.
#[derive(Clone, Copy)]
pub(crate) struct Joints<'p> {
    pub(crate) medium: &'p dyn Medium,
    pub(crate) ends: &'p Ends,
    /// The byte at which cluster 2 begins.
    pub(crate) heap: u64,
    /// Bytes of a cluster.
    pub(crate) each: u64,
}

/// A file of which the first clusters are known.
pub(crate) struct Part {
    pub(crate) own: Runs,
    /// Bytes of all of it.
    pub(crate) length: u64,
}

impl Joints<'_> {
    /// True where the content breaks right where one of these runs begins: they are not its own.
    pub(crate) fn refutes(&self, part: &Part, runs: &[(u32, u32)]) -> bool {
        if !self.tells(part) {
            return false;
        }
        let all: Vec<Extent> = part.own.iter().chain(runs).map(|run| self.extent(*run)).collect();
        let Some(at) = self.ends.breaks_at(self.medium, &all, part.length) else { return false };
        let (mut begins, mut before) = (0_u64, part.own.first().map_or(0, |(first, _)| *first));
        for (number, (first, count)) in part.own.iter().chain(runs).enumerate() {
            let joined = number >= part.own.len() && (*first != before || number == part.own.len());
            if joined && (begins..begins.plus(self.each)).contains(&at) {
                return true;
            }
            begins = begins.plus(count.wide().times(self.each));
            before = first.plus(*count);
        }
        false
    }

    /// True for a file whose codes tell soon where foreign bytes begin.
    fn tells(&self, part: &Part) -> bool {
        let first = part.own.first().map(|(first, _)| self.extent((*first, 1)).offset);
        first.is_some_and(|place| {
            let start = self.medium.lenient(place, BEGINNING).bytes;
            formats::begins(&start) == Some(Format::Jpeg)
        })
    }

    fn extent(&self, (first, count): (u32, u32)) -> Extent {
        Extent::new(self.heap.plus(first.minus(2).wide().times(self.each)), count.wide().times(self.each))
    }
}
