//! A quick format over whatever was there: new tables and an empty root folder; all other bytes stay.

use punchdog_core::formatting::{Fresh, Piece};
use std::io;

/// The file system that is laid over another.
pub type New = Fresh;

fn size(bytes: u64) -> usize {
    usize::try_from(bytes).unwrap_or(usize::MAX)
}

/// Lays it over the volume whose bytes these are.
///
/// # Errors
/// When the wish cannot be met.
pub fn over(bytes: &mut [u8], new: &New) -> io::Result<()> {
    for (at, piece) in new.pieces(0).map_err(io::Error::other)? {
        let from = size(at).min(bytes.len());
        let length = match &piece {
            Piece::Bytes(piece) => piece.len(),
            Piece::Zeros(count) => size(*count),
        };
        let place = from..(from + length).min(bytes.len());
        match piece {
            Piece::Bytes(piece) => bytes[place.clone()].copy_from_slice(&piece[..place.len()]),
            Piece::Zeros(_) => bytes[place].fill(0),
        }
    }
    Ok(())
}
