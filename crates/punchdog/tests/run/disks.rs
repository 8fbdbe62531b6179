//! Disk images: partition tables, lost volumes, a choice of volumes.

use super::{folder_with, json, patient, run};
use punchdog_core::{family::Kind, partition::layout::MbrEntry};
use std::{fs, path::Path};
use zerocopy::{FromZeros, IntoBytes};

const FIRST: usize = 63 * 512;
const SECOND: usize = 4 << 20;

fn entry(kind: u8, start: usize, bytes: usize) -> MbrEntry {
    let mut entry = MbrEntry::new_zeroed();
    entry.kind = kind;
    entry.start = u32::try_from(start / 512).unwrap().into();
    entry.length = u32::try_from(bytes / 512).unwrap().into();
    entry
}

/// A disk of a FAT12 and a FAT32 volume, with its MBR.
fn disk() -> (Vec<u8>, usize, usize) {
    let (one, two) = (patient(Kind::Fat12).bytes, patient(Kind::Fat32).bytes);
    let mut disk = vec![0; 10 << 20];
    disk[FIRST..FIRST + one.len()].copy_from_slice(&one);
    disk[SECOND..SECOND + two.len()].copy_from_slice(&two);
    let table = [entry(0x01, FIRST, one.len()), entry(0x0C, SECOND, two.len())];
    disk[446..478].copy_from_slice(table.as_bytes());
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    (disk, one.len(), two.len())
}

fn write(folder: &Path, bytes: &[u8]) {
    fs::write(folder.join("disk.img"), bytes).unwrap();
}

/// Kind, offset and how it was found, of each volume.
fn volumes(document: &serde_json::Value) -> Vec<(String, u64, String)> {
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    let all = document["volumes"].as_array().unwrap().iter();
    all.map(|v| (text(&v["kind"]), v["offset"].as_u64().unwrap(), text(&v["found"]))).collect()
}

#[test]
fn a_disk_with_two_volumes_asks_which() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    write(at, &disk().0);
    let seen = json(at, &["scout", "disk.img"], 0);
    let expected = [
        ("fat12".to_owned(), FIRST as u64, "listed".to_owned()),
        ("fat32".to_owned(), SECOND as u64, "listed".to_owned()),
    ];
    assert_eq!(volumes(&seen), expected);
    assert_eq!(json(at, &["check", "disk.img"], 0)["volumes"].as_array().unwrap().len(), 2, "check does all");
    let refused = run(at, &["files", "disk.img"]);
    assert_eq!(refused.status, 2);
    assert!(refused.err.contains("--volume"), "{}", refused.err);
    let by_number = json(at, &["files", "disk.img", "--volume", "2"], 0);
    let by_place = json(at, &["files", "disk.img", "--at", &SECOND.to_string()], 0);
    assert_eq!(by_number, by_place);
    assert_eq!(by_number["volume"]["kind"], "fat32");
    let extents =
        by_number["files"].as_array().unwrap().iter().flat_map(|f| f["extents"].as_array().unwrap());
    assert!(
        extents.clone().count() > 20
            && extents.clone().all(|e| e["offset"].as_u64().unwrap() > SECOND as u64)
    );
}

/// Damage to a disk; gets the length of the second volume as well.
type Strike = fn(&mut Vec<u8>, usize);

/// The hosts that do not get as far as the last volume are these and no others, and `code` is why.
fn hosts_miss(at: &Path, image: &str, name: &str, code: &str, missed_by: &[&str]) {
    let told = json(at, &["explain", image], i32::from(!missed_by.is_empty()));
    let last = told["volumes"].as_array().unwrap().last().unwrap();
    let (mut missing, mut all) = (Vec::new(), 0);
    for host in last["hosts"].as_array().unwrap() {
        all += 1;
        assert_eq!(host["finds_volume"], host["not_found_by"].is_null(), "{name}: {host}");
        assert_eq!(host["mounts_read_write"], true, "{name}: by its own bytes it mounts: {host}");
        if host["finds_volume"] == false {
            assert_eq!(host["not_found_by"], code, "{name}: {host}");
            missing.push(host["host"].as_str().unwrap());
        }
    }
    assert_eq!(missing, missed_by, "{name}");
    let text = run(at, &["explain", image]).out;
    let verdict = match missing.len() {
        0 => "mounts",
        n if n == all => "no host finds it",
        _ => "some hosts do not find it",
    };
    let head = text.lines().rfind(|line| line.contains(" · FAT"));
    assert!(head.is_some_and(|line| line.ends_with(verdict)), "{name}: {text}");
}

