//! Folders of NTFS volumes put back: large ones, crowds of them, without room, and all at once with the rest.

use crate::reader;
use punchdog_core::{
    family::Wanted,
    medium::{Extent, Medium, Memory},
    ntfs::{
        fresh::Wish,
        layout::{kind, own},
        record::attributes,
        runs::Mapping,
    },
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    fat::Placing,
    ntfs::{Filler, everyday, small},
    ntfs_faults::Patient,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    time::Instant,
};

/// A volume of so many records and bytes, to be filled.
pub(crate) fn filler(bytes: u64, records: u32) -> Filler<Vec<u8>> {
    let wish = Wish { bytes, records, ..small(512, 4096, 1024) };
    Filler::new(&wish, vec![0; usize::try_from(bytes).unwrap()]).unwrap()
}

/// What a plan makes of it: the bytes afterwards, the names of its steps, its size as JSON.
pub(crate) struct Mended {
    pub(crate) bytes: Vec<u8>,
    pub(crate) steps: Vec<String>,
    pub(crate) sound: bool,
    changed: u64,
}

pub(crate) fn mended(bytes: &[u8]) -> Mended {
    mended_with(bytes, &[])
}

pub(crate) fn mended_with(bytes: &[u8], choices: &[(&str, &str)]) -> Mended {
    let choices = choices.iter().map(|(name, option)| ((*name).to_owned(), (*option).to_owned())).collect();
    let medium = Memory::new(bytes.to_vec());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "", whole, choices, &Silent).unwrap();
    let overlay = plan.replay(&medium).unwrap();
    let all: &dyn Medium = &overlay;
    Mended {
        bytes: all.bytes(0, bytes.len()).unwrap(),
        steps: plan.steps.iter().map(|step| step.name.clone()).collect(),
        sound: plan.outcome.after.sound,
        changed: plan.steps.iter().map(|step| step.written.bytes).sum(),
    }
}

/// Paths and hashes as our reader lists them.
pub(crate) fn listed(bytes: &[u8]) -> BTreeMap<String, String> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    files
        .iter()
        .filter(|file| !file.folder)
        .map(|file| (file.path.to_string(), file.sha256(&medium)))
        .collect()
}

/// Where all blocks of a folder's index stand, block by block.
fn blocks(patient: &Patient, number: u32) -> Vec<Vec<Extent>> {
    let map = Mapping::of(&patient.runs(number, kind::INDEX_ALLOCATION, "$I30"), patient.geometry.cluster());
    let size = patient.geometry.index() as u64;
    (0..map.len() / size)
        .map(|block| map.places(block * size, size).into_iter().map(|(_, extent)| extent).collect())
        .collect()
}

fn wipe(patient: &mut Patient, block: &[Extent]) {
    for piece in block {
        patient.fill(piece.offset, piece.length, 0);
    }
}

/// A folder of names that do not come in the order in which their records stand.
fn crowd(filler: &mut Filler<Vec<u8>>, folder: &str, count: usize) {
    filler.folder(folder, Placing::Row).unwrap();
    for number in 0..count {
        let path = format!("{folder}/{:05} of the ringing list, Ölmütz.csv", number * 7919 % count);
        filler.file(&path, path.as_bytes(), Placing::Row).unwrap();
    }
}

#[test]
fn one_broken_block_of_a_large_folder_costs_that_block() {
    const COUNT: usize = 6000;
    let mut filler = filler(24 << 20, 6200);
    crowd(&mut filler, "Rings", COUNT);
    let sound = Patient::new(filler.finish().unwrap());
    let number = sound.number("Rings");
    let all = blocks(&sound, number);
    assert!(all.len() > 300, "{} blocks", all.len());
    let truth = reader::paths(&sound.bytes);
    assert_eq!(truth.len(), COUNT);

    let leaf = {
        let mut patient = sound.clone();
        wipe(&mut patient, &all[17]);
        let mended = mended(&patient.bytes);
        assert!(mended.sound && mended.changed <= 4096, "{} bytes", mended.changed);
        assert_eq!(mended.steps, ["index-mended"]);
        mended.bytes
    };
    assert_eq!(reader::paths(&leaf), truth);

    // A third of the blocks, of all levels; and the root node.
    let mut patient = sound.clone();
    for block in all.iter().step_by(3).chain(all.last()) {
        wipe(&mut patient, block);
    }
    let at = patient.attribute(number, kind::INDEX_ROOT, "$I30");
    patient.edit(number, |record| record[at + 32 + 8..at + 32 + 12].fill(0xEE));
    let begun = Instant::now();
    let mended = mended(&patient.bytes);
    assert!(mended.sound, "{:?}", mended.steps);
    assert_eq!(mended.steps, ["index-laid-anew"]);
    assert!(begun.elapsed().as_secs() < 60, "{:?}", begun.elapsed());
    // Another reader goes down the index, name by name.
    assert_eq!(reader::paths(&mended.bytes), truth);
    assert_eq!(listed(&mended.bytes), listed(&sound.bytes));
}

