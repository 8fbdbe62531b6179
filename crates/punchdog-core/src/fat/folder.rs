//! Reading the entries of one folder: what is a file, what is a part of its name, what is junk.
//!
//! A folder is a row of 32-byte entries. A file is one short entry, with the parts of its long
//! name before it, last part first. The first entry that begins with 00 ends the folder
//! (FAT specification, "FAT Directory Structure", `DIR_Name[0]`).

use super::layout::{
    ATTR_DIRECTORY, ATTR_LONG_NAME, ATTR_LONG_NAME_MASK, ATTR_VOLUME_ID, END_ENTRY, ENTRY_BYTES, FREE_ENTRY,
    LAST_LONG, LongEntry, ShortEntry,
};
use super::names;
use crate::{
    arith::{Peek, Sat},
    files::filler::Filled,
};
use std::ops::Range;

/// What is wrong with one entry and its name. Kept as bits: there are many entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Flaws(u64);

impl Flaws {
    /// The parts of the long name are numbered wrongly.
    pub const LONG_ORDER: Self = Self(1);
    /// The parts of the long name carry a wrong checksum.
    pub const LONG_CHECKSUM: Self = Self(1 << 1);
    /// The short name holds an illegal byte.
    pub const SHORT_ILLEGAL: Self = Self(1 << 2);
    /// The long name holds a forbidden character.
    pub const LONG_ILLEGAL: Self = Self(1 << 3);
    /// Another entry of the folder has the same short name.
    pub const SHORT_TWICE: Self = Self(1 << 4);
    /// Another entry of the folder has the same long name.
    pub const LONG_TWICE: Self = Self(1 << 5);
    /// A folder whose size is not 0.
    pub const FOLDER_SIZE: Self = Self(1 << 6);
    /// Size not 0, but no first cluster.
    pub const NO_FIRST: Self = Self(1 << 7);
    /// The first cluster is outside the volume.
    pub const FIRST_RANGE: Self = Self(1 << 8);
    /// The first cluster is free in the table.
    pub const FIRST_FREE: Self = Self(1 << 9);
    /// The chain runs into a free cluster.
    pub const INTO_FREE: Self = Self(1 << 10);
    /// The chain runs into a cluster marked bad.
    pub const INTO_BAD: Self = Self(1 << 11);
    /// The chain runs out of the volume, or into a reserved value.
    pub const INTO_RANGE: Self = Self(1 << 12);
    /// The chain runs into itself.
    pub const LOOP: Self = Self(1 << 13);
    /// The chain shares clusters with another.
    pub const CROSSED: Self = Self(1 << 14);
    /// The chain is shorter than the size needs.
    pub const CHAIN_SHORT: Self = Self(1 << 15);
    /// The chain is longer than the size needs.
    pub const CHAIN_LONG: Self = Self(1 << 16);
    /// Clusters, but size 0.
    pub const SIZE_ZERO: Self = Self(1 << 17);
    /// A folder whose first cluster is not a folder.
    pub const NOT_FOLDER: Self = Self(1 << 18);
    /// Part of the chain was rebuilt by judgement.
    pub const GUESSED: Self = Self(1 << 19);
    /// Part of the chain comes from another copy of the table.
    pub const OTHER_COPY: Self = Self(1 << 20);
    /// Part of the chain lies beyond the end of the image.
    pub const BEYOND: Self = Self(1 << 21);
    /// The attribute byte has a combination that means nothing.
    pub const ATTRIBUTES: Self = Self(1 << 22);
    /// Hidden and system, as few ordinary files are.
    pub const HIDDEN_SYSTEM: Self = Self(1 << 23);
    /// The first cluster was found anew: the one in the entry was wrong.
    pub const FIRST_FOUND: Self = Self(1 << 24);
    /// The chain, as it stands, runs into another's.
    pub const MET: Self = Self(1 << 25);
    /// The folder bit of the attributes is wrong: a folder shown as a file or the reverse.
    pub const WRONG_TYPE: Self = Self(1 << 26);
    /// The chain, as it stands, ends before the size says.
    pub const ENDS_EARLY: Self = Self(1 << 27);
    /// Its content reads as one value from some place to the end of the medium.
    pub const HOLLOW: Self = Self(1 << 28);
    /// A part of the long name has other attributes than such a part, or a value where 0 must stand.
    pub const LONG_FIELDS: Self = Self(1 << 29);
    /// Another entry names the same first cluster and the same size.
    pub const TWICE: Self = Self(1 << 30);
    /// A link of its chain leads past clusters of its own.
    pub const SKIPS: Self = Self(1 << 31);
    /// Its size is not where its content ends; what the entry says is kept beside the tree.
    pub const SIZE_WRONG: Self = Self(1 << 32);

