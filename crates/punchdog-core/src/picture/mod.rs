//! A picture of a medium, as cells that each stand for so many bytes: what lies there, how full it is, what is in
//! trouble. Drawing it is for others; everything that is drawn is counted here.

use crate::{
    arith::Sat,
    diagnosis::Target,
    family::Wanted,
    files::record::State,
    impaired::Places,
    medium::{Extent, Medium, MediumError, Unknown, Window},
    progress::Watch,
    report::{finding::Weight, structure::Purpose},
};
use bitflags::bitflags;
use schemars::JsonSchema;
use serde::Serialize;
use std::{collections::BTreeMap, ops::ControlFlow};

/// What is in trouble, worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Trouble {
    /// It cannot be read.
    Unreadable,
    /// More than one file has it.
    Twice,
    /// It is of a structure or a file that is damaged.
    Damaged,
    /// It is of something that nothing names any more.
    Lost,
    /// The file system marks it as failed.
    MarkedBad,
    /// It was slow to read.
    Slow,
    /// It is of a deleted file.
    Deleted,
}

impl Cell {
    /// So many bytes of it belong to a structure.
    fn has(&mut self, purpose: Purpose, bytes: u64) {
        match self.structure {
            Some(standing) if standing < purpose => {}
            Some(standing) if standing == purpose => self.of_it = self.of_it.plus(bytes),
            _ => (self.structure, self.of_it) = (Some(purpose), bytes),
        }
    }
}

impl Trouble {
    /// All of them, worst first.
    pub const ALL: [Self; 7] = [
        Self::Unreadable,
        Self::Twice,
        Self::Damaged,
        Self::Lost,
        Self::MarkedBad,
        Self::Slow,
        Self::Deleted,
    ];
    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Unreadable => "unreadable",
            Self::Twice => "claimed twice",
            Self::Damaged => "damaged",
            Self::Lost => "lost",
            Self::MarkedBad => "marked bad",
            Self::Slow => "slow",
            Self::Deleted => "deleted content",
        }
    }
    fn bit(self) -> Troubles {
        match self {
            Self::Unreadable => Troubles::UNREADABLE,
            Self::Twice => Troubles::TWICE,
            Self::Damaged => Troubles::DAMAGED,
            Self::Lost => Troubles::LOST,
            Self::MarkedBad => Troubles::MARKED_BAD,
            Self::Slow => Troubles::SLOW,
            Self::Deleted => Troubles::DELETED,
        }
    }
}

bitflags! {
    /// Troubles of a cell.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub struct Troubles: u8 {
        /// [`Trouble::Unreadable`].
        const UNREADABLE = 1;
        /// [`Trouble::Twice`].
        const TWICE = 2;
        /// [`Trouble::Damaged`].
        const DAMAGED = 4;
        /// [`Trouble::Lost`].
        const LOST = 8;
        /// [`Trouble::MarkedBad`].
        const MARKED_BAD = 16;
        /// [`Trouble::Slow`].
        const SLOW = 32;
        /// [`Trouble::Deleted`].
        const DELETED = 64;
    }
}

impl Troubles {
    /// True when this is one of them.
    pub fn has(self, trouble: Trouble) -> bool {
        self.contains(trouble.bit())
    }
    /// The worst of them.
    pub fn worst(self) -> Option<Trouble> {
        Trouble::ALL.into_iter().find(|trouble| self.contains(trouble.bit()))
    }
}

/// So many bytes of the medium.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Cell {
    /// The weightiest structure in it.
    pub structure: Option<Purpose>,
    /// Bytes of it that such structures have.
    pub of_it: u64,
    /// Part of it lies in a volume.
    pub in_volume: bool,
    /// Bytes of it that somebody has: files, folders, the file system itself.
    pub used: u64,
    /// What is in trouble in it.
    pub troubles: Troubles,
    /// Part of the file that was asked for.
    pub asked: bool,
}

/// What one kind comes to in all, in the range that is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, JsonSchema)]
pub struct Sum {
    /// Bytes.
    pub bytes: u64,
    /// Files concerned.
    pub files: u64,
}

/// The picture.
#[derive(Debug)]
pub struct Picture {
    /// What is drawn, in bytes of the image.
    pub range: Extent,
    /// Bytes of a cell.
    pub cell: u64,
    /// The cells, in order.
    pub cells: Vec<Cell>,
    /// Bytes of each kind of structure.
    pub structures: BTreeMap<Purpose, u64>,
    /// What files and folders have.
    pub used: Sum,
    /// What is in trouble.
    pub troubles: BTreeMap<Trouble, Sum>,
    /// Where the file that was asked for stands, if there is one.
    pub asked: Vec<Extent>,
}

/// What is to be drawn.
#[derive(Debug, Clone)]
pub struct Wish<'w> {
    /// Bytes of the image.
    pub range: Extent,
    /// Cells at most.
    pub cells: u64,
    /// A file that is to be shown, by its path.
    pub file: Option<&'w str>,
    /// Places of the image that were slow.
    pub slow: Vec<Extent>,
}

