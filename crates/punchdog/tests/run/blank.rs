//! Media whose content reads blank in places: a member of a striped set is missing, an imager jumped, a stretch was never
//! written, erased, or filled up.

use super::{
    folder_with, json,
    left_out::in_partition,
    run,
    unearth::{FOLDERS, content, on_exfat, on_fat, on_ntfs, sum},
};
use serde_json::Value;
use std::{collections::BTreeMap, path::Path};

const MIB: usize = 1 << 20;

type Files = Vec<(String, Vec<u8>)>;

fn volumes(files: &Files) -> [(&'static str, Vec<u8>); 4] {
    [
        ("FAT32", on_fat(512, files)),
        ("FAT16", on_fat(2048, files)),
        ("exFAT", on_exfat(4096, files)),
        ("NTFS", on_ntfs(files)),
    ]
}

fn sums(files: &Files) -> BTreeMap<String, String> {
    files.iter().map(|(path, bytes)| (path.clone(), sum(bytes))).collect()
}

/// Photos that are large enough to reach over several places, and the usual files.
fn files() -> Files {
    let mut files = content(11);
    let long: Vec<u8> = files.iter().flat_map(|(_, bytes)| bytes.clone()).collect();
    for (number, piece) in long.chunks(90_000).enumerate() {
        let begin = &files[number].1;
        let bytes = [&begin[..], piece].concat();
        files.push((format!("DCIM/PANORAMA{number:03}.JPG"), bytes));
    }
    files
}

/// The files that were copied out: how many have the content of one that was there, wherever its folder went, and which are
/// called whole and have not.
fn saved(dir: &Path, words: &[&str], truth: &BTreeMap<String, String>) -> (usize, Vec<String>) {
    let done = run(dir, words);
    assert!(done.status < 2, "{words:?}: {}", done.err);
    let manifest: Value = serde_json::from_str(&done.out).unwrap();
    let files = manifest["files"].as_array().unwrap().iter();
    let (good, others): (Vec<&Value>, Vec<&Value>) =
        files.partition(|file| truth.values().any(|sum| file["sha256"] == **sum));
    let wrong = others.into_iter().filter(|file| file["whole"] == true && file["path"] != "ballast");
    (good.len(), wrong.map(|file| file["path"].to_string()).collect())
}

/// Files that are said to be intact, with what they hold.
fn intact(dir: &Path, words: &[&str]) -> Vec<(String, String)> {
    let list = json(dir, words, 0);
    let files = list["files"].as_array().unwrap().iter();
    let intact = files.filter(|file| file["state"] == "intact" && file["folder"] != true);
    intact.map(|file| (file["path"].to_string(), file["sha256"].as_str().unwrap_or("").to_owned())).collect()
}

#[test]
fn what_is_blank_at_a_regular_distance_is_told_and_no_file_there_is_called_whole() {
    let files = files();
    let truth = sums(&files);
    for (family, volume) in &volumes(&files) {
        for (number, (every, from, bytes)) in
            [(24_576, 512, 4096), (32_768, 2560, 512), (8192, 3584, 512)].into_iter().enumerate()
        {
            let name = format!("{family}, {bytes} of {every} from {from} on");
            let mut disk = if number == 1 { volume.clone() } else { in_partition(volume) };
            for place in (from..disk.len()).step_by(every) {
                let end = disk.len().min(place + bytes);
                disk[place..end].fill(0);
            }
            let folder = folder_with("card.img", &disk);
            let dir = folder.path();
            let base = if number == 1 { 0 } else { MIB };
            let at = base.to_string();
            let seen = json(dir, &["check", "card.img", "--at", &at], 1);
            let told = &seen["volumes"][0]["blank_intervals"];
            let expected = serde_json::json!([{ "every": every, "from": from, "bytes": bytes }]);
            assert_eq!(*told, expected, "{name}");
            let plan = json(dir, &["plan", "card.img", "--at", &at], 1);
            assert_eq!(plan["steps"], Value::Array(Vec::new()), "{name}: nothing is mended that rests on it");
            let hashed = ["files", "card.img", "--at", &at, "--hash"];
            let wrong = |list: Vec<(String, String)>| -> Vec<String> {
                list.into_iter()
                    .filter(|(_, sum)| !truth.values().any(|one| one == sum))
                    .map(|(path, _)| path)
                    .collect()
            };
            assert_eq!(wrong(intact(dir, &hashed)), Vec::<String>::new(), "{name}");
            let (before, called) =
                saved(dir, &["salvage", "card.img", "--at", &at, "--to", "out", "--json"], &truth);
            assert_eq!(called, Vec::<String>::new(), "{name}");
            // The printed command lists them; from there on they are places that were not read.
            let said = run(dir, &["check", "card.img", "--at", &at]).out;
            let line = said.lines().find(|line| line.contains("punchdog surface card.img --blank-intervals"));
            let line = line.unwrap_or_else(|| panic!("{name}: {said}"));
            let words: Vec<&str> = line.split_whitespace().skip_while(|word| *word != "surface").collect();
            let words: Vec<&str> = words.into_iter().take_while(|word| *word != "lists").collect();
            assert_eq!(json(dir, &words, 0)["done"], true, "{name}");
            let listed = ["--at", &at, "--unreadable", "card.blank.json"];
            let seen = run(dir, &[&["check", "card.img", "--json"][..], &listed].concat());
            assert!(!seen.out.contains("blank_intervals"), "{name}: {}", seen.out);
            let done = run(dir, &[&["plan", "card.img", "--out", "plan.json"][..], &listed].concat());
            assert!(done.status < 2, "{name}: {}", done.err);
            let applied = run(
                dir,
                &[
                    "apply",
                    "--image",
                    "card.img",
                    "--copy",
                    "new.img",
                    "plan.json",
                    "--unreadable",
                    "card.blank.json",
                ],
            );
            assert!(applied.status < 2, "{name}: {}", applied.err);
            // What the copy lacks is known from the journal beside it. What nobody named stays a matter of judgement.
            let back = ["salvage", "new.img", "--at", &at, "--to", "back", "--json"];
            let (good, mut called) = saved(dir, &back, &truth);
            called.retain(|path| !path.contains("ADRIFT/"));
            assert_eq!(called, Vec::<String>::new(), "{name}");
            assert!(good >= before, "{name}: {good} of {before}");
        }
    }
}

#[test]
fn a_blank_stretch_that_files_begin_in_is_told_to_the_sector() {
    let files = content(12);
    let truth = sums(&files);
    for (family, volume) in &volumes(&files) {
        for (number, filler) in [&b"\0"[..], b"\xFF", b"NOT READ BY THE IMAGER! "].into_iter().enumerate() {
            let name = format!("{family}, filled with {filler:?}");
            let mut disk = if number == 1 { volume.clone() } else { in_partition(volume) };
            let base = if number == 1 { 0 } else { MIB };
            let place = |file: usize| super::left_out::place(&disk, &files[file].1);
            let (from, to) = ((place(10) + 700) / 512 * 512, (place(22) + 1200) / 512 * 512);
            for (byte, fill) in disk[from..to].iter_mut().zip(filler.iter().cycle()) {
                *byte = *fill;
            }
            let folder = folder_with("card.img", &disk);
            let dir = folder.path();
            let at = base.to_string();
            let seen = json(dir, &["check", "card.img", "--at", &at], 1);
            let findings = seen["volumes"][0]["findings"].as_array().unwrap();
            let told = findings.iter().find(|finding| finding["code"] == "medium/blank-stretch");
            let told = told.unwrap_or_else(|| panic!("{name}: {findings:?}"));
            let place = serde_json::json!([{ "offset": from, "length": to - from }]);
            assert_eq!(told["extents"], place, "{name}");
            let paths = told["paths"].as_array().unwrap().len();
            assert_eq!(paths, 13, "{name}: all from the one that it begins in to the one that it ends in");
            let (good, called) =
                saved(dir, &["salvage", "card.img", "--at", &at, "--to", "out", "--json"], &truth);
            assert_eq!((good, called), (files.len() - 13, Vec::new()), "{name}");
            let plan = json(dir, &["plan", "card.img", "--at", &at], 1);
            assert_eq!(plan["steps"], Value::Array(Vec::new()), "{name}: no structure is hit");
        }
    }
}

#[test]
fn files_that_begin_blank_here_and_there_are_not_called_whole() {
    let files = content(14);
    let truth = sums(&files);
    for (family, volume) in &volumes(&files) {
        let mut disk = in_partition(volume);
        // One sector each: of every fourth photo the first.
        let hit: Vec<usize> = (0..40).step_by(4).collect();
        for file in &hit {
            let from = super::left_out::place(&disk, &files[*file].1);
            disk[from..from + 512].fill(0);
        }
        let folder = folder_with("card.img", &disk);
        let dir = folder.path();
        let seen = json(dir, &["check", "card.img"], 1);
        let findings = seen["volumes"][0]["findings"].as_array().unwrap();
        let told = findings.iter().find(|finding| finding["code"] == "medium/blank-stretch");
        let told = told.unwrap_or_else(|| panic!("{family}: {findings:?}"));
        assert_eq!(told["paths"].as_array().unwrap().len(), hit.len(), "{family}: {told}");
        let (good, called) = saved(dir, &["salvage", "card.img", "--to", "out", "--json"], &truth);
        assert_eq!((good, called), (files.len() - hit.len(), Vec::new()), "{family}");
    }
}

#[test]
fn files_that_are_blank_in_places_of_themselves_are_no_such_thing() {
    // Pages of a database, each with nothing in its second half; a few pictures that were never written; text.
    let mut files = content(13);
    for number in 0..45_usize {
        let page = |page: usize| [&[7_u8, 8].repeat(1024)[..], &[0; 2048]].concat().repeat(1 + page % 3);
        files.push((format!("{}/pages{number}.db", FOLDERS[number % 4]), page(number)));
    }
    files.push(("DCIM/100LEDGE/NEVER.JPG".to_owned(), vec![0; 6000]));
    for (family, mut volume) in volumes(&files) {
        // One fault, so that all is looked for.
        volume[510] = 0;
        let folder = folder_with("card.img", &volume);
        let seen = run(folder.path(), &["check", "card.img", "--json"]);
        assert!(seen.status == 1 && !seen.out.contains("medium/"), "{family}: {}", seen.out);
    }
}
