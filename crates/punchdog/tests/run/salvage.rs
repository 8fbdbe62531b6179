//! Copying files out.

use super::{folder_with, json, patient, run};
use punchdog_core::family::Kind;
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, fs, path::Path};

/// Every file below a folder: relative path to hash.
fn below(folder: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(at) = open.pop() {
        for entry in fs::read_dir(at).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                let name = path.strip_prefix(folder).unwrap().to_str().unwrap().to_owned();
                found.insert(name, hex::encode(Sha256::digest(fs::read(&path).unwrap())));
            }
        }
    }
    found.remove("punchdog-salvage.json");
    found
}

#[test]
fn everything_comes_out_of_a_volume_without_a_boot_sector() {
    let mut patient = patient(Kind::Fat32);
    let truth: BTreeMap<String, String> =
        patient.live().filter(|m| !m.folder).map(|m| (m.path.clone(), m.sha256.clone())).collect();
    patient.fill(0, 512, 0xFF);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let manifest = json(at, &["salvage", "card.img", "--to", "out"], 0);
    assert_eq!(manifest["files"].as_array().unwrap().len(), truth.len());
    assert_eq!(below(&at.join("out")), truth);
    let when = fs::metadata(at.join("out/README.TXT")).unwrap().modified().unwrap();
    assert!(when.elapsed().unwrap().as_secs() > 24 * 3600, "the time of the entry is kept");

    // A second run goes on: what is there stays, what was lost comes again, strangers are left alone.
    fs::remove_file(at.join("out/ledges.csv")).unwrap();
    fs::write(at.join("out/README.TXT"), b"changed by the customer").unwrap();
    json(at, &["salvage", "card.img", "--to", "out"], 0);
    let again = below(&at.join("out"));
    assert_eq!(again.get("ledges.csv"), truth.get("ledges.csv"));
    assert_eq!(again.get("README (2).TXT"), truth.get("README.TXT"), "nothing is overwritten");
    assert_eq!(fs::read(at.join("out/README.TXT")).unwrap(), b"changed by the customer");
}

#[test]
fn filters_choose_by_name_kind_and_state() {
    let mut patient = patient(Kind::Fat16);
    patient.set_link(patient.find("Logs/station.log").clusters[1], 0x0001);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let names = |words: &[&str]| -> Vec<String> {
        let list = json(at, &[&["salvage", "card.img", "--list"], words].concat(), 0);
        list["files"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names(&["--match", "*.wav"]), ["Möwen und Lummen/Ruf der Trottellumme.wav"]);
    assert_eq!(names(&["--kind", "sound"]), ["Möwen und Lummen/Ruf der Trottellumme.wav"]);
    assert_eq!(names(&["--kind", "pictures"]).len(), 27);
    assert_eq!(names(&["--match", "Logs/**", "--match", "README.TXT"]).len(), 5);
    assert!(
        names(&["--state", "deleted"]).contains(&"Pictures/old.png".to_owned()),
        "{:?}",
        names(&["--state", "deleted"])
    );
    assert!(!at.join("out").exists(), "listing writes nothing");
    assert_eq!(run(at, &["salvage", "card.img", "--list", "--match", "[z-a"]).status, 2);
}

#[test]
fn hostile_names_stay_inside_and_apart() {
    let mut patient = patient(Kind::Fat16);
    // A long name that climbs out, one that differs from another only in case, one of control bytes.
    let climb: Vec<u8> = "../../../../tmp/x".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let made = patient.find("Logs/2026/counts on the western ledges, second visit.csv");
    let part = made.entry - 32;
    patient.write(part + 1, &climb[..10]);
    patient.write(part + 14, &climb[10..22]);
    patient.write(part + 28, &climb[22..26]);
    let entry = patient.find("README.TXT").entry;
    patient.write(entry + 2, b"\x1b");
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let before = fs::read_dir(at).unwrap().count();
    json(at, &["salvage", "card.img", "--to", "deep/inside/out"], 0);
    assert_eq!(fs::read_dir(at).unwrap().count(), before + 1, "only the folder itself is new");
    let out = below(&at.join("deep/inside/out"));
    assert_eq!(out.len(), patient.live().filter(|m| !m.folder).count());
    assert!(
        out.keys().all(|name| !name.contains("..") && !name.chars().any(char::is_control)),
        "{:?}",
        out.keys()
    );
}

#[test]
fn the_wrong_destination_is_refused() {
    let folder = folder_with("card.img", &patient(Kind::Fat16).bytes);
    let at = folder.path();
    let image = fs::read(at.join("card.img")).unwrap();
    for to in ["card.img", "card.img/inside"] {
        let done = run(at, &["salvage", "card.img", "--to", to]);
        assert_eq!(done.status, 2, "{to}: {}", done.out);
    }
    assert_eq!(run(at, &["salvage", "card.img"]).status, 2, "a destination is needed");
    json(at, &["salvage", "card.img", "--to", "out"], 0);
    fs::write(at.join("other.img"), &image[..image.len() - 512]).unwrap();
    let other = run(at, &["salvage", "other.img", "--to", "out"]);
    assert_eq!(other.status, 2, "a folder belongs to one image");
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink("/tmp", at.join("link")).unwrap();
        fs::create_dir(at.join("trap")).unwrap();
        std::os::unix::fs::symlink(at.join("trap"), at.join("out2")).unwrap();
        fs::remove_dir(at.join("trap")).unwrap();
        assert_eq!(
            run(at, &["salvage", "card.img", "--to", "out2"]).status,
            2,
            "a dangling link is not followed"
        );
    }
    assert_eq!(fs::read(at.join("card.img")).unwrap(), image);
}

