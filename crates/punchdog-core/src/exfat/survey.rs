//! Everything there is on a volume, read once: root, bitmap, up-case table, folders, chains; and
//! which clusters belong to what.
//!
//! Files and folders whose clusters fit their lengths and meet nobody claim them first. What does
//! not fit is looked into afterwards (`resolve`), when it is known what is left.

mod content;
mod folders;
mod own;

pub use content::Content;
pub(super) use content::{extents_of, places};
pub use own::Owned;

use super::{
    geometry::Geometry,
    layout::{DIRECTORY, ENTRY, LONGEST_FOLDER, NO_CHAIN, POSSIBLE, Stream},
    pieces::{BrokenOff, Piece},
    sets::{Flaws, Item, Reading},
    table::Links,
    tree::{Node, Reached, Tree, time},
    unclaimed::Unclaimed,
    upcase::Upcase,
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        blank_end::{Tail, is_never},
        chain::{Budget, End, Link, Walk, run_of, walk},
        set::ClusterSet,
        skipped::SEARCHES,
    },
    files::end::Ends,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};
use std::{
    collections::{HashMap, HashSet, VecDeque},
    rc::Rc,
};

/// Bytes of a folder that are read: a million entries.
pub(super) const READ: u64 = 32 << 20;

/// Clusters of a folder with a damaged beginning that are looked at for a set.
const LOOKED_AT: usize = 64;

/// Everything that was read.
pub struct Survey {
    /// Where everything lies.
    pub geometry: Geometry,
    /// The believed table.
    pub links: Links,
    /// Folders and files.
    pub tree: Tree,
    /// Clusters that belong to something.
    pub claimed: ClusterSet,
    /// Clusters that the bitmap has in use.
    pub used: ClusterSet,
    /// The bitmap.
    pub bitmap: Owned,
    /// The second bitmap of TexFAT (section 7.1.2), of which only the place is judged.
    pub second: Owned,
    /// The up-case table.
    pub upcase: Owned,
    /// The table that names are compared by.
    pub capitals: Upcase,
    /// The label, with the index of its entry, and whether its length is one.
    pub label: Option<(u32, String, bool)>,
    /// Further labels.
    pub labels: Vec<u32>,
    /// The end of the medium where nothing but one value stands, though files should.
    pub hollow: Option<Tail>,
}

/// The survey in the making.
pub(super) struct Surveyor<'m> {
    pub(super) medium: &'m dyn Medium,
    pub(super) watch: &'m dyn Watch,
    pub(super) out: Survey,
    /// Where something begins that is nobody's; known while nodes are being settled.
    pub(super) open: Option<Unclaimed>,
    pub(super) budget: Budget,
    pub(super) ends: Ends,
    /// Searches for the file that has a cluster that may still be made.
    pub(super) searches: u32,
    /// Where lost folders may begin, and whether the bitmap was believed when they were looked for.
    pub(super) starts: Option<(bool, Vec<u32>)>,
    /// Clusters that read as later ones of folders, found when first asked for, and whether the bitmap was believed then.
    pub(super) pieces: Option<(bool, Rc<[Piece]>)>,
    /// Folders that wait for a piece behind one that is gone.
    pub(super) broken_off: Vec<BrokenOff>,
    /// First clusters of what waits or did, and up to which node they were noted.
    pub(super) heads: ClusterSet,
    pub(super) noted: u32,
    seen: ClusterSet,
    queue: VecDeque<u32>,
    /// First clusters of folders that were or will be read.
    entered: HashSet<u32>,
    /// Nodes that do not fit as they stand.
    pub(super) waiting: Vec<u32>,
    /// Of what waits, first clusters with which its checksum fits.
    pub(super) other_firsts: HashMap<u32, Vec<u32>>,
    /// Sets behind an end mark, and sets that are not whole: folder, place, set.
    pub(super) behind: Vec<(u32, u64, Item)>,
}

/// Surveys the volume.
pub fn survey(
    medium: &dyn Medium,
    geometry: &Geometry,
    flags: u16,
    watch: &dyn Watch,
) -> Result<Survey, MediumError> {
    let bits = geometry.last_cluster().plus(1).size();
    let out = Survey {
        geometry: *geometry,
        links: Links::new(geometry, flags),
        tree: Tree::default(),
        claimed: ClusterSet::with_capacity(bits),
        used: ClusterSet::with_capacity(bits),
        bitmap: Owned::none(),
        second: Owned::none(),
        upcase: Owned::none(),
        capitals: Upcase::default(),
        label: None,
        labels: Vec::new(),
        hollow: None,
    };
    let mut surveyor = Surveyor {
        medium,
        watch,
        out,
        open: None,
        budget: Budget::new(geometry.clusters),
        ends: Ends::new(),
        searches: SEARCHES,
        starts: None,
        pieces: None,
        broken_off: Vec::new(),
        heads: ClusterSet::with_capacity(bits),
        noted: 0,
        seen: ClusterSet::with_capacity(bits),
        queue: VecDeque::new(),
        entered: HashSet::from([geometry.root_cluster]),
        waiting: Vec::new(),
        other_firsts: HashMap::new(),
        behind: Vec::new(),
    };
    surveyor.run()?;
    surveyor.mark_hollow();
    Ok(surveyor.out)
}

