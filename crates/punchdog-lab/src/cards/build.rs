//! Making a medium: volumes, what is on them, and the table that lists them.

use super::{Card, Layout, Volume};
use crate::{
    content, exfat,
    fat::{self, Placing},
    ntfs,
    patient::{Made, index},
    seed::Seed,
};
use punchdog_core::{
    exfat::{fresh::Wish as ExfatWish, layout::boot_checksum},
    family::Kind,
    fat::fresh::Wish as FatWish,
    ntfs::fresh::Wish as NtfsWish,
    partition::{
        gpt::header_crc,
        layout::{BASIC_DATA, GptEntry, GptHeader, MbrEntry},
    },
};
use std::io;
use zerocopy::{FromZeros, IntoBytes};

/// How much is on a volume, and how it lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fill {
    /// A few dozen files, most in a row.
    Some,
    /// As many as fit, in pieces between one another.
    Full,
    /// Nothing.
    Empty,
}

/// A volume to be made.
#[derive(Debug, Clone, Copy)]
pub struct Shape {
    /// Its file system.
    pub kind: Kind,
    /// Where it begins on the medium, in bytes.
    pub start: u64,
    /// Bytes long.
    pub bytes: u64,
    /// Bytes in a cluster.
    pub cluster: u32,
    /// What is on it.
    pub fill: Fill,
}

/// What lists the volumes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Listing {
    /// Nothing: the one volume begins at byte 0.
    Bare,
    /// Four primary entries.
    Mbr,
    /// The first in a primary entry, the others as logical volumes: their chain stands in the 63 sectors
    /// before each.
    Logical,
    /// A GPT with both copies.
    Gpt,
}

/// What both fillers can do.
trait Filling {
    fn folder(&mut self, path: &str) -> io::Result<()>;
    fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()>;
    fn free(&self) -> u32;
}

impl Filling for fat::Filler<Vec<u8>> {
    fn folder(&mut self, path: &str) -> io::Result<()> {
        self.folder(path)
    }
    fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.file(path, content, lie)
    }
    fn free(&self) -> u32 {
        self.free()
    }
}

impl Filling for exfat::Filler<Vec<u8>> {
    fn folder(&mut self, path: &str) -> io::Result<()> {
        self.folder(path, 1, Placing::Row)
    }
    fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.file(path, content, lie)
    }
    fn free(&self) -> u32 {
        self.free()
    }
}

impl Filling for ntfs::Filler<Vec<u8>> {
    fn folder(&mut self, path: &str) -> io::Result<()> {
        self.folder(path, Placing::Row)
    }
    fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.file(path, content, lie)
    }
    fn free(&self) -> u32 {
        self.free()
    }
}

fn some(filler: &mut dyn Filling, seed: &mut Seed) -> io::Result<()> {
    for folder in ["DCIM", "DCIM/Ledge 03", "DCIM/Ledge 09", "Counts", "Sounds", "Counts/2026"] {
        filler.folder(folder)?;
    }
    filler.file("station.log", &content::log(seed, 90), Placing::Row)?;
    for number in 1..=9 {
        for ledge in ["Ledge 03", "Ledge 09"] {
            let picture = content::picture(seed, 40 + 6 * number, 30 + 4 * number);
            filler.file(&format!("DCIM/{ledge}/nest {number:03}.png"), &picture, Placing::Row)?;
        }
        let counts = content::counts(seed, 60 + 10 * index(u64::from(number)));
        let lie = if number % 3 == 0 { Placing::Pieces(1) } else { Placing::Row };
        filler.file(&format!("Counts/2026/ledge counts, week {number}.csv"), &counts, lie)?;
    }
    for (number, bird) in ["razorbill", "puffin", "shag", "fulmar"].iter().enumerate() {
        let lie = if number == 1 { Placing::Pieces(2) } else { Placing::Row };
        filler.file(&format!("Sounds/{bird}.wav"), &content::sound(seed, 9000), lie)?;
    }
    filler.file("who sat where.txt", &content::note(seed, 30), Placing::Gaps)?;
    filler.file("Counts/tides.csv", &content::tides(seed, 500), Placing::Gaps)
}

