//! Finding volumes by their structures, where no partition entry leads to them.

use super::place::{Place, Way};
use crate::{
    arith::{Peek, Sat},
    exfat::{self, layout},
    family::{Kind, Volume},
    fat::{
        geometry::{Geometry, weigh},
        layout::BootSector,
    },
    medium::{Extent, Medium, MediumError, Window},
    ntfs::NtfsVolume,
    progress::{Silent, Watch},
};

/// Points that a boot sector's claim needs: a table, its copy, a fitting length, a root.
const BORNE_OUT: i64 = 50;

/// exFAT or NTFS by the boot sector at the beginning of `medium`, with its length in bytes.
pub(super) fn own_mark(medium: &dyn Medium) -> Option<(Kind, u64)> {
    let sector = medium.lenient(0, 512).bytes;
    match sector.part(3, 8) {
        b"EXFAT   " => exfat(&sector).map(|bytes| (Kind::Exfat, bytes)),
        b"NTFS    " => ntfs(&sector).map(|bytes| (Kind::Ntfs, bytes)),
        _ => None,
    }
}

/// What the boot sector at the beginning of `medium` says that it is, with its length in bytes; nothing
/// behind it is looked at.
pub fn claim(medium: &dyn Medium) -> Option<(Kind, u64)> {
    let sector = medium.lenient(0, 512).bytes;
    own_mark(medium).or_else(|| {
        let boot = BootSector::read(&sector).filter(looks_like_boot)?;
        Geometry::claimed_by(&boot).map(|geometry| (geometry.kind, geometry.bytes()))
    })
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

/// Lost volumes whose boot sector or backup stands within `range`, in what `covered` leaves of it, in
/// order.
pub(super) fn lost(
    medium: &dyn Medium,
    range: Extent,
    covered: &[Extent],
    watch: &dyn Watch,
) -> Result<Vec<Place>, MediumError> {
    let mut found: Vec<Place> = Vec::new();
    let mut at = range.offset;
    let end = range.end().min(medium.len());
    while at < end {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("searching for lost volumes", at, end);
        if let Some(over) = covered.iter().find(|extent| extent.offset <= at && at < extent.end()) {
            at = over.end();
            continue;
        }
        let Some(piece) = medium.piece_from(at, end) else { break };
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

/// The volume whose boot sector or backup `sector` at `here` is, where what stands behind it bears that out.
pub(crate) fn begins(medium: &dyn Medium, here: u64, sector: &[u8]) -> Option<Place> {
    let made = |what, start: u64, bytes: u64, boot_gone| Place {
        what,
        extent: Extent::new(start, bytes.min(medium.len().minus(start))),
        bytes,
        way: Way::Lost,
        boot_gone,
        guessed: false,
        tables_at: 0,
        data_at: 0,
        entry: None,
        way_faults: Vec::new(),
    };
    match sector.part(3, 8) {
        b"EXFAT   " => {
            let bytes = exfat(sector)?;
            let start = exfat_start(medium, here, sector)?;
            let geometry = exfat::geometry::Geometry::claimed_by(&layout::BootSector::read(sector)?);
            Some(Place {
                tables_at: start.plus(geometry.table_place(0)),
                data_at: start.plus(geometry.heap_place()),
                ..made(Kind::Exfat, start, bytes, here != start)
            })
        }
        b"NTFS    " => {
            let bytes = ntfs(sector)?;
            let size = u64::from(sector.le16(11));
            let starts = [(here, false), (here.plus(size).minus(bytes), true)];
            starts.into_iter().find_map(|(start, gone)| {
                let window = Window::new(medium, Extent::new(start, medium.len().minus(start)));
                let volume = NtfsVolume::glance(&window, &Silent)
                    .filter(|volume| volume.believed().borne_out() > 0)?;
                let place = made(Kind::Ntfs, start, volume.bytes(), gone);
                let (tables, data) = (start.plus(volume.tables_at()), start.plus(volume.data_at()));
                Some(Place { tables_at: tables, data_at: data, ..place })
            })
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
                let what = geometry.kind;
                let tables_at = start.plus(geometry.table_offset(0));
                let data_at = start.plus(geometry.data_offset());
                let borne_out = score.tables > 0 || score.root_speaks && score.folders_agree > 0;
                (score.points >= BORNE_OUT && borne_out).then(|| Place {
                    tables_at,
                    data_at,
                    ..made(what, start, geometry.bytes(), gone)
                })
            })
        }
    }
}

/// Where the volume begins whose main or backup boot sector stands at `here`: a region does not say
/// which of the two it is, so each is held against what it names. `None` where nothing bears it out:
/// neither the region's own checksum, nor a table or a root folder where it says.
fn exfat_start(medium: &dyn Medium, here: u64, sector: &[u8]) -> Option<u64> {
    let boot = layout::BootSector::read(sector)?;
    let geometry = exfat::geometry::Geometry::claimed_by(&boot);
    if !geometry.possible() {
        return None;
    }
    let (size, region) = (geometry.sector_bytes(), geometry.region_bytes());
    let bears_out = |start: u64| {
        let said = boot.partition_offset.get().times(size);
        let root = medium.lenient(start.plus(geometry.cluster_place(geometry.root_cluster)), 512).bytes;
        let marks = [
            (4, said > 0 && said == start),
            (2, exfat::geometry::table_begins(&medium.lenient(start.plus(geometry.table_place(0)), 8).bytes)),
            (2, exfat::sets::looks_like_folder(&root, false)),
            (
                1,
                exfat::geometry::summed(
                    medium,
                    &geometry,
                    if start == here { here.plus(region) } else { start },
                ),
            ),
        ];
        marks.iter().filter(|(_, mark)| *mark).fold(0_u32, |sum, (points, _)| sum.plus(*points))
    };
    let main = bears_out(here);
    let backup = here.checked_sub(region).map_or(0, bears_out);
    let own = exfat::geometry::summed(medium, &geometry, here);
    match (main.max(backup), own) {
        (0 | 1, false) => None,
        _ if backup > main => here.checked_sub(region),
        _ => Some(here),
    }
}
