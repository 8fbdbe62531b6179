//! A medium in which some places cannot be read.
//!
//! ```text
//! listed   ──▶ a read that touches one of these fails, whatever the medium below has there
//! met      ──▶ a sector whose read failed below is noted, and never tried again: a failing medium is asked once
//! settled  ──▶ all of them read as zeros, and are told as lost: what a copy on a good medium has there
//! ```

use super::{Extent, Medium, MediumError, PIECE, Unknown};
use crate::arith::Sat;
use rangemap::RangeSet;
use std::sync::{
    PoisonError, RwLock,
    atomic::{AtomicBool, Ordering},
};

/// Reads like the inner medium, except that reads which touch a listed extent, or one that failed before, fail.
pub struct WithUnreadable<M> {
    inner: M,
    holes: RwLock<RangeSet<u64>>,
    settled: AtomicBool,
}

/// The ranges of a list that have a length.
fn ranges(extents: Vec<Extent>) -> RangeSet<u64> {
    extents.into_iter().filter(|e| e.length > 0).map(|e| e.offset..e.end()).collect()
}

/// What of `extents` is in none of `known`; in order, and nothing twice.
pub(crate) fn without(extents: Vec<Extent>, known: Vec<Extent>) -> Vec<Extent> {
    let known = ranges(known);
    let all = ranges(extents);
    let open = all.iter().flat_map(|range| known.gaps(range));
    open.map(|range| Extent::new(range.start, range.end.minus(range.start))).collect()
}

impl<M: Medium> WithUnreadable<M> {
    /// `inner`, with `extents` (bytes from its start) unreadable.
    pub fn new(inner: M, extents: Vec<Extent>) -> Self {
        Self { inner, holes: RwLock::new(ranges(extents)), settled: AtomicBool::new(false) }
    }

    /// `inner`, with zeros in `extents`, which could not be read from where it was copied.
    pub fn with_lost(inner: M, extents: Vec<Extent>) -> Self {
        let medium = Self::new(inner, extents);
        medium.settle();
        medium
    }

    /// From now on these bytes cannot be read either.
    pub fn add(&self, extent: Extent) {
        if extent.length > 0 {
            let mut holes = self.holes.write().unwrap_or_else(PoisonError::into_inner);
            holes.insert(extent.offset..extent.end());
        }
    }

    /// From now on the places read as zeros, and are lost.
    pub fn settle(&self) {
        self.settled.store(true, Ordering::SeqCst);
    }

    fn is_settled(&self) -> bool {
        self.settled.load(Ordering::SeqCst)
    }

    /// The first place from `offset` on, before `end`.
    fn next(&self, offset: u64, end: u64) -> Option<std::ops::Range<u64>> {
        let holes = self.holes.read().unwrap_or_else(PoisonError::into_inner);
        holes.overlapping(&(offset..end)).next().cloned()
    }

    /// Fills `into` with what can be read, and zeros for the places.
    fn read_around(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let end = offset.plus(into.len().wide());
        let (mut at, mut left) = (offset, into);
        while !left.is_empty() {
            let place = self.next(at, end);
            let good = place.as_ref().map_or(end, |place| place.start.max(at)).minus(at);
            let (there, behind) = left.split_at_mut_checked(good.size()).unwrap_or_default();
            if !there.is_empty() {
                self.inner.read_at(at, there)?;
            }
            at = at.plus(good);
            let lost = place.map_or(0, |place| place.end.min(end).minus(at));
            let (there, behind) = behind.split_at_mut_checked(lost.size()).unwrap_or_default();
            there.fill(0);
            at = at.plus(lost);
            left = behind;
        }
        Ok(())
    }
}

/// Reads as the inner medium does, and knows places that hold zeros because they could not be read from what it was made of.
pub struct WithLost<M> {
    inner: M,
    lost: Vec<Extent>,
}

impl<M: Medium> WithLost<M> {
    /// `inner`, of which these extents are lost; in order.
    pub fn new(inner: M, lost: Vec<Extent>) -> Self {
        Self { inner, lost }
    }
}

impl<M: Medium> Medium for WithLost<M> {
    fn len(&self) -> u64 {
        self.inner.len()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        self.inner.read_at(offset, into)
    }
    fn soon(&self, extent: Extent) {
        self.inner.soon(extent);
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        self.inner.data_from(offset)
    }
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        if which == Unknown::Lost { self.lost.clone() } else { self.inner.unknown(which) }
    }
}