/// A file of two names, of which one says that it stands in a folder whose record a file has by now.
#[test]
fn a_further_name_whose_folder_is_gone_is_found_and_put_somewhere() {
    let mut filler = filler(4 << 20, 192);
    filler.folder("Old visits", Placing::Row).unwrap();
    filler.linked("census.csv", "Old visits/census, first copy.csv", &[7; 3000]).unwrap();
    filler.file("later.txt", b"later", Placing::Row).unwrap();
    let mut patient = Patient::new(filler.finish().unwrap());
    let (folder, file) = (patient.number("Old visits"), patient.number("later.txt"));
    // The record of the folder in its next use: a file of its own, though it is made from another.
    let later = patient.record(file);
    patient.edit(folder, |own| {
        let (usn, number) = (own[48..50].to_vec(), folder.to_le_bytes());
        own.copy_from_slice(&later);
        own[48..50].copy_from_slice(&usn);
        own[16] += 1;
        own[44..48].copy_from_slice(&number);
        let at = own.windows(4).position(|units| units == b"l\0a\0").expect("a name");
        own[at] = b'w';
    });
    let medium = Memory::new(patient.bytes.clone());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let seen = volume.examine(&medium, &Silent).unwrap();
    let lost = format!("ADRIFT/FOLDER {folder}/census, first copy.csv");
    let orphans: Vec<_> = seen.findings.iter().filter(|found| found.entry.code == "ntfs/orphan").collect();
    assert_eq!(orphans.len(), 1, "{:?}", seen.findings);
    assert_eq!(orphans[0].paths, std::slice::from_ref(&lost));

    let mended = mended(&patient.bytes);
    let paths = reader::paths(&mended.bytes);
    assert!(paths.contains("census.csv") && paths.contains(&lost), "{paths:?}");
    assert!(!paths.iter().any(|path| path.starts_with("Old visits")), "{paths:?}");
    let (before, after) = (listed(&patient.bytes), listed(&mended.bytes));
    assert_eq!(after["census.csv"], before["census.csv"]);
    assert_eq!(after[&lost], before["census.csv"]);
}

