//! Cluster chains, as FAT and exFAT have them: what a table entry says, and walking from entry to
//! entry until a chain ends, breaks, meets another or bites its tail.

use crate::{arith::Sat, cluster::set::ClusterSet};
use std::cell::Cell;

/// What a table entry says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    /// The cluster is free.
    Free,
    /// The chain goes on in this cluster.
    Next(u32),
    /// The chain ends here.
    End,
    /// The cluster is marked bad.
    Bad,
    /// A value that means nothing in this volume: 1, a reserved value, or out of range.
    Odd(u32),
    /// The entry cannot be read.
    Unreadable,
}

impl Link {
    /// True for a value that a chain can have at this place.
    #[inline]
    pub fn in_chain(self) -> bool {
        matches!(self, Self::Next(_) | Self::End)
    }
}

/// How a chain ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// At an end mark.
    Proper,
    /// In a cluster that is free.
    Free,
    /// In a cluster that is marked bad.
    Bad,
    /// At a value that means nothing.
    Odd(u32),
    /// In a cluster of its own.
    Loop(u32),
    /// At an entry that cannot be read.
    Unreadable,
    /// In a cluster of another chain.
    Another(u32),
}

/// `count` clusters in a row from `first` on. Numbers from a disk can be anything: what would be more
/// than the largest number is left out.
#[inline]
pub(crate) fn run_of(first: u32, count: u32) -> std::ops::Range<u32> {
    first..first.plus(count)
}

/// Clusters and those that each is exchanged for, as pieces that go on together: first cluster, its
/// counterpart, and how many follow.
pub(crate) fn alongside(one: &[u32], other: impl IntoIterator<Item = u32>) -> Vec<(u32, u32, u32)> {
    let mut pieces: Vec<(u32, u32, u32)> = Vec::new();
    for (from, to) in one.iter().copied().zip(other) {
        match pieces.last_mut() {
            Some((first, second, count)) if first.plus(*count) == from && second.plus(*count) == to => {
                *count = count.plus(1);
            }
            _ => pieces.push((from, to, 1)),
        }
    }
    pieces
}

/// A chain as it was walked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Walk {
    /// First cluster and number of clusters of each piece.
    pub runs: Vec<(u32, u32)>,
    /// Clusters.
    pub length: u32,
    /// How it ends.
    pub end: End,
    /// The last cluster walked.
    pub last: u32,
    /// It passes a cluster about which the copies differ.
    pub disputed: bool,
    /// The first cluster that another chain has claimed, and how many clusters came before it.
    pub meets: Option<(u32, u32)>,
}

impl Walk {
    /// The clusters, in order.
    #[inline]
    pub fn clusters(&self) -> impl Iterator<Item = u32> + '_ {
        self.runs.iter().flat_map(|(start, length)| run_of(*start, *length))
    }
    fn push(&mut self, cluster: u32) {
        self.length = self.length.plus(1);
        self.last = cluster;
        match self.runs.last_mut() {
            Some((start, length)) if start.plus(*length) == cluster => *length = length.plus(1),
            _ => self.runs.push((cluster, 1)),
        }
    }
}

/// Walks the chain from `first`, asking `link` for each entry. `seen` is scratch space, one bit a
/// cluster, clear before and after.
pub fn walk(
    first: u32,
    claimed: &ClusterSet,
    seen: &mut ClusterSet,
    mut link: impl FnMut(u32) -> (Link, bool),
) -> Walk {
    let mut walk =
        Walk { runs: Vec::new(), length: 0, end: End::Proper, last: first, disputed: false, meets: None };
    let mut at = first;
    loop {
        if walk.meets.is_none() && claimed.contains(at.size()) {
            walk.meets = Some((at, walk.length));
        }
        let (found, disputed) = link(at);
        walk.disputed |= disputed;
        seen.insert(at.size());
        walk.push(at);
        match found {
            Link::Next(next) if seen.contains(next.size()) => {
                walk.end = End::Loop(next);
                break;
            }
            Link::Next(next) => at = next,
            Link::End => break,
            Link::Free => {
                walk.end = End::Free;
                break;
            }
            Link::Bad => {
                walk.end = End::Bad;
                break;
            }
            Link::Odd(value) => {
                walk.end = End::Odd(value);
                break;
            }
            Link::Unreadable => {
                walk.end = End::Unreadable;
                break;
            }
        }
    }
    for (start, length) in &walk.runs {
        let from = start.size();
        seen.remove_range(from..from.plus(length.size()));
    }
    walk
}