/// Files until fewer than a twentieth of the clusters are free.
fn full(filler: &mut dyn Filling, seed: &mut Seed, cluster: u32) -> io::Result<()> {
    let room = filler.free() / 20;
    filler.folder("Recordings")?;
    let mut number = 0;
    let mut size = filler.free() * (cluster / 512) * 512 / 90;
    while filler.free() > room && number < 400 {
        number += 1;
        let folder = number / 12;
        if number % 12 == 1 {
            filler.folder(&format!("Recordings/Night {folder:02}"))?;
        }
        let least = filler.free().saturating_sub(room).saturating_mul(cluster).max(2 * cluster);
        size = size.min(least);
        let samples = size / 2 + u32::try_from(seed.below(u64::from(size))).unwrap_or(0) / 2;
        let lie = if number % 4 == 0 {
            Placing::Gaps
        } else if number % 7 == 0 {
            Placing::Pieces(3)
        } else {
            Placing::Row
        };
        let sound = content::sound(seed, samples);
        let path = format!(
            "Recordings/Night {:02}/recording {number:04}.wav",
            if number % 12 == 0 { folder - 1 } else { folder }
        );
        // Behind the last cluster there is room only in the gaps.
        if filler.file(&path, &sound, lie).is_err() {
            filler.file(&path, &sound, Placing::Gaps)?;
        }
    }
    Ok(())
}

fn fill(filler: &mut dyn Filling, shape: &Shape, seed: &mut Seed) -> io::Result<()> {
    match shape.fill {
        Fill::Empty => Ok(()),
        Fill::Some => some(filler, seed),
        Fill::Full => {
            some(filler, seed)?;
            full(filler, seed, shape.cluster)
        }
    }
}

/// The bytes of a volume, and the truth about it.
fn volume(shape: &Shape, number: u64) -> io::Result<(Vec<u8>, Volume)> {
    let mut seed = Seed::new(91 + number);
    let serial = 0x5EA_B1D0 + u32::try_from(number).unwrap_or(0);
    let canvas = vec![0; index(shape.bytes)];
    let done = |canvas: Vec<u8>, layout: Layout, made: Vec<Made>| {
        let placed = Volume { kind: shape.kind, start: shape.start, bytes: shape.bytes, layout, made };
        (canvas, placed)
    };
    if shape.kind == Kind::Exfat {
        let wish = ExfatWish {
            bytes: shape.bytes,
            sector_bytes: 512,
            cluster_bytes: shape.cluster,
            tables: 1,
            label: "SKERRY".to_owned(),
            serial,
        };
        let mut filler = exfat::Filler::new(&wish, canvas)?;
        fill(&mut filler, shape, &mut seed)?;
        let filled = filler.finish()?;
        return Ok(done(filled.canvas, Layout::Exfat(filled.geometry), filled.made));
    }
    if shape.kind == Kind::Ntfs {
        let wish = NtfsWish {
            bytes: shape.bytes,
            sector_bytes: 512,
            cluster_bytes: shape.cluster,
            record_bytes: 1024,
            label: "SKERRY".to_owned(),
            serial: serial.into(),
            time: ntfs::SPRING,
            records: 600,
        };
        let mut filler = ntfs::Filler::new(&wish, canvas)?;
        fill(&mut filler, shape, &mut seed)?;
        let filled = filler.finish()?;
        return Ok(done(filled.canvas, Layout::Ntfs(filled.geometry), filled.made));
    }
    let wish = FatWish {
        kind: shape.kind,
        bytes: shape.bytes,
        sector_bytes: 512,
        cluster_bytes: shape.cluster,
        tables: 2,
        label: *b"SKERRY     ",
        serial,
    };
    let mut filler = fat::Filler::new(&wish, canvas)?;
    fill(&mut filler, shape, &mut seed)?;
    let filled = filler.finish()?;
    Ok(done(filled.canvas, Layout::Fat(filled.geometry), filled.made))
}

