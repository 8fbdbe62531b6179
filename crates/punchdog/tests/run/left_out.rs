//! Images that bytes were left out of, as by an imager that skips what it cannot read: everything behind stands too early.

use super::{
    folder_with, json, run,
    unearth::{content, on_exfat, on_fat, on_ntfs, sum},
};
use serde_json::Value;
use std::{collections::BTreeMap, fs, path::Path};

/// Where the content of a file stands.
pub(super) fn place(image: &[u8], bytes: &[u8]) -> usize {
    let bytes = &bytes[..1500];
    image.windows(bytes.len()).position(|piece| piece == bytes).expect("the lab wrote it")
}

/// Behind an MBR, at 1 MiB.
pub(super) fn in_partition(volume: &[u8]) -> Vec<u8> {
    let mut disk = vec![0; 1 << 20];
    let sectors = u32::try_from(volume.len() / 512).unwrap();
    disk[446 + 4] = if &volume[3..11] == b"NTFS    " || &volume[3..8] == b"EXFAT" { 7 } else { 0x0C };
    disk[446 + 8..446 + 12].copy_from_slice(&2048_u32.to_le_bytes());
    disk[446 + 12..446 + 16].copy_from_slice(&sectors.to_le_bytes());
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    disk.extend(volume);
    // Room behind it, so that the image is not too short for the volume.
    disk.resize(disk.len() + (1 << 20), 0);
    disk
}

/// The files that were copied out, with what is said of them: how many are as they were, and which are called whole and are
/// not.
pub(super) fn saved(at: &Path, words: &[&str], truth: &BTreeMap<String, String>) -> (usize, Vec<String>) {
    let done = run(at, words);
    assert!(done.status < 2, "{words:?}: {}", done.err);
    let manifest: Value = serde_json::from_str(&done.out).unwrap();
    let (mut good, mut wrong) = (0, Vec::new());
    for file in manifest["files"].as_array().unwrap() {
        let path = file["path"].as_str().unwrap();
        if truth.get(path).is_some_and(|sum| file["sha256"] == **sum) {
            good += 1;
        } else if file["whole"] == true && path != "ballast" {
            wrong.push(path.to_owned());
        }
    }
    (good, wrong)
}

