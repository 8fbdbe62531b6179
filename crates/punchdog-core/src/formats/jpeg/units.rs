//! The coded units of a picture, decoded as far as is needed to know where each ends (ITU-T T.81, F.2.2 and G.1.2).

use super::{
    frame::{Part, Scan, State},
    huffman::{Bits, Codes, END, Several},
};
use crate::arith::Sat;

/// Look-ups for which the bits of one filling are enough.
const LOOKUPS: u32 = 2;

/// A unit of a picture that is coded in one go (F.2.2), from `bytes`.
#[inline]
pub(super) fn unit(scan: &Scan, state: &mut State, bytes: &[u8], limit: i32) -> Option<()> {
    let mut bits = state.bits;
    for part in &scan.parts {
        let (dc, ac) = (part.dc.as_deref()?, part.ac.as_deref()?);
        let several = ac.several();
        let sum = state.sums.get_mut(part.index)?;
        for _ in 0..part.blocks {
            let right = difference(bytes, dc, &mut bits, sum, limit).is_some();
            let right = right && block(bytes, ac, several, &mut bits);
            if !right {
                state.bits = bits;
                return None;
            }
        }
    }
    state.bits = bits;
    Some(())
}

/// Places of the coefficients that differ from one row of a block to the next alone (Figure A.6).
pub(super) const DOWN: [usize; 8] = [0, 2, 3, 9, 10, 20, 21, 35];
/// What each of them adds to the mean of a block's first row, in 1024ths (A.3.3); to the last row's, every other one less.
const WEIGHTS: [i64; 8] = [128, 178, 167, 151, 128, 101, 69, 35];

/// The upper and the lower edge of a unit: the mean of its first and of its last row of samples, of each of the first three
/// components, in 16ths.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Edges {
    pub(super) upper: [i32; 3],
    pub(super) lower: [i32; 3],
}

/// The same, and the edges of the unit.
pub(super) fn unit_with_edges(
    scan: &Scan,
    state: &mut State,
    bytes: &[u8],
    limit: i32,
    edges: &mut Edges,
) -> Option<()> {
    for part in &scan.parts {
        let (dc, ac) = (part.dc.as_deref()?, part.ac.as_deref()?);
        let sum = state.sums.get_mut(part.index)?;
        let (mut upper, mut lower) = (0_i64, 0_i64);
        for number in 0..part.blocks {
            difference(bytes, dc, &mut state.bits, sum, limit)?;
            let mut down = [0_i32; 8];
            down[0] = *sum;
            values(bytes, ac, &mut state.bits, &mut down)?;
            let mut parts = [0_i64; 2];
            for (place, ((value, step), weight)) in down.iter().zip(part.steps).zip(WEIGHTS).enumerate() {
                let adds = i64::from(*value).saturating_mul(i64::from(step)).saturating_mul(weight);
                let side = parts.get_mut(place & 1)?;
                *side = side.saturating_add(adds);
            }
            let [even, odd] = parts;
            if number < part.abreast {
                upper = upper.saturating_add(even).saturating_add(odd);
            }
            if number.plus(part.abreast) >= part.blocks {
                lower = lower.saturating_add(even).saturating_sub(odd);
            }
        }
        let mean = |sum: i64| {
            sum.checked_div(i64::from(part.abreast).saturating_mul(64))
                .and_then(|mean| i32::try_from(mean).ok())
                .unwrap_or(0)
        };
        if let (Some(to_upper), Some(to_lower)) =
            (edges.upper.get_mut(part.index), edges.lower.get_mut(part.index))
        {
            (*to_upper, *to_lower) = (mean(upper), mean(lower));
        }
    }
    Some(())
}

/// The coefficients of a block behind the first; those at `DOWN` are kept.
fn values(bytes: &[u8], codes: &Codes, bits: &mut Bits, down: &mut [i32; 8]) -> Option<()> {
    let mut at = 1_u32;
    while at < 64 {
        bits.fill(bytes);
        let (length, symbol) = codes.find(bits.next())?;
        bits.skip(length);
        let (run, size) = (symbol >> 4_u32, symbol & 15);
        if size == 0 {
            if run < 15 {
                return Some(());
            }
            at = at.plus(16);
            continue;
        }
        at = at.plus(run);
        let value = signed(bits.take(size), size)?;
        if let Some(place) = DOWN.iter().position(|place| *place == at.size()) {
            *down.get_mut(place)? = value;
        }
        at = at.plus(1);
    }
    (at == 64).then_some(())
}

/// A value of so many bits (F.2.2.1, EXTEND).
#[inline]
fn signed(value: u32, size: u32) -> Option<i32> {
    // Without a branch: what a size is, nobody can foresee.
    let value = i32::try_from(value).ok()?;
    let sizes = 1_i32.wrapping_shl(size);
    let low = i32::from(value < sizes >> 1_u32).wrapping_mul(sizes.wrapping_sub(1));
    Some(value.wrapping_sub(low))
}

/// The coefficients of a block behind the first.
#[inline]
fn block(bytes: &[u8], codes: &Codes, several: &Several, bits: &mut Bits) -> bool {
    let mut now = *bits;
    let mut at = 1_u32;
    let right = 'block: loop {
        now.fill(bytes);
        for _ in 0..LOOKUPS {
            let held = now.held(several);
            let next = at.wrapping_add(held.places());
            if next < 64 {
                now.skip(held.bits());
                at = next;
                continue;
            }
            if (END..END + 64).contains(&next) {
                now.skip(held.bits());
                break 'block true;
            }
            // A long code, or the last coefficients.
            now.fill(bytes);
            let Some((length, places)) = codes.step(now.next()) else { break 'block false };
            now.skip(length);
            at = at.wrapping_add(places);
            if at >= 64 {
                break 'block at == 64 || at > END;
            }
            break;
        }
    };
    *bits = now;
    right
}

