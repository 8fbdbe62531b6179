//! Texts with marks: RTF (1.9), HTML, XML 1.0, SVG.
//!
//! RTF ends with the brace that closes its first; the others with the mark that closes their outermost element. Behind
//! it stand the end of a line, and zeros or another file.

use super::{End, Format, Proof, Tape, Walked, text};
use crate::arith::{Peek, Sat};

/// Bytes that are looked through.
const MOST: u64 = 256 << 20;

pub(super) fn rtf(tape: &mut Tape<'_>) -> End {
    let (mut at, mut depth) = (0_u64, 0_u64);
    let mut escaped = false;
    while at < MOST {
        let bytes = tape.rest(at);
        if bytes.is_empty() {
            return End::early(at, at);
        }
        for (index, byte) in bytes.iter().enumerate() {
            let here = at.plus(index.wide());
            match byte {
                _ if escaped => escaped = false,
                b'\\' => escaped = true,
                b'{' => depth = depth.plus(1),
                b'}' if depth <= 1 => {
                    let end = here.plus(1);
                    return End::whole(line(tape, end), Proof::Structure);
                }
                b'}' => depth = depth.minus(1),
                0 => return End::unfit(here, here, "a zero in a text"),
                _ => {}
            }
        }
        at = at.plus(bytes.len().wide());
    }
    End::unfit(at, at, "a text without end")
}

/// Behind the ends of lines that follow.
fn line(tape: &mut Tape<'_>, at: u64) -> u64 {
    let next = tape.at(at, 4);
    at.plus(next.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count().wide())
}

pub(super) fn walk(format: Format, tape: &mut Tape<'_>) -> Walked {
    let mut walked = Walked::of(format, End::early(0, 0));
    let head = tape.at(0, 4096).to_vec();
    let (name, found) = outermost(format, &head);
    walked.format = found;
    let Some(name) = name else {
        walked.end = End::unfit(0, 0, "no element begins");
        return walked;
    };
    let close = [b"</", name.as_slice()].concat();
    let (mut at, mut last) = (0_u64, None);
    let end = text::extent(tape, MOST);
    while at < end {
        let bytes = tape.at(at, 64 << 10);
        let mut from = 0_usize;
        while let Some(skip) = bytes
            .get(from..)
            .and_then(|rest| rest.windows(close.len()).position(|piece| piece.eq_ignore_ascii_case(&close)))
        {
            from = from.plus(skip).plus(close.len());
            last = Some(at.plus(from.wide()));
        }
        if at.plus(bytes.len().wide()) >= end {
            break;
        }
        at = at.plus(bytes.len().wide().minus(close.len().wide()).max(1));
    }
    walked.end = match last.filter(|last| *last <= end) {
        Some(last) => {
            let rest = tape.at(last, 64);
            match rest.iter().position(|byte| *byte == b'>') {
                Some(skip) => End::whole(line(tape, last.plus(skip.wide()).plus(1)), Proof::Structure),
                None => End::early(last, last),
            }
        }
        None => End::early(end, end),
    };
    if walked.format == Format::Html {
        walked.title = title(&head);
    }
    walked
}

/// The name of the outermost element.
fn outermost(format: Format, head: &[u8]) -> (Option<Vec<u8>>, Format) {
    if format == Format::Html {
        return (Some(b"html".to_vec()), format);
    }
    let mut from = 0_usize;
    while let Some(at) = head.get(from..).and_then(|rest| rest.iter().position(|byte| *byte == b'<')) {
        let at = from.plus(at).plus(1);
        let first = head.byte(at);
        if first.is_ascii_alphabetic() || first == b'_' {
            let is_name =
                |byte: &u8| byte.is_ascii_alphanumeric() || matches!(byte, b':' | b'_' | b'-' | b'.');
            let name: Vec<u8> = head.part(at, 128).iter().copied().take_while(is_name).collect();
            let found = match name.as_slice() {
                b"svg" | b"svg:svg" => Format::Svg,
                b"html" => Format::Html,
                _ => Format::Xml,
            };
            return (Some(name), found);
        }
        from = at;
    }
    (None, format)
}

fn title(head: &[u8]) -> Option<String> {
    let word = b"<title>";
    let at = head.windows(word.len()).position(|piece| piece.eq_ignore_ascii_case(word))?;
    let text = head.part(at.plus(word.len()), 200);
    let end = text.iter().position(|byte| *byte == b'<')?;
    let text = std::str::from_utf8(text.get(..end)?).ok()?.trim();
    (!text.is_empty()).then(|| text.chars().take(80).collect())
}
