//! One reading of a whole volume: the table, then the folders from the root on, then what is left.
//!
//! Entries whose chains fit at once claim their clusters first. The others wait, and are settled
//! in `resolve` in the order of certainty: by another copy of the table, by a chain that
//! nobody claims and that fits exactly, by the likeliest run of clusters. Folders come before
//! files, because what a folder names may explain the rest.

mod behind;
mod content;

use content::places;
pub use content::{Content, chain, runs};

use super::{
    folder::{Flaws, Item, Reading},
    geometry::{Geometry, evidence::dots},
    layout::{ATTR_DIRECTORY, ENTRY_BYTES, FOLDER_LONGEST, ShortEntry},
    links::Links,
    lost::LostChains,
    names,
    tree::{FolderNotes, Node, Reached, Tree},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        blank_end::{Tail, is_never},
        chain::{Budget, End, Link, Walk, walk},
        set::ClusterSet,
        skipped::SEARCHES,
    },
    files::end::Ends,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};
use rayon::prelude::*;
use std::collections::{HashMap, VecDeque};
use zerocopy::FromZeros;

/// Bytes of a folder that are read: 65536 entries (specification, "FAT Directory Structure"), and
/// as much again for a chain that runs on too far.
const FOLDER_LIMIT: usize = 2 * FOLDER_LONGEST;
/// Folders that are read side by side, at most, and their bytes.
const BATCH: usize = 64;
const BATCH_BYTES: u64 = 4 << 20;

/// All that one reading shows.
pub struct Survey {
    /// The geometry it was read with.
    pub geometry: Geometry,
    /// The believed table.
    pub links: Links,
    /// Folders and files.
    pub tree: Tree,
    /// One bit a cluster: somebody's.
    pub claimed: ClusterSet,
    /// One bit a cluster: more than one claims it.
    pub shared: ClusterSet,
    /// Free clusters.
    pub free: u32,
    /// Clusters marked bad.
    pub bad: u32,
    /// The first free cluster.
    pub first_free: Option<u32>,
    /// The volume label in the root folder, and the place of its entry.
    pub label: Option<(names::Short, u64)>,
    /// The end of the medium where nothing but one value stands, though files should.
    pub hollow: Option<Tail>,
    /// Lost folders were found by their "." alone: no table calls their clusters in use.
    pub dotted: bool,
}

/// What the entries of files say.
#[derive(Default)]
pub(super) struct Entered {
    /// So many nodes were looked at.
    pub(super) upto: u32,
    /// By first cluster and size, the first and the last node with both.
    pub(super) all: HashMap<(u32, u32), (u32, u32)>,
}

/// The survey in the making.
pub(super) struct Surveyor<'m> {
    pub(super) medium: &'m dyn Medium,
    pub(super) geometry: Geometry,
    pub(super) links: Links,
    pub(super) tree: Tree,
    pub(super) claimed: ClusterSet,
    pub(super) shared: ClusterSet,
    /// First clusters that entries name: not to be run over by a guess.
    pub(super) heads: ClusterSet,
    seen: ClusterSet,
    pub(super) budget: Budget,
    pub(super) ends: Ends,
    /// Searches for the file that has a cluster that may still be made.
    pub(super) searches: u32,
    queue: VecDeque<u32>,
    /// Nodes whose chains do not fit as they stand, not yet looked into.
    pub(super) newly_met: Vec<u32>,
    /// Those for which no copy of the table has a chain that fits.
    pub(super) waiting_folders: VecDeque<u32>,
    pub(super) waiting_files: Vec<u32>,
    pub(super) entered: Entered,
    /// Folders that break off where no cluster goes on.
    pub(super) broken_off: Vec<u32>,
    /// Items behind an end mark, by folder.
    behind: Vec<(u32, u64, Item)>,
    pub(super) lost: Option<LostChains>,
    /// Many files begin in clusters that the table calls free: the table is at fault.
    pub(super) table_lost: bool,
    /// Folders were taken that no table calls in use.
    pub(super) dotted: bool,
    /// Those that the volume was searched for, once it was.
    pub(super) dots: Option<Vec<(u32, u32)>>,
    /// Clusters that read as parts of folders and are in no chain; found when first asked for.
    pub(super) unlisted: Option<std::rc::Rc<[u32]>>,
    /// Those of them that come behind another; found when first asked for.
    pub(super) behind_others: Option<std::rc::Rc<std::collections::HashSet<u32>>>,
    /// Of pieces of folders, the folder that their sub-folders name.
    pub(super) within: HashMap<u32, Option<u32>>,
    /// Clusters that hold something and are in no chain, and whether all were looked at; found when first asked for.
    pub(super) filled: Option<(bool, std::rc::Rc<ClusterSet>)>,
    /// Where pieces of folders belong that were left over when the volume was first read, and those that are left over now.
    pub(super) joins: HashMap<u32, u32>,
    left_over: HashMap<u32, u32>,
    label: Option<(names::Short, u64)>,
    pub(super) watch: &'m dyn Watch,
}

