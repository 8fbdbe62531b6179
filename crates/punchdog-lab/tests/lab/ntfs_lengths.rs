//! NTFS without what says how long it is, in an image that was cut short; and a full one without what says what is free.

use super::{
    matrix::contents,
    ntfs_parts::{mended, planned},
};
use punchdog_core::{
    arith::Sat,
    medium::Memory,
    ntfs::{
        NtfsVolume,
        geometry::Length,
        layout::{own, unfix},
        record::attributes,
        runs::decode,
    },
    partition,
    progress::Silent,
    repair::{
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{
    cards::gpt_of,
    fat::Placing,
    ntfs::{Filler, everyday, small},
    ntfs_faults::Patient,
    seed::Seed,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    ops::Range,
};

const SHAPES: [(u32, u32, u32); 3] = [(512, 4096, 1024), (512, 512, 1024), (4096, 4096, 4096)];
const MIB: usize = 1 << 20;

/// The volume without its boot sector and its first twelve records: $MFTMirr has four of them.
fn headless(patient: &Patient) -> Vec<u8> {
    let (geometry, mut bytes) = (patient.geometry, patient.bytes.clone());
    let start = geometry.place(geometry.mft).size();
    bytes[..geometry.sector().size()].fill(0);
    bytes[start..start + 12 * geometry.record()].fill(0);
    bytes
}

#[test]
fn a_cut_volume_is_as_long_as_its_partition_or_its_files_say() {
    for (sector, cluster, record) in SHAPES {
        let patient = full((sector, cluster, record));
        let what = format!("{sector}, {cluster}, {record}");
        let whole = headless(&patient);
        let geometry = patient.geometry;
        // Where the last files end, and $MFTMirr: the cuts are between them.
        let ends = patient.live().filter_map(|made| made.clusters.iter().max());
        let mut ends: Vec<usize> = ends.map(|last| geometry.place(u64::from(*last) + 1).size()).collect();
        ends.sort_unstable();
        let [.., third, second, last] = ends.as_slice() else { panic!("{what}: {}", ends.len()) };
        let mirror = geometry.place(geometry.mirror).size() + 4 * geometry.record();
        assert!(mirror < *third, "{what}: {mirror}, {third}");
        let cut = second - 2 * cluster as usize;

        // Bare: files lead behind the end. One alone may be a run list that was struck.
        for (cut, told) in [(cut, Length::Runs), (last - 2 * cluster as usize, Length::Image)] {
            let medium = Memory::new(whole[..cut].to_vec());
            let volume = NtfsVolume::recognise(&medium, &Silent).unwrap().expect("a volume");
            let believed = volume.believed();
            assert_eq!(believed.length, told, "{what}");
            assert_eq!(believed.geometry.counted() == *last as u64, told == Length::Runs, "{what}");
        }

        // Listed: the entry says how long it is, also where all files are there.
        for cut in [cut, last + cluster as usize] {
            let mut disk = vec![0; MIB + whole.len() + MIB];
            for (at, bytes) in gpt_of(disk.len() as u64, &[(MIB as u64, whole.len() as u64)], 128) {
                disk[at.size()..at.size() + bytes.len()].copy_from_slice(&bytes);
            }
            disk[MIB..MIB + whole.len()].copy_from_slice(&whole);
            disk.truncate(MIB + cut);
            let medium = Memory::new(disk.clone());
            let seen = partition::scout(&medium, false, &Silent).unwrap();
            let [place] = seen.volumes.as_slice() else { panic!("{what}: {}", seen.volumes.len()) };
            assert_eq!(place.bytes, whole.len() as u64, "{what}");
            let codes: Vec<&str> = seen.findings.iter().map(|finding| finding.entry.code).collect();
            assert!(codes.contains(&"partition/beyond-image"), "{what}: {codes:?}");
            assert!(!codes.contains(&"partition/entry-too-long"), "{what}: {codes:?}");
            let plan: Plan =
                plan::build(&medium, "disk.img", Subject::Medium, BTreeMap::new(), &Silent).unwrap();
            let remains: Vec<&str> = plan.outcome.after.findings.keys().map(String::as_str).collect();
            assert!(remains.contains(&"ntfs/volume-longer-than-image"), "{what}: {remains:?}");
        }
    }
}

/// Where the content of one of the file system's own files begins and ends, which lies in a row.
fn content_of(patient: &Patient, number: u32) -> Range<usize> {
    let (geometry, size) = (patient.geometry, patient.geometry.record());
    let at = geometry.place(geometry.mft).size() + number as usize * size;
    let mut record = patient.bytes[at..at + size].to_vec();
    unfix(&mut record);
    let data = attributes(&record).0.into_iter().find(|a| !a.resident()).expect("outside");
    let (runs, _) = decode(data.runs(), data.clusters(), geometry.clusters());
    let [run] = runs.as_slice() else { panic!("{number}: {}", runs.len()) };
    let first = geometry.place(run.first.expect("somewhere")).size();
    first..first + geometry.place(run.length).size()
}

/// A volume of which every cluster is in use, with a log that was never written.
fn full((sector, cluster, record): (u32, u32, u32)) -> Patient {
    let wish = small(sector, cluster, record);
    let mut filler = Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    let mut seed = Seed::new(11);
    filler.file("white.bin", &vec![0xFF; 8 * cluster as usize], Placing::Row).unwrap();
    for number in 0..60 {
        let content = seed.bytes(3 * cluster as usize + 100 + number);
        filler.file(&format!("part {number}.bin"), &content, Placing::Row).unwrap();
    }
    // But for what the folders' indexes take.
    let room = filler.free().minus(40).times(cluster);
    for number in 0..8 {
        filler.file(&format!("rest {number}.bin"), &seed.bytes((room / 8) as usize), Placing::Gaps).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let log = content_of(&patient, own::LOG);
    patient.bytes[log].fill(0xFF);
    patient
}

#[test]
fn a_full_volume_gets_its_bitmap_and_descriptors_back() {
    for shape in SHAPES {
        let patient = full(shape);
        let geometry = patient.geometry;
        let before: BTreeSet<String> = contents(&patient.bytes).into_values().collect();
        assert!(before.len() > 60, "{shape:?}: {}", before.len());
        let mut bytes = headless(&patient);
        // What a file has whose record is lost looks like a bitmap of a full volume.
        let white = patient.find("white.bin").entry.size();
        bytes[white..white + geometry.record()].fill(0);
        let copies = geometry.place(geometry.mirror).size();
        bytes[copies..copies + 4 * geometry.record()].fill(0);
        // The first copy of the descriptors is gone, and $Bitmap is.
        let descriptors = content_of(&patient, own::SECURE).start;
        bytes[descriptors..descriptors + 4096].fill(0);
        bytes[content_of(&patient, own::BITMAP)].fill(0);
        let plan = planned(&bytes, &[]);
        assert!(plan.outcome.after.sound, "{shape:?}: {:?}", plan.outcome.after.findings);
        let secure = plan.steps.iter().find(|step| step.does.contains("$Secure")).expect("a step");
        assert!(secure.from.contains("hold the descriptors, each twice"), "{shape:?}: {}", secure.from);
        let bitmap = plan.steps.iter().find(|step| step.does.contains("($Bitmap)")).expect("a step");
        assert!(bitmap.from.starts_with("counted from the records"), "{shape:?}: {}", bitmap.from);
        let after: BTreeSet<String> = contents(&mended(&bytes, &plan)).into_values().collect();
        assert_eq!(before.difference(&after).count(), 1, "{shape:?}");
    }
}

/// Without the first copy of the descriptors, and with nothing behind the second one, either could be the first.
#[test]
fn descriptors_that_stand_once_are_written_twice() {
    for (sector, cluster, record) in SHAPES {
        let what = format!("{sector}, {cluster}, {record}");
        let patient = Patient::new(everyday(&small(sector, cluster, record), 5));
        let geometry = patient.geometry;
        let before = contents(&patient.bytes);
        let mut bytes = headless(&patient);
        let copies = geometry.place(geometry.mirror).size();
        bytes[copies..copies + 4 * geometry.record()].fill(0);
        let descriptors = content_of(&patient, own::SECURE).start;
        bytes[descriptors..descriptors + 4096].fill(0);
        for number in [own::BITMAP, own::UPCASE, own::LOG] {
            bytes[content_of(&patient, number)].fill(0);
        }
        let plan = planned(&bytes, &[]);
        assert!(plan.outcome.after.sound, "{what}: {:?}", plan.outcome.after.findings);
        let secure = plan.steps.iter().find(|step| step.does.contains("$Secure")).expect("a step");
        assert!(secure.from.contains("hold the descriptors once"), "{what}: {}", secure.from);
        assert_eq!(contents(&mended(&bytes, &plan)), before, "{what}");
    }
}
