//! Laying bytes onto a copy, with a journal, where there is nothing to mend: a fresh file system.

use super::{
    apply::{self, ApplyError, Workplace},
    journal::{self, Header},
};
use crate::{
    arith::Sat,
    family::Survey,
    formatting::Piece,
    impaired::{self, Places},
    medium::{self, Extent, Medium, MediumError, Overlay, OverlayWindow, Unknown, Window, WithUnreadable},
    mending::{change::Tally, choices::Choices, step::Steps},
    progress::Watch,
    registry,
    report::structure::Purpose,
};
use sha2::{Digest, Sha256};
use std::io;

/// Rounds of keeping off places that fail.
const ROUNDS: usize = 64;

/// What became of the places of the medium that cannot be read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeptOff {
    /// Bytes of clusters that are marked bad.
    pub marked: u64,
    /// Structures of which a part lies in such a place, and cannot be moved.
    pub stays: Vec<String>,
}

/// What is laid down.
pub struct Laying<'p> {
    /// What goes where, in this order.
    pub pieces: &'p [(u64, Piece)],
    /// Where the file system goes that is kept off what cannot be read.
    pub volume: Extent,
}

impl Laying<'_> {
    /// Puts it on the overlay of a medium that does not fail any more; `unread` are the places that could not be read.
    ///
    /// # Errors
    /// Where the overlay cannot be written.
    pub fn put(
        &self,
        overlay: &mut Overlay<'_>,
        unread: &[Extent],
        watch: &dyn Watch,
    ) -> Result<KeptOff, MediumError> {
        for (at, piece) in self.pieces {
            if watch.stop() {
                return Err(MediumError::Stopped);
            }
            match piece {
                Piece::Bytes(bytes) => overlay.write_at(*at, bytes)?,
                Piece::Zeros(count) => blank(overlay, Extent::new(*at, *count))?,
            }
        }
        overlay.settle();
        let places = medium::within(unread.to_vec(), self.volume);
        if places.is_empty() {
            return Ok(KeptOff::default());
        }
        self.keep_off(overlay, &places, watch)
    }

    /// Moves what stands in these places of the volume, and marks them.
    fn keep_off(
        &self,
        overlay: &mut Overlay<'_>,
        places: &[Extent],
        watch: &dyn Watch,
    ) -> Result<KeptOff, MediumError> {
        let survey = |overlay: &Overlay<'_>| -> Result<Option<Box<dyn Survey>>, MediumError> {
            let window = Window::new(overlay, self.volume);
            let Some(volume) = registry::recognise(&window, watch)? else { return Ok(None) };
            volume.survey(&window, watch).map(Some)
        };
        for _ in 0..ROUNDS {
            let Some(mut seen) = survey(overlay)? else { return Ok(KeptOff::default()) };
            let mut steps = Steps::new(watch);
            impaired::set_aside(
                &mut *seen,
                &mut OverlayWindow::new(overlay, self.volume),
                places,
                &mut steps,
            )?;
            if !steps.any() {
                break;
            }
        }
        // Counts and bitmaps follow.
        for _ in 0..ROUNDS {
            let Some(mut seen) = survey(overlay)? else { break };
            let (mut steps, mut choices) = (Steps::new(watch), Choices::default());
            seen.mend(&mut OverlayWindow::new(overlay, self.volume), &mut choices, &mut steps, watch)?;
            if !steps.any() {
                break;
            }
        }
        let Some(mut seen) = survey(overlay)? else { return Ok(KeptOff::default()) };
        let window = Window::new(overlay, self.volume);
        let marked = seen.marked_bad(&window).iter().fold(0_u64, |sum, extent| sum.plus(extent.length));
        let failing = Places::from(places.to_vec());
        let own = seen.structures(&window).into_iter().filter(|one| one.purpose != Purpose::Spare);
        let mut stays: Vec<String> =
            own.filter(|one| failing.touch([one.extent])).map(|one| one.name.to_string()).collect();
        stays.dedup();
        Ok(KeptOff { marked, stays })
    }
}

/// Puts a file system onto a copy of `image`; gives the bytes that are others then. As with a plan, the old
/// bytes are kept beside the copy, and undo puts them back.
///
/// # Errors
/// Where the copy is there already, or cannot be made.
pub fn lay(
    image: &dyn Medium,
    laying: &Laying<'_>,
    place: &mut dyn Workplace,
    watch: &dyn Watch,
) -> Result<(Tally, KeptOff), ApplyError> {
    let journal = place.journal().map_err(|e| ("looking for a journal", e))?.is_some();
    if place.has_copy().map_err(|e| ("looking for the copy", e))? {
        return Err(ApplyError::CopyExists);
    }
    if journal {
        return Err(ApplyError::OtherJournal);
    }
    let unread = image.unknown(Unknown::Unreadable);
    let medium = WithUnreadable::with_lost(image, unread.clone());
    let image: &dyn Medium = &medium;
    let mut overlay = Overlay::new(image);
    let mut seal = Sha256::new();
    for (at, piece) in laying.pieces {
        seal.update(at.to_le_bytes());
        match piece {
            Piece::Bytes(bytes) => seal.update(bytes),
            Piece::Zeros(count) => seal.update(count.to_le_bytes()),
        }
    }
    let kept_off = laying.put(&mut overlay, &unread, watch)?;
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
    Ok((apply::carry_out(&journal, place, watch)?, kept_off))
}

/// Zeros, where there is anything else: what is a hole is none the less so.
fn blank(overlay: &mut Overlay<'_>, extent: Extent) -> Result<(), MediumError> {
    let zeros = vec![0; 1 << 16];
    let mut at = extent.offset;
    while let Some(data) = overlay.data_from(at).filter(|data| data.offset < extent.end()) {
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
