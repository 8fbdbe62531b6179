//! How files begin where the volume says that they do: read once, for all who ask.
//!
//! A few are read first, spread over the volume; all of them, up to a bound, where these give a reason.

use super::{Places, witnesses::begins};
use crate::{
    arith::Sat,
    family::{Mark, Start, spread},
    files::{filler, kinds},
    medium::{Extent, Medium, Unknown},
};

/// Bytes of a file that tell its kind here.
pub(super) const HEAD: usize = 1024;
/// Bytes that are blank or not.
pub(super) const SECTOR: usize = 512;
/// Files that are looked at first: spread evenly, and the last ones, because all behind a place may stand wrong.
const FEW: usize = 16;
const LAST: usize = 8;
/// Files that are looked at first where it is asked whether any begins blank.
const FEW_BLANK: usize = 64;
/// Bytes of a hole in the image from where a file begins on, so that nothing was written there.
const UNWRITTEN: u64 = 64 << 10;
/// Files that are looked at at most.
pub(super) const MOST: usize = 4096;

/// What stands where something should begin.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Stands {
    /// Something of its kind.
    Right,
    /// Something else, of no kind.
    Otherwise,
    /// Something of another kind: not all files are what their names say.
    Another,
    /// Nothing: a sector of one value, or what an imager fills with.
    Blank,
    /// Nothing, and none of the 64 KiB from there on was ever written to the image.
    Unwritten,
    /// What cannot be read, was not, or lies beyond the end of the image: that is nothing for or against.
    Unread,
    /// Something of which nothing tells whether it should stand there.
    Silent,
}

impl Stands {
    fn is_wrong(self) -> bool {
        matches!(self, Self::Otherwise | Self::Another | Self::Blank)
    }
}

/// Where files and structures begin, in the order of their places, and what stands there.
pub(super) struct Heads {
    pub(super) all: Vec<(Start, Stands)>,
    /// Many stand otherwise.
    pub(super) moved: bool,
}

/// True for what holds nothing: one value throughout, or an imager's filler.
pub(crate) fn is_blank(sector: &[u8]) -> bool {
    one_value(sector) || filler::phrase(sector).is_some()
}

/// A letter again and again may be text.
fn one_value(sector: &[u8]) -> bool {
    sector
        .first()
        .is_none_or(|first| !(0x20..0x7F).contains(first) && sector.iter().all(|byte| byte == first))
}

/// What stands where `start` should begin; what is not known is nothing of it.
fn stands(medium: &dyn Medium, unknown: &Places, start: &Start) -> Stands {
    let here = Extent::new(start.place, SECTOR.wide());
    if here.end() > medium.len() || unknown.touch([here]) {
        return Stands::Unread;
    }
    if medium.data_from(start.place).is_none_or(|data| data.offset > start.place.plus(UNWRITTEN)) {
        return Stands::Unwritten;
    }
    let bytes = medium.lenient(start.place, HEAD).bytes;
    match begins(start, &bytes) {
        Some(true) => Stands::Right,
        _ if bytes.get(..SECTOR).is_some_and(is_blank) => Stands::Blank,
        Some(false) if kinds::extension(&bytes).is_some() => Stands::Another,
        Some(false) => Stands::Otherwise,
        None => Stands::Silent,
    }
}

/// What nobody knows of a medium.
pub(super) fn not_known(medium: &dyn Medium) -> Places {
    Places::from([Unknown::Unreadable, Unknown::Lost].map(|which| medium.unknown(which)).concat())
}

/// True for files whose first sector cannot be blank, by their names.
fn is_written(start: &Start) -> bool {
    matches!(&start.mark, Mark::Name(name) if kinds::begins_with_something(name))
}

impl Heads {
    /// Of a volume that should be longer by `missing` bytes; `None` where a few files show nothing that asks for more. `starts`
    /// are in the order of their places.
    pub(super) fn read(medium: &dyn Medium, starts: Vec<Start>, missing: u64) -> Option<Self> {
        let unknown = not_known(medium);
        let told = |start: &&Start| begins(start, &[]).is_some();
        let wrong = |few: Vec<&Start>, of: usize| {
            let wrong = few.iter().map(|start| stands(medium, &unknown, start));
            let wrong = wrong.filter(|stands| stands.is_wrong()).count();
            wrong.times(4) >= few.len().max(of.per(2))
        };
        let all = starts.iter().filter(told);
        let last = all.clone().rev().filter(|start| start.is_named()).take(LAST).collect();
        let moved = missing > 0 || wrong(spread(all, FEW).collect(), FEW) || wrong(last, LAST);
        let blank = || {
            let mut few = spread(starts.iter().filter(|start| is_written(start)), FEW_BLANK);
            few.any(|start| matches!(stands(medium, &unknown, start), Stands::Blank | Stands::Unwritten))
        };
        if !moved && !blank() {
            return None;
        }
        Some(Self { moved, ..Self::of(medium, starts) })
    }

    /// All of these.
    pub(super) fn of(medium: &dyn Medium, starts: Vec<Start>) -> Self {
        let unknown = not_known(medium);
        let all = starts.into_iter().map(|start| {
            let stands = stands(medium, &unknown, &start);
            (start, stands)
        });
        Self { all: all.collect(), moved: false }
    }

    /// Those of which something tells whether they begin where they should, and whether they do.
    pub(super) fn told(&self) -> (Vec<Start>, Vec<bool>) {
        let told = self.all.iter().filter(|(start, _)| begins(start, &[]).is_some());
        told.map(|(start, stands)| (start.clone(), *stands == Stands::Right)).unzip()
    }

    /// Of those that are meant and say how they begin: how many do, and how many begin as nothing at all does.
    pub(super) fn fitting(&self, meant: fn(&Start) -> bool) -> (usize, usize) {
        let told = self
            .all
            .iter()
            .filter(|(start, _)| start.is_named() && meant(start) && begins(start, &[]).is_some());
        let count = |which| told.clone().filter(|(_, stands)| *stands == which).count();
        (count(Stands::Right), count(Stands::Otherwise))
    }

    /// Where files begin blank that cannot, in order.
    pub(super) fn blank(&self) -> impl Iterator<Item = u64> + Clone + '_ {
        let blank = self.all.iter().filter(|(_, stands)| matches!(stands, Stands::Blank | Stands::Unwritten));
        blank.filter(|(start, _)| is_written(start)).map(|(start, _)| start.place)
    }
}
