//! Two files whose sets name one first cluster: one of the two was struck.
//!
//! The one that was read first has the clusters. Where their content ends as the length of the other says, and not as its own,
//! they are the other one's, and it gets what is nobody's and fits it.

use super::{sets::Flaws, survey::Surveyor, tree::Node};
use crate::arith::Sat;

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
        // What it has by a guess, or with a third, is no ground to stand on.
        let doubtful = had.flaws.intersects(Flaws::CROSSED | Flaws::GUESSED | Flaws::FOUND);
        if doubtful || !self.budget.spend(needed) || !self.budget.spend(had.length) {
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
