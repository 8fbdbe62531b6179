//! Writing partition tables back: a lost MBR or single entries of it, and either copy of a GPT from
//! the other.

use super::{
    catalogue as c, gpt,
    layout::{ENTRIES_AT, MbrEntry},
    mbr::{self, SECTOR},
    scout::{Place, Scouting, Table, Way},
};
use crate::{
    arith::Sat,
    finding::Entry,
    medium::{Medium, MediumError, Stage},
    step::{Provenance, Step, Steps},
    wording::counted,
};
use zerocopy::{FromZeros, IntoBytes};

/// One round: the first thing that has to be written.
pub fn round(stage: &mut Stage<'_, '_>, seen: &Scouting, steps: &mut Steps<'_>) -> Result<(), MediumError> {
    match seen.table {
        Table::Gpt(primary, backup) => {
            copies(stage, primary, backup, steps)?;
            if steps.is_empty() { protection(stage, steps) } else { Ok(()) }
        }
        Table::Mbr => entries(stage, seen, steps),
        Table::None => fresh(stage, seen, steps),
    }
}

/// A new MBR for the first four volumes that were found.
fn fresh(stage: &mut Stage<'_, '_>, seen: &Scouting, steps: &mut Steps<'_>) -> Result<(), MediumError> {
    let lost: Vec<&Place> = seen.volumes.iter().filter(|place| place.way == Way::Lost).take(4).collect();
    if lost.is_empty() {
        return Ok(());
    }
    let step = Step::new(
        "partition-table-written",
        format!("write an MBR with {}", counted(lost.len().wide(), "entry", "entries")),
        Provenance::Derived,
        "place, length and type of the volumes that were found",
        &[&c::TABLE_MISSING, &c::ENTRY_MISSING],
    );
    let table: Vec<u8> = lost.iter().flat_map(|place| entry_for(place).as_bytes().to_vec()).collect();
    steps.run(stage, step, |stage| {
        stage.write_at(ENTRIES_AT.wide(), &[0; 64])?;
        stage.write_at(ENTRIES_AT.wide(), &table)?;
        stage.write_at(510, &[0x55, 0xAA])
    })
}

fn entry_for(place: &Place) -> MbrEntry {
    let mut entry = MbrEntry::new_zeroed();
    // CHS values that say "beyond what CHS can tell" (UEFI 2.10, 5.2.1): hosts go by the LBA.
    entry.start_chs = [0xFE, 0xFF, 0xFF];
    entry.end_chs = [0xFE, 0xFF, 0xFF];
    entry.kind = place.what.mbr_types().first().copied().unwrap_or(0);
    entry.start = place.extent.offset.per(SECTOR).narrow().into();
    entry.length = place.bytes.per(SECTOR).narrow().into();
    entry
}

/// Entries that are missing, or wrong in place, length or type.
fn entries(stage: &mut Stage<'_, '_>, seen: &Scouting, steps: &mut Steps<'_>) -> Result<(), MediumError> {
    let Some(standing) = mbr::entries(stage, 0) else { return Ok(()) };
    let listed = mbr::listed(stage, &standing);
    for place in &seen.volumes {
        let here = listed.iter().find(|entry| entry.extent.offset == place.extent.offset);
        let fresh = entry_for(place);
        if let Some(entry) = here {
            let short = entry.extent.length < place.bytes;
            let length: [u8; 4] = fresh.length.get().to_le_bytes();
            if short && !entry.logical {
                let step = step(&c::WRONG_LENGTH, "partition-length", place);
                steps.run(stage, step, |stage| stage.write_at(entry.entry_at.plus(12), &length))?;
            }
            if !place.what.mbr_types().contains(&entry.kind) {
                let bare = entry.kind & 0x0F;
                let hidden = entry.kind & 0xF0 == 0x10 && place.what.mbr_types().contains(&bare);
                let class = if hidden { &c::HIDDEN } else { &c::WRONG_TYPE };
                let kind = if hidden { bare } else { fresh.kind };
                let step = step(class, "partition-type", place);
                steps.run(stage, step, |stage| stage.write_at(entry.entry_at.plus(4), &[kind]))?;
            }
        } else if place.way == Way::Lost {
            relist(stage, place, seen, &standing, steps)?;
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
        Provenance::Derived,
        "what stands there",
        &[class],
    )
}

/// Lists a lost volume: in the entry that points nowhere, else in an empty one.
fn relist(
    stage: &mut Stage<'_, '_>,
    place: &Place,
    seen: &Scouting,
    standing: &[MbrEntry; 4],
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let filled = |entry: &MbrEntry| {
        let offset = u64::from(entry.start.get()).times(SECTOR);
        let strangers = seen.strangers.iter().map(|stranger| stranger.extent.offset);
        seen.volumes.iter().map(|v| v.extent.offset).chain(strangers).any(|start| start == offset)
    };
    let astray = standing.iter().position(|e| e.kind != 0 && !mbr::is_extended(e.kind) && !filled(e));
    let empty = standing.iter().position(|entry| entry.kind == 0);
    let Some(number) = astray.or(empty) else { return Ok(()) };
    let class = if astray.is_some() { &c::WRONG_START } else { &c::ENTRY_MISSING };
    let name = if astray.is_some() { "partition-start" } else { "partition-entry-written" };
    let boot = standing.get(number).map_or(0, |entry| entry.boot);
    let entry = MbrEntry { boot, ..entry_for(place) };
    let at = ENTRIES_AT.plus(number.times(16)).wide();
    steps.run(stage, step(class, name, place), |stage| stage.write_at(at, entry.as_bytes()))
}

/// Writes the damaged copy of a GPT from the whole one.
fn copies(
    stage: &mut Stage<'_, '_>,
    primary: bool,
    backup: bool,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let (first, last) = gpt::copies(stage);
    let (source, class, name) = match (primary, backup) {
        (false, true) => (last, &c::GPT_PRIMARY, "gpt-primary-from-backup"),
        (true, false) => (first, &c::GPT_BACKUP, "gpt-backup-from-primary"),
        _ => return Ok(()),
    };
    let Some(source) = source else { return Ok(()) };
    let medium: &dyn Medium = stage;
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
    steps.run(stage, step, |stage| {
        stage.write_at(entries_at, &source.entries)?;
        stage.write_at(at, header.as_bytes())?;
        if moved && name == "gpt-backup-from-primary" {
            let mut first = source.header;
            first.alternate_lba = header.my_lba;
            first.header_crc = gpt::header_crc(&first).into();
            stage.write_at(source.at, first.as_bytes())?;
        }
        Ok(())
    })
}

/// The protective MBR (UEFI 2.10, 5.2.3): one entry of type EE over the whole disk.
fn protection(stage: &mut Stage<'_, '_>, steps: &mut Steps<'_>) -> Result<(), MediumError> {
    let medium: &dyn Medium = stage;
    let sectors = medium.len().per(SECTOR).minus(1).narrow();
    let there = mbr::entries(stage, 0).is_some_and(|entries| entries.iter().any(|entry| entry.kind == 0xEE));
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
    steps.run(stage, step, |stage| {
        stage.write_at(ENTRIES_AT.wide(), &[0; 64])?;
        stage.write_at(ENTRIES_AT.wide(), entry.as_bytes())?;
        stage.write_at(510, &[0x55, 0xAA])
    })
}
