//! Folders and files as they can be reached, and what cannot be reached any more.

use super::{geometry::Geometry, layout::Stream, sets::Flaws};
use crate::{
    arith::Sat,
    cluster::chain::End,
    files::{
        order,
        path::{TreePath, sentence},
    },
};
use jiff::civil::DateTime;
use std::collections::BTreeMap;

/// How a file or folder was reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reached {
    /// From the root, through entry sets.
    Tree,
    /// It lies in a folder that no entry names any more.
    Orphan,
    /// Its set stands behind the end mark of its folder.
    BehindEnd,
    /// Its set is marked deleted, but its clusters are still in use and nobody else's.
    Undeleted,
}

/// One file or folder.
#[derive(Debug, Clone)]
pub struct Node {
    /// The folder it lies in; the root is its own.
    pub parent: u32,
    /// Its name.
    pub name: Box<str>,
    /// Where its set stands: bytes from the start of the volume.
    pub place: u64,
    /// The index of its first entry in its folder.
    pub index: u32,
    /// Entries of its set.
    pub entries: u32,
    /// Its stream entry as it should be, but for first cluster and lengths.
    pub stream: Stream,
    /// FileAttributes.
    pub attributes: u16,
    /// When it was changed last.
    pub modified: Option<DateTime>,
    /// It is a folder.
    pub folder: bool,
    /// The first cluster that is believed; 0 for none.
    pub first: u32,
    /// Clusters that are believed.
    pub length: u32,
    /// They lie in a row, and the table is not asked.
    pub row: bool,
    /// What is wrong with it.
    pub flaws: Flaws,
    /// How it was reached.
    pub reached: Reached,
    /// Where its chain, as it stands, goes wrong: cluster and how.
    pub fault: Option<(u32, End)>,
}

/// Flaws that cost content.
pub const DAMAGING: Flaws = Flaws::NO_FIRST
    .union(Flaws::FIRST_RANGE)
    .union(Flaws::RUN_RANGE)
    .union(Flaws::CROSSED)
    .union(Flaws::SHORT)
    .union(Flaws::GUESSED)
    .union(Flaws::FOUND)
    .union(Flaws::NOT_FOLDER)
    .union(Flaws::BEYOND)
    .union(Flaws::HOLLOW)
    .union(Flaws::CRITICAL);

/// Flaws of a set that keep hosts from the file, however whole its content is.
pub const HIDING: Flaws = Flaws::COUNT
    .union(Flaws::STREAM_TYPE)
    .union(Flaws::NAME_TYPE)
    .union(Flaws::NAME_LENGTH)
    .union(Flaws::NAME_TAIL)
    .union(Flaws::HASH)
    .union(Flaws::HEAD_TYPE)
    .union(Flaws::HEAD)
    .union(Flaws::NAME)
    .union(Flaws::NAME_FOUND)
    .union(Flaws::NAME_STRUCK)
    .union(Flaws::LENGTH_STRUCK)
    .union(Flaws::CHECKSUM);

impl Node {
    /// True when all of its content is known.
    pub fn whole(&self) -> bool {
        !self.flaws.intersects(DAMAGING)
    }
    /// Clusters that its length needs.
    pub fn needed(&self, geometry: &Geometry) -> u64 {
        geometry.clusters_for(self.stream.length)
    }
}

/// What is wrong with one folder as a whole; kept only where something is.
#[derive(Debug, Default, Clone)]
pub struct FolderNotes {
    /// Secondary entries that follow no file.
    pub strays: Vec<u32>,
    /// Entries that no host wrote.
    pub junk: Vec<u32>,
    /// Entries of types that the specification does not know, and that may not be ignored.
    pub unknown: Vec<u32>,
    /// End mark and first thing behind it.
    pub tail: Option<(u32, u32)>,
    /// End mark that hides whole sets: its index, and how many.
    pub hides: Option<(u32, u32)>,
}

impl FolderNotes {
    /// True when nothing is noted.
    pub fn is_empty(&self) -> bool {
        self.strays.is_empty()
            && self.junk.is_empty()
            && self.unknown.is_empty()
            && self.tail.is_none()
            && self.hides.is_none()
    }
}

/// Clusters in use that belong to nothing.
#[derive(Debug, Clone)]
pub struct Lost {
    /// The first of them.
    pub first: u32,
    /// How many.
    pub length: u32,
    /// They are a chain of the table; else they lie in a row.
    pub chained: bool,
    /// They hold nothing but one byte value.
    pub blank: bool,
    /// What their content seems to be.
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

/// Everything that was found.
#[derive(Debug, Default)]
pub struct Tree {
    /// The root first.
    pub nodes: Vec<Node>,
    /// Notes on folders, by number.
    pub notes: BTreeMap<u32, FolderNotes>,
    /// Clusters in use that belong to nothing.
    pub lost: Vec<Lost>,
    /// Sets marked deleted: folder, place, set.
    pub deleted: Vec<(u32, u64, super::sets::Item)>,
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
    /// A file or folder by number.
    pub fn node(&self, number: u32) -> Option<&Node> {
        self.nodes.get(number.size())
    }
    /// Its path, for sentences: a long one is shortened.
    pub fn path(&self, number: u32) -> String {
        let mut parts: Vec<&str> = Vec::new();
        let mut at = number;
        // A folder lies in one that was found before it, so this ends.
        while let Some(node) = self.node(at).filter(|_| at != 0) {
            parts.push(&node.name);
            at = if node.parent < at { node.parent } else { 0 };
        }
        parts.reverse();
        sentence(&parts)
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
    /// "the root folder", or "folder" and its path.
    pub fn folder_title(&self, number: u32) -> String {
        if number == 0 { "the root folder".to_owned() } else { format!("folder {}", self.path(number)) }
    }
    /// All but the root, with their numbers.
    pub fn below_root(&self) -> impl Iterator<Item = (u32, &Node)> + Clone {
        self.nodes.iter().enumerate().skip(1).map(|(number, node)| (number.narrow(), node))
    }
}

/// A time of a file entry (section 7.4.8), its zone left out.
pub fn time(stamp: u32) -> Option<DateTime> {
    let field = |shift: u32, mask: u32| i8::try_from(stamp >> shift & mask).ok();
    let year = i16::try_from(stamp >> 25_u32).ok()?.checked_add(1980)?;
    let second = field(0, 31)?.checked_mul(2)?;
    DateTime::new(year, field(21, 15)?, field(16, 31)?, field(11, 31)?, field(5, 63)?, second, 0).ok()
}
