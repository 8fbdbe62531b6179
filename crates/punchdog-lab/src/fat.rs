//! Filling a fresh FAT volume with folders and files.
//!
//! The filler keeps the table and all folders in memory and writes them at the end; contents go to
//! the canvas at once. It knows where everything lies, so that faults can be put precisely and
//! outcomes be held against the truth.

use crate::{canvas::Canvas, patient::Made, seed::Seed};
use punchdog_core::{
    family::Kind,
    fat::{
        fresh::{self, Wish},
        geometry::Geometry,
        layout::{ATTR_ARCHIVE, ATTR_DIRECTORY, FREE_ENTRY, FsInfo, ShortEntry},
        names,
        table::{encode, end_mark, entry_place},
    },
};
use sha2::{Digest, Sha256};
use std::{collections::HashSet, io};
use zerocopy::{FromZeros, IntoBytes};

/// How the clusters of a file lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Placing {
    /// In a row, behind everything else.
    Row,
    /// In pieces of this many clusters, with as many free ones between.
    Pieces(u32),
    /// In whatever is free, from the beginning of the volume.
    Gaps,
}

#[derive(Clone)]
struct Folder {
    path: String,
    chain: Vec<u32>,
    entries: Vec<u8>,
    taken: HashSet<names::Short>,
}

