//! A fresh file system as the last resort, and several images at once.

use super::{folder_with, json, patient, run};
use punchdog_core::{family::Kind, medium::Memory, progress::Silent, registry};
use serde_json::{Value, json};
use std::fs;

#[test]
fn files_are_saved_first_and_a_quick_format_can_be_undone() {
    let sound = patient(Kind::Fat32);
    let folder = folder_with("card.img", &sound.bytes);
    let at = folder.path();
    let refused = run(at, &["format", "card.img", "--copy", "new.img", "--as", "exfat"]);
    assert_eq!(refused.status, 2);
    assert!(
        refused.err.contains("can still be copied out") && refused.err.contains("salvage card.img"),
        "{}",
        refused.err
    );
    assert!(!at.join("new.img").exists());

    let saved = json(at, &["salvage", "card.img", "--to", "out", "--match", "*.csv"], 0);
    let done = json(
        at,
        &["format", "card.img", "--copy", "new.img", "--as", "exfat", "--saved", "out", "--label", "FRESH"],
        0,
    );
    let unsaved = done["not_saved"].as_array().unwrap();
    let copied: Vec<&Value> = saved["files"].as_array().unwrap().iter().map(|file| &file["path"]).collect();
    let lacking = |path: &str| !copied.contains(&&json!(path));
    let expected: Vec<&str> = sound
        .live()
        .filter(|made| !made.folder && made.size > 0 && lacking(&made.path))
        .map(|made| made.path.as_str())
        .collect();
    assert!(copied.len() > 2 && expected.len() > 20);
    let told: Vec<&str> = unsaved.iter().map(|path| path.as_str().unwrap()).collect();
    let sorted = |mut list: Vec<&str>| -> Vec<String> {
        list.sort_unstable();
        list.into_iter().map(str::to_owned).collect()
    };
    assert_eq!(sorted(told), sorted(expected), "what the manifest lacks is listed");
    assert_eq!(done["sound"], true);
    let scout = json(at, &["scout", "new.img"], 0);
    assert_eq!((&scout["volumes"][0]["kind"], &scout["table"]), (&json!("exfat"), &json!("none")));
    let check = json(at, &["check", "new.img"], 0);
    assert_eq!(
        (&check["volumes"][0]["label"], &check["volumes"][0]["files"]["intact"]),
        (&json!("FRESH"), &json!(0))
    );
    // What the card held can still be unearthed: by its name, where its folders are left.
    let found = json(at, &["unearth", "new.img", "--out", "finds.json"], 0);
    assert!(!found["counts"].as_array().unwrap().is_empty());
    json(at, &["undo", "new.img"], 0);
    assert!(fs::read(at.join("new.img")).unwrap() == sound.bytes);
    // Nothing is written over.
    let again = run(at, &["format", "card.img", "--copy", "new.img", "--as", "fat32", "--nothing-to-save"]);
    assert!(again.status == 2 && again.err.contains("the copy already exists"), "{}", again.err);
    fs::remove_file(at.join("new.img")).unwrap();
    let again = run(at, &["format", "card.img", "--copy", "new.img", "--as", "fat32", "--nothing-to-save"]);
    assert!(again.status == 2 && again.err.contains("that of another job"), "{}", again.err);
    let itself = run(at, &["format", "card.img", "--copy", "card.img", "--as", "fat32", "--nothing-to-save"]);
    assert_eq!(itself.status, 2, "{}", itself.out);
    // Places that cannot be read are zeros on the copy, and undo says so.
    fs::write(at.join("bad.txt"), "30000 5000\n").unwrap();
    let words = [
        "format",
        "card.img",
        "--copy",
        "n2.img",
        "--as",
        "exfat",
        "--nothing-to-save",
        "--unreadable",
        "bad.txt",
    ];
    let text = run(at, &words);
    assert!(text.status == 0 && text.out.contains("of the image cannot be read"), "{}{}", text.out, text.err);
    assert_eq!(
        json(at, &["undo", "n2.img"], 0)["could_not_be_read"],
        json!([{ "offset": 30_000, "length": 5000 }])
    );
    let mut expected = sound.bytes.clone();
    expected[30_000..35_000].fill(0);
    assert!(fs::read(at.join("n2.img")).unwrap() == expected);
    assert!(fs::read(at.join("card.img")).unwrap() == sound.bytes);
}

