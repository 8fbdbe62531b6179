//! Records whose heads were written over, and whose attributes can be read from some byte on.
//!
//! ```text
//! 0 ─ head: FILE, where the fixups are, sequence, flags, sizes ─ 42 or 48 ─ fixups ─ 48 or 56 ─ attributes ─ end mark
//!     ████████████ written over ████████████████████████████████████████████│ what is left tells the rest
//! ```
//!
//! Layout in `layout.rs`. Fixups stand in one of two places, and all strides end with their number; attributes follow each
//! other to an end mark, with a name among them. Who finds all that has a record before him, whatever its head says. Flags
//! follow from the attributes, and how often the record was used from the entry that names it.

use super::{
    edit::end_of,
    layout::{
        self, END_ALIGN, Fixups, NAME_BOTH, NAME_HEAD, RECORD_FOLDER, RECORD_IN_USE, RECORD_VIEW, STRIDE,
        kind, number, own, put, sequence, unfix,
    },
    record::{Attribute, attributes},
    records::{Flaw, Notes, Records, Use},
    tree::{Stray, Why},
};
use crate::arith::{Peek, Sat};
use std::collections::{BTreeMap, BTreeSet};

/// Bytes of the head that say what the record is: sequence, links, first attribute, flags, sizes.
const FIRST: usize = 20;

/// A record as its attributes tell it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Restored {
    /// It, fixups off, attributes where they stand.
    pub(super) record: Vec<u8>,
    /// From which byte on it can be read.
    pub(super) from: u16,
    /// What its head says of its use can be believed.
    pub(super) kept: bool,
}

/// True where what a record says of itself leads nowhere, and its head may be why.
pub(super) fn lacks(number: u32, fixups: &Fixups, signed: bool, unread: bool) -> bool {
    number > own::EXTEND && *fixups == Fixups::Bad && (!signed || unread)
}

/// A record as it reads, fixups off; `None` where it is none.
pub(super) fn read(number: u32, raw: &[u8]) -> Option<Vec<u8>> {
    let mut record = raw.to_vec();
    let fixups = unfix(&mut record);
    let (list, broken) = attributes(&record);
    let (signed, unread) = (is_signed(&record), list.is_empty() && broken.is_some());
    let told = lacks(number, &fixups, signed, unread).then(|| told(number, raw)).flatten();
    match told {
        Some(told) => Some(told.record),
        None => (fixups != Fixups::Bad).then_some(record),
    }
}

/// It begins with FILE, or with what hosts write over that where they met a torn record.
pub(super) fn is_signed(record: &[u8]) -> bool {
    matches!(record.part(0, 4), b"FILE" | b"BAAD")
}

/// Where the fixups of a record stand, as bytes from its start.
pub(super) fn fixups_at(number: u32, raw: &[u8]) -> u64 {
    let said = raw.le16(4);
    match usize::from(said) {
        layout::HEAD | layout::HEAD_OLD => said.into(),
        _ => told(number, raw).map_or(said, |told| told.record.le16(4)).into(),
    }
}

/// The record whose head is lost, by its attributes; `raw` has its fixups on.
pub(super) fn told(number: u32, raw: &[u8]) -> Option<Restored> {
    let strides = raw.len().per(STRIDE);
    let at = |place: usize| {
        let mut record = raw.to_vec();
        put(&mut record, 4, &u16::try_from(place).unwrap_or(48).to_le_bytes());
        put(&mut record, 6, &u16::try_from(strides.plus(1)).unwrap_or(3).to_le_bytes());
        let lost = unfix(&mut record) != Fixups::Whole;
        if lost {
            // With the array its numbers are lost: where nothing of the record stood there, they were zeros.
            record = without_array(raw, place)?;
        }
        let said = record.le16(FIRST);
        let from = first(&mut record, place)?;
        let end = end_of(&record);
        (!lost || end <= STRIDE.minus(2)).then(|| ((lost, from), headed(number, record, said, end)))
    };
    let found = [layout::HEAD, layout::HEAD_OLD].into_iter().filter_map(at);
    found.min_by_key(|(order, _)| *order).map(|(_, told)| told)
}

