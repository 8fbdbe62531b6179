//! BMP pictures (the published structures BITMAPFILEHEADER and BITMAPINFOHEADER).
//!
//! ```text
//!  0 BM   2 length (4)   6 zeros (4)   10 where the pixels begin (4)
//! 14 length of the header behind: 12, 40, 52, 56, 64, 108, 124   18 width (4)   22 height (4, negative: from the top)
//! 26 planes (2): 1   28 bits a pixel (2)   30 packing (4)   34 bytes of pixels (4)
//! ```

use super::{End, Proof, Tape};
use crate::arith::{Peek, Sat};

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let head = tape.at(0, 54);
    let (length, from, header) = (head.le32(2), head.le32(10), head.le32(14));
    let (width, height) = (u64::from(head.le32(18)), head.le32(22));
    let height = u64::from(height.min(height.wrapping_neg()));
    let (bits, packing) = (u64::from(head.le16(28)), head.le32(30));
    let right = head.le32(6) == 0
        && matches!(header, 40 | 52 | 56 | 64 | 108 | 124)
        && head.le16(26) == 1
        && matches!(bits, 1 | 4 | 8 | 16 | 24 | 32)
        && u64::from(from) >= u64::from(header).plus(14)
        && (1..=0x10000).contains(&width)
        && (1..=0x10000).contains(&height);
    if !right {
        return End::unfit(0, 0, "a head that cannot be");
    }
    let row = width.times(bits).per_up(32).times(4);
    let pixels = if matches!(packing, 0 | 3 | 6) { row.times(height) } else { u64::from(head.le32(34)) };
    let needed = u64::from(from).plus(pixels);
    let length = u64::from(length);
    // Some writers count a few bytes to fill the last row, some none.
    if length < needed || length > needed.plus(4096) {
        return End::unfit(0, 0, "a length that does not fit its rows");
    }
    if length > tape.length() {
        return End::early(tape.length(), tape.length());
    }
    End::whole(length, Proof::Structure)
}
