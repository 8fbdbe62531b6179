//! Reading a folder: entry sets, the entries of the root, and what is wrong with them
//! (specification, sections 6 and 7).
//!
//! ```text
//! 85 file · C0 stream extension · C1 file name … · E0 E1 or other benign secondaries
//! ```
//!
//! The set's checksum settles most doubts: of several readings of a damaged set, the one under
//! which the checksum fits is the one that was written.

use super::{
    broken,
    layout::{
        BENIGN, BITMAP, END, ENTRY, FILE, GUID, IN_USE, LABEL, NAME, NAME_UNITS, Owner, PADDING, SECONDARY,
        STREAM, Stream, UPCASE, put, set_checksum,
    },
    struck,
    upcase::Upcase,
};
use crate::{
    arith::{Peek, Sat},
    files::{filler::Filled, utf16::text},
};
use bitflags::bitflags;

bitflags! {
    /// What is wrong with a file or folder, or with its entry set.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub struct Flaws: u64 {
        /// The set's checksum does not fit.
        const CHECKSUM = 1;
        /// The secondary count is not the number of entries that follow.
        const COUNT = 1 << 1;
        /// The stream entry has lost its type, or stands behind the name.
        const STREAM_TYPE = 1 << 2;
        /// A name entry has lost its type.
        const NAME_TYPE = 1 << 3;
        /// The name length is not the length of the name.
        const NAME_LENGTH = 1 << 4;
        /// The hash is not the name's.
        const HASH = 1 << 5;
        /// The name has a character that is not allowed, or none at all.
        const ILLEGAL = 1 << 6;
        /// Another entry of the folder has the same name.
        const TWICE = 1 << 7;
        /// More bytes are valid than there are.
        const VALID = 1 << 8;
        /// A folder whose length is no number of whole clusters.
        const FOLDER_LENGTH = 1 << 9;
        /// AllocationPossible is not set, or flags and first cluster contradict each other.
        const FLAGS = 1 << 10;
        /// It has a length and no first cluster.
        const NO_FIRST = 1 << 11;
        /// The first cluster is none of the volume.
        const FIRST_RANGE = 1 << 12;
        /// Clusters in a row that run out of the volume.
        const RUN_RANGE = 1 << 13;
        /// The chain leads into a free entry.
        const INTO_FREE = 1 << 14;
        /// The chain leads into a bad cluster.
        const INTO_BAD = 1 << 15;
        /// The chain leads out of the volume.
        const INTO_RANGE = 1 << 16;
        /// The chain bites its tail.
        const LOOP = 1 << 17;
        /// It shares clusters with another.
        const CROSSED = 1 << 18;
        /// Fewer clusters than its length needs.
        const SHORT = 1 << 19;
        /// More clusters than its length needs.
        const LONG = 1 << 20;
        /// NoFatChain was lost: the clusters lie in a row and the table has no chain.
        const FLAG_LOST = 1 << 21;
        /// NoFatChain is set, but only the table's chain is its own.
        const FLAG_WRONG = 1 << 22;
        /// Part of the chain was found by judgement.
        const GUESSED = 1 << 23;
        /// The first cluster was found by judgement.
        const FOUND = 1 << 24;
        /// What the entry calls a folder holds none.
        const NOT_FOLDER = 1 << 25;
        /// Part of it lies behind the end of the image.
        const BEYOND = 1 << 26;
        /// Attribute bits that mean nothing.
        const ATTRIBUTES = 1 << 27;
        /// The second table has the chain, the first has not.
        const OTHER_COPY = 1 << 28;
        /// A file without content that keeps a first cluster.
        const FIRST_UNUSED = 1 << 29;
        /// Characters stand behind the name's length.
        const NAME_TAIL = 1 << 30;
        /// Its content reads as one value from some place to the end of the medium.
        const HOLLOW = 1 << 31;
        /// An entry of the set is of a type that is not known, and that may not be ignored.
        const CRITICAL = 1 << 32;
        /// The file entry has lost its type.
        const HEAD_TYPE = 1 << 33;
        /// The file entry is lost; this one was made up, but for what the set behind it tells.
        const HEAD = 1 << 34;
        /// The name is lost, all of it or a part.
        const NAME = 1 << 35;
        /// The name was found again: among those that its neighbours suggest it alone has the hash.
        const NAME_FOUND = 1 << 36;
        /// A character of the name was struck: with the one that it was, hash and checksum fit.
        const NAME_STRUCK = 1 << 37;
        /// One of the two lengths was struck: with the other one, the checksum fits.
        const LENGTH_STRUCK = 1 << 38;
        /// The table ends its chain before its length does.
        const ENDS_EARLY = 1 << 39;
        /// A link of its chain leads past clusters of its own.
        const SKIPS = 1 << 40;
    }
}