/// The record without its numbers, where all strides end with one that is none of the content.
fn without_array(raw: &[u8], place: usize) -> Option<Vec<u8>> {
    let mark = raw.le16(STRIDE.minus(2));
    let mut record = raw.to_vec();
    let mut end = STRIDE.minus(2);
    while end < raw.len() {
        if mark == 0 || raw.le16(end) != mark {
            return None;
        }
        put(&mut record, end, &[0, 0]);
        end = end.plus(STRIDE);
    }
    put(&mut record, 4, &u16::try_from(place).unwrap_or(48).to_le_bytes());
    put(&mut record, 6, &u16::try_from(raw.len().per(STRIDE).plus(1)).unwrap_or(3).to_le_bytes());
    put(&mut record, place, &vec![0; raw.len().per(STRIDE).plus(1).times(2)]);
    put(&mut record, place, &mark.to_le_bytes());
    Some(record)
}

/// Sets in the head from where on attributes can be read to an end, the first such place; there is a name among them.
fn first(record: &mut Vec<u8>, place: usize) -> Option<usize> {
    let (size, normal) = (record.len().narrow(), super::edit::first_attribute(record));
    let array = record.len().per(STRIDE).plus(1).times(2);
    let mut tried = record.clone();
    put(&mut tried, 24, &size.to_le_bytes());
    put(&mut tried, 28, &size.to_le_bytes());
    let mut from = normal;
    while from < STRIDE && from >= place.plus(array) {
        put(&mut tried, 20, &u16::try_from(from).unwrap_or(56).to_le_bytes());
        let (list, broken) = attributes(&tried);
        if broken.is_none() && list.iter().any(is_name) {
            *record = tried;
            return Some(from);
        }
        from = from.plus(8);
    }
    None
}

/// A name as one is: as long as it says, of a kind that there is.
fn is_name(attribute: &Attribute<'_>) -> bool {
    let value = attribute.value();
    attribute.kind() == kind::NAME
        && value.byte(65) <= NAME_BOTH
        && value.byte(64) > 0
        && value.len() == NAME_HEAD.plus(usize::from(value.byte(64)).times(2))
}

/// `said` is where its head says that the first attribute stands.
fn headed(of: u32, mut record: Vec<u8>, said: u16, end: usize) -> Restored {
    let raw = record.clone();
    let (list, _) = attributes(&record);
    let has = |of: u32| list.iter().find(|attribute| attribute.kind() == of);
    let names = list.iter().filter(|attribute| is_name(attribute)).count();
    let next = list.iter().map(Attribute::id).max().unwrap_or(0).wrapping_add(1);
    let index = has(kind::INDEX_ROOT);
    let kinds = match index {
        Some(index) if index.is_called("$I30") => RECORD_FOLDER,
        Some(_) => RECORD_VIEW,
        None => 0,
    };
    // Sequence, links and flags as they can be, in a head whose sizes fit.
    let flags = raw.le16(22);
    let kept = usize::from(said) == super::edit::first_attribute(&record)
        && raw.le16(16) != 0
        && (1..=u16::from(u8::MAX)).contains(&raw.le16(18))
        && flags & !(RECORD_IN_USE | 4) == kinds
        && raw.le64(32) == 0;
    if !kept {
        let links = u16::try_from(names).unwrap_or(1);
        put(&mut record, 16, &raw.le16(16).max(1).to_le_bytes());
        put(&mut record, 18, &links.to_le_bytes());
        put(&mut record, 22, &(RECORD_IN_USE | kinds).to_le_bytes());
        put(&mut record, 32, &[0; 8]);
    }
    put(&mut record, 0, b"FILE");
    put(&mut record, 24, &end.narrow().to_le_bytes());
    put(&mut record, 40, &next.to_le_bytes());
    if usize::from(record.le16(4)) >= layout::HEAD {
        put(&mut record, 42, &[0, 0]);
        put(&mut record, 44, &of.to_le_bytes());
    }
    let from = record.le16(FIRST);
    Restored { record, from, kept }
}

