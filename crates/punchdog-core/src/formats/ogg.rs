//! Ogg (RFC 3533, 6).
//!
//! ```text
//! page: OggS, version (1), flags (1: bit 1 first of its stream, bit 2 last), position (8), stream (4), number (4),
//!       CRC-32 (4, polynomial 04C11DB7, not reflected, counted as zero), segments (1), their lengths (1 each), data
//! ```

use super::{End, Proof, Tape, Why};
use crate::arith::{Peek, Sat};
use std::collections::HashMap;

/// The table of CRC-32 without reflection.
const TABLE: [u32; 256] = {
    let mut table = [0_u32; 256];
    let mut number = 0_u32;
    let mut rest: &mut [u32] = &mut table;
    while let Some((slot, tail)) = rest.split_first_mut() {
        let mut value = number << 24;
        let mut bit = 0_u32;
        while bit < 8 {
            value = if value & 0x8000_0000 != 0 { (value << 1) ^ 0x04C1_1DB7 } else { value << 1 };
            bit = bit.wrapping_add(1);
        }
        *slot = value;
        number = number.wrapping_add(1);
        rest = tail;
    }
    table
};

fn sum(bytes: &[u8]) -> u32 {
    bytes.iter().enumerate().fold(0_u32, |sum, (at, byte)| {
        // The sum stands at bytes 22 to 25.
        let byte = if (22..26).contains(&at) { 0 } else { *byte };
        let index = (sum >> 24) ^ u32::from(byte);
        (sum << 8) ^ TABLE.get(index.size()).copied().unwrap_or(0)
    })
}

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let mut at = 0_u64;
    // Of each stream whether it is open.
    let mut streams: HashMap<u32, bool> = HashMap::new();
    loop {
        let head = tape.at(at, 27);
        let open = streams.values().any(|open| *open);
        if head.part(0, 5) != b"OggS\0" {
            return match () {
                () if at > 0 && !open => End::whole(at, Proof::Content),
                () if head.len() < 27 => End::early(at, tape.length()),
                () => End::unfit(at, at, "no page begins"),
            };
        }
        let (flags, stream, stored, count) =
            (head.byte(5), head.le32(14), head.le32(22), usize::from(head.byte(26)));
        let lengths = tape.at(at.plus(27), count);
        let data = lengths.iter().fold(0_usize, |sum, length| sum.plus(usize::from(*length)));
        let length = data.plus(count).plus(27);
        let page = tape.at(at, length);
        if page.len() < length {
            return End::early(at, tape.length());
        }
        if sum(page) != stored {
            let end = at.plus(length.wide());
            return End::Broken { good: at, at: end, why: Why::Unfit("a page whose sum does not fit") };
        }
        if streams.len() > 64 {
            return End::unfit(0, at, "streams without end");
        }
        let first = flags & 2 != 0;
        if first && !open && at > 0 {
            // A chain of streams goes on; another file begins as well like this, at the start of a cluster.
            if at.rest(512) == 0 {
                return End::whole(at, Proof::Content);
            }
            streams.clear();
        }
        streams.insert(stream, flags & 4 == 0);
        at = at.plus(length.wide());
    }
}
