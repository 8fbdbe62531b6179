//! What an image is that holds no volume.

use crate::{
    arith::{Peek, Sat},
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
    /// A volume or disk of which every two bytes stand in reversed order.
    Swapped,
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
        if is_swapped(image) {
            return Self::Swapped;
        }
        let start = image.lenient(0, 4096.min(image.len().size())).bytes;
        let is_text = |text: &str| text.chars().all(|c| !c.is_control() || c.is_whitespace());
        if !start.is_empty() && std::str::from_utf8(&start).is_ok_and(is_text) {
            return Self::Text;
        }
        if seen.entropy.is_some_and(|entropy| entropy > NO_ORDER) { Self::Packed } else { Self::Unknown }
    }
}

/// The sector at `at` with every two bytes in reversed order.
fn swapped(image: &dyn Medium, at: u64) -> Vec<u8> {
    let mut sector = image.lenient(at, 512).bytes;
    for pair in sector.chunks_exact_mut(2) {
        pair.reverse();
    }
    sector
}

/// True where a boot sector of a known kind, or a table that leads to one, stands there with every two bytes in reversed order,
/// as some bridges and recorders give them.
fn is_swapped(image: &dyn Medium) -> bool {
    const TITLES: [(usize, &[u8]); 5] =
        [(3, b"NTFS    "), (3, b"EXFAT   "), (82, b"FAT32   "), (54, b"FAT16   "), (54, b"FAT12   ")];
    let marked = |sector: &[u8]| sector.le16(510) == 0xAA55;
    let boot = |at: u64| {
        let sector = swapped(image, at);
        marked(&sector) && TITLES.iter().any(|(place, title)| sector.part(*place, title.len()) == *title)
    };
    let first = swapped(image, 0);
    // The start of an entry: number of the sector at 8 (UEFI 2.10, 5.2.1).
    let mut starts = (0..4_usize).map(|entry| u64::from(first.le32(entry.times(16).plus(446 + 8))));
    boot(0) || marked(&first) && starts.any(|start| start > 0 && boot(start.times(512)))
}
