//! Where a volume begins that no entry lists and no boot sector names.
//!
//! Tables and data are found by what is in them; how far before them the volume begins is told by
//! nothing that is left. What is usual decides: the sectors that volumes have before their tables, and
//! the places where partitions begin.

use super::{
    catalogue as c, extended,
    mbr::{self, LARGE, SECTOR},
    place::{Place, Scouting, Table},
};
use crate::{
    arith::{Peek, Sat},
    exfat::{self, ExfatVolume},
    family::Kind,
    fat::{self, FatVolume, geometry::evidence::table_shape, layout::FsInfo},
    medium::{Extent, Medium},
    ntfs,
    report::finding::{Collector, Entry, Finding, Sink},
};

/// Sectors before the tables, by custom: FAT32, then FAT12 and FAT16.
const WIDE: [u64; 6] = [32, 34, 36, 38, 64, 16];
const NARROW: [u64; 5] = [1, 2, 4, 6, 8];
const MIB: u64 = 1 << 20;
/// Partitions of old began behind the first track.
const TRACK: u64 = 63 * SECTOR;

/// How usual it is that something begins at this byte; smaller is more so.
fn rank(start: u64) -> u32 {
    match start {
        s if s.rest(MIB) == 0 => 0,
        TRACK => 1,
        s if s.rest(TRACK) == 0 => 2,
        _ => 3,
    }
}

/// True where partitions, or links in front of volumes, usually begin.
pub(super) fn is_usual(start: u64) -> bool {
    rank(start) < 3
}

/// Where the FAT volume begins that was recognised as if it began at byte 0 of `medium`, which is what stands
/// from byte `base` of the image on.
pub(super) fn of_fat(medium: &dyn Medium, base: u64, volume: &FatVolume) -> u64 {
    let geometry = volume.believed().geometry;
    let table = geometry.table_offset(0);
    if geometry.wide()
        && let Some(start) = by_fsinfo(medium, base, table)
    {
        return start;
    }
    let customs: &[u64] = if geometry.wide() { &WIDE } else { &NARROW };
    let starts = customs.iter().filter_map(|sectors| table.checked_sub(sectors.times(SECTOR)));
    let ranked = starts.map(|start| (rank(base.plus(start)), start));
    ranked.filter(|(rank, _)| *rank < 3).min().map_or(0, |(_, start)| start)
}

/// FSInfo stands in sector 1 and its copy in sector 7 (specification, "FSInfo Sector Structure and Backup
/// Boot Sector"): the start that makes it so, the more usual where both can be.
fn by_fsinfo(medium: &dyn Medium, base: u64, table: u64) -> Option<u64> {
    let last = table.per(SECTOR);
    let found = (1..last).find(|sector| {
        FsInfo::read(&medium.lenient(sector.times(SECTOR), 512).bytes).is_some_and(|info| info.signed())
    })?;
    let starts = [1_u64, 7].into_iter().filter_map(|back| found.checked_sub(back));
    starts.map(|sector| sector.times(SECTOR)).min_by_key(|start| rank(base.plus(*start)))
}

/// The same for exFAT. Its table lies 12 KiB behind the start or more, often half way to the clusters.
pub(super) fn of_exfat(base: u64, volume: &ExfatVolume) -> u64 {
    of_exfat_from_zero(volume, base).saturating_sub(base)
}

/// The same in bytes from the start of the image.
fn of_exfat_from_zero(volume: &ExfatVolume, base: u64) -> u64 {
    let geometry = volume.believed().geometry;
    let heap = base.plus(geometry.heap_place());
    // A table that was not seen ends where the clusters begin, wherever the search began.
    let seen = base == 0 || volume.believed().score.table;
    let unseen = heap.minus(geometry.table_bytes().times(geometry.tables.wide()));
    let table = if seen { base.plus(geometry.table_place(0)) } else { unseen };
    let regions = geometry.region_bytes().times(2);
    if table.rest(MIB) == 0 && table > 0 {
        let before = heap.minus(table);
        return table.checked_sub(before).filter(|start| start.rest(MIB) == 0).unwrap_or(0);
    }
    let by_track = table.checked_sub(TRACK).is_some_and(|rest| [24, 128].contains(&rest.per(SECTOR)));
    if by_track && table.rest(SECTOR.times(2)) != 0 {
        return TRACK;
    }
    let room = table.minus(regions);
    room.minus(room.rest(MIB))
}

/// An image that begins elsewhere than its medium.
#[derive(Debug, Clone)]
pub(super) struct Displaced {
    class: &'static Entry,
    bytes: u64,
    seen: String,
    expected: String,
}

