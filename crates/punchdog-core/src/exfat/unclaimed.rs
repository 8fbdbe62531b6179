//! Clusters that are in use and nobody's yet: where the missing parts of broken files are looked for.
//!
//! They are gone through once for all the files that wait, and not once for each: with a damaged
//! table there can be as many of the one as of the other.

use super::{
    sets::{begins_with_set, looks_like_folder},
    survey::{Surveyor, extents_of},
    tree::Node,
};
use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Link, run_of},
        lengths::Runs,
        set::ClusterSet,
        skipped,
    },
    files::{end, kinds},
};
use std::collections::HashMap;

/// Unclaimed clusters that are gone through.
const LISTED: usize = 1 << 20;
/// First bytes that are looked at to find out whose a cluster may be.
const LOOKS: u32 = 1 << 20;

/// Runs or chains that are held against one file.
const CONTENTS: usize = 8;

/// Where something begins that is in use and nobody's.
pub(super) struct Unclaimed {
    /// Chains to which nothing leads, by their length.
    chains: HashMap<u32, Vec<Runs>>,
    /// Clusters of which the table says nothing, and to which nothing leads.
    rows: Vec<u32>,
    looks: u32,
}

impl Surveyor<'_> {
    /// In use by the bitmap, and nobody's.
    pub(super) fn is_unclaimed(&self, cluster: u32) -> bool {
        self.out.used.contains(cluster.size()) && !self.out.claimed.contains(cluster.size())
    }

    /// True when `count` clusters from `first` on are open.
    pub(super) fn all_unclaimed(&self, first: u32, count: u32) -> bool {
        self.out.geometry.has(first)
            && first.wide().plus(count.wide()) <= self.out.geometry.last_cluster().wide().plus(1)
            && self.budget.spend(count)
            && run_of(first, count).all(|cluster| self.is_unclaimed(cluster))
    }

    /// The open clusters, and those to which another of them leads: a bit each. What is marked bad holds nothing.
    pub(super) fn pointed(&mut self) -> (ClusterSet, ClusterSet) {
        let mut open = self.out.used.clone();
        open.difference_with(&self.out.claimed);
        let mut pointed = ClusterSet::with_capacity(open.len());
        let mut bad = ClusterSet::with_capacity(open.len());
        for cluster in open.ones().map(Sat::narrow) {
            match self.out.links.get(self.medium, cluster) {
                Link::Next(next) => pointed.insert(next.size()),
                Link::Bad => bad.insert(cluster.size()),
                _ => {}
            }
        }
        open.difference_with(&bad);
        (open, pointed)
    }

    fn index(&mut self) -> Unclaimed {
        if let Some(open) = self.open.take() {
            return open;
        }
        let (clusters, pointed) = self.pointed();
        let mut open = Unclaimed { chains: HashMap::new(), rows: Vec::new(), looks: LOOKS };
        let heads = clusters.difference(&pointed).map(Sat::narrow).take(LISTED);
        for cluster in heads {
            if !self.out.links.get(self.medium, cluster).in_chain() {
                open.rows.push(cluster);
                continue;
            }
            let walk = self.walk(cluster, None);
            if walk.end == End::Proper && walk.meets.is_none() {
                open.chains.entry(walk.length).or_default().push(walk.runs);
            }
        }
        open
    }

    fn still_open(&self, runs: &Runs) -> bool {
        runs.iter().all(|(first, count)| self.all_unclaimed(*first, *count))
    }

    /// The one chain of exactly `length` open clusters to which nothing leads, other than that from `own` on. What begins
    /// another that waits is that one's.
    pub(super) fn tail(&mut self, length: u32, own: u32) -> Option<Runs> {
        let mut open = self.index();
        let mut found = self.chains(open.chains.get_mut(&length), |this, first| {
            first != own && !this.heads.contains(first.size())
        });
        self.open = Some(open);
        found.pop().filter(|_| found.is_empty())
    }

    /// A chain to which nothing leads, and that goes on with the last clusters of `own`, where both together have `needed`
    /// clusters: how many of `own` stand before it, and its clusters. Only if there is one.
    pub(super) fn leading_into(&mut self, own: &[u32], needed: u32) -> Option<(usize, Vec<u32>)> {
        let last = own.last().copied()?;
        let open = self.index();
        let mut found = Vec::new();
        for length in skipped::lengths(own.len().narrow(), needed) {
            let Some(list) = open.chains.get(&length) else { continue };
            if !self.budget.spend(list.len().narrow()) {
                break;
            }
            let same_end = |runs: &&Runs| {
                runs.last().is_some_and(|(first, count)| run_of(*first, *count).last() == Some(last))
            };
            let waits =
                |runs: &&Runs| runs.first().is_none_or(|(first, _)| self.heads.contains(first.size()));
            for runs in
                list.iter().filter(|runs| !waits(runs)).filter(same_end).filter(|runs| self.still_open(runs))
            {
                let lost: Vec<u32> = runs.iter().flat_map(|(first, count)| run_of(*first, *count)).collect();
                found.extend(skipped::kept(own, &lost, needed).map(|kept| (kept, lost)));
            }
        }
        self.open = Some(open);
        found.pop().filter(|_| found.is_empty())
    }

    /// A few of `list` that are still open and suit; what is not open any more is dropped.
    fn chains(&self, list: Option<&mut Vec<Runs>>, mut suits: impl FnMut(&Self, u32) -> bool) -> Vec<Runs> {
        let Some(list) = list else { return Vec::new() };
        list.retain(|runs| runs.first().is_some_and(|(first, _)| self.is_unclaimed(*first)));
        let fits = |runs: &&Runs| {
            self.still_open(runs) && runs.first().is_some_and(|(first, _)| suits(self, *first))
        };
        list.iter().filter(fits).take(CONTENTS).cloned().collect()
    }

    /// The one run or chain of exactly `needed` open clusters whose content can be this node's: the only one that does not end
    /// elsewhere than its length says, or the only one that ends there.
    pub(super) fn fit(&mut self, node: &Node, needed: u32) -> Option<Runs> {
        let mut open = self.index();
        let mut found = if node.row {
            self.rows(&mut open, node, needed)
        } else {
            let looks = &mut open.looks;
            self.chains(open.chains.get_mut(&needed), |this, first| this.suits(node, first, looks))
        };
        self.open = Some(open);
        if found.len() == CONTENTS {
            return None;
        }
        if !node.folder {
            end::likeliest(&mut found, |runs| self.ends(node, runs));
        }
        found.pop().filter(|_| found.is_empty())
    }

    /// Whether the content of these clusters ends where that of a file of this length does.
    pub(super) fn ends(&self, node: &Node, runs: &[(u32, u32)]) -> Option<bool> {
        let geometry = &self.out.geometry;
        self.ends.is_at(
            self.medium,
            &extents_of(geometry, runs),
            geometry.cluster_bytes(),
            node.stream.length,
        )
    }

    fn rows(&self, open: &mut Unclaimed, node: &Node, needed: u32) -> Vec<Runs> {
        open.rows.retain(|cluster| self.is_unclaimed(*cluster));
        let mut found = Vec::new();
        for cluster in &open.rows {
            // Behind another open cluster only what has a mark of its own begins something.
            let inside = self.is_unclaimed(cluster.minus(1))
                && !node.folder
                && !self.marked(node, *cluster, &mut open.looks);
            if !inside && self.all_unclaimed(*cluster, needed) && self.suits(node, *cluster, &mut open.looks)
            {
                found.push(vec![(*cluster, needed)]);
                if found.len() == CONTENTS {
                    break;
                }
            }
        }
        found
    }

    fn start(&self, cluster: u32, looks: &mut u32) -> Option<Vec<u8>> {
        *looks = looks.checked_sub(1)?;
        Some(self.medium.lenient(self.out.geometry.cluster_place(cluster), 512).bytes)
    }

    /// The cluster begins as the node's kind does.
    fn marked(&self, node: &Node, cluster: u32, looks: &mut u32) -> bool {
        self.start(cluster, looks).is_some_and(|start| kinds::agrees(&node.name, &start) == Some(true))
    }

    /// The cluster can be the node's first.
    fn suits(&self, node: &Node, cluster: u32, looks: &mut u32) -> bool {
        self.start(cluster, looks).is_some_and(|start| {
            if node.folder {
                begins_with_set(&start, &self.out.capitals)
            } else {
                kinds::agrees(&node.name, &start).unwrap_or_else(|| !looks_like_folder(&start, true))
            }
        })
    }
}
