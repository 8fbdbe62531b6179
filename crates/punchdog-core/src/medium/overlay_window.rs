//! The part of an overlay in which one volume is mended.

use super::{Extent, Medium, MediumError, Overlay, Unknown, within};
use crate::arith::Sat;

/// The part of an overlay in which one volume is mended; offsets count from the volume's start.
pub struct OverlayWindow<'o, 'a> {
    overlay: &'o mut Overlay<'a>,
    place: Extent,
    promised: u64,
}

impl<'o, 'a> OverlayWindow<'o, 'a> {
    /// The volume at `place` of `overlay`.
    pub fn new(overlay: &'o mut Overlay<'a>, place: Extent) -> Self {
        let length = overlay.len().minus(place.offset).min(place.length);
        Self { overlay, place: Extent::new(place.offset, length), promised: place.length }
    }
    /// Where the volume lies in the image.
    pub fn place(&self) -> Extent {
        self.place
    }
    /// The overlay below, whose offsets count from the start of the image.
    pub(crate) fn overlay(&mut self) -> &mut Overlay<'a> {
        self.overlay
    }
    fn within(&self, offset: u64, length: u64) -> Result<(), MediumError> {
        if offset.plus(length) > self.place.length {
            return Err(MediumError::Beyond { offset, length, end: self.place.length });
        }
        Ok(())
    }
    /// Puts `bytes` at `offset` of the volume.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<(), MediumError> {
        self.within(offset, bytes.len().wide())?;
        self.overlay.write_at(self.place.offset.plus(offset), bytes)
    }
    /// Puts at `to` what stands at `from`; both in the volume, without taking it into memory.
    pub fn copy_at(&mut self, from: u64, to: u64, length: u64) -> Result<(), MediumError> {
        self.within(from, length)?;
        self.within(to, length)?;
        self.overlay.copy_at(self.place.offset.plus(from), self.place.offset.plus(to), length)
    }
}

impl Medium for OverlayWindow<'_, '_> {
    fn len(&self) -> u64 {
        self.place.length
    }
    fn promised(&self) -> u64 {
        self.promised
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        self.within(offset, into.len().wide())?;
        self.overlay.read_at(self.place.offset.plus(offset), into)
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        let found = self.overlay.data_from(self.place.offset.plus(offset))?;
        let start = found.offset.minus(self.place.offset);
        let end = found.end().minus(self.place.offset).min(self.place.length);
        (start < end).then(|| Extent::new(start, end.minus(start)))
    }
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        within(self.overlay.unknown(which), self.place)
    }
    fn soon(&self, extent: Extent) {
        self.overlay.soon(extent.moved(self.place.offset));
    }
}
