//! TIFF pictures, and camera raw formats built on them (TIFF 6.0, section 2; TIFF/EP; EXIF 2.3, 4.6).
//!
//! ```text
//! II or MM (order of bytes), 42 (2), where the first IFD stands (4)
//! IFD: count (2), entries of 12: tag (2), type (2), count (4), value or where it stands (4); then where the next stands (4)
//! 273/279 strips and their lengths, 324/325 tiles, 330 further IFDs, 513/514 a small picture, 34665 EXIF
//! ```
//!
//! The file ends behind the last byte that any of its tables names. What the pixels hold cannot be held against anything.

use super::{End, Format, Proof, Tape, Walked};
use crate::arith::{Peek, Sat};
use jiff::civil::DateTime;
use std::ops::Range;

/// IFDs and values at most.
const TABLES: usize = 64;
const VALUES: u64 = 1 << 20;

/// The picture was taken then: from the bytes of an EXIF block.
pub(super) fn date(bytes: &[u8]) -> Option<DateTime> {
    let reader = exif::Reader::new();
    let found = reader.read_raw(bytes.to_vec()).ok()?;
    let of = |tag| {
        let field = found.get_field(tag, exif::In::PRIMARY)?;
        let exif::Value::Ascii(texts) = &field.value else { return None };
        let time = exif::DateTime::from_ascii(texts.first()?).ok()?;
        let small = |value: u8| i8::try_from(value).ok();
        DateTime::new(
            i16::try_from(time.year).ok()?,
            small(time.month)?,
            small(time.day)?,
            small(time.hour)?,
            small(time.minute)?,
            small(time.second)?,
            0,
        )
        .ok()
    };
    of(exif::Tag::DateTimeOriginal)
        .or_else(|| of(exif::Tag::DateTimeDigitized))
        .or_else(|| of(exif::Tag::DateTime))
}

/// Where the small picture stands in an EXIF block (4.6.5: tags 513 and 514 of the second IFD).
pub(super) fn small_picture(bytes: &[u8]) -> Option<Range<usize>> {
    let found = exif::Reader::new().read_raw(bytes.to_vec()).ok()?;
    let of = |tag| found.get_field(tag, exif::In::THUMBNAIL)?.value.get_uint(0).map(Sat::size);
    let from = of(exif::Tag::JPEGInterchangeFormat)?;
    Some(from..from.plus(of(exif::Tag::JPEGInterchangeFormatLength)?))
}

struct Reader<'r, 's> {
    tape: &'r mut Tape<'s>,
    little: bool,
}

impl Reader<'_, '_> {
    fn short(&mut self, at: u64) -> u64 {
        let bytes = self.tape.at(at, 2);
        u64::from(if self.little { bytes.le16(0) } else { bytes.be16(0) })
    }
    fn long(&mut self, at: u64) -> u64 {
        let bytes = self.tape.at(at, 4);
        u64::from(if self.little { bytes.le32(0) } else { bytes.be32(0) })
    }
    /// Value `number` of an entry.
    fn value(&mut self, entry: &Entry, number: u64) -> u64 {
        let each = entry.each();
        let base = if entry.bytes() <= 4 { entry.at.plus(8) } else { entry.place };
        match each {
            1 => u64::from(self.tape.at(base.plus(number), 1).byte(0)),
            2 => self.short(base.plus(number.times(2))),
            _ => self.long(base.plus(number.times(each))),
        }
    }
}

#[derive(Clone, Copy)]
struct Entry {
    at: u64,
    tag: u64,
    kind: u64,
    count: u64,
    place: u64,
}

impl Entry {
    fn each(&self) -> u64 {
        match self.kind {
            1 | 2 | 6 | 7 => 1,
            3 | 8 => 2,
            4 | 9 | 11 | 13 => 4,
            5 | 10 | 12 => 8,
            _ => 0,
        }
    }
    fn bytes(&self) -> u64 {
        self.count.times(self.each())
    }
}

