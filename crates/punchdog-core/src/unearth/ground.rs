//! The space that is searched: what no reachable file and no structure of a volume has.

use crate::{
    arith::Sat,
    cluster::occupied::Occupied,
    diagnosis::Target,
    family::{Survey, Wanted},
    files::record::State,
    formats::Source,
    medium::{Extent, Medium},
};
use rangemap::RangeSet;
use std::{cell::RefCell, ops::ControlFlow};

/// A stretch of the image. What was there before a live volume need not have had its clusters: files are looked for at
/// each sector from its first byte on.
#[derive(Debug, Clone)]
struct Plot {
    extent: Extent,
    /// Whose clusters it consists of, and where that volume begins.
    volume: Option<(u64, Occupied)>,
}

/// All of it, by place. Stretches do not overlap.
#[derive(Debug, Clone)]
pub struct Ground {
    plots: Vec<Plot>,
    end: u64,
}

/// Files begin at multiples of this.
pub(super) const SECTOR: u64 = 512;

impl Ground {
    pub(super) fn new(end: u64) -> Self {
        Self { plots: Vec::new(), end }
    }

    /// Adds what a volume has free. Lost chains count as taken: they are listed with its files.
    pub(super) fn add(&mut self, target: &Target, survey: &mut dyn Survey, medium: &dyn Medium) {
        let mut occupied = survey.occupied();
        survey.each_file(medium, Wanted::default(), &mut |file| {
            if file.state == State::Orphan {
                file.content.extents().for_each(|extent| occupied.take(extent));
            }
            ControlFlow::Continue(())
        });
        let base = target.extent.offset;
        let all = occupied.all().moved(base);
        let end = all.end().min(target.extent.end()).min(self.end);
        let extent = Extent::new(all.offset, end.minus(all.offset));
        self.plots.push(Plot { extent, volume: Some((base, occupied)) });
    }

    /// Adds the space between volumes where that is wanted, and sorts all. Where two volumes overlap, the later has
    /// the space.
    pub(super) fn close(&mut self, outside: bool, targets: &[Target]) {
        self.plots.sort_by_key(|plot| plot.extent.offset);
        for index in 1..self.plots.len() {
            let next = self.plots.get(index).map_or(u64::MAX, |plot| plot.extent.offset);
            if let Some(plot) = self.plots.get_mut(index.minus(1)) {
                plot.extent.length = plot.extent.length.min(next.minus(plot.extent.offset));
            }
        }
        if !outside {
            return;
        }
        let mut taken: Vec<Extent> = targets
            .iter()
            .map(|target| Extent::new(target.extent.offset, target.extent.length.min(target.volume.bytes())))
            .chain(self.plots.iter().map(|plot| plot.extent))
            .collect();
        taken.sort_by_key(|extent| extent.offset);
        let mut at = 0_u64;
        let mut between = Vec::new();
        for extent in taken.iter().copied().chain([Extent::new(self.end, 0)]) {
            if extent.offset > at {
                between.push(Extent::new(at, extent.offset.minus(at)));
            }
            at = at.max(extent.end());
        }
        for extent in between {
            let start = extent.offset.per_up(SECTOR).times(SECTOR);
            let extent = Extent::new(start, extent.end().minus(start));
            self.plots.push(Plot { extent, volume: None });
        }
        self.plots.sort_by_key(|plot| plot.extent.offset);
    }

    /// Bytes of all stretches.
    pub(super) fn end(&self) -> u64 {
        self.end
    }

    fn plot_at(&self, at: u64) -> Option<&Plot> {
        let index = self.plots.partition_point(|plot| plot.extent.end() <= at);
        self.plots.get(index)
    }

    /// The next free bytes from `at` on.
    pub(super) fn free_from(&self, mut at: u64) -> Option<Extent> {
        loop {
            let plot = self.plot_at(at)?;
            at = at.max(plot.extent.offset);
            let Some(free) = plot.free_from(at) else {
                at = plot.extent.end();
                continue;
            };
            return Some(free);
        }
    }

    /// The stretch that a byte lies in.
    pub(super) fn stretch(&self, at: u64) -> Option<Extent> {
        self.plot_at(at).map(|plot| plot.extent).filter(|extent| extent.offset <= at)
    }

    /// Bytes of a cluster of the volume that a byte lies in.
    pub(super) fn cluster(&self, at: u64) -> Option<u64> {
        let plot = self.plot_at(at).filter(|plot| plot.extent.offset <= at)?;
        plot.volume.as_ref().map(|(_, occupied)| occupied.cluster)
    }

    /// The first byte at or behind `at` where a file can begin, given that `at` lies in a stretch.
    pub(super) fn step_up(&self, at: u64) -> u64 {
        match self.plot_at(at) {
            Some(plot) if plot.extent.offset <= at => {
                plot.extent.offset.plus(at.minus(plot.extent.offset).per_up(SECTOR).times(SECTOR))
            }
            _ => at,
        }
    }

