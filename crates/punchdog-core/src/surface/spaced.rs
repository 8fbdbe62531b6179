//! An image that bytes were left out of or inserted into, laid out as it was.
//!
//! ```text
//! image      0 ─────────── B' ─────── end            image      0 ──── A ── more ── B ──── end
//! as it was  0 ─── A ───── · gap · B ─────── end     as it was  0 ──── A ── B ──── end − more
//! ```
//!
//! Where between A and B the place is, is not known: the bytes there stand before it, and all of A to B is listed as not
//! read. Of inserted bytes the place can be known; then nothing is listed.

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

/// Puts gaps back into an image of so many bytes, and takes inserted bytes out; all count from where the medium itself
/// begins. `None` where those of a kind are not in order, or where they overlap or do not fit.
pub fn spaced(length: u64, left_out: &[Gap], inserted: &[Gap]) -> Option<Spaced> {
    let in_order = |gaps: &[Gap]| gaps.is_sorted_by(|one, next| one.to <= next.from);
    let mut all: Vec<(Gap, bool)> = left_out.iter().map(|gap| (*gap, false)).collect();
    all.extend(inserted.iter().map(|gap| (*gap, true)));
    all.sort_by_key(|(gap, inserted)| (gap.from, gap.to, *inserted));
    let mut spaced = Spaced { pieces: Vec::new(), bytes: length, unknown: Vec::new() };
    // Up to where the image is laid out, and where that goes to.
    let (mut at, mut to) = (0_u64, 0_u64);
    for (gap, inserted) in &all {
        let room = if *inserted { 0 } else { gap.bytes };
        let piece = gap.to.checked_sub(room)?.checked_sub(to)?;
        let behind = at.plus(piece).plus(if *inserted { gap.bytes } else { 0 });
        let fits = to <= gap.from && gap.from.checked_add(room)? <= gap.to && behind <= length;
        if !fits || gap.bytes == 0 {
            return None;
        }
        spaced.pieces.push((Extent::new(at, piece), to));
        if gap.to > gap.from {
            spaced.unknown.push(Extent::new(gap.from, gap.to.minus(gap.from)));
        }
        (at, to) = (behind, gap.to);
    }
    let rest = Extent::new(at, length.minus(at));
    spaced.bytes = to.plus(rest.length);
    spaced.pieces.push((rest, to));
    (in_order(left_out) && in_order(inserted)).then_some(spaced)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_byte_of_the_image_goes_to_one_place() {
        let gap = |from, to, bytes| Gap { from, to, bytes };
        let found = spaced(1000, &[gap(100, 200, 50), gap(500, 600, 100)], &[]).unwrap();
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
            assert_eq!(spaced(1000, wrong, &[]), None, "{wrong:?}");
        }
        // Twenty too many at a known place, then fifty left out, then ten too many at a place that is not known.
        let found = spaced(1000, &[gap(300, 400, 50)], &[gap(200, 200, 20), gap(500, 600, 10)]).unwrap();
        let pieces: Vec<(u64, u64, u64)> =
            found.pieces.iter().map(|(piece, to)| (piece.offset, piece.length, *to)).collect();
        assert_eq!(pieces, [(0, 200, 0), (220, 150, 200), (370, 200, 400), (580, 420, 600)]);
        assert_eq!((found.bytes, found.unknown), (1020, vec![Extent::new(300, 100), Extent::new(500, 100)]));
        for (left_out, inserted) in [
            (&[][..], &[gap(990, 995, 10)][..]),
            (&[], &[gap(300, 200, 10)]),
            (&[gap(100, 300, 50)], &[gap(200, 250, 10)]),
            (&[], &[gap(5, 5, 0)]),
            (&[], &[gap(100, 100, u64::MAX)]),
        ] {
            assert_eq!(spaced(1000, left_out, inserted), None, "{left_out:?} {inserted:?}");
        }
    }
}
