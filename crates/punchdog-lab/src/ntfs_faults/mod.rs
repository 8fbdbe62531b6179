//! Damage to NTFS volumes, as a table: how the lab makes it, what check must say of it, which files it costs.

mod bitmaps;
mod boot;
mod files;
mod folders;
mod lists;
mod runs;
mod system;
mod views;

use crate::patient::{self, index};
use crate::seed::Seed;
use punchdog_core::{
    medium::Extent,
    ntfs::{
        geometry::Geometry,
        layout::{fix, own, unfix},
        record::attributes,
        runs::{Run, decode},
    },
};

/// An NTFS volume in memory that can be damaged.
pub type Patient = patient::Patient<Geometry>;
/// A class of fault of NTFS volumes.
pub type Fault = patient::Fault<Geometry>;

const fn fault(name: &'static str, code: &'static str, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code, on: |_| true, make, choose: &[] }
}

/// With the first records, their copies and these all gone at once, nothing is found that says where the records are and
/// how large the clusters: such pairs are not mended yet.
const UNTOLD: &[&str] = &[
    "boot sector and copy zero",
    "boot sector zero, copy of an older format",
    "name overwritten in both",
    "sector size 513 in both",
    "cluster size doubled in both",
    "$MFT's cluster wrong in both",
    "record size too large in both",
    "index size too large in both",
];

/// Two faults, by name, that together leave too little.
pub fn beyond(one: &str, other: &str) -> bool {
    let both =
        |one: &str, other: &str| one == "records 0 to 11 and the copies zero" && UNTOLD.contains(&other);
    both(one, other) || both(other, one)
}

/// Every NTFS fault that the lab can make.
pub fn all() -> impl Iterator<Item = &'static Fault> {
    [boot::ALL, system::ALL, files::ALL, bitmaps::ALL, folders::ALL, lists::ALL, runs::ALL, views::ALL]
        .into_iter()
        .flatten()
}

impl Patient {
    /// The record of a file.
    ///
    /// # Panics
    /// When there is none.
    pub fn number(&self, path: &str) -> u32 {
        u32::try_from(self.find(path).index).expect("a small volume")
    }

    /// Where a record stands. The lab's $MFT lies in a row.
    pub fn record_place(&self, number: u32) -> u64 {
        self.geometry.place(self.geometry.mft) + u64::from(number) * self.geometry.record() as u64
    }

    /// Where the copy of a record stands.
    pub fn copy_place(&self, number: u32) -> u64 {
        self.geometry.place(self.geometry.mirror) + u64::from(number) * self.geometry.record() as u64
    }

    /// A record with its fixups off.
    pub fn record(&self, number: u32) -> Vec<u8> {
        let mut record = self.read(self.record_place(number), self.geometry.record());
        unfix(&mut record);
        record
    }

    /// Changes a record as a program does that knows of fixups; of its copy nothing is changed.
    pub fn edit(&mut self, number: u32, change: impl FnOnce(&mut Vec<u8>)) {
        self.edit_at(self.record_place(number), change);
    }

    /// The same with its copy.
    pub fn edit_both(&mut self, number: u32, change: impl Fn(&mut Vec<u8>)) {
        self.edit_at(self.record_place(number), &change);
        self.edit_at(self.copy_place(number), &change);
    }

    fn edit_at(&mut self, place: u64, change: impl FnOnce(&mut Vec<u8>)) {
        self.edit_bytes(place, self.geometry.record(), change);
    }

    /// Changes what has fixups: a record, or a block of an index.
    fn edit_bytes(&mut self, place: u64, length: usize, change: impl FnOnce(&mut Vec<u8>)) {
        let mut record = self.read(place, length);
        unfix(&mut record);
        let before = record.clone();
        change(&mut record);
        let differ = |at: &usize| before[*at] != record[*at];
        let first = (0..record.len()).find(differ).expect("something is changed");
        let last = (0..record.len()).rfind(differ).expect("something is changed");
        fix(&mut record);
        let at = index(place);
        self.bytes[at..at + record.len()].copy_from_slice(&record);
        self.damaged.push(Extent::new(place + first as u64, (last - first + 1) as u64));
    }

    /// Where in its record an attribute stands: of a type, and a name.
    ///
    /// # Panics
    /// When there is none.
    pub fn attribute(&self, number: u32, of: u32, name: &str) -> usize {
        let record = self.record(number);
        let (list, _) = attributes(&record);
        list.iter().find(|a| a.kind() == of && a.is_called(name)).expect("the attribute is there").at
    }

    /// The runs of an attribute.
    ///
    /// # Panics
    /// When there is none.
    pub fn runs(&self, number: u32, of: u32, name: &str) -> Vec<Run> {
        let record = self.record(number);
        let (list, _) = attributes(&record);
        let found =
            list.iter().find(|a| a.kind() == of && a.is_called(name)).expect("the attribute is there");
        decode(found.runs(), found.clusters(), self.geometry.clusters()).0
    }

    /// Where a byte of one of the file system's own files stands.
    ///
    /// # Panics
    /// When it has none.
    pub fn own_place(&self, number: u32, name: &str, at: u64) -> u64 {
        let runs = self.runs(number, punchdog_core::ntfs::layout::kind::DATA, name);
        punchdog_core::ntfs::runs::Mapping::of(&runs, self.geometry.cluster())
            .place(at)
            .expect("it stands there")
    }

    /// Changes the bit of a cluster in $Bitmap.
    pub fn flip_cluster(&mut self, cluster: u64) {
        let place = self.own_place(own::BITMAP, "", cluster / 8);
        let byte = self.read(place, 1)[0] ^ 1 << (cluster % 8);
        self.write(place, &[byte]);
    }

    /// A cluster that is free.
    ///
    /// # Panics
    /// When there is none.
    pub fn free_cluster(&self) -> u64 {
        let bit = |cluster: u64| {
            let place = self.own_place(own::BITMAP, "", cluster / 8);
            self.read(place, 1)[0] >> (cluster % 8) & 1
        };
        (0..self.geometry.clusters()).rev().find(|cluster| bit(*cluster) == 0).expect("a free cluster")
    }

    /// Says that findings of a cluster are findings of its bit.
    pub fn at_cluster(&mut self, cluster: u64, length: u64) {
        let extent = Extent::new(self.geometry.place(cluster), self.geometry.place(length));
        self.damaged.push(extent);
    }
}

/// A file of several clusters in a row.
pub const ROW: &str = "Logs/station.log";
/// Another one, of 6 clusters.
pub const OTHER: &str = "Recordings/dawn 0001.wav";
/// A file in pieces of two clusters, 7 in all.
pub const PIECES: &str = "Recordings/dawn 0002.wav";
/// A file in its record.
pub const README: &str = "README.TXT";
/// A file of two records.
pub const SPREAD: &str = "Recordings/dusk 0003.wav";
/// A file of four records, whose list stands in a cluster of its own.
pub const WIDE: &str = "Logs/2026/tides of the first week.csv";
/// A packed file, where clusters are small enough for that.
pub const PACKED: &str = "Logs/archive.log";
/// A file with a hole.
pub const HOLED: &str = "Logs/buoy.raw";
/// A folder with files and a subfolder.
pub const FOLDER: &str = "Recordings";
