//! Holding partition entries against what stands where they point.

use super::{
    catalogue as c, gpt, mbr,
    place::{Place, Scouting, Stranger, Way},
    search, strangers,
};
use crate::{
    arith::Sat,
    family::Volume,
    fat::{FatVolume, geometry::Origin},
    medium::{Extent, Medium, MediumError, Window},
    ntfs::NtfsVolume,
    progress::Watch,
    registry,
    report::{
        finding::{Collector, Finding, Sink},
        wording::capital,
    },
};

/// Bytes before the tables from which on a volume whose boot sector does not say so is taken for one that
/// begins further inside: 256 sectors of 512 bytes.
const DEEP: u64 = 256 * 512;

/// Bytes of a partition that are looked at to call it blank.
const BEGINNING: u64 = 4 << 20;

/// A partition entry, of either table.
pub(super) struct Listed {
    pub(super) extent: Extent,
    pub(super) entry_at: Extent,
    pub(super) text: String,
    pub(super) mbr_type: Option<u8>,
}

impl Listed {
    /// A volume manager has divided what it leads to.
    pub(super) fn is_managed(&self) -> bool {
        self.mbr_type.is_some_and(mbr::is_managed)
    }
}

pub(super) fn by_mbr(listed: mbr::Listed) -> Listed {
    let kind = if listed.logical { "logical volume" } else { "entry" };
    Listed {
        extent: listed.extent,
        entry_at: Extent::new(listed.entry_at, 16),
        text: format!("MBR {kind}, type {:02X} ({})", listed.kind, mbr::kind_text(listed.kind)),
        mbr_type: Some(listed.kind),
    }
}

pub(super) fn listed_by_gpt(copy: Option<&gpt::Copy>) -> Vec<Listed> {
    let Some(copy) = copy else { return Vec::new() };
    let start = copy.header.entries_lba.get().times(copy.sector);
    let all = copy.listed().into_iter().map(|listed| Listed {
        extent: listed.extent,
        entry_at: Extent::new(start.plus(listed.number.times(128).wide()), 128),
        text: format!("GPT entry {}, \"{}\"", listed.number.plus(1), listed.name),
        mbr_type: None,
    });
    all.collect()
}

/// Looks at what stands where the entries point. Returns the entries behind which nothing does.
pub(super) fn look_into(
    medium: &dyn Medium,
    listed: &[Listed],
    out: &mut Scouting,
    faults: &mut Collector,
    watch: &dyn Watch,
) -> Result<Vec<Extent>, MediumError> {
    let mut unfilled = Vec::new();
    for entry in listed {
        let (start, end) = (entry.extent.offset, entry.extent.end());
        // A volume that is longer than its entry is still read to its own end.
        let found = match claimed(medium, Extent::new(start, medium.len().minus(start)), Way::Listed, watch)?
        {
            Some(place) => Some(place),
            None => whatever(medium, entry.extent, out, watch)?,
        };
        let within =
            found.as_ref().is_some_and(|place| place.extent.offset.plus(place.bytes) <= medium.len());
        if end > medium.len() && within {
            faults.add(
                Finding::new(&c::ENTRY_LONG, format!("{} reaches past the end of the medium", entry.text))
                    .at(entry.entry_at.offset, entry.entry_at.length)
                    .because(
                        format!("It ends at byte {end}."),
                        format!("The image ends at byte {}, and the volume before that.", medium.len()),
                        "Nothing of the volume is missing.",
                    ),
            );
        } else if end > medium.len() {
            faults.add(
                Finding::new(&c::BEYOND_IMAGE, format!("{} reaches past the end of the image", entry.text))
                    .at(entry.entry_at.offset, entry.entry_at.length)
                    .because(
                        format!("It ends at byte {end}."),
                        format!("The image ends at byte {}.", medium.len()),
                        "What lies in between is not in this image: image the medium again.",
                    ),
            );
        }
        match found {
            Some(place) => out.volumes.push(take(entry, place, faults)),
            None if !out.strangers.iter().any(|s| s.extent.offset == start) => unfilled.push(entry.entry_at),
            None => {}
        }
    }
    Ok(unfilled)
}

