//! Two files that can have the same clusters: one of the two was struck, its set or a link of its chain.
//!
//! The one that was read first has the clusters. Where their content ends as the length of the other says, and not as its own,
//! they are the other one's, and it gets what is nobody's and fits it.

use super::{resolve::cut, sets::Flaws, survey::Surveyor, tree::Node};
use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Walk, run_of},
        lengths::Runs,
        skipped::before_tail,
    },
};

/// What a file is no ground to stand on with: a guess, or clusters that it has with a third.
const DOUBTFUL: Flaws = Flaws::CROSSED.union(Flaws::GUESSED).union(Flaws::FOUND);

impl Surveyor<'_> {
    /// Gives the file the clusters that another had, if they are rather its own; true where that settles it.
    pub(super) fn rivals(&mut self, number: u32, node: &Node, needed: u32) -> bool {
        let nodes = self.out.tree.nodes.len().narrow();
        if node.folder || !self.budget.spend(nodes) {
            return false;
        }
        let same = |other: &Node| !other.folder && other.length > 0 && other.first == node.first;
        let rival = self.out.tree.below_root().find(|(other, had)| *other != number && same(had));
        let Some((other, had)) = rival.map(|(other, had)| (other, had.clone())) else { return false };
        if had.flaws.intersects(DOUBTFUL) || !self.budget.spend(needed) || !self.budget.spend(had.length) {
            return false;
        }
        let said = self.out.runs(self.medium, node.first, needed, node.row);
        let theirs = self.out.runs(self.medium, had.first, had.length, had.row);
        if self.ends(node, &said) != Some(true) || self.ends(&had, &theirs) == Some(true) {
            return false;
        }
        self.release(other, &theirs);
        self.claim(number, &said);
        self.change(other, |node| {
            node.fault = None;
            node.flaws |= Flaws::CROSSED;
        });
        let needed = had.needed(&self.out.geometry).min(u32::MAX.wide()).narrow();
        match self.fit(&had, needed) {
            Some(runs) => self.take_found(other, &runs),
            None => self.claim(other, &theirs),
        }
        true
    }

    /// Gives the file the end of its chain, into which another one leads that fits its length with it too, if that is rather its
    /// own; the other one goes on with what is nobody's. True where that settles it.
    pub(super) fn rival_tails(&mut self, number: u32, node: &Node, walk: &Walk, needed: u32) -> bool {
        let Some((into, before)) = walk.meets else { return false };
        let fits = walk.end == End::Proper && walk.length == needed && (1..needed).contains(&before);
        if node.folder || !fits || !self.budget.spend(needed) {
            return false;
        }
        let shared = needed.minus(before);
        let Some(lost) = self.tail(shared, 0) else { return false };
        let Some((other, theirs)) = self.holder(into) else { return false };
        let Some(had) = self.node(other).cloned().filter(|had| !had.flaws.intersects(DOUBTFUL)) else {
            return false;
        };
        let all: Vec<u32> = theirs.iter().flat_map(|(first, count)| run_of(*first, *count)).collect();
        let Some((kept, wrong)) = before_tail(&all, into, shared).filter(|_| !had.row) else { return false };
        let (said, good) = (cut(&walk.runs, needed), cut(&theirs, kept.narrow()));
        let otherwise: Runs = good.iter().chain(&lost).copied().collect();
        let told = self.ends(node, &said) == Some(true) || self.ends(&had, &otherwise) == Some(true);
        if !told || self.ends(&had, &theirs) == Some(true) {
            return false;
        }
        self.release(other, &theirs);
        self.claim(other, &good);
        self.link_on(other, wrong, &lost);
        self.change(other, |node| {
            node.flaws |= Flaws::CROSSED | Flaws::GUESSED;
            node.fault = Some((wrong, End::Another(into)));
        });
        self.claim(number, &said);
        true
    }

    /// The file that has a cluster, and all that it has; not told any more after a few searches.
    fn holder(&mut self, cluster: u32) -> Option<(u32, Runs)> {
        self.searches = self.searches.checked_sub(1)?;
        let files = self.out.tree.below_root().filter(|(_, node)| !node.folder && node.length > 0);
        let files: Vec<(u32, u32, u32, bool)> =
            files.map(|(number, node)| (number, node.first, node.length, node.row)).collect();
        files.into_iter().find_map(|(number, first, length, row)| {
            let runs = self.budget.spend(length).then(|| self.out.runs(self.medium, first, length, row))?;
            let has = runs.iter().any(|(first, count)| run_of(*first, *count).contains(&cluster));
            has.then_some((number, runs))
        })
    }

    /// Takes from a file the clusters that it has; what others have of them stays theirs.
    fn release(&mut self, number: u32, runs: &[(u32, u32)]) {
        let end = self.out.claimed.len();
        for (first, count) in runs {
            let range = first.size()..first.plus(*count).size().min(end);
            if !range.is_empty() {
                self.out.claimed.remove_range(range);
            }
        }
        self.change(number, |node| node.length = 0);
        let crossed = |(_, node): &(u32, &Node)| node.flaws.contains(Flaws::CROSSED);
        let others: Vec<u32> = self.out.tree.below_root().filter(crossed).map(|(other, _)| other).collect();
        for other in others {
            let Some(node) = self.node(other) else { continue };
            let (first, length, row) = (node.first, node.length, node.row);
            if !self.budget.spend(length) {
                return;
            }
            let runs = self.out.runs(self.medium, first, length, row);
            self.change(other, |node| node.length = 0);
            self.claim(other, &runs);
        }
    }
}
