//! Many single bits tipped over in folders and records at once, as on a medium that ages: what can be read before the
//! repair can be read after it, and where a file system has sums of its own, what is called intact is.

use punchdog_core::{
    family::{Kind, Wanted},
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{exfat, fat, ntfs, patient::Patient, seed::Seed};
use std::collections::{BTreeMap, BTreeSet};

/// Bits of one volume.
const BITS: u64 = 24;
/// Volumes of each family.
const VOLUMES: u64 = 40;

/// Hash and state of every file.
fn listed(bytes: &[u8]) -> Vec<(String, State, String)> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let files = files.iter().filter(|file| !file.folder && file.size > 0);
    files.map(|file| (file.path.to_string(), file.state, file.sha256(&medium))).collect()
}

/// Tips bits over in `places`, and gives what went wrong; `sums` says that the file system has some.
fn tip<G>(sound: &Patient<G>, places: &[Extent], seed: u64, sums: bool) -> Vec<String> {
    let mut bytes = sound.bytes.clone();
    let mut random = Seed::new(seed);
    for _ in 0..BITS {
        let place = random.pick(places);
        let at = usize::try_from(place.offset + random.below(place.length)).unwrap();
        bytes[at] ^= 1 << random.below(8);
    }
    let truth: BTreeSet<String> = sound.live().map(|made| made.sha256.clone()).collect();
    let before = listed(&bytes);
    let medium = Memory::new(bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "x", whole, BTreeMap::new(), &Silent).unwrap();
    let mended = plan.replay(&medium).unwrap();
    let mended: &dyn Medium = &mended;
    let after: BTreeSet<String> =
        listed(&mended.bytes(0, bytes.len()).unwrap()).into_iter().map(|(.., hash)| hash).collect();
    let mut wrong = Vec::new();
    for (path, state, hash) in before {
        if truth.contains(&hash) && !after.contains(&hash) {
            wrong.push(format!("{seed}: {path} ({state:?}) can be read before and not after"));
        }
        let in_record = sound.live().any(|made| made.path == path && made.clusters.is_empty());
        if sums && state == State::Intact && !truth.contains(&hash) && !in_record {
            wrong.push(format!("{seed}: {path} is called intact and is not"));
        }
    }
    wrong
}

fn each<G>(sound: &Patient<G>, places: &[Extent], sums: bool) {
    let wrong: Vec<String> = (0..VOLUMES).flat_map(|seed| tip(sound, places, 400 + seed, sums)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Where the folders' clusters stand.
fn folders<G>(sound: &Patient<G>, place: impl Fn(u32) -> u64, cluster: u64) -> Vec<Extent> {
    let folders = sound.live().filter(|made| made.folder);
    let clusters = folders.flat_map(|made| made.clusters.iter().copied());
    clusters.map(|number| Extent::new(place(number), cluster)).collect()
}

#[test]
fn of_fat_folders() {
    let sound = Patient::new(fat::everyday(&fat::small(Kind::Fat32, 512, 1024), 4));
    let geometry = sound.geometry;
    let cluster = geometry.cluster_bytes().into();
    // FAT has no sums: a wrong length within a cluster is told by nothing.
    each(&sound, &folders(&sound, |number| geometry.cluster_offset(number), cluster), false);
}

#[test]
fn of_exfat_folders() {
    let sound = Patient::new(exfat::everyday(&exfat::small(512, 4096, 1), 4));
    let geometry = sound.geometry;
    let cluster = geometry.cluster_bytes();
    each(&sound, &folders(&sound, |number| geometry.cluster_place(number), cluster), true);
}

#[test]
fn of_ntfs_records_and_indexes() {
    let sound = Patient::new(ntfs::everyday(&ntfs::small(512, 1024, 1024), 4));
    let geometry = sound.geometry;
    let blocks = (0..sound.bytes.len() / 1024).map(|at| at * 1024);
    let blocks = blocks.filter(|at| sound.bytes[*at..].starts_with(b"INDX"));
    let mut places: Vec<Extent> = blocks.map(|at| Extent::new(at as u64, 4096)).collect();
    let records = 27 + sound.made.len() as u64;
    let first = geometry.place(geometry.mft);
    // Those of files, where most of a table of records is.
    places.extend((27..records).map(|number| Extent::new(first + number * 1024, 512)));
    each(&sound, &places, false);
}

/// Of several lost chains of the length of a file, the one is its own whose number is that of its entry but for a bit.
#[test]
fn of_first_clusters() {
    let wish = fat::small(Kind::Fat16, 512, 512);
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for number in 0..6_u8 {
        filler.file(&format!("{number}.bin"), &vec![number ^ 0x5A; 2000], fat::Placing::Row).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let truth: BTreeMap<String, String> =
        patient.live().map(|made| (made.path.clone(), made.sha256.clone())).collect();
    let used: BTreeSet<u32> = patient.live().flat_map(|made| made.clusters.clone()).collect();
    for number in 0..4_u8 {
        let made = patient.find(&format!("{number}.bin"));
        let first = made.clusters[0];
        let free = (0..11).find(|bit| {
            let other = first ^ 1 << bit;
            other > 1 && patient.geometry.has(other) && !used.contains(&other)
        });
        patient.set_first(&made.path, first ^ 1 << free.unwrap());
    }
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "x", whole, BTreeMap::new(), &Silent).unwrap();
    assert!(plan.outcome.after.sound);
    let mended = plan.replay(&medium).unwrap();
    let mended: &dyn Medium = &mended;
    let after = listed(&mended.bytes(0, patient.bytes.len()).unwrap());
    let after: BTreeMap<String, String> = after.into_iter().map(|(path, _, hash)| (path, hash)).collect();
    assert_eq!(after, truth);
}
