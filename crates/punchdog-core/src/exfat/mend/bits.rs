//! Bits of the bitmap, many at once.

use super::Job;
use crate::{
    arith::Sat,
    medium::{Medium, MediumError, OverlayWindow},
    mending::step::Step,
};

/// Marks runs of clusters free in the bitmap.
pub(super) fn clear_bits(
    job: &mut Job<'_, '_, '_, '_>,
    step: Step,
    runs: &[(u32, u32)],
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let Some(bitmap) = job.survey.bitmap.clusters.first().map(|first| geometry.cluster_place(*first)) else {
        return Ok(());
    };
    job.steps.run(job.window, step, |window| write_bits(window, bitmap, runs, false))
}

/// Marks runs of clusters in the bitmap that stands at byte `bitmap`.
pub(super) fn write_bits(
    window: &mut OverlayWindow<'_, '_>,
    bitmap: u64,
    runs: &[(u32, u32)],
    in_use: bool,
) -> Result<(), MediumError> {
    for (first, count) in runs {
        let (mut at, end) = (first.minus(2).wide(), first.minus(2).plus(*count).wide());
        while at < end {
            // A piece of whole bytes, but for its ends.
            let piece = end.minus(at).min(1 << 20);
            let place = bitmap.plus(at.per(8));
            let medium: &dyn Medium = window;
            let mut bytes = medium.lenient(place, at.rest(8).plus(piece).per_up(8).size()).bytes;
            for bit in at.rest(8)..at.rest(8).plus(piece) {
                if let Some(byte) = bytes.get_mut(bit.per(8).size()) {
                    let mask = 1_u8.checked_shl(bit.rest(8).narrow()).unwrap_or(0);
                    *byte = if in_use { *byte | mask } else { *byte & !mask };
                }
            }
            window.write_at(place, &bytes)?;
            at = at.plus(piece);
        }
    }
    Ok(())
}
