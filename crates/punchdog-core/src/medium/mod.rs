//! The only door to bytes.
//!
//! No file system code knows whether its bytes come from a file, a window of one, memory, a
//! medium with unreadable places, or an overlay that holds a repair in the making.
//!
//! Reading never mixes up two things: bytes that are *wrong* come back as they are, bytes that
//! *cannot be read* come back as an error that says where.

mod blocks;
mod file;
mod holes;
mod overlay;
mod overlay_window;
pub mod pages;
mod read_log;
mod scratch;
mod striped;

pub use file::{FileImage, Uncached};
pub(crate) use holes::without;
pub use holes::{WithLost, WithUnreadable};
pub use overlay::Overlay;
pub use overlay_window::OverlayWindow;
pub use read_log::ReadLog;
pub use striped::Striped;

use crate::arith::Sat;

/// A range of bytes: `offset` from the start of the medium, `length` bytes.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    serde::Serialize,
    serde::Deserialize,
    schemars::JsonSchema,
)]
pub struct Extent {
    /// Bytes from the start.
    pub offset: u64,
    /// Bytes.
    pub length: u64,
}

/// A place of a volume, or of a medium, where bytes are left out of the image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Gap {
    /// What lies before this byte stands where it should.
    pub from: u64,
    /// From this byte on everything stands too early; what lies between is not known.
    pub to: u64,
    /// By so many bytes more than before.
    pub bytes: u64,
}

impl Gap {
    /// The same, counted from `base` bytes before.
    #[must_use]
    pub fn moved(self, base: u64) -> Self {
        Self { from: self.from.plus(base), to: self.to.plus(base), ..self }
    }
}

/// Places at a regular distance that read blank.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Interval {
    /// From one to the next, in bytes.
    pub every: u64,
    /// Where the first begins; less than `every`.
    pub from: u64,
    /// How long each is; less than `every`.
    pub bytes: u64,
}

impl Interval {
    /// The same, counted from `base` bytes before.
    #[must_use]
    pub fn moved(self, base: u64) -> Self {
        Self { from: self.from.plus(base).rest(self.every), ..self }
    }

    /// What of `extent` lies in one of the places, in order.
    pub fn within(self, extent: Extent) -> impl Iterator<Item = Extent> {
        // The place before can reach into it; of the one that begins before the medium does the end is there.
        let place = move |round: u64| {
            let begins = round.times(self.every).plus(self.from);
            let start = begins.minus(self.every);
            Extent::new(start, begins.plus(self.bytes).minus(self.every).minus(start))
        };
        let places = (extent.offset.per(self.every)..).map(place);
        let places = places.take_while(move |place| place.offset < extent.end());
        places.filter(move |place| place.overlaps(extent)).map(move |place| place.common(extent))
    }
}

impl Extent {
    /// A range of `length` bytes from `offset`.
    #[inline]
    pub fn new(offset: u64, length: u64) -> Self {
        Self { offset, length }
    }
    /// The first byte behind the range.
    #[inline]
    pub fn end(self) -> u64 {
        self.offset.plus(self.length)
    }
    /// Ranges of `each` bytes from these offsets; neighbours in this order become one.
    pub(crate) fn joined(offsets: impl IntoIterator<Item = u64>, each: u64) -> Vec<Self> {
        let mut found: Vec<Self> = Vec::new();
        for offset in offsets {
            match found.last_mut() {
                Some(last) if last.end() == offset => last.length = last.length.plus(each),
                _ => found.push(Self::new(offset, each)),
            }
        }
        found
    }
    /// True when the two have a byte in common.
    #[inline]
    pub fn overlaps(self, other: Self) -> bool {
        self.offset < other.end() && other.offset < self.end()
    }
    /// What both have in common; nothing where they do not overlap.
    #[must_use]
    #[inline]
    pub fn common(self, other: Self) -> Self {
        let start = self.offset.max(other.offset);
        Self::new(start, self.end().min(other.end()).minus(start))
    }
    /// The same range, `by` bytes further on.
    #[must_use]
    #[inline]
    pub fn moved(self, by: u64) -> Self {
        Self::new(self.offset.plus(by), self.length)
    }
}

