//! Every next command that is printed runs, does its work, and is not the one that printed it.

use super::{patient, punchdog, run};
use punchdog_core::family::Kind;
use punchdog_damage::{exfat, exfat_faults, faults, patient::Patient, seed::Seed, station};
use std::{
    collections::{BTreeSet, VecDeque},
    fs,
    path::Path,
};
use tempfile::TempDir;

/// The commands behind "Next" of a page, as words.
fn printed(out: &str) -> Vec<Vec<String>> {
    let behind = out.lines().skip_while(|line| !line.starts_with("Next"));
    let commands = behind.filter_map(|line| {
        let text = line.trim_start_matches("Next").trim_start();
        let command = text.strip_prefix("punchdog ")?;
        // Why stands behind four spaces.
        Some(words(command.split("    ").next().unwrap_or(command)))
    });
    commands.collect()
}

/// Words as a shell reads them: single quotes hold spaces.
fn words(text: &str) -> Vec<String> {
    let (mut all, mut word, mut quoted) = (Vec::new(), String::new(), false);
    for c in text.trim().chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => all.push(std::mem::take(&mut word)),
            c => word.push(c),
        }
    }
    all.push(word);
    all
}

/// Follows the printed commands from `first` on until no new one comes.
fn follow(at: &Path, first: &[&str]) -> usize {
    let owned = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<String>>();
    let mut open = VecDeque::from([owned(first)]);
    let (mut seen, mut undo) = (BTreeSet::new(), Vec::new());
    while let Some(words) = open.pop_front() {
        if !seen.insert(words.clone()) {
            continue;
        }
        assert!(seen.len() < 60, "{first:?} leads on and on: {seen:?}");
        let place = format!("saved-{}", seen.len());
        let filled: Vec<String> = words
            .iter()
            .map(|word| if word == "SOMEWHERE-ELSE" { place.clone() } else { word.clone() })
            .collect();
        let given: Vec<&str> = filled.iter().map(String::as_str).collect();
        // A file that is there stops plan and apply, as it should: the folder is new for each patient.
        let done = run(at, &given);
        assert!(done.status < 2, "{first:?}: {words:?} ended with {}: {}{}", done.status, done.out, done.err);
        for next in printed(&done.out) {
            assert_ne!(next, words, "{words:?} recommends itself");
            // Undone, a copy is as damaged as the image was, and all begins anew: that comes last.
            if next[0] == "undo" { undo.push(next) } else { open.push_back(next) }
        }
    }
    for words in undo {
        let given: Vec<&str> = words.iter().map(String::as_str).collect();
        assert_eq!(run(at, &given).status, 0, "{words:?}");
    }
    seen.len()
}

fn folder_with(bytes: &[u8]) -> TempDir {
    // A name that has to be quoted.
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("old card.img"), bytes).unwrap();
    folder
}

fn follow_all(bytes: &[u8]) -> usize {
    let mut count = 0;
    for command in ["scout", "check", "explain", "fields", "files", "plan"] {
        let folder = folder_with(bytes);
        count += follow(folder.path(), &[command, "old card.img"]);
    }
    count
}

#[test]
fn on_damaged_and_sound_volumes() {
    let mut count = follow_all(&patient(Kind::Fat16).bytes);
    for (number, fault) in faults::all().enumerate().filter(|(number, _)| number % 16 == 3) {
        let kind = [Kind::Fat12, Kind::Fat16, Kind::Fat32][number % 3];
        let mut patient = patient(kind);
        if (fault.on)(&patient.geometry) {
            (fault.make)(&mut patient, &mut Seed::new(1));
            count += follow_all(&patient.bytes);
        }
    }
    for fault in exfat_faults::all().step_by(17) {
        let mut patient: exfat_faults::Patient =
            Patient::new(exfat::everyday(&exfat::small(512, 1024, 1), 2));
        if (fault.on)(&patient.geometry) {
            (fault.make)(&mut patient, &mut Seed::new(1));
            count += follow_all(&patient.bytes);
        }
    }
    assert!(count > 300, "{count}");
}

