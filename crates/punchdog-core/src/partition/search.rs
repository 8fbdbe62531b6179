//! Finding volumes by their structures, where no partition entry leads to them.

use super::scout::{Place, Way, What};
use crate::{
    arith::{Peek, Sat},
    family::Kind,
    family::Volume,
    fat::{
        FatVolume,
        geometry::{Geometry, weigh},
        layout::BootSector,
    },
    medium::{Extent, Medium, MediumError, Window},
    progress::Watch,
};

/// Points that a boot sector's claim needs: a table, its copy, a fitting length, a root.
const BORNE_OUT: i64 = 50;

/// exFAT or NTFS by the boot sector at the beginning of `medium`, with its length in bytes.
pub(super) fn own_mark(medium: &dyn Medium) -> Option<(What, u64)> {
    let sector = medium.lenient(0, 512).bytes;
    match sector.part(3, 8) {
        b"EXFAT   " => exfat(&sector).map(|bytes| (What::Volume(Kind::Exfat), bytes)),
        b"NTFS    " => ntfs(&sector).map(|bytes| (What::Ntfs, bytes)),
        _ => None,
    }
}

/// The length of the exFAT volume whose main or backup boot sector this is (exFAT specification,
/// 3.1: `VolumeLength` at 72, `BytesPerSectorShift` at 108; bytes 11 to 63 are zero).
fn exfat(sector: &[u8]) -> Option<u64> {
    let shift = sector.byte(108);
    let zero = sector.part(11, 53).iter().all(|byte| *byte == 0);
    let length = sector.le64(72).checked_shl(u32::from(shift))?;
    (zero && (9..=12).contains(&shift) && length > 0 && sector.ends_with(&[0x55, 0xAA])).then_some(length)
}

/// The length of the NTFS volume whose boot sector or copy this is: bytes in a sector at 11, all
/// sectors but the copy at 40.
fn ntfs(sector: &[u8]) -> Option<u64> {
    let bytes = u64::from(sector.le16(11));
    let sane = bytes.is_power_of_two() && (512..=4096).contains(&bytes) && sector.ends_with(&[0x55, 0xAA]);
    let length = sector.le64(40).plus(1).times(bytes);
    (sane && sector.le64(40) > 0 && sector.le64(40) < 1 << 50).then_some(length)
}

/// True when the first sector makes some sense as a FAT boot sector.
pub(super) fn claims_fat(medium: &dyn Medium) -> bool {
    BootSector::read(&medium.lenient(0, 512).bytes).is_some_and(|boot| looks_like_boot(&boot))
}

fn looks_like_boot(boot: &BootSector) -> bool {
    let sector = boot.bytes_per_sector.get();
    let marks = [
        matches!(boot.jump, [0xEB, _, 0x90] | [0xE9, _, _]),
        sector.is_power_of_two() && (512..=4096).contains(&sector),
        boot.sectors_per_cluster.is_power_of_two(),
        (1..=2).contains(&boot.tables),
        crate::fat::boot::media_is_valid(boot.media),
        boot.reserved_sectors.get() > 0 && boot.reserved_sectors.get() <= 8192,
        boot.table_sectors_16.get() != 0 || boot.tail32().table_sectors.get() != 0,
        boot.signature == [0x55, 0xAA],
    ];
    marks.iter().filter(|mark| **mark).count() >= 5
}

/// Lost volumes in what `covered` leaves of the medium, by boot sector or backup, in order.
pub(super) fn lost(
    medium: &dyn Medium,
    covered: &[Extent],
    watch: &dyn Watch,
) -> Result<Vec<Place>, MediumError> {
    let mut found: Vec<Place> = Vec::new();
    let mut at = 0;
    while at < medium.len() {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("searching for lost volumes", at, medium.len());
        if let Some(over) = covered.iter().find(|extent| extent.offset <= at && at < extent.end()) {
            at = over.end();
            continue;
        }
        let Some(piece) = medium.piece_from(at, medium.len()) else { break };
        if covered.iter().any(|extent| extent.offset <= piece.offset && piece.offset < extent.end()) {
            at = piece.offset;
            continue;
        }
        at = piece.offset;
        let chunk = medium.lenient(at, piece.length.size()).bytes;
        let mut next = piece.end();
        for (index, sector) in chunk.chunks(512).enumerate() {
            let here = at.plus(index.times(512).wide());
            if !sector.ends_with(&[0x55, 0xAA]) || covered.iter().any(|e| e.offset <= here && here < e.end())
            {
                continue;
            }
            if let Some(place) = begins(medium, here, sector) {
                // What stands inside a volume is a file's content.
                next = place.extent.end().max(here.plus(512));
                found.push(place);
                break;
            }
        }
        at = next;
    }
    Ok(found)
}

