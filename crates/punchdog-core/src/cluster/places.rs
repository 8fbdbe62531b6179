//! Where the entries of a folder stand: its clusters, as a row of entries of 32 bytes.

use crate::{
    arith::Sat,
    medium::{Extent, Medium},
};

/// Bytes of an entry, in FAT and exFAT alike.
const ENTRY: u64 = 32;

/// The ranges of a volume that a folder's entries stand in, in order.
#[derive(Debug, Clone, Default)]
pub struct Places {
    /// Each range with how many bytes of the folder come before it.
    ranges: Vec<(u64, Extent)>,
    length: u64,
}

impl Places {
    /// A folder in these ranges.
    pub fn of(extents: Vec<Extent>) -> Self {
        let mut length = 0_u64;
        let ranges = extents.into_iter().map(|extent| {
            let before = length;
            length = length.plus(extent.length);
            (before, extent)
        });
        let ranges = ranges.collect();
        Self { ranges, length }
    }

    /// Where entry `index` stands: bytes from the start of the volume.
    pub fn place(&self, index: u32) -> Option<u64> {
        let at = index.wide().times(ENTRY);
        let next = self.ranges.partition_point(|(before, _)| *before <= at);
        let (before, extent) = self.ranges.get(next.checked_sub(1)?)?;
        (at < self.length).then(|| extent.offset.plus(at.minus(*before)))
    }

    /// Bytes of all of it.
    pub fn bytes(&self) -> u64 {
        self.length
    }

    /// The ranges, in order.
    pub fn extents(&self) -> impl Iterator<Item = Extent> + '_ {
        self.ranges.iter().map(|(_, extent)| *extent)
    }

    /// The bytes of `count` entries from `index` on; fewer where the folder ends.
    pub fn read(&self, medium: &dyn Medium, index: u32, count: u32) -> Vec<u8> {
        let mut bytes = Vec::new();
        for index in index..index.plus(count) {
            let Some(place) = self.place(index) else { break };
            bytes.extend(medium.lenient(place, ENTRY.size()).bytes);
        }
        bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    #[test]
    fn entries_go_on_over_the_seams() {
        let places = Places::of(vec![Extent::new(1024, 64), Extent::new(512, 32), Extent::new(128, 64)]);
        let all: Vec<Option<u64>> = (0..7).map(|index| places.place(index)).collect();
        assert_eq!(all, [Some(1024), Some(1056), Some(512), Some(128), Some(160), None, None]);
        let medium = Memory::new((0..2048_u32).map(|n| n.to_le_bytes()[1]).collect());
        assert_eq!(places.read(&medium, 1, 2), [vec![4; 32], vec![2; 32]].concat());
        assert_eq!(places.read(&medium, 4, 9).len(), 32);
        assert_eq!(Places::default().place(0), None);
    }
}
