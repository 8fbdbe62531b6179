//! Deciding what an image holds.

use super::{catalogue as c, gpt, mbr, search, strangers};
use crate::{
    arith::Sat,
    exfat::ExfatVolume,
    family::{Kind, Volume},
    fat::FatVolume,
    finding::{Collector, Entry, Finding, Sink},
    medium::{Extent, Medium, MediumError, Window},
    progress::Watch,
    wording::capital,
};

/// A file system that scout can tell from its structures.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A volume of a kind that Punchdog mends.
    Volume(Kind),
    /// NTFS.
    Ntfs,
}

impl What {
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Volume(kind) => kind.name(),
            Self::Ntfs => "ntfs",
        }
    }
    /// As people write it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Volume(kind) => kind.title(),
            Self::Ntfs => "NTFS",
        }
    }
    /// As people say it: "a FAT32", "an exFAT".
    pub fn with_article(self) -> String {
        let article = if matches!(self, Self::Volume(Kind::Exfat) | Self::Ntfs) { "an" } else { "a" };
        format!("{article} {}", self.title())
    }
    /// True when the structures of one can be taken for those of the other.
    fn shares_family(self, other: Self) -> bool {
        let family = |what| match what {
            Self::Volume(Kind::Exfat) => 0,
            Self::Volume(_) => 1,
            Self::Ntfs => 2,
        };
        family(self) == family(other)
    }
    /// True for what Punchdog can check and mend.
    pub fn is_mended(self) -> bool {
        matches!(self, Self::Volume(_))
    }
    /// The MBR type bytes that fit; the first is written.
    pub fn mbr_types(self) -> &'static [u8] {
        match self {
            Self::Volume(Kind::Fat12) => &[0x01, 0x04, 0x06, 0x0E, 0xEF],
            Self::Volume(Kind::Fat16) => &[0x0E, 0x06, 0x04, 0x01, 0xEF],
            Self::Volume(Kind::Fat32) => &[0x0C, 0x0B, 0xEF],
            Self::Volume(Kind::Exfat) | Self::Ntfs => &[0x07, 0x27],
        }
    }
}

/// How a volume was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// The image is the volume.
    Bare,
    /// A partition entry lists it.
    Listed,
    /// By its structures alone; no entry lists it.
    Lost,
}

impl Way {
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Bare => "bare",
            Self::Listed => "listed",
            Self::Lost => "lost",
        }
    }
}

/// A volume in an image.
#[derive(Debug, Clone)]
pub struct Place {
    /// What it is.
    pub what: What,
    /// The bytes of the image that are taken for it.
    pub extent: Extent,
    /// Bytes it says it has.
    pub bytes: u64,
    /// How it was found.
    pub way: Way,
    /// Its boot sector is gone; it was recognised by what lies behind.
    pub boot_gone: bool,
    /// Where its first allocation table begins in the image; 0 where that was not looked at.
    pub tables_at: u64,
    /// What its partition entry says, in words.
    pub entry: Option<String>,
    /// What is wrong with the way to it: faults of the table that concern this volume.
    pub way_faults: Vec<&'static Entry>,
}

impl Place {
    /// Why `host` does not get as far as the volume itself: the fault of the partition table that keeps
    /// it from there.
    ///
    /// Linux makes a device of every entry that has a length, whatever its type, and of a GPT's entries
    /// only where the protective entry and the primary copy are right (Linux 6.12,
    /// `block/partitions/efi.c`, without `gpt` on its command line). Windows gives no letter where the
    /// type is not one of its own (UEFI 2.10, 5.2.1, `OSType`), and takes the backup copy (documented).
    pub fn not_found_by(&self, host: &str) -> Option<&'static Entry> {
        let passes: &[&str] = if host == "linux" {
            &[c::WRONG_LENGTH.code, c::HIDDEN.code, c::WRONG_TYPE.code]
        } else {
            &[c::WRONG_LENGTH.code, c::GPT_PRIMARY.code]
        };
        self.way_faults.iter().copied().find(|entry| !passes.contains(&entry.code))
    }
}

/// The partition table of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Table {
    /// None.
    None,
    /// An MBR.
    Mbr,
    /// A GPT: the primary is whole, the backup is whole.
    Gpt(bool, bool),
}

/// A range that holds something else.
#[derive(Debug, Clone, Copy)]
pub struct Stranger {
    /// Where it lies.
    pub extent: Extent,
    /// What it is.
    pub name: strangers::Name,
}

