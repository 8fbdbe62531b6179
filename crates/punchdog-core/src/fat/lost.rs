//! What nothing claims: lost chains, folders without an entry, entries marked deleted whose
//! clusters are still in use.

use super::{
    folder::{Flaws, Item},
    layout::{ATTR_DIRECTORY, ShortEntry},
    survey::Surveyor,
    table::entry_place,
    tree::{Lost, Node, Reached},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link, walk_own},
        set::ClusterSet,
    },
    files::{end as file_end, kinds},
    medium::{Extent, Unknown},
};
use std::collections::{HashMap, HashSet, VecDeque};
use zerocopy::FromZeros;

/// Clusters behind the first one that a table says anything of, and of how many of them it has to say something.
const NEAR: u32 = 64;
const FEW: usize = 2;

/// Lost chains as they were found, by place, by first cluster and by length: with a damaged table there
/// can be as many files that look for one as there are chains.
#[derive(Default)]
pub(super) struct LostChains {
    /// All of them, by place.
    pub(super) all: Vec<Lost>,
    by_head: HashMap<u32, usize>,
    /// Those that have an end and are no folders, by length.
    whole: HashMap<u32, VecDeque<u32>>,
}

impl LostChains {
    fn of(all: Vec<Lost>) -> Self {
        let by_head = all.iter().enumerate().map(|(index, lost)| (lost.head, index)).collect();
        let mut whole: HashMap<u32, VecDeque<u32>> = HashMap::new();
        for lost in all.iter().filter(|lost| lost.end == End::Proper && lost.folder_in.is_none()) {
            whole.entry(lost.length).or_default().push_back(lost.head);
        }
        Self { all, by_head, whole }
    }

    /// The chain that begins there.
    pub(super) fn at(&self, head: u32) -> Option<&Lost> {
        self.by_head.get(&head).and_then(|index| self.all.get(*index))
    }

    /// First clusters of the chains of exactly `length` clusters that have an end, are no folders, and
    /// are `open`. What is claimed stays so: at the front it is passed over once.
    pub(super) fn of_length(&mut self, length: u32, open: impl Fn(u32) -> bool) -> impl Iterator<Item = u32> {
        let heads = self.whole.entry(length).or_default();
        while heads.front().is_some_and(|head| !open(*head)) {
            heads.pop_front();
        }
        heads.iter().copied().filter(move |head| open(*head))
    }
}

