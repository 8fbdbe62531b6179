//! Writing partition tables back: a lost MBR or single entries of it, and either copy of a GPT from
//! the other.

use super::{
    catalogue as c, extended, gpt,
    layout::{ENTRIES_AT, GptEntry, MbrEntry},
    listed, mbr,
    place::{Place, Scouting, Table, Way},
    rival,
};
use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::{
        choices::Choices,
        step::{Provenance, Step, Steps},
    },
    report::{finding::Entry, wording::counted},
};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

/// What an entry rests on for a volume that lost its beginning.
const GUESSED: &str =
    "tables and folders that were found; where the volume begins in front of them is what is usual";

/// One round: the first thing that has to be written.
pub fn round(
    window: &mut OverlayWindow<'_, '_>,
    seen: &Scouting,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    if seen.member.is_some() {
        return Ok(());
    }
    match seen.table {
        Table::Gpt(false, false) => rebuild(window, seen, steps),
        Table::Gpt(primary, backup) => {
            copies(window, primary, backup, steps)?;
            if steps.is_empty() {
                protection(window, seen.unit, steps)?;
            }
            if steps.is_empty() { relist_gpt(window, seen, steps) } else { Ok(()) }
        }
        Table::Mbr => {
            signature(window, steps)?;
            if steps.is_empty() { entries(window, seen, steps) } else { Ok(()) }
        }
        Table::None => match rival::in_use(seen, choices) {
            Some(listed) => fresh(window, seen, &listed, steps),
            None => Ok(()),
        },
    }
}

/// The signature of an MBR whose entries are there.
fn signature(window: &mut OverlayWindow<'_, '_>, steps: &mut Steps<'_>) -> Result<(), MediumError> {
    let step = Step::new(
        "partition-signature",
        "write the signature 55 AA at the end of sector 0",
        Provenance::Exact,
        "the specification gives it; the entries lead to volumes",
        &[&c::SIGNATURE],
    );
    steps.run(window, step, |window| window.write_at(510, &[0x55, 0xAA]))
}

/// A new MBR for the volumes that were found: those with a link in front of them as a chain, of the others
/// the first four, or three beside a chain.
fn fresh(
    window: &mut OverlayWindow<'_, '_>,
    seen: &Scouting,
    in_use: &[&Place],
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let medium: &dyn Medium = window;
    // One that begins where a table would be needs none.
    let all = || in_use.iter().copied().filter(|place| place.way == Way::Lost && place.extent.offset > 0);
    let logical = all().any(|place| extended::was_logical(medium, None, place, seen.unit));
    let primary = all().filter(|place| !extended::was_logical(medium, None, place, seen.unit));
    let lost: Vec<&Place> = primary.take(if logical { 3 } else { 4 }).collect();
    if lost.is_empty() && !logical {
        return Ok(());
    }
    let guessed = lost.iter().any(|place| place.guessed);
    let mut step = Step::new(
        "partition-table-written",
        format!("write an MBR with {}", counted(lost.len().wide(), "entry", "entries")),
        if guessed { Provenance::Judged } else { Provenance::Derived },
        if guessed { GUESSED } else { "place, length and type of the volumes that were found" },
        &[&c::TABLE_MISSING, &c::ENTRY_MISSING],
    );
    if guessed {
        step = step.or("another byte in front of the tables, where the volume can begin too");
    }
    let table: Vec<u8> =
        lost.iter().flat_map(|place| entry_for(place, seen.unit).as_bytes().to_vec()).collect();
    steps.run(window, step, |window| {
        window.write_at(ENTRIES_AT.wide(), &[0; 64])?;
        window.write_at(ENTRIES_AT.wide(), &table)?;
        window.write_at(510, &[0x55, 0xAA])
    })?;
    extended::mend(window, seen, &mbr::entries(window, 0).unwrap_or([MbrEntry::new_zeroed(); 4]), steps)
}

fn entry_for(place: &Place, unit: u64) -> MbrEntry {
    let kind = place.what.mbr_types().first().copied().unwrap_or(0);
    extended::new_entry(kind, place.extent.offset, place.bytes, unit)
}