/// All that an image holds.
#[derive(Debug)]
pub struct Scouting {
    /// The partition table.
    pub table: Table,
    /// The volumes, by place; their numbers count from 1 in this order.
    pub volumes: Vec<Place>,
    /// What is not ours.
    pub strangers: Vec<Stranger>,
    /// One byte value throughout.
    pub blank: Option<strangers::Blank>,
    /// Faults of the partition table.
    pub findings: Vec<Finding>,
    /// Bits of information a byte at the beginning, where nothing was recognised.
    pub entropy: Option<f64>,
}

/// A partition entry, of either table.
struct Listed {
    extent: Extent,
    entry_at: Extent,
    text: String,
    mbr_type: Option<u8>,
}

/// Bytes before the tables from which on a volume without a boot sector is taken for one that
/// begins further inside: 256 sectors of 512 bytes, twice what fresh volumes reserve.
const DEEP: u64 = 256 * 512;

/// What `medium` holds. With `thorough`, everything that no volume covers is searched for lost
/// volumes; without, only where nothing else was found.
pub fn scout(medium: &dyn Medium, thorough: bool, watch: &dyn Watch) -> Result<Scouting, MediumError> {
    let mut out = Scouting {
        table: Table::None,
        volumes: Vec::new(),
        strangers: Vec::new(),
        blank: None,
        findings: Vec::new(),
        entropy: None,
    };
    let whole = Extent::new(0, medium.len());
    if let Some(place) = claimed(medium, whole, Way::Bare, watch)? {
        out.volumes.push(place);
        return Ok(out);
    }
    let mut faults = Collector::default();
    let (primary, backup) = gpt::copies(medium);
    let sector_0 = mbr::entries(medium, 0).filter(|entries| mbr::is_table(entries, medium.len()));
    let listed = if primary.is_some() || backup.is_some() {
        out.table = Table::Gpt(primary.is_some(), backup.is_some());
        judge_gpt(medium, primary.as_ref(), backup.as_ref(), sector_0.as_ref(), &mut faults);
        listed_by_gpt(primary.as_ref().or(backup.as_ref()))
    } else if let Some(entries) = &sector_0 {
        out.table = Table::Mbr;
        mbr::listed(medium, entries).into_iter().map(by_mbr).collect()
    } else {
        Vec::new()
    };
    let mut unfilled = look_into(medium, &listed, &mut out, &mut faults, watch)?;
    if out.table == Table::None {
        without_table(medium, &mut out, &mut faults, watch)?;
    } else if thorough || !unfilled.is_empty() || out.volumes.iter().all(|place| place.boot_gone) {
        let whole = out.volumes.iter().filter(|place| !place.boot_gone).map(|place| place.extent);
        let covered: Vec<Extent> = whole.chain(out.strangers.iter().map(|s| s.extent)).collect();
        for place in search::lost(medium, &covered, watch)? {
            if out.volumes.iter().any(|listed| listed.extent.offset == place.extent.offset) {
                continue;
            }
            // Read from tables alone inside a volume that has its boot sector: the entry points past
            // the beginning.
            let within = |listed: &Place| {
                listed.boot_gone
                    && !place.boot_gone
                    && place.what.shares_family(listed.what)
                    && listed.tables_at >= place.tables_at
                    && place.extent.offset < listed.extent.offset
                    && listed.extent.offset < place.extent.end()
            };
            let same = |listed: &Place| {
                listed.tables_at == place.tables_at && place.tables_at != 0 || within(listed)
            };
            if let Some(astray) = out.volumes.iter().position(same) {
                out.volumes.remove(astray);
                unfilled.extend(
                    listed
                        .iter()
                        .filter(|e| e.extent.offset > place.extent.offset)
                        .map(|e| e.entry_at)
                        .take(1),
                );
            } else if let Some(over) = out.volumes.iter().find(|over| reaches_into(&place, over, &listed)) {
                report_older(&place, over, &mut faults);
                continue;
            }
            out.volumes.push(report_lost(place, &unfilled, &mut faults));
        }
    }
    out.volumes.sort_by_key(|place| place.extent.offset);
    out.findings = faults.into_sorted();
    // What is wrong with a GPT as a whole concerns every volume that it lists.
    for class in [&c::GPT_PROTECTION, &c::GPT_PRIMARY] {
        if out.findings.iter().any(|finding| finding.entry.code == class.code) {
            out.volumes.iter_mut().for_each(|place| place.way_faults.push(class));
        }
    }
    Ok(out)
}

fn by_mbr(listed: mbr::Listed) -> Listed {
    let kind = if listed.logical { "logical volume" } else { "entry" };
    Listed {
        extent: listed.extent,
        entry_at: Extent::new(listed.entry_at, 16),
        text: format!("MBR {kind}, type {:02X} ({})", listed.kind, mbr::kind_text(listed.kind)),
        mbr_type: Some(listed.kind),
    }
}

