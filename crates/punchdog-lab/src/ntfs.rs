//! NTFS volumes with made-up contents: files in their records and outside them, in pieces, with holes, packed, with
//! several names, with streams, spread over several records; folders with indexes of one node and of many.

use crate::{canvas::Canvas, fat::Placing, patient::Made, seed::Seed};
use punchdog_core::ntfs::{
    build::{BY_NAME, FileName, Index, Outside, Record, Room, Times, index, outside, resident, standard},
    fresh::{self, Facts, Wish, by_name, set_bit},
    geometry::Geometry,
    layout::{
        COMPRESSED, DUP_FOLDER, NAME_BOTH, NAME_LONG, NAME_POSIX, NAME_SHORT, RECORD_FOLDER, SPARSE, kind,
        own, reference, unfix,
    },
    list,
    names::Capitals,
    record::attributes,
    runs::Run,
};
use sha2::{Digest, Sha256};
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

    /// Makes a file with this content: in its record where it is short.
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
        let cluster = self.geometry.cluster();
        let short = size <= self.geometry.record() as u64 / 2 && size == content.len() as u64;
        let runs = if short { Vec::new() } else { self.take(size.div_ceil(cluster), lie)? };
        let allocated = if short { size.div_ceil(8) * 8 } else { size.div_ceil(cluster) * cluster };
        let record = self.begin(path, (allocated, size))?;
        let record = if short {
            record.with(resident(kind::DATA, "", content))
        } else {
            self.put(&runs, content)?;
            let data = Outside { valid: content.len() as u64, ..Outside::plain(&runs, size, cluster) };
            record.with(outside(kind::DATA, "", data))
        };
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        Ok(())
    }

    /// Makes a file of `size` bytes of which only `head` is written, not hashed: for volumes with holes.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn hollow_file(&mut self, path: &str, size: u64, head: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let runs = self.take(size.div_ceil(cluster), Placing::Row)?;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        self.put(&runs, head)?;
        let record = record.with(outside(kind::DATA, "", Outside::plain(&runs, size, cluster)));
        self.put_record(&record)?;
        self.note(path, record.number, false, size, String::new(), &[]);
        Ok(())
    }

    /// Makes a file with a hole of so many clusters between its first cluster and the rest.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    ///
    /// # Panics
    /// When the content has no more than a cluster.
    pub fn sparse(&mut self, path: &str, content: &[u8], hole: u64) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        // Holes are whole units of sixteen clusters.
        let hole = hole.div_ceil(16) * 16;
        let first = self.take(16, Placing::Row)?;
        let head = usize::try_from(16 * cluster).map_err(other)?;
        assert!(content.len() > head, "more than the first unit");
        let rest = self.take(
            (content.len() - head).div_ceil(usize::try_from(cluster).map_err(other)?) as u64,
            Placing::Row,
        )?;
        self.put(&first, &content[..head])?;
        self.put(&rest, &content[head..])?;
        let mut runs = [first.as_slice(), &[Run { first: None, length: hole }], &rest].concat();
        // The last unit is whole too.
        let there: u64 = rest.iter().map(|run| run.length).sum();
        if !there.is_multiple_of(16) {
            runs.push(Run { first: None, length: 16 - there % 16 });
        }
        let size = content.len() as u64 + hole * cluster;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        let data = Outside { flags: SPARSE, unit: 4, ..Outside::plain(&runs, size, cluster) };
        let record = record.with(outside(kind::DATA, "", data));
        self.put_record(&record)?;
        let zeros = vec![0; usize::try_from(hole * cluster).map_err(other)?];
        let sum = hash(&[&content[..head], &zeros, &content[head..]].concat(), size);
        self.note(path, record.number, false, size, sum, &runs);
        Ok(())
    }

    /// Makes a packed file, unit by unit of sixteen clusters; what does not become shorter is kept as it is.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn packed(&mut self, path: &str, content: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let unit = usize::try_from(16 * cluster).map_err(other)?;
        let mut runs: Vec<Run> = Vec::new();
        for piece in content.chunks(unit) {
            let short = pack(piece);
            let need = (short.len() as u64).div_ceil(cluster);
            let whole = need >= 16;
            let bytes = if whole { piece.to_vec() } else { short };
            let count = if whole { (bytes.len() as u64).div_ceil(cluster) } else { need };
            let taken = self.take(count, Placing::Row)?;
            self.put(&taken, &bytes)?;
            runs.extend(taken);
            if count < 16 {
                runs.push(Run { first: None, length: 16 - count });
            }
        }
        let size = content.len() as u64;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        let data = Outside { flags: 1, unit: 4, ..Outside::plain(&runs, size, cluster) };
        debug_assert!(data.flags & COMPRESSED != 0);
        let record = record.with(outside(kind::DATA, "", data));
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        Ok(())
    }

    /// Makes a file whose content is told by two records, and a list that says so.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    ///
    /// # Panics
    /// When the content has fewer than two clusters.
    pub fn spread(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.spread_over(path, content, lie, 2, false)
    }

    /// The same over so many records, the list in a cluster of its own or not.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    ///
    /// # Panics
    /// When the content has fewer pieces than that.
    pub fn spread_over(
        &mut self,
        path: &str,
        content: &[u8],
        lie: Placing,
        records: usize,
        outside_list: bool,
    ) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let size = content.len() as u64;
        let allocated = size.div_ceil(cluster) * cluster;
        let runs = self.take(size.div_ceil(cluster), lie)?;
        self.put(&runs, content)?;
        assert!(runs.len() >= records, "a piece for each record at least");
        let each = runs.len() / records;
        let record = self.begin(path, (allocated, size))?;
        let base = reference(record.number, 1);
        let entry = |kind: u32, first_vcn: u64, reference: u64, id: usize| list::Entry {
            kind,
            name: &[],
            first_vcn,
            reference,
            id: u16::try_from(id).expect("few attributes"),
            at: 0,
        };
        let mut entries = Vec::new();
        for (id, attribute) in record.attributes.iter().enumerate() {
            let of = u32::from_le_bytes([attribute[0], attribute[1], attribute[2], attribute[3]]);
            // The list itself comes behind the standard information.
            entries.push(entry(of, 0, base, id + usize::from(of != kind::STANDARD)));
        }
        let (mut vcn, mut first) = (0, Vec::new());
        for number in 0..records {
            let end = if number + 1 == records { runs.len() } else { (number + 1) * each };
            let own = &runs[number * each..end];
            let data = Outside { first_vcn: vcn, ..Outside::plain(own, size, cluster) };
            let mut bytes = outside(kind::DATA, "", data);
            if number == 0 {
                // The first piece tells the sizes of all.
                bytes[40..48].copy_from_slice(&allocated.to_le_bytes());
                entries.push(entry(kind::DATA, 0, base, record.attributes.len() + 1));
                first = bytes;
            } else {
                bytes[40..64].fill(0);
                let extension = self.number()?;
                entries.push(entry(kind::DATA, vcn, reference(extension, 1), 0));
                self.put_record(&Record { base, ..Record::new(extension, 1, 0) }.with(bytes))?;
            }
            vcn += own.iter().map(|run| run.length).sum::<u64>();
        }
        let list = list::bytes(&entries);
        let listed = if outside_list {
            let runs = self.take((list.len() as u64).div_ceil(cluster), Placing::Row)?;
            self.put(&runs, &list)?;
            outside(kind::LIST, "", Outside::plain(&runs, list.len() as u64, cluster))
        } else {
            resident(kind::LIST, "", &list)
        };
        let record = record.with(listed).with(first);
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        Ok(())
    }

    /// Makes a file with a stream beside its content.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn with_stream(&mut self, path: &str, content: &[u8], stream: &str, beside: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let runs = self.take((content.len() as u64).div_ceil(cluster), Placing::Row)?;
        self.put(&runs, content)?;
        let size = content.len() as u64;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        let record = record
            .with(outside(kind::DATA, "", Outside::plain(&runs, size, cluster)))
            .with(resident(kind::DATA, stream, beside));
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        let sum = hash(beside, beside.len() as u64);
        self.note(&format!("{path}:{stream}"), record.number, false, beside.len() as u64, sum, &[]);
        Ok(())
    }

    /// Makes a file of `size` bytes whose content its host keeps elsewhere: a reparse point of this tag, zeros that stand
    /// nowhere, and where there is one a stream beside.
    ///
    /// # Errors
    /// When the canvas fails.
    pub fn elsewhere(
        &mut self,
        path: &str,
        size: u64,
        tag: u32,
        stream: Option<(&str, &[u8])>,
    ) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let hole = [Run { first: None, length: size.div_ceil(cluster * 16) * 16 }];
        let record = self.begin(path, (0, size))?;
        let data = Outside { flags: SPARSE, unit: 4, ..Outside::plain(&hole, size, cluster) };
        let mut reparse = vec![0; 16];
        reparse[..4].copy_from_slice(&tag.to_le_bytes());
        reparse[4] = 8;
        let mut record =
            record.with(outside(kind::DATA, "", data)).with(resident(kind::REPARSE, "", &reparse));
        if let Some((name, bytes)) = stream {
            record = record.with(resident(kind::DATA, name, bytes));
        }
        self.put_record(&record)?;
        self.note(path, record.number, false, size, String::new(), &[]);
        Ok(())
    }

    /// Makes a file of two names.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn linked(&mut self, path: &str, also: &str, content: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let runs = self.take((content.len() as u64).div_ceil(cluster), Placing::Row)?;
        self.put(&runs, content)?;
        let size = content.len() as u64;
        let sizes = (size.div_ceil(cluster) * cluster, size);
        let mut record = self.begin(path, sizes)?;
        let times = self.times();
        for key in self.name(also, record.number, sizes, false, times) {
            record = record.with(resident(kind::NAME, "", &key));
        }
        let record = record.with(outside(kind::DATA, "", Outside::plain(&runs, size, cluster)));
        self.put_record(&record)?;
        for path in [path, also] {
            self.note(path, record.number, false, size, hash(content, size), &runs);
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

/// A restart page of a log of 256 KiB that a host uses, with nothing to go on from.
pub fn log_in_use() -> Vec<u8> {
    log_page(&[])
}

/// The same with other bytes at some places.
pub fn log_page(others: &[(usize, &[u8])]) -> Vec<u8> {
    let mut page = vec![0; 4096];
    let mut put = |at: usize, value: &[u8]| page[at..at + value.len()].copy_from_slice(value);
    put(0, b"RSTR");
    put(4, &30_u16.to_le_bytes());
    put(6, &9_u16.to_le_bytes());
    put(16, &4096_u32.to_le_bytes());
    put(20, &4096_u32.to_le_bytes());
    // The restart area, and version 1.1.
    put(24, &48_u16.to_le_bytes());
    put(26, &1_u16.to_le_bytes());
    put(28, &1_u16.to_le_bytes());
    // One client, none free, the first in use; behind the area of 48 bytes.
    put(48 + 8, &1_u16.to_le_bytes());
    put(48 + 10, &0xFFFF_u16.to_le_bytes());
    put(48 + 16, &48_u32.to_le_bytes());
    put(48 + 20, &(48_u16 + 160).to_le_bytes());
    put(48 + 22, &48_u16.to_le_bytes());
    put(48 + 24, &(1_u64 << 18).to_le_bytes());
    put(48 + 36, &48_u16.to_le_bytes());
    put(48 + 38, &64_u16.to_le_bytes());
    // The client: no earlier and no later one, and its name.
    put(96 + 16, &[0xFF, 0xFF, 0xFF, 0xFF]);
    put(96 + 28, &8_u32.to_le_bytes());
    put(96 + 32, b"N\0T\0F\0S\0");
    for (at, bytes) in others {
        put(*at, bytes);
    }
    punchdog_core::ntfs::layout::fix(&mut page);
    page
}

fn hash(content: &[u8], size: u64) -> String {
    let mut hash = Sha256::new();
    hash.update(content);
    let mut left = size - content.len() as u64;
    while left > 0 {
        let part = left.min(1 << 16);
        hash.update(vec![0_u8; usize::try_from(part).expect("a short piece")]);
        left -= part;
    }
    hex::encode(hash.finalize())
}

/// Packs a unit: LZNT1 with whatever repeats at a short distance.
fn pack(unit: &[u8]) -> Vec<u8> {
    let mut all = Vec::new();
    for chunk in unit.chunks(4096) {
        let mut body: Vec<u8> = Vec::new();
        let mut at = 0_usize;
        while at < chunk.len() {
            let flags_at = body.len();
            body.push(0);
            for bit in 0..8 {
                if at >= chunk.len() {
                    break;
                }
                let mut long = 12_u32;
                let mut reach = 16_usize;
                while reach < at {
                    reach *= 2;
                    long -= 1;
                }
                let most = ((1_usize << long) + 2).min(chunk.len() - at);
                // The farthest of the longest repeats. This is most of what making a volume takes: no iterators, which
                // stay calls in a test build.
                let (mut length, mut from) = (0, 0);
                let mut back = 1;
                let reach = at.min(reach).min(512);
                while back <= reach {
                    let mut n = 0;
                    let same = |n: usize| chunk[at + n] == chunk[at + n - back];
                    if length == 0 || same(length - 1) {
                        while n < most && same(n) {
                            n += 1;
                        }
                    }
                    if n >= length {
                        (length, from) = (n, back);
                    }
                    back += 1;
                }
                let best = (length >= 3).then_some((length, from));
                if let Some((length, back)) = best {
                    let item = u16::try_from((back - 1) << long | (length - 3)).expect("it has its bits");
                    body[flags_at] |= 1 << bit;
                    body.extend(item.to_le_bytes());
                    at += length;
                } else {
                    body.push(chunk[at]);
                    at += 1;
                }
            }
        }
        let (head, body) = if body.len() >= chunk.len() {
            (0x3000 | u16::try_from(chunk.len() - 1).expect("a chunk"), chunk.to_vec())
        } else {
            (0xB000 | u16::try_from(body.len() - 1).expect("a chunk"), body)
        };
        all.extend(head.to_le_bytes());
        all.extend(body);
    }
    all
}

/// A volume with everyday contents.
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
    let cluster = usize::try_from(filler.geometry.cluster()).map_err(other)?;
    let sized = |mut bytes: Vec<u8>, clusters: usize| {
        let want = cluster * clusters - cluster / 3;
        while bytes.len() < want {
            let more = bytes.clone();
            bytes.extend(more);
        }
        bytes.truncate(want);
        bytes
    };
    filler.file("README.TXT", &note(seed, 3), Placing::Row)?;
    filler.folder("Logs", Placing::Row)?;
    filler.folder("Logs/2026", Placing::Row)?;
    filler.folder("Recordings", Placing::Row)?;
    filler.folder("Möwen und Lummen", Placing::Row)?;
    filler.file("Logs/station.log", &sized(log(seed, 300), 5), Placing::Row)?;
    let tides_in_pieces = sized(tides(seed, 300), 4);
    filler.spread_over(
        "Logs/2026/tides of the first week.csv",
        &tides_in_pieces,
        Placing::Pieces(1),
        4,
        true,
    )?;
    filler.file(
        "Logs/2026/counts on the western ledges, second visit.csv",
        &sized(counts(seed, 60), 2),
        Placing::Gaps,
    )?;
    filler.file("Logs/2026/EMPTY.CSV", b"", Placing::Row)?;
    filler.file("Recordings/dawn 0001.wav", &sized(sound(seed, 900), 6), Placing::Row)?;
    filler.file("Recordings/old.wav", &sized(sound(seed, 200), 3), Placing::Row)?;
    filler.file("Recordings/dawn 0002.wav", &sized(sound(seed, 1200), 7), Placing::Pieces(2))?;
    filler.delete("Recordings/old.wav")?;
    let begun = sized(sound(seed, 500), 2);
    filler.reserved("Recordings/unfinished 0004.wav", &begun, begun.len() as u64 * 3, Placing::Row)?;
    filler.spread("Recordings/dusk 0003.wav", &sized(sound(seed, 1200), 8), Placing::Pieces(1))?;
    filler.file("Möwen und Lummen/Ruf der Trottellumme.wav", &sized(sound(seed, 900), 3), Placing::Row)?;
    filler.file("Möwen und Lummen/文字.txt", &note(seed, 2), Placing::Gaps)?;
    filler.linked("ledges.csv", "Logs/ledges again.csv", &sized(counts(seed, 200), 3))?;
    filler.with_stream("Logs/weather.log", &sized(log(seed, 100), 2), "origin", b"station on the point")?;
    filler.sparse("Logs/buoy.raw", &sized(tides(seed, 900), 18), 32)?;
    if cluster <= 4096 {
        filler.packed("Logs/archive.log", &sized(log(seed, 800), 21))?;
    }
    filler.folder("Recordings/Thumbs", Placing::Pieces(1))?;
    for number in 0..60 {
        let path = format!("Recordings/Thumbs/spectrogram number {number:03}.png");
        filler.file(&path, &picture(seed, 8, 6), Placing::Row)?;
    }
    filler.finish()
}

/// A small volume of these sizes.
pub fn small(sector_bytes: u32, cluster_bytes: u32, record_bytes: u32) -> Wish {
    Wish {
        bytes: (3 << 20) + u64::from(cluster_bytes) * 420,
        sector_bytes,
        cluster_bytes,
        record_bytes,
        label: "OFFICE".to_owned(),
        serial: 0x5EAB_1BD5_1BD5_5EAB,
        time: SPRING,
        records: 192,
    }
}
