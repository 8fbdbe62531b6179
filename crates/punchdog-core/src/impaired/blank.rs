//! Places that read blank where the content of files should stand.
//!
//! A file whose name says what it begins with begins with something. Where one begins in a sector of nothing but one value, it
//! was never written, or erased, or not read; where several do that stand in one blank stretch, or where content is blank at
//! a regular distance, it is not the files' own doing.

use super::{
    NAMED, Places, catalogue as c,
    heads::{Heads, SECTOR, is_blank},
    hits::bytes,
    intervals::Intervals,
};
use crate::{
    arith::Sat,
    files::record::FileRecord,
    medium::{Extent, Medium},
    report::{examination::Examination, finding::Finding, wording::counted},
};

/// So many files that begin blank tell of something; those in one stretch are told together.
const TOGETHER: usize = 3;
/// Bytes that are read at once, and for all of them, for where stretches end.
const PIECE: u64 = 64 << 10;
const ALL: u64 = 256 << 20;

/// What reads blank, and should not.
#[derive(Debug, Clone, Default)]
pub(super) struct Blank {
    /// Stretches that files begin in, and how many do.
    stretches: Vec<(Extent, usize)>,
    places: Places,
    pub(super) intervals: Option<Intervals>,
}

/// Looks for where the blank sector at `at` belongs to a blank stretch, and how far it goes.
struct Edges<'m> {
    medium: &'m dyn Medium,
    /// Bytes that may still be read.
    left: u64,
}

impl Edges<'_> {
    /// The blank stretch around `at`.
    fn around(&mut self, at: u64) -> Extent {
        let sector = SECTOR.wide();
        let start = at.per(sector).times(sector);
        let (from, to) = (self.before(start), self.behind(start));
        Extent::new(from, to.minus(from))
    }

    fn is_hole(&self, piece: Extent) -> bool {
        self.medium.data_from(piece.offset).is_none_or(|data| data.offset >= piece.end())
    }

    /// Reads a piece: which of its sectors are blank, where not all are.
    fn sectors(&mut self, piece: Extent) -> Option<Vec<bool>> {
        self.left = self.left.minus(piece.length);
        let bytes = self.medium.lenient(piece.offset, piece.length.size()).bytes;
        let blank: Vec<bool> = bytes.chunks(SECTOR).map(is_blank).collect();
        (!blank.iter().all(|blank| *blank)).then_some(blank)
    }

    fn behind(&mut self, start: u64) -> u64 {
        let (mut at, end) = (start, self.medium.len());
        while at < end && self.left > 0 {
            let Some(data) = self.medium.data_from(at) else { return end };
            // What is a hole needs no reading.
            at = data.offset.per(SECTOR.wide()).times(SECTOR.wide()).max(at).min(end);
            let piece = Extent::new(at, end.minus(at).min(PIECE));
            if let Some(blank) = self.sectors(piece) {
                let many = blank.iter().take_while(|blank| **blank).count();
                return at.plus(many.times(SECTOR).wide());
            }
            at = piece.end();
        }
        at
    }

    fn before(&mut self, start: u64) -> u64 {
        let (mut at, mut step) = (start, PIECE);
        while at > 0 && self.left > 0 {
            let from = at.minus(step);
            let piece = Extent::new(from, at.minus(from));
            if self.is_hole(piece) {
                (at, step) = (from, step.times(2));
                continue;
            }
            if step > PIECE {
                step = PIECE;
                continue;
            }
            if let Some(blank) = self.sectors(piece) {
                let many = blank.iter().rev().take_while(|blank| **blank).count();
                return at.minus(many.times(SECTOR).wide());
            }
            at = from;
        }
        at
    }
}

impl Blank {
    /// Blank stretches that these files begin in, where several do.
    pub(super) fn stretches(medium: &dyn Medium, heads: &Heads) -> Self {
        let mut edges = Edges { medium, left: ALL };
        let mut found: Vec<(Extent, usize)> = Vec::new();
        for place in heads.blank() {
            match found.last_mut() {
                Some((stretch, count)) if place < stretch.end() => *count = count.plus(1),
                _ => found.push((edges.around(place), 1)),
            }
        }
        if found.iter().fold(0, |sum: usize, (_, count)| sum.plus(*count)) < TOGETHER {
            found.clear();
        }
        let places = Places::from(found.iter().map(|(stretch, _)| *stretch).collect::<Vec<Extent>>());
        Self { stretches: found, places, intervals: None }
    }

