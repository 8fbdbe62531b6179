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
    },
    partition,
    progress::Silent,
    repair::{
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_lab::{
    cards::gpt_of,
    fat::Placing,
    ntfs::{Filler, small},
    ntfs_faults::Patient,
    seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

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
        // The last cluster that a file has, and where $MFTMirr ends: the cut is between them.
        let last = patient.live().flat_map(|made| made.clusters.iter().copied()).max().expect("files");
        let last = geometry.place(u64::from(last) + 1).size();
        let mirror = geometry.place(geometry.mirror).size() + 4 * geometry.record();
        assert!(mirror + 3 * cluster as usize <= last, "{what}: {mirror}, {last}");
        let cut = last - 2 * cluster as usize;

        // Bare: files lead behind the end.
        let medium = Memory::new(whole[..cut].to_vec());
        let volume = NtfsVolume::recognise(&medium, &Silent).unwrap().expect("a volume");
        let believed = volume.believed();
        assert_eq!(believed.length, Length::Runs, "{what}");
        assert_eq!(believed.geometry.counted(), last as u64, "{what}");

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
    filler.file("rest.bin", &seed.bytes(room as usize), Placing::Gaps).unwrap();
    let mut patient = Patient::new(filler.finish().unwrap());
    let at = patient.geometry.place(patient.geometry.mft).size() + own::LOG as usize * record as usize;
    let mut own = patient.bytes[at..at + record as usize].to_vec();
    unfix(&mut own);
    let log = attributes(&own).0.into_iter().find(|a| !a.resident()).expect("a log").runs().to_vec();
    let runs = punchdog_core::ntfs::runs::decode(&log, u64::MAX, patient.geometry.clusters()).0;
    for run in runs {
        let place = patient.geometry.place(run.first.expect("somewhere")).size();
        patient.bytes[place..place + patient.geometry.place(run.length).size()].fill(0xFF);
    }
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
        let zero = patient.bytes[geometry.place(geometry.mft).size()..].to_vec();
        for (number, bytes_of) in [(own::SECURE, 4096), (own::BITMAP, usize::MAX)] {
            let mut record = zero[number as usize * geometry.record()..][..geometry.record()].to_vec();
            unfix(&mut record);
            let data = attributes(&record).0.into_iter().find(|a| !a.resident()).expect("outside");
            let runs = punchdog_core::ntfs::runs::decode(data.runs(), data.clusters(), geometry.clusters()).0;
            let first = geometry.place(runs[0].first.expect("somewhere")).size();
            bytes[first..first + bytes_of.min(geometry.place(runs[0].length).size())].fill(0);
        }
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
