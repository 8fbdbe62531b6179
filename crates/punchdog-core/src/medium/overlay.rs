//! Copy-on-write on any medium: where a repair is made and proved before a byte is written.
//!
//! ```text
//! write ──▶ block map: block number ──▶ 4096 bytes, in memory (up to a limit) or in a spill file
//! read  ──▶ block map where it has the block, else the medium below
//! step  ──▶ the blocks as they were before the step, so that each step knows before and after
//! ```

use super::spill::Spill;
use super::{Extent, Medium, MediumError};
use crate::arith::Sat;
use rangemap::RangeSet;
use std::collections::BTreeMap;

const BLOCK: usize = 4096;
/// Blocks kept in memory before further ones go to the spill file: 32 MiB.
const KEPT: usize = 8192;

enum Slot {
    Here(Box<[u8]>),
    Spilled(u64),
}

/// One range that a step changed, with its bytes before and after.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rewrite {
    /// Bytes from the start of the medium.
    pub offset: u64,
    /// What stood there before the step.
    pub before: Vec<u8>,
    /// What stands there after it; as long as `before`.
    pub after: Vec<u8>,
}

/// A medium with changes on top that are never written to it.
pub struct Overlay<'a> {
    base: &'a dyn Medium,
    blocks: BTreeMap<u64, Slot>,
    kept: usize,
    limit: usize,
    spill: Option<Spill>,
    changed: RangeSet<u64>,
    step: BTreeMap<u64, Vec<u8>>,
    step_changed: RangeSet<u64>,
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
            blocks: BTreeMap::new(),
            kept: 0,
            limit,
            spill: None,
            changed: RangeSet::new(),
            step: BTreeMap::new(),
            step_changed: RangeSet::new(),
        }
    }

    fn block(&self, number: u64) -> Result<Vec<u8>, MediumError> {
        let mut bytes = vec![0; BLOCK];
        match self.blocks.get(&number) {
            Some(Slot::Here(kept)) => bytes.copy_from_slice(kept),
            Some(Slot::Spilled(place)) => {
                if let Some(spill) = &self.spill {
                    spill.get(*place, &mut bytes).map_err(MediumError::Spill)?;
                }
            }
            None => {
                // The base may end inside this block, or hold unreadable sectors: they stay zero
                // here, and only bytes that are written count as changed.
                bytes = self.base.lenient(number.times(BLOCK.wide()), BLOCK).bytes;
            }
        }
        Ok(bytes)
    }

    fn put(&mut self, number: u64, bytes: Vec<u8>) -> Result<(), MediumError> {
        match self.blocks.get_mut(&number) {
            Some(Slot::Here(kept)) => *kept = bytes.into_boxed_slice(),
            Some(Slot::Spilled(place)) => {
                let place = *place;
                if let Some(spill) = &mut self.spill {
                    spill.put(Some(place), &bytes).map_err(MediumError::Spill)?;
                }
            }
            None if self.kept < self.limit => {
                self.kept = self.kept.plus(1);
                self.blocks.insert(number, Slot::Here(bytes.into_boxed_slice()));
            }
            None => {
                if self.spill.is_none() {
                    self.spill = Some(Spill::new().map_err(MediumError::Spill)?);
                }
                if let Some(spill) = &mut self.spill {
                    let place = spill.put(None, &bytes).map_err(MediumError::Spill)?;
                    self.blocks.insert(number, Slot::Spilled(place));
                }
            }
        }
        Ok(())
    }

    /// Puts `bytes` at `offset`. Bytes that already stand there are not counted as a change.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<(), MediumError> {
        let length = bytes.len().wide();
        if offset.plus(length) > self.base.len() {
            return Err(MediumError::Beyond { offset, length, end: self.base.len() });
        }
        let mut at = offset;
        let mut left = bytes;
        while !left.is_empty() {
            let number = at.per(BLOCK.wide());
            let within = at.rest(BLOCK.wide()).size();
            let take = left.len().min(BLOCK.minus(within));
            let (now, later) = left.split_at_checked(take).unwrap_or((left, &[]));
            let mut block = self.block(number)?;
            if block.get(within..within.plus(take)) != Some(now) {
                self.step.entry(number).or_insert_with(|| block.clone());
                if let Some(place) = block.get_mut(within..within.plus(take)) {
                    for run in differing_runs(place, now) {
                        let bytes = at.plus(run.start.wide())..at.plus(run.end.wide());
                        self.changed.insert(bytes.clone());
                        self.step_changed.insert(bytes);
                    }
                    place.copy_from_slice(now);
                }
                self.put(number, block)?;
            }
            at = at.plus(take.wide());
            left = later;
        }
        Ok(())
    }

    /// Forgets nothing, but starts a new step: [`Overlay::step_rewrites`] counts from here.
    pub fn begin_step(&mut self) {
        self.step.clear();
        self.step_changed = RangeSet::new();
    }

    /// What has changed since the step began, in order. Changes less than 8 bytes apart are one
    /// rewrite, so that a table entry or a date is not torn into single bytes.
    pub fn step_rewrites(&self) -> Result<Vec<Rewrite>, MediumError> {
        let mut rewrites = Vec::new();
        for extent in joined(&self.step_changed, 8) {
            let mut after = vec![0; extent.length.size()];
            self.read_at(extent.offset, &mut after)?;
            let mut before = after.clone();
            for (index, old) in before.iter_mut().enumerate() {
                let at = extent.offset.plus(index.wide());
                if let Some(block) = self.step.get(&at.per(BLOCK.wide())) {
                    *old = block.get(at.rest(BLOCK.wide()).size()).copied().unwrap_or(*old);
                }
            }
            if before != after {
                rewrites.push(Rewrite { offset: extent.offset, before, after });
            }
        }
        Ok(rewrites)
    }

    /// Every range that was ever changed, in order, joined where less than 512 bytes lie between.
    pub fn changed(&self) -> Vec<Extent> {
        joined(&self.changed, 512)
    }
}

