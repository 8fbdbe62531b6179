//! Files and structures that tell how far off a stretch of an image stands: where they begin their kind says, or they
//! themselves.
//!
//! ```text
//! place        a ── b ── c ── d ── e ── f      where the volume says that they begin
//! stands       a ── b ──── c ── d ── e ── f    where something of their kind begins
//! off by       0    0     2    2    2    2
//! ```
//!
//! Something of the same kind begins in many places. What stands where another should tells nothing; what all of a row stand
//! off by tells most.

use super::heads::HEAD;
use crate::{
    arith::Sat,
    family::{Mark, Start, spread},
    files::kinds,
    medium::Medium,
    progress::Watch,
};
use std::{cmp::Reverse, collections::BTreeMap, ops::Range};

const SECTOR: u64 = 512;
/// How far too early or too late things are looked for sector by sector, and from there on by what partitions are moved by.
const NEAR: u64 = 1 << 20;
const FAR: u64 = 4 << 30;
const MOVED_BY: u64 = 1 << 20;
/// Files that stand wrong and are asked for what stands around them, and far from them.
const ASKED: usize = 48;
const ASKED_FAR: usize = 12;
/// So many that stand as far off tell of a shift; of what says itself which it is fewer do.
const AGREEING: usize = 4;
const SURE: usize = 2;
/// Shifts that are followed.
const SHIFTS: usize = 32;
/// Files that say together how far off the last ones stand.
const VOTERS: usize = 12;
/// So many that stand otherwise in a row, and it is another stretch.
const MISSED: usize = 8;

/// How far behind its place something stands, in bytes; less than nothing is too early.
pub(super) type By = i64;

/// So many bytes too early.
pub(super) fn early(bytes: u64) -> By {
    late(bytes).saturating_neg()
}

/// So many bytes too late.
fn late(bytes: u64) -> By {
    By::try_from(bytes).unwrap_or(By::MAX)
}

/// What tells of a file or folder that it begins at a place; `None` where nothing would.
pub(super) fn begins(start: &Start, bytes: &[u8]) -> Option<bool> {
    match &start.mark {
        Mark::Own { test, of, .. } => Some(test(bytes, *of)),
        Mark::Lost => {
            Some(kinds::extension(bytes).is_some_and(|extension| kinds::usual_of(&extension).is_some()))
        }
        Mark::Name(name) => kinds::agrees(name, bytes),
    }
}

/// True where a file begins so far from its place.
pub(super) fn stands(medium: &dyn Medium, start: &Start, by: By) -> bool {
    let at = start.place.checked_add_signed(by).filter(|at| at.plus(SECTOR) <= medium.len());
    at.is_some_and(|at| begins(start, &medium.lenient(at, HEAD).bytes) == Some(true))
}

/// Files of which all stand as far off: which, how far, how many that was seen of, and how many stand nowhere.
pub(super) struct Stretch {
    pub(super) from: usize,
    pub(super) by: By,
    pub(super) good: usize,
    pub(super) bad: usize,
    /// It needs more to be believed.
    pub(super) weak: bool,
}

/// Files that stand so far off: where no other should, in all, and that cannot be mistaken.
#[derive(Default)]
struct Votes {
    told: usize,
    all: usize,
    sure: usize,
}

/// Files in the order of their places.
pub(super) struct Witnesses<'m> {
    medium: &'m dyn Medium,
    pub(super) missing: By,
    pub(super) all: Vec<Start>,
    /// Which stand where they should.
    right: Vec<bool>,
    /// How far off several were seen to stand.
    shifts: Vec<By>,
}

impl<'m> Witnesses<'m> {
    /// Those that tell something, of which `right` stand where they should, and the places of those that do not tell.
    pub(super) fn new(
        medium: &'m dyn Medium,
        missing: By,
        all: Vec<Start>,
        right: Vec<bool>,
        watch: &dyn Watch,
    ) -> (Self, Vec<u64>) {
        let mut witnesses = Self { medium, missing, all, right, shifts: Vec::new() };
        witnesses.shifts = witnesses.shifts(watch);
        let silent = witnesses.drop_silent();
        (witnesses, silent)
    }

