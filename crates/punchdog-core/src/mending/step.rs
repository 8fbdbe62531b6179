//! One small, named change of a repair, with where its bytes come from.

use crate::{
    medium::{Extent, MediumError, OverlayWindow},
    mending::change::{self, PlannedChange, Tally},
    progress::Watch,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Where the bytes of a step come from, surest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Provenance {
    /// An intact second copy.
    Exact,
    /// Computed from other structures.
    Derived,
    /// The likelier of several readings; the alternatives are named.
    Judged,
}

impl Provenance {
    /// The word as people and JSON read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Exact => "exact",
            Self::Derived => "derived",
            Self::Judged => "judged",
        }
    }
}

/// On what the repair of one file rests.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Basis {
    /// The file.
    pub path: String,
    /// What was taken for its content, and why.
    pub basis: String,
}

/// A step of a repair, before its changes are measured on the overlay.
#[derive(Debug, Clone)]
pub struct Step {
    /// Its stable name, such as `boot-from-backup`.
    pub name: &'static str,
    /// What it does, in one sentence.
    pub does: String,
    /// How sure its bytes are.
    pub provenance: Provenance,
    /// Where its bytes come from.
    pub from: String,
    /// The codes of the findings that it mends.
    pub mends: Vec<&'static str>,
    /// The files it concerns.
    pub paths: Vec<String>,
    /// Of judged files, on what each rests.
    pub bases: Vec<Basis>,
    /// Other readings that were possible, for judged steps.
    pub alternatives: Vec<String>,
    /// Ranges of the volume that are meant to hold the same bytes, such as the copies of a table: what
    /// is written into one may be named by where it stands in another.
    pub twins: Vec<Extent>,
    /// What it changed, in offsets of the image.
    pub changes: Vec<PlannedChange>,
    /// The bytes that became others.
    pub written: Tally,
}

impl Step {
    /// A step called `name` that mends findings of class `mends`.
    pub fn new(
        name: &'static str,
        does: impl Into<String>,
        provenance: Provenance,
        from: impl Into<String>,
        mends: &[&'static crate::report::finding::Entry],
    ) -> Self {
        Self {
            name,
            does: does.into(),
            provenance,
            from: from.into(),
            mends: mends.iter().map(|entry| entry.code).collect(),
            paths: Vec::new(),
            bases: Vec::new(),
            alternatives: Vec::new(),
            twins: Vec::new(),
            changes: Vec::new(),
            written: Tally::default(),
        }
    }
    /// Names a file that the step concerns.
    #[must_use]
    pub fn file(mut self, path: impl Into<String>) -> Self {
        self.paths.push(path.into());
        self
    }
    /// Names another reading that was possible.
    #[must_use]
    pub fn or(mut self, alternative: impl Into<String>) -> Self {
        self.alternatives.push(alternative.into());
        self
    }
}

/// Collects the steps of one round of mending, and ends it at the next step when it is told to stop.
pub struct Steps<'w> {
    done: Vec<Step>,
    /// How many there were when the part of the round began that is asked about.
    before: usize,
    /// What could not be done, and what it would need.
    not_done: Vec<String>,
    watch: &'w dyn Watch,
}

impl<'w> Steps<'w> {
    /// No step yet; `watch` may ask to stop.
    pub fn new(watch: &'w dyn Watch) -> Self {
        Self { done: Vec::new(), before: 0, not_done: Vec::new(), watch }
    }
    /// Runs `write` on the window as one step, and keeps the step if it changed a byte.
    pub fn run(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        mut step: Step,
        write: impl FnOnce(&mut OverlayWindow<'_, '_>) -> Result<(), MediumError>,
    ) -> Result<(), MediumError> {
        if self.watch.stop() {
            return Err(MediumError::Stopped);
        }
        window.overlay().begin_step();
        write(window)?;
        let base = window.place().offset;
        let twins: Vec<Extent> = step.twins.iter().map(|twin| twin.moved(base)).collect();
        (step.changes, step.written) = change::of_step(window.overlay(), &twins)?;
        if !step.changes.is_empty() {
            tracing::debug!(step = step.name, changes = step.changes.len(), "{}", step.does);
            self.done.push(step);
        }
        Ok(())
    }
    /// Says of something that it cannot be done, and what it would need.
    pub(crate) fn leave(&mut self, what: impl Into<String>) {
        self.not_done.push(what.into());
    }
    /// What could not be done since this was asked last.
    pub(crate) fn take_not_done(&mut self) -> Vec<String> {
        std::mem::take(&mut self.not_done)
    }
    /// Steps so far.
    pub(crate) fn count(&self) -> usize {
        self.done.len()
    }
    /// True while nothing was changed since the round began, or its present part.
    pub fn is_empty(&self) -> bool {
        self.done.len() == self.before
    }
    /// Begins another part of the round.
    pub(crate) fn go_on(&mut self) {
        self.before = self.done.len();
    }
    /// True once something was changed in the round.
    pub(crate) fn any(&self) -> bool {
        !self.done.is_empty()
    }
    /// The ranges of the image that were changed in the round.
    pub(crate) fn changed(&self) -> impl Iterator<Item = Extent> {
        self.done
            .iter()
            .flat_map(|step| &step.changes)
            .map(|change| Extent::new(change.offset, change.length))
    }
    /// The steps that changed something, in order.
    pub fn into_done(self) -> Vec<Step> {
        self.done
    }
}
