//! The index of a folder as it stands: entries in the order in which hosts come upon them, and what keeps hosts from some.
//!
//! Layout in `layout.rs`. A host begins at the root node, in the folder's record, and follows the numbers of the blocks
//! below; what no number leads to it does not see, whatever the blocks' own bitmap says.

use super::{
    layout::{ENTRY_HEAD, ENTRY_LAST, ENTRY_NODE, Fixups, NAME_HEAD, counts_fixups, kind, unfix},
    mft::Mft,
    names::{Capitals, of_key},
    record::{Attribute, attributes, text},
    records::{File, Records},
    runs::Mapping,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
};
use std::{cmp::Ordering, collections::HashSet};

/// Nodes one below the other.
const DEPTH: usize = 40;
/// Bytes of blocks that are held at once; of larger indexes each block is read when its turn comes.
const HELD: u64 = 16 << 20;

/// What is wrong with an index.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum IndexFlaw {
    /// The record has no `$INDEX_ROOT` for names, or one that cannot be read.
    Root,
    /// A block that entries lead to has no signature, or is blank.
    Signature(u64),
    /// A block is of two writings: the number of its first stale stride.
    Torn(u64, usize),
    /// A block's fixups cannot be.
    Fixups(u64),
    /// A block says that it is another.
    Number(u64),
    /// The sizes in the head of a node cannot be.
    Head(u64),
    /// An entry whose length cannot be: what follows it in its node is lost.
    Entry(u64),
    /// An entry leads to a block that there is not, or that was met before.
    Below(u64),
    /// An entry that stands before one that should come first.
    Order(u64),
    /// So many blocks in use to which nothing leads.
    Unreached(u64),
    /// A block that entries lead to is not marked in use.
    Unmarked(u64),
    /// An entry that says of a file that it is a folder, or the reverse.
    Kind(u64),
    /// Its blocks cannot be found.
    Blocks,
}

impl IndexFlaw {
    /// Entries may be out of reach by it.
    pub fn hides(self) -> bool {
        !matches!(self, Self::Torn(..) | Self::Unmarked(_) | Self::Order(_) | Self::Kind(_))
    }
}

/// One entry.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'e> {
    /// The reference to the file.
    pub reference: u64,
    /// Its `$FILE_NAME`.
    pub key: &'e [u8],
    /// Where it stands: bytes from the start of the volume.
    pub place: u64,
    /// Hosts come upon it.
    pub reached: bool,
}

/// The blocks of an index.
pub(super) struct Blocks<'m> {
    medium: &'m dyn Medium,
    /// Where they stand.
    pub(super) map: Mapping,
    held: Vec<u8>,
    /// Bytes of each.
    pub(super) size: usize,
    /// What their numbers are counted in.
    pub(super) step: u64,
}

impl Blocks<'_> {
    /// Where block `number` begins within the attribute.
    pub(super) fn at(&self, number: u64) -> Option<u64> {
        (self.step > 0 && number.rest(self.step) == 0)
            .then(|| number.per(self.step).times(self.size.wide()))
            .filter(|at| at.plus(self.size.wide()) <= self.map.len())
    }
    fn bytes(&self, at: u64) -> Vec<u8> {
        if self.held.is_empty() {
            self.map.read(self.medium, at, self.size)
        } else {
            self.held.part(at.size(), self.size).to_vec()
        }
    }
    fn place(&self, at: u64) -> u64 {
        self.map.place(at).unwrap_or(0)
    }
    /// The node in the block that begins at `at` of the attribute, and whether it is torn; what keeps it from being
    /// read otherwise.
    pub(super) fn node(&self, at: u64, number: u64) -> Result<(Node, Option<IndexFlaw>), IndexFlaw> {
        let place = self.place(at);
        let mut bytes = self.bytes(at);
        if bytes.part(0, 4) != b"INDX" {
            return Err(IndexFlaw::Signature(place));
        }
        let torn = match unfix(&mut bytes) {
            Fixups::Whole => None,
            Fixups::Torn(strides) => Some(IndexFlaw::Torn(place, strides.first().copied().unwrap_or(0))),
            Fixups::Bad => return Err(IndexFlaw::Fixups(place)),
        };
        if !counts_fixups(&bytes) {
            return Err(IndexFlaw::Fixups(place));
        }
        if bytes.le64(16) != number {
            return Err(IndexFlaw::Number(place));
        }
        let found = node(&bytes, 24, place).ok_or(IndexFlaw::Head(place))?;
        Ok((Node { at: Some(at), ..found }, torn))
    }
    /// Where the entry stands whose turn it is in a node.
    fn entry_place(&self, node: &Node) -> u64 {
        match node.at {
            Some(at) => self.place(at.plus(node.next.wide())),
            None => node.place.plus(node.next.wide()),
        }
    }
}