/// The volume whose boot sector or backup `sector` at `here` is.
fn begins(medium: &dyn Medium, here: u64, sector: &[u8]) -> Option<Place> {
    let made = |what, start: u64, bytes: u64, boot_gone| Place {
        what,
        extent: Extent::new(start, bytes.min(medium.len().minus(start))),
        bytes,
        way: Way::Lost,
        boot_gone,
        tables_at: 0,
        entry: None,
        way_faults: Vec::new(),
    };
    match sector.part(3, 8) {
        b"EXFAT   " => {
            let bytes = exfat(sector)?;
            // Region checksums say nothing of which copy this is; the table's first entries do.
            let size = 1_u64.checked_shl(u32::from(sector.byte(108)))?;
            let back = size.times(12);
            let table = u64::from(sector.le32(80)).times(size);
            let fits = |start: u64| medium.lenient(start.plus(table), 8).bytes.part(1, 7) == [0xFF; 7];
            let starts = [(here, false), (here.minus(back), true)];
            starts
                .into_iter()
                .find(|(start, _)| fits(*start))
                .map(|(start, gone)| made(What::Volume(Kind::Exfat), start, bytes, gone))
        }
        b"NTFS    " => {
            let bytes = ntfs(sector)?;
            let size = u64::from(sector.le16(11));
            let cluster = size.times(u64::from(sector.byte(13)));
            let records = sector.le64(48).times(cluster);
            let fits = |start: u64| medium.lenient(start.plus(records), 4).bytes == b"FILE";
            let starts = [(here, false), (here.plus(size).minus(bytes), true)];
            starts
                .into_iter()
                .find(|(start, _)| fits(*start))
                .map(|(start, gone)| made(What::Ntfs, start, bytes, gone))
        }
        _ => {
            let boot = BootSector::read(sector).filter(looks_like_boot)?;
            let geometry = Geometry::claimed_by(&boot)?;
            let back = u64::from(boot.tail32().backup_sector.get()).times(geometry.sector_bytes.wide());
            let mut starts = vec![(here, false)];
            if geometry.wide() && back > 0 && back <= here {
                starts.push((here.minus(back), true));
            }
            starts.into_iter().find_map(|(start, gone)| {
                let window = Window::new(medium, Extent::new(start, medium.len().minus(start)));
                let score = weigh(&window, &geometry, None);
                let what = What::Volume(geometry.kind);
                let tables_at = start.plus(geometry.table_offset(0));
                (score.points >= BORNE_OUT && score.tables > 0)
                    .then(|| Place { tables_at, ..made(what, start, geometry.bytes(), gone) })
            })
        }
    }
}

/// A FAT volume of which only tables and folders are left, around the table that begins at
/// `table`: the start is where most volumes would have it.
pub(super) fn around_table(
    medium: &dyn Medium,
    table: u64,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    // Sectors before the tables by custom: first those of FAT32, then those of FAT12 and FAT16. The
    // first entries of a young FAT16 table can be a FAT32 table's as well.
    let reserved: [u64; 10] = [32, 34, 36, 38, 64, 1, 2, 4, 6, 8];
    let starts = reserved.iter().map(|sectors| table.minus(sectors.times(512)));
    // Aligned starts first: to a MiB, to a track, to a flash page; else the usual reserve.
    let rank = |start: &u64| match start {
        s if s.rest(1 << 20) == 0 => 0,
        s if s.rest(63 * 512) == 0 => 1,
        s if s.rest(4096) == 0 => 2,
        _ => 3,
    };
    let mut starts: Vec<u64> = starts.collect();
    starts.sort_by_key(rank);
    for start in starts {
        let extent = Extent::new(start, medium.len().minus(start));
        let window = Window::new(medium, extent);
        if let Some(volume) = FatVolume::recognise(&window, watch)? {
            return Ok(Some(Place {
                what: What::Volume(volume.kind()),
                extent: Extent::new(start, volume.bytes().min(extent.length)),
                bytes: volume.bytes(),
                way: Way::Lost,
                boot_gone: true,
                tables_at: table,
                entry: None,
                way_faults: Vec::new(),
            }));
        }
    }
    Ok(None)
}
