//! `$MFT` in two pieces of which the first is lost, with all that says where the second one stands: its records are found
//! by their numbers, or by what folders call them.

use super::{
    matrix::contents,
    ntfs_parts::{mended, planned},
};
use punchdog_core::{
    arith::Sat,
    family::Wanted,
    medium::Memory,
    ntfs::{
        build::{Outside, Record, outside},
        geometry::Geometry,
        layout::{fix, kind, own, put, unfix},
        record::attributes,
        runs::{Run, decode},
    },
    progress::Silent,
    registry,
};
use punchdog_lab::{
    ntfs::{everyday, small},
    ntfs_faults::Patient,
};
use std::collections::BTreeSet;

const SHAPES: [(u32, u32, u32); 4] =
    [(512, 512, 1024), (512, 4096, 1024), (4096, 4096, 4096), (512, 1024, 1024)];
/// Records of the first piece: those of the file system, and some more.
const FIRST: u64 = 32;

/// The runs of the plain content of a record.
fn runs_of(bytes: &[u8], at: usize, geometry: &Geometry) -> Vec<Run> {
    let mut record = bytes[at..at + geometry.record()].to_vec();
    unfix(&mut record);
    let (list, _) = attributes(&record);
    let data = list.iter().find(|a| a.kind() == kind::DATA && a.name().is_empty()).expect("content");
    decode(data.runs(), data.clusters(), geometry.clusters()).0
}

/// A volume in use, the later records of which were moved to its end; with their first cluster of $MFT.
fn scattered((sector, cluster, record): (u32, u32, u32)) -> (Patient, u64) {
    let mut patient = Patient::new(everyday(&small(sector, cluster, record), 3));
    let geometry = patient.geometry;
    let (size, start) = (geometry.record(), geometry.place(geometry.mft).size());
    let runs = runs_of(&patient.bytes, start, &geometry);
    let [all] = runs.as_slice() else { panic!("one run") };
    let half = (FIRST * size as u64).div_ceil(geometry.cluster());
    let moved = all.length - half;
    let bits = runs_of(&patient.bytes, start + own::BITMAP as usize * size, &geometry);
    let bits = geometry.place(bits[0].first.expect("somewhere")).size();
    let used = |bytes: &[u8], cluster: u64| bytes[bits + (cluster / 8).size()] >> (cluster % 8) & 1 != 0;
    let free = |first: &u64| (*first..first + moved).all(|cluster| !used(&patient.bytes, cluster));
    let to = (0..geometry.clusters() - moved).rev().find(free).expect("room");
    let from = all.first.expect("somewhere") + half;
    for cluster in 0..moved {
        let place = |first: u64| geometry.place(first + cluster).size();
        let length = geometry.cluster().size();
        patient.bytes.copy_within(place(from)..place(from) + length, place(to));
        patient.bytes[place(from)..place(from) + length].fill(0);
        patient.bytes[bits + ((from + cluster) / 8).size()] &= !(1 << ((from + cluster) % 8));
        patient.bytes[bits + ((to + cluster) / 8).size()] |= 1 << ((to + cluster) % 8);
    }
    let mut zero = patient.bytes[start..start + size].to_vec();
    unfix(&mut zero);
    let (list, _) = attributes(&zero);
    let of =
        |wanted: u32| list.iter().find(|a| a.kind() == wanted).expect("as it was laid down").bytes.to_vec();
    let pieces = [Run::new(geometry.mft, half), Run::new(to, moved)];
    let old = list.iter().find(|a| a.kind() == kind::DATA).expect("as it was laid down");
    let mut data = outside(kind::DATA, "", Outside::plain(&pieces, old.size(), geometry.cluster()));
    data[40..64].copy_from_slice(&old.bytes[40..64]);
    let record = Record::new(own::MFT, 1, 0).with(of(kind::STANDARD)).with(of(kind::NAME)).with(data);
    let mut record = record.with(of(kind::BITMAP)).bytes(size).expect("it fits");
    unfix(&mut record);
    put(&mut record, 18, &1_u16.to_le_bytes());
    fix(&mut record);
    let copy = geometry.place(geometry.mirror).size();
    patient.bytes[start..start + size].copy_from_slice(&record);
    patient.bytes[copy..copy + size].copy_from_slice(&record);
    (patient, to)
}

/// The records of the second piece as the Linux driver writes them: without their numbers.
fn without_numbers(patient: &mut Patient, first: u64) {
    let geometry = patient.geometry;
    let size = geometry.record();
    let from = geometry.place(first).size();
    for at in (from..patient.bytes.len() - size).step_by(size) {
        if &patient.bytes[at..at + 4] != b"FILE" {
            break;
        }
        let mut record = patient.bytes[at..at + size].to_vec();
        unfix(&mut record);
        // The fixups stand where the number would.
        let old = usize::from(u16::from_le_bytes([record[4], record[5]]));
        let length = usize::from(u16::from_le_bytes([record[6], record[7]])) * 2;
        record.copy_within(old..old + length, 42);
        put(&mut record, 4, &42_u16.to_le_bytes());
        fix(&mut record);
        patient.bytes[at..at + size].copy_from_slice(&record);
    }
}

/// Hashes of the files whose record stands in the second piece.
fn behind(patient: &Patient, first: u64) -> BTreeSet<String> {
    let medium = Memory::new(patient.bytes.clone());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let from = patient.geometry.place(first);
    let there = files.iter().filter(|file| !file.folder && file.place >= from);
    there.map(|file| file.sha256(&medium)).collect()
}

#[test]
fn records_that_nothing_names_are_found_and_named_again() {
    for shape in SHAPES {
        for numbered in [true, false] {
            let (mut patient, first) = scattered(shape);
            if !numbered {
                without_numbers(&mut patient, first);
            }
            let what = format!("{shape:?}, numbered: {numbered}");
            let medium = Memory::new(patient.bytes.clone());
            let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
            let seen = volume.examine(&medium, &Silent).unwrap();
            assert!(seen.findings.is_empty(), "{what}: {:?}", seen.findings);
            let wanted = behind(&patient, first);
            assert!(wanted.len() > 10, "{what}: {}", wanted.len());

            let geometry = patient.geometry;
            let (end, sector) = (patient.bytes.len(), geometry.sector().size());
            let start = geometry.place(geometry.mft).size();
            let piece = start..start + FIRST.size() * geometry.record();
            let copies = geometry.place(geometry.mirror).size();
            let copies = copies..copies + 4 * geometry.record();
            for (name, wiped) in [
                ("the first records and their copies", vec![piece.clone(), copies.clone()]),
                ("these and the boot sector", vec![piece.clone(), copies, 0..sector]),
                ("the first records and both boot sectors", vec![piece, 0..sector, end - sector..end]),
            ] {
                let mut bytes = patient.bytes.clone();
                for range in wiped {
                    bytes[range].fill(0);
                }
                let plan = planned(&bytes, &[]);
                let after: BTreeSet<String> = contents(&mended(&bytes, &plan)).into_values().collect();
                let gone = wanted.difference(&after).count();
                assert_eq!(gone, 0, "{name}, {what}: of {}", wanted.len());
            }
        }
    }
}
