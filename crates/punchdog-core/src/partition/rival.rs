//! A volume in the free space of another one, where no table says which of the two is in use.
//!
//! A medium that was divided anew keeps the beginning of what was there. As long as the table lists the new
//! volume, the old beginning is a remark; without the table both stand there with equal right, and listing
//! the wrong one lets hosts write over the files of the other.

use super::{
    catalogue as c,
    mbr::SECTOR,
    place::{Place, Scouting},
    search, unlisted,
};
use crate::{
    arith::Sat,
    family::Wanted,
    files::record::FileRecord,
    medium::{Extent, Medium, MediumError, Window},
    mending::choices::Choices,
    progress::Watch,
    registry,
    report::finding::{Collector, Finding, Sink},
};

/// Bytes from the start of the medium within which a first volume begins by custom.
const CUSTOM: u64 = 64 << 20;
/// The question that a plan puts.
const QUESTION: &str = "in-use";

/// The volume whose beginning lies in the longest stretch of `outer` that no file of it owns. What lies in a
/// file, such as the image of another medium, is that file's content.
pub(super) fn in_free_space(
    medium: &dyn Medium,
    outer: &Place,
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    if outer.guessed || outer.data_at == 0 {
        return Ok(None);
    }
    let window = Window::new(medium, outer.extent);
    let Some(volume) = registry::recognise(&window, watch)? else { return Ok(None) };
    let files = volume.files(&window, Wanted { deleted: false, system: true }, watch)?;
    // The copies of the first records of an NTFS stand in the midst of it, whatever else does: they divide nothing.
    let divides =
        |file: &&FileRecord| !file.path.name().starts_with('$') || file.content.on_medium() > unlisted::GAP;
    let owned = files
        .iter()
        .filter(divides)
        .flat_map(|file| file.content.extents())
        .map(|extent| extent.moved(outer.extent.offset));
    let covered: Vec<Extent> = [Extent::new(0, outer.data_at)].into_iter().chain(owned).collect();
    let room = unlisted::gaps(&covered, outer.extent.end());
    let Some(room) = room.into_iter().max_by_key(|gap| gap.length) else { return Ok(None) };
    // A file ends within a sector; volumes begin with one.
    let start = room.offset.per_up(SECTOR).times(SECTOR);
    let room = Extent::new(start, room.end().minus(start));
    let near = Extent::new(room.offset, room.end().min(CUSTOM).minus(room.offset));
    // The copy of a boot sector that stands behind all content leads back to the volume itself.
    let another = |place: &Place| place.extent.offset >= room.offset;
    if let Some(place) = search::lost(medium, near, &[], watch)?.into_iter().find(another) {
        return Ok(Some(place));
    }
    Ok(unlisted::in_gap(medium, room, watch)?.filter(another))
}

impl Scouting {
    /// The volumes that overlap `place`, with no table to say which one is in use.
    pub fn rivals(&self, place: &Place) -> impl Iterator<Item = &Place> {
        let here = place.extent;
        let contested = place.way_faults.iter().any(|entry| entry.code == c::RIVAL.code);
        self.volumes
            .iter()
            .filter(move |other| contested && other.extent != here && other.extent.overlaps(here))
    }
    /// True where which of several overlapping volumes is in use is not known.
    pub fn is_contested(&self, place: &Place) -> bool {
        self.rivals(place).next().is_some()
    }
}

/// Says that `inner` begins in the free space of `outer`.
pub(super) fn report(outer: &mut Place, inner: &mut Place, faults: &mut Collector) {
    let (first, second) = (outer.extent.offset, inner.extent.offset);
    for place in [&mut *outer, &mut *inner] {
        place.way_faults.push(&c::RIVAL);
    }
    let summary = format!(
        "{} at byte {first} and {} at byte {second}: {}",
        outer.what.title(),
        inner.what.title(),
        c::RIVAL.title
    );
    faults.add(Finding::new(&c::RIVAL, summary).at(first, 512).at(second, 512).because(
        format!("The volume at byte {first} reaches past byte {second}, and no file of it is there."),
        "Volumes do not overlap: one of the two is older.",
        "Look at the files of both, and at their dates.",
    ));
}

/// Which of the volumes that are found a new table is to list: of those that overlap, the one that is chosen.
/// `None` where that is left open.
pub(super) fn in_use<'s>(seen: &'s Scouting, choices: &mut Choices) -> Option<Vec<&'s Place>> {
    let mut listed: Vec<&Place> = seen.volumes.iter().collect();
    for place in &seen.volumes {
        let rivals: Vec<&Place> = seen.rivals(place).collect();
        if rivals.is_empty() || !listed.iter().any(|kept| kept.extent == place.extent) {
            continue;
        }
        let mut options =
            vec![("none".to_owned(), "no table is written, and neither volume is mended".to_owned())];
        for one in [place].into_iter().chain(rivals.iter().copied()) {
            let (title, bytes) = (one.what.title(), one.bytes);
            let effect = if one.extent.offset == 0 {
                format!(
                    "the {title} volume of {bytes} bytes needs no table, and none is written; with --at 0 it is mended alone, and hosts may write over the files of the other"
                )
            } else {
                format!(
                    "the {title} volume of {bytes} bytes is listed; no host reaches the files of the other, and may write over them"
                )
            };
            options.push((one.extent.offset.to_string(), effect));
        }
        let offered: Vec<(&str, String)> =
            options.iter().map(|(option, effect)| (option.as_str(), effect.clone())).collect();
        let question = "two volumes overlap, and no table says which one is in use: which is it?";
        let taken = choices.ask(QUESTION, question, &offered, Vec::new());
        let chosen = taken.parse::<u64>().ok()?;
        let others = [place].into_iter().chain(rivals);
        let out: Vec<Extent> = others.map(|one| one.extent).filter(|one| one.offset != chosen).collect();
        listed.retain(|kept| !out.contains(&kept.extent));
    }
    Some(listed)
}
