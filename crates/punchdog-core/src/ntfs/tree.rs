//! Folders and files as records tell them: by each name's own folder, not by the folders' indexes.
//!
//! A name says in which folder it stands, and in which use of that folder's record. So the tree stands where every index
//! is gone, and what an index names beside that is told apart: a record that is lost, or was given to another file.

use super::{
    layout::{NAME_SHORT, kind, number, own, reference, sequence},
    records::{Name, Notes, Records, Use},
};
use crate::arith::Sat;
use std::collections::{HashMap, HashSet};

/// An entry of an index that no name of a file in use stands behind.
#[derive(Debug, Clone)]
pub struct Stray {
    /// The folder in whose index it stands.
    pub folder: u32,
    /// The reference to the file.
    pub reference: u64,
    /// The reference to its folder, as the entry has it.
    pub parent: u64,
    /// Where the entry stands.
    pub place: u64,
    /// Why.
    pub why: Why,
    /// The attributes that it says the file has.
    pub attributes: u32,
    /// Bytes of content, as it was when the entry was written.
    pub size: u64,
    /// When the content was last changed.
    pub modified: u64,
    /// The namespace.
    pub space: u8,
    /// The name.
    pub text: Box<str>,
}

/// Why an entry is a stray.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Why {
    /// The record cannot be read: the name is all that is left of the file.
    Lost,
    /// The record is free: the file was deleted.
    Free,
    /// The record was given to another file since.
    Reused,
    /// The file has no such name in this folder.
    Renamed,
    /// The same entry stands there twice.
    Doubled,
}

/// What a node is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Of {
    /// The root folder.
    Root,
    /// A name of a file, in the list of names.
    Name(u32),
    /// A stray entry of an index: a file whose record is lost.
    Stray(u32),
    /// A stream of a file: the text of both, in the list of made ones, and the number of the stream's name.
    Stream(u32, u32),
    /// Something that has no name of its own: its text, in the list of made ones.
    Made(u32),
}

/// How a node can be reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reached {
    /// By the indexes of all folders above it.
    Indexed,
    /// Its own name is in no index.
    Unindexed,
    /// It is in a folder that hosts do not find.
    Below,
    /// The folder that it names is not there.
    Orphan,
}

/// A file or folder in the tree.
#[derive(Debug, Clone, Copy)]
pub struct Node {
    /// The node of its folder.
    pub parent: u32,
    /// What it is.
    pub of: Of,
    /// The record of its file; `None` for what has none.
    pub file: Option<u32>,
    /// How it can be reached.
    pub reached: Reached,
}

/// The tree.
#[derive(Debug, Default)]
pub struct Tree {
    /// The nodes; each folder before what is in it.
    pub nodes: Vec<Node>,
    /// Texts of nodes that have none of their own: streams with their files, and folders for what is adrift.
    pub made: Vec<Box<str>>,
}

/// What the nodes are made from.
struct Maker<'r> {
    records: &'r Records,
    strays: &'r [Stray],
    /// Names by the record of their folder.
    by_parent: Vec<u32>,
    /// Strays whose records are lost, by the folder in whose index they stand.
    lost: HashMap<u32, Vec<u32>>,
    tree: Tree,
    done: Vec<bool>,
}

/// A short name beside a long one in the same folder.
pub(super) fn is_twin(records: &Records, name: &Name) -> bool {
    name.space == NAME_SHORT
        && records.file(name.file).is_some_and(|file| {
            let others = records.names_of(file).iter();
            others.into_iter().any(|other| other.parent == name.parent && other.space != NAME_SHORT)
        })
}

/// Builds the tree.
pub fn build(records: &Records, strays: &[Stray]) -> Tree {
    let mut by_parent: Vec<u32> = (0..records.names.len().narrow()).collect();
    let parent = |name: &u32| records.names.get(name.size()).map_or(u64::MAX, |name| number(name.parent));
    by_parent.retain(|name| {
        let of = records.names.get(name.size());
        of.is_some_and(|name| records.live(name.file).is_some())
    });
    by_parent.sort_by_key(|name| (parent(name), *name));
    // Each lost file by one of its names, a long one where there is one.
    let mut chosen: HashMap<u64, u32> = HashMap::new();
    // Those of the file system's own are no files, and are made anew.
    let lost = |stray: &Stray| stray.why == Why::Lost && number(stray.reference) >= own::FIRST_FREE.into();
    for (index, stray) in (0_u32..).zip(strays).filter(|(_, stray)| lost(stray)) {
        if stray.space != NAME_SHORT || !chosen.contains_key(&stray.reference) {
            chosen.insert(stray.reference, index);
        }
    }
    let mut lost: HashMap<u32, Vec<u32>> = HashMap::new();
    let mut chosen: Vec<u32> = chosen.into_values().collect();
    chosen.sort_unstable();
    for index in chosen {
        lost.entry(strays.get(index.size()).map_or(own::ROOT, |stray| stray.folder)).or_default().push(index);
    }
    let done = vec![false; records.uses.len()];
    let mut maker = Maker { records, strays, by_parent, lost, tree: Tree::default(), done };
    maker.tree.nodes.push(Node { parent: 0, of: Of::Root, file: Some(own::ROOT), reached: Reached::Indexed });
    let root = records.sequences.get(own::ROOT.size()).copied().filter(|_| records.live(own::ROOT).is_some());
    maker.seen(own::ROOT);
    maker.below(0, reference(own::ROOT, root.unwrap_or(5)));
    maker.adrift();
    maker.tree.nodes.shrink_to_fit();
    maker.tree
}

