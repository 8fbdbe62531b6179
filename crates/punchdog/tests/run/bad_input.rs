//! What is no FAT volume, or only part of one: a clear message, the next step, never a panic.

use super::{folder_with, json, patient, run};
use punchdog_core::family::Kind;
use punchdog_damage::{exfat, ntfs, seed::Seed};
use std::fs;

const READING: [&str; 6] = ["scout", "check", "explain", "fields", "files", "plan"];

fn at(mut bytes: Vec<u8>, place: usize, what: &[u8]) -> Vec<u8> {
    bytes[place..place + what.len()].copy_from_slice(what);
    bytes
}

#[test]
fn each_says_what_it_is_and_what_to_do() {
    let blank = || vec![0_u8; 200_000];
    let noise = Seed::new(8).bytes(300_000);
    let inputs: Vec<(&str, Vec<u8>, &str)> = vec![
        ("text.txt", b"Wind from the west. ".repeat(400), "text file"),
        ("short.txt", b"hello".to_vec(), "text file"),
        ("empty.img", Vec::new(), "not one byte"),
        ("zeroes.img", blank(), "nothing but zeroes"),
        ("ones.img", vec![0xFF; 200_000], "nothing but FF"),
        ("noise.img", noise.clone(), "encrypted or packed"),
        ("signed.img", at(noise, 510, &[0x55, 0xAA]), "encrypted or packed"),
        ("one-byte.img", vec![0x81], "no volume"),
        ("ext.img", at(blank(), 1080, &[0x53, 0xEF]), "ext2, ext3 or ext4"),
        ("xfs.img", at(blank(), 0, b"XFSB"), "XFS"),
        ("locked.img", at(blank(), 0, b"LUKS\xBA\xBE"), "encrypted"),
        ("packed.zip", at(blank(), 0, b"PK\x03\x04"), "ZIP"),
        ("disk.qcow2", at(blank(), 0, b"QFI\xFB"), "qcow2"),
        ("cd.iso", at(blank(), 0x8001, b"CD001"), "ISO 9660"),
    ];
    for (name, bytes, says) in inputs {
        let folder = folder_with(name, &bytes);
        for command in READING {
            let done = run(folder.path(), &[command, name]);
            let text = format!("{}{}", done.out, done.err)
                .replace("\n          ", " ")
                .replace("\n              ", " ");
            let named_only = command == "scout" && done.status == 0;
            assert!(done.status == 2 || named_only, "{command} {name}: {} {text}", done.status);
            assert!(text.contains(says), "{command} {name}: {text}");
            assert!(named_only || done.err.contains("Next"), "{command} {name}: {text}");
        }
        assert_eq!(fs::read(folder.path().join(name)).unwrap(), bytes);
    }
}

/// A boot sector is a claim. Where nothing is there that it leads to, that is said, by all alike.
#[test]
fn a_boot_sector_and_nothing_else() {
    let volumes = [
        ("a FAT12 volume", patient(Kind::Fat12).bytes),
        ("a FAT16 volume", patient(Kind::Fat16).bytes),
        ("a FAT32 volume", patient(Kind::Fat32).bytes),
        ("an exFAT volume", exfat::everyday(&exfat::small(512, 4096, 1), 3).canvas),
        ("an NTFS volume", ntfs::everyday(&ntfs::small(512, 4096, 1024), 3).canvas),
    ];
    for (what, mut bytes) in volumes {
        bytes[512..].fill(0);
        let folder = folder_with("bare.img", &bytes);
        for words in
            [&["scout"][..], &["check"], &["explain"], &["files"], &["plan"], &["check", "--at", "0"]]
        {
            let done = run(folder.path(), &[words, &["bare.img"]].concat());
            let text = done.err.replace("\n          ", " ");
            let says = format!("the boot sector of {what}");
            assert_eq!(done.status, 2, "{what}, {words:?}: {} {text}", done.out);
            assert!(
                text.contains(&says) && text.contains("nothing that it leads to"),
                "{what}, {words:?}: {text}"
            );
        }
        let sectors = u32::try_from(bytes.len() / 512).unwrap();
        let mut disk = vec![0; 1 << 20];
        disk[446 + 4] = 0x07;
        disk[446 + 8..446 + 12].copy_from_slice(&2048_u32.to_le_bytes());
        disk[446 + 12..446 + 16].copy_from_slice(&sectors.to_le_bytes());
        disk[510..512].copy_from_slice(&[0x55, 0xAA]);
        disk.extend(bytes);
        let folder = folder_with("disk.img", &disk);
        let seen = json(folder.path(), &["scout", "disk.img"], 1);
        assert_eq!(seen["volumes"].as_array().unwrap().len(), 0, "{what}: {seen}");
        let says = format!("It begins with the boot sector of {what}");
        assert!(seen["findings"].to_string().contains(&says), "{what}: {}", seen["findings"]);
        for command in ["check", "explain", "plan"] {
            let done = run(folder.path(), &[command, "disk.img"]);
            assert!(done.status == 2 && done.err.contains("has a partition table"), "{what}: {}", done.err);
        }
    }
}

