//! Free clusters that a repair takes: found once in a round, and given out from the beginning.

use crate::arith::Sat;

/// Runs of free clusters, by place.
pub(crate) struct Room {
    runs: Vec<(u32, u32)>,
}

impl Room {
    /// Of these clusters, which come in order.
    pub(crate) fn of(clusters: impl Iterator<Item = u32>) -> Self {
        let mut room = Self { runs: Vec::new() };
        clusters.for_each(|cluster| room.add(cluster, 1));
        room
    }

    /// Adds a run behind those there are.
    pub(crate) fn add(&mut self, first: u32, count: u32) {
        match self.runs.last_mut() {
            Some((start, length)) if start.plus(*length) == first => *length = length.plus(count),
            _ => self.runs.push((first, count)),
        }
    }

    /// Takes `count` clusters in a row, the first such row there is; gives its first cluster.
    pub(crate) fn row(&mut self, count: u32) -> Option<u32> {
        let count = count.max(1);
        let at = self.runs.iter().position(|(_, length)| *length >= count)?;
        let (start, length) = self.runs.get_mut(at)?;
        let first = *start;
        (*start, *length) = (first.plus(count), length.minus(count));
        if *length == 0 {
            self.runs.remove(at);
        }
        Some(first)
    }

    /// Takes `count` clusters, in a row where there is one, else the first there are; fewer where there
    /// are fewer.
    pub(crate) fn up_to(&mut self, count: u32) -> Vec<u32> {
        if count == 0 {
            return Vec::new();
        }
        if let Some(first) = self.row(count) {
            return (first..first.plus(count)).collect();
        }
        let mut taken = Vec::new();
        while let Some((start, length)) = self.runs.first_mut() {
            let part = (*length).min(count.minus(taken.len().narrow()));
            taken.extend(*start..start.plus(part));
            (*start, *length) = (start.plus(part), length.minus(part));
            if *length > 0 {
                break;
            }
            self.runs.remove(0);
        }
        taken
    }

    /// Clusters there are.
    pub(crate) fn count(&self) -> u32 {
        self.runs.iter().fold(0_u32, |sum, (_, length)| sum.plus(*length))
    }

    /// Takes exactly `count`, or nothing.
    pub(crate) fn exactly(&mut self, count: u32) -> Option<Vec<u32>> {
        (self.count() >= count).then(|| self.up_to(count))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_first_then_what_there_is() {
        let mut room = Room::of([2, 3, 7, 8, 9, 10, 20].into_iter());
        assert_eq!(room.row(3), Some(7));
        assert_eq!(room.row(3), None);
        assert_eq!(room.row(1), Some(2));
        assert_eq!(room.exactly(4), None, "nothing is taken");
        assert_eq!(room.exactly(2), Some(vec![3, 10]));
        assert_eq!(room.up_to(5), [20]);
        assert!(room.up_to(1).is_empty() && room.row(1).is_none() && room.up_to(0).is_empty());
    }
}
