//! Making records, attributes, names and index nodes: for fresh volumes, and for what is mended.

use super::{
    layout::{
        COMPRESSED, DUP_FOLDER, END_ALIGN, ENTRY_HEAD, ENTRY_LAST, ENTRY_NODE, HEAD, NAME_HEAD, OUTSIDE,
        RECORD_IN_USE, RESIDENT, SPARSE, STRIDE, fix, kind, put,
    },
    runs::{Run, encode},
};
use crate::arith::{Peek, Sat};

/// The next multiple of eight.
pub fn aligned(length: usize) -> usize {
    length.plus(7).per(8).times(8)
}

/// A text in UTF-16, as bytes.
pub fn units(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// The four times of a file, in 100 ns since 1601: made, content changed, record changed, read.
#[derive(Debug, Clone, Copy, Default)]
pub struct Times(pub [u64; 4]);

impl Times {
    /// All four alike.
    pub fn all(time: u64) -> Self {
        Self([time; 4])
    }
    fn bytes(&self) -> Vec<u8> {
        self.0.iter().flat_map(|time| time.to_le_bytes()).collect()
    }
}

/// `$STANDARD_INFORMATION` of version 3: attributes and security id.
pub fn standard(times: Times, attributes: u32, security: u32) -> Vec<u8> {
    let mut value = times.bytes();
    value.resize(72, 0);
    put(&mut value, 32, &attributes.to_le_bytes());
    put(&mut value, 52, &security.to_le_bytes());
    value
}

/// What `$FILE_NAME` says.
#[derive(Debug, Clone)]
pub struct FileName<'n> {
    /// The reference to the folder.
    pub parent: u64,
    /// The times at which the name was made.
    pub times: Times,
    /// Bytes allocated, and bytes of content.
    pub sizes: (u64, u64),
    /// Attributes, with [`DUP_FOLDER`].
    pub attributes: u32,
    /// The namespace.
    pub space: u8,
    /// The name.
    pub name: &'n str,
}

impl FileName<'_> {
    /// As it stands in the attribute, and in the folder's index.
    pub fn bytes(&self) -> Vec<u8> {
        let mut value = vec![0; NAME_HEAD];
        put(&mut value, 0, &self.parent.to_le_bytes());
        put(&mut value, 8, &self.times.bytes());
        put(&mut value, 40, &self.sizes.0.to_le_bytes());
        put(&mut value, 48, &self.sizes.1.to_le_bytes());
        put(&mut value, 56, &self.attributes.to_le_bytes());
        let name = units(self.name);
        put(&mut value, 64, &[u8::try_from(name.len().per(2)).unwrap_or(255), self.space]);
        value.extend(name);
        value
    }
    /// It names a folder.
    pub fn folder(&self) -> bool {
        self.attributes & DUP_FOLDER != 0
    }
}

/// Content outside the record.
#[derive(Debug, Clone, Copy)]
pub struct Outside<'r> {
    /// Compressed, encrypted, sparse.
    pub flags: u16,
    /// First VCN.
    pub first_vcn: u64,
    /// Where it stands.
    pub runs: &'r [Run],
    /// Bytes of content.
    pub size: u64,
    /// Bytes of it that were written.
    pub valid: u64,
    /// Bytes of a cluster.
    pub cluster: u64,
    /// Clusters of a compression unit, as a power of two.
    pub unit: u8,
}

impl<'r> Outside<'r> {
    /// Plain content of so many bytes, all written.
    pub fn plain(runs: &'r [Run], size: u64, cluster: u64) -> Self {
        Self { flags: 0, first_vcn: 0, runs, size, valid: size, cluster, unit: 0 }
    }
}