fn listed_by_gpt(copy: Option<&gpt::Copy>) -> Vec<Listed> {
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
fn look_into(
    medium: &dyn Medium,
    listed: &[Listed],
    out: &mut Scouting,
    faults: &mut Collector,
    watch: &dyn Watch,
) -> Result<Vec<Extent>, MediumError> {
    let mut unfilled = Vec::new();
    for entry in listed {
        let (start, end) = (entry.extent.offset, entry.extent.end());
        if end > medium.len() {
            faults.add(
                Finding::new(&c::BEYOND_IMAGE, format!("{} reaches past the end of the image", entry.text))
                    .at(entry.entry_at.offset, entry.entry_at.length)
                    .because(
                        format!("It ends at byte {end}."),
                        format!("The image ends at byte {}.", medium.len()),
                        "What lies in between is not in this image.",
                    ),
            );
        }
        // A volume that is longer than its entry is still read to its own end.
        let found = match claimed(medium, Extent::new(start, medium.len().minus(start)), Way::Listed, watch)?
        {
            Some(place) => Some(place),
            None => whatever(medium, entry.extent, out, watch)?,
        };
        match found {
            Some(mut place) => {
                judge_entry(entry, &mut place, faults);
                place.entry = Some(entry.text.clone());
                out.volumes.push(place);
            }
            None if !out.strangers.iter().any(|s| s.extent.offset == start) => unfilled.push(entry.entry_at),
            None => {}
        }
    }
    Ok(unfilled)
}

/// A stranger, or a FAT volume without a boot sector.
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
    if let Some(volume) = ExfatVolume::recognise(&window, watch)? {
        return Ok(Some(exfat_place(&volume, extent, Way::Listed, true)));
    }
    let volume = FatVolume::recognise(&window, watch)?;
    Ok(volume.filter(begins_here).map(|volume| place(&volume, extent, Way::Listed, true)))
}

fn exfat_place(volume: &ExfatVolume, extent: Extent, way: Way, boot_gone: bool) -> Place {
    let bytes = volume.bytes();
    let length = if way == Way::Bare { extent.length } else { bytes.min(extent.length) };
    Place {
        what: What::Volume(Kind::Exfat),
        extent: Extent::new(extent.offset, length),
        bytes,
        way,
        boot_gone,
        tables_at: extent.offset.plus(volume.believed().geometry.table_place(0)),
        entry: None,
        way_faults: Vec::new(),
    }
}

/// True when the tables lie as near to the beginning as those of a volume that begins there.
fn begins_here(volume: &FatVolume) -> bool {
    volume.believed().geometry.table_offset(0) <= DEEP
}

fn place(volume: &FatVolume, extent: Extent, way: Way, boot_gone: bool) -> Place {
    let bytes = volume.bytes();
    let length = if way == Way::Bare { extent.length } else { bytes.min(extent.length) };
    Place {
        what: What::Volume(volume.kind()),
        extent: Extent::new(extent.offset, length),
        bytes,
        way,
        boot_gone,
        tables_at: extent.offset.plus(volume.believed().geometry.table_offset(0)),
        entry: None,
        way_faults: Vec::new(),
    }
}

