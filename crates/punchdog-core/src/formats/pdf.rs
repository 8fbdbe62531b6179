//! PDF documents (ISO 32000-1, 7.5).
//!
//! ```text
//! %PDF-1.n … objects … xref or an object with the same in it … startxref, where that stands, %%EOF
//! changes are added behind: objects, xref, startxref, %%EOF again
//! ```

use super::{End, Format, Proof, Tape, Walked};
use crate::arith::{Peek, Sat};

/// Bytes without an end that are looked through.
const MOST: u64 = 1 << 30;
const MARK: &[u8] = b"%%EOF";

pub(super) fn walk(tape: &mut Tape<'_>) -> Walked {
    let mut walked = Walked::of(Format::Pdf, End::early(0, 0));
    let (mut at, mut good) = (0_u64, None);
    let most = MOST.min(tape.length());
    while at < most {
        let bytes = tape.at(at, 64 << 10);
        let Some(found) = bytes.windows(MARK.len()).position(|piece| piece == MARK) else {
            at = at.plus(bytes.len().wide().minus(MARK.len().wide()).max(1));
            continue;
        };
        at = at.plus(found.wide());
        let end = behind(tape, at.plus(MARK.len().wide()));
        let led = leads(tape, at);
        if led {
            good = Some(end);
        }
        at = end;
        // What is added later begins with an object.
        if led && !goes_on(tape, end) {
            break;
        }
    }
    walked.end = match good {
        Some(length) => End::whole(length, Proof::Structure),
        None => End::Broken { good: 0, at: at.min(tape.length()), why: super::Why::EndsEarly },
    };
    if good.is_some() {
        walked.title = title(tape);
    }
    walked
}

/// Behind the end of the line.
fn behind(tape: &mut Tape<'_>, at: u64) -> u64 {
    match tape.at(at, 2) {
        b"\r\n" => at.plus(2),
        [b'\r' | b'\n', ..] => at.plus(1),
        _ => at,
    }
}

/// The mark at `at` belongs to a table that stands where it says.
fn leads(tape: &mut Tape<'_>, at: u64) -> bool {
    let from = at.minus(64);
    let before = tape.at(from, at.minus(from).size()).to_vec();
    let word = b"startxref";
    let Some(place) = before.windows(word.len()).rposition(|piece| piece == word) else { return false };
    let rest = before.get(place.plus(word.len())..).unwrap_or(&[]);
    let digits: Vec<u8> =
        rest.iter().copied().skip_while(u8::is_ascii_whitespace).take_while(u8::is_ascii_digit).collect();
    let Some(table) = std::str::from_utf8(&digits).ok().and_then(|text| text.parse::<u64>().ok()) else {
        return false;
    };
    // The first part of a document made for the net names no table.
    let there = tape.at(table, 24).to_vec();
    let there = there.trim_ascii_start();
    table > 0 && table < at && (there.starts_with(b"xref") || is_object(there))
}

/// `N N obj`.
fn is_object(bytes: &[u8]) -> bool {
    let mut words = bytes.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
    let mut number = || words.next().is_some_and(|word| word.iter().all(u8::is_ascii_digit));
    number() && number() && words.next().is_some_and(|word| word.starts_with(b"obj"))
}

fn goes_on(tape: &mut Tape<'_>, at: u64) -> bool {
    let next = tape.at(at, 64).trim_ascii_start();
    is_object(next) || next.starts_with(b"xref") || next.starts_with(b"%")
}

/// The title, where it stands in plain text near the beginning or the end.
fn title(tape: &mut Tape<'_>) -> Option<String> {
    let head = tape.at(0, 64 << 10);
    let word = b"/Title";
    let place = head.windows(word.len()).position(|piece| piece == word)?;
    let text = head.part(place.plus(word.len()), 256).trim_ascii_start().strip_prefix(b"(")?;
    let end = text.iter().position(|byte| *byte == b')')?;
    let text = std::str::from_utf8(text.get(..end)?).ok()?.trim();
    (!text.is_empty() && !text.contains('\\')).then(|| text.chars().take(80).collect())
}