/// Reads the volume through.
pub fn survey(medium: &dyn Medium, geometry: &Geometry, watch: &dyn Watch) -> Result<Survey, MediumError> {
    let mut surveyor = Surveyor::new(medium, geometry, watch, HashMap::new());
    surveyor.run()?;
    if !surveyor.left_over.is_empty() {
        // What they name comes before what is settled by guesses: the volume is read again with them.
        surveyor = Surveyor::new(medium, geometry, watch, surveyor.left_over);
        surveyor.run()?;
    }
    let survey = surveyor.finish();
    // What was cut short is no survey.
    if watch.stop() { Err(MediumError::Stopped) } else { Ok(survey) }
}

impl<'m> Surveyor<'m> {
    fn new(
        medium: &'m dyn Medium,
        geometry: &Geometry,
        watch: &'m dyn Watch,
        joins: HashMap<u32, u32>,
    ) -> Self {
        let bits = || ClusterSet::with_capacity(geometry.last_cluster().plus(1).size());
        Self {
            medium,
            geometry: *geometry,
            links: Links::read(medium, geometry, watch),
            tree: Tree::default(),
            claimed: bits(),
            shared: bits(),
            heads: bits(),
            seen: bits(),
            budget: Budget::new(geometry.clusters()),
            ends: Ends::new(),
            searches: SEARCHES,
            queue: VecDeque::new(),
            newly_met: Vec::new(),
            waiting_folders: VecDeque::new(),
            waiting_files: Vec::new(),
            entered: Entered::default(),
            broken_off: Vec::new(),
            behind: Vec::new(),
            lost: None,
            table_lost: false,
            dotted: false,
            dots: None,
            unlisted: None,
            behind_others: None,
            within: HashMap::new(),
            filled: None,
            joins,
            left_over: HashMap::new(),
            label: None,
            watch,
        }
    }
}

