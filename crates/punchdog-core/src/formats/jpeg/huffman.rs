//! Huffman codes of JPEG (ITU-T T.81, Annex C and F.2.2.3), and the bits that they are read from.
//!
//! ```text
//! DHT: class and number (1), 16 counts of codes by length, then the symbols in the order of their codes
//! ```

use crate::arith::Sat;
use std::sync::OnceLock;

/// Bits that are looked up at once, and beginnings of so many bits.
const AT_ONCE: u32 = 10;
const BEGINNINGS: usize = 1 << AT_ONCE;

/// A table of codes.
#[derive(Debug, Clone)]
pub(super) struct Codes {
    /// For each beginning of `AT_ONCE` bits: symbol, and length above it; length 0 where the code is longer.
    quick: Box<[u16; BEGINNINGS]>,
    /// What each beginning of `SEVERAL` bits holds. Made when it is first needed.
    several: OnceLock<Box<Several>>,
    /// Behind the last code of each length, aligned to 16 bits; 0 where there is none.
    ends: [u32; 17],
    /// What to add to a code of this length for its symbol's place.
    places: [i32; 17],
    symbols: Vec<u8>,
}

impl Codes {
    /// From the counts and symbols of a DHT segment; `None` where they are no code.
    pub(super) fn of(counts: &[u8], symbols: &[u8]) -> Option<Self> {
        let mut codes = Self {
            quick: Box::new([0; BEGINNINGS]),
            several: OnceLock::new(),
            ends: [0; 17],
            places: [0; 17],
            symbols: symbols.to_vec(),
        };
        let (mut code, mut place) = (0_u32, 0_usize);
        for (length, count) in (1_u32..=16).zip(counts) {
            let index = length.size();
            *codes.places.get_mut(index)? = i32::try_from(place).ok()?.saturating_sub_unsigned(code);
            for _ in 0..*count {
                let symbol = *symbols.get(place)?;
                if length <= AT_ONCE {
                    let open = AT_ONCE.minus(length);
                    let from = code.checked_shl(open)?.size();
                    let room = codes.quick.get_mut(from..from.plus(1_usize.checked_shl(open)?))?;
                    room.fill(u16::from(symbol) | u16::try_from(length).ok()? << 8_u32);
                }
                (code, place) = (code.plus(1), place.plus(1));
            }
            // More codes than there are bits for them.
            if code > 1_u32.checked_shl(length)? {
                return None;
            }
            *codes.ends.get_mut(index)? = code.checked_shl(16_u32.minus(length))?;
            code = code.times(2);
        }
        (place > 0).then_some(codes)
    }

    /// Length and symbol of the code that begins these 16 bits.
    #[inline]
    pub(super) fn find(&self, bits: u32) -> Option<(u32, u32)> {
        let first = (bits >> 16_u32.wrapping_sub(AT_ONCE)).size() & BEGINNINGS.wrapping_sub(1);
        match self.quick.get(first) {
            Some(found) if *found > 0xFF => Some((u32::from(found >> 8_u32), u32::from(found & 0xFF))),
            _ => self.find_long(bits),
        }
    }

    /// Bits of the code that begins these 16 bits and of the value behind it, and how many places they go on.
    #[inline]
    pub(super) fn step(&self, bits: u32) -> Option<(u32, u32)> {
        self.find(bits).map(|(length, symbol)| step(length, symbol))
    }

    /// What each beginning of `SEVERAL` bits holds.
    pub(super) fn several(&self) -> &Several {
        self.several.get_or_init(|| {
            let mut table = Box::new([Held::NOTHING; PREFIXES]);
            for (prefix, entry) in (0_u32..).zip(table.iter_mut()) {
                *entry = self.known_in(prefix);
            }
            table
        })
    }