/// Sectors that fail, also where the fresh file system's own structures would stand, are marked, and nothing stands there.
#[test]
fn what_fails_is_marked_on_a_fresh_file_system() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let noise = punchdog_damage::seed::Seed::new(4).bytes(12 << 20);
    fs::write(at.join("noise.img"), &noise).unwrap();
    for (number, kind) in ["fat12", "fat16", "exfat", "ntfs"].into_iter().enumerate() {
        for wipe in [false, true] {
            let plain = format!("plain {number} {wipe}.img");
            let base = ["format", "noise.img", "--nothing-to-save", "--as", kind];
            json(at, &[&base[..], &["--copy", &plain, "--wipe"]].concat(), 0);
            // In the middle of all that it has behind its tables, and in free places.
            let medium = Memory::new(fs::read(at.join(&plain)).unwrap());
            let volume = registry::recognise(&medium, &Silent).unwrap().unwrap();
            let mut survey = volume.survey(&medium, &Silent).unwrap();
            let mut places: Vec<u64> = vec![5 << 20, (11 << 20) + 512, (12 << 20) - 90_000 / 512 * 512];
            for one in survey.structures(&medium) {
                let own = ["the bitmap", "the up-case table", "$LogFile", "$Bitmap", "$UpCase", "$Secure"];
                if own.contains(&&*one.name) || one.name == "the root folder" && kind == "exfat" {
                    places.push((one.extent.offset + one.extent.length / 2) / 512 * 512);
                }
            }
            places.sort_unstable();
            let lines: Vec<String> = places.iter().map(|place| format!("{place} 512")).collect();
            fs::write(at.join("bad.txt"), lines.join("\n")).unwrap();
            let copy = format!("marked {number} {wipe}.img");
            let mut words = [&base[..], &["--copy", &copy, "--unreadable", "bad.txt"]].concat();
            if wipe {
                words.push("--wipe");
            }
            let done = json(at, &words, 0);
            assert_eq!(done["cannot_be_moved"], json!([]), "{kind}");
            let marked = done["marked_bad_bytes"].as_u64().unwrap();
            let cluster = done["cluster_bytes"].as_u64().unwrap();
            assert_eq!(marked, places.len() as u64 * cluster, "{kind}: {places:?}");
            json(at, &["check", &copy], 0);
            let there = json(at, &["check", &copy, "--unreadable", "bad.txt"], 0);
            let findings = there["volumes"][0]["findings"].as_array().unwrap();
            let marks = findings.iter().find(|one| one["code"] == "medium/marked-bad").expect(kind);
            assert_eq!(marks["extents"].as_array().unwrap().len(), places.len(), "{kind}");
            if !wipe {
                json(at, &["undo", &copy], 0);
            }
        }
    }
    // What stands in a table cannot be moved: that is said.
    fs::write(at.join("bad.txt"), "1024 512\n").unwrap();
    let words = [
        "format",
        "noise.img",
        "--nothing-to-save",
        "--as",
        "fat16",
        "--copy",
        "no.img",
        "--unreadable",
        "bad.txt",
    ];
    assert_eq!(json(at, &words, 1)["cannot_be_moved"], json!(["the first table"]));
}