/// One entry set.
#[derive(Debug, Clone)]
pub struct Item {
    /// The index of its first entry in the folder.
    pub index: u32,
    /// Its entries as they should be: types, count and name length put right.
    pub raw: Vec<u8>,
    /// The name.
    pub name: String,
    /// The stream as it should be.
    pub stream: Stream,
    /// What is wrong with it.
    pub flaws: Flaws,
    /// The length and the hash of a name that is lost.
    pub said: (u8, u16),
    /// First clusters with which the checksum fits, where it does not as the set stands.
    pub other_firsts: Vec<u32>,
}

impl Item {
    /// FileAttributes.
    pub fn attributes(&self) -> u16 {
        self.raw.le16(4)
    }
    /// Entries it takes.
    pub fn entries(&self) -> u32 {
        self.raw.len().per(ENTRY).narrow()
    }
}

/// What a folder holds.
#[derive(Debug, Default)]
pub struct Reading {
    /// Entry sets.
    pub items: Vec<Item>,
    /// Bitmap and up-case entries: index, type, content.
    pub owners: Vec<(u32, u8, Owner)>,
    /// Labels: index, text, and whether it is one.
    pub labels: Vec<(u32, String, bool)>,
    /// Secondary entries that follow no file.
    pub strays: Vec<u32>,
    /// Entries that no host wrote.
    pub junk: Vec<u32>,
    /// Entries of types that the specification does not know, and that may not be ignored.
    pub unknown: Vec<u32>,
    /// The index of the end mark.
    pub end: Option<u32>,
    /// Whole sets behind the end mark.
    pub behind: Vec<Item>,
    /// Sets without their file entry or their name.
    pub broken: Vec<Item>,
    /// Something else stands behind the end mark, from this entry on.
    pub tail: Option<u32>,
    /// Sets marked deleted whose checksum fits as it was before.
    pub deleted: Vec<Item>,
}

/// True when `bytes` can be the beginning of a folder. An empty one counts when `empty_too`.
pub fn looks_like_folder(bytes: &[u8], empty_too: bool) -> bool {
    let (mut good, mut bad) = (0_u32, 0_u32);
    for (index, raw) in bytes.chunks_exact(ENTRY).enumerate() {
        if raw.byte(0) == END {
            break;
        }
        let kind = raw.byte(0) | IN_USE;
        let sane = match kind {
            FILE => (2..=18).contains(&raw.byte(1)) && raw.byte(6) == 0 && raw.byte(7) == 0,
            STREAM => raw.byte(2) == 0 && raw.byte(3) > 0 && raw.byte(1) < 4 && raw.le64(8) < 1 << 56,
            NAME => raw.byte(1) == 0,
            BITMAP => raw.byte(1) < 2 && raw.part(2, 18).iter().all(|byte| *byte == 0),
            UPCASE => raw.part(8, 12).iter().all(|byte| *byte == 0),
            LABEL => raw.part(24, 8).iter().all(|byte| *byte == 0),
            GUID | PADDING | 0xE0 | 0xE1 => raw.byte(0) & IN_USE != 0,
            _ => false,
        };
        // What is not in use may be anything, and says nothing.
        if !sane && raw.byte(0) & IN_USE == 0 {
            continue;
        }
        if !sane && index == 0 {
            return false;
        }
        if sane { good = good.plus(1) } else { bad = bad.plus(1) }
    }
    if good.plus(bad) == 0 { empty_too && bytes.byte(0) == END } else { good > bad.times(4) }
}

/// True for a cluster that begins with a whole entry set: what a folder's clusters begin with.
pub fn begins_with_set(bytes: &[u8], upcase: &Upcase) -> bool {
    bytes.byte(0) == FILE
        && read_set(bytes, 0, upcase)
            .is_some_and(|item| !item.flaws.intersects(Flaws::CHECKSUM | Flaws::COUNT))
}

/// A name of the file system.
pub fn is_legal(units: &[u16]) -> bool {
    let allowed = |unit: &u16| *unit >= 32 && !b"\"*/:<>?\\|".iter().any(|bad| u16::from(*bad) == *unit);
    !units.is_empty() && units.len() <= super::layout::LONGEST && units.iter().all(allowed)
}

/// The same name without what is not allowed.
pub fn made_legal(units: &[u16]) -> Vec<u16> {
    if units.is_empty() {
        return "unnamed".encode_utf16().collect();
    }
    units.iter().map(|unit| if is_legal(&[*unit]) { *unit } else { u16::from(b'_') }).collect()
}

