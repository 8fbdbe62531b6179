//! An image of one disk of several that share their bytes in stripes.
//!
//! ```text
//! the set     T ··· S ─────── volume ──────── end        T table, S where it says that a volume begins
//! this disk   T · S/2 ──── half of it ─── end/2
//! ```
//!
//! The first disk of a set has the partition table, which tells of a disk several times as long. Where each file is found to
//! begin once the stripes are taken apart, and nothing is where it should be as it stands, the image is of one disk.
//! Nothing published says how hosts and enclosures divide disks; powers of two are what all of them use.

use super::{
    catalogue as c,
    place::{Scouting, Way},
    search,
};
use crate::{
    arith::Sat,
    impaired,
    medium::{Extent, Medium, MediumError, Striped, Window},
    progress::Watch,
    registry,
    report::finding::Finding,
};

/// Lengths of stripes that are tried, the usual ones first: powers of two.
const CHUNKS: [u32; 11] = [16, 17, 15, 18, 14, 19, 20, 13, 12, 21, 22];
/// Disks of a set at most.
const MOST: u64 = 8;
/// Files and structures that must begin where they should, and so many times as many as do not.
const ENOUGH: usize = 6;
const TIMES: usize = 4;
/// So many of them leave no doubt, and nothing else is tried.
const SURE: usize = 16;

/// Which disk of which set an image is of: always the first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Member {
    /// Disks of the set.
    pub of: u64,
    /// Bytes of a stripe.
    pub chunk: u64,
    /// Files and structures that were found to begin where that puts them.
    pub fitting: usize,
}

/// The set that `medium` is one disk of, where its table, or the volume that it is, tells of more than there is.
pub(super) fn find(
    medium: &dyn Medium,
    entries: &[Extent],
    seen: &Scouting,
    watch: &dyn Watch,
) -> Result<Option<Member>, MediumError> {
    let length = medium.len();
    let longest = entries.iter().map(|entry| entry.end()).max().unwrap_or(0);
    let of = longest.per_up(length.max(1));
    // A disk that has a bit less than its table says is cut short.
    if !(2..=MOST).contains(&of) || longest <= length.plus(length.per(2)) {
        return Ok(None);
    }
    // Where all is found as it stands, the image was cut short.
    for place in seen.volumes.iter().filter(|place| place.way != Way::Lost && !place.boot_gone) {
        let (right, wrong) = fitting(medium, place.extent, 0, watch)?;
        if right > 0 && right >= wrong {
            return Ok(None);
        }
    }
    let mut found: Vec<Member> = Vec::new();
    for chunk in CHUNKS.map(|power| 1_u64 << power) {
        let others = (1..of).map(|_| None);
        let Some(set) = Striped::new(std::iter::once(Some(medium)).chain(others).collect(), chunk) else {
            continue;
        };
        let (mut right, mut wrong) = (0_usize, 0_usize);
        for entry in entries {
            // What stands in the first stripe stands there in any case.
            let (more, less) = fitting(&set, *entry, chunk, watch)?;
            (right, wrong) = (right.plus(more), wrong.plus(less));
        }
        if right >= ENOUGH && right >= wrong.times(TIMES) {
            found.push(Member { of, chunk, fitting: right });
        }
        if right >= SURE && right >= wrong.times(SURE) {
            return Ok(found.pop());
        }
    }
    found.sort_by_key(|member| std::cmp::Reverse(member.fitting));
    let alone = found
        .get(1)
        .is_none_or(|other| found.first().is_some_and(|best| other.fitting.times(2) <= best.fitting));
    Ok(found.into_iter().next().filter(|_| alone))
}

/// How many files and structures of a volume, of those behind byte `from` of `medium` that can be read, begin where it says, and
/// how many do not.
fn fitting(
    medium: &dyn Medium,
    place: Extent,
    from: u64,
    watch: &dyn Watch,
) -> Result<(usize, usize), MediumError> {
    let window = Window::new(medium, place);
    // Without its boot sector too little would be left of a volume to tell.
    if search::claim(&window).is_none() {
        return Ok((0, 0));
    }
    let Some(volume) = registry::family(&window, watch)? else { return Ok((0, 0)) };
    let mut survey = volume.survey(&window, watch)?;
    Ok(impaired::fitting(&window, &mut *survey, from.minus(place.offset)))
}

impl Member {
    /// Says so, and nothing else: what was found as it stands is of no place that means anything.
    pub(super) fn take(self, seen: &mut Scouting) {
        let Self { of, chunk, fitting } = self;
        let summary =
            format!("the image is of one of {of} disks that share their bytes in stripes of {chunk}");
        let finding = Finding::new(&c::STRIPED, summary).because(
            format!("Of every {} bytes of the whole it has the first {chunk}, one behind the other: {fitting} files and structures begin where that puts them.", chunk.times(of)),
            "A medium has all that its tables count.",
            "Nothing can be judged or mended by one disk alone.",
        );
        seen.volumes.clear();
        seen.strangers.clear();
        seen.findings = vec![finding];
        seen.member = Some(self);
    }
}