    /// True when all bits of `other` are set.
    pub fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }
    /// True when any bit of `other` is set.
    pub fn any(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }
    /// Both sets.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }
    /// This set without `other`.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }
    /// Adds the bits of `other`.
    pub fn set(&mut self, other: Self) {
        self.0 |= other.0;
    }
}

/// One file or subfolder as its folder names it.
#[derive(Debug, Clone)]
pub struct Item {
    /// The index of the short entry in the folder.
    pub index: usize,
    /// The indices of the parts of its long name.
    pub long: Range<usize>,
    /// The short entry.
    pub entry: ShortEntry,
    /// Its name: the long one where it has one.
    pub name: String,
    /// What is wrong with its name and attributes.
    pub flaws: Flaws,
}

/// What one folder holds.
#[derive(Debug, Default)]
pub struct Reading {
    /// Files and subfolders, `.` and `..` left out.
    pub items: Vec<Item>,
    /// Deleted ones, with as much of their names as is left.
    pub deleted: Vec<Item>,
    /// Parts of long names that belong to no short entry.
    pub stray_parts: Vec<usize>,
    /// Entries that look like nothing a host would write.
    pub junk: Vec<usize>,
    /// Volume labels.
    pub labels: Vec<usize>,
    /// The index of the end mark.
    pub end: Option<usize>,
    /// The index of the first byte group after the end mark that is not zero.
    pub tail: Option<usize>,
    /// Entries after the end mark that look whole.
    pub behind_end: Vec<Item>,
    /// The `.` entry, if it is the first.
    pub dot: Option<ShortEntry>,
    /// The `..` entry, if it is the second.
    pub dot_dot: Option<ShortEntry>,
    /// `.` and `..` entries elsewhere than in first and second place.
    pub stray_dots: Vec<usize>,
}

/// What the reader must know of the volume to tell an entry from junk.
#[derive(Debug, Clone, Copy)]
pub struct Bounds {
    /// The last cluster of the volume.
    pub last_cluster: u32,
    /// FAT32: the high half of the first cluster counts.
    pub wide: bool,
}

fn date_is_odd(date: u16) -> bool {
    let (month, day) = (date >> 5_u16 & 15, date & 31);
    date != 0 && (month == 0 || month > 12 || day == 0)
}

/// How many things about a short entry no host would write; three or more make it junk.
pub fn oddness(entry: &ShortEntry, bounds: Bounds) -> u32 {
    let controls = entry.name.iter().filter(|byte| **byte < 0x20 && **byte != 0x05).count().narrow();
    let first = entry.first_cluster(bounds.wide);
    let signs = [
        entry.attributes & 0xC0 != 0,
        entry.attributes & 0x18 == 0x18,
        entry.case & !0x18 != 0,
        first == 1 || first > bounds.last_cluster,
        date_is_odd(entry.written_date.get()),
        date_is_odd(entry.created_date.get()),
        entry.created_tenths > 199,
        entry.is_folder() && entry.size.get() != 0,
        !names::short_is_legal(&entry.name),
        !bounds.wide && entry.first_cluster_high.get() != 0 && entry.created_tenths > 199,
    ];
    signs.iter().filter(|sign| **sign).count().narrow().plus(controls.min(3))
}

const JUNK: u32 = 3;

/// Where the first byte stands that is not zero. Most folders are mostly empty: whole blocks at a
/// time.
fn first_not_zero(bytes: &[u8]) -> Option<usize> {
    const BLOCK: usize = 256;
    let block = bytes.chunks(BLOCK).position(|block| block.iter().fold(0, |all, byte| all | byte) != 0)?;
    let start = block.times(BLOCK);
    let within = bytes.get(start..)?.iter().position(|byte| *byte != 0)?;
    Some(start.plus(within))
}

/// True when `bytes` can be the beginning of a folder: nearly all of its entries are what a host
/// would write, up to the end mark. An empty one counts when `empty_too`.
pub fn looks_like_folder(bytes: &[u8], bounds: Bounds, empty_too: bool) -> bool {
    let (mut good, mut bad) = (0_u32, 0_u32);
    for raw in bytes.chunks_exact(ENTRY_BYTES) {
        let (first, attributes) = (raw.byte(0), raw.byte(11));
        if first == END_ENTRY {
            break;
        }
        // A free entry that never was one (an end mark taken away) says nothing.
        if first == FREE_ENTRY && raw.iter().skip(1).all(|byte| *byte == 0) {
            continue;
        }
        let sane = if attributes & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME {
            raw.byte(12) == 0 && raw.le16(26) == 0 && (first == FREE_ENTRY || (first & 0x3f) <= 20)
        } else {
            let dots = raw.starts_with(&names::DOT) || raw.starts_with(&names::DOT_DOT);
            ShortEntry::read(raw)
                .is_some_and(|e| oddness(&e, bounds) <= 1 || (dots && oddness(&e, bounds) <= 2))
        };
        if sane { good = good.plus(1) } else { bad = bad.plus(1) }
    }
    if good.plus(bad) == 0 { empty_too } else { good > bad.times(4) }
}