/// What is made for files adrift: the node of all of them, and those of their folders.
#[derive(Default)]
struct Shelf {
    top: Option<u32>,
    folders: HashMap<u64, u32>,
}

impl Maker<'_> {
    fn seen(&mut self, number: u32) -> bool {
        match self.done.get_mut(number.size()) {
            Some(done) => std::mem::replace(done, true),
            None => false,
        }
    }

    /// Adds what is in the folder of `top`, which is meant by `reference`, and what is in that.
    fn below(&mut self, top: u32, of: u64) {
        let mut open: Vec<(u32, u64)> = vec![(top, of)];
        while let Some((folder, of)) = open.pop() {
            let hidden =
                self.tree.nodes.get(folder.size()).is_some_and(|node| node.reached != Reached::Indexed);
            for index in self.children(of) {
                let Some(name) = self.records.names.get(index.size()) else { continue };
                if is_twin(self.records, name) || number(name.parent) == u64::from(name.file) {
                    continue;
                }
                let reached = match (hidden, name.indexed) {
                    (true, _) => Reached::Below,
                    (false, true) => Reached::Indexed,
                    (false, false) => Reached::Unindexed,
                };
                self.file(folder, Of::Name(index), name.file, reached, &mut open);
            }
            for index in self.lost_in(of) {
                let node =
                    Node { parent: folder, of: Of::Stray(index), file: None, reached: Reached::Indexed };
                let here = self.tree.nodes.len().narrow();
                self.tree.nodes.push(node);
                if let Some(stray) = self.strays.get(index.size()) {
                    open.push((here, stray.reference));
                }
            }
        }
    }

    /// Adds a file, its streams, and notes a folder to be gone through.
    fn file(&mut self, parent: u32, of: Of, number: u32, reached: Reached, open: &mut Vec<(u32, u64)>) {
        let here = self.tree.nodes.len().narrow();
        let Some(file) = self.records.live(number) else { return };
        self.tree.nodes.push(Node { parent, of, file: Some(number), reached });
        let again = self.seen(number);
        if file.notes.contains(Notes::FOLDER) && !again {
            open.push((here, reference(number, file.sequence)));
        }
        if again {
            // A file of several names has its streams once.
            return;
        }
        let mut last = 0;
        for piece in self.records.pieces_of(file) {
            if piece.kind == kind::DATA && piece.name != last && piece.name != 0 {
                last = piece.name;
                let text = format!(
                    "{}:{}",
                    self.tree.text(self.records, self.strays, here),
                    self.records.stream_name(piece.name)
                );
                let of = Of::Stream(self.tree.made.len().narrow(), piece.name);
                self.tree.made.push(text.into_boxed_str());
                self.tree.nodes.push(Node { parent, of, file: Some(number), reached });
            }
        }
    }

    /// Names that say that they stand in the folder that `of` means.
    fn children(&self, of: u64) -> Vec<u32> {
        let parent = |name: &u32| self.records.names.get(name.size()).map_or(u64::MAX, |name| name.parent);
        let from = self.by_parent.partition_point(|name| number(parent(name)) < number(of));
        let rest = self.by_parent.get(from..).unwrap_or(&[]);
        let all = rest.iter().take_while(|name| number(parent(name)) == number(of));
        all.filter(|name| sequence(parent(name)) == sequence(of)).copied().collect()
    }

    /// Strays in the folder that `of` means whose records are lost.
    fn lost_in(&self, of: u64) -> Vec<u32> {
        let folder = u32::try_from(number(of)).unwrap_or(u32::MAX);
        self.lost.get(&folder).cloned().unwrap_or_default()
    }

    /// Adds what no folder leads to: files, and further names of files that are reached by another.
    fn adrift(&mut self) {
        let left: Vec<u32> = self
            .records
            .files
            .iter()
            .filter(|file| !file.notes.contains(Notes::DELETED) && file.number >= own::FIRST_FREE)
            .map(|file| file.number)
            .filter(|number| !self.done.get(number.size()).copied().unwrap_or(false))
            .collect();
        let mut shelf = Shelf::default();
        // Those first whose folder is not among them: the others are in these.
        for ring in [false, true] {
            for number_of in &left {
                self.file_adrift(*number_of, ring, &mut shelf);
            }
        }
        for name in self.names_adrift() {
            let Some(of) = self.records.names.get(name.size()) else { continue };
            let folder = self.folder_on(&mut shelf, of.parent);
            self.file(folder, Of::Name(name), of.file, Reached::Orphan, &mut Vec::new());
        }
    }

    /// Adds a node that no name of the volume stands for.
    fn made(&mut self, parent: u32, text: String) -> u32 {
        let here = self.tree.nodes.len().narrow();
        let of = Of::Made(self.tree.made.len().narrow());
        self.tree.made.push(text.into_boxed_str());
        self.tree.nodes.push(Node { parent, of, file: None, reached: Reached::Orphan });
        here
    }

    /// The node of all that is adrift.
    fn top_of(&mut self, shelf: &mut Shelf) -> u32 {
        if let Some(top) = shelf.top {
            return top;
        }
        let top = self.made(0, crate::files::naming::ADRIFT.to_owned());
        shelf.top = Some(top);
        top
    }

    /// The node of the folder that `parent` means, which is no more.
    fn folder_on(&mut self, shelf: &mut Shelf, parent: u64) -> u32 {
        if let Some(known) = shelf.folders.get(&parent) {
            return *known;
        }
        let top = self.top_of(shelf);
        let here = self.made(top, format!("FOLDER {}", number(parent)));
        shelf.folders.insert(parent, here);
        here
    }

    fn file_adrift(&mut self, number_of: u32, ring: bool, shelf: &mut Shelf) {
        if self.done.get(number_of.size()).copied().unwrap_or(true) {
            return;
        }
        let Some(file) = self.records.live(number_of) else { return };
        let names = self.records.names_of(file);
        let from = file.names.start;
        let long = names.iter().position(|name| name.space != NAME_SHORT).unwrap_or(0);
        let mut open = Vec::new();
        let Some(name) = names.get(long) else {
            if self.records.uses.get(number_of.size()) == Some(&Use::File) {
                let top = self.top_of(shelf);
                let of = Of::Made(self.tree.made.len().narrow());
                self.tree.made.push(format!("FILE {number_of}").into_boxed_str());
                self.file(top, of, number_of, Reached::Orphan, &mut open);
                self.open(open);
            }
            return;
        };
        let among = self.records.referred(name.parent).is_some_and(|above| {
            above.notes.contains(Notes::FOLDER)
                && !self.done.get(above.number.size()).copied().unwrap_or(true)
        });
        if among && !ring {
            return;
        }
        let folder = match shelf.folders.get(&name.parent) {
            Some(known) => *known,
            None if ring => self.top_of(shelf),
            None => self.folder_on(shelf, name.parent),
        };
        let of = Of::Name(from.plus(long.narrow()));
        self.file(folder, of, number_of, Reached::Orphan, &mut open);
        self.open(open);
    }

    /// Names of files that are reached by another name, in folders that there are no more: a host that writes to such a
    /// file looks for each of its folders.
    fn names_adrift(&self) -> Vec<u32> {
        let gone = |name: &Name| {
            let folder = self.records.referred(name.parent);
            let own_file = name.file < own::FIRST_FREE || number(name.parent) == u64::from(name.file);
            !own_file
                && folder.is_none_or(|folder| !folder.notes.contains(Notes::FOLDER))
                && self.records.live(name.file).is_some()
                && !is_twin(self.records, name)
        };
        let names = (0_u32..).zip(&self.records.names);
        let mut all: Vec<u32> = names.filter(|(_, name)| gone(name)).map(|(index, _)| index).collect();
        if !all.is_empty() {
            let named = self.tree.nodes.iter().filter_map(|node| match node.of {
                Of::Name(index) => Some(index),
                _ => None,
            });
            let named: HashSet<u32> = named.collect();
            all.retain(|index| !named.contains(index));
        }
        all
    }

    fn open(&mut self, open: Vec<(u32, u64)>) {
        for (node, of) in open {
            let from = self.tree.nodes.len();
            self.below(node, of);
            for node in self.tree.nodes.iter_mut().skip(from) {
                node.reached = Reached::Orphan;
            }
        }
    }
}

impl Tree {
    /// What a node is called.
    pub fn text<'t>(&'t self, records: &'t Records, strays: &'t [Stray], number: u32) -> &'t str {
        let Some(node) = self.nodes.get(number.size()) else { return "" };
        match node.of {
            Of::Root => "",
            Of::Name(index) => records.names.get(index.size()).map_or("", |name| &name.text),
            Of::Stray(index) => strays.get(index.size()).map_or("", |stray| &stray.text),
            Of::Made(index) | Of::Stream(index, _) => self.made.get(index.size()).map_or("", |text| text),
        }
    }
}