/// The name entries of a set, which stand behind its stream entry.
fn names_of(set: &[u8]) -> impl Iterator<Item = &[u8]> {
    set.chunks_exact(ENTRY).skip(2).take_while(|entry| entry.byte(0) == NAME)
}

/// True for what holds the values of a stream entry, whatever its type says.
pub(super) fn like_stream(raw: &[u8]) -> bool {
    raw.byte(1) < 4
        && raw.byte(2) == 0
        && raw.byte(3) > 0
        && raw.le16(6) == 0
        && raw.le32(16) == 0
        && raw.le64(8) <= raw.le64(24).max(1)
}

/// The set that begins at entry `index`, with its flaws; `None` when no file can be made of it.
fn read_set(bytes: &[u8], index: usize, upcase: &Upcase) -> Option<Item> {
    let entry = |number: usize| bytes.part(index.plus(number).times(ENTRY), ENTRY);
    let said = usize::from(entry(0).byte(1));
    let mut raw: Vec<u8> = bytes.part(index.times(ENTRY), said.min(18).plus(1).times(ENTRY)).to_vec();
    // As it stands, if the checksum says so.
    if (2..=18).contains(&said) && raw.len() == said.plus(1).times(ENTRY) && set_checksum(&raw) == raw.le16(2)
    {
        return judge(index, raw, Flaws::empty(), upcase);
    }
    // How many entries follow that can belong to it, whatever their types and the count say?
    let mut flaws = Flaws::empty();
    let second = entry(1);
    if second.byte(0) != STREAM && !like_stream(second) {
        return None;
    }
    if second.byte(0) != STREAM {
        flaws |= Flaws::STREAM_TYPE;
    }
    let by_name = usize::from(second.byte(3)).per_up(NAME_UNITS);
    let follow = (2..=18_usize)
        .take_while(|number| entry(*number).byte(0) & (IN_USE | SECONDARY) == IN_USE | SECONDARY)
        .count();
    let names = (2..=18_usize).take_while(|number| entry(*number).byte(0) == NAME).count();
    let count = if (2..=18).contains(&said) && said.minus(1) == follow {
        said
    } else if by_name.plus(1) <= 18 && (by_name == names || names == 0 || said == by_name.plus(1)) {
        by_name.plus(1)
    } else {
        follow.plus(1).max(2)
    };
    if count < 2 {
        return None;
    }
    raw = bytes.part(index.times(ENTRY), count.plus(1).times(ENTRY)).to_vec();
    if raw.len() < 3.times(ENTRY) {
        return None;
    }
    if count != said {
        flaws |= Flaws::COUNT;
        put(&mut raw, 1, &[u8::try_from(count).unwrap_or(2)]);
    }
    put(&mut raw, ENTRY, &[STREAM]);
    for number in 2..=count {
        let at = number.times(ENTRY);
        let kind = raw.byte(at);
        if number <= by_name.plus(1) && kind != NAME {
            // A neighbour's entry is no name that lost its type.
            if kind == FILE || kind == STREAM || kind == END {
                return None;
            }
            flaws |= Flaws::NAME_TYPE;
            put(&mut raw, at, &[NAME]);
        }
    }
    flaws |= struck::put_right(&mut raw, upcase);
    judge(index, raw, flaws, upcase)
}

/// Clears what stands behind the first `length` characters in the name entries of a set.
fn clear_tail(raw: &mut [u8], length: usize) {
    let mut before = 0_usize;
    for entry in raw.chunks_exact_mut(ENTRY).skip(2).take_while(|entry| entry.byte(0) == NAME) {
        let from = length.minus(before).min(NAME_UNITS);
        if let Some(rest) = entry.get_mut(2_usize.plus(from.times(2))..) {
            rest.fill(0);
        }
        before = before.plus(NAME_UNITS);
    }
}

