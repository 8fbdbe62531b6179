//! Run lists: where the content of an attribute stands.
//!
//! ```text
//! head     low four bits: bytes of the length, high four bits: bytes of the distance
//! length   clusters, unsigned
//! distance clusters from where the run before began, signed; none for a hole
//! 00       the end
//! ```
//! Rests on what Linux 6.12 reads (`fs/ntfs3/run.c`) and on volumes that were looked at.

use super::catalogue as c;
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
    report::finding::Entry,
};

/// Clusters in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// The first of them; `None` for a hole.
    pub first: Option<u64>,
    /// How many.
    pub length: u64,
}

impl Run {
    /// Clusters from `first` on.
    #[inline]
    pub fn new(first: u64, length: u64) -> Self {
        Self { first: Some(first), length }
    }
    /// The cluster behind it; 0 for a hole.
    #[inline]
    pub fn end(&self) -> u64 {
        self.first.map_or(0, |first| first.plus(self.length))
    }
}

/// What is wrong with a run list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum BadRuns {
    /// It cannot be read: a head, a length or a distance that is none.
    Unreadable,
    /// It has no end mark within its attribute.
    Endless,
    /// A run lies outside the volume.
    Beyond,
    /// It has other clusters than the attribute counts.
    Count,
}

impl BadRuns {
    /// The finding that tells it.
    pub(super) fn entry(self) -> &'static Entry {
        match self {
            Self::Count => &c::RUNS_COUNT,
            Self::Beyond => &c::RUNS_BEYOND,
            Self::Unreadable | Self::Endless => &c::RUNS,
        }
    }
}

/// Runs at most in one list: more than a record of 4096 bytes can hold.
const MOST: usize = 4096;

fn signed(bytes: &[u8]) -> i64 {
    let negative = bytes.last().is_some_and(|last| last & 0x80 != 0);
    let mut all = [if negative { 0xFF } else { 0 }; 8];
    for (to, from) in all.iter_mut().zip(bytes) {
        *to = *from;
    }
    i64::from_le_bytes(all)
}

/// The runs of a list that should have `wanted` clusters, on a volume of `clusters`. What can be read is given back with what
/// is wrong.
pub fn decode(bytes: &[u8], wanted: u64, clusters: u64) -> (Vec<Run>, Option<BadRuns>) {
    let mut runs = Vec::new();
    let bad = decode_into(&mut runs, bytes, wanted, clusters);
    (runs, bad)
}

/// The same behind the runs that are there.
pub(super) fn decode_into(runs: &mut Vec<Run>, bytes: &[u8], wanted: u64, clusters: u64) -> Option<BadRuns> {
    let (mut at, mut before, mut sum) = (0_usize, 0_i64, 0_u64);
    let room = runs.len().plus(MOST);
    loop {
        let Some(head) = bytes.get(at).copied() else { return Some(BadRuns::Endless) };
        if head == 0 {
            break;
        }
        let (long, far) = (usize::from(head & 15), usize::from(head >> 4_u8));
        let body = bytes.part(at.plus(1), long.plus(far));
        if long == 0 || long > 8 || far > 8 || body.len() < long.plus(far) || runs.len() >= room {
            return Some(BadRuns::Unreadable);
        }
        let length = signed(body.part(0, long));
        let Some(length) = u64::try_from(length).ok().filter(|length| *length > 0) else {
            return Some(BadRuns::Unreadable);
        };
        let first = if far == 0 {
            None
        } else {
            before = before.saturating_add(signed(body.part(long, far)));
            match u64::try_from(before) {
                // Version 1.2 and 2.0 have a distance of -1 for a hole.
                Ok(first) if first.plus(length) <= clusters => Some(first),
                _ => return Some(BadRuns::Beyond),
            }
        };
        runs.push(Run { first, length });
        sum = sum.plus(length);
        at = at.plus(1).plus(long).plus(far);
    }
    (sum != wanted).then_some(BadRuns::Count)
}

/// As few bytes as a number needs, with its sign.
#[inline]
fn shortest(number: i64) -> Vec<u8> {
    let all = number.to_le_bytes();
    let enough = (1..=8).find(|length| signed(all.part(0, *length)) == number).unwrap_or(8);
    all.part(0, enough).to_vec()
}

/// The list that says so, with its end mark.
pub fn encode(runs: &[Run]) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut before = 0_i64;
    for run in runs {
        let length = shortest(i64::try_from(run.length).unwrap_or(i64::MAX));
        let distance = run.first.map_or(Vec::new(), |first| {
            let first = i64::try_from(first).unwrap_or(i64::MAX);
            let distance = shortest(first.saturating_sub(before));
            before = first;
            distance
        });
        let low = u8::try_from(length.len()).unwrap_or(8);
        let high = u8::try_from(distance.len()).unwrap_or(8);
        bytes.push(low | high << 4_u8);
        bytes.extend(length);
        bytes.extend(distance);
    }
    bytes.push(0);
    bytes
}