#[test]
fn folders_missing_files_and_places_beyond_the_end() {
    let folder = folder_with("card.img", &patient(Kind::Fat16).bytes);
    fs::create_dir(folder.path().join("dir")).unwrap();
    for (words, says) in [
        (vec!["check", "dir"], "is a folder"),
        (vec!["check", "nowhere.img"], "does not exist"),
        (vec!["check", "card.img", "--at", "99999999999"], "beyond the end"),
        (vec!["check", "card.img", "--volume", "7"], "no volume 7"),
        (vec!["check", "card.img", "--volume", "0"], "no volume 0"),
        (vec!["fields", "card.img", "nonsense"], "no structure"),
        (vec!["frobnicate"], "unrecognized"),
        (vec![], "Usage"),
    ] {
        let done = run(folder.path(), &words);
        assert_eq!(done.status, 2, "{words:?}");
        assert!(done.err.replace("\n          ", " ").contains(says), "{words:?}: {}", done.err);
    }
}

#[test]
fn a_truncated_volume_is_still_examined() {
    let sound = patient(Kind::Fat32);
    let last = sound.find("ledges.csv").clusters[1];
    let keep = usize::try_from(sound.geometry.cluster_offset(last)).unwrap();
    let folder = folder_with("cut.img", &sound.bytes[..keep]);
    let checked = json(folder.path(), &["check", "cut.img"], 1);
    let codes: Vec<&str> = checked["volumes"][0]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| f["code"].as_str().unwrap())
        .collect();
    assert!(codes.contains(&"fat/volume-beyond-image"), "{codes:?}");
    let files = json(folder.path(), &["files", "cut.img"], 0);
    let state = |path: &str| {
        let files = files["files"].as_array().unwrap();
        files.iter().find(|file| file["path"] == path).unwrap()["state"].as_str().unwrap().to_owned()
    };
    assert_eq!(state("ledges.csv"), "damaged");
    assert_eq!(state("Logs/station.log"), "intact");
}

/// With its boot sector whole, but no clusters, a volume is named with what is missing.
#[test]
fn the_beginning_of_a_card_is_named_as_one() {
    for kind in [Kind::Fat16, Kind::Fat32] {
        let sound = patient(kind);
        let keep = usize::try_from(sound.geometry.table_offset(0)).unwrap() + 512;
        let folder = folder_with("head.img", &sound.bytes[..keep]);
        for command in READING {
            let done = json(folder.path(), &[command, "head.img"], 2);
            let error = done["error"].as_str().unwrap();
            assert!(error.contains("holds only the beginning of a FAT"), "{command}: {error}");
            assert!(done["next"][0].as_str().unwrap().contains("image the medium again"), "{done}");
        }
    }
}

#[test]
fn names_from_an_image_do_not_reach_the_terminal_raw() {
    let mut patient = patient(Kind::Fat16);
    let entry = patient.find("README.TXT").entry;
    patient.write(entry, b"\x1b[31mRED   ");
    let label = patient.geometry.root_offset();
    patient.write(label, b"\x1b[2J\x07LABEL ");
    let folder = folder_with("card.img", &patient.bytes);
    for command in READING {
        let done = run(folder.path(), &[command, "card.img"]);
        assert!(!done.out.contains('\x1b') && !done.err.contains('\x1b'), "{command}: {:?}", done.out);
        assert!(!done.out.contains('\x07'), "{command}");
    }
}
