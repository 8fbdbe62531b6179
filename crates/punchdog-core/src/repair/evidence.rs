//! The bytes of the image that a plan rests on, each range by its digest.

use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
};

/// A range that a plan rests on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
            batch.par_iter().map(|extent| Ok(digests.of(image, *extent)?.0)).collect();
        let pairs = batch.iter().zip(taken?);
        list.extend(pairs.map(|(extent, sha256)| Evidence {
            offset: extent.offset,
            length: extent.length,
            sha256,
        }));
    }
    Ok(list)
}

/// What holding the image against its evidence leaves for holding a copy of it: a check value of each range (CRC-32), as
/// it takes a tenth of the time of a digest.
pub(crate) struct Quick(Vec<u32>);

/// Holds an image against its evidence; otherwise the first range whose bytes are not those that a digest was taken of.
pub(crate) fn hold(
    image: &dyn Medium,
    list: &[Evidence],
    watch: &dyn Watch,
) -> Result<Result<Quick, Extent>, MediumError> {
    let digests = Digests::default();
    let mut quick = Vec::with_capacity(list.len());
    for batch in list.chunks(BATCH) {
        stop_or(watch, "comparing the image with the plan", quick.len(), list.len())?;
        let of = |piece: &Evidence| -> Result<Option<u32>, MediumError> {
            if piece.extent().end() > image.len() {
                return Ok(None);
            }
            let (digest, quick) = digests.of(image, piece.extent())?;
            Ok((digest == piece.sha256).then_some(quick))
        };
        let found: Result<Vec<Option<u32>>, MediumError> = batch.par_iter().map(of).collect();
        for (piece, found) in batch.iter().zip(found?) {
            match found {
                Some(found) => quick.push(found),
                None => return Ok(Err(piece.extent())),
            }
        }
    }
    Ok(Ok(Quick(quick)))
}

impl Quick {
    /// The first range of a copy that is not as it was in the image.
    pub(crate) fn first_other(
        &self,
        copy: &dyn Medium,
        list: &[Evidence],
        watch: &dyn Watch,
    ) -> Result<Option<Extent>, MediumError> {
        for (number, (piece, known)) in list.iter().zip(&self.0).enumerate() {
            if number.rest(BATCH) == 0 {
                stop_or(watch, "comparing the copy with the image", number, list.len())?;
            }
            let mut sum = crc32fast::Hasher::new();
            each(copy, piece.extent(), |bytes| sum.update(bytes))?;
            if sum.finalize() != *known {
                return Ok(Some(piece.extent()));
            }
        }
        Ok(None)
    }
}

fn stop_or(watch: &dyn Watch, work: &str, done: usize, of: usize) -> Result<(), MediumError> {
    if watch.stop() {
        return Err(MediumError::Stopped);
    }
    watch.at(work, done.wide(), of.wide());
    Ok(())
}

/// Takes digests and check values, those of holes once for each length.
#[derive(Default)]
struct Digests {
    holes: Mutex<HashMap<u64, (String, u32)>>,
}

impl Digests {
    fn of(&self, image: &dyn Medium, extent: Extent) -> Result<(String, u32), MediumError> {
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

fn digest(image: &dyn Medium, extent: Extent) -> Result<(String, u32), MediumError> {
    let (mut hash, mut quick) = (Sha256::new(), crc32fast::Hasher::new());
    each(image, extent, |bytes| {
        hash.update(bytes);
        quick.update(bytes);
    })?;
    Ok((hex::encode(hash.finalize()), quick.finalize()))
}

/// Gives all bytes of a range, in order, those of holes as well.
fn each(image: &dyn Medium, extent: Extent, mut take: impl FnMut(&[u8])) -> Result<(), MediumError> {
    let fill = |from: u64, to: u64, take: &mut dyn FnMut(&[u8])| {
        let mut left = to.minus(from);
        while left > 0 {
            let piece = ZEROS.get(..left.size()).unwrap_or(&ZEROS);
            take(piece);
            left = left.minus(piece.len().wide());
        }
    };
    let mut at = extent.offset;
    image.pieces(extent, |offset, bytes| {
        fill(at, offset, &mut take);
        take(bytes);
        at = offset.plus(bytes.len().wide());
        Ok::<(), MediumError>(())
    })?;
    fill(at, extent.end(), &mut take);
    Ok(())
}