/// A volume being filled.
#[derive(Clone)]
pub struct Filler<C> {
    canvas: C,
    /// Where everything lies.
    pub geometry: Geometry,
    table: Vec<u32>,
    next: u32,
    folders: Vec<Folder>,
    made: Vec<Made>,
    minutes: u32,
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
        let mut root = Folder {
            path: String::new(),
            chain: if geometry.wide() { vec![geometry.root_cluster] } else { Vec::new() },
            entries: Vec::new(),
            taken: HashSet::new(),
        };
        let root_at = if geometry.wide() { geometry.cluster_offset(2) } else { geometry.root_offset() };
        for (place, bytes) in pieces {
            if place.offset == root_at {
                root.entries.clone_from(&bytes);
            }
            canvas.put(place.offset, &bytes)?;
        }
        let mut table = vec![0; geometry.last_cluster() as usize + 1];
        if geometry.wide() {
            table[geometry.root_cluster as usize] = end_mark(geometry.kind);
        }
        let next = if geometry.wide() { 3 } else { 2 };
        Ok(Self { canvas, geometry, table, next, folders: vec![root], made: Vec::new(), minutes: 0 })
    }

    fn take(&mut self, count: u32, lie: Placing) -> io::Result<Vec<u32>> {
        let mut clusters = Vec::new();
        let mut at = if lie == Placing::Gaps { 2 } else { self.next };
        while clusters.len() < count as usize {
            if at > self.geometry.last_cluster() {
                return Err(io::Error::other("the made-up volume is full"));
            }
            if self.table[at as usize] == 0 {
                clusters.push(at);
                if let Placing::Pieces(piece) = lie
                    && clusters.len() % piece as usize == 0
                {
                    at += piece;
                }
            }
            at += 1;
        }
        for pair in clusters.windows(2) {
            self.table[pair[0] as usize] = pair[1];
        }
        if let Some(last) = clusters.last() {
            self.table[*last as usize] = end_mark(self.geometry.kind);
            self.next = self.next.max(last + 1);
        }
        Ok(clusters)
    }

    /// Clusters that are free.
    ///
    /// # Panics
    /// Never: the lab's volumes are small.
    pub fn free(&self) -> u32 {
        let free = self.table.iter().skip(2).filter(|value| **value == 0).count();
        u32::try_from(free).expect("a small volume")
    }

    fn folder_of(&self, path: &str) -> usize {
        let above = path.rsplit_once('/').map_or("", |(above, _)| above);
        self.folders
            .iter()
            .rposition(|folder| folder.path == above)
            .expect("the folder above was made before")
    }

    /// Makes a folder; the one above it must be there.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn folder(&mut self, path: &str) -> io::Result<()> {
        let clusters = self.take(1, Placing::Row)?;
        let above = self.folder_of(path);
        let parent = if above == 0 { 0 } else { self.folders[above].chain[0] };
        let mut entries = Vec::new();
        for (name, first) in [(names::DOT, clusters[0]), (names::DOT_DOT, parent)] {
            entries.extend(self.entry(name, ATTR_DIRECTORY, first, 0).as_bytes());
        }
        self.list(path, above, ATTR_DIRECTORY, 0, String::new(), clusters.clone())?;
        self.folders.push(Folder { path: path.to_owned(), chain: clusters, entries, taken: HashSet::new() });
        Ok(())
    }

    /// Makes a file with this content.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        let clusters = self.take(self.geometry.clusters_for(content.len() as u64), lie)?;
        let each = self.geometry.cluster_bytes() as usize;
        for (cluster, piece) in clusters.iter().zip(content.chunks(each)) {
            self.canvas.put(self.geometry.cluster_offset(*cluster), piece)?;
        }
        let hash = hex::encode(Sha256::digest(content));
        let above = self.folder_of(path);
        let size = u32::try_from(content.len()).map_err(io::Error::other)?;
        self.list(path, above, ATTR_ARCHIVE, size, hash, clusters)
    }

    /// Makes a file of `size` bytes of which only `head` is written: for volumes with holes.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn hollow_file(&mut self, path: &str, size: u32, head: &[u8]) -> io::Result<()> {
        let clusters = self.take(self.geometry.clusters_for(u64::from(size)), Placing::Row)?;
        if let Some(first) = clusters.first() {
            self.canvas.put(self.geometry.cluster_offset(*first), head)?;
        }
        let above = self.folder_of(path);
        self.list(path, above, ATTR_ARCHIVE, size, String::new(), clusters)
    }

    /// Deletes a file as a host does: its entries are marked free, its clusters given back.
    ///
    /// # Panics
    /// When there is no such file.
    pub fn delete(&mut self, path: &str) {
        let made = self.made.iter_mut().find(|made| made.path == path).expect("the file was made before");
        made.deleted = true;
        for cluster in &made.clusters {
            self.table[*cluster as usize] = 0;
        }
        for index in made.index + 1 - made.entries as usize..=made.index {
            self.folders[made.in_folder].entries[index * 32] = FREE_ENTRY;
        }
    }

    fn entry(&self, name: names::Short, attributes: u8, first: u32, size: u32) -> ShortEntry {
        let mut entry = ShortEntry::new_zeroed();
        entry.name = name;
        entry.attributes = attributes;
        entry.size = size.into();
        entry.set_first_cluster(first);
        // From 2026-04-01 on, a file every twenty minutes.
        let day = 1 + self.minutes / 1440 % 28;
        let date =
            u16::try_from((2026 - 1980) << 9 | (4 + self.minutes / 40320 % 6) << 5 | day).expect("a date");
        let time = u16::try_from((self.minutes / 60 % 24) << 11 | (self.minutes % 60) << 5).expect("a time");
        entry.written_date = date.into();
        entry.created_date = date.into();
        entry.accessed_date = date.into();
        entry.written_time = time.into();
        entry.created_time = time.into();
        entry
    }

    fn list(
        &mut self,
        path: &str,
        above: usize,
        attributes: u8,
        size: u32,
        sha256: String,
        clusters: Vec<u32>,
    ) -> io::Result<()> {
        let name = path.rsplit('/').next().unwrap_or(path);
        let taken = &self.folders[above].taken;
        let short = names::short_for(name, &|candidate| taken.contains(candidate));
        let parts = if names::needs_long(name, &short) {
            names::long_parts(name, names::checksum(&short))
        } else {
            Vec::new()
        };
        self.minutes += 20;
        let entry = self.entry(short, attributes, clusters.first().copied().unwrap_or(0), size);
        let folder = &mut self.folders[above];
        folder.taken.insert(short);
        for part in &parts {
            folder.entries.extend(part.as_bytes());
        }
        let index = folder.entries.len() / 32;
        folder.entries.extend(entry.as_bytes());
        self.made.push(Made {
            path: path.to_owned(),
            folder: attributes & ATTR_DIRECTORY != 0,
            size: u64::from(size),
            sha256,
            clusters,
            entry: 0,
            entries: 1 + u32::try_from(parts.len()).expect("at most 20 parts"),
            deleted: false,
            in_folder: above,
            index,
        });
        self.grow(above)
    }

    /// Gives a folder another cluster as soon as its entries need one, as hosts do.
    fn grow(&mut self, number: usize) -> io::Result<()> {
        let each = self.geometry.cluster_bytes() as usize;
        let fixed = self.folders[number].chain.is_empty();
        if fixed && self.folders[number].entries.len() as u64 > self.geometry.root_bytes() {
            return Err(io::Error::other("the made-up root folder is full"));
        }
        while !self.folders[number].chain.is_empty()
            && self.folders[number].entries.len() > self.folders[number].chain.len() * each
        {
            let more = self.take(1, Placing::Row)?;
            let last = *self.folders[number].chain.last().expect("a chain has a first cluster");
            self.table[last as usize] = more[0];
            self.folders[number].chain.extend(more);
        }
        Ok(())
    }

    /// Writes folders, tables and counts, and gives the volume back.
    ///
    /// # Errors
    /// When the canvas fails.
    pub fn finish(mut self) -> io::Result<Filled<C>> {
        let geometry = self.geometry;
        let each = geometry.cluster_bytes() as usize;
        for folder in &self.folders {
            if folder.chain.is_empty() {
                self.canvas.put(geometry.root_offset(), &folder.entries)?;
            }
            for (cluster, piece) in folder.chain.iter().zip(folder.entries.chunks(each)) {
                self.canvas.put(geometry.cluster_offset(*cluster), piece)?;
            }
        }
        let mut bytes = vec![0_u8; usize::try_from(geometry.table_bytes()).map_err(io::Error::other)? + 4];
        let media = end_mark(geometry.kind) & !0xFF | 0xF8;
        self.table[0] = media;
        self.table[1] = end_mark(geometry.kind);
        for (cluster, value) in self.table.iter().enumerate() {
            let cluster = u32::try_from(cluster).map_err(io::Error::other)?;
            let at = usize::try_from(entry_place(geometry.kind, cluster).0).map_err(io::Error::other)?;
            encode(geometry.kind, cluster, *value, &mut bytes[at..]);
        }
        bytes.truncate(bytes.len() - 4);
        for copy in 0..geometry.tables {
            self.canvas.put(geometry.table_offset(copy), &bytes)?;
        }
        if geometry.wide() {
            let free = self.table.iter().skip(2).filter(|value| **value == 0).count();
            let info = FsInfo::with_counts(u32::try_from(free).map_err(io::Error::other)?, self.next);
            for sector in [1, 7] {
                self.canvas.put(sector * u64::from(geometry.sector_bytes), info.as_bytes())?;
            }
        }
        for index in 0..self.made.len() {
            let (folder, entry) = (&self.folders[self.made[index].in_folder], self.made[index].index * 32);
            self.made[index].entry = if folder.chain.is_empty() {
                geometry.root_offset() + entry as u64
            } else {
                geometry.cluster_offset(folder.chain[entry / each]) + (entry % each) as u64
            };
            if self.made[index].folder {
                let path = self.made[index].path.clone();
                if let Some(folder) = self.folders.iter().find(|folder| folder.path == path) {
                    self.made[index].clusters.clone_from(&folder.chain);
                }
            }
        }
        Ok(Filled { canvas: self.canvas, geometry, made: self.made })
    }
}

