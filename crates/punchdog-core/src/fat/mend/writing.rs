//! Changing entries and taking clusters, on the overlay.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    cluster::{chain::Link, free::Room, places::Places},
    fat::{
        layout::{END_ENTRY, ENTRY_BYTES, FREE_ENTRY, ShortEntry},
        names,
        survey::Content,
        table::write_entry,
    },
    medium::{Medium, MediumError, OverlayWindow},
};
use std::rc::Rc;
use zerocopy::IntoBytes;

/// Reads the short entry at `place`, changes it, and writes it back.
pub(super) fn edit(
    window: &mut OverlayWindow<'_, '_>,
    place: u64,
    change: impl FnOnce(&mut ShortEntry),
) -> Result<(), MediumError> {
    let medium: &dyn Medium = window;
    let Some(mut entry) = ShortEntry::read(&medium.lenient(place, ENTRY_BYTES).bytes) else { return Ok(()) };
    change(&mut entry);
    window.write_at(place, entry.as_bytes())
}

/// Marks entries of a folder free.
pub(super) fn free_entries(
    window: &mut OverlayWindow<'_, '_>,
    places: &Places,
    indices: &[u32],
) -> Result<(), MediumError> {
    for index in indices {
        if let Some(place) = places.place(*index) {
            window.write_at(place, &[FREE_ENTRY])?;
        }
    }
    Ok(())
}

/// Writes a file's whole entry set again: `long` parts before `index`, and the short name. The
/// parts must have room: as many as the long name needs, or none.
pub(super) fn rename(
    window: &mut OverlayWindow<'_, '_>,
    places: &Places,
    (long, index): (u32, u32),
    name: &str,
    short: &names::Short,
) -> Result<(), MediumError> {
    let parts = names::long_parts(name, names::checksum(short));
    let from = index.minus(long);
    if parts.len() == long.size() {
        for (number, part) in (from..index).zip(&parts) {
            if let Some(place) = places.place(number) {
                window.write_at(place, part.as_bytes())?;
            }
        }
    } else {
        free_entries(window, places, &(from..index).collect::<Vec<_>>())?;
    }
    match places.place(index) {
        Some(place) => window.write_at(place, short),
        None => Ok(()),
    }
}

/// The clusters that the table has free, nobody claims, and the image has.
fn room(job: &mut Job<'_, '_, '_, '_>) -> Room {
    let geometry = job.believed.geometry;
    // Clusters that the image has whole.
    let there = job.window.len().minus(geometry.data_offset()).per(geometry.cluster_bytes().wide()).plus(2);
    let end = geometry.last_cluster().plus(1).wide().min(there).narrow();
    let mut room = Room::of(std::iter::empty());
    let mut next = 2;
    while next < end {
        let cluster = job.survey.links.blank_until(job.window, next).min(end);
        let mut blank = next.size()..cluster.size();
        while let Some(gap) = job.survey.claimed.gap_in(blank.clone()) {
            room.add(gap.start.narrow(), gap.len().narrow());
            blank.start = gap.end;
        }
        let free = cluster < end
            && !job.survey.claimed.contains(cluster.size())
            && job.survey.links.get(job.window, cluster) == Link::Free;
        if free {
            room.add(cluster, 1);
        }
        next = cluster.plus(1);
    }
    room
}

fn take(job: &mut Job<'_, '_, '_, '_>, with: impl FnOnce(&mut Room) -> Vec<u32>) -> Vec<u32> {
    let mut free = match job.room.take() {
        Some(room) => room,
        None => room(job),
    };
    let found = with(&mut free);
    job.room = Some(free);
    job.survey.claimed.extend(found.iter().map(|cluster| cluster.size()));
    found
}

/// Takes `count` free clusters, in a row where there is such a row. `None` when the volume has not
/// enough.
pub(super) fn take_clusters(job: &mut Job<'_, '_, '_, '_>, count: u32) -> Option<Vec<u32>> {
    let found = take(job, |room| room.exactly(count).unwrap_or_default());
    (found.len() >= count.size()).then_some(found)
}

/// Takes as many as there are, up to `count`.
pub(super) fn take_up_to(job: &mut Job<'_, '_, '_, '_>, count: u32) -> Vec<u32> {
    take(job, |room| room.up_to(count))
}

