//! All records of $MFT, read once: the files, their names, where their content stands, and what is wrong with each.
//!
//! What stands in records that extend others is put together with its file by the base record that they name; a file's
//! attribute list is held against that ([`super::lists`]), so that a list that is gone costs nothing.

use super::{
    layout::{NAME_BOTH, NAME_SHORT, number, sequence},
    lists::{ListFlaw, Lists},
    record::Broken,
    runs::{BadRuns, Run},
};
use crate::{arith::Sat, cluster::set::ClusterSet};
use bitflags::bitflags;
use std::{
    cell::Cell,
    collections::{BTreeMap, HashMap},
    ops::Range,
};

/// What is wrong with one record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Flaw {
    /// It does not begin with FILE.
    Signature([u8; 4]),
    /// These strides of 512 bytes are of another writing than the first.
    Torn(Vec<usize>),
    /// Its head was written over: from this byte on it can be read; whether what the head says of its use is believed.
    Head(u16, bool),
    /// Its fixups cannot be where its head says, or are another number than its strides.
    Fixups,
    /// Its attributes cannot be read to the end.
    Broken(Broken),
    /// It says that it is another record.
    Number(u32),
    /// The bytes used are others than its attributes have.
    Used(usize),
    /// Two attributes have one id, or the next id is in use.
    Ids,
    /// A file without standard information.
    NoStandard,
    /// The runs of an attribute (its type, and where it stands in the record).
    Runs(u32, usize, BadRuns),
    /// The sizes of an attribute do not go together with its clusters (its type, where it stands).
    Sizes(u32, usize),
    /// Plain content (where its attribute stands) has this size; its folder and what was written of it say that one.
    Size(usize, u64, u64),
    /// The pieces of an attribute leave something out, or overlap (its type).
    Pieces(u32),
    /// The base record that it names is no file's, or another's by now.
    Base(u64),
    /// It names this base record; the list of another file, of that one, has it, or it fills a gap there.
    Extends(u64, u64),
    /// It names this base record, and is a file's own.
    Own(u64),
    /// The file's attribute list is not what its records have.
    List(ListFlaw),
    /// It has another number of names than it says.
    Links(u16),
    /// It says that it is free; its folder and $MFT's bitmap say that it is not.
    Free,
    /// It has this sequence number; its folder, and all that stands in it, name that one.
    Sequence(u16, u16),
    /// A name (where its value stands) says that it is in that folder, which there is not; the index of this one has it.
    Parent(u16, u64, u64),
    /// It has an index of names, and says that it is no folder; or the reverse.
    Folder,
    /// The length or kind of a name (where its value stands) cannot be: what they are instead.
    Name(u16, u8, u8),
}

bitflags! {
    /// What a survey notes of a file.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub struct Notes: u16 {
        /// It is a folder.
        const FOLDER = 1;
        /// It has an index that is not of names.
        const VIEW = 1 << 1;
        /// Its record is not in use: it is deleted.
        const DELETED = 1 << 2;
        /// Something of its record cannot be believed.
        const DOUBT = 1 << 3;
        /// Something of its content cannot be found.
        const SHORT = 1 << 4;
        /// Another file claims some of its clusters.
        const CROSSED = 1 << 5;
        /// Its attributes stand in several records.
        const SPREAD = 1 << 6;
        /// Its record cannot be read; others name it.
        const LOST = 1 << 7;
        /// It has an attribute list.
        const LISTED = 1 << 8;
        /// It has names.
        const NAMED = 1 << 9;
        /// Its attribute list does not lead to all that it has.
        const MISLISTED = 1 << 10;
        /// A byte of its record was struck, and the rest tells which.
        const STRUCK = 1 << 11;
        /// Its folder's entry is of a later writing than its record.
        const OUTDATED = 1 << 12;
        /// Its record has another size than its folder's entry and what was written of it.
        const MISSIZED = 1 << 13;
    }
}

/// One file.
#[derive(Debug, Clone)]
pub struct File {
    /// Its base record.
    pub number: u32,
    /// How often the record was given to a file.
    pub sequence: u16,
    /// What is noted of it.
    pub notes: Notes,
    /// Names that it says it has.
    pub links: u16,
    /// When its content was last changed, in 100 ns since 1601.
    pub modified: u64,
    /// Its attributes.
    pub attributes: u32,
    /// Its security id.
    pub security: u32,
    /// What stands behind its name, if anything: the tag of the reparse point.
    pub reparse: u32,
    /// Its names, in the list of all.
    pub names: Range<u32>,
    /// The pieces of its attributes, in the list of all.
    pub pieces: Range<u32>,
}

