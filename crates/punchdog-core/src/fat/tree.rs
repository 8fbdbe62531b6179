//! Folders and files as they can be reached, and what cannot be reached any more.

use super::{
    folder::{Flaws, Item, Reading},
    geometry::Geometry,
    layout::ShortEntry,
};
use crate::arith::Sat;
use crate::cluster::chain::End;
use crate::files::{
    order,
    path::{TreePath, sentence},
};

/// How a file or folder was reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reached {
    /// From the root, through entries.
    Tree,
    /// It lies in a folder that no entry names any more.
    Orphan,
    /// Its entry stands behind the end mark of its folder.
    BehindEnd,
    /// Its entry is marked deleted, but its clusters are still in use and nobody else's.
    Undeleted,
}

/// One file or folder.
#[derive(Debug, Clone)]
pub struct Node {
    /// The folder it lies in; the root is its own.
    pub parent: u32,
    /// Its name.
    pub name: Box<str>,
    /// Its short entry as it stands.
    pub entry: ShortEntry,
    /// Where that entry stands: bytes from the start of the volume.
    pub place: u64,
    /// The index of that entry in its folder.
    pub index: u32,
    /// How many entries before it hold its long name.
    pub long: u8,
    /// It is a folder.
    pub folder: bool,
    /// The first cluster that is believed; 0 for none.
    pub first: u32,
    /// Clusters in the believed chain.
    pub length: u32,
    /// What is wrong with it.
    pub flaws: Flaws,
    /// How it was reached.
    pub reached: Reached,
    /// Where its chain, as it stands, goes wrong: cluster and how.
    pub fault: Option<(u32, End)>,
}

/// What is wrong with one folder as a whole; kept only where something is.
#[derive(Debug, Default)]
pub struct FolderNotes {
    /// The `.` entry names another cluster than the folder's own, or is missing.
    pub dot_wrong: Option<Option<u32>>,
    /// The same for `..`; with what it should be.
    pub dot_dot_wrong: Option<(Option<u32>, u32)>,
    /// Indices of parts of long names that belong to nothing.
    pub stray_parts: Vec<u32>,
    /// Indices of entries that are junk.
    pub junk: Vec<u32>,
    /// Indices of `.` and `..` entries in wrong places.
    pub stray_dots: Vec<u32>,
    /// Indices of volume labels that should not be there.
    pub labels: Vec<u32>,
    /// The index of the end mark, where something stands behind it, and of what stands there.
    pub tail: Option<(u32, u32)>,
    /// Entries behind the end mark look whole.
    pub tail_is_real: bool,
    /// Clusters in which the folder could not be read.
    pub unreadable: bool,
}

impl FolderNotes {
    /// True when nothing is wrong.
    pub fn is_empty(&self) -> bool {
        self.dot_wrong.is_none()
            && self.dot_dot_wrong.is_none()
            && self.stray_parts.is_empty()
            && self.junk.is_empty()
            && self.stray_dots.is_empty()
            && self.labels.is_empty()
            && self.tail.is_none()
            && !self.unreadable
    }

    /// The notes that a reading gives rise to; dots are judged apart.
    pub fn of(reading: &Reading) -> Self {
        let narrow = |list: &[usize]| list.iter().map(|index| index.narrow()).collect();
        let tail = reading.end.zip(reading.tail).map(|(end, tail)| (end.narrow(), tail.narrow()));
        Self {
            stray_parts: narrow(&reading.stray_parts),
            junk: narrow(&reading.junk),
            stray_dots: narrow(&reading.stray_dots),
            tail,
            ..Self::default()
        }
    }
}

/// A chain that no file or folder claims.
#[derive(Debug, Clone)]
pub struct Lost {
    /// Its first cluster.
    pub head: u32,
    /// Its clusters.
    pub length: u32,
    /// How it ends.
    pub end: End,
    /// It begins with "." and "..": the cluster ".." names.
    pub folder_in: Option<u32>,
    /// The usual extension of what it begins like.
    pub extension: Option<String>,
    /// The usual extension of the plain text that it begins as.
    pub text: Option<&'static str>,
    /// Bytes of it, where its own structure tells where it ends.
    pub bytes: Option<u64>,
}

impl Lost {
    /// The usual extension of what it begins like, text or not.
    pub fn kind(&self) -> Option<&str> {
        self.extension.as_deref().or(self.text)
    }
}

/// The files and folders of a volume.
#[derive(Debug, Default)]
pub struct Tree {
    /// All nodes; the first is the root.
    pub nodes: Vec<Node>,
    /// What is wrong with folders as a whole, by node number.
    pub notes: std::collections::BTreeMap<u32, FolderNotes>,
    /// Deleted entries: folder, entry place, item.
    pub deleted: Vec<(u32, u64, Item)>,
    /// Sizes as the entries have them, of files whose content tells another one, by node number.
    pub said_sizes: std::collections::BTreeMap<u32, u32>,
    /// Chains that nothing claims.
    pub lost: Vec<Lost>,
}

