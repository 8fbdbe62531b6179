//! File systems that were on the medium before: what a quick format leaves.
//!
//! Formatting lays down new tables and an empty root folder; clusters keep their bytes, and with them sub-folders,
//! entry sets, file records. Seen without what the live volume has, the rest is a volume whose boot sector is gone,
//! and is recognised and read as such: where its geometry is not the live one's, its own structures tell it.

use super::{Error, Search, Take, ground::SECTOR};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        former,
        traces::{Grid, Traces},
    },
    diagnosis::Target,
    family::{Kind, Wanted},
    files::record::{FileRecord, State},
    formats,
    medium::{Extent, Medium, MediumError, Window},
    partition,
    progress::Watch,
    registry,
};
use rayon::prelude::*;
use std::collections::{BTreeMap, HashSet};

/// A volume without what it holds itself: its own structures and its files read as holes.
struct Beneath<'b> {
    window: &'b Window<'b>,
    ground: &'b super::Ground,
    base: u64,
}

impl Beneath<'_> {
    /// The next free bytes from `at` on.
    fn free_from(&self, at: u64) -> Option<Extent> {
        let free = self.ground.free_from(self.base.plus(at))?;
        let start = free.offset.minus(self.base);
        let end = free.end().minus(self.base).min(self.window.len());
        (start < end).then(|| Extent::new(start, end.minus(start)))
    }
}

impl Medium for Beneath<'_> {
    fn len(&self) -> u64 {
        self.window.len()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        into.fill(0);
        let end = offset.plus(into.len().wide());
        let mut at = offset;
        while at < end {
            let Some(free) = self.free_from(at).filter(|free| free.offset < end) else { return Ok(()) };
            let start = free.offset.max(at);
            let stop = free.end().min(end);
            let (from, to) = (start.minus(offset).size(), stop.minus(offset).size());
            if let Some(room) = into.get_mut(from..to) {
                self.window.read_at(start, room)?;
            }
            at = stop;
        }
        Ok(())
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        let mut at = offset;
        loop {
            let free = self.free_from(at)?;
            let data = self.window.data_from(free.offset.max(at))?;
            if data.offset < free.end() {
                let end = data.end().min(free.end());
                return Some(Extent::new(data.offset, end.minus(data.offset)));
            }
            at = data.offset.max(free.end());
        }
    }
}

/// Files of known kinds whose beginnings are kept.
const STARTS: usize = 4096;
/// Bytes that are looked through at once.
const PART: u64 = 8 << 20;

impl Search<'_> {
    /// Finds the files of older file systems beneath a volume.
    pub(super) fn older(&mut self, target: &Target, live: Grid, take: &mut Take<'_>) -> Result<(), Error> {
        let kind = target.volume.kind();
        self.older_in(target.extent, Some((kind, live)), &format!("{} volume", kind.title()), take)
    }

    /// The same in bytes that are taken for something else.
    pub(super) fn older_in(
        &mut self,
        extent: Extent,
        live: Option<(Kind, Grid)>,
        over: &str,
        take: &mut Take<'_>,
    ) -> Result<(), Error> {
        if self.watch.stop() {
            return Ok(());
        }
        let base = extent.offset;
        let window = Window::new(self.image, extent);
        let beneath = Beneath { window: &window, ground: &self.ground, base };
        let traces = gather(&beneath, self.watch);
        if self.watch.stop() {
            return Ok(());
        }
        let mut records = at_boots(&beneath, &traces.boots, self.watch)?;
        let known: HashSet<u64> = records.iter().filter_map(|(_, file)| begins_at(file)).collect();
        let traced = registry::beneath(&beneath, &traces, live, self.watch)?;
        let is_new = |file: &FileRecord| begins_at(file).is_none_or(|at| !known.contains(&at));
        records.extend(traced.into_iter().filter(|(_, file)| is_new(file)));
        let mut by_kind: BTreeMap<&'static str, Vec<FileRecord>> = BTreeMap::new();
        for (older, file) in records {
            let content = file.content.clone().moved(base);
            let known = content.extents().next().is_some_and(|place| self.starts.contains(&place.offset));
            if !known {
                let taken = content.extents().any(|place| self.ground.taken_of(place) > 0);
                let record = FileRecord { state: State::Older, content, taken, ..file };
                by_kind.entry(older).or_default().push(record);
            }
        }
        for (older, records) in by_kind {
            let evidence = format!("an older {older} volume beneath the {over} at byte {base}");
            self.named(&records, &evidence, &BTreeMap::new(), take)?;
        }
        Ok(())
    }
}

