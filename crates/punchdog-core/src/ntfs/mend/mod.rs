//! Steps that mend what check finds, written against the overlay.
//!
//! One round does the first stage that has something to do; then everything is read again, save after the boot sector
//! where the geometry stays. The order is that of dependence: without the geometry nothing is found, without the first
//! records no other, and bitmaps can only be counted when the records are what they shall be.

mod aside;
mod beginning;
mod bitmaps;
mod boot_sector;
mod by_content;
mod closing;
mod displaced;
mod doubled;
mod ending;
mod fields;
mod folders;
mod found;
mod in_pieces;
mod lists;
mod lost;
mod lost_files;
mod orphans;
mod rebuild;
mod records;
mod room;
mod runs;
mod secured;
mod security;
mod shared;
mod system;
mod tables;
mod views;
mod writing;

pub(super) use aside::set_aside;
pub(super) use found::{LostContent, lost_content};

use super::{
    NtfsSurvey, NtfsVolume,
    boot::{self, Boot},
    geometry::Believed,
    survey::Survey,
};
use crate::{
    medium::{MediumError, OverlayWindow},
    mending::{choices::Choices, stages::until_changed, step::Steps},
    progress::Watch,
};
use std::ops::Range;

/// What the stages work on.
pub(super) struct Job<'j, 'o, 'a, 'w> {
    pub(super) window: &'j mut OverlayWindow<'o, 'a>,
    pub(super) believed: &'j Believed,
    pub(super) survey: &'j Survey,
    pub(super) boot: &'j Boot,
    pub(super) choices: &'j mut Choices,
    pub(super) steps: &'j mut Steps<'w>,
}

type Mender = fn(&mut Job<'_, '_, '_, '_>) -> Result<(), MediumError>;

const STAGES: &[(&str, Mender)] = &[
    ("boot", boot_sector::mend),
    ("system", system::mend),
    ("displaced", displaced::mend),
    ("names", orphans::named_by_entries),
    ("records", records::mend),
    ("runs", runs::mend),
    ("lists", lists::mend),
    ("ending", ending::mend),
    ("shared", shared::mend),
    ("tables", tables::mend),
    ("security", security::mend),
    ("views", views::mend),
    ("lost files", lost_files::mend),
    ("orphans", orphans::mend),
    ("doubled", doubled::mend),
    ("folders", folders::mend),
    ("lost", lost::mend),
    ("bitmaps", bitmaps::mend),
    ("mirror", system::mirror),
    ("log", closing::log),
    ("closing", closing::mend),
];

/// Stages that can be done where a part of $MFT is not found.
const SEEN_IN_PART: usize = 3;

/// One round; see the module.
pub(super) fn round(
    seen: &mut NtfsSurvey,
    window: &mut OverlayWindow<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    run(seen, window, choices, steps, 0..1)?;
    if !steps.is_empty() {
        // The rest was read by the geometry alone, so that where it stays, so does the rest.
        let now = NtfsVolume::recognise(window, watch)?;
        let Some(now) = now.filter(|now| now.believed.geometry == seen.believed.geometry) else {
            return Ok(());
        };
        seen.boot = boot::judge(window, &now.believed);
        seen.believed = now.believed;
        steps.go_on();
    }
    // What folders and bitmaps say of records that are not seen is not held against them; and what was found by number
    // alone is left as it is until record 0 has it.
    let mft = &seen.survey.mft;
    let stages = if mft.missing > 0 || mft.refound > 0 { SEEN_IN_PART } else { STAGES.len() };
    run(seen, window, choices, steps, 1..stages)
}

/// Runs these stages until one has done something.
fn run(
    seen: &mut NtfsSurvey,
    window: &mut OverlayWindow<'_, '_>,
    choices: &mut Choices,
    steps: &mut Steps<'_>,
    stages: Range<usize>,
) -> Result<(), MediumError> {
    let NtfsSurvey { believed, survey, boot } = seen;
    let mut job = Job { window, believed, survey, boot, choices, steps };
    until_changed(STAGES.get(stages).unwrap_or(&[]), |mend| {
        mend(&mut job)?;
        Ok(!job.steps.is_empty())
    })
}
