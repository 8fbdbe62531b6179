//! Bytes that an image lacks in its midst, or has too many of, so that everything behind stands too early or too late.
//!
//! ```text
//! medium       0 ────── A ─ gap ─ B ─────────── end
//! left out     0 ────── A B' ──────────── end − gap
//! inserted     0 ────── A ─ more ─ gap ─ B'' ────────── end + more
//! ```
//!
//! An imager leaves out what it cannot read and does not fill its place, or writes a part twice; a partition that is being
//! moved when that is cut off stands at its new place up to a byte and at its old place behind that.
//! Structures stand at the front and are whole; files behind the place are read from other places. Where a file begins its
//! kind tells: as many as stand right, so many bytes too early or too late, from one place on.

use super::{
    NAMED, catalogue as c,
    heads::Heads,
    repeated,
    witnesses::{By, Witnesses, early},
};
use crate::{
    arith::Sat,
    medium::{Extent, Gap, Medium},
    progress::Watch,
    report::{
        examination::Examination,
        finding::{Finding, Weight},
        wording::counted,
    },
};

const SECTOR: u64 = 512;
/// Of so many that stand nowhere one counts as if it stood otherwise: not all files are what their names say.
const SILENT: usize = 4;

/// What an image comes to that bytes were left out of, or that has bytes too many.
#[derive(Debug, Clone)]
pub(super) struct Shifted {
    /// In order.
    shifts: Vec<Shift>,
    /// Files that were seen to stand where the shifts say.
    borne_out: usize,
}

/// A place from which on everything stands elsewhere.
#[derive(Debug, Clone, Copy)]
struct Shift {
    gap: Gap,
    inserted: bool,
}

impl Shifted {
    /// Where what is not known begins.
    fn from(&self) -> u64 {
        self.shifts.first().map_or(u64::MAX, |shift| shift.gap.from)
    }

    fn gaps(&self, inserted: bool) -> impl Iterator<Item = Gap> {
        self.shifts.iter().filter(move |shift| shift.inserted == inserted).map(|shift| shift.gap)
    }
}

/// Looks for what is left out or inserted in the image of a volume that should be longer by `missing` bytes.
pub(super) fn find(medium: &dyn Medium, heads: &Heads, missing: u64, watch: &dyn Watch) -> Option<Shifted> {
    if !heads.moved {
        return None;
    }
    let (all, right) = heads.told();
    let (witnesses, silent) = Witnesses::new(medium, early(missing), all, right, watch);
    let stretches = witnesses.stretches();
    let (mut shifts, mut by): (Vec<Shift>, By) = (Vec::new(), 0);
    for stretch in &stretches {
        let to = witnesses.all.get(stretch.from)?.place;
        let more = stretch.by.saturating_sub(by);
        let (inserted, bytes) = (more > 0, more.unsigned_abs());
        let end = if inserted { to } else { to.checked_sub(bytes)? };
        let last = witnesses.last(stretch.from, by, more, end);
        // Where nothing stands right, it may as well be the geometry.
        if last.is_none() && stretch.by != witnesses.missing {
            return None;
        }
        let gap = Gap { from: last.map_or(0, |place| place.plus(SECTOR)), to, bytes };
        let place = if inserted { repeated::placed(medium, gap, by) } else { None };
        if stretch.weak && (place.is_none() || stretches.len() > 1) {
            return None;
        }
        let gap = place.unwrap_or(gap);
        if shifts.last().is_some_and(|before| before.gap.to > gap.from) {
            return None;
        }
        shifts.push(Shift { gap, inserted });
        by = stretch.by;
    }
    let borne_out = stretches.iter().fold(0, |sum: usize, stretch| sum.plus(stretch.good));
    let bad = stretches.iter().fold(0, |sum: usize, stretch| sum.plus(stretch.bad));
    let behind = shifts.first().map_or(u64::MAX, |shift| shift.gap.to);
    let bad = bad.plus(silent.iter().filter(|place| **place >= behind).count().per(SILENT));
    (borne_out > 0 && bad.times(3) <= borne_out).then_some(Shifted { shifts, borne_out })
}

impl Shifted {
    /// Says what is left out or inserted, and which files that may cost. What was found behind it rests on bytes of other
    /// places.
    pub(super) fn tell(&self, seen: &mut Examination, mut paths: Vec<String>) {
        // What stops a host stands before the places, or is the volume's length; the rest rests on what is not there.
        let of_medium = |finding: &Finding| finding.entry.code.starts_with("medium/");
        seen.findings.retain(|finding| finding.weight == Weight::BlocksMount || of_medium(finding));
        (seen.left_out, seen.inserted) = (self.gaps(false).collect(), self.gaps(true).collect());
        let many = counted(paths.len().wide(), "file stands", "files stand");
        let (mut parts, mut likely) = (Vec::new(), Vec::new());
        for (gaps, what, early, by) in [
            (
                &seen.left_out,
                "left out of the image",
                "too early",
                "an imager that skipped what it could not read and did not fill its place; image the medium again, or put the gap back in",
            ),
            (
                &seen.inserted,
                "too many in the image",
                "too late",
                "a partition that was being moved when that was cut off, or an imager that wrote a part twice; take them out again",
            ),
        ] {
            if gaps.is_empty() {
                continue;
            }
            let bytes = gaps.iter().fold(0, |sum: u64, gap| sum.plus(gap.bytes));
            let places = counted(gaps.len().wide(), "place", "places");
            parts.push(format!("{bytes} bytes are {what} in {places}, and what is behind stands {early}"));
            likely.push(by);
        }
        seen.story = format!(
            "{}: {many} there, and what is read of them belongs to other places. {} files were found to begin so far from where the volume says. What of folders stood there is read wrongly too.",
            parts.join("; "),
            self.borne_out
        );
        seen.likely = Some(likely.join("; "));
        paths.truncate(NAMED);
        for shift in &self.shifts {
            let mut finding = shift.finding();
            finding.paths = std::mem::take(&mut paths);
            seen.findings.push(finding);
        }
    }

    /// Why a file is not what was written, if that may be.
    pub(super) fn hurts(&self, mut extents: impl Iterator<Item = Extent>) -> Option<&'static str> {
        let (from, inserted) = (self.from(), self.shifts.first().is_some_and(|shift| shift.inserted));
        extents.any(|extent| extent.end() > from).then_some(if inserted {
            "it stands behind a place from which on the image has bytes too many: what is read there belongs to another place"
        } else {
            "it stands behind a place where bytes are left out of the image: what is read there belongs to another place"
        })
    }
}

impl Shift {
    fn finding(&self) -> Finding {
        let Gap { from, to, bytes } = self.gap;
        let (entry, what, where_to) = if self.inserted {
            (&c::INSERTED, "too many", "behind")
        } else {
            (&c::LEFT_OUT, "left out", "before")
        };
        let exact = self.inserted && from == to;
        let place = if exact {
            format!("at byte {to} of the volume")
        } else {
            format!("between bytes {from} and {to} of the volume")
        };
        let follows = if exact {
            "The bytes before that place stand there a second time; taken out, nothing of the volume is missing."
        } else {
            "Where between the two the place is, nothing says."
        };
        let mut finding = Finding::new(entry, format!("{bytes} bytes are {what} {place}")).because(
            format!("What begins before byte {from} of the volume stands where it should, what begins from byte {to} on stands {bytes} bytes {where_to} that."),
            "An image has every byte of the medium once, or something in its place.",
            follows,
        );
        finding.extents.push(Extent::new(from, to.minus(from).max(SECTOR)));
        finding
    }
}