impl Job<'_, '_, '_, '_> {
    /// Where the entries of a folder stand, found once in a round.
    pub(super) fn places(&mut self, folder: u32) -> Rc<Places> {
        if let Some(known) = self.folders.get(&folder) {
            return Rc::clone(known);
        }
        let found = Rc::new(self.survey.places(self.window, folder));
        self.folders.insert(folder, Rc::clone(&found));
        found
    }
}

/// Links clusters into one chain, in all copies of the table.
pub(super) fn link_chain(
    window: &mut OverlayWindow<'_, '_>,
    job: &Linking,
    clusters: &[u32],
) -> Result<(), MediumError> {
    for (index, cluster) in clusters.iter().enumerate() {
        let link = clusters.get(index.plus(1)).map_or(Link::End, |next| Link::Next(*next));
        set_link(window, job, *cluster, link)?;
    }
    Ok(())
}

/// What writing a table entry needs to know.
pub(super) type Linking = crate::fat::geometry::Geometry;

/// Sets one entry in all copies of the table.
pub(super) fn set_link(
    window: &mut OverlayWindow<'_, '_>,
    geometry: &Linking,
    cluster: u32,
    link: Link,
) -> Result<(), MediumError> {
    (0..geometry.tables)
        .try_for_each(|copy| write_entry(window, geometry, copy, cluster, link.value(geometry)))
}

/// A free place for one entry in a folder: a free entry, or the end mark. Nothing behind an end
/// mark is ever shown, so what stands there is no place; where the end mark itself is taken and
/// something stands behind it, the folder gets its end mark anew.
pub(super) fn free_place(content: &Content) -> Option<Slot> {
    let count = content.entries();
    let first = |index: u32| content.bytes.byte(index.size().times(ENTRY_BYTES));
    let index = (0..count).find(|index| matches!(first(*index), FREE_ENTRY | END_ENTRY))?;
    let behind = index.plus(1);
    let ends = first(index) == END_ENTRY && behind < count && first(behind) != END_ENTRY;
    Some(Slot { place: content.place(index)?, end: if ends { content.place(behind) } else { None } })
}

/// Up to `most` free places in a folder, to be filled in this order.
pub(super) fn free_places(content: &Content, most: usize) -> Vec<Slot> {
    let first = |index: u32| content.bytes.byte(index.size().times(ENTRY_BYTES));
    let count = content.entries();
    let end = (0..count).find(|index| first(*index) == END_ENTRY).unwrap_or(count);
    let free = (0..end).filter(|index| first(*index) == FREE_ENTRY).chain(end..count).take(most);
    free.filter_map(|index| {
        let behind = index.plus(1);
        let ends = index >= end && behind < count && first(behind) != END_ENTRY;
        Some(Slot { place: content.place(index)?, end: if ends { content.place(behind) } else { None } })
    })
    .collect()
}

/// A free place in a folder.
#[derive(Debug, Clone, Copy)]
pub(super) struct Slot {
    /// Where the entry goes: bytes from the start of the volume.
    pub(super) place: u64,
    /// Where an end mark has to be written behind it.
    pub(super) end: Option<u64>,
}

impl Slot {
    /// Writes `entry` there.
    pub(super) fn put(
        self,
        window: &mut OverlayWindow<'_, '_>,
        entry: &ShortEntry,
    ) -> Result<(), MediumError> {
        window.write_at(self.place, entry.as_bytes())?;
        self.end.map_or(Ok(()), |place| window.write_at(place, &[END_ENTRY]))
    }
}

/// The date 1980-01-01, the first that an entry can hold: the core has no clock.
pub(super) const NO_DATE: u16 = 0x0021;

/// An entry with no more than it must have.
pub(super) fn plain_entry(name: names::Short, attributes: u8, first: u32, size: u32) -> ShortEntry {
    use zerocopy::FromZeros;
    let mut entry = ShortEntry::new_zeroed();
    entry.name = name;
    entry.attributes = attributes;
    entry.written_date = NO_DATE.into();
    entry.size = size.into();
    entry.set_first_cluster(first);
    entry
}
