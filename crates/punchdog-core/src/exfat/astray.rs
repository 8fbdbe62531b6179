//! Chains of which one link is wrong and leads to a cluster that can be: past clusters of the same file, to one that is free, or
//! to what holds no folder.

use super::{
    resolve::{cut, last_of},
    sets::{Flaws, looks_like_folder},
    survey::Surveyor,
    table::Because,
    tree::Node,
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link, Walk},
        lengths::in_rows,
    },
};

/// Clusters at the end of a folder's chain that are looked at, and bytes of each.
const LOOKED_AT: usize = 4096;
const START: usize = 512;

impl Surveyor<'_> {
    /// Takes the chain of a file that is too short because one link leads past clusters of its own.
    pub(super) fn passes_over(&mut self, number: u32, node: &Node, walk: &Walk, needed: u32) -> bool {
        let short = walk.end == End::Proper && walk.meets.is_none() && walk.length < needed;
        if !short || !self.budget.spend(walk.length) {
            return false;
        }
        let mut all: Vec<u32> = walk.clusters().collect();
        let Some((kept, lost)) = self.leading_into(&all, needed) else { return false };
        let Some(first) = lost.first().copied() else { return false };
        let wrong = kept.checked_sub(1).and_then(|index| all.get(index).copied());
        let into = all.get(kept).copied().unwrap_or(node.first);
        all.truncate(kept);
        all.extend(lost);
        self.claim(number, &in_rows(all));
        match wrong {
            Some(wrong) => {
                self.out.links.believe(wrong, Link::Next(first), Because::Guess);
                self.change(number, |node| {
                    node.flaws |= Flaws::SKIPS | Flaws::GUESSED;
                    node.fault = Some((wrong, End::Another(into)));
                });
            }
            None => self.change(number, |node| {
                node.first = first;
                node.flaws |= Flaws::SKIPS | Flaws::FOUND;
            }),
        }
        true
    }

    /// Takes the chain of a file of which one link leads to a cluster that table and bitmap have free: the link is what is wrong,
    /// and that cluster not the file's, where a chain that nothing leads to has what comes instead.
    pub(super) fn led_astray(&mut self, number: u32, node: &Node, walk: &Walk, needed: u32) -> bool {
        if node.folder || !self.is_astray(walk) || walk.length > needed {
            return false;
        }
        let own = walk.length.minus(1);
        let Some(runs) = self.tail(needed.minus(own), node.first) else { return false };
        let kept = cut(&walk.runs, own);
        self.claim(number, &kept);
        self.link_on(number, last_of(&kept), &runs);
        self.change(number, |node| {
            node.flaws |= Flaws::INTO_FREE | Flaws::GUESSED;
            node.fault = Some((walk.last, End::Free));
        });
        true
    }

    /// The last link of a chain leads to a cluster that the bitmap has free as well.
    pub(super) fn is_astray(&self, walk: &Walk) -> bool {
        let free = walk.end == End::Free && walk.meets.is_none() && walk.length > 1;
        free && !self.out.used.contains(walk.last.size())
    }

    /// A folder's chain up to where a link leads to what holds no folder; where the chain has the folder's length, only if what
    /// does stands elsewhere and is nobody's. Only at its end: what lies between clusters of the folder is its own, whatever happened to it.
    pub(super) fn without_stray_end(&mut self, walk: &Walk, needed: u32) -> Option<Walk> {
        let own = walk.meets.map_or(walk.length, |(_, before)| before);
        let clusters: Vec<u32> = walk.clusters().take(own.size()).collect();
        // The rest of a set that begins in the cluster before proves that it is the folder's, whatever table and bitmap say.
        let proven = || matches!(clusters.as_slice(), [.., before, last] if self.goes_on_in(*before, *last));
        let astray = self.is_astray(walk) && !proven();
        let is_stray = |cluster: u32| astray && cluster == walk.last || !self.reads_as_folder(cluster);
        let ends = clusters.iter().skip(1).rev().take(LOOKED_AT);
        let stray = ends.take_while(|cluster| is_stray(**cluster)).count();
        let kept = clusters.len().saturating_sub(stray);
        let (last, into) = (*clusters.get(kept.checked_sub(1)?)?, *clusters.get(kept)?);
        let kept = kept.narrow();
        // A chain that fits is rather the folder's, whatever stands in it.
        let fits = walk.end == End::Proper && walk.meets.is_none() && walk.length == needed;
        let strays = kept < needed && stray < LOOKED_AT && (!fits || self.goes_on_elsewhere(last));
        strays.then(|| Walk {
            runs: cut(&walk.runs, kept),
            length: kept,
            end: End::Another(into),
            last,
            disputed: walk.disputed,
            meets: None,
        })
    }

    /// Entries stand at the beginning of a cluster, or nothing.
    fn reads_as_folder(&self, cluster: u32) -> bool {
        let start = self.medium.lenient(self.out.geometry.cluster_place(cluster), START).bytes;
        start.byte(0) == 0 || looks_like_folder(&start, false)
    }
}
