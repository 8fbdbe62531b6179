//! Entry sets of which a part is gone: the file entry, or the name (specification, sections 7.4, 7.6, 7.7).
//!
//! ```text
//! 85 attributes, times · C0 hash of the name, first cluster, lengths · C1 name …
//! ```
//!
//! The hash in the stream entry ties it to the name behind it. Without its file entry a set has lost
//! attributes and times; without its name it has all but that, and a name that its neighbours suggest can be
//! held against the hash.

use super::{
    layout::{
        ARCHIVE, ATTRIBUTES, ENTRY, FILE, GUID, IN_USE, NAME, NAME_UNITS, STREAM, Stream, put, set_checksum,
    },
    sets::{Flaws, Item, Reading, is_legal, judge, like_stream},
    tree::time,
    upcase::Upcase,
};
use crate::arith::{Peek, Sat};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// 1 January 1980, 0:00: the first time that a file entry can hold (section 7.4.8).
const EARLIEST: u32 = 0x0021_0000;
/// How far from a neighbour's number a lost name's is looked for. The hash turns by two bits a character:
/// numbers that are 39 apart (four tens more, one less) can have the same.
const NEAR: u32 = 16;

/// How many name entries this stream entry asks for, if it is one.
fn names_of(stream: &[u8]) -> Option<usize> {
    let names = usize::from(stream.byte(3)).per_up(NAME_UNITS);
    (stream.byte(0) == STREAM && like_stream(stream) && stream.le64(8) <= stream.le64(24)).then_some(names)
}

/// True where attributes and times are such as a host writes.
fn is_sane(head: &[u8]) -> bool {
    let times = [head.le32(8), head.le32(12), head.le32(16)];
    head.le16(4) & !ATTRIBUTES == 0
        && head.le16(6) == 0
        && times.iter().all(|stamp| time(*stamp).is_some())
        && head.part(25, 7).iter().all(|byte| *byte == 0)
}

/// The set whose file entry should stand at entry `index`: its stream entry follows, and a name that has the
/// hash. Where nothing but the type was lost, attributes and times are kept.
pub(super) fn without_head(bytes: &[u8], index: usize, upcase: &Upcase) -> Option<Item> {
    let entry = |number: usize| bytes.part(index.plus(number).times(ENTRY), ENTRY);
    let names = names_of(entry(1))?;
    if (2..names.plus(2)).any(|number| entry(number).byte(0) != NAME) {
        return None;
    }
    let count = names.plus(1);
    let set = |count: usize| {
        let raw = bytes.part(index.times(ENTRY), count.plus(1).times(ENTRY)).to_vec();
        (raw.len() == count.plus(1).times(ENTRY)).then_some(raw)
    };
    let proved = |item: &Item| {
        !item.flaws.intersects(Flaws::HASH | Flaws::ILLEGAL | Flaws::NAME_LENGTH | Flaws::NAME_TAIL)
    };
    let said = usize::from(entry(0).byte(1));
    for total in [said, count] {
        let Some(mut raw) = (count..=18).contains(&total).then(|| set(total)).flatten() else { continue };
        put(&mut raw, 0, &[FILE, u8::try_from(total).unwrap_or(u8::MAX)]);
        if set_checksum(&raw) == raw.le16(2) {
            let flaws = Flaws::HEAD_TYPE.union(if total == said { Flaws::empty() } else { Flaws::COUNT });
            return judge(index, raw, flaws, upcase).filter(proved);
        }
    }
    let mut raw = set(count)?;
    let mut flaws = Flaws::HEAD_TYPE;
    if !is_sane(entry(0)) {
        flaws = Flaws::HEAD;
        put(&mut raw, 0, &[0; ENTRY]);
        put(&mut raw, 4, &ARCHIVE.to_le_bytes());
        for at in [8, 12, 16] {
            put(&mut raw, at, &EARLIEST.to_le_bytes());
        }
    }
    put(&mut raw, 0, &[FILE, u8::try_from(count).unwrap_or(u8::MAX)]);
    if flaws == Flaws::HEAD {
        let sum = set_checksum(&raw);
        put(&mut raw, 2, &sum.to_le_bytes());
    }
    judge(index, raw, flaws, upcase).filter(proved)
}

/// The set at entry `index` whose name is gone, all of it or a part: file entry and stream entry are what a
/// host writes, and where the name should stand there is nothing of value. The name is made up.
pub(super) fn without_name(bytes: &[u8], index: usize, upcase: &Upcase) -> Option<Item> {
    let entry = |number: usize| bytes.part(index.plus(number).times(ENTRY), ENTRY);
    let names = names_of(entry(1))?;
    let count = names.plus(1);
    let said = usize::from(entry(0).byte(1));
    let stream = Stream::read(entry(1));
    if said != count || !is_sane(entry(0)) || stream.first < 2 || stream.length == 0 {
        return None;
    }
    let lost =
        |raw: &[u8]| raw.byte(0) == NAME || !matches!(raw.byte(0), FILE | STREAM | GUID) && !is_set(raw);
    let mut raw = bytes.part(index.times(ENTRY), count.plus(1).times(ENTRY)).to_vec();
    if raw.len() != count.plus(1).times(ENTRY) || !(2..=count).all(|number| lost(entry(number))) {
        return None;
    }
    put_name(&mut raw, &made_up(stream.first, None, names), upcase);
    let mut item = judge(index, raw, Flaws::NAME, upcase)?;
    item.said = (stream.name_length, stream.name_hash);
    Some(item)
}

/// Entries that a set without a name took, when it had one.
pub(super) fn entries_of(item: &Item) -> usize {
    usize::from(item.said.0).per_up(NAME_UNITS).plus(2)
}