/// Two folders' records are files' by now, and none is free: of two files of one name in the root one gets a number.
#[test]
fn files_adrift_go_into_the_root_where_no_record_is_free() {
    let mut filler = filler(4 << 20, 32);
    for folder in ["East", "West"] {
        filler.folder(folder, Placing::Row).unwrap();
        filler.file(&format!("{folder}/census.csv"), folder.as_bytes(), Placing::Row).unwrap();
    }
    filler.file("East/rings.csv", b"rings", Placing::Row).unwrap();
    let mut number = 0;
    while filler.file(&format!("later {number}.txt"), b"later", Placing::Row).is_ok() {
        number += 1;
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let later = patient.record(patient.number("later 0.txt"));
    for folder in ["East", "West"] {
        let folder = patient.number(folder);
        let name = b'm' + u8::try_from(folder % 8).unwrap();
        patient.edit(folder, |own| {
            let (usn, number) = (own[48..50].to_vec(), folder.to_le_bytes());
            own.copy_from_slice(&later);
            own[48..50].copy_from_slice(&usn);
            own[16] += 1;
            own[44..48].copy_from_slice(&number);
            let at = own.windows(4).position(|units| units == b"l\0a\0").expect("a name");
            own[at] = name;
        });
    }
    let before = listed(&patient.bytes);
    let mended = mended(&patient.bytes);
    let paths = reader::paths(&mended.bytes);
    assert!(paths.contains("census.csv") && paths.contains("rings.csv"), "{paths:?} {:?}", mended.steps);
    assert!(mended.sound && paths.contains("census 2.csv"), "{paths:?} {:?}", mended.steps);
    let after = listed(&mended.bytes);
    let contents = |list: &BTreeMap<String, String>| list.values().cloned().collect::<BTreeSet<_>>();
    assert_eq!(contents(&after), contents(&before));
    assert_eq!(after.keys().filter(|path| path.starts_with("census")).count(), 2, "{after:?}");
}

#[test]
fn a_thousand_broken_folders_are_one_plan() {
    let mut filler = filler(32 << 20, 6200);
    for folder in 0..1000 {
        filler.folder(&format!("Ledge {folder:03}"), Placing::Row).unwrap();
        for file in 0..5 {
            let path = format!("Ledge {folder:03}/visit {file}.txt");
            filler.file(&path, path.as_bytes(), Placing::Row).unwrap();
        }
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let truth = reader::paths(&patient.bytes);
    for folder in 0..1000 {
        let number = patient.number(&format!("Ledge {folder:03}"));
        let at = patient.attribute(number, kind::INDEX_ROOT, "$I30");
        patient.edit(number, |record| record[at + 32 + 8..at + 32 + 12].fill(0xEE));
    }
    let mended = mended(&patient.bytes);
    assert!(mended.sound);
    assert_eq!(mended.steps.len(), 1000);
    assert_eq!(reader::paths(&mended.bytes), truth);
}

/// How many names stand in a folder, and the bytes of an entry for each.
fn names_in(patient: &Patient, folder: u32) -> (u64, u64) {
    let clusters: u64 = patient.runs(own::MFT, kind::DATA, "").iter().map(|run| run.length).sum();
    let records = patient.geometry.place(clusters) / patient.geometry.record() as u64;
    let (mut count, mut bytes) = (0, 0);
    for number in 24..u32::try_from(records).unwrap() {
        let record = patient.record(number);
        for name in attributes(&record).0.iter().filter(|attribute| attribute.kind() == kind::NAME) {
            let parent = u32::from_le_bytes(name.value()[..4].try_into().unwrap());
            if record.starts_with(b"FILE") && parent == folder {
                count += 1;
                bytes += (16 + name.value().len() as u64).next_multiple_of(8);
            }
        }
    }
    (count, bytes)
}

/// A folder whose blocks cannot be found, on a volume where every cluster is a file's.
#[test]
fn without_room_for_an_index_nothing_is_written_over() {
    let mut filler = filler(6 << 20, 600);
    crowd(&mut filler, "Rings", 300);
    let mut left = 0;
    while filler.free() > 40 {
        filler.file(&format!("filler {left}.bin"), &vec![left; 4096 * 8], Placing::Row).unwrap();
        left += 1;
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let mut free = 0;
    while let Some(cluster) = (0..patient.geometry.clusters()).rev().find(|cluster| {
        let place = patient.own_place(own::BITMAP, "", cluster / 8);
        patient.read(place, 1)[0] >> (cluster % 8) & 1 == 0
    }) {
        patient.flip_cluster(cluster);
        free += 1;
    }
    assert!(free > 0);
    let before = listed(&patient.bytes);
    let number = patient.number("Rings");
    let at = patient.attribute(number, kind::INDEX_ALLOCATION, "$I30");
    // Its run list leads out of the volume.
    let runs = at + usize::from(patient.record(number)[at + 32]);
    patient.edit(number, |record| record[runs + 1..runs + 8].fill(0x7F));
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let choose = BTreeMap::from([("unowned-clusters".to_owned(), "keep".to_owned())]);
    let plan = plan::build(&medium, "", whole, choose, &Silent).unwrap();
    assert!(!plan.outcome.after.sound, "where should the names go?");
    // What it would need is said: an entry for each name that stands in the folder, and no more than as much again.
    let (names, least) = names_in(&patient, number);
    let not_done: Vec<&String> =
        plan.outcome.not_done.iter().filter(|what| what.contains("index of Rings")).collect();
    assert_eq!(not_done.len(), 1, "{:?}", plan.outcome.not_done);
    let numbers: Vec<u64> =
        not_done[0].split(|c: char| !c.is_ascii_digit()).filter_map(|word| word.parse().ok()).collect();
    let [told, bytes, room] = numbers[..] else { panic!("{not_done:?}") };
    assert_eq!((told, room), (names, 0), "{not_done:?}");
    assert!(
        (least..2 * least).contains(&bytes) && bytes % patient.geometry.index() as u64 == 0,
        "{not_done:?}"
    );
    let overlay = plan.replay(&medium).unwrap();
    let all: &dyn Medium = &overlay;
    assert_eq!(listed(&all.bytes(0, patient.bytes.len()).unwrap()), before);
}

/// Boot sectors, $MFTMirr, $Bitmap, and half of the index blocks, the root folder's among them, at once.
#[test]
fn the_worst_day() {
    for shape in [(512, 512, 1024), (512, 4096, 1024), (4096, 4096, 4096)] {
        let mut patient = Patient::new(everyday(&small(shape.0, shape.1, shape.2), 3));
        let truth: BTreeMap<String, String> = patient
            .live()
            .filter(|made| !made.folder)
            .map(|made| (made.path.clone(), made.sha256.clone()))
            .collect();
        let lookups = reader::paths(&patient.bytes);
        let geometry = patient.geometry;
        let large = patient.number("Recordings/Thumbs");
        for block in blocks(&patient, large).iter().step_by(2).chain(&blocks(&patient, own::ROOT)) {
            wipe(&mut patient, block);
        }
        patient.fill(patient.own_place(own::BITMAP, "", 0), geometry.clusters().div_ceil(8), 0xA5);
        patient.fill(geometry.place(geometry.mirror), 4 * geometry.record() as u64, 0);
        patient.fill(0, 512, 0);
        patient.fill(geometry.counted(), 512, 0);
        let mended = mended(&patient.bytes);
        assert!(mended.sound, "{shape:?}: {:?}", mended.steps);
        let after = listed(&mended.bytes);
        let lost: BTreeSet<&String> = truth
            .iter()
            .filter(|(path, hash)| after.get(*path) != Some(hash))
            .map(|(path, _)| path)
            .collect();
        assert!(lost.is_empty(), "{shape:?}: {lost:?}");
        assert_eq!(reader::paths(&mended.bytes), lookups, "{shape:?}");
    }
}
