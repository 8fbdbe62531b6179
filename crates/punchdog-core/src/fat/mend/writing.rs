//! Changing entries and taking clusters, on the overlay.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    chain::Link,
    fat::{
        layout::{END_ENTRY, ENTRY_BYTES, FREE_ENTRY, ShortEntry},
        names,
        survey::Content,
        table::write_entry,
    },
    medium::{Medium, MediumError, Stage},
};
use zerocopy::IntoBytes;

/// Reads the short entry at `place`, changes it, and writes it back.
pub(super) fn edit(
    stage: &mut Stage<'_, '_>,
    place: u64,
    change: impl FnOnce(&mut ShortEntry),
) -> Result<(), MediumError> {
    let medium: &dyn Medium = stage;
    let Some(mut entry) = ShortEntry::read(&medium.lenient(place, ENTRY_BYTES).bytes) else { return Ok(()) };
    change(&mut entry);
    stage.write_at(place, entry.as_bytes())
}

/// Marks entries of a folder free.
pub(super) fn free_entries(
    stage: &mut Stage<'_, '_>,
    content: &Content,
    indices: &[u32],
) -> Result<(), MediumError> {
    for index in indices {
        if let Some(place) = content.place(*index) {
            stage.write_at(place, &[FREE_ENTRY])?;
        }
    }
    Ok(())
}

/// Writes a file's whole entry set again: `long` parts before `index`, and the short name. The
/// parts must have room: as many as the long name needs, or none.
pub(super) fn rename(
    stage: &mut Stage<'_, '_>,
    content: &Content,
    (long, index): (u32, u32),
    name: &str,
    short: &names::Short,
) -> Result<(), MediumError> {
    let parts = names::long_parts(name, names::checksum(short));
    let from = index.minus(long);
    if parts.len() == long.size() {
        for (number, part) in (from..index).zip(&parts) {
            if let Some(place) = content.place(number) {
                stage.write_at(place, part.as_bytes())?;
            }
        }
    } else {
        free_entries(stage, content, &(from..index).collect::<Vec<_>>())?;
    }
    match content.place(index) {
        Some(place) => stage.write_at(place, short),
        None => Ok(()),
    }
}

/// Takes `count` free clusters that nobody claims, in a row where there is such a row. `None`
/// when the volume has not enough.
pub(super) fn take_clusters(job: &mut Job<'_, '_, '_>, count: u32) -> Option<Vec<u32>> {
    let last = job.believed.geometry.last_cluster();
    let mut free = Vec::new();
    let mut row: Vec<u32> = Vec::new();
    for cluster in 2..=last {
        let open = !job.survey.claimed.contains(cluster.size())
            && job.survey.links.get(job.stage, cluster) == Link::Free
            && job.believed.geometry.cluster_offset(cluster.plus(1)) <= job.stage.len();
        if open {
            free.push(cluster);
            row.push(cluster);
            if row.len() >= count.size() {
                break;
            }
        } else {
            row.clear();
        }
    }
    let taken = if row.len() >= count.size() { row } else { free.into_iter().take(count.size()).collect() };
    if taken.len() < count.size() {
        return None;
    }
    for cluster in &taken {
        job.survey.claimed.insert(cluster.size());
    }
    Some(taken)
}

/// Links clusters into one chain, in all copies of the table.
pub(super) fn link_chain(
    stage: &mut Stage<'_, '_>,
    job: &Linking,
    clusters: &[u32],
) -> Result<(), MediumError> {
    for (index, cluster) in clusters.iter().enumerate() {
        let link = clusters.get(index.plus(1)).map_or(Link::End, |next| Link::Next(*next));
        set_link(stage, job, *cluster, link)?;
    }
    Ok(())
}

/// What writing a table entry needs to know.
pub(super) type Linking = crate::fat::geometry::Geometry;

/// Sets one entry in all copies of the table.
pub(super) fn set_link(
    stage: &mut Stage<'_, '_>,
    geometry: &Linking,
    cluster: u32,
    link: Link,
) -> Result<(), MediumError> {
    (0..geometry.tables)
        .try_for_each(|copy| write_entry(stage, geometry, copy, cluster, link.value(geometry)))
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
    pub(super) fn put(self, stage: &mut Stage<'_, '_>, entry: &ShortEntry) -> Result<(), MediumError> {
        stage.write_at(self.place, entry.as_bytes())?;
        self.end.map_or(Ok(()), |place| stage.write_at(place, &[END_ENTRY]))
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
