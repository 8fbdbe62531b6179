//! The bytes of the image that a plan rests on, each range by its digest.

use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
};

/// A range that a plan rests on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    /// Bytes from the start of the image.
    pub offset: u64,
    /// Bytes.
    pub length: u64,
    /// Their SHA-256.
    pub sha256: String,
}

impl Evidence {
    /// Where the range lies.
    pub fn extent(&self) -> Extent {
        Extent::new(self.offset, self.length)
    }
}

/// Ranges between two looks at whether to stop.
const BATCH: usize = 256;
/// Zeros that are hashed at once.
static ZEROS: [u8; 1 << 16] = [0; 1 << 16];

/// Takes the digests of these ranges, in order.
pub(crate) fn take(
    image: &dyn Medium,
    ranges: &[Extent],
    watch: &dyn Watch,
) -> Result<Vec<Evidence>, MediumError> {
    let mut list = Vec::with_capacity(ranges.len());
    let digests = Digests::default();
    for batch in ranges.chunks(BATCH) {
        stop_or(watch, "taking digests of the evidence", list.len(), ranges.len())?;
        let taken: Result<Vec<String>, MediumError> =
            batch.par_iter().map(|extent| digests.of(image, *extent)).collect();
        let pairs = batch.iter().zip(taken?);
        list.extend(pairs.map(|(extent, sha256)| Evidence {
            offset: extent.offset,
            length: extent.length,
            sha256,
        }));
    }
    Ok(list)
}

/// The first range whose bytes are not those that a digest was taken of.
pub(crate) fn first_changed(
    image: &dyn Medium,
    list: &[Evidence],
    watch: &dyn Watch,
) -> Result<Option<Extent>, MediumError> {
    let digests = Digests::default();
    for (number, batch) in list.chunks(BATCH).enumerate() {
        stop_or(watch, "comparing the image with the plan", number.times(BATCH), list.len())?;
        let differs = |piece: &Evidence| -> Result<Option<Extent>, MediumError> {
            let extent = piece.extent();
            let same = extent.end() <= image.len() && digests.of(image, extent)? == piece.sha256;
            Ok((!same).then_some(extent))
        };
        let found: Result<Vec<Option<Extent>>, MediumError> = batch.par_iter().map(differs).collect();
        if let Some(extent) = found?.into_iter().flatten().next() {
            return Ok(Some(extent));
        }
    }
    Ok(None)
}

fn stop_or(watch: &dyn Watch, work: &str, done: usize, of: usize) -> Result<(), MediumError> {
    if watch.stop() {
        return Err(MediumError::Stopped);
    }
    watch.at(work, done.wide(), of.wide());
    Ok(())
}

/// Takes digests, those of holes once for each length.
#[derive(Default)]
struct Digests {
    holes: Mutex<HashMap<u64, String>>,
}

impl Digests {
    fn of(&self, image: &dyn Medium, extent: Extent) -> Result<String, MediumError> {
        let hole = image.data_from(extent.offset).is_none_or(|data| data.offset >= extent.end());
        if !hole {
            return digest(image, extent);
        }
        let known = self.holes.lock().unwrap_or_else(PoisonError::into_inner).get(&extent.length).cloned();
        if let Some(known) = known {
            return Ok(known);
        }
        let fresh = digest(image, extent)?;
        self.holes.lock().unwrap_or_else(PoisonError::into_inner).insert(extent.length, fresh.clone());
        Ok(fresh)
    }
}

fn digest(image: &dyn Medium, extent: Extent) -> Result<String, MediumError> {
    let mut hash = Sha256::new();
    let mut at = extent.offset;
    let fill = |hash: &mut Sha256, from: u64, to: u64| {
        let mut left = to.minus(from);
        while left > 0 {
            let piece = ZEROS.get(..left.size()).unwrap_or(&ZEROS);
            hash.update(piece);
            left = left.minus(piece.len().wide());
        }
    };
    image.pieces(extent, |offset, bytes| {
        fill(&mut hash, at, offset);
        hash.update(bytes);
        at = offset.plus(bytes.len().wide());
        Ok::<(), MediumError>(())
    })?;
    fill(&mut hash, at, extent.end());
    Ok(hex::encode(hash.finalize()))
}
