//! The allocation table: its copies, and what its entries say (FAT specification, "FAT Data
//! Structure").
//!
//! ```text
//! entry of cluster n        FAT12                FAT16          FAT32 (28 bits, top 4 kept)
//!   free                    000                  0000           0000000
//!   next cluster            002 …                0002 …         0000002 …
//!   bad                     FF7                  FFF7           FFFFFF7
//!   end of chain            FF8 … FFF            FFF8 … FFFF    FFFFFF8 … FFFFFFF
//! entry 0                   media byte, other bits set
//! entry 1                   end mark; FAT16 bit 15, FAT32 bit 27: closed properly; the bit below: no errors met
//! ```
//!
//! A FAT12 entry is a byte and a half: even clusters have the low twelve bits of the two bytes at
//! n + n/2, odd ones the high twelve.

use super::geometry::Geometry;
use crate::{
    arith::{Peek, Sat},
    cluster::chain::Link,
    family::Kind,
    medium::{
        Extent, Medium, MediumError,
        pages::{PAGE, Pages},
    },
};

impl Link {
    /// What `value` means in a volume of this geometry.
    #[inline]
    pub fn of(value: u32, geometry: &Geometry) -> Self {
        Scale::of(geometry).link(value)
    }
    /// The value that says this; an odd one stays what it is.
    #[inline]
    pub fn value(self, geometry: &Geometry) -> u32 {
        match self {
            Self::Free | Self::Unreadable => 0,
            Self::Next(next) => next,
            Self::End => end_mark(geometry.kind),
            Self::Bad => end_mark(geometry.kind).minus(8),
            Self::Odd(value) => value,
        }
    }
}

/// What values mean in one volume: the highest value and the last cluster.
#[derive(Debug, Clone, std::marker::Copy)]
pub struct Scale {
    top: u32,
    last: u32,
}

impl Scale {
    /// The scale of a volume of this geometry.
    #[inline]
    pub fn of(geometry: &Geometry) -> Self {
        Self { top: end_mark(geometry.kind), last: geometry.last_cluster() }
    }
    /// What `value` means.
    #[inline]
    pub fn link(self, value: u32) -> Link {
        match value {
            0 => Link::Free,
            v if v > self.top.minus(8) => Link::End,
            v if v == self.top.minus(8) => Link::Bad,
            v if v >= 2 && v <= self.last => Link::Next(v),
            v => Link::Odd(v),
        }
    }
}

/// The highest entry value: the end mark that is written.
pub fn end_mark(kind: Kind) -> u32 {
    match kind {
        Kind::Fat12 => 0xFFF,
        Kind::Fat16 => 0xFFFF,
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => 0x0FFF_FFFF,
    }
}

/// Entry 1's "closed properly" and "no errors met" bits; FAT12 has none.
pub fn state_bits(kind: Kind) -> Option<(u32, u32)> {
    match kind {
        Kind::Fat12 => None,
        Kind::Fat16 => Some((0x8000, 0x4000)),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => Some((0x0800_0000, 0x0400_0000)),
    }
}

/// Where the entry of `cluster` stands: bytes from the start of a table, and how many bytes.
pub fn entry_place(kind: Kind, cluster: u32) -> (u64, u64) {
    let cluster = cluster.wide();
    match kind {
        Kind::Fat12 => (cluster.plus(cluster.per(2)), 2),
        Kind::Fat16 => (cluster.times(2), 2),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => (cluster.times(4), 4),
    }
}

/// The first cluster whose entry begins `bytes` into a table or behind that.
pub fn first_entry_from(kind: Kind, bytes: u64) -> u32 {
    match kind {
        // Entry n begins at n + n/2: the smallest n for which that is not before `bytes`.
        Kind::Fat12 => bytes.times(2).per_up(3).narrow(),
        Kind::Fat16 => bytes.per(2).narrow(),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => bytes.per(4).narrow(),
    }
}

