//! Files that no folder names: deleted, formatted over, by their content.

use super::{folder_with, json, run};
use punchdog_core::{
    exfat,
    family::Kind,
    fat,
    ntfs::{self, layout::kind},
};
use punchdog_damage::{
    content, exfat as lab_exfat,
    fat::{Filler, Placing},
    formatted::{self, New},
    ntfs as lab_ntfs,
    ntfs_faults::Patient,
    seed::Seed,
};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, fs, path::Path};

const BYTES: u64 = 24 << 20;
const SIZE: usize = 24 << 20;
/// What stands before a volume that began further on.
const FRONT: u64 = 8 << 20;
const FRONT_SIZE: usize = 8 << 20;

fn fat_wish(cluster_bytes: u32) -> fat::fresh::Wish {
    let kind = if cluster_bytes < 1024 { Kind::Fat32 } else { Kind::Fat16 };
    let serial = cluster_bytes;
    fat::fresh::Wish {
        kind,
        bytes: BYTES,
        sector_bytes: 512,
        cluster_bytes,
        tables: 2,
        label: *b"CARD       ",
        serial,
    }
}

fn exfat_wish(cluster_bytes: u32) -> exfat::fresh::Wish {
    let label = "CARD".to_owned();
    exfat::fresh::Wish { bytes: BYTES, sector_bytes: 512, cluster_bytes, tables: 1, label, serial: 5 }
}

fn ntfs_wish() -> ntfs::fresh::Wish {
    ntfs::fresh::Wish { bytes: BYTES, ..lab_ntfs::small(512, 4096, 1024) }
}

/// Pictures in two folders, sounds, a table: paths with their content.
pub(super) fn content(seed: u64) -> Vec<(String, Vec<u8>)> {
    let mut seed = Seed::new(seed);
    let mut files = Vec::new();
    for number in 0..40_u32 {
        let taken = format!("2026:06:{:02} 05:{:02}:30", 1 + number % 28, number);
        let photo = content::photo(&mut seed, (120 + 8 * (number % 9), 90 + 8 * (number % 4)), &taken);
        files.push((format!("DCIM/{}LEDGE/NEST{number:04}.JPG", 100 + number % 2), photo));
    }
    for number in 0..6 {
        files.push((format!("SOUND/ledge {number}.wav"), content::sound(&mut seed, 9000 + 700 * number)));
        files.push((format!("SOUND/picture {number}.png"), content::picture(&mut seed, 60, 40)));
    }
    files.push(("tides of the year.csv".to_owned(), content::tides(&mut seed, 600)));
    files
}

/// What is on the medium first: new tables lie over it, and nothing tells what it was.
fn ballast() -> Vec<u8> {
    let mut seed = Seed::new(99);
    (0..900_000).map(|_| seed.number().to_le_bytes()[2]).collect()
}

pub(super) const FOLDERS: [&str; 4] = ["DCIM", "DCIM/100LEDGE", "DCIM/101LEDGE", "SOUND"];

pub(super) fn on_fat(cluster: u32, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut filler = Filler::new(&fat_wish(cluster), vec![0; SIZE]).unwrap();
    filler.file("ballast", &ballast(), Placing::Row).unwrap();
    for folder in FOLDERS {
        filler.folder(folder).unwrap();
    }
    for (path, bytes) in files {
        filler.file(path, bytes, Placing::Row).unwrap();
    }
    filler.finish().unwrap().canvas
}

pub(super) fn on_exfat(cluster: u32, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut filler = lab_exfat::Filler::new(&exfat_wish(cluster), vec![0; SIZE]).unwrap();
    filler.file("ballast", &ballast(), Placing::Row).unwrap();
    for folder in FOLDERS {
        filler.folder(folder, 1, Placing::Row).unwrap();
    }
    for (path, bytes) in files {
        filler.file(path, bytes, Placing::Row).unwrap();
    }
    filler.finish().unwrap().canvas
}

