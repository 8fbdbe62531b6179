//! One disk with an image in each partition: the guest mounts them where they lie, and copies nothing. Under an
//! emulator the copying took longer than all else that is done to a small volume.
//!
//! The images stand at multiples of 1 MiB, each in a partition of its own, in a GPT.

use anyhow::ensure;
use punchdog_damage::cards::gpt_of;
use std::{
    fs::File,
    io::{Seek, SeekFrom, Write},
    path::Path,
};

const SECTOR: u64 = 512;
const MIB: u64 = 1 << 20;
/// Entries of the GPT: Linux numbers no more partitions of one disk (include/linux/genhd.h, `DISK_MAX_PARTS`).
const ROOM: u32 = 256;
/// So much of zeros at a time stays a hole.
const CHUNK: usize = 1 << 16;

/// Lays these images down as the partitions of a new disk: the first is number 1.
pub(super) fn disk(path: &Path, images: &[&[u8]]) -> anyhow::Result<()> {
    ensure!(images.len() < ROOM as usize, "{} images on one disk; Linux counts to {ROOM}", images.len());
    let mut file = File::create_new(path)?;
    let mut write = |at: u64, bytes: &[u8]| -> std::io::Result<()> {
        file.seek(SeekFrom::Start(at))?;
        file.write_all(bytes)
    };
    let (mut at, mut listed) = (MIB, Vec::new());
    for image in images {
        // An entry names a sector at least, and only whole ones.
        let length = (image.len() as u64).max(SECTOR);
        listed.push((at, length / SECTOR * SECTOR));
        for (chunk, place) in image.chunks(CHUNK).zip((at..).step_by(CHUNK)) {
            if chunk.iter().any(|byte| *byte != 0) {
                write(place, chunk)?;
            }
        }
        at = (at + length).next_multiple_of(MIB);
    }
    gpt_of(at + MIB, &listed, ROOM).iter().try_for_each(|(at, bytes)| write(*at, bytes))?;
    Ok(())
}
