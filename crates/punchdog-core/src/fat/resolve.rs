//! Settling chains that do not fit as they stand.
//!
//! In the order of certainty: another copy of the table has a chain that fits; the size says where
//! the chain must end; a chain that nobody claims has exactly the missing length; the clusters
//! behind the fault are free of other owners. What remains is kept as far as it goes.

use super::{
    folder::{Flaws, looks_like_folder},
    layout::{END_ENTRY, ENTRY_BYTES},
    links::{Because, End, Walk},
    survey::Surveyor,
    table::Link,
    tree::Node,
};
use crate::{
    arith::{Peek, Sat},
    content,
};

/// Runs, the walk itself, and which copy answered for each disputed cluster.
type Mixture = (usize, Walk, Vec<(u32, u32)>);

/// Clusters of a disputed folder whose content is looked at.
const LOOKED_AT: usize = 64;

fn flaw_of(end: End) -> Flaws {
    match end {
        End::Proper => Flaws::default(),
        End::Free => Flaws::INTO_FREE,
        End::Bad => Flaws::INTO_BAD,
        End::Odd(_) | End::Unreadable => Flaws::INTO_RANGE,
        End::Loop(_) => Flaws::LOOP,
    }
}

impl Surveyor<'_> {
    /// Settles every waiting node for which one copy of the table, or a mixture of them, has a
    /// chain that fits. True when a folder was among them: it has to be read first.
    pub(super) fn settle_by_copies(&mut self) -> bool {
        let mut folders = false;
        let mut fresh = std::mem::take(&mut self.fresh);
        // Folders first: their clusters are certain by their content.
        fresh.sort_by_key(|number| self.node(*number).is_none_or(|node| !node.folder));
        for number in fresh {
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
                if self.fits(number, &walk) && best.as_ref().is_none_or(|(runs, ..)| walk.runs.len() < *runs)
                {
                    best = Some((walk.runs.len(), walk, chosen));
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

    fn cluster(&self, cluster: u32) -> Vec<u8> {
        self.medium.lenient(self.geometry.cluster_offset(cluster), self.geometry.cluster_bytes().size()).bytes
    }

    /// True when the cluster can be a later one of a folder: entries, and no "." in front.
    fn goes_on_as_folder(&self, cluster: u32) -> bool {
        let bytes = self.cluster(cluster);
        !bytes.starts_with(&super::names::DOT) && looks_like_folder(&bytes, self.geometry.bounds(), true)
    }

    fn holds_end_mark(&self, cluster: u32) -> bool {
        let bytes = self.cluster(cluster);
        bytes.chunks_exact(ENTRY_BYTES).any(|entry| entry.byte(0) == END_ENTRY)
    }

    /// Settles a folder by its content: where its chain breaks, it goes on where entries go on.
    pub(super) fn resolve_folder(&mut self, number: u32) {
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
            let here = lost.iter().filter(|l| l.folder_in == Some(parent)).map(|l| l.head);
            here.filter(|head| s.is_open(*head)).take(2).collect()
        });
        if let [only] = homeless.as_slice() {
            let only = *only;
            self.heads.insert(only.size());
            self.change(number, |node| {
                node.first = only;
                node.flaws.set(Flaws::FIRST_FOUND);
                if !has {
                    node.flaws.set(Flaws::FIRST_RANGE);
                }
            });
            return true;
        }
        if !has {
            let flaw = if node.first == 0 { Flaws::NO_FIRST } else { Flaws::FIRST_RANGE };
            self.change(number, |node| node.flaws.set(flaw.with(Flaws::NOT_FOLDER)));
            return false;
        }
        if self.claimed.contains(node.first.size()) {
            self.change(number, |node| {
                node.flaws.set(Flaws::MET.with(Flaws::CROSSED).with(Flaws::NOT_FOLDER));
            });
            return false;
        }
        if !self.goes_on_as_folder(node.first) && !self.dots_broken_only(node.first) {
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
        ) || bytes.starts_with(&super::names::DOT)
    }

    /// Follows a folder's chain, and past a fault to where its entries go on.
    fn end_folder(&mut self, number: u32) {
        let first = self.node(number).map_or(0, |node| node.first);
        // Each turn settles one more cluster for good, so there are no more turns than clusters.
        for _ in 0..self.geometry.clusters() {
            let mut walk = self.walk(first);
            if walk.end == End::Proper && walk.meets.is_none() {
                self.claim(number, &walk);
                return;
            }
            if let Some((_, before)) = walk.meets {
                self.change(number, |node| node.flaws.set(Flaws::MET));
                cut(&mut walk, before);
            } else {
                let (last, end) = (walk.last, walk.end);
                self.change(number, |node| {
                    node.fault.get_or_insert((last, end));
                    node.flaws.set(flaw_of(end));
                });
            }
            if walk.length == 0 {
                return;
            }
            let last = walk.last;
            if self.holds_end_mark(last) {
                self.links.rebuild(last, Link::End, Because::Derived);
            } else if let Some(next) = self.folder_goes_on(last, &walk) {
                self.links.rebuild(last, Link::Next(next), Because::Guess);
                self.change(number, |node| node.flaws.set(Flaws::GUESSED));
                if !self.links.get(self.medium, next).in_chain() {
                    self.links.rebuild(next, Link::End, Because::Guess);
                }
            } else {
                self.links.rebuild(last, Link::End, Because::Guess);
                self.change(number, |node| node.flaws.set(Flaws::CHAIN_SHORT));
            }
        }
    }

    fn folder_goes_on(&mut self, last: u32, walk: &Walk) -> Option<u32> {
        let next = last.plus(1);
        let free = |s: &Self, c: u32| s.geometry.has(c) && s.is_open(c) && !walk.clusters().any(|w| w == c);
        let full = |s: &Self, c: u32| {
            let bytes = s.cluster(c);
            !bytes.starts_with(&super::names::DOT) && looks_like_folder(&bytes, s.geometry.bounds(), false)
        };
        if free(self, next) && full(self, next) {
            return Some(next);
        }
        let fitting: Vec<u32> = self.with_lost(|s, lost| {
            let heads = lost.iter().filter(|l| l.folder_in.is_none()).map(|l| l.head);
            heads.filter(|head| free(s, *head) && full(s, *head)).take(2).collect()
        });
        if let [only] = fitting.as_slice() { Some(*only) } else { None }
    }

    /// Settles all waiting files: those that need least first, so that guesses come last.
    pub(super) fn resolve_files(&mut self) {
        let mut waiting = std::mem::take(&mut self.waiting_files);
        waiting.append(&mut self.fresh);
        let rank = |s: &mut Self, number: u32| {
            let Some(node) = s.node(number).filter(|node| s.geometry.has(node.first)) else { return (2, 0) };
            let first = node.first;
            let free = s.links.get(s.medium, first) == Link::Free;
            (u8::from(free), first)
        };
        waiting.sort_by_cached_key(|number| rank(self, *number));
        for number in waiting {
            self.resolve_file(number);
        }
    }

    fn resolve_file(&mut self, number: u32) {
        let Some(node) = self.node(number).cloned() else { return };
        let needed = self.geometry.clusters_for(node.size());
        if !self.geometry.has(node.first) {
            let flaw = if node.first == 0 { Flaws::NO_FIRST } else { Flaws::FIRST_RANGE };
            self.change(number, |node| node.flaws.set(flaw));
            if !self.begin_at_lost(number, &node, needed) {
                self.change(number, |node| node.length = 0);
            }
            return;
        }
        if needed == 0 {
            self.resolve_sizeless(number, &node);
            return;
        }
        let walk = self.walk(node.first);
        if walk.meets == Some((node.first, 0)) {
            self.change(number, |node| node.flaws.set(Flaws::MET));
            if !self.begin_at_lost(number, &node, needed) {
                self.change(number, |node| node.flaws.set(Flaws::CROSSED));
                self.claim(number, &walk);
            }
            return;
        }
        if walk.end == End::Free && walk.length == 1 {
            self.change(number, |node| {
                node.flaws.set(Flaws::FIRST_FREE);
                node.fault = Some((node.first, End::Free));
            });
            if self.begin_at_lost(number, &node, needed) {
                return;
            }
        } else if walk.length != needed && walk.end == End::Proper && self.disagrees(&node) {
            // The start is another kind of file altogether, and a lost chain fits exactly.
            if self.begin_at_lost(number, &node, needed) {
                self.change(number, |node| node.flaws.set(Flaws::MET));
                return;
            }
        }
        self.follow_file(number, walk, needed);
    }

    fn disagrees(&self, node: &Node) -> bool {
        content::agrees(&node.name, &self.cluster(node.first)) == Some(false)
    }

    /// Size 0, but clusters: a folder that lost its folder bit, or a file whose size is lost.
    fn resolve_sizeless(&mut self, number: u32, node: &Node) {
        let walk = self.walk(node.first);
        if self.is_folder_start(node.first) && walk.meets.is_none() {
            self.change(number, |node| {
                node.folder = true;
                node.flaws.set(Flaws::WRONG_TYPE);
            });
            self.claim(number, &walk);
            return;
        }
        let own = walk.meets.is_none() && walk.end == End::Proper;
        self.change(number, |node| node.flaws.set(Flaws::SIZE_ZERO));
        if own {
            self.claim(number, &walk);
        } else {
            self.change(number, |node| node.length = 0);
        }
    }

    /// A lost chain of exactly `needed` clusters becomes the file's, if there is no doubt which.
    fn begin_at_lost(&mut self, number: u32, node: &Node, needed: u32) -> bool {
        if needed == 0 {
            return false;
        }
        let fitting: Vec<u32> = self.with_lost(|s, lost| {
            let exact =
                lost.iter().filter(|l| l.length == needed && l.end == End::Proper && l.folder_in.is_none());
            let open = exact.map(|l| l.head).filter(|head| s.is_open(*head));
            open.filter(|head| content::agrees(&node.name, &s.cluster(*head)) != Some(false))
                .take(2)
                .collect()
        });
        let [head] = fitting.as_slice() else { return false };
        let head = *head;
        let walk = self.walk(head);
        self.heads.insert(head.size());
        self.change(number, |node| {
            node.first = head;
            node.flaws.set(Flaws::FIRST_FOUND);
        });
        self.claim(number, &walk);
        true
    }

    /// Follows a file's chain, and past its fault as long as something fits.
    fn follow_file(&mut self, number: u32, mut walk: Walk, needed: u32) {
        if walk.end == End::Proper && walk.meets.is_none() && walk.length > needed {
            self.change(number, |node| node.flaws.set(Flaws::CHAIN_LONG));
            self.claim(number, &walk);
            return;
        }
        let original = walk.clone();
        let (last, end) = (walk.last, walk.end);
        if walk.meets.is_some() {
            self.change(number, |node| node.flaws.set(Flaws::MET));
        } else if end != End::Proper {
            self.change(number, |node| {
                node.fault.get_or_insert((last, end));
                node.flaws.set(flaw_of(end));
            });
        }
        let own = walk.meets.map_or(walk.length, |(_, before)| before);
        if own >= needed {
            // The size says where the chain must end, and all of that is the file's own.
            cut(&mut walk, needed);
            self.links.rebuild(walk.last, Link::End, Because::Derived);
            self.claim(number, &walk);
            return;
        }
        cut(&mut walk, own);
        let mended = self.extend(number, &walk, needed, original.meets.is_some());
        if let Some(whole) = mended {
            self.change(number, |node| node.flaws.set(Flaws::GUESSED));
            self.claim(number, &whole);
        } else if original.meets.is_some() {
            self.change(number, |node| node.flaws.set(Flaws::CROSSED));
            self.claim(number, &original);
        } else {
            self.change(number, |node| node.flaws.set(Flaws::CHAIN_SHORT));
            if end != End::Proper {
                // A free first cluster proves nothing of itself, but its bytes are all there is.
                self.links.rebuild(walk.last, Link::End, Because::Guess);
            }
            self.claim(number, &walk);
        }
    }

    /// Goes on behind the end of `walk` until the file has `needed` clusters: first by lost chains
    /// that fit, then, where the table says nothing, by the clusters that follow.
    fn extend(&mut self, number: u32, walk: &Walk, needed: u32, crossed: bool) -> Option<Walk> {
        let proper = walk.end == End::Proper && !crossed;
        let mut clusters: Vec<u32> = walk.clusters().collect();
        let mut mine: std::collections::HashSet<u32> = clusters.iter().copied().collect();
        let known = clusters.len();
        while clusters.len() < needed.size() {
            let last = clusters.last().copied()?;
            let missing = needed.minus(clusters.len().narrow());
            if let Some((head, length)) = self.lost_tail(last, missing, &mine) {
                let piece = self.walk(head);
                clusters.extend(piece.clusters().take(length.size()));
                mine.extend(piece.clusters().take(length.size()));
                continue;
            }
            if proper || crossed {
                return None;
            }
            let next = (last.plus(1)..=self.geometry.last_cluster())
                .find(|c| self.is_open(*c) && !mine.contains(c))?;
            // A run goes on only through entries that were lost in the same way as the broken one.
            let same = match self.links.get(self.medium, next) {
                Link::Free => walk.end == End::Free,
                Link::Odd(_) | Link::Unreadable => matches!(walk.end, End::Odd(_) | End::Unreadable),
                _ => false,
            };
            if !same {
                return None;
            }
            clusters.push(next);
            mine.insert(next);
        }
        for pair in clusters.windows(2).skip(known.minus(1)) {
            if let [from, to] = pair
                && self.links.get(self.medium, *from) != Link::Next(*to)
            {
                self.links.rebuild(*from, Link::Next(*to), Because::Guess);
            }
        }
        let last = clusters.last().copied()?;
        if self.links.get(self.medium, last) != Link::End {
            self.links.rebuild(last, Link::End, Because::Derived);
        }
        let first = self.node(number)?.first;
        Some(self.walk(first))
    }

    /// A lost chain that can be the rest of a file: the one right behind the break, or the only
    /// one of exactly the missing length.
    fn lost_tail(
        &mut self,
        last: u32,
        missing: u32,
        mine: &std::collections::HashSet<u32>,
    ) -> Option<(u32, u32)> {
        self.with_lost(|s, lost| {
            let open = || {
                lost.iter().filter(|l| l.folder_in.is_none() && s.is_open(l.head) && !mine.contains(&l.head))
            };
            let behind = open().find(|l| l.head == last.plus(1));
            if let Some(l) = behind
                && (l.length == missing || l.length < missing && l.end != End::Proper)
            {
                return Some((l.head, l.length));
            }
            let mut exact = open().filter(|l| l.length == missing && l.end == End::Proper);
            match (exact.next(), exact.next()) {
                (Some(l), None) => Some((l.head, l.length)),
                _ => None,
            }
        })
    }

    /// Finds everyone who has a part in shared clusters.
    pub(super) fn mark_crossed(&mut self) {
        if self.shared.is_clear() {
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