/// Entries that are missing, or wrong in place, length or type.
fn entries(
    window: &mut OverlayWindow<'_, '_>,
    seen: &Scouting,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let Some(standing) = mbr::entries(window, 0) else { return Ok(()) };
    if standing.iter().any(|entry| mbr::is_managed(entry.kind)) {
        return Ok(());
    }
    extended::mend(window, seen, &standing, steps)?;
    if !steps.is_empty() {
        return Ok(());
    }
    let entries = mbr::listed(window, &standing, seen.unit);
    for place in &seen.volumes {
        let here = entries.iter().find(|entry| entry.extent.offset == place.extent.offset);
        let fresh = entry_for(place, seen.unit);
        if let Some(entry) = here {
            // Too short for its volume, or past the end of a medium that holds all of the volume.
            let whole = place.extent.offset.plus(place.bytes) <= window.len();
            let short = entry.extent.length < place.bytes || whole && entry.extent.end() > window.len();
            let length: [u8; 4] = fresh.length.get().to_le_bytes();
            if short && !entry.logical {
                let class = if entry.extent.length < place.bytes { &c::WRONG_LENGTH } else { &c::ENTRY_LONG };
                let step = step(class, "partition-length", place);
                steps.run(window, step, |window| window.write_at(entry.entry_at.plus(12), &length))?;
            }
            if !place.what.mbr_types().contains(&entry.kind) {
                let bare = entry.kind & 0x0F;
                let hidden = entry.kind & 0xF0 == 0x10 && place.what.mbr_types().contains(&bare);
                let class = if hidden { &c::HIDDEN } else { &c::WRONG_TYPE };
                let kind = if hidden { bare } else { fresh.kind };
                let step = step(class, "partition-type", place);
                steps.run(window, step, |window| window.write_at(entry.entry_at.plus(4), &[kind]))?;
            }
        } else if place.way == Way::Lost && !extended::was_logical(window, Some(&standing), place, seen.unit)
        {
            relist(window, place, seen, &standing, steps)?;
        }
        if !steps.is_empty() {
            return Ok(());
        }
    }
    Ok(())
}

fn step(class: &'static Entry, name: &'static str, place: &Place) -> Step {
    Step::new(
        name,
        format!(
            "let the partition entry list the {} volume at byte {}, {} bytes long",
            place.what.title(),
            place.extent.offset,
            place.bytes
        ),
        if place.guessed { Provenance::Judged } else { Provenance::Derived },
        if place.guessed { GUESSED } else { "what stands there" },
        &[class],
    )
}

/// Lists a lost volume: in the entry that points nowhere, else in an empty one.
fn relist(
    window: &mut OverlayWindow<'_, '_>,
    place: &Place,
    seen: &Scouting,
    standing: &[MbrEntry; 4],
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let filled = |entry: &MbrEntry| {
        let offset = u64::from(entry.start.get()).times(seen.unit);
        let strangers = seen.strangers.iter().map(|stranger| stranger.extent.offset);
        seen.volumes.iter().map(|v| v.extent.offset).chain(strangers).any(|start| start == offset)
    };
    // An entry that leads to something unknown is none that went astray, unless it leads into this volume.
    let extent = Extent::new(place.extent.offset, place.bytes);
    let medium: &dyn Medium = window;
    let free = |entry: &MbrEntry| {
        let there = extended::extent(0, entry, seen.unit);
        there.overlaps(extent) || there.offset >= medium.len() || listed::is_blank(medium, there)
    };
    let used = |entry: &MbrEntry| entry.kind != 0 && !mbr::is_extended(entry.kind);
    let astray = standing.iter().position(|entry| used(entry) && !filled(entry) && free(entry));
    let empty = standing.iter().position(|entry| entry.kind == 0);
    let Some(number) = astray.or(empty) else { return Ok(()) };
    let class = if astray.is_some() { &c::WRONG_START } else { &c::ENTRY_MISSING };
    let name = if astray.is_some() { "partition-start" } else { "partition-entry-written" };
    let boot = standing.get(number).map_or(0, |entry| entry.boot);
    let entry = MbrEntry { boot, ..entry_for(place, seen.unit) };
    let at = ENTRIES_AT.plus(number.times(16)).wide();
    steps.run(window, step(class, name, place), |window| window.write_at(at, entry.as_bytes()))
}

