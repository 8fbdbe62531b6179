//! What is said of NTFS files that are not plain content in a folder that is there.

use crate::reader;
use punchdog_core::{
    family::Wanted,
    files::record::{FileRecord, State},
    medium::{Extent, Medium, Memory},
    ntfs::layout::kind,
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    fat::Placing,
    ntfs::{Filler, everyday, log_in_use, small},
    ntfs_faults::Patient,
};
use std::collections::{BTreeMap, BTreeSet};

fn files(bytes: &[u8], deleted: bool) -> Vec<(FileRecord, String)> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let wanted = Wanted { deleted, system: false };
    let all = volume.files(&medium, wanted, &Silent).unwrap();
    all.into_iter().map(|file| (file.clone(), file.sha256(&medium))).collect()
}

fn codes(bytes: &[u8]) -> BTreeSet<&'static str> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    volume.examine(&medium, &Silent).unwrap().findings.iter().map(|finding| finding.entry.code).collect()
}

fn filler() -> Filler<Vec<u8>> {
    let wish = small(512, 4096, 1024);
    let bytes = usize::try_from(wish.bytes).unwrap();
    Filler::new(&wish, vec![0; bytes]).unwrap()
}

#[test]
fn zeros_behind_a_reparse_point_are_never_content() {
    let mut filler = filler();
    let packed = [7_u8; 300];
    filler.elsewhere("packed.dll", 90_000, 0x8000_0017, Some(("WofCompressedData", &packed))).unwrap();
    filler.elsewhere("in one place.doc", 90_000, 0x8000_0013, None).unwrap();
    filler.elsewhere("not fetched.jpg", 90_000, 0x9000_001A, None).unwrap();
    filler.file("plain.txt", &[5; 9000], Placing::Row).unwrap();
    let bytes = filler.finish().unwrap().canvas;
    let seen = files(&bytes, false);
    let of = |path: &str| &seen.iter().find(|(file, _)| file.path == path).unwrap().0;
    for path in ["packed.dll", "in one place.doc", "not fetched.jpg"] {
        let file = of(path);
        assert_eq!((file.state, file.whole), (State::Damaged, false), "{path}");
        assert!(file.note.is_some(), "{path}");
    }
    assert!(of("packed.dll").note.as_ref().unwrap().contains("WofCompressedData"));
    assert_eq!(of("packed.dll:WofCompressedData").size, 300);
    assert_eq!(of("plain.txt").state, State::Intact);
    assert!(codes(&bytes).contains("ntfs/packed-by-host"));
}

/// Reparse points are found again by the index of them, laid anew from the records; what owners may use stands in its
/// index alone.
#[test]
fn indexes_of_extend_are_laid_anew_from_the_records() {
    let mut filler = filler();
    for number in 0..3 {
        filler.elsewhere(&format!("link {number}"), 90_000, 0xA000_000C + number, None).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let quota = patient.attribute(24, kind::INDEX_ROOT, "$Q");
    patient.edit(24, |record| record[quota + 32 + 16 + 4] ^= 0x70);
    assert!(codes(&patient.bytes).is_superset(&BTreeSet::from(["ntfs/extend-index", "ntfs/quota-index"])));
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "", whole, BTreeMap::new(), &Silent).unwrap();
    assert!(plan.outcome.after.sound);
    let steps: Vec<&str> = plan.steps.iter().map(|step| step.name.as_str()).collect();
    assert_eq!(steps, ["extend-index-laid-anew"]);
    let mended = plan.replay(&medium).unwrap();
    let mended: &dyn Medium = &mended;
    let mended = mended.bytes(0, usize::try_from(mended.len()).unwrap()).unwrap();
    let left: Vec<&str> = codes(&mended).into_iter().filter(|code| code.ends_with("-index")).collect();
    assert_eq!(left, ["ntfs/quota-index"]);
    let mended = Patient { bytes: mended, ..patient };
    let at = mended.attribute(26, kind::INDEX_ROOT, "$R");
    let entries = &mended.record(26)[at + 32 + 32..];
    for number in 0..3_u32 {
        let entry = &entries[32 * usize::try_from(number).unwrap()..];
        let file = u64::from(mended.number(&format!("link {number}")));
        let key = [&(0xA000_000C + number).to_le_bytes()[..], &(file | 1 << 48).to_le_bytes()].concat();
        assert_eq!((&entry[16..28], entry[8]), (&key[..], 32), "{number}");
    }
}

