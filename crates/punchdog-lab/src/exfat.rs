//! exFAT volumes with made-up contents.
//!
//! Files in a row carry the NoFatChain flag, files in pieces a chain of the table, as hosts do.

use crate::{canvas::Canvas, fat::Placing, patient::Made, seed::Seed};
use punchdog_core::exfat::{
    fresh::{self, Wish},
    geometry::Geometry,
    layout::{DIRECTORY, IN_USE, NO_CHAIN, POSSIBLE, Stream, entry_set},
    upcase::Upcase,
};
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, io};

#[derive(Clone)]
struct Folder {
    path: String,
    clusters: Vec<u32>,
    entries: Vec<u8>,
    row: bool,
}

/// A volume being filled.
#[derive(Clone)]
pub struct Filler<C> {
    canvas: C,
    /// Where everything lies.
    pub geometry: Geometry,
    table: BTreeMap<u32, u32>,
    bitmap: Vec<u8>,
    next: u32,
    folders: Vec<Folder>,
    made: Vec<Made>,
    minutes: u32,
    capitals: Upcase,
}

/// What a filled volume is.
pub type Filled<C> = crate::patient::Filled<C, Geometry>;

impl<C: Canvas> Filler<C> {
    /// Lays down an empty volume on `canvas`.
    ///
    /// # Errors
    /// When the wish cannot be met, or the canvas fails.
    pub fn new(wish: &Wish, mut canvas: C) -> io::Result<Self> {
        let (geometry, pieces) = fresh::lay_down(wish).map_err(io::Error::other)?;
        let mut entries = Vec::new();
        for (place, bytes) in pieces {
            if place.offset == geometry.cluster_place(geometry.root_cluster) {
                entries.clone_from(&bytes);
            }
            canvas.put(place.offset, &bytes)?;
        }
        let length = usize::try_from(geometry.bitmap_bytes()).map_err(io::Error::other)?;
        let root = Folder { path: String::new(), clusters: vec![geometry.root_cluster], entries, row: false };
        let mut filler = Self {
            canvas,
            geometry,
            table: BTreeMap::new(),
            bitmap: vec![0; length],
            next: geometry.root_cluster + 1,
            folders: vec![root],
            made: Vec::new(),
            minutes: 0,
            capitals: Upcase::default(),
        };
        for cluster in 2..=geometry.root_cluster {
            filler.set_bit(cluster, true);
        }
        filler.table.insert(geometry.root_cluster, u32::MAX);
        Ok(filler)
    }

    fn set_bit(&mut self, cluster: u32, used: bool) {
        let (byte, bit) = (cluster as usize / 8, cluster % 8);
        // Bit 0 is cluster 2.
        let (byte, bit) = if bit >= 2 { (byte, bit - 2) } else { (byte - 1, bit + 6) };
        if used {
            self.bitmap[byte] |= 1 << bit;
        } else {
            self.bitmap[byte] &= !(1 << bit);
        }
    }

    fn is_used(&self, cluster: u32) -> bool {
        let bit = cluster - 2;
        self.bitmap[bit as usize / 8] >> (bit % 8) & 1 == 1
    }

    /// Takes clusters; true when they lie in a row.
    fn take(&mut self, count: u32, lie: Placing) -> io::Result<(Vec<u32>, bool)> {
        let mut clusters = Vec::new();
        let mut at = if lie == Placing::Gaps { self.geometry.root_cluster + 1 } else { self.next };
        while clusters.len() < count as usize {
            if !self.geometry.has(at) {
                return Err(io::Error::other("the made-up volume is full"));
            }
            if !self.is_used(at) {
                clusters.push(at);
                if let Placing::Pieces(piece) = lie
                    && clusters.len() % piece as usize == 0
                {
                    at += piece;
                }
            }
            at += 1;
        }
        for cluster in &clusters {
            self.set_bit(*cluster, true);
        }
        if let Some(last) = clusters.last() {
            self.next = self.next.max(last + 1);
        }
        let row = clusters.windows(2).all(|pair| pair[0] + 1 == pair[1]);
        if !row {
            self.chain(&clusters);
        }
        Ok((clusters, row))
    }