pub(super) fn on_ntfs(files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut filler = lab_ntfs::Filler::new(&ntfs_wish(), vec![0; SIZE]).unwrap();
    filler.file("ballast", &ballast(), Placing::Row).unwrap();
    for folder in FOLDERS {
        filler.folder(folder, Placing::Row).unwrap();
    }
    for (path, bytes) in files {
        filler.file(path, bytes, Placing::Row).unwrap();
    }
    filler.finish().unwrap().canvas
}

/// Content that was found for a file which lost its record or its run list is that file's, and is not found again.
#[test]
fn what_was_found_for_a_file_has_its_name() {
    let files = content(12);
    let mut filler = lab_ntfs::Filler::new(&ntfs_wish(), vec![0; SIZE]).unwrap();
    for folder in FOLDERS {
        filler.folder(folder, Placing::Row).unwrap();
    }
    for (path, bytes) in &files {
        filler.file(path, bytes, Placing::Row).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let (one, other) = (patient.number(&files[3].0), patient.number(&files[9].0));
    patient.fill(patient.record_place(one), 1024, 0x5A);
    let list = patient.attribute(other, kind::DATA, "") + 64;
    patient.edit(other, |record| record[list..list + 6].fill(0xFE));
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    json(at, &["unearth", "card.img", "--out", "finds.json"], 0);
    assert_eq!(finds(at, &patient.bytes), []);
    let listed = json(at, &["files", "card.img", "--hash", "--finds", "finds.json"], 0);
    for (path, bytes) in &files {
        let of = listed["files"].as_array().unwrap().iter().filter(|file| file["path"] == path.as_str());
        assert_eq!(of.map(|file| &file["sha256"]).collect::<Vec<_>>(), [&Value::from(sum(bytes))], "{path}");
    }
}

pub(super) fn sum(bytes: &[u8]) -> String {
    hex::encode(Sha256::digest(bytes))
}

/// The finds, each with the hash of what stands where it says.
pub(super) fn finds(folder: &Path, image: &[u8]) -> Vec<(Value, String)> {
    let document: Value = serde_json::from_slice(&fs::read(folder.join("finds.json")).unwrap()).unwrap();
    assert_eq!(document["schema"], "punchdog.finds/1");
    let content = |find: &Value| {
        let mut bytes = Vec::new();
        for extent in find["extents"].as_array().unwrap() {
            let number = |name: &str| usize::try_from(extent[name].as_u64().unwrap()).unwrap();
            bytes.extend(&image[number("offset")..number("offset") + number("length")]);
        }
        bytes.truncate(usize::try_from(find["size"].as_u64().unwrap()).unwrap());
        sum(&bytes)
    };
    let all = document["finds"].as_array().unwrap();
    all.iter().map(|find| (find.clone(), content(find))).collect()
}

/// What is searched for: `name`, the medium, the files that were on it, how many come back, how many of them by name.
struct Case {
    name: String,
    image: Vec<u8>,
    files: Vec<(String, Vec<u8>)>,
    back: usize,
    named: usize,
    /// A boot sector of it is left: `check` and `explain` say so.
    apart: bool,
    /// Something else was laid over it, which is not looked into.
    strange: bool,
}

/// What a file system that is none of ours writes at its beginning: its head, and empty tables behind that.
fn laid_over(name: &str, mut image: Vec<u8>, sign: (usize, &[u8]), named: usize) -> Case {
    image[..2048].fill(0);
    image[4096..8192].fill(0x11);
    image[16_384..160 << 10].fill(0);
    image[sign.0..sign.0 + sign.1.len()].copy_from_slice(sign.1);
    let (name, files) = (format!("{name}, none of ours over it"), content(7));
    Case { name, image, back: files.len(), files, named, apart: false, strange: true }
}

fn formatted(name: impl Into<String>, mut image: Vec<u8>, new: &New, back: usize, named: usize) -> Case {
    formatted::over(&mut image, new).unwrap();
    Case { name: name.into(), image, files: content(7), back, named, apart: false, strange: false }
}

fn cases() -> Vec<Case> {
    let files = content(7);
    let all = files.len();
    let (fat, exfat, ntfs) = (on_fat(512, &files), on_exfat(4096, &files), on_ntfs(&files));
    let fat16 = on_fat(2048, &files);
    let apart = (exfat.clone(), ntfs.clone());
    // A file in the root loses its name with the root. Of an NTFS whose first records are written over, those behind
    // them tell nothing of where clusters stand.
    let mut cases = vec![
        formatted("FAT32 over FAT32", fat.clone(), &New::Fat(fat_wish(512)), all, all - 1),
        formatted("FAT16 over FAT16", fat16.clone(), &New::Fat(fat_wish(2048)), all, all - 1),
        formatted("exFAT over FAT32", fat.clone(), &New::Exfat(exfat_wish(8192)), all, all - 1),
        formatted("exFAT over FAT16", fat16.clone(), &New::Exfat(exfat_wish(32768)), all, all - 1),
        formatted("FAT32 over exFAT", exfat.clone(), &New::Fat(fat_wish(512)), all, all - 1),
        formatted("exFAT over exFAT", exfat.clone(), &New::Exfat(exfat_wish(4096)), all, all - 1),
        formatted(
            "exFAT with other clusters over exFAT",
            exfat.clone(),
            &New::Exfat(exfat_wish(16384)),
            all,
            all - 1,
        ),
        formatted("FAT16 over NTFS", ntfs.clone(), &New::Fat(fat_wish(2048)), all, 36),
        formatted("exFAT over NTFS", ntfs, &New::Exfat(exfat_wish(4096)), all, 0),
        formatted("NTFS over FAT32", fat, &New::Ntfs(ntfs_wish()), all, all - 1),
        formatted("NTFS over exFAT", exfat, &New::Ntfs(ntfs_wish()), all, all - 1),
    ];
    // What began elsewhere keeps its boot sector, its tables and its root, as far as nothing lies over them.
    for (name, older) in [("FAT16", &fat16), ("exFAT", &apart.0), ("NTFS", &apart.1)] {
        for (family, over) in [
            ("FAT32", New::Fat(fat::fresh::Wish { bytes: BYTES + FRONT, ..fat_wish(512) })),
            ("exFAT", New::Exfat(exfat::fresh::Wish { bytes: BYTES + FRONT, serial: 6, ..exfat_wish(4096) })),
            ("NTFS", New::Ntfs(ntfs::fresh::Wish { bytes: BYTES + FRONT, serial: 6, ..ntfs_wish() })),
        ] {
            let image: Vec<u8> =
                ballast().into_iter().cycle().take(FRONT_SIZE).chain(older.iter().copied()).collect();
            let name = format!("{family} over {name} that began further on");
            cases.push(Case { apart: true, ..formatted(name, image, &over, all, all) });
        }
    }
    // Nothing but content: no volume, every structure gone.
    let mut bare = fat16;
    bare[..512 * 200].fill(0);
    for sector in bare.chunks_mut(512).filter(|sector| sector.starts_with(b".          ")) {
        sector.fill(0);
    }
    cases.push(Case {
        name: "no volume at all".to_owned(),
        image: bare,
        files,
        back: all,
        named: 0,
        apart: false,
        strange: false,
    });
    let ext = (1080, &b"\x53\xEF"[..]);
    for (name, image, named) in [
        ("FAT32", on_fat(512, &content(7)), all - 1),
        ("FAT16", on_fat(2048, &content(7)), all - 1),
        ("exFAT", on_exfat(4096, &content(7)), all - 1),
        // Its records stood where the head of the new one does.
        ("NTFS", on_ntfs(&content(7)), 0),
    ] {
        cases.push(laid_over(name, image.clone(), ext, named));
        cases.push(laid_over(name, image, (32, b"NXSB"), named));
    }
    cases
}

#[test]
fn what_was_formatted_over_comes_back() {
    for Case { name, image, files, back, named, apart, strange } in cases() {
        let folder = folder_with("card.img", &image);
        let at = folder.path();
        if apart {
            let seen = json(at, &["check", "card.img"], 0);
            let found = seen["volumes"][0]["findings"].as_array().unwrap().iter();
            let mut found = found
                .filter(|found| found["code"].as_str().unwrap().ends_with("/older-volume-in-free-space"));
            let place = found.next().map(|found| found["extents"][0]["offset"].clone());
            assert_eq!(place, Some(FRONT.into()), "{name}");
            for command in ["check", "explain"] {
                let said = run(at, &[command, "card.img"]).out;
                assert!(said.contains("punchdog unearth card.img --out "), "{name}: {said}");
            }
        }
        if strange {
            let seen = json(at, &["scout", "card.img"], 0);
            assert_eq!(
                (seen["volumes"].as_array().unwrap().len(), seen["strangers"].as_array().unwrap().len()),
                (0, 1),
                "{name}"
            );
            for command in ["scout", "check"] {
                let said = run(at, &[command, "card.img"]);
                let said =
                    format!("{}{}", said.out, said.err).split_whitespace().collect::<Vec<_>>().join(" ");
                assert!(said.contains("punchdog unearth card.img --out card.finds.json"), "{name}: {said}");
            }
        } else if !name.starts_with("no volume") {
            // A glance at the whole medium says so too, and what comes next.
            let place = &json(at, &["scout", "card.img"], 0)["volumes"][0];
            let code = place["older"]["code"].as_str().unwrap_or_else(|| panic!("{name}: {place}"));
            assert!(code.ends_with("/older-volume-in-free-space"), "{name}: {code}");
            let said = run(at, &["scout", "card.img"]).out;
            let flat = said.split_whitespace().collect::<Vec<_>>().join(" ");
            assert!(flat.contains("most likely it was formatted over"), "{name}: {said}");
            assert!(said.contains("punchdog unearth card.img --out "), "{name}: {said}");
        }
        let said = json(at, &["unearth", "card.img", "--out", "finds.json"], 0);
        assert_eq!((&said["schema"], &said["done"]), (&"punchdog.unearth/1".into(), &true.into()), "{name}");
        let found = finds(at, &image);
        let truth: BTreeMap<String, &str> =
            files.iter().map(|(path, bytes)| (sum(bytes), path.as_str())).collect();
        let there: BTreeMap<&str, &Value> =
            found.iter().filter_map(|(find, hash)| truth.get(hash).map(|path| (*path, find))).collect();
        let by_name = there
            .iter()
            .filter(|(path, find)| {
                find["path"] == ***path
                    || find["path"].as_str().unwrap().ends_with(path.rsplit('/').next().unwrap())
            })
            .count();
        assert!(there.len() >= back && by_name >= named, "{name}: {} back, {by_name} by name", there.len());
        // What is called complete is.
        for (find, hash) in found.iter().filter(|(find, _)| find["complete"] == "yes") {
            assert!(truth.contains_key(hash), "{name}: {find}");
        }
        // The list and the copies tell the same.
        let list = json(at, &["files", "card.img", "--finds", "finds.json"], 0);
        let listed = list["files"].as_array().unwrap().iter();
        let listed =
            listed.filter(|file| ["older", "unnamed"].contains(&file["state"].as_str().unwrap())).count();
        let older = found.iter().filter(|(find, _)| find["state"] != "deleted").count();
        assert_eq!(listed, older, "{name}");
        let saved = run(at, &["salvage", "card.img", "--finds", "finds.json", "--to", "out", "--json"]);
        assert!(saved.status < 2, "{name}: {}", saved.err);
        let manifest: Value = serde_json::from_str(&saved.out).unwrap();
        let hashes = manifest["files"].as_array().unwrap().iter().filter_map(|file| file["sha256"].as_str());
        let copied = hashes.filter(|hash| truth.contains_key(*hash)).count();
        assert!(copied >= back, "{name}: {copied} copied");
    }
}

#[test]
fn deleted_files_are_judged_by_their_content() {
    // Three files deleted as a FAT host does it; a picture of another lies over the middle of one.
    let files = content(7);
    let gone = ["DCIM/100LEDGE/NEST0002.JPG", "DCIM/100LEDGE/NEST0004.JPG", "SOUND/ledge 3.wav"];
    let mut patient = {
        let mut filler = Filler::new(&fat_wish(512), vec![0; SIZE]).unwrap();
        for folder in FOLDERS {
            filler.folder(folder).unwrap();
        }
        for (path, bytes) in &files {
            filler.file(path, bytes, Placing::Row).unwrap();
        }
        for path in gone {
            filler.delete(path);
        }
        punchdog_damage::faults::Patient::new(filler.finish().unwrap())
    };
    // What was freed of the second holds something else now.
    let second = &files.iter().find(|(path, _)| path == gone[1]).unwrap().1;
    let place = patient.bytes.windows(900).position(|piece| piece == &second[..900]).unwrap();
    patient.write(place as u64 + 1024, &[b'x'; 512]);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    json(at, &["unearth", "card.img", "--out", "finds.json"], 0);
    let found = finds(at, &patient.bytes);
    let of = |name: &str| {
        let ends = |find: &Value| find["path"].as_str().unwrap().ends_with(&name[1..]);
        found
            .iter()
            .find(|(find, _)| ends(find) && find["state"] == "deleted")
            .unwrap_or_else(|| panic!("{name}: {found:#?}"))
    };
    let truth = |path: &str| sum(&files.iter().find(|(own, _)| own == path).unwrap().1);
    let (first, hash) = of("NEST0002.JPG");
    // Its short name lost the first letter; its neighbours have it.
    assert_eq!(first["path"], gone[0]);
    assert_eq!((&first["complete"], hash), (&Value::from("yes"), &truth(gone[0])));
    let (second, _) = of("NEST0004.JPG");
    assert_eq!(second["complete"], "no", "{second}");
    assert!(second["reason"].as_str().unwrap().contains("its data ends before the picture does"), "{second}");
    let (third, hash) = of("ledge 3.wav");
    assert_eq!((&third["complete"], hash), (&Value::from("likely"), &truth(gone[2])));
    // Without a word of completeness only what is whole or likely so is copied.
    let saved =
        json(at, &["salvage", "card.img", "--finds", "finds.json", "--state", "deleted", "--to", "out"], 0);
    assert_eq!(saved["files"].as_array().unwrap().len(), 2);
    let all =
        ["salvage", "card.img", "--finds", "finds.json", "--state", "deleted", "--complete", "no", "--list"];
    assert_eq!(json(at, &all, 0)["files"].as_array().unwrap().len(), 1);
}

/// A file that nothing proves, whose clusters are taken to lie in a row, lay around others: these keep what they prove.
#[test]
fn what_is_proved_goes_before_what_is_guessed() {
    let files = content(7);
    let raw = ballast();
    let mut filler = Filler::new(&fat_wish(512), vec![0; SIZE]).unwrap();
    filler.file("instrument.raw", &raw[..200_000], Placing::Pieces(40)).unwrap();
    filler.folder("DCIM").unwrap();
    let photos: Vec<_> = files.iter().filter(|(path, _)| path.ends_with("JPG")).take(12).collect();
    let name = |path: &str| format!("DCIM/{}", path.rsplit('/').next().unwrap());
    for (path, bytes) in &photos {
        filler.file(&name(path), bytes, Placing::Gaps).unwrap();
    }
    for (path, _) in &photos {
        filler.delete(&name(path));
    }
    filler.delete("instrument.raw");
    let image = filler.finish().unwrap().canvas;
    let folder = folder_with("card.img", &image);
    json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
    let found = finds(folder.path(), &image);
    for (path, bytes) in &photos {
        let (find, _) =
            found.iter().find(|(_, hash)| *hash == sum(bytes)).unwrap_or_else(|| panic!("{path}"));
        assert_ne!(find["complete"], "no", "{find}");
        assert!(find["path"].as_str().unwrap().starts_with("DCIM/"), "{find}");
    }
    let guessed = found.iter().find(|(find, _)| find["path"].as_str().unwrap().ends_with("nstrument.raw"));
    assert_eq!(guessed.unwrap().0["complete"], "no");
}

/// A film whose length was never written does not hide what lies behind it.
#[test]
fn a_film_without_a_length_ends_where_something_else_begins() {
    let mut seed = Seed::new(31);
    let photo = content::photo(&mut seed, (200, 150), "2026:06:01 05:00:00");
    let mut film = b"\0\0\0\x18ftypmp42\0\0\0\0mp42isom\0\0\0\0mdat".to_vec();
    film.extend((film.len()..40_960).map(|_| seed.number().to_le_bytes()[2]));
    let image = [&vec![0; 8192], &film[..], &photo, &vec![0; 9000]].concat();
    let folder = folder_with("card.img", &image);
    json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
    let found = finds(folder.path(), &image);
    assert_eq!(found.len(), 2, "{found:#?}");
    let (first, hash) =
        found.iter().find(|(find, _)| find["path"].as_str().unwrap().ends_with("mp4")).unwrap();
    assert_eq!((&first["complete"], hash), (&Value::from("no"), &sum(&film)));
    assert!(first["reason"].as_str().unwrap().contains("never closed"), "{first}");
    assert!(found.iter().any(|(find, hash)| *hash == sum(&photo) && find["complete"] == "yes"));
}

/// Deleting on exFAT and NTFS leaves the whole name; what is somebody else's now says whose.
#[test]
fn every_family_tells_of_its_deleted_files() {
    let files = content(7);
    let (kept, gone) = (&files[0], &files[1]);
    let exfat = {
        let mut filler = lab_exfat::Filler::new(&exfat_wish(4096), vec![0; SIZE]).unwrap();
        for (number, (_, bytes)) in [gone, kept].into_iter().enumerate() {
            filler.file(&format!("picture {number}.jpg"), bytes, Placing::Row).unwrap();
        }
        filler.delete("picture 0.jpg");
        filler.file("written since.txt", &content::note(&mut Seed::new(3), 4), Placing::Gaps).unwrap();
        filler.finish().unwrap().canvas
    };
    let ntfs = {
        let mut filler = lab_ntfs::Filler::new(&ntfs_wish(), vec![0; SIZE]).unwrap();
        filler.folder("old", Placing::Row).unwrap();
        filler.file("old/picture 0.jpg", &gone.1, Placing::Row).unwrap();
        filler.file("picture 1.jpg", &kept.1, Placing::Row).unwrap();
        filler.delete("old/picture 0.jpg").unwrap();
        filler.finish().unwrap().canvas
    };
    for (name, image, path, complete) in
        [("exFAT", exfat, "picture 0.jpg", "no"), ("NTFS", ntfs, "old/picture 0.jpg", "yes")]
    {
        let folder = folder_with("card.img", &image);
        json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
        let found = finds(folder.path(), &image);
        let (find, hash) = found
            .iter()
            .find(|(find, _)| find["path"] == path)
            .unwrap_or_else(|| panic!("{name}: {found:#?}"));
        assert_eq!(
            (&find["complete"], &find["state"]),
            (&Value::from(complete), &Value::from("deleted")),
            "{find}"
        );
        if complete == "yes" {
            assert_eq!(hash, &sum(&gone.1), "{name}");
        } else {
            let reason = find["reason"].as_str().unwrap();
            assert!(reason.contains("belong to something else now: written since.txt"), "{reason}");
        }
    }
}

/// A hole in the midst of a film, where no second piece is to be had: the rest of it stays, with its index behind it.
#[test]
fn a_film_with_a_hole_keeps_its_end() {
    let kinds = Path::new(env!("CARGO_MANIFEST_DIR")).join("../punchdog-lab/tests/kinds");
    for name in ["front.mp4", "behind.mov", "hevc.mp4"] {
        let mut film = fs::read(kinds.join(name)).unwrap();
        film[20_480..28_672].fill(0);
        let mut image = vec![0; 4096];
        image.extend(&film);
        image.resize(image.len().next_multiple_of(4096) + 4096, 0);
        let folder = folder_with("card.img", &image);
        json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
        let found = finds(folder.path(), &image);
        let (find, hash) = &found[0];
        assert_eq!(
            (found.len(), &find["complete"], hash),
            (1, &Value::from("no"), &sum(&film)),
            "{name}: {found:#?}"
        );
        let reason = find["reason"].as_str().unwrap();
        let broken: usize =
            reason.split(|c: char| !c.is_ascii_digit()).find_map(|word| word.parse().ok()).unwrap();
        assert!((20_480..28_672).contains(&broken), "{reason}");
    }
}

pub(super) fn place_of(extent: &Value) -> (usize, usize) {
    let number = |name: &str| usize::try_from(extent[name].as_u64().unwrap()).unwrap();
    (number("offset"), number("length"))
}

#[test]
fn a_search_goes_on_and_is_of_one_image() {
    let files = content(7);
    let mut image = on_fat(512, &files);
    formatted::over(&mut image, &New::Exfat(exfat_wish(8192))).unwrap();
    let folder = folder_with("card.img", &image);
    let at = folder.path();
    let unearth = ["unearth", "card.img", "--out", "finds.json"];
    json(at, &unearth, 0);
    let whole = finds(at, &image);
    // Nothing of ours is overwritten without a word, nor anything of others with one.
    let again = run(at, &unearth);
    assert!(again.status == 2 && again.err.contains("--replace"), "{}", again.err);
    json(at, &[&unearth[..], &["--replace"]].concat(), 0);
    fs::write(at.join("other.json"), "{}").unwrap();
    let other = run(at, &["unearth", "card.img", "--out", "other.json", "--replace"]);
    assert!(other.status == 2 && fs::read(at.join("other.json")).unwrap() == b"{}", "{}", other.err);
    // A search that was stopped: as if nothing behind the middle had been looked at.
    let mut text: Value = serde_json::from_slice(&fs::read(at.join("finds.json")).unwrap()).unwrap();
    let middle = BYTES / 4;
    text["done"] = false.into();
    text["searched_to"] = middle.into();
    let kept =
        |find: &Value| find["state"] != "unnamed" || find["extents"][0]["offset"].as_u64() < Some(middle);
    text["finds"].as_array_mut().unwrap().retain(kept);
    fs::write(at.join("finds.json"), serde_json::to_string(&text).unwrap()).unwrap();
    let other = run(at, &[&unearth[..], &["--kind", "sound"]].concat());
    assert!(other.status == 2 && other.err.contains("other arguments"), "{}", other.err);
    json(at, &unearth, 0);
    let paths = |all: &[(Value, String)]| {
        let mut paths: Vec<String> =
            all.iter().map(|(find, hash)| format!("{} {hash}", find["path"])).collect();
        paths.sort();
        paths
    };
    assert_eq!(paths(&finds(at, &image)), paths(&whole));
    // Another image, no list at all, half a list.
    fs::write(at.join("second.img"), &image[..image.len() - 4096]).unwrap();
    for words in
        [["files", "second.img", "--finds", "finds.json"], ["files", "card.img", "--finds", "other.json"]]
    {
        let refused = run(at, &words);
        assert_eq!(refused.status, 2, "{words:?}: {}", refused.out);
    }
    let half = fs::read(at.join("finds.json")).unwrap();
    fs::write(at.join("finds.json"), &half[..half.len() / 2]).unwrap();
    assert_eq!(run(at, &["salvage", "card.img", "--finds", "finds.json", "--list"]).status, 2);
}

#[test]
fn every_search_ends() {
    let mut seed = Seed::new(77);
    let mut noise =
        |length: usize| -> Vec<u8> { (0..length).map(|_| seed.number().to_le_bytes()[1]).collect() };
    let photo = content(7)[0].1.clone();
    let media = [
        noise(1),
        noise(511),
        noise(700),
        noise(300_192),
        vec![0; 70_000],
        vec![0xFF; 70_001],
        // A picture that the end of the image cuts off, in the middle of a sector.
        [&vec![0; 4096], &photo[..photo.len() - 300]].concat(),
        on_fat(512, &content(7))[..SIZE - 100].to_vec(),
    ];
    for (number, image) in media.iter().enumerate() {
        let folder = folder_with("card.img", image);
        let said = run(folder.path(), &["unearth", "card.img", "--out", "finds.json", "--json"]);
        assert_eq!(said.status, 0, "{number}: {}{}", said.out, said.err);
        let list = run(folder.path(), &["files", "card.img", "--finds", "finds.json"]);
        assert!(list.status < 2, "{number}: {}", list.err);
    }
}

#[test]
fn content_is_judged_where_it_breaks() {
    let files = content(7);
    let mut image = on_fat(512, &files);
    let position =
        |bytes: &[u8], image: &[u8]| image.windows(900).position(|piece| piece == &bytes[..900]).unwrap();
    let photo = &files[3].1;
    let at_photo = position(photo, &image);
    image[at_photo + 2048..at_photo + 2560].fill(0);
    let sound = &files[40].1;
    let at_sound = position(sound, &image);
    image[at_sound..at_sound + 16].copy_from_slice(&photo[..16]);
    let folder = folder_with("card.img", &image);
    let list = json(folder.path(), &["files", "card.img", "--content"], 0);
    let of = |path: &str| {
        list["files"].as_array().unwrap().iter().find(|file| file["path"] == path).unwrap()["content"].clone()
    };
    let broken = of(&files[3].0);
    assert_eq!(broken["verdict"], "broken", "{at_photo}: {list:#}");
    let from = broken["from"].as_u64().unwrap();
    assert_eq!(from, 2048, "{broken}");
    assert_eq!(of(&files[40].0)["verdict"], "broken", "another kind than its name says");
    assert_eq!(of(&files[4].0)["verdict"], "whole");
    assert_eq!(of("tides of the year.csv")["verdict"], "not-judged");
    let saved = run(folder.path(), &["salvage", "card.img", "--content", "--to", "out", "--json"]);
    assert_eq!(saved.status, 1, "what is broken inside is said");
    assert!(saved.out.contains("\"broken\""));
}

/// Without its tables all that a card's files are rests on judgement: their content says which of them hold together.
#[test]
fn content_says_which_of_what_was_judged_holds_together() {
    let files = content(7);
    let mut image = on_fat(512, &files);
    let field = |at: usize| usize::from(image[at]) | usize::from(image[at + 1]) << 8;
    let (from, tables) = (field(14) * 512, field(22).max(field(36)) * 512 * usize::from(image[16]));
    image[from..from + tables].fill(0);
    let photo = &files[3];
    let at = image.windows(900).position(|piece| piece == &photo.1[..900]).unwrap();
    image[at + 2048..at + 2560].fill(0);
    let folder = folder_with("card.img", &image);
    let plan = json(folder.path(), &["plan", "card.img", "--content", "--out", "p.json"], 1);
    let said = &plan["outcome"]["content"];
    let broken = said["broken"].as_array().unwrap();
    assert_eq!((broken.len(), &broken[0]["path"]), (1, &photo.0.as_str().into()), "{said:#}");
    assert_eq!(broken[0]["from"], 2048);
    assert!(said["whole"].as_u64().unwrap() > 40, "{said:#}");
    let apply = ["apply", "p.json", "--image", "card.img", "--copy", "c.img", "--content"];
    let applied = json(folder.path(), &apply, 1);
    assert_eq!((&applied["content"], &applied["as_planned"]), (said, &true.into()));
    let page = run(folder.path(), &apply);
    let told = format!("{}: from byte 2048 on", photo.0);
    assert!(
        page.status == 1 && page.out.contains("rest on judgement: ") && page.out.contains(&told),
        "{}",
        page.out
    );
    // Where nothing was judged there is nothing to look at.
    let sound = folder_with("card.img", &on_fat(512, &files));
    let plan = json(sound.path(), &["plan", "card.img", "--content"], 0);
    assert_eq!(plan["outcome"]["content"]["files"], 0);
}

#[test]
fn the_sheet_shows_the_pictures() {
    let files = content(7);
    let folder = folder_with("card.img", &on_fat(512, &files));
    let said = json(folder.path(), &["files", "card.img", "--sheet", "sheet.html"], 0);
    assert_eq!((&said["pictures"], &said["not_shown"]), (&46.into(), &0.into()));
    let text = fs::read_to_string(folder.path().join("sheet.html")).unwrap();
    assert_eq!(text.matches("<img").count(), 46);
    assert!(text.contains("NEST0003.JPG") && !text.contains("http") && !text.contains("<script"));
    assert_eq!(
        run(folder.path(), &["files", "card.img", "--sheet", "sheet.html"]).status,
        2,
        "never over a file"
    );
}
