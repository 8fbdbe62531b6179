//! What lies on the places that cannot be read.

use crate::{
    arith::Sat,
    family::{Survey, Wanted},
    files::{path::TreePath, record::FileRecord},
    medium::{Extent, Medium, Unknown},
    report::{
        structure::{Purpose, Structure},
        wording::{counted, listed},
    },
};
use rangemap::RangeSet;
use std::ops::ControlFlow;

/// Bytes that places are counted in for people.
pub(super) const SECTOR: u64 = 512;

/// Places, for asking what lies on them.
#[derive(Debug, Clone, Default)]
pub struct Places(RangeSet<u64>);

impl Places {
    /// The places of `medium` whose bytes are not known, as bytes from its start.
    pub fn of(medium: &dyn Medium, which: Unknown) -> Self {
        Self::from(medium.unknown(which))
    }
    /// True when there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
    /// True when the first byte of this is one of them.
    pub fn begin(&self, extent: Extent) -> bool {
        self.0.contains(&extent.offset)
    }
    /// True when some lie in one of these.
    pub fn touch(&self, extents: impl IntoIterator<Item = Extent>) -> bool {
        extents.into_iter().any(|e| e.length > 0 && self.0.overlaps(&(e.offset..e.end())))
    }
    /// The parts of these that lie on them, in order.
    pub fn in_these(&self, extents: impl IntoIterator<Item = Extent>) -> Vec<Extent> {
        let mut found = Vec::new();
        for extent in extents.into_iter().filter(|extent| extent.length > 0) {
            for range in self.0.overlapping(&(extent.offset..extent.end())) {
                let start = range.start.max(extent.offset);
                found.push(Extent::new(start, range.end.min(extent.end()).minus(start)));
            }
        }
        found
    }
    /// All of them.
    pub fn all(&self) -> Vec<Extent> {
        self.0.iter().map(|range| Extent::new(range.start, range.end.minus(range.start))).collect()
    }
    fn remove(&mut self, extents: &[Extent]) {
        for extent in extents {
            self.0.remove(extent.offset..extent.end());
        }
    }
}

impl From<Vec<Extent>> for Places {
    fn from(extents: Vec<Extent>) -> Self {
        Self(extents.into_iter().filter(|e| e.length > 0).map(|e| e.offset..e.end()).collect())
    }
}

/// Bytes of extents.
pub fn bytes(extents: &[Extent]) -> u64 {
    extents.iter().fold(0, |sum, extent| sum.plus(extent.length))
}

/// Sectors that extents touch, for people.
pub fn sectors(extents: &[Extent]) -> u64 {
    extents
        .iter()
        .fold(0, |sum, extent| sum.plus(extent.end().per_up(SECTOR).minus(extent.offset.per(SECTOR))))
}

/// A structure with places that cannot be read.
#[derive(Debug, Clone)]
pub struct HitStructure {
    /// What it is called.
    pub name: String,
    /// What it does.
    pub purpose: Purpose,
    /// What of it cannot be read.
    pub extents: Vec<Extent>,
    /// What its second copy is called, where there is one, and whether all of these bytes can be read there.
    pub twin: Option<(&'static str, bool)>,
}

/// A file or a folder with such places.
#[derive(Debug, Clone)]
pub struct HitFile {
    /// Its path.
    pub path: TreePath,
    /// What of it cannot be read.
    pub extents: Vec<Extent>,
}

/// All that lies on them.
#[derive(Debug, Clone, Default)]
pub struct Hits {
    /// Structures.
    pub structures: Vec<HitStructure>,
    /// Folders that are no structures of their own.
    pub folders: Vec<HitFile>,
    /// Files.
    pub files: Vec<HitFile>,
    /// Places that nothing stands in.
    pub free: Vec<Extent>,
    /// Sectors in all.
    pub sectors: u64,
}

impl Hits {
    /// Takes those out of the free places that lie in one of `marked`.
    pub(super) fn take_free(&mut self, marked: &[Extent]) -> Vec<Extent> {
        let mut free = Places::from(self.free.clone());
        let taken = free.in_these(marked.iter().copied());
        free.remove(&taken);
        self.free = free.all();
        taken
    }

    /// What of a volume lies on `places`.
    pub fn of(medium: &dyn Medium, survey: &mut dyn Survey, places: &Places) -> Self {
        let mut hits = Self { sectors: sectors(&places.all()), ..Self::default() };
        if places.is_empty() {
            return hits;
        }
        let mut left = places.clone();
        let mut spare = Vec::new();
        for structure in survey.structures(medium) {
            let extents = places.in_these([structure.extent]);
            if extents.is_empty() {
                continue;
            }
            if structure.purpose == Purpose::Spare {
                spare.push(structure.extent);
                continue;
            }
            left.remove(&extents);
            hits.add_structure(structure, extents, places);
        }
        survey.each_file(medium, Wanted::default(), &mut |file| {
            let extents = places.in_these(file.content.extents());
            if !extents.is_empty() {
                left.remove(&extents);
                hits.add_file(&file, extents);
            }
            ControlFlow::Continue(())
        });
        hits.free = left.all();
        hits
    }

    fn add_structure(&mut self, structure: Structure, extents: Vec<Extent>, places: &Places) {
        let twin = structure.twin.map(|(at, name)| {
            let there = extents
                .iter()
                .map(|e| Extent::new(at.plus(e.offset.minus(structure.extent.offset)), e.length));
            (name, !places.touch(there))
        });
        let known = self.structures.iter_mut().find(|one| one.name == structure.name);
        if let Some(one) = known {
            one.extents.extend(extents);
            one.twin = match (one.twin, twin) {
                (Some((name, good)), Some((_, also))) => Some((name, good && also)),
                _ => None,
            };
        } else {
            let name = structure.name.into_owned();
            self.structures.push(HitStructure { name, purpose: structure.purpose, extents, twin });
        }
    }

    fn add_file(&mut self, file: &FileRecord, extents: Vec<Extent>) {
        let hit = HitFile { path: file.path.clone(), extents };
        if file.folder { self.folders.push(hit) } else { self.files.push(hit) }
    }

    /// All of it in a sentence: how many sectors, and what each lies in.
    pub fn sentence(&self) -> String {
        let mut parts: Vec<String> = Vec::new();
        for one in &self.structures {
            let twin = match one.twin {
                Some((name, true)) => format!(" ({name} can be read there)"),
                Some((name, false)) => format!(" (nor can {name} there)"),
                None => String::new(),
            };
            parts.push(format!("{} in {}{twin}", sectors(&one.extents), one.name));
        }
        let many = |hits: &[HitFile], one: &str, many: &str| {
            let all: u64 = hits.iter().fold(0, |sum, hit| sum.plus(sectors(&hit.extents)));
            match hits {
                [] => None,
                [only] => Some(format!("{all} in the {one} {}", only.path)),
                more => Some(format!("{all} in {} {many}", more.len())),
            }
        };
        parts.extend(many(&self.folders, "folder", "folders"));
        parts.extend(many(&self.files, "file", "files"));
        if !self.free.is_empty() {
            parts.push(format!("{} where nothing is", sectors(&self.free)));
        }
        let all = counted(self.sectors, "sector cannot be read", "sectors cannot be read");
        if parts.is_empty() { format!("{all}.") } else { format!("{all}: {}.", listed(&parts)) }
    }
}
