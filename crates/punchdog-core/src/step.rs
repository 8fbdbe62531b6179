//! One small, named change of a repair, with where its bytes come from.

use crate::{
    change::{self, PlannedChange, Tally},
    medium::{Extent, MediumError, Stage},
    progress::Watch,
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};

/// Where the bytes of a step come from, surest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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
        mends: &[&'static crate::finding::Entry],
    ) -> Self {
        Self {
            name,
            does: does.into(),
            provenance,
            from: from.into(),
            mends: mends.iter().map(|entry| entry.code).collect(),
            paths: Vec::new(),
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
    watch: &'w dyn Watch,
}

impl<'w> Steps<'w> {
    /// No step yet; `watch` may ask to stop.
    pub fn new(watch: &'w dyn Watch) -> Self {
        Self { done: Vec::new(), before: 0, watch }
    }
    /// Runs `write` on the stage as one step, and keeps the step if it changed a byte.
    pub fn run(
        &mut self,
        stage: &mut Stage<'_, '_>,
        mut step: Step,
        write: impl FnOnce(&mut Stage<'_, '_>) -> Result<(), MediumError>,
    ) -> Result<(), MediumError> {
        if self.watch.stop() {
            return Err(MediumError::Stopped);
        }
        stage.overlay().begin_step();
        write(stage)?;
        let base = stage.place().offset;
        let twins: Vec<Extent> = step.twins.iter().map(|twin| twin.moved(base)).collect();
        (step.changes, step.written) = change::of_step(stage.overlay(), &twins)?;
        if !step.changes.is_empty() {
            tracing::debug!(step = step.name, changes = step.changes.len(), "{}", step.does);
            self.done.push(step);
        }
        Ok(())
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

/// One way of answering a question that the volume itself does not answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChoiceOption {
    /// The word to choose it by.
    pub option: String,
    /// What it does to the files.
    pub effect: String,
}

/// A question with its options, and the one that was taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Choice {
    /// The word to choose by, as in `--choose NAME=OPTION`.
    pub name: String,
    /// What the question is.
    pub question: String,
    /// The option this plan took.
    pub taken: String,
    /// All options.
    pub options: Vec<ChoiceOption>,
    /// The files concerned.
    pub paths: Vec<String>,
}

/// What the technician chose, and which questions came up.
#[derive(Debug, Clone, Default)]
pub struct Choices {
    wanted: BTreeMap<String, String>,
    offered: BTreeMap<String, Choice>,
    /// Paths that a question has, so that a crowd of them is not gone through for each.
    named: HashSet<(String, String)>,
    /// Where the volume in question begins, where a plan is for several.
    about: Option<u64>,
    /// Volumes whose geometry nothing confirms, by where they begin in question.
    unconfirmed: HashSet<Option<u64>>,
}

impl Choices {
    /// With these answers given beforehand: name to option.
    pub fn wanting(wanted: BTreeMap<String, String>) -> Self {
        Self { wanted, ..Self::default() }
    }
    /// Says which of several volumes the next questions are about.
    pub(crate) fn about(&mut self, volume: Option<u64>) {
        self.about = volume;
    }
    /// The answer that was given beforehand, whether it is an option or not.
    pub(crate) fn given(&self, name: &str) -> Option<&str> {
        let own = self.about.map(|at| format!("{name}@{at}"));
        let wanted = own.and_then(|own| self.wanted.get(&own)).or_else(|| self.wanted.get(name));
        wanted.map(String::as_str)
    }
    /// Notes that nothing confirms where things lie in the volume in question.
    pub(crate) fn doubt(&mut self) {
        self.unconfirmed.insert(self.about);
    }
    /// True where that was noted.
    pub(crate) fn doubted(&self) -> bool {
        self.unconfirmed.contains(&self.about)
    }
    /// Puts a question; the first option is taken unless another was asked for. The files of a
    /// question put again are added to those it had.
    pub fn ask(
        &mut self,
        name: &str,
        question: &str,
        options: &[(&str, String)],
        paths: Vec<String>,
    ) -> String {
        let first = options.first().map_or("", |(option, _)| option);
        // Asked of one of several volumes, a question has a name of its own.
        let own = self.about.map_or_else(|| name.to_owned(), |at| format!("{name}@{at}"));
        let name = own.as_str();
        let wanted = self.wanted.get(name).filter(|wish| options.iter().any(|(option, _)| option == wish));
        let taken = wanted.map_or(first, String::as_str).to_owned();
        let choice = self.offered.entry(name.to_owned()).or_insert_with(|| Choice {
            name: name.to_owned(),
            question: question.to_owned(),
            taken: taken.clone(),
            options: options
                .iter()
                .map(|(option, effect)| ChoiceOption { option: (*option).to_owned(), effect: effect.clone() })
                .collect(),
            paths: Vec::new(),
        });
        for path in paths {
            if self.named.insert((name.to_owned(), path.clone())) {
                choice.paths.push(path);
            }
        }
        taken
    }
    /// The questions that came up, by name.
    pub fn offered(&self) -> Vec<Choice> {
        self.offered.values().cloned().collect()
    }
    /// Answers that fitted no question or no option of it.
    pub fn unused(&self) -> Vec<String> {
        let fits = |name: &String, option: &String| {
            self.offered.get(name).is_some_and(|c| c.options.iter().any(|o| &o.option == option))
        };
        self.wanted.iter().filter(|(n, o)| !fits(n, o)).map(|(n, o)| format!("{n}={o}")).collect()
    }
}
