//! Settling chains that do not fit as they stand.
//!
//! In the order of certainty: another copy of the table has a chain that fits; the size says where
//! the chain must end; a chain that nobody claims has exactly the missing length; the clusters
//! behind the fault are free of other owners. What remains is kept as far as it goes.

mod astray;
mod files;
mod folders;
mod left_over;
mod rivals;
mod seam;
mod share_out;
mod sizes;

use super::{
    folder::{Flaws, looks_like_folder},
    layout::{END_ENTRY, ENTRY_BYTES},
    survey::Surveyor,
};
use crate::arith::{Peek, Sat};
use crate::cluster::chain::{End, Walk};

/// How badly it ends and in how many runs it lies, the walk itself, and which copy answered for
/// each disputed cluster.
type Mixture = ((bool, usize), Walk, Vec<(u32, u32)>);

/// Clusters of a disputed folder whose content is looked at.
const LOOKED_AT: usize = 64;

fn flaw_of(end: End) -> Flaws {
    match end {
        End::Proper | End::Another(_) => Flaws::default(),
        End::Free => Flaws::INTO_FREE,
        End::Bad => Flaws::INTO_BAD,
        End::Odd(_) | End::Unreadable => Flaws::INTO_RANGE,
        End::Loop(_) => Flaws::LOOP,
    }
}

impl Surveyor<'_> {
    /// Settles every waiting node for which one copy of the table, or a mixture of them, has a
    /// chain that fits. True when a folder was among them: it has to be read first.
    pub(in crate::fat) fn settle_by_copies(&mut self) -> bool {
        let mut folders = false;
        let mut newly_met = std::mem::take(&mut self.newly_met);
        // Folders first: their clusters are certain by their content.
        newly_met.sort_by_key(|number| self.node(*number).is_none_or(|node| !node.folder));
        for number in newly_met {
            let folder = self.node(number).is_some_and(|node| node.folder);
            if self.settle_one_by_copies(number) {
                folders |= folder;
                self.lost = None;
            } else if folder {
                self.waiting_folders.push_back(number);
            } else {
                self.waiting_files.push(number);
            }
        }
        folders
    }

    fn settle_one_by_copies(&mut self, number: u32) -> bool {
        let Some(node) = self.node(number).filter(|node| self.geometry.has(node.first)) else { return false };
        let (first, tables) = (node.first, self.geometry.tables);
        let plain = self.walk(first);
        if !plain.disputed {
            return false;
        }
        // Each copy alone; then the copies mixed, entry by entry, in every order of preference.
        let mut best: Option<Mixture> = None;
        for prefer in 0..tables {
            for mixed in [false, true] {
                let mut chosen = Vec::new();
                let walk = self.walk_by(first, |links, medium, cluster| {
                    if !links.differs(cluster) {
                        return links.get(medium, cluster);
                    }
                    let order = (0..tables).map(|step| prefer.plus(step).rest(tables));
                    let pick = order
                        .take(if mixed { tables.size() } else { 1 })
                        .find(|copy| !mixed || links.in_copy(medium, *copy, cluster).in_chain())
                        .unwrap_or(prefer);
                    chosen.push((cluster, pick));
                    links.in_copy(medium, pick, cluster)
                });
                if self.fits(number, &walk) {
                    let rank = (self.ends_in_the_middle(number, &walk), walk.runs.len());
                    if best.as_ref().is_none_or(|(other, ..)| rank < *other) {
                        best = Some((rank, walk, chosen));
                    }
                }
            }
        }
        let Some((_, walk, chosen)) = best else { return false };
        for (cluster, copy) in &chosen {
            self.links.decide(self.medium, *cluster, *copy);
        }
        if chosen.iter().any(|(_, copy)| *copy != 0) {
            self.change(number, |node| node.flaws.set(Flaws::OTHER_COPY));
        }
        self.claim(number, &walk);
        true
    }

    /// True when `walk` is all that node `number` could ask for.
    fn fits(&self, number: u32, walk: &Walk) -> bool {
        let Some(node) = self.node(number) else { return false };
        if walk.end != End::Proper || walk.meets.is_some() {
            return false;
        }
        if !node.folder {
            return walk.length == self.geometry.clusters_for(node.size());
        }
        let starts = number == 0 || self.is_folder_start(node.first);
        starts && walk.clusters().skip(1).take(LOOKED_AT).all(|cluster| self.goes_on_as_folder(cluster))
    }

    /// True for a folder whose last cluster has no end mark, or an earlier one has: a chain that
    /// was cut or joined, unless the folder happens to fill its clusters exactly.
    fn ends_in_the_middle(&self, number: u32, walk: &Walk) -> bool {
        let folder = self.node(number).is_some_and(|node| node.folder);
        let first = walk.clusters().take(LOOKED_AT).position(|cluster| self.holds_end_mark(cluster));
        folder && first.map(Sat::narrow) != Some(walk.length.minus(1))
    }

    fn cluster(&self, cluster: u32) -> Vec<u8> {
        self.medium.lenient(self.geometry.cluster_offset(cluster), self.geometry.cluster_bytes().size()).bytes
    }

    /// True when the cluster can be a later one of a folder: entries, and no "." in front.
    fn goes_on_as_folder(&self, cluster: u32) -> bool {
        let bytes = self.cluster(cluster);
        !bytes.starts_with(&super::names::DOT) && looks_like_folder(&bytes, self.geometry.bounds(), true)
    }

    pub(in crate::fat) fn holds_end_mark(&self, cluster: u32) -> bool {
        let bytes = self.cluster(cluster);
        bytes.chunks_exact(ENTRY_BYTES).any(|entry| entry.byte(0) == END_ENTRY)
    }

    /// Finds everyone who has a part in shared clusters.
    pub(in crate::fat) fn mark_crossed(&mut self) {
        if self.shared.is_empty() {
            return;
        }
        for number in 0..self.tree.nodes.len().narrow() {
            let Some((first, length)) = self.node(number).map(|node| (node.first, node.length)) else {
                continue;
            };
            if length == 0 {
                continue;
            }
            let clusters = super::survey::chain(self.medium, &mut self.links, first, length);
            if clusters.iter().any(|cluster| self.shared.contains(cluster.size())) {
                self.change(number, |node| node.flaws.set(Flaws::CROSSED));
            }
        }
    }
}

/// Keeps the first `length` clusters of a walk.
fn cut(walk: &mut Walk, length: u32) {
    let mut left = length;
    walk.runs.retain_mut(|(_, count)| {
        *count = (*count).min(left);
        left = left.minus(*count);
        *count > 0
    });
    walk.length = length.min(walk.length);
    if let Some((start, count)) = walk.runs.last() {
        walk.last = start.plus(*count).minus(1);
    }
    walk.meets = None;
}
