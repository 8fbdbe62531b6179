//! A medium without a partition table: a bare volume, volumes that lost their table, a stranger, or
//! nothing.

use super::{
    begin, beneath, catalogue as c, listed,
    place::{Place, Scouting, Stranger, Way},
    rival, search, strangers,
};
use crate::{
    arith::Sat,
    exfat::ExfatVolume,
    family::{Kind, Volume},
    fat::FatVolume,
    medium::{Extent, Medium, MediumError, Window},
    ntfs::NtfsVolume,
    progress::Watch,
    registry,
    report::{
        finding::{Collector, Finding, Sink},
        wording::capital,
    },
};

/// A volume recognised as if it began at byte 0, without its boot sector.
pub(super) struct Headless {
    place: Place,
    /// Where it begins by custom.
    pub(super) start: u64,
    /// Where its clusters begin: all before that belongs to its structures.
    data_at: u64,
}

pub(super) fn headless(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Headless>, MediumError> {
    let whole = Extent::new(0, medium.len());
    if let Some(volume) = registry::ntfs_at_glance(medium, watch) {
        let data_at = volume.data_at();
        return Ok(Some(Headless {
            place: listed::place(&volume, whole, Way::Bare, true),
            start: 0,
            data_at,
        }));
    }
    if let Some(volume) = registry::exfat_here(medium, watch)? {
        return Ok(Some(Headless {
            place: listed::place(&volume, whole, Way::Bare, true),
            start: begin::of_exfat(0, &volume),
            data_at: volume.believed().geometry.heap_place(),
        }));
    }
    let fat = FatVolume::recognise(medium, watch)?;
    let weak = registry::is_weak(medium, fat.as_ref());
    if weak && begin::beheaded_ntfs(medium).is_some() {
        return Ok(None);
    }
    if weak && let Some((start, volume)) = NtfsVolume::wherever(medium, watch)? {
        let data_at = start.plus(volume.data_at());
        return Ok(Some(Headless { place: listed::place(&volume, whole, Way::Bare, true), start, data_at }));
    }
    Ok(fat.map(|volume| Headless {
        place: listed::place(&volume, whole, Way::Bare, true),
        start: begin::of_fat(medium, 0, &volume),
        data_at: volume.believed().geometry.data_offset(),
    }))
}

/// Bytes between volumes from which on a further one is looked for there.
pub(super) const GAP: u64 = 64 << 10;
/// Volumes without beginnings that are looked for at most.
const MOST: usize = 16;

/// Volumes without their beginnings in what `covered` leaves of the medium: tables and folders alone tell of
/// them, and both have to.
pub(super) fn between(
    medium: &dyn Medium,
    covered: &[Extent],
    watch: &dyn Watch,
) -> Result<Vec<Place>, MediumError> {
    let mut covered = covered.to_vec();
    let mut found = Vec::new();
    while found.len() < MOST {
        let mut here = None;
        for gap in gaps(&covered, medium.len()) {
            here = in_gap(medium, gap, watch)?;
            if here.is_some() {
                break;
            }
            // What was looked through once has nothing.
            covered.push(gap);
        }
        let Some(place) = here else { break };
        covered.push(place.extent);
        found.push(place);
    }
    Ok(found)
}

/// What `covered` leaves, as far as it is worth a look.
pub(super) fn gaps(covered: &[Extent], end: u64) -> Vec<Extent> {
    let mut sorted: Vec<Extent> = covered.to_vec();
    sorted.sort_by_key(|extent| extent.offset);
    let (mut at, mut found) = (0, Vec::new());
    for extent in sorted.into_iter().chain([Extent::new(end, 0)]) {
        if extent.offset > at.plus(GAP) {
            found.push(Extent::new(at, extent.offset.minus(at)));
        }
        at = at.max(extent.end());
    }
    found
}

pub(super) fn in_gap(
    medium: &dyn Medium,
    gap: Extent,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let window = Window::new(medium, gap);
    if window.data_from(0).is_none() {
        return Ok(None);
    }
    let start = if let Some(volume) = ExfatVolume::recognise(&window, watch)? {
        volume.believed().score.root_speaks.then(|| begin::of_exfat(gap.offset, &volume))
    } else {
        let volume = FatVolume::recognise(&window, watch)?;
        let spoken = |volume: &FatVolume| {
            let score = &volume.believed().score;
            score.tables > 0 && score.folders_agree > 0 && score.root_speaks
        };
        let start = volume.filter(spoken).map(|volume| begin::of_fat(&window, gap.offset, &volume));
        match start {
            Some(start) => Some(start),
            // Records tell where their volume begins.
            None => NtfsVolume::wherever(&window, watch)?.map(|(start, _)| start),
        }
    };
    let Some(start) = start else { return Ok(None) };
    // It ends where the next one begins, whatever lies there.
    let here = Extent::new(gap.offset.plus(start), gap.length.minus(start));
    let place = moved(medium, here, watch)?;
    Ok(place.map(|place| Place { bytes: place.bytes.min(here.length), ..place }))
}

/// The same volume, read from where it begins by custom.
pub(super) fn moved(
    medium: &dyn Medium,
    extent: Extent,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let window = Window::new(medium, extent);
    let volume = registry::recognise(&window, watch)?;
    let place = volume.map(|volume| {
        let place = listed::place(&*volume, extent, Way::Lost, true);
        // By its records, an NTFS volume tells where it begins.
        Place { guessed: place.what != Kind::Ntfs, ..place }
    });
    Ok(place)
}

/// Fills `out` with what a medium holds that has no partition table.
pub(super) fn volumes(
    medium: &dyn Medium,
    out: &mut Scouting,
    faults: &mut Collector,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    let whole = Extent::new(0, medium.len());
    out.blank = strangers::blank(medium);
    if out.blank.is_some() {
        return Ok(());
    }
    let stranger = strangers::name(medium).map(|name| (name, beneath::length(medium, name)));
    let left_over = |length: Option<u64>| length.is_some_and(|end| beneath::is_left_over(medium, end));
    if let Some((name, length)) = stranger.filter(|(_, length)| !left_over(*length)) {
        let extent = length.map_or(whole, |length| Extent::new(0, length));
        out.strangers.push(Stranger { extent, name });
        return match length {
            Some(length) => beneath::look(medium, out, length, faults, watch),
            None => Ok(()),
        };
    }
    let headless = headless(medium, watch)?;
    // A boot sector in front of what is a volume's own structures, at byte 0 or not, says where that volume
    // begins; one in its clusters is the content of a file.
    let front = headless.as_ref().map_or(medium.len(), |found| found.data_at);
    let mut found = search::lost(medium, Extent::new(0, front), &[], watch)?;
    if let Some(first) = found.iter().find(|place| place.extent.offset == 0) {
        let place = Place { extent: whole, way: Way::Bare, ..first.clone() };
        return at_first_byte(medium, place, out, faults, watch);
    }
    if let (true, Some(headless)) = (found.is_empty(), headless) {
        if headless.start == 0 {
            return at_first_byte(medium, headless.place, out, faults, watch);
        }
        let behind = Extent::new(headless.start, medium.len().minus(headless.start));
        found.extend(moved(medium, behind, watch)?);
    }
    let covered: Vec<Extent> = found.iter().map(|place| place.extent).collect();
    found.extend(search::lost(medium, Extent::new(front, medium.len().minus(front)), &covered, watch)?);
    if !found.is_empty() {
        let covered: Vec<Extent> = found.iter().map(|place| place.extent).collect();
        found.extend(between(medium, &covered, watch)?);
        found.sort_by_key(|place| place.extent.offset);
    }
    if found.is_empty() {
        out.entropy = Some(strangers::entropy(medium));
        return Ok(());
    }
    let mut inside = Vec::new();
    for place in &mut found {
        if let Some(inner) = rival::within(medium, place, &out.kept, watch)? {
            inside.push(rival::report(place, inner, faults));
        }
    }
    found.extend(inside);
    missing(&found, faults);
    for mut place in found {
        place.way_faults.insert(0, &c::TABLE_MISSING);
        out.volumes.push(place);
    }
    Ok(())
}

/// One accident, one finding: that no entry lists the volumes goes without saying.
fn missing(found: &[Place], faults: &mut Collector) {
    let finding = Finding::new(&c::TABLE_MISSING, c::TABLE_MISSING.title).at(0, 512).because(
        "Sector 0 lists no volume.",
        match found {
            [only] => format!("{} volume stands behind it.", capital(&only.what.with_article())),
            all => format!("{} volumes stand behind it.", all.len()),
        },
        "Hosts show an empty disk.",
    );
    faults.add(found.iter().fold(finding, |finding, place| finding.at(place.extent.offset, 512)));
}

/// A volume that begins at byte 0 is a bare one, and needs no table. But where nothing of a boot sector is left there, sector
/// 0 may have held a table: what begins in the midst of that volume has the same right.
fn at_first_byte(
    medium: &dyn Medium,
    mut place: Place,
    out: &mut Scouting,
    faults: &mut Collector,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    let jumps = matches!(medium.lenient(0, 3).bytes.as_slice(), [0xE9, ..] | [0xEB, _, 0x90]);
    let inner = if jumps { None } else { rival::within(medium, &place, &out.kept, watch)? };
    // Tables and folders that were found by themselves are too little against a volume that is there.
    let Some(inner) = inner.filter(|inner| !inner.place.guessed) else {
        out.volumes.push(place);
        return Ok(());
    };
    place.way = Way::Lost;
    let mut inner = rival::report(&mut place, inner, faults);
    missing(std::slice::from_ref(&inner), faults);
    inner.way_faults.insert(0, &c::TABLE_MISSING);
    out.volumes.extend([place, inner]);
    Ok(())
}
