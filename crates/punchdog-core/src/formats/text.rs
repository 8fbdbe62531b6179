//! Plain text, and tables of values in it: UTF-8, UTF-16 with its mark, or one byte a letter.
//!
//! Nothing says where a text ends but what follows it: the zeros that fill its last cluster, or bytes that are no text.

use super::{End, Format, Proof, Tape};
use crate::arith::{Peek, Sat};

/// Bytes that are looked through.
const MOST: u64 = 4 << 30;
/// Shorter ones are not believed.
const LEAST: u64 = 32;

/// What texts are made of.
fn is_letter(byte: u8) -> bool {
    byte >= 0x20 && byte != 0x7F || matches!(byte, b'\t' | b'\r' | b'\n' | 0x0C)
}

/// Text begins here: plain, with most of it letters, digits and spaces.
pub(super) fn begins(bytes: &[u8]) -> Option<Format> {
    if bytes.starts_with(&[0xFF, 0xFE]) || bytes.starts_with(&[0xFE, 0xFF]) {
        let little = bytes.byte(0) == 0xFF;
        let units = bytes.get(2..66)?.chunks_exact(2);
        let plain = units
            .filter(|pair| pair.byte(usize::from(little)) == 0 && is_letter(pair.byte(usize::from(!little))));
        return (plain.count() > 24).then_some(Format::Text);
    }
    let bytes = bytes.strip_prefix(&[0xEF, 0xBB, 0xBF]).unwrap_or(bytes);
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    let text = bytes.get(..end).filter(|text| text.len().wide() >= LEAST)?;
    if !text.iter().all(|byte| is_letter(*byte)) || !bytes.part(end, 64).iter().all(|byte| *byte == 0) {
        return None;
    }
    let valid = std::str::from_utf8(text).map_or_else(|error| error.error_len().is_none(), |_| true);
    let common = text
        .iter()
        .filter(|byte| {
            byte.is_ascii_alphanumeric() || byte.is_ascii_whitespace() || matches!(byte, b',' | b';' | b'.')
        })
        .count();
    // Of text in one byte a letter, nearly all are of the common ones.
    let needed = if valid { text.len().times(4).per(10) } else { text.len().times(85).per(100) };
    if common < needed {
        return None;
    }
    Some(if is_table(text) { Format::Csv } else { Format::Text })
}

/// Rows with the same number of separators in each.
fn is_table(text: &[u8]) -> bool {
    let lines: Vec<&[u8]> = text.split(|byte| *byte == b'\n').collect();
    // The last may be cut.
    let Some((_, lines)) = lines.split_last().filter(|(_, lines)| lines.len() >= 3) else { return false };
    [b',', b';', b'\t'].iter().any(|separator| {
        let of = |line: &&[u8]| line.split(|byte| byte == separator).count();
        let first = lines.first().map_or(0, of);
        first > 1 && lines.iter().all(|line| of(line) == first)
    })
}

/// Behind the last byte that can be text: of UTF-8, if it begins as that, else of one byte a letter.
pub(super) fn extent(tape: &mut Tape<'_>, most: u64) -> u64 {
    let start = tape.at(0, 512);
    let end = start.iter().position(|byte| !is_letter(*byte)).unwrap_or(start.len());
    let unicode = valid(start.part(0, end)) == end || end.minus(valid(start.part(0, end))) < 4 && end == 512;
    let mut at = 0_u64;
    while at < most {
        let bytes = tape.at(at, 64 << 10);
        let letters = bytes.iter().position(|byte| !is_letter(*byte)).unwrap_or(bytes.len());
        let fits = if unicode { valid(bytes.part(0, letters)) } else { letters };
        at = at.plus(fits.wide());
        // A character can be cut by the end of what was looked at.
        if bytes.len() < 64 << 10 || bytes.len().minus(fits) > 3 {
            break;
        }
    }
    at
}

/// Bytes at the beginning that are UTF-8.
fn valid(bytes: &[u8]) -> usize {
    std::str::from_utf8(bytes).map_or_else(|error| error.valid_up_to(), str::len)
}

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let wide = matches!(tape.at(0, 2), [0xFF, 0xFE] | [0xFE, 0xFF]);
    let end = if wide { wide_extent(tape) } else { extent(tape, MOST) };
    if end < LEAST {
        return End::unfit(end, end, "no text");
    }
    // A text that fills its last sector may go on elsewhere: that cannot be told.
    let over = end.rest(512);
    if over > 0 && tape.at(end, 512_u64.minus(over).size()).iter().any(|byte| *byte != 0) {
        return End::unfit(end, end, "something that is no text");
    }
    End::whole(end, Proof::Structure)
}

/// The same for two bytes a letter.
fn wide_extent(tape: &mut Tape<'_>) -> u64 {
    let mut at = 0_u64;
    while at < MOST {
        let bytes = tape.at(at, 4096);
        let pairs = bytes.chunks_exact(2);
        let all = pairs.len();
        let end = bytes.chunks_exact(2).position(|pair| pair == [0, 0]).unwrap_or(all);
        at = at.plus(end.times(2).wide());
        if end < all || all < 2048 {
            break;
        }
    }
    at
}
