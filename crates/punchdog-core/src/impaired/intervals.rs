//! Stretches that read blank at a regular distance.
//!
//! ```text
//! 0 ── at ▒▒▒▒ ──────── at + every ▒▒▒▒ ──────── at + 2 × every ▒▒▒▒ ──── …      ▒ `length` bytes that are blank
//! ```
//!
//! Disks that lie in stripes over several members look so when one of them is missing, and so does what an imager made that
//! jumps. The places are told by content: of the sectors that are looked at none in these places holds anything, and what is
//! content on both sides begins and ends there: it is cut off, where a file that ends by itself mostly leaves zeros in the last
//! bytes of its sector. Rests on nothing published.

use super::{
    Places,
    heads::{SECTOR, is_blank, not_known},
};
use crate::{
    arith::Sat,
    family::{Start, spread},
    medium::{Extent, Interval, Medium},
    report::wording::listed,
};
use std::collections::BTreeSet;

/// Distances that are tried: up to so many bytes, a power of two times an odd number up to this.
const FARTHEST: u64 = 16 << 20;
const ODD: u64 = 31;
/// The shortest file that is looked at, and parts of a medium at most.
const SHORTEST: u64 = 512;
const PARTS_LOOKED_AT: usize = 4096;
/// Stretches of files that are looked at, first few and then many.
const FEW: (usize, u64) = (64, 16 << 10);
const MANY: (usize, u64) = (1024, 128 << 10);
/// Bytes in all that are looked at.
const BYTES: u64 = 32 << 20;
/// Borders between blank and content among the first few that give a reason to go on, those that must lie where they
/// should, and stretches that these must lie in.
const REASON: usize = 4;
const BORDERS: usize = 16;
const STRETCHES: usize = 6;
/// Blank parts of one distance at most.
const PARTS: usize = 4;
/// So few files do not tell.
const HARDLY: usize = 16;
/// How unlikely it must be that all of the stretches that reach into a part are blank there by themselves: one in so many.
const UNLIKELY: f64 = 1e7;
/// Sectors of a place that must have been looked at, and of how many one may hold something: what was written later.
const SEEN: u32 = 3;
const WRITTEN: u32 = 48;

/// Blank stretches at a regular distance.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Intervals {
    /// From one to the next, in bytes.
    pub(super) every: u64,
    /// The blank parts of the first `every` bytes; the last can go on at the beginning.
    pub(super) parts: Vec<Extent>,
    /// Borders between content and blank parts that were seen there.
    pub(super) seen: usize,
}

/// Bytes at the end of a sector that are zero where what it holds ends by itself.
const TAIL: usize = 8;

/// What a sector holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Holds {
    Nothing,
    /// Something that ends before the sector does.
    Ended,
    UpToItsEnd,
}

impl Holds {
    fn of(sector: &[u8]) -> Self {
        let tail = sector.get(sector.len().minus(TAIL)..).unwrap_or_default();
        match () {
            () if is_blank(sector) => Self::Nothing,
            () if tail.iter().all(|byte| *byte == 0) => Self::Ended,
            () => Self::UpToItsEnd,
        }
    }

    fn blank(self) -> bool {
        self == Self::Nothing
    }
}

/// Sectors in a row: the number of the first, and what each holds.
struct Stretch {
    first: u64,
    sectors: Vec<Holds>,
}

/// A place between content and what is blank.
#[derive(Debug, Clone, Copy)]
struct Border {
    /// The number of the sector behind it.
    at: u64,
    /// What stands before it.
    before: Holds,
}

impl Border {
    /// Content goes on behind it.
    fn begins(self) -> bool {
        self.before.blank()
    }
}