    fn stands(&self, number: usize, by: By) -> bool {
        if by == 0 {
            return self.right.get(number).copied().unwrap_or(false);
        }
        self.all.get(number).is_some_and(|start| stands(self.medium, start, by))
    }

    /// How far off several of those that stand wrong do stand, each where no other should: the most first.
    fn shifts(&self, watch: &dyn Watch) -> Vec<By> {
        let wrong = self.all.iter().zip(&self.right).filter(|(_, right)| !**right).map(|(start, _)| start);
        let (own, mut others): (Vec<&Start>, Vec<&Start>) = wrong.partition(|start| start.says_itself());
        // Of what has no name most kinds have no signature: where enough others tell, it is not asked.
        if others.iter().filter(|start| start.is_named()).count() >= VOTERS {
            others.retain(|start| start.is_named());
        }
        let mut votes: BTreeMap<By, Votes> = BTreeMap::new();
        let mut count = |start: &Start, by: By| {
            let votes = votes.entry(by).or_default();
            votes.told = votes.told.plus(usize::from(!self.is_place(start.place, by)));
            votes.all = votes.all.plus(1);
            votes.sure = votes.sure.plus(usize::from(start.says_itself()));
        };
        let some = |most: usize| spread(own.iter(), most.per(2)).chain(spread(others.iter(), most));
        for start in some(ASKED).copied() {
            if watch.stop() {
                return Vec::new();
            }
            self.around(start).into_iter().for_each(|by| count(start, by));
        }
        let steps = FAR.min(self.medium.len()).per(MOVED_BY);
        let far = |step: u64| [early(step.times(MOVED_BY)), late(step.times(MOVED_BY))];
        let far: Vec<By> = (2..=steps).flat_map(far).chain([self.missing]).collect();
        let mut probes: Vec<(u64, By, &Start)> = Vec::new();
        for start in some(ASKED_FAR).copied() {
            let at = |by: &By| Some((start.place.checked_add_signed(*by)?, *by, start));
            probes.extend(far.iter().filter(|by| by.unsigned_abs() > NEAR).filter_map(at));
        }
        // In order of their places, as a medium is read best.
        probes.sort_by_key(|(at, ..)| *at);
        for (_, by, start) in probes {
            if watch.stop() {
                return Vec::new();
            }
            if stands(self.medium, start, by) {
                count(start, by);
            }
        }
        let told = |(by, votes): &(By, Votes)| {
            votes.sure >= SURE || votes.told >= AGREEING || *by == self.missing && votes.told >= SURE
        };
        let mut found: Vec<(By, Votes)> = votes.into_iter().filter(told).collect();
        found.sort_by_key(|(_, votes)| Reverse((votes.sure, votes.told, votes.all)));
        found.into_iter().take(SHIFTS).map(|(by, _)| by).collect()
    }

    /// How far off something of its kind begins, near its place.
    fn around(&self, start: &Start) -> Vec<By> {
        let from = start.place.minus(NEAR);
        let to = start.place.plus(NEAR).plus(HEAD.wide());
        let bytes = self.medium.lenient(from, to.minus(from).size()).bytes;
        let parts = (0..).map(|part: u64| part.times(SECTOR)).zip(bytes.windows(HEAD).step_by(SECTOR.size()));
        let alike = parts.filter(|(_, bytes)| begins(start, bytes) == Some(true));
        let off = alike.map(|(part, _)| late(from.plus(part)).saturating_sub(late(start.place)));
        off.filter(|by| *by != 0).collect()
    }

    /// Leaves out what stands neither right nor as far off as several others; gives the places of these.
    fn drop_silent(&mut self) -> Vec<u64> {
        let known = |number: &usize| {
            self.stands(*number, 0) || self.shifts.iter().any(|by| self.stands(*number, *by))
        };
        let tell: Vec<bool> = (0..self.all.len()).map(|number| known(&number)).collect();
        let mut silent = Vec::new();
        let (all, right) = (std::mem::take(&mut self.all), std::mem::take(&mut self.right));
        for ((start, right), tells) in all.into_iter().zip(right).zip(tell) {
            if tells {
                self.all.push(start);
                self.right.push(right);
            } else if start.is_named() {
                silent.push(start.place);
            }
        }
        silent
    }

