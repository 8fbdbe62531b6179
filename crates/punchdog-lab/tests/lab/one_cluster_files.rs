//! Hundreds of files of one cluster each in a row: their table entries are ends throughout, and read as erased
//! flash does. A host wrote them, and nothing is wrong; where the same bytes stand in place of chains, something is.

use punchdog_core::{
    family::{Kind, Wanted},
    fat::fresh::Wish,
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
    report::finding::Weight,
};
use punchdog_damage::{
    fat::{self, Placing},
    faults,
    patient::Patient,
};
use std::collections::BTreeMap;

/// `files` of `clusters` clusters each, in folders of twelve.
fn filled(kind: Kind, files: u32, clusters: usize) -> faults::Patient {
    let (wish, each) = match kind {
        Kind::Fat12 | Kind::Fat16 => (fat::small(kind, 512, 2048), 2048),
        _ => (Wish { bytes: 40 << 20, ..fat::small(kind, 512, 512) }, 512),
    };
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    // Folders first, and the files of all of them behind in a row.
    for folder in 0..files.div_ceil(12) {
        filler.folder(&format!("N{folder:03}")).unwrap();
    }
    for file in 0..files {
        let content = format!("note {file} of the day, wind from the west. ").repeat(400).into_bytes();
        let length = each * clusters - 100;
        filler
            .file(&format!("N{:03}/NOTE{file:04}.TXT", file / 12), &content[..length], Placing::Row)
            .unwrap();
    }
    Patient::new(filler.finish().unwrap())
}

/// Writes the ends of FAT32 as some devices do, with the reserved bits set.
fn all_bits(patient: &mut faults::Patient) {
    for copy in 0..patient.geometry.tables {
        let from = usize::try_from(patient.geometry.table_offset(copy)).unwrap();
        let length = usize::try_from(patient.geometry.table_bytes()).unwrap();
        for entry in patient.bytes[from..from + length].chunks_exact_mut(4).skip(2) {
            if entry == [0xFF, 0xFF, 0xFF, 0x0F] {
                entry[3] = 0xFF;
            }
        }
    }
}

/// A whole sector of the first table that is FF.
fn erased_sector(patient: &faults::Patient) -> Option<usize> {
    let from = usize::try_from(patient.geometry.table_offset(0)).unwrap();
    let length = usize::try_from(patient.geometry.table_bytes()).unwrap();
    let sectors = patient.bytes[from..from + length].chunks(512);
    sectors.into_iter().position(|sector| sector.iter().all(|byte| *byte == 0xFF)).map(|n| from + n * 512)
}

fn whole(medium: &dyn Medium) -> BTreeMap<String, String> {
    let volume = registry::recognise(medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.to_string(), file.sha256(medium))).collect()
}

fn made(patient: &faults::Patient) -> BTreeMap<String, String> {
    let files = patient.live().filter(|made| !made.folder);
    files.map(|made| (made.path.clone(), made.sha256.clone())).collect()
}

#[test]
fn ends_in_a_row_are_no_erased_table() {
    for (kind, files, bits) in [
        (Kind::Fat12, 500, false),
        (Kind::Fat16, 900, false),
        (Kind::Fat32, 600, false),
        (Kind::Fat32, 600, true),
    ] {
        let mut patient = filled(kind, files, 1);
        if bits {
            all_bits(&mut patient);
        }
        assert_eq!(
            erased_sector(&patient).is_some(),
            kind == Kind::Fat16 || bits,
            "the shape is the one meant"
        );
        let medium = Memory::new(patient.bytes.clone());
        let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
        let faults: Vec<String> = volume
            .examine(&medium, &Silent)
            .unwrap()
            .findings
            .into_iter()
            .filter(|finding| finding.weight != Weight::Remark)
            .map(|finding| finding.summary)
            .collect();
        assert!(faults.is_empty(), "{kind:?}: {faults:?}");
        assert_eq!(whole(&medium), made(&patient));

        // One damaged entry in the other copy is no witness against a whole sector.
        if let Some(at) = erased_sector(&patient) {
            let other = at + usize::try_from(patient.geometry.table_bytes()).unwrap();
            patient.bytes[other + 12..other + 14].fill(0);
            let medium = Memory::new(patient.bytes.clone());
            assert_eq!(whole(&medium), made(&patient), "{kind:?}");
        }
        // And without the boot sector the plan still leaves every file as it is.
        patient.bytes[..512].fill(0);
        let medium = Memory::new(patient.bytes.clone());
        let all = Subject::Volume(Extent::new(0, medium.len()));
        let plan = plan::build(&medium, "", all, BTreeMap::new(), &Silent).unwrap();
        assert!(plan.outcome.after.sound, "{kind:?}: {:?}", plan.outcome.after.findings);
        assert_eq!(whole(&plan.replay(&medium).unwrap()), made(&patient), "{kind:?}");
    }
}

#[test]
fn chains_that_were_erased_come_back() {
    for (kind, files) in [(Kind::Fat16, 200), (Kind::Fat32, 150)] {
        let mut patient = filled(kind, files, 4);
        assert_eq!(erased_sector(&patient), None);
        // The same sector of both copies.
        for copy in 0..patient.geometry.tables {
            let at = usize::try_from(patient.geometry.table_offset(copy)).unwrap() + 1024;
            patient.bytes[at..at + 512].fill(0xFF);
        }
        let medium = Memory::new(patient.bytes.clone());
        let all = Subject::Volume(Extent::new(0, medium.len()));
        let plan = plan::build(&medium, "", all, BTreeMap::new(), &Silent).unwrap();
        assert!(plan.outcome.after.sound, "{kind:?}: {:?}", plan.outcome.after.findings);
        let (there, all) = (whole(&plan.replay(&medium).unwrap()), made(&patient));
        let lost: Vec<&String> =
            all.iter().filter(|(path, hash)| there.get(*path) != Some(hash)).map(|(p, _)| p).collect();
        assert!(lost.is_empty(), "{kind:?}: {lost:?}");
    }
}
