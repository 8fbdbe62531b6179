//! Changing sets and taking clusters, on the overlay.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{Link, run_of},
        free::Room,
        places::Places,
    },
    exfat::{
        layout::{END, ENTRY, IN_USE, Stream, entry_set, put, set_checksum},
        sets::{Flaws, Item, Reading},
        survey::Content,
        table,
        upcase::Upcase,
    },
    medium::{Medium, MediumError, OverlayWindow},
};
use std::{collections::HashSet, rc::Rc};

/// Entries of a set at most: the file's own and 18 behind it, as they are read.
const SET: u32 = 20;

/// Where the folder that a node lies in stands, and the node's set as it should be. Only the set is read,
/// as it stands now: folders can be long, and many of their sets wrong.
pub(super) fn set_of(job: &mut Job<'_, '_, '_, '_>, number: u32) -> Option<(Rc<Places>, Item)> {
    let node = job.survey.tree.node(number)?;
    let (parent, index) = (node.parent, node.index);
    let places = job.places(parent);
    let bytes = places.read(job.window, index, SET);
    let reading = Reading::of(&bytes, &job.survey.capitals, parent == 0);
    let all = reading.items.into_iter().chain(reading.deleted).chain(reading.broken).chain(reading.behind);
    let mut item = all.into_iter().find(|item| item.index == 0)?;
    let node = job.survey.tree.node(number)?;
    if node.flaws.contains(Flaws::HEAD) {
        put(&mut item.raw, 4, &node.attributes.to_le_bytes());
    }
    // Its neighbours, which may have told the name, are not read here.
    if node.flaws.intersects(Flaws::NAME | Flaws::NAME_FOUND) {
        let name: Vec<u16> = node.name.encode_utf16().collect();
        item.call(&name, &job.survey.capitals);
    }
    Some((places, Item { index, ..item }))
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

/// Writes a set at its place, with its checksum.
pub(super) fn write_set(
    window: &mut OverlayWindow<'_, '_>,
    places: &Places,
    index: u32,
    raw: &[u8],
) -> Result<(), MediumError> {
    let mut raw = raw.to_vec();
    let sum = set_checksum(&raw);
    put(&mut raw, 2, &sum.to_le_bytes());
    for (number, entry) in raw.chunks_exact(ENTRY).enumerate() {
        if let Some(place) = places.place(index.plus(number.narrow())) {
            window.write_at(place, entry)?;
        }
    }
    Ok(())
}

/// Changes the stream entry of a node's set.
pub(super) fn edit_stream(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    step: crate::mending::step::Step,
    change: impl FnOnce(&mut Stream),
) -> Result<(), MediumError> {
    let Some((places, mut item)) = set_of(job, number) else { return Ok(()) };
    let mut stream = item.stream;
    change(&mut stream);
    if let Some(entry) = item.raw.get_mut(ENTRY..2.times(ENTRY)) {
        stream.put(entry);
    }
    job.steps.run(job.window, step, |window| write_set(window, &places, item.index, &item.raw))
}

/// Marks entries unused.
pub(super) fn free_entries(
    window: &mut OverlayWindow<'_, '_>,
    places: &Places,
    indices: impl IntoIterator<Item = u32>,
) -> Result<(), MediumError> {
    for index in indices {
        if let Some(place) = places.place(index) {
            let medium: &dyn Medium = window;
            let kind = medium.lenient(place, 1).bytes.byte(0) & !IN_USE;
            // Type 0 would end the folder here.
            window.write_at(place, &[if kind == END { 0x05 } else { kind }])?;
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
    /// The first place for `count` entries; `reserved` ones are no place, though they are unused.
    pub(super) fn find(content: &Content, count: u32, reserved: &HashSet<u32>) -> Option<Self> {
        let kind = |index: u32| match content.bytes.byte(index.size().times(ENTRY)) {
            kind if reserved.contains(&index) => kind | IN_USE,
            kind => kind,
        };
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

    /// Notes in `content` what `put` will write, so that the next place is another one.
    pub(super) fn fill(&self, content: &mut Content, raw: &[u8]) {
        let at = self.index.size().times(ENTRY);
        put(&mut content.bytes, at, raw);
        if let Some(end) = self.end {
            put(&mut content.bytes, end.size().times(ENTRY), &[0; ENTRY]);
        }
    }

    pub(super) fn put(
        &self,
        window: &mut OverlayWindow<'_, '_>,
        content: &Content,
        raw: &[u8],
    ) -> Result<(), MediumError> {
        for (number, entry) in raw.chunks_exact(ENTRY).enumerate() {
            if let Some(place) = content.place(self.index.plus(number.narrow())) {
                window.write_at(place, entry)?;
            }
        }
        match self.end.and_then(|index| content.place(index)) {
            Some(place) => window.write_at(place, &[0; ENTRY]),
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

/// Clusters that nothing claims and that the bitmap has free; where the bitmap is no help, all that nothing
/// claims.
fn room(job: &Job<'_, '_, '_, '_>, by_bitmap: bool) -> Room {
    let geometry = job.believed.geometry;
    let there = |cluster: u32| geometry.cluster_place(cluster.plus(1)) <= job.window.len();
    let mut taken = job.survey.claimed.clone();
    if by_bitmap {
        taken.extend(job.survey.used.difference(&job.survey.claimed));
    }
    let all = geometry.last_cluster().plus(1).size();
    let mut room = Room::of(std::iter::empty());
    let mut left = 2..all;
    while let Some(gap) = taken.gap_in(left.clone()) {
        left.start = gap.end;
        let (first, count) = (gap.start.narrow(), gap.len().narrow());
        // The last of them that the image has whole.
        let whole = run_of(first, count).rev().find(|cluster| there(*cluster));
        if let Some(last) = whole {
            room.add(first, last.plus(1).minus(first));
        }
    }
    room
}

/// Takes clusters from the room there is.
fn take<T>(job: &mut Job<'_, '_, '_, '_>, mut with: impl FnMut(&mut Room) -> Option<T>) -> Option<T> {
    let mut free = match job.room.take() {
        Some(room) => room,
        None => room(job, true),
    };
    let mut found = with(&mut free);
    // Only where the bitmap is no help may lost clusters be written over.
    if found.is_none() && !job.survey.bitmap.usable {
        free = room(job, false);
        found = with(&mut free);
    }
    job.room = Some(free);
    found
}

fn claim(job: &mut Job<'_, '_, '_, '_>, clusters: &[u32]) {
    job.survey.claimed.extend(clusters.iter().map(|cluster| cluster.size()));
}

/// Takes `count` clusters in a row.
pub(super) fn take_row(job: &mut Job<'_, '_, '_, '_>, count: u32) -> Option<u32> {
    let first = take(job, |room| room.row(count))?;
    claim(job, &run_of(first, count).collect::<Vec<_>>());
    Some(first)
}

/// Takes `count` clusters, in a row where there is one; `None` where there are fewer.
pub(super) fn take_exactly(job: &mut Job<'_, '_, '_, '_>, count: u32) -> Option<Vec<u32>> {
    let found = take(job, |room| room.exactly(count))?;
    claim(job, &found);
    Some(found)
}

/// Takes as many clusters as there are, up to `count`; in a row where there is one.
pub(super) fn take_up_to(job: &mut Job<'_, '_, '_, '_>, count: u32) -> Vec<u32> {
    let found =
        take(job, |room| Some(room.up_to(count)).filter(|found| !found.is_empty())).unwrap_or_default();
    claim(job, &found);
    found
}

/// Links clusters to a chain that ends.
pub(super) fn link(
    window: &mut OverlayWindow<'_, '_>,
    geometry: &crate::exfat::geometry::Geometry,
    clusters: &[u32],
) -> Result<(), MediumError> {
    for (number, cluster) in clusters.iter().enumerate() {
        let next = clusters.get(number.plus(1)).map_or(Link::End, |next| Link::Next(*next));
        table::set(window, geometry, *cluster, next)?;
    }
    Ok(())
}
