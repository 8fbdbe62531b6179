//! Bytes that an imager left out: it skipped what it could not read, and did not fill its place, so that everything behind
//! stands too early.
//!
//! ```text
//! medium  0 ────── A ─ gap ─ B ─────────── end
//! image   0 ────── A B' ──────────── end − gap
//! ```
//!
//! Structures stand at the front and are whole; files behind the gap are read from other places. Where a file begins its
//! kind tells: as many as stand right, so many bytes too early, from one place on.

use super::{NAMED, catalogue as c};
use crate::{
    arith::Sat,
    cluster::former,
    family::{Start, Survey},
    files::kinds,
    medium::{Extent, Gap, Medium},
    progress::Watch,
    report::{
        examination::Examination,
        finding::{Finding, Weight},
        wording::counted,
    },
};

use std::{collections::BTreeMap, ops::Range};

const SECTOR: u64 = 512;
/// Files that are looked at first, and at most.
const FEW: usize = 16;
const MOST: usize = 4096;
/// Bytes of a file that tell its kind here.
const HEAD: usize = 1024;
/// How far too early things are looked for, where the length of the volume does not say it.
const FURTHEST: u64 = 1 << 20;
/// Files for which what stands before them is searched: where so many stand nowhere, it is not for a gap.
const SEARCHED: usize = 64;
/// Files that say together how much too early they stand; of few all but one have to.
const VOTERS: usize = 12;
const FEW_VOTERS: usize = 7;
const AGREEING: usize = 4;
/// So many that do not stand so in a row, and it is another stretch.
const MISSED: usize = 8;

/// What an image comes to that bytes were left out of.
#[derive(Debug, Clone)]
pub(super) struct LeftOut {
    /// In order.
    pub(super) gaps: Vec<Gap>,
    /// Files that were seen to stand where the gaps say.
    pub(super) borne_out: usize,
}

impl LeftOut {
    /// All that was left out, before the end.
    pub(super) fn bytes(&self) -> u64 {
        self.gaps.iter().fold(0, |sum, gap| sum.plus(gap.bytes))
    }
    /// Where the first of it stood.
    pub(super) fn from(&self) -> u64 {
        self.gaps.first().map_or(u64::MAX, |gap| gap.from)
    }
}

/// What tells of a file or folder that it begins at a place; `None` where nothing would.
fn begins(start: &Start, bytes: &[u8]) -> Option<bool> {
    if start.folder {
        return Some(former::begins_with_dots(bytes) || bytes.starts_with(b"INDX"));
    }
    if start.name.is_empty() {
        return Some(kinds::extension(bytes).is_some_and(|extension| kinds::usual_of(&extension).is_some()));
    }
    kinds::agrees(&start.name, bytes)
}

/// Looks for gaps in the image of a volume that should be longer by `missing` bytes.
pub(super) fn find(
    medium: &dyn Medium,
    survey: &mut dyn Survey,
    missing: u64,
    watch: &dyn Watch,
) -> Option<LeftOut> {
    let told = |start: &Start| begins(start, &[]).is_some();
    let few: Vec<Start> = survey.starts(medium, FEW).into_iter().filter(told).collect();
    let wrong = few.iter().filter(|start| !stands(medium, start, 0)).count();
    if missing == 0 && wrong.times(4) < few.len().max(FEW.per(2)) {
        return None;
    }
    let mut all: Vec<Start> = survey.starts(medium, MOST).into_iter().filter(told).collect();
    all.sort_by_key(|start| start.place);
    let right = all.iter().map(|start| stands(medium, start, 0)).collect();
    let early = vec![None; all.len()];
    let mut witnesses = Witnesses { medium, missing, all, right, early, left: SEARCHED };
    let stretches = witnesses.stretches(watch);
    let (mut gaps, mut by) = (Vec::new(), 0);
    for stretch in &stretches {
        let to = witnesses.all.get(stretch.from)?.place;
        let bytes = stretch.by.minus(by);
        let last = witnesses.last(stretch.from, by, bytes, to.checked_sub(bytes)?);
        // Where nothing stands right, it may as well be the geometry.
        if last.is_none() && stretch.by != missing {
            return None;
        }
        gaps.push(Gap { from: last.map_or(0, |place| place.plus(SECTOR)), to, bytes });
        by = stretch.by;
    }
    let borne_out = stretches.iter().fold(0, |sum: usize, stretch| sum.plus(stretch.good));
    let bad = stretches.iter().fold(0, |sum: usize, stretch| sum.plus(stretch.bad));
    (borne_out > 0 && bad.times(3) <= borne_out).then_some(LeftOut { gaps, borne_out })
}

