//! Laying bytes onto a copy, with a journal, where there is nothing to mend: a fresh file system.

use super::{
    apply::{self, ApplyError, Workplace},
    journal::{self, Header},
};
use crate::{
    arith::Sat,
    formatting::Piece,
    medium::{Extent, Medium, MediumError, Overlay, Unknown, WithUnreadable},
    mending::change::Tally,
    progress::Watch,
};
use sha2::{Digest, Sha256};
use std::io;

/// Puts `pieces`, in this order, onto a copy of `image`; gives the bytes that are others then. As with a plan, the old
/// bytes are kept beside the copy, and undo puts them back.
///
/// # Errors
/// Where the copy is there already, or cannot be made.
pub fn lay(
    image: &dyn Medium,
    pieces: &[(u64, Piece)],
    place: &mut dyn Workplace,
    watch: &dyn Watch,
) -> Result<Tally, ApplyError> {
    let taken = place.has_copy().map_err(|e| ("looking for the copy", e))?;
    if taken || place.journal().map_err(|e| ("looking for a journal", e))?.is_some() {
        return Err(ApplyError::CopyExists);
    }
    let unread = image.unknown(Unknown::Unreadable);
    let medium = WithUnreadable::with_lost(image, unread.clone());
    let image: &dyn Medium = &medium;
    let mut overlay = Overlay::new(image);
    let mut seal = Sha256::new();
    for (at, piece) in pieces {
        if watch.stop() {
            return Err(MediumError::Stopped.into());
        }
        seal.update(at.to_le_bytes());
        match piece {
            Piece::Bytes(bytes) => {
                seal.update(bytes);
                overlay.write_at(*at, bytes)?;
            }
            Piece::Zeros(count) => {
                seal.update(count.to_le_bytes());
                blank(image, &mut overlay, Extent::new(*at, *count))?;
            }
        }
    }
    overlay.sound()?;
    let changed = overlay.changed();
    let header = Header {
        schema: journal::SCHEMA.to_owned(),
        bytes: image.len(),
        seal: hex::encode(seal.finalize()),
        unread,
    };
    let mut write = |out: &mut dyn io::Write| journal::write(out, &header, &changed, image, &overlay);
    place.save_journal(&mut write).map_err(|e| ("writing the journal", e))?;
    overlay.sound()?;
    let journal = apply::standing_journal(place)?.ok_or(ApplyError::BadJournal)?;
    let mut inspect = |copy: &dyn Medium| apply::must_be_unchanged(&journal, copy);
    place.make_copy(image, &mut inspect, watch).map_err(|e| ("making the copy", e))?;
    apply::carry_out(&journal, place, watch)
}

/// Zeros, where there is anything else: what is a hole is none the less so.
fn blank(image: &dyn Medium, overlay: &mut Overlay<'_>, extent: Extent) -> Result<(), MediumError> {
    let zeros = vec![0; 1 << 16];
    let mut at = extent.offset;
    while let Some(data) = image.data_from(at).filter(|data| data.offset < extent.end()) {
        at = data.offset.max(at);
        let end = data.end().min(extent.end());
        while at < end {
            let piece = zeros.get(..end.minus(at).size()).unwrap_or(&zeros);
            overlay.write_at(at, piece)?;
            at = at.plus(piece.len().wide());
        }
    }
    Ok(())
}
