//! Carrying a plan out on a copy.
//!
//! The order of the writes is the promise:
//!
//! ```text
//! 1  the journal, whole and durable     killed here: no copy, or a copy that was never changed
//! 2  the copy, whole and durable        (made under another name, held against the plan's evidence,
//!                                       then renamed; never over a file that is there)
//! 3  the changes, one after the other   killed here: each byte is the old or the new one, and the
//! 4  durable                            journal has both: run again to finish, or undo
//! 5  the copy is examined, and held against the plan's outcome
//! ```

use crate::{
    arith::Sat,
    medium::{self, Extent, Medium, MediumError, Unknown, WithUnreadable},
    mending::change::{Counting, Tally},
    progress::Watch,
    repair::{
        error::PlanError,
        journal::{self, Header, Journal},
        measure::{Measured, measure},
        plan::Plan,
    },
};
use std::io;

/// Writes a journal into what it is given.
pub type WriteJournal<'w> = &'w mut dyn FnMut(&mut dyn io::Write) -> io::Result<()>;
/// Looks at a copy before it gets its name.
pub type Inspect<'i> = &'i mut dyn FnMut(&dyn Medium) -> io::Result<()>;

/// Where the copy and its journal are kept. The program does it with files, tests with memory
/// that fails.
pub trait Workplace {
    /// What stands where the journal goes, if anything does.
    fn journal(&mut self) -> io::Result<Option<Box<dyn Medium>>>;
    /// Puts the journal there, whole and durable, or not at all; never over anything that is there.
    fn save_journal(&mut self, write: WriteJournal<'_>) -> io::Result<()>;
    /// True when there is a copy.
    fn has_copy(&mut self) -> io::Result<bool>;
    /// Makes the copy, whole and durable, or not at all, once `inspect` has found it right; never over
    /// anything that is there.
    fn make_copy(&mut self, image: &dyn Medium, inspect: Inspect<'_>, watch: &dyn Watch) -> io::Result<()>;
    /// The copy, for reading.
    fn copy(&mut self) -> io::Result<Box<dyn Medium + '_>>;
    /// Writes into the copy.
    fn write(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()>;
    /// Makes all writes durable.
    fn sync(&mut self) -> io::Result<()>;
}

/// Why a plan was not carried out, or not undone.
#[derive(Debug, thiserror::Error)]
pub enum ApplyError {
    /// The plan is none, or does not fit.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// The image or the copy could not be read.
    #[error(transparent)]
    Medium(#[from] MediumError),
    /// The workplace failed.
    #[error("{doing}: {source}")]
    Workplace {
        /// What was being done.
        doing: &'static str,
        /// What the operating system said.
        source: io::Error,
    },
    /// There is a file in the way.
    #[error("the copy already exists, with no journal of this job beside it: name a new file")]
    CopyExists,
    /// What stands in the journal's place is none of this plan.
    #[error(
        "where the journal of the copy goes stands that of another job, or a damaged one: name a new file for this one"
    )]
    OtherJournal,
    /// The copy was changed by someone else.
    #[error(
        "bytes {0} to {1} of the copy are neither as in the image nor as in the plan: someone else changed the copy, and it is left alone"
    )]
    Foreign(u64, u64),
    /// There is nothing to undo.
    #[error(
        "no journal stands beside this file, so there is nothing to undo: only copies made by `punchdog apply` can be undone"
    )]
    NoJournal,
    /// There is nothing to undo it in.
    #[error(
        "there is no copy of this name; its journal is there, but nothing to put the old bytes back into"
    )]
    NoCopy,
    /// The journal is damaged.
    #[error(
        "the journal beside the copy is damaged; nothing was changed. The image itself is untouched: apply the plan to a new copy"
    )]
    BadJournal,
}

