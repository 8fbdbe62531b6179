//! Where a table begins, told by its own entries.
//!
//! In a file that lies in a row the entry of cluster *n* holds *n* + 1 (specification, "FAT Data
//! Structure"). So two neighbours that differ by one say which entries they are, and with that how
//! far before them the table begins. A table whose first sectors are gone is found by the rest of it,
//! and its second copy by itself: both are anchors that no other structure takes part in.

use crate::arith::{Peek, Sat};
use std::collections::BTreeMap;

/// Bytes from the start in which tables of 12-bit entries are looked for.
const PACKED_WITHIN: u64 = 1 << 20;
/// Neighbours in one sector that must say the same.
const AGREEING: u32 = 8;

/// Votes of table sectors for where their table begins.
#[derive(Debug, Default)]
pub(super) struct Votes {
    /// Begin of the table in bytes, and bits in an entry: number of sectors that say so, and the end
    /// of the last of them in bytes from the start of the table.
    starts: BTreeMap<(u64, u32), (u32, u64)>,
}

/// A table of which entries tell where it begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct RunStart {
    /// Where it begins, in bytes.
    pub(super) start: u64,
    /// Bits in an entry.
    pub(super) bits: u32,
    /// Bytes that it has at least.
    pub(super) reach: u64,
}

impl Votes {
    /// Takes the vote of the sector at `offset`, if it reads as part of a table.
    pub(super) fn take(&mut self, offset: u64, sector: &[u8]) {
        // The tables of FAT12 are short, and lie near the beginning.
        let packed = if offset < PACKED_WITHIN { packed(sector) } else { None };
        for (bits, distance) in [(32, wide(sector)), (16, narrow(sector)), (12, packed)] {
            let Some(distance) = distance else { continue };
            let Some(start) = offset.checked_sub(distance) else { continue };
            let (count, reach) = self.starts.entry((start, bits)).or_insert((0, 0));
            *count = count.plus(1);
            *reach = (*reach).max(distance.plus(sector.len().wide()));
        }
    }

    /// Starts that sectors agree on, most votes first. What has less than a tenth of the votes of the
    /// best is left out: data that happens to count up.
    pub(super) fn starts(&self) -> Vec<RunStart> {
        let most = self.starts.values().map(|(count, _)| *count).max().unwrap_or(0);
        let mut ranked: Vec<(u32, RunStart)> = self
            .starts
            .iter()
            .filter(|((start, _), (count, _))| *start > 0 && count.times(10) >= most)
            .map(|((start, bits), (count, reach))| {
                (*count, RunStart { start: *start, bits: *bits, reach: *reach })
            })
            .collect();
        ranked.sort_by_key(|(count, told)| (std::cmp::Reverse(*count), told.start));
        ranked.into_iter().take(6).map(|(_, told)| told).collect()
    }
}

/// The distance that most of `said` agree on, if enough do and it is one that a sector can have.
fn agreed(said: impl Iterator<Item = u64>) -> Option<u64> {
    let mut counts: BTreeMap<u64, u32> = BTreeMap::new();
    for distance in said.filter(|distance| distance.rest(512) == 0) {
        let count = counts.entry(distance).or_insert(0);
        *count = count.plus(1);
    }
    let (distance, count) = counts.into_iter().max_by_key(|(_, count)| *count)?;
    (count >= AGREEING).then_some(distance)
}

/// True where as many neighbours count up as must agree: every sector of a long search is asked, and few have any.
fn counts_up(ups: impl Iterator<Item = bool>) -> bool {
    ups.fold(0_u32, |count, up| count.wrapping_add(up.into())) >= AGREEING
}

