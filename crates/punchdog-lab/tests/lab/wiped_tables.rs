//! FAT without its tables, on volumes with a past: files in the holes of deleted ones, folders in scattered clusters.

use super::matrix::contents;
use punchdog_core::{
    family::Kind,
    files::inventory::Fate,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    repair::{measure::Subject, plan},
};
use punchdog_lab::{
    content::picture,
    fat::{Filler, Placing, small},
    faults::Patient,
    seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

const CLUSTER: u64 = 512;

/// Content that begins as nothing in particular.
fn some(seed: &mut Seed, clusters: u64) -> Vec<u8> {
    let length = clusters * CLUSTER - seed.below(CLUSTER / 2);
    let mut bytes = seed.bytes(usize::try_from(length).unwrap());
    bytes[0] = 0x11;
    bytes
}

fn filler(kind: Kind) -> Filler<Vec<u8>> {
    let wish = small(kind, 512, 512);
    Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap()
}

/// Nothing is left of the tables.
fn wiped(filler: Filler<Vec<u8>>) -> Patient {
    let mut patient = Patient::new(filler.finish().unwrap());
    let geometry = patient.geometry;
    for copy in 0..geometry.tables {
        patient.fill(geometry.table_offset(copy), geometry.table_bytes(), 0);
    }
    patient
}

/// Files that the mended volume has not at their paths.
fn missing(patient: &Patient) -> (BTreeSet<String>, plan::Plan) {
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    assert!(plan.outcome.after.sound, "{:?}", plan.outcome.after.findings);
    let mended = plan.replay(&medium).unwrap();
    let mended: &dyn Medium = &mended;
    let after = contents(&mended.bytes(0, usize::try_from(mended.len()).unwrap()).unwrap());
    let gone = patient.live().filter(|made| !made.folder && after.get(&made.path) != Some(&made.sha256));
    (gone.map(|made| made.path.clone()).collect(), plan)
}

#[test]
fn files_in_holes_are_put_together_by_lengths_and_by_content() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let mut seed = Seed::new(11);
        let mut filler = filler(kind);
        filler.folder("Camera").unwrap();
        for number in 1..=30 {
            let clusters = 3 + seed.below(5);
            filler.file(&format!("Camera/P{number}.RAW"), &some(&mut seed, clusters), Placing::Row).unwrap();
        }
        // The first entries of this folder name what is deleted; its clusters lie between the files.
        filler.folder("Work").unwrap();
        for number in (3..=30).step_by(3) {
            filler.delete(&format!("Camera/P{number}.RAW"));
        }
        filler.file("Work/late.raw", &some(&mut seed, 13), Placing::Gaps).unwrap();
        let image = picture(&mut seed, 200, 160);
        filler.file("Work/nest.png", &image, Placing::Gaps).unwrap();
        for number in 1..=45 {
            filler.file(&format!("Work/fill{number}.raw"), &some(&mut seed, 4), Placing::Row).unwrap();
        }
        let patient = wiped(filler);
        for path in ["Work/late.raw", "Work/nest.png", "Work"] {
            let apart = patient.find(path).clusters.windows(2).any(|pair| pair[1] != pair[0] + 1);
            assert!(apart, "{kind:?}: {path} lies in a row");
        }
        let (missing, plan) = missing(&patient);
        assert_eq!(missing, BTreeSet::new(), "{kind:?}");
        let fates: BTreeSet<Fate> = plan.outcome.fates.keys().copied().collect();
        assert_eq!(fates, BTreeSet::from([Fate::Back]), "{kind:?}");
    }
}

/// The names before and behind a cluster of a folder number on over it: it is not given up for that.
#[test]
fn a_folders_cluster_that_no_name_leads_to_is_not_left_over() {
    let root = (Kind::Fat32, "");
    for (kind, folder) in [(Kind::Fat12, "Reels"), (Kind::Fat16, "Reels"), (Kind::Fat32, "Reels"), root] {
        let mut seed = Seed::new(5);
        let mut filler = filler(kind);
        let within = |name: String| if folder.is_empty() { name } else { format!("{folder}/{name}") };
        // What stands first: "." and "..", or the label.
        let mut first = 14;
        if folder.is_empty() {
            first = 15;
        } else {
            filler.folder(folder).unwrap();
        }
        let names = (1..=first).map(|n| format!("Z{n:02}.RAW"));
        let names = names.chain((1..=16).map(|n| format!("A{n:02}.RAW")));
        for name in names.chain((first + 1..=first + 5).map(|n| format!("Z{n:02}.RAW"))) {
            filler.file(&within(name), &some(&mut seed, 2), Placing::Row).unwrap();
        }
        let patient = wiped(filler);
        assert_eq!(missing(&patient).0, BTreeSet::new(), "{kind:?}, {folder}");
    }
}