impl Displaced {
    fn late(bytes: u64, seen: String, expected: String) -> Self {
        Self { class: &c::IMAGE_LATE, bytes, seen, expected }
    }
    fn early(bytes: u64, seen: String, expected: String) -> Self {
        Self { class: &c::IMAGE_EARLY, bytes, seen, expected }
    }
    /// Puts it among the findings, and first on the way to each volume.
    pub(super) fn report(&self, volumes: &mut [Place], faults: &mut Collector) {
        let how = if self.class.code == c::IMAGE_LATE.code { "late" } else { "early" };
        let summary = format!("the image begins {} bytes {how}", self.bytes);
        faults.add(Finding::new(self.class, summary).at(0, 512).because(
            self.seen.clone(),
            self.expected.clone(),
            "Image the medium again, from its first byte on: that comes before any repair.",
        ));
        for place in volumes {
            place.way_faults.insert(0, self.class);
        }
    }
}

/// Whether all that was found stands as many bytes too early or too late.
pub(super) fn displaced(medium: &dyn Medium, seen: &Scouting) -> Option<Displaced> {
    if seen.table != Table::None {
        return None;
    }
    if let Some(found) = beheaded(medium).or_else(|| table_first(medium, seen)) {
        return Some(found);
    }
    let first = seen.volumes.iter().find(|place| place.extent.offset > 0)?;
    let start = first.extent.offset;
    if let Some(at) = table_behind(medium, start) {
        return Some(Displaced::early(
            at,
            format!(
                "The partition table stands at byte {at}; counted from there its entries lead to volumes."
            ),
            "It stands at byte 0.".to_owned(),
        ));
    }
    if first.boot_gone || is_usual(start) || extended::link_before(medium, start, seen.unit).is_some() {
        return None;
    }
    // A volume that names no place of its own is a bare one, and belongs to byte 0.
    let hidden = hidden(medium, first);
    let seen =
        format!("The {} volume at byte {start} says that it begins at byte {hidden}.", first.what.title());
    let expected = "What it says is where volumes usually begin.".to_owned();
    let near = hidden.abs_diff(start) < MIB && is_usual(hidden);
    near.then(|| {
        if hidden > start {
            Displaced::late(hidden.minus(start), seen, expected)
        } else {
            Displaced::early(start.minus(hidden), seen, expected)
        }
    })
}

/// The copy of an NTFS boot sector at the end, whose volume would begin before the image does.
pub(super) fn beheaded_ntfs(medium: &dyn Medium) -> Option<Displaced> {
    [512, 1024, 2048, 4096_u64].into_iter().find_map(|size| {
        let here = medium.len().checked_sub(size)?;
        let bytes = medium.lenient(here, 512).bytes;
        let geometry = ntfs::geometry::Geometry::claimed_by(&ntfs::layout::BootSector::read(&bytes)?)?;
        let due = geometry.counted();
        let late = due.checked_sub(here).filter(|late| *late > 0)?;
        let records = geometry.place(geometry.mft).checked_sub(late)?;
        let begins = medium.lenient(records, 4).bytes == b"FILE";
        (begins && geometry.sector() == size).then(|| late_by(late, here, "copy of the boot sector", due))
    })
}

/// A backup whose volume would begin before the image does.
fn beheaded(medium: &dyn Medium) -> Option<Displaced> {
    if let Some(found) = beheaded_ntfs(medium) {
        return Some(found);
    }
    for sector in 0..64 {
        let here = sector.times(SECTOR);
        let bytes = medium.lenient(here, 512).bytes;
        if bytes.part(3, 8) == b"EXFAT   " {
            let Some(boot) = exfat::layout::BootSector::read(&bytes) else { continue };
            let geometry = exfat::geometry::Geometry::claimed_by(&boot);
            let late = geometry.region_bytes().checked_sub(here).filter(|late| *late > 0);
            let Some(late) = late.filter(|_| geometry.possible()) else { continue };
            let table = geometry.table_place(0).minus(late);
            let table = exfat::geometry::table_begins(&medium.lenient(table, 8).bytes);
            if table && exfat::geometry::summed(medium, &geometry, here) {
                return Some(late_by(late, here, "backup boot region", geometry.region_bytes()));
            }
        } else if let Some(boot) = fat::layout::BootSector::read(&bytes)
            && boot.signature == [0x55, 0xAA]
            && let Some(geometry) =
                fat::geometry::Geometry::claimed_by(&boot).filter(fat::geometry::Geometry::wide)
        {
            let due = u64::from(boot.tail32().backup_sector.get()).times(geometry.sector_bytes.wide());
            let Some(late) = due.checked_sub(here).filter(|late| *late > 0 && here > 0) else { continue };
            let begins = |copy: u32| {
                table_shape(&medium.lenient(geometry.table_offset(copy).minus(late), 512).bytes).is_some()
            };
            if begins(0) || begins(1) {
                return Some(late_by(late, here, "backup boot sector", due));
            }
        }
    }
    None
}

