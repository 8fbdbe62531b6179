//! Measuring a volume or a partition table: what a plan promises, and what apply holds against it.

use crate::{
    arith::Sat,
    family::{self, Kind, Tally, Wanted},
    finding::{Finding, Weight},
    inventory::Inventory,
    medium::{Extent, Medium, Overlay, Stage, Window},
    partition,
    plan::PlanError,
    progress::Watch,
    step::{Choices, Steps},
};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// What a plan mends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// The volume in this range of the image.
    Volume(Extent),
    /// The partition table.
    Table,
}

/// What one examination of a volume comes to; equal for the overlay and for the copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Measured {
    /// Nothing weighs more than a remark.
    pub sound: bool,
    /// Findings left, by code, remarks left out.
    pub findings: BTreeMap<String, u64>,
    /// Files by state.
    pub files: Tally,
    /// A digest of all paths, sizes, states and places.
    pub inventory: String,
    /// Per host: mounts for reading and for writing.
    pub mounts: BTreeMap<String, (bool, bool)>,
}

/// Examines the subject, and lists its files.
pub fn measure(
    medium: &dyn Medium,
    subject: Subject,
    watch: &dyn Watch,
) -> Result<(Measured, Inventory), PlanError> {
    match subject {
        Subject::Volume(place) => measure_volume(medium, place, watch),
        Subject::Table => Ok((measure_table(medium, watch)?, Inventory::default())),
    }
}

fn faults(findings: &[Finding]) -> BTreeMap<String, u64> {
    let mut faults = BTreeMap::new();
    for finding in findings.iter().filter(|f| f.weight != Weight::Remark) {
        let sum = faults.entry(finding.entry.code.to_owned()).or_insert(0_u64);
        *sum = sum.plus(finding.count);
    }
    faults
}

fn measure_volume(
    medium: &dyn Medium,
    place: Extent,
    watch: &dyn Watch,
) -> Result<(Measured, Inventory), PlanError> {
    let window = Window::new(medium, place);
    let volume = family::recognise(&window, watch)?.ok_or(PlanError::NoVolume)?;
    let seen = volume.examine(&window, watch)?;
    let inventory = Inventory::new(volume.files(&window, Wanted { deleted: false, system: true }, watch)?);
    let mounts = volume
        .forecast(&window, 512)
        .into_iter()
        .map(|host| (host.host.to_owned(), (host.mounts_read_only, host.mounts_read_write)))
        .collect();
    let measured = Measured {
        sound: seen.sound(),
        findings: faults(&seen.findings),
        files: seen.tally,
        inventory: inventory.digest(),
        mounts,
    };
    Ok((measured, inventory))
}

fn measure_table(medium: &dyn Medium, watch: &dyn Watch) -> Result<Measured, PlanError> {
    let seen = partition::scout(medium, true, watch)?;
    let mut hash = Sha256::new();
    for place in &seen.volumes {
        hash.update(place.what.name());
        hash.update(place.extent.offset.to_le_bytes());
        hash.update(place.bytes.to_le_bytes());
        hash.update(place.way.name());
    }
    let findings = faults(&seen.findings);
    Ok(Measured {
        sound: findings.is_empty(),
        findings,
        files: Tally::default(),
        inventory: hex::encode(hash.finalize()),
        mounts: BTreeMap::new(),
    })
}

/// One round of mending on the overlay; the kind of the volume, where the subject is one.
pub(crate) fn mend_once(
    overlay: &mut Overlay<'_>,
    subject: Subject,
    choices: &mut Choices,
    done: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<Option<Kind>, PlanError> {
    match subject {
        Subject::Volume(place) => {
            let volume = {
                let window = Window::new(overlay, place);
                family::recognise(&window, watch)?.ok_or(PlanError::NoVolume)?
            };
            volume.mend(&mut Stage::new(overlay, place), choices, done, watch)?;
            Ok(Some(volume.kind()))
        }
        Subject::Table => {
            let seen = partition::scout(overlay, true, watch)?;
            let whole = Extent::new(0, overlay.len());
            partition::round(&mut Stage::new(overlay, whole), &seen, done)?;
            Ok(None)
        }
    }
}