    fn chain(&mut self, clusters: &[u32]) {
        for pair in clusters.windows(2) {
            self.table.insert(pair[0], pair[1]);
        }
        if let Some(last) = clusters.last() {
            self.table.insert(*last, u32::MAX);
        }
    }

    /// Clusters that are free.
    ///
    /// # Panics
    /// Never: the lab's volumes are small.
    pub fn free(&self) -> u32 {
        let clusters = 2..self.geometry.clusters + 2;
        u32::try_from(clusters.filter(|cluster| !self.is_used(*cluster)).count()).expect("a small volume")
    }

    fn folder_of(&self, path: &str) -> usize {
        let above = path.rsplit_once('/').map_or("", |(above, _)| above);
        self.folders
            .iter()
            .rposition(|folder| folder.path == above)
            .expect("the folder above was made before")
    }

    /// Makes a folder of so many clusters; the one above it must be there.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn folder(&mut self, path: &str, clusters: u32, lie: Placing) -> io::Result<()> {
        let (clusters, row) = self.take(clusters, lie)?;
        let length = clusters.len() as u64 * self.geometry.cluster_bytes();
        self.list(path, DIRECTORY, (length, length), String::new(), clusters.clone(), row)?;
        self.folders.push(Folder { path: path.to_owned(), clusters, entries: Vec::new(), row });
        Ok(())
    }

    /// Makes a file with this content.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.reserved(path, content, content.len() as u64, lie)
    }

    /// Makes a file of `size` bytes of which only `content` was written; the rest reads as zeros.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn reserved(&mut self, path: &str, content: &[u8], size: u64, lie: Placing) -> io::Result<()> {
        let count = u32::try_from(self.geometry.clusters_for(size)).map_err(io::Error::other)?;
        let (clusters, row) = self.take(count, lie)?;
        let each = usize::try_from(self.geometry.cluster_bytes()).map_err(io::Error::other)?;
        for (cluster, piece) in clusters.iter().zip(content.chunks(each)) {
            self.canvas.put(self.geometry.cluster_place(*cluster), piece)?;
        }
        let mut hash = Sha256::new();
        hash.update(content);
        let mut left = size - content.len() as u64;
        let zeros = vec![0_u8; 1 << 16];
        while left > 0 {
            let part = left.min(1 << 16);
            hash.update(&zeros[..usize::try_from(part).map_err(io::Error::other)?]);
            left -= part;
        }
        let valid = content.len() as u64;
        self.list(path, 0x20, (size, valid), hex::encode(hash.finalize()), clusters, row)
    }

    /// Makes a file of `size` bytes of which only `head` is written, not hashed: for volumes with holes.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn hollow_file(&mut self, path: &str, size: u64, head: &[u8]) -> io::Result<()> {
        let count = u32::try_from(self.geometry.clusters_for(size)).map_err(io::Error::other)?;
        let (clusters, row) = self.take(count, Placing::Row)?;
        if let Some(first) = clusters.first() {
            self.canvas.put(self.geometry.cluster_place(*first), head)?;
        }
        self.list(path, 0x20, (size, size), String::new(), clusters, row)
    }

    /// Deletes a file as a host does: its entries are marked unused, its clusters given back.
    ///
    /// # Panics
    /// When there is no such file.
    pub fn delete(&mut self, path: &str) {
        let number = self.made.iter().position(|made| made.path == path).expect("the file was made before");
        self.made[number].deleted = true;
        let made = self.made[number].clone();
        for cluster in &made.clusters {
            self.set_bit(*cluster, false);
        }
        for index in made.index..made.index + made.entries as usize {
            self.folders[made.in_folder].entries[index * 32] &= !IN_USE;
        }
    }

    /// Puts an entry of any type into a folder: vendor entries, entries of later revisions.
    ///
    /// # Panics
    /// When there is no such folder.
    pub fn foreign(&mut self, folder: &str, entry: [u8; 32]) {
        let number = self.folders.iter().position(|f| f.path == folder).expect("a folder of that path");
        self.folders[number].entries.extend(entry);
    }

    fn list(
        &mut self,
        path: &str,
        attributes: u16,
        (length, valid): (u64, u64),
        sha256: String,
        clusters: Vec<u32>,
        row: bool,
    ) -> io::Result<()> {
        let name: Vec<u16> = path.rsplit('/').next().unwrap_or(path).encode_utf16().collect();
        let above = self.folder_of(path);
        self.minutes += 20;
        // From 2026-04-01 on, a file every twenty minutes (section 7.4.8).
        let day = 1 + self.minutes / 1440 % 28;
        let date = (2026 - 1980) << 9 | (4 + self.minutes / 40320 % 6) << 5 | day;
        let stamp = date << 16 | (self.minutes / 60 % 24) << 11 | (self.minutes % 60) << 5;
        let mut times = [0_u8; 17];
        for at in [0, 4, 8] {
            times[at..at + 4].copy_from_slice(&stamp.to_le_bytes());
        }
        let flags = if clusters.is_empty() { POSSIBLE } else { POSSIBLE | if row { NO_CHAIN } else { 0 } };
        let first = clusters.first().copied().unwrap_or(0);
        let stream = Stream { flags, first, length, valid, ..Stream::default() };
        let set = entry_set(attributes, &times, stream, &name, &self.capitals.upper(&name));
        let folder = &mut self.folders[above];
        let index = folder.entries.len() / 32;
        let entries = u32::try_from(set.len() / 32).map_err(io::Error::other)?;
        folder.entries.extend(set);
        let folder_made = attributes & DIRECTORY != 0;
        self.made.push(Made {
            path: path.to_owned(),
            folder: folder_made,
            size: if folder_made { 0 } else { length },
            sha256,
            clusters,
            entry: 0,
            entries,
            deleted: false,
            in_folder: above,
            index,
        });
        self.grow(above)
    }

    /// The root grows by a cluster as soon as its entries need one; other folders are made as long
    /// as they shall be.
    fn grow(&mut self, number: usize) -> io::Result<()> {
        let room = self.folders[number].clusters.len() as u64 * self.geometry.cluster_bytes();
        if self.folders[number].entries.len() as u64 <= room {
            return Ok(());
        }
        if number != 0 {
            return Err(io::Error::other("the made-up folder is full"));
        }
        let (more, _) = self.take(1, Placing::Row)?;
        self.folders[0].clusters.extend(more);
        let clusters = self.folders[0].clusters.clone();
        self.chain(&clusters);
        Ok(())
    }

    /// Writes folders, table and bitmap, and gives the volume back.
    ///
    /// # Errors
    /// When the canvas fails.
    pub fn finish(mut self) -> io::Result<Filled<C>> {
        let geometry = self.geometry;
        let each = usize::try_from(geometry.cluster_bytes()).map_err(io::Error::other)?;
        for folder in &self.folders {
            for (cluster, piece) in folder.clusters.iter().zip(folder.entries.chunks(each)) {
                self.canvas.put(geometry.cluster_place(*cluster), piece)?;
            }
            debug_assert!(folder.row || folder.clusters.len() > 1 || folder.path.is_empty());
        }
        for copy in 0..geometry.tables {
            for (cluster, value) in &self.table {
                self.canvas
                    .put(geometry.table_place(copy) + u64::from(*cluster) * 4, &value.to_le_bytes())?;
            }
            let first = 2 + copy
                * u32::try_from(geometry.clusters_for(geometry.bitmap_bytes())).map_err(io::Error::other)?;
            self.canvas.put(geometry.cluster_place(first), &self.bitmap)?;
        }
        for made in &mut self.made {
            let entry = made.index * 32;
            let folder = &self.folders[made.in_folder];
            made.entry = geometry.cluster_place(folder.clusters[entry / each]) + (entry % each) as u64;
        }
        Ok(Filled { canvas: self.canvas, geometry, made: self.made })
    }
}