/// An attribute whose value is in the record.
pub fn resident(of: u32, name: &str, value: &[u8]) -> Vec<u8> {
    let name = units(name);
    let value_at = aligned(RESIDENT.plus(name.len()));
    let mut bytes = vec![0; aligned(value_at.plus(value.len()))];
    let length = bytes.len().narrow();
    put(&mut bytes, 0, &of.to_le_bytes());
    put(&mut bytes, 4, &length.to_le_bytes());
    put(&mut bytes, 9, &[u8::try_from(name.len().per(2)).unwrap_or(0)]);
    put(&mut bytes, 10, &24_u16.to_le_bytes());
    put(&mut bytes, 16, &value.len().narrow().to_le_bytes());
    put(&mut bytes, 20, &u16::try_from(value_at).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 22, &[u8::from(of == kind::NAME)]);
    put(&mut bytes, RESIDENT, &name);
    put(&mut bytes, value_at, value);
    bytes
}

/// An attribute whose value is outside the record.
pub fn outside(of: u32, name: &str, content: Outside<'_>) -> Vec<u8> {
    let name = units(name);
    let list = encode(content.runs);
    let clusters = content.runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
    let held = content.runs.iter().filter(|run| run.first.is_some());
    let held = held.fold(0_u64, |sum, run| sum.plus(run.length));
    let extended = content.flags & (SPARSE | COMPRESSED) != 0;
    let head = if extended { OUTSIDE.plus(8) } else { OUTSIDE };
    let runs_at = aligned(head.plus(name.len()));
    let mut bytes = vec![0; aligned(runs_at.plus(list.len()))];
    let length = bytes.len().narrow();
    put(&mut bytes, 0, &of.to_le_bytes());
    put(&mut bytes, 4, &length.to_le_bytes());
    put(&mut bytes, 8, &[1, u8::try_from(name.len().per(2)).unwrap_or(0)]);
    put(&mut bytes, 10, &u16::try_from(head).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 12, &content.flags.to_le_bytes());
    put(&mut bytes, 16, &content.first_vcn.to_le_bytes());
    put(&mut bytes, 24, &content.first_vcn.plus(clusters).wrapping_sub(1).to_le_bytes());
    put(&mut bytes, 32, &u16::try_from(runs_at).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 34, &[content.unit]);
    let all = content.first_vcn.plus(clusters).times(content.cluster);
    put(&mut bytes, 40, &all.to_le_bytes());
    put(&mut bytes, 48, &content.size.to_le_bytes());
    put(&mut bytes, 56, &content.valid.to_le_bytes());
    if extended {
        put(&mut bytes, 64, &held.times(content.cluster).to_le_bytes());
    }
    put(&mut bytes, head, &name);
    put(&mut bytes, runs_at, &list);
    bytes
}

/// A record in the making.
#[derive(Debug, Clone)]
pub struct Record {
    /// Its number.
    pub number: u32,
    /// Its sequence number.
    pub sequence: u16,
    /// Flags besides "in use".
    pub flags: u16,
    /// The reference to the base record.
    pub base: u64,
    /// The attributes, in any order.
    pub attributes: Vec<Vec<u8>>,
}

impl Record {
    /// A record without attributes.
    pub fn new(number: u32, sequence: u16, flags: u16) -> Self {
        Self { number, sequence, flags, base: 0, attributes: Vec::new() }
    }
    /// Adds an attribute.
    #[must_use]
    pub fn with(mut self, attribute: Vec<u8>) -> Self {
        self.attributes.push(attribute);
        self
    }
    /// Bytes that it will use, in a record of `size` bytes.
    pub fn used(&self, size: usize) -> usize {
        let all = self.attributes.iter().fold(0_usize, |sum, attribute| sum.plus(attribute.len()));
        first_attribute(size).plus(all).plus(END_ALIGN)
    }
    /// The record, fixups on; `None` where the attributes do not fit.
    pub fn bytes(&self, size: usize) -> Option<Vec<u8>> {
        if self.used(size) > size {
            return None;
        }
        let mut bytes = head(size);
        let mut attributes = self.attributes.clone();
        // By type, and those of one type by name, as hosts keep them.
        let name = |bytes: &[u8]| {
            bytes.part(usize::from(bytes.le16(10)), usize::from(bytes.byte(9)).times(2)).to_vec()
        };
        attributes.sort_by_key(|bytes| (bytes.le32(0), name(bytes)));
        let links = attributes.iter().filter(|bytes| bytes.le32(0) == kind::NAME).count();
        put(&mut bytes, 16, &self.sequence.to_le_bytes());
        put(&mut bytes, 18, &u16::try_from(links).unwrap_or(0).to_le_bytes());
        put(&mut bytes, 22, &(self.flags | RECORD_IN_USE).to_le_bytes());
        put(&mut bytes, 32, &self.base.to_le_bytes());
        put(&mut bytes, 44, &self.number.to_le_bytes());
        let mut at = first_attribute(size);
        for (id, attribute) in (0_u16..).zip(&mut attributes) {
            put(attribute, 14, &id.to_le_bytes());
            put(&mut bytes, at, attribute);
            at = at.plus(attribute.len());
            put(&mut bytes, 40, &id.wrapping_add(1).to_le_bytes());
        }
        put(&mut bytes, at, &kind::END.to_le_bytes());
        put(&mut bytes, 24, &at.plus(END_ALIGN).narrow().to_le_bytes());
        fix(&mut bytes);
        Some(bytes)
    }
}

