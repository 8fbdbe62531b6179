//! Changing a record: its fixups are off, and are set anew when it is written.

use super::{
    build::aligned,
    layout::{END_ALIGN, STRIDE, kind, put},
    record::attributes,
};
use crate::arith::{Peek, Sat};

/// Sets the bytes in use by the end of the attributes.
pub(super) fn count_used(record: &mut [u8]) {
    let end = end_of(record);
    put(record, 24, &end.narrow().to_le_bytes());
}

/// The byte behind the end mark, by the attributes themselves.
pub(super) fn end_of(record: &[u8]) -> usize {
    let first = usize::from(record.le16(20));
    let (list, _) = attributes(record);
    list.last().map_or(first, |last| last.at.plus(last.bytes.len())).plus(END_ALIGN)
}

/// Where the first attribute stands when the fixups are where they are.
pub(super) fn first_attribute(record: &[u8]) -> usize {
    aligned(usize::from(record.le16(4)).plus(record.len().per(STRIDE).plus(1).times(2)))
}

/// Puts `bytes` in the place of the attribute of `length` bytes at `at`; false where there is no room.
fn exchange(record: &mut Vec<u8>, at: usize, length: usize, bytes: Vec<u8>) -> bool {
    let (size, used) = (record.len(), end_of(record).minus(length).plus(bytes.len()));
    if used > size {
        return false;
    }
    record.splice(at..at.plus(length), bytes);
    record.resize(size, 0);
    put(record, 24, &used.narrow().to_le_bytes());
    true
}

/// Puts an attribute in where its type has its place; false where there is no room.
pub fn insert(record: &mut Vec<u8>, attribute: &[u8]) -> bool {
    let (list, broken) = attributes(record);
    let of = attribute.le32(0);
    let end = end_of(record).minus(END_ALIGN);
    let at = list.iter().find(|other| other.kind() > of).map_or(end, |other| other.at);
    let id = list.iter().map(super::record::Attribute::id).max().map_or(0, |id| id.wrapping_add(1));
    let mut bytes = attribute.to_vec();
    put(&mut bytes, 14, &id.to_le_bytes());
    let done = broken.is_none() && exchange(record, at, 0, bytes);
    if done {
        put(record, 40, &id.wrapping_add(1).to_le_bytes());
    }
    done
}

/// Puts another attribute in the place of the one of its type and name, which keeps its id; false where there is none, or
/// no room.
pub fn replace(record: &mut Vec<u8>, attribute: &[u8]) -> bool {
    let (list, broken) = attributes(record);
    let new = super::record::Attribute { at: 0, bytes: attribute };
    let fits = |a: &&super::record::Attribute<'_>| a.kind() == new.kind() && a.name() == new.name();
    let Some(old) = list.iter().find(fits).filter(|_| broken.is_none()) else { return false };
    let (at, length, mut bytes) = (old.at, old.bytes.len(), attribute.to_vec());
    put(&mut bytes, 14, &old.id().to_le_bytes());
    exchange(record, at, length, bytes)
}

/// Takes the attribute of a type and name out; false where there is none.
pub(super) fn remove(record: &mut Vec<u8>, of: u32, name: &str) -> bool {
    let (list, broken) = attributes(record);
    let fits = |a: &&super::record::Attribute<'_>| a.kind() == of && a.is_called(name);
    let Some(at) = list.iter().find(fits).filter(|_| broken.is_none()).map(|old| old.at) else {
        return false;
    };
    remove_at(record, at)
}

/// Takes the attribute out that stands at `at`; false where there is none.
pub(super) fn remove_at(record: &mut Vec<u8>, at: usize) -> bool {
    let length = attributes(record).0.iter().find(|a| a.at == at).map(|old| old.bytes.len());
    length.is_some_and(|length| exchange(record, at, length, Vec::new()))
}

