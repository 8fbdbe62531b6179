//! Records in which a bit or a byte of the head of an attribute was struck, and which one it was.
//!
//! The head of an attribute says most things twice: where its value begins follows from its name, how long it is from
//! its value, or from its run list; types come in order, and only some have names. So of all that one struck byte can
//! have been, mostly one thing fits. Layout and rules as in `record.rs`; what attributes look like beyond what hosts
//! demand rests on volumes that were looked at.

use super::{
    build::aligned,
    edit::natural_length,
    layout::{END_ALIGN, NAME_HEAD, OUTSIDE, RECORD_VIEW, RESIDENT, kind, put},
    record::{Attribute, Broken, Head, attributes},
    runs::decode,
};
use crate::arith::{Peek, Sat};

/// Bytes behind a run list in which no other attribute has room.
const SLACK: usize = RESIDENT;
/// Attributes of one record that are put right.
const MOST: usize = 4;

/// The record with the struck bytes as they were, where that is one way only; `clusters` is how many the volume has.
pub(super) fn unstruck(record: &[u8], clusters: u64) -> Option<Vec<u8>> {
    let mut record = record.to_vec();
    for _ in 0..MOST {
        let (list, broken) = attributes(&record);
        let at = match broken {
            None => return Some(record),
            Some(Broken::Type(at) | Broken::Length(at) | Broken::Value(at)) => at,
            Some(Broken::Head | Broken::End | Broken::Struck(_)) => return None,
        };
        // A length that is wrong and can be leads to something that is no attribute.
        let places: Vec<usize> = list.last().map(|last| last.at).into_iter().chain([at]).rev().collect();
        let found = places.into_iter().filter_map(|at| {
            let before = list.iter().rfind(|other| other.at < at).map_or(0, Attribute::kind);
            let (place, byte) = Struck { record: &record, at, before, clusters }.told()?;
            let mut told = record.clone();
            put(&mut told, at.plus(place), &[byte]);
            Some(told)
        });
        // Of two, the one with which the file has all that it must have.
        let mut found: Vec<Vec<u8>> = found.collect();
        if found.len() > 1 {
            found.retain(|told| lacks(&Head::read(told), &attributes(told).0).is_none());
        }
        let [told] = found.as_slice() else { return None };
        record.clone_from(told);
    }
    attributes(&record).1.is_none().then_some(record)
}