#[test]
fn lost_volumes_are_found_and_listed_again() {
    let (sound, _, two) = disk();
    let cases: [(&str, Strike, &str, &[&str]); 6] = [
        ("table zeroed", |d, _| d[..512].fill(0), "partition/table-missing", &["linux", "windows"]),
        ("entry removed", |d, _| d[462..478].fill(0), "partition/entry-missing", &["linux", "windows"]),
        ("start wrong", |d, _| d[470] ^= 0x10, "partition/wrong-start", &["linux", "windows"]),
        (
            "length wrong",
            |d, two| d[474..478].copy_from_slice(&u32::try_from(two / 1024).unwrap().to_le_bytes()),
            "partition/wrong-length",
            &[],
        ),
        ("type wrong", |d, _| d[466] = 0x83, "partition/wrong-type", &["windows"]),
        ("hidden", |d, _| d[466] = 0x1C, "partition/hidden", &["windows"]),
    ];
    for (name, strike, code, missed_by) in cases {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        let mut bytes = sound.clone();
        strike(&mut bytes, two);
        write(at, &bytes);
        let seen = json(at, &["scout", "disk.img"], 1);
        let codes: Vec<&str> =
            seen["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
        assert!(codes.contains(&code), "{name}: {codes:?}");
        assert_eq!(
            volumes(&seen).iter().map(|v| v.1).collect::<Vec<_>>(),
            [FIRST as u64, SECOND as u64],
            "{name}"
        );
        hosts_miss(at, "disk.img", name, code, missed_by);
        assert_eq!(json(at, &["check", "disk.img"], 1)["sound"], false, "{name}");

        let plan = json(at, &["plan", "disk.img", "--only", "table", "--out", "t.json"], 0);
        assert_eq!(plan["outcome"]["after"]["sound"], true, "{name}: {plan}");
        json(at, &["apply", "t.json", "--image", "disk.img", "--copy", "new.img"], 0);
        let after = json(at, &["scout", "new.img"], 0);
        assert!(volumes(&after).iter().all(|v| v.2 == "listed"), "{name}: {after}");
        assert_eq!(json(at, &["check", "new.img"], 0)["sound"], true, "{name}");
        hosts_miss(at, "new.img", name, code, &[]);
    }
}

#[test]
fn a_lost_volume_without_its_boot_sector_is_found_by_its_backup() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let mut bytes = disk().0;
    bytes[..512].fill(0);
    bytes[SECOND..SECOND + 512].fill(0);
    write(at, &bytes);
    let seen = json(at, &["scout", "disk.img"], 1);
    assert_eq!(seen["volumes"][1]["offset"], SECOND as u64);
    assert_eq!(seen["volumes"][1]["boot_sector_gone"], true);
    let plan = json(at, &["plan", "disk.img", "--volume", "2", "--out", "v.json"], 0);
    assert_eq!(plan["steps"][0]["name"], "boot-from-backup");
    json(at, &["apply", "v.json", "--image", "disk.img", "--copy", "new.img"], 0);
    assert_eq!(json(at, &["check", "new.img", "--volume", "2"], 0)["sound"], true);
}