/// One name of a file.
#[derive(Debug, Clone)]
pub struct Name {
    /// The file, by its record.
    pub file: u32,
    /// The record that the name stands in.
    pub holder: u32,
    /// Where in the record its value stands.
    pub at: u16,
    /// The namespace.
    pub space: u8,
    /// The folder's index has it.
    pub indexed: bool,
    /// The reference to the folder.
    pub parent: u64,
    /// The name.
    pub text: Box<str>,
}

/// A piece of an attribute: all of it, or what one of several records has.
#[derive(Debug, Clone)]
pub struct Piece {
    /// The file, by its record.
    pub file: u32,
    /// The record that it stands in.
    pub holder: u32,
    /// Its type.
    pub kind: u32,
    /// Its name, in the list of names of streams; 0 for none.
    pub name: u32,
    /// Where in the record the attribute stands.
    pub at: u16,
    /// Compressed, encrypted, sparse.
    pub flags: u16,
    /// Clusters of a compression unit, as a power of two.
    pub unit: u8,
    /// Its value stands in the record.
    pub resident: bool,
    /// What is wrong with its runs.
    pub bad: Option<BadRuns>,
    /// First VCN; where resident, where in the record the value stands.
    pub first_vcn: u64,
    /// Clusters that it should have.
    pub clusters: u64,
    /// Its runs, in the list of all.
    pub runs: Range<u32>,
    /// Bytes allocated.
    pub allocated: u64,
    /// Bytes of content.
    pub size: u64,
    /// Bytes of it that were written.
    pub valid: u64,
}

/// What a file is looked up by in the indexes of `$Extend`.
#[derive(Debug, Clone)]
pub struct Mark {
    /// The file, by its record.
    pub file: u32,
    /// The record that it stands in.
    pub holder: u32,
    /// What it is.
    pub what: Marked,
}

/// See [`Mark`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Marked {
    /// The value of `$OBJECT_ID`: its id, and where it was made.
    Object(Box<[u8]>),
    /// The tag of the reparse point.
    Reparse(u32),
}

/// The tag of a file's reparse point, 0 for none.
fn tag_of(marks: &[Mark], file: u32) -> u32 {
    let from = marks.partition_point(|mark| mark.file < file);
    let mut own = marks.get(from..).unwrap_or(&[]).iter().take_while(|mark| mark.file == file);
    let tag = |mark: &Mark| if let Marked::Reparse(tag) = mark.what { Some(tag) } else { None };
    own.find_map(tag).unwrap_or(0)
}

/// What became of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    /// Nothing but zeros, or FF.
    Blank,
    /// No file's.
    Free,
    /// A file's.
    File,
    /// It extends the record of a file.
    Extends,
    /// Nothing that can be read.
    Noise,
}

/// All of them.
#[derive(Debug, Default)]
pub struct Records {
    /// The files, by record; deleted ones among them.
    pub files: Vec<File>,
    /// All names, by file.
    pub names: Vec<Name>,
    /// All pieces, by file, type, name and VCN.
    pub pieces: Vec<Piece>,
    /// All runs.
    pub runs: Vec<Run>,
    /// The names of streams and indexes; the first is empty.
    pub streams: Vec<Box<str>>,
    /// What is wrong with each record.
    pub flaws: Vec<(u32, Flaw)>,
    /// What each record is.
    pub uses: Vec<Use>,
    /// The sequence number of each record.
    pub sequences: Vec<u16>,
    /// Records that extend others, with the base that they name.
    pub extending: Vec<(u32, u64)>,
    /// Attribute lists, and what they speak of.
    pub lists: Lists,
    /// Ids that files are looked up by, and reparse points, by file.
    pub marks: Vec<Mark>,
    /// Records that hold a copy of another, with that one.
    pub(super) copies: BTreeMap<u32, u32>,
    /// Files of which a record that extends theirs was struck.
    pub(super) struck: Vec<u32>,
    pub(super) by_name: HashMap<Box<str>, u32>,
}

