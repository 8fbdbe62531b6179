//! Blocks of 4096 bytes by number, in memory up to a limit and behind it in a scratch file.

use super::{MediumError, scratch::Scratch};
use crate::arith::Sat;
use std::collections::BTreeMap;

/// Bytes of a block.
pub(super) const BLOCK: usize = 4096;

enum Slot {
    Here(Box<[u8]>),
    Spilled(u64),
}

/// See the module.
pub(super) struct Blocks {
    slots: BTreeMap<u64, Slot>,
    kept: usize,
    limit: usize,
    scratch: Option<Scratch>,
}

impl Blocks {
    /// None yet; at most `limit` of them are kept in memory.
    pub(super) fn new(limit: usize) -> Self {
        Self { slots: BTreeMap::new(), kept: 0, limit, scratch: None }
    }

    pub(super) fn has(&self, number: u64) -> bool {
        self.slots.contains_key(&number)
    }

    /// True when any block of the range is there.
    pub(super) fn any(&self, numbers: std::ops::Range<u64>) -> bool {
        numbers.start < numbers.end && self.slots.range(numbers).next().is_some()
    }

    /// A block, if it is there.
    pub(super) fn get(&self, number: u64) -> Result<Option<Vec<u8>>, MediumError> {
        match self.slots.get(&number) {
            None => Ok(None),
            Some(Slot::Here(kept)) => Ok(Some(kept.to_vec())),
            Some(Slot::Spilled(place)) => {
                let mut bytes = vec![0; BLOCK];
                let gone = || MediumError::Scratch(std::io::ErrorKind::NotFound.into());
                self.scratch
                    .as_ref()
                    .ok_or_else(gone)?
                    .get(*place, &mut bytes)
                    .map_err(MediumError::Scratch)?;
                Ok(Some(bytes))
            }
        }
    }

    /// Puts a block there, or in the place of the one that is.
    pub(super) fn put(&mut self, number: u64, bytes: Vec<u8>) -> Result<(), MediumError> {
        match self.slots.get_mut(&number) {
            Some(Slot::Here(kept)) => *kept = bytes.into_boxed_slice(),
            None if self.kept < self.limit => {
                self.kept = self.kept.plus(1);
                self.slots.insert(number, Slot::Here(bytes.into_boxed_slice()));
            }
            standing => {
                let place = match standing {
                    Some(Slot::Spilled(place)) => Some(*place),
                    _ => None,
                };
                let scratch = match &mut self.scratch {
                    Some(scratch) => scratch,
                    none => none.insert(Scratch::new().map_err(MediumError::Scratch)?),
                };
                let place = scratch.put(place, &bytes).map_err(MediumError::Scratch)?;
                self.slots.insert(number, Slot::Spilled(place));
            }
        }
        Ok(())
    }

    /// Forgets them all.
    pub(super) fn clear(&mut self) {
        self.slots.clear();
        self.kept = 0;
        self.scratch = None;
    }
}