impl<M: Medium> Medium for WithUnreadable<M> {
    fn len(&self) -> u64 {
        self.inner.len()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let length = into.len().wide();
        if length > 0 && self.next(offset, offset.plus(length)).is_some() {
            if self.is_settled() {
                return self.read_around(offset, into);
            }
            let source = std::io::Error::other("listed as unreadable");
            return Err(MediumError::Unreadable { offset, length, source });
        }
        let read = self.inner.read_at(offset, into);
        if let Err(MediumError::Unreadable { .. }) = read
            && into.len() <= PIECE
        {
            // The whole sector is not to be had, whichever bytes of it were asked for.
            let sector = PIECE.wide();
            let start = offset.per(sector).times(sector);
            let end = offset.plus(length).per_up(sector).times(sector).min(self.len());
            self.holes.write().unwrap_or_else(PoisonError::into_inner).insert(start..end);
        }
        read
    }
    fn soon(&self, extent: Extent) {
        self.inner.soon(extent);
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        let data = self.inner.data_from(offset);
        if self.is_settled() {
            return data;
        }
        // What cannot be read is no hole.
        let broken = self.next(offset, self.len()).map(|range| range.start.max(offset));
        match (data, broken) {
            (Some(data), Some(at)) if at < data.offset => Some(Extent::new(at, data.end().minus(at))),
            (None, Some(at)) => Some(Extent::new(at, self.len().minus(at))),
            (data, _) => data,
        }
    }
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        // Once settled nothing fails any more, whatever is below.
        let mut all = match (which, self.is_settled()) {
            (Unknown::Unreadable, true) => return Vec::new(),
            _ => self.inner.unknown(which),
        };
        if (which == Unknown::Lost) == self.is_settled() {
            let holes = self.holes.read().unwrap_or_else(PoisonError::into_inner);
            let own = holes.iter().map(|range| Extent::new(range.start, range.end.minus(range.start)));
            if all.is_empty() {
                return own.collect();
            }
            all.extend(own);
            let joined: RangeSet<u64> = ranges(all);
            return joined
                .iter()
                .map(|range| Extent::new(range.start, range.end.minus(range.start)))
                .collect();
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::super::Memory;
    use super::*;

    /// A medium that counts how often a failing place was asked for.
    struct Failing(Memory, std::sync::atomic::AtomicU32);

    impl Medium for Failing {
        fn len(&self) -> u64 {
            self.0.len()
        }
        fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
            if Extent::new(offset, into.len().wide()).overlaps(Extent::new(2048, 512)) {
                self.1.fetch_add(1, Ordering::SeqCst);
                let source = std::io::Error::other("failed");
                return Err(MediumError::Unreadable { offset, length: into.len().wide(), source });
            }
            self.0.read_at(offset, into)
        }
    }

    #[test]
    fn a_sector_that_failed_is_not_asked_for_again_and_reads_as_zeros_once_settled() {
        let medium =
            WithUnreadable::new(Failing(Memory::new(vec![7; 8192]), 0.into()), vec![Extent::new(5120, 512)]);
        let whole: &dyn Medium = &medium;
        assert_eq!(whole.lenient(0, 8192).missing, [Extent::new(2048, 512), Extent::new(5120, 512)]);
        let asked = medium.inner.1.load(Ordering::SeqCst);
        assert!(whole.bytes(2000, 100).is_err());
        assert_eq!(medium.inner.1.load(Ordering::SeqCst), asked, "it is known");
        assert_eq!(medium.unknown(Unknown::Unreadable), [Extent::new(2048, 512), Extent::new(5120, 512)]);
        assert_eq!(medium.unknown(Unknown::Lost), []);
        medium.settle();
        let mut expected = vec![7; 8192];
        expected[2048..2560].fill(0);
        expected[5120..5632].fill(0);
        assert_eq!(whole.bytes(0, 8192).unwrap(), expected);
        assert_eq!(whole.bytes(2300, 3000).unwrap(), expected[2300..5300]);
        assert_eq!(medium.unknown(Unknown::Lost), [Extent::new(2048, 512), Extent::new(5120, 512)]);
    }
}
