//! A medium that was divided anew, and lost the table that says so: the old volume and the new one.

#![allow(clippy::cast_possible_truncation, reason = "places in an image of 64 MiB")]

use super::{folder_with, json, run};
use punchdog_core::family::Kind;
use punchdog_damage::cards::{Card, Fill, Listing, Shape, Volume};
use std::{collections::BTreeMap, fs, path::Path};

const MIB: u64 = 1 << 20;
const OLD: u64 = 4 * MIB;
const NEW: u64 = 16 * MIB;

fn card(kind: Kind, start: u64, bytes: u64, cluster: u32, fill: Fill) -> Card {
    Card::new(64 * MIB, Listing::Mbr, &[Shape { kind, start, bytes, cluster, fill }])
}

/// A full FAT32 card, and what is left under it of an exFAT one; the MBR is gone.
fn divided_anew() -> (Vec<u8>, Volume, Volume) {
    let old = card(Kind::Exfat, OLD, 56 * MIB, 4096, Fill::Some);
    let new = card(Kind::Fat32, NEW, 40 * MIB, 512, Fill::Full);
    let mut bytes = old.bytes.clone();
    let (from, to) = (NEW as usize, (NEW + 40 * MIB) as usize);
    bytes[from..to].copy_from_slice(&new.bytes[from..to]);
    bytes[..512].fill(0);
    (bytes, old.volumes[0].clone(), new.volumes[0].clone())
}

/// Path and SHA-256 of the files that are listed as whole.
fn intact(at: &Path, image: &str, start: u64) -> BTreeMap<String, String> {
    let listing = json(at, &["files", image, "--hash", "--at", &start.to_string()], 0);
    let files = listing["files"].as_array().unwrap().iter();
    let text = |value: &serde_json::Value| value.as_str().unwrap_or("").to_owned();
    files
        .filter(|file| file["folder"] == false && file["state"] == "intact")
        .map(|file| (text(&file["path"]), text(&file["sha256"])))
        .collect()
}

fn made(volume: &Volume) -> BTreeMap<String, String> {
    volume.files().map(|made| (made.path.clone(), made.sha256.clone())).collect()
}

#[test]
fn which_of_two_volumes_is_in_use_is_asked_not_guessed() {
    let (bytes, old, new) = divided_anew();
    // What is left of the new one's beginning: all, its backup, nothing up to 8 KiB into its first table.
    for gap in [0, 512, new.layout.table(0) as usize + 8192] {
        let mut struck = bytes.clone();
        struck[NEW as usize..NEW as usize + gap].fill(0);
        let folder = folder_with("disk.img", &struck);
        let at = folder.path();
        let seen = json(at, &["scout", "disk.img"], 1);
        let found: Vec<u64> =
            seen["volumes"].as_array().unwrap().iter().map(|v| v["offset"].as_u64().unwrap()).collect();
        assert_eq!(found, [OLD, NEW], "{gap} bytes of its beginning gone");
        assert_eq!(intact(at, "disk.img", OLD), made(&old));
        assert_eq!(intact(at, "disk.img", NEW), made(&new));

        // The old one is never called sound without that word.
        let said = run(at, &["check", "disk.img", "--at", &OLD.to_string()]).out.replace('\n', " ");
        assert!(
            said.contains("sound by itself") && said.contains("which of the two is in use is not known"),
            "{said}"
        );

        let open = json(at, &["plan", "disk.img"], 1);
        assert_eq!(open["choices"][0]["name"], "in-use");
        assert_eq!(open["choices"][0]["taken"], "none");
        assert!(open["steps"].as_array().unwrap().is_empty(), "nothing is written before an answer");
        let fates = open["outcome"]["fates"].as_object().unwrap();
        assert!(fates.keys().all(|fate| fate == "intact"), "no step, no change: {fates:?}");

        for (start, other) in [(OLD, &new), (NEW, &old)] {
            let (plan, copy) = (format!("{start}.json"), format!("{start}.img"));
            let choice = format!("in-use={start}");
            json(at, &["plan", "disk.img", "--choose", &choice, "--out", &plan], 0);
            json(at, &["apply", &plan, "--image", "disk.img", "--copy", &copy], 0);
            let kept = if start == OLD { &old } else { &new };
            assert_eq!(intact(at, &copy, start), made(kept));
            json(at, &["check", &copy], 0);
            // Nothing of the other is harmed: in the copy its content is byte for byte what it was.
            let mended = fs::read(at.join(&copy)).unwrap();
            for made in other.files() {
                for (from, length) in other.content(made) {
                    let range = from as usize..(from + length) as usize;
                    assert!(mended[range.clone()] == struck[range], "{}", made.path);
                }
            }
            assert_eq!(run(at, &["undo", &copy]).status, 0);
            assert!(fs::read(at.join(&copy)).unwrap() == struck, "undone");
        }
    }
}

