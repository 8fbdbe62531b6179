//! NTFS volumes in memory: how their records and bitmaps are damaged, and the files that each of the lab's has.

use super::{Patient as Any, index};
use punchdog_core::{
    arith::Peek,
    medium::Extent,
    ntfs::{
        geometry::Geometry,
        layout::{fix, kind, own, unfix},
        record::attributes,
        runs::{Mapping, Run, decode},
    },
};

/// An NTFS volume in memory that can be damaged.
pub type Patient = Any<Geometry>;

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
    ///
    /// # Panics
    /// When nothing is changed.
    pub fn edit_bytes(&mut self, place: u64, length: usize, change: impl FnOnce(&mut Vec<u8>)) {
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
        let runs = self.runs(number, kind::DATA, name);
        Mapping::of(&runs, self.geometry.cluster()).place(at).expect("it stands there")
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

impl Patient {
    /// Where the blocks of a folder's index stand: the pieces of each.
    pub fn blocks(&self, path: &str) -> Vec<Vec<Extent>> {
        let number = if path.is_empty() { own::ROOT } else { self.number(path) };
        let map = Mapping::of(&self.runs(number, kind::INDEX_ALLOCATION, "$I30"), self.geometry.cluster());
        let at = self.attribute(number, kind::INDEX_ALLOCATION, "$I30");
        let size = self.record(number).le64(at + 48);
        let block = self.geometry.index() as u64;
        let pieces = |number| map.places(number * block, block).into_iter().map(|(_, extent)| extent);
        (0..size / block).map(|number| pieces(number).collect()).collect()
    }
    /// The bytes of a block, fixups off.
    pub fn block(&self, pieces: &[Extent]) -> Vec<u8> {
        let all = pieces.iter().map(|piece| self.read(piece.offset, index(piece.length)));
        let mut bytes = all.collect::<Vec<_>>().concat();
        unfix(&mut bytes);
        bytes
    }
    /// Where a byte of a block stands.
    ///
    /// # Panics
    /// When the block has none.
    pub fn in_block(&self, path: &str, number: usize, at: usize) -> u64 {
        let mut left = at as u64;
        for piece in &self.blocks(path)[number] {
            if left < piece.length {
                return piece.offset + left;
            }
            left -= piece.length;
        }
        panic!("a block is not that long")
    }
    /// Changes a block as a program does that knows of fixups.
    ///
    /// # Panics
    /// When nothing is changed.
    pub fn edit_block(&mut self, path: &str, number: usize, change: impl FnOnce(&mut Vec<u8>)) {
        let pieces = self.blocks(path)[number].clone();
        let before = self.block(&pieces);
        let mut bytes = before.clone();
        change(&mut bytes);
        let first = (0..bytes.len()).find(|at| before[*at] != bytes[*at]).expect("something is changed");
        fix(&mut bytes);
        let mut done = 0;
        for piece in &pieces {
            let (at, length) = (index(piece.offset), index(piece.length));
            self.bytes[at..at + length].copy_from_slice(&bytes[done..done + length]);
            done += length;
        }
        let place = self.in_block(path, number, first);
        self.damaged.push(Extent::new(place, 16));
    }
    /// Writes over every second block of the index of a folder, of the root folder where `path` is empty.
    pub fn lose_half_of(&mut self, path: &str, with: &[u8]) {
        for number in (0..self.blocks(path).len()).step_by(2) {
            self.fill_block(path, number, with);
        }
    }
    /// Writes over a whole block.
    pub fn fill_block(&mut self, path: &str, number: usize, with: &[u8]) {
        for piece in self.blocks(path)[number].clone() {
            let bytes: Vec<u8> = with.iter().copied().cycle().take(index(piece.length)).collect();
            self.write(piece.offset, &bytes);
        }
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
