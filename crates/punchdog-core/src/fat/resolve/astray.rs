//! Chains of which one link is wrong and leads to a cluster that can be: past clusters of the same file or folder, or to what
//! holds no folder. Of a folder nothing says how long it is.

use super::folders::{HEADS, START};
use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Link, Walk},
        skipped,
    },
    fat::{
        folder::{Flaws, looks_like_folder},
        layout::{END_ENTRY, ENTRY_BYTES, FOLDER_LONGEST},
        links::Because,
        survey::{Surveyor, chain},
    },
};
use std::{cmp::Reverse, collections::HashMap};

/// Clusters at the end of a folder's chain that are looked at.
const STRAY: usize = 4096;
/// Lost chains that are held against one file, and against all folders.
const FITTING: usize = 256;
const LOOKED_AT: usize = 1024;

impl Surveyor<'_> {
    /// Takes the chain of a file that is too short because one link leads past clusters of its own.
    pub(super) fn passes_over(&mut self, number: u32, walk: &Walk, needed: u32) -> bool {
        let short = walk.end == End::Proper && walk.meets.is_none() && walk.length < needed;
        if !short || !self.budget.spend(walk.length) {
            return false;
        }
        let mut all: Vec<u32> = walk.clusters().collect();
        let first = all.first().copied();
        let heads: Vec<u32> = self.with_lost(|s, lost| {
            let open = lost.all.iter().filter(|l| l.folder_in.is_none() && l.length <= needed);
            let heads = open.map(|l| l.head).filter(|head| Some(*head) != first && s.is_unclaimed(*head));
            heads.take(FITTING).collect()
        });
        let mut found: Vec<(usize, Walk)> = Vec::new();
        for head in heads {
            let other = self.walk(head);
            let same_end = other.last == walk.last && other.end == End::Proper && other.meets.is_none();
            if same_end && other.length <= needed && self.budget.spend(other.length) {
                let lost: Vec<u32> = other.clusters().collect();
                found.extend(skipped::kept(&all, &lost, needed).map(|kept| (kept, other)));
            }
        }
        let (Some((kept, lost)), true) = (found.pop(), found.is_empty()) else { return false };
        let head = lost.clusters().next().unwrap_or_default();
        let into = all.get(kept).copied().unwrap_or(head);
        all.truncate(kept);
        if let Some(wrong) = all.last().copied() {
            self.links.rebuild(wrong, Link::Next(head), Because::Guess);
            self.change(number, |node| {
                node.flaws.set(Flaws::ENDS_EARLY.with(Flaws::SKIPS).with(Flaws::GUESSED));
                node.fault = Some((wrong, End::Another(into)));
            });
        } else {
            self.change(number, |node| {
                node.first = head;
                node.flaws.set(Flaws::MET.with(Flaws::FIRST_FOUND));
            });
        }
        let Some(first) = self.node(number).map(|node| node.first) else { return true };
        let whole = self.walk(first);
        self.claim(number, &whole);
        true
    }

    /// The chain of a folder ends where a folder does: at entries, of which the last is none. What ends otherwise may still be
    /// right, where it is full.
    pub(in crate::fat) fn ends_as_folder(&self, walk: &Walk) -> bool {
        let (place, each) = (self.geometry.cluster_offset(walk.last), self.geometry.cluster_bytes().wide());
        let last = self.medium.lenient(place.plus(each).minus(ENTRY_BYTES.wide()), ENTRY_BYTES).bytes;
        let reads = || {
            let start = self.medium.lenient(place, START).bytes;
            looks_like_folder(&start, self.geometry.bounds(), true)
        };
        let passes_over = !self.joins.is_empty() && walk.clusters().any(|c| self.joins.contains_key(&c));
        // Where the table is erased its ends are none.
        let erased = self.links.is_suspect(walk.last);
        erased || last.first() == Some(&END_ENTRY) && (walk.length == 1 || reads()) && !passes_over
    }

    /// Where the chain of a folder goes on that the table ends: the cluster whose link is wrong, what it is now, and the
    /// first cluster of a chain that nothing leads to and that reads as a later part of a folder. It leads into this folder
    /// itself ([`Surveyor::passed_over`]), or the folder breaks off without an end mark, or goes on where no folder stands.
    /// Without such a chain it ends there, if what the link leads to is certainly another's.
    pub(super) fn goes_on_otherwise(&mut self, walk: &Walk) -> Option<(u32, End, Option<u32>)> {
        if self.links.is_suspect(walk.last) {
            return None;
        }
        // A folder has 65,536 entries at most: what is behind these is none of it.
        let most = FOLDER_LONGEST.per(self.geometry.cluster_bytes().size()).max(1);
        let clusters: Vec<u32> = walk.clusters().take(most.plus(1)).collect();
        let ends = clusters.iter().enumerate().skip(1).rev().take(STRAY.plus(1));
        let is_stray = |(at, cluster): &(usize, &u32)| *at >= most || !self.goes_on_as_folder(**cluster);
        let stray = ends.take_while(is_stray).count();
        let kept = clusters.len().saturating_sub(stray);
        let fault = |at: usize| clusters.get(at).map_or(End::Proper, |into| End::Another(*into));
        for (at, cluster) in clusters.iter().enumerate() {
            let next = self.joins.get(cluster).copied().filter(|next| self.is_unclaimed(*next));
            if let Some(next) = next.filter(|next| !clusters.contains(next)) {
                return Some((*cluster, fault(at.plus(1)), Some(next)));
            }
        }
        let last = *clusters.get(kept.checked_sub(1)?)?;
        if !self.holds_end_mark(last) {
            let heads: Vec<u32> = self.with_lost(|s, lost| {
                let heads = lost.all.iter().filter(|l| l.folder_in.is_none()).map(|l| l.head);
                let open = heads.filter(|head| s.is_unclaimed(*head) && !clusters.contains(head));
                open.filter(|head| s.begins_as_later_part(*head)).take(HEADS).collect()
            });
            // Not what the table has free: a folder that is full ends like this.
            let (seam, folder) = (self.seam(last), self.said_first(walk));
            let ranked = heads
                .into_iter()
                .enumerate()
                .filter_map(|(order, head)| Some((self.liking(&seam, folder, head)?, Reverse(order), head)));
            if let Some((.., next)) = ranked.max() {
                return Some((last, fault(kept), Some(next)));
            }
        }
        // What a file begins in, or another cluster leads to as well, is no folder's.
        let into = *clusters.get(kept)?;
        let too_long = clusters.len() > most;
        let others = too_long || self.heads.contains(into.size()) || self.is_led_to_twice(into);
        others.then_some((last, End::Another(into), None))
    }

    /// Two entries of the table name this cluster.
    fn is_led_to_twice(&mut self, cluster: u32) -> bool {
        let end = self.geometry.last_cluster();
        let (mut next, mut leading) = (2, 0_u32);
        while next <= end && leading < 2 && !self.watch.stop() {
            let at = self.links.blank_until(self.medium, next);
            if at <= end && self.links.get(self.medium, at) == Link::Next(cluster) {
                leading = leading.plus(1);
            }
            next = at.plus(1);
        }
        leading > 1
    }

    /// Chains that nothing leads to, that read as a later part of a folder and lead into one: behind which of its clusters each
    /// belongs. The link there leads past it.
    pub(in crate::fat) fn passed_over(&mut self) -> HashMap<u32, u32> {
        let heads: Vec<u32> = self.with_lost(|s, lost| {
            // A chain that runs into another's clusters has no end of its own.
            let joining = lost.all.iter().filter(|l| l.folder_in.is_none() && matches!(l.end, End::Loop(_)));
            let open = joining.map(|l| l.head).filter(|head| s.is_unclaimed(*head));
            open.take(LOOKED_AT).filter(|head| s.begins_as_later_part(*head)).collect()
        });
        let into: HashMap<u32, u32> =
            heads.into_iter().filter_map(|head| Some((self.walk(head).meets?.0, head))).collect();
        if into.is_empty() {
            return HashMap::new();
        }
        let folders = self.tree.nodes.iter().filter(|node| node.folder && node.length > 1);
        let folders: Vec<(u32, u32)> = folders.map(|node| (node.first, node.length)).collect();
        let mut joins = HashMap::new();
        for (first, length) in folders {
            let clusters = chain(self.medium, &mut self.links, first, length);
            for pair in clusters.windows(2) {
                if let [before, behind] = pair
                    && let Some(head) = into.get(behind)
                {
                    joins.insert(*before, *head);
                }
            }
        }
        joins
    }
}
