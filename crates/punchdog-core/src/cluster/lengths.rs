//! Files that break off, and clusters that are nobody's: whose they can be by their lengths.

use crate::arith::Sat;
use std::collections::HashMap;

/// First clusters of pieces, and how many follow one another.
pub(crate) type Runs = Vec<(u32, u32)>;

/// Pieces of other length than one that are tried for a file.
const TRIED: usize = 4096;

/// Where a file breaks off.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Break {
    /// The last cluster that is certainly its own.
    pub(crate) last: u32,
    /// Clusters that it lacks.
    pub(crate) missing: u32,
    /// Clusters right behind the last one that can be its own; no more are counted than one above what it lacks.
    pub(crate) behind: u32,
}

impl Break {
    /// What it can have of the clusters right behind.
    pub(crate) fn room(&self) -> (u32, u32) {
        (self.last.plus(1), self.behind.min(self.missing))
    }
    /// The same where there is any.
    pub(crate) fn rooms(&self) -> Runs {
        Some(self.room()).filter(|(_, count)| *count > 0).into_iter().collect()
    }
}

/// Clusters, in order, as pieces that lie in a row.
pub(crate) fn in_rows(clusters: impl IntoIterator<Item = u32>) -> Runs {
    let mut pieces: Runs = Vec::new();
    for cluster in clusters {
        match pieces.last_mut() {
            Some((first, count)) if first.plus(*count) == cluster => *count = count.plus(1),
            _ => pieces.push((cluster, 1)),
        }
    }
    pieces
}

/// What else each of `short` consists of, where lengths tell: one piece of exactly what it lacks, or those that come next.
pub(crate) fn rests(short: &[Break], long: &[Break], pieces: &[(u32, u32)]) -> Vec<Option<Runs>> {
    // The one piece of each length, if it is the only one.
    let mut alone: HashMap<u32, Option<(u32, u32)>> = HashMap::new();
    for piece in pieces {
        alone.entry(piece.1).and_modify(|one| *one = None).or_insert(Some(*piece));
    }
    let doubtful: Vec<u32> = long.iter().map(|one| one.last).collect();
    let mut found: Vec<Option<Runs>> = short.iter().map(|one| rest(one, pieces, &alone, &doubtful)).collect();
    // What two of them could have is told by nothing.
    let mut wanted: HashMap<u32, u32> = HashMap::new();
    for (first, _) in found.iter().flatten().flatten() {
        let times = wanted.entry(*first).or_default();
        *times = times.plus(1);
    }
    for runs in &mut found {
        let shared = |(first, _): &(u32, u32)| wanted.get(first).is_some_and(|times| *times > 1);
        if runs.iter().flatten().any(shared) {
            *runs = None;
        }
    }
    found
}

/// What stands behind a file, and one piece of exactly what it still lacks; or the pieces from there on, where they come to
/// that and nothing between is `doubtful`: a file that ends somewhere in what stands behind it.
fn rest(
    one: &Break,
    pieces: &[(u32, u32)],
    alone: &HashMap<u32, Option<(u32, u32)>>,
    doubtful: &[u32],
) -> Option<Runs> {
    let lacks = one.missing.minus(one.behind);
    let with =
        |more: &[(u32, u32)]| -> Runs { one.rooms().into_iter().chain(more.iter().copied()).collect() };
    if lacks == 0 {
        return Some(with(&[]));
    }
    if let Some(piece) = alone.get(&lacks).copied().flatten() {
        return Some(with(&[piece]));
    }
    let (before, behind) = pieces.split_at(pieces.partition_point(|(first, _)| *first <= one.last));
    let mut taken: Runs = Vec::new();
    let mut sum = 0_u32;
    for piece in behind.iter().chain(before).take(TRIED) {
        taken.push(*piece);
        sum = sum.plus(piece.1);
        if sum >= lacks {
            break;
        }
    }
    let (end, _) = taken.last().copied()?;
    let between = |last: &u32| {
        if end > one.last { (one.last..end).contains(last) } else { *last >= one.last || *last < end }
    };
    (sum == lacks && !doubtful.iter().any(between)).then(|| with(&taken))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn torn(last: u32, missing: u32, behind: u32) -> Break {
        Break { last, missing, behind }
    }

    #[test]
    fn lengths_tell_whose_a_piece_is_or_nobody_gets_it() {
        let nobody = |found: Vec<Option<Runs>>| found.iter().all(Option::is_none);
        // The one piece of that length, wherever it is, behind what stands there.
        let pieces = [(40, 3), (60, 5), (80, 3)];
        assert_eq!(rests(&[torn(20, 7, 2)], &[], &pieces), [Some(vec![(21, 2), (60, 5)])]);
        // Two of it: those that come next, where their lengths come to what is lacking; from the start again at the end.
        assert_eq!(rests(&[torn(20, 8, 0)], &[], &pieces), [Some(vec![(40, 3), (60, 5)])]);
        assert_eq!(rests(&[torn(70, 6, 0)], &[], &pieces), [Some(vec![(80, 3), (40, 3)])]);
        assert!(nobody(rests(&[torn(20, 7, 0)], &[], &pieces)), "they come to another sum");
        // Not past a file that ends nobody knows where; one that lies elsewhere does not matter.
        assert!(nobody(rests(&[torn(20, 8, 0)], &[torn(50, 2, 3)], &pieces)));
        assert_eq!(rests(&[torn(20, 8, 0)], &[torn(90, 2, 3)], &pieces), [Some(vec![(40, 3), (60, 5)])]);
        assert!(nobody(rests(&[torn(70, 6, 0)], &[torn(30, 2, 3)], &pieces)), "round the end");
        // What two could have neither gets, and a third one still its own.
        let all = rests(&[torn(20, 5, 0), torn(30, 5, 0), torn(70, 3, 3)], &[], &pieces);
        assert_eq!(all, [None, None, Some(vec![(71, 3)])]);
    }
}
