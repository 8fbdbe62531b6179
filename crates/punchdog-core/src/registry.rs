//! The families by name: the one place that lists them.

use crate::{
    exfat,
    family::Volume,
    fat,
    medium::{Medium, MediumError},
    ntfs,
    progress::Watch,
};

/// What the medium holds, if it is one of the file systems that Punchdog mends, also when its
/// boot sector is gone. `None` when nothing speaks for one.
pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Box<dyn Volume>>, MediumError> {
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
    if let Some(volume) = exfat::ExfatVolume::recognise(medium, watch)? {
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

/// NTFS at first glance, but for a volume that was formatted as something else since: its records, and the copy of its
/// boot sector, may all be there still.
pub(crate) fn ntfs_at_glance(medium: &dyn Medium, watch: &dyn Watch) -> Option<ntfs::NtfsVolume> {
    ntfs::NtfsVolume::glance(medium, watch).filter(|_| !is_marked(medium))
}

/// What is taken for a FAT without a word from a boot sector, and not borne out, may be an NTFS that lost more.
pub(crate) fn is_weak(medium: &dyn Medium, fat: Option<&fat::FatVolume>) -> bool {
    fat.is_none_or(|volume| volume.believed().weak() && !is_marked(medium))
}

/// The first sectors hold what only hosts of FAT or exFAT leave there.
fn is_marked(medium: &dyn Medium) -> bool {
    exfat::geometry::marked(medium) || fat::geometry::marked(medium)
}