impl Surveyor<'_> {
    fn run(&mut self) -> Result<(), MediumError> {
        self.add_root();
        loop {
            self.read_folders();
            if self.watch.stop() {
                return Err(MediumError::Stopped);
            }
            if self.links.judge_suspects(&self.claimed) {
                for number in std::mem::take(&mut self.newly_met) {
                    self.meet(number);
                }
                continue;
            }
            if self.settle_by_copies() {
                continue;
            }
            if let Some(folder) = self.waiting_folders.pop_front() {
                self.resolve_folder(folder);
                continue;
            }
            // Folders behind an end mark have their names: they come before those that lost them.
            if self.accept_folders_behind()
                || self.adopt_deleted()
                || self.resolve_broken_off()
                || self.adopt_orphans()
                || self.adopt_dotted()
            {
                continue;
            }
            break;
        }
        self.resolve_rows();
        if self.joins.is_empty() {
            self.left_over = self.left_over();
            let passed_over = self.passed_over();
            self.left_over.extend(passed_over);
            if !self.left_over.is_empty() {
                return Ok(());
            }
        }
        self.resolve_files();
        self.accept_files_behind();
        self.mark_crossed();
        if self.watch.stop() {
            return Err(MediumError::Stopped);
        }
        Ok(())
    }

    fn add_root(&mut self) {
        let entry = ShortEntry { attributes: ATTR_DIRECTORY, ..ShortEntry::new_zeroed() };
        self.tree.nodes.push(Node {
            parent: 0,
            name: "".into(),
            entry,
            place: 0,
            index: 0,
            long: 0,
            folder: true,
            first: self.geometry.root_cluster,
            length: 0,
            flaws: Flaws::default(),
            reached: Reached::Tree,
            fault: None,
        });
        if self.geometry.wide() {
            self.heads.insert(self.geometry.root_cluster.size());
            self.meet(0);
        } else {
            self.queue.push_back(0);
        }
    }

    pub(super) fn node(&self, number: u32) -> Option<&Node> {
        self.tree.node(number)
    }
    pub(super) fn change(&mut self, number: u32, with: impl FnOnce(&mut Node)) {
        if let Some(node) = self.tree.nodes.get_mut(number.size()) {
            with(node);
        }
    }

    /// The chain from `first` as it is believed now.
    pub(super) fn walk(&mut self, first: u32) -> Walk {
        self.walk_by(first, |links, medium, cluster| links.get(medium, cluster))
    }
    /// The chain from `first` with `choose` answering for each cluster.
    pub(super) fn walk_by(
        &mut self,
        first: u32,
        mut choose: impl FnMut(&mut Links, &dyn Medium, u32) -> Link,
    ) -> Walk {
        let (links, medium, budget) = (&mut self.links, self.medium, &self.budget);
        walk(first, &self.claimed, &mut self.seen, |c| {
            let differs = links.differs(c);
            let link = if budget.spend(1) { choose(links, medium, c) } else { Link::Unreadable };
            (link, differs)
        })
    }

    /// True when the cluster begins a folder that names itself.
    pub(super) fn is_folder_start(&self, cluster: u32) -> bool {
        self.dots_at(cluster).is_some_and(|(own, _)| own == cluster)
    }
    /// What "." and ".." at the beginning of `cluster` name.
    pub(super) fn dots_at(&self, cluster: u32) -> Option<(u32, u32)> {
        let mask = if self.geometry.wide() { u32::MAX } else { 0xFFFF };
        let bytes =
            self.medium.lenient(self.geometry.cluster_offset(cluster), 2_usize.times(ENTRY_BYTES)).bytes;
        dots(&bytes).map(|(own, parent)| (own & mask, parent & mask))
    }

    /// First meeting with a node: claims its chain if it fits at once.
    fn meet(&mut self, number: u32) {
        let Some(node) = self.node(number) else { return };
        let (first, size, folder) = (node.first, node.size(), node.folder);
        if first == 0 && size == 0 && !folder {
            return;
        }
        if !self.geometry.has(first) {
            self.newly_met.push(number);
            return;
        }
        self.heads.insert(first.size());
        let walk = self.walk(first);
        let fits = !walk.disputed && walk.meets.is_none() && walk.end == End::Proper;
        let right = if folder {
            // A folder has no size: what ends where nothing may be written waits.
            let ended = || !self.links.is_suspect(walk.last) || self.holds_end_mark(walk.last);
            (number == 0 || self.is_folder_start(first) && ended()) && self.ends_as_folder(&walk)
        } else {
            walk.length == self.geometry.clusters_for(size)
        };
        if fits && right {
            self.claim(number, &walk);
        } else {
            self.newly_met.push(number);
        }
    }

    /// Gives the clusters of `walk` to a node; those that are somebody's already become shared.
    pub(super) fn claim(&mut self, number: u32, walk: &Walk) {
        for cluster in walk.clusters() {
            if self.claimed.put(cluster.size()) {
                self.shared.insert(cluster.size());
            }
        }
        let beyond = walk
            .runs
            .iter()
            .any(|(start, length)| self.geometry.cluster_offset(start.plus(*length)) > self.medium.len());
        self.change(number, |node| {
            node.length = walk.length;
            if beyond {
                node.flaws.set(Flaws::BEYOND);
            }
        });
        if self.node(number).is_some_and(|node| node.folder) {
            self.queue.push_back(number);
        }
    }

    /// Reads the folders that wait, until none does or the work is to stop. Where their clusters lie is known beforehand: the
    /// bytes and entries of some are read on both cores while what was read before is settled, in order.
    fn read_folders(&mut self) {
        let (medium, bounds) = (self.medium, self.geometry.bounds());
        let mut before: Vec<(u32, Content, Reading)> = Vec::new();
        while !(self.queue.is_empty() && before.is_empty() || self.watch.stop()) {
            let known = self.tree.nodes.len().wide();
            self.watch.at("reading folders", known.minus(self.queue.len().wide()), known);
            let batch = self.next_folders();
            let mut read = Vec::new();
            rayon::in_place_scope(|scope| {
                scope.spawn(|_| {
                    let one = |(number, places): (u32, Vec<Extent>)| {
                        let content = Content::read(medium, places);
                        let reading = Reading::of(&content.bytes, bounds, number == 0);
                        (number, content, reading)
                    };
                    read = batch.into_par_iter().map(one).collect();
                });
                for (number, content, reading) in before {
                    self.take_in(number, &content, reading);
                }
            });
            before = read;
        }
    }

    /// Some of the folders that wait, with where they lie.
    fn next_folders(&mut self) -> Vec<(u32, Vec<Extent>)> {
        let (mut batch, mut bytes) = (Vec::new(), 0_u64);
        while batch.len() < BATCH && bytes < BATCH_BYTES {
            let Some(number) = self.queue.pop_front() else { break };
            let places = self.places(number);
            bytes = places.iter().fold(bytes, |sum, place| sum.plus(place.length));
            batch.push((number, places));
        }
        batch
    }

    fn places(&mut self, number: u32) -> Vec<Extent> {
        let (first, length) = self.node(number).map_or((0, 0), |node| (node.first, node.length));
        places(self.medium, &mut self.links, &self.geometry, number == 0, first, length)
    }

    fn take_in(&mut self, number: u32, content: &Content, reading: Reading) {
        let mut notes = FolderNotes::of(&reading);
        self.judge_dots(number, &reading, &mut notes);
        for (rank, index) in reading.labels.iter().enumerate() {
            let raw = content.bytes.part(index.times(ENTRY_BYTES), ENTRY_BYTES);
            if let (0, 0, Some(entry), Some(place)) =
                (number, rank, ShortEntry::read(raw), content.place(index.narrow()))
            {
                self.label = Some((entry.name, place));
            } else {
                notes.labels.push(index.narrow());
            }
        }
        if !notes.is_empty() {
            self.tree.notes.insert(number, notes);
        }
        for item in reading.items.iter().filter(|item| item.entry.is_folder()) {
            let first = item.entry.first_cluster(self.geometry.wide());
            if self.geometry.has(first) {
                let each = self.geometry.cluster_bytes().wide();
                self.medium.soon(Extent::new(self.geometry.cluster_offset(first), each));
            }
        }
        for item in reading.items {
            if let Some(place) = content.place(item.index.narrow()) {
                let added = self.add(number, place, &item, Reached::Tree);
                self.meet(added);
            }
        }
        for item in reading.deleted {
            if let Some(place) = content.place(item.index.narrow()) {
                self.tree.deleted.push((number, place, item));
            }
        }
        for item in reading.behind_end {
            if let Some(place) = content.place(item.index.narrow()) {
                self.behind.push((number, place, item));
            }
        }
    }

    fn judge_dots(&self, number: u32, reading: &Reading, notes: &mut FolderNotes) {
        let Some(node) = self.node(number).filter(|_| number != 0) else { return };
        let wide = self.geometry.wide();
        let own = reading.dot.map(|dot| dot.first_cluster(wide));
        if own != Some(node.first) {
            notes.dot_wrong = Some(own);
        }
        // The root is 0 in ".." also on FAT32, where it has a cluster of its own
        // (specification, "FAT Directory Structure").
        let parent = if node.parent == 0 { 0 } else { self.node(node.parent).map_or(0, |p| p.first) };
        let above = reading.dot_dot.map(|dot| dot.first_cluster(wide));
        if above != Some(parent) {
            notes.dot_dot_wrong = Some((above, parent));
        }
    }

    pub(super) fn add(&mut self, parent: u32, place: u64, item: &Item, reached: Reached) -> u32 {
        let number = self.tree.nodes.len().narrow();
        let above = self.node(parent).map_or(Reached::Tree, |node| node.reached);
        self.tree.nodes.push(Node {
            parent,
            name: item.name.clone().into_boxed_str(),
            entry: item.entry,
            place,
            index: item.index.narrow(),
            long: u8::try_from(item.long.len()).unwrap_or(u8::MAX),
            folder: item.entry.attributes & ATTR_DIRECTORY != 0,
            first: item.entry.first_cluster(self.geometry.wide()),
            length: 0,
            flaws: item.flaws,
            reached: if reached == Reached::Tree && matches!(above, Reached::Orphan | Reached::Undeleted) {
                Reached::Orphan
            } else {
                reached
            },
            fault: None,
        });
        number
    }

    fn finish(mut self) -> Survey {
        let lost = self.take_lost();
        let (mut free, mut bad, mut first_free) = (0_u32, 0_u32, None);
        let (mut next, end) = (2, self.geometry.last_cluster().plus(1));
        while next < end {
            let cluster = self.links.blank_until(self.medium, next);
            // What is blank is free, but for what a judgement claims.
            let blank = next.size()..cluster.size();
            free = free.plus(cluster.minus(next).minus(self.claimed.count_in(blank.clone()).narrow()));
            first_free = first_free.or_else(|| self.claimed.gap_in(blank).map(|gap| gap.start.narrow()));
            next = cluster.plus(1);
            if cluster >= end {
                break;
            }
            match self.links.get(self.medium, cluster) {
                Link::Free | Link::Unreadable if !self.claimed.contains(cluster.size()) => {
                    free = free.plus(1);
                    first_free = first_free.or(Some(cluster));
                }
                Link::Bad => bad = bad.plus(1),
                _ => {}
            }
        }
        self.tree.lost = lost;
        let hollow = self.mark_hollow();
        Survey {
            geometry: self.geometry,
            links: self.links,
            tree: self.tree,
            claimed: self.claimed,
            shared: self.shared,
            free,
            bad,
            first_free,
            label: self.label,
            hollow,
            dotted: self.dotted,
        }
    }

    /// Finds a blank end of the medium, and marks the files of which something would stand in it.
    fn mark_hollow(&mut self) -> Option<Tail> {
        let begins = |node: &Node| {
            self.geometry.has(node.first) && (node.folder || node.length > 0 && node.size() > 0)
        };
        let named = self.tree.below_root().filter(|(_, node)| begins(node));
        let named = named.map(|(number, node)| (self.geometry.cluster_offset(node.first), Some(number)));
        let lost = self.tree.lost.iter().map(|lost| (self.geometry.cluster_offset(lost.head), None));
        let tail =
            crate::cluster::blank_end::tail(self.medium, named.chain(lost).collect(), |number, blank| {
                self.node(number).is_some_and(|node| node.folder || is_never(&node.name, blank))
            })?;
        let each = self.geometry.cluster_bytes().wide();
        for number in 1..self.tree.nodes.len().narrow() {
            let Some(node) = self.node(number).filter(|node| node.length > 0) else { continue };
            if node.folder {
                // What is blank is not "no folder": what it held was never stored.
                if self.geometry.cluster_offset(node.first) >= tail.from {
                    self.change(number, |node| {
                        node.flaws = node.flaws.without(Flaws::NOT_FOLDER).with(Flaws::HOLLOW);
                    });
                }
                continue;
            }
            let (first, mut left) = (node.first, node.size());
            let length = node.length;
            let mut hit = false;
            for (start, count) in runs(self.medium, &mut self.links, first, length) {
                let here = count.wide().times(each).min(left);
                hit = hit || here > 0 && self.geometry.cluster_offset(start).plus(here) > tail.from;
                left = left.minus(here);
            }
            if hit {
                self.change(number, |node| node.flaws.set(Flaws::HOLLOW));
            }
        }
        Some(tail)
    }
}