/// True where a file begins so many bytes before its place.
fn stands(medium: &dyn Medium, start: &Start, by: u64) -> bool {
    let at = start.place.checked_sub(by).filter(|at| at.plus(SECTOR) <= medium.len());
    at.is_some_and(|at| begins(start, &medium.lenient(at, HEAD).bytes) == Some(true))
}

/// Files of which all stand as much too early: which, how many that was seen of, and how many stand nowhere.
struct Stretch {
    from: usize,
    by: u64,
    good: usize,
    bad: usize,
}

/// Files in the order of their places.
struct Witnesses<'m> {
    medium: &'m dyn Medium,
    missing: u64,
    all: Vec<Start>,
    /// Which stand where they should.
    right: Vec<bool>,
    /// How much too early each can stand, and whether that is no other's place; once that was asked.
    early: Vec<Option<Vec<(u64, bool)>>>,
    /// Of so many more that can be asked.
    left: usize,
}

impl Witnesses<'_> {
    fn stands(&self, number: usize, by: u64) -> bool {
        if by == 0 {
            return self.right.get(number).copied().unwrap_or(false);
        }
        self.all.get(number).is_some_and(|start| stands(self.medium, start, by))
    }

    /// Where the last before `number` stands that stands `by` bytes too early, with all of a sector before byte `end`. What lay
    /// in a gap seems to stand right where what stands `bytes` further on came to: that is none.
    fn last(&self, number: usize, by: u64, bytes: u64, end: u64) -> Option<u64> {
        let is = |number: &usize| {
            let Some(start) = self.all.get(*number) else { return false };
            start.place.plus(SECTOR) <= end
                && !self.is_place(start.place.plus(bytes))
                && self.stands(*number, by)
        };
        let found = (0..number).rev().find(is)?;
        self.all.get(found).map(|start| start.place)
    }

    /// The stretches that stand too early, in order. They are looked for from the end: behind the last gap all stand as
    /// much too early, and what lay in a gap stands nowhere.
    fn stretches(&mut self, watch: &dyn Watch) -> Vec<Stretch> {
        let (mut found, mut end, mut bound) = (Vec::new(), self.all.len(), u64::MAX);
        while end > 0 {
            if self.left == 0 || watch.stop() {
                break;
            }
            let voters = end.minus(VOTERS)..end;
            let right = voters.clone().filter(|number| self.stands(*number, 0)).count();
            if right.times(2) >= voters.len() {
                break;
            }
            let Some(by) = self.voted(voters, bound) else {
                end = end.minus(1);
                continue;
            };
            let stretch = self.reaches(end, by);
            (end, bound) = (stretch.from, by);
            found.push(stretch);
        }
        found.reverse();
        found
    }

    /// How much too early most of these stand, less than `bound`. What is another file where it should be says neither.
    fn voted(&mut self, voters: Range<usize>, bound: u64) -> Option<u64> {
        let mut votes: BTreeMap<u64, (usize, usize)> = BTreeMap::new();
        for number in voters.clone() {
            for (by, own) in self.early(number).into_iter().filter(|(by, _)| *by < bound) {
                let (told, silent) = votes.entry(by).or_default();
                let count = if own { told } else { silent };
                *count = count.plus(1);
            }
        }
        let (by, (count, silent)) =
            votes.into_iter().max_by_key(|(by, (count, _))| (*count, *by == self.missing))?;
        let enough = match voters.len().minus(silent) {
            asked if by == self.missing => count.times(2) >= asked && count > 1,
            few if few <= FEW_VOTERS => count >= AGREEING && count.plus(1) >= few,
            many => count.times(5) >= many.times(3),
        };
        enough.then_some(by)
    }

    /// The stretch before `end` in which files stand so much too early, without many between that do not.
    fn reaches(&self, end: usize, by: u64) -> Stretch {
        let mut found = Stretch { from: end, by, good: 0, bad: 0 };
        let mut missed = 0_usize;
        for number in (0..end).rev() {
            let at = self.all.get(number).map_or(0, |start| start.place.minus(by));
            match (self.stands(number, by), self.stands(number, 0) || self.is_place(at)) {
                (true, false) => {
                    found.from = number;
                    found.good = found.good.plus(1);
                    found.bad = found.bad.plus(std::mem::take(&mut missed));
                }
                // What stands right as well, beside others of its kind, tells nothing.
                (true, true) => {}
                _ => missed = missed.plus(1),
            }
            if missed >= MISSED {
                break;
            }
        }
        found
    }

    /// True where a file begins, by the volume.
    fn is_place(&self, at: u64) -> bool {
        self.all.binary_search_by_key(&at, |start| start.place).is_ok()
    }

    /// How much too early something of its kind begins, and whether it is no other file where it should be.
    fn early(&mut self, number: usize) -> Vec<(u64, bool)> {
        if let Some(Some(known)) = self.early.get(number) {
            return known.clone();
        }
        let Some(start) = self.all.get(number) else { return Vec::new() };
        let end = start.place.min(self.medium.len());
        let from = start.place.minus(FURTHEST).per_up(SECTOR).times(SECTOR).min(end);
        if from < end {
            self.left = self.left.minus(1);
        }
        let bytes = self.medium.lenient(from, end.plus(HEAD.wide()).minus(from).size()).bytes;
        let places = (1..).map(|back: u64| start.place.minus(back.times(SECTOR))).take_while(|at| *at > from);
        let alike = places.filter(|at| {
            let head = bytes.get(at.minus(from).size()..).unwrap_or(&[]);
            begins(start, head.get(..head.len().min(HEAD)).unwrap_or(head)) == Some(true)
        });
        let told = |by: u64| (by, !self.is_place(start.place.minus(by)));
        let mut found: Vec<(u64, bool)> = alike.map(|at| told(start.place.minus(at))).collect();
        let far = self.missing > FURTHEST && stands(self.medium, start, self.missing);
        found.extend(far.then(|| told(self.missing)));
        if let Some(slot) = self.early.get_mut(number) {
            *slot = Some(found.clone());
        }
        found
    }
}