/// Gives the attribute that stands at `at` another run list; false where there is no room.
pub(super) fn set_runs(record: &mut Vec<u8>, at: usize, runs: &[super::runs::Run]) -> bool {
    let (list, broken) = attributes(record);
    let Some(old) = list.iter().find(|a| a.at == at && !a.resident()).filter(|_| broken.is_none()) else {
        return false;
    };
    let (head, length) = (old.bytes.len().minus(old.runs().len()), old.bytes.len());
    let mut bytes = old.bytes.get(..head).unwrap_or(&[]).to_vec();
    bytes.extend(super::runs::encode(runs));
    bytes.resize(aligned(bytes.len()), 0);
    let long = bytes.len().narrow();
    put(&mut bytes, 4, &long.to_le_bytes());
    exchange(record, at, length, bytes)
}

/// The length that an attribute has by where its value, or its run list, ends.
pub(super) fn natural_length(bytes: &[u8]) -> Option<usize> {
    if bytes.byte(8) == 0 {
        let at = usize::from(bytes.le16(20));
        let end = aligned(at.plus(bytes.le32(16).size()));
        return (at >= 24 && end <= bytes.len()).then_some(end);
    }
    let mut at = usize::from(bytes.le16(32));
    if at < 64 {
        return None;
    }
    while bytes.byte(at) != 0 {
        let head = bytes.byte(at);
        at = at.plus(1).plus(usize::from(head & 15)).plus(usize::from(head >> 4_u8));
    }
    let end = aligned(at.plus(1));
    (end <= bytes.len()).then_some(end)
}

/// Puts the attributes in order again where one field of one of them was struck: its length, by where the next one
/// begins, or its type, by those around it. `None` where that is not one way only.
pub(super) fn straightened(record: &[u8], at: usize) -> Option<Vec<u8>> {
    let mut found: Option<Vec<u8>> = None;
    let mut offer = |candidate: Vec<u8>| {
        let (list, broken) = attributes(&candidate);
        let types: Vec<u32> = list.iter().map(super::record::Attribute::kind).collect();
        let plain = types.contains(&kind::STANDARD) || types.contains(&kind::NAME) || candidate.le64(32) != 0;
        if broken.is_some() || !plain {
            return true;
        }
        let first = found.is_none();
        found = Some(candidate);
        first
    };
    // What the attribute itself says of its value tells its length.
    if let Some(length) = natural_length(record.part(at, record.len())) {
        let mut candidate = record.to_vec();
        put(&mut candidate, at.plus(4), &length.narrow().to_le_bytes());
        if attributes(&candidate).1.is_none() {
            return Some(candidate);
        }
    }
    let used = record.le32(24).size().min(record.len());
    // The length: where the rest can be read to its end.
    let mut next = at.plus(24);
    while next < used {
        let mut candidate = record.to_vec();
        put(&mut candidate, at.plus(4), &next.minus(at).narrow().to_le_bytes());
        if !offer(candidate) {
            return None;
        }
        next = next.plus(8);
    }
    // The type: what a file of this sort must have, and has not.
    let folder = record.le16(22) & super::layout::RECORD_FOLDER != 0;
    let (list, _) = attributes(record);
    let has = |of: u32| list.iter().any(|other| other.kind() == of);
    let content = if folder { kind::INDEX_ROOT } else { kind::DATA };
    // Of content without a name there is one.
    let named = record.byte(at.plus(9)) != 0;
    let missing = [
        (kind::STANDARD, !has(kind::STANDARD)),
        (kind::NAME, !has(kind::NAME)),
        (content, named || !has(content)),
    ];
    // The first that fits there.
    let fits = missing.iter().filter(|(_, missing)| *missing).find_map(|(of, _)| {
        let mut candidate = record.to_vec();
        put(&mut candidate, at, &of.to_le_bytes());
        attributes(&candidate).1.is_none().then_some(candidate)
    });
    if fits.is_some_and(|candidate| !offer(candidate)) {
        return None;
    }
    found
}

/// The record with the length of the attribute at `at` as its value tells it, whatever follows.
pub(super) fn told_by_value(record: &[u8], at: usize) -> Option<Vec<u8>> {
    let length = natural_length(record.part(at, record.len()))?;
    let mut candidate = record.to_vec();
    put(&mut candidate, at.plus(4), &length.narrow().to_le_bytes());
    Some(candidate)
}
