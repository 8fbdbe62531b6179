//! Files whose chains break off where the table says nothing: what is in use and nobody's is shared out among them.
//!
//! ```text
//! A ▮▮▮▮ what the table still has · ░░ in use and nobody's, right behind it · ▒▒▒ elsewhere, and of nobody either
//! ```
//!
//! Hosts write NoFatChain for what lies in a row (section 6.3.4.2), so that a file with a chain mostly lies in pieces. One
//! that is as long as what stands behind it ends there; one that needs more has the pieces whose lengths come to what it lacks.
//! Where several can have the same clusters, and their content does not tell, none of them gets them.

use super::{
    resolve::flaw_of,
    sets::Flaws,
    survey::{Surveyor, extents_of},
    table::Because,
    unclaimed::Runs,
};
use crate::{
    arith::Sat,
    cluster::chain::{End, Link, run_of},
    files::{end, kinds},
    medium::Extent,
};
use std::collections::{HashMap, HashSet};

/// Pieces of other length than one that are tried for a file.
const TRIED: usize = 4096;

/// Turns in which what one file has decides between others.
const TURNS: usize = 64;

/// A file whose chain breaks off.
struct Torn {
    number: u32,
    /// What the table has of it.
    own: Runs,
    last: u32,
    /// How the chain breaks off there.
    end: End,
    /// Clusters that it lacks.
    missing: u32,
    /// Clusters in use and nobody's right behind the last one.
    behind: u32,
}

impl Torn {
    fn room(&self) -> (u32, u32) {
        (self.last.plus(1), self.behind.min(self.missing))
    }
    /// The same where there is any.
    fn behind(&self) -> Runs {
        Some(self.room()).filter(|(_, count)| *count > 0).into_iter().collect()
    }
}

