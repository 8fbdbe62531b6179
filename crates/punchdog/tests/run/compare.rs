//! Whether two things hold the same.

use super::{folder_with, json, patient, run};
use punchdog_core::family::Kind;
use punchdog_damage::{exfat, exfat_faults, fat, faults::Patient};
use serde_json::{Value, json};
use std::{fs, path::Path};

fn rows<'v>(document: &'v Value, fate: &str) -> Vec<&'v Value> {
    document["files"].as_array().unwrap().iter().filter(|row| row["fate"] == fate).collect()
}

#[test]
fn a_mended_copy_and_a_folder_of_saved_files_are_held_against_the_sound_twin() {
    let sound = patient(Kind::Fat32);
    let folder = folder_with("sound.img", &sound.bytes);
    let at = folder.path();
    let mut struck = sound.clone();
    struck.fill(0, 512, 0);
    fs::write(at.join("card.img"), &struck.bytes).unwrap();
    json(at, &["plan", "card.img", "--out", "p.json"], 0);
    json(at, &["apply", "p.json", "--image", "card.img", "--copy", "mended.img"], 0);
    let files = sound.live().filter(|made| !made.folder).count();
    let alike = json(at, &["compare", "sound.img", "mended.img"], 0);
    assert_eq!((&alike["same"], &alike["alike"]), (&json!(files), &json!(true)));
    json(at, &["compare", "sound.img", "mended.img", "--bytes"], 0);
    json(at, &["salvage", "card.img", "--to", "out"], 0);
    assert_eq!(
        json(at, &["compare", "sound.img", "out"], 0)["same"],
        json!(files),
        "names that were made safe too"
    );

    // One of each.
    let file = |path: &str| at.join("out").join(path);
    let mut bytes = fs::read(file("ledges.csv")).unwrap();
    bytes[700] ^= 1;
    fs::write(file("ledges.csv"), &bytes).unwrap();
    fs::rename(file("Logs/station.log"), at.join("out/elsewhere.log")).unwrap();
    fs::remove_file(file("README.TXT")).unwrap();
    fs::write(file("stranger.txt"), "new").unwrap();
    let differ = json(at, &["compare", "sound.img", "out"], 1);
    let [changed] = rows(&differ, "changed")[..] else { panic!("{differ}") };
    assert_eq!((&changed["path"], &changed["from"]), (&json!("ledges.csv"), &json!(700)));
    let [moved] = rows(&differ, "moved")[..] else { panic!("{differ}") };
    assert_eq!((&moved["path"], &moved["to"]), (&json!("Logs/station.log"), &json!("elsewhere.log")));
    let [missing] = rows(&differ, "missing")[..] else { panic!("{differ}") };
    assert_eq!(missing["sha256"][0], json!(sound.find("README.TXT").sha256));
    let [new] = rows(&differ, "only-in-other")[..] else { panic!("{differ}") };
    assert_eq!((&new["path"], &new["bytes"][1]), (&json!("stranger.txt"), &json!(3)));
    assert_eq!(differ["same"], json!(files - 3));
    let text = run(at, &["compare", "sound.img", "out"]).out;
    for part in ["different", "1 changed", "ledges.csv, from byte 700 on", "Logs/station.log → elsewhere.log"]
    {
        assert!(text.contains(part), "{part} in {text}");
    }
}

#[test]
fn differing_bytes_are_named_by_what_lies_there() {
    let sound = patient(Kind::Fat16);
    let folder = folder_with("one.img", &sound.bytes);
    let at = folder.path();
    let g = sound.geometry;
    let file = sound.find("ledges.csv");
    let mut other = sound.clone();
    let places = [
        (3, 2),
        (g.table_offset(1) + 5, 1),
        (g.cluster_offset(file.clusters[0]) + 9, 3),
        (other.bytes.len() as u64 - 1, 1),
    ];
    for (offset, length) in places {
        let flipped: Vec<u8> = other.read(offset, length).iter().map(|byte| byte ^ 0x55).collect();
        other.write(offset, &flipped);
    }
    fs::write(at.join("other.img"), &other.bytes).unwrap();
    let found = json(at, &["compare", "one.img", "other.img", "--bytes"], 1);
    assert_eq!(found["differing_bytes"], json!(7));
    let told: Vec<(u64, u64)> = found["places"]
        .as_array()
        .unwrap()
        .iter()
        .map(|place| (place["offset"].as_u64().unwrap(), place["length"].as_u64().unwrap()))
        .collect();
    assert_eq!(told, places.map(|(at, length)| (at, length as u64)));
    let named: Vec<String> = serde_json::from_value(found["lies_in"].clone()).unwrap();
    for part in ["the boot sector: 2", "the second table: 1", "the file ledges.csv: 3", "where nothing is: 1"]
    {
        assert!(named.iter().any(|line| line.starts_with(part)), "{part} in {named:?}");
    }
    // Shorter is not alike.
    fs::write(at.join("short.img"), &sound.bytes[..sound.bytes.len() - 512]).unwrap();
    let short = json(at, &["compare", "one.img", "short.img", "--bytes"], 1);
    assert_eq!((&short["alike"], &short["differing_bytes"]), (&json!(false), &json!(0)));
}

#[test]
fn volumes_of_other_families_in_disks_are_compared_by_their_files() {
    // The same files on exFAT at 1 MiB of a disk, and on a bare FAT32.
    let seed = 4;
    let fat = Patient::new(fat::everyday(&fat::small(Kind::Fat32, 512, 1024), seed));
    let exfat = exfat_faults::Patient::new(exfat::everyday(&exfat::small(512, 1024, 1), seed));
    let folder = folder_with("a.img", &fat.bytes);
    let at = folder.path();
    let mut disk = vec![0; 1 << 20];
    disk.extend(&exfat.bytes);
    fs::write(at.join("b.img"), disk).unwrap();
    let found = json(at, &["compare", "a.img", "b.img", "--at-b", "1048576"], 1);
    let of_exfat: Vec<&str> =
        exfat.live().filter(|made| !made.folder).map(|made| made.path.as_str()).collect();
    let common = fat.live().filter(|made| !made.folder && of_exfat.contains(&made.path.as_str())).count();
    let met = rows(&found, "same").len() + rows(&found, "changed").len();
    assert_eq!(met, common);
    for row in rows(&found, "same") {
        let path = row["path"].as_str().unwrap();
        assert_eq!(row["sha256"][1], json!(exfat.find(path).sha256), "{path}");
    }
    refused(at);
}

fn refused(at: &Path) {
    fs::write(at.join("text.txt"), "no image").unwrap();
    for words in [
        &["compare", "a.img", "a.img"][..],
        &["compare", "a.img", "none.img"],
        &["compare", "a.img", "text.txt"],
        &["compare", "a.img", "b.img", "--at-b", "512"],
    ] {
        let done = run(at, words);
        assert_eq!(done.status, 2, "{words:?}: {}", done.out);
        assert!(done.err.contains("Next"), "{}", done.err);
    }
}
