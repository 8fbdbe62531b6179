//! Sets behind end marks, and sets of which a part is gone: real where their clusters are theirs.

use super::{
    layout::{DIRECTORY, put},
    sets::{Flaws, Item, looks_like_folder},
    survey::Surveyor,
    tree::Reached,
};
use crate::{arith::Sat, cluster::chain::End, files::kinds};
use std::collections::HashSet;

impl Surveyor<'_> {
    /// Sets behind an end mark are real when their clusters fit and are nobody else's.
    pub(super) fn accept_behind(&mut self) {
        if self.behind.is_empty() {
            return;
        }
        // An entry that stands where it should names these clusters: then the set behind is a stale one.
        let named: HashSet<u32> =
            self.out.tree.nodes.iter().filter(|node| node.first != 0).map(|node| node.stream.first).collect();
        let believed = self.bitmap_believed();
        for (folder, place, mut item) in std::mem::take(&mut self.behind) {
            let broken = item.flaws.intersects(Flaws::HEAD | Flaws::NAME | Flaws::NAME_FOUND);
            let end = self.out.tree.notes.get(&folder).and_then(|notes| notes.hides).map(|(end, _)| end);
            let hidden = end.filter(|end| item.index >= *end);
            if named.contains(&item.stream.first) && item.stream.first != 0 {
                self.refuse(folder, &item, hidden.is_some());
                continue;
            }
            let needed = self.out.geometry.clusters_for(item.stream.length).narrow();
            // A set that is not whole proves less than one that is: its clusters must be in use, too.
            let strict = broken && believed;
            let first = item.stream.first;
            let fits = if first == 0 {
                needed == 0
            } else if item.stream.in_a_row() {
                self.out.geometry.has(first)
                    && self.out.geometry.has(first.plus(needed).minus(1))
                    && !self.is_claimed(first, needed)
                    && (!strict || self.all_unclaimed(first, needed))
            } else if self.out.geometry.has(first) {
                let walk = self.walk(first, None);
                walk.end == End::Proper
                    && walk.meets.is_none()
                    && walk.length == needed
                    && (!strict || walk.clusters().all(|cluster| self.is_unclaimed(cluster)))
            } else {
                false
            };
            if !fits {
                self.refuse(folder, &item, hidden.is_some());
                continue;
            }
            if item.flaws.contains(Flaws::HEAD) && self.is_folder(&item) {
                put(&mut item.raw, 4, &DIRECTORY.to_le_bytes());
            }
            if item.flaws.contains(Flaws::NAME) {
                let start = self.start_of(item.stream.first);
                item.call_by_kind(kinds::extension(&start).as_deref(), &self.out.capitals);
            }
            self.add(folder, place, &item, if hidden.is_some() { Reached::BehindEnd } else { Reached::Tree });
            if hidden.is_some()
                && let Some(notes) = self.out.tree.notes.get_mut(&folder)
                && let Some((_, count)) = &mut notes.hides
            {
                *count = count.plus(1);
            }
        }
    }

    /// What is left of a set that has no clusters to show for itself is nobody's.
    fn refuse(&mut self, folder: u32, item: &Item, hidden: bool) {
        if hidden {
            return;
        }
        let notes = self.out.tree.notes.entry(folder).or_default();
        let all = item.index..item.index.plus(item.entries());
        if item.flaws.intersects(Flaws::NAME | Flaws::NAME_FOUND) {
            notes.junk.extend(all.take(2));
        } else {
            notes.strays.extend(all.skip(1));
        }
    }

    /// True when a set of which only the stream entry tells is a folder's: what it leads to reads as one, or
    /// is one empty cluster under a name without an extension.
    fn is_folder(&self, item: &Item) -> bool {
        let g = &self.out.geometry;
        if item.stream.length == 0 || item.stream.length.rest(g.cluster_bytes()) != 0 {
            return false;
        }
        let each = g.cluster_bytes().min(1 << 20).size();
        let start = self.medium.lenient(g.cluster_place(item.stream.first), each).bytes;
        let empty = item.stream.length == g.cluster_bytes() && !item.name.contains('.');
        looks_like_folder(&start, empty && start.iter().all(|byte| *byte == 0))
    }
}
