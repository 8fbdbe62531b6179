//! A volume in the midst of another one, where no table says which of the two is in use.
//!
//! A medium that was divided anew keeps the beginning of what was there. As long as the table lists the new
//! volume, the old beginning is a remark; without the table both stand there with equal right, and listing
//! the wrong one lets hosts write over the files of the other.

use super::{
    catalogue as c,
    mbr::SECTOR,
    place::{Kept, Place, Scouting},
    search, unlisted,
};
use crate::{
    arith::Sat,
    family::Wanted,
    files::{
        kinds,
        record::{FileRecord, State},
    },
    medium::{Extent, Medium, MediumError, Window},
    mending::choices::Choices,
    progress::Watch,
    registry,
    report::finding::{Collector, Finding, Sink},
};
use std::ops::ControlFlow;

/// Bytes from the start of the medium within which a first volume begins by custom.
const CUSTOM: u64 = 64 << 20;
/// Files of an inner volume that are looked at.
const LOOKED_AT: usize = 64;
/// The question that a plan puts.
const QUESTION: &str = "in-use";

/// The volume in the midst of another one, and what the other has where it begins.
pub(super) struct Inner {
    pub(super) place: Place,
    there: &'static str,
}

/// A place in the image that a file of the outer volume owns.
struct Owned {
    place: Extent,
    /// The room before it and the room behind it are two.
    divides: bool,
}

/// The volume that begins in the midst of `outer`: in the longest stretch that no file of it owns, or over its
/// files. What lies in a file, such as the image of another medium, is that file's content, and ends with it.
pub(super) fn within(
    medium: &dyn Medium,
    outer: &Place,
    kept: &Kept,
    watch: &dyn Watch,
) -> Result<Option<Inner>, MediumError> {
    if outer.guessed || outer.data_at == 0 {
        return Ok(None);
    }
    let window = Window::new(medium, outer.extent);
    let Some(volume) = registry::recognise(&window, watch)? else { return Ok(None) };
    let mut survey = volume.survey(&window, watch)?;
    let mut files = Vec::new();
    survey.each_file(&window, Wanted { deleted: false, system: true }, &mut |file| {
        // The copies of the first records of an NTFS stand in the midst of it, whatever else does: they divide nothing.
        let divides = !file.path.name().starts_with('$') || file.content.on_medium() > unlisted::GAP;
        let places = file.content.extents().map(|extent| extent.moved(outer.extent.offset));
        files.extend(places.map(|place| Owned { place, divides }));
        ControlFlow::Continue(())
    });
    let free = in_free_space(medium, outer, &files, watch)?;
    if let Some(place) = free {
        return Ok(Some(Inner { place, there: "no file of it is there" }));
    }
    let over = over_files(medium, outer, &files, watch)?;
    if over.is_none() {
        kept.keep(outer.extent, volume, survey);
    }
    Ok(over
        .map(|place| Inner { place, there: "a file of it that is there ends before the other volume does" }))
}

fn in_free_space(
    medium: &dyn Medium,
    outer: &Place,
    files: &[Owned],
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let owned = files.iter().filter(|owned| owned.divides).map(|owned| owned.place);
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

/// The volume that begins in what a file of `outer` owns, and goes on behind the end of that.
fn over_files(
    medium: &dyn Medium,
    outer: &Place,
    files: &[Owned],
    watch: &dyn Watch,
) -> Result<Option<Place>, MediumError> {
    let end = outer.extent.end().min(CUSTOM);
    let mut at = outer.data_at;
    while at < end {
        let found = search::lost(medium, Extent::new(at, end.minus(at)), &[], watch)?;
        let Some(place) = found.into_iter().find(|place| place.extent.offset > outer.data_at) else { break };
        let start = place.extent.offset;
        let mut owned = files.iter().map(|owned| owned.place);
        let owner = owned.find(|extent| extent.offset <= start && start < extent.end());
        if let Some(owner) = owner
            && owner.end() < place.extent.end()
            && speaks_behind(medium, &place, owner.end(), watch)?
        {
            return Ok(Some(place));
        }
        // What is one file's content says nothing of what stands behind it.
        at = owner.map_or(start.plus(SECTOR), Extent::end).max(at.plus(SECTOR));
    }
    Ok(None)
}

/// True when what a volume has from byte `end` of the medium on is its own: a folder, or files that begin as
/// their names say. Behind the end of the file that held its image it would be other files' content.
fn speaks_behind(
    medium: &dyn Medium,
    place: &Place,
    end: u64,
    watch: &dyn Watch,
) -> Result<bool, MediumError> {
    let window = Window::new(medium, place.extent);
    let Some(volume) = registry::recognise(&window, watch)? else { return Ok(false) };
    let files = volume.files(&window, Wanted::default(), watch)?;
    if place.data_at >= end {
        // Its root folder, or its records, stand there.
        return Ok(!files.is_empty());
    }
    let behind = |file: &&FileRecord| {
        let first = file.content.extents().next();
        file.state == State::Intact
            && first.is_some_and(|extent| place.extent.offset.plus(extent.offset) >= end)
    };
    let (mut agree, mut differ) = (0_u32, 0_u32);
    for file in files.iter().filter(behind).take(LOOKED_AT) {
        if file.folder {
            return Ok(true);
        }
        let Some(first) = file.content.extents().next() else { continue };
        let view: &dyn Medium = &window;
        let start = view.lenient(first.offset, kinds::ENOUGH.min(first.length.size())).bytes;
        match kinds::agrees(file.path.name(), &start) {
            Some(true) => agree = agree.plus(1),
            Some(false) => differ = differ.plus(1),
            None => {}
        }
    }
    Ok(agree > differ)
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

/// Says that `inner` begins in the midst of `outer`.
pub(super) fn report(outer: &mut Place, inner: Inner, faults: &mut Collector) -> Place {
    let Inner { place: mut inner, there } = inner;
    let (first, second) = (outer.extent.offset, inner.extent.offset);
    for place in [&mut *outer, &mut inner] {
        place.way_faults.push(&c::RIVAL);
    }
    let summary = format!(
        "{} at byte {first} and {} at byte {second}: {}",
        outer.what.title(),
        inner.what.title(),
        c::RIVAL.title
    );
    faults.add(Finding::new(&c::RIVAL, summary).at(first, 512).at(second, 512).because(
        format!("The volume at byte {first} reaches past byte {second}, and {there}."),
        "Volumes do not overlap: one of the two is older.",
        "Look at the files of both, and at their dates.",
    ));
    inner
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