/// Cells end at sectors.
const SECTOR: u64 = 512;
/// Codes of findings that tell of clusters with more than one owner.
const TWICE: [&str; 2] = ["/cross-linked", "/clusters-shared"];

impl Picture {
    /// Draws `targets`, the volumes of `image` that are meant.
    ///
    /// # Errors
    /// When a volume cannot be read at all, or when told to stop.
    pub fn draw(
        image: &dyn Medium,
        targets: &[Target],
        wish: &Wish<'_>,
        watch: &dyn Watch,
    ) -> Result<Self, MediumError> {
        let end = wish.range.end().min(image.len());
        let range = Extent::new(wish.range.offset.min(end), end.minus(wish.range.offset));
        let cell = range.length.per_up(wish.cells.max(1)).per_up(SECTOR).times(SECTOR).max(SECTOR);
        let cells = vec![Cell::default(); range.length.per_up(cell).size()];
        let mut picture = Self {
            range,
            cell,
            cells,
            structures: BTreeMap::new(),
            used: Sum::default(),
            troubles: BTreeMap::new(),
            asked: Vec::new(),
        };
        for target in targets {
            picture.volume(image, target, wish, watch)?;
        }
        picture.trouble(Trouble::Slow, wish.slow.iter().copied(), false);
        picture.trouble(Trouble::Unreadable, image.unknown(Unknown::Unreadable), false);
        Ok(picture)
    }

    /// The same with cells that are so many times as large.
    #[must_use]
    pub fn coarser(&self, by: usize) -> Self {
        let merged = |cells: &[Cell]| {
            cells.iter().fold(Cell::default(), |mut sum, cell| {
                if let Some(structure) = cell.structure {
                    sum.has(structure, cell.of_it);
                }
                Cell {
                    in_volume: sum.in_volume || cell.in_volume,
                    used: sum.used.plus(cell.used),
                    troubles: sum.troubles | cell.troubles,
                    asked: sum.asked || cell.asked,
                    ..sum
                }
            })
        };
        Self {
            range: self.range,
            cell: self.cell.times(by.wide()),
            cells: self.cells.chunks(by.max(1)).map(merged).collect(),
            structures: self.structures.clone(),
            used: self.used,
            troubles: self.troubles.clone(),
            asked: self.asked.clone(),
        }
    }

    /// The part of an extent that is drawn.
    fn clipped(&self, extent: Extent) -> Option<Extent> {
        let (start, end) = (extent.offset.max(self.range.offset), extent.end().min(self.range.end()));
        (start < end).then(|| Extent::new(start, end.minus(start)))
    }

    /// Changes the cells that an extent lies in; gives the bytes of it that are drawn.
    fn mark(&mut self, extent: Extent, mut change: impl FnMut(&mut Cell, u64)) -> u64 {
        let Some(drawn) = self.clipped(extent) else { return 0 };
        let mut at = drawn.offset;
        while at < drawn.end() {
            let number = at.minus(self.range.offset).per(self.cell);
            let stop = self.range.offset.plus(number.plus(1).times(self.cell)).min(drawn.end());
            if let Some(cell) = self.cells.get_mut(number.size()) {
                change(cell, stop.minus(at));
            }
            at = stop;
        }
        drawn.length
    }

    fn trouble(&mut self, trouble: Trouble, extents: impl IntoIterator<Item = Extent>, file: bool) {
        let mut bytes = 0_u64;
        for extent in extents {
            bytes = bytes.plus(self.mark(extent, |cell, _| cell.troubles |= trouble.bit()));
        }
        if bytes > 0 {
            let sum = self.troubles.entry(trouble).or_default();
            sum.bytes = sum.bytes.plus(bytes);
            sum.files = sum.files.plus(u64::from(file));
        }
    }

