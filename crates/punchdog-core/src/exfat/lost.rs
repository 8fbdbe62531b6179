//! What cannot be reached: sets marked deleted whose clusters are still in use, folders that no entry
//! names, clusters in use that belong to nothing.

use super::{
    layout::{DIRECTORY, NO_CHAIN, POSSIBLE, Stream},
    sets::{Flaws, begins_with_set},
    survey::{READ, Surveyor, extents_of},
    tree::{Lost, Node, Reached},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link, run_of, walk_own},
        set::ClusterSet,
    },
    files::{end as file_end, kinds},
    medium::Extent,
};

/// Clusters that are looked at for lost folders.
const SEARCHED: usize = 1 << 20;
/// Lost chains that are listed.
const LISTED: usize = 60_000;
/// Clusters of one lost run.
const LONGEST: u32 = 1 << 20;

impl Surveyor<'_> {
    /// Sets marked deleted whose clusters are in use and nobody's: not deleted at all.
    pub(super) fn adopt_deleted(&mut self) {
        let mut left = Vec::new();
        for (folder, place, item) in std::mem::take(&mut self.out.tree.deleted) {
            let needed = self.out.geometry.clusters_for(item.stream.length).narrow();
            let open = needed > 0 && item.stream.first >= 2 && {
                if item.stream.in_a_row() {
                    self.all_unclaimed(item.stream.first, needed)
                } else {
                    let walk =
                        self.out.geometry.has(item.stream.first).then(|| self.walk(item.stream.first, None));
                    walk.is_some_and(|walk| {
                        walk.end == End::Proper
                            && walk.length == needed
                            && walk.clusters().all(|c| self.is_unclaimed(c))
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

    /// Unclaimed clusters that begin as folders do. What they hold does not change while a survey
    /// is made, and what is claimed only grows: they are looked at once, and again only if the
    /// bitmap lost its credit meanwhile.
    fn look_for_folders(&mut self, believed: bool) {
        if self.starts.as_ref().is_some_and(|(then, _)| *then == believed) {
            return;
        }
        let g = self.out.geometry;
        let mut starts = Vec::new();
        let mut candidates = self.out.claimed.complement();
        if believed {
            candidates.intersect_with(&self.out.used);
        }
        let all = candidates.count().min(SEARCHED).wide();
        let candidates = candidates.ones().map(Sat::narrow).filter(|cluster| g.has(*cluster)).take(SEARCHED);
        for (number, cluster) in candidates.enumerate() {
            if number.is_multiple_of(1024) {
                if self.watch.stop() {
                    break;
                }
                self.watch.at("looking for lost folders", number.wide(), all);
            }
            let bytes =
                self.medium.lenient(g.cluster_place(cluster), 608.min(g.cluster_bytes().size())).bytes;
            // What was moved off a bad cluster still stands there.
            if begins_with_set(&bytes, &self.out.capitals)
                && self.out.links.get(self.medium, cluster) != Link::Bad
            {
                starts.push(cluster);
            }
        }
        self.starts = Some((believed, starts));
    }

    /// Clusters that begin as folders do and that no entry names.
    pub(super) fn adopt_orphans(&mut self) {
        let g = self.out.geometry;
        let believed = self.bitmap_believed();
        self.look_for_folders(believed);
        let mut starts = self.starts.as_ref().map(|(_, starts)| starts.clone()).unwrap_or_default();
        starts.retain(|start| !self.out.claimed.contains(start.size()));
        if starts.is_empty() {
            return;
        }
        // Not the middle of another folder, and not what a set in another one names.
        let mut inner = ClusterSet::with_capacity(g.last_cluster().plus(1).size());
        let mut lengths = Vec::new();
        for start in &starts {
            let walk = self.walk(*start, None);
            let chained = walk.end == End::Proper && walk.meets.is_none() && walk.length > 1;
            let runs = if chained { walk.runs } else { vec![(*start, self.folder_run(*start))] };
            for cluster in runs.iter().flat_map(|(first, count)| run_of(*first, *count)).skip(1) {
                inner.insert(cluster.size());
            }
            // In free space a folder that was deleted and written over in part looks the same; what
            // its sets name belongs to others by now.
            let (mut own, mut room) = (true, READ);
            for extent in extents_of(&g, &runs) {
                // A chain can claim more than any folder has.
                let length = extent.length.min(room);
                room = room.minus(length);
                let bytes = self.medium.lenient(extent.offset, length.size()).bytes;
                for item in super::sets::Reading::of(&bytes, &self.out.capitals, false).items {
                    if g.has(item.stream.first) && item.stream.first != *start {
                        inner.insert(item.stream.first.size());
                        own &= !self.out.claimed.contains(item.stream.first.size());
                    }
                }
            }
            if believed || own {
                lengths.push((*start, runs, chained));
            }
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

    /// A bitmap that has most of what files and folders claim as free says nothing of the rest.
    pub(super) fn bitmap_believed(&self) -> bool {
        let claimed = self.out.claimed.count();
        let denied = self.out.claimed.difference(&self.out.used).count();
        !self.out.bitmap.clusters.is_empty() && denied.times(2) < claimed
    }

    /// What the bitmap has in use and nothing claims.
    pub(super) fn find_lost(&mut self) {
        let (open, pointed) = self.pointed();
        let mut taken = self.out.claimed.clone();
        let mut scratch = ClusterSet::with_capacity(taken.len());
        let all = open.count().wide();
        for (number, cluster) in open.ones().map(Sat::narrow).enumerate() {
            if taken.contains(cluster.size()) {
                continue;
            }
            if self.out.tree.lost.len() >= LISTED || self.watch.stop() {
                return;
            }
            self.watch.at("looking at lost clusters", number.wide(), all);
            let start = self.start_of(cluster);
            let (extension, text) = (kinds::extension(&start), kinds::text(&start));
            let begins = match (blank(&start), &extension, text) {
                (true, ..) => Begins::Blank,
                (_, None, Some(_)) => Begins::Text,
                _ => Begins::Else,
            };
            let line = if begins == Begins::Else { self.line_at(cluster, &start) } else { None };
            let (links, medium) = (&mut self.out.links, self.medium);
            let link = links.get(medium, cluster);
            let silent = link == Link::End && links.is_erased(medium, cluster);
            let heads = link.in_chain() && !silent && !pointed.contains(cluster.size());
            let chain =
                heads.then(|| walk_own(cluster, &taken, &mut scratch, |c| (links.get(medium, c), false)));
            let chain = chain.filter(|walk| {
                walk.end == End::Proper
                    && walk.meets.is_none()
                    && walk.clusters().all(|c| self.is_unclaimed(c))
            });
            let length = if let Some(walk) = &chain {
                walk.clusters().for_each(|c| taken.insert(c.size()));
                walk.length
            } else {
                let begins = if line.is_some() { Begins::Line } else { begins };
                let length = self.lost_run(cluster, begins, (&open, &taken));
                taken.insert_range(cluster.size()..cluster.plus(length).size());
                length
            };
            let g = self.out.geometry;
            let runs = match &chain {
                Some(walk) => walk.runs.clone(),
                None => vec![(cluster, length)],
            };
            let extents = extents_of(&g, &runs);
            let line = line.filter(|_| length == 1);
            self.out.tree.lost.push(Lost {
                bytes: file_end::length(self.medium, &extents, g.cluster_bytes()).or(line),
                first: cluster,
                length,
                chained: chain.is_some(),
                blank: begins == Begins::Blank,
                extension,
                text: text.or(line.map(|_| "txt")),
            });
        }
    }

    pub(super) fn start_of(&self, cluster: u32) -> Vec<u8> {
        let g = self.out.geometry;
        self.medium.lenient(g.cluster_place(cluster), kinds::ENOUGH.min(g.cluster_bytes().size())).bytes
    }

    /// Lost clusters in a row, up to where something else begins: a kind, anything behind a text, or a
    /// text behind what has ended.
    fn lost_run(&self, first: u32, begins: Begins, (open, taken): (&ClusterSet, &ClusterSet)) -> u32 {
        let g = self.out.geometry;
        let mut length = 1_u32;
        loop {
            let next = first.plus(length);
            let nobodys = open.contains(next.size()) && !taken.contains(next.size());
            if !g.has(next) || !nobodys || length >= LONGEST {
                break;
            }
            let start = self.medium.lenient(g.cluster_place(next), 512).bytes;
            // What a picture ends with can be anything, but a text is none of its own.
            let is_next = || {
                let text = || begins == Begins::Text || kinds::text(&start).is_some();
                (text() || self.line_at(next, &start).is_some())
                    && self.ends_with_zeros(next.minus(1))
                    && self.ends_in_last(first, length)
            };
            let ends = match begins {
                Begins::Blank => !blank(&start),
                Begins::Line if length == 1 => {
                    let other = kinds::extension(&start).is_some() || kinds::text(&start).is_some();
                    other || self.line_at(next, &start).is_some()
                }
                _ => kinds::extension(&start).is_some() || is_next(),
            };
            if ends || self.watch.stop() {
                break;
            }
            length = length.plus(1);
        }
        length
    }

    /// The bytes of a line that stands alone in that cluster, of which `start` was read.
    fn line_at(&self, cluster: u32, start: &[u8]) -> Option<u64> {
        let g = self.out.geometry;
        kinds::line(self.medium, Extent::new(g.cluster_place(cluster), g.cluster_bytes()), start)
    }

    /// What begins there ends in the last of so many clusters.
    fn ends_in_last(&self, first: u32, count: u32) -> bool {
        let extents = extents_of(&self.out.geometry, &[(first, count)]);
        let room = count.minus(1).wide().times(self.out.geometry.cluster_bytes());
        self.ends.length(self.medium, &extents).is_some_and(|length| length > room)
    }

    /// What ends within its last cluster is followed by zeros there: no letter, of whatever width, is two of them.
    fn ends_with_zeros(&self, cluster: u32) -> bool {
        let end = self.out.geometry.cluster_place(cluster).plus(self.out.geometry.cluster_bytes());
        self.medium.lenient(end.minus(2), 2).bytes == [0, 0]
    }
}

/// What a row of lost clusters begins with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Begins {
    /// Nothing.
    Blank,
    /// Letters.
    Text,
    /// A few, and zeros up to the end of the cluster.
    Line,
    /// A file of some other kind, or what tells nothing.
    Else,
}

/// Nothing but zeros, or nothing but ones.
fn blank(bytes: &[u8]) -> bool {
    let byte = bytes.byte(0);
    matches!(byte, 0 | 0xFF) && bytes.iter().all(|other| *other == byte)
}

fn orphan(first: u32, row: bool, length: u64) -> Node {
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