impl Records {
    /// Puts together what belongs together.
    pub(super) fn settle(&mut self, cluster: u64) {
        // What extends a file that there is not, or not any more, belongs to nobody.
        let strangers = self.extended(cluster);
        let theirs = |holder: &u32| strangers.binary_search(holder).is_err();
        self.names.retain(|name| theirs(&name.holder));
        self.pieces.retain(|piece| theirs(&piece.holder));
        self.marks.retain(|mark| theirs(&mark.holder));
        self.marks.sort_by_key(|mark| mark.file);
        self.names.sort_by_key(|name| name.file);
        self.pieces
            .sort_by_key(|piece| (piece.file, piece.kind, piece.name, !piece.resident, piece.first_vcn));
        self.pieces.shrink_to_fit();
        self.runs.shrink_to_fit();
        let (mut name, mut piece) = (0_usize, 0_usize);
        for file in &mut self.files {
            let behind = |list: &dyn Fn(usize) -> Option<u32>, mut at: usize| {
                while list(at).is_some_and(|of| of < file.number) {
                    at = at.plus(1);
                }
                let from = at;
                while list(at) == Some(file.number) {
                    at = at.plus(1);
                }
                from..at
            };
            let own = behind(&|at| self.names.get(at).map(|name| name.file), name);
            name = own.end;
            file.names = own.start.narrow()..own.end.narrow();
            file.notes.set(Notes::NAMED, !own.is_empty());
            let own = behind(&|at| self.pieces.get(at).map(|piece| piece.file), piece);
            piece = own.end;
            file.pieces = own.start.narrow()..own.end.narrow();
            let others = self.pieces.get(own).unwrap_or(&[]);
            if self.struck.contains(&file.number) {
                file.notes.insert(Notes::STRUCK);
            }
            file.reparse = tag_of(&self.marks, file.number);
            file.notes.set(Notes::SPREAD, others.iter().any(|piece| piece.holder != file.number));
        }
        self.judge(cluster);
    }

    /// What is wrong with files as a whole: pieces that leave something out, names that were not counted.
    fn judge(&mut self, cluster: u64) {
        let mut flaws = Vec::new();
        for file in &mut self.files {
            if file.notes.contains(Notes::DELETED) {
                continue;
            }
            let list = self.pieces.get(span(&file.pieces)).unwrap_or(&[]);
            for stream in list.chunk_by(|one, other| (one.kind, one.name) == (other.kind, other.name)) {
                let Some(first) = stream.first() else { continue };
                if first.resident {
                    if stream.len() > 1 {
                        flaws.push((file.number, Flaw::Pieces(first.kind)));
                        file.notes.insert(Notes::SHORT);
                    }
                    continue;
                }
                let mut next = 0_u64;
                let mut whole = true;
                for piece in stream {
                    whole = whole && piece.first_vcn == next;
                    next = piece.first_vcn.plus(piece.clusters);
                    if piece.bad.is_some() {
                        file.notes.insert(Notes::SHORT);
                    }
                }
                if !whole {
                    flaws.push((file.number, Flaw::Pieces(first.kind)));
                    file.notes.insert(Notes::SHORT);
                }
            }
            let names = self.names.get_mut(span(&file.names)).unwrap_or(&mut []);
            // Hosts do not show a short name: without a long one beside it, it is both.
            let longs: Vec<u64> =
                names.iter().filter(|name| name.space != NAME_SHORT).map(|name| name.parent).collect();
            for name in names.iter_mut().filter(|n| n.space == NAME_SHORT && !longs.contains(&n.parent)) {
                name.space = NAME_BOTH;
                let long = u8::try_from(name.text.encode_utf16().count()).unwrap_or(u8::MAX);
                flaws.push((name.holder, Flaw::Name(name.at, long, NAME_BOTH)));
            }
            // Hosts differ in whether a short name counts.
            let all = u16::try_from(names.len()).unwrap_or(u16::MAX);
            let long = names.iter().filter(|name| name.space != NAME_SHORT).count();
            let counted = file.links == all || usize::from(file.links) == long;
            if !counted && !file.notes.contains(Notes::DOUBT) {
                flaws.push((file.number, Flaw::Links(all)));
            }
        }
        self.flaws.extend(flaws);
        self.judge_lists(cluster);
        self.flaws.sort_by_key(|(number, _)| *number);
    }

