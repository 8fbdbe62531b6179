//! Whole media as they come over the counter: volumes behind partition tables or bare, filled, and then
//! damaged where it happens.
//!
//! [`Card`] is a medium with the truth about its files.

pub(crate) mod build;

pub use build::{Fill, Listing, Shape, gpt_of};

use crate::patient::{Made, index};
use punchdog_core::{exfat, family::Kind, fat, ntfs};

/// Where clusters of a volume lie.
#[derive(Debug, Clone, Copy)]
pub enum Layout {
    /// FAT12, FAT16, FAT32.
    Fat(fat::geometry::Geometry),
    /// exFAT.
    Exfat(exfat::geometry::Geometry),
    /// NTFS.
    Ntfs(ntfs::geometry::Geometry),
}

impl Layout {
    /// Where a cluster begins: bytes from the start of the volume.
    pub fn cluster(&self, cluster: u32) -> u64 {
        match self {
            Self::Fat(geometry) => geometry.cluster_offset(cluster),
            Self::Exfat(geometry) => geometry.cluster_place(cluster),
            Self::Ntfs(geometry) => geometry.place(cluster.into()),
        }
    }
    /// Bytes in a cluster.
    pub fn cluster_bytes(&self) -> u64 {
        match self {
            Self::Fat(geometry) => geometry.cluster_bytes().into(),
            Self::Exfat(geometry) => geometry.cluster_bytes(),
            Self::Ntfs(geometry) => geometry.cluster(),
        }
    }
    /// Where copy `copy` of the table begins, or the records and their copies: bytes from the start of the volume.
    pub fn table(&self, copy: u32) -> u64 {
        match self {
            Self::Fat(geometry) => geometry.table_offset(copy),
            Self::Exfat(geometry) => geometry.table_place(copy),
            Self::Ntfs(geometry) => geometry.place(if copy == 0 { geometry.mft } else { geometry.mirror }),
        }
    }
    /// Bytes in one table.
    pub fn table_bytes(&self) -> u64 {
        match self {
            Self::Fat(geometry) => geometry.table_bytes(),
            Self::Exfat(geometry) => geometry.table_place(1) - geometry.table_place(0),
            Self::Ntfs(geometry) => 4 * geometry.record() as u64,
        }
    }
    /// Where cluster 2 begins: bytes from the start of the volume.
    pub fn data(&self) -> u64 {
        self.cluster(2)
    }
}

/// A volume on a medium, as it was made.
#[derive(Debug, Clone)]
pub struct Volume {
    /// Its file system.
    pub kind: Kind,
    /// Where it begins on the medium, in bytes.
    pub start: u64,
    /// Bytes long.
    pub bytes: u64,
    /// Where everything lies in it.
    pub layout: Layout,
    /// Its files and folders.
    pub made: Vec<Made>,
}

impl Volume {
    /// A file or folder by its path.
    ///
    /// # Panics
    /// When there is none.
    pub fn find(&self, path: &str) -> &Made {
        self.made.iter().find(|made| made.path == path).unwrap_or_else(|| panic!("{path} was never made"))
    }
    /// The bytes of the medium that hold a file's content, piece by piece.
    pub fn content(&self, made: &Made) -> Vec<(u64, u64)> {
        let mut left = made.size;
        let size = self.layout.cluster_bytes();
        let pieces = made.clusters.iter().map(|cluster| {
            let length = left.min(size);
            left -= length;
            (self.start + self.layout.cluster(*cluster), length)
        });
        pieces.filter(|(_, length)| *length > 0).collect()
    }
    /// Files with content, not deleted.
    pub fn files(&self) -> impl Iterator<Item = &Made> {
        self.made.iter().filter(|made| !made.deleted && !made.folder && made.size > 0)
    }
}

/// A medium: what it was, and what came in.
#[derive(Clone)]
pub struct Card {
    /// As it was.
    pub sound: Vec<u8>,
    /// As it came in.
    pub bytes: Vec<u8>,
    /// The volumes on it.
    pub volumes: Vec<Volume>,
    /// Bytes that were put in front of the image (positive) or are missing there (negative).
    pub shift: i64,
}

impl Card {
    /// Overwrites bytes of the medium.
    pub fn write(&mut self, offset: u64, bytes: &[u8]) {
        let at = index(offset);
        self.bytes[at..at + bytes.len()].copy_from_slice(bytes);
    }
    /// Fills `from..to` of volume `number` with zeros; bytes from its start.
    pub fn zero(&mut self, number: usize, from: u64, to: u64) {
        let start = self.volumes[number].start;
        self.bytes[index(start + from)..index(start + to)].fill(0);
    }
    /// Repeats `filler` over `from..to` of volume `number`; bytes from its start.
    pub fn filler(&mut self, number: usize, from: u64, to: u64, filler: &[u8]) {
        let start = self.volumes[number].start;
        let range = index(start + from)..index(start + to);
        for (byte, with) in self.bytes[range].iter_mut().zip(filler.iter().cycle()) {
            *byte = *with;
        }
    }
    /// Cuts the image off at `length` bytes.
    pub fn cut(&mut self, length: u64) {
        self.bytes.truncate(index(length));
    }
    /// Puts `count` bytes in front of everything, or takes as many away.
    pub fn shift(&mut self, count: i64) {
        if count >= 0 {
            let more = vec![0; index(count.unsigned_abs())];
            self.bytes.splice(0..0, more);
        } else {
            self.bytes.drain(..index(count.unsigned_abs()));
        }
        self.shift += count;
    }
    /// Where a byte of the medium stands in the image; `None` where the image does not hold it.
    pub fn place(&self, offset: u64) -> Option<u64> {
        let place = offset.checked_add_signed(self.shift)?;
        (place < self.bytes.len() as u64).then_some(place)
    }
    /// The files of a volume whose content stands untouched in the image.
    pub fn untouched<'c>(&'c self, volume: &'c Volume) -> impl Iterator<Item = &'c Made> {
        volume.files().filter(|made| {
            volume.content(made).iter().all(|(offset, length)| {
                let (from, length) = (index(*offset), index(*length));
                let Some(place) = self.place(*offset) else { return false };
                self.bytes.get(index(place)..index(place) + length) == Some(&self.sound[from..from + length])
            })
        })
    }
}