/// What the chain from `first` has of its own: it ends with the first cluster that is `claimed`.
pub fn walk_own(
    first: u32,
    claimed: &ClusterSet,
    seen: &mut ClusterSet,
    mut link: impl FnMut(u32) -> (Link, bool),
) -> Walk {
    walk(first, claimed, seen, |cluster| {
        if claimed.contains(cluster.size()) { (Link::End, false) } else { link(cluster) }
    })
}

/// How often each cluster may be gone through, on average.
const TIMES: u64 = 64;

/// Steps that a survey may take along chains. Sound volumes and honest damage need a few for each
/// cluster; a volume that is made so that a million entries name one long chain would be walked for
/// days.
pub struct Budget(Cell<u64>);

impl Budget {
    /// Steps for a volume of so many clusters.
    #[inline]
    pub fn new(clusters: u32) -> Self {
        Self(Cell::new(clusters.wide().times(TIMES).plus(1 << 24)))
    }
    /// Takes `steps` steps; false when there are no more.
    #[inline]
    pub fn spend(&self, steps: u32) -> bool {
        let left = self.0.get().checked_sub(steps.wide());
        self.0.set(left.unwrap_or(0));
        left.is_some()
    }
}

/// Seams of a rebuilt chain that are told.
const SEAMS: usize = 4;

/// In words where a rebuilt chain goes on by judgement. `runs` are first cluster and length of its pieces, in order;
/// `guesses` gives the clusters of a range, in order, of which what follows was judged. Where it is `short`, the end
/// was judged too. `None` where nothing was.
pub(crate) fn basis(
    runs: &[(u32, u32)],
    short: bool,
    mut guesses: impl FnMut(std::ops::Range<u32>) -> Vec<u32>,
) -> Option<String> {
    let mut seams = Vec::new();
    for (number, (start, count)) in runs.iter().enumerate() {
        let last = start.plus(*count).minus(1);
        let mut judged = guesses(run_of(*start, *count));
        let at_end = judged.pop_if(|cluster| *cluster == last).is_some();
        match judged.as_slice() {
            [] => {}
            [first] => seams.push(format!("the cluster behind cluster {first}, which is no other file's")),
            [first, ..] => seams.push(format!(
                "the {} clusters behind cluster {first}, which are no other file's",
                judged.len()
            )),
        }
        match runs.get(number.plus(1)) {
            Some((next, 1)) if at_end => seams.push(format!("cluster {next}, which no file claimed")),
            Some((next, _)) if at_end => {
                seams.push(format!("a chain that no file claimed, from cluster {next} on"));
            }
            None if at_end && short => {
                seams.push(format!("an end at cluster {last}, behind which nothing fits"));
            }
            _ => {}
        }
    }
    let more = seams.len().minus(SEAMS);
    seams.truncate(SEAMS);
    if more > 0 {
        seams.push(format!("{more} more"));
    }
    (!seams.is_empty()).then(|| seams.join("; then "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seams_are_told_in_order() {
        let judged = [4_u32, 5, 6, 20, 31];
        let basis = |runs: &[(u32, u32)]| {
            basis(runs, runs.len() == 1, |range| {
                judged.iter().copied().filter(|cluster| range.contains(cluster)).collect()
            })
        };
        assert_eq!(basis(&[(10, 5)]), None);
        assert_eq!(
            basis(&[(3, 4), (50, 2)]).unwrap(),
            "the 2 clusters behind cluster 4, which are no other file's; then a chain that no file claimed, from cluster 50 on"
        );
        assert_eq!(basis(&[(20, 2)]).unwrap(), "the cluster behind cluster 20, which is no other file's");
        assert_eq!(basis(&[(30, 2)]).unwrap(), "an end at cluster 31, behind which nothing fits");
    }
}