fn first_attribute(size: usize) -> usize {
    aligned(HEAD.plus(size.per(STRIDE).plus(1).times(2)))
}

/// A head with where its fixups are and how long it is; nothing else.
fn head(size: usize) -> Vec<u8> {
    let mut bytes = vec![0; size];
    put(&mut bytes, 0, b"FILE");
    put(&mut bytes, 4, &u16::try_from(HEAD).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 6, &u16::try_from(size.per(STRIDE).plus(1)).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 20, &u16::try_from(first_attribute(size)).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 28, &size.narrow().to_le_bytes());
    bytes
}

/// A record that no file has, fixups on.
pub fn unused(number: u32, sequence: u16, size: usize) -> Vec<u8> {
    let mut bytes = head(size);
    let at = first_attribute(size);
    put(&mut bytes, 16, &sequence.to_le_bytes());
    put(&mut bytes, 44, &number.to_le_bytes());
    put(&mut bytes, at, &kind::END.to_le_bytes());
    put(&mut bytes, 24, &at.plus(END_ALIGN).narrow().to_le_bytes());
    fix(&mut bytes);
    bytes
}

/// An entry of a folder's index: the reference to the file, and its `$FILE_NAME`.
pub fn folder_entry(reference: u64, key: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0; aligned(ENTRY_HEAD.plus(key.len()))];
    let length = u16::try_from(bytes.len()).unwrap_or(0);
    put(&mut bytes, 0, &reference.to_le_bytes());
    put(&mut bytes, 8, &length.to_le_bytes());
    put(&mut bytes, 10, &u16::try_from(key.len()).unwrap_or(0).to_le_bytes());
    put(&mut bytes, ENTRY_HEAD, key);
    bytes
}

/// An entry of an index that is not of names: a key and a value.
pub fn view_entry(key: &[u8], value: &[u8]) -> Vec<u8> {
    let at = ENTRY_HEAD.plus(key.len());
    let mut bytes = vec![0; aligned(at.plus(value.len()))];
    let length = u16::try_from(bytes.len()).unwrap_or(0);
    put(&mut bytes, 0, &u16::try_from(at).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 2, &u16::try_from(value.len()).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 8, &length.to_le_bytes());
    put(&mut bytes, 10, &u16::try_from(key.len()).unwrap_or(0).to_le_bytes());
    put(&mut bytes, ENTRY_HEAD, key);
    put(&mut bytes, at, value);
    bytes
}

/// How the entries of an index compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Order {
    /// The attribute that is indexed, or 0.
    pub of: u32,
    /// 1 names, 10h numbers, 11h security ids of owners, 12h hashes of descriptors, 13h rows of numbers.
    pub rule: u32,
}

/// The order of a folder's index.
pub const BY_NAME: Order = Order { of: kind::NAME, rule: 1 };