/// The record as it is written: its attributes where they begin in every record.
pub(super) fn drawn_up(told: &Restored) -> Vec<u8> {
    let mut record = told.record.clone();
    let (normal, from) = (super::edit::first_attribute(&record), usize::from(record.le16(FIRST)));
    let end = end_of(&record);
    let rest = record.get(from..end).unwrap_or(&[]).to_vec();
    record.truncate(normal);
    record.extend(rest);
    record.resize(told.record.len(), 0);
    put(&mut record, FIRST, &u16::try_from(normal).unwrap_or(56).to_le_bytes());
    let used = end.minus(from).plus(normal).max(normal.plus(END_ALIGN));
    put(&mut record, 24, &used.narrow().to_le_bytes());
    record
}

/// The record, fixups off, without what stands before the first attribute that can be read.
pub(super) fn without_first(number: u32, record: &[u8]) -> Option<Vec<u8>> {
    let mut tried = record.to_vec();
    let (place, said) = (usize::from(record.le16(4)), record.le16(FIRST));
    first(&mut tried, place)?;
    let end = end_of(&tried);
    let told = headed(number, tried, said, end);
    told.kept.then(|| drawn_up(&told))
}

impl Records {
    /// Records whose heads do not say how often they were used.
    fn headless(&self) -> BTreeSet<u32> {
        let of = |(number, flaw): &(u32, Flaw)| matches!(flaw, Flaw::Head(_, false)).then_some(*number);
        self.flaws.iter().filter_map(of).collect()
    }

    /// Takes this for how often a record was used; gives what was.
    pub(super) fn set_sequence(&mut self, number: u32, told: u16) -> Option<u16> {
        let at = self.files.binary_search_by_key(&number, |file| file.number).ok()?;
        let was = std::mem::replace(&mut self.files.get_mut(at)?.sequence, told);
        if let Some(own) = self.sequences.get_mut(number.size()) {
            *own = told;
        }
        Some(was)
    }

    /// Folders: the names that stand in them say how often their records were used.
    pub(super) fn number_folders(&mut self) {
        let headless = self.headless();
        if headless.is_empty() {
            return;
        }
        let mut votes: BTreeMap<u64, u32> = BTreeMap::new();
        for name in self.names.iter().filter(|name| self.live(name.file).is_some()) {
            if u32::try_from(number(name.parent)).is_ok_and(|folder| headless.contains(&folder)) {
                let count = votes.entry(name.parent).or_default();
                *count = count.plus(1);
            }
        }
        let mut best: BTreeMap<u64, (u32, u64)> = BTreeMap::new();
        for (parent, count) in votes {
            let own = best.entry(number(parent)).or_default();
            *own = (*own).max((count, parent));
        }
        for (folder, (_, parent)) in best {
            self.set_sequence(folder.narrow(), sequence(parent));
        }
    }

    /// Files: the entry that has their very name does; what none names, and $MFT's bitmap has as free, is.
    pub(super) fn number_files(&mut self, strays: &mut Vec<Stray>, in_use: Option<&[u8]>) {
        let headless = self.headless();
        if headless.is_empty() {
            return;
        }
        strays.retain(|stray| {
            let of = u32::try_from(number(stray.reference)).ok();
            let of = of.filter(|of| stray.why == Why::Reused && headless.contains(of));
            let Some(file) = of.and_then(|of| self.live(of)).cloned() else { return true };
            let Some(name) = super::outvoted::named(self, &file, stray) else { return true };
            self.set_sequence(file.number, sequence(stray.reference));
            if let Some(name) = self.names.get_mut(name.size()) {
                name.indexed = true;
            }
            false
        });
        let marked = |of: u32| in_use.is_none_or(|bits| bits.byte(of.per(8).size()) >> of.rest(8) & 1 == 1);
        let named =
            |of: u32| self.live(of).is_some_and(|file| self.names_of(file).iter().any(|name| name.indexed));
        let free: BTreeSet<u32> = headless.into_iter().filter(|of| !marked(*of) && !named(*of)).collect();
        for of in &free {
            self.note(*of, Notes::DELETED);
            if let Some(usage) = self.uses.get_mut(of.size()) {
                *usage = Use::Free;
            }
        }
        self.flaws.retain(|(number, _)| !free.contains(number));
    }
}
