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

/// A page of zeros, shared by all that have nothing else.
static BLANK: [u8; PAGE] = [0; PAGE];

/// What is kept of a page.
#[derive(Debug)]
enum Kept {
    /// Nothing: it is read when it is asked for.
    Not,
    /// That it holds nothing but zeros; of a hole this is known without reading it.
    Blank,
    /// Its bytes.
    Bytes(Box<[u8]>),
}

/// Some bytes of a medium, page by page.
#[derive(Debug)]
pub struct Pages {
    place: Extent,
    /// By page number.
    kept: Vec<Kept>,
    order: VecDeque<usize>,
    /// Ranges that could not be read, from the start of the table.
    holes: rangemap::RangeSet<u64>,
}

impl Pages {
    /// The bytes at `place`.
    #[inline]
    pub fn new(place: Extent) -> Self {
        Self { place, kept: Vec::new(), order: VecDeque::new(), holes: rangemap::RangeSet::new() }
    }

    /// Bytes in all.
    #[inline]
    pub fn len(&self) -> u64 {
        self.place.length
    }

    /// True when there are none.
    #[inline]
    pub fn is_empty(&self) -> bool {
        self.place.length == 0
    }

    /// Bytes of page `number`; the last one is shorter.
    #[inline]
    fn length(&self, number: usize) -> usize {
        self.place.length.minus(number.times(PAGE).wide()).min(PAGE.wide()).size()
    }

    /// Page `number`.
    #[inline]
    pub fn page(&mut self, medium: &dyn Medium, number: usize) -> &[u8] {
        if matches!(self.kept.get(number), None | Some(Kept::Not)) {
            self.load(medium, number);
        }
        match self.kept.get(number) {
            Some(Kept::Bytes(bytes)) => bytes,
            Some(Kept::Blank) => BLANK.get(..self.length(number)).unwrap_or(&BLANK),
            _ => &[],
        }
    }

    /// True when page `number` can be read and holds nothing but zeros.
    #[inline]
    pub fn is_blank(&mut self, medium: &dyn Medium, number: usize) -> bool {
        if matches!(self.kept.get(number), None | Some(Kept::Not)) {
            self.load(medium, number);
        }
        matches!(self.kept.get(number), Some(Kept::Blank))
    }

    /// True when part of these bytes, which were read, cannot be.
    #[inline]
    pub fn has_holes(&self, from: u64, length: u64) -> bool {
        !self.holes.is_empty() && self.holes.overlaps(&(from..from.plus(length)))
    }

    /// Gives the memory of a page back; it is read again when it is asked for.
    pub fn forget(&mut self, number: usize) {
        if let Some(slot) = self.kept.get_mut(number)
            && matches!(slot, Kept::Bytes(_))
        {
            *slot = Kept::Not;
            self.order.retain(|kept| *kept != number);
        }
    }

    fn load(&mut self, medium: &dyn Medium, number: usize) {
        let from = number.times(PAGE).wide();
        if from >= self.place.length {
            return;
        }
        if self.kept.len() <= number {
            self.kept.resize_with(number.plus(1), || Kept::Not);
        }
        let place = Extent::new(self.place.offset.plus(from), self.length(number).wide());
        let hollow = place.end() <= medium.len()
            && medium.data_from(place.offset).is_none_or(|data| data.offset >= place.end());
        let found = if hollow { Kept::Blank } else { self.read(medium, place) };
        if matches!(found, Kept::Bytes(_)) {
            if self.order.len() >= PAGES
                && let Some(oldest) = self.order.pop_front()
                && let Some(slot) = self.kept.get_mut(oldest)
            {
                *slot = Kept::Not;
            }
            self.order.push_back(number);
        }
        if let Some(slot) = self.kept.get_mut(number) {
            *slot = found;
        }
    }

    fn read(&mut self, medium: &dyn Medium, place: Extent) -> Kept {
        let got = medium.lenient(place.offset, place.length.size());
        let whole = got.missing.is_empty();
        for hole in got.missing {
            let start = hole.offset.minus(self.place.offset);
            self.holes.insert(start..start.plus(hole.length));
        }
        let blank = whole && got.bytes.iter().fold(0, |all, byte| all | byte) == 0;
        if blank { Kept::Blank } else { Kept::Bytes(got.bytes.into_boxed_slice()) }
    }
}
