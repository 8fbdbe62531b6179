//! The bytes of what may be a file, in the order of the file.

use super::{BEGINNING, begins, is_weak};
use crate::arith::Sat;

/// Bytes in an order of their own: pieces of a medium, the content of a file.
pub trait Source {
    /// Bytes there are.
    fn len(&self) -> u64;
    /// True without a byte.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// Fills `into` from `at`; what cannot be read, or lies behind the end, is zeros.
    fn read(&self, at: u64, into: &mut [u8]);
}

impl Source for &[u8] {
    fn len(&self) -> u64 {
        <[u8]>::len(self).wide()
    }
    fn read(&self, at: u64, into: &mut [u8]) {
        let from = self.get(at.size()..).unwrap_or(&[]);
        let there = from.len().min(into.len());
        let (first, rest) = into.split_at_mut(there);
        first.copy_from_slice(from.get(..there).unwrap_or(&[]));
        rest.fill(0);
    }
}

/// Bytes read at once where the walk goes on from where it was, and where it jumps.
const LONG: usize = 512 << 10;
const SHORT: usize = 16 << 10;

/// A source with a window on it.
pub struct Tape<'s> {
    source: &'s dyn Source,
    window: Vec<u8>,
    from: u64,
    length: u64,
}

impl<'s> Tape<'s> {
    /// From the first byte of `source` on.
    pub fn new(source: &'s dyn Source) -> Self {
        Self { source, window: Vec::new(), from: 0, length: source.len() }
    }

    /// Bytes there are.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// `want` bytes from `at` on, or what there is of them; at most 1 MiB.
    #[inline]
    pub fn at(&mut self, at: u64, want: usize) -> &[u8] {
        let end = self.from.plus(self.window.len().wide());
        if at < self.from || at.plus(want.wide()) > end {
            self.fill(at, want);
        }
        let skip = at.minus(self.from).size();
        let stop = skip.plus(want).min(self.window.len());
        self.window.get(skip.min(stop)..stop).unwrap_or(&[])
    }

    /// All that is in the window from `at` on: at least one byte, but at the end.
    #[inline]
    pub fn rest(&mut self, at: u64) -> &[u8] {
        let end = self.from.plus(self.window.len().wide());
        if at < self.from || at >= end {
            self.fill(at, 1);
        }
        self.window.get(at.minus(self.from).size()..).unwrap_or(&[])
    }

    /// How far bytes go on from `from` that say nothing of their end: to a block without content, to the beginning of a
    /// file, to `most`.
    pub(super) fn unended(&mut self, from: u64, most: u64) -> u64 {
        let most = most.min(self.length);
        let mut at = from;
        while at < most {
            let sector = self.at(at, BEGINNING);
            let blank = sector.iter().all(|byte| *byte == 0);
            if blank || begins(sector).is_some_and(|format| !is_weak(format)) {
                break;
            }
            at = at.per(BEGINNING.wide()).plus(1).times(BEGINNING.wide());
        }
        at.min(most)
    }

    fn fill(&mut self, at: u64, want: usize) {
        let end = self.from.plus(self.window.len().wide());
        // What overlaps or follows the window is read on; the rest of a jump may never be asked for.
        let goes_on = at >= self.from && at <= end && !self.window.is_empty();
        let each = if goes_on { LONG } else { SHORT };
        let length = self.length.minus(at).min(want.max(each).min(1 << 20).wide()).size();
        self.window.resize(length, 0);
        self.from = at;
        self.source.read(at, &mut self.window);
    }
}
