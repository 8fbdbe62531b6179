//! ZIP archives, documents packed in them (APPNOTE 6.3.10, 4.3; ECMA-376, part 2; OASIS OpenDocument 1.3, part 2), and 7z.
//!
//! ```text
//! PK 03 04: version (2), flags (2), method (2), time (4), CRC-32 (4), packed and plain length (4, 4), lengths of name and
//!           extra (2, 2), name, extra, content; flag bit 3: sum and lengths stand behind it, PK 07 08 or without a mark
//! PK 01 02: central directory: …, lengths of name, extra, comment at 28, 30, 32; where the part stands at 42
//! PK 05 06: end: …, length and place of the directory at 12 and 16, comment length at 20; PK 06 06 and 06 07 before it: 64 bits
//!
//! 7z: 37 7A BC AF 27 1C, version (2), CRC-32 of the next 20 bytes; place and length of the index (8, 8), its CRC-32
//! ```

use super::{End, Format, Proof, Tape, Walked, Why, deflate};
use crate::arith::{Peek, Sat};

/// Parts at most.
const PARTS: u64 = 1 << 20;

pub(super) fn walk(tape: &mut Tape<'_>) -> Walked {
    let mut seen = Seen::default();
    let end = parts(tape, &mut seen);
    Walked::of(seen.format(), end)
}

/// What the names of the parts tell.
#[derive(Default)]
struct Seen {
    packed: Option<Format>,
    types: bool,
    proof: bool,
}

impl Seen {
    fn part(&mut self, name: &[u8]) {
        self.types |= name == b"[Content_Types].xml";
        let within = |prefix: &[u8]| name.starts_with(prefix);
        let found = match () {
            () if within(b"word/") => Format::Docx,
            () if within(b"xl/") => Format::Xlsx,
            () if within(b"ppt/") => Format::Pptx,
            () => return,
        };
        self.packed = self.packed.or(Some(found));
    }
    /// The first part of an open document says what it is.
    fn kind(&mut self, text: &[u8]) {
        let of = |word: &[u8]| text.windows(word.len()).any(|piece| piece == word);
        let found = match () {
            () if of(b"opendocument.text") => Format::Odt,
            () if of(b"opendocument.spreadsheet") => Format::Ods,
            () if of(b"opendocument.presentation") => Format::Odp,
            () if of(b"epub") => Format::Epub,
            () => return,
        };
        (self.packed, self.types) = (Some(found), true);
    }
    fn format(&self) -> Format {
        self.packed.filter(|_| self.types).unwrap_or(Format::Zip)
    }
}

fn parts(tape: &mut Tape<'_>, seen: &mut Seen) -> End {
    let (mut at, mut count) = (0_u64, 0_u64);
    seen.proof = true;
    while count < PARTS {
        let head = tape.at(at, 30).to_vec();
        if head.part(0, 4) != b"PK\x03\x04" {
            break;
        }
        match part(tape, at, &head, seen) {
            Ok(next) => at = next,
            Err(end) => return end,
        }
        count = count.plus(1);
    }
    directory(tape, at, count, seen.proof)
}

/// One part; gives where it ends.
fn part(tape: &mut Tape<'_>, at: u64, head: &[u8], seen: &mut Seen) -> Result<u64, End> {
    let (flags, method, sum) = (head.le16(6), head.le16(8), head.le32(14));
    let (mut packed, mut plain) = (u64::from(head.le32(18)), u64::from(head.le32(22)));
    let (name, extra) = (usize::from(head.le16(26)), usize::from(head.le16(28)));
    let about = tape.at(at.plus(30), name.plus(extra)).to_vec();
    seen.part(about.part(0, name));
    let from = at.plus(30).plus(name.plus(extra).wide());
    if from > tape.length() {
        return Err(End::early(at, tape.length()));
    }
    let mut wide = false;
    let mut rest = about.part(name, extra);
    while rest.len() >= 4 {
        let length = usize::from(rest.le16(2));
        if rest.le16(0) == 1 {
            wide = true;
            (plain, packed) = (rest.le64(4), rest.le64(12));
        }
        rest = rest.get(length.plus(4)..).unwrap_or(&[]);
    }
    let (later, locked) = (flags & 8 != 0, flags & 1 != 0);
    let bad = |at| End::Broken { good: from, at, why: Why::Unfit("a part whose sum does not fit") };
    let mut end = from.plus(packed);
    match method {
        8 if !locked => {
            let stream = deflate::stream(tape, from).map_err(|at| {
                if at >= tape.length() {
                    End::early(from, at)
                } else {
                    End::unfit(from, at, "packed bytes that cannot be unpacked")
                }
            })?;
            if !later && (stream.end != end || stream.sum != sum || stream.becomes != plain) {
                return Err(bad(stream.end));
            }
            end = stream.end;
            if later {
                end = stated(tape, end, (stream.sum, wide)).ok_or_else(|| bad(stream.end))?;
            }
        }
        0 if !later && !locked => {
            let found = checksum(tape, from, packed).ok_or_else(|| End::early(from, tape.length()))?;
            if found.0 != sum {
                return Err(bad(end));
            }
            if name == 8 && about.starts_with(b"mimetype") {
                seen.kind(&found.1);
            }
        }
        _ if later && packed == 0 => {
            // Neither a length nor an end of its own: the next part, or the directory.
            seen.proof = false;
            end = next(tape, from).ok_or_else(|| End::early(from, tape.length()))?;
        }
        _ => {
            seen.proof = false;
            if end > tape.length() {
                return Err(End::early(from, tape.length()));
            }
            if later {
                end = end.plus(16).plus(if wide { 8 } else { 0 });
            }
        }
    }
    Ok(end)
}

