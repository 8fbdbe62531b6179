//! A repair as a document: built on an overlay, proved there, carried out later or never.
//!
//! The plan names the image by its length and by a digest of every range that was read while it
//! was made, so that it fits no other image; and it carries the outcome that was measured on the
//! overlay, so that what `apply` measures can be held against it. `docs/formats.md` describes the
//! file.

use super::error::PlanError;
use crate::{
    arith::Sat,
    family::Kind,
    files::{
        inventory::{self, Change, Changes, Fate, Inventory},
        path::TreePath,
    },
    medium::{Extent, Medium, MediumError, Overlay, ReadLog, Unknown, WithUnreadable},
    mending::{
        change::{Bytes, PlannedChange, Tally},
        choices::{Choice, Choices},
        step::{Basis, Steps},
    },
    progress::Watch,
    repair::{
        content::{self, Content},
        evidence::{self, Evidence},
        measure::{Known, Measured, Part, Subject},
    },
    report::wording::counted,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// The name and version of the plan file.
pub const SCHEMA: &str = "punchdog.plan/3";
/// Rounds of mending at most; each must change something, and few volumes need more than six.
const ROUNDS: u32 = 40;
/// Bytes of the paths of the files that are named in the outcome; the counts go on.
const NAMED_BYTES: usize = 8 << 20;

/// One step of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PlannedStep {
    /// Its stable name.
    pub name: String,
    /// What it does.
    pub does: String,
    /// `exact`, `derived` or `judged`.
    pub provenance: crate::mending::step::Provenance,
    /// Where its bytes come from.
    pub from: String,
    /// The codes of the findings that it mends.
    pub mends: Vec<String>,
    /// The files concerned.
    pub paths: Vec<String>,
    /// Of judged files, on what each rests.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub bases: Vec<Basis>,
    /// Other readings that were possible.
    pub alternatives: Vec<String>,
    /// The ranges it changes, in order.
    pub changes: Vec<PlannedChange>,
    /// The bytes that it makes others.
    pub written: Tally,
}

/// The image that a plan is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PlannedImage {
    /// Its path when the plan was made; a help for people, not checked.
    pub path: String,
    /// Its length.
    pub bytes: u64,
    /// Every range that was read while the plan was made.
    pub evidence: Vec<Evidence>,
    /// Ranges that could not be read, as was listed or met: the copy has zeros there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<Extent>,
}

/// What a plan is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Scope {
    /// One volume.
    Volume,
    /// The partition table.
    Table,
    /// The partition table and every volume.
    Medium,
}

/// The volume that a plan is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PlannedVolume {
    /// Its file system.
    pub kind: Kind,
    /// Where it begins in the image.
    pub offset: u64,
    /// Bytes of the image that are taken for it.
    pub bytes: u64,
}

/// What a plan leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Outcome {
    /// As measured on the image.
    pub before: Measured,
    /// As measured on the overlay, after all steps.
    pub after: Measured,
    /// How many files have which fate.
    pub fates: BTreeMap<Fate, u64>,
    /// The files that do not simply stay as they are.
    pub changes: Vec<Change>,
    /// The bytes in which the mended copy will differ from the image, and in how many places.
    pub written: Tally,
    /// Ranges of the copy that have zeros for what could not be read, and that no step wrote.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lost: Vec<Extent>,
    /// What could not be mended for want of something, and what it would need.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_done: Vec<String>,
    /// What the content of the files that rest on judgement says, where that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<Content>,
    /// One line for the customer.
    pub summary: String,
}

/// A repair, step by step, with what it leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Plan {
    /// [`SCHEMA`].
    #[schemars(extend("const" = "punchdog.plan/3"))]
    pub schema: String,
    /// The image it is for.
    pub image: PlannedImage,
    /// What it mends.
    pub scope: Scope,
    /// The volume it is for, or the only one of the medium; none when it mends the partition table.
    pub volume: Option<PlannedVolume>,
    /// The steps, in order; empty when there is nothing to do.
    pub steps: Vec<PlannedStep>,
    /// The questions that came up, and how they were answered.
    pub choices: Vec<Choice>,
    /// What it leads to.
    pub outcome: Outcome,
    /// The SHA-256 of all of the above, so that a plan edited by hand is refused.
    pub seal: String,
}