struct Set {
    parts: Vec<(usize, LongEntry)>,
}

impl Set {
    /// The long name and what is wrong with it, if these parts belong to `short`.
    fn name_for(&self, short: &names::Short) -> Option<(String, Flaws)> {
        let sum = names::checksum(short);
        let count = self.parts.len();
        let entries: Vec<LongEntry> = self.parts.iter().map(|(_, part)| *part).collect();
        let summed = entries.iter().filter(|part| part.checksum == sum).count();
        let in_order = entries.iter().rev().enumerate().all(|(index, part)| {
            let last = if index.plus(1) == count { LAST_LONG } else { 0 };
            usize::from(part.order & !last) == index.plus(1) && part.order & LAST_LONG == last
        });
        let name = names::long_text(&names::long_units(&entries));
        let mut flaws = Flaws::default();
        if !names::long_is_legal(&name) {
            flaws.set(Flaws::LONG_ILLEGAL);
        }
        let usual = |part: &LongEntry| part.attributes == ATTR_LONG_NAME && !part.fills_reserved();
        if !entries.iter().all(usual) {
            flaws.set(Flaws::LONG_FIELDS);
        }
        match (summed == count, in_order) {
            (true, true) => Some((name, flaws)),
            // The numbering is damaged, but every part names this short entry, and only the part
            // that should end the name does end it.
            (true, false) if padded_at_end_only(&entries) => Some((name, flaws.with(Flaws::LONG_ORDER))),
            (false, true) if summed.times(2) > count || names::answers(&name, short) => {
                Some((name, flaws.with(Flaws::LONG_CHECKSUM)))
            }
            _ => None,
        }
    }
}

/// True when entry `index` of these bytes is a part of a long name. Where its attributes are not those of
/// one, its neighbours tell: the part before it, or the one it begins the name with behind it.
fn is_part(bytes: &[u8], index: usize, before: Option<&LongEntry>) -> bool {
    let at = |index: usize| LongEntry::read(bytes.part(index.times(ENTRY_BYTES), ENTRY_BYTES));
    let follows = |one: &LongEntry, next: &LongEntry| {
        next.order != 0
            && u32::from(one.order & !LAST_LONG) == u32::from(next.order).plus(1)
            && one.checksum == next.checksum
    };
    let Some(entry) = at(index) else { return false };
    if entry.attributes & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME {
        return true;
    }
    let begins = || {
        let next = at(index.plus(1)).filter(|next| next.attributes == ATTR_LONG_NAME);
        entry.order & LAST_LONG != 0 && next.is_some_and(|next| follows(&entry, &next))
    };
    !entry.fills_reserved() && (before.is_some_and(|before| follows(before, &entry)) || begins())
}

fn padded_at_end_only(entries: &[LongEntry]) -> bool {
    entries.iter().skip(1).all(|part| !part.units().contains(&0))
}

/// The name of a deleted entry as far as it is left: an underline stands for the lost first byte.
fn deleted_name(entry: &ShortEntry, parts: &[(usize, LongEntry)]) -> String {
    let entries: Vec<LongEntry> = parts.iter().map(|(_, part)| *part).collect();
    let long = names::long_text(&names::long_units(&entries));
    if entries.is_empty() || !names::long_is_legal(&long) {
        names::short_text(&entry.name, entry.case)
    } else {
        long
    }
}

