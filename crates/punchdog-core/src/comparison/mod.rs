//! Two media, or two contents, held against each other: in pieces, so that neither is in memory, and holes of both are
//! passed over.

use crate::{
    arith::Sat,
    formats::Source,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};
use sha2::{Digest, Sha256};

/// Bytes that are compared at once.
const PIECE: usize = 1 << 20;
/// Differing bytes that lie nearer are one place.
const NEAR: u64 = 512;
/// Places that are kept; the bytes of further ones are counted.
const KEPT: usize = 100_000;

/// What differs between two media.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Differences {
    /// Bytes that differ.
    pub bytes: u64,
    /// Where, in order; those less than 512 bytes apart are one.
    pub places: Vec<Extent>,
    /// There are more places than are kept.
    pub more: bool,
}

impl Differences {
    fn add(&mut self, at: u64) {
        self.bytes = self.bytes.plus(1);
        let room = self.places.len() < KEPT;
        match self.places.last_mut() {
            Some(last) if at.minus(last.end()) < NEAR => last.length = at.plus(1).minus(last.offset),
            _ if room => self.places.push(Extent::new(at, 1)),
            _ => self.more = true,
        }
    }
}

/// Compares the first `length` bytes of two media.
///
/// # Errors
/// When either cannot be read, or when told to stop.
pub fn bytes(
    one: &dyn Medium,
    other: &dyn Medium,
    length: u64,
    watch: &dyn Watch,
) -> Result<Differences, MediumError> {
    let mut found = Differences::default();
    let (mut left, mut right) = (vec![0; PIECE], vec![0; PIECE]);
    let mut at = 0;
    while at < length {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("comparing", at, length);
        // Where both have nothing but holes, both have zeros.
        let next = [one, other].map(|medium| medium.data_from(at).map_or(length, |data| data.offset));
        at = next.into_iter().min().unwrap_or(at).per(NEAR).times(NEAR).max(at).min(length);
        let piece = length.minus(at).min(PIECE.wide()).size();
        let (Some(left), Some(right)) = (left.get_mut(..piece), right.get_mut(..piece)) else { break };
        one.read_at(at, left)?;
        other.read_at(at, right)?;
        if left != right {
            let pairs = left.iter().zip(right.iter()).enumerate();
            pairs.filter(|(_, (a, b))| a != b).for_each(|(index, _)| found.add(at.plus(index.wide())));
        }
        at = at.plus(piece.wide());
    }
    Ok(found)
}

/// What two contents come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Compared {
    /// The first byte that differs, or that only one has; `None` where they are the same.
    pub from: Option<u64>,
    /// The SHA-256 of each, in hexadecimal.
    pub sha256: [String; 2],
}

/// Compares two contents; `None` when told to stop.
pub fn contents(one: &dyn Source, other: &dyn Source, watch: &dyn Watch) -> Option<Compared> {
    let longest = one.len().max(other.len());
    let mut sums = [Sha256::new(), Sha256::new()];
    let mut from = (one.len() != other.len()).then(|| one.len().min(other.len()));
    let (mut left, mut right) = (vec![0; PIECE], vec![0; PIECE]);
    let mut at = 0;
    while at < longest {
        if watch.stop() {
            return None;
        }
        let there = |source: &dyn Source| source.len().minus(at).min(PIECE.wide()).size();
        let left = left.get_mut(..there(one)).unwrap_or(&mut []);
        let right = right.get_mut(..there(other)).unwrap_or(&mut []);
        one.read(at, left);
        other.read(at, right);
        let [first, second] = &mut sums;
        first.update(&*left);
        second.update(&*right);
        if left != right
            && let Some(index) = left.iter().zip(right.iter()).position(|(a, b)| a != b)
        {
            let differs = at.plus(index.wide());
            from = Some(from.map_or(differs, |known| known.min(differs)));
        }
        at = at.plus(PIECE.wide());
    }
    Some(Compared { from, sha256: sums.map(|sum| hex::encode(sum.finalize())) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{medium::Memory, progress::Silent};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        /// The places hold every byte that differs and begin and end with one.
        #[test]
        fn every_differing_byte_lies_in_a_place(
            blows in prop::collection::vec((0_usize..3_000_000, 1_usize..5_000, 1_u8..255), 0..12),
        ) {
            let one: Vec<u8> = vec![0; 3_100_000];
            let mut other = one.clone();
            for (at, count, value) in blows {
                other[at..at + count].iter_mut().for_each(|byte| *byte ^= value);
            }
            let length = one.len().wide();
            let found = bytes(&Memory::new(one.clone()), &Memory::new(other.clone()), length, &Silent).unwrap();
            let differ: Vec<u64> = (0..length).filter(|at| one[at.size()] != other[at.size()]).collect();
            prop_assert_eq!(found.bytes, differ.len().wide());
            for place in &found.places {
                prop_assert!(differ.binary_search(&place.offset).is_ok() && differ.binary_search(&(place.end() - 1)).is_ok());
            }
            let inside = |at: &u64| found.places.iter().any(|place| place.offset <= *at && *at < place.end());
            prop_assert!(differ.iter().all(inside));
            prop_assert!(found.places.windows(2).all(|pair| pair[1].offset - pair[0].end() >= NEAR));
        }
    }

    struct Of(Vec<u8>);

    impl Source for Of {
        fn len(&self) -> u64 {
            self.0.len().wide()
        }
        fn read(&self, at: u64, into: &mut [u8]) {
            let there = self.0.get(at.size()..at.size() + into.len()).unwrap_or_default();
            into.copy_from_slice(there);
        }
    }

    #[test]
    fn contents_differ_from_a_byte_on() {
        let long: Vec<u8> = (0..3_000_000_u32).map(|n| n.to_le_bytes()[1]).collect();
        let mut struck = long.clone();
        struck[2_500_000] ^= 1;
        let hash = |bytes: &[u8]| hex::encode(Sha256::digest(bytes));
        for (other, from) in [
            (long.clone(), None),
            (struck.clone(), Some(2_500_000)),
            (long[..1_048_576].to_vec(), Some(1_048_576)),
            (struck[..2_600_000].to_vec(), Some(2_500_000)),
            (Vec::new(), Some(0)),
        ] {
            let sha256 = [hash(&long), hash(&other)];
            let found = contents(&Of(long.clone()), &Of(other), &Silent).unwrap();
            assert_eq!(found, Compared { from, sha256 });
        }
    }
}
