//! Files and folders whose clusters do not fit as they stand: what is the likeliest that was
//! meant. The bitmap says which clusters are in use, the folders whose they are; what is in use and
//! nobody's is where the missing clusters of a broken chain are looked for.

use super::{
    sets::{Flaws, looks_like_folder},
    survey::Surveyor,
    table::Because,
    tree::Node,
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link, Walk, run_of},
        lengths::Runs,
    },
    files::kinds,
};

/// The flaw that a chain's end is.
pub(super) fn flaw_of(end: End) -> Flaws {
    match end {
        End::Proper | End::Another(_) => Flaws::empty(),
        End::Free => Flaws::INTO_FREE,
        End::Bad => Flaws::INTO_BAD,
        End::Odd(_) | End::Unreadable => Flaws::INTO_RANGE,
        End::Loop(_) => Flaws::LOOP,
    }
}

impl Surveyor<'_> {
    /// Takes up every node that waits: first the folders alone, because they lead to more.
    pub(super) fn resolve(&mut self) {
        let waiting = std::mem::take(&mut self.waiting);
        self.note_heads(&waiting);
        let is_folder = |number: &u32| self.node(*number).is_some_and(|node| node.folder);
        let (folders, files): (Vec<u32>, Vec<u32>) = waiting.into_iter().partition(is_folder);
        let now = if folders.is_empty() && self.broken_off.is_empty() {
            self.share_out(files)
        } else {
            self.waiting = files;
            folders
        };
        if now.is_empty() {
            self.join_over_gaps();
        }
        for number in now {
            if self.watch.stop() {
                return;
            }
            let broken = self.broken_off.len();
            self.resolve_one(number);
            // One that breaks off is read when it is known where it goes on.
            if self.broken_off.len() == broken {
                self.settle(number);
            }
        }
        self.open = None;
    }

    /// First clusters of what waits, where nothing that can be seen speaks against it: no guess runs over them. What has
    /// waited before is noted already.
    fn note_heads(&mut self, waiting: &[u32]) {
        let noted = std::mem::replace(&mut self.noted, self.out.tree.nodes.len().narrow());
        for number in waiting.iter().filter(|number| **number >= noted) {
            let Some(node) = self.node(*number).filter(|node| self.out.geometry.has(node.first)) else {
                continue;
            };
            let start = self.medium.lenient(self.out.geometry.cluster_place(node.first), 512).bytes;
            let fits = if node.folder {
                looks_like_folder(&start, true)
            } else {
                kinds::agrees(&node.name, &start) != Some(false)
            };
            let first = node.first.size();
            if fits {
                self.heads.insert(first);
            }
        }
    }

    /// A set without its checksum that names clusters which the bitmap has free: two witnesses against its first cluster, and
    /// nothing that tells another one.
    fn doubt_struck(&mut self) {
        let told = Flaws::LENGTH_STRUCK | Flaws::NAME_STRUCK | Flaws::FOUND;
        let hit = self.out.tree.below_root().filter(|(_, node)| {
            node.flaws.contains(Flaws::CHECKSUM)
                && !node.flaws.intersects(told)
                && node.length > 0
                && !self.out.used.contains(node.first.size())
        });
        let hit: Vec<u32> = hit.map(|(number, _)| number).collect();
        for number in hit {
            self.change(number, |node| node.flaws |= Flaws::GUESSED);
        }
    }

    /// Two files or more that seem never to have been chained have rather lost their chains, and so has one
    /// beside clusters that nobody owns: then that its clusters follow one another is a guess.
    pub(super) fn doubt_flags(&mut self) {
        self.doubt_struck();
        let having = |s: &Self, flaws: Flaws| -> Vec<u32> {
            let hit = s.out.tree.below_root().filter(|(_, node)| node.flaws.intersects(flaws));
            hit.map(|(number, _)| number).collect()
        };
        let alone = having(self, Flaws::FLAG_LOST | Flaws::INTO_FREE).len() < 2;
        if alone && self.out.tree.lost.is_empty() {
            return;
        }
        for number in having(self, Flaws::FLAG_LOST) {
            self.change(number, |node| node.flaws |= Flaws::GUESSED);
        }
    }

    /// Where what the first cluster leads to is free or another's: the one that the checksum of the set bears out, if it is
    /// the only one that is in use and nobody's, with as many behind it as the length needs.
    fn first_by_checksum(&mut self, number: u32) {
        let Some(others) = self.other_firsts.remove(&number) else { return };
        let Some(node) = self.node(number).cloned() else { return };
        let needed = node.needed(&self.out.geometry).min(u32::MAX.wide()).narrow();
        let mut fits = |first: u32| {
            let own = if node.row {
                self.all_unclaimed(first, needed)
            } else {
                self.is_unclaimed(first) && self.is_chained(first, needed)
            };
            own && (!node.folder || self.holds_a_set(first))
        };
        if fits(node.first) {
            return;
        }
        let fit: Vec<u32> = others.into_iter().filter(|other| fits(*other)).collect();
        if let [first] = fit[..] {
            self.change(number, |node| {
                node.first = first;
                node.flaws |= Flaws::FOUND;
            });
        }
    }

    pub(super) fn resolve_one(&mut self, number: u32) {
        self.first_by_checksum(number);
        let Some(node) = self.node(number).cloned() else { return };
        let needed = node.needed(&self.out.geometry);
        if needed == 0 {
            self.without_length(number, &node);
            return;
        }
        if node.folder && node.flaws.contains(Flaws::FOLDER_LENGTH) && self.out.geometry.has(node.first) {
            self.by_chain(number, &node);
            return;
        }
        if needed > self.out.geometry.clusters.wide() {
            // No volume holds that much: the length is what is wrong.
            self.by_chain(number, &node);
            return;
        }
        let needed = needed.narrow();
        if node.first == 0 || !self.out.geometry.has(node.first) {
            self.without_first(number, &node, needed);
        } else if node.row {
            self.in_a_row(number, &node, needed);
        } else {
            self.chained(number, &node, needed);
        }
    }

    /// A length of 0: an entry that names clusters all the same, or flags without clusters.
    fn without_length(&mut self, number: u32, node: &Node) {
        if node.first != 0 && self.out.geometry.has(node.first) && self.out.used.contains(node.first.size()) {
            let walk = self.walk(node.first, None);
            if node.folder || walk.end == End::Proper && walk.meets.is_none() {
                self.by_chain(number, node);
                return;
            }
        }
        self.change(number, |node| {
            node.flaws |= if node.first != 0 { Flaws::FIRST_UNUSED } else { Flaws::FLAGS };
            node.first = 0;
            node.row = false;
        });
    }

    /// The length cannot be used: what the clusters say.
    fn by_chain(&mut self, number: u32, node: &Node) {
        let mut runs = Vec::new();
        let mut row = false;
        if self.out.geometry.has(node.first) {
            let walk = self.walk(node.first, None);
            let own = walk.meets.map_or(walk.length, |(_, before)| before);
            if walk.end == End::Proper && own > 0 {
                runs = cut(&walk.runs, own);
            } else if !self.out.claimed.contains(node.first.size()) {
                row = true;
                let said = node.needed(&self.out.geometry).min(u32::MAX.wide()).narrow();
                let length = match node.folder {
                    true if self.all_unclaimed(node.first, said) => self.folder_run(node.first).max(said),
                    true => self.folder_run(node.first),
                    false => self.file_run(node.first),
                };
                runs = vec![(node.first, length)];
            }
        }
        let found: u32 = runs.iter().fold(0, |sum, (_, length)| sum.plus(*length));
        self.claim(number, &runs);
        self.change(number, |node| {
            node.flaws |= if node.folder { Flaws::FOLDER_LENGTH } else { Flaws::SHORT };
            node.row = row;
            if found == 0 {
                node.first = 0;
                node.flaws |= Flaws::NO_FIRST;
            }
        });
    }

    /// Clusters of a folder that lies in a row: as long as they are full and go on.
    pub(super) fn folder_run(&self, first: u32) -> u32 {
        let g = self.out.geometry;
        let mut length = 1_u32;
        let mut at = first;
        while length < 4096 {
            let bytes = self.medium.lenient(g.cluster_place(at), g.cluster_bytes().size()).bytes;
            let next = at.plus(1);
            let open = g.has(next) && !self.out.claimed.contains(next.size());
            if bytes.chunks_exact(32).any(|raw| raw.byte(0) == 0) || !open || !self.holds_a_set(next) {
                break;
            }
            length = length.plus(1);
            at = next;
        }
        length
    }

    /// Clusters of a file in a row: as long as they are in use and nobody's.
    fn file_run(&self, first: u32) -> u32 {
        let open = |cluster: u32| self.is_unclaimed(cluster);
        (first..=self.out.geometry.last_cluster())
            .take_while(|cluster| open(*cluster))
            .count()
            .narrow()
            .max(1)
    }

    /// The first cluster cannot be used: clusters in use that belong to nobody and fit exactly.
    fn without_first(&mut self, number: u32, node: &Node, needed: u32) {
        let flaw = if node.first == 0 { Flaws::NO_FIRST } else { Flaws::FIRST_RANGE };
        let fit = self.fit(node, needed);
        self.change(number, |node| node.flaws |= flaw);
        if let Some(runs) = fit {
            self.take_found(number, &runs);
        } else {
            self.change(number, |node| {
                node.first = 0;
                node.row = false;
            });
        }
    }

    /// A file whose clusters are another's, where one run or chain of exactly its length, open and
    /// nobody's, begins as its kind does, or ends as its length says, and the clusters that its entry names do not: it is the
    /// first cluster that is wrong.
    fn found_elsewhere(&mut self, number: u32, node: &Node, needed: u32) -> bool {
        if node.folder {
            return false;
        }
        let start = self.medium.lenient(self.out.geometry.cluster_place(node.first), 512).bytes;
        let other = kinds::agrees(&node.name, &start) == Some(false);
        // Where the kind does not speak against them, the end of the content may.
        let told = |s: &Self, runs: &Runs| s.ends(node, runs) == Some(true);
        if !other {
            if !self.budget.spend(needed) {
                return false;
            }
            let said = self.out.runs(self.medium, node.first, needed, node.row);
            if told(self, &said) {
                return false;
            }
        }
        let Some(runs) = self.fit(node, needed) else { return false };
        let first = runs.first().map_or(0, |(first, _)| *first);
        let there = self.medium.lenient(self.out.geometry.cluster_place(first), 512).bytes;
        if kinds::agrees(&node.name, &there) != Some(true) || !other && !told(self, &runs) {
            return false;
        }
        self.take_found(number, &runs);
        self.change(number, |node| node.flaws |= Flaws::CROSSED);
        true
    }

    pub(super) fn take_found(&mut self, number: u32, runs: &[(u32, u32)]) {
        self.claim(number, runs);
        self.change(number, |node| {
            node.first = runs.first().map_or(0, |(first, _)| *first);
            node.flaws |= Flaws::FOUND;
        });
    }

    /// NoFatChain is set: the clusters should follow one another.
    fn in_a_row(&mut self, number: u32, node: &Node, needed: u32) {
        let last = self.out.geometry.last_cluster();
        let room = last.plus(1).minus(node.first).min(needed);
        let free =
            run_of(node.first, room).take_while(|c| !self.out.claimed.contains(c.size())).count().narrow();
        if free == needed && !self.is_chained(node.first, needed) {
            self.claim(number, &[(node.first, needed)]);
            return;
        }
        // The flag may be wrong, and the table right.
        let walk = self.walk(node.first, None);
        if walk.end == End::Proper && walk.meets.is_none() && walk.length == needed && walk.length > 1 {
            self.claim(number, &walk.runs);
            self.change(number, |node| {
                node.row = false;
                node.flaws |= Flaws::FLAG_WRONG;
            });
            return;
        }
        if room < needed && free == room {
            self.claim(number, &[(node.first, room)]);
            self.change(number, |node| node.flaws |= Flaws::RUN_RANGE | Flaws::SHORT);
            return;
        }
        if self.rivals(number, node, needed) || self.found_elsewhere(number, node, needed) {
            return;
        }
        self.claim(number, &[(node.first, room)]);
        self.change(number, |node| node.flaws |= Flaws::CROSSED);
        if room < needed {
            self.change(number, |node| node.flaws |= Flaws::RUN_RANGE | Flaws::SHORT);
        }
    }

    /// NoFatChain is clear: the table should have the chain.
    fn chained(&mut self, number: u32, node: &Node, needed: u32) {
        let mut walk = self.chain_of(node.first, needed);
        if node.folder
            && let Some(own) = self.without_stray_end(&walk, needed)
        {
            walk = own;
        }
        // TexFAT: the other table may have it whole.
        if self.out.geometry.tables == 2 {
            let other = self.walk(node.first, Some(1_usize.minus(self.out.links.active())));
            if other.end == End::Proper
                && other.meets.is_none()
                && other.length == needed
                && walk.length != needed
            {
                self.take_copy(number, &other);
                return;
            }
        }
        if self.passes_over(number, node, &walk, needed)
            || self.led_astray(number, node, &walk, needed)
            || self.rival_tails(number, node, &walk, needed)
        {
            return;
        }
        let own = walk.meets.map_or(walk.length, |(_, before)| before);
        if own == 0 && (self.rivals(number, node, needed) || self.found_elsewhere(number, node, needed)) {
            return;
        }
        if own == 0 {
            // Its first cluster belongs to another.
            self.claim(number, &cut(&walk.runs, needed.min(walk.length)));
            self.change(number, |node| {
                node.flaws |= Flaws::CROSSED;
                if walk.end != End::Proper && walk.length < needed {
                    node.flaws |= Flaws::SHORT;
                }
            });
            return;
        }
        let crossed = walk.meets.filter(|(_, before)| *before < needed);
        let fault = match crossed {
            Some((into, _)) => End::Another(into),
            None => walk.end,
        };
        // Where the chain as it stands was last right.
        let good = cut(&walk.runs, own.min(needed));
        let at = last_of(&good);
        let length = own.min(needed);
        self.change(number, |node| {
            node.flaws |= match fault {
                End::Proper if length < needed => Flaws::ENDS_EARLY,
                End::Another(_) if crossed.is_none() => Flaws::ENDS_EARLY,
                _ => flaw_of(fault),
            };
            node.fault = (fault != End::Proper && length < needed
                || matches!(fault, End::Loop(_) | End::Odd(_) | End::Bad | End::Free))
            .then_some((at, fault));
        });
        if length == needed {
            // Enough: what follows is too much, or no end.
            self.claim(number, &good);
            if walk.end != End::Proper || own > needed || walk.meets.is_some() {
                // What ends properly behind all of it, or is another's, is too much.
                let long = walk.end == End::Proper || own == needed && walk.meets.is_some();
                let known = walk.end == End::Proper && walk.meets.is_none();
                let fault = walk.meets.map_or(fault, |(into, _)| End::Another(into));
                self.change(number, |node| {
                    node.flaws |= if long { Flaws::LONG } else { flaw_of(walk.end) };
                    if !known {
                        node.fault = Some((at, fault));
                    }
                });
                self.out.links.believe(at, Link::End, Because::Derived);
            }
            return;
        }
        let missing = needed.minus(length);
        let next = at.plus(1);
        let row = length == 1 && walk.end == End::Free && self.is_open_row(next, missing);
        if row && (!node.folder || run_of(next, missing).all(|cluster| self.can_be_later_part(cluster))) {
            // Never chained: the flag is what was lost.
            self.claim(number, &[(node.first, needed)]);
            self.change(number, |node| {
                node.row = true;
                node.fault = None;
                node.flaws.remove(Flaws::INTO_FREE);
                node.flaws |= Flaws::FLAG_LOST;
            });
            return;
        }
        self.claim(number, &good);
        if node.folder {
            self.folder_goes_on(number, at, missing);
            if crossed.is_some() {
                self.change(number, |node| node.flaws |= Flaws::CROSSED);
            }
            return;
        }
        self.go_on(number, (at, missing), crossed.is_some(), walk.end);
    }

    /// The chain from `first` on: where the table is erased, one that ends too early breaks off.
    pub(super) fn chain_of(&mut self, first: u32, needed: u32) -> Walk {
        let mut walk = self.walk(first, None);
        let early = walk.end == End::Proper && walk.length < needed;
        if early && self.out.links.is_erased(self.medium, walk.last) {
            walk.end = End::Free;
        }
        walk
    }

    /// So many open clusters, and none of them the first one of something that waits.
    fn is_open_row(&self, first: u32, count: u32) -> bool {
        let range = first.size()..first.plus(count).size();
        self.all_unclaimed(first, count) && !self.heads.contains_any_in_range(range)
    }

    fn take_copy(&mut self, number: u32, walk: &Walk) {
        let clusters: Vec<u32> = walk.clusters().collect();
        for (cluster, next) in clusters.iter().zip(clusters.iter().skip(1)) {
            self.out.links.believe(*cluster, Link::Next(*next), Because::Copy);
        }
        self.out.links.believe(walk.last, Link::End, Because::Copy);
        self.claim(number, &walk.runs);
        self.change(number, |node| node.flaws |= Flaws::OTHER_COPY);
    }

    /// Lets a chain go on in `runs` behind cluster `at`, and end there.
    pub(super) fn link_on(&mut self, number: u32, at: u32, runs: &[(u32, u32)]) {
        let mut before = at;
        for cluster in runs.iter().flat_map(|(start, length)| run_of(*start, *length)) {
            self.out.links.believe(before, Link::Next(cluster), Because::Guess);
            before = cluster;
        }
        self.out.links.believe(before, Link::End, Because::Guess);
        self.claim(number, runs);
    }

    /// Looks for the rest of a chain that breaks off behind cluster `at`.
    fn go_on(&mut self, number: u32, (at, missing): (u32, u32), crossed: bool, end: End) {
        let next = at.plus(1);
        let tail = self.tail(missing, 0);
        let in_row = self.is_open_row(next, missing)
            && run_of(next, missing).all(|cluster| {
                matches!(self.out.links.get(self.medium, cluster), Link::Free | Link::End)
                    || self.out.links.get(self.medium, cluster) == Link::Next(cluster.plus(1))
            });
        let runs = tail.or_else(|| in_row.then(|| vec![(next, missing)]));
        let Some(runs) = runs else {
            self.change(number, |node| {
                node.flaws |= Flaws::SHORT;
                if crossed {
                    node.flaws |= Flaws::CROSSED;
                }
                if end == End::Proper {
                    node.fault = None;
                }
            });
            if end != End::Proper || crossed {
                self.out.links.believe(at, Link::End, Because::Derived);
            }
            return;
        };
        self.link_on(number, at, &runs);
        self.change(number, |node| {
            node.flaws |= Flaws::GUESSED;
            if crossed {
                node.flaws |= Flaws::CROSSED;
            }
        });
    }
}

/// The first `length` clusters of some runs.
pub(super) fn cut(runs: &[(u32, u32)], length: u32) -> Vec<(u32, u32)> {
    let mut left = length;
    let mut found = Vec::new();
    for (start, count) in runs {
        let count = (*count).min(left);
        if count > 0 {
            found.push((*start, count));
        }
        left = left.minus(count);
    }
    found
}

pub(super) fn last_of(runs: &[(u32, u32)]) -> u32 {
    runs.last().map_or(0, |(start, count)| start.plus(*count).minus(1))
}