/// A disk with these volumes at these bytes, listed in an MBR.
fn disk(volumes: &[(u64, u8, &[u8])], length: u64) -> Vec<u8> {
    let mut disk = vec![0; usize::try_from(length).unwrap()];
    for (number, (at, kind, bytes)) in volumes.iter().enumerate() {
        let start = usize::try_from(*at).unwrap();
        disk[start..start + bytes.len()].copy_from_slice(bytes);
        let entry = 446 + number * 16;
        disk[entry + 4] = *kind;
        disk[entry + 8..entry + 12].copy_from_slice(&u32::try_from(at / 512).unwrap().to_le_bytes());
        let sectors = u32::try_from(bytes.len() / 512).unwrap();
        disk[entry + 12..entry + 16].copy_from_slice(&sectors.to_le_bytes());
    }
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    disk
}

#[test]
fn on_disks_with_one_volume_and_with_several() {
    let sound = patient(Kind::Fat16).bytes;
    let mut struck = patient(Kind::Fat32);
    struck.fill(0, 512, 0);
    let cluster = struck.find("Logs/station.log").clusters[1];
    struck.set_link(cluster, 0);
    let two = disk(&[(1 << 20, 0x0E, &sound), (24 << 20, 0x0C, &struck.bytes)], 48 << 20);
    let one = disk(&[(1 << 20, 0x0C, &struck.bytes)], 24 << 20);
    let mut wrong_type = one.clone();
    wrong_type[450] = 0x83;
    let mut no_table = two.clone();
    no_table[..512].fill(0);
    let mut too_long = one.clone();
    too_long[458..462].copy_from_slice(&200_000_u32.to_le_bytes());
    for bytes in [two, one, wrong_type, no_table, too_long] {
        for command in ["scout", "check", "explain"] {
            let folder = folder_with(&bytes);
            follow(folder.path(), &[command, "old card.img"]);
        }
        let folder = folder_with(&bytes);
        let planned =
            run(folder.path(), &["plan", "old card.img", "--only", "table", "--out", "table.plan.json"]);
        assert!(planned.status < 2, "{}", planned.err);
        for next in printed(&planned.out) {
            let words: Vec<&str> = next.iter().map(String::as_str).collect();
            follow(folder.path(), &words);
        }
    }
}

#[test]
fn on_the_stations_cards() {
    let cards = [
        station::tide_card().unwrap().patient.bytes,
        station::camera_card().unwrap().patient.bytes,
        station::recorder_card().unwrap().patient.bytes,
    ];
    for card in cards {
        let folder = folder_with(&card);
        follow(folder.path(), &["check", "old card.img"]);
    }
    let (_, stick) = station::field_stick().unwrap();
    let folder = folder_with(&stick);
    follow(folder.path(), &["scout", "old card.img"]);
}

/// What is said of one thing and of many is grammar.
#[test]
fn numbers_agree_with_their_nouns() {
    let mut texts = String::new();
    for (number, fault) in faults::all().enumerate().filter(|(number, _)| number % 5 == 0) {
        let mut patient = patient([Kind::Fat12, Kind::Fat16, Kind::Fat32][number % 3]);
        if !(fault.on)(&patient.geometry) {
            continue;
        }
        (fault.make)(&mut patient, &mut Seed::new(1));
        let folder = folder_with(&patient.bytes);
        for words in
            [&["check", "old card.img", "--all"][..], &["plan", "old card.img"], &["explain", "old card.img"]]
        {
            let done = punchdog(folder.path(), words).env("COLUMNS", "120").output().unwrap();
            texts.push_str(&String::from_utf8(done.stdout).unwrap());
        }
    }
    for wrong in [
        " 1 files",
        " 1 entries",
        " 1 times",
        " 1 chains",
        " 1 clusters ",
        " 1 steps",
        "A exFAT",
        "a exFAT",
        "an FAT",
    ] {
        let hit = texts.lines().find(|line| line.contains(wrong));
        assert!(hit.is_none(), "{wrong:?} in {hit:?}");
    }
    assert!(texts.len() > 20_000);
}