#[test]
fn a_gpt_is_mended_from_its_other_copy() {
    let (mut disk, one, two) = disk();
    disk[..512].fill(0);
    disk[FIRST..FIRST + one].fill(0);
    let last = disk.len() / 512 - 1;
    let gpt = gpt(last, two);
    for (at, bytes) in &gpt {
        disk[*at..*at + bytes.len()].copy_from_slice(bytes);
    }
    let cases: [(&str, usize, &str, &[&str]); 4] = [
        ("protective entry", 446, "partition/gpt-protection", &["linux", "windows"]),
        ("primary header", 512, "partition/gpt-primary", &["linux"]),
        ("primary entries", 1024, "partition/gpt-primary", &["linux"]),
        ("backup header", last * 512, "partition/gpt-backup", &[]),
    ];
    for (name, hit, code, missed_by) in cases {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        let mut bytes = disk.clone();
        bytes[hit..hit + 64].fill(if hit == 446 { 0 } else { 0x77 });
        write(at, &bytes);
        hosts_miss(at, "disk.img", name, code, missed_by);
        let seen = json(at, &["scout", "disk.img"], 1);
        let codes: Vec<&str> =
            seen["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
        assert!(codes.contains(&code), "{name}: {codes:?}");
        json(at, &["plan", "disk.img", "--only", "table", "--out", "t.json"], 0);
        json(at, &["apply", "t.json", "--image", "disk.img", "--copy", "new.img"], 0);
        let after = json(at, &["scout", "new.img"], 0);
        assert_eq!(after["volumes"][0]["found"], "listed", "{name}");
        let mended = fs::read(at.join("new.img")).unwrap();
        for (place, expected) in &gpt {
            assert_eq!(&mended[*place..*place + expected.len()], &expected[..], "{name}: bytes at {place}");
        }
    }
}

/// A GPT with one entry for the second volume: places and bytes, protective MBR included.
fn gpt(last: usize, bytes: usize) -> Vec<(usize, Vec<u8>)> {
    use punchdog_core::partition::{
        gpt::header_crc,
        layout::{BASIC_DATA, GptEntry, GptHeader},
    };
    let mut protective = entry(0xEE, 512, last * 512);
    (protective.start_chs, protective.end_chs) = ([0, 2, 0], [0xFF, 0xFF, 0xFF]);
    let mut volume = GptEntry::new_zeroed();
    volume.kind = BASIC_DATA;
    volume.unique = [7; 16];
    volume.first = (SECOND as u64 / 512).into();
    volume.last = ((SECOND + bytes) as u64 / 512 - 1).into();
    let mut entries = volume.as_bytes().to_vec();
    entries.resize(128 * 128, 0);
    let mut header = GptHeader::new_zeroed();
    header.signature = *b"EFI PART";
    header.revision = 0x0001_0000.into();
    header.header_size = 92.into();
    header.first_usable = 34.into();
    header.last_usable = (last as u64 - 33).into();
    header.disk_guid = [9; 16];
    header.entries = 128.into();
    header.entry_bytes = 128.into();
    header.entries_crc = crc32fast::hash(&entries).into();
    let copy = |my: u64, other: u64, at: u64| {
        let mut copy =
            GptHeader { my_lba: my.into(), alternate_lba: other.into(), entries_lba: at.into(), ..header };
        copy.header_crc = header_crc(&copy).into();
        copy.as_bytes().to_vec()
    };
    let end = last as u64;
    vec![
        (446, protective.as_bytes().to_vec()),
        (510, vec![0x55, 0xAA]),
        (512, copy(1, end, 2)),
        (1024, entries.clone()),
        ((last - 32) * 512, entries),
        (last * 512, copy(end, 1, end - 32)),
    ]
}

/// Neither table nor boot sector nor backup: the tables and folders alone tell where the volume is.
#[test]
fn a_lost_volume_of_which_only_tables_and_folders_are_left_is_found() {
    const START: usize = 1 << 20;
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let (_, mut bytes) = punchdog_damage::station::field_stick().unwrap();
    bytes[START..START + 512].fill(0);
    write(at, &bytes);
    let seen = json(at, &["scout", "disk.img"], 1);
    assert_eq!(volumes(&seen), [("fat16".to_owned(), START as u64, "lost".to_owned())]);
    assert_eq!(seen["volumes"][0]["boot_sector_gone"], true);
    let files = json(at, &["files", "disk.img"], 0);
    let whole =
        files["files"].as_array().unwrap().iter().filter(|f| f["folder"] == false && f["state"] == "intact");
    assert_eq!(whole.count(), 25, "every file can be copied out");
    json(at, &["plan", "disk.img", "--out", "v.json"], 0);
    json(at, &["apply", "v.json", "--image", "disk.img", "--copy", "one.img"], 0);
    json(at, &["plan", "one.img", "--only", "table", "--out", "t.json"], 0);
    json(at, &["apply", "t.json", "--image", "one.img", "--copy", "two.img"], 0);
    assert_eq!(json(at, &["check", "two.img"], 0)["sound"], true);
    assert_eq!(volumes(&json(at, &["scout", "two.img"], 0))[0].2, "listed");
}

/// A place inside a whole volume is no volume, unless it is said to be one.
#[test]
fn a_place_inside_a_whole_volume_is_refused() {
    let inner = patient(Kind::Fat16).bytes;
    let mut bare = patient(Kind::Fat32);
    // Another volume's bytes as the content of a file, as an image of a card is kept on a card.
    let cluster = bare.find("ledges.csv").clusters[0];
    let inside = bare.geometry.cluster_offset(cluster);
    bare.write(inside, &inner[..512]);
    let mut disk = vec![0_u8; (1 << 20) + inner.len()];
    disk[1 << 20..].copy_from_slice(&inner);
    disk[450] = 0x0E;
    disk[454..458].copy_from_slice(&2048_u32.to_le_bytes());
    disk[458..462].copy_from_slice(&u32::try_from(inner.len() / 512).unwrap().to_le_bytes());
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    for (bytes, places) in [
        (&bare.bytes, vec![512, 4096, inside]),
        (&disk, vec![0, 512, 63 * 512, (1 << 20) - 512, (1 << 20) + 512, (1 << 20) + 4096]),
    ] {
        let folder = folder_with("card.img", bytes);
        let at = folder.path();
        for place in places {
            let place = place.to_string();
            for command in ["check", "explain", "files", "plan"] {
                let done = run(at, &[command, "card.img", "--at", &place]);
                assert_eq!(done.status, 2, "{command} at {place}: {}", done.out);
                assert!(done.err.contains("Next"), "{}", done.err);
            }
        }
    }
    let folder = folder_with("card.img", &disk);
    let at = folder.path();
    assert_eq!(run(at, &["check", "card.img", "--at", "1048576"]).status, 0, "where it begins it is taken");
    let forced = run(at, &["check", "card.img", "--at", "1048064", "--inside"]);
    assert!(forced.status == 2 || forced.out.contains("--inside"), "{}{}", forced.out, forced.err);
}

/// A bare volume without its boot sector is no volume in no partition entry.
#[test]
fn a_bare_volume_needs_no_table() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let mut patient = patient(kind);
        patient.fill(0, 512, 0);
        let folder = folder_with("card.img", &patient.bytes);
        let at = folder.path();
        let seen = json(at, &["scout", "card.img"], 1);
        assert_eq!(seen["volumes"][0]["found"], "bare", "{kind:?}: {seen}");
        assert!(seen["findings"].as_array().unwrap().is_empty(), "{kind:?}: {seen}");
        let checked = json(at, &["check", "card.img"], 1);
        assert!(checked["table"]["findings"].as_array().unwrap().is_empty(), "{kind:?}: {checked}");
        let text = run(at, &["check", "card.img"]);
        assert!(!text.out.contains("--only table"), "{}", text.out);
        let refused = json(at, &["plan", "card.img", "--only", "table", "--out", "table.json"], 2);
        assert!(refused["error"].as_str().unwrap().contains("begins at byte 0"), "{refused}");
        assert!(!at.join("table.json").exists());
        assert_eq!(json(at, &["plan", "card.img"], 0)["outcome"]["after"]["sound"], true);
    }
}