/// Where the bytes of an attribute stand.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Mapping {
    /// First byte of the attribute, where it stands (`None` in a hole), how many bytes.
    rows: Vec<(u64, Option<u64>, u64)>,
}

impl Mapping {
    /// Of these runs, with clusters of `cluster` bytes.
    pub fn of(runs: &[Run], cluster: u64) -> Self {
        let mut rows: Vec<(u64, Option<u64>, u64)> = Vec::new();
        let mut at = 0_u64;
        for run in runs {
            let length = run.length.times(cluster);
            let place = run.first.map(|first| first.times(cluster));
            match rows.last_mut() {
                Some((_, Some(before), there)) if Some(before.plus(*there)) == place => {
                    *there = there.plus(length);
                }
                _ => rows.push((at, place, length)),
            }
            at = at.plus(length);
        }
        Self { rows }
    }
    /// Bytes in all.
    #[inline]
    pub fn len(&self) -> u64 {
        self.rows.last().map_or(0, |(at, _, length)| at.plus(*length))
    }
    /// True where there are none.
    #[inline]
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }
    /// Where `length` bytes from `at` on stand, holes left out: how far into them, and the place.
    pub fn places(&self, at: u64, length: u64) -> Vec<(u64, Extent)> {
        let end = at.plus(length);
        let from = self.rows.partition_point(|(start, _, there)| start.plus(*there) <= at);
        let mut found = Vec::new();
        for (start, place, there) in self.rows.iter().skip(from).take_while(|(start, ..)| *start < end) {
            let (one, other) = (at.max(*start), end.min(start.plus(*there)));
            if let Some(place) = place {
                found.push((one.minus(at), Extent::new(place.plus(one.minus(*start)), other.minus(one))));
            }
        }
        found
    }
    /// Where byte `at` stands.
    #[inline]
    pub fn place(&self, at: u64) -> Option<u64> {
        self.places(at, 1).first().map(|(_, extent)| extent.offset)
    }
    /// The bytes; zeros in holes and for what cannot be read.
    #[inline]
    pub fn read(&self, medium: &dyn Medium, at: u64, length: usize) -> Vec<u8> {
        let mut bytes = vec![0; length];
        self.read_into(medium, at, &mut bytes);
        bytes
    }
    /// The same into bytes that are there.
    pub fn read_into(&self, medium: &dyn Medium, at: u64, into: &mut [u8]) {
        let mut done = 0_usize;
        for (skip, extent) in self.places(at, into.len().wide()) {
            let (from, to) = (skip.size(), skip.size().plus(extent.length.size()));
            if let Some(hole) = into.get_mut(done..from) {
                hole.fill(0);
            }
            done = to;
            let Some(place) = into.get_mut(from..to) else { continue };
            if medium.read_at(extent.offset, place).is_err() {
                place.copy_from_slice(&medium.lenient(extent.offset, place.len()).bytes);
            }
        }
        if let Some(rest) = into.get_mut(done..) {
            rest.fill(0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_written_reads_the_same(list in prop::collection::vec((prop::option::of(0_u64..1 << 40), 1_u64..1 << 33), 0..40)) {
            let runs: Vec<Run> = list.iter().map(|(first, length)| Run { first: *first, length: *length }).collect();
            let sum = runs.iter().map(|run| run.length).sum();
            prop_assert_eq!(decode(&encode(&runs), sum, u64::MAX), (runs.clone(), None));
            prop_assert_eq!(decode(&encode(&runs), sum + 1, u64::MAX).1, Some(BadRuns::Count));
        }

        #[test]
        fn any_bytes_are_read_to_an_end(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let (runs, _) = decode(&bytes, 10, 1 << 32);
            prop_assert!(runs.iter().all(|run| run.end() <= 1 << 32));
        }
    }

    #[test]
    fn what_is_wrong_is_told() {
        // One run of 8 clusters at 4; as the first sector of $MFT often has it.
        assert_eq!(decode(&[0x11, 8, 4, 0], 8, 100), (vec![Run::new(4, 8)], None));
        assert_eq!(decode(&[0x11, 8, 4], 8, 100).1, Some(BadRuns::Endless));
        assert_eq!(decode(&[0x11, 8, 95, 0], 8, 100).1, Some(BadRuns::Beyond));
        assert_eq!(decode(&[0x11, 8, 0xFF, 0], 8, 100).1, Some(BadRuns::Beyond));
        assert_eq!(decode(&[0x10, 8, 4, 0], 8, 100).1, Some(BadRuns::Unreadable));
        assert_eq!(decode(&[0x11, 0, 4, 0], 8, 100).1, Some(BadRuns::Unreadable));
        assert_eq!(
            decode(&[0x01, 8, 0], 9, 100),
            (vec![Run { first: None, length: 8 }], Some(BadRuns::Count))
        );
    }
}