    pub(super) fn is_none(&self) -> bool {
        self.stretches.is_empty() && self.intervals.is_none()
    }

    /// What of a file's content reads blank: bytes from its start.
    pub(super) fn of(&self, medium: &dyn Medium, record: &FileRecord) -> Vec<Extent> {
        if self.is_none() || record.folder {
            return Vec::new();
        }
        record.content.within(medium, |extent| match &self.intervals {
            Some(intervals) => intervals.in_this(extent),
            None => self.places.in_these([extent]),
        })
    }

    /// What is to be said of a file that so many bytes of read blank.
    pub(super) fn note(&self, lacks: &[Extent], size: u64) -> String {
        let place = if self.intervals.is_some() {
            "places at a regular distance that read blank"
        } else {
            "a stretch that reads blank"
        };
        format!("{} of its {size} bytes stand in {place} across files", bytes(lacks))
    }

    /// Says what reads blank, and which files that costs.
    pub(super) fn tell(&self, seen: &mut Examination, mut paths: Vec<String>) {
        let many = counted(paths.len().wide(), "file has", "files have");
        let what = match &self.intervals {
            Some(intervals) => format!("{} read blank", intervals.words()),
            None => match self.stretches.as_slice() {
                [(one, _)] => {
                    format!("bytes {} to {} of the volume read blank", one.offset, one.end().minus(1))
                }
                more => format!("{} stretches of the volume read blank", more.len()),
            },
        };
        let sentence = format!("Content is missing: {what}, and {many} content there.");
        seen.story = if seen.sound() { sentence } else { format!("{sentence} {}", seen.story) };
        paths.truncate(NAMED);
        if let Some(intervals) = &self.intervals {
            let mut finding = Finding::new(&c::BLANK_INTERVALS, intervals.words() + " read blank").because(
                format!("Wherever that was looked at, content breaks off where these places begin and goes on where they end: {} times.", intervals.seen),
                "Files do not end and begin at a regular distance across a volume.",
                "What stood there is not known, and nothing is mended that rests on it: a set of disks is put together first, or the places are listed as not read.",
            );
            finding.extents.extend(intervals.parts.first());
            seen.blank_intervals.extend(intervals.each());
            finding.paths = paths;
            seen.findings.push(finding);
            seen.likely = Some("a member of a set of disks that share the bytes in stripes is missing, or an imager left its places blank; put the image together again with all members, or image those places again, before anything else".to_owned());
            return;
        }
        let mut paths = Some(paths);
        for (stretches, begin) in self.told_together() {
            let begin = counted(begin.wide(), "file begins", "files begin");
            let summary = format!("{} bytes that {begin} in read blank", bytes(&stretches));
            let place = match stretches.as_slice() {
                [one] => format!("bytes {} to {} of the volume", one.offset, one.end().minus(1)),
                more => format!("{} stretches of the volume", more.len()),
            };
            let mut finding = Finding::new(&c::BLANK_STRETCH, summary).because(
                format!("Each sector of {place} holds one value only, or what an imager writes in place of what it cannot read."),
                "Files of these kinds begin with something.",
                "Folders and tables that name the files are no proof that their content was written, or read.",
            );
            finding.extents = stretches.into_iter().take(NAMED).collect();
            finding.paths = paths.take().unwrap_or_default();
            seen.findings.push(finding);
        }
        let likely =
            "content was never written (a copy that was cut off), or erased, or not read while imaging";
        seen.likely.get_or_insert_with(|| likely.to_owned());
    }

    /// The stretches that are told of together, with how many files begin in them: one that many do by itself, the others in one.
    fn told_together(&self) -> Vec<(Vec<Extent>, usize)> {
        let (large, small): (Vec<_>, Vec<_>) =
            self.stretches.iter().copied().partition(|(_, count)| *count >= TOGETHER);
        let mut all: Vec<(Vec<Extent>, usize)> =
            large.into_iter().map(|(stretch, count)| (vec![stretch], count)).collect();
        let begin = small.iter().fold(0, |sum: usize, (_, count)| sum.plus(*count));
        all.extend((begin > 0).then(|| (small.into_iter().map(|(stretch, _)| stretch).collect(), begin)));
        all
    }
}
