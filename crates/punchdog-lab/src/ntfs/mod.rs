//! NTFS volumes with made-up contents: files in their records and outside them, in pieces, with holes, packed, with
//! several names, with streams, spread over several records; folders with indexes of one node and of many.

mod contents;
mod everyday;
mod pages;

pub use everyday::{everyday, small};
pub use pages::{log_in_use, log_page};

use crate::{canvas::Canvas, fat::Placing, patient::Made};
use punchdog_core::ntfs::{
    build::{BY_NAME, FileName, Index, Outside, Record, Room, Times, index, outside, resident, standard},
    fresh::{self, Facts, Wish, by_name, set_bit},
    geometry::Geometry,
    layout::{
        DUP_FOLDER, NAME_BOTH, NAME_LONG, NAME_POSIX, NAME_SHORT, RECORD_FOLDER, kind, own, reference, unfix,
    },
    names::Capitals,
    record::attributes,
    runs::Run,
};
use std::io;

#[derive(Clone)]
struct Folder {
    path: String,
    number: u32,
    sequence: u16,
    /// References with their `$FILE_NAME`.
    names: Vec<(u64, Vec<u8>)>,
    /// The record without its index.
    record: Record,
    /// Blocks of the index lie in single clusters.
    scattered: bool,
    deleted: bool,
}

/// A volume being filled.
#[derive(Clone)]
pub struct Filler<C> {
    canvas: C,
    facts: Facts,
    /// Where everything lies.
    pub geometry: Geometry,
    used: Vec<u8>,
    next: u64,
    records: u32,
    folders: Vec<Folder>,
    made: Vec<Made>,
    minutes: u64,
    /// Bits of the records.
    in_use: Vec<u8>,
    root_blocks: Vec<Run>,
}

/// What a filled volume is.
pub type Filled<C> = crate::patient::Filled<C, Geometry>;

/// The first record for files: those before it are the file system's own.
const FIRST: u32 = 27;
/// 2026-04-01, in 100 ns since 1601.
pub const SPRING: u64 = 134_194_968_000_000_000;

fn other(what: impl std::fmt::Display) -> io::Error {
    io::Error::other(format!("{what}"))
}

impl<C: Canvas> Filler<C> {
    /// Lays down an empty volume on `canvas`.
    ///
    /// # Errors
    /// When the wish cannot be met, or the canvas fails.
    ///
    /// # Panics
    /// Never: what is laid down has a root folder.
    pub fn new(wish: &Wish, mut canvas: C) -> io::Result<Self> {
        let (facts, pieces) = fresh::lay_down(wish).map_err(other)?;
        let geometry = facts.geometry;
        let place = |runs: &[Run]| geometry.place(runs[0].first.unwrap_or(0));
        let (mut used, mut records, mut in_use) = (Vec::new(), Vec::new(), Vec::new());
        for (extent, bytes) in pieces {
            if extent.offset == place(&facts.bitmap.0) {
                used.clone_from(&bytes);
            } else if extent.offset == place(&facts.mft.0) {
                records.clone_from(&bytes);
            } else if extent.offset == place(&facts.mft_bitmap.0) {
                in_use.clone_from(&bytes);
            }
            canvas.put(extent.offset, &bytes)?;
        }
        in_use.resize(usize::try_from(facts.mft_bitmap.1).map_err(other)?, 0);
        // The root folder's names, and its record without its index.
        let size = geometry.record();
        let mut root = Folder {
            path: String::new(),
            number: own::ROOT,
            sequence: 5,
            names: Vec::new(),
            record: Record::new(own::ROOT, 5, RECORD_FOLDER),
            scattered: false,
            deleted: false,
        };
        let mut root_blocks = Vec::new();
        for (number, bytes) in (0_u32..12).zip(records.chunks(size)) {
            let mut record = bytes.to_vec();
            unfix(&mut record);
            let (list, _) = attributes(&record);
            let sequence = u16::from_le_bytes([record[16], record[17]]);
            for attribute in list {
                if attribute.kind() == kind::NAME {
                    root.names.push((reference(number, sequence), attribute.value().to_vec()));
                }
                if number == own::ROOT && attribute.kind() < kind::INDEX_ROOT {
                    root.record.attributes.push(attribute.bytes.to_vec());
                }
                if number == own::ROOT && attribute.kind() == kind::INDEX_ALLOCATION {
                    let clusters = geometry.clusters();
                    root_blocks =
                        punchdog_core::ntfs::runs::decode(attribute.runs(), attribute.clusters(), clusters).0;
                }
            }
        }
        let next = root_blocks.last().map_or(0, Run::end);
        Ok(Self {
            canvas,
            facts,
            geometry,
            used,
            next,
            records: FIRST,
            folders: vec![root],
            made: Vec::new(),
            minutes: 0,
            in_use,
            root_blocks,
        })
    }