impl Stretch {
    /// `None` where too little of it can be read: what is not known is neither blank nor written.
    fn read(medium: &dyn Medium, unknown: &Places, place: Extent) -> Option<Self> {
        let sector = SECTOR.wide();
        let (from, to) = (place.offset.per_up(sector), place.end().min(medium.len()).per(sector));
        let count = to.checked_sub(from).filter(|count| *count > 0)?;
        let place = Extent::new(from.times(sector), count.times(sector));
        if unknown.touch([place]) {
            return None;
        }
        let got = medium.lenient(place.offset, place.length.size());
        let sectors = got.bytes.chunks(SECTOR).map(Holds::of).collect();
        got.missing.is_empty().then_some(Self { first: from, sectors })
    }

    fn sectors(&self) -> impl Iterator<Item = (u64, Holds)> + '_ {
        (self.first..).zip(self.sectors.iter().copied())
    }

    /// Where content ends and a blank part begins, or the other way about.
    fn borders(&self) -> impl Iterator<Item = Border> + '_ {
        let pairs = self.sectors().zip(self.sectors().skip(1));
        pairs
            .filter(|((_, before), (_, behind))| before.blank() != behind.blank())
            .map(|((_, before), (at, _))| Border { at, before })
    }
}

impl Intervals {
    /// Looks for them in what files hold.
    pub(super) fn in_files(medium: &dyn Medium, starts: &[Start]) -> Option<Self> {
        let long = starts.iter().filter(|start| start.bytes >= SHORTEST);
        let places: Vec<Extent> = long.map(|start| Extent::new(start.place, start.bytes)).collect();
        Self::find(medium, &places)
    }

    /// Looks for them in all that a medium holds, where hardly a file is left that would tell.
    pub(super) fn anywhere(medium: &dyn Medium, starts: &[Start]) -> Option<Self> {
        let files = starts.iter().filter(|start| start.bytes >= SHORTEST).count();
        if files < HARDLY { Self::find(medium, &written(medium)) } else { None }
    }

    /// Looks for them in these places: in a few first, and in many where these give a reason.
    fn find(medium: &dyn Medium, places: &[Extent]) -> Option<Self> {
        let unknown = not_known(medium);
        let read = |(most, length): (usize, u64)| {
            let mut left = BYTES;
            let all = spread(places.iter(), most).filter_map(|place| {
                Stretch::read(medium, &unknown, Extent::new(place.offset, place.length.min(length)))
            });
            all.take_while(|stretch| {
                left = left.minus(stretch.sectors.len().times(SECTOR).wide());
                left > 0
            })
            .collect::<Vec<Stretch>>()
        };
        let borders = read(FEW).iter().fold(0, |sum: usize, stretch| sum.plus(stretch.borders().count()));
        if borders < REASON {
            return None;
        }
        let mut stretches = read(MANY);
        // What is blank throughout tells nothing, as where nothing was ever written.
        stretches.retain(|stretch| !stretch.sectors.iter().all(|sector| sector.blank()));
        distances().find_map(|every| at_distance(&stretches, every))
    }

    /// What of `extent` is blank.
    pub(super) fn in_this(&self, extent: Extent) -> Vec<Extent> {
        let mut found: Vec<Extent> = self.each().flat_map(|one| one.within(extent)).collect();
        found.sort_by_key(|part| part.offset);
        found
    }

    /// In words: of how many bytes which.
    pub(super) fn words(&self) -> String {
        let one = |part: &Extent| format!("{} from byte {} on", part.length, part.offset);
        let parts: Vec<String> = self.parts.iter().map(one).collect();
        format!("of every {} bytes {}", self.every, listed(&parts))
    }

    /// Each of its parts by itself.
    pub(super) fn each(&self) -> impl Iterator<Item = Interval> + '_ {
        self.parts.iter().map(|part| Interval { every: self.every, from: part.offset, bytes: part.length })
    }
}

/// What is no hole of a medium, in parts as long as those of files that are looked at.
fn written(medium: &dyn Medium) -> Vec<Extent> {
    let mut places = Vec::new();
    let mut at = 0;
    while places.len() < PARTS_LOOKED_AT
        && let Some(data) = medium.data_from(at)
    {
        at = data.end().min(data.offset.plus(MANY.1));
        places.push(Extent::new(data.offset, at.minus(data.offset)));
        at = at.max(medium.len().per(PARTS_LOOKED_AT.wide()).plus(data.offset));
    }
    places
}

