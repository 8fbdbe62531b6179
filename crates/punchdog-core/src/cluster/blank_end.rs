//! Content that is not there: nothing but one value from some place to the end of the medium.
//!
//! Flash with less room than it claims, a copy that was cut off and filled up, a dead chip among several:
//! the structures at the beginning promise files, and where these should be everything reads as zero, or
//! as FF. No structure says so; a look at where files begin does.

use crate::{
    arith::Sat,
    files::kinds,
    medium::Medium,
    report::{
        finding::{Entry, Finding},
        wording::counted,
    },
};

/// Files at the end, by place, that must all begin with nothing but one value.
const FILES: usize = 3;
/// Files and folders among them that cannot be blank.
const CONTRADICTING: usize = 2;
/// Places behind the beginning of the blank part that are looked at.
const SAMPLES: u64 = 64;
/// Beginnings of files behind it that are looked at.
const HEADS: usize = 256;
/// Spreads what is looked at without a period that files could share (the golden ratio of 2^32).
const SPREAD: usize = 0x9E37_79B1;

/// The blank end of a medium.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tail {
    /// Where it begins: bytes from the start of the volume.
    pub from: u64,
    /// The value that stands there throughout, as far as samples show.
    pub value: u8,
}

impl Tail {
    /// The finding that says so, without the files; `end` is where the medium ends, `files` how many are hit.
    pub(crate) fn finding(self, class: &'static Entry, end: u64, files: usize) -> Finding {
        let summary = format!("nothing but {} from byte {} of the volume on", self.title(), self.from);
        Finding::new(class, summary).at(self.from, end.minus(self.from)).because(
            format!("All that was looked at behind that place reads as {}.", self.title()),
            format!("{} there, by the folders.", counted(files.wide(), "file stands", "files stand")),
            "False capacity, or a copy that was cut off or failed.",
        )
    }
    /// What probably happened.
    pub(crate) fn likely(self) -> String {
        format!(
            "nothing but {} from byte {} of the volume on: a medium with less room than it claims (false capacity), or a copy that was cut off or failed; image the medium again, with another reader, before anything else",
            self.title(),
            self.from
        )
    }
    /// The value as people say it.
    pub fn title(self) -> &'static str {
        if self.value == 0 { "zeros" } else { "FF" }
    }
}

/// The value of all bytes from `place` on, `length` of them, if it is one, and 0 or FF.
fn value_at(medium: &dyn Medium, place: u64, length: u64) -> Option<u8> {
    let bytes = medium.lenient(place, length.min(medium.len().minus(place)).size()).bytes;
    let first = *bytes.first()?;
    (matches!(first, 0 | 0xFF) && bytes.iter().all(|byte| *byte == first)).then_some(first)
}

/// What begins somewhere: where, and the number of its node; none for clusters in use that nothing names.
pub(crate) type Head = (u64, Option<u32>);

/// The blank end of `medium`, if something begins in it that should not be blank. `heads` are the places
/// where files with content, folders and lost chains begin; `never_blank` says of a node, and of the value
/// that stands in its place, that it cannot be.
pub(crate) fn tail(
    medium: &dyn Medium,
    mut heads: Vec<Head>,
    never_blank: impl Fn(u32, &[u8]) -> bool,
) -> Option<Tail> {
    heads.retain(|(place, _)| *place < medium.len());
    let nth = heads.len().checked_sub(FILES)?;
    // On a volume in order the last file ends the question.
    let (_, third, behind) = heads.select_nth_unstable(nth);
    let value = value_at(medium, third.0, 512)?;
    let last: Vec<Head> = behind.iter().copied().chain([*third]).collect();
    let blank = |place: u64| value_at(medium, place, 512) == Some(value);
    if !last.iter().all(|(place, _)| blank(*place)) {
        return None;
    }
    heads.sort_unstable();
    let first = behind_written(&heads, heads.partition_point(|(place, _)| !blank(*place)), blank);
    let until = heads.get(first)?.0;
    // Some of them must be of a kind that never begins so: one alone can have a wrong first cluster, and lost
    // clusters can be blank by right.
    let contradicts = |head: &&Head| head.1.is_some_and(|number| never_blank(number, &[value; 64]));
    if heads.iter().skip(first).filter(contradicts).take(CONTRADICTING).count() < CONTRADICTING {
        return None;
    }
    // Between the last file that begins with something and the first that does not.
    let (mut low, mut high) =
        (first.checked_sub(1).and_then(|at| heads.get(at)).map_or(0, |head| head.0), until);
    while high.minus(low) > 512 {
        let middle = low.plus(high.minus(low).per(2)).per(512).times(512).max(low.plus(512));
        if middle >= high {
            break;
        }
        if value_at(medium, middle, 4096.min(high.minus(middle))) == Some(value) {
            high = middle;
        } else {
            low = middle;
        }
    }
    let step = medium.len().minus(high).per(SAMPLES).max(512);
    let whole = (0..SAMPLES).map(|n| high.plus(n.times(step))).take_while(|at| *at < medium.len());
    whole.into_iter().all(blank).then_some(Tail { from: high, value })
}

/// The first of `heads`, from `first` on, behind which none is found written. Halving led to `first`, and is
/// led astray by files that are blank by right.
fn behind_written(heads: &[Head], mut first: usize, blank: impl Fn(u64) -> bool) -> usize {
    loop {
        let behind = heads.get(first..).unwrap_or_default();
        let looks = (0..HEADS.min(behind.len())).map(|n| {
            if behind.len() <= HEADS {
                n
            } else {
                n.wrapping_mul(SPREAD).checked_rem(behind.len()).unwrap_or(0)
            }
        });
        let written = looks.filter(|at| behind.get(*at).is_some_and(|(place, _)| !blank(*place)));
        match written.max() {
            Some(at) => first = first.saturating_add(at).saturating_add(1),
            None => return first,
        }
    }
}

/// True for files whose first bytes cannot be these, by their names.
pub(crate) fn is_never(name: &str, bytes: &[u8]) -> bool {
    kinds::agrees(name, bytes) == Some(false) || kinds::is_text(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    #[test]
    fn a_blank_end_is_found_to_the_sector() {
        let mut bytes = vec![7_u8; 64 * 1024];
        bytes[21 * 512..].fill(0);
        let heads: Vec<Head> = (0..30).map(|n| (n * 2048, Some(u32::try_from(n).unwrap()))).collect();
        let medium = Memory::new(bytes.clone());
        let found = tail(&medium, heads.clone(), |_, blank| is_never("a.csv", blank));
        assert_eq!(found, Some(Tail { from: 21 * 512, value: 0 }));
        let unknown = |_, blank: &[u8]| is_never("a.bin", blank);
        assert_eq!(tail(&medium, heads.clone(), unknown), None, "what may be blank");
        // Blank files among written ones lead halving astray.
        let mut mixed = bytes.clone();
        for written in [22, 25, 26] {
            mixed[written * 2048] = 7;
        }
        let found = tail(&Memory::new(mixed), heads.clone(), |_, _| true);
        assert_eq!(found, Some(Tail { from: 26 * 2048 + 512, value: 0 }));
        bytes[60 * 1024] = 1;
        assert_eq!(tail(&Memory::new(bytes), heads, |_, _| true), None, "something stands behind");
    }
}
