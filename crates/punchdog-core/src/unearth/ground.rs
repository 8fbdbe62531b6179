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
use std::{cell::RefCell, ops::ControlFlow, sync::Arc};

/// A stretch of the image. What was there before a live volume need not have had its clusters: files are looked for at
/// each sector from its first byte on.
#[derive(Debug, Clone)]
struct Plot {
    extent: Extent,
    /// Whose clusters it consists of, and where that volume begins.
    volume: Option<(u64, Arc<Occupied>)>,
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

    /// Adds what a volume has free. Lost chains count as taken, and what was found for files that had lost their content: they
    /// are listed with its files.
    pub(super) fn add(&mut self, target: &Target, survey: &mut dyn Survey, medium: &dyn Medium) {
        let mut occupied = survey.occupied();
        survey.each_file(medium, Wanted::default(), &mut |file| {
            if file.state == State::Orphan || file.sought {
                file.content.extents().for_each(|extent| occupied.take(extent));
            }
            ControlFlow::Continue(())
        });
        let base = target.extent.offset;
        let all = occupied.all().moved(base);
        let end = all.end().min(target.extent.end()).min(self.end);
        let extent = Extent::new(all.offset, end.minus(all.offset));
        self.plots.push(Plot { extent, volume: Some((base, Arc::new(occupied))) });
    }

    /// Adds the space between volumes where that is wanted, and sorts all. Where a volume lies in another one, it has
    /// its space.
    pub(super) fn close(&mut self, outside: bool, targets: &[Target]) {
        self.plots.sort_by_key(|plot| plot.extent.offset);
        let mut apart: Vec<Plot> = Vec::new();
        for plot in std::mem::take(&mut self.plots) {
            let own = plot.extent;
            if let Some(outer) = apart.last_mut().filter(|outer| outer.extent.end() > own.offset) {
                let end = outer.extent.end();
                outer.extent.length = own.offset.minus(outer.extent.offset);
                let behind = Extent::new(own.end(), end.minus(own.end()));
                let rest = Plot { extent: behind, ..outer.clone() };
                apart.push(plot);
                apart.push(rest);
            } else {
                apart.push(plot);
            }
        }
        apart.retain(|plot| plot.extent.length > 0);
        self.plots = apart;
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
    /// Behind what others have, it goes on at so many bytes from here, or a multiple of it.
    grid: Option<(u64, u64)>,
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
        Self { image, ground, without, length, known: RefCell::new(known), end, grid: None }
    }

    /// The same, where files begin at multiples of `step` from `origin` on: what is left of another's last cluster is left out
    /// too.
    #[must_use]
    pub(super) fn on_grid(self, step: u64, origin: u64) -> Self {
        Self { grid: Some((step, origin)), ..self }
    }

    /// Other pieces, and what is free from `from` on; otherwise the same.
    pub(super) fn with(&self, head: &[Extent], from: u64) -> Self {
        Self { grid: self.grid, ..Self::behind(self.image, self.ground, self.without, head, from) }
    }

    /// Where the first `length` bytes stand; `None` where there are not so many.
    pub(super) fn places(&self, length: u64) -> Option<Vec<Extent>> {
        let places = self.places_up_to(length);
        let found = places.iter().fold(0_u64, |sum, extent| sum.plus(extent.length));
        (found == length).then_some(places)
    }

    /// The same, or as many as there are.
    pub(super) fn places_up_to(&self, length: u64) -> Vec<Extent> {
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
        places
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
                if let Some((step, origin)) = self.grid {
                    let origin = origin.rest(step);
                    at = at.minus(origin).per_up(step).times(step).plus(origin);
                }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{cluster::set::ClusterSet, medium::Memory};

    /// A stretch of clusters of 1024 bytes from cluster `at` on, some of which somebody has.
    fn plot(at: u64, count: usize, taken: &[usize]) -> Plot {
        let mut set = ClusterSet::with_capacity(count + 2);
        for number in taken {
            set.insert(number + 2);
        }
        let occupied = Occupied::new(at * 1024, 1024, (2, count + 2), set);
        Plot { extent: occupied.all(), volume: Some((0, Arc::new(occupied))) }
    }

    fn clusters(from: u64, to: u64) -> Extent {
        Extent::new(from * 1024, (to - from) * 1024)
    }

    #[test]
    fn a_volume_in_another_one_has_its_space() {
        let mut ground = Ground::new(50 * 1024);
        ground.plots = vec![plot(10, 30, &[1, 25]), plot(20, 5, &[2])];
        ground.close(false, &[]);
        let mut free = Vec::new();
        let mut at = 0;
        while let Some(next) = ground.free_from(at) {
            free.push((next.offset / 1024, next.end() / 1024));
            at = next.end();
        }
        assert_eq!(free, [(10, 11), (12, 20), (20, 22), (23, 25), (25, 35), (36, 40)]);
        assert_eq!(ground.taken_of(Extent::new(11 * 1024 + 512, 1024)), 512);
        assert_eq!(ground.taken_of(clusters(9, 11)), 1024, "what lies in no stretch is not free");
    }

    #[test]
    fn the_rest_leaves_out_what_others_have() {
        let medium = Memory::new((0..40 * 1024_u32).map(|n| (n / 1024).to_le_bytes()[0]).collect());
        let mut ground = Ground::new(40 * 1024);
        ground.plots = vec![plot(10, 10, &[1, 4])];
        // Clusters 11 and 14 are somebody's, and 12 is of a file that was found.
        let found: RangeSet<u64> = std::iter::once(12 * 1024..13 * 1024).collect();
        let rest = Rest::new(&medium, &ground, &found, 10 * 1024);
        let mut bytes = vec![0; 3000];
        rest.read(512, &mut bytes);
        let expected = [vec![10; 512], vec![13; 1024], vec![15; 1024], vec![16; 440]].concat();
        assert!(bytes == expected, "the bytes of clusters 10, 13, 15, 16");
        assert_eq!(rest.places(3 * 1024).unwrap(), [clusters(10, 11), clusters(13, 14), clusters(15, 16)]);
        assert_eq!(rest.places(50_000), None);
        assert_eq!(rest.places_up_to(50_000).last(), Some(&clusters(15, 20)));
        let behind = Rest::behind(&medium, &ground, &found, &[clusters(15, 16)], 17 * 1024);
        assert_eq!(behind.places(2048).unwrap(), [clusters(15, 16), clusters(17, 18)]);
    }
}