/// Behind the sum and the lengths that stand behind a part.
fn stated(tape: &mut Tape<'_>, at: u64, (sum, wide): (u32, bool)) -> Option<u64> {
    let bytes = tape.at(at, 24);
    let marked = if bytes.part(0, 4) == b"PK\x07\x08" { 4 } else { 0 };
    let long = |mark: usize| at.plus(mark.wide()).plus(if wide { 20 } else { 12 });
    (bytes.le32(marked) == sum).then(|| long(marked))
}

/// The sum of so many bytes, and the first of them.
fn checksum(tape: &mut Tape<'_>, from: u64, length: u64) -> Option<(u32, Vec<u8>)> {
    let mut sum = crc32fast::Hasher::new();
    let first = tape.at(from, length.min(128).size()).to_vec();
    let (mut at, end) = (from, from.plus(length));
    while at < end {
        let bytes = tape.rest(at);
        let take = end.minus(at).min(bytes.len().wide());
        if take == 0 {
            return None;
        }
        sum.update(bytes.part(0, take.size()));
        at = at.plus(take);
    }
    Some((sum.finalize(), first))
}

/// The next mark from `from` on.
fn next(tape: &mut Tape<'_>, from: u64) -> Option<u64> {
    let mut at = from;
    loop {
        let bytes = tape.at(at, 64 << 10);
        let found = bytes.windows(4).position(|piece| matches!(piece, b"PK\x03\x04" | b"PK\x01\x02"));
        if let Some(found) = found {
            return Some(at.plus(found.wide()));
        }
        if bytes.len() < 64 << 10 {
            return None;
        }
        at = at.plus(bytes.len().wide().minus(3));
    }
}

/// The central directory and the end.
fn directory(tape: &mut Tape<'_>, from: u64, parts: u64, proof: bool) -> End {
    let (mut at, mut count) = (from, 0_u64);
    // Some writers put signatures of their own before it.
    loop {
        let head = tape.at(at, 56);
        if head.len() < 22 {
            return End::early(from, tape.length());
        }
        match head.part(0, 4) {
            b"PK\x01\x02" => {
                let more =
                    [28, 30, 32].iter().fold(46_u64, |sum, place| sum.plus(u64::from(head.le16(*place))));
                (at, count) = (at.plus(more), count.plus(1));
            }
            b"PK\x06\x06" => at = at.plus(12).plus(head.le64(4)),
            b"PK\x06\x07" => at = at.plus(20),
            b"PK\x05\x06" => {
                if count != parts {
                    return End::unfit(from, at, "a directory that does not name all parts");
                }
                let end = at.plus(22).plus(u64::from(head.le16(20)));
                return if end > tape.length() {
                    End::early(from, tape.length())
                } else {
                    End::whole(end, if proof { Proof::Content } else { Proof::Structure })
                };
            }
            _ if parts == 0 => return End::unfit(0, at, "no part begins"),
            _ => return End::unfit(at, at, "neither a part nor the directory begins"),
        }
    }
}

pub(super) fn seven(tape: &mut Tape<'_>) -> End {
    let head = tape.at(0, 32).to_vec();
    let (place, length) = (head.le64(12), head.le64(20));
    if crc32fast::hash(head.part(12, 20)) != head.le32(8) {
        return End::unfit(0, 32, "a head whose sum does not fit");
    }
    let end = place.plus(length).plus(32);
    if end > tape.length() || length > 1 << 26 {
        return End::early(32, tape.length());
    }
    match checksum(tape, place.plus(32), length) {
        // The content has sums of its own, packed in the index.
        Some((sum, _)) if sum == head.le32(28) => End::whole(end, Proof::Structure),
        _ => End::unfit(32, end, "its index is not where it should be"),
    }
}
