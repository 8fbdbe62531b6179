//! Steps that mend findings, written against an overlay.
//!
//! A round surveys the volume as it stands on the overlay, runs the earliest stage that has
//! something to do, and returns; the caller asks for rounds until one does nothing. Stages follow
//! the order in which one structure rests on another: boot sector, table, entries, folders, counts.

mod boot_region;
mod counts;
mod entries;
mod folders;
mod geometry;
mod keep;
mod table;
mod writing;

pub(super) use keep::lost_name;

use super::{FatVolume, boot::Boot, geometry::Believed, survey::Survey};
use crate::{
    medium::{MediumError, Stage},
    places::Places,
    progress::Watch,
    room::Room,
    step::{Choices, Steps},
};
use std::{collections::HashMap, rc::Rc};

/// What the stages work on.
pub(super) struct Job<'j, 'o, 'a, 'w> {
    pub(super) stage: &'j mut Stage<'o, 'a>,
    pub(super) believed: &'j Believed,
    pub(super) survey: Survey,
    pub(super) boot: Boot,
    pub(super) choices: &'j mut Choices,
    pub(super) steps: &'j mut Steps<'w>,
    /// Where the folders that were asked for stand.
    pub(super) folders: HashMap<u32, Rc<Places>>,
    /// Free clusters, once some were asked for.
    pub(super) room: Option<Room>,
}

type Mender = fn(&mut Job<'_, '_, '_, '_>) -> Result<(), MediumError>;

const STAGES: &[(&str, Mender)] = &[
    ("boot", boot_region::mend),
    ("table", table::mend),
    ("entries", entries::mend),
    ("beginnings of folders", folders::begin_again),
    ("lost", keep::mend),
    ("folders", folders::mend),
    ("counts", counts::mend),
];

/// Stages, from the first, that write into the volume's own structures alone.
const ON_STRUCTURES: usize = 2;

/// One round; see the module.
pub(super) fn round(
    volume: &FatVolume,
    stage: &mut Stage<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    let chosen = geometry::chosen(volume, stage, choices);
    let volume = chosen.as_ref().unwrap_or(volume);
    let (survey, boot) = volume.read(stage, watch)?;
    if boot.gone && !volume.believed.content_confirmed() && choices.given("geometry").is_none() {
        choices.doubt();
    }
    // Where nothing confirms the geometry, what it takes for folders and files may be anything.
    let doubted = choices.doubted();
    let mut job = Job {
        stage,
        believed: &volume.believed,
        survey,
        boot,
        choices,
        steps,
        folders: HashMap::new(),
        room: None,
    };
    let safe = if doubted { ON_STRUCTURES } else { STAGES.len() };
    for (name, mend) in STAGES.iter().take(safe) {
        mend(&mut job)?;
        if !job.steps.is_empty() {
            tracing::debug!(stage = name, "a stage of mending changed something");
            return Ok(());
        }
    }
    Ok(())
}
