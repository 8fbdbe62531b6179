//! A medium that begins again: it says that it is larger than it is, and what is written behind its true end lands
//! at its beginning.
//!
//! ```text
//! 0 ─────────── P ─────────── 2P ────────   what the medium says it has
//! [ all there is ][ the same again ][ …     what reading it gives
//! ```
//!
//! Nothing published says how such media behave; this rests on what reading one gives: every byte once more, P further.

use super::Places;
use crate::{
    arith::Sat,
    family::{Survey, Wanted},
    medium::{Extent, Medium},
};
use std::{collections::HashSet, ops::ControlFlow};

const SECTOR: u64 = 512;
/// The shortest medium and the shortest period that are looked at.
const SHORTEST: u64 = 1 << 20;
/// Periods of which it is asked, where something is wrong.
const ASKED: u64 = 4096;
/// Places that are compared, and how many of them have to differ from each other.
const COMPARED: u64 = 192;
const DIFFERENT: usize = 6;

/// What a medium comes to that begins again.
#[derive(Debug, Clone)]
pub(super) struct Wraps {
    /// After so many bytes.
    pub(super) after: u64,
    /// Where, before that, content from behind it landed.
    pub(super) landed: Places,
}

fn sector(medium: &dyn Medium, at: u64) -> Option<Vec<u8>> {
    let hole = medium.data_from(at).is_none_or(|data| data.offset >= at.plus(SECTOR));
    if hole { Some(vec![0; SECTOR.size()]) } else { medium.bytes(at, SECTOR.size()).ok() }
}

fn blank(bytes: &[u8]) -> bool {
    bytes.first().is_none_or(|first| bytes.iter().all(|byte| byte == first))
}

/// Sizes that memory chips come in, with what is set aside of them taken off: thirty-seconds of powers of two.
fn usual(length: u64) -> impl Iterator<Item = u64> {
    let powers = (0..7_u32).map(move |below| length.next_power_of_two() >> below);
    powers.flat_map(|power| (17..=32_u64).map(move |part| power.per(32).times(part)))
}

/// After how many bytes the medium begins again, if it does. `thorough` asks of many more lengths than the usual ones.
pub(super) fn period(medium: &dyn Medium, thorough: bool) -> Option<u64> {
    let length = medium.len();
    let head = sector(medium, 0).filter(|head| length > SHORTEST.times(2) && !blank(head))?;
    let step = length.per(ASKED).next_power_of_two().max(SHORTEST);
    let others = (1..).map(|number: u64| number.times(step)).take_while(|at| thorough && *at < length);
    let mut asked: Vec<u64> = usual(length)
        .chain(others)
        .filter(|at| *at >= SHORTEST && at.plus(SHORTEST) <= length && at.rest(SECTOR) == 0)
        .collect();
    asked.sort_unstable();
    let begins = |at: u64| {
        let data = medium.data_from(at).is_some_and(|data| data.offset <= at);
        data && sector(medium, at).as_ref() == Some(&head) && repeats(medium, at)
    };
    let found = asked.into_iter().find(|at| begins(*at))?;
    // What repeats after some bytes repeats after twice as many as well.
    let parts = (2..=64_u64)
        .rev()
        .map(|part| found.per(part))
        .filter(|at| *at >= SHORTEST && at.rest(SECTOR) == 0 && found.rest(*at) == 0);
    Some(parts.into_iter().find(|at| begins(*at)).unwrap_or(found))
}

/// True when all places that are compared stand a second time, so much further.
fn repeats(medium: &dyn Medium, period: u64) -> bool {
    let span = medium.len().minus(period).min(period);
    let near = (0..64_u64).map(|number| number.times(SECTOR));
    let far = (0..COMPARED).map(|number| span.per(COMPARED).times(number).per(SECTOR).times(SECTOR));
    let mut different = HashSet::new();
    for at in near.chain(far).filter(|at| at.plus(SECTOR) <= span) {
        let (Some(one), Some(other)) = (sector(medium, at), sector(medium, at.plus(period))) else {
            continue;
        };
        if one != other {
            return false;
        }
        if !blank(&one) {
            different.insert(one);
        }
    }
    different.len() >= DIFFERENT
}

impl Wraps {
    /// What a period does to the files of a volume.
    pub(super) fn of(medium: &dyn Medium, survey: &mut dyn Survey, after: u64) -> Self {
        let mut landed = Vec::new();
        survey.each_file(medium, Wanted::default(), &mut |file| {
            for extent in file.content.extents().filter(|extent| extent.end() > after) {
                let start = extent.offset.max(after);
                landed.push(Extent::new(start.rest(after), extent.end().minus(start)));
            }
            ControlFlow::Continue(())
        });
        Self { after, landed: Places::from(landed) }
    }

    /// Why a file is not what was written, if that may be.
    pub(super) fn hurts(&self, extents: impl Iterator<Item = Extent> + Clone) -> Option<&'static str> {
        if extents.clone().any(|extent| extent.end() > self.after) {
            return Some(
                "it stands beyond where the medium begins again: what is read there belongs to another place",
            );
        }
        let hit = self.landed.touch(extents);
        hit.then_some("what was written beyond the true end of the medium may have landed in it")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    /// Noise in every second 4 KiB, zeros between.
    fn bytes(length: usize, seed: u64) -> Vec<u8> {
        let noise = |at: usize| (at.wide().wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ seed).to_le_bytes()[6];
        (0..length).map(|at| if at / 4096 % 2 == 0 { noise(at) } else { 0 }).collect()
    }

    #[test]
    fn a_period_is_found_where_there_is_one_and_nowhere_else() {
        for after in [4 << 20, 3 << 20, 5 << 20, 15 << 18] {
            let once = bytes(after, 1);
            let medium: Vec<u8> = once.iter().copied().cycle().take(16 << 20).collect();
            let expected = Some(after.wide());
            assert_eq!(period(&Memory::new(medium.clone()), true), expected, "{after}");
            // A second copy of the beginning is no period.
            let mut only_head = bytes(16 << 20, 2);
            only_head.copy_within(0..1 << 20, after);
            assert_eq!(period(&Memory::new(only_head), true), None, "{after}");
        }
        assert_eq!(period(&Memory::new(vec![0; 16 << 20]), true), None);
        let pattern: Vec<u8> = b"FILLER..".iter().copied().cycle().take(16 << 20).collect();
        assert_eq!(period(&Memory::new(pattern), true), None, "one sector again and again is no medium");
    }
}