/// A lost volume's entry, written into the first empty one of both copies.
fn relist_gpt(
    window: &mut OverlayWindow<'_, '_>,
    seen: &Scouting,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let (Some(first), Some(last)) = gpt::copies(window) else { return Ok(()) };
    for place in seen.volumes.iter().filter(|place| place.way == Way::Lost) {
        let mut entries = first.entries.clone();
        if !add_entry(&mut entries, place, first.sector, seen) || entries == first.entries {
            continue;
        }
        let step = step(&c::ENTRY_MISSING, "gpt-entry-written", place);
        steps.run(window, step, |window| {
            for copy in [&first, &last] {
                let mut header = copy.header;
                header.entries_crc = crc32fast::hash(&entries).into();
                header.header_crc = gpt::header_crc(&header).into();
                window.write_at(header.entries_lba.get().times(copy.sector), &entries)?;
                window.write_at(copy.at, header.as_bytes())?;
            }
            Ok(())
        })?;
        if !steps.is_empty() {
            return Ok(());
        }
    }
    Ok(())
}

/// Puts an entry for `place` into one that points nowhere, else into an empty one.
fn add_entry(entries: &mut [u8], place: &Place, sector: u64, seen: &Scouting) -> bool {
    let stands = |offset: u64| {
        seen.volumes.iter().any(|volume| volume.extent.offset == offset && volume.way == Way::Listed)
            || seen.strangers.iter().any(|stranger| stranger.extent.offset == offset)
    };
    let extent = Extent::new(place.extent.offset, place.bytes);
    let mut seed = b"volume".to_vec();
    seed.extend(extent.offset.to_le_bytes());
    seed.extend(extent.length.to_le_bytes());
    let fresh = gpt::new_entry(extent, sector, gpt::made_guid(&seed));
    let overlaps = |raw: &[u8]| {
        GptEntry::read_from_prefix(raw).is_ok_and(|(entry, _)| {
            let first = entry.first.get().times(sector);
            let there = Extent::new(first, entry.last.get().plus(1).times(sector).minus(first));
            !stands(first) && there.overlaps(extent)
        })
    };
    let empty = |raw: &&mut [u8]| raw.iter().all(|byte| *byte == 0);
    if let Some(raw) = entries.chunks_exact_mut(128).find(|raw| !empty(raw) && overlaps(raw)) {
        // Its name, type and GUID are still right; where it points is not.
        let (first, last) = (fresh.first.get(), fresh.last.get());
        if let Ok((mut entry, _)) = GptEntry::read_from_prefix(raw) {
            (entry.first, entry.last) = (first.into(), last.into());
            raw.copy_from_slice(entry.as_bytes());
        }
        return true;
    }
    match entries.chunks_exact_mut(128).find(empty) {
        Some(raw) => raw.copy_from_slice(fresh.as_bytes()),
        None => return false,
    }
    true
}

/// Both copies of a GPT of which only the protective entry is left.
fn rebuild(
    window: &mut OverlayWindow<'_, '_>,
    seen: &Scouting,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let medium: &dyn Medium = window;
    let sector = seen.unit;
    let left = gpt::left_entries(medium, sector);
    let kept = left.is_some();
    let mut entries = left.unwrap_or_else(|| vec![0; 128 * 128]);
    for place in &seen.volumes {
        let listed = entries.chunks_exact(128).any(|raw| {
            GptEntry::read_from_prefix(raw)
                .is_ok_and(|(entry, _)| entry.first.get().times(sector) == place.extent.offset)
        });
        if !listed && !add_entry(&mut entries, place, sector, seen) {
            return Ok(());
        }
    }
    let Some(pieces) = gpt::both_copies(medium.len(), sector, gpt::made_guid(&entries), &entries) else {
        return Ok(());
    };
    let hit = |(at, bytes): &(u64, Vec<u8>)| {
        let piece = Extent::new(*at, bytes.len().wide());
        seen.volumes.iter().any(|place| place.extent.overlaps(piece))
    };
    if seen.volumes.is_empty() && !kept || pieces.iter().any(hit) {
        return Ok(());
    }
    let mut step = Step::new(
        "gpt-written",
        format!("write both copies of a GPT with {}", counted(seen.volumes.len().wide(), "entry", "entries")),
        Provenance::Derived,
        if kept { "the entries that are left" } else { "place and length of the volumes that were found" },
        &[&c::GPT_GONE],
    );
    if !kept {
        step = step.or(
            "names, types and GUIDs of the entries are lost; ones of an everyday volume stand there instead",
        );
    }
    steps.run(window, step, |window| {
        for (at, bytes) in &pieces {
            window.write_at(*at, bytes)?;
        }
        Ok(())
    })
}

