//! A medium in which some places cannot be read.

use super::{Extent, Medium, MediumError};
use crate::arith::Sat;
use rangemap::RangeSet;

/// Reads like the inner medium, except that reads which touch a listed extent fail.
pub struct WithUnreadable<'a> {
    inner: &'a dyn Medium,
    holes: RangeSet<u64>,
}

impl<'a> WithUnreadable<'a> {
    /// `inner`, with `extents` (bytes from its start) unreadable.
    pub fn new(inner: &'a dyn Medium, extents: Vec<Extent>) -> Self {
        let holes = extents.into_iter().filter(|e| e.length > 0).map(|e| e.offset..e.end()).collect();
        Self { inner, holes }
    }
}

impl Medium for WithUnreadable<'_> {
    fn len(&self) -> u64 {
        self.inner.len()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let length = into.len().wide();
        if length > 0 && self.holes.overlaps(&(offset..offset.plus(length))) {
            let source = std::io::Error::other("listed as unreadable");
            return Err(MediumError::Unreadable { offset, length, source });
        }
        self.inner.read_at(offset, into)
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        // What cannot be read is no hole.
        let data = self.inner.data_from(offset);
        let broken =
            self.holes.overlapping(&(offset..self.len())).next().map(|range| range.start.max(offset));
        match (data, broken) {
            (Some(data), Some(at)) if at < data.offset => Some(Extent::new(at, data.end().minus(at))),
            (None, Some(at)) => Some(Extent::new(at, self.len().minus(at))),
            (data, _) => data,
        }
    }
}
