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
        layout::{fix, kind, own, put, reference, unfix},
        record::{Attribute, attributes},
        runs::{Run, decode},
    },
    progress::Silent,
    registry,
};
use punchdog_damage::{
    ntfs::{everyday, small},
    ntfs_faults::Patient,
};
use std::{collections::BTreeSet, ops::Range};

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
            // With as much behind it the copies of the first records would be in the middle, where the second piece is.
            let longer = 2 * geometry.place(first + 1).size() + sector;
            for (name, wiped, length) in [
                ("the first records and their copies", vec![piece.clone(), copies.clone()], end),
                ("these and the boot sector", vec![piece.clone(), copies.clone(), 0..sector], end),
                (
                    "the first records and both boot sectors",
                    vec![piece.clone(), 0..sector, end - sector..end],
                    end,
                ),
                ("all of these", vec![piece.clone(), copies.clone(), 0..sector, end - sector..end], end),
                ("all, in a longer image", vec![piece, copies, 0..sector, end - sector..end], longer),
            ] {
                let mut bytes = patient.bytes.clone();
                for range in wiped {
                    bytes[range].fill(0);
                }
                bytes.resize(length, 0);
                let plan = planned(&bytes, &[]);
                let left = &plan.outcome.after.findings;
                assert!(!left.contains_key("ntfs/clusters-shared"), "{name}, {what}: {left:?}");
                let after: BTreeSet<String> = contents(&mended(&bytes, &plan)).into_values().collect();
                let gone = wanted.difference(&after).count();
                assert_eq!(gone, 0, "{name}, {what}: of {}", wanted.len());
            }
        }
    }
}

/// The paths of what is whole after a plan for this volume without its first records and their copies.
fn after_loss(patient: &Patient) -> BTreeSet<String> {
    let geometry = patient.geometry;
    let mut bytes = patient.bytes.clone();
    for (cluster, records) in [(geometry.mft, FIRST.size()), (geometry.mirror, 4)] {
        let at = geometry.place(cluster).size();
        bytes[at..at + records * geometry.record()].fill(0);
    }
    let plan = planned(&bytes, &[]);
    contents(&mended(&bytes, &plan)).into_keys().collect()
}

/// Records of another volume at `at`, as an image in a file or an earlier formatting has them: the first of our second
/// piece, with other numbers, and in another folder where one is given.
fn strangers(patient: &mut Patient, at: u64, from: u64, numbers: Range<u32>, folder: Option<u64>) {
    let size = patient.geometry.record();
    let from = patient.geometry.place(from).size();
    for (index, number) in numbers.enumerate() {
        let source = from + index * size;
        let mut record = patient.bytes[source..source + size].to_vec();
        assert_eq!(&record[..4], b"FILE", "record {index}");
        unfix(&mut record);
        put(&mut record, 44, &number.to_le_bytes());
        let (list, _) = attributes(&record);
        let names = list.iter().filter(|a| a.kind() == kind::NAME);
        for name in names.map(Attribute::value_at).collect::<Vec<_>>() {
            put(&mut record, name, &folder.map_or(Vec::new(), |folder| folder.to_le_bytes().to_vec()));
        }
        fix(&mut record);
        let to = at.size() + index * size;
        patient.bytes[to..to + size].copy_from_slice(&record);
    }
}

#[test]
fn records_of_others_are_not_taken_for_ours() {
    let shape = (512, 4096, 1024);
    let (sound, first) = scattered(shape);
    let plain = after_loss(&sound);
    assert!(plain.len() > 10, "{plain:?}");
    // In a file: they have the numbers that are missed.
    let mut patient = scattered(shape).0;
    let large = patient.live().filter(|made| !made.folder && !made.path.contains(':'));
    let large = large.max_by_key(|made| made.clusters.len()).expect("a file").clone();
    assert!(large.clusters.len() > 1 && large.clusters[1] == large.clusters[0] + 1, "{:?}", large.clusters);
    let at = patient.geometry.place(u64::from(large.clusters[0]));
    strangers(&mut patient, at, first, 16..24, None);
    assert_eq!(after_loss(&patient), plain, "in {}", large.path);
    // In free space, of an earlier formatting: behind the last number, in a folder that is none.
    let (mut patient, first) = scattered(shape);
    let size = patient.geometry.record() as u64;
    let at = patient.geometry.place(first) - 16 * size;
    let free = at.size()..patient.geometry.place(first).size();
    assert!(patient.bytes[free].iter().all(|byte| *byte == 0), "free");
    strangers(&mut patient, at, first, 4000..4016, Some(reference(40, 999)));
    assert_eq!(after_loss(&patient), plain, "in free space");
}