    /// Bytes of these that a reachable file or a structure has.
    pub(super) fn taken_of(&self, extent: Extent) -> u64 {
        let (mut at, mut free) = (extent.offset, 0_u64);
        while at < extent.end() {
            let Some(gap) = self.free_from(at).filter(|gap| gap.offset < extent.end()) else {
                break;
            };
            let start = gap.offset.max(at);
            free = free.plus(gap.end().min(extent.end()).minus(start));
            at = gap.end();
        }
        extent.length.minus(free)
    }
}

impl Plot {
    fn free_from(&self, at: u64) -> Option<Extent> {
        let free = match &self.volume {
            Some((base, occupied)) => occupied.free_from(at.minus(*base))?.moved(*base),
            None => self.extent,
        };
        let start = free.offset.max(self.extent.offset);
        let end = free.end().min(self.extent.end());
        (start < end && at < end).then(|| Extent::new(start.max(at), end.minus(start.max(at))))
    }
}

/// Free space from a place on, as the bytes of one file: what others have is left out.
pub(super) struct Rest<'r> {
    image: &'r dyn Medium,
    ground: &'r Ground,
    without: &'r RangeSet<u64>,
    length: u64,
    /// The pieces that were come to, with the byte of the file that each begins at.
    known: RefCell<Vec<(u64, Extent)>>,
    /// The first piece, or pieces, are given.
    end: u64,
}

impl<'r> Rest<'r> {
    /// From `from` on, within its stretch.
    pub(super) fn new(
        image: &'r dyn Medium,
        ground: &'r Ground,
        without: &'r RangeSet<u64>,
        from: u64,
    ) -> Self {
        Self::behind(image, ground, without, &[], from)
    }

    /// These pieces first, then what is free from `from` on.
    pub(super) fn behind(
        image: &'r dyn Medium,
        ground: &'r Ground,
        without: &'r RangeSet<u64>,
        head: &[Extent],
        from: u64,
    ) -> Self {
        let end = ground.stretch(from).map_or(from, Extent::end);
        let mut at = 0_u64;
        let mut known = Vec::new();
        for extent in head {
            known.push((at, *extent));
            at = at.plus(extent.length);
        }
        // Where the free space begins is noted as a piece without bytes.
        known.push((at, Extent::new(from, 0)));
        let length = at.plus(end.minus(from));
        Self { image, ground, without, length, known: RefCell::new(known), end }
    }

    /// Where the first `length` bytes stand; `None` where there are not so many.
    pub(super) fn places(&self, length: u64) -> Option<Vec<Extent>> {
        self.reach(length);
        let known = self.known.borrow();
        let mut places: Vec<Extent> = Vec::new();
        for (at, extent) in known.iter().filter(|(_, extent)| extent.length > 0) {
            if *at >= length {
                break;
            }
            let piece = Extent::new(extent.offset, extent.length.min(length.minus(*at)));
            match places.last_mut() {
                Some(last) if last.end() == piece.offset => last.length = last.length.plus(piece.length),
                _ => places.push(piece),
            }
        }
        let found = places.iter().fold(0_u64, |sum, extent| sum.plus(extent.length));
        (found == length).then_some(places)
    }

    /// Comes upon pieces until `length` bytes are known, or there are no more.
    fn reach(&self, length: u64) {
        let mut known = self.known.borrow_mut();
        loop {
            let Some((at, last)) = known.last().copied() else { return };
            let (at, from) = (at.plus(last.length), last.end());
            if at >= length || from >= self.end {
                return;
            }
            let Some(free) = self.free_from(from).filter(|free| free.offset < self.end) else { return };
            // Pieces are kept small, so that a look ahead does not walk the whole volume.
            let end = free.end().min(self.end);
            let piece = Extent::new(free.offset, end.minus(free.offset).min(64 << 20));
            known.push((at, piece));
        }
    }

    /// The next bytes that are nobody's, those of found files left out.
    fn free_from(&self, mut at: u64) -> Option<Extent> {
        loop {
            let free = self.ground.free_from(at)?;
            if let Some(over) = self.without.get(&free.offset) {
                at = self.ground.step_up(over.end);
                continue;
            }
            let mut gaps = self.without.overlapping(free.offset..free.end());
            let end = gaps.next().map_or(free.end(), |over| over.start);
            return Some(Extent::new(free.offset, end.minus(free.offset)));
        }
    }
}

impl Source for Rest<'_> {
    fn len(&self) -> u64 {
        self.length
    }
    fn read(&self, at: u64, into: &mut [u8]) {
        self.reach(at.plus(into.len().wide()));
        let known = self.known.borrow();
        let first = known.partition_point(|(start, extent)| start.plus(extent.length) <= at);
        let mut filled = 0_usize;
        for (start, extent) in known.iter().skip(first) {
            let skip = at.plus(filled.wide()).minus(*start);
            let there = extent.length.minus(skip).min(into.len().minus(filled).wide()).size();
            let Some(room) = into.get_mut(filled..filled.plus(there)) else { break };
            let place = extent.offset.plus(skip);
            if self.image.read_at(place, room).is_err() {
                let got = self.image.lenient(place, room.len());
                room.copy_from_slice(&got.bytes);
            }
            filled = filled.plus(there);
            if filled >= into.len() {
                return;
            }
        }
        if let Some(rest) = into.get_mut(filled..) {
            rest.fill(0);
        }
    }
}