    fn known_in(&self, prefix: u32) -> Held {
        let (mut used, mut places) = (0_u32, 0_u32);
        // A code has to be whole in it; where its value ends is known then.
        while used < SEVERAL {
            let rest = (prefix << 16_u32.minus(SEVERAL) << used) & 0xFFFF;
            let Some((length, symbol)) = self.find(rest).filter(|(length, _)| used.plus(*length) <= SEVERAL)
            else {
                break;
            };
            let (bits, on) = step(length, symbol);
            // Places are counted up to those of a block.
            if on < END && places.plus(on) >= 64 {
                break;
            }
            (used, places) = (used.plus(bits), places.plus(on));
            if on == END {
                break;
            }
        }
        if used == 0 { Held::NOTHING } else { Held::of(used, places) }
    }

    fn find_long(&self, bits: u32) -> Option<(u32, u32)> {
        for length in AT_ONCE.plus(1)..=16 {
            if bits < self.ends.get(length.size()).copied()? {
                let code = bits >> 16_u32.minus(length);
                let place = self.places.get(length.size()).copied()?.saturating_add_unsigned(code);
                let symbol = self.symbols.get(usize::try_from(place).ok()?)?;
                return Some((length, u32::from(*symbol)));
            }
        }
        None
    }
}

/// Bits that are looked up at once for coefficients, and beginnings of so many bits.
const SEVERAL: u32 = 12;
const PREFIXES: usize = 1 << SEVERAL;

/// What each beginning of `SEVERAL` bits holds.
pub(super) type Several = [Held; PREFIXES];

/// The coefficients whose codes are whole in a beginning of `SEVERAL` bits: how many bits they take with their values,
/// which may go on behind it, and above that how many places they go on, with `END` added where the block ends with them.
#[derive(Debug, Clone, Copy)]
pub(super) struct Held(u16);

impl Held {
    /// Not one code is whole: to go on so far leads out of any block.
    const NOTHING: Self = Self(64 << 5_u16);

    fn of(bits: u32, places: u32) -> Self {
        Self(u16::try_from(places << 5_u32 | bits).unwrap_or(Self::NOTHING.0))
    }
    #[inline]
    pub(super) fn bits(self) -> u32 {
        u32::from(self.0) & 31
    }
    #[inline]
    pub(super) fn places(self) -> u32 {
        u32::from(self.0 >> 5_u32)
    }
}

/// Places that the end of a block goes on: beyond any other.
pub(super) const END: u32 = 128;

/// Bits of a coefficient's code of `length` and of its value, and how many places they go on (F.1.2.2).
fn step(length: u32, symbol: u32) -> (u32, u32) {
    let (run, size) = (symbol >> 4_u32, symbol & 15);
    let places = match (run, size) {
        (15, 0) => 16,
        (_, 0) => END,
        _ => run.plus(1),
    };
    (length.plus(size), places)
}

/// Bits of entropy-coded bytes: FF 00 stands for FF, and FF with anything else is a marker, where they end.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Bits {
    /// The next bits, from the highest down.
    held: u64,
    /// How many of them.
    count: u32,
    /// Bits that were made up behind a marker.
    made_up: u32,
    /// Where the next byte stands in what they are filled from.
    pub(super) at: usize,
    /// A marker stands at `at`: no further bits.
    pub(super) marker: bool,
}

impl Bits {
    /// Sees to it that there are at least 56 bits; zeros where a marker stands, or `bytes` end.
    #[inline]
    pub(super) fn fill(&mut self, bytes: &[u8]) {
        // Eight bytes without an FF among them are the usual case. What of them is not counted yet stands behind the
        // counted bits already, and is laid over itself the next time.
        if let Some(eight) = bytes.get(self.at..).and_then(<[u8]>::first_chunk::<8>) {
            let next = u64::from_le_bytes(*eight).swap_bytes();
            if !has_ff(next) {
                self.held |= next.wrapping_shr(self.count);
                let whole = 63_u32.wrapping_sub(self.count) >> 3_u32;
                self.at = self.at.wrapping_add(whole.size());
                self.count = self.count.wrapping_add(whole.wrapping_mul(8));
                return;
            }
        }
        *self = self.filled_slowly(bytes);
    }