fn begins_at(file: &FileRecord) -> Option<u64> {
    file.content.extents().next().map(|extent| extent.offset)
}

/// The files of volumes of which a boot sector is left: their own tables tell where files lie, as far as those are left.
fn at_boots(
    medium: &dyn Medium,
    boots: &[u64],
    watch: &dyn Watch,
) -> Result<Vec<(&'static str, FileRecord)>, MediumError> {
    let mut records = Vec::new();
    let mut end = 0;
    for boot in boots {
        // What stands inside a volume is a file's content, or the copy of its boot sector.
        if *boot < end || watch.stop() {
            continue;
        }
        let sector = medium.lenient(*boot, SECTOR.size()).bytes;
        let Some(place) = partition::begins(medium, *boot, &sector) else { continue };
        let window = Window::new(medium, place.extent);
        let Some(volume) = registry::recognise(&window, watch)? else { continue };
        let kind = volume.kind();
        let files = volume.files(&window, Wanted { deleted: true, system: false }, watch)?;
        end = place.extent.end();
        records.extend(files.into_iter().filter(|file| !file.folder).map(|file| {
            let content = file.content.moved(place.extent.offset);
            (kind.title(), FileRecord { content, place: place.extent.offset.plus(file.place), ..file })
        }));
    }
    Ok(records)
}

/// Looks through all that is left for traces, on all cores.
fn gather(beneath: &Beneath<'_>, watch: &dyn Watch) -> Traces {
    let mut parts = Vec::new();
    let mut at = 0_u64;
    while let Some(data) = beneath.data_from(at) {
        let start = data.offset.per(SECTOR).times(SECTOR);
        let part = Extent::new(start, data.end().minus(start).min(PART));
        at = part.end();
        parts.push(part);
    }
    let all = beneath.len();
    let found: Vec<Traces> = parts
        .par_iter()
        .map(|part| {
            let mut traces = Traces::default();
            if watch.stop() {
                return traces;
            }
            watch.at("looking for older file systems", part.offset, all);
            let medium: &dyn Medium = beneath;
            let bytes = medium.lenient(part.offset, part.length.size()).bytes;
            for (number, sector) in bytes.chunks(SECTOR.size()).enumerate() {
                let place = part.offset.plus(number.times(SECTOR.size()).wide());
                if former::begins_with_dots(sector) {
                    let cluster = |at: usize| {
                        u32::from(sector.le16(at.plus(26))) | u32::from(sector.le16(at.plus(20))) << 16_u32
                    };
                    traces.dots.push((place, cluster(0), cluster(32)));
                } else if former::holds_entries(sector) {
                    traces.entries.push(place);
                } else if former::begins_with_set(sector) {
                    traces.sets.push(place);
                } else if former::begins_volume(sector) {
                    traces.boots.push(place);
                } else if traces.starts.len() < STARTS
                    && formats::begins(sector).is_some_and(|format| !formats::is_weak(format))
                {
                    traces.starts.push(place);
                }
            }
            traces
        })
        .collect();
    let mut traces = Traces::default();
    for part in found {
        traces.dots.extend(part.dots);
        traces.entries.extend(part.entries);
        traces.sets.extend(part.sets);
        traces.boots.extend(part.boots);
        if traces.starts.len() < STARTS {
            traces.starts.extend(part.starts);
        }
    }
    traces
}