#[test]
fn every_file_system_is_laid_down_bare_and_behind_each_table() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    // Noise, so that nothing of a fresh volume rests on zeros that were there.
    let noise = punchdog_damage::seed::Seed::new(3).bytes(40 << 20);
    fs::write(at.join("noise.img"), &noise).unwrap();
    for (kind, sector) in [
        ("fat12", "512"),
        ("fat12", "2048"),
        ("exfat", "1024"),
        ("fat32", "512"),
        ("exfat", "512"),
        ("ntfs", "512"),
        ("exfat", "4096"),
        ("ntfs", "4096"),
        ("exfat", "4096"),
    ] {
        for table in [None, Some("mbr"), Some("gpt")] {
            for wipe in [false, true] {
                let copy = "new.img";
                let mut words = vec![
                    "format",
                    "noise.img",
                    "--copy",
                    copy,
                    "--as",
                    kind,
                    "--sector",
                    sector,
                    "--label",
                    "SKERRY",
                ];
                if let Some(table) = table {
                    words.extend(["--table", table]);
                }
                if wipe {
                    words.push("--wipe");
                }
                let done = json(at, &words, 0);
                let told = format!("{kind} {sector} {table:?} wipe {wipe}: {done}");
                assert_eq!(done["sound"], true, "{told}");
                let scout = json(at, &["scout", copy], 0);
                assert_eq!(scout["volumes"].as_array().unwrap().len(), 1, "{told}: {scout}");
                assert_eq!(scout["volumes"][0]["kind"], kind, "{told}");
                assert_eq!(scout["table"], table.unwrap_or("none"), "{told}");
                let counted = if table.is_some() { sector } else { "512" };
                assert_eq!(scout["table_sector_bytes"].to_string(), counted, "{told}");
                let start = if table.is_some() { 1 << 20 } else { 0 };
                assert_eq!(scout["volumes"][0]["offset"], json!(start), "{told}");
                let check = json(at, &["check", copy], 0);
                assert_eq!(check["volumes"][0]["label"], "SKERRY", "{told}");
                let bytes = fs::read(at.join(copy)).unwrap();
                // The volume says what stands before it, in its sectors.
                let front = start + if kind == "exfat" { 64 } else { 28 };
                let before = u32::from_le_bytes(bytes[front..front + 4].try_into().unwrap());
                assert_eq!(u64::from(before) * sector.parse::<u64>().unwrap(), start as u64, "{told}");
                let kept = bytes[20 << 20..24 << 20].iter().filter(|byte| **byte != 0).count();
                assert_eq!(kept > 3 << 20, !wipe, "{told}: {kept} bytes of what was there");
                fs::remove_file(at.join(copy)).unwrap();
                let _ = fs::remove_file(at.join("new.img.undo"));
            }
        }
    }
}

#[test]
fn what_cannot_be_laid_down_is_said() {
    let folder = folder_with("small.img", &vec![0; 600 << 10]);
    let at = folder.path();
    for words in [
        &["--as", "ntfs"][..],
        &["--as", "exfat", "--cluster", "3000"],
        &["--as", "fat12", "--table", "gpt"],
        &["--as", "fat12", "--label", "a label that is too long"],
        &["--as", "fat12", "--wipe", "--volume", "1"],
    ] {
        let refused = run(at, &[&["format", "small.img", "--copy", "new.img"], words].concat());
        assert_eq!(refused.status, 2, "{words:?}: {}", refused.out);
        assert!(!at.join("new.img").exists(), "{words:?}");
    }
}

#[test]
fn what_is_not_read_here_is_not_formatted_over_unasked() {
    let mut bytes = vec![0; 8 << 20];
    bytes[1080..1082].copy_from_slice(&[0x53, 0xEF]);
    let folder = folder_with("foreign.img", &bytes);
    let at = folder.path();
    let words = ["format", "foreign.img", "--as", "exfat", "--copy", "new.img"];
    let refused = run(at, &words);
    assert_eq!(refused.status, 2, "{}", refused.out);
    assert!(refused.err.contains("does not read") && !at.join("new.img").exists(), "{}", refused.err);
    assert_eq!(run(at, &[&words[..], &["--nothing-to-save"]].concat()).status, 0);
}

