//! What the entry of a folder says of a file beside its name, held against the file's own record.
//!
//! An entry is a copy of the name with what hosts list: when the content was changed (byte 16 of the key), the bytes
//! allocated (40) and of content (48). Hosts write it after the record; a file of several names has it current in one of
//! its folders alone. So an entry that is behind is usual after a write that was cut off, and one that is ahead tells that
//! the record is of an earlier writing (on volumes that Linux 6.12 left in order none differs, in size or time).

use super::{
    index::Entry,
    layout::{NAME_SHORT, kind, own},
    records::{Flaw, Notes, Piece, Records},
};
use crate::arith::{Peek, Sat};

/// An entry that does not say of a file what its record says.
#[derive(Debug, Clone, Copy)]
pub struct Differing {
    /// The folder in whose index it stands.
    pub folder: u32,
    /// The file.
    pub file: u32,
    /// Where the entry stands.
    pub place: u64,
    /// Bytes of content, as the entry has it.
    pub size: u64,
    /// When the content was changed, as the entry has it.
    pub modified: u64,
    /// How it differs.
    pub how: How,
}

/// How an entry differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// It has another size, and a later time: the record is of an earlier writing.
    Ahead,
    /// It has another size.
    Size,
    /// It has a time that the record does not have.
    Time,
    /// It has an earlier time: hosts write it late.
    Late,
    /// The sizes in the record do not go together, and it has one of its own.
    Alone,
}

impl How {
    /// It is told, and set as the record says.
    pub fn is_told(self) -> bool {
        matches!(self, Self::Ahead | Self::Size | Self::Time)
    }
}

/// The difference, if any, between the entry and the record of the file whose name it is.
pub(super) fn of(records: &Records, folder: u32, entry: &Entry<'_>, name: u32) -> Option<Differing> {
    let name = records.names.get(name.size())?;
    let file = records.live(name.file)?;
    let one_name = || records.names_of(file).iter().filter(|name| name.space != NAME_SHORT).count() == 1;
    let (size, modified) = (entry.key.le64(48), entry.key.le64(16));
    let data = records.stream_of(file, kind::DATA, "").first()?;
    if (size, modified) == (data.size, file.modified) || name.space == NAME_SHORT {
        return None;
    }
    // The file system's own are written late, or never.
    if name.file < own::FIRST_FREE
        || !entry.reached
        || file.notes.intersects(Notes::FOLDER | Notes::SHORT)
        || data.bad.is_some()
        || !one_name()
    {
        return None;
    }
    // Without standard information the record tells no time.
    let timeless = file.modified == 0;
    let how = match (size != data.size, modified > file.modified && !timeless) {
        (other, _) if file.notes.contains(Notes::DOUBT) => other.then_some(How::Alone)?,
        (true, true) => How::Ahead,
        (true, false) => How::Size,
        (false, _) if timeless => return None,
        (false, true) => How::Time,
        (false, false) => How::Late,
    };
    Some(Differing { folder, file: name.file, place: entry.place, size, modified, how })
}

/// Takes the word of an entry against a record's size where what was written of the content says the same, and notes the
/// files whose records are of an earlier writing.
pub(super) fn settle(records: &mut Records, differing: &mut Vec<Differing>) {
    let before = records.flaws.len();
    differing.retain(|one| {
        // Where the sizes do not go together that is told already, and mended by the entry.
        let doubted = one.how == How::Alone;
        let taken = (doubted || one.how == How::Size) && records.take_size(one, doubted);
        doubted || !taken
    });
    for one in differing.iter().filter(|one| one.how == How::Ahead) {
        records.note(one.file, Notes::OUTDATED);
    }
    differing.sort_by_key(|one| one.file);
    if records.flaws.len() > before {
        records.flaws.sort_by_key(|(number, _)| *number);
    }
}

impl Records {
    /// Takes the size that an entry has for that of the file; true where all of that was written, and nothing behind it.
    /// Where the sizes are `doubted` that is told of the file already.
    fn take_size(&mut self, told: &Differing, doubted: bool) -> bool {
        let Some(file) = self.live(told.file).filter(|file| file.modified == told.modified) else {
            return false;
        };
        let from = file.pieces.start.size();
        let plain = |piece: &Piece| piece.kind == kind::DATA && piece.name == 0;
        let Some(at) = self.pieces_of(file).iter().position(plain) else { return false };
        let Some(piece) = self.pieces.get_mut(from.plus(at)) else { return false };
        if piece.resident || piece.first_vcn != 0 || piece.valid != told.size || told.size > piece.allocated {
            return false;
        }
        let had = std::mem::replace(&mut piece.size, told.size);
        if doubted {
            return true;
        }
        let flaw = Flaw::Size(usize::from(piece.at), had, told.size);
        let holder = piece.holder;
        self.flaws.push((holder, flaw));
        self.note(told.file, Notes::MISSIZED);
        true
    }
}
