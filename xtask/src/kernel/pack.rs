//! One disk with an image in each partition: the guest mounts them where they lie, and copies nothing. Under an
//! emulator the copying took longer than all else that is done to a small volume.
//!
//! ```text
//! sector 0      an MBR with one entry of kind EE
//! sector 1      the GPT header; no second copy, the disk is thrown away
//! sector 2      the entries
//! 1 MiB on      the images, each at a multiple of 1 MiB
//! ```

use anyhow::ensure;
use punchdog_core::{
    medium::Extent,
    partition::{
        gpt::{header_crc, new_entry},
        layout::{ENTRIES_AT, GptHeader, MbrEntry},
    },
};
use std::{
    fs::File,
    io::{Seek, SeekFrom, Write},
    path::Path,
};
use zerocopy::{FromZeros, IntoBytes};

const SECTOR: u64 = 512;
const MIB: u64 = 1 << 20;
/// Linux numbers no more partitions of one disk (include/linux/genhd.h, `DISK_MAX_PARTS`).
const MOST: u32 = 255;
/// So much of zeros at a time stays a hole.
const CHUNK: usize = 1 << 16;

/// Lays these images down as the partitions of a new disk: the first is number 1.
pub(super) fn disk(path: &Path, images: &[&[u8]]) -> anyhow::Result<()> {
    ensure!(images.len() <= MOST as usize, "{} images on one disk; Linux counts to {MOST}", images.len());
    let mut file = File::create_new(path)?;
    let (mut at, mut entries) = (MIB, Vec::new());
    for (image, number) in images.iter().zip(1_u8..) {
        // An entry names a sector at least.
        let length = (image.len() as u64).max(SECTOR);
        entries.extend(new_entry(Extent::new(at, length / SECTOR * SECTOR), SECTOR, [number; 16]).as_bytes());
        for (chunk, place) in image.chunks(CHUNK).zip((at..).step_by(CHUNK)) {
            if chunk.iter().any(|byte| *byte != 0) {
                file.seek(SeekFrom::Start(place))?;
                file.write_all(chunk)?;
            }
        }
        at = (at + length).next_multiple_of(MIB);
    }
    entries.resize((MOST as usize + 1) * 128, 0);
    let last = (at + MIB) / SECTOR - 1;
    file.set_len((last + 1) * SECTOR)?;
    let mut header = GptHeader::new_zeroed();
    header.signature = *b"EFI PART";
    header.revision = 0x0001_0000.into();
    header.header_size = 92.into();
    (header.my_lba, header.alternate_lba, header.entries_lba) = (1.into(), last.into(), 2.into());
    (header.first_usable, header.last_usable) = ((MIB / SECTOR).into(), (last - 1).into());
    header.disk_guid = [9; 16];
    header.entries = (MOST + 1).into();
    header.entry_bytes = 128.into();
    header.entries_crc = crc32fast::hash(&entries).into();
    header.header_crc = header_crc(&header).into();
    let mut protective = MbrEntry::new_zeroed();
    protective.kind = 0xEE;
    protective.start = 1.into();
    protective.length = u32::try_from(last)?.into();
    let mut sector = [0; 512];
    sector[ENTRIES_AT..ENTRIES_AT + 16].copy_from_slice(protective.as_bytes());
    sector[510..].copy_from_slice(&[0x55, 0xAA]);
    for (place, bytes) in [(0, &sector[..]), (SECTOR, header.as_bytes()), (2 * SECTOR, &entries)] {
        file.seek(SeekFrom::Start(place))?;
        file.write_all(bytes)?;
    }
    Ok(())
}