impl Surveyor<'_> {
    /// True for a cluster in use, nobody's, and not the first one of something that waits.
    pub(super) fn is_open(&self, cluster: u32) -> bool {
        self.is_unclaimed(cluster) && !self.heads.contains(cluster.size())
    }

    /// Settles what can be settled only together; gives what is left of `files`.
    pub(super) fn share_out(&mut self, files: Vec<u32>) -> Vec<u32> {
        let mut torn: Vec<Torn> = files.iter().filter_map(|number| self.torn(*number)).collect();
        for (first, count) in torn.iter().flat_map(|one| &one.own) {
            self.heads.insert_range(first.size()..first.plus(*count).size());
        }
        self.look_behind(&mut torn);
        torn.retain(|one| one.behind != one.missing);
        if !torn.iter().any(|one| one.behind < one.missing) {
            return files;
        }
        // What fits exactly where it stands comes first, and what else can be settled alone.
        let mut settled = HashSet::new();
        let together: HashSet<u32> = torn.iter().map(|one| one.number).collect();
        for number in files.iter().filter(|number| !together.contains(number)) {
            self.resolve_one(*number);
            self.settle(*number);
            settled.insert(*number);
        }
        // That may have taken some of what stands behind these.
        self.look_behind(&mut torn);
        let (mut short, mut long): (Vec<Torn>, Vec<Torn>) =
            torn.into_iter().partition(|one| one.behind <= one.missing);
        for one in &long {
            let extents = self.extents_with(one, &[one.room()]);
            if self.is_told(one, &extents) {
                self.give(one, &[one.room()]);
                settled.insert(one.number);
            }
        }
        long.retain(|one| !settled.contains(&one.number));
        let mut pieces = self.free_pieces(&short, &long);
        for _ in 0..TURNS {
            pieces.retain(|(first, _)| self.is_open(*first));
            let found = rests(&short, &long, &pieces);
            for (one, runs) in short.iter().zip(&found) {
                if let Some(runs) = runs {
                    self.give(one, runs);
                    settled.insert(one.number);
                }
            }
            let before = short.len();
            short.retain(|one| !settled.contains(&one.number));
            if short.len() == before || self.watch.stop() {
                break;
            }
        }
        if !short.is_empty() {
            // Somebody lacks what another could have as well.
            for one in short.iter().chain(&long) {
                let room = if one.behind <= one.missing { one.behind() } else { Vec::new() };
                self.give(one, &room);
                settled.insert(one.number);
            }
        }
        files.into_iter().filter(|number| !settled.contains(number)).collect()
    }

    fn torn(&mut self, number: u32) -> Option<Torn> {
        let node = self.node(number).cloned()?;
        let needed = node.needed(&self.out.geometry);
        let chained = !node.folder && !node.row && self.out.geometry.has(node.first);
        if !chained || needed < 2 || needed > self.out.geometry.clusters.wide() {
            return None;
        }
        let needed = needed.narrow();
        let walk = self.chain_of(node.first, needed);
        let breaks = matches!(walk.end, End::Free | End::Proper)
            && walk.meets.is_none()
            && walk.length > 0
            && walk.length < needed;
        if !breaks {
            return None;
        }
        // TexFAT: the other table may have it whole.
        if self.out.geometry.tables == 2 {
            let other = self.walk(node.first, Some(1_usize.minus(self.out.links.active())));
            if other.end == End::Proper && other.meets.is_none() && other.length == needed {
                return None;
            }
        }
        let missing = needed.minus(walk.length);
        if self.tail(missing).is_some() {
            return None;
        }
        Some(Torn { number, own: walk.runs, last: walk.last, end: walk.end, missing, behind: 0 })
    }

    /// True for an open cluster of which the table says nothing.
    fn is_silent(&mut self, cluster: u32) -> bool {
        self.is_open(cluster)
            && match self.out.links.get(self.medium, cluster) {
                Link::Free | Link::Odd(_) | Link::Unreadable => true,
                Link::End => self.out.links.is_erased(self.medium, cluster),
                Link::Next(_) | Link::Bad => false,
            }
    }

    /// Counts the clusters right behind each that can be its own, and one more.
    fn look_behind(&mut self, torn: &mut [Torn]) {
        for one in torn {
            let room = self.out.geometry.last_cluster().minus(one.last);
            let row = run_of(one.last.plus(1), room.min(one.missing.plus(1)));
            one.behind = row.take_while(|cluster| self.is_silent(*cluster)).count().narrow();
        }
    }

    /// Clusters in a row that are open, and right behind nothing that breaks off.
    fn free_pieces(&mut self, short: &[Torn], long: &[Torn]) -> Runs {
        let mut open = self.out.used.clone();
        open.difference_with(&self.out.claimed);
        open.difference_with(&self.heads);
        for one in short.iter().chain(long) {
            let mut at = one.last.plus(1);
            while open.contains(at.size()) {
                open.remove_range(at.size()..at.plus(1).size());
                at = at.plus(1);
            }
        }
        let mut pieces: Runs = Vec::new();
        for cluster in open.ones().map(Sat::narrow) {
            if !self.is_silent(cluster) {
                continue;
            }
            match pieces.last_mut() {
                Some((first, count)) if first.plus(*count) == cluster => *count = count.plus(1),
                _ => pieces.push((cluster, 1)),
            }
        }
        // What begins like a file is the beginning of one.
        pieces.retain(|(first, _)| kinds::extension(&self.start_of(*first)).is_none());
        pieces
    }

    fn extents_with(&self, one: &Torn, more: &[(u32, u32)]) -> Vec<Extent> {
        let runs: Runs = one.own.iter().chain(more).copied().collect();
        extents_of(&self.out.geometry, &runs)
    }

    /// The content in these ranges says that it is this file, all of it.
    fn is_told(&self, one: &Torn, extents: &[Extent]) -> bool {
        let length = self.node(one.number).map_or(0, |node| node.stream.length);
        end::proves(self.medium, extents, length)
    }

    /// Gives a file what the table has of it, and `runs`; it may lack some still.
    fn give(&mut self, one: &Torn, runs: &[(u32, u32)]) {
        let mut before = one.last;
        for cluster in runs.iter().flat_map(|(first, count)| run_of(*first, *count)) {
            self.out.links.believe(before, Link::Next(cluster), Because::Guess);
            before = cluster;
        }
        let given = runs.iter().fold(0_u32, |sum, (_, count)| sum.plus(*count));
        let whole = given >= one.missing;
        let because = if whole { Because::Guess } else { Because::Derived };
        if one.end != End::Proper || given > 0 {
            self.out.links.believe(before, Link::End, because);
        }
        self.claim(one.number, &one.own.iter().chain(runs).copied().collect::<Runs>());
        self.change(one.number, |node| {
            node.fault = (one.end != End::Proper).then_some((one.last, one.end));
            node.flaws |= flaw_of(one.end);
            node.flaws |= if given > 0 { Flaws::GUESSED } else { Flaws::empty() };
            node.flaws |= if whole { Flaws::empty() } else { Flaws::SHORT };
        });
        self.settle(one.number);
    }
}

/// What else each of `short` consists of, where lengths tell: one piece of exactly what it lacks, or those that come next.
fn rests(short: &[Torn], long: &[Torn], pieces: &[(u32, u32)]) -> Vec<Option<Runs>> {
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
    one: &Torn,
    pieces: &[(u32, u32)],
    alone: &HashMap<u32, Option<(u32, u32)>>,
    doubtful: &[u32],
) -> Option<Runs> {
    let lacks = one.missing.minus(one.behind);
    let with =
        |more: &[(u32, u32)]| -> Runs { one.behind().into_iter().chain(more.iter().copied()).collect() };
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

    /// A file that ends at cluster `last` and lacks `missing`, of which `behind` stand right there.
    fn torn(last: u32, missing: u32, behind: u32) -> Torn {
        Torn { number: last, own: vec![(last, 1)], last, end: End::Free, missing, behind }
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
