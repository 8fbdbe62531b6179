//! Damage to exFAT volumes, as a table: how the lab makes it, what check must say of it, which
//! files it costs.

mod boot;
mod chains;
mod root;
mod sets;

use crate::{
    exfat::{Filled, Made},
    seed::Seed,
};
use punchdog_core::{
    exfat::{
        geometry::Geometry,
        layout::{boot_checksum, put, set_checksum},
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
    /// Makes it.
    pub make: fn(&mut Patient, &mut Seed),
    /// Answers to questions that the repair needs; names and options.
    pub choose: &'static [(&'static str, &'static str)],
    /// The number of tables that a volume must have for it.
    pub tables: Option<u32>,
}

const fn fault(name: &'static str, code: &'static str, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code, make, choose: &[], tables: None }
}

/// Every exFAT fault that the lab can make.
pub fn all() -> impl Iterator<Item = &'static Fault> {
    [boot::ALL, root::ALL, sets::ALL, chains::ALL].into_iter().flatten()
}

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
        self.bytes[index(offset)..index(offset) + length].to_vec()
    }

    /// Writes into a boot region, 0 the main or 1 the backup, and puts its checksum right, as a
    /// program does that knows of it.
    pub fn write_boot(&mut self, region: u64, at: u64, bytes: &[u8]) {
        let start = region * self.geometry.region_bytes();
        self.write(start + at, bytes);
        self.sum_boot(region);
    }

    /// Computes the checksum of a boot region anew.
    pub fn sum_boot(&mut self, region: u64) {
        let start = region * self.geometry.region_bytes();
        let size = index(self.geometry.sector_bytes());
        let sum = boot_checksum(&self.read(start, size * 11), size).to_le_bytes();
        let at = index(start) + size * 11;
        for slot in 0..size / 4 {
            self.bytes[at + slot * 4..at + slot * 4 + 4].copy_from_slice(&sum);
        }
    }

    /// Sets a table entry in one copy.
    pub fn set_link_in(&mut self, copy: u32, cluster: u32, value: u32) {
        let place = self.geometry.table_place(copy) + u64::from(cluster) * 4;
        self.write(place, &value.to_le_bytes());
    }

    /// Sets a table entry in all copies.
    pub fn set_link(&mut self, cluster: u32, value: u32) {
        (0..self.geometry.tables).for_each(|copy| self.set_link_in(copy, cluster, value));
    }

    /// Where the bit of a cluster is: byte from the start, and mask.
    pub fn bit(&self, cluster: u32) -> (u64, u8) {
        let bit = cluster - 2;
        (self.geometry.cluster_place(2) + u64::from(bit / 8), 1 << (bit % 8))
    }

    /// Sets or clears the bit of a cluster in the bitmap.
    pub fn set_bit(&mut self, cluster: u32, used: bool) {
        let (place, mask) = self.bit(cluster);
        let byte = self.read(place, 1)[0];
        self.write(place, &[if used { byte | mask } else { byte & !mask }]);
    }

    /// Writes into the set of `path` and puts its checksum right, so that only what was meant is
    /// wrong.
    pub fn write_set(&mut self, path: &str, at: u64, bytes: &[u8]) {
        let made = self.find(path);
        self.write(made.entry + at, bytes);
        self.sum_set(&made);
    }

    /// Computes the checksum of a set anew. The lab's sets lie within one cluster or in a row.
    pub fn sum_set(&mut self, made: &Made) {
        let mut set = self.read(made.entry, made.entries as usize * 32);
        let sum = set_checksum(&set).to_le_bytes();
        put(&mut set, 2, &sum);
        let at = index(made.entry);
        self.bytes[at + 2..at + 4].copy_from_slice(&sum);
    }

    /// Where an entry of the root folder stands.
    pub fn root_entry(&self, number: u64) -> u64 {
        let each = self.geometry.cluster_bytes() / 32;
        let mut cluster = self.geometry.root_cluster;
        for _ in 0..number / each {
            let link = self.read(self.geometry.table_place(0) + u64::from(cluster) * 4, 4);
            cluster = u32::from_le_bytes([link[0], link[1], link[2], link[3]]);
        }
        self.geometry.cluster_place(cluster) + number % each * 32
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

    /// A cluster behind the last one in use.
    pub fn unused(&self, number: u32) -> u32 {
        let last = self.live().flat_map(|made| made.clusters.iter()).max().copied().unwrap_or(2);
        last + 40 + number
    }
}

/// A file of several clusters in a row.
pub const ROW: &str = "Logs/station.log";
/// Another one, of 6 clusters.
pub const OTHER: &str = "Recordings/dawn 0001.wav";
/// A file in pieces of two clusters, 7 in all.
pub const PIECES: &str = "Recordings/dawn 0002.wav";
/// A file in single clusters, 4 in all.
pub const SINGLE: &str = "Logs/2026/tides of the first week.csv";
/// A folder with files and a subfolder.
pub const FOLDER: &str = "Recordings";
/// A folder of many entries, in pieces.
pub const CROWDED: &str = "Recordings/Thumbs";
/// A file with a long name.
pub const LONG: &str = "Logs/2026/counts on the western ledges, second visit.csv";
/// A file of one cluster in the root.
pub const README: &str = "README.TXT";