    fn volume(
        &mut self,
        image: &dyn Medium,
        target: &Target,
        wish: &Wish<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError> {
        let window = Window::new(image, target.extent);
        let base = target.extent.offset;
        let mut survey = target.survey(&window, watch)?;
        let bytes = target.volume.bytes().min(target.extent.length);
        self.mark(Extent::new(base, bytes), |cell, _| cell.in_volume = true);
        let occupied = survey.occupied();
        self.fill(base, &occupied);
        for structure in survey.structures(&window) {
            let purpose = structure.purpose;
            let extent = structure.extent.moved(base);
            let drawn = self.mark(extent, |cell, part| {
                cell.has(purpose, part);
                // What stands before all clusters is full of what it is for.
                if extent.end() <= base.plus(occupied.all().offset) && purpose != Purpose::Spare {
                    cell.used = cell.used.plus(part);
                }
            });
            let sum = self.structures.entry(purpose).or_default();
            *sum = sum.plus(drawn);
        }
        self.trouble(
            Trouble::MarkedBad,
            survey.marked_bad(&window).into_iter().map(|e| e.moved(base)),
            false,
        );
        for finding in survey.examine(&window).findings {
            let code = finding.entry.code;
            if finding.weight > Weight::RisksFiles || code.starts_with("medium/") {
                continue;
            }
            let twice = TWICE.iter().any(|ending| code.ends_with(ending));
            let trouble = if twice { Trouble::Twice } else { Trouble::Damaged };
            self.trouble(trouble, finding.extents.iter().map(|extent| extent.moved(base)), false);
        }
        let wanted = Wanted { deleted: true, system: false };
        let unreadable = Places::of(&window, Unknown::Unreadable);
        survey.each_file(&window, wanted, &mut |file| {
            let places = || file.content.extents().map(|extent| extent.moved(base));
            let drawn = places().any(|extent| self.clipped(extent).is_some());
            let path = file.path.to_string();
            if wish.file.is_some_and(|asked| asked == path) {
                self.asked.extend(places());
                for extent in places() {
                    self.mark(extent, |cell, _| cell.asked = true);
                }
            }
            if file.folder && file.state != State::Deleted {
                for extent in places() {
                    let drawn = self.mark(extent, |cell, part| cell.has(Purpose::Folder, part));
                    let sum = self.structures.entry(Purpose::Folder).or_default();
                    *sum = sum.plus(drawn);
                }
            }
            if !drawn {
                return if watch.stop() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) };
            }
            match file.state {
                State::Deleted | State::Older | State::Unnamed if !file.folder => {
                    self.trouble(Trouble::Deleted, places(), true);
                }
                State::Deleted | State::Older | State::Unnamed => {}
                _ => self.used.files = self.used.files.plus(u64::from(!file.folder)),
            }
            match file.state {
                // What makes it so may be no more than what cannot be read.
                State::Damaged if file.lacks.is_empty() => self.trouble(Trouble::Damaged, places(), true),
                State::Orphan => self.trouble(Trouble::Lost, places(), true),
                _ => {}
            }
            if unreadable.touch(file.content.extents()) {
                let sum = self.troubles.entry(Trouble::Unreadable).or_default();
                sum.files = sum.files.plus(1);
            }
            ControlFlow::Continue(())
        });
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        Ok(())
    }

    /// What of each cell somebody has.
    fn fill(&mut self, base: u64, occupied: &crate::cluster::occupied::Occupied) {
        let all = occupied.all().moved(base);
        let mut sum = 0_u64;
        for (number, cell) in self.cells.iter_mut().enumerate() {
            let start = self.range.offset.plus(number.wide().times(self.cell)).max(all.offset);
            let end = self.range.offset.plus(number.plus(1).wide().times(self.cell));
            let end = end.min(all.end()).min(self.range.end());
            if start >= end {
                continue;
            }
            // Clusters can be larger than cells.
            let part = Extent::new(start.minus(base), end.minus(start));
            let taken = occupied.taken_of(part).min(part.length);
            cell.used = cell.used.plus(taken);
            sum = sum.plus(taken);
        }
        self.used.bytes = self.used.bytes.plus(sum);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn blank(range: Extent, cell: u64) -> Picture {
        Picture {
            range,
            cell,
            cells: vec![Cell::default(); range.length.per_up(cell).size()],
            structures: BTreeMap::new(),
            used: Sum::default(),
            troubles: BTreeMap::new(),
            asked: Vec::new(),
        }
    }

    #[test]
    fn marks_fall_into_the_right_cells_and_are_counted_as_far_as_they_are_drawn() {
        let mut picture = blank(Extent::new(10_000, 5_000), 1_000);
        picture.trouble(Trouble::Lost, [Extent::new(9_000, 1_500), Extent::new(12_999, 2)], true);
        picture.trouble(Trouble::Unreadable, [Extent::new(10_400, 100), Extent::new(15_000, 9)], false);
        let worst: Vec<Option<Trouble>> = picture.cells.iter().map(|cell| cell.troubles.worst()).collect();
        assert_eq!(worst, [Some(Trouble::Unreadable), None, Some(Trouble::Lost), Some(Trouble::Lost), None]);
        assert_eq!(picture.troubles[&Trouble::Lost], Sum { bytes: 502, files: 1 });
        assert_eq!(picture.troubles[&Trouble::Unreadable], Sum { bytes: 100, files: 0 });
        let coarse = picture.coarser(2);
        let worst: Vec<Option<Trouble>> = coarse.cells.iter().map(|cell| cell.troubles.worst()).collect();
        assert_eq!((coarse.cell, worst), (2_000, vec![Some(Trouble::Unreadable), Some(Trouble::Lost), None]));
        let drawn = picture.mark(Extent::new(0, u64::MAX), |cell, part| cell.used = part);
        assert_eq!((drawn, picture.cells.iter().map(|cell| cell.used).sum::<u64>()), (5_000, 5_000));
    }
}
