//! Copy-on-write on any medium: where a repair is made and proved before a byte is written.
//!
//! ```text
//! write ──▶ block map: block number ──▶ 4096 bytes, in memory (up to a limit) or in a scratch file
//! copy  ──▶ range map: these bytes are those that stand over there in the medium below
//! read  ──▶ block map where it has the block, else range map, else the medium below
//! step  ──▶ the blocks as they were before the step, so that each step knows before and after
//! ```
//!
//! Bytes that cannot be read stay so: a block in which some are written keeps the others as missing.

use super::{
    Extent, Medium, MediumError, Unknown,
    blocks::{BLOCK, Blocks},
};
use crate::arith::Sat;
use rangemap::{RangeMap, RangeSet};
use std::sync::atomic::{AtomicBool, Ordering};

/// Blocks kept in memory before further ones go to the scratch file: 32 MiB.
const KEPT: usize = 8192;
/// Places that a step changes and that are told one by one.
const CROWD: usize = 4096;
/// Bytes between two changes that are one place.
const NEAR: u64 = 8;
/// The same, in a crowd.
const FAR: u64 = 512;
/// The pieces in which a range is copied that cannot be mapped.
const PIECE: u64 = 1 << 20;

/// A medium with changes on top that are never written to it.
pub struct Overlay<'a> {
    base: &'a dyn Medium,
    now: Blocks,
    /// Ranges that read as others of the base: where they stand there, less where they stand here.
    mapped: RangeMap<u64, u64>,
    /// Bytes inside blocks that could not be read and were not written, or that were copied from such.
    missing: RangeSet<u64>,
    /// What is missing reads as zeros: the medium below does not fail any more.
    settled: bool,
    changed: Places,
    before: Blocks,
    step_changed: Places,
    step_mapped: RangeSet<u64>,
    failed: AtomicBool,
}

impl<'a> Overlay<'a> {
    /// No changes yet on top of `base`.
    pub fn new(base: &'a dyn Medium) -> Self {
        Self::with_limit(base, KEPT)
    }

    /// As [`Overlay::new`], with `limit` blocks of 4096 bytes kept in memory.
    pub fn with_limit(base: &'a dyn Medium, limit: usize) -> Self {
        Self {
            base,
            now: Blocks::new(limit),
            mapped: RangeMap::new(),
            missing: RangeSet::new(),
            settled: false,
            changed: Places::default(),
            before: Blocks::new(limit.min(KEPT / 4)),
            step_changed: Places::default(),
            step_mapped: RangeSet::new(),
            failed: AtomicBool::new(false),
        }
    }

    /// An error if the temporary file ever failed: what was read since then may be wrong.
    pub fn sound(&self) -> Result<(), MediumError> {
        if self.failed.load(Ordering::Relaxed) {
            return Err(MediumError::Scratch(std::io::Error::other(
                "what was kept there cannot be read back",
            )));
        }
        Ok(())
    }

    fn noted<T>(&self, result: Result<T, MediumError>) -> Result<T, MediumError> {
        if matches!(result, Err(MediumError::Scratch(_))) {
            self.failed.store(true, Ordering::Relaxed);
        }
        result
    }

    fn within(&self, offset: u64, length: u64) -> Result<(), MediumError> {
        if offset.plus(length) > self.base.len() {
            return Err(MediumError::Beyond { offset, length, end: self.base.len() });
        }
        Ok(())
    }

    /// Reads what lies below the blocks.
    fn read_below(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let mut at = offset;
        let mut left = into;
        let end = offset.plus(left.len().wide());
        for (range, shift) in self.mapped.overlapping(&(offset..end)) {
            let (start, stop) = (range.start.max(at), range.end.min(end));
            let taken = std::mem::take(&mut left);
            let Some((plain, rest)) = taken.split_at_mut_checked(start.minus(at).size()) else { break };
            let Some((there, rest)) = rest.split_at_mut_checked(stop.minus(start).size()) else { break };
            if !plain.is_empty() {
                self.base.read_at(at, plain)?;
            }
            self.base.read_at(start.wrapping_add(*shift), there)?;
            left = rest;
            at = stop;
        }
        if left.is_empty() { Ok(()) } else { self.base.read_at(at, left) }
    }

    /// A block that is going to be written: what of it cannot be read is noted as missing.
    fn block(&mut self, number: u64) -> Result<Vec<u8>, MediumError> {
        if let Some(bytes) = self.noted(self.now.get(number))? {
            return Ok(bytes);
        }
        let at = number.times(BLOCK.wide());
        let length = self.base.len().minus(at).min(BLOCK.wide()).size();
        let mut bytes = vec![0; BLOCK];
        let there = bytes.get_mut(..length).unwrap_or(&mut []);
        if self.read_below(at, there).is_err() {
            there.fill(0);
            for (index, piece) in there.chunks_mut(super::PIECE).enumerate() {
                let from = at.plus(index.times(super::PIECE).wide());
                if self.read_below(from, piece).is_err() {
                    piece.fill(0);
                    self.missing.insert(from..from.plus(piece.len().wide()));
                }
            }
        }
        Ok(bytes)
    }

