//! What reads blank at a regular distance, as a list of places that were not read.

use crate::{
    arith::Sat,
    impaired,
    medium::{Extent, Interval, Medium, MediumError},
    progress::Watch,
};

const SECTOR: usize = 512;
/// Bytes that are looked at between two looks at whether to stop.
const STRETCH: u64 = 64 << 20;

/// Of these places those that read blank, sector by sector; what holds something was written there later. In order, and
/// neighbours as one.
///
/// # Errors
/// Only when told to stop: what cannot be read is blank.
pub fn blank(medium: &dyn Medium, all: &[Interval], watch: &dyn Watch) -> Result<Vec<Extent>, MediumError> {
    let mut found: Vec<Extent> = Vec::new();
    let mut add = |extent: Extent| match found.last_mut() {
        Some(last) if extent.length > 0 && last.end() == extent.offset => {
            last.length = last.length.plus(extent.length);
        }
        _ if extent.length > 0 => found.push(extent),
        _ => {}
    };
    let mut at = 0;
    while at < medium.len() {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("looking for blank places", at, medium.len());
        let stretch = Extent::new(at, medium.len().minus(at).min(STRETCH));
        let mut places: Vec<Extent> = all.iter().flat_map(|one| one.within(stretch)).collect();
        places.sort_by_key(|place| place.offset);
        for place in places {
            let mut from = place.offset;
            while from < place.end() {
                // What is a hole needs no reading.
                let piece =
                    medium.piece_from(from, place.end()).unwrap_or_else(|| Extent::new(place.end(), 0));
                add(Extent::new(from, piece.offset.minus(from)));
                let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
                for (number, sector) in bytes.chunks(SECTOR).enumerate() {
                    if impaired::is_blank(sector) {
                        add(Extent::new(piece.offset.plus(number.times(SECTOR).wide()), sector.len().wide()));
                    }
                }
                from = piece.end();
            }
        }
        at = stretch.end();
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{medium::Memory, progress::Silent};

    #[test]
    fn what_holds_something_is_left_out_and_neighbours_are_one() {
        let mut bytes = vec![0_u8; 32 * SECTOR];
        bytes[9 * SECTOR + 5] = 1;
        let all = [
            Interval { every: 8 * 512, from: 512, bytes: 512 },
            Interval { every: 8 * 512, from: 1024, bytes: 1024 },
        ];
        let found = blank(&Memory::new(bytes), &all, &Silent).unwrap();
        let at = |sector: u64, count: u64| Extent::new(sector * 512, count * 512);
        assert_eq!(found, [at(1, 3), at(10, 2), at(17, 3), at(25, 3)]);
    }
}