/// The value of an entry, from the bytes at its place.
fn decode(kind: Kind, cluster: u32, bytes: &[u8]) -> u32 {
    match kind {
        Kind::Fat12 if cluster & 1 == 1 => u32::from(bytes.le16(0) >> 4_u16),
        Kind::Fat12 => u32::from(bytes.le16(0) & 0xFFF),
        Kind::Fat16 => u32::from(bytes.le16(0)),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => bytes.le32(0) & 0x0FFF_FFFF,
    }
}

/// Puts the value of an entry into the bytes at its place; bits of other entries stay.
pub fn encode(kind: Kind, cluster: u32, value: u32, bytes: &mut [u8]) {
    let [a, b, c, d] = match kind {
        Kind::Fat12 if cluster & 1 == 1 => {
            (u32::from(bytes.le16(0)) & 0xF | (value & 0xFFF) << 4_u32).to_le_bytes()
        }
        Kind::Fat12 => (u32::from(bytes.le16(0)) & 0xF000 | value & 0xFFF).to_le_bytes(),
        Kind::Fat16 => value.to_le_bytes(),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => {
            (bytes.le32(0) & 0xF000_0000 | value & 0x0FFF_FFFF).to_le_bytes()
        }
    };
    let width = if kind == Kind::Fat32 { 4 } else { 2 };
    for (place, byte) in bytes.iter_mut().take(width).zip([a, b, c, d]) {
        *place = byte;
    }
}

/// One copy of the table, read page by page.
#[derive(Debug)]
pub struct Copy {
    kind: Kind,
    /// What tells a link from an odd value, once for all entries.
    scale: Scale,
    pages: Pages,
}

impl Copy {
    /// Copy `number` of the table of a volume.
    pub fn new(geometry: &Geometry, number: u32) -> Self {
        Self {
            kind: geometry.kind,
            scale: Scale::of(geometry),
            pages: Pages::new(Extent::new(geometry.table_offset(number), geometry.table_bytes())),
        }
    }

    /// Page `number` of the table: 64 KiB, the last one shorter.
    #[inline]
    pub fn page(&mut self, medium: &dyn Medium, number: usize) -> &[u8] {
        self.pages.page(medium, number)
    }

    /// True when page `number` holds nothing but zeros.
    #[inline]
    pub fn is_blank(&mut self, medium: &dyn Medium, number: usize) -> bool {
        self.pages.is_blank(medium, number)
    }

    /// True when part of page `number` cannot be read.
    #[inline]
    pub fn has_holes(&mut self, medium: &dyn Medium, number: usize) -> bool {
        self.pages.page(medium, number);
        self.pages.has_holes(number.times(PAGE).wide(), PAGE.wide())
    }

    /// Gives the memory of a page back; it is read again when it is asked for.
    #[inline]
    pub fn forget(&mut self, number: usize) {
        self.pages.forget(number);
    }

    /// The raw value of an entry; `None` where it cannot be read.
    #[inline]
    pub fn value(&mut self, medium: &dyn Medium, cluster: u32) -> Option<u32> {
        let (at, width) = entry_place(self.kind, cluster);
        let kind = self.kind;
        let (number, within) = (at.per(PAGE.wide()).size(), at.rest(PAGE.wide()).size());
        let value = if within.plus(width.size()) <= PAGE {
            decode(kind, cluster, self.page(medium, number).part(within, width.size()))
        } else {
            // Only a FAT12 entry can lie across two pages.
            let low = self.page(medium, number).byte(within);
            let high = self.page(medium, number.plus(1)).byte(0);
            decode(kind, cluster, &[low, high])
        };
        if self.pages.has_holes(at, width) {
            return None;
        }
        (at.plus(width) <= self.pages.len()).then_some(value)
    }

    /// What an entry says.
    #[inline]
    pub fn link(&mut self, medium: &dyn Medium, cluster: u32) -> Link {
        self.value(medium, cluster).map_or(Link::Unreadable, |value| self.scale.link(value))
    }
}

