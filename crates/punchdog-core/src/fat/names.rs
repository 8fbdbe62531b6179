//! Short and long names (FAT specification, "FAT Directory Structure" and "Long File Name
//! Implementation"): how they are read, what is legal, and how one answers for the other.

use super::layout::{LONG_PARTS, LONG_UNITS, LongEntry};
use crate::{
    arith::{Peek, Sat},
    files::utf16,
};
use oem_cp::code_table::{DECODING_TABLE_CP437, ENCODING_TABLE_CP437};

/// A short name as it stands on the disk.
pub type Short = [u8; 11];

/// `.`, padded.
pub const DOT: Short = *b".          ";
/// `..`, padded.
pub const DOT_DOT: Short = *b"..         ";

/// The checksum that each part of a long name carries of its short name.
pub fn checksum(short: &Short) -> u8 {
    short.iter().fold(0_u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}

/// True for a byte that a short name may hold.
fn legal(byte: u8) -> bool {
    !matches!(byte, 0..=0x1f | b'"' | b'*'..=b',' | b'.' | b'/' | b':'..=b'?' | b'['..=b']' | b'|' | b'a'..=b'z')
}

/// True when each byte of a short name is legal, and it does not begin with a space.
pub fn short_is_legal(short: &Short) -> bool {
    let [first, rest @ ..] = short;
    (legal(*first) || *first == 0x05) && *first != b' ' && rest.iter().all(|byte| legal(*byte))
}

/// The same name with illegal bytes replaced: lower case raised, anything else an underline.
pub fn made_legal(short: &Short) -> Short {
    let mut fixed = *short;
    for (index, byte) in fixed.iter_mut().enumerate() {
        let leading = index == 0 && (*byte == b' ' || *byte == 0x05);
        if !legal(*byte) || leading {
            let raised = byte.to_ascii_uppercase();
            *byte = if legal(raised) && raised != b' ' { raised } else { b'_' };
        }
    }
    fixed
}

fn oem(bytes: &[u8]) -> String {
    oem_cp::decode_string_complete_table(bytes, &DECODING_TABLE_CP437)
}

fn trimmed(bytes: &[u8]) -> &[u8] {
    let end = bytes.iter().rposition(|byte| *byte != b' ').map_or(0, |last| last.plus(1));
    bytes.part(0, end)
}

/// A short name for people: `README.TXT`; the convention bits of `case` lower each half.
pub fn short_text(short: &Short, case: u8) -> String {
    let mut whole = *short;
    if let [first @ 0x05, ..] = &mut whole {
        *first = 0xE5;
    }
    let (base, extension) = whole.split_at(8);
    let half = |bytes: &[u8], lower: bool| {
        let text = oem(trimmed(bytes));
        if lower { text.to_lowercase() } else { text }
    };
    let base = half(base, case & 0x08 != 0);
    let extension = half(extension, case & 0x10 != 0);
    if extension.is_empty() { base } else { format!("{base}.{extension}") }
}

/// A volume label for people.
pub fn label_text(label: &Short) -> String {
    oem(trimmed(label))
}

/// The units of parts in the order of the name, cut at the terminating zero.
pub fn long_units(parts: &[LongEntry]) -> Vec<u16> {
    let units = parts.iter().rev().flat_map(LongEntry::units);
    units.take_while(|unit| *unit != 0).collect()
}

/// A long name for people; a lone surrogate becomes the replacement character.
pub fn long_text(units: &[u16]) -> String {
    utf16::text(units.iter().copied())
}

fn is_forbidden(c: char) -> bool {
    matches!(c, '\0'..='\x1f' | '"' | '*' | '/' | ':' | '<' | '>' | '?' | '\\' | '|')
}

/// True when no character of a long name is forbidden.
pub fn long_is_legal(name: &str) -> bool {
    !name.is_empty() && !name.chars().any(is_forbidden)
}

/// The name with forbidden characters replaced by an underline.
pub fn long_made_legal(name: &str) -> String {
    name.chars().map(|c| if is_forbidden(c) { '_' } else { c }).collect()
}

/// The parts of a long name as they stand before the short entry: last part first.
pub fn long_parts(name: &str, checksum: u8) -> Vec<LongEntry> {
    let mut units: Vec<u16> = name.encode_utf16().take(LONG_PARTS.times(LONG_UNITS).minus(5)).collect();
    if units.len().rest(LONG_UNITS) != 0 {
        units.push(0);
        units.resize(units.len().per_up(LONG_UNITS).times(LONG_UNITS), 0xFFFF);
    }
    let count = units.len().per(LONG_UNITS);
    let mut parts = Vec::with_capacity(count);
    for (index, chunk) in units.chunks(LONG_UNITS).enumerate() {
        let mut order = u8::try_from(index.plus(1)).unwrap_or(u8::MAX);
        if index.plus(1) == count {
            order |= super::layout::LAST_LONG;
        }
        let mut fixed = [0xFFFF; LONG_UNITS];
        for (place, unit) in fixed.iter_mut().zip(chunk) {
            *place = *unit;
        }
        parts.push(LongEntry::with_units(order, checksum, fixed));
    }
    parts.reverse();
    parts
}

/// The characters of a long name that a short name keeps, raised, in the order they stand.
fn basis(text: &str) -> Vec<u8> {
    let kept = text.chars().filter(|c| !matches!(c, ' ' | '.'));
    kept.map(|c| {
        let byte = *ENCODING_TABLE_CP437.get(&c).unwrap_or(&b'_');
        let byte = if c.is_ascii() { u8::try_from(c).unwrap_or(b'_') } else { byte };
        let raised = byte.to_ascii_uppercase();
        if legal(raised) { raised } else { b'_' }
    })
    .collect()
}

fn halves(long: &str) -> (&str, &str) {
    let long = long.trim_start_matches('.');
    long.rsplit_once('.').unwrap_or((long, ""))
}

/// True when `short` looks like the short name of `long`: the same beginning up to a `~`, the
/// same extension. Says nothing about which number stands behind the `~`.
pub fn answers(long: &str, short: &Short) -> bool {
    let (base, extension) = halves(long);
    let (base, extension) = (basis(base), basis(extension));
    let (short_base, short_extension) = short.split_at(8);
    let short_base = trimmed(short_base);
    let head = short_base.iter().position(|byte| *byte == b'~').unwrap_or(short_base.len());
    // Hosts shorten to two, four or six characters and may put a hash there: two must agree.
    let same = head.min(2);
    trimmed(short_extension) == extension.part(0, 3)
        && head > 0
        && short_base.part(0, same) == base.part(0, same)
}

/// A short name for `long` that is not in `taken`; `number` counts up until one is free.
pub fn short_for(long: &str, taken: &dyn Fn(&Short) -> bool) -> Short {
    short_from(long, 1, taken).0
}

/// As [`short_for`], with the numbers tried from `from` on; gives the one that is to be tried next. For a
/// crowd of one name, which would be counted through for each of its bearers.
pub fn short_from(long: &str, from: u32, taken: &dyn Fn(&Short) -> bool) -> (Short, u32) {
    let (base, extension) = halves(long);
    let (base_bytes, extension_bytes) = (basis(base), basis(extension));
    let exact =
        base_bytes.len() <= 8 && extension_bytes.len() <= 3 && !long.contains(' ') && !base.contains('.');
    let build = |head: &[u8], tail: &str| {
        let mut short = *b"           ";
        let (low, high) = short.split_at_mut(8);
        for (place, byte) in low.iter_mut().zip(head.iter().chain(tail.as_bytes())) {
            *place = *byte;
        }
        for (place, byte) in high.iter_mut().zip(&extension_bytes) {
            *place = *byte;
        }
        short
    };
    let plain = build(&base_bytes, "");
    if exact && !base_bytes.is_empty() && !taken(&plain) {
        return (plain, from);
    }
    for number in from..1_000_000 {
        let tail = format!("~{number}");
        let head = base_bytes.part(0, 8_usize.minus(tail.len()));
        let short = build(if head.is_empty() { b"_" } else { head }, &tail);
        if !taken(&short) {
            return (short, number.plus(1));
        }
    }
    (plain, from)
}

/// True when the name needs long parts: its short form would not show it as it is.
pub fn needs_long(name: &str, short: &Short) -> bool {
    short_text(short, 0) != name
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn short_names_read_as_people_write_them() {
        assert_eq!(short_text(b"README  TXT", 0), "README.TXT");
        assert_eq!(short_text(b"README  TXT", 0x18), "readme.txt");
        assert_eq!(short_text(b"NOEXT      ", 0), "NOEXT");
        assert_eq!(short_text(b"\x05BC     X  ", 0), "σBC.X");
        assert!(short_is_legal(b"A_B~1   JPG"));
        for bad in [b"lower   TXT", b" LEAD   TXT", b"A*      TXT", b"A\x01      TXT", b"A.B     TXT"] {
            assert!(!short_is_legal(bad));
            assert!(short_is_legal(&made_legal(bad)));
        }
    }

    #[test]
    fn checksum_is_the_specifications() {
        // Computed by hand from the rule in the specification: rotate right, add.
        assert_eq!(checksum(b"           "), {
            let mut sum = 0_u8;
            for _ in 0..11 {
                sum = (if sum & 1 == 1 { 0x80_u8 } else { 0 }).wrapping_add(sum >> 1).wrapping_add(0x20);
            }
            sum
        });
        assert_eq!(checksum(b"FILENAMETXT"), checksum(b"FILENAMETXT"));
        assert_ne!(checksum(b"FILENAMETXT"), checksum(b"FILENAMETXU"));
    }

    #[test]
    fn short_answers_long() {
        assert!(answers("Tide readings 2026.csv", b"TIDERE~1CSV"));
        assert!(answers("Möwe.jpeg", b"M\x99WE    JPE") || answers("Möwe.jpeg", b"M\x94WE~1  JPE"));
        assert!(!answers("Tide readings 2026.csv", b"NEST0001CSV"));
        assert_eq!(&short_for("long name here.text", &|s| s == b"LONGNA~1TEX"), b"LONGNA~2TEX");
        assert_eq!(&short_for("A.TXT", &|_| false), b"A       TXT");
    }

    proptest! {
        #[test]
        fn long_names_survive_their_parts(name in "[a-zA-Z0-9 äöü☃\u{1F426}._-]{1,120}") {
            let parts = long_parts(&name, 7);
            prop_assert_eq!(long_text(&long_units(&parts)), name);
            for (index, part) in parts.iter().rev().enumerate() {
                prop_assert_eq!(usize::from(part.order & 0x3f), index + 1);
            }
            prop_assert_eq!(parts[0].order & 0x40, 0x40);
        }
    }
}