/// All distances that are tried, in sectors, the shortest first.
fn distances() -> impl Iterator<Item = u64> {
    let most = FARTHEST.per(SECTOR.wide());
    let odd = (0..).map(|half: u64| half.times(2).plus(1)).take_while(|odd| *odd <= ODD);
    let all = odd.flat_map(move |odd| {
        (0..u64::BITS).map(move |power| odd << power).take_while(move |sectors| *sectors <= most)
    });
    all.filter(|sectors| *sectors >= 2).collect::<BTreeSet<u64>>().into_iter()
}

/// What is blank at that distance of so many sectors, if anything is.
fn at_distance(stretches: &[Stretch], every: u64) -> Option<Intervals> {
    let looked_at = stretches.iter().fold(0, |sum: usize, stretch| sum.plus(stretch.sectors.len()));
    // A distance of which each place was looked at only a few times tells nothing.
    if every.times(u64::from(SEEN)) > looked_at.wide() {
        return None;
    }
    let mut seen = vec![(0_u32, 0_u32); every.size()];
    for (at, sector) in stretches.iter().flat_map(Stretch::sectors) {
        if let Some((blanks, written)) = seen.get_mut(at.rest(every).size()) {
            *blanks = blanks.plus(u32::from(sector.blank()));
            *written = written.plus(u32::from(!sector.blank()));
        }
    }
    let is = |at: u64| {
        seen.get(at.rest(every).size())
            .is_some_and(|(blanks, written)| *blanks >= SEEN && *written <= blanks.per(WRITTEN))
    };
    let count = (0..every).filter(|at| is(*at)).count().wide();
    let begin = (0..every).filter(|at| is(*at) && !is(at.plus(every).minus(1))).count();
    if count == 0 || count.times(8) > every.times(7) || begin > PARTS {
        return None;
    }
    // Nearly every border there is lies where blank parts begin or end.
    let fits = |border: &Border| {
        is(border.at) != border.begins() && is(border.at.plus(every).minus(1)) == border.begins()
    };
    let (mut fitting, mut others, mut ending, mut within, mut cut) =
        (0_usize, 0_usize, 0_usize, 0_usize, 0_usize);
    for stretch in stretches {
        let (good, bad): (Vec<Border>, Vec<Border>) = stretch.borders().partition(fits);
        fitting = fitting.plus(good.len());
        ending = ending.plus(good.iter().filter(|border| !border.begins()).count());
        cut = cut.plus(good.iter().filter(|border| border.before == Holds::UpToItsEnd).count());
        others = others.plus(bad.len());
        within = within.plus(usize::from(!good.is_empty()));
    }
    let both = ending.times(4) >= fitting && ending.times(4) <= fitting.times(3);
    if fitting < BORDERS || fitting < others || within < STRETCHES || !both || cut.times(2) <= ending {
        return None;
    }
    let sector = SECTOR.wide();
    let blanks = seen.iter().fold(0_u64, |sum, (blanks, _)| sum.plus(u64::from(*blanks)));
    let mut parts = Extent::joined((0..every).filter(|at| is(*at)).map(|at| at.times(sector)), sector);
    let needed = needed(every, blanks, looked_at.wide());
    if parts.iter().any(|part| reaching(stretches, every, *part) < needed) {
        return None;
    }
    let every = every.times(sector);
    // What goes on from the end to the beginning is one part.
    if let (Some(first), Some(last)) = (parts.first().copied(), parts.last_mut())
        && first.offset == 0
        && last.end() == every
        && first != *last
    {
        last.length = last.length.plus(first.length);
        parts.remove(0);
    }
    Some(Intervals { every, parts, seen: fitting })
}