/// Bytes from the start of a table of 32-bit entries to this sector of it.
fn wide(sector: &[u8]) -> Option<u64> {
    const LOW: u32 = 0x0FFF_FFFF;
    let (entries, _) = sector.as_chunks::<4>();
    let low = |entry: &[u8; 4]| u32::from_le_bytes(*entry) & LOW;
    let neighbours = entries.iter().zip(entries.iter().skip(1));
    if !counts_up(neighbours.map(|(here, next)| low(next) == low(here).wrapping_add(1))) {
        return None;
    }
    let value = |index: usize| sector.le32(index.times(4)) & LOW;
    agreed((0..sector.len().per(4).minus(1)).filter_map(|index| {
        let (here, next) = (value(index), value(index.plus(1)));
        (here >= 3 && next == here.plus(1))
            .then(|| here.minus(1).wide().times(4).checked_sub(index.times(4).wide()))
            .flatten()
    }))
}

/// The same for 16-bit entries.
fn narrow(sector: &[u8]) -> Option<u64> {
    let (entries, _) = sector.as_chunks::<2>();
    let neighbours = entries.iter().zip(entries.iter().skip(1));
    if !counts_up(
        neighbours.map(|(here, next)| u16::from_le_bytes(*next) == u16::from_le_bytes(*here).wrapping_add(1)),
    ) {
        return None;
    }
    let value = |index: usize| u32::from(sector.le16(index.times(2)));
    agreed((0..sector.len().per(2).minus(1)).filter_map(|index| {
        let (here, next) = (value(index), value(index.plus(1)));
        (here >= 3 && next == here.plus(1))
            .then(|| here.minus(1).wide().times(2).checked_sub(index.times(2).wide()))
            .flatten()
    }))
}

/// The same for 12-bit entries, of which two stand in three bytes; the even one is looked at.
fn packed(sector: &[u8]) -> Option<u64> {
    /// Bytes in the longest table of 12-bit entries: 4084 clusters, two entries before them.
    const LONGEST: u64 = 12 * 512;
    let up = |bytes: &[u8]| match *bytes {
        [low, middle, high] => {
            let even = u32::from(low) | u32::from(middle & 0x0F) << 8;
            u32::from(middle >> 4) | u32::from(high) << 4 == even.wrapping_add(1)
        }
        _ => false,
    };
    if !counts_up(sector.windows(3).map(up)) {
        return None;
    }
    agreed((0..sector.len().minus(2)).filter_map(|at| {
        let middle = u32::from(sector.byte(at.plus(1)));
        let even = u32::from(sector.byte(at)) | (middle & 0x0F) << 8;
        let odd = middle >> 4 | u32::from(sector.byte(at.plus(2))) << 4;
        let index = even.minus(1);
        if even < 3 || odd != even.plus(1) || index.rest(2) != 0 {
            return None;
        }
        index.per(2).times(3).wide().checked_sub(at.wide()).filter(|distance| *distance < LONGEST)
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{family::Kind, fat::table};

    /// A table of `kind` in which everything lies in a row.
    fn row(kind: Kind, clusters: u32) -> Vec<u8> {
        let mut bytes = vec![0; 16 * 512];
        for cluster in 3..clusters {
            let at = table::entry_place(kind, cluster).0.size();
            table::encode(kind, cluster, cluster + 1, &mut bytes[at..at + 4]);
        }
        bytes
    }

    #[test]
    fn every_sector_of_a_table_says_where_it_begins() {
        for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
            let bytes = row(kind, 2000);
            let used = bytes.iter().rposition(|byte| *byte != 0).unwrap() / 512;
            let mut votes = Votes::default();
            for (number, sector) in bytes.chunks(512).enumerate().take(used).skip(1) {
                votes.take(77 * 512 + number as u64 * 512, sector);
            }
            let bits = match kind {
                Kind::Fat12 => 12,
                Kind::Fat16 => 16,
                _ => 32,
            };
            let told = RunStart { start: 77 * 512, bits, reach: used as u64 * 512 };
            assert_eq!(votes.starts(), [told], "{kind:?}");
        }
    }

    #[test]
    fn what_counts_up_elsewhere_has_no_say() {
        let mut votes = Votes::default();
        let counting: Vec<u8> = (0..512_u32).map(|n| n.to_le_bytes()[0]).collect();
        votes.take(4096, &counting);
        votes.take(8192, &[0xFF; 512]);
        votes.take(8704, &[0; 512]);
        assert!(votes.starts().is_empty());
    }
}