    #[inline(never)]
    fn filled_slowly(mut self, bytes: &[u8]) -> Self {
        while self.count < 56 {
            let byte = bytes.get(self.at).copied();
            let byte = match byte {
                Some(0xFF) if !self.marker => {
                    if bytes.get(self.at.plus(1)) != Some(&0) {
                        self.marker = true;
                        continue;
                    }
                    self.at = self.at.plus(2);
                    0xFF
                }
                Some(byte) if !self.marker => {
                    self.at = self.at.plus(1);
                    byte
                }
                _ => {
                    self.marker = true;
                    self.made_up = self.made_up.plus(8);
                    0
                }
            };
            self.held |= u64::from(byte) << 56_u32.minus(self.count);
            self.count = self.count.plus(8);
        }
        self
    }

    /// What is whole in the next `SEVERAL` bits.
    #[inline]
    pub(super) fn held(&self, table: &Several) -> Held {
        let first = (self.held >> 64_u32.wrapping_sub(SEVERAL)).size() & PREFIXES.wrapping_sub(1);
        table.get(first).copied().unwrap_or(Held::NOTHING)
    }
    /// The next 16 bits.
    #[inline]
    pub(super) fn next(&self) -> u32 {
        u32::try_from(self.held >> 48_u32).unwrap_or(0)
    }
    /// Passes over `count` bits, of those that are held: 54 after a fill in all.
    #[inline]
    pub(super) fn skip(&mut self, count: u32) {
        self.held = self.held.wrapping_shl(count);
        self.count = self.count.wrapping_sub(count);
    }
    /// The value of the next `count` bits, at most 16.
    #[inline]
    pub(super) fn take(&mut self, count: u32) -> u32 {
        // In two steps, so that no bit is none.
        let value = self.held >> 1_u32 >> 63_u32.wrapping_sub(count & 63);
        let value = u32::try_from(value).unwrap_or(0);
        self.skip(count);
        value
    }
    /// More bits were taken than stood before the marker.
    #[inline]
    pub(super) fn overrun(&self) -> bool {
        self.made_up > self.count
    }
    /// Forgets what is left of the byte and of bytes before a marker; gives how many whole bytes were left over.
    pub(super) fn close(&mut self) -> u32 {
        let left = self.count.minus(self.made_up).per(8);
        (self.held, self.count, self.made_up, self.marker) = (0, 0, 0, false);
        left
    }
}

/// One of the eight bytes is FF.
#[inline]
fn has_ff(value: u64) -> bool {
    let inverse = !value;
    inverse.wrapping_sub(0x0101_0101_0101_0101) & value & 0x8080_8080_8080_8080 != 0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_of_all_lengths_are_found() {
        // One code of each length: 0, 10, 110, …
        let counts = [1; 16];
        let symbols: Vec<u8> = (0..16).collect();
        let codes = Codes::of(&counts, &symbols).unwrap();
        for length in 1..=16_u32 {
            let code = (0xFFFF_u32 << (17 - length)) & 0xFFFF;
            assert_eq!(codes.find(code), Some((length, length - 1)), "{code:04X}");
        }
        assert_eq!(codes.find(0xFFFF), None);
        assert!(Codes::of(&[3], &[1, 2, 3]).is_none(), "three codes of one bit");
        assert!(Codes::of(&[0, 2], &[1]).is_none(), "a symbol is missing");
    }

    #[test]
    fn bits_end_at_a_marker_and_stuffing_is_left_out() {
        for place in 0..8_u32 {
            assert!(has_ff(0xFF << (8 * place)), "{place}");
            assert!(!has_ff(0xFE << (8 * place)), "{place}");
        }
        assert!(!has_ff(0xFE01_8000_7F80_00FE) && !has_ff(0));
        let bytes: &[u8] = &[0xA5, 0xFF, 0x00, 0x3C, 0xFF, 0xD9];
        let mut bits = Bits::default();
        bits.fill(bytes);
        assert_eq!((bits.take(8), bits.take(8), bits.take(4)), (0xA5, 0xFF, 3));
        assert!(!bits.overrun());
        assert_eq!((bits.take(4), bits.at, bits.marker), (0xC, 4, true));
        assert_eq!(bits.take(8), 0);
        assert!(bits.overrun());
    }
}
