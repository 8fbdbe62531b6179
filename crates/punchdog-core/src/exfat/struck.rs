//! Entry sets in which a length, a character of the name or the first cluster was struck: the checksum tells what stood there
//! (specification, sections 6.3.3, 7.6.4 to 7.6.7).
//!
//! Bits 16 bytes apart count alike in the checksum, so that alone it does not say which byte it was. A file that was written
//! to its end has its length twice, and a name has a hash besides; clusters are in use or not.

use super::{
    layout::{ENTRY, NAME, NAME_UNITS, Stream, name_hash, put, set_checksum, summed},
    sets::{Flaws, is_legal},
    upcase::Upcase,
};
use crate::arith::{Peek, Sat};

/// Where ValidDataLength and DataLength stand in a set.
const LENGTHS: [usize; 2] = [40, 56];

/// Where FirstCluster stands.
const FIRST: usize = 52;

/// Puts a set right whose entries have their types, where its checksum says how in one way only; what was wrong with it.
pub(super) fn put_right(raw: &mut Vec<u8>, upcase: &Upcase) -> Flaws {
    if set_checksum(raw) == raw.le16(2) {
        return Flaws::empty();
    }
    if let Some(right) = length(raw) {
        *raw = right;
        return Flaws::LENGTH_STRUCK;
    }
    if let Some(right) = name(raw, upcase) {
        *raw = right;
        return Flaws::NAME_STRUCK;
    }
    Flaws::empty()
}

/// First clusters with which a set whose checksum does not fit has it, where one bit is another. Other bits weigh the same
/// in the checksum, so that the clusters have to bear it out.
pub(super) fn first_clusters(raw: &[u8]) -> Vec<u32> {
    let said = raw.le32(FIRST);
    let fits = |other: &u32| {
        let mut tried = raw.to_vec();
        put(&mut tried, FIRST, &other.to_le_bytes());
        set_checksum(&tried) == raw.le16(2)
    };
    (0..u32::BITS).map(|bit| said ^ 1_u32.wrapping_shl(bit)).filter(fits).collect()
}

/// One length is the other.
fn length(raw: &[u8]) -> Option<Vec<u8>> {
    let mut fit = LENGTHS.into_iter().zip(LENGTHS.into_iter().rev()).filter_map(|(to, from)| {
        let mut tried = raw.to_vec();
        put(&mut tried, to, raw.part(from, 8));
        (set_checksum(&tried) == raw.le16(2)).then_some(tried)
    });
    fit.next().filter(|_| fit.next().is_none())
}

/// One bit of one character is another: hash and checksum fit then.
fn name(raw: &[u8], upcase: &Upcase) -> Option<Vec<u8>> {
    let stream = Stream::read(raw.part(ENTRY, ENTRY));
    let length = usize::from(stream.name_length);
    let entries = raw.chunks_exact(ENTRY).skip(2).take_while(|entry| entry.byte(0) == NAME).count();
    if length == 0 || length.per_up(NAME_UNITS) != entries {
        return None;
    }
    let place = |unit: usize| {
        let entry = unit.per(NAME_UNITS).plus(2);
        entry.times(ENTRY).plus(2).plus(unit.rest(NAME_UNITS).times(2))
    };
    let upper = upcase.upper(&(0..length).map(|unit| raw.le16(place(unit))).collect::<Vec<u16>>());
    if name_hash(&upper) == stream.name_hash {
        return None;
    }
    let bytes: Vec<u8> = upper.iter().flat_map(|unit| unit.to_le_bytes()).collect();
    let (mut found, mut before) = (None, 0_u16);
    for at in 0..length {
        let (here, behind) = (at.times(2), bytes.get(at.plus(1).times(2)..).unwrap_or(&[]));
        for bit in 0..u16::BITS {
            let other = raw.le16(place(at)) ^ 1_u16.wrapping_shl(bit);
            let hash = summed(summed(before, &upcase.capital(other).to_le_bytes()), behind);
            if hash != stream.name_hash || !is_legal(&[other]) {
                continue;
            }
            let mut tried = raw.to_vec();
            put(&mut tried, place(at), &other.to_le_bytes());
            if set_checksum(&tried) == raw.le16(2) && found.replace(tried).is_some() {
                return None;
            }
        }
        before = summed(before, bytes.part(here, 2));
    }
    found
}
