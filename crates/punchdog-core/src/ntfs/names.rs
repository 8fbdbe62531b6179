//! How names compare: by capitals, as the volume's own `$UpCase` has them.

use super::volume::UpCase;
use crate::{
    arith::{Peek, Sat},
    files::capitals,
};
use std::{cmp::Ordering, sync::LazyLock};

/// Bytes of the table.
pub const TABLE: usize = 2 * capitals::CHARACTERS;

/// The capital of each character.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Capitals(Box<[u16]>);

static USUAL: LazyLock<Capitals> = LazyLock::new(|| Capitals(capitals::all().into_boxed_slice()));

impl Capitals {
    /// The table that volumes usually have.
    pub fn usual() -> &'static Self {
        &USUAL
    }
    /// The table that these bytes are, as far as it can be one. Versions differ in which letters have capitals; but what
    /// has one has the one that it has everywhere.
    pub fn told(bytes: &[u8]) -> (Self, UpCase) {
        let mut map = Self::usual().0.clone();
        let (mut wrong, mut first) = (0_usize, None);
        let told = bytes.part(0, TABLE).chunks_exact(2).map(|unit| unit.le16(0));
        for ((letter, told), slot) in (0_u16..=u16::MAX).zip(told).zip(&mut map) {
            if told == *slot {
                continue;
            }
            let ascii = letter < 128;
            if !ascii && (told == letter || is_capital(letter, told)) {
                *slot = told;
            } else {
                wrong = wrong.plus(1);
                first = first.or(Some(usize::from(letter)));
            }
        }
        let state = first.map_or(UpCase::Whole, |first| UpCase::Damaged(wrong, first));
        (Self(map), state)
    }
    /// The table as it stands in `$UpCase`.
    pub fn bytes(&self) -> Vec<u8> {
        self.0.iter().flat_map(|unit| unit.to_le_bytes()).collect()
    }
    /// The capital of a character.
    pub fn of(&self, unit: u16) -> u16 {
        self.0.get(usize::from(unit)).copied().unwrap_or(unit)
    }
    /// The order of two names, UTF-16 as bytes: by capitals, and where these are alike by the names themselves.
    pub fn order(&self, one: &[u8], other: &[u8]) -> Ordering {
        self.alike(one, other).then_with(|| units(one).cmp(units(other)))
    }
    /// The order by capitals alone.
    pub fn alike(&self, one: &[u8], other: &[u8]) -> Ordering {
        units(one).map(|unit| self.of(unit)).cmp(units(other).map(|unit| self.of(unit)))
    }
}

/// True where Unicode has the one for a form of the other.
fn is_capital(letter: u16, told: u16) -> bool {
    let one = char::from_u32(letter.into());
    let other = char::from_u32(told.into());
    one.zip(other).is_some_and(|(one, other)| {
        one.to_uppercase().eq(std::iter::once(other)) || other.to_lowercase().eq(std::iter::once(one))
    })
}

fn units(name: &[u8]) -> impl Iterator<Item = u16> + '_ {
    name.chunks_exact(2).map(|unit| unit.le16(0))
}

/// The name within the bytes of a `$FILE_NAME`.
pub fn of_key(key: &[u8]) -> &[u8] {
    key.part(super::layout::NAME_HEAD, usize::from(key.byte(64)).times(2))
}
