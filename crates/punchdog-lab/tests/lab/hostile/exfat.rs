//! exFAT volumes made to harm their reader: lengths and clusters at the edges of their types,
//! folders within themselves, tables and bitmaps of noise. Reading and planning must end, within
//! time and memory, and never panic.

use punchdog_core::{exfat::fresh::Wish, medium::Memory};
use punchdog_damage::{
    exfat::{Filler, everyday, small},
    exfat_faults::{CROWDED, FOLDER, OTHER, Patient, ROW},
    fat::Placing,
    seed::Seed,
};
use std::time::{Duration, Instant};

fn patient() -> Patient {
    Patient::new(everyday(&small(512, 1024, 1), 8))
}

/// Asks everything, and says which volume it was that took too long.
fn endure(name: &str, bytes: Vec<u8>) {
    let started = Instant::now();
    super::ask_everything(&Memory::new(bytes));
    assert!(started.elapsed() < Duration::from_mins(1), "{name} took {:?}", started.elapsed());
}

#[test]
fn values_at_the_edges_of_their_types() {
    let edges = [0_u64, 1, 2, 0x7FFF_FFFF, 0xFFFF_FFF7, 0xFFFF_FFFF, 1 << 40, 1 << 63, u64::MAX];
    for path in [ROW, OTHER, FOLDER, CROWDED] {
        for at in [40_u64, 52, 56] {
            for value in edges {
                let mut patient = patient();
                let bytes = value.to_le_bytes();
                patient.write_set(path, at, if at == 52 { &bytes[..4] } else { &bytes });
                endure(&format!("{path}, byte {at}, {value:#x}"), patient.bytes);
            }
        }
    }
}

#[test]
fn boot_fields_at_the_edges_with_checksums_that_fit() {
    for (at, length) in
        [(72_u64, 8_usize), (80, 4), (84, 4), (88, 4), (92, 4), (96, 4), (108, 1), (109, 1), (110, 1)]
    {
        for byte in [0_u8, 1, 0x7F, 0x80, 0xFF] {
            let mut patient = patient();
            patient.write_boot(0, at, &vec![byte; length]);
            patient.write_boot(1, at, &vec![byte; length]);
            endure(&format!("boot byte {at} {byte:02X}"), patient.bytes.clone());
            // With a chain of the root that never ends, a count of clusters bounds nothing.
            let root = patient.geometry.root_cluster;
            for (cluster, next) in [(root, 40), (40, 41), (41, 40)] {
                patient.set_link(cluster, next);
            }
            endure(&format!("boot byte {at} {byte:02X}, the root's chain runs in a ring"), patient.bytes);
        }
    }
}

#[test]
fn folders_within_themselves_and_within_one_another() {
    let sound = patient();
    let (outer, inner, root) =
        (sound.find(FOLDER).clusters[0], sound.find(CROWDED).clusters[0], sound.geometry.root_cluster);
    for (path, first) in [(FOLDER, outer), (CROWDED, outer), (CROWDED, root), (FOLDER, inner), (FOLDER, root)]
    {
        let mut patient = sound.clone();
        patient.write_set(path, 52, &first.to_le_bytes());
        endure(&format!("{path} begins at cluster {first}"), patient.bytes);
    }
}

#[test]
fn tables_bitmaps_and_roots_of_noise() {
    for round in 0..12 {
        let mut seed = Seed::new(round);
        let mut patient = patient();
        let g = patient.geometry;
        let places = [
            (g.table_place(0) + 8, g.table_bytes() - 8),
            (g.cluster_place(2), g.bitmap_bytes()),
            (g.cluster_place(3), 5836),
            (g.cluster_place(g.root_cluster), g.cluster_bytes()),
        ];
        for (number, (place, length)) in places.iter().enumerate() {
            if round % 4 == number as u64 || seed.below(3) == 0 {
                let noise = seed.bytes(usize::try_from(*length).unwrap());
                patient.write(*place, &noise);
            }
        }
        endure(&format!("noise {round}"), patient.bytes);
    }
}

#[test]
fn a_folder_full_of_sets_that_name_one_file() {
    let mut patient = patient();
    let made = patient.find(ROW);
    let set = patient.read(made.entry, made.entries as usize * 32);
    for cluster in patient.find(CROWDED).clusters {
        let place = patient.geometry.cluster_place(cluster);
        let room = usize::try_from(patient.geometry.cluster_bytes()).unwrap() / set.len() * set.len();
        let copies: Vec<u8> = set.iter().copied().cycle().take(room).collect();
        patient.write(place, &copies);
    }
    endure("one file many times over", patient.bytes);
}

/// A volume of so many files in pieces of one cluster.
fn in_pieces(files: u32, clusters: usize) -> Patient {
    let wish = Wish { bytes: 24 << 20, ..small(512, 512, 1) };
    let mut filler = Filler::new(&wish, vec![0; 24 << 20]).unwrap();
    for folder in 0..files / 100 {
        filler.folder(&format!("day {folder}"), 20, Placing::Row).unwrap();
        for number in 0..100 {
            let content = vec![0x41; clusters * 512];
            filler.file(&format!("day {folder}/piece {number}.txt"), &content, Placing::Pieces(1)).unwrap();
        }
    }
    Patient::new(filler.finish().unwrap())
}

#[test]
fn thousands_of_broken_chains() {
    let mut patient = in_pieces(3000, 4);
    let (place, length) = (patient.geometry.table_place(0), patient.geometry.table_bytes());
    patient.fill(place + 8, length - 8, 0);
    endure("a zeroed table", patient.bytes);
}

#[test]
fn thousands_of_sets_that_name_one_long_chain() {
    let mut patient = in_pieces(3000, 1);
    let last = patient.geometry.last_cluster();
    for cluster in 30_000..last {
        patient.set_link(cluster, cluster + 1);
    }
    patient.set_link(last, u32::MAX);
    let length = u64::from(last - 30_000) * 512;
    let paths: Vec<String> =
        patient.live().filter(|made| !made.folder).map(|made| made.path.clone()).collect();
    for path in paths {
        patient.write_set(&path, 33, &[1]);
        patient.write_set(&path, 52, &30_000_u32.to_le_bytes());
        patient.write_set(&path, 56, &length.to_le_bytes());
    }
    super::within(Duration::from_secs(20), patient.bytes);
}

#[test]
fn thousands_of_sets_without_their_name_or_their_head() {
    let wish = Wish { bytes: 24 << 20, ..small(512, 512, 1) };
    let mut filler = Filler::new(&wish, vec![0; 24 << 20]).unwrap();
    filler.folder("crowd", 8_000 * 96 / 512, Placing::Row).unwrap();
    for number in 0..8_000 {
        filler.file(&format!("crowd/piece {number:05}.txt"), b"some", Placing::Row).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let entries: Vec<u64> = patient.live().filter(|made| !made.folder).map(|made| made.entry).collect();
    for (number, entry) in entries.iter().enumerate() {
        patient.write(if number % 2 == 0 { entry + 64 } else { *entry }, &[0; 32]);
    }
    super::within(Duration::from_secs(20), patient.bytes);
}