    /// Keeps a block as it was before the step.
    fn remember(&mut self, number: u64, block: &[u8]) -> Result<(), MediumError> {
        if self.before.has(number) {
            return Ok(());
        }
        let mut old = block.to_vec();
        let at = number.times(BLOCK.wide());
        for range in self.step_mapped.overlapping(&(at..at.plus(BLOCK.wide()))) {
            let (start, end) = (range.start.max(at), range.end.min(at.plus(BLOCK.wide())));
            if let Some(place) = old.get_mut(start.minus(at).size()..end.minus(at).size()) {
                self.base.read_at(start, place)?;
            }
        }
        let kept = self.before.put(number, old);
        self.noted(kept)
    }

    /// Puts `bytes` at `offset`. Bytes that already stand there are not counted as a change.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<(), MediumError> {
        self.within(offset, bytes.len().wide())?;
        let mut at = offset;
        let mut left = bytes;
        while !left.is_empty() {
            let number = at.per(BLOCK.wide());
            let within = at.rest(BLOCK.wide()).size();
            let take = left.len().min(BLOCK.minus(within));
            let (now, later) = left.split_at_checked(take).unwrap_or((left, &[]));
            let mut block = self.block(number)?;
            let range = at..at.plus(take.wide());
            let unread = self.missing.overlaps(&range);
            if unread || block.get(within..within.plus(take)) != Some(now) {
                self.remember(number, &block)?;
                if let Some(place) = block.get_mut(within..within.plus(take)) {
                    for run in differing_runs(place, now) {
                        let bytes = at.plus(run.start.wide())..at.plus(run.end.wide());
                        self.changed.add(bytes.clone());
                        self.step_changed.add(bytes);
                    }
                    place.copy_from_slice(now);
                }
                if unread {
                    // Nobody knows what stood there, so all of it is new.
                    self.missing.remove(range.clone());
                    self.changed.add(range.clone());
                    self.step_changed.add(range);
                }
                let put = self.now.put(number, block);
                self.noted(put)?;
            }
            at = at.plus(take.wide());
            left = later;
        }
        Ok(())
    }

    /// True when nothing was changed in the range so far.
    fn untouched(&self, range: &std::ops::Range<u64>) -> bool {
        let blocks = range.start.per(BLOCK.wide())..range.end.per_up(BLOCK.wide());
        !self.now.any(blocks) && !self.mapped.overlaps(range)
    }

    /// Puts at `to` the `length` bytes that stand at `from`. A range that nothing has changed yet is
    /// noted as such, and its bytes are not taken into memory.
    pub fn copy_at(&mut self, from: u64, to: u64, length: u64) -> Result<(), MediumError> {
        self.within(from, length)?;
        self.within(to, length)?;
        let (source, target) = (from..from.plus(length), to..to.plus(length));
        let apart = source.end <= target.start || target.end <= source.start;
        if length >= BLOCK.wide() && apart && self.untouched(&source) && self.untouched(&target) {
            self.mapped.insert(target.clone(), from.wrapping_sub(to));
            self.changed.add(target.clone());
            self.step_changed.add(target.clone());
            self.step_mapped.insert(target.clone());
            self.carry(&source, &target);
            return Ok(());
        }
        let mut done = 0;
        while done < length {
            let piece = length.minus(done).min(PIECE);
            let medium: &dyn Medium = self;
            let bytes = medium.bytes(from.plus(done), piece.size())?;
            self.write_at(to.plus(done), &bytes)?;
            done = done.plus(piece);
        }
        self.carry(&source, &target);
        Ok(())
    }

    /// From now on what could not be read are zeros, as they stand on a copy: once the medium below is settled.
    pub fn settle(&mut self) {
        self.settled = true;
    }

    /// Notes of a copied range what of it is not known.
    fn carry(&mut self, source: &std::ops::Range<u64>, target: &std::ops::Range<u64>) {
        let place = Extent::new(source.start, source.end.minus(source.start));
        let lost = super::within(self.unknown(Unknown::Lost), place);
        self.missing.remove(target.clone());
        for extent in lost {
            let extent = extent.moved(target.start);
            self.missing.insert(extent.offset..extent.end());
        }
    }

    /// Forgets nothing, but starts a new step: [`Overlay::step_changed`] counts from here.
    pub fn begin_step(&mut self) {
        self.before.clear();
        self.step_changed = Places::default();
        self.step_mapped = RangeSet::new();
    }

    /// What has changed since the step began, in order. Changes less than 8 bytes apart are one
    /// range, so that a table entry or a date is not torn into single bytes; where there is a crowd of them, those less
    /// than 512 bytes apart.
    pub fn step_changed(&self) -> Vec<Extent> {
        let near = joined(&self.step_changed.ranges, NEAR);
        if near.len() > CROWD { joined(&self.step_changed.ranges, FAR) } else { near }
    }

    /// Where the bytes of a changed range stand in the medium below, if it was copied as a whole.
    pub fn copied_from(&self, extent: Extent) -> Option<u64> {
        let blocks = extent.offset.per(BLOCK.wide())..extent.end().per_up(BLOCK.wide());
        let (range, shift) = self.mapped.get_key_value(&extent.offset)?;
        (range.end >= extent.end() && !self.now.any(blocks)).then(|| extent.offset.wrapping_add(*shift))
    }

    /// Fills `into` with what stood at `offset` before the step; zeros for what cannot be read.
    pub fn read_before(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let end = offset.plus(into.len().wide());
        let mut at = offset;
        let mut left = into;
        while at < end {
            let within = at.rest(BLOCK.wide()).size();
            let take = left.len().min(BLOCK.minus(within));
            let Some((now, later)) = left.split_at_mut_checked(take) else { break };
            if let Some(block) = self.noted(self.before.get(at.per(BLOCK.wide())))? {
                now.copy_from_slice(block.get(within..within.plus(take)).unwrap_or_default());
            } else {
                let below = (self.base).lenient(at, take).bytes;
                let mapped = self.step_mapped.overlaps(&(at..at.plus(take.wide())));
                if mapped {
                    now.copy_from_slice(&below);
                } else {
                    let medium: &dyn Medium = self;
                    now.copy_from_slice(&medium.lenient(at, take).bytes);
                }
            }
            at = at.plus(take.wide());
            left = later;
        }
        Ok(())
    }

    /// Every range that was ever changed, in order, joined where less than 512 bytes lie between.
    pub fn changed(&self) -> Vec<Extent> {
        joined(&self.changed.ranges, FAR)
    }
}

