//! The same fault a hundred times over: one plan mends them all, and keeps what one would keep.

use punchdog_core::{
    family::{Kind, Wanted},
    files::record::State,
    medium::{Extent, Medium, Memory},
    ntfs::layout::kind,
    progress::Silent,
    registry,
    repair::{
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{
    exfat, exfat_faults, fat,
    fat::Placing,
    faults, ntfs, ntfs_faults,
    patient::{Made, Patient},
};
use std::collections::{BTreeMap, BTreeSet};

const CROWD: u32 = 100;

fn path(folder: u32, file: u32) -> String {
    format!("day {folder:03}/count {file}.txt")
}

/// So many folders with three files of two clusters each; no two files are alike.
fn content(folder: u32, file: u32) -> Vec<u8> {
    format!("counted in folder {folder}, sheet {file}. ").repeat(24).into_bytes()
}

fn fat(kind: Kind) -> faults::Patient {
    faults::Patient::new(fat_filler(kind).finish().unwrap())
}

fn fat_filler(kind: Kind) -> fat::Filler<Vec<u8>> {
    let wish = fat::small(kind, 512, 512);
    let wish = punchdog_core::fat::fresh::Wish {
        bytes: if kind == Kind::Fat12 { 1 << 20 } else { wish.bytes },
        ..wish
    };
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for folder in 0..CROWD {
        filler.folder(&format!("day {folder:03}")).unwrap();
        for file in 0..3 {
            filler.file(&path(folder, file), &content(folder, file), Placing::Row).unwrap();
        }
    }
    filler
}

fn exfat() -> exfat_faults::Patient {
    exfat_faults::Patient::new(exfat_filler().finish().unwrap())
}

fn exfat_filler() -> exfat::Filler<Vec<u8>> {
    // One cluster holds the whole root folder, so that each set lies in a row.
    let wish = exfat::small(512, 16384, 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for folder in 0..CROWD {
        filler.folder(&format!("day {folder:03}"), 1, Placing::Row).unwrap();
        for file in 0..3 {
            filler.file(&path(folder, file), &content(folder, file), Placing::Row).unwrap();
        }
    }
    filler
}

/// Plans; the volume must be sound afterwards. Gives the hashes of every whole file.
fn mended(name: &str, bytes: &[u8]) -> BTreeSet<String> {
    let medium = Memory::new(bytes.to_vec());
    let plan = planned(bytes);
    let left = &plan.outcome.after.findings;
    assert!(plan.outcome.after.sound, "{name}: {left:?} after {} steps", plan.steps.len());
    let overlay = plan.replay(&medium).unwrap();
    let whole: &dyn Medium = &overlay;
    let mended = Memory::new(whole.bytes(0, bytes.len()).unwrap());
    let volume = registry::recognise(&mended, &Silent).unwrap().expect("a volume");
    let files = volume.files(&mended, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| file.sha256(&mended)).collect()
}

#[test]
fn folders_that_lost_their_entries() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        all_kept(kind.title(), &without_entries(fat(kind), 0xE5));
    }
    all_kept("exFAT", &without_entries(exfat(), 0x05));
}

/// Every folder of the root with its entries marked unused.
fn without_entries<G>(mut patient: Patient<G>, unused: u8) -> Patient<G> {
    let folders: Vec<_> = patient.live().filter(|made| made.folder).cloned().collect();
    for folder in &folders {
        // Of a FAT name the short entry alone is enough; the long ones then lie about.
        let entries = if unused == 0xE5 { 1 } else { u64::from(folder.entries) };
        patient.fill(folder.entry, entries * 32, unused);
    }
    patient
}

/// Every file is there after the repair.
fn all_kept<G>(name: &str, patient: &Patient<G>) {
    let there = mended(name, &patient.bytes);
    let lost: Vec<_> =
        patient.live().filter(|m| !m.folder && !there.contains(&m.sha256)).map(|m| &m.path).collect();
    assert!(lost.is_empty(), "{name}: {lost:?}");
}

#[test]
fn files_that_share_their_clusters() {
    // Every second file names the clusters of the one before it.
    for kind in [Kind::Fat16, Kind::Fat32] {
        let mut patient = fat(kind);
        for folder in 0..CROWD {
            let first = patient.find(&path(folder, 0)).clusters[0];
            patient.set_first(&path(folder, 1), first);
        }
        let there = mended(kind.title(), &patient.bytes);
        for folder in 0..CROWD {
            for file in [0, 2] {
                let made = patient.find(&path(folder, file));
                assert!(there.contains(&made.sha256), "{kind:?}: {}", made.path);
            }
        }
    }
    let mut patient = exfat();
    for folder in 0..CROWD {
        let first = patient.find(&path(folder, 0)).clusters[0].to_le_bytes();
        patient.write_set(&path(folder, 1), 52, &first);
    }
    let there = mended("exFAT", &patient.bytes);
    for folder in 0..CROWD {
        for file in [0, 2] {
            let made = patient.find(&path(folder, file));
            assert!(there.contains(&made.sha256), "exFAT: {}", made.path);
        }
    }
}

fn ntfs() -> ntfs_faults::Patient {
    let wish =
        punchdog_core::ntfs::fresh::Wish { bytes: 8 << 20, records: 640, ..ntfs::small(512, 512, 1024) };
    let mut filler = ntfs::Filler::new(&wish, vec![0; 8 << 20]).unwrap();
    for folder in 0..CROWD {
        filler.folder(&format!("day {folder:03}"), Placing::Row).unwrap();
        for file in 0..3 {
            filler.file(&path(folder, file), &content(folder, file), Placing::Row).unwrap();
        }
    }
    ntfs_faults::Patient::new(filler.finish().unwrap())
}

#[test]
fn run_lists_with_one_byte_struck() {
    let mut patient = ntfs();
    for folder in 0..CROWD {
        for file in 0..3 {
            let number = patient.number(&path(folder, file));
            let at = patient.attribute(number, kind::DATA, "");
            // The head of the list, or the length of its run.
            patient.edit(number, |record| record[at + 64 + usize::from(file == 1)] = 0x7D);
        }
    }
    all_kept("NTFS", &patient);
}

#[test]
fn files_of_ntfs_that_share_their_clusters() {
    let mut patient = ntfs();
    for folder in 0..CROWD {
        let (one, other) = (patient.number(&path(folder, 0)), patient.number(&path(folder, 1)));
        let at = patient.attribute(one, kind::DATA, "");
        let list = patient.record(one)[at + 64..at + 72].to_vec();
        patient.edit(other, |record| record[at + 64..at + 72].copy_from_slice(&list));
    }
    all_kept("NTFS", &patient);
}

#[test]
fn sets_and_flags_that_are_wrong_everywhere() {
    let mut patient = exfat();
    for folder in 0..CROWD {
        patient.write_set(&path(folder, 0), 33, &[1]);
        let count = patient.find(&path(folder, 1)).entry + 1;
        patient.write(count, &[9]);
        patient.write_set(&path(folder, 2), 36, &[7, 7]);
    }
    all_kept("exFAT", &patient);
}

/// The names that lost folders would get are there already, for one of them.
#[test]
fn a_lost_folder_whose_name_is_taken() {
    let lost = |number: u32| format!("day {number:03}");
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let first = fat(kind).find(&lost(99)).clusters[0];
        let mut filler = fat_filler(kind);
        filler.file(&format!("ADRF{:04}", first % 10_000), b"a file of the owner's", Placing::Row).unwrap();
        let patient = without_entries(faults::Patient::new(filler.finish().unwrap()), 0xE5);
        named_at_once(kind.title(), &patient, 100);
    }
    let first = exfat().find(&lost(99)).clusters[0];
    let mut filler = exfat_filler();
    filler.file(&format!("Lost Folder {first}"), b"a file of the owner's", Placing::Row).unwrap();
    let patient = without_entries(exfat_faults::Patient::new(filler.finish().unwrap()), 0x05);
    named_at_once("exFAT", &patient, 100);
}

