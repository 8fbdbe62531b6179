//! Files and folders whose clusters do not fit as they stand: what is the likeliest that was
//! meant. The bitmap says which clusters are in use, the folders whose they are; what is in use and
//! nobody's is where the missing clusters of a broken chain are looked for.

use super::{
    sets::{Flaws, begins_with_set, looks_like_folder},
    survey::Surveyor,
    table::Because,
    tree::{Lost, Node, Reached},
};
use crate::{
    arith::{Peek, Sat},
    chain::{End, Link, Walk},
    content,
    medium::Extent,
};
use fixedbitset::FixedBitSet;

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

/// First cluster, runs, and whether they lie in a row.
type Fit = (u32, Vec<(u32, u32)>, bool);

/// Clusters of unused space that are looked at for lost folders when the bitmap is no help.
const SEARCHED: usize = 1 << 20;
/// Lost chains that are listed.
const LISTED: usize = 60_000;

impl Surveyor<'_> {
    /// Takes up every node that waits: folders first, because they lead to more.
    pub(super) fn resolve(&mut self) {
        let mut waiting = std::mem::take(&mut self.waiting);
        waiting.sort_by_key(|number| self.node(*number).is_none_or(|node| !node.folder));
        for number in waiting {
            self.resolve_one(number);
            self.settle(number);
        }
    }

    fn resolve_one(&mut self, number: u32) {
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
                    true if self.all_open(node.first, said) => self.folder_run(node.first).max(said),
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
    fn folder_run(&self, first: u32) -> u32 {
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
        let open = |cluster: u32| self.is_open(cluster);
        (first..=self.out.geometry.last_cluster())
            .take_while(|cluster| open(*cluster))
            .count()
            .narrow()
            .max(1)
    }

    /// In use by the bitmap, and nobody's.
    fn is_open(&self, cluster: u32) -> bool {
        self.out.used.contains(cluster.size()) && !self.out.claimed.contains(cluster.size())
    }

    fn all_open(&self, first: u32, count: u32) -> bool {
        self.out.geometry.has(first)
            && first.wide().plus(count.wide()) <= self.out.geometry.last_cluster().wide().plus(1)
            && (first..).take(count.size()).all(|cluster| self.is_open(cluster))
    }

    /// The first cluster cannot be used: clusters in use that belong to nobody and fit exactly.
    fn without_first(&mut self, number: u32, node: &Node, needed: u32) {
        let flaw = if node.first == 0 { Flaws::NO_FIRST } else { Flaws::FIRST_RANGE };
        let fits: Vec<Fit> = self.open_runs(node, needed);
        self.change(number, |node| node.flaws |= flaw);
        if let [(first, runs, row)] = fits.as_slice() {
            let (first, row) = (*first, *row);
            self.claim(number, runs);
            self.change(number, |node| {
                node.first = first;
                node.row = row;
                node.flaws |= Flaws::FOUND;
            });
        } else {
            self.change(number, |node| {
                node.first = 0;
                node.row = false;
            });
        }
    }

    /// A file whose clusters are another's, where one run or chain of exactly its length, open and
    /// nobody's, begins as its kind does and the clusters that its entry names do not: it is the
    /// first cluster that is wrong.
    fn found_elsewhere(&mut self, number: u32, node: &Node, needed: u32) -> bool {
        let start = self.medium.lenient(self.out.geometry.cluster_place(node.first), 512).bytes;
        if node.folder || content::agrees(&node.name, &start) != Some(false) {
            return false;
        }
        let fits = self.open_runs(node, needed);
        let [(first, runs, row)] = fits.as_slice() else { return false };
        let there = self.medium.lenient(self.out.geometry.cluster_place(*first), 512).bytes;
        if content::agrees(&node.name, &there) != Some(true) {
            return false;
        }
        let (first, row) = (*first, *row);
        self.claim(number, runs);
        self.change(number, |node| {
            node.first = first;
            node.row = row;
            node.flaws |= Flaws::FOUND | Flaws::CROSSED;
        });
        true
    }

    /// Runs and chains of exactly `needed` open clusters whose content can be this node's.
    fn open_runs(&mut self, node: &Node, needed: u32) -> Vec<Fit> {
        let g = self.out.geometry;
        let mut found = Vec::new();
        let last = g.last_cluster();
        let mut pointed = FixedBitSet::with_capacity(last.plus(1).size());
        let open: Vec<u32> = (2..=last).filter(|cluster| self.is_open(*cluster)).take(SEARCHED).collect();
        for cluster in &open {
            if let Link::Next(next) = self.out.links.get(self.medium, *cluster) {
                pointed.insert(next.size());
            }
        }
        for cluster in open {
            if pointed.contains(cluster.size()) {
                continue;
            }
            let start = self.medium.lenient(g.cluster_place(cluster), 512).bytes;
            let suits = if node.folder {
                begins_with_set(&start, &self.out.capitals)
            } else {
                content::agrees(&node.name, &start).unwrap_or_else(|| !looks_like_folder(&start, true))
            };
            if !suits {
                continue;
            }
            let link = self.out.links.get(self.medium, cluster);
            let runs = if link == Link::Free {
                if node.row && self.all_open(cluster, needed) { vec![(cluster, needed)] } else { Vec::new() }
            } else {
                let walk = self.walk(cluster, None);
                let whole =
                    walk.end == End::Proper && walk.meets.is_none() && walk.length == needed && !node.row;
                if whole { walk.runs } else { Vec::new() }
            };
            // A run behind another open cluster without a mark of its own is the middle of something.
            let inside = link == Link::Free
                && self.is_open(cluster.minus(1))
                && content::agrees(&node.name, &start) != Some(true)
                && !node.folder;
            if !runs.is_empty() && !inside {
                found.push((cluster, runs, link == Link::Free));
            }
        }
        found
    }

    /// NoFatChain is set: the clusters should follow one another.
    fn in_a_row(&mut self, number: u32, node: &Node, needed: u32) {
        let last = self.out.geometry.last_cluster();
        let room = last.plus(1).minus(node.first).min(needed);
        let free = (node.first..)
            .take(room.size())
            .take_while(|c| !self.out.claimed.contains(c.size()))
            .count()
            .narrow();
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
        if self.found_elsewhere(number, node, needed) {
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
        let walk = self.walk(node.first, None);
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
        let own = walk.meets.map_or(walk.length, |(_, before)| before);
        if own == 0 && self.found_elsewhere(number, node, needed) {
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
            node.flaws |= if crossed.is_some() { Flaws::empty() } else { flaw_of(fault) };
            node.fault = (fault != End::Proper && length < needed
                || matches!(fault, End::Loop(_) | End::Odd(_) | End::Bad | End::Free))
            .then_some((at, fault));
        });
        if length == needed {
            // Enough: what follows is too much, or no end.
            self.claim(number, &good);
            if walk.end != End::Proper || own > needed || walk.meets.is_some() {
                if walk.end == End::Proper && walk.meets.is_none() {
                    self.change(number, |node| node.flaws |= Flaws::LONG);
                } else {
                    self.change(number, |node| {
                        node.flaws |= flaw_of(walk.end);
                        node.fault = Some((at, fault));
                    });
                }
                self.out.links.believe(at, Link::End, Because::Derived);
            }
            return;
        }
        let missing = needed.minus(length);
        let next = at.plus(1);
        if length == 1 && walk.end == End::Free && self.all_open(next, missing) {
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
        self.go_on(number, node, (at, missing), crossed.is_some(), walk.end);
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

    /// Looks for the rest of a chain that breaks off behind cluster `at`.
    fn go_on(&mut self, number: u32, node: &Node, (at, missing): (u32, u32), crossed: bool, end: End) {
        let next = at.plus(1);
        let tails = self.tails(missing);
        let tail = match tails.as_slice() {
            [only] => Some(only.clone()),
            _ => None,
        };
        let in_row = self.all_open(next, missing)
            && (next..).take(missing.size()).all(|cluster| {
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
        let mut before = at;
        for (start, length) in &runs {
            for cluster in (*start..).take(length.size()) {
                self.out.links.believe(before, Link::Next(cluster), Because::Guess);
                before = cluster;
            }
        }
        self.out.links.believe(before, Link::End, Because::Guess);
        self.claim(number, &runs);
        let _ = node;
        self.change(number, |node| {
            node.flaws |= Flaws::GUESSED;
            if crossed {
                node.flaws |= Flaws::CROSSED;
            }
        });
    }

    /// Chains of exactly `length` open clusters to which nothing leads.
    fn tails(&mut self, length: u32) -> Vec<Vec<(u32, u32)>> {
        let last = self.out.geometry.last_cluster();
        let open: Vec<u32> = (2..=last).filter(|cluster| self.is_open(*cluster)).take(SEARCHED).collect();
        let mut pointed = FixedBitSet::with_capacity(last.plus(1).size());
        for cluster in &open {
            if let Link::Next(next) = self.out.links.get(self.medium, *cluster) {
                pointed.insert(next.size());
            }
        }
        let mut found = Vec::new();
        for cluster in open {
            if pointed.contains(cluster.size()) || !self.out.links.get(self.medium, cluster).in_chain() {
                continue;
            }
            let walk = self.walk(cluster, None);
            if walk.end == End::Proper && walk.meets.is_none() && walk.length == length {
                found.push(walk.runs);
            }
        }
        found
    }

    /// Sets marked deleted whose clusters are in use and nobody's: not deleted at all.
    pub(super) fn adopt_deleted(&mut self) {
        let mut left = Vec::new();
        for (folder, place, item) in std::mem::take(&mut self.out.tree.deleted) {
            let needed = self.out.geometry.clusters_for(item.stream.length).narrow();
            let open = needed > 0 && item.stream.first >= 2 && {
                if item.stream.in_a_row() {
                    self.all_open(item.stream.first, needed)
                } else {
                    let walk =
                        self.out.geometry.has(item.stream.first).then(|| self.walk(item.stream.first, None));
                    walk.is_some_and(|walk| {
                        walk.end == End::Proper
                            && walk.length == needed
                            && walk.clusters().all(|c| self.is_open(c))
                    })
                }
            };
            if open {
                self.add(folder, place, &item, Reached::Undeleted);
            } else {
                left.push((folder, place, item));
            }
        }
        self.out.tree.deleted = left;
    }

    /// Clusters that begin as folders do and that no entry names.
    pub(super) fn adopt_orphans(&mut self) {
        let g = self.out.geometry;
        let trust = self.out.bitmap.usable || !self.out.bitmap.bytes.is_empty();
        let mut starts: Vec<u32> = Vec::new();
        let candidates = (2..=g.last_cluster()).filter(|cluster| {
            let claimed = self.out.claimed.contains(cluster.size());
            !claimed && (!trust || self.out.used.contains(cluster.size()))
        });
        for cluster in candidates.take(SEARCHED) {
            let bytes =
                self.medium.lenient(g.cluster_place(cluster), 608.min(g.cluster_bytes().size())).bytes;
            if begins_with_set(&bytes, &self.out.capitals) {
                starts.push(cluster);
            }
        }
        if starts.is_empty() {
            return;
        }
        // Not the middle of another folder, and not what a set in another one names.
        let mut inner = FixedBitSet::with_capacity(g.last_cluster().plus(1).size());
        let mut lengths = Vec::new();
        for start in &starts {
            let walk = self.walk(*start, None);
            let chained = walk.end == End::Proper && walk.meets.is_none() && walk.length > 1;
            let runs = if chained { walk.runs } else { vec![(*start, self.folder_run(*start))] };
            for cluster in runs.iter().flat_map(|(first, count)| (*first..).take(count.size())).skip(1) {
                inner.insert(cluster.size());
            }
            for (first, count) in &runs {
                let extent = Extent::new(g.cluster_place(*first), count.wide().times(g.cluster_bytes()));
                let bytes = self.medium.lenient(extent.offset, extent.length.size()).bytes;
                for item in super::sets::Reading::of(&bytes, &self.out.capitals, false).items {
                    if g.has(item.stream.first) && item.stream.first != *start {
                        inner.insert(item.stream.first.size());
                    }
                }
            }
            lengths.push((*start, runs, chained));
        }
        for (start, runs, chained) in lengths {
            if inner.contains(start.size()) || self.out.claimed.contains(start.size()) {
                continue;
            }
            let length: u32 = runs.iter().fold(0, |sum, (_, count)| sum.plus(*count));
            if self.root_breaks_off() {
                self.root_goes_on(start);
                continue;
            }
            let number = self.out.tree.nodes.len().narrow();
            self.out.tree.nodes.push(orphan(start, !chained, length.wide().times(g.cluster_bytes())));
            self.claim(number, &runs);
            self.settle(number);
        }
    }

    /// What the bitmap has in use and nothing claims.
    pub(super) fn find_lost(&mut self) {
        let g = self.out.geometry;
        let last = g.last_cluster();
        let open: Vec<u32> = self
            .out
            .used
            .ones()
            .map(Sat::narrow)
            .filter(|c| g.has(*c) && !self.out.claimed.contains(c.size()))
            .collect();
        let mut pointed = FixedBitSet::with_capacity(last.plus(1).size());
        for cluster in &open {
            if let Link::Next(next) = self.out.links.get(self.medium, *cluster) {
                pointed.insert(next.size());
            }
        }
        let mut taken = FixedBitSet::with_capacity(last.plus(1).size());
        for cluster in open {
            if taken.contains(cluster.size()) || self.out.tree.lost.len() >= LISTED {
                continue;
            }
            let link = self.out.links.get(self.medium, cluster);
            let walk =
                (link.in_chain() && !pointed.contains(cluster.size())).then(|| self.walk(cluster, None));
            let chain = walk.filter(|walk| {
                walk.end == End::Proper
                    && walk.meets.is_none()
                    && walk.clusters().all(|c| self.is_open(c) && !taken.contains(c.size()))
            });
            let (length, chained) = if let Some(walk) = &chain {
                walk.clusters().for_each(|c| taken.insert(c.size()));
                (walk.length, true)
            } else {
                let length = self.lost_run(cluster, &taken);
                taken.insert_range(cluster.size()..cluster.plus(length).size());
                (length, false)
            };
            let start = self
                .medium
                .lenient(g.cluster_place(cluster), content::ENOUGH.min(g.cluster_bytes().size()))
                .bytes;
            let byte = start.byte(0);
            let blank = matches!(byte, 0 | 0xFF) && start.iter().all(|b| *b == byte);
            self.push_lost(Lost {
                first: cluster,
                length,
                chained,
                blank,
                extension: content::extension(&start),
            });
        }
    }

    /// Lost clusters in a row, up to where something else begins.
    fn lost_run(&self, first: u32, taken: &FixedBitSet) -> u32 {
        let g = self.out.geometry;
        let mut length = 1_u32;
        let blank = |cluster: u32| {
            let start = self.medium.lenient(g.cluster_place(cluster), 64).bytes;
            matches!(start.byte(0), 0 | 0xFF) && start.iter().all(|b| *b == start.byte(0))
        };
        let begins_blank = blank(first);
        loop {
            let next = first.plus(length);
            if !g.has(next) || !self.is_open(next) || taken.contains(next.size()) || length >= 1 << 20 {
                break;
            }
            let start = self.medium.lenient(g.cluster_place(next), 512).bytes;
            if content::extension(&start).is_some() || begins_blank != blank(next) && begins_blank {
                break;
            }
            length = length.plus(1);
        }
        length
    }
}

fn orphan(first: u32, row: bool, length: u64) -> Node {
    use super::layout::{DIRECTORY, NO_CHAIN, POSSIBLE, Stream};
    Node {
        parent: 0,
        name: format!("lost folder {first}").into_boxed_str(),
        place: 0,
        index: 0,
        entries: 0,
        stream: Stream {
            flags: POSSIBLE | if row { NO_CHAIN } else { 0 },
            first,
            length,
            valid: length,
            ..Stream::default()
        },
        attributes: DIRECTORY,
        modified: None,
        folder: true,
        first,
        length: 0,
        row,
        flaws: Flaws::empty(),
        reached: Reached::Orphan,
        fault: None,
    }
}

/// The first `length` clusters of some runs.
fn cut(runs: &[(u32, u32)], length: u32) -> Vec<(u32, u32)> {
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

fn last_of(runs: &[(u32, u32)]) -> u32 {
    runs.last().map_or(0, |(start, count)| start.plus(*count).minus(1))
}
