//! Steps that mend what check finds, written against the overlay.
//!
//! One round does the first stage that has something to do; then everything is read again. The
//! order is that of dependence: without a boot region nothing is found, without the root's bitmap
//! nothing is known to be free, without whole sets no chain has its length.

mod boot_region;
mod counts;
mod files;
mod hidden;
mod keep;
mod names;
mod root;
mod writing;

use super::{ExfatVolume, boot::Boot, geometry::Believed, survey::Survey};
use crate::{
    medium::{MediumError, Stage},
    places::Places,
    progress::Watch,
    room::Room,
    step::{Choices, Steps},
};
use std::{collections::HashMap, rc::Rc};

pub(super) use keep::lost_name;

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
    ("root", root::mend),
    ("sets", files::sets),
    ("chains", files::chains),
    ("lost", keep::mend),
    ("folders", files::folders),
    ("bitmap", root::bitmap_bits),
    ("counts", counts::mend),
    ("hidden", hidden::mend),
];

/// One round; see the module.
pub(super) fn round(
    volume: &ExfatVolume,
    stage: &mut Stage<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    let (survey, boot) = volume.read(stage, watch)?;
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
    for (name, mend) in STAGES {
        mend(&mut job)?;
        if !job.steps.is_empty() {
            tracing::debug!(stage = name, "a stage of mending changed something");
            return Ok(());
        }
    }
    Ok(())
}
