//! A volume whose end stands further behind its beginning than it is long: bytes were inserted between the two, or a move of
//! the partition was cut off.
//!
//! NTFS has a copy of its boot sector in the last sector. Where the copy that belongs to a boot sector stands too late, a
//! volume without its beginning seems to stand as far behind it; the two are one. A FAT or exFAT whose boot sector is written
//! over can be known by what lies behind; whether that is the rest of one before it, reading that one shows.

use super::{catalogue as c, place::Place};
use crate::{
    arith::{Peek, Sat},
    family::Kind,
    medium::{Medium, Window},
    ntfs,
    progress::Silent,
    registry,
    report::finding::{Collector, Finding, Sink},
};

const SECTOR: u64 = 512;

/// True where `end`, known without its boot sector, is the end of the volume that begins at `front`.
pub(super) fn is_end_of(medium: &dyn Medium, end: &Place, front: &Place) -> bool {
    let headless = end.boot_gone && !front.boot_gone && end.extent.offset > front.extent.offset;
    if !headless || end.extent.offset >= front.extent.offset.plus(front.bytes) {
        return false;
    }
    match (front.what, end.what) {
        (Kind::Ntfs, Kind::Ntfs) => front.bytes == end.bytes && has_its_copy(medium, end, front),
        (Kind::Ntfs, _) | (_, Kind::Ntfs) => false,
        (one, other) => one.shares_family(other) && has_inserted(medium, front, apart(end, front)),
    }
}

/// How far behind its place the end stands.
fn apart(end: &Place, front: &Place) -> u64 {
    end.extent.offset.minus(front.extent.offset)
}

/// True where the volume reads as one that so many bytes stand twice in the midst of.
fn has_inserted(medium: &dyn Medium, front: &Place, bytes: u64) -> bool {
    let window = Window::new(medium, front.extent);
    let Ok(Some(volume)) = registry::recognise(&window, &Silent) else { return false };
    let seen = volume.examine(&window, &Silent);
    seen.is_ok_and(|seen| seen.inserted.iter().any(|gap| gap.bytes == bytes && gap.from == gap.to))
}

fn has_its_copy(medium: &dyn Medium, end: &Place, front: &Place) -> bool {
    let boot = medium.lenient(front.extent.offset, SECTOR.size()).bytes;
    let sector = u64::from(boot.le16(11));
    let copy = medium.lenient(end.extent.offset.plus(end.bytes).minus(sector), SECTOR.size()).bytes;
    // Where the records begin as well as a volume of its own has them, only the boot sector is gone.
    let head = medium.lenient(end.tables_at, SECTOR.size()).bytes;
    boot == copy && !ntfs::starts::is_record_zero(&head, [0; 2])
}

pub(super) fn report(end: &Place, front: &Place, faults: &mut Collector) {
    let apart = apart(end, front);
    let summary =
        format!("{} volume at byte {}: {}", front.what.title(), front.extent.offset, c::ENDS_APART.title);
    let is = if front.what == Kind::Ntfs {
        format!("The copy of its boot sector stands {apart} bytes behind where the volume ends.")
    } else {
        format!("{apart} bytes of it stand twice, and what is behind them stands so far behind its place.")
    };
    let behind = end.extent.offset.plus(end.bytes).minus(SECTOR);
    let finding = Finding::new(&c::ENDS_APART, summary).at(front.extent.offset, SECTOR).at(behind, SECTOR);
    faults.add(finding.because(
        is,
        "A volume stands at one place.",
        "From some place on everything stands too late; its check says from where.",
    ));
}
