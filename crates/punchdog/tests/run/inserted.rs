//! Images that have bytes too many in their midst: a part that was written twice, something that is not of the medium, and a
//! partition whose move was cut off.

use super::{
    folder_with, json,
    left_out::{in_partition, place, saved},
    run,
    unearth::{content, on_exfat, on_fat, on_ntfs, sum},
};
use serde_json::Value;
use std::{collections::BTreeMap, fs, path::Path};

const MIB: usize = 1 << 20;

fn volumes(files: &[(String, Vec<u8>)]) -> [(&'static str, Vec<u8>); 4] {
    [
        ("FAT32", on_fat(512, files)),
        ("FAT16", on_fat(2048, files)),
        ("exFAT", on_exfat(4096, files)),
        ("NTFS", on_ntfs(files)),
    ]
}

/// What check says of the volume at a place: from where to where, and how many bytes.
fn told(dir: &Path, at: usize, name: &str) -> [usize; 3] {
    let seen = json(dir, &["check", "card.img", "--at", &at.to_string()], 1);
    let inserted = seen["volumes"][0]["inserted"].as_array();
    let inserted =
        inserted.unwrap_or_else(|| panic!("{name}: {}", seen["volumes"][0]["findings"][0]["code"]));
    assert_eq!(inserted.len(), 1, "{name}");
    let plan = json(dir, &["plan", "card.img", "--at", &at.to_string()], 1);
    assert_eq!(plan["steps"], Value::Array(Vec::new()), "{name}: nothing is mended where it does not belong");
    ["from", "to", "bytes"].map(|key| usize::try_from(inserted[0][key].as_u64().unwrap()).unwrap())
}

/// Runs the command that check prints, and gives the image that it lays out.
fn laid_out(dir: &Path, at: usize, name: &str) -> Vec<u8> {
    let said = run(dir, &["check", "card.img", "--at", &at.to_string()]).out;
    let line = said.lines().find(|line| line.contains("punchdog surface card.img --"));
    let line = line.unwrap_or_else(|| panic!("{name}: {said}"));
    let words: Vec<&str> = line.split_whitespace().skip_while(|word| *word != "surface").collect();
    let words: Vec<&str> = words.into_iter().take_while(|word| *word != "takes" && *word != "puts").collect();
    assert_eq!(json(dir, &words, 0)["done"], true, "{name}");
    fs::read(dir.join("card.spaced.img")).unwrap()
}

#[test]
fn what_stands_behind_bytes_too_many_is_not_called_whole_and_comes_back_without_them() {
    let files = content(8);
    let truth: BTreeMap<String, String> =
        files.iter().map(|(path, bytes)| (path.clone(), sum(bytes))).collect();
    for (family, volume) in &volumes(&files) {
        for (number, (file, bytes, twice)) in
            [(20, 512, true), (12, 4096, true), (25, 65_536, true), (16, 8704, false)].into_iter().enumerate()
        {
            let name = format!("{family}, {bytes} bytes behind file {file}, twice: {twice}");
            let base = if number % 2 == 0 { 0 } else { MIB };
            let whole = if base == 0 { volume.clone() } else { in_partition(volume) };
            let at = (place(&whole, &files[file].1) + 1024) / 512 * 512;
            let foreign: Vec<u8> = (0..bytes).map(|at: usize| (at * 7 + at / 251).to_le_bytes()[0]).collect();
            let more = if twice { &whole[at - bytes..at] } else { &foreign };
            let folder = folder_with("card.img", &[&whole[..at], more, &whole[at..]].concat());
            let dir = folder.path();
            let [from, to, many] = told(dir, base, &name);
            assert_eq!(many, bytes, "{name}");
            assert!(from <= at && at <= to && (!twice || from == to), "{name}: {from} to {to}, at {at}");
            let (before, wrong) = saved(dir, &["salvage", "card.img", "--to", "out", "--json"], &truth);
            assert_eq!(wrong, Vec::<String>::new(), "{name}");
            assert!(before < files.len() - 10, "{name}: {before}");
            let spaced = laid_out(dir, base, &name);
            assert_eq!(spaced.len(), whole.len(), "{name}");
            assert!(!twice || spaced == whole, "{name}: every byte is where it was");
            let listed =
                ["salvage", "card.spaced.img", "--to", "back", "--json", "--unreadable", "card.spaced.json"];
            let (after, wrong) = saved(dir, &listed[..if twice { 5 } else { 7 }], &truth);
            assert_eq!(wrong, Vec::<String>::new(), "{name}");
            assert!(after + if twice { 0 } else { 5 } >= files.len(), "{name}: {after}");
        }
    }
}

#[test]
fn a_partition_whose_move_was_cut_off_is_put_together_and_what_follows_it_stays() {
    // Long enough that a move by several MiB goes over the place where it began.
    let mut files = content(9);
    files.insert(
        0,
        (
            "long.bin".to_owned(),
            (0..2_300_000_u32).map(|at| at.wrapping_mul(2_654_435_761).to_le_bytes()[2]).collect(),
        ),
    );
    let next = on_fat(2048, &content(10));
    for (family, volume) in &volumes(&files) {
        // Where it was and where it goes, in KiB; how far the move came is behind a file, and which of the two places the
        // table has.
        for (from, to, file, table) in
            [(3072, 1024, 23, 1024), (2048, 1024, 31, 2048), (1024, 1088, 14, 1024), (2048, 2112, 9, 2048)]
        {
            let name = format!("{family}, from {from} to {to} KiB, behind file {file}, listed at {table}");
            let (start, other) = (from.min(to) * 1024, from.max(to) * 1024);
            let next_at = other + volume.len() + MIB;
            let mut disk = vec![0; next_at];
            let kind = if *family == "FAT16" {
                6
            } else if *family == "FAT32" {
                0x0C
            } else {
                7
            };
            let entries = [(table * 1024, volume.len(), kind), (next_at, next.len(), 6)];
            for (number, (at, length, kind)) in entries.into_iter().enumerate() {
                let entry = &mut disk[446 + 16 * number..][..16];
                entry[4] = kind;
                entry[8..12].copy_from_slice(&u32::try_from(at / 512).unwrap().to_le_bytes());
                entry[12..].copy_from_slice(&u32::try_from(length / 512).unwrap().to_le_bytes());
            }
            disk[510..512].copy_from_slice(&[0x55, 0xAA]);
            disk.extend(&next);
            let cut = (place(volume, &files[file].1) + 1024) / 512 * 512;
            // From the front to a place before, from the end to a place behind: what was read is written over last.
            let (old, new, copied) =
                if from > to { (other, start, 0..cut) } else { (start, other, cut..volume.len()) };
            disk[old..old + volume.len()].copy_from_slice(volume);
            disk[new + copied.start..new + copied.end].copy_from_slice(&volume[copied]);
            let folder = folder_with("card.img", &disk);
            let dir = folder.path();
            let seen: Value = serde_json::from_str(&run(dir, &["scout", "card.img", "--json"]).out).unwrap();
            let found: Vec<u64> =
                seen["volumes"].as_array().unwrap().iter().map(|v| v["offset"].as_u64().unwrap()).collect();
            assert_eq!(found, [start as u64, next_at as u64], "{name}");
            let [_, _, many] = told(dir, start, &name);
            assert_eq!(many, other - start, "{name}");
            let spaced = laid_out(dir, start, &name);
            assert!(spaced[start..start + volume.len()] == volume[..], "{name}: it is put together");
            assert!(spaced[next_at..next_at + next.len()] == next[..], "{name}: what follows stays");
        }
    }
}