/// A node that is being gone through.
#[derive(Clone)]
pub(super) struct Node {
    pub(super) bytes: Vec<u8>,
    /// Where the next entry stands in `bytes`, and where they end.
    pub(super) next: usize,
    end: usize,
    /// Where `bytes` stand.
    place: u64,
    /// Where in the attribute, where it is a block: that may lie in pieces.
    at: Option<u64>,
    /// The entry to give before going on: its block below was gone through.
    due: bool,
}

/// What going through an index showed.
#[derive(Debug, Clone, Default)]
pub struct Reading {
    /// What is wrong with it.
    pub flaws: Vec<IndexFlaw>,
    /// Entries that hosts come upon.
    pub reached: u64,
}

/// The value of an attribute called `name` that stands in the record, and where in the record.
pub(crate) fn root_of<'r>(record: &'r [u8], name: &str) -> Option<(Attribute<'r>, usize)> {
    let (list, _) = attributes(record);
    let found =
        list.into_iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called(name) && a.resident())?;
    Some((found, found.value_at()))
}

/// What a host demands of the head of a root node, on a volume of such clusters: block size, first entry and bytes in use
/// (Linux 6.12, `fs/ntfs3/index.c`, `indx_init`).
fn root_head_fits(value: &[u8], cluster: u64) -> bool {
    let (first, used, total) = (value.le32(16), value.le32(20), value.le32(24));
    let room = value.len().minus(16).narrow();
    // Blocks are counted in clusters, those smaller than a cluster in 512 bytes.
    let (block, count) = (u64::from(value.le32(8)), u64::from(value.byte(12)));
    let counted = if block < cluster {
        block == count.times(512) && cluster.per(512) & count.minus(1) == 0
    } else {
        block == count.times(cluster)
    };
    block > 0 && counted && used <= total.min(room) && first >= 16 && first.plus(16) <= used && total <= room
}

/// The same of its entries too, up to the last, which ends where they do (seen, with 6.12.117).
pub(in crate::ntfs) fn root_fits(value: &[u8], cluster: u64) -> bool {
    let (mut at, end) = (value.le32(16).plus(16).size(), value.le32(20).plus(16).size());
    if !root_head_fits(value, cluster) {
        return false;
    }
    loop {
        let (length, key) = (usize::from(value.le16(at.plus(8))), usize::from(value.le16(at.plus(10))));
        if at.plus(ENTRY_HEAD) > end || length < ENTRY_HEAD.plus(key) || at.plus(length) > end {
            return false;
        }
        at = at.plus(length);
        if value.le16(at.minus(length).plus(12)) & ENTRY_LAST != 0 {
            return at == end;
        }
    }
}

/// The index of names of a folder, with its root node read.
pub(super) struct Index<'m> {
    /// The record that the root node stands in.
    pub(super) holder: u32,
    /// The root node; `None` where there is none that can be read.
    pub(super) root: Option<Node>,
    /// The blocks.
    pub(super) blocks: Blocks<'m>,
    /// Which of them are in use.
    pub(super) marked: Vec<u8>,
}

/// Opens the index of names of a folder.
pub(super) fn open<'m>(medium: &'m dyn Medium, mft: &Mft, records: &Records, file: &File) -> Index<'m> {
    // The root node is in the base record, or in one that extends it.
    let holder = records.stream_of(file, kind::INDEX_ROOT, "$I30").first().map_or(file.number, |p| p.holder);
    let record = mft.read(medium, holder).unwrap_or_default();
    let root = root_of(&record, "$I30").and_then(|(found, at)| {
        let value = found.value();
        let size = value.le32(8);
        let fits = value.le32(0) == kind::NAME
            && value.le32(4) == 1
            && size.is_power_of_two()
            && (512..=65536).contains(&size);
        let fits = fits && root_head_fits(value, mft.geometry.cluster());
        node(value, 16, mft.place(holder).unwrap_or(0).plus(at.wide()))
            .filter(|_| fits)
            .map(|node| (node, size))
    });
    let allocation = records.stream_of(file, kind::INDEX_ALLOCATION, "$I30");
    let size = root.as_ref().map_or(mft.geometry.index(), |(_, size)| size.size());
    let map = Mapping::of(&records.all_runs(allocation), mft.geometry.cluster());
    let step = mft.geometry.index_step(size.wide());
    let held = if map.len() <= HELD { map.read(medium, 0, map.len().size()) } else { Vec::new() };
    Index {
        holder,
        root: root.map(|(node, _)| node),
        blocks: Blocks { medium, map, held, size, step },
        marked: marked(medium, mft, records, file),
    }
}