/// A bare volume with all its files, and a whole new one behind the last of them: the table was all that said which is in use.
#[test]
fn a_bare_volume_does_not_hide_the_one_that_a_table_listed() {
    let bare = Shape { kind: Kind::Fat32, start: 0, bytes: 64 * MIB, cluster: 512, fill: Fill::Some };
    let old = Card::new(64 * MIB, Listing::Bare, &[bare]);
    for (kind, cluster) in [(Kind::Fat32, 512), (Kind::Exfat, 4096), (Kind::Ntfs, 4096)] {
        let new = card(kind, NEW, 40 * MIB, cluster, Fill::Some);
        let mut bytes = old.bytes.clone();
        let (from, to) = (NEW as usize, (NEW + 40 * MIB) as usize);
        bytes[from..to].copy_from_slice(&new.bytes[from..to]);
        bytes[..512].fill(0);
        for gap in [0, 512] {
            let mut struck = bytes.clone();
            struck[from..from + gap].fill(0);
            let folder = folder_with("disk.img", &struck);
            let at = folder.path();
            let seen = json(at, &["scout", "disk.img"], 1);
            let found: Vec<u64> =
                seen["volumes"].as_array().unwrap().iter().map(|v| v["offset"].as_u64().unwrap()).collect();
            assert_eq!(found, [0, NEW], "{kind:?}, {gap} bytes of its beginning gone");
            assert_eq!(intact(at, "disk.img", 0), made(&old.volumes[0]));
            assert_eq!(intact(at, "disk.img", NEW), made(&new.volumes[0]));
            let open = json(at, &["plan", "disk.img"], 1);
            assert_eq!(open["choices"][0]["taken"], "none");
            assert!(open["steps"].as_array().unwrap().is_empty(), "nothing is written before an answer");

            let choice = format!("in-use={NEW}");
            json(at, &["plan", "disk.img", "--choose", &choice, "--out", "new.json"], 0);
            json(at, &["apply", "new.json", "--image", "disk.img", "--copy", "new.img"], 0);
            json(at, &["check", "new.img"], 0);
            assert_eq!(intact(at, "new.img", NEW), made(&new.volumes[0]));
            // Nothing is written over the entry of a table but where the old one is mended for itself.
            json(at, &["plan", "disk.img", "--choose", "in-use=0", "--out", "none.json"], 1);
            json(at, &["plan", "disk.img", "--at", "0", "--out", "old.json"], 0);
            json(at, &["apply", "old.json", "--image", "disk.img", "--copy", "old.img"], 0);
            assert_eq!(intact(at, "old.img", 0), made(&old.volumes[0]));
        }
    }
}

/// The copies of an NTFS's first records stand in its midst, here in a file of the card that came after it.
#[test]
fn what_an_older_ntfs_has_in_its_midst_does_not_hide_a_newer_volume() {
    let old = card(Kind::Ntfs, OLD, 56 * MIB, 4096, Fill::Some);
    let new = card(Kind::Exfat, NEW, 40 * MIB, 4096, Fill::Full);
    let mut bytes = old.bytes.clone();
    let (from, to) = (NEW as usize, (NEW + 40 * MIB) as usize);
    let own = bytes[from..to].iter().filter(|byte| **byte != 0).count();
    assert!((1..1 << 20).contains(&own), "of the old one stands there what it has for itself: {own} bytes");
    bytes[from..to].copy_from_slice(&new.bytes[from..to]);
    bytes[..512].fill(0);
    // Both boot regions of the new one.
    bytes[from..from + 24 * 512].fill(0xFF);
    let folder = folder_with("disk.img", &bytes);
    let at = folder.path();
    let seen = json(at, &["scout", "disk.img"], 1);
    let found: Vec<u64> =
        seen["volumes"].as_array().unwrap().iter().map(|v| v["offset"].as_u64().unwrap()).collect();
    assert_eq!(found, [OLD, NEW]);
    let open = json(at, &["plan", "disk.img"], 1);
    assert!(open["steps"].as_array().unwrap().is_empty(), "nothing is written before an answer");
    json(at, &["plan", "disk.img", "--choose", &format!("in-use={NEW}"), "--out", "new.json"], 0);
    json(at, &["apply", "new.json", "--image", "disk.img", "--copy", "new.img"], 0);
    assert_eq!(intact(at, "new.img", NEW), made(&new.volumes[0]));
}

