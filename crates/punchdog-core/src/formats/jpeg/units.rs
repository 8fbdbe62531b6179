//! The coded units of a picture, decoded as far as is needed to know where each ends (ITU-T T.81, F.2.2 and G.1.2).

use super::{
    frame::{Part, Scan, State},
    huffman::{self, Bits, Codes, END},
};
use crate::arith::Sat;

/// A unit of a picture that is coded in one go (F.2.2), from `bytes`.
#[inline]
pub(super) fn unit(scan: &Scan, state: &mut State, bytes: &[u8], limit: i32) -> Option<()> {
    let mut bits = state.bits;
    for part in &scan.parts {
        let (dc, ac) = (part.dc.as_deref()?, part.ac.as_deref()?);
        let sum = state.sums.get_mut(part.index)?;
        for _ in 0..part.blocks {
            let right = difference(bytes, dc, &mut bits, sum, limit).is_some();
            let right = right && block(bytes, ac, &mut bits);
            if !right {
                state.bits = bits;
                return None;
            }
        }
    }
    state.bits = bits;
    Some(())
}

/// The coefficients of a block behind the first.
#[inline]
fn block(bytes: &[u8], codes: &Codes, bits: &mut Bits) -> bool {
    let several = codes.several();
    let mut at = 1_u32;
    while at < 64 {
        bits.fill(bytes);
        // Several at once, where they all lie within the block.
        let (length, places, ends) = huffman::held(several, bits.next());
        if length > 0 && at.wrapping_add(places) < 64 {
            bits.skip(length);
            at = at.wrapping_add(places);
            if ends {
                return true;
            }
            continue;
        }
        let Some((length, places)) = codes.step(bits.next()) else { return false };
        bits.skip(length);
        at = at.wrapping_add(places);
    }
    at == 64 || at > END
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
    let value = i32::try_from(bits.take(size)).ok()?;
    if size > 0 {
        let half = 1_i32.checked_shl(size.minus(1))?;
        let low = half.saturating_mul(2).saturating_sub(1);
        let difference = if value < half { value.saturating_sub(low) } else { value };
        *sum = sum.saturating_add(difference);
        if sum.saturating_abs() > limit {
            return None;
        }
    }
    Some(())
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
