//! The bytes of the image that a plan rests on, each range by its digest.
//!
//! Most of what is read of a volume is zeros. Where whole blocks of a range are, they are a range of their own: the digest of
//! zeros is taken once for each length.

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
    sync::{LazyLock, Mutex, PoisonError},
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
/// Zeros that are hashed at once, and looked for.
static ZEROS: [u8; 1 << 16] = [0; 1 << 16];
/// Bytes of a block that becomes part of a range of its own where it is zeros, and blocks that are read at once.
const BLOCK: u64 = 1 << 16;
const BLOCKS: u64 = 16;

/// Takes the digests of these ranges, in order.
pub(crate) fn take(
    image: &dyn Medium,
    ranges: &[Extent],
    watch: &dyn Watch,
) -> Result<Vec<Evidence>, MediumError> {
    let mut list = Vec::with_capacity(ranges.len());
    for batch in ranges.chunks(BATCH) {
        stop_or(watch, "taking digests of the evidence", list.len(), ranges.len())?;
        let taken: Result<Vec<Vec<Evidence>>, MediumError> =
            batch.par_iter().map(|extent| of_parts(image, *extent)).collect();
        list.extend(taken?.into_iter().flatten());
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
    let mut quick = Vec::with_capacity(list.len());
    for batch in list.chunks(BATCH) {
        stop_or(watch, "comparing the image with the plan", quick.len(), list.len())?;
        let of = |piece: &Evidence| -> Result<Option<u32>, MediumError> {
            if piece.extent().end() > image.len() {
                return Ok(None);
            }
            let (digest, quick) = digest(image, piece.extent())?;
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

/// Digests and check values of zeros, by their number: a digest of zeros takes as long as one of anything else.
static OF_ZEROS: LazyLock<Mutex<HashMap<u64, (String, u32)>>> = LazyLock::new(Mutex::default);
/// Numbers of zeros of which they are kept.
const KEPT: usize = 1 << 12;

/// Digest and check value of a range.
fn digest(image: &dyn Medium, extent: Extent) -> Result<(String, u32), MediumError> {
    if image.data_from(extent.offset).is_none_or(|data| data.offset >= extent.end()) {
        return Ok(of_zeros(extent.length));
    }
    // Zeros at the start are counted, and hashed only where something follows.
    let (mut hash, mut zeros, mut quick) = (None, 0_u64, crc32fast::Hasher::new());
    each(image, extent, |bytes| {
        quick.update(bytes);
        if hash.is_none() && is_zeros(bytes) {
            zeros = zeros.plus(bytes.len().wide());
        } else {
            hash.get_or_insert_with(|| hash_of_zeros(zeros)).update(bytes);
        }
    })?;
    Ok(match hash {
        Some(hash) => (hex::encode(hash.finalize()), quick.finalize()),
        None => of_zeros(extent.length),
    })
}

fn of_zeros(length: u64) -> (String, u32) {
    let kept = || OF_ZEROS.lock().unwrap_or_else(PoisonError::into_inner);
    let known = kept().get(&length).cloned();
    known.unwrap_or_else(|| {
        let mut quick = crc32fast::Hasher::new();
        fill(length, &mut |zeros| quick.update(zeros));
        let fresh = (hex::encode(hash_of_zeros(length).finalize()), quick.finalize());
        let mut kept = kept();
        if kept.len() < KEPT {
            kept.insert(length, fresh.clone());
        }
        fresh
    })
}

/// Digests of a range, its blocks of zeros by themselves.
fn of_parts(image: &dyn Medium, extent: Extent) -> Result<Vec<Evidence>, MediumError> {
    let mut parts: Vec<Evidence> = Vec::new();
    let mut open: Option<(Extent, Option<Sha256>)> = None;
    let close = |part: Option<(Extent, Option<Sha256>)>| {
        part.map(|(Extent { offset, length }, hash)| Evidence {
            offset,
            length,
            sha256: hash.map_or_else(|| of_zeros(length).0, |hash| hex::encode(hash.finalize())),
        })
    };
    blocks(image, extent, |block, bytes| match (&mut open, bytes) {
        (Some((part, Some(hash))), Some(bytes)) => {
            part.length = part.length.plus(block.length);
            hash.update(bytes);
        }
        (Some((part, None)), None) => part.length = part.length.plus(block.length),
        (_, bytes) => {
            let hash = bytes.map(|bytes| Sha256::new().chain_update(bytes));
            parts.extend(close(open.replace((block, hash))));
        }
    })?;
    parts.extend(close(open));
    Ok(parts)
}

/// Gives the blocks of a range in order, those of zeros without their bytes. What is less than a block counts as content.
fn blocks(
    image: &dyn Medium,
    extent: Extent,
    mut take: impl FnMut(Extent, Option<&[u8]>),
) -> Result<(), MediumError> {
    let end = extent.end();
    let border = |at: u64| at.per(BLOCK).times(BLOCK);
    let mut buffer = Vec::new();
    let mut at = extent.offset;
    while at < end {
        let data = image.data_from(at).filter(|data| data.offset < end);
        // A hole, up to the block in which something stands.
        let hole = data.map_or(end, |data| border(data.offset));
        if hole >= at.plus(BLOCK) || data.is_none() && at == extent.offset {
            take(Extent::new(at, hole.minus(at)), None);
            at = hole;
            continue;
        }
        let stands = data.map_or(end, |data| border(data.end().plus(BLOCK).minus(1)));
        let stop = border(at.plus(BLOCK.times(BLOCKS))).min(stands.max(border(at).plus(BLOCK))).min(end);
        buffer.resize(stop.minus(at).size(), 0);
        image.read_at(at, &mut buffer)?;
        let mut rest = buffer.as_slice();
        while !rest.is_empty() {
            let length = border(at).plus(BLOCK).minus(at).size().min(rest.len());
            let (block, behind) = rest.split_at(length);
            let zeros = length.wide() == BLOCK && is_zeros(block);
            take(Extent::new(at, length.wide()), (!zeros).then_some(block));
            (rest, at) = (behind, at.plus(length.wide()));
        }
    }
    Ok(())
}

fn is_zeros(bytes: &[u8]) -> bool {
    bytes.chunks(ZEROS.len()).all(|part| ZEROS.get(..part.len()) == Some(part))
}

fn hash_of_zeros(length: u64) -> Sha256 {
    let mut hash = Sha256::new();
    fill(length, &mut |zeros| hash.update(zeros));
    hash
}

/// Gives so many zeros.
fn fill(length: u64, take: &mut dyn FnMut(&[u8])) {
    let mut left = length;
    while left > 0 {
        let piece = ZEROS.get(..left.size()).unwrap_or(&ZEROS);
        take(piece);
        left = left.minus(piece.len().wide());
    }
}

/// Gives all bytes of a range, in order, those of holes as well.
fn each(image: &dyn Medium, extent: Extent, mut take: impl FnMut(&[u8])) -> Result<(), MediumError> {
    let mut at = extent.offset;
    image.pieces(extent, |offset, bytes| {
        fill(offset.minus(at), &mut take);
        take(bytes);
        at = offset.plus(bytes.len().wide());
        Ok::<(), MediumError>(())
    })?;
    fill(extent.end().minus(at), &mut take);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{medium::Memory, progress::Silent};

    fn sha(bytes: &[u8]) -> String {
        hex::encode(Sha256::digest(bytes))
    }

    #[test]
    fn blocks_of_zeros_are_ranges_of_their_own_and_every_byte_is_held() {
        let block = usize::try_from(BLOCK).unwrap();
        let mut bytes = vec![0_u8; 40 * block];
        for at in [5, 3 * block, 30 * block + 7, 39 * block] {
            bytes[at] = 1;
        }
        let image = Memory::new(bytes.clone());
        let ranges =
            [Extent::new(100, 35 * BLOCK), Extent::new(36 * BLOCK, 3 * BLOCK), Extent::new(39 * BLOCK, 512)];
        let list = take(&image, &ranges, &Silent).unwrap();
        let found: Vec<(u64, u64)> = list.iter().map(|piece| (piece.offset, piece.length)).collect();
        let expected = [
            (100, BLOCK - 100),
            (BLOCK, 2 * BLOCK),
            (3 * BLOCK, BLOCK),
            (4 * BLOCK, 26 * BLOCK),
            (30 * BLOCK, BLOCK),
            (31 * BLOCK, 4 * BLOCK),
            (35 * BLOCK, 100),
            (36 * BLOCK, 3 * BLOCK),
            (39 * BLOCK, 512),
        ];
        assert_eq!(found, expected);
        for piece in &list {
            let (from, to) = (piece.offset.size(), piece.extent().end().size());
            assert_eq!(piece.sha256, sha(&bytes[from..to]), "{piece:?}");
        }
        assert!(hold(&image, &list, &Silent).unwrap().is_ok());
        // One byte anywhere is noticed, in its range, by the digest and by the check value.
        for at in
            [100, BLOCK, 3 * BLOCK, 17 * BLOCK + 3, 31 * BLOCK, 35 * BLOCK + 99, 38 * BLOCK, 39 * BLOCK + 511]
        {
            let mut other = bytes.clone();
            other[at.size()] ^= 0x80;
            let other = Memory::new(other);
            let first = hold(&other, &list, &Silent).unwrap().err().unwrap();
            assert!((first.offset..first.end()).contains(&at), "{at}: {first:?}");
            let quick = hold(&image, &list, &Silent).unwrap().ok().unwrap();
            assert_eq!(quick.first_other(&other, &list, &Silent).unwrap(), Some(first));
        }
    }
}
