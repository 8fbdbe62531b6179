//! `$MFT` in two records: what a list names is followed, and what is lost of it is not taken for what never was.

use super::{
    matrix::contents,
    ntfs_parts::{mended, planned},
};
use punchdog_core::{files::inventory::Fate, medium::Memory, progress::Silent, registry};
use punchdog_damage::{
    ntfs::{everyday, small},
    ntfs_faults::Patient,
    ntfs_listed::{EXTENSION, listed},
};
use std::{collections::BTreeSet, ops::Range};

const SHAPES: [(u32, u32, u32); 4] =
    [(512, 512, 1024), (512, 4096, 1024), (4096, 4096, 4096), (512, 1024, 1024)];

fn patients() -> impl Iterator<Item = ((u32, u32, u32), Patient)> {
    SHAPES.into_iter().map(|shape| {
        let (sector, cluster, record) = shape;
        (shape, Patient::new(listed(everyday(&small(sector, cluster, record), 3))))
    })
}

#[test]
fn it_is_sound_and_every_host_mounts_it() {
    for (shape, patient) in patients() {
        let medium = Memory::new(patient.bytes.clone());
        let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
        let seen = volume.examine(&medium, &Silent).unwrap();
        assert!(seen.findings.is_empty(), "{shape:?}: {:?}", seen.findings);
        for host in volume.forecast(&medium, shape.0) {
            assert!(host.mounts_read_write, "{shape:?}: {} {:?}", host.host, host.log);
        }
        let there = contents(&patient.bytes);
        for made in patient.live().filter(|made| !made.folder) {
            assert_eq!(there.get(&made.path), Some(&made.sha256), "{shape:?}: {}", made.path);
        }
    }
}

#[test]
fn boot_sectors_and_the_first_records_come_back() {
    for (shape, patient) in patients() {
        let geometry = patient.geometry;
        let (end, sector) = (patient.bytes.len(), usize::try_from(geometry.sector()).unwrap());
        let first = usize::try_from(geometry.place(geometry.mft)).unwrap();
        let record = geometry.record();
        for (name, wiped) in [
            ("both boot sectors", vec![0..sector, end - sector..end]),
            ("record 0 and the copy of the boot sector", vec![first..first + record, end - sector..end]),
            ("records 0 to 3 and the boot sector", vec![0..sector, first..first + 4 * record]),
        ] {
            let mut bytes = patient.bytes.clone();
            for range in wiped {
                bytes[range].fill(0);
            }
            let plan = planned(&bytes, &[]);
            assert!(plan.outcome.after.sound, "{name} on {shape:?}: {:?}", plan.outcome.after.findings);
            assert_eq!(contents(&mended(&bytes, &plan)), contents(&patient.bytes), "{name} on {shape:?}");
        }
    }
}

/// The records that it told of have their numbers; they are found, and record 0 has them all again.
#[test]
fn without_the_second_record_its_records_are_found() {
    for (shape, patient) in patients() {
        let plan = planned(&without_extension(&patient), &[]);
        assert!(plan.outcome.after.sound, "{shape:?}: {:?}", plan.outcome.after.findings);
        let after = contents(&mended(&without_extension(&patient), &plan));
        assert_eq!(after, contents(&patient.bytes), "{shape:?}");
    }
}

/// Where not all of them are found, that folders name the others is no fault of the folders.
#[test]
fn what_is_not_found_of_its_records_is_not_given_up() {
    for (shape, patient) in patients() {
        let mut bytes = without_extension(&patient);
        let geometry = patient.geometry;
        // Text over the end of $MFT: nothing tells that it belongs there.
        let end = geometry.place(geometry.mft + geometry.clusters_for(176 * geometry.record() as u64));
        let end = usize::try_from(end).unwrap();
        bytes[end - 16 * geometry.record()..end].fill(b'x');
        let medium = Memory::new(bytes.clone());
        let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
        let findings = volume.examine(&medium, &Silent).unwrap().findings;
        let said =
            findings.iter().any(|found| format!("{found:?}").contains("a record that extends it is lost"));
        assert!(said, "{shape:?}");
        let plan = planned(&bytes, &[]);
        assert!(!plan.outcome.after.sound, "{shape:?}: it cannot be");
        let fates: BTreeSet<&Fate> = plan.outcome.fates.keys().collect();
        assert!(!fates.contains(&Fate::Lost), "{shape:?}: {fates:?}");
        // With that record put back the mended copy has everything.
        let mut again = mended(&bytes, &plan);
        let own = extension_of(&patient);
        again[own.clone()].copy_from_slice(&patient.bytes[own]);
        assert_eq!(contents(&again), contents(&patient.bytes), "{shape:?}");
    }
}

/// Where the second record stands.
fn extension_of(patient: &Patient) -> Range<usize> {
    let geometry = patient.geometry;
    let at = usize::try_from(geometry.place(geometry.mft)).unwrap() + EXTENSION as usize * geometry.record();
    at..at + geometry.record()
}

fn without_extension(patient: &Patient) -> Vec<u8> {
    let mut bytes = patient.bytes.clone();
    bytes[extension_of(patient)].fill(0);
    bytes
}
