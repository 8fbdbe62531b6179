//! Where exactly bytes were inserted, if they stand before that place as well.
//!
//! ```text
//! volume   0 ───────── x−D ─ P ─ x ── Q ─────
//! image    0 ───────── x−D ─ P ─ x ─ P ─ x+D ── Q ─────
//! ```
//!
//! What an imager wrote twice, and what a move of a partition had copied last, stands there twice: from x−D to x every byte
//! is the one D bytes behind it, from x on none that tells is.

use crate::{
    arith::Sat,
    medium::{Gap, Medium},
};

const SECTOR: u64 = 512;
/// Sectors in a row that are looked at for one that is not all one value.
const TRIED: u64 = 64;
/// Places that are looked at for one that stands twice.
const LOOKED_AT: usize = 1 << 16;
/// Places in what stands twice that are compared.
const COMPARED: u64 = 64;
/// Bytes that are compared one sector after the other.
const STEP_BY_STEP: u64 = 64 << 20;

/// The place of `gap` to the sector; `None` where nothing stands twice there. Up to it things stand `by` bytes behind where
/// they should.
pub(super) fn placed(medium: &dyn Medium, gap: Gap, by: i64) -> Option<Gap> {
    let twice = Twice { medium, by, bytes: gap.bytes };
    let step = gap.bytes.per(8).per(SECTOR).times(SECTOR).max(SECTOR);
    let front = gap.from.minus(gap.bytes);
    let places = (1..=LOOKED_AT).map(|back| gap.to.minus(step.times(back.wide())));
    let mut telling = places.take_while(|place| *place > front).filter_map(|at| twice.telling(at, gap.to));
    let (within, _) = telling.find(|(_, same)| *same)?;
    let end = twice.ends(within, gap.to)?;
    let each = gap.bytes.per(COMPARED).per(SECTOR).times(SECTOR).max(SECTOR);
    let back = (1..=COMPARED).map(|back| back.times(each)).take_while(|back| *back <= gap.bytes);
    let compared: Vec<bool> = back.filter_map(|back| twice.same(end.checked_sub(back)?)).collect();
    let all = !compared.is_empty() && compared.iter().all(|same| *same);
    (all && end >= gap.from).then_some(Gap { from: end, to: end, ..gap })
}

/// What is compared with what stands so many bytes behind it.
struct Twice<'m> {
    medium: &'m dyn Medium,
    by: i64,
    bytes: u64,
}

impl Twice<'_> {
    /// The sector at a place, and the one behind it.
    fn pair(&self, place: u64) -> Option<[Vec<u8>; 2]> {
        let at = place.checked_add_signed(self.by)?;
        let read = |at| self.medium.bytes(at, SECTOR.size()).ok();
        Some([read(at)?, read(at.plus(self.bytes))?])
    }

    /// Whether the sector at a place stands behind it as well; `None` where it is all one value, or cannot be read.
    fn same(&self, place: u64) -> Option<bool> {
        let [here, behind] = self.pair(place)?;
        let first = here.first()?;
        here.iter().any(|byte| byte != first).then(|| here == behind)
    }

    /// The first sector from a place on, and before another, that tells something, and what.
    fn telling(&self, from: u64, before: u64) -> Option<(u64, bool)> {
        let sectors = (0..TRIED).map(|sector| from.plus(sector.times(SECTOR)));
        sectors.take_while(|at| *at < before).find_map(|at| Some((at, self.same(at)?)))
    }

    /// Where what stands twice ends: behind a sector that does, and not behind `before`.
    fn ends(&self, mut within: u64, before: u64) -> Option<u64> {
        let mut behind = before;
        while behind.minus(within) > TRIED.times(SECTOR) {
            let middle = within.plus(behind.minus(within).per(2).per(SECTOR).times(SECTOR));
            match self.telling(middle, behind) {
                Some((at, true)) => within = at,
                Some((at, false)) if at < behind => behind = at,
                _ => break,
            }
        }
        let sectors = behind.minus(within).min(STEP_BY_STEP).per(SECTOR);
        let places = (1..=sectors).map(|sector| within.plus(sector.times(SECTOR)));
        let differs = |at: &u64| self.pair(*at).is_none_or(|[here, there]| here != there);
        places.into_iter().find(|at| *at >= behind || differs(at))
    }
}
