//! Volumes that are large in one way: in bytes, in depth, in one folder, in one fault. Written with holes.

use crate::{
    exfat, exfat_faults,
    fat::{self, Placing},
    faults,
    patient::Patient,
    seed::Seed,
};
use punchdog_core::{exfat::fresh::Wish as ExfatWish, family::Kind, fat::fresh::Wish};
use std::{fs::File, io, path::Path};

fn hollow(path: &Path, bytes: u64) -> io::Result<File> {
    let file = File::options().read(true).write(true).create_new(true).open(path)?;
    file.set_len(bytes)?;
    Ok(file)
}

fn exfat_wish(bytes: u64, cluster_bytes: u32) -> ExfatWish {
    ExfatWish { bytes, sector_bytes: 512, cluster_bytes, tables: 1, label: "LARGE".to_owned(), serial: 5 }
}

fn fat32_wish(bytes: u64, cluster_bytes: u32) -> Wish {
    Wish {
        kind: Kind::Fat32,
        bytes,
        sector_bytes: 512,
        cluster_bytes,
        tables: 2,
        label: *b"LARGE      ",
        serial: 5,
    }
}

/// An exFAT volume of half a billion clusters, with one file.
///
/// # Errors
/// What the file system said.
pub fn wide_exfat(path: &Path) -> io::Result<()> {
    let wish = exfat_wish(2 << 40, 4096);
    let mut filler = exfat::Filler::new(&wish, hollow(path, wish.bytes)?)?;
    filler.file("README.TXT", b"a large card\n", Placing::Row)?;
    filler.finish()?;
    Ok(())
}

/// A FAT32 volume of a quarter of a billion clusters, with one file. The lab's filler keeps a table in
/// memory, so this one is laid down fresh and its one entry is written by hand.
///
/// # Errors
/// What the file system said.
pub fn wide_fat32(path: &Path) -> io::Result<()> {
    use crate::canvas::Canvas;
    use punchdog_core::fat::fresh::lay_down;
    let wish = fat32_wish(127 << 30, 512);
    let (_, pieces) = lay_down(&wish).map_err(io::Error::other)?;
    let mut file = hollow(path, wish.bytes)?;
    for (place, bytes) in pieces {
        for (number, piece) in bytes.chunks(1 << 16).enumerate() {
            if piece.iter().any(|byte| *byte != 0) {
                file.put(place.offset + ((number as u64) << 16), piece)?;
            }
        }
    }
    Ok(())
}

/// A FAT32 volume of 64 MiB with a thousand folders in one another, each with a long name and a file.
///
/// # Errors
/// What the file system said.
pub fn deep_fat32(path: &Path) -> io::Result<()> {
    let wish = fat32_wish(64 << 20, 512);
    let mut filler = fat::Filler::new(&wish, hollow(path, wish.bytes)?)?;
    let mut above = String::new();
    for level in 0..1000 {
        let name =
            format!("{level:04} {}", "a folder in a folder, sorted by place, day and weather ".repeat(4));
        let name = name.trim_end().to_owned();
        above = if above.is_empty() { name } else { format!("{above}/{name}") };
        filler.folder(&above)?;
        filler.file(&format!("{above}/counts of the day.txt"), b"12 guillemots\n", Placing::Row)?;
    }
    filler.finish()?;
    Ok(())
}

/// A folder of `count` entries of one name, on FAT32.
///
/// # Errors
/// What the file system said.
pub fn equal_names_fat32(path: &Path, count: u32) -> io::Result<()> {
    let wish = fat32_wish(128 << 20, 512);
    let mut filler = fat::Filler::new(&wish, vec![0; 128 << 20])?;
    filler.folder("Counts")?;
    for number in 0..count {
        filler.file(&format!("Counts/C{number:07}.TXT"), format!("{number}\n").as_bytes(), Placing::Row)?;
    }
    let mut patient: faults::Patient = Patient::new(filler.finish()?);
    let entries: Vec<u64> = patient.live().filter(|made| !made.folder).map(|made| made.entry).collect();
    for entry in entries {
        patient.write(entry, b"SAME    TXT");
    }
    crate::canvas::write_with_holes(path, &patient.bytes)
}

/// The same on exFAT.
///
/// # Errors
/// What the file system said.
pub fn equal_names_exfat(path: &Path, count: u32) -> io::Result<()> {
    let wish = exfat_wish(128 << 20, 512);
    let mut filler = exfat::Filler::new(&wish, vec![0; 128 << 20])?;
    filler.folder("Counts", count * 96 / 512 + 1, Placing::Row)?;
    for number in 0..count {
        filler.file(&format!("Counts/C{number:07}.TXT"), format!("{number}\n").as_bytes(), Placing::Row)?;
    }
    let mut patient: exfat_faults::Patient = Patient::new(filler.finish()?);
    let mades: Vec<_> = patient.live().filter(|made| !made.folder).cloned().collect();
    let name: Vec<u8> = "SAME0000.TXT".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let hash = punchdog_core::exfat::layout::name_hash(&"SAME0000.TXT".encode_utf16().collect::<Vec<_>>());
    for made in mades {
        patient.write(made.entry + 66, &name);
        patient.write(made.entry + 36, &hash.to_le_bytes());
        patient.sum_set(&made);
    }
    crate::canvas::write_with_holes(path, &patient.bytes)
}

