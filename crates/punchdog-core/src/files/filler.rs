//! Text that an imager wrote where it could not read.
//!
//! Programs that image failing media fill what they could not read: with zeros, or with a short text again and
//! again. Such sectors pass for content. They are told by their shape: printable, one phrase of at most 64
//! bytes repeated through the whole sector, and a word in it that says what it is.

use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
};

/// Bytes that are judged together.
const SECTOR: usize = 512;
/// The longest phrase.
const LONGEST: usize = 64;
/// Words that such phrases have; ordinary text that repeats itself has none of them so often.
const WORDS: [&str; 10] = [
    "UNREADABLE",
    "BAD SECTOR",
    "BADSECTOR",
    "BAD BLOCK",
    "READ ERROR",
    "READ FAIL",
    "I/O ERROR",
    "NOT READ",
    "MISSING",
    "SKIPPED",
];

/// Filler that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filler {
    /// Where the first of it stands: bytes from the start of what was looked at.
    pub at: u64,
    /// Bytes of it.
    pub bytes: u64,
    /// The phrase.
    pub phrase: String,
}

impl Filler {
    /// What is to be said of a file that holds it.
    pub fn note(&self) -> String {
        format!(
            "{} bytes of it, the first at byte {}, are text that an imager wrote in place of what it could not read: \"{}\"",
            self.bytes, self.at, self.phrase
        )
    }
}

/// The phrase that fills `sector`, if one does.
pub fn phrase(sector: &[u8]) -> Option<String> {
    let printable = |byte: &u8| (0x20..0x7F).contains(byte) || matches!(byte, b'\r' | b'\n' | 0);
    // Most sectors are told by their first bytes.
    if sector.len() < SECTOR || !sector.iter().take(16).all(printable) {
        return None;
    }
    let start = sector.get(..4)?;
    let period = (4..=LONGEST).find(|period| {
        sector.get(*period..period.plus(4)) == Some(start)
            && sector.iter().zip(sector.iter().skip(*period)).all(|(one, other)| one == other)
    })?;
    let text: String =
        sector.iter().take(period).filter(|byte| **byte >= 0x20).map(|byte| char::from(*byte)).collect();
    let upper = text.to_ascii_uppercase();
    // A phrase can begin anywhere in its own repetition.
    let twice = format!("{upper}{upper}");
    WORDS.iter().any(|word| twice.contains(word)).then(|| text.trim().to_owned())
}

/// Tells of the entries of a folder, in order, which stand in sectors that an imager filled: they are none.
#[derive(Debug, Default)]
pub(crate) struct Filled {
    /// Where the sector ends that was looked at last.
    end: usize,
    filled: bool,
}

impl Filled {
    /// True of what stands at byte `at`.
    #[inline]
    pub(crate) fn at(&mut self, bytes: &[u8], at: usize) -> bool {
        if at >= self.end {
            let start = at.per(SECTOR).times(SECTOR);
            self.end = start.plus(SECTOR);
            self.filled = phrase(bytes.part(start, SECTOR)).is_some();
        }
        self.filled
    }
}

/// Collects filler from content that is given piece by piece, in order.
#[derive(Debug, Default)]
pub struct Search {
    read: u64,
    found: Option<Filler>,
}

impl Search {
    /// Looks at the next bytes; pieces begin at a sector.
    pub fn take(&mut self, bytes: &[u8]) {
        for (number, sector) in bytes.chunks(SECTOR).enumerate() {
            if let Some(phrase) = phrase(sector) {
                let at = self.read.plus(number.times(SECTOR).wide());
                let found = self.found.get_or_insert(Filler { at, bytes: 0, phrase });
                found.bytes = found.bytes.plus(SECTOR.wide());
            }
        }
        self.read = self.read.plus(bytes.len().wide());
    }
    /// Notes so many bytes that are no filler, whole sectors of them.
    pub fn skip(&mut self, bytes: u64) {
        self.read = self.read.plus(bytes);
    }
    /// What was found.
    pub fn found(self) -> Option<Filler> {
        self.found
    }
}

/// Places that are looked at, and bytes of each.
const LOOKED_AT: (usize, u64) = (256, 64 << 10);

/// Filler where structures should stand, in the first of these places.
pub(crate) fn in_places(medium: &dyn Medium, places: impl Iterator<Item = Extent>) -> Option<Filler> {
    places.take(LOOKED_AT.0).find_map(|extent| {
        let start = extent.offset.per(SECTOR.wide()).times(SECTOR.wide());
        let end = extent.end().per_up(SECTOR.wide()).times(SECTOR.wide()).min(medium.len());
        let piece = Extent::new(start, end.minus(start).min(LOOKED_AT.1));
        let mut search = Search::default();
        search.take(&medium.lenient(piece.offset, piece.length.size()).bytes);
        search.found().map(|filler| Filler { at: filler.at.plus(start), ..filler })
    })
}

/// What probably happened where structures are filler.
pub(crate) fn likely(filler: &Filler) -> String {
    format!(
        "the medium is failing: at byte {} of the volume stands text that an imager wrote in place of what it could not read (\"{}\"); image those places again, with another reader, before anything else",
        filler.at, filler.phrase
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filled(phrase: &[u8]) -> Vec<u8> {
        phrase.iter().copied().cycle().take(SECTOR).collect()
    }

    #[test]
    fn filler_is_told_from_text_that_repeats_itself() {
        assert_eq!(phrase(&filled(b"UNREADABLE SECTOR ")).as_deref(), Some("UNREADABLE SECTOR"));
        assert_eq!(phrase(&filled(b"ECTOR bad S")).as_deref(), Some("ECTOR bad S"));
        assert_eq!(phrase(&filled(b"read error\n")).as_deref(), Some("read error"));
        for other in [&b"0;0.00;0.00\r\n"[..], b"ledge 9, nobody\r\n", b"\0\0\0\0", b"aaaa"] {
            assert_eq!(phrase(&filled(other)), None, "{other:?}");
        }
        let mut broken = filled(b"UNREADABLE SECTOR ");
        broken[300] = b'x';
        assert_eq!(phrase(&broken), None);
        let mut search = Search::default();
        search.take(&[&[1; SECTOR][..], &filled(b"BAD SECTOR ")].concat());
        search.take(&filled(b"BAD SECTOR "));
        let found = search.found().unwrap();
        assert_eq!((found.at, found.bytes), (512, 1024));
    }
}
