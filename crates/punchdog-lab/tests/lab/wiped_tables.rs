//! FAT without its tables, on volumes with a past: files in the holes of deleted ones, folders in scattered clusters.

use super::matrix::contents;
use punchdog_core::{
    family::Kind,
    files::inventory::Fate,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{
        measure::Subject,
        plan::{self, PlannedStep},
    },
};
use punchdog_damage::{
    content::picture,
    fat::{Filler, Placing, everyday, small},
    faults::Patient,
    patient::Made,
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

/// It does not lie in a row.
fn apart(made: &Made) -> bool {
    made.clusters.windows(2).any(|pair| pair[1] != pair[0] + 1)
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

/// Three folders that name their clusters speak for a volume of which all before them was wiped; where something
/// else stands there they may be of an older volume.
#[test]
fn folders_alone_speak_for_a_volume_where_nothing_stands_before_them() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let sound = Patient::new(everyday(&small(kind, 512, 512), 3));
        let geometry = sound.geometry;
        let root = if geometry.wide() { geometry.cluster_bytes().into() } else { 0 };
        let end = geometry.data_offset() + root;
        for byte in [0, 0xFF] {
            let mut patient = sound.clone();
            patient.fill(0, end, byte);
            let medium = Memory::new(patient.bytes.clone());
            let whole = Subject::Volume(Extent::new(0, medium.len()));
            let plan = plan::build(&medium, "", whole, BTreeMap::new(), &Silent).unwrap();
            assert!(plan.outcome.after.sound, "{kind:?}, {byte}: {:?}", plan.outcome.after.findings);
            let mended = plan.replay(&medium).unwrap();
            let mended: &dyn Medium = &mended;
            let after = contents(&mended.bytes(0, usize::try_from(mended.len()).unwrap()).unwrap());
            let after: BTreeSet<&String> = after.values().collect();
            let named = patient.live().filter(|made| !made.folder && made.path.contains('/'));
            let lost: Vec<&str> = named
                .filter(|made| !apart(made) && !after.contains(&made.sha256))
                .map(|made| made.path.as_str())
                .collect();
            assert!(lost.is_empty(), "{kind:?}, {byte}: {lost:?}");
            // In the last sector before the clusters, and in the first.
            for at in [geometry.data_offset() - 512, 0] {
                let mut bytes = patient.bytes.clone();
                let at = usize::try_from(at).unwrap();
                bytes[at..at + 20].copy_from_slice(b"Ebb at half past six");
                let found = registry::recognise(&Memory::new(bytes), &Silent).unwrap();
                assert!(found.is_none(), "{kind:?}, {byte}: something stands at {at}");
            }
        }
    }
}

/// Both tables erased to FF say nothing, neither of files nor of the boot sector.
#[test]
fn erased_tables_say_nothing() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let mut patient = Patient::new(everyday(&small(kind, 512, 512), 1));
        let geometry = patient.geometry;
        for copy in 0..geometry.tables {
            patient.fill(geometry.table_offset(copy), geometry.table_bytes(), 0xFF);
        }
        let (missing, plan) = missing(&patient);
        let scattered = |path: &String| apart(&patient.find(path));
        assert!(missing.iter().all(scattered), "{kind:?}: {missing:?}");
        let boot = |step: &PlannedStep| step.name == "boot-field";
        assert!(!plan.steps.iter().any(boot), "{kind:?}: a media byte of erased tables");
    }
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
            assert!(apart(&patient.find(path)), "{kind:?}: {path} lies in a row");
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

/// Folders of several clusters whose names do not number on, filled in turns: one of them ends with its cluster, and has no end
/// mark; sub-folders stand only in later clusters of another, and behind them more of it.
#[test]
fn pieces_of_folders_are_told_by_what_they_name() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let mut seed = Seed::new(8);
        let mut filler = filler(kind);
        let folders = ["Ledges", "Slips", "Rolls"];
        for folder in folders {
            filler.folder(folder).unwrap();
        }
        // A row of files for each in turn, so that their clusters alternate.
        for turn in 0..5 {
            for folder in folders {
                // Short names alone: "." and ".." and 30 of them fill two clusters.
                let many = match folder {
                    "Rolls" if turn > 1 => 0,
                    "Rolls" => 15,
                    _ => 7,
                };
                for number in 0..many {
                    let path = if folder == "Rolls" {
                        format!("Rolls/R{turn}{:02}.RAW", (number * 7) % 15)
                    } else {
                        format!("{folder}/entry-{:04}.raw", seed.below(9000))
                    };
                    let clusters = 1 + seed.below(3);
                    filler.file(&path, &some(&mut seed, clusters), Placing::Row).unwrap();
                }
                if folder == "Slips" && turn >= 2 {
                    filler.folder(&format!("Slips/tides {}", 9 - turn)).unwrap();
                }
            }
        }
        let patient = wiped(filler);
        let rolls = patient.find("Rolls");
        assert_eq!(rolls.clusters.len(), 2, "{kind:?}: it should be full");
        for folder in ["Ledges", "Slips"] {
            assert!(patient.find(folder).clusters.len() > 4, "{kind:?}: {folder} is short");
        }
        assert_eq!(missing(&patient).0, BTreeSet::new(), "{kind:?}");
    }
}

/// Of a folder whose names do not number on, one cluster is zeros; the folder before it is full. What stands behind the hole is
/// its own, from the first piece on: none is left over for the other.
#[test]
fn what_stands_behind_a_hole_in_a_folder_is_its_own() {
    let kinds = [Kind::Fat12, Kind::Fat16, Kind::Fat32];
    // Which later piece has a name that is liker is a matter of chance.
    for (number, hole) in (0..12).flat_map(|number| [(number, 3), (number, 6)]) {
        let kind = kinds[number % kinds.len()];
        let mut seed = Seed::new(9 + number as u64);
        let mut filler = filler(kind);
        for folder in ["Rolls", "Slips"] {
            filler.folder(folder).unwrap();
        }
        for file in 0..30 {
            let path = format!("Rolls/R{:02}.RAW", (file * 7) % 30);
            filler.file(&path, &some(&mut seed, 2), Placing::Row).unwrap();
        }
        let mut given = BTreeSet::new();
        while given.len() < 180 {
            let clusters = 1 + seed.below(2);
            let path = format!("Slips/ENT{:04}.CSV", seed.below(9000));
            if !given.insert(path.clone()) {
                continue;
            }
            filler.file(&path, &some(&mut seed, clusters), Placing::Row).unwrap();
        }
        let mut patient = wiped(filler);
        assert_eq!(patient.find("Rolls").clusters.len(), 2, "{kind:?}: it should be full");
        let slips = patient.find("Slips").clusters;
        assert!(slips.len() > 9, "{kind:?}: it is short");
        patient.fill(patient.geometry.cluster_offset(slips[hole]), CLUSTER, 0);
        let gone = missing(&patient).0;
        assert_eq!(gone.len(), 16, "{number}, {hole}: {gone:?}");
        assert!(gone.iter().all(|path| path.starts_with("Slips/")), "{number}, {hole}: {gone:?}");
    }
}
