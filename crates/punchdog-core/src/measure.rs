//! Measuring a volume, a partition table or a whole medium: what a plan promises, and what apply holds
//! against it.

use crate::{
    arith::Sat,
    family::{self, Kind, Tally, Wanted},
    finding::{Finding, Weight},
    inventory::Inventory,
    medium::{Extent, Medium, Overlay, Stage, Window},
    partition::{self, Scouting},
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
    /// The partition table and every volume.
    Medium,
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
    /// Per host: mounts for reading and for writing; every volume, where there are several.
    pub mounts: BTreeMap<String, (bool, bool)>,
    /// Each volume, where the subject is a whole medium.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub volumes: Vec<MeasuredVolume>,
}

/// One volume of a whole medium, as measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MeasuredVolume {
    /// Its file system.
    pub kind: Kind,
    /// Where it begins in the image.
    pub offset: u64,
    /// Bytes that it says it has.
    pub bytes: u64,
    /// Nothing in it weighs more than a remark.
    pub sound: bool,
    /// Files by state.
    pub files: Tally,
    /// Per host: mounts for reading and for writing.
    pub mounts: BTreeMap<String, (bool, bool)>,
}

/// The files of one volume, with where it begins in the image.
#[derive(Debug)]
pub struct Part {
    /// Its file system.
    pub kind: Kind,
    /// Where the volume begins.
    pub offset: u64,
    /// Its files.
    pub files: Inventory,
    /// A host could reach its files.
    pub reached: bool,
}

/// Examines the subject, and lists the files of each volume in it.
pub fn measure(
    medium: &dyn Medium,
    subject: Subject,
    watch: &dyn Watch,
) -> Result<(Measured, Vec<Part>), PlanError> {
    match subject {
        Subject::Volume(place) => {
            let (measured, files, kind) = measure_volume(medium, place, watch)?;
            let reached = measured.mounts.get("linux").is_none_or(|(read, _)| *read);
            Ok((measured, vec![Part { kind, offset: place.offset, files, reached }]))
        }
        Subject::Table => Ok((measure_table(&partition::scout(medium, true, watch)?), Vec::new())),
        Subject::Medium => measure_all(medium, watch),
    }
}

/// The table and each volume, and what they come to together.
fn measure_all(medium: &dyn Medium, watch: &dyn Watch) -> Result<(Measured, Vec<Part>), PlanError> {
    let seen = partition::scout(medium, true, watch)?;
    let mut all = measure_table(&seen);
    let mut hash = Sha256::new();
    hash.update(&all.inventory);
    let mut parts = Vec::new();
    for place in seen.volumes.iter().filter(|place| place.what.is_mended()) {
        let (measured, files, kind) = measure_volume(medium, place.extent, watch)?;
        let reaches = |host: &str| place.not_found_by(host).is_none();
        let mounts: BTreeMap<String, (bool, bool)> = measured
            .mounts
            .iter()
            .map(|(host, (read, write))| (host.clone(), (*read && reaches(host), *write && reaches(host))))
            .collect();
        for (host, (read, write)) in &mounts {
            let sum = all.mounts.entry(host.clone()).or_insert((true, true));
            *sum = (sum.0 && *read, sum.1 && *write);
        }
        all.sound &= measured.sound;
        all.files.add(&measured.files);
        for (code, count) in &measured.findings {
            let sum = all.findings.entry(code.clone()).or_insert(0);
            *sum = sum.plus(*count);
        }
        hash.update(&measured.inventory);
        let reached = mounts.get("linux").is_none_or(|(read, _)| *read);
        all.volumes.push(MeasuredVolume {
            kind,
            offset: place.extent.offset,
            bytes: place.bytes,
            sound: measured.sound,
            files: measured.files,
            mounts,
        });
        parts.push(Part { kind, offset: place.extent.offset, files, reached });
    }
    all.inventory = hex::encode(hash.finalize());
    Ok((all, parts))
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
) -> Result<(Measured, Inventory, Kind), PlanError> {
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
        volumes: Vec::new(),
    };
    Ok((measured, inventory, volume.kind()))
}

fn measure_table(seen: &Scouting) -> Measured {
    let mut hash = Sha256::new();
    for place in &seen.volumes {
        hash.update(place.what.name());
        hash.update(place.extent.offset.to_le_bytes());
        hash.update(place.bytes.to_le_bytes());
        hash.update(place.way.name());
    }
    let findings = faults(&seen.findings);
    Measured {
        sound: findings.is_empty(),
        findings,
        files: Tally::default(),
        inventory: hex::encode(hash.finalize()),
        mounts: BTreeMap::new(),
        volumes: Vec::new(),
    }
}

/// One round of mending on the overlay.
pub(crate) fn mend_once(
    overlay: &mut Overlay<'_>,
    subject: Subject,
    choices: &mut Choices,
    done: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), PlanError> {
    match subject {
        Subject::Volume(place) => mend_volume(overlay, place, choices, done, watch),
        Subject::Table => mend_table(overlay, choices, done, watch).map(|_| ()),
        Subject::Medium => {
            // The way to the volumes first: it says where they begin and end.
            let seen = mend_table(overlay, choices, done, watch)?;
            let volumes = || seen.volumes.iter().filter(|place| place.what.is_mended());
            let several = volumes().count() > 1;
            // What is older than the other would be mended into the other's clusters.
            for place in volumes().filter(|place| !seen.is_contested(place)) {
                if !done.is_empty() {
                    break;
                }
                choices.about(several.then_some(place.extent.offset));
                mend_volume(overlay, place.extent, choices, done, watch)?;
            }
            choices.about(None);
            Ok(())
        }
    }
}

fn mend_table(
    overlay: &mut Overlay<'_>,
    choices: &mut Choices,
    done: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<Scouting, PlanError> {
    let seen = partition::scout(overlay, true, watch)?;
    let whole = Extent::new(0, overlay.len());
    partition::round(&mut Stage::new(overlay, whole), &seen, choices, done)?;
    Ok(seen)
}

fn mend_volume(
    overlay: &mut Overlay<'_>,
    place: Extent,
    choices: &mut Choices,
    done: &mut Steps<'_>,
    watch: &dyn Watch,
) -> Result<(), PlanError> {
    let volume = {
        let window = Window::new(overlay, place);
        family::recognise(&window, watch)?.ok_or(PlanError::NoVolume)?
    };
    Ok(volume.mend(&mut Stage::new(overlay, place), choices, done, watch)?)
}