/// A volume of this kind with everyday contents: a dozen folders, long and foreign names,
/// fragmented, empty and deleted files, a folder of many entries.
///
/// # Panics
/// When the sizes of `wish` leave no room for it (about 400 KiB).
pub fn everyday(wish: &Wish, seed: u64) -> Filled<Vec<u8>> {
    let size = usize::try_from(wish.bytes).expect("a small volume");
    fill_everyday(Filler::new(wish, vec![0; size]).expect("the wish can be met"), &mut Seed::new(seed))
        .expect("there is room for everything")
}

fn fill_everyday(mut filler: Filler<Vec<u8>>, seed: &mut Seed) -> io::Result<Filled<Vec<u8>>> {
    use crate::content::{counts, log, note, picture, sound, tides};
    let cluster = filler.geometry.cluster_bytes() as usize;
    // Contents of several clusters whatever their size is: three to nine of them.
    let sized = |mut bytes: Vec<u8>, clusters: usize| {
        let want = cluster * clusters - cluster / 3;
        while bytes.len() < want {
            let more = bytes.clone();
            bytes.extend(more);
        }
        bytes.truncate(want);
        bytes
    };
    filler.file("README.TXT", &note(seed, 6), Placing::Row)?;
    filler.folder("Logs")?;
    filler.folder("Logs/2026")?;
    filler.folder("Pictures")?;
    filler.folder("Möwen und Lummen")?;
    filler.file("Logs/station.log", &sized(log(seed, 300), 5), Placing::Row)?;
    filler.file("Logs/2026/tides of the first week.csv", &sized(tides(seed, 300), 4), Placing::Pieces(1))?;
    filler.file(
        "Logs/2026/counts on the western ledges, second visit.csv",
        &counts(seed, 60),
        Placing::Gaps,
    )?;
    filler.file("Logs/2026/EMPTY.CSV", b"", Placing::Row)?;
    filler.file("Pictures/Nest 12.png", &picture(seed, 32, 24), Placing::Row)?;
    filler.file("Pictures/IMG_0002.PNG", &sized(picture(seed, 24, 24), 3), Placing::Row)?;
    filler.file("Pictures/old.png", &picture(seed, 20, 20), Placing::Row)?;
    filler.file("Pictures/IMG_0004.PNG", &sized(picture(seed, 24, 24), 6), Placing::Row)?;
    filler.delete("Pictures/old.png");
    filler.file(
        "Möwen und Lummen/Ruf der Trottellumme.wav",
        &sized(sound(seed, 900), 7),
        Placing::Pieces(2),
    )?;
    filler.file("Möwen und Lummen/文字.txt", &note(seed, 3), Placing::Gaps)?;
    filler.folder("Pictures/Thumbs")?;
    for number in 0..24 {
        let path = format!("Pictures/Thumbs/thumbnail number {number:03}.png");
        filler.file(&path, &picture(seed, 8, 6), Placing::Row)?;
    }
    filler.file("ledges.csv", &sized(counts(seed, 200), 3), Placing::Row)?;
    filler.finish()
}

/// The names and sizes of small volumes that the tests try everything on.
pub fn small(kind: Kind, sector_bytes: u32, cluster_bytes: u32) -> Wish {
    let clusters: u64 = match kind {
        Kind::Fat12 => 600,
        Kind::Fat16 => 4400,
        // Large clusters make large volumes: fewer of them then.
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => {
            if cluster_bytes >= 4096 {
                300
            } else {
                1500
            }
        }
    };
    Wish {
        kind,
        bytes: u64::from(cluster_bytes) * clusters + 200 * u64::from(sector_bytes),
        sector_bytes,
        cluster_bytes,
        tables: 2,
        label: *b"SKERRY     ",
        serial: 0x5EAB_1BD5,
    }
}
