//! GIF pictures (GIF89a, sections 17 to 27).
//!
//! ```text
//! GIF87a or GIF89a, width (2), height (2), flags (1: bit 7 a table of 3 * 2^(1 + bits 0..2) bytes), 2 more, the table
//! 2C: 8 bytes of place, flags, the table; then a code size (1) and blocks: length (1), bytes; length 0 ends them
//! 21: label (1), blocks                    3B: end
//! ```

use super::{End, Proof, Tape};
use crate::arith::{Peek, Sat};

/// The bytes of a table that these flags announce.
fn table(flags: u8) -> u64 {
    if flags & 0x80 == 0 { 0 } else { 3_u64.times(2_u64 << (flags & 7)) }
}

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let mut at = 13_u64.plus(table(tape.at(10, 1).byte(0)));
    let mut pictures = 0_u32;
    loop {
        let head = tape.at(at, 10);
        let (kind, flags) = (head.byte(0), head.byte(9));
        if head.is_empty() {
            return End::early(at, at);
        }
        match kind {
            0x3B if pictures > 0 => return End::whole(at.plus(1), Proof::Structure),
            0x2C => {
                pictures = pictures.plus(1);
                let codes = at.plus(10).plus(table(flags));
                if !(2..=8).contains(&tape.at(codes, 1).byte(0)) {
                    return End::unfit(at, codes, "a picture without a code size");
                }
                match blocks(tape, codes.plus(1)) {
                    Some(next) => at = next,
                    None => return End::early(at, tape.length()),
                }
            }
            0x21 => match blocks(tape, at.plus(2)) {
                Some(next) => at = next,
                None => return End::early(at, tape.length()),
            },
            _ => return End::unfit(at, at, "no block begins"),
        }
    }
}

/// Behind the blocks that begin at `at`.
fn blocks(tape: &mut Tape<'_>, mut at: u64) -> Option<u64> {
    loop {
        let length = *tape.at(at, 1).first()?;
        at = at.plus(1).plus(u64::from(length));
        if length == 0 {
            return Some(at);
        }
    }
}
