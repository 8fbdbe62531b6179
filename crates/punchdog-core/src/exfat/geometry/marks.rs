//! What only hosts of exFAT leave in the first 8 KiB; `$Boot` of NTFS takes these bytes whole.

use crate::{arith::Peek, medium::Medium};

/// Bytes that formatting as another family writes over.
const HEAD: usize = 8192;
/// `ExtendedBootSignature` (exFAT specification, 3.2.2).
const EXTENDED: [u8; 4] = [0, 0, 0x55, 0xAA];

/// True where a boot sector that names exFAT stands there, or extended boot sectors do.
pub fn marked(medium: &dyn Medium) -> bool {
    let head = medium.lenient(0, HEAD).bytes;
    let named = |sector: &[u8]| sector.part(3, 8) == b"EXFAT   " && sector.ends_with(&[0x55, 0xAA]);
    let extended = |size: usize| {
        let sectors = head.chunks_exact(size).skip(1).take(8);
        sectors.filter(|sector| sector.ends_with(&EXTENDED)).count()
    };
    // Of sectors of 4096 bytes, the first extended one alone.
    head.chunks_exact(512).any(named) || extended(512) > 3 || extended(4096) > 0
}