/// A volume with everyday contents: folders, long and foreign names, files in a row and in pieces,
/// empty, half-written and deleted ones, a folder of two clusters in pieces.
///
/// # Panics
/// When the sizes of `wish` leave no room for it.
pub fn everyday(wish: &Wish, seed: u64) -> Filled<Vec<u8>> {
    let size = usize::try_from(wish.bytes).expect("a small volume");
    fill_everyday(Filler::new(wish, vec![0; size]).expect("the wish can be met"), &mut Seed::new(seed))
        .expect("there is room for everything")
}

fn fill_everyday(mut filler: Filler<Vec<u8>>, seed: &mut Seed) -> io::Result<Filled<Vec<u8>>> {
    use crate::content::{counts, log, note, picture, sound, tides};
    let cluster = usize::try_from(filler.geometry.cluster_bytes()).map_err(io::Error::other)?;
    let sized = |mut bytes: Vec<u8>, clusters: usize| {
        let want = cluster * clusters - cluster / 3;
        while bytes.len() < want {
            let more = bytes.clone();
            bytes.extend(more);
        }
        bytes.truncate(want);
        bytes
    };
    // Entries that a folder of the smallest cluster has no room for need more of them.
    let room = |entries: usize| u32::try_from((entries * 32).div_ceil(cluster)).expect("a small folder");
    filler.file("README.TXT", &note(seed, 6), Placing::Row)?;
    filler.folder("Logs", room(8), Placing::Row)?;
    filler.folder("Logs/2026", room(18), Placing::Row)?;
    filler.folder("Recordings", room(40), Placing::Row)?;
    filler.folder("Möwen und Lummen", room(10), Placing::Row)?;
    filler.file("Logs/station.log", &sized(log(seed, 300), 5), Placing::Row)?;
    filler.file("Logs/2026/tides of the first week.csv", &sized(tides(seed, 300), 4), Placing::Pieces(1))?;
    filler.file(
        "Logs/2026/counts on the western ledges, second visit.csv",
        &counts(seed, 60),
        Placing::Gaps,
    )?;
    filler.file("Logs/2026/EMPTY.CSV", b"", Placing::Row)?;
    filler.file("Recordings/dawn 0001.wav", &sized(sound(seed, 900), 6), Placing::Row)?;
    filler.file("Recordings/old.wav", &sound(seed, 200), Placing::Row)?;
    filler.file("Recordings/dawn 0002.wav", &sized(sound(seed, 1200), 7), Placing::Pieces(2))?;
    filler.file("Recordings/dusk 0003.wav", &sized(sound(seed, 1200), 4), Placing::Pieces(3))?;
    filler.delete("Recordings/old.wav");
    let begun = sized(sound(seed, 500), 2);
    filler.reserved("Recordings/unfinished 0004.wav", &begun, begun.len() as u64 * 3, Placing::Row)?;
    filler.file("Möwen und Lummen/Ruf der Trottellumme.wav", &sized(sound(seed, 900), 3), Placing::Row)?;
    filler.file("Möwen und Lummen/文字.txt", &note(seed, 3), Placing::Gaps)?;
    filler.folder("Recordings/Thumbs", room(24 * 5).max(2), Placing::Pieces(1))?;
    for number in 0..24 {
        let path = format!("Recordings/Thumbs/spectrogram number {number:03}.png");
        filler.file(&path, &picture(seed, 8, 6), Placing::Row)?;
    }
    filler.file("ledges.csv", &sized(counts(seed, 200), 3), Placing::Row)?;
    filler.finish()
}

/// A small volume of these sizes.
pub fn small(sector_bytes: u32, cluster_bytes: u32, tables: u32) -> Wish {
    Wish {
        bytes: u64::from(cluster_bytes) * 420 + 400 * u64::from(sector_bytes),
        sector_bytes,
        cluster_bytes,
        tables,
        label: "SKERRY".to_owned(),
        serial: 0x5EAB_1BD5,
    }
}