impl From<(&'static str, io::Error)> for ApplyError {
    fn from((doing, source): (&'static str, io::Error)) -> Self {
        Self::Workplace { doing, source }
    }
}

/// How a copy stood when work on it began.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// There was none.
    New,
    /// It had none of the changes: cut off before the first one, or undone.
    Unchanged,
    /// It had some of them: cut off in between.
    Partly,
    /// It had all of them.
    Changed,
}

/// What an apply came to.
#[derive(Debug)]
pub struct Applied {
    /// The bytes in which the copy differs from the image.
    pub written: Tally,
    /// How the copy stood before.
    pub standing: Standing,
    /// The copy as it is now.
    pub measured: Measured,
    /// It is what the plan said.
    pub as_planned: bool,
}

/// What an undo came to.
#[derive(Debug, Clone)]
pub struct Undone {
    /// The bytes that were put back.
    pub restored: Tally,
    /// How the copy stood before.
    pub standing: Standing,
    /// Places of the image that could not be read when the copy was made: zeros stand there, before and after.
    pub unread: Vec<Extent>,
}

/// Carries `plan` out on a copy of `image`, or finishes doing so.
pub fn apply(
    plan: &Plan,
    image: &dyn Medium,
    place: &mut dyn Workplace,
    watch: &dyn Watch,
) -> Result<Applied, ApplyError> {
    let unlisted = medium::without(image.unknown(Unknown::Unreadable), plan.image.unreadable.clone());
    if let Some(first) = unlisted.first() {
        let bytes = unlisted.iter().map(|extent| extent.length).sum();
        return Err(PlanError::Unlisted { bytes, first: first.offset }.into());
    }
    // The copy has zeros for what could not be read when the plan was made, whatever the image has there now.
    let medium = WithUnreadable::with_lost(image, plan.image.unreadable.clone());
    let image: &dyn Medium = &medium;
    let quick = plan.fits(image, watch)?;
    let has_copy = place.has_copy().map_err(|e| ("looking for the copy", e))?;
    let journal = match place.journal().map_err(|e| ("reading the journal", e))? {
        Some(found) => Journal::open(found)?.filter(|journal| is_of(journal, plan)),
        None if has_copy => return Err(ApplyError::CopyExists),
        None => {
            save_journal(plan, image, place)?;
            standing_journal(place)?
        }
    };
    let journal = journal.ok_or(ApplyError::OtherJournal)?;
    let standing = if has_copy {
        must_be_ours(&journal, place)?
    } else {
        // The image may have changed underneath since the plan was held against it.
        let mut inspect = |copy: &dyn Medium| {
            if copy.len() != image.len()
                || quick.first_other(copy, &plan.image.evidence, watch).map_err(io::Error::other)?.is_some()
            {
                return Err(io::Error::other("the image changed while it was copied"));
            }
            must_be_unchanged(&journal, copy)
        };
        place.make_copy(image, &mut inspect, watch).map_err(|e| ("making the copy", e))?;
        Standing::New
    };
    let written = carry_out(&journal, place, watch)?;
    let copy = place.copy().map_err(|e| ("opening the copy", e))?;
    let copy = WithUnreadable::with_lost(&*copy, plan.outcome.lost.clone());
    let (measured, _) = measure(&copy, plan.subject(), watch)?;
    let as_planned = measured == plan.outcome.after && written == plan.outcome.written;
    Ok(Applied { written, standing, measured, as_planned })
}

/// A copy that has nothing of what the journal is about to change.
pub(super) fn must_be_unchanged(journal: &Journal, copy: &dyn Medium) -> io::Result<()> {
    match compare(journal, copy).map_err(io::Error::other)? {
        Standing::Unchanged | Standing::New => Ok(()),
        _ => Err(io::Error::other("the image changed while it was copied")),
    }
}

