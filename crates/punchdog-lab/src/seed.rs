//! Numbers that look random and are the same in every run.

/// A source of numbers; equal seeds give equal numbers on every machine.
#[derive(Debug, Clone)]
pub struct Seed(u64);

impl Seed {
    /// Numbers from this seed.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next number: one step of `SplitMix64` (Steele, Lea, Flood 2014).
    pub fn number(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A number from 0 to `below` - 1.
    ///
    /// # Panics
    /// When `below` is 0.
    pub fn below(&mut self, below: u64) -> u64 {
        self.number() % below
    }

    /// `length` bytes.
    pub fn bytes(&mut self, length: usize) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(length + 8);
        while bytes.len() < length {
            bytes.extend(self.number().to_le_bytes());
        }
        bytes.truncate(length);
        bytes
    }

    /// One of `from`.
    ///
    /// # Panics
    /// When `from` is empty.
    pub fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        let index = self.below(from.len() as u64);
        &from[usize::try_from(index).expect("an index into a slice")]
    }
}
