//! Steps that mend what check finds, written against the overlay.
//!
//! One round does the first stage that has something to do; then everything is read again, save after the
//! boot regions where geometry and flags stay. The
//! order is that of dependence: without a boot region nothing is found, without the root's bitmap
//! nothing is known to be free, without whole sets no chain has its length.

mod aside;
mod bits;
mod boot_region;
mod chains;
mod counts;
mod files;
mod folders;
mod hidden;
mod joined;
mod keep;
mod names;
mod root;
mod sets;
mod writing;

use super::{
    ExfatSurvey, ExfatVolume,
    boot::{self, Boot},
    geometry::Believed,
    survey::Survey,
};
use crate::{
    cluster::{free::Room, places::Places},
    medium::{MediumError, OverlayWindow},
    mending::{choices::Choices, stages::until_changed, step::Steps},
    progress::Watch,
};
use std::{collections::HashMap, ops::Range, rc::Rc};

pub(super) use aside::set_aside;
pub(super) use keep::lost_name;

/// What the stages work on.
pub(super) struct Job<'j, 'o, 'a, 'w> {
    pub(super) window: &'j mut OverlayWindow<'o, 'a>,
    pub(super) believed: &'j Believed,
    pub(super) survey: &'j mut Survey,
    pub(super) boot: &'j Boot,
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
    ("sets", sets::sets),
    ("chains", chains::chains),
    ("lost", keep::mend),
    ("folders", folders::folders),
    ("bitmap", root::bitmap_bits),
    ("counts", counts::mend),
    ("hidden", hidden::mend),
];

/// One round; see the module.
pub(super) fn round(
    seen: &mut ExfatSurvey,
    window: &mut OverlayWindow<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    run(seen, window, choices, steps, 0..1)?;
    if !steps.is_empty() {
        // The rest was read by the geometry and the flags alone, so that where these stay, so does it.
        let now = ExfatVolume::recognise(window, watch)?;
        let Some(now) = now.filter(|now| now.believed.geometry == seen.believed.geometry) else {
            return Ok(());
        };
        let boot = boot::judge(window, &now.believed);
        if boot.flags != seen.boot.flags {
            return Ok(());
        }
        (seen.believed, seen.boot) = (now.believed, boot);
        steps.go_on();
    }
    run(seen, window, choices, steps, 1..STAGES.len())
}

/// Runs these stages until one has done something.
fn run(
    seen: &mut ExfatSurvey,
    window: &mut OverlayWindow<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    stages: Range<usize>,
) -> Result<(), MediumError> {
    let ExfatSurvey { believed, survey, boot } = seen;
    let mut job = Job { window, believed, survey, boot, choices, steps, folders: HashMap::new(), room: None };
    until_changed(STAGES.get(stages).unwrap_or(&[]), |mend| {
        mend(&mut job)?;
        Ok(!job.steps.is_empty())
    })
}