/// Judges a set whose entries have their types and whose count fits.
pub(super) fn judge(index: usize, mut raw: Vec<u8>, mut flaws: Flaws, upcase: &Upcase) -> Option<Item> {
    let standing = set_checksum(&raw);
    if raw.byte(ENTRY) != STREAM {
        return None;
    }
    let mut stream = Stream::read(raw.part(ENTRY, ENTRY));
    let has = names_of(&raw).count();
    if has == 0 {
        return None;
    }
    let mut all: Vec<u16> = Vec::with_capacity(has.times(NAME_UNITS));
    for entry in names_of(&raw) {
        all.extend(entry.part(2, NAME_UNITS.times(2)).chunks_exact(2).map(|pair| pair.le16(0)));
    }
    let ends = all.iter().position(|unit| *unit == 0).unwrap_or(all.len());
    let said = usize::from(stream.name_length);
    let hashed = |length: usize| all.get(..length).map(|units| upcase.hash(units.iter().copied()));
    let mut length = said;
    let sane = said > 0 && said <= all.len() && said.plus(NAME_UNITS) > all.len();
    if hashed(said) != Some(stream.name_hash) || !sane {
        if ends != said && ends > 0 && (hashed(ends) == Some(stream.name_hash) || !sane) {
            flaws |= Flaws::NAME_LENGTH;
            length = ends;
        }
        if hashed(length) != Some(stream.name_hash) {
            flaws |= Flaws::HASH;
        }
    }
    let rest_is_used = all.get(length..).is_some_and(|rest| rest.iter().any(|unit| *unit != 0));
    all.truncate(length);
    let units = all;
    if rest_is_used {
        flaws |= Flaws::NAME_TAIL;
        clear_tail(&mut raw, units.len());
    }
    if !is_legal(&units) {
        flaws |= Flaws::ILLEGAL;
    }
    // Section 7.7: as many name entries as the name needs. Linux lists a file that has more, and never finds it.
    let needs = units.len().per_up(NAME_UNITS);
    if needs > 0 && has > needs && raw.len() == has.plus(2).times(ENTRY) {
        raw.truncate(needs.plus(2).times(ENTRY));
        put(&mut raw, 1, &[u8::try_from(needs.plus(1)).unwrap_or(u8::MAX)]);
        flaws |= Flaws::COUNT;
    }
    stream.name_length = u8::try_from(units.len()).unwrap_or(u8::MAX);
    stream.name_hash = upcase.hash(units.iter().copied());
    // Section 8.2: who does not know a critical secondary entry shall not use the file.
    let behind = raw.chunks_exact(ENTRY).skip(2).skip_while(|entry| entry.byte(0) == NAME);
    let unknown = |entry: &[u8]| entry.byte(0) & (IN_USE | SECONDARY | BENIGN) == IN_USE | SECONDARY;
    if behind.into_iter().any(unknown) {
        flaws |= Flaws::CRITICAL;
    }
    if raw.le16(4) & !super::layout::ATTRIBUTES != 0 {
        flaws |= Flaws::ATTRIBUTES;
    }
    if standing != raw.le16(2) {
        flaws |= Flaws::CHECKSUM;
    }
    // Where the checksum is all that is wrong.
    let other_firsts = if flaws == Flaws::CHECKSUM { struck::first_clusters(&raw) } else { Vec::new() };
    let stands = flaws.difference(Flaws::CRITICAL).is_empty();
    if let Some(entry) = raw.get_mut(ENTRY..2.times(ENTRY)) {
        stream.put(entry);
    }
    if !stands {
        let sum = set_checksum(&raw);
        put(&mut raw, 2, &sum.to_le_bytes());
    }
    Some(Item {
        index: index.narrow(),
        raw,
        name: text(units.iter().copied()),
        stream,
        flaws,
        said: (0, 0),
        other_firsts,
    })
}

impl Reading {
    /// What the bytes of a folder hold.
    pub fn of(bytes: &[u8], upcase: &Upcase, root: bool) -> Self {
        let mut reading = Self::default();
        let count = bytes.len().per(ENTRY);
        let (mut index, mut filled) = (0, Filled::default());
        while index < count {
            let raw = bytes.part(index.times(ENTRY), ENTRY);
            if raw.byte(0) == END {
                reading.end = Some(index.narrow());
                reading.behind(bytes, index, upcase);
                break;
            }
            if filled.at(bytes, index.times(ENTRY)) {
                reading.junk.push(index.narrow());
                index = index.plus(1);
                continue;
            }
            index = index.plus(reading.entry(bytes, index, raw, upcase, root));
        }
        reading.name_the_nameless(upcase);
        reading
    }