/// The first table of a FAT12 or FAT16 stands at byte 0, where its boot sector belongs: the second one, which the volume
/// was recognised by, says the same. In front of it is one sector (specification, `BPB_RsvdSecCnt`).
fn table_first(medium: &dyn Medium, seen: &Scouting) -> Option<Displaced> {
    let narrow = |place: &&Place| matches!(place.what, Kind::Fat12 | Kind::Fat16);
    let place = seen.volumes.first().filter(narrow).filter(|place| place.boot_gone)?;
    let second = place.tables_at.checked_sub(place.extent.offset).filter(|second| *second > 0)?;
    if place.extent.offset > 0 || table_shape(&medium.lenient(0, 512).bytes).is_none() {
        return None;
    }
    let table = |at: u64| medium.lenient(at, second.min(MIB).size()).bytes;
    let (one, other) = (table(0), table(second));
    let pairs = one.chunks(SECTOR.size()).zip(other.chunks(SECTOR.size()));
    let held = pairs.filter(|(one, _)| one.iter().any(|byte| *byte != 0));
    let (same, differ): (Vec<_>, Vec<_>) = held.partition(|(one, other)| one == other);
    (!same.is_empty() && differ.len() <= same.len().per(4)).then(|| {
        Displaced::late(
            SECTOR,
            format!("An allocation table stands at byte 0, and its copy at byte {second}."),
            "One sector stands in front of the first, the boot sector.".to_owned(),
        )
    })
}

fn late_by(late: u64, here: u64, what: &str, due: u64) -> Displaced {
    Displaced::late(
        late,
        format!("The {what} stands at byte {here}, and so do the tables: {late} bytes too early."),
        format!("It stands at byte {due} of its volume."),
    )
}

/// Where an MBR stands from which entries lead to the volume at `start`.
fn table_behind(medium: &dyn Medium, start: u64) -> Option<u64> {
    let places = (1..start.per(SECTOR).min(1 << 15)).map(|sector| sector.times(SECTOR));
    let mut places =
        places.filter(|at| medium.data_from(*at).is_some_and(|data| data.offset < at.plus(SECTOR)));
    places.find(|at| {
        mbr::entries(medium, *at).is_some_and(|entries| {
            mbr::is_table(&entries, medium.len(), SECTOR)
                && entries.iter().any(|entry| {
                    let leads = u64::from(entry.start.get()).times(SECTOR).plus(*at) == start;
                    // A link in front of a logical volume looks the same, and stands there.
                    leads && entry.kind != 0 && extended::link_before(medium, start, SECTOR) != Some(*at)
                })
        })
    })
}

/// Where a volume with sectors of `unit` bytes says that it begins, by its boot sector or the copy of that, if one is there.
pub(super) fn says(medium: &dyn Medium, there: Extent, unit: u64) -> Option<u64> {
    let copies = [6, 12].map(|sector| there.offset.plus(unit.times(sector)));
    let places = [there.offset].into_iter().chain(copies).chain([there.end().minus(unit), there.end()]);
    places.into_iter().find_map(|at| {
        let boot = medium.lenient(at, 512).bytes;
        let what = if boot.part(3, 8) == b"EXFAT   " { Kind::Exfat } else { Kind::Fat32 };
        let size = match what {
            Kind::Exfat => 1_u64.checked_shl(u32::from(boot.byte(108))).unwrap_or(0),
            _ => boot.le16(11).into(),
        };
        (boot.ends_with(&[0x55, 0xAA]) && size == unit).then(|| said(&boot, what))
    })
}

/// The large sectors that each of these volumes has, and in which it counts what is before it: so did the table that
/// listed it.
pub(super) fn large_sectors(medium: &dyn Medium, volumes: &[Place]) -> Option<u64> {
    LARGE.into_iter().find(|unit| {
        let all = volumes.iter().all(|place| {
            let there = Extent::new(place.extent.offset, place.bytes);
            says(medium, there, *unit) == Some(there.offset)
        });
        all && !volumes.is_empty()
    })
}

/// Where the boot sector of a volume says that it begins.
fn hidden(medium: &dyn Medium, place: &Place) -> u64 {
    said(&medium.lenient(place.extent.offset, 512).bytes, place.what)
}

/// What a boot sector says of where its volume begins (`BPB_HiddSec`, `PartitionOffset`).
fn said(sector: &[u8], what: Kind) -> u64 {
    match what {
        Kind::Exfat => {
            let size = 1_u64.checked_shl(u32::from(sector.byte(108))).unwrap_or(512);
            sector.le64(64).times(size)
        }
        _ => u64::from(sector.le32(28)).times(u64::from(sector.le16(11))),
    }
}