impl Reading {
    /// Reads `bytes`, the whole content of a folder. With `root`, `.` and `..` are not expected.
    pub fn of(bytes: &[u8], bounds: Bounds, root: bool) -> Self {
        let mut reading = Self::default();
        let count = bytes.len().per(ENTRY_BYTES);
        let live =
            (0..count).find(|index| bytes.byte(index.times(ENTRY_BYTES)) == END_ENTRY).unwrap_or(count);
        if live < count {
            reading.end = Some(live);
        }
        // The end mark itself may be an entry whose first byte was lost.
        let items = reading.read_range(bytes, 0..live.plus(1).min(count), bounds, root);
        reading.items = items;
        if live < count {
            let rest = bytes.get(live.times(ENTRY_BYTES)..).unwrap_or(&[]);
            if let Some(first) = first_not_zero(rest) {
                reading.tail = Some(live.plus(first.per(ENTRY_BYTES)));
                let mut behind = Self::default();
                let items = behind.read_range(bytes, live..count, bounds, true);
                // A lone file-like entry in a heap of junk proves nothing.
                if items.len() > behind.junk.len() {
                    reading.behind_end = items;
                }
            }
        }
        reading.mark_doubles();
        reading
    }

    fn read_range(&mut self, bytes: &[u8], range: Range<usize>, bounds: Bounds, root: bool) -> Vec<Item> {
        let mut items = Vec::new();
        let mut set = Set { parts: Vec::new() };
        let mut gone = Vec::new();
        let mut filled = Filled::default();
        for index in range {
            let raw = bytes.part(index.times(ENTRY_BYTES), ENTRY_BYTES);
            let (Some(entry), Some(long)) = (ShortEntry::read(raw), LongEntry::read(raw)) else { break };
            if filled.at(bytes, index.times(ENTRY_BYTES)) {
                self.drop_set(&mut set);
                gone.clear();
                self.junk.push(index);
                continue;
            }
            let is_long = is_part(bytes, index, set.parts.last().map(|(_, part)| part));
            match raw.byte(0) {
                END_ENTRY => {
                    self.note_deleted(index, entry, &set.parts, bounds);
                    self.drop_set(&mut set);
                }
                FREE_ENTRY if is_long => {
                    self.drop_set(&mut set);
                    gone.push((index, long));
                    continue;
                }
                FREE_ENTRY => {
                    let parts = if set.parts.is_empty() { &gone } else { &set.parts };
                    self.note_deleted(index, entry, parts, bounds);
                    self.drop_set(&mut set);
                }
                order if is_long => {
                    if order & LAST_LONG != 0 {
                        self.drop_set(&mut set);
                    }
                    set.parts.push((index, long));
                }
                _ if entry.name == names::DOT || entry.name == names::DOT_DOT => {
                    self.drop_set(&mut set);
                    match index {
                        0 if !root && entry.name == names::DOT => self.dot = Some(entry),
                        1 if !root && entry.name == names::DOT_DOT => self.dot_dot = Some(entry),
                        _ => self.stray_dots.push(index),
                    }
                }
                _ if oddness(&entry, bounds) >= JUNK => {
                    self.drop_set(&mut set);
                    self.junk.push(index);
                }
                _ if entry.attributes & ATTR_VOLUME_ID != 0 && entry.attributes & ATTR_DIRECTORY == 0 => {
                    self.drop_set(&mut set);
                    self.labels.push(index);
                }
                _ => items.push(self.item(index, entry, &mut set)),
            }
            gone.clear();
        }
        self.drop_set(&mut set);
        items
    }

    /// Keeps an entry whose first byte says that it is free, with the name that is left of it.
    fn note_deleted(
        &mut self,
        index: usize,
        entry: ShortEntry,
        parts: &[(usize, LongEntry)],
        bounds: Bounds,
    ) {
        let mut named = entry;
        let [first, ..] = &mut named.name;
        *first = b'_';
        let blank = named.name.iter().skip(1).all(|byte| *byte == 0 || *byte == b' ');
        // A name of one letter has none left: then the rest has to speak for an entry.
        let speaks = entry.name.iter().skip(1).all(|byte| *byte == b' ')
            && entry.written_date.get() != 0
            && entry.first_cluster(true) >= 2
            && oddness(&named, bounds) == 0;
        if entry.attributes & ATTR_VOLUME_ID == 0
            && oddness(&named, bounds) <= 1
            && (!blank || !parts.is_empty() || speaks)
        {
            let name = deleted_name(&named, parts);
            let from = parts.first().map_or(index, |(at, _)| *at);
            self.deleted.push(Item { index, long: from..index, entry, name, flaws: Flaws::default() });
        }
    }

