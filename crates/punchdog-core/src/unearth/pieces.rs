//! Files in pieces: where a structure breaks, the file goes on somewhere else.
//!
//! First behind what was found since: a file that was there first, and that this one was written around. Then by trial:
//! the break lies at the end of a cluster a little before the byte that cannot be right; the second piece begins at one
//! of the free clusters near. Only what fits to its end is taken, and it is called likely.

use super::{
    Complete, Error, Find, Search, Take,
    content::{Pending, length_of, unnamed},
    ground::{Rest, SECTOR},
    segment::within,
    trial::{BEHIND, Head},
};
use crate::{
    arith::{Peek, Sat},
    formats::{self, BEGINNING, End, Format, Resume, Source, Tape, Walked},
    medium::Extent,
};
use rangemap::RangeSet;
use rayon::prelude::*;
use std::ops::Range;

/// Clusters before a break that may be the first wrong one.
const BACK: usize = 12;
/// Bytes in which pieces are looked for around blank clusters.
const MOST_NEAR: u64 = 64 << 20;
/// Bytes of a chunk in which the break is looked for.
const CHUNK: u64 = 256 << 10;
/// Bytes of a unit of a film in which the break is looked for.
const UNIT: u64 = 512 << 10;
/// Clusters behind and before at which the second piece is looked for.
const AHEAD: usize = 2048;
const BEFORE: usize = 256;
/// Free clusters that are looked at for those in which a piece may begin.
const LOOKED_AT: usize = 16 * AHEAD;
/// Places that are tried with each break before others are.
const NEAR: usize = 64;
/// Bytes that may be walked for one file.
const BUDGET: u64 = 512 << 20;
/// Bytes that one of its trials counts for at least.
const LEAST: u64 = 512;
/// Found files that tell of clusters, and how many are too few.
const SAMPLE: usize = 4096;
const FEW: usize = 8;
/// Files that are looked into at once.
const AT_ONCE: usize = 32;

/// A file that was put together, or as far as it goes.
pub(super) struct Together {
    pub(super) walked: Walked,
    pub(super) places: Vec<Extent>,
    /// Where two pieces of a film meet: somewhere in these of its bytes, which nothing can be held against.
    pub(super) meeting: Option<Range<u64>>,
}

