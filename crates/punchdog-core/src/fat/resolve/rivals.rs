//! Two files that can have the same clusters: one of the two was struck, its entry or a link of its chain.
//!
//! Where both need as many clusters as the chain has, the one that was read first has them. Where their content ends as the
//! size of the other says, and not as its own, they are the other one's, if there is a lost chain for the first.

use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Link, Walk, run_of},
        skipped::before_tail,
    },
    fat::{
        folder::Flaws,
        links::Because,
        survey::{Surveyor, runs},
        tree::Node,
    },
    files::kinds,
    medium::Extent,
};

/// What a file is no ground to stand on with: a guess, or clusters that it has with a third.
fn is_doubtful(node: &Node) -> bool {
    node.flaws.any(Flaws::CROSSED.with(Flaws::MET).with(Flaws::GUESSED).with(Flaws::FIRST_FOUND))
}

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
        if is_doubtful(&had)
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

    /// Gives the file the end of its chain, into which another one leads that fits its size with it too, if that is rather its
    /// own; the other one goes on with a lost chain. True where that settles it.
    pub(super) fn rival_tails(&mut self, number: u32, walk: &Walk, needed: u32) -> bool {
        let Some((into, before)) = walk.meets else { return false };
        let fits = walk.end == End::Proper && walk.length == needed && before < needed;
        if !fits || !self.budget.spend(needed) {
            return false;
        }
        let shared = needed.minus(before);
        let lost = self.with_lost(|s, lost| {
            let mut all =
                lost.of_length(shared, |head| s.is_unclaimed(head) && !s.heads.contains(head.size()));
            all.next().filter(|_| all.next().is_none())
        });
        let Some(head) = lost else { return false };
        let Some((other, theirs)) = self.holder(into) else { return false };
        let nodes = (self.node(number).cloned(), self.node(other).cloned());
        let (Some(node), Some(had)) = nodes else { return false };
        let all: Vec<u32> = theirs.iter().flat_map(|(first, count)| run_of(*first, *count)).collect();
        let Some((kept, wrong)) = before_tail(&all, into, shared).filter(|_| !is_doubtful(&had)) else {
            return false;
        };
        let tail = self.walk(head);
        let mut good = Walk { runs: theirs.clone(), ..walk.clone() };
        super::cut(&mut good, kept.narrow());
        let otherwise: Vec<(u32, u32)> = good.runs.iter().chain(&tail.runs).copied().collect();
        // An entry that names what begins as its name says is a witness of its own.
        let begins = before == 0 && kinds::agrees(&node.name, &self.cluster(into)) == Some(true);
        let told = begins
            || self.ends_in(&node, &walk.runs) == Some(true)
            || self.ends_in(&had, &otherwise) == Some(true);
        if !told || tail.meets.is_some() || self.ends_in(&had, &theirs) == Some(true) {
            return false;
        }
        for cluster in all.iter().skip(kept) {
            self.claimed.remove_range(cluster.size()..cluster.plus(1).size());
        }
        self.links.rebuild(wrong, Link::Next(head), Because::Guess);
        self.claim(other, &tail);
        self.change(other, |node| {
            node.length = kept.narrow().plus(shared);
            node.flaws.set(Flaws::MET.with(Flaws::GUESSED));
            node.fault = Some((wrong, End::Another(into)));
        });
        self.claim(number, walk);
        true
    }

    /// The file that has a cluster, and all that it has; not told any more after a few searches.
    fn holder(&mut self, cluster: u32) -> Option<(u32, Vec<(u32, u32)>)> {
        self.searches = self.searches.checked_sub(1)?;
        let files = (0_u32..).zip(&self.tree.nodes).filter(|(_, node)| !node.folder && node.length > 0);
        let files: Vec<(u32, u32, u32)> =
            files.map(|(number, node)| (number, node.first, node.length)).collect();
        files.into_iter().find_map(|(number, first, length)| {
            let runs =
                self.budget.spend(length).then(|| runs(self.medium, &mut self.links, first, length))?;
            let has = runs.iter().any(|(first, count)| run_of(*first, *count).contains(&cluster));
            has.then_some((number, runs))
        })
    }

    /// Whether the content of these clusters ends where that of a file of this size does.
    pub(super) fn ends(&self, node: &Node, walk: &Walk) -> Option<bool> {
        self.ends_in(node, &walk.runs)
    }

    fn ends_in(&self, node: &Node, runs: &[(u32, u32)]) -> Option<bool> {
        let extents: Vec<Extent> = runs.iter().map(|run| self.extent(*run)).collect();
        self.ends.is_at(self.medium, &extents, self.geometry.cluster_bytes().wide(), node.size().wide())
    }
}