#[test]
fn a_partition_of_which_nothing_is_known_is_set_up_anew_and_the_next_one_stays() {
    let next = patient(Kind::Fat16).bytes;
    let mib = 1 << 20;
    for (there, needs_word) in [(None, false), (Some((1080, &b"\x53\xEF"[..])), true)] {
        let mut disk: Vec<u8> = (0..17 * mib).map(|at: usize| (at / 3 * 7).to_le_bytes()[1]).collect();
        disk[..512].fill(0);
        disk[mib..mib + 4096].fill(0x3A);
        if let Some((place, sign)) = there {
            disk[mib + place..mib + place + sign.len()].copy_from_slice(sign);
        }
        disk.extend(&next);
        for (number, (at, length, kind)) in
            [(mib, 16 * mib, 7), (17 * mib, next.len(), 6)].into_iter().enumerate()
        {
            let entry = &mut disk[446 + 16 * number..][..16];
            entry[4] = kind;
            entry[8..12].copy_from_slice(&u32::try_from(at / 512).unwrap().to_le_bytes());
            entry[12..].copy_from_slice(&u32::try_from(length / 512).unwrap().to_le_bytes());
        }
        disk[510..512].copy_from_slice(&[0x55, 0xAA]);
        let folder = folder_with("disk.img", &disk);
        let at = folder.path();
        let words = ["format", "disk.img", "--at", "1048576", "--as", "exfat", "--copy", "new.img"];
        if needs_word {
            let refused = run(at, &words);
            assert!(refused.status == 2 && refused.err.contains("does not read"), "{}", refused.err);
        }
        let done = run(
            at,
            &[&words[..], &["--nothing-to-save", "--json"][..if needs_word { 2 } else { 0 }]].concat(),
        );
        assert_eq!(done.status, 0, "{}{}", done.out, done.err);
        let made = fs::read(at.join("new.img")).unwrap();
        assert!(made[17 * mib..] == disk[17 * mib..] && made[..mib] == disk[..mib], "the rest is as it was");
        let seen = json(at, &["check", "new.img"], 0);
        let kinds: Vec<&str> =
            seen["volumes"].as_array().unwrap().iter().map(|v| v["kind"].as_str().unwrap()).collect();
        assert_eq!(kinds, ["exfat", "fat16"]);
        assert_eq!(seen["volumes"][0]["bytes"], 16 * mib);
        // Where neither an entry nor a volume begins there is no room.
        assert_eq!(
            run(at, &["format", "disk.img", "--at", "2097152", "--as", "exfat", "--copy", "n2.img"]).status,
            2
        );
    }
}

#[test]
fn several_images_are_told_of_in_a_line_each() {
    let sound = patient(Kind::Fat16);
    let mut struck = patient(Kind::Fat32);
    struck.fill(0, 512, 0);
    let folder = folder_with("a sound.img", &sound.bytes);
    let at = folder.path();
    fs::write(at.join("b struck.img"), &struck.bytes).unwrap();
    fs::write(at.join("list.json"), "{}").unwrap();
    let checked = json(at, &["check", "."], 1);
    let images = checked["images"].as_array().unwrap();
    assert_eq!((images.len(), &images[0]["sound"], &images[1]["sound"]), (2, &json!(true), &json!(false)));
    let alone = json(at, &["check", "b struck.img"], 1);
    let named = json(at, &["check", "a sound.img", "b struck.img"], 1);
    assert_eq!(named["images"][1], alone, "each as it would be alone");
    let text = run(at, &["check", "a sound.img", "b struck.img"]);
    let lines: Vec<&str> = text.out.lines().take(2).collect();
    assert_eq!(lines, ["a sound.img    FAT16 sound", "b struck.img   FAT32 does not mount: 1 fault"]);
    assert!(
        text.out.contains("1 of 2 images are in order.") && text.out.contains("fat/boot-gone"),
        "{}",
        text.out
    );
    assert_eq!(run(at, &["check", "a sound.img", "a sound.img"]).status, 0);
    let scouted = json(at, &["scout", "a sound.img", "b struck.img"], 1);
    assert_eq!(scouted["images"][1]["volumes"][0]["boot_sector_gone"], true);

    // One that cannot be looked at is said so, and the others are told of all the same.
    fs::write(at.join("c text.img"), "no image at all").unwrap();
    let worst = run(at, &["check", "."]);
    assert_eq!(worst.status, 2);
    assert!(
        worst.out.contains("a sound.img    FAT16 sound") && worst.out.contains("is a text file"),
        "{}",
        worst.out
    );
    let worst = json(at, &["check", "."], 2);
    assert_eq!(worst["images"][2]["schema"], "punchdog.error/1");
    fs::create_dir(at.join("empty")).unwrap();
    assert_eq!(run(at, &["scout", "empty"]).status, 2);
}