    /// The file of this record.
    pub fn file(&self, number: u32) -> Option<&File> {
        // Each stands at its number, less the records before it that hold no file: few, mostly.
        let last = self.files.last()?.number;
        let none = last.plus(1).size().minus(self.files.len());
        let window = number.size().minus(none)..number.plus(1).size().min(self.files.len());
        let (from, near) = (window.start, self.files.get(window)?);
        let at = near.binary_search_by_key(&number, |file| file.number).ok()?;
        self.files.get(from.plus(at))
    }
    /// The record of the file that this one is of.
    pub fn base_of(&self, holder: u32) -> u32 {
        let at = self.extending.binary_search_by_key(&holder, |(other, _)| *other);
        let base = at.ok().and_then(|at| self.extending.get(at)).map(|(_, base)| number(*base));
        base.map_or(holder, |base| u32::try_from(base).unwrap_or(u32::MAX))
    }
    /// The file that is in use.
    pub fn live(&self, number: u32) -> Option<&File> {
        self.file(number).filter(|file| !file.notes.contains(Notes::DELETED))
    }
    /// The file that this reference means, if it is still that one.
    pub fn referred(&self, reference: u64) -> Option<&File> {
        let file = self.live(u32::try_from(number(reference)).ok()?)?;
        (file.sequence == sequence(reference)).then_some(file)
    }
    /// The names of a file.
    pub fn names_of(&self, file: &File) -> &[Name] {
        self.names.get(span(&file.names)).unwrap_or(&[])
    }
    /// The pieces of a file's attributes.
    pub fn pieces_of(&self, file: &File) -> &[Piece] {
        self.pieces.get(span(&file.pieces)).unwrap_or(&[])
    }
    /// The pieces of one attribute of a file.
    pub fn stream_of<'r>(&'r self, file: &File, of: u32, name: &str) -> &'r [Piece] {
        let list = self.pieces_of(file);
        let wanted = if name.is_empty() { Some(0) } else { self.by_name.get(name).copied() };
        let fits = |piece: &Piece| piece.kind == of && Some(piece.name) == wanted;
        let Some(from) = list.iter().position(fits) else { return &[] };
        let rest = list.get(from..).unwrap_or(&[]);
        let many = rest.iter().take_while(|piece| fits(piece)).count();
        rest.get(..many).unwrap_or(&[])
    }
    /// The name of a stream.
    pub fn stream_name(&self, number: u32) -> &str {
        self.streams.get(number.size()).map_or("", |name| name)
    }
    /// The runs of a piece.
    pub fn runs_of(&self, piece: &Piece) -> &[Run] {
        self.runs.get(span(&piece.runs)).unwrap_or(&[])
    }
    /// The runs of all pieces of an attribute, holes where a piece is missing.
    pub fn all_runs(&self, pieces: &[Piece]) -> Vec<Run> {
        let mut runs: Vec<Run> = Vec::new();
        let mut next = 0_u64;
        for piece in pieces.iter().filter(|piece| !piece.resident) {
            if piece.first_vcn < next {
                continue;
            }
            if piece.first_vcn > next {
                runs.push(Run { first: None, length: piece.first_vcn.minus(next) });
            }
            let own = self.runs_of(piece);
            runs.extend(own);
            next = own.iter().fold(piece.first_vcn, |sum, run| sum.plus(run.length));
        }
        runs
    }
    /// Notes something of a file.
    pub fn note(&mut self, number: u32, note: Notes) {
        if let Ok(at) = self.files.binary_search_by_key(&number, |file| file.number)
            && let Some(file) = self.files.get_mut(at)
        {
            file.notes.insert(note);
        }
    }
    /// The clusters that files have, and those that more than one has.
    pub fn claims(&mut self, clusters: u64) -> (ClusterSet, ClusterSet) {
        let mut claimed = ClusterSet::with_capacity(clusters.size());
        let mut crossed = ClusterSet::with_capacity(clusters.size());
        let mut hit = false;
        let live = self.files.iter().filter(|file| !file.notes.contains(Notes::DELETED));
        let live: Vec<Range<u32>> = live.map(|file| file.pieces.clone()).collect();
        // A volume on which everything claims everything must come to an end too.
        let budget = Cell::new(clusters.times(64).plus(1 << 24));
        let each = |take: &mut dyn FnMut(&Piece, Range<usize>)| {
            for pieces in &live {
                for piece in
                    self.pieces.get(span(pieces)).unwrap_or(&[]).iter().filter(|piece| !piece.resident)
                {
                    // A list that is longer than its attribute counts has no right to the rest.
                    let counted = piece.bad == Some(BadRuns::Count);
                    let mut left = if counted { piece.clusters } else { u64::MAX };
                    for run in self.runs.get(span(&piece.runs)).unwrap_or(&[]) {
                        let length = run.length.min(left);
                        left = left.minus(length);
                        if let Some(first) = run.first.filter(|_| length > 0 && budget.get() >= length) {
                            budget.set(budget.get().minus(length));
                            take(piece, first.size()..first.plus(length).size());
                        }
                    }
                }
            }
        };
        each(&mut |_, range| {
            if claimed.contains_any_in_range(range.clone()) {
                hit = true;
                let both = range.clone().filter(|cluster| claimed.contains(*cluster)).collect::<Vec<_>>();
                for cluster in both {
                    crossed.insert(cluster);
                }
            }
            claimed.insert_range(range);
        });
        if hit {
            budget.set(clusters.times(64).plus(1 << 24));
            let mut sharing: Vec<u32> = Vec::new();
            each(&mut |piece, range| {
                if crossed.contains_any_in_range(range) {
                    sharing.push(piece.file);
                }
            });
            for number in sharing {
                self.note(number, Notes::CROSSED);
            }
        }
        (claimed, crossed)
    }
}

pub(super) fn span(range: &Range<u32>) -> Range<usize> {
    range.start.size()..range.end.size()
}