    fn item(&mut self, index: usize, entry: ShortEntry, set: &mut Set) -> Item {
        let mut flaws = Flaws::default();
        let mut name = None;
        let mut long = index..index;
        if let Some((found, wrong)) = set.name_for(&entry.name).filter(|_| !set.parts.is_empty()) {
            long = set.parts.first().map_or(index, |(at, _)| *at)..index;
            name = Some(found);
            flaws.set(wrong);
            set.parts.clear();
        } else {
            self.drop_set(set);
        }
        if !names::short_is_legal(&entry.name) {
            flaws.set(Flaws::SHORT_ILLEGAL);
        }
        if entry.attributes & 0xC0 != 0 || entry.attributes & ATTR_VOLUME_ID != 0 {
            flaws.set(Flaws::ATTRIBUTES);
        }
        if entry.attributes & ATTR_DIRECTORY != 0 && entry.size.get() != 0 {
            flaws.set(Flaws::FOLDER_SIZE);
        }
        let name = name.unwrap_or_else(|| names::short_text(&entry.name, entry.case));
        Item { index, long, entry, name, flaws }
    }

    fn drop_set(&mut self, set: &mut Set) {
        self.stray_parts.extend(set.parts.drain(..).map(|(index, _)| index));
    }

    fn mark_doubles(&mut self) {
        let mut shorts = std::collections::HashSet::new();
        let mut longs = std::collections::HashSet::new();
        for item in &mut self.items {
            if !shorts.insert(item.entry.name) {
                item.flaws.set(Flaws::SHORT_TWICE);
            }
            if !item.long.is_empty() && !longs.insert(item.name.to_lowercase()) {
                item.flaws.set(Flaws::LONG_TWICE);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zerocopy::IntoBytes;

    const BOUNDS: Bounds = Bounds { last_cluster: 1000, wide: false };

    fn short(name: &[u8; 11], attributes: u8, first: u16) -> Vec<u8> {
        let mut raw = vec![0; 32];
        raw[..11].copy_from_slice(name);
        raw[11] = attributes;
        raw[26..28].copy_from_slice(&first.to_le_bytes());
        raw
    }

    fn named(long: &str, name: &[u8; 11]) -> Vec<Vec<u8>> {
        let parts = names::long_parts(long, names::checksum(name));
        parts.iter().map(|part| part.as_bytes().to_vec()).chain([short(name, 0x20, 5)]).collect()
    }

    fn read(slots: &[Vec<u8>]) -> Reading {
        let mut bytes = slots.concat();
        bytes.resize(1024, 0);
        Reading::of(&bytes, BOUNDS, true)
    }

    #[test]
    fn a_long_name_survives_one_damaged_part() {
        let good = named("Nest camera, second week of June.jpg", b"NESTCA~1JPG");
        assert_eq!(good.len(), 4);
        let mut order = good.clone();
        order[1][0] = 7;
        let mut sum = good.clone();
        sum[2][13] ^= 0x55;
        let mut high = good.clone();
        high[1][0] |= 0x80;
        let field = |part: usize, at: usize, value: u8| {
            let mut slots = good.clone();
            slots[part][at] = value;
            (slots, Flaws::LONG_FIELDS)
        };
        let mut cases = vec![(order, Flaws::LONG_ORDER), (high, Flaws::LONG_ORDER)];
        cases.extend([(sum, Flaws::LONG_CHECKSUM), (good.clone(), Flaws::default())]);
        for part in 0..3 {
            cases.extend([field(part, 11, 0x8F), field(part, 11, 0x07), field(part, 11, 0x20)]);
            cases.extend([field(part, 12, 0x10), field(part, 26, 9)]);
        }
        for (slots, flaws) in cases {
            let reading = read(&slots);
            assert_eq!(reading.items.len(), 1);
            assert_eq!(reading.items[0].name, "Nest camera, second week of June.jpg");
            assert_eq!(reading.items[0].flaws, flaws);
            assert!(reading.stray_parts.is_empty());
        }
    }

    #[test]
    fn parts_of_another_name_are_strays() {
        let mut slots = named("Nest camera, second week of June.jpg", b"NESTCA~1JPG");
        slots[3] = short(b"TIDES   CSV", 0x20, 9);
        let reading = read(&slots);
        assert_eq!(reading.items[0].name, "TIDES.CSV");
        assert_eq!(reading.stray_parts, vec![0, 1, 2]);
    }

    #[test]
    fn junk_and_a_false_end_are_seen() {
        let noise: Vec<u8> = (0..32_u8).map(|n| n.wrapping_mul(37) | 1).collect();
        let slots = [
            short(b"A       TXT", 0x20, 5),
            noise,
            short(b"\0       TXT", 0x20, 6),
            short(b"B       TXT", 0x20, 7),
        ];
        let reading = read(&slots);
        assert_eq!(reading.junk, vec![1]);
        assert_eq!((reading.end, reading.tail), (Some(2), Some(2)));
        assert_eq!(reading.behind_end.iter().map(|i| i.name.as_str()).collect::<Vec<_>>(), ["B.TXT"]);
    }
}
