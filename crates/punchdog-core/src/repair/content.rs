//! What the content of files says of a repair: do those that rest on judgement hold together?

use super::{error::PlanError, measure::Subject, plan::Plan};
use crate::{
    arith::Sat,
    family::Wanted,
    files::{
        inventory::{Change, Fate},
        judgement::{self, Judgement},
        path::TreePath,
        record::FileRecord,
    },
    medium::{Extent, Medium, MediumError, Window},
    mending::step::Provenance,
    progress::Watch,
    registry,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, ops::ControlFlow};

/// A file whose content does not hold together.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Broken {
    /// Where its volume begins in the image, where there are several.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub volume: Option<u64>,
    /// Its path after the repair.
    pub path: TreePath,
    /// The byte of the file from which on something is wrong.
    pub from: u64,
    /// Why.
    pub why: String,
}

impl Broken {
    /// The change that names it.
    pub fn change<'c>(&self, changes: &'c [Change]) -> Option<&'c Change> {
        changes.iter().find(|change| {
            change.to.as_ref().unwrap_or(&change.path) == &self.path
                && (self.volume.is_none() || change.volume == self.volume)
        })
    }
    /// True where that says less than that it is whole.
    pub(super) fn is_named_worse(&self, changes: &[Change]) -> bool {
        self.change(changes)
            .is_some_and(|change| !matches!(change.fate, Fate::Intact | Fate::Back | Fate::Moved))
    }
}

/// What looking at the content of the files that rest on judgement came to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Content {
    /// Files that were looked at.
    pub files: u64,
    /// Of these: sums or codes that run through all of the content fit.
    pub whole: u64,
    /// The structure fits to its end, and nothing proves the bytes between.
    pub fits: u64,
    /// Nothing in the content says.
    pub not_judged: u64,
    /// The others.
    pub broken: Vec<Broken>,
}

/// Looks at the files of `mended` (the overlay or the copy) for which `plan` rests on judgement.
pub fn look(plan: &Plan, mended: &dyn Medium, watch: &dyn Watch) -> Result<Content, PlanError> {
    let places: Vec<Extent> = match plan.subject() {
        Subject::Volume(place) => vec![place],
        Subject::Table => Vec::new(),
        Subject::Medium => {
            let volumes = plan.outcome.after.volumes.iter();
            volumes.map(|volume| Extent::new(volume.offset, volume.bytes)).collect()
        }
    };
    let resting = Resting::of(plan);
    let mut said = Content::default();
    for place in &places {
        let about = (places.len() > 1).then_some(place.offset);
        let within = Extent::new(place.offset, place.length.min(mended.len().minus(place.offset)));
        let window = Window::new(mended, within);
        let volume = registry::recognise(&window, watch)?.ok_or(PlanError::NoVolume)?;
        let mut files: Vec<FileRecord> = Vec::new();
        volume.survey(&window, watch)?.each_file(&window, Wanted::default(), &mut |file| {
            if !file.folder && resting.has(&file.path) {
                files.push(file);
            }
            ControlFlow::Continue(())
        });
        drop(volume);
        for (number, file) in files.iter().enumerate() {
            if watch.stop() {
                return Err(MediumError::Stopped.into());
            }
            watch.at("reading the content of files", number.wide(), files.len().wide());
            said.add(about, file, judgement::of(file, &window));
        }
    }
    Ok(said)
}

impl Content {
    fn add(&mut self, volume: Option<u64>, file: &FileRecord, judged: Judgement) {
        self.files = self.files.plus(1);
        let sum = match judged {
            Judgement::Whole => &mut self.whole,
            Judgement::Fits => &mut self.fits,
            Judgement::NotJudged(_) => &mut self.not_judged,
            Judgement::Broken { from, why } => {
                self.broken.push(Broken { volume, path: file.path.clone(), from, why });
                return;
            }
        };
        *sum = sum.plus(1);
    }
}

/// Which files rest on judgement.
struct Resting {
    /// Where the clusters lie was judged, or which volume it is: all of them.
    all: bool,
    /// Files, and folders with all that is in them.
    paths: BTreeSet<String>,
}

impl Resting {
    fn of(plan: &Plan) -> Self {
        let judged = || plan.steps.iter().filter(|step| step.provenance == Provenance::Judged);
        let named = judged().flat_map(|step| {
            step.paths.iter().cloned().chain(step.bases.iter().map(|basis| basis.path.clone()))
        });
        let mut paths: BTreeSet<String> = named.collect();
        // What a file is called afterwards, and what was kept without its name.
        for change in &plan.outcome.changes {
            let now = change.to.as_ref().unwrap_or(&change.path).to_string();
            if change.fate == Fate::Adrift || paths.contains(&change.path.to_string()) {
                paths.insert(now);
            }
        }
        Self { all: judged().any(|step| GEOMETRY.contains(&step.name.as_str())), paths }
    }

    fn has(&self, path: &TreePath) -> bool {
        if self.all {
            return true;
        }
        let path = path.to_string();
        let folders = path.match_indices('/').filter_map(|(at, _)| path.get(..at));
        self.paths.contains(&path) || folders.into_iter().any(|folder| self.paths.contains(folder))
    }
}

/// Steps that say where all files lie.
const GEOMETRY: [&str; 1] = ["boot-derived"];
