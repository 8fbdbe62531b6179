//! The image of an installation medium was written to the wrong disk: what it is shorter than the volume that was there is
//! still to be had, and nothing that it stands over is called intact.

use super::{
    folder_with, json,
    left_out::in_partition,
    run,
    unearth::{FOLDERS, content, on_exfat, on_fat, on_ntfs, sum},
};
use punchdog_core::{family::Kind, fat::fresh::Wish};
use punchdog_damage::fat::{Filler, Placing, small};
use std::{collections::BTreeMap, fs, path::Path};

/// Where the volume begins.
const START: usize = 1 << 20;

/// Writes a disc image of so many bytes over the beginning of a disk.
fn written_over(disk: &[u8], bytes: usize) -> Vec<u8> {
    let mut disk = disk.to_vec();
    for (number, byte) in disk[..bytes].iter_mut().enumerate() {
        *byte = if number < 32_768 { 0 } else { u8::try_from(number * 31 % 251).unwrap() };
    }
    let blocks = u32::try_from(bytes / 512).unwrap();
    disk[32_768..32_775].copy_from_slice(b"\x01CD001\x01");
    disk[32_768 + 80..32_768 + 84].copy_from_slice(&blocks.to_le_bytes());
    disk[32_768 + 128..32_768 + 130].copy_from_slice(&512_u16.to_le_bytes());
    disk
}

/// FAT32 of as many clusters as hosts take for it.
fn large_fat32(files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let wish = Wish { bytes: 48 << 20, ..small(Kind::Fat32, 512, 512) };
    let mut filler = Filler::new(&wish, vec![0; 48 << 20]).unwrap();
    for folder in FOLDERS {
        filler.folder(folder).unwrap();
    }
    for (path, bytes) in files {
        filler.file(path, bytes, Placing::Row).unwrap();
    }
    filler.finish().unwrap().canvas
}

/// How many files are listed as intact and are as they were; those that are listed so and are not.
fn listed(at: &Path, words: &[&str], truth: &BTreeMap<String, String>) -> (usize, Vec<String>) {
    let seen = json(at, words, 0);
    let files = seen["files"].as_array().unwrap().iter().filter(|file| file["folder"] == false);
    let (mut good, mut wrong) = (0, Vec::new());
    for file in files.filter(|file| file["state"] == "intact" && file["size"] != 0) {
        let path = file["path"].as_str().unwrap();
        // Without its folder a file is listed elsewhere.
        if truth.values().any(|sum| file["sha256"] == **sum) {
            good += 1;
        } else if truth.contains_key(path) {
            wrong.push(path.to_owned());
        }
    }
    (good, wrong)
}