    fn is_used(&self, cluster: u64) -> bool {
        self.used[usize::try_from(cluster / 8).expect("a small volume")] >> (cluster % 8) & 1 == 1
    }

    /// Takes clusters.
    fn take(&mut self, count: u64, lie: Placing) -> io::Result<Vec<Run>> {
        let mut clusters: Vec<u64> = Vec::new();
        let mut at = if lie == Placing::Gaps { 0 } else { self.next };
        while (clusters.len() as u64) < count {
            if at >= self.geometry.clusters() {
                return Err(other("the made-up volume is full"));
            }
            if !self.is_used(at) {
                clusters.push(at);
                if let Placing::Pieces(piece) = lie
                    && clusters.len().is_multiple_of(piece as usize)
                {
                    at += u64::from(piece);
                }
            }
            at += 1;
        }
        let mut runs: Vec<Run> = Vec::new();
        for cluster in &clusters {
            set_bit(&mut self.used, *cluster);
            match runs.last_mut() {
                Some(run) if run.end() == *cluster => run.length += 1,
                _ => runs.push(Run::new(*cluster, 1)),
            }
        }
        if let Some(last) = clusters.last() {
            self.next = self.next.max(last + 1);
        }
        Ok(runs)
    }

    fn free_runs(&mut self, runs: &[Run]) {
        for run in runs {
            for cluster in run.first.unwrap_or(0)..run.end() {
                self.used[usize::try_from(cluster / 8).expect("a small volume")] &= !(1 << (cluster % 8));
            }
        }
    }

    /// Clusters that are free.
    ///
    /// # Panics
    /// Never: the lab's volumes are small.
    pub fn free(&self) -> u32 {
        let clusters = 0..self.geometry.clusters();
        u32::try_from(clusters.filter(|cluster| !self.is_used(*cluster)).count()).expect("a small volume")
    }

    fn number(&mut self) -> io::Result<u32> {
        let number = self.records;
        if u64::from(number + 1) * self.geometry.record() as u64 > self.facts.mft.1 {
            return Err(other("there are no more records"));
        }
        self.records += 1;
        set_bit(&mut self.in_use, u64::from(number));
        Ok(number)
    }

    fn folder_of(&self, path: &str) -> usize {
        let above = path.rsplit_once('/').map_or("", |(above, _)| above);
        self.folders
            .iter()
            .rposition(|folder| folder.path == above)
            .expect("the folder above was made before")
    }

    fn times(&mut self) -> Times {
        self.minutes += 20;
        Times::all(SPRING + self.minutes * 60 * 10_000_000)
    }

    /// Where a record stands.
    pub fn place(&self, number: u32) -> u64 {
        self.geometry.place(self.geometry.mft) + u64::from(number) * self.geometry.record() as u64
    }

    fn put_record(&mut self, record: &Record) -> io::Result<()> {
        let bytes = record.bytes(self.geometry.record()).ok_or_else(|| other("a record is too full"))?;
        let place = self.place(record.number);
        self.canvas.put(place, &bytes)
    }