impl Search<'_> {
    /// Looks for what is missing of broken files; gives how many were left when it was told to stop.
    pub(super) fn pieces(&mut self, pending: Vec<Pending>, take: &mut Take<'_>) -> Result<usize, Error> {
        let all = pending.len().wide();
        let mut done = 0_u64;
        let mut left = 0_usize;
        let mut queue = pending;
        queue.retain(|one| !self.claimed.contains(&one.start));
        for chunk in queue.chunks(AT_ONCE) {
            self.watch.at("looking for second pieces", done, all);
            if self.watch.stop() {
                // What is known of them is written down; a later search takes them up again.
                left = left.plus(chunk.len());
                for one in chunk.iter().filter(|one| one.walked.is_worth_keeping()) {
                    take(self.as_it_is(one))?;
                }
                continue;
            }
            let found: Vec<Option<Together>> =
                chunk.par_iter().map(|one| self.together(one.start, &one.walked)).collect();
            for (one, found) in chunk.iter().zip(found) {
                match found.filter(|found| !self.claimed_in(&found.places)) {
                    Some(found) => {
                        found.places.iter().for_each(|place| self.claim(*place));
                        take(joined(&found, one.start))?;
                    }
                    None if one.walked.is_worth_keeping() => take(self.as_it_is(one))?,
                    None => {}
                }
            }
            done = done.plus(chunk.len().wide());
        }
        Ok(left)
    }

    fn as_it_is(&self, one: &Pending) -> Find {
        let rest = Rest::new(self.image, &self.ground, &self.claimed, one.start);
        let places = rest.places_up_to(one.walked.reaches.unwrap_or(length_of(&one.walked)));
        unnamed(&one.walked, one.start, &places)
    }

    /// The file that begins at `start` and broke as `before` says, put together.
    fn together(&self, start: u64, before: &Walked) -> Option<Together> {
        let End::Broken { good, at, .. } = &before.end else { return None };
        // Around what was found since.
        let step = self.grid(self.ground.stretch(start)?, start);
        let rest = Rest::new(self.image, &self.ground, &self.claimed, start).on_grid(step, start);
        let walked = formats::walk(before.format, &mut Tape::new(&rest));
        if let End::Whole { length, .. } = walked.end
            && let Some(places) = rest.places(length)
        {
            return Some(Together { walked, places, meeting: None });
        }
        self.around_blanks(start, before, None)
            .or_else(|| self.second(&rest, start, before, (*good, *at), None))
    }

    /// Around clusters without content: packed bytes have none.
    pub(super) fn around_blanks(&self, start: u64, before: &Walked, size: Option<u64>) -> Option<Together> {
        if !matches!(before.format, Format::Jpeg | Format::Png) {
            return None;
        }
        let stretch = self.ground.stretch(start)?;
        let step = self.grid(stretch, start);
        let near = size.unwrap_or(length_of(before).times(2)).times(3).plus(step.times(64)).min(MOST_NEAR);
        let end = start.plus(near).min(stretch.end());
        let mut without: RangeSet<u64> =
            self.claimed.overlapping(start..end).map(|range| range.start.max(start)..range.end).collect();
        let claimed = without.clone();
        let mut at = start;
        while at.plus(step) <= end {
            let data = self.image.data_from(at).map_or(end, |data| data.offset.min(end));
            if data >= at.plus(step) {
                let blank = data.minus(at).per(step).times(step);
                without.insert(at..at.plus(blank));
                at = at.plus(blank);
                continue;
            }
            let bytes = self.image.lenient(at, step.size()).bytes;
            let first = bytes.byte(0);
            if bytes.iter().all(|byte| *byte == first) {
                without.insert(at..at.plus(step));
            }
            at = at.plus(step);
        }
        if without == claimed {
            return None;
        }
        let rest = Rest::new(self.image, &self.ground, &without, start).on_grid(step, start);
        let walked = formats::walk(before.format, &mut Tape::new(&rest));
        let End::Whole { length, .. } = walked.end else { return None };
        if size.is_some_and(|size| size != length) {
            return None;
        }
        let places = rest.places(length).filter(|places| places.iter().all(|place| place.end() <= end))?;
        Some(Together { walked, places, meeting: None })
    }

    /// Looks for the second piece near; with a `size`, only what makes the file just as long will do.
    pub(super) fn second(
        &self,
        rest: &Rest<'_>,
        start: u64,
        before: &Walked,
        (good, at): (u64, u64),
        size: Option<u64>,
    ) -> Option<Together> {
        let stretch = self.ground.stretch(start)?;
        let step = self.grid(stretch, start);
        let fits = |found: &Together| {
            size.is_none_or(|size| matches!(found.walked.end, End::Whole { length, .. } if length == size))
        };
        if let Some(film) = self.film(rest, start, before).filter(fits) {
            return Some(film);
        }
        let (_, stands) = formats::walk_with_stands(before.format, &mut Tape::new(rest), step);
        let mut budget = BUDGET;
        let first = at.per(step).max(1);
        // A chunk with a wrong sum says nothing of where in it the wrong bytes begin; codes do, soon behind.
        let back = match before.format {
            Format::Png => CHUNK.per(step),
            // Nothing within a unit of a picture of a film can be held against anything.
            _ if stands.last().is_some_and(Resume::is_film) => UNIT.per(step),
            _ => BACK.wide(),
        };
        let last = good.per(step).max(first.minus(back)).max(1);
        let candidates = self.candidates(rest, start, first.times(step), step, stretch);
        if let Some(within) = within(before, rest, step).filter(|within| within.last_border().is_some()) {
            return self.second_within(rest, before, &within, &candidates, fits, &mut budget);
        }
        let mut heads = Vec::new();
        for number in (last..=first).rev() {
            let length = number.times(step);
            let Some(places) = rest.places(length) else { continue };
            let stand = stands.iter().rfind(|stand| stand.at() <= length);
            heads.push((places, stand));
        }
        // Where the break lies within a unit of a film, all that follows lies as far on.
        if let Some((head, Some(stand))) =
            heads.first().filter(|_| stands.last().is_some_and(Resume::is_film))
        {
            for candidate in &candidates {
                let found = Self::attempt(rest, before, head, Some(stand), *candidate, &mut budget);
                if let Some(found) = found.filter(fits) {
                    return Some(Together { meeting: meeting(good, at, step), ..found });
                }
                if budget == 0 || self.watch.stop() {
                    return None;
                }
            }
        }
        // The nearest places first, with each of the breaks.
        let ends: Vec<Option<Head<'_>>> = heads
            .iter()
            .map(|(head, stand)| {
                let length = head.iter().fold(0_u64, |sum, place| sum.plus(place.length));
                Head::new(rest, length, (*stand)?)
            })
            .collect();
        for near in candidates.chunks(NEAR) {
            let quickly = ends.iter().any(Option::is_some);
            let start = |candidate: &u64| {
                if quickly { start_of_piece(rest, *candidate) } else { Vec::new() }
            };
            let starts: Vec<Vec<u8>> = near.iter().map(start).collect();
            for ((head, stand), end) in heads.iter().zip(&ends) {
                let own: RangeSet<u64> = head.iter().map(|place| place.offset..place.end()).collect();
                let follows = head.last().map_or(0, |place| place.end());
                let open = |place: u64| place != follows && !own.contains(&place);
                for (candidate, start) in near.iter().zip(&starts).filter(|(place, _)| open(**place)) {
                    if let Some((goes_on, looked_at)) = end.as_ref().map(|end| end.goes_on_in(start))
                        && !goes_on
                    {
                        budget = budget.minus(looked_at.max(LEAST));
                    } else {
                        let together = Self::attempt(rest, before, head, *stand, *candidate, &mut budget);
                        if together.as_ref().is_some_and(fits) {
                            return together;
                        }
                    }
                    if budget == 0 || self.watch.stop() {
                        return None;
                    }
                }
            }
        }
        None
    }

    /// A film whose index is not where its data ends: where that is found so many clusters on, its table tells at which
    /// sample the film breaks, and all behind lies as far on.
    pub(super) fn film(&self, rest: &Rest<'_>, start: u64, before: &Walked) -> Option<Together> {
        let due = formats::index_due(before.format, &mut Tape::new(rest))?;
        let stretch = self.ground.stretch(start)?;
        let step = self.grid(stretch, start);
        let data = rest.places(due)?;
        let from = data.last()?.end();
        let mut budget = BUDGET;
        for gap in (1..=AHEAD.wide()).map(|clusters| clusters.times(step)) {
            let place = from.plus(gap);
            if place >= stretch.end() || budget == 0 || self.watch.stop() {
                return None;
            }
            if self.image.lenient(place, 8).bytes.part(4, 4) != b"moov" {
                continue;
            }
            let index = rest.with(&[], place);
            if !formats::is_index(&mut Tape::new(&index), due) {
                continue;
            }
            let whole = rest.with(&data, place);
            let (walked, stands) = formats::walk_with_stands(before.format, &mut Tape::new(&whole), step);
            let (good, at) = match walked.end {
                End::Whole { length, .. } => {
                    let places = whole.places(length)?;
                    return Some(Together { walked, places, meeting: None });
                }
                End::Broken { good, at, .. } => (good, at),
            };
            for number in (good.per(step).max(1)..=at.per(step)).rev() {
                let Some(head) = rest.places(number.times(step)) else { continue };
                let next = head.last().map_or(0, |place| place.end()).plus(gap);
                let stand = stands.iter().rfind(|stand| stand.at() <= number.times(step));
                if let Some(found) = Self::attempt(rest, before, &head, stand, next, &mut budget) {
                    return Some(Together { meeting: meeting(good, at, step), ..found });
                }
            }
        }
        None
    }

    /// One trial: the head, and what is free from `candidate` on.
    pub(super) fn attempt(
        rest: &Rest<'_>,
        before: &Walked,
        head: &[Extent],
        stand: Option<&Resume>,
        candidate: u64,
        budget: &mut u64,
    ) -> Option<Together> {
        let rest = rest.with(head, candidate);
        let mut tape = Tape::new(&rest);
        let walked = match stand {
            Some(stand) => formats::resume(stand, &mut tape),
            None => formats::walk(before.format, &mut tape),
        };
        let from = stand.map_or(0, Resume::at);
        *budget = budget.minus(length_of(&walked).minus(from).max(4096));
        let End::Whole { length, .. } = walked.end else { return None };
        let places = rest.places(length)?;
        let walked = Walked { taken: before.taken, title: before.title.clone(), ..walked };
        Some(Together { walked, places, meeting: None })
    }

    /// Bytes of the clusters that files begin at: the volume's own where most beginnings of found files in the stretch lie on
    /// them as this file does, else the most that nearly all of them lie on; where too few were found, the volume's own.
    fn grid(&self, stretch: Extent, start: u64) -> u64 {
        let own = self.ground.cluster(stretch.offset).unwrap_or(4096).max(SECTOR);
        let starts: Vec<u64> = self
            .claimed
            .overlapping(stretch.offset..stretch.end())
            .map(|range| range.start)
            .take(SAMPLE)
            .collect();
        let fits = |step: u64| starts.iter().filter(|at| at.rest(step) == start.rest(step)).count();
        if starts.len() < FEW || fits(own).times(4) >= starts.len().times(3) {
            return own;
        }
        let mut step = SECTOR;
        while step < 1 << 20 && fits(step.times(2)).times(10) >= starts.len().times(9) {
            step = step.times(2);
        }
        // Neighbours in one run begin where the run does: it says nothing of clusters above the volume's.
        step.min(own)
    }

    /// Free clusters near a break at which a second piece may begin: behind the first one, nearest first, then before.
    fn candidates(&self, rest: &Rest<'_>, start: u64, length: u64, step: u64, stretch: Extent) -> Vec<u64> {
        let from =
            rest.places(length).and_then(|places| places.last().map(|place| place.end())).unwrap_or(start);
        let may = |at: u64| {
            let bytes = self.image.lenient(at, BEGINNING).bytes;
            let blank = bytes.first().is_none_or(|first| bytes.iter().all(|byte| byte == first));
            // A file begins there, or it is text.
            !blank && formats::begins(&bytes).is_none()
        };
        // Clusters are counted from where those of the found files are.
        let origin = start.rest(step);
        let on_grid = |at: u64| at.minus(origin).per_up(step).times(step).plus(origin);
        let mut found = Vec::new();
        let mut at = from.minus(BACK.wide().times(step)).max(start.plus(step));
        let mut looked_at = 0_usize;
        while found.len() < AHEAD && at < stretch.end() {
            let Some(free) = self.ground.free_from(at).filter(|free| free.offset < stretch.end()) else {
                break;
            };
            at = on_grid(free.offset.max(at));
            while at < free.end() && found.len() < AHEAD {
                // Holes hold nothing.
                let Some(data) = self.image.data_from(at).filter(|data| data.offset < stretch.end()) else {
                    at = stretch.end();
                    break;
                };
                if data.offset >= at.plus(step) {
                    at = on_grid(data.offset.minus(step).plus(1));
                    continue;
                }
                if looked_at >= LOOKED_AT {
                    at = stretch.end();
                    break;
                }
                if let Some(over) = self.claimed.get(&at) {
                    at = on_grid(over.end.max(at.plus(1)));
                    continue;
                }
                if may(at) {
                    found.push(at);
                }
                looked_at = looked_at.plus(1);
                at = at.plus(step);
            }
        }
        let mut at = start;
        for _ in 0..BEFORE {
            let Some(before) = at.checked_sub(step) else { break };
            at = before;
            let free = self.ground.free_from(at).is_some_and(|free| free.offset <= at);
            if free && !self.claimed.contains(&at) && may(at) {
                found.push(at);
            }
        }
        found
    }
}