/// Sets an entry in copy `copy` of the table.
pub fn write_entry(
    stage: &mut crate::medium::OverlayWindow<'_, '_>,
    geometry: &Geometry,
    copy: u32,
    cluster: u32,
    value: u32,
) -> Result<(), MediumError> {
    let (at, width) = entry_place(geometry.kind, cluster);
    let offset = geometry.table_offset(copy).plus(at);
    let mut bytes = [0_u8; 4];
    let Some(place) = bytes.get_mut(..width.size()) else { return Ok(()) };
    let medium: &dyn Medium = stage;
    place.copy_from_slice(&medium.lenient(offset, width.size()).bytes);
    encode(geometry.kind, cluster, value, place);
    stage.write_at(offset, place)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn geometry(kind: Kind, table_sectors: u32, total_sectors: u32) -> Geometry {
        Geometry {
            kind,
            sector_bytes: 512,
            sectors_per_cluster: 1,
            reserved_sectors: 1,
            tables: 1,
            root_entries: if kind == Kind::Fat32 { 0 } else { 16 },
            table_sectors,
            total_sectors,
            root_cluster: 2,
        }
    }

    proptest! {
        /// Setting an entry changes that entry and no other, whatever stood there.
        #[test]
        fn an_entry_is_set_alone(
            mut bytes in prop::collection::vec(any::<u8>(), 96),
            cluster in 0_u32..20,
            value in 0_u32..0x1000_0000,
            which in 0_usize..3,
        ) {
            let kind = [Kind::Fat12, Kind::Fat16, Kind::Fat32][which];
            let read = |bytes: &[u8], n: u32| {
                let (at, width) = entry_place(kind, n);
                decode(kind, n, bytes.part(at.size(), width.size()))
            };
            let before: Vec<u32> = (0..20).map(|n| read(&bytes, n)).collect();
            let (at, width) = entry_place(kind, cluster);
            let top_bits = bytes[at.size() + 3] & 0xF0;
            encode(kind, cluster, value, &mut bytes[at.size()..at.size() + width.size()]);
            for n in 0..20 {
                let expected = if n == cluster { value & end_mark(kind) } else { before[n as usize] };
                prop_assert_eq!(read(&bytes, n), expected);
            }
            if kind == Kind::Fat32 {
                prop_assert_eq!(bytes[at.size() + 3] & 0xF0, top_bits, "the top four bits belong to nobody");
            }
        }
    }

    #[test]
    fn values_mean_what_the_specification_says() {
        let fat12 = geometry(Kind::Fat12, 9, 2880);
        assert_eq!(Link::of(0xFF7, &fat12), Link::Bad);
        assert_eq!(Link::of(0xFF8, &fat12), Link::End);
        assert_eq!(Link::of(0xFF6, &fat12), Link::Odd(0xFF6));
        assert_eq!(Link::of(1, &fat12), Link::Odd(1));
        assert_eq!(Link::of(2, &fat12), Link::Next(2));
        assert_eq!(Link::of(fat12.last_cluster() + 1, &fat12), Link::Odd(fat12.last_cluster() + 1));
        for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
            let any = geometry(kind, 9, 2880);
            for link in [Link::Free, Link::Next(7), Link::End, Link::Bad, Link::Odd(1)] {
                assert_eq!(Link::of(link.value(&any), &any), link);
            }
        }
    }

    #[test]
    fn an_unreadable_entry_is_neither_right_nor_wrong() {
        let inner = crate::medium::Memory::new(vec![0; 8192]);
        let medium = crate::medium::WithUnreadable::new(&inner, vec![Extent::new(1024, 512)]);
        let geometry = geometry(Kind::Fat16, 4, 12000);
        let mut copy = Copy::new(&geometry, 0);
        assert_eq!(copy.link(&medium, 10), Link::Free);
        assert_eq!(copy.link(&medium, 256), Link::Unreadable);
    }
}