#[test]
fn a_volume_beneath_another_image_is_found_and_told_apart() {
    let files = content(7);
    let truth: BTreeMap<String, String> =
        files.iter().map(|(path, bytes)| (path.clone(), sum(bytes))).collect();
    // As much of the volume as is lost: its first sectors; and of NTFS, whose records tell all, far more.
    let all = files.len();
    let fat32 = large_fat32(&files);
    let le16 = |at: usize| usize::from(u16::from_le_bytes([fat32[at], fat32[at + 1]]));
    // Both tables and the root folder.
    let tables = 512 * (le16(14) + 2 * le16(36) + usize::from(fat32[13]));
    let cases = [
        ("FAT32", on_fat(512, &files), 2 << 10, all),
        ("FAT32", fat32, tables, all / 2),
        ("exFAT", on_exfat(4096, &files), 6 << 10, all),
        ("NTFS", on_ntfs(&files), 8 << 10, all),
        ("NTFS", on_ntfs(&files), 64 << 10, all / 4),
    ];
    for (family, volume, over, least) in cases {
        let name = format!("{family}, {over} bytes");
        let folder = folder_with("disk.img", &written_over(&in_partition(&volume), START + over));
        let at = folder.path();
        let said = run(at, &["scout", "disk.img"]).out;
        assert!(said.contains("partition/written-over") && said.contains("ISO 9660"), "{name}: {said}");
        // Of tables that are gone the length is a guess, and with it where they begin.
        let begins =
            said.split("punchdog check disk.img --at ").nth(1).and_then(|rest| rest.split(' ').next());
        let begins = begins.unwrap_or_else(|| panic!("{name}: {said}"));
        assert!(over > 32_768 && family == "FAT32" || begins == "1048576", "{name}: {begins}");
        let refused = run(at, &["check", "disk.img"]);
        assert_eq!(refused.status, 2, "{name}");
        assert!(refused.err.contains(&format!("--at {begins} --inside")), "{name}: {}", refused.err);
        let here = ["--at", begins, "--inside"];
        assert_eq!(run(at, &[&["check", "disk.img"][..], &here].concat()).status, 1, "{name}");
        let files = [&["files", "disk.img", "--hash"][..], &here].concat();
        assert_eq!(listed(at, &files, &truth).1, Vec::<String>::new(), "{name}: before");
        let plan = run(at, &[&["plan", "disk.img", "--out", "p.json"][..], &here].concat());
        assert!(plan.status < 2, "{name}: {}", plan.err);
        let applied = run(at, &["apply", "p.json", "--image", "disk.img", "--copy", "m.img"]);
        assert!(applied.status < 2, "{name}: {}", applied.err);
        let (good, _) = listed(at, &["files", "m.img", "--at", begins, "--hash"], &truth);
        assert!(good >= least, "{name}: {good} of {all}");
        // What was written last is as it was, but for what the volume needs.
        let (disk, mended) = (fs::read(at.join("disk.img")).unwrap(), fs::read(at.join("m.img")).unwrap());
        assert!(disk[..START - (64 << 10)] == mended[..START - (64 << 10)], "{name}");
    }
}

#[test]
fn what_is_as_long_as_the_disk_hides_nothing() {
    let disk = written_over(&vec![7; 3 << 20], 3 << 20);
    let folder = folder_with("disk.img", &disk);
    let said = run(folder.path(), &["scout", "disk.img"]).out;
    assert!(
        said.contains("ISO 9660") && !said.contains("written-over") && !said.contains("unearth"),
        "{said}"
    );
    // Behind a shorter one there is no volume, but there may be files.
    let disk = written_over(&disk, 2 << 20);
    let folder = folder_with("disk.img", &disk);
    let said = run(folder.path(), &["scout", "disk.img"]).out;
    assert!(said.contains("punchdog unearth disk.img") && !said.contains("written-over"), "{said}");
}

/// What is left of a disc image in the gap before the volume, long after the disk was set up anew, is no reason to give the
/// volume up.
#[test]
fn what_is_left_over_in_the_gap_hides_nothing() {
    let files = content(7);
    for volume in [on_fat(2048, &files), on_exfat(4096, &files), on_ntfs(&files)] {
        let mut disk = in_partition(&volume);
        let table = disk[..512].to_vec();
        let blocks = u32::try_from((12 << 20) / 512).unwrap();
        disk[32_768..32_775].copy_from_slice(b"\x01CD001\x01");
        disk[32_768 + 80..32_768 + 84].copy_from_slice(&blocks.to_le_bytes());
        disk[32_768 + 128..32_768 + 130].copy_from_slice(&512_u16.to_le_bytes());
        // The table is gone: the volume is there, and reaches further than the disc image did.
        disk[..512].fill(0);
        let folder = folder_with("disk.img", &disk);
        let seen = json(folder.path(), &["scout", "disk.img"], 1);
        assert_eq!(seen["volumes"][0]["offset"], START as u64, "{seen}");
        // The table is there, and the volume's first sector is gone; or both are.
        for kept in [true, false] {
            disk[..512].copy_from_slice(&if kept { table.clone() } else { vec![0; 512] });
            disk[START..START + 512].fill(0);
            let folder = folder_with("disk.img", &disk);
            let done = run(folder.path(), &["check", "disk.img", "--at", "1048576"]);
            assert_eq!(done.status, 1, "{}", done.err);
            assert!(
                !done.err.contains("written over") && !done.out.contains("cannot be read"),
                "{}",
                done.out
            );
        }
    }
}
