//! Remembers what was read: the evidence that a plan rests on.

use super::{Extent, Medium, MediumError, Unknown};
use crate::arith::Sat;
use rangemap::RangeSet;
use std::sync::{Mutex, PoisonError};

/// Reads like the inner medium and keeps a list of the ranges that were read from it.
pub struct ReadLog<'a> {
    inner: &'a dyn Medium,
    seen: Mutex<RangeSet<u64>>,
}

impl<'a> ReadLog<'a> {
    /// Watches the reads of `inner`.
    pub fn new(inner: &'a dyn Medium) -> Self {
        Self { inner, seen: Mutex::new(RangeSet::new()) }
    }

    /// The ranges read so far, in order, joined where they touch.
    pub fn seen(&self) -> Vec<Extent> {
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        seen.iter().map(|range| Extent::new(range.start, range.end.minus(range.start))).collect()
    }
}

impl Medium for ReadLog<'_> {
    fn len(&self) -> u64 {
        self.inner.len()
    }
    fn promised(&self) -> u64 {
        self.inner.promised()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        self.inner.read_at(offset, into)?;
        if !into.is_empty() {
            let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
            seen.insert(offset..offset.plus(into.len().wide()));
        }
        Ok(())
    }
    fn soon(&self, extent: Extent) {
        self.inner.soon(extent);
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        self.inner.data_from(offset)
    }
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        self.inner.unknown(which)
    }
}