/// All is kept, and no name is given that has to be changed again.
fn named_at_once<G>(name: &str, patient: &Patient<G>, folders: usize) {
    all_kept(name, patient);
    let plan = planned(&patient.bytes);
    let steps = |wanted: &str| plan.steps.iter().filter(|step| step.name == wanted).count();
    assert_eq!(steps("folder-reconnected"), folders, "{name}");
    assert_eq!(steps("name-mended") + steps("renamed"), 0, "{name}");
}

fn planned(bytes: &[u8]) -> Plan {
    let medium = Memory::new(bytes.to_vec());
    let subject = Subject::Volume(Extent::new(0, medium.len()));
    plan::build(&medium, "x.img", subject, BTreeMap::new(), &Silent).unwrap()
}

/// A plan over `bytes` gives each folder a name of its own in one round, and loses nothing.
#[test]
fn folders_that_all_have_one_name() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let mut patient = fat(kind);
        // Those whose long part lies just before the short entry, in the same cluster.
        let near = |made: &&Made| made.folder && !made.entry.is_multiple_of(512);
        let folders: Vec<_> = patient.live().filter(near).cloned().collect();
        let first = usize::try_from(folders[0].entry).unwrap();
        let (long, short) =
            (patient.bytes[first - 32..first].to_vec(), patient.bytes[first..first + 11].to_vec());
        for folder in &folders {
            patient.write(folder.entry - 32, &long);
            patient.write(folder.entry, &short);
        }
        renamed(kind.title(), &patient.bytes, folders.len(), patient.live().map(|made| &made.sha256));
    }
    let mut patient = exfat();
    let name: Vec<u8> = "day 000".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let hash = punchdog_core::exfat::layout::name_hash(&"DAY 000".encode_utf16().collect::<Vec<_>>());
    for folder in 0..CROWD {
        patient.write_set(&format!("day {folder:03}"), 66, &name);
        patient.write_set(&format!("day {folder:03}"), 36, &hash.to_le_bytes());
    }
    renamed("exFAT", &patient.bytes, 100, patient.live().map(|made| &made.sha256));
}

fn renamed<'h>(name: &str, bytes: &[u8], bearers: usize, hashes: impl Iterator<Item = &'h String>) {
    let there = mended(name, bytes);
    let lost = hashes.filter(|hash| !hash.is_empty() && !there.contains(*hash)).count();
    assert_eq!(lost, 0, "{name}");
    let plan = planned(bytes);
    let steps: Vec<&str> = plan.steps.iter().map(|step| step.does.as_str()).collect();
    assert_eq!(steps.len(), bearers - 1, "{name}: {steps:?}");
    for number in 2..=bearers {
        let words = format!("day 000 {number}");
        assert!(steps.iter().any(|step| step.contains(&words)), "{name}: {words} in {steps:?}");
    }
}