/// Sizes that an index is built for.
#[derive(Debug, Clone, Copy)]
pub struct Room {
    /// Bytes of a block.
    pub block: usize,
    /// Bytes of a cluster.
    pub cluster: usize,
    /// Bytes that the root node may have.
    pub root: usize,
}

impl Room {
    /// What the number of a block is counted in: clusters, or sectors of 512 bytes where a block is smaller than a
    /// cluster.
    pub fn step(&self) -> u64 {
        if self.block >= self.cluster {
            self.block.per(self.cluster).wide()
        } else {
            self.block.per(STRIDE).wide()
        }
    }
}

/// An index: the value of `$INDEX_ROOT`, and the blocks, fixups on.
#[derive(Debug, Clone)]
pub struct Index {
    /// The value of `$INDEX_ROOT`.
    pub root: Vec<u8>,
    /// The blocks, in order.
    pub blocks: Vec<Vec<u8>>,
}

/// Bytes of an index header, and of what stands before it in `$INDEX_ROOT`.
const HEADER: usize = 16;
/// Where in a block the index header stands.
const BLOCK_HEADER: usize = 24;

/// One node in the making: its entries, each with the block below it, and the block below its end.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Level {
    /// The entries, without the number of the block below.
    pub entries: Vec<(Vec<u8>, Option<u64>)>,
    /// The block below the end entry.
    pub last: Option<u64>,
}

impl Level {
    /// Bytes of the entries, the end entry with them.
    pub fn bytes(&self) -> usize {
        node_bytes(self)
    }
    /// The block that holds it, fixups on; `None` where it has no room for all.
    pub fn block(&self, number: u64, size: usize) -> Option<Vec<u8>> {
        (block_head(size).plus(self.bytes()) <= size)
            .then(|| block_of(&node(self), self.last.is_some(), number, size))
    }
    /// The value of the `$INDEX_ROOT` that holds it.
    pub fn root(&self, order: Order, room: Room) -> Vec<u8> {
        root_value(self, order, room)
    }
}

/// Builds an index of these entries, which are in order.
pub fn index(entries: Vec<Vec<u8>>, order: Order, room: Room) -> Index {
    let mut level = Level { entries: entries.into_iter().map(|entry| (entry, None)).collect(), last: None };
    let mut blocks: Vec<Vec<u8>> = Vec::new();
    while node_bytes(&level) > room.root {
        level = split(level, room, &mut blocks);
    }
    Index { root: root_value(&level, order, room), blocks }
}

/// The value of the `$INDEX_ROOT` with this node.
fn root_value(level: &Level, order: Order, room: Room) -> Vec<u8> {
    let per = if room.block >= room.cluster { room.block.per(room.cluster) } else { room.block.per(STRIDE) };
    let mut root = vec![0; HEADER];
    put(&mut root, 0, &order.of.to_le_bytes());
    put(&mut root, 4, &order.rule.to_le_bytes());
    put(&mut root, 8, &room.block.narrow().to_le_bytes());
    put(&mut root, 12, &[u8::try_from(per).unwrap_or(0)]);
    let body = node(level);
    let length = HEADER.plus(body.len()).narrow();
    let mut header = vec![0; HEADER];
    put(&mut header, 0, &16_u32.to_le_bytes());
    put(&mut header, 4, &length.to_le_bytes());
    put(&mut header, 8, &length.to_le_bytes());
    put(&mut header, 12, &u32::from(level.last.is_some()).to_le_bytes());
    root.extend(header);
    root.extend(body);
    root
}

/// The value of an `$INDEX_ROOT` without an entry.
pub fn empty_root(order: Order, room: Room) -> Vec<u8> {
    index(Vec::new(), order, Room { root: usize::MAX, ..room }).root
}

fn entry_bytes(entry: &(Vec<u8>, Option<u64>)) -> usize {
    entry.0.len().plus(if entry.1.is_some() { 8 } else { 0 })
}

fn end_bytes(last: Option<u64>) -> usize {
    ENTRY_HEAD.plus(if last.is_some() { 8 } else { 0 })
}

