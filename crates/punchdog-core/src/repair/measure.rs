//! Measuring a volume, a partition table or a whole medium: what a plan promises, and what apply holds
//! against it.

use crate::{
    arith::Sat,
    family::{Kind, Survey, Volume, Wanted},
    files::inventory::Inventory,
    impaired,
    medium::{self, Extent, Medium, Overlay, OverlayWindow, Window},
    mending::{choices::Choices, step::Steps},
    partition::{self, Scouting},
    progress::Watch,
    registry,
    repair::error::PlanError,
    report::{
        examination::Tally,
        finding::{Finding, Weight},
    },
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, ops::ControlFlow, rc::Rc};

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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
    pub files: Rc<Inventory>,
    /// A host could reach its files.
    pub reached: bool,
}

/// Examines the subject, and lists the files of each volume in it.
pub fn measure(
    medium: &dyn Medium,
    subject: Subject,
    watch: &dyn Watch,
) -> Result<(Measured, Vec<Part>), PlanError> {
    Known::new(subject).measure(medium, watch)
}

/// Files that the surveys kept for mending may have together: what has more is read again.
const KEPT: u64 = 500_000;

/// What is known of a subject in its present state: each part of it is read once, and again when its bytes
/// have changed.
pub(crate) struct Known {
    subject: Subject,
    scouting: Option<Rc<Scouting>>,
    /// Bytes of the sectors that the partition table counts in.
    unit: u32,
    volumes: Vec<KnownVolume>,
}

/// A volume that was read.
struct KnownVolume {
    place: Extent,
    volume: Box<dyn Volume>,
    /// What the reading shows, as long as it may be asked again.
    survey: Option<Box<dyn Survey>>,
    /// What it came to, once measured.
    measured: Option<(Measured, Rc<Inventory>)>,
    label: Option<String>,
    /// Names under which its questions were put, with nothing left to mend.
    idle: Vec<Option<u64>>,
    /// What of it could not be mended, and what that would need.
    not_done: Vec<String>,
}

impl KnownVolume {
    fn new(medium: &dyn Medium, place: Extent, watch: &dyn Watch) -> Result<Self, PlanError> {
        let window = Window::new(medium, place);
        let volume = registry::recognise(&window, watch)?.ok_or(PlanError::NoVolume)?;
        let survey = volume.survey(&window, watch)?;
        Ok(Self::of(place, volume, survey))
    }
    fn of(place: Extent, volume: Box<dyn Volume>, survey: Box<dyn Survey>) -> Self {
        Self {
            place,
            volume,
            survey: Some(survey),
            measured: None,
            label: None,
            idle: Vec::new(),
            not_done: Vec::new(),
        }
    }

    /// Where something asks whose survey was let go, the bytes are the same and are read again.
    fn survey(&mut self, medium: &dyn Medium, watch: &dyn Watch) -> Result<&mut dyn Survey, PlanError> {
        let survey = match self.survey.take() {
            Some(survey) => survey,
            None => self.volume.survey(&Window::new(medium, self.place), watch)?,
        };
        Ok(&mut **self.survey.insert(survey))
    }

    fn measure(
        &mut self,
        medium: &dyn Medium,
        unit: u32,
        watch: &dyn Watch,
    ) -> Result<(Measured, Rc<Inventory>), PlanError> {
        if let Some((measured, files)) = &self.measured {
            return Ok((measured.clone(), Rc::clone(files)));
        }
        let window = Window::new(medium, self.place);
        let hosts = self.volume.forecast(&window, unit);
        let mounts = hosts
            .into_iter()
            .map(|host| (host.host.to_owned(), (host.mounts_read_only, host.mounts_read_write)))
            .collect();
        let survey = self.survey(medium, watch)?;
        let seen = survey.examine(&window);
        let label = seen.label.clone();
        let mut files = Inventory::default();
        survey.each_file(&window, Wanted::default(), &mut |file| {
            files.add(file);
            ControlFlow::Continue(())
        });
        let files = Rc::new(files);
        let measured = Measured {
            sound: seen.sound(),
            findings: faults(&seen.findings),
            files: seen.tally,
            inventory: files.digest(),
            mounts,
            volumes: Vec::new(),
        };
        self.label = label;
        self.measured = Some((measured.clone(), Rc::clone(&files)));
        Ok((measured, files))
    }
}

impl Known {
    /// Nothing yet.
    pub(crate) fn new(subject: Subject) -> Self {
        Self { subject, scouting: None, unit: 512, volumes: Vec::new() }
    }