#[test]
fn what_is_damaged_comes_out_as_far_as_it_goes() {
    let mut patient = patient(Kind::Fat12);
    let made = patient.find("Logs/station.log");
    for cluster in &made.clusters[2..] {
        patient.set_link(*cluster, 0xFF7);
    }
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let manifest = json(at, &["salvage", "card.img", "--to", "out"], 1);
    let saved =
        manifest["files"].as_array().unwrap().iter().find(|f| f["path"] == "Logs/station.log").unwrap();
    assert_eq!(saved["state"], "damaged");
    assert!(saved["missing_bytes"].as_u64().unwrap() > 0);
    let length = fs::metadata(at.join("out/Logs/station.log")).unwrap().len();
    assert_eq!(length + saved["missing_bytes"].as_u64().unwrap(), made.size);
}

/// Lengths that no volume can hold: counted, read and asked room for only as far as there is something.
#[test]
fn one_wrong_length_stops_nothing() {
    use punchdog_damage::{exfat, exfat_faults, patient::Patient};
    let sound: exfat_faults::Patient = Patient::new(exfat::everyday(&exfat::small(512, 1024, 1), 5));
    let files = sound.live().filter(|made| !made.folder).count();
    for length in [u64::MAX, 1 << 63, 1 << 40, 20 << 30, (1 << 32) + 7] {
        // (path, field): data length and valid length, of a file in a row and of one in pieces.
        for (path, fields) in [
            (exfat_faults::ROW, &[56_u64][..]),
            (exfat_faults::PIECES, &[56]),
            (exfat_faults::ROW, &[40, 56]),
            (exfat_faults::PIECES, &[40, 56]),
            (exfat_faults::SINGLE, &[40]),
        ] {
            let mut patient = sound.clone();
            for field in fields {
                patient.write_set(path, *field, &length.to_le_bytes());
            }
            let folder = folder_with("card.img", &patient.bytes);
            let at = folder.path();
            let start = std::time::Instant::now();
            let listed = json(at, &["files", "card.img", "--hash"], 0);
            assert_eq!(
                listed["files"].as_array().unwrap().iter().filter(|f| f["folder"] == false).count(),
                files
            );
            let saved = run(at, &["salvage", "card.img", "--to", "out", "--json"]);
            assert!(saved.status < 2, "{length} {path} {fields:?}: {}{}", saved.out, saved.err);
            let out = below(&at.join("out"));
            for made in sound.live().filter(|made| !made.folder && made.path != path) {
                assert_eq!(out.get(&made.path), Some(&made.sha256), "{length} {path}: {}", made.path);
            }
            let bytes: u64 =
                out.keys().map(|name| fs::metadata(at.join("out").join(name)).unwrap().len()).sum();
            assert!(bytes <= patient.bytes.len() as u64, "{length} {path} {fields:?}: {bytes} bytes written");
            for words in [&["check", "card.img"][..], &["explain", "card.img"], &["plan", "card.img"]] {
                assert!(run(at, words).status < 2, "{length} {path} {fields:?}: {words:?}");
            }
            assert!(start.elapsed().as_secs() < 20, "{length} {path} {fields:?}: {:?}", start.elapsed());
        }
    }
}