/// A type of attribute that every such file has, and this one has not.
fn lacks(head: &Head, list: &[Attribute<'_>]) -> Option<u32> {
    let content = match (head.folder(), head.flags & RECORD_VIEW != 0) {
        (true, _) => kind::INDEX_ROOT,
        (false, false) => kind::DATA,
        (false, true) => kind::STANDARD,
    };
    [kind::STANDARD, kind::NAME, content].into_iter().find(|of| list.iter().all(|a| a.kind() != *of))
}

/// A record that can be read, and has not what every file has: an attribute of it became another one by one bit. Where that
/// stands, and the record as it was; `list` has its attributes.
pub(super) fn refitted(record: &[u8], list: &[Attribute<'_>], clusters: u64) -> Option<(usize, Vec<u8>)> {
    let head = Head::read(record);
    // What a list leads to can stand elsewhere.
    if !head.in_use() || head.base != 0 || list.iter().any(|a| a.kind() == kind::LIST) {
        return None;
    }
    // One that begins in the middle has its beginning in no other record.
    if let Some(late) = list.iter().find(|a| !a.resident() && a.first_vcn() != 0) {
        let mut tried = record.to_vec();
        put(&mut tried, late.at.plus(16), &[0; 8]);
        let fits = attributes(&tried).0.iter().any(|a| a.at == late.at && looks_right(a, clusters));
        return fits.then_some((late.at, tried));
    }
    // Nothing of it, where a run list stands.
    let hollow =
        list.iter().find(|one| one.resident() && one.kind() == kind::DATA && one.bytes.len() > OUTSIDE);
    if let Some(hollow) = hollow.filter(|one| !looks_right(one, clusters)) {
        let mut tried = record.to_vec();
        put(&mut tried, hollow.at.plus(8), &[1]);
        let fits =
            |one: &Attribute<'_>| one.at == hollow.at && one.clusters() > 0 && looks_right(one, clusters);
        let fits = attributes(&tried).0.iter().any(fits);
        return fits.then_some((hollow.at, tried));
    }
    let lacks = lacks(&head, list)?;
    let mut fit = list.iter().filter_map(|one| {
        let mut tried = record.to_vec();
        put(&mut tried, one.at, &lacks.to_le_bytes());
        let (others, broken) = attributes(&tried);
        let now = others.iter().find(|other| other.at == one.at)?;
        // As it stands it is none of its own type, or not one that such a file has.
        let odd = !looks_right(one, clusters)
            || lacks == kind::DATA && !one.resident() && one.name().is_empty()
            || list.iter().filter(|other| other.kind() == one.kind()).count() > 1;
        let fits = broken.is_none()
            && (one.kind() ^ lacks).is_power_of_two()
            && odd
            && looks_right(now, clusters)
            && (lacks != kind::INDEX_ROOT || now.resident() && !now.name().is_empty());
        fits.then_some((one.at, tried))
    });
    fit.next().filter(|_| fit.next().is_none())
}

/// An attribute of which a byte was struck.
struct Struck<'r> {
    record: &'r [u8],
    /// Where it stands.
    at: usize,
    /// The type of the one before it.
    before: u32,
    clusters: u64,
}

impl Struck<'_> {
    /// Which byte of it must be what, if that is one way only.
    fn told(&self) -> Option<(usize, u8)> {
        let used = self.record.le32(24).size().min(self.record.len());
        let rest = self.record.get(self.at..used)?;
        // A bit that tipped over is likelier than a byte that was written over.
        self.only(rest, |was| (0..8_u32).map(|bit| was ^ 1_u8.wrapping_shl(bit)).collect())
            .or_else(|| self.only(rest, |_| (0..=u8::MAX).collect()))
    }

    fn only(&self, rest: &[u8], others: impl Fn(u8) -> Vec<u8>) -> Option<(usize, u8)> {
        let mut tried = rest.to_vec();
        let mut found = None;
        for place in 0..OUTSIDE.min(rest.len()) {
            let was = rest.byte(place);
            for byte in others(was).into_iter().filter(|byte| *byte != was) {
                put(&mut tried, place, &[byte]);
                if self.fits(&tried) && found.replace((place, byte)).is_some() {
                    return None;
                }
            }
            put(&mut tried, place, &[was]);
        }
        found
    }

    /// An attribute begins there that looks as those of its type do, and another one or the end follows it.
    fn fits(&self, rest: &[u8]) -> bool {
        let (of, length) = (rest.le32(0), rest.le32(4).size());
        // F0 there was in one old version, and on no volume that was looked at.
        let there_is = |of: u32| of != 0 && of.trailing_zeros() >= 4 && of <= 0x100 && of != 0xF0;
        if !there_is(of)
            || of < self.before
            || length.rest(8) != 0
            || length < RESIDENT
            || length.plus(END_ALIGN) > rest.len()
        {
            return false;
        }
        let next = rest.le32(length);
        let attribute = Attribute { at: self.at, bytes: rest.part(0, length) };
        (next == kind::END || there_is(next) && next >= of)
            && attribute.holds_together()
            && looks_right(&attribute, self.clusters)
            && self.has_room_for(&attribute, next)
    }

    /// The file can have one more of the kind, and what follows is not missing it.
    fn has_room_for(&self, attribute: &Attribute<'_>, next: u32) -> bool {
        let head = Head::read(self.record);
        let indexed = head.folder() || head.flags & RECORD_VIEW != 0;
        let (list, _) = attributes(self.record);
        let twin = |other: &Attribute<'_>| {
            other.at < self.at && other.kind() == attribute.kind() && other.name() == attribute.name()
        };
        let room = match attribute.kind() {
            // Its pieces may stand in one record.
            kind::DATA => !list.iter().any(twin) || attribute.first_vcn() > 0 && !attribute.resident(),
            kind::STANDARD | kind::LIST | kind::REPARSE => !list.iter().any(twin),
            kind::INDEX_ROOT | kind::INDEX_ALLOCATION => indexed,
            // That of $MFT has no name.
            kind::BITMAP => indexed || attribute.name().is_empty(),
            _ => true,
        };
        // How long properties are stands right in front of them.
        room && (attribute.kind() == kind::EXTENDED_INFO) == (next == kind::EXTENDED)
    }
}

