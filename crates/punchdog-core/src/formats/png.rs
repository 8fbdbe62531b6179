//! PNG pictures (Portable Network Graphics, third edition, 5.2 to 5.6).
//!
//! ```text
//! 89 50 4E 47 0D 0A 1A 0A
//! chunk: length (4), type (4 letters), data, CRC-32 of type and data (4)     IHDR first, IEND last
//! ```

use super::{End, Proof, Tape, Why};
use crate::arith::{Peek, Sat};

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    walk_from(tape, 8)
}

/// The same from a chunk on; those before it were walked.
pub(super) fn walk_from(tape: &mut Tape<'_>, from: u64) -> End {
    let mut at = from;
    let mut data = from > 8;
    loop {
        let head = tape.at(at, 8);
        if head.len() < 8 {
            return End::early(at, tape.length());
        }
        let (length, kind) =
            (u64::from(head.be32(0)), [head.byte(4), head.byte(5), head.byte(6), head.byte(7)]);
        if !kind.iter().all(u8::is_ascii_alphabetic) || length > 0x7FFF_FFFF {
            return End::unfit(at, at, "no chunk begins");
        }
        if (at == 8) != (&kind == b"IHDR") {
            return End::unfit(at, at, "a chunk out of its place");
        }
        let end = at.plus(length).plus(12);
        let mut sum = crc32fast::Hasher::new();
        sum.update(&kind);
        let (mut from, stop) = (at.plus(8), at.plus(8).plus(length));
        while from < stop {
            let bytes = tape.rest(from);
            let take = stop.minus(from).min(bytes.len().wide());
            if take == 0 {
                return End::early(at, tape.length());
            }
            sum.update(bytes.part(0, take.size()));
            from = from.plus(take);
        }
        let stored = tape.at(stop, 4);
        if stored.len() < 4 {
            return End::early(at, tape.length());
        }
        if stored.be32(0) != sum.finalize() {
            return End::Broken { good: at, at: end, why: Why::Unfit("a chunk whose sum does not fit") };
        }
        data |= &kind == b"IDAT";
        at = end;
        if &kind == b"IEND" {
            return if data {
                End::whole(at, Proof::Content)
            } else {
                End::unfit(8, at, "it ends without a picture")
            };
        }
    }
}