impl Surveyor<'_> {
    /// The chains that are still nobody's at the end, with what they begin like.
    pub(super) fn take_lost(&mut self) -> Vec<Lost> {
        self.lost = None;
        let mut lost = self.find_lost();
        // Only so many are looked into: thousands of one-cluster chains are a trashed table.
        for chain in lost.iter_mut().take(4096) {
            let start = self.medium.lenient(
                self.geometry.cluster_offset(chain.head),
                kinds::ENOUGH.min(self.geometry.cluster_bytes().size()),
            );
            chain.extension = kinds::extension(&start.bytes);
            chain.text = kinds::text(&start.bytes);
            if chain.folder_in.is_none() {
                let runs = super::survey::runs(self.medium, &mut self.links, chain.head, chain.length);
                let each = self.geometry.cluster_bytes().wide();
                let extents: Vec<Extent> = runs
                    .into_iter()
                    .map(|(first, count)| {
                        Extent::new(self.geometry.cluster_offset(first), count.wide().times(each))
                    })
                    .collect();
                chain.bytes = file_end::length(self.medium, &extents, each);
                if let ([cluster], None, None) = (&extents[..], &chain.extension, chain.text)
                    && cluster.length == each
                    && let Some(line) = kinds::line(self.medium, *cluster, &start.bytes)
                {
                    (chain.bytes, chain.text) = (chain.bytes.or(Some(line)), Some("txt"));
                }
            }
        }
        lost
    }

    fn find_lost(&mut self) -> Vec<Lost> {
        let end = self.geometry.last_cluster();
        let mut used = ClusterSet::with_capacity(end.plus(1).size());
        let mut pointed = ClusterSet::with_capacity(end.plus(1).size());
        let mut next = 2;
        while next <= end && !self.watch.stop() {
            let cluster = self.links.blank_until(self.medium, next);
            next = cluster.plus(1);
            if cluster > end || self.claimed.contains(cluster.size()) {
                continue;
            }
            match self.links.get(self.medium, cluster) {
                Link::Free | Link::Bad | Link::Unreadable => {}
                Link::Next(next) => {
                    used.insert(cluster.size());
                    pointed.insert(next.size());
                }
                _ => used.insert(cluster.size()),
            }
        }
        let mut found = Vec::new();
        let mut taken = self.claimed.clone();
        let mut scratch = ClusterSet::with_capacity(end.plus(1).size());
        // Heads first; what is left then goes round in circles and is begun at its lowest cluster.
        let heads: Vec<u32> = used.ones().filter(|c| !pointed.contains(*c)).map(Sat::narrow).collect();
        let circles = used.ones().map(Sat::narrow);
        for head in heads.into_iter().chain(circles) {
            if taken.contains(head.size()) {
                continue;
            }
            let (links, medium) = (&mut self.links, self.medium);
            let walk = walk_own(head, &taken, &mut scratch, |c| (links.get(medium, c), false));
            // A chain that runs into another's clusters is its own only up to there.
            let own = walk.meets.map_or(walk.length, |(_, before)| before);
            taken.extend(walk.clusters().take(own.size()).map(Sat::size));
            let end = if walk.meets.is_some() { End::Loop(head) } else { walk.end };
            let folder_in = self.dots_at(head).filter(|(own, _)| *own == head).map(|(_, parent)| parent);
            found.push(Lost { head, length: own, end, folder_in, extension: None, text: None, bytes: None });
        }
        found.sort_by_key(|lost| lost.head);
        found
    }

    /// Entries marked deleted whose chains are whole, in use and nobody's: not deleted at all.
    pub(super) fn adopt_deleted(&mut self) -> bool {
        if self.tree.deleted.is_empty() {
            return false;
        }
        let lost: HashMap<u32, (u32, End, bool)> = self.with_lost(|_, lost| {
            lost.all.iter().map(|l| (l.head, (l.length, l.end, l.folder_in.is_some()))).collect()
        });
        if lost.is_empty() {
            return false;
        }
        let wide = self.geometry.wide();
        let mut adopted = false;
        let mut left = Vec::new();
        for (folder, place, item) in std::mem::take(&mut self.tree.deleted) {
            let first = item.entry.first_cluster(wide);
            let needed = self.geometry.clusters_for(item.entry.size.get().wide());
            let fits = lost.get(&first).is_some_and(|(length, end, is_folder)| {
                let right = if item.entry.is_folder() { *is_folder } else { *length == needed };
                *end == End::Proper && right
            });
            if fits && self.is_unclaimed(first) {
                let number = self.add(folder, place, &item, Reached::Undeleted);
                self.heads.insert(first.size());
                let walk = self.walk(first);
                self.claim(number, &walk);
                adopted = true;
            } else {
                left.push((folder, place, item));
            }
        }
        self.tree.deleted = left;
        if adopted {
            self.lost = None;
        }
        adopted
    }

    /// Lost chains that begin with "." and "..": folders whose entries are gone. Each is read
    /// like any folder, under the folder that its ".." names where that one is known.
    pub(super) fn adopt_orphans(&mut self) -> bool {
        let free: Vec<(u32, u32)> = self.with_lost(|s, lost| {
            let folders = lost.all.iter().filter_map(|l| l.folder_in.map(|parent| (l.head, parent)));
            folders.filter(|(head, _)| s.is_unclaimed(*head)).collect()
        });
        if free.is_empty() {
            return false;
        }
        let known = self.folders_by_cluster();
        for (head, up) in outermost(&free) {
            self.adopt_folder(head, known.get(&up).copied());
        }
        self.lost = None;
        true
    }

    fn folders_by_cluster(&self) -> HashMap<u32, u32> {
        let folders = (0..).zip(&self.tree.nodes).filter(|(_, node)| node.folder && node.length > 0);
        folders.map(|(number, node)| (node.first, number)).collect()
    }

    /// A folder without an entry, under the one that its ".." names, where that is known, or the root.
    fn adopt_folder(&mut self, head: u32, above: Option<u32>) {
        let mut entry = ShortEntry { attributes: ATTR_DIRECTORY, ..ShortEntry::new_zeroed() };
        entry.set_first_cluster(head);
        let name = format!("lost folder {head}");
        let item = Item { index: 0, long: 0..0, entry, name, flaws: Flaws::default() };
        let number = self.add(above.unwrap_or(0), 0, &item, Reached::Orphan);
        self.heads.insert(head.size());
        let walk = self.walk(head);
        if walk.meets.is_none() && walk.end == End::Proper {
            self.claim(number, &walk);
        } else {
            self.waiting_folders.push_back(number);
        }
    }

    /// Folders that name the clusters they stand in, where the root names nothing and the tables have lost their beginning:
    /// formatting leaves the first two entries of each (specification, "FAT Data Structure"), so that nobody formatted
    /// this, and what the empty part of them says of its clusters is nothing.
    pub(super) fn adopt_dotted(&mut self) -> bool {
        let names = |node: &Node| node.parent == 0 && node.reached == Reached::Tree;
        let named = self.tree.nodes.iter().skip(1).any(names)
            || self.tree.deleted.iter().any(|(folder, ..)| *folder == 0);
        if self.dots.is_none() && named {
            return false;
        }
        // The volume is searched once; what was adopted may have led to others since.
        let mut free = if let Some(found) = self.dots.take() {
            found
        } else {
            let until = self.beginning_lost();
            self.dots_before(until)
        };
        free.retain(|(head, _)| self.is_unclaimed(*head));
        let known = self.folders_by_cluster();
        for (head, up) in outermost(&free) {
            if !self.take_named(head) {
                self.adopt_folder(head, known.get(&up).copied());
            }
        }
        let adopted = !free.is_empty();
        self.dotted |= adopted;
        self.dots = Some(free);
        adopted
    }

    /// The first cluster that the tables say anything of, where all of them have lost their first entries; else 2.
    fn beginning_lost(&mut self) -> u32 {
        let (medium, geometry) = (self.medium, self.geometry);
        let gaps: Vec<Extent> = [Unknown::Unreadable, Unknown::Lost]
            .into_iter()
            .flat_map(|which| medium.unknown(which))
            .collect();
        let is_known = |place: Extent| !gaps.iter().any(|gap| gap.overlaps(place));
        let head = |copy| Extent::new(geometry.table_offset(copy), geometry.bits().times(2).per(8).wide());
        let heads: Vec<u32> = (0..geometry.tables).filter(|copy| is_known(head(*copy))).collect();
        let zero = |copy: u32| {
            let head = head(copy);
            medium.lenient(head.offset, head.length.size()).bytes.iter().all(|byte| *byte == 0)
        };
        // Zeros, or nothing of a table: what was erased to FF, for one.
        if !heads.iter().all(|copy| zero(*copy) || self.links.is_foreign(*copy, 0)) {
            return 2;
        }
        // Where no copy shows that it was lost, what can be read of them counts.
        let zeroed = !heads.is_empty();
        let mut at = 2;
        while at <= geometry.last_cluster() {
            if zeroed {
                at = self.links.blank_until(medium, at);
            }
            // What was put together without the tables is nothing that they say.
            let mut says = |cluster: u32, copy| match self.links.in_copy(medium, copy, cluster) {
                Link::Unreadable => false,
                Link::Free => {
                    let (within, width) = entry_place(geometry.kind, cluster);
                    !zeroed && is_known(Extent::new(geometry.table_offset(copy).plus(within), width))
                }
                _ => true,
            };
            let mut any = |cluster: u32| (0..geometry.tables).any(|copy| says(cluster, copy));
            if any(at) {
                // A stray value among zeros is no beginning of what is left.
                let near = at.plus(1)..at.plus(NEAR).min(geometry.last_cluster()).plus(1);
                if near.filter(|cluster| any(*cluster)).take(FEW).count() == FEW {
                    break;
                }
            }
            at = at.plus(1);
        }
        at
    }

    /// Clusters before `until` that are nobody's and begin as folders that name them, with what their ".." names.
    fn dots_before(&self, until: u32) -> Vec<(u32, u32)> {
        let each = self.geometry.cluster_bytes().wide();
        let (start, end) = (self.geometry.data_offset(), self.geometry.cluster_offset(until));
        let mut found = Vec::new();
        let mut at = start;
        while let Some(piece) = self.medium.piece_from(at, end.min(self.medium.len()))
            && !self.watch.stop()
        {
            let bytes = self.medium.lenient(piece.offset, piece.length.size()).bytes;
            let first = piece.offset.minus(start).per_up(each);
            let last = piece.end().minus(start).per_up(each);
            for index in first..last {
                let place = start.plus(index.times(each));
                let cluster = index.plus(2).narrow();
                if bytes.byte(place.minus(piece.offset).size()) == b'.'
                    && self.is_unclaimed(cluster)
                    && let Some((own, parent)) = self.dots_at(cluster)
                    && own == cluster
                {
                    found.push((cluster, parent));
                }
            }
            at = piece.end();
        }
        found
    }

    /// True for the head of a chain that no entry names and nobody has claimed since it was found.
    pub(super) fn is_unclaimed(&self, head: u32) -> bool {
        !self.heads.contains(head.size()) && !self.claimed.contains(head.size())
    }

    /// Asks something of the lost chains. They are found once; what was claimed since then has to
    /// be passed over with [`Surveyor::is_unclaimed`].
    pub(super) fn with_lost<T>(&mut self, ask: impl FnOnce(&mut Self, &mut LostChains) -> T) -> T {
        let mut lost = match self.lost.take() {
            Some(lost) => lost,
            None => LostChains::of(self.find_lost()),
        };
        let answer = ask(self, &mut lost);
        self.lost = Some(lost);
        answer
    }
}

/// Of lost folders and what their ".." name, those that are in no other: one inside another will be found through that.
/// Where they all lie in a circle, any one will do to begin with.
fn outermost(free: &[(u32, u32)]) -> Vec<(u32, u32)> {
    let heads: HashSet<u32> = free.iter().map(|(head, _)| *head).collect();
    let mut found: Vec<_> =
        free.iter().filter(|(head, up)| !heads.contains(up) || head == up).copied().collect();
    if found.is_empty() {
        found.extend(free.first());
    }
    found
}