/// Where name, value and end of an attribute are follows from each other.
fn looks_right(attribute: &Attribute<'_>, clusters: u64) -> bool {
    let bytes = attribute.bytes;
    let of = attribute.kind();
    let (long, name_at) = (usize::from(bytes.byte(9)), usize::from(bytes.le16(10)));
    let named =
        matches!(of, kind::DATA | kind::INDEX_ROOT | kind::INDEX_ALLOCATION | kind::BITMAP | kind::LOGGED);
    let units = attribute.name();
    if of == kind::LOGGED && long == 0
        || long > 0 && (!named || units.chunks_exact(2).any(|unit| unit.le16(0) == 0))
    {
        return false;
    }
    if attribute.resident() {
        let (value, size) = (usize::from(bytes.le16(20)), bytes.le32(16).size());
        let before = RESIDENT.plus(long.times(2));
        let right = match of {
            kind::STANDARD => size == 48 || size == 72,
            kind::NAME => size == NAME_HEAD.plus(usize::from(attribute.value().byte(64)).times(2)),
            kind::VOLUME_INFO => size == 12,
            kind::EXTENDED_INFO => size == 8,
            kind::REPARSE => size == 8_usize.plus(usize::from(attribute.value().le16(4))),
            kind::OBJECT_ID => matches!(size, 16 | 64),
            kind::INDEX_ROOT => size >= 32 && long > 0,
            kind::INDEX_ALLOCATION => false,
            _ => true,
        };
        return right
            && (long == 0 || name_at == RESIDENT)
            && value == aligned(before)
            && bytes.len() == aligned(value.plus(size));
    }
    let runs = usize::from(bytes.le16(32));
    let head = if attribute.sums() { OUTSIDE.plus(8) } else { OUTSIDE };
    let (list, bad) = decode(attribute.runs(), attribute.clusters(), clusters);
    let held: u64 = list.iter().fold(0, |sum, run| sum.plus(run.length));
    !matches!(of, kind::STANDARD | kind::NAME | kind::VOLUME_INFO | kind::INDEX_ROOT)
        && (long == 0 || name_at == head)
        && runs == aligned(head.plus(long.times(2)))
        && bad.is_none()
        && held == attribute.clusters()
        // It ends with its run list; where that got shorter, a little behind it.
        && natural_length(bytes).is_some_and(|natural| bytes.len().minus(natural) < SLACK)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ntfs::{
        build::{FileName, Outside, Record, Times, outside, resident, standard},
        layout::unfix,
        runs::Run,
    };

    #[test]
    fn any_byte_of_the_type_of_what_stands_behind_the_content_is_told() {
        let times = Times::all(1);
        let name =
            FileName { parent: 5, times, sizes: (4096, 600), attributes: 0, space: 0, name: "rings.csv" };
        let runs = [Run::new(4, 1)];
        let record = Record::new(40, 1, 0)
            .with(resident(kind::STANDARD, "", &standard(times, 0, 0)))
            .with(resident(kind::NAME, "", &name.bytes()))
            .with(outside(kind::DATA, "", Outside::plain(&runs, 600, 4096)))
            .with(resident(kind::EXTENDED_INFO, "", &[8, 0, 0, 0, 24, 0, 0, 0]))
            .with(resident(kind::EXTENDED, "", &[1; 24]));
        let mut sound = record.bytes(1024).expect("there is room");
        unfix(&mut sound);
        let at =
            attributes(&sound).0.iter().find(|a| a.kind() == kind::EXTENDED_INFO).expect("it is there").at;
        let mut told = 0;
        for byte in 0..=u8::MAX {
            let mut struck = sound.clone();
            put(&mut struck, at, &[byte]);
            // Some other types read as well, and nothing is wrong then.
            if attributes(&struck).1.is_some() {
                assert_eq!(unstruck(&struck, 100).as_ref(), Some(&sound), "{byte:02X}");
                told += 1;
            }
        }
        assert!(told > 240, "{told}");
    }
}
