//! exFAT volumes in memory: how their boot regions, tables and entry sets are damaged, and the files that each of the lab's has.

use super::{Made, Patient as Any, index};
use punchdog_core::exfat::{
    geometry::Geometry,
    layout::{boot_checksum, put, set_checksum},
};

/// An exFAT volume in memory that can be damaged.
pub type Patient = Any<Geometry>;

impl Patient {
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
