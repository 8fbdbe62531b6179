//! Disks that share the bytes of one in stripes.
//!
//! ```text
//! whole    0 ──── c ──── 2c ──── 3c ──── …
//! of disk  0      1      0       1            of two; each has c bytes of every 2c, one behind the other
//! ```
//!
//! What a disk holds that is not there cannot be read.

use super::{Extent, Medium, MediumError, Unknown, within};
use crate::arith::Sat;

/// One medium made of several, of which some can be missing.
pub struct Striped<'m> {
    members: Vec<Option<&'m dyn Medium>>,
    chunk: u64,
    bytes: u64,
}

impl<'m> Striped<'m> {
    /// These disks, in order, with stripes of `chunk` bytes. `None` where there are fewer than two, none is there, or stripes
    /// of no length.
    pub fn new(members: Vec<Option<&'m dyn Medium>>, chunk: u64) -> Option<Self> {
        let each = members.iter().flatten().copied().map(Medium::len).min()?;
        let bytes = each.per(chunk.max(1)).times(chunk).times(members.len().wide());
        (members.len() > 1 && chunk > 0).then_some(Self { members, chunk, bytes })
    }

    /// The stretch of one disk that `offset` lies in: which disk, where on it, and how many bytes are left of the stretch.
    fn place(&self, offset: u64) -> (usize, u64, u64) {
        let count = self.members.len().wide();
        let (number, inside) = (offset.per(self.chunk), offset.rest(self.chunk));
        (
            number.rest(count).size(),
            number.per(count).times(self.chunk).plus(inside),
            self.chunk.minus(inside),
        )
    }

    fn member(&self, number: usize) -> Option<&'m dyn Medium> {
        self.members.get(number).copied().flatten()
    }

    /// What is on disks that are missing.
    fn missing(&self) -> Vec<Extent> {
        let chunks = 0..self.bytes.per(self.chunk);
        let count = self.members.len().wide();
        let missing = chunks.filter(|number| self.member(number.rest(count).size()).is_none());
        Extent::joined(missing.map(|number| number.times(self.chunk)), self.chunk)
    }
}

impl Medium for Striped<'_> {
    fn len(&self) -> u64 {
        self.bytes
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let (mut at, mut left) = (offset, into);
        while !left.is_empty() {
            let (number, place, room) = self.place(at);
            let length = left.len().min(room.size());
            let (here, behind) = left.split_at_mut_checked(length).unwrap_or_default();
            let Some(member) = self.member(number) else {
                let source = std::io::Error::other("it is on a disk of the set that is not there");
                return Err(MediumError::Unreadable { offset: at, length: length.wide(), source });
            };
            member.read_at(place, here)?;
            at = at.plus(length.wide());
            left = behind;
        }
        Ok(())
    }
    fn unknown(&self, which: Unknown) -> Vec<Extent> {
        if which == Unknown::Lost {
            return Vec::new();
        }
        let mut all = self.missing();
        let chunk = self.chunk;
        let count = self.members.len().wide();
        for (number, member) in self.members.iter().enumerate() {
            let Some(member) = member else { continue };
            // What fails on a disk that is there, chunk by chunk.
            for place in member.unknown(which) {
                let chunks = place.offset.per(chunk)..place.end().per_up(chunk);
                all.extend(chunks.flat_map(|row| {
                    let here = Extent::new(row.times(chunk), chunk).common(place);
                    let to = row.times(count).plus(number.wide()).times(chunk);
                    within(
                        vec![Extent::new(to.plus(here.offset.rest(chunk)), here.length)],
                        Extent::new(0, self.bytes),
                    )
                }));
            }
        }
        all.sort_by_key(|extent| extent.offset);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    #[test]
    fn every_byte_comes_from_the_disk_that_has_it() {
        let whole: Vec<u8> = (0..60_u8).collect();
        let of = |number: usize| -> Vec<u8> {
            whole
                .chunks(5)
                .enumerate()
                .filter(|(at, _)| at % 3 == number)
                .flat_map(|(_, part)| part.to_vec())
                .collect()
        };
        let disks: Vec<Memory> = (0..3).map(|number| Memory::new(of(number))).collect();
        let all: Vec<Option<&dyn Medium>> = disks.iter().map(|disk| Some(disk as &dyn Medium)).collect();
        let set = Striped::new(all.clone(), 5).unwrap();
        assert_eq!((&set as &dyn Medium).bytes(0, 60).unwrap(), whole);
        assert_eq!((&set as &dyn Medium).bytes(13, 30).unwrap(), whole[13..43]);
        assert!(set.unknown(Unknown::Unreadable).is_empty());
        let two = Striped::new(vec![all[0], None, all[2]], 5).unwrap();
        assert_eq!(two.unknown(Unknown::Unreadable).first(), Some(&Extent::new(5, 5)));
        assert_eq!((&two as &dyn Medium).bytes(10, 10).unwrap(), whole[10..20]);
        assert!(matches!(two.read_at(3, &mut [0; 4]), Err(MediumError::Unreadable { offset: 5, .. })));
        assert!(Striped::new(vec![all[0]], 5).is_none() && Striped::new(all, 0).is_none());
    }
}
