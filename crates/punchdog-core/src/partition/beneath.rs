//! Volumes over whose beginning a disc image was written, such as that of an installation medium: it is shorter than the
//! medium, and the old volume reaches out behind it.
//!
//! ```text
//! 0 ─ what was written last ─ its own length ─ what is left of the old volume ─ end
//! ```

use super::{
    catalogue as c, listed,
    place::{Place, Scouting, Way},
    search, strangers, unlisted,
};
use crate::{
    arith::{Peek, Sat},
    family::Kind,
    medium::{Extent, Medium, MediumError, Window, WithUnreadable},
    ntfs::NtfsVolume,
    progress::Watch,
    report::finding::{Collector, Finding, Sink},
};

const SECTOR: u64 = 512;
const MIB: u64 = 1 << 20;
/// Bytes behind it that are worth a look.
const LEAST: u64 = MIB;
/// Bytes at the end of the medium in which such a copy stands: partitions end at whole MiB, or with the medium.
const TAIL: u64 = 4 * MIB;

/// Looks behind a stranger at the beginning of the medium, whose length is known, and tells of the volumes that reach out
/// from under it. They are left alone: what was written last is there too.
pub(super) fn look(
    medium: &dyn Medium,
    out: &mut Scouting,
    length: u64,
    faults: &mut Collector,
    watch: &dyn Watch,
) -> Result<(), MediumError> {
    let behind = Extent::new(length, medium.len().minus(length));
    if behind.length < LEAST || medium.data_from(length).is_none() {
        return Ok(());
    }
    let mut found = search::lost(medium, behind, &[], watch)?;
    if found.is_empty() {
        found.extend(by_copy(medium, length, watch)?);
    }
    let mut covered: Vec<Extent> = found.iter().map(|place| place.extent).collect();
    covered.push(Extent::new(0, length));
    found.extend(unlisted::between(medium, &covered, watch)?);
    if found.is_empty() {
        found.extend(by_what_is_left(medium, length, watch)?);
    }
    found.sort_by_key(|place| place.extent.offset);
    for place in found {
        report(&place, out, length, faults);
        out.beneath.push(place);
    }
    Ok(())
}

/// An NTFS volume whose first records are written over, by the copy of its boot sector near the end of the medium, where
/// records anywhere in it bear that out.
fn by_copy(medium: &dyn Medium, length: u64, watch: &dyn Watch) -> Result<Option<Place>, MediumError> {
    let from = medium.len().minus(TAIL).per_up(SECTOR).times(SECTOR).max(length);
    let tail = medium.lenient(from, medium.len().minus(from).size()).bytes;
    for (number, sector) in tail.chunks_exact(SECTOR.size()).enumerate() {
        let begins = Window::new(medium, Extent::new(from.plus(number.wide().times(SECTOR)), SECTOR));
        let Some((Kind::Ntfs, bytes)) = search::claim(&begins) else { continue };
        let end = from.plus(number.wide().times(SECTOR)).plus(u64::from(sector.le16(11)));
        let Some(start) = end.checked_sub(bytes).filter(|start| *start < length) else { continue };
        let extent = Extent::new(start, bytes);
        let volume = NtfsVolume::recognise(&Window::new(medium, extent), watch)?;
        if let Some(volume) = volume.filter(|volume| volume.believed().borne_out() > 0) {
            return Ok(Some(listed::place(&volume, extent, Way::Lost, true)));
        }
    }
    Ok(None)
}

/// A volume of which nothing but folders, records or files behind what was written last tells: what stands there is none of
/// its structures.
fn by_what_is_left(
    medium: &dyn Medium,
    length: u64,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let holed = WithUnreadable::new(medium, vec![Extent::new(0, length)]);
    let Some(headless) = unlisted::headless(&holed, watch)? else { return Ok(None) };
    // Where nothing says where it begins, nothing is made of it.
    if headless.start == 0 || headless.start >= length {
        return Ok(None);
    }
    let place =
        unlisted::moved(&holed, Extent::new(headless.start, medium.len().minus(headless.start)), watch)?;
    Ok(place)
}

fn report(place: &Place, out: &Scouting, length: u64, faults: &mut Collector) {
    let title = out.strangers.first().map_or("another file system", |stranger| stranger.name.title);
    let kind = place.what.title();
    let over = length.saturating_sub(place.extent.offset).min(place.bytes);
    faults.add(
        Finding::new(
            &c::BENEATH,
            format!("{kind} volume at byte {}: {}", place.extent.offset, c::BENEATH.title),
        )
        .at(place.extent.offset, 512)
        .because(
            place.begins(),
            format!("{title} stands from byte 0 to {length}, and over {over} bytes of it."),
            "What it had behind that is still there.",
        ),
    );
}

/// How long what stands at the beginning of `medium` says that it is, where its format tells and that is less than there is.
pub(super) fn length(medium: &dyn Medium, name: strangers::Name) -> Option<u64> {
    strangers::length(medium, name).filter(|length| *length >= LEAST && *length < medium.len())
}

/// True where a volume stands in what `length` bytes of something else are said to take, and reaches out behind them: it was
/// made later, and what says so is left in the gap before it.
pub(super) fn is_left_over(medium: &dyn Medium, length: u64) -> bool {
    // Without its first sector, where volumes mostly begin.
    if [63 * SECTOR, MIB].into_iter().any(|start| start < length && is_there(medium, start, length)) {
        return true;
    }
    let usual = [63 * SECTOR, MIB, 4 * MIB, 16 * MIB, 32 * MIB, 64 * MIB];
    usual.into_iter().filter(|start| *start < length).any(|start| {
        let sector = medium.lenient(start, SECTOR.size()).bytes;
        let place = search::begins(medium, start, &sector);
        place.is_some_and(|place| {
            place.extent.offset == start && !place.boot_gone && place.extent.end() > length
        })
    })
}

/// What of a volume that begins at byte `at` something else was written over, and what: where neither its own beginning nor
/// its tables are there, and no partition entry leads to it.
pub fn written_over(medium: &dyn Medium, at: u64) -> Option<(Extent, strangers::Name)> {
    let name = strangers::name(medium)?;
    let end = length(medium, name).filter(|end| at > 0 && at < *end)?;
    (!is_listed(medium, at) && !is_there(medium, at, end)).then_some((Extent::new(at, end.minus(at)), name))
}

fn is_listed(medium: &dyn Medium, at: u64) -> bool {
    listed::partitions(medium).iter().any(|entry| entry.offset == at)
}

/// True where some of what a volume begins with stands behind byte `at`: a boot sector or its copy, the beginning of a table,
/// records. A volume that ends before byte `end` may be a file of what was written last.
fn is_there(medium: &dyn Medium, at: u64, end: u64) -> bool {
    let bytes = medium.lenient(at, MIB.min(end.minus(at)).size()).bytes;
    let mut records = 0_u32;
    for (number, sector) in bytes.chunks_exact(SECTOR.size()).enumerate() {
        let here = at.plus(number.wide().times(SECTOR));
        let claim = search::claim(&Window::new(medium, Extent::new(here, SECTOR)));
        let table = matches!(sector, [0xF0 | 0xF8, 0xFF, 0xFF, 0x0F | 0xFF, ..]);
        records = records.plus(u32::from(sector.starts_with(b"FILE")));
        if table || records >= 8 || claim.is_some_and(|(_, length)| here.plus(length) > end) {
            return true;
        }
    }
    false
}