/// The SHA-256 of a value's compact JSON, which is never held as a whole.
fn json_digest(value: &impl Serialize) -> String {
    struct Hashing(Sha256);
    impl std::io::Write for Hashing {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0.update(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let mut out = std::io::BufWriter::new(Hashing(Sha256::new()));
    let written = serde_json::to_writer(&mut out, value).map_err(std::io::Error::from);
    match written.and_then(|()| out.into_inner().map_err(std::io::IntoInnerError::into_error)) {
        Ok(hash) => hex::encode(hash.0.finalize()),
        Err(_) => String::new(),
    }
}

fn planned(step: crate::mending::step::Step) -> PlannedStep {
    PlannedStep {
        name: step.name.to_owned(),
        does: step.does,
        provenance: step.provenance,
        from: step.from,
        mends: step.mends.iter().map(|code| (*code).to_owned()).collect(),
        paths: step.paths,
        bases: step.bases,
        alternatives: step.alternatives,
        changes: step.changes,
        written: step.written,
    }
}

/// Makes a plan for `subject` in `image`, with these answers to questions.
pub fn build(
    image: &dyn Medium,
    path: &str,
    subject: Subject,
    wanted: BTreeMap<String, String>,
    watch: &dyn Watch,
) -> Result<Plan, PlanError> {
    Ok(build_for(image, path, subject, wanted, watch)?.0)
}

/// The same, with the label of the volume that the plan is for.
pub fn build_for(
    image: &dyn Medium,
    path: &str,
    subject: Subject,
    wanted: BTreeMap<String, String>,
    watch: &dyn Watch,
) -> Result<(Plan, Option<String>), PlanError> {
    let read_log = ReadLog::new(image);
    let medium = WithUnreadable::new(&read_log, image.unknown(Unknown::Unreadable));
    let mut known = Known::new(subject);
    let (before, files_before) = known.measure(&medium, watch)?;
    let label = match subject {
        Subject::Volume(place) => known.label(place),
        _ => None,
    };
    let mut overlay = Overlay::new(&medium);
    let mut choices = Choices::wanting(wanted);
    let mut making = Making::default();
    let unreadable = medium.unknown(Unknown::Unreadable);
    if !unreadable.is_empty() {
        // What stands a second time is taken from there. The copy has zeros for the rest, and what these mean to a
        // host is mended as any other zeros are, by what the rest of the volume says.
        let mut done = Steps::new(watch);
        known.heal(&mut overlay, &mut done, watch)?;
        overlay.sound()?;
        making.steps.extend(done.into_done().into_iter().map(planned));
        medium.settle();
        overlay.settle();
        known.forget(&unreadable);
    }
    making.rounds(&mut known, &mut overlay, &mut choices, watch)?;
    if !unreadable.is_empty() && making.aside(&mut known, &mut overlay, &unreadable, &mut choices, watch)? {
        // Counts and bitmaps follow what was moved.
        making.rounds(&mut known, &mut overlay, &mut choices, watch)?;
    }
    let steps = making.steps;
    let unused = choices.unused();
    if !unused.is_empty() {
        return Err(PlanError::NoSuchChoice { answers: unused.join(", ") });
    }
    let (after, files_after) = known.measure(&overlay, watch)?;
    let not_done = known.not_done();
    // What was read is not needed any more, and its room is.
    drop(known);
    let written = Tally::between(&medium, &overlay, &overlay.changed());
    let lost = overlay.unknown(Unknown::Lost);
    // Also those that nobody listed, and that were met on the way.
    let unreadable = medium.unknown(if unreadable.is_empty() { Unknown::Unreadable } else { Unknown::Lost });
    overlay.sound()?;
    let Changes { counts: fates, named: mut changes } = all_changes(&files_before, &files_after);
    let summary = if subject == Subject::Table {
        table_summary(&after)
    } else {
        summary(&fates, &after, judged(&steps), 0)
    };
    changes.sort_by(|a, b| {
        (std::cmp::Reverse(a.fate), a.volume, &a.path).cmp(&(std::cmp::Reverse(b.fate), b.volume, &b.path))
    });
    name_no_more(&mut changes);
    let (scope, volume) = scope(subject, &after, &files_after);
    let mut plan = Plan {
        schema: SCHEMA.to_owned(),
        image: PlannedImage {
            path: path.to_owned(),
            bytes: image.len(),
            evidence: evidence::take(image, &read_log.seen(), watch)?,
            unreadable,
        },
        scope,
        volume,
        steps,
        choices: choices.offered(),
        outcome: Outcome { before, after, fates, changes, written, lost, not_done, content: None, summary },
        seal: String::new(),
    };
    plan.seal = plan.computed_seal();
    Ok((plan, label))
}

/// A plan in the making.
#[derive(Default)]
struct Making {
    steps: Vec<PlannedStep>,
    /// Digests of the rounds.
    seen: std::collections::HashSet<String>,
}

impl Making {
    /// Rounds of mending, until one has nothing to do.
    fn rounds(
        &mut self,
        known: &mut Known,
        overlay: &mut Overlay<'_>,
        choices: &mut Choices,
        watch: &dyn Watch,
    ) -> Result<(), PlanError> {
        for round in 0..ROUNDS {
            if watch.stop() {
                return Err(MediumError::Stopped.into());
            }
            watch.at("planning, round by round", round.wide(), ROUNDS.wide());
            let mut done = Steps::new(watch);
            known.mend(overlay, choices, &mut done, watch)?;
            overlay.sound()?;
            if !done.any() {
                break;
            }
            let round: Vec<PlannedStep> = done.into_done().into_iter().map(planned).collect();
            // Two structures that each want what the other undoes would go on for ever.
            let again = !self.seen.insert(json_digest(&round));
            self.steps.extend(round);
            if again {
                // A bug by definition: tests stop here.
                debug_assert!(
                    !again,
                    "a round of mending did what an earlier one had done: {:?}",
                    self.steps.last()
                );
                tracing::warn!("a round of mending did what an earlier one had done; stopping there");
                break;
            }
        }
        Ok(())
    }
}

impl Making {
    /// Keeps off places that the medium fails in, where that is wanted; true where something was moved or marked.
    fn aside(
        &mut self,
        known: &mut Known,
        overlay: &mut Overlay<'_>,
        places: &[Extent],
        choices: &mut Choices,
        watch: &dyn Watch,
    ) -> Result<bool, PlanError> {
        let before = self.steps.len();
        // A folder in a folder in a folder: each waits for the one above it.
        for round in 0..ROUNDS {
            watch.at("moving what stands in places that fail", round.wide(), ROUNDS.wide());
            let mut done = Steps::new(watch);
            known.set_aside(overlay, places, choices, &mut done, watch)?;
            overlay.sound()?;
            if !done.any() {
                break;
            }
            known.forget(&done.changed().collect::<Vec<_>>());
            self.steps.extend(done.into_done().into_iter().map(planned));
        }
        Ok(self.steps.len() > before)
    }
}

/// What becomes of the files of every volume: those that begin at the same byte are the same.
fn all_changes(before: &[Part], after: &[Part]) -> Changes {
    let several = before.len().max(after.len()) > 1;
    let nothing = Inventory::default();
    let mut all = Changes::default();
    let find = |parts: &'_ [Part], offset: u64| parts.iter().position(|part| part.offset == offset);
    let mut add = |offset: u64, old: &Inventory, new: &Inventory, hidden: bool| {
        all.extend(old.changes_to(new, hidden), several.then_some(offset));
    };
    for part in before {
        let now = find(after, part.offset).and_then(|index| after.get(index));
        // What no host reaches afterwards either did not come back.
        let hidden = !part.reached && now.is_none_or(|now| now.reached);
        add(part.offset, &part.files, now.map_or(&nothing, |now| &now.files), hidden);
    }
    for part in after.iter().filter(|part| find(before, part.offset).is_none()) {
        add(part.offset, &nothing, &part.files, false);
    }
    all
}

/// What the plan is for, as its file has it.
fn scope(subject: Subject, after: &Measured, parts: &[Part]) -> (Scope, Option<PlannedVolume>) {
    match (subject, parts) {
        (Subject::Volume(place), [only]) => {
            let volume = PlannedVolume { kind: only.kind, offset: place.offset, bytes: place.length };
            (Scope::Volume, Some(volume))
        }
        (Subject::Medium, _) => {
            let only = match after.volumes.as_slice() {
                [only] => Some(PlannedVolume { kind: only.kind, offset: only.offset, bytes: only.bytes }),
                _ => None,
            };
            (Scope::Medium, only)
        }
        _ => (Scope::Table, None),
    }
}

/// Keeps as many changes as shall be named.
fn name_no_more(changes: &mut Vec<Change>) {
    let mut bytes = 0_usize;
    let fits = changes.iter().take_while(|change| {
        bytes = bytes.plus(change.path.bytes()).plus(change.to.as_ref().map_or(0, TreePath::bytes));
        bytes <= NAMED_BYTES
    });
    let count = fits.count().min(inventory::NAMED.size());
    changes.truncate(count);
}

fn table_summary(after: &Measured) -> String {
    let text = if after.sound { "lists every volume that was found" } else { "still has faults" };
    format!("the partition table {text}; nothing in the volumes changes.")
}

/// Files whose repair rests on judgement.
fn judged(steps: &[PlannedStep]) -> u64 {
    let guesses = steps.iter().filter(|step| step.provenance == crate::mending::step::Provenance::Judged);
    let paths: std::collections::BTreeSet<&String> = guesses.flat_map(|step| &step.paths).collect();
    paths.len().wide()
}

/// What becomes of the files, in a sentence; of those that would be whole, the content of `broken` does not hold together.
fn summary(fates: &BTreeMap<Fate, u64>, after: &Measured, judged: u64, broken: u64) -> String {
    let get = |fate| fates.get(&fate).copied().unwrap_or(0);
    let whole = get(Fate::Intact).plus(get(Fate::Back)).plus(get(Fate::Moved)).minus(broken);
    let all = fates.values().fold(0_u64, |sum, n| sum.plus(*n));
    let mut parts = vec![format!("{whole} of {all} files are whole after the repair")];
    if broken > 0 {
        parts.push(counted(broken, "is broken by its content", "are broken by their content"));
    }
    if judged > 0 {
        let rest = if judged == 1 {
            "1 rests on judgement and should be opened before it is handed out".to_owned()
        } else {
            format!("{judged} rest on judgement and should be opened before they are handed out")
        };
        parts.push(rest);
    }
    for (fate, one, many) in [
        (Fate::Adrift, "is kept without its name or folder", "are kept without their names or folders"),
        (Fate::Shorter, "loses its end", "lose their end"),
        (Fate::Damaged, "stays damaged", "stay damaged"),
        (Fate::Lost, "is lost", "are lost"),
    ] {
        if get(fate) > 0 {
            parts.push(counted(get(fate), one, many));
        }
    }
    let end = match (after.sound, after.volumes.len()) {
        (false, _) => "some faults remain.",
        (true, 0) => "the volume is sound.",
        (true, 1) => "the volume and the way to it are in order.",
        (true, _) => "the partition table and all volumes are in order.",
    };
    format!("{}; {end}", parts.join(", "))
}

impl Plan {
    /// What the plan mends.
    pub fn subject(&self) -> Subject {
        match (self.scope, self.volume) {
            (Scope::Medium, _) => Subject::Medium,
            (Scope::Volume, Some(volume)) => Subject::Volume(Extent::new(volume.offset, volume.bytes)),
            _ => Subject::Table,
        }
    }

    fn computed_seal(&self) -> String {
        /// The plan without its seal, field by field in the same order: the text of the same plan is
        /// always the same.
        #[derive(Serialize, JsonSchema)]
        struct Open<'a> {
            schema: &'a str,
            image: &'a PlannedImage,
            scope: Scope,
            volume: Option<PlannedVolume>,
            steps: &'a [PlannedStep],
            choices: &'a [Choice],
            outcome: &'a Outcome,
            seal: &'a str,
        }
        let Self { schema, image, scope, volume, steps, choices, outcome, seal: _ } = self;
        json_digest(&Open {
            schema,
            image,
            scope: *scope,
            volume: *volume,
            steps,
            choices,
            outcome,
            seal: "",
        })
    }

    /// The plan as a file.
    pub fn to_json(&self) -> String {
        serde_json::to_string_pretty(self).unwrap_or_default()
    }

    /// Reads a plan file, and refuses one that was edited.
    pub fn from_json(text: &str) -> Result<Self, PlanError> {
        #[derive(Deserialize)]
        struct Head {
            schema: String,
        }
        let head: Head =
            serde_json::from_str(text).map_err(|error| PlanError::NotAPlan(error.to_string()))?;
        if head.schema != SCHEMA {
            return Err(PlanError::NotAPlan(format!(
                "its schema is {:?}, this program reads {SCHEMA:?}",
                head.schema
            )));
        }
        let plan: Self =
            serde_json::from_str(text).map_err(|error| PlanError::NotAPlan(error.to_string()))?;
        if plan.seal == plan.computed_seal() { Ok(plan) } else { Err(PlanError::Edited) }
    }

    /// Refuses an image that is not the one the plan was made for.
    pub fn must_fit(&self, image: &dyn Medium, watch: &dyn Watch) -> Result<(), PlanError> {
        self.fits(image, watch).map(drop)
    }

    /// The same, with what tells whether a copy is of that image.
    pub(crate) fn fits(&self, image: &dyn Medium, watch: &dyn Watch) -> Result<evidence::Quick, PlanError> {
        if image.len() != self.image.bytes {
            let text = format!("it has {} bytes, the plan's image had {}", image.len(), self.image.bytes);
            return Err(PlanError::OtherImage(text));
        }
        evidence::hold(image, &self.image.evidence, watch)?.map_err(|extent| {
            PlanError::OtherImage(format!(
                "bytes {} to {} have changed since the plan was made",
                extent.offset,
                extent.end()
            ))
        })
    }

    /// What becomes of the files, in a sentence, where their content was looked at.
    pub fn summed_up(&self, content: &Content) -> String {
        if self.scope == Scope::Table {
            return self.outcome.summary.clone();
        }
        let outcome = &self.outcome;
        let broken = content.broken.iter().filter(|broken| !broken.is_named_worse(&outcome.changes)).count();
        summary(&outcome.fates, &outcome.after, judged(&self.steps), broken.wide())
    }

    /// Looks at the content of the files that rest on judgement, as they will be, and keeps what it says.
    pub fn look_at_content(&mut self, image: &dyn Medium, watch: &dyn Watch) -> Result<(), PlanError> {
        // Not through the log of what was read: the plan does not rest on what files hold.
        let medium = WithUnreadable::with_lost(image, self.image.unreadable.clone());
        let overlay = self.replay(&medium)?;
        let said = content::look(self, &overlay, watch)?;
        overlay.sound()?;
        self.outcome.summary = self.summed_up(&said);
        self.outcome.content = Some(said);
        self.seal = self.computed_seal();
        Ok(())
    }

    /// Replays all steps on an overlay of the image.
    pub fn replay<'a>(&self, image: &'a dyn Medium) -> Result<Overlay<'a>, PlanError> {
        let mut overlay = Overlay::new(image);
        // What is copied from a place that could not be read is zeros, as the image gives them now.
        overlay.settle();
        for step in &self.steps {
            for change in &step.changes {
                replay_one(&mut overlay, change)?;
            }
        }
        Ok(overlay)
    }
}

/// Makes one change of a plan on an overlay.
fn replay_one(overlay: &mut Overlay<'_>, change: &PlannedChange) -> Result<(), PlanError> {
    match &change.after {
        Bytes::Hex(text) => {
            let bytes = hex::decode(text).map_err(|error| PlanError::NotAPlan(error.to_string()))?;
            if bytes.len().wide() != change.length {
                return Err(PlanError::NotAPlan(format!(
                    "the change at {} has another length than it says",
                    change.offset
                )));
            }
            overlay.write_at(change.offset, &bytes)?;
        }
        Bytes::Fill(byte) if change.length <= overlay.len() => {
            let piece = vec![*byte; change.length.min(1 << 16).size()];
            let mut done = 0;
            while done < change.length {
                let part = piece.get(..change.length.minus(done).size()).unwrap_or(&piece);
                overlay.write_at(change.offset.plus(done), part)?;
                done = done.plus(part.len().wide());
            }
        }
        Bytes::CopyOf(place) => overlay.copy_at(*place, change.offset, change.length)?,
        Bytes::Fill(_) | Bytes::Sha256(_) => {
            return Err(PlanError::NotAPlan("a change does not say what to write".to_owned()));
        }
    }
    Ok(())
}
