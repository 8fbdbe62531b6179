//! The families by name: the one place that lists them.

use crate::{
    exfat,
    family::Volume,
    fat,
    medium::{Medium, MediumError},
    progress::Watch,
};

/// What the medium holds, if it is one of the file systems that Punchdog mends, also when its
/// boot sector is gone. `None` when nothing speaks for one.
pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Box<dyn Volume>>, MediumError> {
    // exFAT first: what its volumes have in their first sectors is nothing that FAT has, and the
    // reverse; but the search for a lost FAT is the less particular.
    if let Some(volume) = exfat::ExfatVolume::recognise(medium, watch)? {
        return Ok(Some(Box::new(volume)));
    }
    Ok(fat::FatVolume::recognise(medium, watch)?.map(|volume| {
        let boxed: Box<dyn Volume> = Box::new(volume);
        boxed
    }))
}
