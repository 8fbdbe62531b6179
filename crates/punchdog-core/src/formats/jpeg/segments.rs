//! The segments before the picture itself: what programs wrote there is passed over by its length.
//!
//! Where a piece of the file is missing within one of them, nothing breaks before its end. What is in it can tell: a small
//! picture of its own, or text.

use super::super::{End, Tape, tiff};
use crate::arith::{Peek, Sat};

/// Segments that are looked at.
const MOST: usize = 4096;
/// Bytes of the name before a text.
const NAME: usize = 64;

/// A segment: its code, where its marker stands, its bytes with the marker.
struct Segment {
    code: u8,
    at: u64,
    length: u64,
}

impl Segment {
    fn end(&self) -> u64 {
        self.at.plus(self.length)
    }
}

/// The segments that follow one another, up to a scan's, or to what is none.
fn segments(tape: &mut Tape<'_>) -> Vec<Segment> {
    let (mut at, mut found) = (2_u64, Vec::new());
    while found.len() < MOST {
        let head = tape.at(at, 4);
        let (mark, code, length) = (head.byte(0), head.byte(1), u64::from(head.be16(2)));
        let has_length = matches!(code, 0xC0..=0xCF | 0xDA..=0xFE) && length >= 2;
        if mark != 0xFF || !has_length || at.plus(length) > tape.length() {
            break;
        }
        found.push(Segment { code, at, length: length.plus(2) });
        if code == 0xDA {
            break;
        }
        at = at.plus(length).plus(2);
    }
    found
}

/// Where the segment begins that ends at `end`.
pub(in crate::formats) fn ending_at(tape: &mut Tape<'_>, end: u64) -> Option<u64> {
    segments(tape).into_iter().find(|segment| segment.end() == end).map(|segment| segment.at)
}

/// True for two bytes that can stand behind a segment.
pub(in crate::formats) fn can_follow(bytes: &[u8]) -> bool {
    bytes.byte(0) == 0xFF && matches!(bytes.byte(1), 0xC0..=0xCF | 0xDA..=0xFF)
}

/// Bytes of the head that are surely the file's own: of segments behind which another one begins.
pub(in crate::formats) fn own(tape: &mut Tape<'_>) -> u64 {
    segments(tape).last().map_or(0, |last| last.at)
}

/// In how many segments what is in them fits: a small picture is whole, text is text.
pub(in crate::formats) fn that_fit(tape: &mut Tape<'_>) -> usize {
    let there = segments(tape);
    let bodies = there.iter().filter(|segment| segment.code == 0xE1);
    let fit = bodies.filter(|segment| {
        let body = tape.at(segment.at.plus(4), segment.length.minus(4).size());
        match body.strip_prefix(b"Exif\0\0") {
            Some(exif) => small_picture(exif),
            None => is_text(body),
        }
    });
    fit.count()
}

/// The small picture that EXIF tells of is whole.
fn small_picture(exif: &[u8]) -> bool {
    let Some(place) = tiff::small_picture(exif) else { return false };
    let bytes = exif.get(place).unwrap_or(&[]);
    let walked = super::walk(&mut Tape::new(&bytes), None).0;
    matches!(walked.end, End::Whole { .. })
}

/// Text, which may stand behind a name that ends with a zero.
fn is_text(body: &[u8]) -> bool {
    let named = body.iter().take(NAME).position(|byte| *byte == 0);
    let text = body.get(named.map_or(0, |at| at.plus(1))..).unwrap_or(&[]);
    let fits = |letter: char| !letter.is_control() || letter.is_whitespace();
    str::from_utf8(text).is_ok_and(|text| text.chars().all(fits))
}
