//! Traces of file systems that are no more, and the clusters that they had.
//!
//! A structure that names the cluster it stands in says, with a second one, where clusters begin and how long they are:
//! *place* = *base* + *number* × *length*.

use crate::arith::Sat;
use std::collections::BTreeMap;

/// What was seen in a stretch of bytes. Places are bytes from its start.
#[derive(Debug, Default)]
pub struct Traces {
    /// Folders of FAT: where each begins, its own cluster, its parent's.
    pub dots: Vec<(u64, u32, u32)>,
    /// Sectors of entries of FAT that begin no folder.
    pub entries: Vec<u64>,
    /// Sectors that begin with a whole entry set of exFAT.
    pub sets: Vec<u64>,
    /// Where files of known kinds begin.
    pub starts: Vec<u64>,
    /// Boot sectors.
    pub boots: Vec<u64>,
}

/// Where clusters stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Grid {
    /// Where cluster number 0 would begin.
    pub base: i128,
    /// Bytes of a cluster.
    pub cluster: u64,
}

/// Cluster lengths that there are: 512 bytes to 32 MiB.
const LENGTHS: std::ops::RangeInclusive<u32> = 9..=25;
/// Pairs that are looked at.
const PAIRS: usize = 400_000;

impl Grid {
    /// Where a cluster begins, if that is within `end` bytes.
    pub fn place(self, number: u32, end: u64) -> Option<u64> {
        let place = self.base.saturating_add(i128::from(number.wide().times(self.cluster)));
        u64::try_from(place).ok().filter(|place| *place < end)
    }

    /// The cluster that begins at a place.
    pub fn number(self, place: u64) -> Option<u32> {
        let behind = u64::try_from(i128::from(place).saturating_sub(self.base)).ok()?;
        (behind.rest(self.cluster) == 0).then(|| behind.per(self.cluster)).and_then(|n| u32::try_from(n).ok())
    }

    /// The grid on which most of `named` clusters begin at one of `places`, and how many of them do.
    pub fn told(named: &[u32], places: &[u64]) -> Option<(Self, usize)> {
        let most = PAIRS.per(named.len().max(1)).max(1);
        let mut best: Option<(Self, usize)> = None;
        for cluster in LENGTHS.map(|bits| 1_u64 << bits) {
            let mut votes: BTreeMap<i128, usize> = BTreeMap::new();
            for number in named {
                for place in places.iter().take(most) {
                    let base = i128::from(*place).saturating_sub(i128::from(number.wide().times(cluster)));
                    let count = votes.entry(base).or_default();
                    *count = count.plus(1);
                }
            }
            let found = votes.into_iter().max_by_key(|(_, count)| *count);
            if let Some((base, count)) = found.filter(|(_, count)| best.is_none_or(|(_, top)| *count > top)) {
                best = Some((Self { base, cluster }, count));
            }
        }
        best
    }

    /// How many of these begin where the grid says.
    pub fn agree(self, own: &[(u64, u32)]) -> usize {
        own.iter().filter(|(place, number)| self.number(*place) == Some(*number)).count()
    }

    /// The grid that most of these agree on: places with the number of the cluster that each says it is.
    pub fn of(own: &[(u64, u32)]) -> Option<(Self, usize)> {
        let mut lengths: BTreeMap<u64, usize> = BTreeMap::new();
        for ((place, number), (next, follows)) in own.iter().zip(own.iter().skip(1)) {
            let (apart, between) = (next.minus(*place), follows.minus(*number).wide());
            let length = apart.per(between.max(1));
            if between > 0
                && apart.rest(between) == 0
                && length.checked_ilog2().is_some_and(|bits| LENGTHS.contains(&bits))
            {
                let count = lengths.entry(length).or_default();
                *count = count.plus(1);
            }
        }
        let mut best: Option<(Self, usize)> = None;
        for cluster in lengths.into_keys().filter(|length| length.is_power_of_two()) {
            let mut bases: BTreeMap<i128, usize> = BTreeMap::new();
            for (place, number) in own {
                let base = i128::from(*place).saturating_sub(i128::from(number.wide().times(cluster)));
                let count = bases.entry(base).or_default();
                *count = count.plus(1);
            }
            let found = bases.into_iter().max_by_key(|(_, count)| *count);
            if let Some((base, count)) = found.filter(|(_, count)| best.is_none_or(|(_, top)| *count > top)) {
                best = Some((Self { base, cluster }, count));
            }
        }
        best.filter(|(_, count)| *count > 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_that_name_themselves_tell_the_grid() {
        let grid = Grid { base: 100_000 - 2 * 4096, cluster: 4096 };
        let at = |number: u32| grid.place(number, u64::MAX).unwrap();
        let own = [(at(5), 5), (at(9), 9), (at(200), 200), (777_216, 3)];
        assert_eq!(Grid::of(&own), Some((grid, 3)));
        assert_eq!(grid.agree(&own), 3);
        assert_eq!(grid.number(at(9)), Some(9));
        assert_eq!(Grid::of(&own[..1]), None);
        let places: Vec<u64> = [5, 9, 30, 31, 90].map(at).into();
        assert_eq!(Grid::told(&[5, 9, 30, 90, 12], &places), Some((grid, 4)));
    }
}