/// A unit of one of the scans of a progressive picture (G.1.2).
pub(super) fn progressive(
    scan: &Scan,
    state: &mut State,
    bytes: &[u8],
    known: &mut [Vec<u64>],
) -> Option<()> {
    for part in &scan.parts {
        for _ in 0..part.blocks {
            if scan.first > 0 {
                let block = block_of(scan, part, state.done)?;
                let known = known.get_mut(part.index)?.get_mut(block)?;
                coefficients(bytes, part.ac.as_deref()?, scan, state, known)?;
            } else if scan.high == 0 {
                let sum = state.sums.get_mut(part.index)?;
                difference(bytes, part.dc.as_deref()?, &mut state.bits, sum, i32::MAX)?;
            } else {
                state.bits.fill(bytes);
                state.bits.skip(1);
            }
        }
    }
    Some(())
}

/// The number of a block in what is remembered of its component, which has whole units.
fn block_of(scan: &Scan, part: &Part, unit: u64) -> Option<usize> {
    let component = scan.frame.components.get(part.index)?;
    let across = scan.frame.units().0.times(component.across).wide();
    let (row, column) = (unit.per(scan.across.wide()), unit.rest(scan.across.wide()));
    Some(row.times(across).plus(column).size())
}

/// The first coefficient of a block: its difference from the one before.
#[inline]
fn difference(bytes: &[u8], codes: &Codes, bits: &mut Bits, sum: &mut i32, limit: i32) -> Option<()> {
    bits.fill(bytes);
    let (length, size) = codes.find(bits.next())?;
    bits.skip(length);
    if size > 15 {
        return None;
    }
    *sum = sum.saturating_add(signed(bits.take(size), size)?);
    (sum.saturating_abs() <= limit).then_some(())
}

/// Further coefficients of a block: for the first time (G.1.2.2), or one more bit of each (G.1.2.3).
fn coefficients(bytes: &[u8], codes: &Codes, scan: &Scan, state: &mut State, known: &mut u64) -> Option<()> {
    let bit = |at: u32| 1_u64.checked_shl(at).unwrap_or(0);
    let mut at = scan.first;
    if state.skipped == 0 {
        while at <= scan.last {
            state.bits.fill(bytes);
            let (length, symbol) = codes.find(state.bits.next())?;
            state.bits.skip(length);
            let (mut run, size) = (symbol >> 4_u32, symbol & 15);
            if size == 0 && run < 15 {
                state.skipped = 1_u32.checked_shl(run)?.plus(state.bits.take(run));
                break;
            }
            if scan.high == 0 {
                if size == 0 {
                    at = at.plus(16);
                    continue;
                }
                at = at.plus(run);
                if at > scan.last {
                    return None;
                }
                state.bits.skip(size);
            } else {
                if size > 1 {
                    return None;
                }
                state.bits.skip(size);
                // Coefficients that are known already take a bit each and do not count.
                loop {
                    if at > scan.last {
                        return (size == 0).then_some(());
                    }
                    if *known & bit(at) != 0 {
                        state.bits.fill(bytes);
                        state.bits.skip(1);
                    } else if run == 0 {
                        break;
                    } else {
                        run = run.minus(1);
                    }
                    at = at.plus(1);
                }
            }
            if size > 0 {
                *known |= bit(at);
            }
            at = at.plus(1);
        }
    }
    if state.skipped > 0 {
        if scan.high > 0 {
            for _ in (at..=scan.last).filter(|at| *known & bit(*at) != 0) {
                state.bits.fill(bytes);
                state.bits.skip(1);
            }
        }
        state.skipped = state.skipped.minus(1);
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A code by code, value by value.
    fn plainly(bytes: &[u8], codes: &Codes, bits: &mut Bits) -> bool {
        let mut at = 1;
        while at < 64 {
            bits.fill(bytes);
            let Some((length, places)) = codes.step(bits.next()) else { return false };
            bits.skip(length);
            at += places;
        }
        at == 64 || at > END
    }

    proptest! {
        /// Looked up several at a time, blocks end where they end code by code, whatever the bytes: with stuffed FF,
        /// markers, codes of all lengths, blocks that are full or go too far.
        #[test]
        fn blocks_end_where_they_end_code_by_code(
            symbols in prop::collection::vec(0_u8..=255, 20),
            shape in 0..3_usize,
            bytes in prop::collection::vec(prop_oneof![9 => any::<u8>(), 1 => Just(0xFF), 1 => Just(0)], 0..300),
        ) {
            let counts: [u8; 16] = [
                [0, 2, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 2, 3, 2],
                [0, 0, 4, 4, 4, 2, 2, 0, 0, 2, 0, 0, 0, 0, 0, 2],
                [0, 1, 0, 3, 0, 4, 0, 4, 0, 4, 0, 2, 0, 1, 0, 1],
            ][shape];
            let codes = Codes::of(&counts, &symbols).unwrap();
            let (mut fast, mut slow) = (Bits::default(), Bits::default());
            for _ in 0..40 {
                let right = block(&bytes, &codes, codes.several(), &mut fast);
                prop_assert_eq!(right, plainly(&bytes, &codes, &mut slow));
                if !right {
                    break;
                }
                fast.fill(&bytes);
                slow.fill(&bytes);
                prop_assert_eq!((fast.next(), fast.at, fast.overrun()), (slow.next(), slow.at, slow.overrun()));
                if fast.overrun() {
                    break;
                }
            }
        }
    }
}