#[test]
fn deleted_files_come_with_their_paths_and_content() {
    let mut filler = filler();
    let content: Vec<u8> = (0..20_000_u32).map(|n| n.to_le_bytes()[1] ^ n.to_le_bytes()[0]).collect();
    filler.folder("Counts", Placing::Row).unwrap();
    filler.folder("Counts/Old", Placing::Row).unwrap();
    for path in ["Counts/gone.csv", "Counts/Old/older.csv", "short.txt"] {
        let length = if path == "short.txt" { 90 } else { content.len() };
        filler.file(path, &content[..length], Placing::Row).unwrap();
    }
    for path in ["Counts/gone.csv", "Counts/Old/older.csv", "short.txt", "Counts/Old"] {
        filler.delete(path).unwrap();
    }
    // In the room of the first one something new stands.
    filler.file("new.bin", &[9; 4096], Placing::Gaps).unwrap();
    let filled = filler.finish().unwrap();
    let truth: BTreeMap<&str, &str> =
        filled.made.iter().map(|made| (made.path.as_str(), made.sha256.as_str())).collect();
    let seen = files(&filled.canvas, true);
    let deleted: BTreeMap<String, &(FileRecord, String)> = seen
        .iter()
        .filter(|(file, _)| file.state == State::Deleted)
        .map(|one| (one.0.path.to_string(), one))
        .collect();
    let names: Vec<&str> = deleted.keys().map(String::as_str).collect();
    assert_eq!(names, ["Counts/Old", "Counts/Old/older.csv", "Counts/gone.csv", "short.txt"]);
    for path in ["Counts/Old/older.csv", "short.txt"] {
        assert_eq!(deleted[path].1, truth[path], "{path}");
        assert!(!deleted[path].0.taken, "{path}");
    }
    assert!(seen.iter().all(|(file, _)| file.state == State::Deleted || file.state == State::Intact));
    let medium = Memory::new(filled.canvas.clone());
    let volume = registry::recognise(&medium, &Silent).unwrap().unwrap();
    let counted = volume.examine(&medium, &Silent).unwrap().deleted;
    let taken = deleted.values().filter(|(file, _)| file.taken).count() as u64;
    assert_eq!((counted.files, counted.readable), (3, 3 - taken));
}

/// Wherever a file's place is named but in its own record, nothing is left.
#[test]
fn without_any_index_every_path_is_listed() {
    for shape in [(512, 512, 1024), (512, 4096, 1024), (4096, 4096, 4096)] {
        let mut patient = Patient::new(everyday(&small(shape.0, shape.1, shape.2), 5));
        let truth: BTreeMap<String, String> = patient
            .live()
            .filter(|made| !made.folder)
            .map(|made| (made.path.clone(), made.sha256.clone()))
            .collect();
        let folders: Vec<u32> =
            patient.live().filter(|made| made.folder).map(|made| patient.number(&made.path)).collect();
        for number in folders.into_iter().chain([5]) {
            let at = patient.attribute(number, kind::INDEX_ROOT, "$I30");
            // The size of a block is none: no host gets into the folder.
            patient.edit(number, |record| record[at + 32 + 8..at + 32 + 12].fill(0xEE));
        }
        let seen = files(&patient.bytes, false);
        let found: BTreeMap<String, String> = seen
            .iter()
            .filter(|(file, _)| !file.folder)
            .map(|(file, hash)| (file.path.to_string(), hash.clone()))
            .collect();
        assert_eq!(found, truth, "{shape:?}");
        let said = |file: &FileRecord| file.state == State::Damaged && file.whole;
        assert!(seen.iter().filter(|(file, _)| !file.folder).all(|(file, _)| said(file)), "{shape:?}");
        assert!(codes(&patient.bytes).contains("ntfs/index-root"), "{shape:?}");
    }
}

#[test]
fn a_sleeping_host_is_told_and_left_alone() {
    let mut filler = filler();
    let mut memory = vec![0x33; 30_000];
    memory[..4].copy_from_slice(b"hibr");
    filler.file("hiberfil.sys", &memory, Placing::Row).unwrap();
    let filled = filler.finish().unwrap();
    let mut patient = Patient::new(filled);
    let log = patient.own_place(2, "", 0);
    patient.write(log, &log_in_use());
    assert!(codes(&patient.bytes).is_superset(&["ntfs/host-asleep", "ntfs/log-in-use"].into()));
    let medium = Memory::new(patient.bytes.clone());
    let build = |wanted: &[(&str, &str)]| {
        let wanted = wanted.iter().map(|(name, option)| ((*name).into(), (*option).into())).collect();
        let whole = Subject::Volume(Extent::new(0, medium.len()));
        plan::build(&medium, "", whole, wanted, &Silent).unwrap()
    };
    let plan = build(&[]);
    assert!(plan.steps.is_empty(), "nothing is written while a host sleeps on it");
    let question = plan.choices.iter().find(|choice| choice.name == "hibernated").expect("the question");
    assert_eq!(question.taken, "leave");
    let reset = build(&[("hibernated", "reset"), ("log", "reset")]);
    let steps: Vec<&str> = reset.steps.iter().map(|step| step.name.as_str()).collect();
    assert_eq!(steps, ["log-reset"]);
}

#[test]
fn another_reader_sees_the_same() {
    let patient = Patient::new(everyday(&small(512, 4096, 1024), 9));
    let medium = Memory::new(patient.bytes.clone());
    let volume = registry::recognise(&medium, &Silent).unwrap().unwrap();
    let ours: BTreeMap<String, u64> = volume
        .files(&medium, Wanted::default(), &Silent)
        .unwrap()
        .into_iter()
        // Streams are no paths to it.
        .filter(|file| !file.folder && !file.path.to_string().contains(':'))
        .map(|file| (file.path.to_string(), reader::sum(&file.content.start(&medium, file.size))))
        .collect();
    let theirs = reader::files(&patient.bytes);
    let names: BTreeSet<&String> = theirs.keys().collect();
    assert_eq!(names, ours.keys().collect());
    let others: Vec<&String> =
        ours.iter().filter(|(path, sum)| theirs.get(*path) != Some(*sum)).map(|(path, _)| path).collect();
    // It does not unpack, and puts pieces together by one id that they share, which those of a file need not.
    let apart = ["Logs/2026/tides of the first week.csv", "Logs/archive.log", "Recordings/dusk 0003.wav"];
    assert_eq!(others, apart);
}
