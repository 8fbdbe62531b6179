//! A table on a medium, read in pages of 64 KiB and kept within bounds.

use crate::{
    arith::Sat,
    medium::{Extent, Medium},
};
use std::collections::VecDeque;

/// Bytes of a page.
pub const PAGE: usize = 64 * 1024;
/// Pages that are kept: 32 MiB.
const PAGES: usize = 512;

/// Some bytes of a medium, page by page.
#[derive(Debug)]
pub struct Pages {
    place: Extent,
    /// By page number; one word a page where there is none.
    kept: Vec<Option<Box<[u8]>>>,
    order: VecDeque<usize>,
    /// Ranges that could not be read, from the start of the table.
    holes: rangemap::RangeSet<u64>,
}

impl Pages {
    /// The bytes at `place`.
    pub fn new(place: Extent) -> Self {
        Self { place, kept: Vec::new(), order: VecDeque::new(), holes: rangemap::RangeSet::new() }
    }

    /// Bytes in all.
    pub fn len(&self) -> u64 {
        self.place.length
    }

    /// True when there are none.
    pub fn is_empty(&self) -> bool {
        self.place.length == 0
    }

    /// Page `number`; the last one is shorter.
    pub fn page(&mut self, medium: &dyn Medium, number: usize) -> &[u8] {
        if self.kept.get(number).is_none_or(Option::is_none) {
            self.load(medium, number);
        }
        self.kept.get(number).and_then(Option::as_deref).unwrap_or(&[])
    }

    /// True when part of these bytes, which were read, cannot be.
    pub fn has_holes(&self, from: u64, length: u64) -> bool {
        !self.holes.is_empty() && self.holes.overlaps(&(from..from.plus(length)))
    }

    /// Gives the memory of a page back; it is read again when it is asked for.
    pub fn forget(&mut self, number: usize) {
        if let Some(slot) = self.kept.get_mut(number)
            && slot.take().is_some()
        {
            self.order.retain(|kept| *kept != number);
        }
    }

    fn load(&mut self, medium: &dyn Medium, number: usize) {
        let from = number.times(PAGE).wide();
        if from >= self.place.length {
            return;
        }
        if self.order.len() >= PAGES
            && let Some(oldest) = self.order.pop_front()
            && let Some(slot) = self.kept.get_mut(oldest)
        {
            *slot = None;
        }
        let length = self.place.length.minus(from).min(PAGE.wide()).size();
        let got = medium.lenient(self.place.offset.plus(from), length);
        for hole in got.missing {
            let start = hole.offset.minus(self.place.offset);
            self.holes.insert(start..start.plus(hole.length));
        }
        if self.kept.len() <= number {
            self.kept.resize(number.plus(1), None);
        }
        if let Some(slot) = self.kept.get_mut(number) {
            *slot = Some(got.bytes.into_boxed_slice());
            self.order.push_back(number);
        }
    }
}
