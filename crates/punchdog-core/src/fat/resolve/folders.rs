//! Settling folders: where they begin, and where their chains go on.

use super::{
    cut, flaw_of,
    seam::{Fit, Seam},
};
use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Link, Walk},
        seams::{self, JOINED},
    },
    fat::{
        folder::{Flaws, looks_like_folder},
        layout::ENTRY_BYTES,
        links::Because,
        names,
        survey::Surveyor,
        tree::Node,
    },
};
use std::{
    cmp::Reverse,
    collections::{HashMap, HashSet},
};

/// Lost chains that are looked at for the rest of a folder.
pub(super) const HEADS: usize = 256;
/// Bytes of a cluster that are looked at to tell whether it can be part of a folder.
pub(super) const START: usize = 128;

impl Surveyor<'_> {
    /// Settles a folder by its content: where its chain breaks, it goes on where entries go on.
    pub(in crate::fat) fn resolve_folder(&mut self, number: u32) {
        let Some(node) = self.node(number).cloned() else { return };
        if number == 0 || self.folder_begins(number, &node) {
            self.end_folder(number);
        }
    }

    /// Settles where a folder begins. False when it begins nowhere.
    fn folder_begins(&mut self, number: u32, node: &Node) -> bool {
        let has = self.geometry.has(node.first);
        if has && self.is_folder_start(node.first) && !self.claimed.contains(node.first.size()) {
            return true;
        }
        // What the image does not hold is not "no folder": its chain is all that is known of it.
        let unseen = has && self.geometry.cluster_offset(node.first) >= self.medium.len();
        if unseen && !self.claimed.contains(node.first.size()) {
            self.change(number, |node| node.flaws.set(Flaws::BEYOND));
            return true;
        }
        if has && self.is_file_in_disguise(node) {
            self.change(number, |node| {
                node.folder = false;
                node.flaws = node.flaws.with(Flaws::WRONG_TYPE).without(Flaws::FOLDER_SIZE);
            });
            self.waiting_files.push(number);
            return false;
        }
        let parent = if node.parent == 0 { 0 } else { self.node(node.parent).map_or(0, |p| p.first) };
        let homeless: Vec<u32> = self.with_lost(|s, lost| {
            let here = lost.all.iter().filter(|l| l.folder_in == Some(parent)).map(|l| l.head);
            here.filter(|head| s.is_unclaimed(*head)).take(2).collect()
        });
        let flaw = if node.first == 0 { Flaws::NO_FIRST } else { Flaws::FIRST_RANGE };
        if let [only] = homeless.as_slice() {
            let only = *only;
            self.heads.insert(only.size());
            self.change(number, |node| {
                node.first = only;
                node.flaws.set(Flaws::FIRST_FOUND);
                if !has {
                    node.flaws.set(flaw);
                }
            });
            return true;
        }
        if !has {
            self.change(number, |node| node.flaws.set(flaw.with(Flaws::NOT_FOLDER)));
            return false;
        }
        if self.claimed.contains(node.first.size()) {
            self.change(number, |node| {
                node.flaws.set(Flaws::MET.with(Flaws::CROSSED).with(Flaws::NOT_FOLDER));
            });
            return false;
        }
        let blank = self.cluster(node.first).iter().all(|byte| *byte == 0);
        if blank || !self.goes_on_as_folder(node.first) && !self.dots_broken_only(node.first) {
            self.change(number, |node| node.flaws.set(Flaws::NOT_FOLDER));
        }
        true
    }

    /// A folder entry that is a file's: its size is as its chain, and no folder stands there.
    fn is_file_in_disguise(&mut self, node: &Node) -> bool {
        let size = node.entry.size.get().wide();
        if size == 0 || self.dots_broken_only(node.first) {
            return false;
        }
        let walk = self.walk(node.first);
        walk.end == End::Proper && walk.meets.is_none() && walk.length == self.geometry.clusters_for(size)
    }

    /// The cluster is a folder but for its first two entries.
    fn dots_broken_only(&self, cluster: u32) -> bool {
        let bytes = self.cluster(cluster);
        looks_like_folder(
            bytes.get(2_usize.times(ENTRY_BYTES)..).unwrap_or(&[]),
            self.geometry.bounds(),
            false,
        ) || bytes.starts_with(&names::DOT)
    }

    /// Follows a folder's chain, and past a fault to where its entries go on.
    fn end_folder(&mut self, number: u32) {
        let first = self.node(number).map_or(0, |node| node.first);
        // Each turn settles one more cluster for good, so there are no more turns than clusters.
        for _ in 0..self.geometry.clusters() {
            let mut walk = self.walk(first);
            if walk.end == End::Proper && walk.meets.is_none() {
                match self.goes_on_otherwise(&walk) {
                    None => {
                        self.claim(number, &walk);
                        return;
                    }
                    Some((wrong, fault, next)) => {
                        self.change(number, |node| {
                            node.fault.get_or_insert((wrong, fault));
                            node.flaws.set(Flaws::ENDS_EARLY.with(Flaws::GUESSED));
                        });
                        let link = next.map_or(Link::End, Link::Next);
                        self.links.rebuild(wrong, link, Because::Guess);
                        continue;
                    }
                }
            }
            if let Some((into, before)) = walk.meets {
                cut(&mut walk, before);
                let last = walk.last;
                self.change(number, |node| {
                    node.fault.get_or_insert((last, End::Another(into)));
                    node.flaws.set(Flaws::MET);
                });
            } else {
                let (last, end) = (walk.last, walk.end);
                self.change(number, |node| {
                    node.fault.get_or_insert((last, end));
                    node.flaws.set(flaw_of(end));
                });
            }
            // A blank cluster that the table has free is none of the folder's: the link to it is wrong.
            if walk.end == End::Free && walk.length > 1 && self.is_blank(walk.last) {
                let before = walk.length.minus(1);
                cut(&mut walk, before);
            }
            if walk.length == 0 {
                return;
            }
            let last = walk.last;
            let own = |next: &u32| walk.clusters().any(|cluster| cluster == *next);
            let joined = self.joins.get(&last).copied();
            if let Some(next) = joined.filter(|next| self.is_unclaimed(*next) && !own(next)) {
                self.links.rebuild(last, Link::Next(next), Because::Guess);
                self.change(number, |node| node.flaws.set(Flaws::GUESSED));
            } else if self.holds_end_mark(last) {
                self.links.rebuild(last, Link::End, Because::Derived);
            } else if let Some(next) = self.folder_goes_on(last, &walk) {
                self.links.rebuild(last, Link::Next(next), Because::Guess);
                self.change(number, |node| node.flaws.set(Flaws::GUESSED));
            } else {
                self.change(number, |node| node.flaws.set(Flaws::CHAIN_SHORT));
                self.broken_off.push(number);
                return;
            }
        }
    }

    /// Entries stand there, and no "." in front.
    pub(super) fn begins_as_later_part(&self, cluster: u32) -> bool {
        let bytes = self.cluster(cluster);
        !bytes.starts_with(&names::DOT) && looks_like_folder(&bytes, self.geometry.bounds(), false)
    }

    /// Of the first clusters of lost chains the one that goes on where cluster `last` breaks off.
    fn next_of(&mut self, heads: &[u32], last: u32, walk: &Walk) -> Option<u32> {
        let seam = self.seam(last);
        let folder = self.said_first(walk);
        match heads {
            [only] if self.fit(&seam, folder, *only).is_some_and(Fit::is_any) => Some(*only),
            heads => self.continuation(&seam, (folder, last), walk, heads),
        }
    }

    /// Takes up the folders that break off where no cluster goes on. A piece of one may stand behind another that is gone:
    /// of the pieces that nobody has, the one whose first name is most like the last one here; when all those are taken, one
    /// with other names. What goes on without a gap was taken before. True when there were any.
    pub(in crate::fat) fn resolve_broken_off(&mut self) -> bool {
        let broken = std::mem::take(&mut self.broken_off);
        if broken.is_empty() {
            return false;
        }
        let (mut ends, mut own) = (Vec::new(), HashSet::new());
        for number in broken {
            let first = self.node(number).map_or(0, |node| node.first);
            let mut walk = self.walk(first);
            if let Some((_, before)) = walk.meets {
                cut(&mut walk, before);
            }
            own.extend(walk.clusters());
            ends.push((number, walk.last));
        }
        let mut next = self.pieces_behind_gaps(&ends, &own, true);
        let alike = !next.is_empty();
        if !alike {
            next = self.pieces_behind_gaps(&ends, &own, false);
        }
        for (number, last) in ends {
            match next.remove(&number) {
                Some(piece) => {
                    self.links.rebuild(last, Link::Next(piece), Because::Guess);
                    self.heads.insert(piece.size());
                    self.change(number, |node| node.flaws.set(Flaws::GUESSED));
                }
                None if alike => {
                    self.broken_off.push(number);
                    continue;
                }
                None => self.links.rebuild(last, Link::End, Because::Guess),
            }
            self.end_folder(number);
        }
        true
    }

    /// Of folders and their last clusters: the piece that each goes on with, if one is like it, or can come next. What is
    /// `own` they have.
    fn pieces_behind_gaps(
        &mut self,
        ends: &[(u32, u32)],
        own: &HashSet<u32>,
        alike: bool,
    ) -> HashMap<u32, u32> {
        // What the table has of a folder whose first cluster is gone is a chain to which nothing leads.
        let chained: Vec<u32> = self.with_lost(|s, lost| {
            let heads = lost.all.iter().filter(|l| l.folder_in.is_none()).map(|l| l.head);
            heads.filter(|head| s.goes_on_as_folder(*head)).take(HEADS).collect()
        });
        let unlisted = self.unlisted_folders();
        let open = |piece: &u32| self.is_unclaimed(*piece) && !own.contains(piece);
        let pieces: Vec<u32> =
            chained.iter().chain(unlisted.iter()).copied().filter(open).take(JOINED).collect();
        let ends = ends.get(..ends.len().min(JOINED)).unwrap_or(ends);
        let seams: Vec<(u32, Seam)> = ends
            .iter()
            .map(|(number, last)| {
                let first = if *number == 0 { 0 } else { self.node(*number).map_or(0, |node| node.first) };
                (first, self.seam(*last))
            })
            .collect();
        seams::join(ends, &pieces, |end, piece| {
            let ((folder, seam), piece) = (seams.get(end)?, pieces.get(piece)?);
            if alike {
                self.fit_over_gap(seam, *folder, *piece).filter(|fit| fit.is_any())
            } else {
                self.fit(seam, *folder, *piece)
            }
        })
    }

    /// What the ".." of sub-folders calls the folder whose clusters these are: the root is 0.
    pub(super) fn said_first(&self, walk: &Walk) -> u32 {
        let first = walk.clusters().next().unwrap_or(0);
        if self.node(0).is_some_and(|root| root.first == first) { 0 } else { first }
    }

    fn folder_goes_on(&mut self, last: u32, walk: &Walk) -> Option<u32> {
        let next = last.plus(1);
        let free =
            |s: &Self, c: u32| s.geometry.has(c) && s.is_unclaimed(c) && !walk.clusters().any(|w| w == c);
        let full = |s: &Self, c: u32| s.begins_as_later_part(c);
        if free(self, next) && full(self, next) {
            return Some(next);
        }
        let fitting: Vec<u32> = self.with_lost(|s, lost| {
            let heads = lost.all.iter().filter(|l| l.folder_in.is_none()).map(|l| l.head);
            heads.filter(|head| free(s, *head) && full(s, *head)).take(HEADS).collect()
        });
        self.next_of(&fitting, last, walk)
    }

    /// Among the heads of lost chains and the clusters of which the table says nothing, the one that
    /// goes on where cluster `last` breaks off: in the middle of a long name, or with names like the last one; of several the
    /// one most like it, and of those the next on the medium.
    fn continuation(
        &mut self,
        seam: &Seam,
        (folder, last): (u32, u32),
        walk: &Walk,
        heads: &[u32],
    ) -> Option<u32> {
        let candidates = self.unlisted_folders();
        let (before, behind) = candidates.split_at(candidates.partition_point(|cluster| *cluster <= last));
        let open = |cluster: &&u32| self.is_unclaimed(**cluster) && !walk.clusters().any(|c| c == **cluster);
        let fitting: Vec<u32> = heads.iter().chain(behind).chain(before).filter(open).copied().collect();
        let ranked = fitting.into_iter().enumerate().filter_map(|(order, cluster)| {
            Some((self.liking(seam, folder, cluster)?, Reverse(order), cluster))
        });
        ranked.max().map(|(.., cluster)| cluster)
    }

    /// Clusters of which the table says nothing, and which read as a later part of a folder.
    pub(super) fn unlisted_folders(&mut self) -> std::rc::Rc<[u32]> {
        if let Some(found) = &self.unlisted {
            return found.clone();
        }
        let mut found = Vec::new();
        self.look_at_silent(START, usize::MAX, |s, cluster, start| {
            let dotted = start.starts_with(&names::DOT);
            let reads = !dotted && looks_like_folder(start, s.geometry.bounds(), false);
            if reads && s.goes_on_as_folder(cluster) {
                found.push(cluster);
            }
        });
        let found: std::rc::Rc<[u32]> = found.into();
        self.unlisted = Some(found.clone());
        found
    }
}
