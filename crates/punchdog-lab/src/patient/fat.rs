//! FAT volumes in memory: how their tables and entries are damaged, and the files that each of the lab's has.

use super::{Patient as Any, index};
use punchdog_core::fat::{
    geometry::Geometry,
    table::{encode, end_mark, entry_place},
};

/// A FAT volume in memory that can be damaged.
pub type Patient = Any<Geometry>;

impl Patient {
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
}

/// A file of several clusters in a row.
pub const ROW: &str = "Logs/station.log";
/// A whole picture.
pub const PICTURE: &str = "Pictures/Nest 12.png";
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