/// The first bytes of what is free from `candidate` on.
fn start_of_piece(rest: &Rest<'_>, candidate: u64) -> Vec<u8> {
    let behind = rest.with(&[], candidate);
    let mut bytes = vec![0; BEHIND.min(behind.len().size())];
    behind.read(0, &mut bytes);
    bytes
}

/// Where the pieces of a film meet, where that can be at more than one border of clusters.
fn meeting(good: u64, at: u64, step: u64) -> Option<Range<u64>> {
    let (first, last) = (good.per(step).max(1), at.per(step));
    (first < last).then(|| first.times(step)..last.times(step))
}

impl Together {
    /// How it was put together, and what that proves.
    pub(super) fn words(&self) -> String {
        let mut words = format!("put together of {} pieces that lie apart", self.places.len());
        words.push_str("; its structure fits to its end");
        if let Some(Range { start, end }) = &self.meeting {
            let within = match self.walked.format {
                Format::Jpeg => "what it says of itself, beside the picture",
                _ => "a picture of the film",
            };
            let unsure =
                format!("; where they meet is not known: in {within}, at its bytes {start} to {end}");
            words.push_str(&unsure);
        }
        words
    }
}

/// A file that was put together.
pub(super) fn joined(together: &Together, start: u64) -> Find {
    let find = unnamed(&together.walked, start, &together.places);
    Find { complete: Complete::Likely, reason: together.words(), ..find }
}