    /// Names for a file in the folder of `path`: a long one with a short one beside it, where the name is long.
    fn name(
        &mut self,
        path: &str,
        number: u32,
        sizes: (u64, u64),
        folder: bool,
        times: Times,
    ) -> Vec<Vec<u8>> {
        let above = self.folder_of(path);
        let parent = reference(self.folders[above].number, self.folders[above].sequence);
        let name = path.rsplit('/').next().unwrap_or(path);
        let plain = name.is_ascii() && !name.contains(' ') && name.len() <= 12;
        let twin = !plain && number % 2 == 1;
        let attributes = if folder { DUP_FOLDER } else { 0x20 };
        let short =
            format!("F{number:05}~1.{}", name.rsplit_once('.').map_or("", |(_, extension)| extension));
        let short: String = short.trim_end_matches('.').chars().filter(char::is_ascii).take(12).collect();
        let make = |space: u8, name: &str| FileName { parent, times, sizes, attributes, space, name }.bytes();
        let keys = match (plain, twin) {
            (true, _) => vec![make(NAME_BOTH, name)],
            (false, true) => vec![make(NAME_LONG, name), make(NAME_SHORT, &short.to_uppercase())],
            (false, false) => vec![make(NAME_POSIX, name)],
        };
        for key in &keys {
            self.folders[above].names.push((reference(number, 1), key.clone()));
        }
        keys
    }