/// Places that were changed. Where a long range becomes something else, bytes that happen to be the same do not make a
/// million places of it.
#[derive(Default)]
struct Places {
    ranges: RangeSet<u64>,
    /// How many there were when they were joined last.
    joined: usize,
}

impl Places {
    fn add(&mut self, range: std::ops::Range<u64>) {
        self.ranges.insert(range);
        if self.ranges.len() > self.joined.max(CROWD).times(2) {
            self.ranges = joined(&self.ranges, FAR).iter().map(|place| place.offset..place.end()).collect();
            self.joined = self.ranges.len();
        }
    }
}

/// The index ranges in which `old` and `new` differ, in order; those that are near are one.
fn differing_runs(old: &[u8], new: &[u8]) -> Vec<std::ops::Range<usize>> {
    let mut runs: Vec<std::ops::Range<usize>> = Vec::new();
    for (index, _) in old.iter().zip(new).enumerate().filter(|(_, (a, b))| a != b) {
        match runs.last_mut() {
            Some(run) if index.minus(run.end).wide() < NEAR => run.end = index.plus(1),
            _ => runs.push(index..index.plus(1)),
        }
    }
    runs
}

fn joined(ranges: &RangeSet<u64>, gap: u64) -> Vec<Extent> {
    let mut extents: Vec<Extent> = Vec::new();
    for range in ranges.iter() {
        match extents.last_mut() {
            Some(last) if range.start.minus(last.end()) < gap => last.length = range.end.minus(last.offset),
            _ => extents.push(Extent::new(range.start, range.end.minus(range.start))),
        }
    }
    extents
}

