//! Settling files: where they begin, where their chains go on, where they end.

use super::{cut, flaw_of};
use crate::{
    arith::Sat,
    cluster::chain::{End, Link, Walk},
    fat::{
        folder::Flaws,
        links::Because,
        survey::{Entered, Surveyor},
        tree::Node,
    },
    files::{end, kinds},
};

/// Files whose first clusters are free in the table, from which on the table is at fault and not
/// the entries.
const TABLE_LOST: usize = 3;

/// The rank of files that lie in pieces of which the table says nothing.
const BROKEN: u8 = 2;
/// The rank of files whose entries name no cluster of the volume.
const NOWHERE: u8 = 3;

/// Lost chains of one length that are looked at, and whose contents are.
const FITTING: usize = 256;
const CONTENTS: usize = 8;

/// Entries of a row that are looked at.
const ROW_LOOKED_AT: usize = 4096;

/// With what a broken chain may go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Beyond {
    /// Only with chains that nothing claims.
    LostChains,
    /// Also with clusters of which the table says nothing.
    Runs,
}

impl Surveyor<'_> {
    /// Settles all waiting files: those that need least first, so that guesses come last.
    pub(in crate::fat) fn resolve_files(&mut self) {
        self.resolve_rows();
        let mut broken = std::mem::take(&mut self.waiting_files);
        if self.table_lost {
            broken = self.share_out(broken);
        }
        self.resolve_each(broken.into_iter());
    }

    /// Settles the waiting files that do not lie in pieces of which the table says nothing: those are told apart when all
    /// others have what is theirs.
    pub(in crate::fat) fn resolve_rows(&mut self) {
        let mut waiting = std::mem::take(&mut self.waiting_files);
        waiting.append(&mut self.newly_met);
        let rank = |s: &mut Self, number: u32| {
            let Some(node) = s.node(number).filter(|node| s.geometry.has(node.first)) else {
                return (NOWHERE, 0);
            };
            let (first, size) = (node.first, node.size());
            let free = matches!(s.links.get(s.medium, first), Link::Free | Link::Odd(_) | Link::Unreadable);
            // Where the table lost many, a file whose clusters all follow one another without meeting the
            // beginning of another takes them before one that has to look for its own elsewhere.
            let broken = free && !s.is_clear_row(first, s.geometry.clusters_for(size));
            (if broken { BROKEN } else { u8::from(free) }, first)
        };
        let mut ranked: Vec<((u8, u32), u32)> =
            waiting.into_iter().map(|number| (rank(self, number), number)).collect();
        ranked.sort_unstable();
        let free = ranked.iter().filter(|((rank, _), _)| matches!(*rank, 1 | BROKEN)).count();
        self.table_lost |= free >= TABLE_LOST;
        let broken = ranked.split_off(ranked.partition_point(|((rank, _), _)| *rank < BROKEN));
        self.resolve_each(ranked.into_iter().map(|(_, number)| number));
        self.waiting_files.extend(broken.into_iter().map(|(_, number)| number));
    }

    fn resolve_each(&mut self, files: impl Iterator<Item = u32>) {
        for number in files {
            if self.watch.stop() {
                return;
            }
            self.resolve_file(number);
        }
    }

    /// True unless what stands in cluster `first` is of another kind than the name says.
    pub(in crate::fat) fn agrees(&self, name: &str, first: u32) -> bool {
        kinds::agrees(name, &self.cluster(first)) != Some(false)
    }

    /// True when `count` clusters from `first` on are nobody's, the table says of none that it is followed by
    /// another than the next, and none but the first begins anything.
    pub(in crate::fat) fn is_clear_row(&mut self, first: u32, count: u32) -> bool {
        let behind = first.plus(1)..first.plus(count);
        count > 0
            && self.geometry.has(first.plus(count).minus(1))
            && !self.claimed.contains_any_in_range(first.size()..first.plus(count).size())
            && !self.heads.contains_any_in_range(behind.start.size()..behind.end.size())
            && behind.take(ROW_LOOKED_AT).all(|cluster| match self.links.get(self.medium, cluster) {
                Link::Free | Link::Odd(_) | Link::Unreadable => true,
                Link::Next(next) => next == cluster.plus(1),
                Link::End => cluster == first.plus(count).minus(1),
                Link::Bad => false,
            })
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
            if self.rivals(number, &node, &walk) || self.rival_tails(number, &walk, needed) {
                return;
            }
            self.change(number, |node| node.flaws.set(Flaws::MET));
            // Two entries that say the same bear each other out: the file is there twice, and no other content is its.
            let twice = self.is_entered_twice(number, &node);
            if twice || !self.begin_at_lost(number, &node, needed) {
                let said = if twice { Flaws::TWICE } else { Flaws::default() };
                self.change(number, |node| node.flaws.set(Flaws::CROSSED.with(said)));
                self.claim(number, &walk);
            }
            return;
        }
        if walk.end == End::Free && walk.length == 1 {
            self.change(number, |node| {
                node.flaws.set(Flaws::FIRST_FREE);
                node.fault = Some((node.first, End::Free));
            });
            // Where the table lost many entries, a free first cluster is no reason to look elsewhere,
            // as long as something stands in it that can be the file.
            let elsewhere = !self.table_lost || self.disagrees(&node) || self.is_blank(node.first);
            if elsewhere && self.begin_at_lost(number, &node, needed) {
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

    /// True where another entry names the same first cluster and the same size.
    fn is_entered_twice(&mut self, number: u32, node: &Node) -> bool {
        let said = |node: &Node| (node.entry.first_cluster(self.geometry.wide()), node.entry.size.get());
        let Entered { upto, all } = &mut self.entered;
        for (known, other) in (0_u32..).zip(&self.tree.nodes).skip(upto.size()) {
            if !other.folder {
                all.entry(said(other)).or_insert((known, known)).1 = known;
            }
        }
        *upto = self.tree.nodes.len().narrow();
        all.get(&said(node)).is_some_and(|both| *both != (number, number))
    }

    pub(super) fn is_blank(&self, cluster: u32) -> bool {
        self.cluster(cluster).iter().all(|byte| *byte == 0)
    }

    pub(super) fn disagrees(&self, node: &Node) -> bool {
        !self.agrees(&node.name, node.first)
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

    /// A lost chain of exactly `needed` clusters becomes the file's, if there is no doubt which: it is the only one whose
    /// number is that of the entry but for one bit, or the only one that ends where its size says or is not told to end elsewhere.
    pub(super) fn begin_at_lost(&mut self, number: u32, node: &Node, needed: u32) -> bool {
        if needed == 0 {
            return false;
        }
        let fitting: Vec<u32> = self.with_lost(|s, lost| {
            let s = &*s;
            lost.of_length(needed, |head| s.is_unclaimed(head))
                .filter(|head| kinds::agrees(&node.name, &s.cluster(*head)) != Some(false))
                .take(FITTING)
                .collect()
        });
        let mut near: Vec<u32> =
            fitting.iter().copied().filter(|head| (head ^ node.first).is_power_of_two()).collect();
        let mut fitting = if near.len() == 1 { std::mem::take(&mut near) } else { fitting };
        if fitting.len() <= CONTENTS {
            end::likeliest(&mut fitting, |head| {
                let walk = self.walk(*head);
                self.ends(node, &walk)
            });
        }
        let [head] = fitting[..] else { return false };
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
        if walk.length > needed && self.size_by_content(number, &walk) {
            return;
        }
        if walk.end == End::Proper && walk.meets.is_none() && walk.length > needed {
            self.change(number, |node| node.flaws.set(Flaws::CHAIN_LONG));
            self.claim(number, &walk);
            return;
        }
        if self.passes_over(number, &walk, needed) || self.rival_tails(number, &walk, needed) {
            return;
        }
        let original = walk.clone();
        let (last, end) = (walk.last, walk.end);
        let own = walk.meets.map_or(walk.length, |(_, before)| before);
        if let Some((into, _)) = walk.meets {
            let before = walk.clusters().take(own.size()).last().unwrap_or(walk.last);
            self.change(number, |node| {
                node.fault.get_or_insert((before, End::Another(into)));
                node.flaws.set(Flaws::MET);
            });
        } else if end == End::Proper {
            if own < needed {
                self.change(number, |node| {
                    node.fault.get_or_insert((last, end));
                    node.flaws.set(Flaws::ENDS_EARLY);
                });
            }
        } else {
            self.change(number, |node| {
                node.fault.get_or_insert((last, end));
                node.flaws.set(flaw_of(end));
            });
        }
        // A blank cluster that the table has free, where a lost chain is as long as what would come there.
        if end == End::Free && own == needed && own > 1 && original.meets.is_none() && self.is_blank(last) {
            let mut before = walk.clone();
            cut(&mut before, own.minus(1));
            if let Some(whole) = self.extend(number, &before, needed, Beyond::LostChains) {
                self.change(number, |node| node.flaws.set(Flaws::GUESSED));
                self.claim(number, &whole);
                return;
            }
        }
        if own >= needed {
            // The size says where the chain must end, and all of that is the file's own.
            cut(&mut walk, needed);
            self.links.rebuild(walk.last, Link::End, Because::Derived);
            self.claim(number, &walk);
            return;
        }
        cut(&mut walk, own);
        let crossed = original.meets.is_some();
        // An entry that leads to a free cluster may be the damaged one, and not that cluster's own.
        let mut before = walk.clone();
        cut(&mut before, own.minus(1));
        let astray = end == End::Free && own > 1 && !crossed;
        // Where the table lost many, the clusters that simply follow are likelier than a chain of the right
        // length somewhere else. What cannot be read of it is many at once.
        let many = self.table_lost && matches!(end, End::Free | End::Odd(_)) || end == End::Unreadable;
        let follows = many && self.is_clear_row(walk.last, needed.minus(own).plus(1));
        let in_row = if follows { self.extend(number, &walk, needed, Beyond::Runs) } else { None };
        let mended = in_row
            .or_else(|| self.extend(number, &walk, needed, Beyond::LostChains))
            .or_else(|| astray.then(|| self.extend(number, &before, needed, Beyond::LostChains)).flatten())
            .or_else(|| {
                (end != End::Proper && !crossed)
                    .then(|| self.extend(number, &walk, needed, Beyond::Runs))
                    .flatten()
            });
        if let Some(whole) = mended {
            self.change(number, |node| node.flaws.set(Flaws::GUESSED));
            self.claim(number, &whole);
        } else if original.meets.is_some() {
            self.change(number, |node| node.flaws.set(Flaws::CROSSED));
            self.claim(number, &original);
        } else if original.length < needed && self.size_by_content(number, &original) {
            // It was the size that was wrong.
            self.change(number, |node| {
                node.fault = None;
                node.flaws = node.flaws.without(Flaws::ENDS_EARLY);
            });
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
    fn extend(&mut self, number: u32, walk: &Walk, needed: u32, beyond: Beyond) -> Option<Walk> {
        let mut clusters: Vec<u32> = walk.clusters().collect();
        let mut mine: std::collections::HashSet<u32> = clusters.iter().copied().collect();
        let known = clusters.len();
        while clusters.len() < needed.size() {
            let last = clusters.last().copied()?;
            let missing = needed.minus(clusters.len().narrow());
            if let Some((head, length)) = self.lost_tail(last, missing, &mine, beyond) {
                let piece = self.walk(head);
                clusters.extend(piece.clusters().take(length.size()));
                mine.extend(piece.clusters().take(length.size()));
                continue;
            }
            if beyond == Beyond::LostChains {
                return None;
            }
            let next = self.next_open(last, &mine)?;
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

    /// The next cluster behind `last` that is neither anybody's nor `mine`; where the table is lost and it is not the very next
    /// one, a file has not been continued in what is blank.
    fn next_open(&mut self, last: u32, mine: &std::collections::HashSet<u32>) -> Option<u32> {
        let open = |s: &Self, cluster: u32| s.is_unclaimed(cluster) && !mine.contains(&cluster);
        let end = self.geometry.last_cluster();
        let next = last.plus(1);
        if next <= end && open(self, next) {
            return Some(next);
        }
        let filled = if self.table_lost { self.filled() } else { None };
        let holds = |cluster: u32| filled.as_ref().is_none_or(|filled| filled.contains(cluster.size()));
        (next..=end).find(|cluster| open(self, *cluster) && holds(*cluster))
    }

    /// A lost chain that can be the rest of a file: the one right behind the break, or, unless the clusters
    /// that follow are asked for, the only one of exactly the missing length.
    fn lost_tail(
        &mut self,
        last: u32,
        missing: u32,
        mine: &std::collections::HashSet<u32>,
        beyond: Beyond,
    ) -> Option<(u32, u32)> {
        self.with_lost(|s, lost| {
            let s = &*s;
            let open = |head: u32| s.is_unclaimed(head) && !mine.contains(&head);
            let behind = lost.at(last.plus(1)).filter(|l| l.folder_in.is_none() && open(l.head));
            if let Some(l) = behind
                && (l.length == missing || l.length < missing && l.end != End::Proper)
            {
                return Some((l.head, l.length));
            }
            if beyond == Beyond::Runs {
                return None;
            }
            let mut exact =
                lost.of_length(missing, |head| s.is_unclaimed(head)).filter(|head| !mine.contains(head));
            match (exact.next(), exact.next()) {
                (Some(head), None) => Some((head, missing)),
                _ => None,
            }
        })
    }
}
