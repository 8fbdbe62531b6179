//! Arithmetic on numbers that come from a disk.
//!
//! A field on a damaged disk can hold anything, so nothing here can overflow, divide by zero or
//! reach outside a slice: sums and products saturate, a division by zero is zero, a missing byte
//! reads as zero. Callers that must know the difference compare with the bounds first.

/// Saturating arithmetic with short names, for `u32`, `u64` and `usize`.
pub trait Sat: Copy {
    /// The sum, or the largest value.
    #[must_use]
    fn plus(self, other: Self) -> Self;
    /// The difference, or zero.
    #[must_use]
    fn minus(self, other: Self) -> Self;
    /// The product, or the largest value.
    #[must_use]
    fn times(self, other: Self) -> Self;
    /// The whole quotient; zero when divided by zero.
    #[must_use]
    fn per(self, divisor: Self) -> Self;
    /// The quotient rounded up; zero when divided by zero.
    #[must_use]
    fn per_up(self, divisor: Self) -> Self;
    /// The remainder; zero when divided by zero.
    #[must_use]
    fn rest(self, divisor: Self) -> Self;
    /// The value as bytes or a count of 64 bits.
    fn wide(self) -> u64;
    /// The value as a length in memory, or the largest length.
    fn size(self) -> usize;
    /// The value in 32 bits, or the largest such value.
    fn narrow(self) -> u32;
}

macro_rules! sat {
    ($($kind:ty),*) => {$(
        impl Sat for $kind {
            #[inline]
            fn plus(self, other: Self) -> Self {
                self.saturating_add(other)
            }
            #[inline]
            fn minus(self, other: Self) -> Self {
                self.saturating_sub(other)
            }
            #[inline]
            fn times(self, other: Self) -> Self {
                self.saturating_mul(other)
            }
            #[inline]
            fn per(self, divisor: Self) -> Self {
                self.checked_div(divisor).unwrap_or(0)
            }
            #[inline]
            fn per_up(self, divisor: Self) -> Self {
                if divisor == 0 { 0 } else { self.div_ceil(divisor) }
            }
            #[inline]
            fn rest(self, divisor: Self) -> Self {
                self.checked_rem(divisor).unwrap_or(0)
            }
            #[inline]
            fn wide(self) -> u64 {
                u64::try_from(self).unwrap_or(u64::MAX)
            }
            #[inline]
            fn size(self) -> usize {
                usize::try_from(self).unwrap_or(usize::MAX)
            }
            #[inline]
            fn narrow(self) -> u32 {
                u32::try_from(self).unwrap_or(u32::MAX)
            }
        }
    )*};
}
sat!(u32, u64, usize);

/// Reading small values out of a slice that may be too short.
pub trait Peek {
    /// The bytes from `at`, `length` of them, or what there is of them.
    fn part(&self, at: usize, length: usize) -> &[u8];
    /// The byte at `at`, or zero.
    fn byte(&self, at: usize) -> u8;
    /// The little-endian 16-bit value at `at`; missing bytes are zero.
    fn le16(&self, at: usize) -> u16;
    /// The little-endian 32-bit value at `at`; missing bytes are zero.
    fn le32(&self, at: usize) -> u32;
    /// The little-endian 64-bit value at `at`; missing bytes are zero.
    fn le64(&self, at: usize) -> u64;
    /// The 16-bit value at `at` whose first byte is its highest; missing bytes are zero.
    fn be16(&self, at: usize) -> u16;
    /// The 32-bit value at `at` whose first byte is its highest; missing bytes are zero.
    fn be32(&self, at: usize) -> u32;
    /// The 64-bit value at `at` whose first byte is its highest; missing bytes are zero.
    fn be64(&self, at: usize) -> u64;
}

impl Peek for [u8] {
    #[inline]
    fn part(&self, at: usize, length: usize) -> &[u8] {
        let from = at.min(self.len());
        let to = at.plus(length).min(self.len());
        self.get(from..to).unwrap_or(&[])
    }
    #[inline]
    fn byte(&self, at: usize) -> u8 {
        self.get(at).copied().unwrap_or(0)
    }
    #[inline]
    fn le16(&self, at: usize) -> u16 {
        u16::from_le_bytes([self.byte(at), self.byte(at.plus(1))])
    }
    #[inline]
    fn le32(&self, at: usize) -> u32 {
        u32::from(self.le16(at)) | u32::from(self.le16(at.plus(2))) << 16_u32
    }
    #[inline]
    fn le64(&self, at: usize) -> u64 {
        u64::from(self.le32(at)) | u64::from(self.le32(at.plus(4))) << 32_u32
    }
    #[inline]
    fn be16(&self, at: usize) -> u16 {
        self.le16(at).swap_bytes()
    }
    #[inline]
    fn be32(&self, at: usize) -> u32 {
        self.le32(at).swap_bytes()
    }
    #[inline]
    fn be64(&self, at: usize) -> u64 {
        self.le64(at).swap_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn saturates_instead_of_wrapping() {
        assert_eq!(u32::MAX.plus(1), u32::MAX);
        assert_eq!(3_u64.minus(5), 0);
        assert_eq!(7_usize.per(0), 0);
        assert_eq!(7_u32.per_up(2), 4);
        assert_eq!(u64::MAX.narrow(), u32::MAX);
    }

    #[test]
    fn peeks_past_the_end_as_zero() {
        let bytes: &[u8] = &[0x34, 0x12, 0xff];
        assert_eq!(bytes.le16(0), 0x1234);
        assert_eq!(bytes.le32(2), 0xff);
        assert_eq!((bytes.be16(0), bytes.be32(1)), (0x3412, 0x12ff_0000));
        assert_eq!(bytes.part(2, 10), &[0xff]);
        assert_eq!(bytes.part(9, 10), &[] as &[u8]);
    }
}