/// A name for a file that begins at this cluster, as far as there is room in `names` entries.
fn made_up(first: u32, extension: Option<&str>, names: usize) -> Vec<u16> {
    let room = names.times(NAME_UNITS);
    let dotted = extension.map_or_else(String::new, |extension| format!(".{extension}"));
    // Shorter ones where there is no room: the number alone is unique.
    let all = [format!("unnamed-{first}{dotted}"), format!("{first}{dotted}"), first.to_string()];
    let fitting = all.into_iter().map(|name| name.encode_utf16().collect::<Vec<u16>>());
    fitting.into_iter().find(|units| units.len() <= room).unwrap_or_default()
}

impl Item {
    /// Ends the made-up name with what its content seems to be.
    pub(super) fn call_by_kind(&mut self, extension: Option<&str>, upcase: &Upcase) {
        let names = entries_of(self).minus(2);
        self.call(&made_up(self.stream.first, extension, names), upcase);
    }

    /// Gives it this name.
    pub(super) fn call(&mut self, units: &[u16], upcase: &Upcase) {
        put_name(&mut self.raw, units, upcase);
        self.stream = Stream::read(self.raw.part(ENTRY, ENTRY));
        self.name = String::from_utf16_lossy(units);
    }
}

/// True for what can be the unused entry of a set that was deleted: something that had a meaning.
fn is_set(raw: &[u8]) -> bool {
    raw.byte(0) & IN_USE == 0
        && matches!(raw.byte(0) | IN_USE, FILE | STREAM)
        && raw.part(1, 31).iter().any(|b| *b != 0)
}

/// Gives a set this name, its hash and a checksum; it has as many name entries as the name needs.
fn put_name(raw: &mut Vec<u8>, name: &[u16], upcase: &Upcase) {
    let hash = upcase.hash(name.iter().copied());
    let names = name.len().per_up(NAME_UNITS);
    raw.resize(names.plus(2).times(ENTRY), 0);
    put(raw, 1, &[u8::try_from(names.plus(1)).unwrap_or(u8::MAX)]);
    put(raw, ENTRY.plus(3), &[u8::try_from(name.len()).unwrap_or(u8::MAX)]);
    put(raw, ENTRY.plus(4), &hash.to_le_bytes());
    for (entry, part) in raw.chunks_exact_mut(ENTRY).skip(2).zip(name.chunks(NAME_UNITS)) {
        put(entry, 0, &[0; ENTRY]);
        put(entry, 0, &[NAME]);
        let units: Vec<u8> = part.iter().flat_map(|unit| unit.to_le_bytes()).collect();
        put(entry, 2, &units);
    }
    let sum = set_checksum(raw);
    put(raw, 2, &sum.to_le_bytes());
}

impl Reading {
    /// Gives sets without a name the one that their neighbours' numbers suggest, where just one has the
    /// length and the hash that the stream entry tells.
    pub(super) fn name_the_nameless(&mut self, upcase: &Upcase) {
        let nameless = |item: &&Item| item.flaws.contains(Flaws::NAME);
        let all = || self.items.iter().chain(&self.behind).chain(&self.broken);
        if !all().any(|item| nameless(&item)) {
            return;
        }
        // A folder can be long, and many of its names lost.
        let named = || all().filter(|item| !nameless(item));
        let by_index: BTreeMap<u32, &str> = named().map(|item| (item.index, &*item.name)).collect();
        let taken: HashSet<&str> = named().map(|item| &*item.name).collect();
        let found: HashMap<u32, String> = all()
            .filter(nameless)
            .filter_map(|item| Some((item.index, name_of(item, &by_index, &taken, upcase)?)))
            .collect();
        for item in self.broken.iter_mut().chain(&mut self.behind) {
            if let Some(name) = found.get(&item.index) {
                item.call(&name.encode_utf16().collect::<Vec<u16>>(), upcase);
                item.flaws = item.flaws.difference(Flaws::NAME) | Flaws::NAME_FOUND;
            }
        }
    }
}

fn name_of(
    item: &Item,
    by_index: &BTreeMap<u32, &str>,
    taken: &HashSet<&str>,
    upcase: &Upcase,
) -> Option<String> {
    let (length, hash) = item.said;
    let last = by_index.range(..item.index).next_back();
    let next = by_index.range(item.index..).next();
    let near = last.into_iter().chain(next);
    let mut found: BTreeSet<String> = near.flat_map(|(_, name)| numbered_like(name)).collect();
    found.retain(|name| {
        let units: Vec<u16> = name.encode_utf16().collect();
        units.len() == usize::from(length)
            && is_legal(&units)
            && upcase.hash(units.iter().copied()) == hash
            && !taken.contains(&**name)
    });
    if found.len() == 1 { found.pop_first() } else { None }
}

/// Names like this one with another number in place of its last.
fn numbered_like(name: &str) -> Vec<String> {
    let digits = |c: char| c.is_ascii_digit();
    let Some(end) = name.rfind(digits).map(|at| at.plus(1)) else { return Vec::new() };
    let begin = name.get(..end).unwrap_or("").rfind(|c: char| !digits(c)).map_or(0, |at| at.plus(1));
    let (Some(front), Some(number), Some(back)) = (name.get(..begin), name.get(begin..end), name.get(end..))
    else {
        return Vec::new();
    };
    let Ok(value) = number.parse::<u32>() else { return Vec::new() };
    let width = number.len();
    let near = value.minus(NEAR)..=value.plus(NEAR);
    near.map(|other| format!("{front}{other:0width$}{back}")).collect()
}