/// A volume that `entry` leads to, held against what the entry says.
pub(super) fn take(entry: &Listed, mut place: Place, faults: &mut Collector) -> Place {
    judge_entry(entry, &mut place, faults);
    place.entry = Some(entry.text.clone());
    place
}

/// True when nothing but one value stands at the beginning of a partition: it was never used, or was wiped.
pub(super) fn is_blank(medium: &dyn Medium, extent: Extent) -> bool {
    let window = Window::new(medium, Extent::new(extent.offset, extent.length.min(BEGINNING)));
    window.is_empty() || strangers::blank(&window).is_some()
}

/// A stranger, or a volume without a boot sector.
fn whatever(
    medium: &dyn Medium,
    extent: Extent,
    out: &mut Scouting,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let window = Window::new(medium, extent);
    if let Some(name) = strangers::name(&window) {
        out.strangers.push(Stranger { extent, name });
        return Ok(None);
    }
    // The entry says where the volume begins, however far its tables are from there.
    let volume = registry::recognise(&window, watch)?;
    Ok(volume.map(|volume| place(&*volume, extent, Way::Listed, true)))
}

pub(super) fn place(volume: &dyn Volume, extent: Extent, way: Way, boot_gone: bool) -> Place {
    let bytes = volume.bytes();
    let length = if way == Way::Bare { extent.length } else { bytes.min(extent.length) };
    Place {
        what: volume.kind(),
        extent: Extent::new(extent.offset, length),
        bytes,
        way,
        boot_gone,
        guessed: false,
        tables_at: extent.offset.plus(volume.tables_at()),
        data_at: extent.offset.plus(volume.data_at()),
        entry: None,
        way_faults: Vec::new(),
    }
}

/// The bytes that the entries of the partition table give away, as far as there are so many; whatever stands there.
pub fn partitions(medium: &dyn Medium) -> Vec<Extent> {
    let (primary, backup) = gpt::copies(medium);
    let entries = mbr::entries(medium, 0).or_else(|| mbr::unsigned(&medium.lenient(0, 512).bytes));
    let by_mbr =
        entries.map_or_else(Vec::new, |entries| mbr::listed(medium, &entries, mbr::unit(medium, &entries)));
    let by_gpt = listed_by_gpt(primary.as_ref().or(backup.as_ref())).into_iter().map(|entry| entry.extent);
    let all = by_gpt.chain(by_mbr.into_iter().map(|entry| entry.extent));
    let clipped = all.map(|extent| {
        let end = extent.end().min(medium.len());
        Extent::new(extent.offset, end.minus(extent.offset))
    });
    clipped.filter(|extent| extent.length > 0).collect()
}

/// The volume that a boot sector at the beginning of `extent` claims, if what lies behind bears it
/// out.
pub(super) fn claimed(
    medium: &dyn Medium,
    extent: Extent,
    way: Way,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let window = Window::new(medium, extent);
    let begins: &dyn Medium = &window;
    if begins.lenient(3, 8).bytes == b"NTFS    "
        && let Some(volume) = NtfsVolume::glance(&window, watch)
    {
        return Ok(Some(place(&volume, extent, way, false)));
    }
    if let Some(candidate) = search::own_mark(&window) {
        // A boot sector is a claim: of the volume itself something has to be there, and that may say another length.
        let volume = registry::recognise(&window, watch)?;
        if volume.is_none() && candidate.1 <= extent.length {
            return Ok(None);
        }
        if let Some(volume) = volume.filter(|volume| volume.kind() == candidate.0) {
            // Where its tables are is asked of volumes without a boot sector.
            return Ok(Some(Place { tables_at: 0, data_at: 0, ..place(&*volume, extent, way, false) }));
        }
        let length = if way == Way::Bare { extent.length } else { candidate.1.min(extent.length) };
        return Ok(Some(Place {
            what: candidate.0,
            extent: Extent::new(extent.offset, length),
            bytes: candidate.1,
            way,
            boot_gone: false,
            guessed: false,
            tables_at: 0,
            data_at: 0,
            entry: None,
            way_faults: Vec::new(),
        }));
    }
    if !search::claims_fat(&window) {
        return Ok(None);
    }
    // Cards have some hundred or thousand sectors before their tables, so that clusters lie at a multiple
    // of 4 MiB; what the boot sector does not say itself has to be nearer.
    let near = |volume: &FatVolume| {
        let believed = volume.believed();
        believed.origin == Origin::Primary || believed.geometry.table_offset(0) <= DEEP
    };
    let volume = FatVolume::recognise(&window, watch)?;
    Ok(volume.filter(near).map(|volume| place(&volume, extent, way, false)))
}

