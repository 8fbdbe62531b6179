//! The box format: MP4, MOV, 3GP films, M4A sounds, HEIF and AVIF pictures (ISO/IEC 14496-12, 4.2; ISO/IEC 23008-12).
//!
//! ```text
//! box: length (4; 1: 8 bytes behind the type; 0: to the end), type (4), content
//! ftyp: brand (4), …       moov: the index (mvhd: times)       mdat: the data       meta: the index of pictures
//! ```
//!
//! The index has a table of the samples of each track (`film.rs`). A recorder writes the data first and the index last: where it lost power, there is a data box without an index.

use super::{
    End, Format, Proof, Tape, Walked, Why,
    film::{self, Samples, Stand, TRACKS, Track},
};
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
    walk_with_stands(format, tape, 0).0
}

/// The same with the places to go on from where a sample of a film broke.
pub(super) fn walk_with_stands(format: Format, tape: &mut Tape<'_>, grid: u64) -> (Walked, Vec<Stand>) {
    let (mut walked, tracks) = boxes(format, tape);
    let End::Whole { length, .. } = walked.end else { return (walked, Vec::new()) };
    let mut samples = Samples::of(&tracks);
    let Some((number, broken)) = samples.broken(tape) else { return (walked, Vec::new()) };
    let good = if let End::Broken { good, .. } = &broken { *good } else { length };
    walked.end = broken;
    walked.reaches = Some(length);
    // How many fragments there are is seen by walking on.
    if tracks.iter().any(Track::is_in_fragments) {
        return (walked, Vec::new());
    }
    (walked, samples.stands(format, (number, good), grid, length))
}

/// Where the index of a film should begin that has none where its data ends.
pub(super) fn index_due(tape: &mut Tape<'_>) -> Option<u64> {
    let mut at = 0_u64;
    let mut data = false;
    for _ in 0..MOST {
        let head = tape.at(at, 16);
        let kind = [head.byte(4), head.byte(5), head.byte(6), head.byte(7)];
        let length = if head.be32(0) == 1 { head.be64(8) } else { u64::from(head.be32(0)) };
        if !KNOWN.contains(&&kind) {
            return data.then_some(at);
        }
        let end = at.plus(length);
        if length < 8 || end >= tape.length() || matches!(&kind, b"moov" | b"moof") {
            return None;
        }
        data |= &kind == b"mdat";
        at = end;
    }
    None
}

/// An index stands here that leads to data up to nearly `due`.
pub(super) fn is_index(tape: &mut Tape<'_>, due: u64) -> bool {
    let head = tape.at(0, 16).to_vec();
    if head.part(4, 4) != b"moov" || !head.part(12, 4).is_ascii() {
        return false;
    }
    let mut seen = Index::default();
    inside(tape, 8, u64::from(head.be32(0)), 0, &mut seen);
    let furthest = furthest(&seen.tracks).max(Samples::of(&seen.tracks).end());
    !seen.broken && furthest <= due && furthest >= due.per(4).times(3)
}

fn furthest(tracks: &[Track]) -> u64 {
    tracks.iter().map(Track::furthest).max().unwrap_or(0)
}

/// The boxes of a file, and the tracks that its index speaks of.
fn boxes(format: Format, tape: &mut Tape<'_>) -> (Walked, Vec<Track>) {
    let mut walked = Walked::of(format, End::early(0, 0));
    let (mut at, mut index, mut data, mut seen) = (0_u64, false, None, Index::default());
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
            return (walked, Vec::new());
        }
        match &kind {
            b"moov" | b"meta" => {
                index = true;
                // The version of a meta box stands before what is in it.
                let skip = if &kind == b"moov" { own } else { own.plus(4) };
                inside(tape, at.plus(skip), end, 0, &mut seen);
                walked.taken = walked.taken.or(seen.taken);
                if seen.broken {
                    walked.end = End::unfit(at, end, "an index that cannot be");
                    return (walked, Vec::new());
                }
            }
            b"moof" => {
                index = true;
                film::take_fragment(tape, (at, at.plus(own), end), &mut seen.tracks);
            }
            b"mdat" => data = Some(at),
            _ => {}
        }
        at = end;
    }
    let furthest = furthest(&seen.tracks);
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
    (walked, seen.tracks)
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
    tracks: Vec<Track>,
    /// Boxes that were looked at.
    boxes: usize,
    broken: bool,
}

/// Boxes within boxes, from `at` to `end`.
fn inside(tape: &mut Tape<'_>, mut at: u64, end: u64, depth: u32, seen: &mut Index) {
    while at.plus(8) <= end && seen.boxes < MOST && !seen.broken {
        seen.boxes = seen.boxes.plus(1);
        let head = tape.at(at, 32).to_vec();
        let length = u64::from(head.be32(0));
        let kind = [head.byte(4), head.byte(5), head.byte(6), head.byte(7)];
        // Some writers end a list of boxes with four zeros.
        if length == 0 {
            return;
        }
        let stop = at.plus(length);
        let named = kind.iter().all(|byte| (0x20..=0x7E).contains(byte) || *byte == 0xA9);
        if length < 8 || stop > end || !named {
            seen.broken = true;
            return;
        }
        match &kind {
            b"trak" if depth == 0 && seen.tracks.len() < TRACKS => {
                seen.tracks.push(Track::default());
                inside(tape, at.plus(8), stop, depth.plus(1), seen);
            }
            b"mdia" | b"minf" | b"stbl" if depth < 8 => {
                inside(tape, at.plus(8), stop, depth.plus(1), seen);
            }
            b"mvex" if depth == 0 => inside(tape, at.plus(8), stop, depth.plus(1), seen),
            b"trex" => film::take_usual(tape, at, &mut seen.tracks),
            b"mvhd" => {
                let wide = head.byte(8) == 1;
                let made = if wide { head.be64(12) } else { u64::from(head.be32(12)) };
                seen.taken = since_1904(made);
            }
            _ => {
                if let Some(track) = seen.tracks.last_mut() {
                    seen.broken |= !track.take(kind, tape, at, stop);
                }
            }
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