impl Surveyor<'_> {
    fn run(&mut self) -> Result<(), MediumError> {
        self.root();
        self.owned();
        self.read_folders()?;
        // Each turn settles something for good, at the worst one level of folders.
        for _ in 0..4096 {
            let before = (self.out.tree.nodes.len(), self.waiting.len());
            self.accept_behind();
            self.resolve();
            self.read_folders()?;
            if !self.waiting.is_empty() || !self.broken_off.is_empty() {
                // What these claim is not lost.
                continue;
            }
            self.adopt_deleted();
            self.read_folders()?;
            self.adopt_orphans();
            self.read_folders()?;
            if before == (self.out.tree.nodes.len(), self.waiting.len()) && self.waiting.is_empty() {
                break;
            }
        }
        self.find_lost();
        self.doubt_flags();
        self.twice();
        if self.watch.stop() { Err(MediumError::Stopped) } else { Ok(()) }
    }

    /// Finds a blank end of the medium, and marks the files of which something would stand in it.
    fn mark_hollow(&mut self) {
        let written = |node: &Node| !node.folder && node.length > 0 && node.stream.valid > 0;
        let g = self.out.geometry;
        let begins = |node: &Node| g.has(node.first) && (node.folder || written(node));
        let named = self.out.tree.below_root().filter(|(_, node)| begins(node));
        let named = named.map(|(number, node)| (g.cluster_place(node.first), Some(number)));
        let lost = self.out.tree.lost.iter().map(|lost| (g.cluster_place(lost.first), None));
        let tail =
            crate::cluster::blank_end::tail(self.medium, named.chain(lost).collect(), |number, blank| {
                self.node(number).is_some_and(|node| node.folder || is_never(&node.name, blank))
            });
        let Some(tail) = tail else { return };
        for number in 1..self.out.tree.nodes.len().narrow() {
            let folder =
                |node: &&Node| node.folder && g.has(node.first) && g.cluster_place(node.first) >= tail.from;
            if self.node(number).as_ref().is_some_and(folder) {
                // What is blank is not "no folder": what it held was never stored.
                self.change(number, |node| {
                    node.flaws.remove(Flaws::NOT_FOLDER);
                    node.flaws |= Flaws::HOLLOW;
                });
            }
            let Some(node) = self.node(number).filter(|node| written(node)) else { continue };
            // What was never written is zero by right.
            let mut left = node.stream.valid;
            let mut hit = false;
            for extent in self.out.extents(self.medium, number) {
                let here = extent.length.min(left);
                hit = hit || here > 0 && extent.offset.plus(here) > tail.from;
                left = left.minus(here);
            }
            if hit {
                self.change(number, |node| node.flaws |= Flaws::HOLLOW);
            }
        }
        self.out.hollow = Some(tail);
    }

    pub(super) fn node(&self, number: u32) -> Option<&Node> {
        self.out.tree.node(number)
    }
    pub(super) fn change(&mut self, number: u32, with: impl FnOnce(&mut Node)) {
        if let Some(node) = self.out.tree.nodes.get_mut(number.size()) {
            with(node);
        }
    }

    /// Walks the table's chain from `first`, in copy `copy` or as it is believed.
    pub(super) fn walk(&mut self, first: u32, copy: Option<usize>) -> Walk {
        let (links, medium) = (&mut self.out.links, self.medium);
        let budget = &self.budget;
        walk(first, &self.out.claimed, &mut self.seen, |cluster| {
            let link = match copy {
                _ if !budget.spend(1) => Link::Unreadable,
                Some(copy) => links.in_copy(medium, copy, cluster),
                None => links.get(medium, cluster),
            };
            (link, false)
        })
    }

    fn root(&mut self) {
        let first = self.out.geometry.root_cluster;
        let walk = self.walk(first, None);
        let fault = (walk.end != End::Proper).then_some((walk.last, walk.end));
        self.out.tree.nodes.push(Node {
            parent: 0,
            name: "".into(),
            place: 0,
            index: 0,
            entries: 0,
            stream: Stream::default(),
            attributes: DIRECTORY,
            modified: None,
            folder: true,
            first,
            length: 0,
            row: false,
            flaws: super::resolve::flaw_of(walk.end),
            reached: Reached::Tree,
            fault,
        });
        self.claim(0, &walk.runs);
        if fault.is_some() {
            self.end_root();
        }
        self.queue.push_back(0);
    }

    /// The root has no length, so a broken chain goes on where its entries do, or ends.
    fn end_root(&mut self) {
        let mut at = self.last_of(0);
        let each = self.out.geometry.cluster_bytes().size();
        loop {
            let bytes = self.medium.lenient(self.out.geometry.cluster_place(at), each).bytes;
            let full = bytes.chunks_exact(ENTRY).all(|raw| raw.byte(0) != 0);
            let next = at.plus(1);
            let goes_on = full && self.out.geometry.has(next) && !self.out.claimed.contains(next.size()) && {
                self.holds_a_set(next)
            };
            if !goes_on {
                break;
            }
            self.out.links.believe(at, Link::Next(next), super::table::Because::Guess);
            self.claim(0, &[(next, 1)]);
            self.change(0, |node| node.flaws |= Flaws::GUESSED);
            at = next;
        }
        self.out.links.believe(at, Link::End, super::table::Because::Derived);
    }

    fn last_of(&mut self, number: u32) -> u32 {
        self.out.clusters(self.medium, number).last().copied().unwrap_or(0)
    }

    /// Gives runs of clusters to a node.
    pub(super) fn claim(&mut self, number: u32, runs: &[(u32, u32)]) {
        let mut length = 0_u32;
        for (start, count) in runs {
            let from = start.size();
            let end = from.plus(count.size()).min(self.out.claimed.len());
            if from < end {
                self.out.claimed.insert_range(from..end);
            }
            length = length.plus(*count);
        }
        self.change(number, |node| node.length = node.length.plus(length));
    }

    /// Adds a file or folder, and gives it its clusters if they fit and meet nobody.
    pub(super) fn add(&mut self, parent: u32, place: u64, item: &Item, reached: Reached) -> u32 {
        let number = self.out.tree.nodes.len().narrow();
        let above = self.node(parent).map_or(Reached::Tree, |node| node.reached);
        let hidden = matches!(above, Reached::Orphan | Reached::Undeleted);
        let folder = item.attributes() & DIRECTORY != 0;
        self.out.tree.nodes.push(Node {
            parent,
            name: item.name.clone().into_boxed_str(),
            place,
            index: item.index,
            entries: item.entries(),
            stream: item.stream,
            attributes: item.attributes(),
            modified: time(item.raw.le32(12)),
            folder,
            first: item.stream.first,
            length: 0,
            row: item.stream.in_a_row(),
            flaws: item.flaws,
            reached: if reached == Reached::Tree && hidden { Reached::Orphan } else { reached },
            fault: None,
        });
        self.judge_lengths(number);
        // The cluster that such a set names may be the one that was struck: whole sets have theirs first.
        if !item.other_firsts.is_empty() {
            self.other_firsts.insert(number, item.other_firsts.clone());
            self.waiting.push(number);
            return number;
        }
        if self.fits_alone(number) {
            self.settle(number);
        } else {
            self.waiting.push(number);
        }
        number
    }

    fn judge_lengths(&mut self, number: u32) {
        let each = self.out.geometry.cluster_bytes();
        self.change(number, |node| {
            if node.stream.valid > node.stream.length {
                node.flaws |= Flaws::VALID;
            }
            if node.folder {
                let odd = node.stream.length.rest(each.max(1)) != 0 || node.stream.length > LONGEST_FOLDER;
                if odd
                    || node.stream.length == 0 && node.stream.first != 0
                    || node.stream.valid != node.stream.length
                {
                    node.flaws |= Flaws::FOLDER_LENGTH;
                }
            }
            if node.stream.flags & POSSIBLE == 0 || node.stream.flags & !(POSSIBLE | NO_CHAIN) != 0 {
                node.flaws |= Flaws::FLAGS;
            }
        });
    }

    /// The runs of a node as they stand, if they fit its length and meet nobody.
    fn fits_alone(&mut self, number: u32) -> bool {
        let Some(node) = self.node(number) else { return false };
        let needed = node.needed(&self.out.geometry);
        let (first, row, folder, flaws) = (node.first, node.row, node.folder, node.flaws);
        if first == 0 {
            return needed == 0 && !row;
        }
        if needed == 0 || !self.out.geometry.has(first) || needed > self.out.geometry.clusters.wide() {
            return false;
        }
        if folder && flaws.contains(Flaws::FOLDER_LENGTH) {
            return false;
        }
        let needed = needed.narrow();
        let runs = if row {
            let end = first.wide().plus(needed.wide());
            if end > self.out.geometry.last_cluster().wide().plus(1) || self.is_claimed(first, needed) {
                return false;
            }
            let used = run_of(first, needed).all(|cluster| self.out.used.contains(cluster.size()));
            if !used && self.is_chained(first, needed) {
                return false;
            }
            vec![(first, needed)]
        } else {
            let walk = self.walk(first, None);
            if walk.end != End::Proper || walk.meets.is_some() || walk.length != needed {
                return false;
            }
            if folder && self.without_stray_end(&walk, needed).is_some() {
                return false;
            }
            walk.runs
        };
        self.claim(number, &runs);
        true
    }

    /// True when the table has a chain of exactly `needed` clusters, all in use and nobody's.
    pub(super) fn is_chained(&mut self, first: u32, needed: u32) -> bool {
        let walk = self.walk(first, None);
        walk.end == End::Proper
            && walk.meets.is_none()
            && walk.length == needed
            && needed > 1
            && walk.clusters().all(|cluster| self.out.used.contains(cluster.size()))
    }

    /// True when any of these clusters belongs to something.
    pub(super) fn is_claimed(&self, first: u32, count: u32) -> bool {
        self.out.claimed.contains_any_in_range(first.size()..first.plus(count).size())
    }

    /// A node whose clusters are known: what follows from them.
    pub(super) fn settle(&mut self, number: u32) {
        let Some(node) = self.node(number) else { return };
        let (first, length, folder) = (node.first, node.length, node.folder);
        let runs = self.out.extents(self.medium, number);
        if runs.iter().any(|extent| extent.end() > self.medium.len()) && first != 0 {
            self.change(number, |node| node.flaws |= Flaws::BEYOND);
        }
        // What another entry led to is read once: folders can be made to hold themselves.
        if folder && length > 0 && self.entered.insert(first) {
            let start = self.medium.lenient(self.out.geometry.cluster_place(first), 512).bytes;
            if super::sets::looks_like_folder(&start, true) || self.holds_sets(&runs) {
                self.queue.push_back(number);
            } else {
                self.change(number, |node| node.flaws |= Flaws::NOT_FOLDER);
            }
        }
    }

    /// True when a whole set stands anywhere in these ranges: a folder whose beginning is damaged.
    fn holds_sets(&self, ranges: &[Extent]) -> bool {
        let each = self.out.geometry.cluster_bytes();
        let places = ranges
            .iter()
            .flat_map(|range| (0..range.length.per(each)).map(|n| range.offset.plus(n.times(each))));
        places.take(LOOKED_AT).any(|place| self.holds_set_at(place))
    }

    /// True when a whole set stands anywhere in a cluster.
    pub(super) fn holds_a_set(&self, cluster: u32) -> bool {
        self.holds_set_at(self.out.geometry.cluster_place(cluster))
    }

    fn holds_set_at(&self, place: u64) -> bool {
        let each = self.out.geometry.cluster_bytes().min(1 << 20).size();
        let bytes = self.medium.lenient(place, each).bytes;
        let reading = Reading::of(&bytes, &self.out.capitals, false);
        reading.items.iter().chain(&reading.behind).any(|item| item.flaws.is_empty())
    }

    /// Names that a folder has twice (section 7.7: names are unique, case apart).
    fn twice(&mut self) {
        let capitals = &self.out.capitals;
        // By the hash of their names first, so that hardly any has to be compared.
        let hashed =
            |(number, node): (u32, &Node)| (node.parent, capitals.hash(node.name.encode_utf16()), number);
        let mut names: Vec<(u32, u16, u32)> = self.out.tree.below_root().map(hashed).collect();
        names.sort_unstable();
        let mut doubles = Vec::new();
        for alike in names.chunk_by(|one, next| (one.0, one.1) == (next.0, next.1)) {
            if alike.len() < 2 {
                continue;
            }
            let mut seen: HashSet<Vec<u16>> = HashSet::new();
            for (_, _, number) in alike {
                let Some(node) = self.node(*number) else { continue };
                if !seen.insert(node.name.encode_utf16().map(|unit| capitals.capital(unit)).collect()) {
                    doubles.push(*number);
                }
            }
        }
        for number in doubles {
            self.change(number, |node| node.flaws |= Flaws::TWICE);
        }
    }
}