/// Why bytes could not be had.
#[derive(Debug, thiserror::Error)]
pub enum MediumError {
    /// The range reaches past the end of the medium.
    #[error("bytes {offset}..{} lie beyond the end of the image at {end}", offset.saturating_add(*length))]
    Beyond {
        /// Where the read began.
        offset: u64,
        /// Bytes asked for.
        length: u64,
        /// Bytes the medium has.
        end: u64,
    },
    /// The device or file reported an error.
    #[error("bytes {offset}..{} cannot be read: {source}", offset.saturating_add(*length))]
    Unreadable {
        /// Where the read began.
        offset: u64,
        /// Bytes asked for.
        length: u64,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// The work was told to stop.
    #[error("stopped on request")]
    Stopped,
    /// The temporary file of the overlay failed.
    #[error("the temporary file of the overlay failed: {0}")]
    Scratch(std::io::Error),
}

/// Why the bytes of a place are not known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unknown {
    /// Reading them fails.
    Unreadable,
    /// They could not be read from where this was copied, and zeros stand there.
    Lost,
}

/// Bytes at offsets.
pub trait Medium: Send + Sync {
    /// Bytes in the medium.
    fn len(&self) -> u64;
    /// True for a medium without a byte.
    #[inline]
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// Bytes that it would have were nothing cut off: a partition's, as its entry says.
    #[inline]
    fn promised(&self) -> u64 {
        self.len()
    }
    /// Fills `into` from `offset`, or says why not.
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError>;
    /// Says that a range will be read soon, so that a slow medium can begin with it. Changes nothing
    /// else, and may do nothing.
    fn soon(&self, _extent: Extent) {}
    /// Places whose bytes are not known, in order. Those that nobody listed are known once a read of them failed.
    #[inline]
    fn unknown(&self, _which: Unknown) -> Vec<Extent> {
        Vec::new()
    }
    /// The next range from `offset` on that may hold anything but zeros, or `None` when nothing but
    /// holes follows. A medium that knows of no holes says that all of it may.
    #[inline]
    fn data_from(&self, offset: u64) -> Option<Extent> {
        (offset < self.len()).then(|| Extent::new(offset, self.len().minus(offset)))
    }
}

/// The size of the pieces in which a failing read is tried again: the smallest logical sector.
const PIECE: usize = 512;

/// What a lenient read gives: bytes, with zeroes where none could be had, and those places.
#[derive(Debug, Clone, Default)]
pub struct Lenient {
    /// As many bytes as were asked for.
    pub bytes: Vec<u8>,
    /// Ranges, from the start of the medium, that are zero here because they could not be read.
    pub missing: Vec<Extent>,
}

impl<M: Medium + ?Sized> Medium for &M {
    #[inline]
    fn len(&self) -> u64 {
        (**self).len()
    }
    #[inline]
    fn promised(&self) -> u64 {
        (**self).promised()
    }
    #[inline]
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        (**self).read_at(offset, into)
    }
    #[inline]
    fn soon(&self, extent: Extent) {
        (**self).soon(extent);
    }
    #[inline]
    fn data_from(&self, offset: u64) -> Option<Extent> {
        (**self).data_from(offset)
    }
    #[inline]
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        (**self).unknown(which)
    }
}