    /// Where the last before `number` stands that stands `by` off, with all of a sector before byte `end`. Where another comes
    /// to stand that stands off by `more`, one that seems to stand so tells nothing.
    pub(super) fn last(&self, number: usize, by: By, more: By, end: u64) -> Option<u64> {
        let is = |number: &usize| {
            let Some(start) = self.all.get(*number) else { return false };
            start.place.plus(SECTOR) <= end
                && !self.is_place(start.place, more.saturating_neg())
                && self.stands(*number, by)
        };
        let found = (0..number).rev().find(is)?;
        self.all.get(found).map(|start| start.place)
    }

    /// True where one stands right, and no other comes to stand there that stands off by `by`.
    fn is_right(&self, number: usize, by: By) -> bool {
        let place = self.all.get(number).map_or(0, |start| start.place);
        self.stands(number, 0) && !self.is_place(place, by.saturating_neg())
    }

    /// True where one stands off by `by`, and neither right as well nor where another should.
    fn is_off(&self, number: usize, by: By) -> bool {
        let place = self.all.get(number).map_or(0, |start| start.place);
        self.stands(number, by) && !self.stands(number, 0) && !self.is_place(place, by)
    }

    /// The stretches that stand off, in order. They are looked for from the end: behind the last place all stand as far off.
    pub(super) fn stretches(&self) -> Vec<Stretch> {
        let (mut found, mut end, mut behind) = (Vec::new(), self.all.len(), None);
        while end > 0 {
            let voters = end.minus(VOTERS)..end;
            let right = voters.clone().filter(|number| self.stands(*number, 0));
            let right =
                right.filter(|number| self.shifts.iter().all(|by| self.is_right(*number, *by))).count();
            let Some((by, weak)) = self.voted(voters.clone(), behind) else {
                if right.times(2) >= voters.len() {
                    break;
                }
                end = end.minus(1);
                continue;
            };
            let stretch = Stretch { weak, ..self.reaches(end, by) };
            (end, behind) = (stretch.from.min(end.minus(1)), Some(by));
            found.push(stretch);
        }
        found.reverse();
        found
    }

    /// How far off most of these stand, other than those behind, and whether only few say so. What stands off and right tells
    /// nothing.
    fn voted(&self, voters: Range<usize>, behind: Option<By>) -> Option<(By, bool)> {
        let stand = |by: By| voters.clone().filter(|number| self.stands(*number, by)).count();
        // Of two that are equal the one that more files tell of in all.
        let others = self.shifts.iter().rev().filter(|by| Some(**by) != behind);
        let by = others.copied().max_by_key(|by| stand(*by))?;
        let off = voters.clone().filter(|number| self.is_off(*number, by));
        let is = |number: &usize, what: fn(&Start) -> bool| self.all.get(*number).is_some_and(what);
        let many = off.clone().filter(|number| !is(number, Start::may_be_old)).count();
        let sure = off.filter(|number| is(number, Start::says_itself)).count();
        let told = voters.filter(|number| self.is_off(*number, by) || self.is_right(*number, by)).count();
        let enough = if by == self.missing { SURE } else { AGREEING };
        let enough = many >= enough && many.times(5) >= told.times(3);
        (enough || sure >= SURE).then_some((by, !enough))
    }

    /// The stretch before `end` in which files stand so far off, without many between that do not.
    fn reaches(&self, end: usize, by: By) -> Stretch {
        let mut found = Stretch { from: end, by, good: 0, bad: 0, weak: false };
        let mut missed = 0_usize;
        for number in (0..end).rev() {
            if self.is_off(number, by) {
                found.from = number;
                found.good = found.good.plus(1);
                found.bad = found.bad.plus(std::mem::take(&mut missed));
            } else if self.is_right(number, by) || !self.stands(number, by) && !self.stands(number, 0) {
                missed = missed.plus(1);
            }
            if missed >= MISSED {
                break;
            }
        }
        found
    }

    /// True where a file begins so far off a place, by the volume.
    fn is_place(&self, place: u64, by: By) -> bool {
        let at = place.checked_add_signed(by);
        at.is_some_and(|at| self.all.binary_search_by_key(&at, |start| start.place).is_ok())
    }
}