/// Writes what the journal has into the copy, durably; gives the bytes that it makes others.
pub(super) fn carry_out(
    journal: &Journal,
    place: &mut dyn Workplace,
    watch: &dyn Watch,
) -> Result<Tally, ApplyError> {
    let mut counting = Counting::default();
    for (number, record) in journal.records().enumerate() {
        if watch.stop() {
            // The journal has both sides: the next run goes on, or undo takes it back.
            return Err(MediumError::Stopped.into());
        }
        watch.at("writing the changes", number.wide(), journal.len().wide());
        let record = record?;
        place.write(record.offset, &record.new).map_err(|e| ("writing into the copy", e))?;
        counting.add(record.offset, &record.old, &record.new);
    }
    place.sync().map_err(|e| ("writing the copy out to the disk", e))?;
    Ok(counting.tally)
}

fn is_of(journal: &Journal, plan: &Plan) -> bool {
    journal.header.seal == plan.seal && journal.header.bytes == plan.image.bytes
}

/// Writes the journal that applying `plan` to `image` needs.
fn save_journal(plan: &Plan, image: &dyn Medium, place: &mut dyn Workplace) -> Result<(), ApplyError> {
    let overlay = plan.replay(image)?;
    let changed = overlay.changed();
    let unread = image.unknown(Unknown::Lost);
    let header =
        Header { schema: journal::SCHEMA.to_owned(), bytes: image.len(), seal: plan.seal.clone(), unread };
    let mut write = |out: &mut dyn io::Write| journal::write(out, &header, &changed, image, &overlay);
    let saved = place.save_journal(&mut write);
    overlay.sound()?;
    match saved {
        // Somebody was faster: an apply of another plan on the same copy.
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(ApplyError::OtherJournal),
        other => Ok(other.map_err(|e| ("writing the journal", e))?),
    }
}

pub(super) fn standing_journal(place: &mut dyn Workplace) -> Result<Option<Journal>, ApplyError> {
    let found = place.journal().map_err(|e| ("reading the journal", e))?;
    Ok(match found {
        Some(found) => Journal::open(found)?,
        None => None,
    })
}

/// How much of the journal a copy has: an error where a byte is neither the old nor the new one.
fn compare(journal: &Journal, copy: &dyn Medium) -> Result<Standing, ApplyError> {
    let (mut old, mut new) = (true, true);
    for record in journal.records() {
        let record = record?;
        let extent = record.extent();
        let bytes = copy.bytes(extent.offset, extent.length.size())?;
        if !record.explains(&bytes) {
            return Err(ApplyError::Foreign(extent.offset, extent.end()));
        }
        old = old && bytes == record.old;
        new = new && bytes == record.new;
    }
    Ok(match (old, new) {
        (true, _) => Standing::Unchanged,
        (false, true) => Standing::Changed,
        (false, false) => Standing::Partly,
    })
}

fn must_be_ours(journal: &Journal, place: &mut dyn Workplace) -> Result<Standing, ApplyError> {
    let copy = place.copy().map_err(|e| ("opening the copy", e))?;
    let (has, needs) = (copy.len(), journal.header.bytes);
    if has != needs {
        return Err(ApplyError::Foreign(has.min(needs), has.max(needs)));
    }
    compare(journal, &*copy)
}

/// Puts the old bytes back into a copy. Undoing twice does no harm.
pub fn undo(place: &mut dyn Workplace) -> Result<Undone, ApplyError> {
    let found = place.journal().map_err(|e| ("reading the journal", e))?.ok_or(ApplyError::NoJournal)?;
    let journal = Journal::open(found)?.ok_or(ApplyError::BadJournal)?;
    if !place.has_copy().map_err(|e| ("looking for the copy", e))? {
        return Err(ApplyError::NoCopy);
    }
    let standing = must_be_ours(&journal, place)?;
    let mut counting = Counting::default();
    for record in journal.records() {
        let record = record?;
        place.write(record.offset, &record.old).map_err(|e| ("writing into the copy", e))?;
        counting.add(record.offset, &record.old, &record.new);
    }
    place.sync().map_err(|e| ("writing the copy out to the disk", e))?;
    Ok(Undone { restored: counting.tally, standing, unread: journal.header.unread.clone() })
}
