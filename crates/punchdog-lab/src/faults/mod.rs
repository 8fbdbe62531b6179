//! Damage, as a table: how the lab makes it, what check must say of it, which files it costs.
//!
//! Adding a row here is adding a test: the matrix runs each row on each volume that it fits, and
//! the real-kernel lane mounts the outcome.

mod boot;
mod chains;
mod entries;
mod table;

use crate::{fat::Filled, fat::Made, seed::Seed};
use punchdog_core::{
    arith::Peek,
    family::Kind,
    fat::{
        geometry::Geometry,
        table::{encode, end_mark, entry_place},
    },
    medium::Extent,
};

/// A volume in memory that can be damaged, with the truth about its files.
#[derive(Clone)]
pub struct Patient {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Where everything lies.
    pub geometry: Geometry,
    /// What was made on it.
    pub made: Vec<Made>,
    /// What was damaged so far: bytes from the start.
    pub damaged: Vec<Extent>,
    /// Files whose content or size cannot come back.
    pub costs: Vec<String>,
    /// Files whose content comes back under another path.
    pub moved: Vec<String>,
}

/// A class of fault.
pub struct Fault {
    /// Its name in test output.
    pub name: &'static str,
    /// The code that check must give, on one of the damaged bytes.
    pub code: &'static str,
    /// The kinds of volume it makes sense on.
    pub on: &'static [Kind],
    /// Makes it.
    pub make: fn(&mut Patient, &mut Seed),
    /// Answers to questions that the repair needs; names and options.
    pub choose: &'static [(&'static str, &'static str)],
}

/// FAT12, FAT16 and FAT32.
pub const ANY: &[Kind] = &[Kind::Fat12, Kind::Fat16, Kind::Fat32];
/// FAT12 and FAT16.
pub const NARROW: &[Kind] = &[Kind::Fat12, Kind::Fat16];
/// FAT16 and FAT32.
pub const CLOSING: &[Kind] = &[Kind::Fat16, Kind::Fat32];
/// FAT32.
pub const WIDE: &[Kind] = &[Kind::Fat32];

const fn fault(
    name: &'static str,
    code: &'static str,
    on: &'static [Kind],
    make: fn(&mut Patient, &mut Seed),
) -> Fault {
    Fault { name, code, on, make, choose: &[] }
}

/// Every FAT fault that the lab can make.
pub fn all() -> impl Iterator<Item = &'static Fault> {
    [boot::ALL, table::ALL, chains::ALL, entries::ALL].into_iter().flatten()
}

/// Byte offsets and lengths are `usize` in memory; the volumes of the lab are small.
fn index(value: u64) -> usize {
    usize::try_from(value).expect("a small volume")
}

impl Patient {
    /// A sound patient.
    pub fn new(filled: Filled<Vec<u8>>) -> Self {
        Self {
            bytes: filled.canvas,
            geometry: filled.geometry,
            made: filled.made,
            damaged: Vec::new(),
            costs: Vec::new(),
            moved: Vec::new(),
        }
    }

    /// Files that are there and not deleted.
    pub fn live(&self) -> impl Iterator<Item = &Made> {
        self.made.iter().filter(|made| !made.deleted)
    }

    /// A file or folder by its path.
    ///
    /// # Panics
    /// When there is none.
    pub fn find(&self, path: &str) -> Made {
        self.live().find(|made| made.path == path).unwrap_or_else(|| panic!("{path} was never made")).clone()
    }

    /// Overwrites bytes, and remembers where.
    pub fn write(&mut self, offset: u64, bytes: &[u8]) {
        let at = index(offset);
        self.bytes[at..at + bytes.len()].copy_from_slice(bytes);
        self.damaged.push(Extent::new(offset, bytes.len() as u64));
    }

    /// Fills a range with one byte.
    pub fn fill(&mut self, offset: u64, length: u64, byte: u8) {
        self.write(offset, &vec![byte; index(length)]);
    }

    /// The bytes of a range.
    pub fn read(&self, offset: u64, length: usize) -> Vec<u8> {
        self.bytes.part(index(offset), length).to_vec()
    }

    /// Where entry `cluster` stands in a copy of the table.
    pub fn link_place(&self, copy: u32, cluster: u32) -> (u64, u64) {
        let (at, width) = entry_place(self.geometry.kind, cluster);
        (self.geometry.table_offset(copy) + at, width)
    }

    /// Sets a table entry in one copy.
    pub fn set_link_in(&mut self, copy: u32, cluster: u32, value: u32) {
        let (at, width) = self.link_place(copy, cluster);
        let mut bytes = self.read(at, index(width));
        encode(self.geometry.kind, cluster, value, &mut bytes);
        self.write(at, &bytes);
    }

    /// Sets a table entry in all copies.
    pub fn set_link(&mut self, cluster: u32, value: u32) {
        for copy in 0..self.geometry.tables {
            self.set_link_in(copy, cluster, value);
        }
    }

    /// The end mark of this volume's table.
    pub fn end(&self) -> u32 {
        end_mark(self.geometry.kind)
    }

    /// Sets the first cluster in the entry of `path`.
    pub fn set_first(&mut self, path: &str, cluster: u32) {
        let place = self.find(path).entry;
        let [a, b, c, d] = cluster.to_le_bytes();
        self.write(place + 26, &[a, b]);
        if self.geometry.wide() {
            self.write(place + 20, &[c, d]);
        }
    }

    /// Sets the size in the entry of `path`.
    pub fn set_size(&mut self, path: &str, size: u32) {
        let place = self.find(path).entry;
        self.write(place + 28, &size.to_le_bytes());
    }

    fn under(&self, paths: &[&str]) -> Vec<String> {
        let hit = |made: &&Made| {
            paths.iter().any(|path| made.path == *path || made.path.starts_with(&format!("{path}/")))
        };
        self.live().filter(hit).map(|made| made.path.clone()).collect()
    }

    /// Says that these files, and all in them where they are folders, cannot all come back.
    pub fn cost(&mut self, paths: &[&str]) {
        let hit = self.under(paths);
        self.costs.extend(hit);
    }

    /// Says that these files, and all in them, come back whole under another path.
    pub fn moves(&mut self, paths: &[&str]) {
        let hit = self.under(paths);
        self.moved.extend(hit);
    }

    /// The clusters right behind the last one in use.
    pub fn unused(&self, number: u32) -> u32 {
        let last = self.live().flat_map(|made| made.clusters.iter()).max().copied().unwrap_or(2);
        last + 40 + number
    }
}

/// A file of several clusters in a row.
pub const ROW: &str = "Logs/station.log";
/// Another one, of 6 clusters.
pub const OTHER: &str = "Pictures/IMG_0004.PNG";
/// A fragmented file.
pub const PIECES: &str = "Möwen und Lummen/Ruf der Trottellumme.wav";
/// A folder with files and a subfolder.
pub const FOLDER: &str = "Pictures";
/// A folder of many entries.
pub const CROWDED: &str = "Pictures/Thumbs";
/// A file with a long name.
pub const LONG: &str = "Logs/2026/counts on the western ledges, second visit.csv";
/// A file of one cluster in the root.
pub const README: &str = "README.TXT";