pub(super) fn walk(format: Format, tape: &mut Tape<'_>) -> Walked {
    let little = tape.at(0, 2) == b"II";
    let mut walked = Walked::of(format, End::early(0, 0));
    let mut reader = Reader { tape, little };
    let first = reader.long(4);
    let (mut ends, mut pixels, mut make, mut dng) = (8_u64, false, Vec::new(), false);
    let (mut queue, mut next) = (vec![first], 0_usize);
    while let Some(at) = queue.get(next).copied() {
        next = next.plus(1);
        if next > TABLES {
            walked.end = End::unfit(8, at, "tables without end");
            return walked;
        }
        let count = reader.short(at);
        let stop = at.plus(2).plus(count.times(12)).plus(4);
        if at < 8 || count == 0 || count > 4096 || stop > reader.tape.length() {
            walked.end = if stop > reader.tape.length() {
                End::early(ends.min(reader.tape.length()), reader.tape.length())
            } else {
                End::unfit(8, at, "no table of entries")
            };
            return walked;
        }
        ends = ends.max(stop);
        let mut entries = Vec::new();
        for number in 0..count {
            let at = at.plus(2).plus(number.times(12));
            let (tag, kind) = (reader.short(at), reader.short(at.plus(2)));
            let entry =
                Entry { at, tag, kind, count: reader.long(at.plus(4)), place: reader.long(at.plus(8)) };
            if entry.each() == 0 && number > 0 && kind > 13 {
                walked.end = End::unfit(8, at, "an entry of no known type");
                return walked;
            }
            if entry.bytes() > 4 {
                ends = ends.max(entry.place.plus(entry.bytes()));
            }
            entries.push(entry);
        }
        for entry in &entries {
            match entry.tag {
                330 | 34665 | 34853 | 40965 => {
                    for number in 0..entry.count.min(TABLES.wide()) {
                        let place = reader.value(entry, number);
                        if !queue.contains(&place) {
                            queue.push(place);
                        }
                    }
                }
                271 => make = reader.tape.at(entry.place, entry.count.min(64).size()).to_vec(),
                50706 => dng = true,
                _ => {}
            }
        }
        for (places, lengths) in [(273, 279), (324, 325), (513, 514)] {
            let of = |tag| entries.iter().find(|entry| entry.tag == tag).copied();
            if let (Some(places), Some(lengths)) = (of(places), of(lengths)) {
                pixels = true;
                // One list after the other: they can lie far apart.
                let count = places.count.min(lengths.count).min(VALUES);
                let starts: Vec<u64> = (0..count).map(|number| reader.value(&places, number)).collect();
                for (number, start) in (0..count).zip(starts) {
                    ends = ends.max(start.plus(reader.value(&lengths, number)));
                }
            }
        }
        let follows = reader.long(stop.minus(4));
        if follows != 0 && !queue.contains(&follows) {
            queue.push(follows);
        }
    }
    let length = reader.tape.length();
    walked.format = told_apart(format, reader.tape.at(0, 12), &make, dng);
    let head = reader.tape.at(0, 256 << 10).to_vec();
    walked.taken = date(&head);
    walked.end = match () {
        () if ends > length => End::early(length, length),
        () if !pixels => End::unfit(8, ends, "it names no pixels"),
        () => End::whole(ends, Proof::Structure),
    };
    walked
}

/// Which raw format it is: by its head, and by who made it.
fn told_apart(format: Format, head: &[u8], make: &[u8], dng: bool) -> Format {
    let by = |name: &[u8]| make.get(..name.len()).is_some_and(|own| own.eq_ignore_ascii_case(name));
    match () {
        () if head.part(8, 2) == b"CR" => Format::Cr2,
        () if head.part(2, 2) == b"RO" || head.part(2, 2) == b"RS" => Format::Orf,
        () if head.part(2, 2) == b"U\0" => Format::Rw2,
        () if dng => Format::Dng,
        () if format != Format::Tiff => format,
        () if by(b"NIKON") => Format::Nef,
        () if by(b"SONY") => Format::Arw,
        () if by(b"PENTAX") || by(b"RICOH") => Format::Pef,
        () => Format::Tiff,
    }
}