impl dyn Medium + '_ {
    /// `length` bytes from `offset`. `length` comes from the caller's own bounds, never straight
    /// from a field on the disk.
    pub fn bytes(&self, offset: u64, length: usize) -> Result<Vec<u8>, MediumError> {
        if offset.plus(length.wide()) > self.len() {
            return Err(MediumError::Beyond { offset, length: length.wide(), end: self.len() });
        }
        let mut into = vec![0; length];
        self.read_at(offset, &mut into)?;
        Ok(into)
    }

    /// `length` bytes from `offset`, with zeroes for what lies beyond the end or cannot be read.
    pub fn lenient(&self, offset: u64, length: usize) -> Lenient {
        let mut got = Lenient { bytes: vec![0; length], missing: Vec::new() };
        let there = self.len().minus(offset).min(length.wide()).size();
        if let Some(whole) = got.bytes.get_mut(..there)
            && self.read_at(offset, whole).is_err()
        {
            whole.fill(0);
            for (number, piece) in whole.chunks_mut(PIECE).enumerate() {
                let at = offset.plus(number.times(PIECE).wide());
                if self.read_at(at, piece).is_err() {
                    piece.fill(0);
                    got.missing.push(Extent::new(at, piece.len().wide()));
                }
            }
        }
        if there < length {
            got.missing.push(Extent::new(offset.plus(there.wide()), length.minus(there).wide()));
        }
        got
    }

    /// The next piece from `at` on, at most 1 MiB, that is no hole and lies before `end`: for searching.
    /// Pieces begin and end at sectors of 512 bytes.
    pub fn piece_from(&self, at: u64, end: u64) -> Option<Extent> {
        let data = self.data_from(at).filter(|data| data.offset < end)?;
        let sector = PIECE.wide();
        let start = data.offset.per(sector).times(sector).max(at);
        let stop = data.end().per_up(sector).times(sector).min(end);
        Some(Extent::new(start, stop.minus(start).min(LONG)))
    }

    /// True where nothing but zeros stands at `place`; what cannot be read, or is not there, speaks against nothing. Ends
    /// with the first 64 KiB that hold something.
    pub fn is_zero(&self, place: Extent) -> bool {
        let mut at = place.offset;
        while let Some(piece) = self.piece_from(at, place.end()) {
            let length = piece.length.min(1 << 16);
            if self.lenient(piece.offset, length.size()).bytes.iter().any(|byte| *byte != 0) {
                return false;
            }
            at = piece.offset.plus(length);
        }
        true
    }

    /// Passes on what lies at `place` in pieces of at most 1 MiB, holes left out: they are zeros.
    pub fn pieces<E: From<MediumError>>(
        &self,
        place: Extent,
        mut take: impl FnMut(u64, &[u8]) -> Result<(), E>,
    ) -> Result<(), E> {
        let mut buffer = vec![0; place.length.min(LONG).size()];
        let mut at = place.offset;
        while let Some(data) = self.data_from(at).filter(|data| data.offset < place.end()) {
            at = data.offset.max(at);
            let end = data.end().min(place.end());
            while at < end {
                let length = end.minus(at).min(LONG).size();
                let piece = buffer.get_mut(..length).unwrap_or(&mut []);
                self.read_at(at, piece)?;
                take(at, piece)?;
                at = at.plus(length.wide());
            }
        }
        Ok(())
    }
}

/// The pieces in which long ranges are read.
const LONG: u64 = 1 << 20;

/// Bytes in memory.
pub struct Memory(Vec<u8>);

impl Memory {
    /// A medium of these bytes.
    #[inline]
    pub fn new(bytes: Vec<u8>) -> Self {
        Self(bytes)
    }
    /// The bytes themselves.
    #[inline]
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }
}

impl Medium for Memory {
    #[inline]
    fn len(&self) -> u64 {
        self.0.len().wide()
    }
    #[inline]
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let beyond = || MediumError::Beyond { offset, length: into.len().wide(), end: self.0.len().wide() };
        let from = self.0.get(offset.size()..offset.size().plus(into.len())).ok_or_else(beyond)?;
        into.copy_from_slice(from);
        Ok(())
    }
}

/// A part of another medium, counted from its own start.
pub struct Window<'a> {
    inner: &'a dyn Medium,
    place: Extent,
    promised: u64,
}