/// Types that say more than which file system stands there are as they should be.
#[test]
fn what_a_manager_or_a_maker_has_divided_is_left_alone() {
    let files = super::unearth::content(3);
    let ntfs = super::left_out::in_partition(&super::unearth::on_ntfs(&files));
    let fat = super::left_out::in_partition(&super::unearth::on_fat(2048, &files));
    for (disk, kind, code) in
        [(&ntfs, 0x42, Some("partition/managed")), (&ntfs, 0x27, None), (&fat, 0xDE, None)]
    {
        let mut disk = disk.clone();
        disk[450] = kind;
        if kind == 0x42 {
            // A second volume, of which only the manager's database tells.
            let volume = disk[1 << 20..disk.len() - (1 << 20)].to_vec();
            disk.extend(volume);
        }
        let folder = folder_with("disk.img", &disk);
        let at = folder.path();
        let seen = json(at, &["scout", "disk.img"], 0);
        let codes: Vec<&str> = seen["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|found| found["code"].as_str().unwrap())
            .collect();
        assert_eq!(codes, code.into_iter().collect::<Vec<_>>(), "{kind:02X}");
        assert_eq!(seen["volumes"].as_array().unwrap().len(), 1 + usize::from(kind == 0x42));
        let plan = json(at, &["plan", "disk.img"], 0);
        let table = |step: &&serde_json::Value| step["name"].as_str().unwrap().starts_with("partition");
        assert_eq!(plan["steps"].as_array().unwrap().iter().filter(table).count(), 0, "{kind:02X}: {plan}");
    }
}

#[test]
fn a_disk_of_which_every_two_bytes_are_turned_is_told() {
    let files = super::unearth::content(3);
    let volume = super::unearth::on_fat(2048, &files);
    for mut bytes in [volume.clone(), super::left_out::in_partition(&volume)] {
        bytes.chunks_exact_mut(2).for_each(<[u8]>::reverse);
        let folder = folder_with("card.img", &bytes);
        for command in ["scout", "check", "files"] {
            let said = run(folder.path(), &[command, "card.img"]);
            let told = said.out + &said.err;
            assert!(told.contains("every two bytes"), "{command}: {told}");
            assert!(told.contains("conv=swab"), "{command}: {told}");
        }
    }
}