/// The old volume was full: its entries still name the clusters that the new one has written over.
#[test]
fn a_full_old_volume_does_not_hide_the_one_that_was_written_over_its_files() {
    let (fat, exfat, ntfs) = ((Kind::Fat32, 512), (Kind::Exfat, 4096), (Kind::Ntfs, 4096));
    for (before, after) in [(exfat, fat), (fat, ntfs), (ntfs, exfat), (ntfs, ntfs)] {
        let old = card(before.0, OLD, 56 * MIB, before.1, Fill::Full);
        let new = card(after.0, NEW, 40 * MIB, after.1, Fill::Some);
        let mut bytes = old.bytes.clone();
        let (from, to) = (NEW as usize, (NEW + 40 * MIB) as usize);
        bytes[from..to].copy_from_slice(&new.bytes[from..to]);
        bytes[..512].fill(0);
        let folder = folder_with("disk.img", &bytes);
        let at = folder.path();
        let seen = json(at, &["scout", "disk.img"], 1);
        let found: Vec<u64> =
            seen["volumes"].as_array().unwrap().iter().map(|v| v["offset"].as_u64().unwrap()).collect();
        assert_eq!(found, [OLD, NEW], "{after:?} over {before:?}");
        assert_eq!(intact(at, "disk.img", NEW), made(&new.volumes[0]));
        let open = json(at, &["plan", "disk.img"], 1);
        assert_eq!(open["choices"][0]["taken"], "none");
        assert!(open["steps"].as_array().unwrap().is_empty(), "nothing is written before an answer");
        json(at, &["plan", "disk.img", "--choose", &format!("in-use={NEW}"), "--out", "new.json"], 0);
        json(at, &["apply", "new.json", "--image", "disk.img", "--copy", "new.img"], 0);
        json(at, &["check", "new.img"], 0);
        assert_eq!(intact(at, "new.img", NEW), made(&new.volumes[0]));
    }
}

#[test]
fn the_image_of_a_medium_in_a_file_is_no_rival() {
    let mut card = card(Kind::Fat32, OLD, 40 * MIB, 512, Fill::Full);
    let inner = Card::new(
        4 * MIB,
        Listing::Bare,
        &[Shape { kind: Kind::Fat12, start: 0, bytes: 4 * MIB, cluster: 2048, fill: Fill::Some }],
    );
    let volume = card.volumes[0].clone();
    let (from, length) = volume
        .files()
        .filter(|made| made.clusters.windows(2).all(|pair| pair[1] == pair[0] + 1))
        .map(|made| (volume.content(made)[0].0, made.size))
        .max_by_key(|(_, length)| *length)
        .unwrap();
    let head = usize::try_from(length).unwrap().min(inner.bytes.len());
    card.bytes[from as usize..from as usize + head].copy_from_slice(&inner.bytes[..head]);
    card.bytes[..512].fill(0);
    let folder = folder_with("disk.img", &card.bytes);
    let alone = folder_with("disk.img", &inner.bytes[..head]);
    assert!(!json(alone.path(), &["scout", "disk.img"], 1)["volumes"].as_array().unwrap().is_empty());
    let seen = json(folder.path(), &["scout", "disk.img"], 1);
    assert_eq!(seen["volumes"].as_array().unwrap().len(), 1);
    json(folder.path(), &["plan", "disk.img", "--out", "plan.json"], 0);
}
