//! An image that bytes were left out of, with its gaps put back in.
//!
//! ```text
//! image      0 ─────────── B' ─────── end
//! as it was  0 ─── A ───── · gap · B ─────── end + gap
//! ```
//!
//! Where between A and B the gap was is not known: the bytes there stand before it, and all of A to B is listed as not read.

use crate::{
    arith::Sat,
    medium::{Extent, Gap},
};

/// How an image is laid out anew.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spaced {
    /// Pieces of the image, each with where it goes.
    pub pieces: Vec<(Extent, u64)>,
    /// Bytes that there are then.
    pub bytes: u64,
    /// What is not known of these.
    pub unknown: Vec<Extent>,
}

/// Puts gaps back into an image of so many bytes; they count from where the medium itself begins. `None` where they are not
/// in order, or do not fit.
pub fn spaced(length: u64, gaps: &[Gap]) -> Option<Spaced> {
    let mut all = Spaced { pieces: Vec::new(), bytes: length, unknown: Vec::new() };
    let (mut at, mut last) = (0, 0);
    for gap in gaps {
        let by = all.bytes.minus(length);
        let end = gap.to.checked_sub(by)?.checked_sub(gap.bytes)?;
        let fits = last <= gap.from && gap.from.plus(gap.bytes) <= gap.to && at <= end && end <= length;
        if !fits || gap.bytes == 0 {
            return None;
        }
        all.pieces.push((Extent::new(at, end.minus(at)), at.plus(by)));
        all.unknown.push(Extent::new(gap.from, gap.to.minus(gap.from)));
        all.bytes = all.bytes.plus(gap.bytes);
        (at, last) = (end, gap.to);
    }
    all.pieces.push((Extent::new(at, length.minus(at)), at.plus(all.bytes.minus(length))));
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_byte_of_the_image_goes_to_one_place() {
        let gap = |from, to, bytes| Gap { from, to, bytes };
        let found = spaced(1000, &[gap(100, 200, 50), gap(500, 600, 100)]).unwrap();
        assert_eq!(found.bytes, 1150);
        let pieces: Vec<(u64, u64, u64)> =
            found.pieces.iter().map(|(piece, to)| (piece.offset, piece.length, *to)).collect();
        // Up to where the first gap ends it takes 50 bytes of it; the next piece stands 50 further on, the last 150.
        assert_eq!(pieces, [(0, 150, 0), (150, 300, 200), (450, 550, 600)]);
        assert_eq!(found.unknown, [Extent::new(100, 100), Extent::new(500, 100)]);
        for wrong in [
            &[gap(100, 120, 50)][..],
            &[gap(500, 600, 100), gap(100, 200, 50)],
            &[gap(900, 2000, 50)],
            &[gap(100, 200, 0)],
            &[gap(10, 20, u64::MAX)],
        ] {
            assert_eq!(spaced(1000, wrong), None, "{wrong:?}");
        }
    }
}
