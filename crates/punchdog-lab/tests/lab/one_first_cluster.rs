//! Two files whose entries name one first cluster: one of them is struck, and which, its content tells. On NTFS also run
//! lists of which nothing is left.

use punchdog_core::{
    family::{Kind, Wanted},
    medium::{Extent, Medium, Memory},
    ntfs::{
        layout::{kind, own},
        record::attributes,
        runs::encode,
    },
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{content, exfat, fat, fat::Placing, ntfs, ntfs_faults, patient::Patient, seed::Seed};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

const NAMES: [&str; 4] = ["tern 1.jpg", "tern 2.jpg", "tern 3.jpg", "tern 4.jpg"];

/// Pictures for clusters of `cluster` bytes; the second and the third need the same number of them, or not.
fn pictures(cluster: usize, alike: bool) -> Vec<Vec<u8>> {
    let mut seed = Seed::new(41);
    let clusters = |one: &[u8]| one.len().div_ceil(cluster);
    let mut photo = |wide: u32| content::photo(&mut seed, (wide, 300), "2026:05:03 06:12:11");
    let mut made = vec![photo(400), photo(420)];
    let third = (300..900_u32).step_by(7).map(&mut photo);
    let other = made[1].clone();
    let fits = |one: &Vec<u8>| one.len() != other.len() && (clusters(one) == clusters(&other)) == alike;
    made.push(third.into_iter().find(fits).expect("a picture of that length"));
    made.push(photo(440));
    made
}

/// What each file holds after the plan, by its path, and what the steps do.
fn mended(bytes: &[u8]) -> (BTreeMap<String, String>, Vec<String>) {
    let medium = Memory::new(bytes.to_vec());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    let steps: Vec<String> = plan.steps.iter().map(|step| step.does.clone()).collect();
    assert!(plan.outcome.after.sound, "{steps:?}: {:?}", plan.outcome.after.findings);
    let overlay = plan.replay(&medium).unwrap();
    let volume = registry::recognise(&overlay, &Silent).unwrap().expect("a volume");
    let files = volume.files(&overlay, Wanted::default(), &Silent).unwrap();
    let files = files.iter().filter(|file| !file.folder);
    (files.map(|file| (file.path.to_string(), file.sha256(&overlay))).collect(), steps)
}

fn is_right(name: &str, bytes: &[u8], pictures: &[Vec<u8>]) {
    let (files, steps) = mended(bytes);
    for (path, picture) in NAMES.iter().zip(pictures) {
        let wanted = hex::encode(Sha256::digest(picture));
        assert_eq!(files.get(*path), Some(&wanted), "{name}: {path}: {steps:?}");
    }
    assert_eq!(files.len(), NAMES.len() + 1, "{name}: {files:?} {steps:?}");
}

/// The second or the third names the first cluster of the other, with room for copies or without.
const CASES: [(usize, usize); 2] = [(1, 2), (2, 1)];

#[test]
fn of_two_exfat_files_the_struck_one_gets_its_own() {
    for (cluster, alike) in [(4096_usize, true), (4096, false), (1024, false)] {
        let pictures = pictures(cluster, alike);
        for ((struck, other), lie) in CASES
            .into_iter()
            .flat_map(|case| [Placing::Row, Placing::Pieces(2), Placing::Pieces(1)].map(|lie| (case, lie)))
        {
            for full in [false, true] {
                let wish = exfat::small(512, u32::try_from(cluster).unwrap(), 1);
                let mut filler =
                    exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
                for (path, picture) in NAMES.iter().zip(&pictures) {
                    filler.file(path, picture, lie).unwrap();
                }
                let rest = filler.free().saturating_sub(if full { 0 } else { 200 });
                filler.file("rest.bin", &vec![9; rest as usize * cluster], Placing::Gaps).unwrap();
                let mut patient = Patient::new(filler.finish().unwrap());
                let first = patient.find(NAMES[other]).clusters[0];
                patient.write_set(NAMES[struck], 52, &first.to_le_bytes());
                let name = format!("{cluster} {alike} {struck} names {other}, {lie:?}, full: {full}");
                is_right(&name, &patient.bytes, &pictures);
            }
        }
    }
}

#[test]
fn of_two_fat_files_the_struck_one_gets_its_own() {
    for (kind, cluster, alike) in [
        (Kind::Fat12, 4096_usize, true),
        (Kind::Fat16, 4096, true),
        (Kind::Fat32, 512, false),
        (Kind::Fat32, 4096, true),
    ] {
        let pictures = pictures(cluster, alike);
        for (struck, other) in CASES {
            for lie in [Placing::Row, Placing::Gaps] {
                for full in [false, true] {
                    let wish = fat::small(kind, 512, u32::try_from(cluster).unwrap());
                    let mut filler =
                        fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
                    for (path, picture) in NAMES.iter().zip(&pictures) {
                        filler.file(path, picture, lie).unwrap();
                    }
                    let rest = filler.free().saturating_sub(if full { 0 } else { 200 });
                    filler.file("rest.bin", &vec![9; rest as usize * cluster], Placing::Gaps).unwrap();
                    let mut patient = Patient::new(filler.finish().unwrap());
                    let first = patient.find(NAMES[other]).clusters[0];
                    patient.set_first(NAMES[struck], first);
                    let name =
                        format!("{kind:?} {cluster} {alike} {struck} names {other}, {lie:?}, full: {full}");
                    is_right(&name, &patient.bytes, &pictures);
                }
            }
        }
    }
}

/// A volume with these pictures; nothing but the rest lies between them and its end.
fn ntfs_volume(pictures: &[Vec<u8>], cluster: usize, full: bool) -> ntfs_faults::Patient {
    let wish = ntfs::small(512, u32::try_from(cluster).unwrap(), 1024);
    let mut filler = ntfs::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for (path, picture) in NAMES.iter().zip(pictures) {
        filler.file(path, picture, Placing::Row).unwrap();
    }
    let rest = filler.free().saturating_sub(if full { 0 } else { 200 });
    filler.file("rest.bin", &vec![9; rest as usize * cluster], Placing::Gaps).unwrap();
    Patient::new(filler.finish().unwrap())
}

/// Where in the record the run list of a file begins, and its bytes.
fn list_of(patient: &ntfs_faults::Patient, path: &str) -> (u32, std::ops::Range<usize>) {
    let number = patient.number(path);
    let record = patient.record(number);
    let (list, _) = attributes(&record);
    let data = list.iter().find(|a| a.kind() == kind::DATA).expect("content");
    let head = data.bytes.len() - data.runs().len();
    (number, data.at + head..data.at + data.bytes.len())
}

#[test]
fn of_two_ntfs_files_the_struck_one_gets_its_own() {
    for (cluster, alike) in [(4096_usize, true), (4096, false), (1024, false)] {
        let pictures = pictures(cluster, alike);
        for (struck, other) in CASES {
            for full in [false, true] {
                let mut patient = ntfs_volume(&pictures, cluster, full);
                let mut run = patient.runs(patient.number(NAMES[struck]), kind::DATA, "")[0];
                run.first = patient.runs(patient.number(NAMES[other]), kind::DATA, "")[0].first;
                let (number, range) = list_of(&patient, NAMES[struck]);
                let bytes = encode(&[run]);
                patient.edit(number, |record| record[range][..bytes.len()].copy_from_slice(&bytes));
                let name = format!("{cluster} {alike} {struck} names {other}, full: {full}");
                is_right(&name, &patient.bytes, &pictures);
            }
        }
    }
}

#[test]
fn ntfs_files_in_one_row_need_no_run_list() {
    for cluster in [1024_usize, 4096] {
        let pictures = pictures(cluster, false);
        for lists in [&[1][..], &[0, 2], &[0, 1, 2, 3]] {
            let mut patient = ntfs_volume(&pictures, cluster, true);
            for path in lists.iter().map(|index| NAMES[*index]) {
                let (number, range) = list_of(&patient, path);
                patient.edit(number, |record| record[range].fill(0xFE));
            }
            is_right(&format!("{cluster}: {lists:?}"), &patient.bytes, &pictures);
        }
    }
}

#[test]
fn ntfs_files_in_one_row_need_no_record() {
    for (cluster, lost) in [(1024_usize, &[1][..]), (4096, &[0, 2]), (4096, &[0, 1, 2, 3])] {
        let pictures = pictures(cluster, false);
        for bitmap_too in [false, true] {
            // On a full one there would be no room for another $Bitmap.
            let mut patient = ntfs_volume(&pictures, cluster, !bitmap_too);
            for path in lost.iter().map(|index| NAMES[*index]) {
                patient.fill(patient.record_place(patient.number(path)), 1024, 0x5A);
            }
            if bitmap_too {
                patient.fill(patient.record_place(own::BITMAP), 1024, 0x5A);
            }
            is_right(&format!("{cluster}: {lost:?}, $Bitmap: {bitmap_too}"), &patient.bytes, &pictures);
            // Whoever does not want that says so.
            let leave = BTreeMap::from([("content-found".to_owned(), "leave".to_owned())]);
            let medium = Memory::new(patient.bytes.clone());
            let whole = Subject::Volume(Extent::new(0, medium.len()));
            let plan = plan::build(&medium, "patient.img", whole, leave, &Silent).unwrap();
            let asked = plan.choices.iter().find(|choice| choice.name == "content-found").expect("asked");
            assert_eq!(asked.paths.len(), lost.len(), "{asked:?}");
            assert!(plan.steps.iter().all(|step| step.name != "file-made-anew"));
        }
    }
}

/// Text begins with nothing of its own: two lost texts that lie behind one another, of whole clusters and of a part.
#[test]
fn lost_texts_are_told_apart() {
    let line = |number: usize| format!("{number:06} terns on the western ledges, counted from the boat\r\n");
    let text = |from: usize, length: usize| {
        let all: String = (from..from + 2000).map(line).collect();
        all.into_bytes()[..length].to_vec()
    };
    let texts = [text(0, 3 * 4096 + 700), text(5000, 2 * 4096 + 90), text(9000, 4 * 4096 + 1200)];
    let wish = ntfs::small(512, 4096, 1024);
    let mut filler = ntfs::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for (number, text) in texts.iter().enumerate() {
        filler.file(&format!("count {number}.txt"), text, Placing::Row).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    for number in 0..texts.len() {
        patient.fill(patient.record_place(patient.number(&format!("count {number}.txt"))), 1024, 0x5A);
    }
    let (files, steps) = mended(&patient.bytes);
    for (number, text) in texts.iter().enumerate() {
        let there = files.get(&format!("count {number}.txt"));
        assert_eq!(there, Some(&hex::encode(Sha256::digest(text))), "{number}: {steps:?}");
    }
}

/// Two lost files of one kind and one length, of which one row is left: it is neither's.
#[test]
fn what_can_be_two_lost_files_is_given_to_none() {
    let mut pictures = pictures(4096, true);
    pictures[2] = pictures[1].clone();
    let mut patient = ntfs_volume(&pictures, 4096, true);
    let third = patient.runs(patient.number(NAMES[2]), kind::DATA, "")[0];
    patient.fill(patient.geometry.place(third.first.unwrap()), 4096, 0x5A);
    for path in &NAMES[1..3] {
        patient.fill(patient.record_place(patient.number(path)), 1024, 0x5A);
    }
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    assert!(plan.steps.iter().all(|step| step.name != "file-made-anew"));
}
