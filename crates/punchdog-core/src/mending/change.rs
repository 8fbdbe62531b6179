//! What a step changes, written down as shortly as its bytes allow: a plan names ranges of the image
//! where they hold what is to be written, and never holds the content of a file.

use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError, Overlay},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// Bytes before or after a change, written down as shortly as they allow.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Bytes {
    /// The bytes in hexadecimal.
    Hex(String),
    /// The same byte throughout.
    Fill(u8),
    /// The bytes that stand at this offset of the image when the step begins.
    CopyOf(u64),
    /// The SHA-256 of long bytes that need not be known again.
    Sha256(String),
}

/// One range that a step changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PlannedChange {
    /// Bytes from the start of the image.
    pub offset: u64,
    /// Bytes.
    pub length: u64,
    /// What stands there.
    pub before: Bytes,
    /// What will stand there.
    pub after: Bytes,
}

/// Ranges that are shorter are not worth another form than hexadecimal.
const SHORT: u64 = 64;
/// The pieces in which a long range is looked at: each is one value throughout, or written down.
const PIECE: usize = 4096;
/// Bytes that are held at once.
const HELD: u64 = 1 << 20;
/// Bytes that stood somewhere before and are written down in full at most.
const BEFORE: u64 = 512;
/// Ranges of one step that are remembered, for what is written twice.
const REMEMBERED: usize = 16;

fn one_value(bytes: &[u8]) -> Option<u8> {
    let (first, rest) = bytes.split_first()?;
    rest.iter().all(|byte| byte == first).then_some(*first)
}

fn change(overlay: &Overlay<'_>, place: Extent, after: Bytes) -> Result<PlannedChange, MediumError> {
    let before = before(overlay, place)?;
    Ok(PlannedChange { offset: place.offset, length: place.length, before, after })
}

/// What stood at `place` before the step.
fn before(overlay: &Overlay<'_>, place: Extent) -> Result<Bytes, MediumError> {
    let mut hash = Sha256::new();
    let mut value = None;
    let mut plain = true;
    let mut at = place.offset;
    while at < place.end() {
        let mut bytes = vec![0; place.end().minus(at).min(HELD).size()];
        overlay.read_before(at, &mut bytes)?;
        if place.length <= BEFORE && (place.length <= 8 || one_value(&bytes).is_none()) {
            return Ok(Bytes::Hex(hex::encode(bytes)));
        }
        plain = plain && one_value(&bytes).is_some_and(|one| *value.get_or_insert(one) == one);
        hash.update(&bytes);
        at = at.plus(bytes.len().wide());
    }
    match value.filter(|_| plain) {
        Some(value) => Ok(Bytes::Fill(value)),
        None => Ok(Bytes::Sha256(hex::encode(hash.finalize()))),
    }
}

/// True when the two ranges of `medium` hold the same bytes.
fn alike(medium: &dyn Medium, from: u64, to: Extent) -> Result<bool, MediumError> {
    let mut done = 0;
    while done < to.length {
        let length = to.length.minus(done).min(HELD).size();
        let Ok(there) = medium.bytes(from.plus(done), length) else { return Ok(false) };
        if there != medium.bytes(to.offset.plus(done), length)? {
            return Ok(false);
        }
        done = done.plus(length.wide());
    }
    Ok(true)
}

/// Where else the bytes of `place` stand when its turn comes: in a twin that the step leaves alone, or
/// that it has written by then.
fn twin(
    overlay: &Overlay<'_>,
    place: Extent,
    twins: &[Extent],
    changed: &[Extent],
) -> Result<Option<u64>, MediumError> {
    let Some(own) = twins.iter().find(|twin| twin.offset <= place.offset && place.end() <= twin.end()) else {
        return Ok(None);
    };
    for other in twins.iter().filter(|other| other.offset != own.offset) {
        let from = other.offset.plus(place.offset.minus(own.offset));
        let there = Extent::new(from, place.length);
        let next = changed.partition_point(|extent| extent.end() <= there.offset);
        let left_alone = changed.get(next).is_none_or(|extent| extent.offset >= there.end());
        if (left_alone || there.end() <= place.offset)
            && there.end() <= other.end()
            && alike(overlay, from, place)?
        {
            return Ok(Some(from));
        }
    }
    Ok(None)
}

