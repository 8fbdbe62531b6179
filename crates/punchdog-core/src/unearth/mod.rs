//! Files that no folder names: deleted, of an older file system beneath, and found by their content.
//!
//! Three searches, each in what the one before leaves:
//!
//! ```text
//! deleted    entries and records that are no longer in use, of each volume             (judge.rs)
//! older      what a file system left that was on the medium before, seen where the live one has nothing (older.rs)
//! unnamed    beginnings of files in space that nothing claims, walked to their ends    (content.rs, pieces.rs)
//! ```
//!
//! What was found is passed on as it is found. A file is called complete where its own structure proves it; where
//! only the place of its clusters speaks for it, it is likely.

mod content;
mod find;
mod ground;
mod judge;
mod older;
mod pieces;
mod segment;
mod trial;

pub use find::{Complete, Find, Stretch};
pub use ground::Ground;

use crate::{
    arith::Sat,
    diagnosis::Target,
    formats::Group,
    medium::{Extent, Medium, MediumError, Window},
    progress::Watch,
};
use rangemap::RangeSet;
use std::collections::HashSet;

/// What is searched for, and where.
#[derive(Debug, Clone)]
pub struct Wish {
    /// Kinds of files; all where it is empty.
    pub groups: Vec<Group>,
    /// Bytes of the image in which files begin.
    pub range: Extent,
    /// Space outside of volumes is searched too.
    pub outside: bool,
    /// Where something else stands that an older volume may lie beneath, and what it is.
    pub others: Vec<(Extent, &'static str)>,
}

impl Wish {
    fn wants(&self, group: Group) -> bool {
        self.groups.is_empty() || self.groups.contains(&group)
    }
}

/// What an earlier search found that was stopped.
#[derive(Debug, Default)]
pub struct Earlier {
    /// Content was searched up to this byte of the image.
    pub searched_to: u64,
    /// Deleted and older files were all found.
    pub named: bool,
    /// Ranges of files that were found whole.
    pub claimed: RangeSet<u64>,
    /// Where files begin that are known by name.
    pub starts: HashSet<u64>,
    /// Where files begin whose structure broke.
    pub broken: Vec<u64>,
}

/// How a search ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outcome {
    /// All was searched.
    pub done: bool,
    /// Deleted and older files were all found.
    pub named: bool,
    /// Content was searched up to this byte.
    pub searched_to: u64,
}

/// Takes finds as they are made.
pub type Take<'t> = dyn FnMut(Find) -> std::io::Result<()> + 't;

/// Why a search failed.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// Bytes could not be read.
    #[error(transparent)]
    Medium(#[from] MediumError),
    /// A find could not be written down.
    #[error("what was found cannot be written down: {0}")]
    Written(#[from] std::io::Error),
}

/// The state of a search.
struct Search<'s> {
    image: &'s dyn Medium,
    wish: &'s Wish,
    ground: Ground,
    /// Ranges of files that were found whole.
    claimed: RangeSet<u64>,
    /// Where files begin that are known by name.
    starts: HashSet<u64>,
    watch: &'s dyn Watch,
}

/// Searches `image`, on which `targets` are the volumes, and goes on from `earlier`.
///
/// # Errors
/// When the image cannot be read, or `take` fails. Being told to stop is no error: the outcome says how far it came.
pub fn search(
    image: &dyn Medium,
    targets: &[Target],
    wish: &Wish,
    earlier: Earlier,
    take: &mut Take<'_>,
    watch: &dyn Watch,
) -> Result<Outcome, Error> {
    match all(image, targets, wish, earlier, take, watch) {
        // While a volume was read: nothing of the search was begun.
        Err(Error::Medium(MediumError::Stopped)) => Ok(Outcome { done: false, named: false, searched_to: 0 }),
        other => other,
    }
}

fn all(
    image: &dyn Medium,
    targets: &[Target],
    wish: &Wish,
    earlier: Earlier,
    take: &mut Take<'_>,
    watch: &dyn Watch,
) -> Result<Outcome, Error> {
    let (mut surveys, mut grids) = (Vec::new(), Vec::new());
    let mut ground = Ground::new(image.len());
    for target in targets {
        let window = Window::new(image, target.extent);
        let mut survey = target.survey(&window, watch)?;
        grids.push(survey.occupied().grid());
        ground.add(target, survey.as_mut(), &window);
        surveys.push(survey);
    }
    ground.close(wish.outside, targets);
    let Earlier { searched_to, named, claimed, starts, broken } = earlier;
    let mut search = Search { image, wish, ground, claimed, starts, watch };
    if !named {
        for (target, survey) in targets.iter().zip(&mut surveys) {
            search.deleted(target, survey.as_mut(), take)?;
        }
        drop(surveys);
        for (target, grid) in targets.iter().zip(grids) {
            search.older(target, grid, take)?;
        }
        let others: &[_] = if wish.outside { &wish.others } else { &[] };
        for (extent, title) in others {
            search.older_in(*extent, None, title, take)?;
        }
        if watch.stop() {
            return Ok(Outcome { done: false, named: false, searched_to: 0 });
        }
    }
    let mut pending: Vec<content::Pending> = broken.into_iter().filter_map(|at| search.again(at)).collect();
    let searched_to = search.by_content(searched_to.max(wish.range.offset), &mut pending, take)?;
    let all = !watch.stop();
    let left = search.pieces(pending, take)?;
    Ok(Outcome { done: all && left == 0, named: true, searched_to })
}

/// The bytes of an image that tell it from others: a digest of sectors spread over it.
pub fn digest(image: &dyn Medium) -> String {
    use sha2::{Digest, Sha256};
    const SAMPLES: u64 = 64;
    let mut hash = Sha256::new();
    let step = image.len().per(SAMPLES).max(512);
    for number in 0..SAMPLES {
        let at = number.times(step).per(512).times(512);
        let length = image.len().minus(at).min(512);
        hash.update(&image.lenient(at, length.size()).bytes);
    }
    hex::encode(hash.finalize())
}
