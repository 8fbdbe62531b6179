//! Carrying a plan out on a copy.
//!
//! The order of the writes is the promise:
//!
//! ```text
//! 1  the journal, whole and durable     killed here: no copy, or a copy that was never changed
//! 2  the copy, whole and durable        (made under another name, then renamed)
//! 3  the changes, one after the other   killed here: each byte is the old or the new one, and the
//! 4  durable                            journal has both: run again to finish, or undo
//! 5  the copy is examined, and held against the plan's outcome
//! ```

use crate::{
    arith::Sat,
    journal::{self, Header, Journal, Record},
    measure::{Measured, measure},
    medium::{Medium, MediumError},
    plan::{Plan, PlanError},
    progress::Watch,
};
use std::io;

/// Where the copy and its journal are kept. The program does it with files, tests with memory
/// that fails.
pub trait Workplace {
    /// The journal, if there is one.
    fn load_journal(&mut self) -> io::Result<Option<Vec<u8>>>;
    /// Puts the journal there, whole and durable, or not at all.
    fn save_journal(&mut self, bytes: &[u8]) -> io::Result<()>;
    /// True when there is a copy.
    fn has_copy(&mut self) -> io::Result<bool>;
    /// Makes the copy, whole and durable, or not at all.
    fn make_copy(&mut self, image: &dyn Medium, watch: &dyn Watch) -> io::Result<()>;
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
    #[error("the copy already exists, and no journal of this plan stands beside it: name a new file")]
    CopyExists,
    /// The copy belongs to another plan.
    #[error("the journal beside the copy is of another plan: name a new file for this one")]
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

/// What an apply came to.
#[derive(Debug)]
pub struct Applied {
    /// Bytes that were changed.
    pub changed: u64,
    /// Ranges that were changed.
    pub ranges: usize,
    /// An earlier apply was finished.
    pub resumed: bool,
    /// The copy as it is now.
    pub measured: Measured,
    /// It is what the plan said.
    pub as_planned: bool,
}

/// The journal that applying `plan` to `image` needs.
fn journal_for(plan: &Plan, image: &dyn Medium) -> Result<Journal, ApplyError> {
    let overlay = plan.replay(image)?;
    let changed = overlay.changed();
    let after: &dyn Medium = &overlay;
    let mut records = Vec::new();
    for extent in changed {
        let old = image.bytes(extent.offset, extent.length.size())?;
        let new = after.bytes(extent.offset, extent.length.size())?;
        records.push(Record { offset: extent.offset, old, new });
    }
    let header = Header { schema: journal::SCHEMA.to_owned(), bytes: image.len(), seal: plan.seal.clone() };
    Ok(Journal { header, records })
}

/// Carries `plan` out on a copy of `image`, or finishes doing so.
pub fn apply(
    plan: &Plan,
    image: &dyn Medium,
    place: &mut dyn Workplace,
    watch: &dyn Watch,
) -> Result<Applied, ApplyError> {
    plan.must_fit(image, watch)?;
    let journal = journal_for(plan, image)?;
    let bytes = journal.encode();
    let standing = place.load_journal().map_err(|e| ("reading the journal", e))?;
    let has_copy = place.has_copy().map_err(|e| ("looking for the copy", e))?;
    let mut resumed = false;
    match standing {
        Some(found) if found == bytes => resumed = has_copy,
        // A journal that is not whole was never relied on: nothing was written after it.
        Some(found) if Journal::decode(&found).is_some() || has_copy => return Err(ApplyError::OtherJournal),
        _ if has_copy => return Err(ApplyError::CopyExists),
        _ => place.save_journal(&bytes).map_err(|e| ("writing the journal", e))?,
    }
    if has_copy {
        must_be_ours(&journal, place)?;
    } else {
        place.make_copy(image, watch).map_err(|e| ("making the copy", e))?;
    }
    let all = journal.records.len().wide();
    for (number, record) in journal.records.iter().enumerate() {
        watch.at("writing the changes", number.wide(), all);
        place.write(record.offset, &record.new).map_err(|e| ("writing into the copy", e))?;
    }
    place.sync().map_err(|e| ("writing the copy out to the disk", e))?;
    let copy = place.copy().map_err(|e| ("opening the copy", e))?;
    let (measured, _) = measure(&*copy, plan.subject(), watch)?;
    Ok(Applied {
        changed: journal.records.iter().fold(0, |sum, record| sum.plus(record.extent().length)),
        ranges: journal.records.len(),
        resumed,
        as_planned: measured == plan.outcome.after,
        measured,
    })
}

fn must_be_ours(journal: &Journal, place: &mut dyn Workplace) -> Result<(), ApplyError> {
    let copy = place.copy().map_err(|e| ("opening the copy", e))?;
    if copy.len() != journal.header.bytes {
        return Err(ApplyError::Foreign(
            copy.len().min(journal.header.bytes),
            copy.len().max(journal.header.bytes),
        ));
    }
    for record in &journal.records {
        let extent = record.extent();
        if !record.explains(&copy.bytes(extent.offset, extent.length.size())?) {
            return Err(ApplyError::Foreign(extent.offset, extent.end()));
        }
    }
    Ok(())
}

/// Puts the old bytes back into a copy. Returns how many ranges and bytes that were. Undoing
/// twice does no harm.
pub fn undo(place: &mut dyn Workplace) -> Result<(usize, u64), ApplyError> {
    let bytes = place.load_journal().map_err(|e| ("reading the journal", e))?.ok_or(ApplyError::NoJournal)?;
    let journal = Journal::decode(&bytes).ok_or(ApplyError::BadJournal)?;
    if !place.has_copy().map_err(|e| ("looking for the copy", e))? {
        return Ok((0, 0));
    }
    must_be_ours(&journal, place)?;
    for record in &journal.records {
        place.write(record.offset, &record.old).map_err(|e| ("writing into the copy", e))?;
    }
    place.sync().map_err(|e| ("writing the copy out to the disk", e))?;
    Ok((
        journal.records.len(),
        journal.records.iter().fold(0, |sum, record| sum.plus(record.extent().length)),
    ))
}