/// A folder of `count` sets whose checksums are wrong.
///
/// # Errors
/// What the file system said.
pub fn bad_checksums(path: &Path, count: u32) -> io::Result<()> {
    let wish = exfat_wish(64 << 20, 4096);
    let mut filler = exfat::Filler::new(&wish, vec![0; 64 << 20])?;
    filler.folder("Counts", count * 96 / 4096 + 1, Placing::Row)?;
    for number in 0..count {
        filler.file(&format!("Counts/C{number:07}.TXT"), format!("{number}\n").as_bytes(), Placing::Row)?;
    }
    let mut patient: exfat_faults::Patient = Patient::new(filler.finish()?);
    let entries: Vec<u64> = patient.live().filter(|made| !made.folder).map(|made| made.entry).collect();
    for entry in entries {
        let sum = patient.read(entry + 2, 1)[0];
        patient.write(entry + 2, &[sum ^ 0x5A]);
    }
    crate::canvas::write_with_holes(path, &patient.bytes)
}

/// A FAT16 or FAT32 volume on which each of `count` files has lost the end of its chain, so that as many
/// lost chains are about.
///
/// # Errors
/// What the file system said.
pub fn broken_chains(path: &Path, count: u32) -> io::Result<()> {
    let wish = fat32_wish(96 << 20, 512);
    let mut filler = fat::Filler::new(&wish, vec![0; 96 << 20])?;
    for number in 0..count {
        if number % 500 == 0 {
            filler.folder(&format!("D{:05}", number / 500))?;
        }
        let name = format!("D{:05}/C{number:07}.TXT", number / 500);
        filler.file(&name, &Seed::new(u64::from(number)).bytes(512 * 3), Placing::Row)?;
    }
    let mut patient: faults::Patient = Patient::new(filler.finish()?);
    let firsts: Vec<u32> = patient.live().filter(|made| !made.folder).map(|made| made.clusters[0]).collect();
    for first in firsts {
        patient.set_link(first, 0);
    }
    crate::canvas::write_with_holes(path, &patient.bytes)
}

/// An exFAT folder of `bytes` whose every entry is garbage that looks like one.
///
/// # Errors
/// What the file system said.
pub fn garbage_folder(path: &Path, bytes: u64) -> io::Result<()> {
    use crate::canvas::Canvas;
    let wish = exfat_wish(1 << 30, 32768);
    let mut filler = exfat::Filler::new(&wish, hollow(path, wish.bytes)?)?;
    filler.folder("Garbage", u32::try_from(bytes / 32768).map_err(io::Error::other)?, Placing::Row)?;
    let made = filler.finish()?;
    let clusters = made.made.iter().find(|made| made.path == "Garbage").map(|made| made.clusters[0]);
    let first = made.geometry.cluster_place(clusters.unwrap_or(2));
    let mut seed = Seed::new(9);
    let mut file = made.canvas;
    let mut piece = vec![0_u8; 1 << 20];
    for turn in 0..bytes >> 20 {
        for set in piece.chunks_exact_mut(96) {
            let noise = seed.bytes(96);
            set.copy_from_slice(&noise);
            (set[0], set[1], set[6], set[7]) = (0x85, 2, 0, 0);
            (set[32], set[33], set[34], set[35], set[38], set[39]) = (0xC0, 3, 0, 12, 0, 0);
            set[48..52].fill(0);
            set[52..56].copy_from_slice(&(5 + u32::try_from(seed.below(30_000)).unwrap_or(0)).to_le_bytes());
            set[40..48].copy_from_slice(&(seed.below(1 << 22)).to_le_bytes());
            set[56..64].copy_from_slice(&(seed.below(1 << 22)).to_le_bytes());
            (set[64], set[65]) = (0xC1, 0);
        }
        file.put(first + (turn << 20), &piece)?;
    }
    Ok(())
}

/// A disk of `bytes` that is holes but for 200 blocks of noise, and a volume of 64 MiB at 1 MiB where
/// `volume` is true.
///
/// # Errors
/// What the file system said.
pub fn hollow_disk(path: &Path, bytes: u64, volume: bool) -> io::Result<()> {
    use crate::canvas::Canvas;
    let mut file = hollow(path, bytes)?;
    let mut seed = Seed::new(4);
    for number in 0..200 {
        let noise = seed.bytes(4096);
        file.put((256 << 20) + number * ((bytes - (512 << 20)) / 200 / 4096 * 4096), &noise)?;
    }
    if volume {
        let wish = fat32_wish(64 << 20, 512);
        let mut filler = fat::Filler::new(&wish, vec![0; 64 << 20])?;
        filler.file("README.TXT", b"a small volume on a large disk\n", Placing::Row)?;
        let mut made = filler.finish()?;
        made.canvas[..512].fill(0);
        for (number, piece) in made.canvas.chunks(1 << 16).enumerate() {
            if piece.iter().any(|byte| *byte != 0) {
                file.put((1 << 20) + ((number as u64) << 16), piece)?;
            }
        }
        let mut entry = [0_u8; 66];
        entry[4] = 0x0C;
        entry[8..12].copy_from_slice(&2048_u32.to_le_bytes());
        entry[12..16].copy_from_slice(&((64_u32 << 20) / 512).to_le_bytes());
        (entry[64], entry[65]) = (0x55, 0xAA);
        file.put(446, &entry)?;
    }
    Ok(())
}
