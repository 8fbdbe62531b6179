//! The families by name: the one place that lists them.

use crate::{
    cluster::traces::{Grid, Traces},
    exfat,
    family::{Kind, Volume, Wanted},
    fat,
    files::record::{FileRecord, State},
    impaired::Impaired,
    medium::{Medium, MediumError},
    ntfs,
    progress::Watch,
};
use std::ops::ControlFlow;

/// What the medium holds, if it is one of the file systems that Punchdog mends, also when its
/// boot sector is gone. `None` when nothing speaks for one.
pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Box<dyn Volume>>, MediumError> {
    Ok(family(medium, watch)?.map(|volume| {
        let boxed: Box<dyn Volume> = Box::new(Impaired::new(volume));
        boxed
    }))
}

/// The same, without what all families have in common on a medium that fails in places.
pub(crate) fn family(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Box<dyn Volume>>, MediumError> {
    // NTFS where something tells of it at first glance; where only its records do, all of the medium has to be
    // searched, and that comes last.
    if let Some(volume) = ntfs_at_glance(medium, watch) {
        // A boot sector that leads to no record may have lost its way: the records are looked for.
        let found = if volume.believed().borne_out() > 0 {
            None
        } else {
            ntfs::NtfsVolume::recognise(medium, watch)?
        };
        return Ok(Some(Box::new(found.unwrap_or(volume))));
    }
    // exFAT before FAT: what its volumes have in their first sectors is nothing that FAT has, and the
    // reverse; but the search for a lost FAT is the less particular.
    if let Some(volume) = exfat_here(medium, watch)? {
        return Ok(Some(Box::new(volume)));
    }
    let fat = fat::FatVolume::recognise(medium, watch)?;
    if is_weak(medium, fat.as_ref())
        && let Some(volume) = ntfs::NtfsVolume::recognise(medium, watch)?
    {
        return Ok(Some(Box::new(volume)));
    }
    Ok(fat.map(|volume| {
        let boxed: Box<dyn Volume> = Box::new(volume);
        boxed
    }))
}

/// The files of file systems that were on the medium before `live`, whose clusters stand so, or before something else;
/// `medium` has what the live one has nothing at. With each the name of its file system.
pub fn beneath(
    medium: &dyn Medium,
    traces: &Traces,
    live: Option<(Kind, Grid)>,
    watch: &dyn Watch,
) -> Result<Vec<(&'static str, FileRecord)>, MediumError> {
    let mut records = Vec::new();
    // Records say where they stand; folders of FAT and entry sets do with one another.
    if let Some(volume) = ntfs::NtfsVolume::recognise(medium, watch)? {
        let mut survey = volume.survey(medium, watch)?;
        survey.each_file(medium, Wanted { deleted: true, system: false }, &mut |file| {
            // What nothing names is found by its content.
            let nameless = file.state == State::Orphan && file.place == 0;
            if !file.folder && !nameless {
                records.push(("NTFS", file));
            }
            ControlFlow::Continue(())
        });
    }
    let own = |exfat: bool| {
        live.filter(|(kind, _)| *kind != Kind::Ntfs && (*kind == Kind::Exfat) == exfat).map(|(_, grid)| grid)
    };
    records.extend(fat::beneath::files(medium, traces, own(false)).into_iter().map(|file| ("FAT", file)));
    records.extend(exfat::beneath::files(medium, traces, own(true)).into_iter().map(|file| ("exFAT", file)));
    Ok(records)
}

/// NTFS at first glance, but for a volume that was formatted as something else since: its records, and the copy of its
/// boot sector, may all be there still.
pub(crate) fn ntfs_at_glance(medium: &dyn Medium, watch: &dyn Watch) -> Option<ntfs::NtfsVolume> {
    ntfs::NtfsVolume::glance(medium, watch).filter(|_| !is_marked(medium))
}

/// An exFAT; one that no boot region tells of is less than a FAT whose boot sector leads to its tables: what was found may be
/// of a volume further behind.
pub(crate) fn exfat_here(
    medium: &dyn Medium,
    watch: &dyn Watch,
) -> Result<Option<exfat::ExfatVolume>, MediumError> {
    let found = exfat::ExfatVolume::recognise(medium, watch)?;
    let alone =
        found.as_ref().is_some_and(|volume| volume.believed().origin == exfat::geometry::Origin::Derived);
    if !alone || exfat::geometry::marked(medium) || !fat::geometry::marked(medium) {
        return Ok(found);
    }
    let fat = fat::FatVolume::recognise(medium, watch)?;
    let told = fat.is_some_and(|volume| volume.believed().origin != fat::geometry::Origin::Derived);
    Ok(found.filter(|_| !told))
}

/// What is taken for a FAT without a word from a boot sector, and not borne out, may be an NTFS that lost more.
pub(crate) fn is_weak(medium: &dyn Medium, fat: Option<&fat::FatVolume>) -> bool {
    fat.is_none_or(|volume| volume.believed().weak() && !is_marked(medium))
}

/// The first sectors hold what only hosts of FAT or exFAT leave there.
fn is_marked(medium: &dyn Medium) -> bool {
    exfat::geometry::marked(medium) || fat::geometry::marked(medium)
}