impl order::Tree for Tree {
    fn nodes(&self) -> u32 {
        self.nodes.len().narrow()
    }
    fn parent(&self, number: u32) -> u32 {
        self.node(number).map_or(0, |node| node.parent)
    }
    fn name(&self, number: u32) -> &str {
        self.node(number).map_or("", |node| &node.name)
    }
}

impl Tree {
    /// A node by its number.
    pub fn node(&self, number: u32) -> Option<&Node> {
        self.nodes.get(number.size())
    }
    /// The path of a node, for sentences: a long one is shortened; the root is empty.
    pub fn path(&self, number: u32) -> String {
        let mut names: Vec<&str> = Vec::new();
        let mut at = number;
        // A tree is no deeper than it has nodes.
        for _ in 0..self.nodes.len() {
            let Some(node) = self.node(at).filter(|_| at != 0) else { break };
            names.push(&node.name);
            at = node.parent;
        }
        names.reverse();
        sentence(&names)
    }
    /// The whole paths of all files and folders, by number; the root's is of no use.
    pub fn paths(&self) -> Vec<TreePath> {
        let mut paths: Vec<TreePath> = Vec::with_capacity(self.nodes.len());
        for (number, node) in self.nodes.iter().enumerate() {
            // A folder lies in one that was found before it.
            let above = Some(node.parent.size()).filter(|parent| *parent != 0 && *parent < number);
            let path = match above.and_then(|above| paths.get(above)) {
                Some(above) => above.child(&node.name),
                None => TreePath::in_root(&node.name),
            };
            paths.push(path);
        }
        paths
    }
    /// The whole path of something of this name in folder `number`.
    pub fn path_in(&self, paths: &[TreePath], number: u32, name: &str) -> TreePath {
        match paths.get(number.size()).filter(|_| number != 0) {
            Some(above) => above.child(name),
            None => TreePath::in_root(name),
        }
    }
    /// The path of a folder for a sentence: the root is "the root folder".
    pub fn folder_title(&self, number: u32) -> String {
        if number == 0 { "the root folder".to_owned() } else { format!("folder {}", self.path(number)) }
    }
    /// Nodes with their numbers, the root left out.
    pub fn below_root(&self) -> impl Iterator<Item = (u32, &Node)> + Clone {
        self.nodes.iter().enumerate().skip(1).map(|(number, node)| (number.narrow(), node))
    }
}

/// The flaws that take something from a file's content.
pub const DAMAGING: Flaws = Flaws::NO_FIRST
    .with(Flaws::FIRST_RANGE)
    .with(Flaws::FIRST_FREE)
    .with(Flaws::CROSSED)
    .with(Flaws::CHAIN_SHORT)
    .with(Flaws::SIZE_ZERO)
    .with(Flaws::SIZE_WRONG)
    .with(Flaws::NOT_FOLDER)
    .with(Flaws::GUESSED)
    .with(Flaws::BEYOND)
    .with(Flaws::HOLLOW);

impl Node {
    /// Bytes that a reader can expect of it.
    pub fn size(&self) -> u64 {
        if self.folder { 0 } else { self.entry.size.get().wide() }
    }
    /// True when it begins behind the end of the image, or where nothing was ever stored.
    pub fn is_unseen(&self) -> bool {
        self.flaws.any(Flaws::BEYOND.with(Flaws::HOLLOW))
    }
    /// True when nothing of its content is in doubt.
    pub fn whole(&self) -> bool {
        // That a file's content stands elsewhere than its entry says is judged; a folder's own entries tell its place.
        !self.flaws.any(DAMAGING) && (self.folder || !self.flaws.has(Flaws::FIRST_FOUND))
    }
    /// The size of a file whose chain ends properly and too early, where without one bit, or its highest byte, the size is as
    /// long as that chain: it is then likelier the size that was struck, and the last cluster ends where it did.
    pub fn size_without_a_bit(&self, geometry: &Geometry) -> Option<u32> {
        let ends = self.flaws.has(Flaws::CHAIN_SHORT) && matches!(self.fault, Some((_, End::Proper)));
        let size = self.entry.size.get();
        let without =
            (0..u32::BITS).map(|bit| size & !1_u32.wrapping_shl(bit)).filter(|other| *other != size);
        let fits = |other: &u32| geometry.clusters_for((*other).wide()) == self.length;
        let mut fit = without.filter(fits);
        let one = fit.next();
        // The highest byte that says something may be noise altogether.
        let above = u32::from(u8::MAX).wrapping_shl(size.max(1).ilog2().per(8).times(8));
        let one = one.or_else(|| Some(size & !above).filter(fits));
        one.filter(|_| ends && self.length > 0 && fit.next().is_none())
    }
    /// Bytes that its believed chain holds of its size.
    pub fn held(&self, geometry: &Geometry) -> u64 {
        self.size().min(self.length.wide().times(geometry.cluster_bytes().wide()))
    }
}