    /// Makes a folder; the one above it must be there. The blocks of its index lie together, or in pieces.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn folder(&mut self, path: &str, lie: Placing) -> io::Result<()> {
        let number = self.number()?;
        let times = self.times();
        let keys = self.name(path, number, (0, 0), true, times);
        let mut record = Record::new(number, 1, RECORD_FOLDER).with(resident(
            kind::STANDARD,
            "",
            &standard(times, 0, fresh::SECURITY[1]),
        ));
        for key in &keys {
            record = record.with(resident(kind::NAME, "", key));
        }
        self.folders.push(Folder {
            path: path.to_owned(),
            number,
            sequence: 1,
            names: Vec::new(),
            record,
            scattered: lie != Placing::Row,
            deleted: false,
        });
        self.note(path, number, true, 0, String::new(), &[]);
        Ok(())
    }

    fn note(&mut self, path: &str, number: u32, folder: bool, size: u64, sha256: String, runs: &[Run]) {
        let clusters = runs.iter().filter_map(|run| run.first.map(|first| (first, run.length)));
        let clusters = clusters.flat_map(|(first, length)| first..first + length);
        let clusters = clusters.map(|cluster| u32::try_from(cluster).expect("a small volume")).collect();
        let in_folder = self.folder_of(path);
        self.made.push(Made {
            path: path.to_owned(),
            folder,
            size,
            sha256,
            clusters,
            entry: self.place(number),
            entries: 1,
            deleted: false,
            in_folder,
            index: number as usize,
        });
    }

    /// A record with standard information and the names of a new file.
    fn begin(&mut self, path: &str, sizes: (u64, u64)) -> io::Result<Record> {
        let number = self.number()?;
        let times = self.times();
        let keys = self.name(path, number, sizes, false, times);
        let record = Record::new(number, 1, 0).with(resident(
            kind::STANDARD,
            "",
            &standard(times, 0x20, fresh::SECURITY[1]),
        ));
        Ok(keys.iter().fold(record, |record, key| record.with(resident(kind::NAME, "", key))))
    }

    fn put(&mut self, runs: &[Run], content: &[u8]) -> io::Result<()> {
        let cluster = usize::try_from(self.geometry.cluster()).map_err(other)?;
        let mut pieces = content.chunks(cluster);
        for run in runs {
            for at in 0..run.length {
                let Some(piece) = pieces.next() else { return Ok(()) };
                if let Some(first) = run.first {
                    self.canvas.put(self.geometry.place(first + at), piece)?;
                }
            }
        }
        Ok(())
    }

    /// Deletes a file as a host does: its names leave the index, its record and clusters are given back.
    ///
    /// # Errors
    /// When the canvas fails.
    ///
    /// # Panics
    /// When there is no such file.
    pub fn delete(&mut self, path: &str) -> io::Result<()> {
        let at = self.made.iter().position(|made| made.path == path).expect("the file was made before");
        self.made[at].deleted = true;
        let made = self.made[at].clone();
        let number = u32::try_from(made.index).map_err(other)?;
        for folder in &mut self.folders {
            folder.names.retain(|(of, _)| *of != reference(number, 1));
        }
        let runs: Vec<Run> = made.clusters.iter().map(|cluster| Run::new(u64::from(*cluster), 1)).collect();
        self.free_runs(&runs);
        self.in_use[made.index / 8] &= !(1 << (made.index % 8));
        for folder in self.folders.iter_mut().filter(|folder| folder.number == number) {
            folder.deleted = true;
        }
        self.give_back(number, made.folder)
    }

    /// In use is bit 0 of the flags; the sequence number goes on.
    fn give_back(&mut self, number: u32, folder: bool) -> io::Result<()> {
        let place = self.place(number);
        self.canvas.put(place + 22, &[if folder { 2 } else { 0 }, 0])?;
        self.canvas.put(place + 16, &2_u16.to_le_bytes())
    }

    /// Writes folders and bitmaps, and gives the volume back.
    ///
    /// # Errors
    /// When the canvas fails, or a folder has no room.
    ///
    /// # Panics
    /// Never: clusters are small numbers.
    pub fn finish(mut self) -> io::Result<Filled<C>> {
        let geometry = self.geometry;
        let (size, cluster) = (geometry.record(), geometry.cluster());
        for number in 0..self.folders.len() {
            let folder = &mut self.folders[number];
            let names = std::mem::take(&mut folder.names);
            let record = folder.record.clone();
            let (is_root, scattered) = (folder.number == own::ROOT, folder.scattered);
            let entries = by_name(names, Capitals::usual());
            let room = |root: usize| Room {
                block: geometry.index(),
                cluster: usize::try_from(cluster).expect("a cluster fits"),
                root,
            };
            // What an attribute of the root node leaves; blocks need two attributes more.
            let left = size - record.used(size) - 80;
            let small = index(entries.clone(), BY_NAME, room(usize::MAX));
            let fits = small.root.len() <= left && !is_root;
            let Index { root, blocks } =
                if fits { small } else { index(entries, BY_NAME, room(left.saturating_sub(200).min(400))) };
            let mut record = record.with(resident(kind::INDEX_ROOT, "$I30", &root));
            if !blocks.is_empty() {
                let bytes = (blocks.len() * geometry.index()) as u64;
                let mut runs = if is_root { std::mem::take(&mut self.root_blocks) } else { Vec::new() };
                let there: u64 = runs.iter().map(|run| run.length).sum();
                let more = bytes.div_ceil(cluster).saturating_sub(there);
                let lie = if scattered { Placing::Pieces(1) } else { Placing::Row };
                runs.extend(self.take(more, lie)?);
                self.put(&runs, &blocks.concat())?;
                let mut bits = vec![0; blocks.len().div_ceil(64) * 8];
                (0..blocks.len() as u64).for_each(|block| set_bit(&mut bits, block));
                record = record.with(outside(
                    kind::INDEX_ALLOCATION,
                    "$I30",
                    Outside::plain(&runs, bytes, cluster),
                ));
                record = if bits.len() > 200 {
                    let length = bits.len() as u64;
                    let runs = self.take(length.div_ceil(cluster), Placing::Row)?;
                    self.put(&runs, &bits)?;
                    record.with(outside(kind::BITMAP, "$I30", Outside::plain(&runs, length, cluster)))
                } else {
                    record.with(resident(kind::BITMAP, "$I30", &bits))
                };
            }
            self.put_record(&record)?;
            if self.folders[number].deleted {
                self.give_back(record.number, true)?;
            }
        }
        let place = |runs: &[Run]| geometry.place(runs[0].first.unwrap_or(0));
        self.canvas.put(place(&self.facts.bitmap.0), &self.used)?;
        self.canvas.put(place(&self.facts.mft_bitmap.0), &self.in_use)?;
        Ok(Filled { canvas: self.canvas, geometry, made: self.made })
    }
}