#[test]
fn sizes_of_four_gigabytes_count_for_what_is_there() {
    let mut patient = patient(Kind::Fat32);
    let files: Vec<_> = patient.live().filter(|made| !made.folder && made.size > 0).cloned().collect();
    for made in &files {
        patient.write(made.entry + 28, &u32::MAX.to_le_bytes());
    }
    // Deleted ones too.
    let deleted = patient.made.iter().find(|made| made.deleted).unwrap().entry;
    patient.write(deleted + 28, &u32::MAX.to_le_bytes());
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let list = json(at, &["salvage", "card.img", "--list", "--state", "deleted", "--state", "damaged"], 0);
    assert!(list["bytes"].as_u64().unwrap() <= 2 * patient.bytes.len() as u64, "{}", list["bytes"]);
    let saved = json(at, &["salvage", "card.img", "--to", "out"], 1);
    for file in saved["files"].as_array().unwrap() {
        assert!(file["written_bytes"].as_u64().unwrap() <= patient.bytes.len() as u64, "{file}");
    }
    let text = run(at, &["salvage", "card.img", "--to", "out"]);
    assert!(!text.out.contains("TiB in"), "{}", text.out);
}

/// Paths deeper than the target takes are shortened, said so, and cost nothing else.
#[test]
fn paths_too_long_for_the_target_are_shortened() {
    use punchdog_damage::fat::{Filler, Placing, small};
    let wish = small(Kind::Fat32, 512, 512);
    let wish = punchdog_core::fat::fresh::Wish { bytes: 3 << 20, ..wish };
    let mut filler = Filler::new(&wish, vec![0; 3 << 20]).unwrap();
    let mut path = String::new();
    for level in 0..70 {
        let name = format!(
            "{level:02} a folder with a name as long as people give them when they sort pictures by place, day and weather"
        );
        path = if path.is_empty() { name } else { format!("{path}/{name}") };
        filler.folder(&path).unwrap();
        filler.file(&format!("{path}/count.txt"), format!("level {level}").as_bytes(), Placing::Row).unwrap();
    }
    let made = filler.finish().unwrap();
    let folder = folder_with("card.img", &made.canvas);
    let at = folder.path();
    let manifest = json(at, &["salvage", "card.img", "--to", "out"], 0);
    let files = manifest["files"].as_array().unwrap();
    assert_eq!(files.len(), 70);
    assert!(manifest["failed"].as_array().unwrap().is_empty(), "{}", manifest["failed"]);
    for file in files {
        let level = file["path"].as_str().unwrap().matches('/').count() - 1;
        let to = at.join("out").join(file["to"].as_str().unwrap());
        assert_eq!(fs::read(to).unwrap(), format!("level {level}").as_bytes());
    }
    let again = json(at, &["salvage", "card.img", "--to", "out"], 0);
    assert_eq!(again["files"].as_array().unwrap().len(), 70, "a second run finds them all again");
    let there = below(&at.join("out")).len();
    assert_eq!(there, 70, "and writes none twice");
}