/// Goes through the index of names of a folder.
pub fn read(
    medium: &dyn Medium,
    mft: &Mft,
    records: &Records,
    file: &File,
    capitals: &Capitals,
    mut take: impl FnMut(&Entry<'_>),
) -> Reading {
    let mut reading = Reading::default();
    let Index { root, blocks, marked, .. } = open(medium, mft, records, file);
    let size = blocks.size;
    let mut walk =
        Walk { blocks: &blocks, capitals, before: Vec::new(), seen: HashSet::new(), marked: &marked };
    match root {
        Some(node) => walk.from(node, &mut reading, &mut take),
        None => reading.flaws.push(IndexFlaw::Root),
    }
    // What stands in blocks that nothing leads to still names files.
    let mut unreached = 0_u64;
    let count = blocks.map.len().per(size.wide()).min(marked.len().wide().times(8));
    for block in 0..count {
        let at = block.times(size.wide());
        // In a hole there is none.
        if !is_set(&marked, block) || walk.seen.contains(&at) || blocks.map.place(at).is_none() {
            continue;
        }
        let mut bytes = blocks.bytes(at);
        if bytes.part(0, 4) != b"INDX" || unfix(&mut bytes) == Fixups::Bad {
            continue;
        }
        let Some(node) = node(&bytes, 24, blocks.place(at)) else { continue };
        let mut node = Node { at: Some(at), ..node };
        let mut entries = 0_u64;
        while let Ok(Some((entry, length, _))) = next(&node) {
            let place = blocks.entry_place(&node);
            entries = entries.plus(1);
            take(&Entry { reference: entry.le64(0), key: key(&entry), place, reached: false });
            node.next = node.next.plus(length);
        }
        unreached = unreached.plus(u64::from(entries > 0));
    }
    if unreached > 0 {
        reading.flaws.push(IndexFlaw::Unreached(unreached));
    }
    reading
}

/// The bitmap of the blocks.
fn marked(medium: &dyn Medium, mft: &Mft, records: &Records, file: &File) -> Vec<u8> {
    let pieces = records.stream_of(file, kind::BITMAP, "$I30");
    let Some(first) = pieces.first() else { return Vec::new() };
    if first.resident {
        let record = mft.read(medium, first.holder).unwrap_or_default();
        return record.part(first.first_vcn.size(), first.size.size()).to_vec();
    }
    let map = Mapping::of(&records.all_runs(pieces), mft.geometry.cluster());
    map.read(medium, 0, first.size.min(map.len()).min(1 << 22).size())
}

pub(super) fn is_set(bits: &[u8], number: u64) -> bool {
    bits.byte(number.per(8).size()) >> number.rest(8) & 1 == 1
}

/// The reference in the entry of this name in the root node of a folder's index, whatever its case.
pub(in crate::ntfs) fn in_root(record: &[u8], name: &str) -> Option<u64> {
    let (root, _) = root_of(record, "$I30")?;
    let mut node = node(root.value(), 16, 0)?;
    while let Ok(Some((entry, length, _))) = next(&node) {
        if text(of_key(key(&entry))).eq_ignore_ascii_case(name) {
            return Some(entry.le64(0));
        }
        node.next = node.next.plus(length);
    }
    None
}

/// What the entries of the root node in a folder's record name: the reference, and the `$FILE_NAME`.
pub(in crate::ntfs) fn named_in_root(record: &[u8]) -> Vec<(u64, Vec<u8>)> {
    let root = root_of(record, "$I30").and_then(|(root, _)| node(root.value(), 16, 0));
    root.map_or(Vec::new(), named_in)
}

/// The same of a block, as it stands.
pub(in crate::ntfs) fn named_in_block(bytes: &[u8]) -> Vec<(u64, Vec<u8>)> {
    let mut bytes = bytes.to_vec();
    let whole = bytes.part(0, 4) == b"INDX" && unfix(&mut bytes) != Fixups::Bad;
    let found = if whole { node(&bytes, 24, 0) } else { None };
    found.map_or(Vec::new(), named_in)
}

fn named_in(mut node: Node) -> Vec<(u64, Vec<u8>)> {
    let mut found = Vec::new();
    while let Ok(Some((entry, length, _))) = next(&node) {
        found.push((entry.le64(0), key(&entry).to_vec()));
        node.next = node.next.plus(length);
    }
    found
}

/// The node whose index header stands at `header` of `bytes`.
fn node(bytes: &[u8], header: usize, place: u64) -> Option<Node> {
    let (first, used) = (bytes.le32(header).size(), bytes.le32(header.plus(4)).size());
    let allocated = bytes.le32(header.plus(8)).size();
    let fits = first >= 16
        && first.rest(8) == 0
        && first.plus(ENTRY_HEAD) <= used
        && used <= allocated
        && header.plus(allocated) <= bytes.len();
    fits.then(|| Node {
        bytes: bytes.to_vec(),
        next: header.plus(first),
        end: header.plus(used),
        place,
        at: None,
        due: false,
    })
}

/// The entry whose turn it is, its length and its flags; `None` behind the last, an error where it cannot be read.
pub(super) fn next(node: &Node) -> Result<Option<(Vec<u8>, usize, u16)>, ()> {
    let (at, bytes) = (node.next, &node.bytes);
    let length = usize::from(bytes.le16(at.plus(8)));
    let flags = bytes.le16(at.plus(12));
    let least = ENTRY_HEAD.plus(if flags & ENTRY_NODE == 0 { 0 } else { 8 });
    if length < least || length.rest(8) != 0 || at.plus(length) > node.end {
        return Err(());
    }
    let long = usize::from(bytes.le16(at.plus(10)));
    // Hosts look at the last one as at the others (seen, with 6.12.117).
    if flags & ENTRY_LAST != 0 {
        // In a root node it is the whole node that they refuse.
        return if node.at.is_some() && ENTRY_HEAD.plus(long) > length { Err(()) } else { Ok(None) };
    }
    let entry = bytes.part(at, length).to_vec();
    let name = usize::from(entry.byte(ENTRY_HEAD.plus(64))).times(2);
    if long < NAME_HEAD || ENTRY_HEAD.plus(long) > length || NAME_HEAD.plus(name) > long {
        return Err(());
    }
    Ok(Some((entry, length, flags)))
}

pub(super) fn key(entry: &[u8]) -> &[u8] {
    entry.part(ENTRY_HEAD, usize::from(entry.le16(10)))
}

struct Walk<'w> {
    blocks: &'w Blocks<'w>,
    capitals: &'w Capitals,
    before: Vec<u8>,
    seen: HashSet<u64>,
    marked: &'w [u8],
}

