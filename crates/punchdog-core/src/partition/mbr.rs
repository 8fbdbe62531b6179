//! The MBR: four entries in sector 0, and the chain of logical volumes in an extended partition.

use super::{
    begin, extended,
    layout::{ENTRIES_AT, MbrEntry},
    listed,
};
use crate::{
    arith::Sat,
    medium::{Extent, Medium},
};
use zerocopy::FromBytes;

/// Bytes in the sectors that entries count in on nearly all media.
pub const SECTOR: u64 = 512;
/// What disks with large sectors have instead, the usual one first.
pub(super) const LARGE: [u64; 3] = [4096, 2048, 1024];

/// A volume that an MBR lists.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listed {
    /// Where its entry stands: bytes from the start of the disk.
    pub entry_at: u64,
    /// Its type byte.
    pub kind: u8,
    /// Where it lies, in bytes.
    pub extent: Extent,
    /// It is a logical volume in an extended partition.
    pub logical: bool,
}

/// True for the type of an extended partition.
pub fn is_extended(kind: u8) -> bool {
    matches!(kind, 0x05 | 0x0F | 0x85)
}

/// True for the type of what a volume manager has divided: its own database says where the volumes are, and the entry is
/// as it should be.
pub(super) fn is_managed(kind: u8) -> bool {
    kind == 0x42
}

/// What a type byte says the volume is.
pub fn kind_text(kind: u8) -> &'static str {
    match kind {
        0x01 => "FAT12",
        0x04 | 0x06 | 0x0E => "FAT16",
        0x0B | 0x0C => "FAT32",
        0x07 => "exFAT or NTFS",
        0x05 | 0x0F | 0x85 => "extended partition",
        0x12 | 0xDE => "maintenance, by the maker",
        0x27 => "recovery of a host",
        0x42 => "divided by a volume manager",
        0x82 => "swap space",
        0x83 => "Linux file system",
        0x8E => "logical volume manager",
        0xEE => "protection for a GPT",
        0xEF => "EFI system partition",
        _ => "another type",
    }
}

/// The entries of the sector at `at`; `None` without the signature 55 AA.
pub fn entries(medium: &dyn Medium, at: u64) -> Option<[MbrEntry; 4]> {
    let sector = medium.bytes(at, 512).ok()?;
    unsigned(&sector).filter(|_| sector.ends_with(&[0x55, 0xAA]))
}

/// The entries of a sector, whatever its signature is.
pub fn unsigned(sector: &[u8]) -> Option<[MbrEntry; 4]> {
    <[MbrEntry; 4]>::read_from_prefix(sector.get(ENTRIES_AT..)?).ok().map(|(entries, _)| entries)
}

/// True when all that is listed is the protection of a GPT.
pub fn only_protects(entries: &[MbrEntry; 4]) -> bool {
    let mut used = entries.iter().filter(|entry| entry.kind != 0).peekable();
    used.peek().is_some() && used.all(|entry| entry.kind == 0xEE)
}

/// The volumes that a chain names.
fn logical(chain: &extended::Chain) -> impl Iterator<Item = Listed> {
    chain.links.iter().filter_map(|link| {
        let (kind, extent) = link.volume?;
        Some(Listed { entry_at: link.at.plus(ENTRIES_AT.wide()), kind, extent, logical: true })
    })
}

/// True when the sector can be an MBR: flags that are 00 or 80, at least one entry, and each entry
/// that is used begins inside the disk behind sector 0, counted in sectors of `unit` bytes.
pub fn is_table(entries: &[MbrEntry; 4], disk_bytes: u64, unit: u64) -> bool {
    let used: Vec<&MbrEntry> = entries.iter().filter(|entry| entry.kind != 0).collect();
    let sane = |entry: &&MbrEntry| {
        let start = u64::from(entry.start.get());
        matches!(entry.boot, 0 | 0x80)
            && start > 0
            && start.times(unit) < disk_bytes
            && entry.length.get() > 0
    };
    let blank = |entry: &&MbrEntry| entry.kind == 0 && entry.start.get() == 0 && entry.length.get() == 0;
    !used.is_empty() && used.iter().all(sane) && used.len().plus(entries.iter().filter(blank).count()) == 4
}

/// Bytes of the sectors that the entries count in: the disk's own, which no field says. 512, unless nothing begins
/// there and something does where larger ones lead.
pub fn unit(medium: &dyn Medium, entries: &[MbrEntry; 4]) -> u64 {
    let places = |unit: u64| {
        let used = entries.iter().filter(|entry| entry.kind != 0 && entry.kind != 0xEE);
        used.map(move |entry| extended::extent(0, entry, unit))
    };
    // Volumes and links of a chain end their first 512 bytes with this.
    let begins = |place: Extent| medium.lenient(place.offset, 512).bytes.ends_with(&[0x55, 0xAA]);
    if places(SECTOR).any(begins) {
        return SECTOR;
    }
    let fits = |unit: &u64| {
        is_table(entries, medium.len(), *unit) && places(*unit).all(|place| place.end() <= medium.len())
    };
    let shows = |unit: &u64| {
        let says = |place: Extent| begin::says(medium, place, *unit).is_some();
        places(*unit).any(|place| begins(place) || says(place))
    };
    // With every beginning gone, the first entry of a disk leads out of the gap before it.
    let first = |unit: u64| places(unit).min_by_key(|place| place.offset);
    let blank = |unit: u64| first(unit).is_none_or(|place| listed::is_blank(medium, place));
    let large = || LARGE.into_iter().filter(fits);
    large().find(shows).or_else(|| large().find(|unit| blank(SECTOR) && !blank(*unit))).unwrap_or(SECTOR)
}

/// What the entry says that protects a GPT: it is as long as the disk.
pub(super) fn protects_in(entries: &[MbrEntry; 4], disk_bytes: u64) -> Option<u64> {
    let length = u64::from(entries.iter().find(|entry| entry.kind == 0xEE)?.length.get());
    [SECTOR].into_iter().chain(LARGE).find(|unit| length.plus(1) == disk_bytes.per(*unit))
}

/// Every volume that the MBR lists in sectors of `unit` bytes, extended partitions followed.
pub fn listed(medium: &dyn Medium, entries: &[MbrEntry; 4], unit: u64) -> Vec<Listed> {
    let mut found = Vec::new();
    for (number, entry) in entries.iter().enumerate() {
        let entry_at = ENTRIES_AT.plus(number.times(16)).wide();
        let extent = extended::extent(0, entry, unit);
        if is_extended(entry.kind) {
            found.extend(logical(&extended::follow(medium, extent, unit)));
        } else if entry.kind != 0 && entry.kind != 0xEE {
            found.push(Listed { entry_at, kind: entry.kind, extent, logical: false });
        }
    }
    found
}