impl LeftOut {
    /// Says what is left out, and which files that may cost. What was found behind it rests on bytes of other places.
    pub(super) fn tell(&self, seen: &mut Examination, mut paths: Vec<String>) {
        // What stops a host stands before the gaps, or is the volume's length; the rest rests on what is not there.
        let of_medium = |finding: &Finding| finding.entry.code.starts_with("medium/");
        seen.findings.retain(|finding| finding.weight == Weight::BlocksMount || of_medium(finding));
        seen.left_out.clone_from(&self.gaps);
        let (bytes, many) = (self.bytes(), counted(paths.len().wide(), "file stands", "files stand"));
        let places = counted(self.gaps.len().wide(), "place", "places");
        seen.story = format!(
            "{bytes} bytes are left out of the image in {places}, and everything behind stands too early: {many} there, and what is read of them belongs to other places. {} files were found to begin so much before where the volume says. What of folders stood there is read wrongly too.",
            self.borne_out
        );
        seen.likely = Some("an imager that skipped what it could not read and did not fill its place; image the medium again, or put the gap back in".to_owned());
        paths.truncate(NAMED);
        for gap in &self.gaps {
            let summary = format!(
                "{} bytes are left out between bytes {} and {} of the volume",
                gap.bytes, gap.from, gap.to
            );
            let mut finding = Finding::new(&c::LEFT_OUT, summary).because(
                format!("What begins before byte {} of the volume stands where it should, what begins from byte {} on stands {} bytes before that.", gap.from, gap.to, gap.bytes),
                "An image has every byte of the medium, or something in its place.",
                "Where between the two the gap is, nothing says.",
            );
            finding.extents.push(Extent::new(gap.from, gap.to.minus(gap.from)));
            finding.paths = std::mem::take(&mut paths);
            seen.findings.push(finding);
        }
    }

    /// Why a file is not what was written, if that may be.
    pub(super) fn hurts(&self, mut extents: impl Iterator<Item = Extent>) -> Option<&'static str> {
        let from = self.from();
        extents.any(|extent| extent.end() > from).then_some(
            "it stands behind a place where bytes are left out of the image: what is read there belongs to another place",
        )
    }
}