    /// Takes in what begins at entry `index`; returns how many entries it took.
    fn entry(&mut self, bytes: &[u8], index: usize, raw: &[u8], upcase: &Upcase, root: bool) -> usize {
        let kind = raw.byte(0);
        let number = index.narrow();
        match kind {
            FILE => {
                // What stands where a name should, and is neither marked as one nor has its hash, is none.
                let none = |item: &Item| item.flaws.contains(Flaws::NAME_TYPE | Flaws::HASH);
                let set = read_set(bytes, index, upcase);
                if let Some(item) =
                    set.filter(|item| !none(item) || broken::without_name(bytes, index, upcase).is_none())
                {
                    let taken = item.entries().size();
                    self.items.push(item);
                    return taken;
                }
                if let Some(item) = broken::without_name(bytes, index, upcase) {
                    let taken = broken::entries_of(&item);
                    self.broken.push(item);
                    return taken;
                }
                self.junk.push(number);
            }
            _ if let Some(item) = headless(bytes, index, kind, upcase) => {
                let taken = item.entries().size();
                // What a delete that was interrupted leaves looks the same: its clusters tell.
                let deleted = kind | IN_USE == FILE;
                // Where the checksum fits, it lost its type and nothing else.
                let fits = !item.flaws.intersects(Flaws::HEAD | Flaws::CHECKSUM);
                let list = match (fits, deleted) {
                    (true, true) => &mut self.deleted,
                    (true, false) => &mut self.items,
                    (false, _) => &mut self.broken,
                };
                list.push(item);
                return taken;
            }
            BITMAP | UPCASE if root => self.owners.push((number, kind, Owner::read(raw))),
            LABEL if root => {
                let length = usize::from(raw.byte(1));
                let units: Vec<u16> =
                    raw.part(2, length.min(11).times(2)).chunks_exact(2).map(|pair| pair.le16(0)).collect();
                self.labels.push((number, text(units.iter().copied()), length <= 11));
            }
            BITMAP | UPCASE | LABEL => self.junk.push(number),
            GUID | PADDING => {}
            _ if kind & IN_USE == 0 => {
                if kind | IN_USE == FILE
                    && let Some(item) = deleted_set(bytes, index, upcase)
                {
                    let taken = item.entries().size();
                    self.deleted.push(item);
                    return taken;
                }
            }
            _ if kind & SECONDARY != 0 => self.strays.push(number),
            _ if kind & BENIGN != 0 => {}
            _ => self.unknown.push(number),
        }
        1
    }

    fn behind(&mut self, bytes: &[u8], end: usize, upcase: &Upcase) {
        let count = bytes.len().per(ENTRY);
        let mut index = end;
        // Nearly always nothing follows, and that is quickly seen.
        let empty = |piece: &[u8]| piece.iter().fold(0, |all, byte| all | byte) == 0;
        if bytes.get(index.plus(1).times(ENTRY)..).is_none_or(|rest| rest.chunks(4096).all(empty)) {
            return;
        }
        while index < count {
            let raw = bytes.part(index.times(ENTRY), ENTRY);
            if raw.byte(0) == FILE
                && let Some(item) = read_set(bytes, index, upcase).filter(|item| item.flaws.is_empty())
            {
                index = index.plus(item.entries().size());
                self.behind.push(item);
                continue;
            }
            let broken = if raw.byte(0) == FILE {
                broken::without_name(bytes, index, upcase)
            } else {
                headless(bytes, index, raw.byte(0), upcase)
            };
            if let Some(item) = broken {
                let nameless = item.flaws.contains(Flaws::NAME);
                let taken = if nameless { broken::entries_of(&item) } else { item.entries().size() };
                index = index.plus(taken);
                self.behind.push(item);
                continue;
            }
            if self.tail.is_none() && raw.byte(0) & IN_USE != 0 {
                self.tail = Some(index.narrow());
            }
            index = index.plus(1);
        }
    }
}

/// The set that has lost its file entry, where something of the type `kind` stands in place of that.
fn headless(bytes: &[u8], index: usize, kind: u8, upcase: &Upcase) -> Option<Item> {
    if kind == FILE || bytes.byte(index.plus(1).times(ENTRY)) != STREAM {
        return None;
    }
    let own = matches!(kind, BITMAP | UPCASE | LABEL | GUID);
    broken::without_head(bytes, index, upcase).filter(|item| !own || !item.flaws.contains(Flaws::HEAD))
}

/// A set whose entries lost their in-use bits, and nothing else.
fn deleted_set(bytes: &[u8], index: usize, upcase: &Upcase) -> Option<Item> {
    let count = usize::from(bytes.byte(index.times(ENTRY).plus(1)));
    let mut raw = bytes.part(index.times(ENTRY), count.plus(1).times(ENTRY)).to_vec();
    if !(2..=18).contains(&count) || raw.len() != count.plus(1).times(ENTRY) {
        return None;
    }
    for entry in raw.chunks_exact_mut(ENTRY) {
        let kind = entry.byte(0) | IN_USE;
        put(entry, 0, &[kind]);
    }
    if set_checksum(&raw) != raw.le16(2) {
        return None;
    }
    judge(index, raw, Flaws::empty(), upcase)
}
