//! The up-case table: which character is the capital of which (specification, section 7.2).
//!
//! ```text
//! u16 u16 u16 …      the capital of character 0, 1, 2 …
//! FFFF n             the next n characters are their own capitals
//! ```
//!
//! Names are compared and hashed by it, so a volume whose table is damaged finds half of its files
//! no more. The specification recommends one table (section 7.2.5.1); it is made here from the runs
//! of characters that differ from their capitals, and a test holds its length and checksum against
//! the published ones.

use crate::arith::{Peek, Sat};
use std::sync::LazyLock;

/// First and last character, distance from one to the next, distance to their capitals.
const RUNS: &[(u16, u16, u16, i32)] = &[
    (0x0061, 0x007A, 1, -32),
    (0x00E0, 0x00F6, 1, -32),
    (0x00F8, 0x00FE, 1, -32),
    (0x00FF, 0x00FF, 1, 121),
    (0x0101, 0x012F, 2, -1),
    (0x0133, 0x0137, 2, -1),
    (0x013A, 0x0148, 2, -1),
    (0x014B, 0x0177, 2, -1),
    (0x017A, 0x017E, 2, -1),
    (0x0180, 0x0180, 1, 195),
    (0x0183, 0x0185, 2, -1),
    (0x0188, 0x0188, 1, -1),
    (0x018C, 0x018C, 1, -1),
    (0x0192, 0x0192, 1, -1),
    (0x0195, 0x0195, 1, 97),
    (0x0199, 0x0199, 1, -1),
    (0x019A, 0x019A, 1, 163),
    (0x019E, 0x019E, 1, 130),
    (0x01A1, 0x01A5, 2, -1),
    (0x01A8, 0x01A8, 1, -1),
    (0x01AD, 0x01AD, 1, -1),
    (0x01B0, 0x01B0, 1, -1),
    (0x01B4, 0x01B6, 2, -1),
    (0x01B9, 0x01B9, 1, -1),
    (0x01BD, 0x01BD, 1, -1),
    (0x01BF, 0x01BF, 1, 56),
    (0x01C6, 0x01C6, 1, -2),
    (0x01C9, 0x01C9, 1, -2),
    (0x01CC, 0x01CC, 1, -2),
    (0x01CE, 0x01DC, 2, -1),
    (0x01DD, 0x01DD, 1, -79),
    (0x01DF, 0x01EF, 2, -1),
    (0x01F3, 0x01F3, 1, -2),
    (0x01F5, 0x01F5, 1, -1),
    (0x01F9, 0x021F, 2, -1),
    (0x0223, 0x0233, 2, -1),
    (0x023A, 0x023A, 1, 10795),
    (0x023C, 0x023C, 1, -1),
    (0x023E, 0x023E, 1, 10792),
    (0x0242, 0x0242, 1, -1),
    (0x0247, 0x024F, 2, -1),
    (0x0253, 0x0253, 1, -210),
    (0x0254, 0x0254, 1, -206),
    (0x0256, 0x0257, 1, -205),
    (0x0259, 0x0259, 1, -202),
    (0x025B, 0x025B, 1, -203),
    (0x0260, 0x0260, 1, -205),
    (0x0263, 0x0263, 1, -207),
    (0x0268, 0x0268, 1, -209),
    (0x0269, 0x0269, 1, -211),
    (0x026B, 0x026B, 1, 10743),
    (0x026F, 0x026F, 1, -211),
    (0x0272, 0x0272, 1, -213),
    (0x0275, 0x0275, 1, -214),
    (0x027D, 0x027D, 1, 10727),
    (0x0280, 0x0280, 1, -218),
    (0x0283, 0x0283, 1, -218),
    (0x0288, 0x0288, 1, -218),
    (0x0289, 0x0289, 1, -69),
    (0x028A, 0x028B, 1, -217),
    (0x028C, 0x028C, 1, -71),
    (0x0292, 0x0292, 1, -219),
    (0x037B, 0x037D, 1, 130),
    (0x03AC, 0x03AC, 1, -38),
    (0x03AD, 0x03AF, 1, -37),
    (0x03B1, 0x03C1, 1, -32),
    (0x03C2, 0x03C2, 1, -31),
    (0x03C3, 0x03CB, 1, -32),
    (0x03CC, 0x03CC, 1, -64),
    (0x03CD, 0x03CE, 1, -63),
    (0x03D9, 0x03EF, 2, -1),
    (0x03F2, 0x03F2, 1, 7),
    (0x03F8, 0x03F8, 1, -1),
    (0x03FB, 0x03FB, 1, -1),
    (0x0430, 0x044F, 1, -32),
    (0x0450, 0x045F, 1, -80),
    (0x0461, 0x0481, 2, -1),
    (0x048B, 0x04BF, 2, -1),
    (0x04C2, 0x04CE, 2, -1),
    (0x04CF, 0x04CF, 1, -15),
    (0x04D1, 0x0513, 2, -1),
    (0x0561, 0x0586, 1, -48),
    (0x1D7D, 0x1D7D, 1, 3814),
    (0x1E01, 0x1E95, 2, -1),
    (0x1EA1, 0x1EF9, 2, -1),
    (0x1F00, 0x1F07, 1, 8),
    (0x1F10, 0x1F15, 1, 8),
    (0x1F20, 0x1F27, 1, 8),
    (0x1F30, 0x1F37, 1, 8),
    (0x1F40, 0x1F45, 1, 8),
    (0x1F51, 0x1F57, 2, 8),
    (0x1F60, 0x1F67, 1, 8),
    (0x1F70, 0x1F71, 1, 74),
    (0x1F72, 0x1F75, 1, 86),
    (0x1F76, 0x1F77, 1, 100),
    (0x1F78, 0x1F79, 1, 128),
    (0x1F7A, 0x1F7B, 1, 112),
    (0x1F7C, 0x1F7D, 1, 126),
    (0x1F80, 0x1F87, 1, 8),
    (0x1F90, 0x1F97, 1, 8),
    (0x1FA0, 0x1FA7, 1, 8),
    (0x1FB0, 0x1FB1, 1, 8),
    (0x1FB3, 0x1FB3, 1, 9),
    (0x1FCC, 0x1FCC, 1, -9),
    (0x1FD0, 0x1FD1, 1, 8),
    (0x1FE0, 0x1FE1, 1, 8),
    (0x1FE5, 0x1FE5, 1, 7),
    (0x1FFC, 0x1FFC, 1, -9),
    (0x214E, 0x214E, 1, -28),
    (0x2170, 0x217F, 1, -16),
    (0x2184, 0x2184, 1, -1),
    (0x24D0, 0x24E9, 1, -26),
    (0x2C30, 0x2C5E, 1, -48),
    (0x2C61, 0x2C61, 1, -1),
    (0x2C68, 0x2C6C, 2, -1),
    (0x2C76, 0x2C76, 1, -1),
    (0x2C81, 0x2CE3, 2, -1),
    (0x2D00, 0x2D25, 1, -7264),
    (0xFF41, 0xFF5A, 1, -32),
];

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
pub struct Upcase(Box<[u16]>);

impl Default for Upcase {
    fn default() -> Self {
        let mut map: Vec<u16> = (0..=u16::MAX).collect();
        for (first, last, step, distance) in RUNS {
            for character in (*first..=*last).step_by(usize::from(*step)) {
                let capital = i32::from(character).saturating_add(*distance);
                if let (Some(slot), Ok(capital)) =
                    (map.get_mut(usize::from(character)), u16::try_from(capital))
                {
                    *slot = capital;
                }
            }
        }
        Self(map.into_boxed_slice())
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
        ascii.then(|| Self(map.into_boxed_slice()))
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
        name.iter().map(|unit| self.0.get(usize::from(*unit)).copied().unwrap_or(*unit)).collect()
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
            let mut table = Upcase::default();
            for (character, capital) in changes {
                table.0[usize::from(character)] = capital;
            }
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