/// What the step that was just made on `overlay` has changed, and in how many bytes. `twins` are ranges of
/// the image that are meant to hold the same bytes.
pub(crate) fn of_step(
    overlay: &Overlay<'_>,
    twins: &[Extent],
) -> Result<(Vec<PlannedChange>, Tally), MediumError> {
    let changed = overlay.step_changed();
    let mut counting = Counting::default();
    let mut found = Vec::new();
    let mut earlier: Vec<(u64, Vec<u8>)> = Vec::new();
    for place in &changed {
        if let Some(from) = overlay.copied_from(*place) {
            // A range that was copied as a whole is not compared with what stood there.
            counting.whole(*place);
            found.push(change(overlay, *place, Bytes::CopyOf(from))?);
            continue;
        }
        count(overlay, *place, &mut counting)?;
        if place.length >= SHORT
            && let Some(from) = twin(overlay, *place, twins, &changed)?
        {
            found.push(change(overlay, *place, Bytes::CopyOf(from))?);
            continue;
        }
        let mut at = place.offset;
        while at < place.end() {
            let length = place.end().minus(at).min(HELD);
            let medium: &dyn Medium = overlay;
            let bytes = medium.bytes(at, length.size())?;
            written(overlay, at, bytes, &mut earlier, &mut found)?;
            at = at.plus(length);
        }
    }
    found.retain(|change| change.before != change.after || matches!(change.after, Bytes::CopyOf(_)));
    Ok((found, counting.tally))
}

/// Counts the bytes of a range that the step made others.
fn count(overlay: &Overlay<'_>, place: Extent, counting: &mut Counting) -> Result<(), MediumError> {
    let medium: &dyn Medium = overlay;
    let mut at = place.offset;
    while at < place.end() {
        let mut old = vec![0; place.end().minus(at).min(HELD).size()];
        overlay.read_before(at, &mut old)?;
        counting.add(at, &old, &medium.bytes(at, old.len())?);
        at = at.plus(old.len().wide());
    }
    Ok(())
}

/// Writes down `bytes` at `at`: what is one value throughout as such, the rest in full.
fn written(
    overlay: &Overlay<'_>,
    at: u64,
    bytes: Vec<u8>,
    earlier: &mut Vec<(u64, Vec<u8>)>,
    found: &mut Vec<PlannedChange>,
) -> Result<(), MediumError> {
    if bytes.len() > 8
        && let Some(value) = one_value(&bytes)
    {
        found.push(change(overlay, Extent::new(at, bytes.len().wide()), Bytes::Fill(value))?);
        return Ok(());
    }
    if bytes.len().wide() >= SHORT
        && let Some((from, _)) = earlier.iter().find(|(_, other)| *other == bytes)
    {
        found.push(change(overlay, Extent::new(at, bytes.len().wide()), Bytes::CopyOf(*from))?);
        return Ok(());
    }
    // (value throughout, if any, and bytes) of pieces that belong together.
    let mut groups: Vec<(Option<u8>, usize)> = Vec::new();
    for piece in bytes.chunks(PIECE) {
        let value = one_value(piece).filter(|_| piece.len() == PIECE);
        match groups.last_mut() {
            Some((last, length)) if *last == value => *length = length.plus(piece.len()),
            _ => groups.push((value, piece.len())),
        }
    }
    let mut from = 0_usize;
    for (value, length) in groups {
        let place = Extent::new(at.plus(from.wide()), length.wide());
        let piece = bytes.get(from..from.plus(length)).unwrap_or_default();
        let after = value.map_or_else(|| Bytes::Hex(hex::encode(piece)), Bytes::Fill);
        found.push(change(overlay, place, after)?);
        from = from.plus(length);
    }
    if bytes.len().wide() >= SHORT && bytes.len() <= 1 << 16 && earlier.len() < REMEMBERED {
        earlier.push((at, bytes));
    }
    Ok(())
}

/// Bytes that differ, and the places they stand in: less than eight bytes apart is one place.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Tally {
    /// Bytes that differ.
    pub bytes: u64,
    /// Places.
    pub places: u64,
}

impl Tally {
    /// What differs between two media within these ranges; what cannot be read counts as zero.
    pub fn between(old: &dyn Medium, new: &dyn Medium, ranges: &[Extent]) -> Self {
        let mut counting = Counting::default();
        for range in ranges {
            let mut at = range.offset;
            while at < range.end() {
                let length = range.end().minus(at).min(HELD).size();
                let new = new.lenient(at, length).bytes;
                counting.add(at, &old.lenient(at, length).bytes, &new);
                at = at.plus(length.wide());
            }
        }
        counting.tally
    }
}

/// A [`Tally`] in the making.
#[derive(Debug, Default)]
pub(crate) struct Counting {
    pub(crate) tally: Tally,
    /// The byte behind the last one that differed.
    last: u64,
}

impl Counting {
    /// Counts all of a range as different.
    fn whole(&mut self, place: Extent) {
        self.tally.bytes = self.tally.bytes.plus(place.length);
        self.tally.places = self.tally.places.plus(1);
        self.last = place.end();
    }

    /// Counts where `new` differs from `old`, both at `offset`; called in the order of offsets.
    pub(crate) fn add(&mut self, offset: u64, old: &[u8], new: &[u8]) {
        let tally = &mut self.tally;
        for (index, _) in old.iter().zip(new).enumerate().filter(|(_, (a, b))| a != b) {
            let end = offset.plus(index.wide()).plus(1);
            if tally.bytes == 0 || end.minus(self.last) > 8 {
                tally.places = tally.places.plus(1);
            }
            tally.bytes = tally.bytes.plus(1);
            self.last = end;
        }
    }
}
