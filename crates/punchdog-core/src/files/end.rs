//! Where a file ends, told by its own structure.
//!
//! A chain that lost its name lost its length too: what stands in its last cluster behind the file is of an older one.

use super::content::{Content, OnMedium};
use crate::{
    arith::Sat,
    formats::{self, BEGINNING, End, Proof, Tape},
    medium::{Extent, Medium},
};
use std::cell::Cell;

/// Where a walk through the first `room` bytes of these ranges ends; `None` where they begin as no kind that tells.
fn walked(medium: &dyn Medium, extents: &[Extent], room: u64) -> Option<End> {
    let content = Content::stored(extents.iter().copied(), room);
    let source = OnMedium::new(medium, &content, room);
    let mut tape = Tape::new(&source);
    let format = formats::begins(tape.at(0, BEGINNING))?;
    Some(formats::walk(format, &mut tape).end)
}

/// The length of the file whose content begins in these ranges and ends in their last `cluster` bytes;
/// `None` where its kind does not tell, or tells of another end.
pub(crate) fn length(medium: &dyn Medium, extents: &[Extent], cluster: u64) -> Option<u64> {
    let room = extents.iter().fold(0_u64, |sum, extent| sum.plus(extent.length));
    match walked(medium, extents, room)? {
        End::Whole { length, .. } => Some(length).filter(|length| *length > room.minus(cluster)),
        End::Broken { .. } => None,
    }
}

/// Keeps of `found` what is told to end where it should; where none is, what is not told to end elsewhere.
pub(crate) fn likeliest<T>(found: &mut Vec<T>, mut ends: impl FnMut(&T) -> Option<bool>) {
    let told: Vec<Option<bool>> = found.iter().map(&mut ends).collect();
    let wanted = told.contains(&Some(true)).then_some(true);
    let mut told = told.into_iter();
    found.retain(|_| told.next() == Some(wanted));
}

/// Bytes that one survey reads to tell where contents end.
const READ: u64 = 1 << 28;

/// What a look at a beginning costs at least.
const READ_LEAST: u64 = 4096;

/// Tells where contents end, as long as what was read for that does not come to too much.
pub(crate) struct Ends(Cell<u64>);

impl Ends {
    pub(crate) fn new() -> Self {
        Self(Cell::new(READ))
    }

    /// Whether the file whose content begins in these ranges ends where one of `length` bytes does, or behind that; `None`
    /// where that is not told, or nothing ends in their last `cluster` bytes. One that ends before it tells nothing: cameras
    /// fill their files up.
    pub(crate) fn is_at(
        &self,
        medium: &dyn Medium,
        extents: &[Extent],
        cluster: u64,
        length: u64,
    ) -> Option<bool> {
        let room = extents.iter().fold(0_u64, |sum, extent| sum.plus(extent.length));
        self.0.set(self.0.get().checked_sub(room)?);
        let told = self::length(medium, extents, cluster)?;
        (told >= length).then_some(told == length)
    }

    /// The length of the file whose content begins in these ranges, and may end long before they do; `None` where its kind
    /// does not tell.
    pub(crate) fn length(&self, medium: &dyn Medium, extents: &[Extent]) -> Option<u64> {
        let left = self.0.get();
        let room = extents.iter().fold(0_u64, |sum, extent| sum.plus(extent.length)).min(left);
        let (read, length) = match walked(medium, extents, room)? {
            End::Whole { length, .. } => (length, Some(length)),
            End::Broken { good, .. } => (good, None),
        };
        self.0.set(left.minus(read));
        length
    }

    /// Where the first `length` bytes of these ranges stop fitting what they begin as.
    pub(crate) fn breaks_at(&self, medium: &dyn Medium, extents: &[Extent], length: u64) -> Option<u64> {
        let left = self.0.get();
        let end = if length > left { None } else { walked(medium, extents, length) };
        let (at, read) = match end {
            Some(End::Broken { at, .. }) => (Some(at), at),
            Some(End::Whole { .. }) => (None, length),
            None => (None, 0),
        };
        self.0.set(left.minus(read.max(READ_LEAST)));
        at
    }

    /// True when the first `length` bytes of these ranges are a whole file by sums or codes that run through all of it.
    pub(crate) fn proves(&self, medium: &dyn Medium, extents: &[Extent], length: u64) -> bool {
        let left = self.0.get();
        let end = if length > left { None } else { walked(medium, extents, length) };
        let read = match end {
            Some(End::Broken { good, .. }) => good,
            Some(End::Whole { .. }) => length,
            None => 0,
        };
        self.0.set(left.minus(read.max(READ_LEAST)));
        end == Some(End::Whole { length, proof: Proof::Content })
    }
}

/// True when the first `length` bytes of these ranges are a whole file by sums or codes that run through all of it.
pub(crate) fn proves(medium: &dyn Medium, extents: &[Extent], length: u64) -> bool {
    let whole = Some(End::Whole { length, proof: Proof::Content });
    walked(medium, extents, length) == whole
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    /// The length that is found for `file` in clusters of 512 bytes with `slack` behind it, in two pieces.
    fn found(file: &[u8], slack: u8, more: usize) -> Option<u64> {
        let room = file.len().next_multiple_of(512) + more;
        let mut bytes = vec![slack; room + 2048];
        bytes[..512].copy_from_slice(&file[..512]);
        bytes[1024..1024 + file.len() - 512].copy_from_slice(&file[512..]);
        let extents = [Extent::new(0, 512), Extent::new(1024, room as u64 - 512)];
        length(&Memory::new(bytes), &extents, 512)
    }

    #[test]
    fn what_ends_in_its_last_cluster_has_a_length() {
        let mut riff = b"RIFF".to_vec();
        riff.extend(892_u32.to_le_bytes());
        riff.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0\x40\x1F\0\0\x40\x1F\0\0\x01\0\x08\0data");
        riff.extend(856_u32.to_le_bytes());
        riff.extend(vec![0x41; 856]);
        assert_eq!(found(&riff, 0xEE, 0), Some(900));
        assert_eq!(found(&riff, 0xEE, 512), None, "a cluster too many");
        let text = "Möwen auf Sims 9\r\n".repeat(40);
        assert_eq!(found(text.as_bytes(), 0, 0), Some(text.len() as u64));
        assert_eq!(found(text.as_bytes(), 0xEE, 0), None, "something stands behind it");
        assert_eq!(found(&[0x90; 700], 0, 0), None);
    }

    #[test]
    fn what_is_filled_up_is_not_told_to_end_elsewhere() {
        let mut text = "Möwen auf Sims 9\r\n".repeat(40).into_bytes();
        let (end, extents) = (text.len() as u64, [Extent::new(0, 1024)]);
        text.resize(1024, 0);
        let medium = Memory::new(text);
        let is_at = |length| Ends::new().is_at(&medium, &extents, 512, length);
        assert_eq!([is_at(end), is_at(end - 1), is_at(end + 40)], [Some(true), Some(false), None]);
        let (mut few, mut none) = (vec![end - 1, end + 40], vec![end - 1, end - 2]);
        likeliest(&mut few, |length| is_at(*length));
        likeliest(&mut none, |length| is_at(*length));
        assert_eq!((few, none), (vec![end + 40], vec![]));
    }
}