fn node_bytes(level: &Level) -> usize {
    level.entries.iter().fold(end_bytes(level.last), |sum, entry| sum.plus(entry_bytes(entry)))
}

/// Puts a level into blocks, and gives the level above.
fn split(level: Level, room: Room, blocks: &mut Vec<Vec<u8>>) -> Level {
    let most = room.block.minus(block_head(room.block));
    let end = end_bytes(level.last);
    let mut above = Level { entries: Vec::new(), last: None };
    let mut here: Vec<(Vec<u8>, Option<u64>)> = Vec::new();
    let mut length = end;
    let mut entries = level.entries.into_iter().peekable();
    while let Some(entry) = entries.next() {
        let more = entry_bytes(&entry);
        if length.plus(more) <= most || here.is_empty() {
            length = length.plus(more);
            here.push(entry);
            continue;
        }
        // What does not fit goes up, unless it is the last: then the one before it does.
        let (up, carried) = match (entries.peek(), here.pop()) {
            (Some(_), Some(kept)) => {
                here.push(kept);
                (entry, None)
            }
            (None, Some(before)) => (before, Some(entry)),
            (_, None) => (entry, None),
        };
        let (key, below) = up;
        let vcn = block(&Level { entries: std::mem::take(&mut here), last: below }, room, blocks);
        above.entries.push((key, Some(vcn)));
        length = end;
        if let Some(entry) = carried {
            length = length.plus(entry_bytes(&entry));
            here.push(entry);
        }
    }
    above.last = Some(block(&Level { entries: here, last: level.last }, room, blocks));
    above
}

/// Where in a block the entries begin, counted from its start.
fn block_head(block: usize) -> usize {
    aligned(BLOCK_HEADER.plus(HEADER).plus(block.per(STRIDE).plus(1).times(2)))
}

/// Puts a node into the next block, and gives its number.
fn block(level: &Level, room: Room, blocks: &mut Vec<Vec<u8>>) -> u64 {
    let vcn = blocks.len().wide().times(room.step());
    blocks.push(block_of(&node(level), level.last.is_some(), vcn, room.block));
    vcn
}

/// A block with these entries, fixups on.
fn block_of(entries: &[u8], deep: bool, vcn: u64, size: usize) -> Vec<u8> {
    let mut bytes = vec![0; size];
    let at = block_head(size);
    put(&mut bytes, 0, b"INDX");
    put(&mut bytes, 4, &40_u16.to_le_bytes());
    put(&mut bytes, 6, &u16::try_from(size.per(STRIDE).plus(1)).unwrap_or(0).to_le_bytes());
    put(&mut bytes, 16, &vcn.to_le_bytes());
    put(&mut bytes, BLOCK_HEADER, &at.minus(BLOCK_HEADER).narrow().to_le_bytes());
    put(&mut bytes, BLOCK_HEADER.plus(4), &at.minus(BLOCK_HEADER).plus(entries.len()).narrow().to_le_bytes());
    put(&mut bytes, BLOCK_HEADER.plus(8), &size.minus(BLOCK_HEADER).narrow().to_le_bytes());
    put(&mut bytes, BLOCK_HEADER.plus(12), &u32::from(deep).to_le_bytes());
    put(&mut bytes, at, entries);
    fix(&mut bytes);
    bytes
}

/// The entries of a node, its end entry with them.
fn node(level: &Level) -> Vec<u8> {
    let mut bytes = Vec::new();
    let end = vec![0; ENTRY_HEAD];
    let all = level.entries.iter().map(|(entry, below)| (entry, *below, 0));
    for (entry, below, flags) in all.chain([(&end, level.last, ENTRY_LAST)]) {
        let mut entry = entry.clone();
        let flags = if below.is_some() { flags | ENTRY_NODE } else { flags };
        entry.extend(below.iter().flat_map(|vcn| vcn.to_le_bytes()));
        let length = u16::try_from(entry.len()).unwrap_or(0);
        put(&mut entry, 8, &length.to_le_bytes());
        put(&mut entry, 12, &flags.to_le_bytes());
        bytes.extend(entry);
    }
    bytes
}