#[test]
fn what_stands_behind_a_gap_is_not_called_whole_and_comes_back_with_the_gap() {
    let files = content(7);
    let truth: BTreeMap<String, String> =
        files.iter().map(|(path, bytes)| (path.clone(), sum(bytes))).collect();
    let volumes = [
        ("FAT32", on_fat(512, &files)),
        ("FAT16", on_fat(2048, &files)),
        ("exFAT", on_exfat(4096, &files)),
        ("NTFS", on_ntfs(&files)),
    ];
    // Behind which files, and how many bytes.
    let gaps: [&[(usize, usize)]; 4] =
        [&[(20, 512)], &[(12, 4096)], &[(25, 65_536)], &[(9, 4096), (30, 1024)]];
    for (family, volume) in &volumes {
        for (number, gaps) in gaps.iter().enumerate() {
            let bare = number % 2 == 0;
            let name = format!("{family}, {gaps:?}, {}", if bare { "bare" } else { "in a partition" });
            let whole = if bare { volume.clone() } else { in_partition(volume) };
            let (mut image, mut cuts) = (Vec::new(), Vec::new());
            let mut at = 0;
            for (file, bytes) in *gaps {
                let from = (place(&whole, &files[*file].1) + 1024) / 512 * 512;
                image.extend(&whole[at..from]);
                cuts.push((from, *bytes));
                at = from + bytes;
            }
            image.extend(&whole[at..]);
            let folder = folder_with("card.img", &image);
            let dir = folder.path();
            let seen = json(dir, &["check", "card.img"], 1);
            let volume = &seen["volumes"][0];
            let codes: Vec<&str> =
                volume["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
            assert!(codes.contains(&"medium/left-out"), "{name}: {codes:?}");
            let found: Vec<[u64; 3]> = volume["left_out"]
                .as_array()
                .unwrap()
                .iter()
                .map(|gap| ["from", "to", "bytes"].map(|key| gap[key].as_u64().unwrap()))
                .collect();
            assert_eq!(found.len(), cuts.len(), "{name}: {found:?} of {cuts:?}");
            for ([from, to, bytes], (at, length)) in found.iter().zip(&cuts) {
                let at = *at as u64;
                assert_eq!(*bytes, *length as u64, "{name}: {found:?}");
                assert!(*from <= at && at + *bytes <= *to, "{name}: {found:?} of {cuts:?}");
            }
            let (before, wrong) = saved(dir, &["salvage", "card.img", "--to", "out", "--json"], &truth);
            assert_eq!(wrong, Vec::<String>::new(), "{name}");
            // Nothing is mended where it does not belong.
            let plan = json(dir, &["plan", "card.img", "--volume", "1"], 1);
            assert_eq!(plan["steps"], Value::Array(Vec::new()), "{name}");
            // What check says comes next brings the others back.
            let said = run(dir, &["check", "card.img"]).out;
            let line = said.lines().find(|line| line.contains("punchdog surface card.img --left-out "));
            let line = line.unwrap_or_else(|| panic!("{name}: {said}"));
            let words: Vec<&str> = line.split_whitespace().skip_while(|word| *word != "surface").collect();
            let words: Vec<&str> = words.into_iter().take_while(|word| *word != "puts").collect();
            let done = json(dir, &words, 0);
            assert_eq!(done["done"], true, "{name}");
            let spaced = fs::read(dir.join("card.spaced.img")).unwrap();
            assert_eq!(spaced.len(), whole.len(), "{name}");
            let end = cuts.last().map_or(0, |(at, length)| at + length);
            assert!(
                spaced[end + (64 << 10)..] == whole[end + (64 << 10)..],
                "{name}: what stands behind is back"
            );
            let listed = ["--unreadable", "card.spaced.json", "--to", "back", "--json"];
            let (after, wrong) = saved(dir, &[&["salvage", "card.spaced.img"][..], &listed].concat(), &truth);
            assert_eq!(wrong, Vec::<String>::new(), "{name}");
            // What lay in a gap or beside it is lost: of 64 KiB, about ten pictures.
            let lost = if gaps.iter().any(|(_, bytes)| *bytes > 4096) { 20 } else { 5 * gaps.len() };
            assert!(
                before < files.len() - 10 && after + lost >= files.len(),
                "{name}: {before}, then {after}"
            );
        }
    }
}

#[test]
fn a_gap_is_put_back_only_where_it_fits() {
    let folder = folder_with("card.img", &[7; 8192]);
    let at = folder.path();
    let ask = |words: &[&str]| run(at, &[&["surface", "card.img"][..], words].concat()).status;
    for wrong in ["1024:2048", "a:b:c", "1024:1100:512", "0:99999999:512", "4096:8192:0", "1:2:3:4"] {
        assert_eq!(ask(&["--left-out", wrong, "--list", "l.json", "--image", "n.img"]), 2, "{wrong}");
    }
    assert_eq!(ask(&["--left-out", "1024:4096:512", "--list", "l.json"]), 2, "no image is named");
    assert!(!at.join("l.json").exists() && !at.join("n.img").exists());
    assert_eq!(ask(&["--left-out", "1024:4096:512", "--list", "l.json", "--image", "n.img"]), 0);
    let made = fs::read(at.join("n.img")).unwrap();
    assert_eq!((made.len(), &made[3584..4096], made[4096]), (8704, &[0; 512][..], 7));
    assert_eq!(
        ask(&["--left-out", "1024:4096:512", "--list", "m.json", "--image", "n.img"]),
        2,
        "it is there"
    );
    assert!(fs::read(at.join("n.img")).unwrap() == made && !at.join("m.json").exists());
}
