//! Which clusters of a volume somebody has: its files, and its own structures.

use super::{set::ClusterSet, traces::Grid};
use crate::{arith::Sat, medium::Extent};

/// See the module. Places are bytes from the start of the volume.
#[derive(Debug, Clone)]
pub struct Occupied {
    /// Bytes of a cluster.
    pub cluster: u64,
    /// Where cluster number 0 would begin, were it one: cluster *n* begins *n* clusters behind.
    pub zero: i128,
    /// The first cluster's number, and the one behind the last.
    pub numbers: (usize, usize),
    /// Those that somebody has.
    pub set: ClusterSet,
}

impl Occupied {
    /// Of clusters that are numbered from `first` on, the first of which begins at `at`.
    pub fn new(at: u64, cluster: u64, numbers: (usize, usize), set: ClusterSet) -> Self {
        let before = numbers.0.wide().times(cluster);
        Self { cluster, zero: i128::from(at).saturating_sub(i128::from(before)), numbers, set }
    }

    /// Where its clusters stand.
    pub fn grid(&self) -> Grid {
        Grid { base: self.zero, cluster: self.cluster }
    }

    fn place(&self, number: usize) -> u64 {
        let place = self.zero.saturating_add(i128::from(number.wide().times(self.cluster)));
        u64::try_from(place).unwrap_or(0)
    }

    fn number(&self, place: u64) -> usize {
        let behind = i128::from(place).saturating_sub(self.zero);
        let number = behind.checked_div(i128::from(self.cluster)).unwrap_or(0);
        usize::try_from(number).unwrap_or(0).clamp(self.numbers.0, self.numbers.1)
    }

    /// All clusters.
    pub fn all(&self) -> Extent {
        let start = self.place(self.numbers.0);
        Extent::new(start, self.place(self.numbers.1).minus(start))
    }

    /// The next clusters from `at` on that nobody has; they can begin before `at`, where that lies within one.
    pub fn free_from(&self, at: u64) -> Option<Extent> {
        let gap = self.set.gap_in(self.number(at)..self.numbers.1)?;
        let start = self.place(gap.start);
        Some(Extent::new(start, self.place(gap.end).minus(start)))
    }

    /// Bytes of these that somebody has, counted in whole clusters.
    pub fn taken_of(&self, extent: Extent) -> u64 {
        let (from, to) = (self.number(extent.offset), self.number(extent.end().plus(self.cluster).minus(1)));
        self.set.count_in(from..to).wide().times(self.cluster)
    }

    /// Somebody has these clusters from now on.
    pub fn take(&mut self, extent: Extent) {
        let (from, to) = (self.number(extent.offset), self.number(extent.end().plus(self.cluster).minus(1)));
        self.set.insert_range(from..to);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_and_numbers_go_together() {
        let mut set = ClusterSet::with_capacity(12);
        set.insert_range(4..6);
        let mut occupied = Occupied::new(10_000, 1000, (2, 12), set);
        assert_eq!(occupied.all(), Extent::new(10_000, 10_000));
        assert_eq!(occupied.free_from(0), Some(Extent::new(10_000, 2000)));
        assert_eq!(occupied.free_from(11_500), Some(Extent::new(11_000, 1000)));
        assert_eq!(occupied.free_from(12_000), Some(Extent::new(14_000, 6000)));
        assert_eq!(occupied.taken_of(Extent::new(11_999, 2)), 1000);
        assert_eq!(occupied.taken_of(Extent::new(11_999, 1)), 0);
        occupied.take(Extent::new(14_500, 9_000));
        assert_eq!(occupied.free_from(12_000), None);
    }
}