impl Medium for Overlay<'_> {
    fn len(&self) -> u64 {
        self.base.len()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let length = into.len().wide();
        let end = offset.plus(length);
        if !self.now.any(offset.per(BLOCK.wide())..end.per_up(BLOCK.wide())) {
            return self.read_below(offset, into);
        }
        if !self.settled && !self.missing.is_empty() && length > 0 && self.missing.overlaps(&(offset..end)) {
            let source = std::io::Error::other("the medium below could not be read there");
            return Err(MediumError::Unreadable { offset, length, source });
        }
        let mut at = offset;
        let mut left = into;
        while !left.is_empty() {
            let within = at.rest(BLOCK.wide()).size();
            let take = left.len().min(BLOCK.minus(within));
            let Some((now, later)) = left.split_at_mut_checked(take) else { break };
            match self.noted(self.now.get(at.per(BLOCK.wide())))? {
                Some(block) => now.copy_from_slice(block.get(within..within.plus(take)).unwrap_or_default()),
                None => self.read_below(at, now)?,
            }
            at = at.plus(take.wide());
            left = later;
        }
        Ok(())
    }
    fn soon(&self, extent: Extent) {
        self.base.soon(extent);
    }
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        let below = self.base.unknown(which);
        let own = (which == Unknown::Lost) == self.settled && !self.missing.is_empty();
        if below.is_empty() && !own {
            return Vec::new();
        }
        let mut left: RangeSet<u64> = below.iter().map(|extent| extent.offset..extent.end()).collect();
        for range in self.changed.ranges.iter() {
            left.remove(range.clone());
        }
        if own {
            left.extend(self.missing.iter().cloned());
        }
        left.iter().map(|range| Extent::new(range.start, range.end.minus(range.start))).collect()
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        let below = self.base.data_from(offset);
        let change = self.changed.ranges.overlapping(&(offset..self.len())).next();
        let change = change.map(|range| {
            let start = range.start.max(offset);
            Extent::new(start, range.end.minus(start))
        });
        match (below, change) {
            (Some(below), Some(change)) if change.offset < below.offset => Some(change),
            (None, change) => change,
            (below, _) => below,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Memory, WithUnreadable};
    use super::*;
    use proptest::prelude::*;

    /// A write of bytes, or a copy of a range.
    #[derive(Debug, Clone)]
    enum Act {
        Write(u64, Vec<u8>),
        Copy(u64, u64, u64),
    }

    fn act() -> impl Strategy<Value = Act> {
        prop_oneof![
            (0_u64..60_000, prop::collection::vec(any::<u8>(), 1..6000))
                .prop_map(|(at, b)| Act::Write(at, b)),
            (0_u64..50_000, 0_u64..50_000, 1_u64..20_000).prop_map(|(f, t, l)| Act::Copy(f, t, l)),
        ]
    }

    proptest! {
        /// Whatever is written or copied, spilled or not, reads back; the base stays as it was; and
        /// what a step says of before and after is so.
        #[test]
        fn reads_back_what_was_written(acts in prop::collection::vec(act(), 1..12), limit in 0_usize..4) {
            let base = Memory::new((0..70_000_u32).map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()[2]).collect());
            let mut overlay = Overlay::with_limit(&base, limit);
            let mut model = base.bytes().to_vec();
            for act in &acts {
                overlay.begin_step();
                let before = model.clone();
                match act {
                    Act::Write(offset, bytes) => {
                        overlay.write_at(*offset, bytes).unwrap();
                        let at = usize::try_from(*offset).unwrap();
                        model[at..at + bytes.len()].copy_from_slice(bytes);
                    }
                    Act::Copy(from, to, length) => {
                        let ranges = (*from).max(*to) - (*from).min(*to) >= *length;
                        if !ranges { continue; }
                        overlay.copy_at(*from, *to, *length).unwrap();
                        let (from, to, length) = (from.size(), to.size(), length.size());
                        model.copy_within(from..from + length, to);
                    }
                }
                let mut back = model.clone();
                for extent in overlay.step_changed() {
                    let at = usize::try_from(extent.offset).unwrap();
                    let end = usize::try_from(extent.end()).unwrap();
                    overlay.read_before(extent.offset, &mut back[at..end]).unwrap();
                    if let Some(from) = overlay.copied_from(extent) {
                        prop_assert_eq!(&base.bytes()[from.size()..from.size() + end - at], &model[at..end]);
                    }
                }
                prop_assert_eq!(&back, &before);
            }
            prop_assert_eq!((&overlay as &dyn Medium).bytes(0, 70_000).unwrap(), model.clone());
            let mut rebuilt = base.bytes().to_vec();
            for extent in overlay.changed() {
                let range = usize::try_from(extent.offset).unwrap()..usize::try_from(extent.end()).unwrap();
                rebuilt[range.clone()].copy_from_slice(&model[range]);
            }
            prop_assert_eq!(rebuilt, model);
        }
    }

    #[test]
    fn what_cannot_be_read_stays_so_beside_what_is_written() {
        let inner = Memory::new(vec![7; 8192]);
        let holed = WithUnreadable::new(&inner, vec![Extent::new(1024, 512)]);
        let mut overlay = Overlay::new(&holed);
        overlay.write_at(0, &[1; 16]).unwrap();
        let medium: &dyn Medium = &overlay;
        assert_eq!(medium.lenient(0, 4096).missing, vec![Extent::new(1024, 512)]);
        assert!(medium.bytes(1100, 4).is_err());
        overlay.write_at(1024, &[0; 512]).unwrap();
        let medium: &dyn Medium = &overlay;
        assert_eq!(medium.bytes(1024, 512).unwrap(), vec![0; 512], "what is written can be read");
        assert_eq!(overlay.changed(), vec![Extent::new(0, 16), Extent::new(1024, 512)]);
    }
}