fn judge_entry(entry: &Listed, place: &mut Place, faults: &mut Collector) {
    let at = entry.entry_at;
    if place.bytes > entry.extent.length {
        place.way_faults.push(&c::WRONG_LENGTH);
        faults.add(
            Finding::new(&c::WRONG_LENGTH, format!("{} is shorter than its volume", entry.text))
                .at(at.offset, at.length)
                .because(
                    format!("The entry has {} bytes.", entry.extent.length),
                    format!("The {} volume there has {} bytes.", place.what.title(), place.bytes),
                    "The end of the volume cannot be reached.",
                ),
        );
    }
    let Some(kind) = entry.mbr_type else { return };
    let fits = place.what.mbr_types();
    // A volume manager's entry covers its volumes, and says nothing of what they are.
    if fits.contains(&kind) || mbr::is_managed(kind) {
        return;
    }
    let hidden = kind & 0xF0 == 0x10 && fits.contains(&(kind & 0x0F));
    let class = if hidden { &c::HIDDEN } else { &c::WRONG_TYPE };
    place.way_faults.push(class);
    faults.add(
        Finding::new(class, format!("{}: {}", entry.text, class.title)).at(at.offset.plus(4), 1).because(
            format!("The type byte is {kind:02X}, {}.", mbr::kind_text(kind)),
            format!("{} volume stands there.", capital(&place.what.with_article())),
            "Hosts that go by the type do not show it.",
        ),
    );
}

pub(super) fn judge_gpt(
    medium: &dyn Medium,
    primary: Option<&gpt::Copy>,
    backup: Option<&gpt::Copy>,
    sector_0: Option<&[super::layout::MbrEntry; 4]>,
    faults: &mut Collector,
) {
    if primary.is_none() && backup.is_none() {
        faults.add(Finding::new(&c::GPT_GONE, c::GPT_GONE.title).at(512, 512).because(
            "Neither behind sector 0 nor at the end is there a header with its checksum.",
            "The protective entry in sector 0 says that there was one.",
            "Hosts show an empty disk.",
        ));
        return;
    }
    let sector = primary.or(backup).map_or(512, |copy| copy.sector);
    if primary.is_none() {
        faults.add(Finding::new(&c::GPT_PRIMARY, c::GPT_PRIMARY.title).at(sector, sector).because(
            "Header or entries at the beginning do not have their checksums.",
            "The backup at the end is whole.",
            "Linux shows no partition of the disk.",
        ));
    }
    if backup.is_none() {
        let place = medium.len().minus(sector);
        faults.add(Finding::new(&c::GPT_BACKUP, c::GPT_BACKUP.title).at(place, sector).because(
            "There is no whole copy at the end.",
            "The primary is whole.",
            "",
        ));
    }
    if !sector_0.is_some_and(|entries| entries.iter().any(|entry| entry.kind == 0xEE)) {
        faults.add(Finding::new(&c::GPT_PROTECTION, c::GPT_PROTECTION.title).at(446, 66).because(
            "Sector 0 has no entry of type EE.",
            "A GPT stands behind it.",
            "Linux does not look for a GPT without it; old hosts take the disk for an empty one.",
        ));
    }
}
