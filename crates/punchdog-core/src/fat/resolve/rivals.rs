//! Two files whose entries name one first cluster: one of the two was struck.
//!
//! Where both need as many clusters as the chain has, the one that was read first has them. Where their content ends as the
//! size of the other says, and not as its own, they are the other one's, if there is a lost chain for the first.

use crate::{
    arith::Sat,
    cluster::chain::Walk,
    fat::{folder::Flaws, survey::Surveyor, tree::Node},
    medium::Extent,
};

impl Surveyor<'_> {
    /// Gives the file the chain that another had, if it is rather its own; true where that settles it.
    pub(super) fn rivals(&mut self, number: u32, node: &Node, walk: &Walk) -> bool {
        let nodes = self.tree.nodes.len().narrow();
        if !self.budget.spend(nodes) {
            return false;
        }
        let same = |other: &Node| !other.folder && other.length > 0 && other.first == node.first;
        let mut all = (0_u32..).zip(&self.tree.nodes);
        let rival = all.find(|(other, had)| *other != number && same(had));
        let Some((other, had)) = rival.map(|(other, had)| (other, had.clone())) else { return false };
        let needed = self.geometry.clusters_for(had.size());
        // What it has by a guess, or with a third, is no ground to stand on.
        let doubtful = Flaws::CROSSED.with(Flaws::MET).with(Flaws::GUESSED).with(Flaws::FIRST_FOUND);
        if had.flaws.any(doubtful)
            || needed != had.length
            || self.ends(node, walk) != Some(true)
            || self.ends(&had, walk) == Some(true)
            || !self.begin_at_lost(other, &had, needed)
        {
            return false;
        }
        self.change(other, |node| node.flaws.set(Flaws::MET));
        self.change(number, |node| node.length = walk.length);
        true
    }

    /// Whether the content of these clusters ends where that of a file of this size does.
    pub(super) fn ends(&self, node: &Node, walk: &Walk) -> Option<bool> {
        let extents: Vec<Extent> = walk.runs.iter().map(|run| self.extent(*run)).collect();
        self.ends.is_at(self.medium, &extents, self.geometry.cluster_bytes().wide(), node.size().wide())
    }
}