/// The volume that a boot sector at the beginning of `extent` claims, if what lies behind bears it
/// out.
fn claimed(
    medium: &dyn Medium,
    extent: Extent,
    way: Way,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let window = Window::new(medium, extent);
    if let Some(candidate) = search::own_mark(&window) {
        let length = if way == Way::Bare { extent.length } else { candidate.1.min(extent.length) };
        return Ok(Some(Place {
            what: candidate.0,
            extent: Extent::new(extent.offset, length),
            bytes: candidate.1,
            way,
            boot_gone: false,
            tables_at: 0,
            entry: None,
            way_faults: Vec::new(),
        }));
    }
    if !search::claims_fat(&window) {
        return Ok(None);
    }
    let volume = FatVolume::recognise(&window, watch)?;
    Ok(volume.filter(begins_here).map(|volume| place(&volume, extent, way, false)))
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
    if fits.contains(&kind) {
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

fn judge_gpt(
    medium: &dyn Medium,
    primary: Option<&gpt::Copy>,
    backup: Option<&gpt::Copy>,
    sector_0: Option<&[super::layout::MbrEntry; 4]>,
    faults: &mut Collector,
) {
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

/// True when an exFAT boot sector, main or backup, stands between the beginning and the table and
/// is not the backup of a volume that begins here.
fn exfat_begins_later(medium: &dyn Medium, volume: &ExfatVolume) -> bool {
    let geometry = volume.believed().geometry;
    let end = geometry.table_place(0);
    (1..end.per(mbr::SECTOR).min(1 << 15)).any(|sector| {
        let start = sector.times(mbr::SECTOR);
        start != geometry.region_bytes() && medium.lenient(start.plus(3), 8).bytes == b"EXFAT   "
    })
}

/// True when a boot sector between the beginning and the tables says that these are its tables:
/// then the medium lost its partition table, and not the volume its boot sector.
fn begins_later(medium: &dyn Medium, bare: &Place, watch: &dyn Watch) -> Result<bool, MediumError> {
    for sector in 1..bare.tables_at.per(mbr::SECTOR) {
        let start = sector.times(mbr::SECTOR);
        let behind = Extent::new(start, medium.len().minus(start));
        let here = claimed(medium, behind, Way::Lost, watch)?;
        if here.is_some_and(|place| place.tables_at == bare.tables_at) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// No table: a bare volume without a boot sector, lost volumes, a stranger, or nothing.
fn without_table(
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
    if let Some(name) = strangers::name(medium) {
        out.strangers.push(Stranger { extent: whole, name });
        return Ok(());
    }
    if let Some(volume) = ExfatVolume::recognise(medium, watch)?
        && !exfat_begins_later(medium, &volume)
    {
        out.volumes.push(exfat_place(&volume, whole, Way::Bare, true));
        return Ok(());
    }
    let volume = FatVolume::recognise(medium, watch)?;
    if let Some(volume) = volume.as_ref().filter(|volume| begins_here(volume)) {
        let bare = place(volume, whole, Way::Bare, true);
        if !begins_later(medium, &bare, watch)? {
            out.volumes.push(bare);
            return Ok(());
        }
    }
    let mut found = search::lost(medium, &[], watch)?;
    if found.is_empty()
        && let Some(volume) = volume
    {
        found.extend(search::around_table(medium, volume.believed().geometry.table_offset(0), watch)?);
    }
    // A volume that begins at byte 0 is a bare one, and needs no table.
    if let Some(first) = found.iter().find(|place| place.extent.offset == 0) {
        out.volumes.push(Place { extent: whole, way: Way::Bare, ..first.clone() });
        return Ok(());
    }
    if found.is_empty() {
        out.entropy = Some(strangers::entropy(medium));
        return Ok(());
    }
    faults.add(Finding::new(&c::TABLE_MISSING, c::TABLE_MISSING.title).at(0, 512).because(
        "Sector 0 lists no volume.",
        if found.len() == 1 {
            "A volume stands behind it.".to_owned()
        } else {
            format!("{} volumes stand behind it.", found.len())
        },
        "Hosts show an empty disk.",
    ));
    for mut place in found {
        place.way_faults.push(&c::TABLE_MISSING);
        out.volumes.push(report_lost(place, &[], faults));
    }
    Ok(())
}

/// True when `lost` begins in front of a listed volume and reaches into it. The entry and what was found
/// behind it are two witnesses, a left beginning is one.
fn reaches_into(lost: &Place, over: &Place, listed: &[Listed]) -> bool {
    over.way == Way::Listed
        && lost.extent.offset < over.extent.offset
        && over.extent.offset < lost.extent.end()
        && listed.iter().any(|entry| entry.extent.offset == over.extent.offset)
}

fn report_older(older: &Place, over: &Place, faults: &mut Collector) {
    let (old, new) = (older.what.title(), over.what.title());
    faults.add(
        Finding::new(&c::OLDER, format!("{old} volume at byte {}: {}", older.extent.offset, c::OLDER.title))
            .at(older.extent.offset, 512)
            .because(
                format!(
                    "By its own beginning it is {} bytes long and reaches past byte {}.",
                    older.bytes, over.extent.offset
                ),
                format!("There the table lists {} volume, and one stands there.", over.what.with_article()),
                format!("Hosts show the {new} volume."),
            ),
    );
}

fn report_lost(mut place: Place, unfilled: &[Extent], faults: &mut Collector) -> Place {
    let class = if unfilled.is_empty() { &c::ENTRY_MISSING } else { &c::WRONG_START };
    // Without a table, that no entry lists it goes without saying.
    if place.way_faults.is_empty() {
        place.way_faults.push(class);
    }
    let mut finding = Finding::new(
        class,
        format!("{} volume at byte {}: {}", place.what.title(), place.extent.offset, class.title),
    )
    .because(
        format!(
            "{} volume of {} bytes begins at byte {}.",
            capital(&place.what.with_article()),
            place.bytes,
            place.extent.offset
        ),
        "A partition entry lists each volume.",
        "Hosts do not see it.",
    );
    finding = match unfilled.first() {
        Some(entry) => finding.at(entry.offset, entry.length),
        None => finding.at(446, 64),
    };
    faults.add(finding.at(place.extent.offset, 512));
    place
}