/// The type byte that a volume's entry has.
pub(super) fn mbr_type(kind: Kind) -> u8 {
    match kind {
        Kind::Fat12 => 0x01,
        Kind::Fat16 => 0x0E,
        Kind::Fat32 => 0x0C,
        Kind::Exfat | Kind::Ntfs => 0x07,
    }
}

/// An entry for `bytes` bytes, `start` bytes behind what it counts from.
pub(super) fn entry(kind: u8, start: u64, bytes: u64) -> MbrEntry {
    let mut entry = MbrEntry::new_zeroed();
    entry.kind = kind;
    (entry.start_chs, entry.end_chs) = ([0xFE, 0xFF, 0xFF], [0xFE, 0xFF, 0xFF]);
    entry.start = u32::try_from(start / 512).unwrap_or(0).into();
    entry.length = u32::try_from(bytes / 512).unwrap_or(0).into();
    entry
}

/// Bytes before a logical volume that its link of the chain takes.
const LINK: u64 = 63 * 512;

impl Card {
    /// A medium of `bytes` bytes with these volumes.
    ///
    /// # Panics
    /// When they do not fit.
    pub fn new(bytes: u64, listing: Listing, shapes: &[Shape]) -> Self {
        let mut image = vec![0; index(bytes)];
        let mut volumes = Vec::new();
        for (number, shape) in shapes.iter().enumerate() {
            let (bytes, placed) = volume(shape, number as u64).expect("a volume that has room");
            image[index(shape.start)..index(shape.start) + bytes.len()].copy_from_slice(&bytes);
            volumes.push(placed);
        }
        for volume in &volumes {
            set_hidden(&mut image, volume);
        }
        match listing {
            Listing::Bare => {}
            Listing::Mbr => mbr(&mut image, &volumes),
            Listing::Logical => logical(&mut image, &volumes),
            Listing::Gpt => gpt(&mut image, &volumes),
        }
        Self { sound: image.clone(), bytes: image, volumes, shift: 0 }
    }
}

/// Says in the boot sectors how far behind the start of the medium the volume begins, as formatting
/// does: `BPB_HiddSec` of FAT and NTFS, `PartitionOffset` of exFAT.
fn set_hidden(image: &mut [u8], volume: &Volume) {
    let sectors = volume.start / 512;
    let start = index(volume.start);
    if volume.kind == Kind::Exfat {
        for region in [start, start + 12 * 512] {
            image[region + 64..region + 72].copy_from_slice(&sectors.to_le_bytes());
            let sum = boot_checksum(&image[region..region + 11 * 512], 512);
            image[region + 11 * 512..region + 12 * 512]
                .chunks_exact_mut(4)
                .for_each(|value| value.copy_from_slice(&sum.to_le_bytes()));
        }
        return;
    }
    if let Layout::Ntfs(geometry) = volume.layout {
        for sector in [start, start + index(geometry.counted())] {
            image[sector + 28..sector + 32]
                .copy_from_slice(&u32::try_from(sectors).unwrap_or(0).to_le_bytes());
        }
        return;
    }
    let copies: &[usize] = if volume.kind == Kind::Fat32 { &[0, 6] } else { &[0] };
    for copy in copies {
        let at = start + copy * 512 + 28;
        image[at..at + 4].copy_from_slice(&u32::try_from(sectors).unwrap_or(0).to_le_bytes());
    }
}

fn put(image: &mut [u8], sector: u64, entries: &[MbrEntry]) {
    let at = index(sector) + 446;
    image[at..at + entries.len() * 16].copy_from_slice(entries.as_bytes());
    image[at + 64..at + 66].copy_from_slice(&[0x55, 0xAA]);
}