/// Writes the damaged copy of a GPT from the whole one.
fn copies(
    window: &mut OverlayWindow<'_, '_>,
    primary: bool,
    backup: bool,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let (first, last) = gpt::copies(window);
    let (source, class, name) = match (primary, backup) {
        (false, true) => (last, &c::GPT_PRIMARY, "gpt-primary-from-backup"),
        (true, false) => (first, &c::GPT_BACKUP, "gpt-backup-from-primary"),
        _ => return Ok(()),
    };
    let Some(source) = source else { return Ok(()) };
    let medium: &dyn Medium = window;
    let disk = medium.len().per(source.sector);
    let entry_sectors = source.entries.len().wide().per_up(source.sector);
    let mut header = source.header;
    if name == "gpt-primary-from-backup" {
        header.my_lba = 1.into();
        header.alternate_lba = source.header.my_lba;
        header.entries_lba = 2.into();
    } else {
        let end = disk.minus(1);
        // The backup belongs into the last sector; one that would overlap the volumes is not written.
        if end.minus(entry_sectors) <= source.header.last_usable.get() {
            return Ok(());
        }
        header.my_lba = end.into();
        header.alternate_lba = 1.into();
        header.entries_lba = end.minus(entry_sectors).into();
    }
    header.header_crc = gpt::header_crc(&header).into();
    let step = Step::new(
        name,
        "write one copy of the GPT from the other",
        Provenance::Exact,
        "the other copy, whose checksums are right",
        &[class],
    );
    let (at, entries_at) =
        (header.my_lba.get().times(source.sector), header.entries_lba.get().times(source.sector));
    let moved = source.header.alternate_lba.get() != header.my_lba.get();
    steps.run(window, step, |window| {
        window.write_at(entries_at, &source.entries)?;
        window.write_at(at, header.as_bytes())?;
        if moved && name == "gpt-backup-from-primary" {
            let mut first = source.header;
            first.alternate_lba = header.my_lba;
            first.header_crc = gpt::header_crc(&first).into();
            window.write_at(source.at, first.as_bytes())?;
        }
        Ok(())
    })
}

/// The protective MBR (UEFI 2.10, 5.2.3): one entry of type EE over the whole disk.
fn protection(
    window: &mut OverlayWindow<'_, '_>,
    unit: u64,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let medium: &dyn Medium = window;
    let sectors = medium.len().per(unit).minus(1).narrow();
    let there = mbr::entries(window, 0).is_some_and(|entries| entries.iter().any(|entry| entry.kind == 0xEE));
    if there {
        return Ok(());
    }
    let mut entry = MbrEntry::new_zeroed();
    entry.start_chs = [0, 2, 0];
    entry.kind = 0xEE;
    entry.end_chs = [0xFF, 0xFF, 0xFF];
    entry.start = 1.into();
    entry.length = sectors.into();
    let step = Step::new(
        "gpt-protection-written",
        "write the protective MBR",
        Provenance::Derived,
        "the specification gives it whole",
        &[&c::GPT_PROTECTION],
    );
    steps.run(window, step, |window| {
        window.write_at(ENTRIES_AT.wide(), &[0; 64])?;
        window.write_at(ENTRIES_AT.wide(), entry.as_bytes())?;
        window.write_at(510, &[0x55, 0xAA])
    })
}