/// How many stretches must be blank in a part of a distance of `every` sectors, where `blanks` of all sectors `looked_at` are
/// blank, that it is not so by chance.
fn needed(every: u64, blanks: u64, looked_at: u64) -> usize {
    let share = f64::from(blanks.narrow()) / f64::from(looked_at.narrow().max(1));
    let each = -share.clamp(0.01, 0.95).ln();
    let mut left = 2.0 * f64::from(every.narrow()).ln() + UNLIKELY.ln();
    let mut count = 0_usize;
    while left > 0.0 {
        left -= each;
        count = count.plus(1);
    }
    count
}

/// How many stretches have blank sectors in a part of the distance of `every` sectors.
fn reaching(stretches: &[Stretch], every: u64, part: Extent) -> usize {
    let sectors = part.offset.per(SECTOR.wide())..part.end().per(SECTOR.wide());
    let reaches = |stretch: &&Stretch| {
        stretch.sectors().any(|(at, it)| it.blank() && sectors.contains(&at.rest(every)))
    };
    stretches.iter().filter(reaches).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Files of noise of these lengths in a row, a blank sector behind each, and blank parts at a distance.
    fn stretches(files: &[u64], blank: impl Fn(u64) -> bool) -> Vec<Stretch> {
        let mut at = 0;
        let mut found = Vec::new();
        let holds = |sector| if blank(sector) { Holds::Nothing } else { Holds::UpToItsEnd };
        for length in files {
            found.push(Stretch { first: at, sectors: (at..at.plus(*length)).map(holds).collect() });
            at = at.plus(*length).plus(1);
        }
        found
    }

    fn found(stretches: &[Stretch]) -> Option<(u64, Vec<Extent>)> {
        distances().find_map(|every| at_distance(stretches, every)).map(|it| (it.every, it.parts))
    }

    #[test]
    fn what_is_blank_at_a_distance_is_found() {
        let files: Vec<u64> = (0..300).map(|number| 30 + number * 37 % 400).collect();
        for (every, at, length) in [(64, 5, 1), (256, 128, 128), (256, 200, 56), (24, 3, 8), (80, 0, 16)] {
            let blank = |sector: u64| (sector + every - at) % every < length;
            let sector = SECTOR.wide();
            let expected = Some((every * sector, vec![Extent::new(at * sector, length * sector)]));
            assert_eq!(found(&stretches(&files, blank)), expected);
            // One place that was written since speaks against nothing, an eighth of them does.
            let one = |at: u64| blank(at) && !(9000..9000 + every).contains(&at);
            assert_eq!(found(&stretches(&files, one)), expected);
            let many = |at: u64| blank(at) && !(at / every).is_multiple_of(8);
            assert!(found(&stretches(&files, many)) != expected);
        }
    }

    #[test]
    fn what_files_have_of_themselves_is_no_such_thing() {
        let files: Vec<u64> = (0..300).map(|number| 30 + number * 37 % 400).collect();
        let some = |sector: u64| sector.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 60 == 0;
        assert!(found(&stretches(&files, some)).is_none());
        // Small files, each with nothing in its second half.
        let small: Vec<Stretch> = (0..300)
            .map(|number| Stretch {
                first: number * 8,
                sectors: [[Holds::UpToItsEnd; 4], [Holds::Nothing; 4]].concat(),
            })
            .collect();
        assert_eq!(found(&small), None);
        // Texts of a line each, in clusters of four sectors, many to a stretch; files of whole sectors there would be holes.
        let clusters = |first: Holds| {
            let cluster = [first, Holds::Nothing, Holds::Nothing, Holds::Nothing];
            (0..400)
                .map(|number| Stretch { first: number * 64, sectors: cluster.repeat(16) })
                .collect::<Vec<_>>()
        };
        assert_eq!(found(&clusters(Holds::Ended)), None);
        assert!(found(&clusters(Holds::UpToItsEnd)).is_some());
        assert_eq!(found(&stretches(&files, |_| true)), None);
        assert_eq!(found(&stretches(&files, |_| false)), None);
    }
}
