//! Laying bytes onto a copy, with a journal, where there is nothing to mend: a fresh file system.

use super::{
    apply::{ApplyError, Workplace},
    journal::{self, Header, Journal},
};
use crate::{
    arith::Sat,
    formatting::Piece,
    medium::{Extent, Medium, MediumError, Overlay},
    mending::change::{Counting, Tally},
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
        unread: Vec::new(),
    };
    let mut write = |out: &mut dyn io::Write| journal::write(out, &header, &changed, image, &overlay);
    place.save_journal(&mut write).map_err(|e| ("writing the journal", e))?;
    overlay.sound()?;
    let standing = place.journal().map_err(|e| ("reading the journal", e))?.ok_or(ApplyError::BadJournal)?;
    let journal = Journal::open(standing)?.ok_or(ApplyError::BadJournal)?;
    place.make_copy(image, &mut |_| Ok(()), watch).map_err(|e| ("making the copy", e))?;
    let mut counting = Counting::default();
    for (number, record) in journal.records().enumerate() {
        watch.at("writing the file system", number.wide(), journal.len().wide());
        let record = record?;
        place.write(record.offset, &record.new).map_err(|e| ("writing into the copy", e))?;
        counting.add(record.offset, &record.old, &record.new);
    }
    place.sync().map_err(|e| ("writing the copy out to the disk", e))?;
    Ok(counting.tally)
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