impl<'a> Window<'a> {
    /// The part of `inner` at `place`, cut at the end of `inner`.
    #[inline]
    pub fn new(inner: &'a dyn Medium, place: Extent) -> Self {
        let length = inner.len().minus(place.offset).min(place.length);
        Self { inner, place: Extent::new(place.offset, length), promised: place.length }
    }
}

/// A medium of so many bytes that is one hole.
#[derive(Debug, Clone, Copy)]
pub struct Blank(pub u64);

impl Medium for Blank {
    #[inline]
    fn len(&self) -> u64 {
        self.0
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let length = into.len().wide();
        if offset.plus(length) > self.0 {
            return Err(MediumError::Beyond { offset, length, end: self.0 });
        }
        into.fill(0);
        Ok(())
    }
    #[inline]
    fn data_from(&self, _: u64) -> Option<Extent> {
        None
    }
}

impl Medium for Window<'_> {
    #[inline]
    fn len(&self) -> u64 {
        self.place.length
    }
    #[inline]
    fn promised(&self) -> u64 {
        self.promised
    }
    #[inline]
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        if offset.plus(into.len().wide()) > self.place.length {
            return Err(MediumError::Beyond { offset, length: into.len().wide(), end: self.place.length });
        }
        self.inner.read_at(self.place.offset.plus(offset), into)
    }
    #[inline]
    fn soon(&self, extent: Extent) {
        self.inner.soon(extent.moved(self.place.offset));
    }
    #[inline]
    fn data_from(&self, offset: u64) -> Option<Extent> {
        let found = self.inner.data_from(self.place.offset.plus(offset))?;
        let start = found.offset.minus(self.place.offset);
        let end = found.end().minus(self.place.offset).min(self.place.length);
        (start < end).then(|| Extent::new(start, end.minus(start)))
    }
    #[inline]
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        within(self.inner.unknown(which), self.place)
    }
}

/// What of these extents lies in `place`, counted from its start.
pub(crate) fn within(extents: Vec<Extent>, place: Extent) -> Vec<Extent> {
    let inside = extents.into_iter().filter(|extent| extent.overlaps(place));
    inside
        .map(|extent| {
            let start = extent.offset.max(place.offset);
            Extent::new(start.minus(place.offset), extent.end().min(place.end()).minus(start))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lenient_reads_say_what_is_missing() {
        let inner = Memory::new((0..=255).cycle().take(4096).collect());
        let holed = WithUnreadable::new(&inner, vec![Extent::new(600, 10)]);
        let got = (&holed as &dyn Medium).lenient(0, 5000);
        assert_eq!(got.missing, vec![Extent::new(512, 512), Extent::new(4096, 904)]);
        assert_eq!(got.bytes[511], 255);
        assert_eq!(got.bytes[700], 0);
        assert_eq!(got.bytes[1025], 1);
    }

    #[test]
    fn places_at_a_distance_are_told_by_the_stretch() {
        let one = Interval { every: 4096, from: 3584, bytes: 1024 };
        let all: Vec<Extent> = one.within(Extent::new(100, 8192)).collect();
        assert_eq!(all, [Extent::new(100, 412), Extent::new(3584, 1024), Extent::new(7680, 612)]);
        assert_eq!(one.within(Extent::new(600, 2000)).count(), 0);
        assert_eq!(one.moved(1024), Interval { from: 512, ..one });
    }

    #[test]
    fn a_window_is_cut_at_the_end_of_its_medium() {
        let inner = Memory::new(vec![7; 1000]);
        let window = Window::new(&inner, Extent::new(900, 500));
        assert_eq!(window.len(), 100);
        assert!((&window as &dyn Medium).bytes(60, 41).is_err());
        assert_eq!((&window as &dyn Medium).bytes(60, 40).unwrap(), vec![7; 40]);
    }
}