    /// The label of the volume at `place`, once it was measured.
    pub(crate) fn label(&self, place: Extent) -> Option<String> {
        self.volumes.iter().find(|volume| volume.place == place)?.label.clone()
    }

    /// Forgets what rests on these bytes of the image.
    pub(crate) fn forget(&mut self, changed: &[Extent]) {
        if changed.is_empty() {
            return;
        }
        // A scouting looks into every volume, and between them.
        self.scouting = None;
        self.volumes.retain(|volume| !changed.iter().any(|extent| extent.overlaps(volume.place)));
    }

    fn scouting(&mut self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Rc<Scouting>, PlanError> {
        if let Some(seen) = &self.scouting {
            return Ok(Rc::clone(seen));
        }
        let seen = Rc::new(partition::scout(medium, true, watch)?);
        self.unit = seen.unit.narrow();
        self.scouting = Some(Rc::clone(&seen));
        Ok(seen)
    }

    /// The volume at `place`; it is read if it was not.
    fn volume(
        &mut self,
        medium: &dyn Medium,
        place: Extent,
        watch: &dyn Watch,
    ) -> Result<&mut KnownVolume, PlanError> {
        if let Some(at) = self.volumes.iter().position(|volume| volume.place == place) {
            return self.volumes.get_mut(at).ok_or(PlanError::NoVolume);
        }
        let read = self.scouting.as_ref().and_then(|seen| seen.kept.take(place));
        self.volumes.push(match read {
            Some(through) => KnownVolume::of(place, through.volume, through.survey),
            None => KnownVolume::new(medium, place, watch)?,
        });
        self.volumes.last_mut().ok_or(PlanError::NoVolume)
    }

    /// What the subject comes to, and its files.
    pub(crate) fn measure(
        &mut self,
        medium: &dyn Medium,
        watch: &dyn Watch,
    ) -> Result<(Measured, Vec<Part>), PlanError> {
        match self.subject {
            Subject::Volume(place) => {
                let (measured, files, kind) = self.measure_volume(medium, place, watch)?;
                let reached = measured.mounts.get("linux").is_none_or(|(read, _)| *read);
                Ok((measured, vec![Part { kind, offset: place.offset, files, reached }]))
            }
            Subject::Table => {
                let seen = self.scouting(medium, watch)?;
                Ok((measure_table(&seen), Vec::new()))
            }
            Subject::Medium => self.measure_all(medium, watch),
        }
    }

    /// The table and each volume, and what they come to together.
    fn measure_all(
        &mut self,
        medium: &dyn Medium,
        watch: &dyn Watch,
    ) -> Result<(Measured, Vec<Part>), PlanError> {
        let seen = self.scouting(medium, watch)?;
        let mut all = measure_table(&seen);
        let mut hash = Sha256::new();
        hash.update(&all.inventory);
        let mut parts = Vec::new();
        for place in &seen.volumes {
            let (measured, files, kind) = self.measure_volume(medium, place.extent, watch)?;
            let reaches = |host: &str| place.not_found_by(host).is_none();
            let mounts: BTreeMap<String, (bool, bool)> = measured
                .mounts
                .iter()
                .map(|(host, (read, write))| {
                    (host.clone(), (*read && reaches(host), *write && reaches(host)))
                })
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

    fn measure_volume(
        &mut self,
        medium: &dyn Medium,
        place: Extent,
        watch: &dyn Watch,
    ) -> Result<(Measured, Rc<Inventory>, Kind), PlanError> {
        let unit = self.unit;
        let volume = self.volume(medium, place, watch)?;
        let (measured, files) = volume.measure(medium, unit, watch)?;
        let kind = volume.volume.kind();
        let kept = self.volumes.iter().filter(|volume| volume.survey.is_some());
        let kept =
            kept.filter_map(|volume| volume.measured.as_ref()).map(|(measured, _)| measured.files.all());
        if kept.fold(0, u64::plus) > KEPT {
            self.let_go(place);
        }
        Ok((measured, files, kind))
    }

    fn let_go(&mut self, place: Extent) {
        for volume in self.volumes.iter_mut().filter(|volume| volume.place == place) {
            volume.survey = None;
        }
    }

    /// Takes what cannot be read from where it stands a second time, in every volume.
    pub(crate) fn heal(
        &mut self,
        overlay: &mut Overlay<'_>,
        done: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), PlanError> {
        let places: Vec<Extent> = match self.subject {
            Subject::Volume(place) => vec![place],
            Subject::Table => Vec::new(),
            Subject::Medium => {
                let seen = self.scouting(overlay, watch)?;
                seen.volumes.iter().filter(|p| !seen.is_contested(p)).map(|p| p.extent).collect()
            }
        };
        for place in places {
            let survey = self.volume(overlay, place, watch)?.survey(overlay, watch)?;
            impaired::from_second_copies(survey, &mut OverlayWindow::new(overlay, place), done)?;
        }
        Ok(())
    }

    /// One round of keeping off places that the medium fails in, in every volume where that is wanted.
    pub(crate) fn set_aside(
        &mut self,
        overlay: &mut Overlay<'_>,
        places: &[Extent],
        choices: &mut Choices,
        done: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), PlanError> {
        let volumes: Vec<(Extent, Option<u64>)> = match self.subject {
            Subject::Volume(place) => vec![(place, None)],
            Subject::Table => Vec::new(),
            Subject::Medium => {
                let seen = self.scouting(overlay, watch)?;
                let several = seen.volumes.len() > 1;
                let fit = seen.volumes.iter().filter(|place| !seen.is_contested(place));
                fit.map(|place| (place.extent, several.then_some(place.extent.offset))).collect()
            }
        };
        for (place, about) in volumes {
            let here = medium::within(places.to_vec(), place);
            if here.is_empty() {
                continue;
            }
            choices.about(about);
            let known = self.volume(overlay, place, watch)?;
            let data_at = known.volume.data_at();
            let survey = known.survey(overlay, watch)?;
            let mut window = OverlayWindow::new(overlay, place);
            let before = done.count();
            if !choices.doubted()
                && let Some(standing) = impaired::asked_to_mark(survey, &window, data_at, &here, choices)
            {
                impaired::set_aside(survey, &mut window, &here, done)?;
                if done.count() == before {
                    impaired::tell_what_stays(&standing, choices);
                }
            }
            choices.about(None);
        }
        Ok(())
    }

    /// One round of mending on `overlay`, whose bytes are those that are known.
    pub(crate) fn mend(
        &mut self,
        overlay: &mut Overlay<'_>,
        choices: &mut Choices,
        done: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), PlanError> {
        match self.subject {
            Subject::Volume(place) => self.mend_volume(overlay, place, None, choices, done, watch)?,
            Subject::Table => {
                self.mend_table(overlay, choices, done, watch)?;
            }
            Subject::Medium => {
                // The way to the volumes first: it says where they begin and end.
                let seen = self.mend_table(overlay, choices, done, watch)?;
                let volumes = || seen.volumes.iter();
                let several = volumes().count() > 1;
                // What is older than the other would be mended into the other's clusters.
                for place in volumes().filter(|place| !seen.is_contested(place)) {
                    if done.any() {
                        break;
                    }
                    let about = several.then_some(place.extent.offset);
                    self.mend_volume(overlay, place.extent, about, choices, done, watch)?;
                }
            }
        }
        let changed: Vec<Extent> = done.changed().collect();
        self.forget(&changed);
        Ok(())
    }

    /// What could not be mended, and what that would need.
    pub(crate) fn not_done(&mut self) -> Vec<String> {
        self.volumes.iter_mut().flat_map(|known| std::mem::take(&mut known.not_done)).collect()
    }

    fn mend_table(
        &mut self,
        overlay: &mut Overlay<'_>,
        choices: &mut Choices,
        done: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<Rc<Scouting>, PlanError> {
        let seen = self.scouting(overlay, watch)?;
        let whole = Extent::new(0, overlay.len());
        partition::round(&mut OverlayWindow::new(overlay, whole), &seen, choices, done)?;
        Ok(seen)
    }

    fn mend_volume(
        &mut self,
        overlay: &mut Overlay<'_>,
        place: Extent,
        about: Option<u64>,
        choices: &mut Choices,
        done: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), PlanError> {
        let unit = self.unit;
        let known = self.volume(overlay, place, watch)?;
        if known.idle.contains(&about) {
            return Ok(());
        }
        known.survey(overlay, watch)?;
        choices.about(about);
        if let Some(survey) = &mut known.survey {
            survey.mend(&mut OverlayWindow::new(overlay, place), choices, done, watch)?;
        }
        choices.about(None);
        known.not_done = done.take_not_done();
        if !done.any() {
            known.idle.push(about);
            // This is how it stays: measured now, its survey can go.
            known.measure(overlay, unit, watch)?;
            self.let_go(place);
        }
        Ok(())
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
