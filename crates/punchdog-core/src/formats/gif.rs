//! GIF pictures (GIF89a, sections 17 to 27).
//!
//! ```text
//! GIF87a or GIF89a, width (2), height (2), flags (1: bit 7 a table of 3 * 2^(1 + bits 0..2) bytes), 2 more, the table
//! 2C: 8 bytes of place, flags, the table; then a code size (1) and blocks: length (1), bytes; length 0 ends them
//! 21: label (1), blocks                    3B: end
//! ```
//!
//! The blocks of a picture hold codes of a growing number of bits (appendix F): 2^size clears what was learnt, the one
//! behind it ends the picture, each other one stands for a row of dots. Where all come out at as many dots as the picture
//! has, its content is known to be whole.

use super::{End, Proof, Tape, Why};
use crate::arith::{Peek, Sat};

/// Codes there are at most.
const CODES: usize = 4096;

/// The bytes of a table that these flags announce.
fn table(flags: u8) -> u64 {
    if flags & 0x80 == 0 { 0 } else { 3_u64.times(2_u64 << (flags & 7)) }
}

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let at = 13_u64.plus(table(tape.at(10, 1).byte(0)));
    walk_from(tape, at)
}

/// Goes on at the picture, or what else there may be, that begins at `at`.
pub(super) fn walk_from(tape: &mut Tape<'_>, mut at: u64) -> End {
    let (mut pictures, mut whole) = (0_u32, true);
    loop {
        let head = tape.at(at, 10);
        let (kind, flags) = (head.byte(0), head.byte(9));
        if head.is_empty() {
            return End::early(at, at);
        }
        match kind {
            0x3B if pictures > 0 => {
                let proof = if whole { Proof::Content } else { Proof::Structure };
                return End::whole(at.plus(1), proof);
            }
            0x2C => {
                pictures = pictures.plus(1);
                let dots = u64::from(head.le16(5)).times(u64::from(head.le16(7)));
                let codes = at.plus(10).plus(table(flags));
                let size = tape.at(codes, 1).byte(0);
                if !(2..=8).contains(&size) {
                    return End::unfit(at, codes, "a picture without a code size");
                }
                let mut picture = Picture::new(size);
                match picture.walk(tape, codes.plus(1)) {
                    Ok(next) => at = next,
                    Err((broken, why)) => return End::Broken { good: at, at: broken, why },
                }
                whole &= picture.ended && picture.dots == dots;
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

/// A picture whose codes are gone through.
struct Picture {
    size: u32,
    /// Dots that each code stands for; those above `next` are not known yet.
    rows: Vec<u32>,
    next: usize,
    before: Option<usize>,
    wide: u32,
    bits: u32,
    held: u32,
    dots: u64,
    ended: bool,
}

impl Picture {
    fn new(size: u8) -> Self {
        let size = u32::from(size);
        let mut picture = Self {
            size,
            rows: vec![1; CODES],
            next: 0,
            before: None,
            wide: 0,
            bits: 0,
            held: 0,
            dots: 0,
            ended: false,
        };
        picture.clear();
        picture
    }

    fn clear(&mut self) {
        self.next = 1_usize.wrapping_shl(self.size).plus(2);
        self.wide = self.size.plus(1);
        self.before = None;
    }

    /// Takes one code; false where there cannot be such a one.
    fn take(&mut self, code: usize) -> bool {
        let clear = 1_usize.wrapping_shl(self.size);
        if code == clear {
            self.clear();
            return true;
        }
        if code == clear.plus(1) {
            self.ended = true;
            return true;
        }
        let row = |code: usize| self.rows.get(code).copied().unwrap_or(1);
        let learnt = self.before.map(|before| row(before).plus(1));
        let dots = match learnt {
            Some(learnt) if code == self.next && self.next < CODES => learnt,
            None if code > clear => return false,
            _ if code >= self.next => return false,
            _ => row(code),
        };
        if let (Some(learnt), Some(slot)) = (learnt, self.rows.get_mut(self.next)) {
            *slot = learnt;
            self.next = self.next.plus(1);
            let full = 1_usize.wrapping_shl(self.wide);
            self.wide = self.wide.plus(u32::from(self.next == full && self.wide < 12));
        }
        self.before = Some(code);
        self.dots = self.dots.plus(u64::from(dots));
        true
    }

    /// Goes through the blocks that begin at `from`; gives where they end, or where they break, and why.
    fn walk(&mut self, tape: &mut Tape<'_>, from: u64) -> Result<u64, (u64, Why)> {
        let mut at = from;
        loop {
            let head = tape.at(at, 256);
            let Some(length) = head.first().copied() else { return Err((tape.length(), Why::EndsEarly)) };
            let bytes = head.part(1, length.into());
            if bytes.len() < usize::from(length) {
                return Err((tape.length(), Why::EndsEarly));
            }
            for byte in bytes {
                if self.ended {
                    break;
                }
                self.held |= u32::from(*byte).wrapping_shl(self.bits);
                self.bits = self.bits.plus(8);
                while self.bits >= self.wide && !self.ended {
                    let code = self.held & 1_u32.wrapping_shl(self.wide).minus(1);
                    self.held = self.held.wrapping_shr(self.wide);
                    self.bits = self.bits.minus(self.wide);
                    if !self.take(code.size()) {
                        let behind = at.plus(1).plus(u64::from(length));
                        return Err((behind, Why::Unfit("a code that there cannot be")));
                    }
                }
            }
            at = at.plus(1).plus(u64::from(length));
            if length == 0 {
                return Ok(at);
            }
        }
    }
}
