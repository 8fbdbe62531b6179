//! One entry of the table says something else: any link of a chain, to anything. Where the chain goes on is told by what nothing
//! leads to, and by lengths.

use punchdog_core::{
    family::{Kind, Wanted},
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    content, exfat, exfat_faults, fat, fat::Placing, faults, patient::Patient, seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

const CLUSTER: usize = 512;
const END: u32 = 0x0FFF_FFFF;

/// What a volume holds: two pictures in pieces, one in a row, and a folder of several clusters.
fn contents() -> Vec<(String, Vec<u8>, Placing)> {
    let mut seed = Seed::new(91);
    let mut photo = |wide: u32| content::photo(&mut seed, (wide, 120), "2026:05:03 06:12:11");
    let mut all = vec![
        ("plover.jpg".to_owned(), photo(130), Placing::Pieces(2)),
        ("curlew.jpg".to_owned(), photo(190), Placing::Pieces(1)),
        ("tern.jpg".to_owned(), photo(150), Placing::Row),
    ];
    for number in 0..24 {
        let text = format!("ring {number:05}, seen at the harbour\n").repeat(3 + number % 9);
        all.push((format!("Rings/ringing list {number:03}.txt"), text.into_bytes(), Placing::Gaps));
    }
    all
}

struct Subjects<G> {
    patient: Patient<G>,
    set_link: fn(&mut Patient<G>, u32, u32),
    last_cluster: u32,
}

/// Whether anything was found, and the files that are not as they were after the plan.
fn mended<G>(patient: &Patient<G>) -> (bool, Vec<String>) {
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    let found = !plan.outcome.before.sound;
    let overlay = plan.replay(&medium).unwrap();
    let volume = registry::recognise(&overlay, &Silent).unwrap().expect("a volume");
    let files = volume.files(&overlay, Wanted::default(), &Silent).unwrap();
    let held: BTreeMap<String, String> = files
        .iter()
        .filter(|file| !file.folder)
        .map(|file| (file.path.to_string(), file.sha256(&overlay)))
        .collect();
    let wrong = patient.live().filter(|made| !made.folder && held.get(&made.path) != Some(&made.sha256));
    let mut wrong: Vec<String> = wrong.map(|made| made.path.clone()).collect();
    if !plan.outcome.after.sound {
        wrong.push("not sound".to_owned());
    }
    (found, wrong)
}

impl<G: Clone> Subjects<G> {
    /// Every link of the chains of `path`, to anything.
    fn every_link(&self, path: &str) -> Vec<(String, bool, Vec<String>)> {
        let own = self.patient.find(path).clusters;
        let others: Vec<(String, Vec<u32>)> = self
            .patient
            .live()
            .filter(|made| made.path != path && (!made.path.contains('/') || made.path.ends_with("007.txt")))
            .map(|made| (made.path.clone(), made.clusters.clone()))
            .collect();
        let mut told = Vec::new();
        for (place, cluster) in own.iter().enumerate() {
            let right = own.get(place + 1).copied().unwrap_or(END);
            let mut values: Vec<(String, u32)> = vec![
                ("free".to_owned(), 0),
                ("1".to_owned(), 1),
                ("beyond".to_owned(), self.last_cluster + 7),
                ("an unused one".to_owned(), self.patient.unused(3)),
                ("the end".to_owned(), END),
            ];
            values.extend(own.iter().enumerate().map(|(at, cluster)| (format!("its own {at}"), *cluster)));
            for (other, clusters) in &others {
                for at in BTreeSet::from([0, clusters.len() / 2, clusters.len() - 1]) {
                    values.push((format!("{other} {at}"), clusters[at]));
                }
            }
            for (name, value) in values.into_iter().filter(|(_, value)| *value != right) {
                let mut patient = self.patient.clone();
                (self.set_link)(&mut patient, *cluster, value);
                let (found, wrong) = mended(&patient);
                told.push((format!("{path}: link {place} to {name}"), found, wrong));
            }
        }
        told
    }

    fn all_come_back(&self, name: &str) {
        let mut bad = Vec::new();
        let mut cases = 0;
        for path in ["plover.jpg", "curlew.jpg", "Rings"] {
            for (case, found, wrong) in self.every_link(path) {
                cases += 1;
                if !found || !wrong.is_empty() {
                    bad.push(format!("{case}: found {found}: {wrong:?}"));
                }
            }
        }
        assert!(bad.is_empty(), "{name}: {} of {cases}:\n{}", bad.len(), bad.join("\n"));
    }
}

#[test]
fn any_link_of_an_exfat_chain_comes_back() {
    let wish = exfat::small(512, u32::try_from(CLUSTER).unwrap(), 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Rings", 7, Placing::Pieces(2)).unwrap();
    for (path, bytes, lie) in contents() {
        filler.file(&path, &bytes, lie).unwrap();
    }
    let patient: exfat_faults::Patient = Patient::new(filler.finish().unwrap());
    let last_cluster = patient.geometry.clusters + 1;
    let set_link = |patient: &mut exfat_faults::Patient, cluster, value: u32| {
        patient.set_link(cluster, if value == END { u32::MAX } else { value });
    };
    Subjects { patient, set_link, last_cluster }.all_come_back("exFAT");
}

#[test]
fn any_link_of_a_fat_chain_comes_back() {
    for kind in [Kind::Fat12, Kind::Fat32] {
        let wish = fat::small(kind, 512, u32::try_from(CLUSTER).unwrap());
        let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
        filler.folder("Rings").unwrap();
        for (path, bytes, lie) in contents() {
            filler.file(&path, &bytes, lie).unwrap();
        }
        let patient: faults::Patient = Patient::new(filler.finish().unwrap());
        let last_cluster = patient.geometry.last_cluster();
        let set_link = |patient: &mut faults::Patient, cluster, value: u32| {
            let value = if value == END { patient.end() } else { value };
            patient.set_link(cluster, value);
        };
        Subjects { patient, set_link, last_cluster }.all_come_back(&format!("{kind:?}"));
    }
}

#[test]
fn a_set_over_two_clusters_proves_a_folder_against_table_and_bitmap() {
    let wish = exfat::small(512, u32::try_from(CLUSTER).unwrap(), 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Rings", 10, Placing::Pieces(1)).unwrap();
    for number in 0..30 {
        // Sets of five entries, of which sixteen fit a cluster.
        let path = format!("Rings/ringing list of the harbour {number:03}.txt");
        let text = format!("ring {number:05}, seen at the harbour\n").repeat(3 + number % 9);
        filler.file(&path, text.as_bytes(), Placing::Row).unwrap();
    }
    let sound: exfat_faults::Patient = Patient::new(filler.finish().unwrap());
    let clusters = sound.find("Rings").clusters;
    let mut torn = 0;
    for cluster in &clusters[1..] {
        let within_a_set = sound.read(sound.geometry.cluster_place(*cluster), 1)[0] & 0x40 != 0;
        if !within_a_set {
            continue;
        }
        torn += 1;
        let mut patient = sound.clone();
        patient.set_link(*cluster, 0);
        patient.set_bit(*cluster, false);
        assert_eq!(mended(&patient), (true, Vec::new()), "cluster {cluster} of {clusters:?}");
    }
    assert!(torn >= 6, "{torn} of {clusters:?}");
}