/// The index ranges in which `old` and `new` differ, in order.
fn differing_runs(old: &[u8], new: &[u8]) -> Vec<std::ops::Range<usize>> {
    let mut runs = Vec::new();
    let mut start = None;
    for (index, (a, b)) in old.iter().zip(new).enumerate() {
        match (a == b, start) {
            (false, None) => start = Some(index),
            (true, Some(from)) => {
                runs.push(from..index);
                start = None;
            }
            _ => {}
        }
    }
    runs.extend(start.map(|from| from..new.len()));
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
        let blocks = offset.per(BLOCK.wide())..offset.plus(length).per_up(BLOCK.wide());
        if self.blocks.range(blocks).next().is_none() {
            return self.base.read_at(offset, into);
        }
        let mut at = offset;
        let mut left = into;
        while !left.is_empty() {
            let number = at.per(BLOCK.wide());
            let within = at.rest(BLOCK.wide()).size();
            let take = left.len().min(BLOCK.minus(within));
            let Some((now, later)) = left.split_at_mut_checked(take) else { break };
            if self.blocks.contains_key(&number) {
                let block = self.block(number)?;
                if let Some(from) = block.get(within..within.plus(take)) {
                    now.copy_from_slice(from);
                }
            } else {
                self.base.read_at(at, now)?;
            }
            at = at.plus(take.wide());
            left = later;
        }
        Ok(())
    }
    fn soon(&self, extent: Extent) {
        self.base.soon(extent);
    }
}

/// The part of an overlay in which one volume is mended; offsets count from the volume's start.
pub struct Stage<'o, 'a> {
    overlay: &'o mut Overlay<'a>,
    place: Extent,
}

impl<'o, 'a> Stage<'o, 'a> {
    /// The volume at `place` of `overlay`.
    pub fn new(overlay: &'o mut Overlay<'a>, place: Extent) -> Self {
        let length = overlay.len().minus(place.offset).min(place.length);
        Self { overlay, place: Extent::new(place.offset, length) }
    }
    /// Where the volume lies in the image.
    pub fn place(&self) -> Extent {
        self.place
    }
    /// Puts `bytes` at `offset` of the volume.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<(), MediumError> {
        if offset.plus(bytes.len().wide()) > self.place.length {
            return Err(MediumError::Beyond { offset, length: bytes.len().wide(), end: self.place.length });
        }
        self.overlay.write_at(self.place.offset.plus(offset), bytes)
    }
    /// Starts a step; see [`Overlay::begin_step`].
    pub fn begin_step(&mut self) {
        self.overlay.begin_step();
    }
    /// What the step has changed, in offsets of the image; see [`Overlay::step_rewrites`].
    pub fn step_rewrites(&self) -> Result<Vec<Rewrite>, MediumError> {
        self.overlay.step_rewrites()
    }
}

impl Medium for Stage<'_, '_> {
    fn len(&self) -> u64 {
        self.place.length
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        if offset.plus(into.len().wide()) > self.place.length {
            return Err(MediumError::Beyond { offset, length: into.len().wide(), end: self.place.length });
        }
        self.overlay.read_at(self.place.offset.plus(offset), into)
    }
}

#[cfg(test)]
mod tests {
    use super::super::Memory;
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Whatever is written, spilled or not, reads back; the base stays as it was; and the
        /// rewrites of a step undo it.
        #[test]
        fn reads_back_what_was_written(
            writes in prop::collection::vec((0_u64..60_000, prop::collection::vec(any::<u8>(), 1..6000)), 1..12),
            limit in 0_usize..4,
        ) {
            let base = Memory::new((0..=255).cycle().take(70_000).collect());
            let mut overlay = Overlay::with_limit(&base, limit);
            let mut model = base.bytes().to_vec();
            for (offset, bytes) in &writes {
                overlay.begin_step();
                let before = model.clone();
                overlay.write_at(*offset, bytes).unwrap();
                let at = usize::try_from(*offset).unwrap();
                model[at..at + bytes.len()].copy_from_slice(bytes);
                let mut back = model.clone();
                for rewrite in overlay.step_rewrites().unwrap() {
                    let at = usize::try_from(rewrite.offset).unwrap();
                    prop_assert_eq!(&back[at..at + rewrite.after.len()], &rewrite.after[..]);
                    back[at..at + rewrite.before.len()].copy_from_slice(&rewrite.before);
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
}
