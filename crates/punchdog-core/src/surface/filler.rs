//! Sectors that hold nothing but a pattern that an imager put where it could not read.

use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};
use rayon::prelude::*;

/// Bytes that are filled together.
const SECTOR: usize = 512;
/// Bytes that are looked at between two looks at whether to stop.
const STRETCH: u64 = 64 << 20;

/// A pattern; not zeros alone, which cannot be told from what was never written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern(Vec<u8>);

impl Pattern {
    /// The pattern of these hexadecimal digits.
    ///
    /// # Errors
    /// In words, where they are none.
    pub fn from_hex(text: &str) -> Result<Self, String> {
        let bytes = hex::decode(text).map_err(|error| format!("{text:?} is not hexadecimal: {error}"))?;
        match bytes.as_slice() {
            [] => Err("a pattern has at least one byte".to_owned()),
            long if long.len() > SECTOR => Err("a pattern has at most 512 bytes".to_owned()),
            zeros if zeros.iter().all(|byte| *byte == 0) => {
                Err("zeros cannot be told from what was never written".to_owned())
            }
            _ => Ok(Self(bytes)),
        }
    }

    /// Its digits.
    pub fn to_hex(&self) -> String {
        hex::encode_upper(&self.0)
    }

    /// True for a sector that holds nothing else; the pattern can begin anywhere in itself.
    fn fills(&self, sector: &[u8]) -> bool {
        let length = self.0.len();
        sector.iter().zip(sector.iter().skip(length)).all(|(one, other)| one == other)
            && sector.get(..length).is_some_and(|head| {
                (0..length).any(|turn| {
                    head.iter().zip(self.0.iter().cycle().skip(turn)).all(|(one, other)| one == other)
                })
            })
    }
}

/// The sectors of `medium` that hold nothing but the pattern, neighbours as one.
///
/// # Errors
/// Only when told to stop: what cannot be read is no filler.
pub fn find(medium: &dyn Medium, pattern: &Pattern, watch: &dyn Watch) -> Result<Vec<Extent>, MediumError> {
    let mut found: Vec<Extent> = Vec::new();
    let mut at = 0;
    while at < medium.len() {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("looking for filler", at, medium.len());
        let end = at.plus(STRETCH).min(medium.len());
        let mut pieces = Vec::new();
        let mut from = at;
        while let Some(piece) = medium.piece_from(from, end) {
            from = piece.end();
            pieces.push(piece);
        }
        let of = |piece: &Extent| -> Vec<Extent> {
            let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
            let sectors = bytes.chunks(SECTOR).enumerate();
            let filled = sectors.filter(|(_, sector)| sector.len() == SECTOR && pattern.fills(sector));
            Extent::joined(
                filled.map(|(number, _)| piece.offset.plus(number.times(SECTOR).wide())),
                SECTOR.wide(),
            )
        };
        let lists: Vec<Vec<Extent>> = pieces.par_iter().map(of).collect();
        for extent in lists.into_iter().flatten() {
            match found.last_mut() {
                Some(last) if last.end() == extent.offset => last.length = last.length.plus(extent.length),
                _ => found.push(extent),
            }
        }
        at = end;
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{medium::Memory, progress::Silent};

    #[test]
    fn a_pattern_is_found_at_any_turn_and_in_whole_sectors_only() {
        let mut bytes = vec![7_u8; 8 * SECTOR];
        for (place, byte) in
            bytes[SECTOR..3 * SECTOR].iter_mut().zip([0xDE, 0xAD, 0x00].iter().cycle().skip(1))
        {
            *place = *byte;
        }
        bytes[5 * SECTOR..5 * SECTOR + 300].copy_from_slice(&[0xDE, 0xAD, 0x00].repeat(100));
        let pattern = Pattern::from_hex("DEAD00").unwrap();
        let found = find(&Memory::new(bytes), &pattern, &Silent).unwrap();
        assert_eq!(found, [Extent::new(512, 1024)]);
        for none in ["", "0000", "GG", "ABC"] {
            assert!(Pattern::from_hex(none).is_err(), "{none}");
        }
    }
}
