//! RIFF: WAV sounds, AVI films, WebP pictures (Multimedia Programming Interface and Data Specifications 1.0; OpenDML 1.02).
//!
//! ```text
//! RIFF, length of what follows (4), form (4: WAVE, "AVI ", WEBP)
//! chunk: type (4), length (4), data, filled to an even length        AVI above 1 GiB: further RIFF parts of form AVIX
//! ```
//!
//! Recorders write the lengths last: one that lost power leaves zeros, or all ones, in them.

use super::{End, Format, Proof, Tape, Walked, Why};
use crate::arith::{Peek, Sat};

pub(super) fn walk(format: Format, tape: &mut Tape<'_>) -> Walked {
    let mut at = 0_u64;
    let mut proof = Proof::Structure;
    let end = loop {
        match part(format, tape, at) {
            Ok((next, checked)) => {
                proof = if checked { Proof::Content } else { proof };
                let head = tape.at(next, 12);
                if format == Format::Avi && head.part(0, 4) == b"RIFF" && head.part(8, 4) == b"AVIX" {
                    at = next;
                } else {
                    break End::whole(next, proof);
                }
            }
            Err(end) => break end,
        }
    };
    Walked::of(format, end)
}

fn is_type(bytes: &[u8]) -> bool {
    bytes.len() == 4 && bytes.iter().all(|byte| (0x20..0x7F).contains(byte))
}

/// One RIFF part; gives where it ends.
fn part(format: Format, tape: &mut Tape<'_>, from: u64) -> Result<(u64, bool), End> {
    let stated = u64::from(tape.at(from, 12).le32(4));
    let never = stated == 0 || stated >= 0xFFFF_FF00;
    let end = if never { tape.length() } else { from.plus(8).plus(stated) };
    let (mut at, mut data) = (from.plus(12), false);
    while at.plus(8) <= end {
        let head = tape.at(at, 8);
        if head.len() < 8 {
            return Err(End::early(at, tape.length()));
        }
        let (kind, length) =
            ([head.byte(0), head.byte(1), head.byte(2), head.byte(3)], u64::from(head.le32(4)));
        if !is_type(&kind) {
            let zeros = tape.at(at, 512).iter().all(|byte| *byte == 0);
            let why = if zeros { Why::Zeros } else { Why::Unfit("no chunk begins") };
            return Err(if never && data { closed(format, at) } else { End::Broken { good: at, at, why } });
        }
        let body = matches!(&kind, b"data" | b"VP8 " | b"VP8L" | b"VP8X" | b"ANMF")
            || (&kind == b"LIST" && tape.at(at.plus(8), 4) == b"movi");
        if body && (length == 0 || length >= 0xFFFF_FF00) && &kind != b"VP8X" {
            return Err(unclosed(format, tape, at.plus(8)));
        }
        data |= body;
        let next = at.plus(8).plus(length).plus(length.rest(2));
        // An odd last chunk is not always filled.
        if next > end.plus(1) {
            return Err(if never {
                End::early(at, tape.length())
            } else {
                End::unfit(at, at, "a chunk longer than its file")
            });
        }
        if &kind == b"LIST" && body {
            frames(tape, at.plus(12), at.plus(8).plus(length).min(tape.length()))?;
        }
        if next > tape.length().plus(1) {
            return Err(End::early(tape.length(), tape.length()));
        }
        at = next;
    }
    if never {
        return Err(closed(format, at));
    }
    if !data || end > tape.length() {
        return Err(End::early(at.min(tape.length()), tape.length()));
    }
    Ok((end, false))
}

fn closed(format: Format, at: u64) -> End {
    let what = if format == Format::Wav {
        "the recording was never closed: its lengths were never written"
    } else {
        "the film was never closed: its lengths and its index were never written"
    };
    End::Broken { good: at, at, why: Why::NeverClosed(what) }
}

/// A recording whose length was never written: as long as its chunks go on, or to the zeros behind it.
fn unclosed(format: Format, tape: &mut Tape<'_>, from: u64) -> End {
    let mut at = from;
    if format == Format::Avi {
        at = at.plus(4);
        while let Some(next) = frame(tape, at, tape.length()) {
            at = next;
        }
        return closed(format, at);
    }
    // Samples have no structure.
    closed(format, tape.unended(from, from.plus(u64::from(u32::MAX))))
}

/// The frames of a film: chunks of their own.
fn frames(tape: &mut Tape<'_>, from: u64, end: u64) -> Result<(), End> {
    let mut at = from;
    while at.plus(8) <= end {
        match frame(tape, at, end) {
            Some(next) => at = next,
            None => return Err(End::unfit(at, at, "no frame begins")),
        }
    }
    Ok(())
}

fn frame(tape: &mut Tape<'_>, at: u64, end: u64) -> Option<u64> {
    let head = tape.at(at, 8);
    let length = u64::from(head.le32(4));
    let right = is_type(head.part(0, 4)) && at.plus(8).plus(length) <= end;
    let next =
        if head.part(0, 4) == b"LIST" { at.plus(12) } else { at.plus(8).plus(length).plus(length.rest(2)) };
    right.then_some(next)
}
