//! A picture that breaks where a segment of it ends: the piece is missing somewhere within that segment.
//!
//! ```text
//! FF E1 length … │ something else │ … FF DB …      the break shows where FF DB should stand
//! ```
//!
//! All behind the break lies as far on, so one border says where the second piece lies; at which border the pieces meet is told
//! by what is in the segment, or not at all.

use super::{Search, content::length_of, ground::Rest, pieces::Together};
use crate::{
    arith::Sat,
    formats::{self, BEGINNING, End, Tape, Walked},
};
use std::{cmp::Reverse, ops::Range};

/// A break within a segment.
pub(super) struct Within {
    /// Bytes of the file: where the segment begins, and where it ends.
    pub(super) segment: Range<u64>,
    /// Bytes of a cluster.
    pub(super) step: u64,
}

impl Within {
    /// The last border of clusters in the segment.
    pub(super) fn last_border(&self) -> Option<u64> {
        let border = self.segment.end.per(self.step).times(self.step);
        (border > self.segment.start && border > 0).then_some(border)
    }
}

impl Search<'_> {
    /// Looks for the second piece of a picture that breaks within a segment, at one of `candidates`, which are for its last border.
    pub(super) fn second_within(
        &self,
        rest: &Rest<'_>,
        before: &Walked,
        within: &Within,
        candidates: &[u64],
        fits: impl Fn(&Together) -> bool,
        budget: &mut u64,
    ) -> Option<Together> {
        let border = within.last_border()?;
        let head = rest.places(border)?;
        let behind = within.segment.end.minus(border);
        for candidate in candidates {
            let next = self.image.lenient(candidate.plus(behind), 2).bytes;
            if !formats::can_follow_segment(&next) {
                continue;
            }
            if *budget == 0 || self.watch.stop() {
                return None;
            }
            let found = Self::attempt(rest, before, &head, None, *candidate, budget);
            if let Some(found) = found.filter(|found| fits(found)) {
                return Some(self.met(rest, found, within, *candidate));
            }
        }
        None
    }

    /// Of the borders at which the pieces can meet, those with which what is in the segment fits best.
    fn met(&self, rest: &Rest<'_>, found: Together, within: &Within, candidate: u64) -> Together {
        let length = length_of(&found.walked);
        let Some(last) = within.last_border() else { return found };
        let mut ranked = Vec::new();
        let mut border = last;
        while border > within.segment.start && border > 0 {
            let place = candidate.minus(last.minus(border));
            let Some(head) = rest.places(border) else { break };
            let end = head.last().map_or(0, |piece| piece.end());
            let own = head.iter().any(|piece| (piece.offset..piece.end()).contains(&place));
            let free = self.ground.free_from(place).is_some_and(|free| free.offset <= place);
            if place == end || own || !free || self.claimed.contains(&place) {
                break;
            }
            let behind = rest.with(&head, place);
            let fit = formats::segments_that_fit(found.walked.format, &mut Tape::new(&behind));
            // Something else begins right where the first piece ends.
            let start = self.image.lenient(end, BEGINNING).bytes;
            let ends = formats::begins(&start).is_some_and(|format| !formats::is_weak(format));
            if let Some(places) = behind.places(length) {
                ranked.push(((fit, ends), border, places));
            }
            border = border.minus(within.step);
        }
        let Some(best) = ranked.iter().map(|(rank, ..)| *rank).max() else { return found };
        ranked.retain(|(rank, ..)| *rank == best);
        let borders = ranked.iter().map(|(_, border, _)| *border);
        let meeting = borders.clone().min().zip(borders.max()).filter(|(first, last)| first < last);
        ranked.sort_by_key(|(_, border, _)| Reverse(*border));
        match ranked.into_iter().next() {
            Some((.., places)) => {
                Together { places, meeting: meeting.map(|(first, last)| first..last), ..found }
            }
            None => found,
        }
    }
}

/// The break of a picture within a segment of it, if that is where it breaks.
pub(super) fn within(before: &Walked, rest: &Rest<'_>, step: u64) -> Option<Within> {
    let End::Broken { at, .. } = before.end else { return None };
    let start = formats::segment_ending_at(before.format, &mut Tape::new(rest), at)?;
    Some(Within { segment: start..at, step })
}
