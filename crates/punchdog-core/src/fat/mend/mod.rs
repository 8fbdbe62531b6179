//! Steps that mend findings, written against an overlay.
//!
//! A round works on a survey of the volume as it stands on the overlay, runs the earliest stage that has
//! something to do, and returns; the caller asks for rounds until one does nothing. After the boot sector
//! it goes on where the geometry stays. Stages follow the order in which one structure rests on another:
//! boot sector, table, entries, folders, counts.

mod aside;
mod boot_region;
mod counts;
mod entries;
mod folders;
mod geometry;
mod joined;
mod keep;
mod table;
mod writing;

pub(super) use aside::set_aside;
pub(super) use keep::lost_name;

use super::{FatSurvey, FatVolume, boot::Boot, geometry::Believed, survey::Survey};
use crate::{
    cluster::{free::Room, places::Places},
    medium::{MediumError, OverlayWindow},
    mending::{choices::Choices, stages::until_changed, step::Steps},
    progress::Watch,
};
use std::{collections::HashMap, ops::Range, rc::Rc};

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
    seen: &mut FatSurvey,
    window: &mut OverlayWindow<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    let volume = FatVolume { believed: seen.believed.clone() };
    if let Some(chosen) = geometry::chosen(&volume, window, choices) {
        // What was surveyed is not what was chosen.
        let mut seen = chosen.read(window, watch)?;
        doubt(&seen, choices);
        return run(&mut seen, window, choices, steps, 0..STAGES.len());
    }
    doubt(seen, choices);
    run(seen, window, choices, steps, 0..1)?;
    if !steps.is_empty() {
        // Tables and folders were read by the geometry alone, so that where it stays, so do they.
        let now = FatVolume::recognise(window, watch)?;
        let Some(now) = now.filter(|now| now.believed.geometry == seen.believed.geometry) else {
            return Ok(());
        };
        seen.believed = now.believed;
        seen.boot = super::judged(window, &seen.believed, &mut seen.survey);
        steps.go_on();
    }
    run(seen, window, choices, steps, 1..STAGES.len())
}

/// Notes where nothing confirms the geometry.
fn doubt(seen: &FatSurvey, choices: &mut Choices) {
    if seen.boot.gone && !seen.believed.content_confirmed() && choices.given("geometry").is_none() {
        choices.doubt();
    }
}

/// Runs these stages until one has done something.
fn run(
    seen: &mut FatSurvey,
    window: &mut OverlayWindow<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    stages: Range<usize>,
) -> Result<(), MediumError> {
    // Where nothing confirms the geometry, what it takes for folders and files may be anything.
    let safe = if choices.doubted() { ON_STRUCTURES } else { STAGES.len() };
    let FatSurvey { believed, survey, boot } = seen;
    let mut job = Job { window, believed, survey, boot, choices, steps, folders: HashMap::new(), room: None };
    until_changed(STAGES.get(stages.start..safe.min(stages.end)).unwrap_or(&[]), |mend| {
        mend(&mut job)?;
        Ok(!job.steps.is_empty())
    })
}