fn mbr(image: &mut [u8], volumes: &[Volume]) {
    let entries: Vec<MbrEntry> = volumes.iter().map(|v| entry(mbr_type(v.kind), v.start, v.bytes)).collect();
    put(image, 0, &entries);
    image[440..444].copy_from_slice(&0x0057_EAB1_u32.to_le_bytes());
}

/// The first volume in a primary entry, the others in an extended one: each link has an entry for its
/// volume, counted from the link, and one for the next link, counted from the extended partition.
fn logical(image: &mut [u8], volumes: &[Volume]) {
    let (first, others) = volumes.split_first().expect("a volume");
    let extended = others.first().map_or(0, |volume| volume.start - LINK);
    let end = others.last().map_or(0, |volume| volume.start + volume.bytes);
    let primary =
        [entry(mbr_type(first.kind), first.start, first.bytes), entry(0x0F, extended, end - extended)];
    put(image, 0, &primary);
    for (number, volume) in others.iter().enumerate() {
        let mut link = vec![entry(mbr_type(volume.kind), LINK, volume.bytes)];
        if let Some(next) = others.get(number + 1) {
            link.push(entry(0x05, next.start - LINK - extended, next.bytes + LINK));
        }
        put(image, volume.start - LINK, &link);
    }
}

/// Lists these volumes in both copies of a GPT.
pub(crate) fn gpt(image: &mut [u8], volumes: &[Volume]) {
    let listed: Vec<(u64, u64)> = volumes.iter().map(|volume| (volume.start, volume.bytes)).collect();
    for (at, bytes) in gpt_of(image.len() as u64, &listed, 128) {
        image[index(at)..index(at) + bytes.len()].copy_from_slice(&bytes);
    }
}

/// What lists partitions on a disk of `length` bytes, by their starts and bytes, in a GPT of so many entries (a multiple of
/// four): what to write, and where.
///
/// # Panics
/// When there are more partitions than entries.
pub fn gpt_of(length: u64, volumes: &[(u64, u64)], room: u32) -> [(u64, Vec<u8>); 5] {
    assert!(volumes.len() <= room as usize, "room for {room}");
    let last = length / 512 - 1;
    let sectors = u64::from(room) / 4;
    let mut protective = entry(0xEE, 512, last * 512);
    (protective.start_chs, protective.end_chs) = ([0, 2, 0], [0xFF, 0xFF, 0xFF]);
    let mut first = vec![0; 512];
    put(&mut first, 0, &[protective]);
    let mut entries = Vec::new();
    for (number, (start, bytes)) in volumes.iter().enumerate() {
        let mut listed = GptEntry::new_zeroed();
        listed.kind = BASIC_DATA;
        listed.unique = [u8::try_from((number + 7) % 256).unwrap_or(0); 16];
        listed.first = (start / 512).into();
        listed.last = ((start + bytes) / 512 - 1).into();
        entries.extend(listed.as_bytes());
    }
    entries.resize(room as usize * 128, 0);
    let mut header = GptHeader::new_zeroed();
    header.signature = *b"EFI PART";
    header.revision = 0x0001_0000.into();
    header.header_size = 92.into();
    header.first_usable = (2 + sectors).into();
    header.last_usable = (last - 1 - sectors).into();
    header.disk_guid = [9; 16];
    header.entries = room.into();
    header.entry_bytes = 128.into();
    header.entries_crc = crc32fast::hash(&entries).into();
    let copy = |my: u64, other: u64, at: u64| {
        let mut copy =
            GptHeader { my_lba: my.into(), alternate_lba: other.into(), entries_lba: at.into(), ..header };
        copy.header_crc = header_crc(&copy).into();
        copy.as_bytes().to_vec()
    };
    let behind = last - sectors;
    [
        (0, first),
        (512, copy(1, last, 2)),
        (1024, entries.clone()),
        (behind * 512, entries),
        (last * 512, copy(last, 1, behind)),
    ]
}
