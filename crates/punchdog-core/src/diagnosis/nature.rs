//! What an image is that holds no volume.

use crate::{
    arith::Sat,
    family::Kind,
    medium::Medium,
    partition::{
        self, Scouting,
        strangers::{Blank, Name},
    },
};

/// What an image is that holds no volume.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Nature {
    /// One byte value throughout.
    Blank(Blank),
    /// Something that is named and not mended.
    Stranger(Name),
    /// Only the beginning of a volume of so many bytes.
    Beginning(Kind, u64),
    /// The boot sector of a volume of so many bytes, and nothing that it leads to.
    Alone(Kind, u64),
    /// Text.
    Text,
    /// Bytes without any order: encrypted or packed.
    Packed,
    /// Nothing that is known.
    Unknown,
}

/// Bits of entropy a byte from which on bytes have no order to speak of.
const NO_ORDER: f64 = 7.9;

impl Nature {
    /// What `image` is, in which `seen` has no volume.
    pub fn of(image: &dyn Medium, seen: &Scouting) -> Self {
        if let Some(blank) = seen.blank {
            return Self::Blank(blank);
        }
        if let Some(stranger) = seen.strangers.first() {
            return Self::Stranger(stranger.name);
        }
        if let Some((what, bytes)) = partition::claim(image) {
            return if bytes > image.len() { Self::Beginning(what, bytes) } else { Self::Alone(what, bytes) };
        }
        let start = image.lenient(0, 4096.min(image.len().size())).bytes;
        let is_text = |text: &str| text.chars().all(|c| !c.is_control() || c.is_whitespace());
        if !start.is_empty() && std::str::from_utf8(&start).is_ok_and(is_text) {
            return Self::Text;
        }
        if seen.entropy.is_some_and(|entropy| entropy > NO_ORDER) { Self::Packed } else { Self::Unknown }
    }
}