impl Walk<'_> {
    fn from(&mut self, root: Node, reading: &mut Reading, take: &mut impl FnMut(&Entry<'_>)) {
        let mut open = vec![root];
        while let Some(node) = open.last_mut() {
            let at = self.blocks.entry_place(node);
            let flags = node.bytes.le16(node.next.plus(12));
            let length = usize::from(node.bytes.le16(node.next.plus(8)));
            let entry = next(node);
            if entry.is_err() {
                reading.flaws.push(IndexFlaw::Entry(at));
                open.pop();
                continue;
            }
            if flags & ENTRY_NODE != 0 && !node.due {
                node.due = true;
                let below = node.bytes.le64(node.next.plus(length).minus(8));
                let deep = open.len() >= DEPTH;
                match self.block(below) {
                    Ok((block, torn)) if !deep => {
                        reading.flaws.extend(torn);
                        reading.flaws.extend(self.unmarked(&block));
                        open.push(block);
                    }
                    // What is wrong with the block says it all.
                    Err(Some(flaw)) if reading.flaws.contains(&flaw) => {}
                    Err(Some(flaw)) => reading.flaws.push(flaw),
                    _ => reading.flaws.push(IndexFlaw::Below(at)),
                }
                continue;
            }
            node.due = false;
            node.next = node.next.plus(length);
            let Ok(Some((entry, ..))) = entry else {
                let at_of = node.next.minus(length);
                let long = usize::from(node.bytes.le16(at_of.plus(10)));
                if node.at.is_none() && (node.next != node.end || ENTRY_HEAD.plus(long) > length) {
                    reading.flaws.push(IndexFlaw::Root);
                }
                open.pop();
                continue;
            };
            let key = key(&entry);
            if !self.before.is_empty()
                && self.capitals.order(of_key(&self.before), of_key(key)) == Ordering::Greater
            {
                reading.flaws.push(IndexFlaw::Order(at));
            }
            self.before.clear();
            self.before.extend(key);
            reading.reached = reading.reached.plus(1);
            take(&Entry { reference: entry.le64(0), key, place: at, reached: true });
        }
    }

    /// The block of this number, once; what is wrong with it, or nothing where there is none such.
    fn block(&mut self, number: u64) -> Result<(Node, Option<IndexFlaw>), Option<IndexFlaw>> {
        let Some(at) = self.blocks.at(number) else {
            return Err(self.blocks.map.is_empty().then_some(IndexFlaw::Blocks));
        };
        if !self.seen.insert(at) {
            return Err(None);
        }
        self.blocks.node(at, number).map_err(Some)
    }

    /// Says of a block that it is not marked in use.
    fn unmarked(&self, node: &Node) -> Option<IndexFlaw> {
        let at = node.at?;
        let marked = is_set(self.marked, at.per(self.blocks.size.wide()));
        (!marked).then(|| IndexFlaw::Unmarked(self.blocks.place(at)))
    }
}
