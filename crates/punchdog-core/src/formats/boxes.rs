//! The box format: MP4, MOV, 3GP films, M4A sounds, HEIF and AVIF pictures (ISO/IEC 14496-12, 4.2; ISO/IEC 23008-12).
//!
//! ```text
//! box: length (4; 1: 8 bytes behind the type; 0: to the end), type (4), content
//! ftyp: brand (4), …       moov: the index (mvhd: times)       mdat: the data       meta: the index of pictures
//! ```
//!
//! A recorder writes the data first and the index last: where it lost power, there is a data box without an index.

use super::{End, Format, Proof, Tape, Walked, Why};
use crate::arith::{Peek, Sat};
use jiff::{Timestamp, civil::DateTime, tz::Offset};

/// Boxes at the top of a file at most.
const MOST: usize = 100_000;
/// Boxes that stand at the top of files.
const KNOWN: [&[u8; 4]; 22] = [
    b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"meta", b"uuid", b"moof", b"mfra", b"sidx",
    b"ssix", b"styp", b"pnot", b"udta", b"pdin", b"junk", b"PICT", b"prft", b"emsg", b"idat", b"mpvd",
];

/// The kind of file that a brand stands for.
pub(super) fn of_brand(brand: &[u8]) -> Option<Format> {
    Some(match brand {
        b"heic" | b"heix" | b"hevc" | b"hevx" | b"heim" | b"heis" | b"mif1" | b"msf1" => Format::Heif,
        b"avif" | b"avis" => Format::Avif,
        b"qt  " => Format::Mov,
        b"M4A " | b"M4B " => Format::M4a,
        _ if brand.starts_with(b"3g") => Format::ThreeGp,
        _ if brand.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b' ') => Format::Mp4,
        _ => return None,
    })
}

pub(super) fn walk(format: Format, tape: &mut Tape<'_>) -> Walked {
    let mut walked = Walked::of(format, End::early(0, 0));
    let (mut at, mut index, mut data, mut furthest) = (0_u64, false, None, 0_u64);
    for _ in 0..MOST {
        let head = tape.at(at, 16);
        let kind = [head.byte(4), head.byte(5), head.byte(6), head.byte(7)];
        let known = head.len() >= 8 && KNOWN.contains(&&kind);
        let (length, own) = match head.be32(0) {
            1 => (head.be64(8), 16_u64),
            length => (u64::from(length), 8),
        };
        // What may stand at the top ends the file by standing there; so does the end.
        if !known || (length < own && length != 0) {
            break;
        }
        let end = at.plus(length);
        if length == 0 || end > tape.length() {
            if &kind == b"mdat" && !index {
                data = Some(at);
                break;
            }
            walked.end = End::early(at, tape.length());
            return walked;
        }
        match &kind {
            b"moov" => {
                index = true;
                let about = tape.at(at, length.min(1 << 20).size()).to_vec();
                let mut seen = Index::default();
                inside(&about, 8, about.len(), 0, &mut seen);
                walked.taken = seen.taken;
                furthest = furthest.max(seen.furthest);
                if seen.broken && length <= 1 << 20 {
                    walked.end = End::unfit(at, end, "an index that cannot be");
                    return walked;
                }
            }
            b"meta" => {
                index = true;
                let about = tape.at(at, length.min(1 << 20).size()).to_vec();
                let mut seen = Index::default();
                inside(&about, 12, about.len(), 0, &mut seen);
                if seen.broken && length <= 1 << 20 {
                    walked.end = End::unfit(at, end, "an index that cannot be");
                    return walked;
                }
            }
            b"moof" => index = true,
            b"mdat" => data = Some(at),
            _ => {}
        }
        at = end;
    }
    walked.end = match data {
        Some(_) if index && furthest <= at => End::whole(at, Proof::Structure),
        Some(_) if index => End::unfit(at, at, "the index leads behind the data"),
        Some(from) => {
            let end = data_end(tape, from);
            let what = "the film was never closed: its index was never written";
            End::Broken { good: end, at: end, why: Why::NeverClosed(what) }
        }
        None => End::unfit(at, at, "no box begins"),
    };
    walked
}

/// How far data goes whose box has no end: to the length that it states, or to the zeros behind it.
fn data_end(tape: &mut Tape<'_>, from: u64) -> u64 {
    let head = tape.at(from, 16);
    let stated = if head.be32(0) == 1 { head.be64(8) } else { u64::from(head.be32(0)) };
    if stated > 16 && from.plus(stated) <= tape.length() {
        return from.plus(stated);
    }
    tape.unended(from.plus(16), from.plus(64 << 30))
}

/// What an index says.
#[derive(Default)]
struct Index {
    taken: Option<DateTime>,
    /// The last place of a piece of data that it names.
    furthest: u64,
    broken: bool,
}

/// Boxes within boxes.
fn inside(bytes: &[u8], mut at: usize, end: usize, depth: u32, seen: &mut Index) {
    while at.plus(8) <= end {
        let length = bytes.be32(at).size();
        let kind = bytes.part(at.plus(4), 4);
        // Some writers end a list of boxes with four zeros.
        if length == 0 {
            return;
        }
        let stop = at.plus(length);
        if length < 8 || stop > end || !kind.iter().all(|byte| (0x20..=0x7E).contains(byte) || *byte == 0xA9)
        {
            seen.broken = true;
            return;
        }
        match kind {
            b"trak" | b"mdia" | b"minf" | b"stbl" if depth < 8 => {
                inside(bytes, at.plus(8), stop, depth.plus(1), seen);
            }
            b"mvhd" => {
                let wide = bytes.byte(at.plus(8)) == 1;
                let made = if wide { bytes.be64(at.plus(12)) } else { u64::from(bytes.be32(at.plus(12))) };
                seen.taken = since_1904(made);
            }
            b"stco" | b"co64" => {
                let each = if kind == b"stco" { 4 } else { 8 };
                let count = bytes.be32(at.plus(12)).size();
                if count.times(each).plus(16) > length {
                    seen.broken = true;
                    return;
                }
                let last = at.plus(16).plus(count.minus(1).times(each));
                if count > 0 {
                    let place = if each == 4 { u64::from(bytes.be32(last)) } else { bytes.be64(last) };
                    seen.furthest = seen.furthest.max(place);
                }
            }
            _ => {}
        }
        at = stop;
    }
}

/// Seconds since the beginning of 1904 (ISO/IEC 14496-12, 8.2.2.3).
fn since_1904(seconds: u64) -> Option<DateTime> {
    let unix = i64::try_from(seconds).ok()?.checked_sub(2_082_844_800)?;
    let time = Timestamp::from_second(unix).ok().filter(|_| unix > 0)?;
    Some(Offset::UTC.to_datetime(time))
}
