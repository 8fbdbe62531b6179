//! Changing sets and taking clusters, on the overlay.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    chain::Link,
    exfat::{
        layout::{END, ENTRY, IN_USE, Stream, entry_set, put, set_checksum},
        sets::{Item, Reading},
        survey::Content,
        table,
        upcase::Upcase,
    },
    medium::{MediumError, Stage},
};

/// The folder that a node lies in and its set as it should be.
pub(super) fn set_of(job: &mut Job<'_, '_, '_>, number: u32) -> Option<(Content, Item)> {
    let node = job.survey.tree.node(number)?.clone();
    let content = job.survey.content(job.stage, node.parent);
    let reading = Reading::of(&content.bytes, &job.survey.capitals, node.parent == 0);
    let all = reading.items.into_iter().chain(reading.behind).chain(reading.deleted);
    let item = all.into_iter().find(|item| item.index == node.index)?;
    Some((content, item))
}

/// Writes a set at its place, with its checksum.
pub(super) fn write_set(
    stage: &mut Stage<'_, '_>,
    content: &Content,
    index: u32,
    raw: &[u8],
) -> Result<(), MediumError> {
    let mut raw = raw.to_vec();
    let sum = set_checksum(&raw);
    put(&mut raw, 2, &sum.to_le_bytes());
    for (number, entry) in raw.chunks_exact(ENTRY).enumerate() {
        if let Some(place) = content.place(index.plus(number.narrow())) {
            stage.write_at(place, entry)?;
        }
    }
    Ok(())
}

/// Changes the stream entry of a node's set.
pub(super) fn edit_stream(
    job: &mut Job<'_, '_, '_>,
    number: u32,
    step: crate::step::Step,
    change: impl FnOnce(&mut Stream),
) -> Result<(), MediumError> {
    let Some((content, mut item)) = set_of(job, number) else { return Ok(()) };
    let mut stream = item.stream;
    change(&mut stream);
    if let Some(entry) = item.raw.get_mut(ENTRY..2.times(ENTRY)) {
        stream.put(entry);
    }
    job.steps.run(job.stage, step, |stage| write_set(stage, &content, item.index, &item.raw))
}

/// Marks entries unused.
pub(super) fn free_entries(
    stage: &mut Stage<'_, '_>,
    content: &Content,
    indices: impl IntoIterator<Item = u32>,
) -> Result<(), MediumError> {
    for index in indices {
        if let Some(place) = content.place(index) {
            let kind = content.bytes.byte(index.size().times(ENTRY)) & !IN_USE;
            // Type 0 would end the folder here.
            stage.write_at(place, &[if kind == END { 0x05 } else { kind }])?;
        }
    }
    Ok(())
}

/// Where `count` entries in a row can be written: unused ones, or from the end mark on.
pub(super) struct Slots {
    index: u32,
    /// The entry behind them has to become the end mark.
    end: Option<u32>,
}

impl Slots {
    pub(super) fn find(content: &Content, count: u32) -> Option<Self> {
        let kind = |index: u32| content.bytes.byte(index.size().times(ENTRY));
        let mut run = 0_u32;
        for index in 0..content.entries() {
            if kind(index) == END {
                let from = index.minus(run);
                if from.plus(count) > content.entries() {
                    return None;
                }
                let behind = from.plus(count);
                let ends = behind < content.entries() && kind(behind) != END;
                return Some(Self { index: from, end: ends.then_some(behind) });
            }
            run = if kind(index) & IN_USE == 0 { run.plus(1) } else { 0 };
            if run == count {
                return Some(Self { index: index.plus(1).minus(count), end: None });
            }
        }
        None
    }

    pub(super) fn put(
        &self,
        stage: &mut Stage<'_, '_>,
        content: &Content,
        raw: &[u8],
    ) -> Result<(), MediumError> {
        for (number, entry) in raw.chunks_exact(ENTRY).enumerate() {
            if let Some(place) = content.place(self.index.plus(number.narrow())) {
                stage.write_at(place, entry)?;
            }
        }
        match self.end.and_then(|index| content.place(index)) {
            Some(place) => stage.write_at(place, &[0; ENTRY]),
            None => Ok(()),
        }
    }
}

/// A new set for the root folder.
pub(super) fn new_set(capitals: &Upcase, name: &str, attributes: u16, stream: Stream) -> Vec<u8> {
    let units: Vec<u16> = name.encode_utf16().collect();
    // 1980-01-01, the first date there is: the core has no clock.
    let mut times = [0_u8; 17];
    for at in [0, 4, 8] {
        put(&mut times, at, &0x0021_0000_u32.to_le_bytes());
    }
    entry_set(attributes, &times, stream, &units, &capitals.upper(&units))
}

/// Takes `count` clusters in a row that nothing claims, that the bitmap has free, and that are not
/// in `taken`.
pub(super) fn take_row(job: &Job<'_, '_, '_>, count: u32, taken: std::ops::Range<u32>) -> Option<u32> {
    let geometry = job.believed.geometry;
    let there =
        |cluster: u32| geometry.cluster_place(cluster.plus(1)) <= crate::medium::Medium::len(&*job.stage);
    let mut run = 0_u32;
    for pass in 0..2 {
        for cluster in 2..=geometry.last_cluster() {
            let taken = taken.contains(&cluster)
                || job.survey.claimed.contains(cluster.size())
                || pass == 0 && job.survey.used.contains(cluster.size())
                || !there(cluster);
            run = if taken { 0 } else { run.plus(1) };
            if run >= count.max(1) {
                return Some(cluster.plus(1).minus(count.max(1)));
            }
        }
        run = 0;
        // Only where the bitmap is no help may lost clusters be written over.
        if job.survey.bitmap.usable {
            break;
        }
    }
    None
}

/// Links clusters to a chain that ends.
pub(super) fn link(
    stage: &mut Stage<'_, '_>,
    geometry: &crate::exfat::geometry::Geometry,
    clusters: &[u32],
) -> Result<(), MediumError> {
    for (number, cluster) in clusters.iter().enumerate() {
        let next = clusters.get(number.plus(1)).map_or(Link::End, |next| Link::Next(*next));
        table::set(stage, geometry, *cluster, next)?;
    }
    Ok(())
}
