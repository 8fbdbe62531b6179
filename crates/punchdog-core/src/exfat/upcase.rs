//! The up-case table: which character is the capital of which (specification, section 7.2).
//!
//! ```text
//! u16 u16 u16 …      the capital of character 0, 1, 2 …
//! FFFF n             the next n characters are their own capitals
//! ```
//!
//! Names are compared and hashed by it, so a volume whose table is damaged finds half of its files
//! no more. The specification recommends one table (section 7.2.5.1); it is made from [`capitals`], and a test holds its length and checksum against
//! the published ones.

use super::layout::hash_of;
use crate::{
    arith::{Peek, Sat},
    files::capitals,
};
use std::sync::{Arc, LazyLock};

/// Characters that a table maps.
pub const CHARACTERS: usize = 65536;
/// The checksum of the recommended table.
pub const RECOMMENDED_CHECKSUM: u32 = 0xE619_D30D;
/// Its length in bytes.
pub const RECOMMENDED_BYTES: usize = 5836;
/// Runs of characters that are their own capitals are written short from this length on.
const SHORT: usize = 512;

/// The bytes of the recommended table.
static RECOMMENDED: LazyLock<Vec<u8>> = LazyLock::new(|| Upcase::default().encode());

/// A table as it is used: the capital of each character.
#[derive(Clone)]
pub struct Upcase(Arc<[u16]>);

impl Default for Upcase {
    fn default() -> Self {
        Self(capitals::all().into())
    }
}

impl Upcase {
    /// The table that these bytes hold; `None` where they hold none: too long, or without the
    /// capitals of ASCII that the specification demands (section 7.2.5).
    pub fn decode(bytes: &[u8]) -> Option<Self> {
        let mut map: Vec<u16> = Vec::with_capacity(CHARACTERS);
        let mut units = bytes.chunks_exact(2).map(|pair| pair.le16(0));
        while let Some(unit) = units.next() {
            if unit == 0xFFFF && map.len() < usize::from(u16::MAX) {
                let run = usize::from(units.next()?);
                let from = map.len();
                if from.plus(run) > CHARACTERS {
                    return None;
                }
                map.extend((from..from.plus(run)).filter_map(|n| u16::try_from(n).ok()));
            } else {
                map.push(unit);
            }
            if map.len() > CHARACTERS {
                return None;
            }
        }
        let own = map.len()..CHARACTERS;
        map.extend(own.filter_map(|n| u16::try_from(n).ok()));
        let ascii = (0_u8..128).all(|c| {
            map.get(usize::from(c)).is_some_and(|capital| *capital == u16::from(c.to_ascii_uppercase()))
        });
        ascii.then(|| Self(map.into()))
    }

    /// The bytes of the table, runs written short as in the recommended one.
    pub fn encode(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        let mut at = 0;
        while at < self.0.len() {
            let own = |n: usize| self.0.get(n).is_some_and(|capital| usize::from(*capital) == n);
            let run = (at..self.0.len()).take_while(|n| own(*n)).count();
            if run >= SHORT {
                bytes.extend(0xFFFF_u16.to_le_bytes());
                bytes.extend(u16::try_from(run).unwrap_or(u16::MAX).to_le_bytes());
                at = at.plus(run);
            } else {
                for unit in self.0.iter().skip(at).take(run.max(1)) {
                    bytes.extend(unit.to_le_bytes());
                }
                at = at.plus(run.max(1));
            }
        }
        bytes
    }

    /// The bytes of the recommended table.
    pub fn recommended() -> Vec<u8> {
        RECOMMENDED.clone()
    }

    /// True for the bytes of the recommended table. Its checksum alone does not say so: it is the
    /// same when two sectors have changed places.
    pub fn is_recommended(bytes: &[u8]) -> bool {
        bytes == RECOMMENDED.as_slice()
    }

    /// A name in capitals.
    pub fn upper(&self, name: &[u16]) -> Vec<u16> {
        name.iter().map(|unit| self.capital(*unit)).collect()
    }
    /// The hash of a name as entry sets have it (section 7.6.4).
    #[inline]
    pub fn hash(&self, name: impl IntoIterator<Item = u16>) -> u16 {
        hash_of(name.into_iter().map(|unit| self.capital(unit)))
    }
    /// The capital of one unit.
    #[inline]
    pub fn capital(&self, unit: u16) -> u16 {
        self.0.get(usize::from(unit)).copied().unwrap_or(unit)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exfat::layout::table_checksum;
    use proptest::prelude::*;

    #[test]
    fn the_recommended_table_has_the_published_length_and_checksum() {
        let bytes = Upcase::recommended();
        assert_eq!(bytes.len(), RECOMMENDED_BYTES);
        assert_eq!(table_checksum(&bytes), RECOMMENDED_CHECKSUM);
        assert!(Upcase::is_recommended(&bytes));
        // The first 128 characters as the specification prints them (table 25).
        let ascii: Vec<u8> = (0_u16..128)
            .flat_map(|c| if (97..=122).contains(&c) { c - 32 } else { c }.to_le_bytes())
            .collect();
        assert_eq!(bytes[..256], ascii);
    }

    #[test]
    fn capitals_as_people_know_them() {
        let table = Upcase::default();
        let upper =
            |text: &str| String::from_utf16(&table.upper(&text.encode_utf16().collect::<Vec<_>>())).unwrap();
        assert_eq!(upper("tordalk.wav"), "TORDALK.WAV");
        assert_eq!(upper("möwe ÿ æ ђ ω"), "MÖWE Ÿ Æ Ђ Ω");
        assert_eq!(upper("ß ı 文字 😀"), "ß ı 文字 😀", "no capital of one character, or none at all");
    }

    #[test]
    fn what_is_no_table_is_refused() {
        assert!(Upcase::decode(&[]).is_none(), "no ASCII capitals");
        assert!(Upcase::decode(&[0xFF, 0xFF]).is_none(), "a run without a length");
        assert!(Upcase::decode(&[0xFF; 400]).is_none(), "runs past the last character");
        let mut lower = Upcase::recommended();
        lower[2 * 97] = 97;
        assert!(Upcase::decode(&lower).is_none(), "a is not its own capital");
        assert!(Upcase::decode(&vec![0; 300_000]).is_none());
    }

    proptest! {
        #[test]
        fn decoding_gives_back_what_was_encoded(changes in prop::collection::vec((128_u16.., any::<u16>()), 0..40)) {
            let mut map = Upcase::default().0.to_vec();
            for (character, capital) in changes {
                map[usize::from(character)] = capital;
            }
            let table = Upcase(map.into());
            // FFFF as a capital of a character before the last would read as the mark of a run.
            prop_assume!(table.0[..65535].iter().all(|capital| *capital != 0xFFFF));
            let again = Upcase::decode(&table.encode()).unwrap();
            prop_assert!(again.0 == table.0);
        }

        #[test]
        fn any_bytes_decode_within_bounds(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
            if let Some(table) = Upcase::decode(&bytes) {
                prop_assert_eq!(table.0.len(), CHARACTERS);
            }
        }
    }
}
