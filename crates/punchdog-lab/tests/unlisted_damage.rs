//! Damage that no row of the fault table names: flipped bits, misdirected and torn writes, stale
//! and swapped sectors, in the places that hold the structure of a volume.
//!
//! Whatever it was, three things must hold. The plan ends in a sound volume; apply does what the
//! plan says and undo takes it back; and a file that the damage did not touch, neither in its
//! content, nor in its table entries, nor in the entries that lead to it, comes through whole.

use punchdog_core::{
    apply,
    family::{self, Kind, Wanted},
    inventory::State,
    measure::Subject,
    medium::{Extent, Medium, Memory},
    plan,
    progress::Silent,
};
use punchdog_lab::{
    fat::{Made, everyday, small},
    faults::Patient,
    seed::Seed,
    workplace::Bench,
};
use std::collections::BTreeMap;

/// What an accident does to the bytes.
#[derive(Debug, Clone, Copy)]
enum Accident {
    /// One to eight bits change in one sector.
    FlippedBits,
    /// A sector reads as zeros.
    ZeroedSector,
    /// A sector reads as ones, as erased flash does.
    ErasedSector,
    /// A sector is filled with noise.
    Noise,
    /// A sector holds what belongs into another one.
    Misdirected,
    /// Two sectors changed places.
    Swapped,
    /// The second half of a sector holds an older state: zeros.
    Torn,
    /// Some entries of one table copy are as they were before the files were written.
    Stale,
}

const ACCIDENTS: &[Accident] = &[
    Accident::FlippedBits,
    Accident::ZeroedSector,
    Accident::ErasedSector,
    Accident::Noise,
    Accident::Misdirected,
    Accident::Swapped,
    Accident::Torn,
    Accident::Stale,
];

/// The sectors of a patient that hold structure: boot region, tables, folders.
fn structure(patient: &Patient) -> Vec<u64> {
    let g = &patient.geometry;
    let sector = u64::from(g.sector_bytes);
    let mut sectors: Vec<u64> = (0..g.data_offset() / sector).collect();
    // Most of a table is empty; damage there touches nobody. Take the part in use, twice.
    let used = patient.made.iter().flat_map(|made| made.clusters.iter()).max().copied().unwrap_or(2);
    for copy in 0..g.tables {
        let (first, last) = (patient.link_place(copy, 2).0, patient.link_place(copy, used).0);
        sectors.retain(|s| *s * sector <= last || *s * sector >= g.table_offset(copy) + g.table_bytes());
        sectors.extend(first / sector..=last / sector);
    }
    for folder in patient.live().filter(|made| made.folder) {
        let per_cluster = u64::from(g.cluster_bytes()) / sector;
        for cluster in &folder.clusters {
            let first = g.cluster_offset(*cluster) / sector;
            sectors.extend(first..first + per_cluster);
        }
    }
    sectors
}

fn happen(patient: &mut Patient, accident: Accident, seed: &mut Seed) {
    let sector = u64::from(patient.geometry.sector_bytes);
    let length = usize::try_from(sector).unwrap();
    let places = structure(patient);
    let (here, there) = (seed.pick(&places) * sector, seed.pick(&places) * sector);
    match accident {
        Accident::FlippedBits => {
            for _ in 0..=seed.below(8) {
                let at = here + seed.below(sector);
                let byte = patient.read(at, 1)[0] ^ (1 << seed.below(8));
                patient.write(at, &[byte]);
            }
        }
        Accident::ZeroedSector => patient.fill(here, sector, 0),
        Accident::ErasedSector => patient.fill(here, sector, 0xFF),
        Accident::Noise => {
            let noise = seed.bytes(length);
            patient.write(here, &noise);
        }
        Accident::Misdirected => {
            let bytes = patient.read(there, length);
            patient.write(here, &bytes);
        }
        Accident::Swapped => {
            let (one, other) = (patient.read(here, length), patient.read(there, length));
            patient.write(here, &other);
            patient.write(there, &one);
        }
        Accident::Torn => patient.fill(here + sector / 2, sector / 2, 0),
        Accident::Stale => {
            let used: Vec<u32> = patient.live().flat_map(|made| made.clusters.clone()).collect();
            let from = usize::try_from(seed.below(used.len() as u64)).unwrap();
            let copy = u32::try_from(seed.below(u64::from(patient.geometry.tables))).unwrap();
            for cluster in used.iter().skip(from).take(12) {
                patient.set_link_in(copy, *cluster, 0);
            }
        }
    }
}

/// Everything on which a file depends, apart from what holds for the whole volume.
fn depends_on(patient: &Patient, made: &Made) -> Vec<Extent> {
    let g = &patient.geometry;
    let mut all = Vec::new();
    let set = u64::from(made.long) * 32;
    all.push(Extent::new(made.entry - set, set + 32));
    for cluster in &made.clusters {
        all.push(Extent::new(g.cluster_offset(*cluster), g.cluster_bytes().into()));
        for copy in 0..g.tables {
            let (at, width) = patient.link_place(copy, *cluster);
            all.push(Extent::new(at, width));
        }
    }
    all
}

fn untouched(patient: &Patient, made: &Made) -> bool {
    let mut on_the_way: Vec<&Made> = vec![made];
    for other in patient.live().filter(|other| other.folder) {
        if made.path.starts_with(&format!("{}/", other.path)) {
            on_the_way.push(other);
        }
    }
    let mut needed: Vec<Extent> = on_the_way.iter().flat_map(|m| depends_on(patient, m)).collect();
    // The root folder of FAT12 and FAT16 has no entry of its own; it is needed up to this entry.
    let top = on_the_way.iter().find(|m| !m.path.contains('/')).expect("a way from the root");
    let g = &patient.geometry;
    let root = if g.wide() { g.cluster_offset(g.root_cluster) } else { g.root_offset() };
    if top.entry >= root {
        needed.push(Extent::new(root, top.entry - root));
    }
    if g.wide() {
        for copy in 0..g.tables {
            let (at, width) = patient.link_place(copy, g.root_cluster);
            needed.push(Extent::new(at, width));
        }
    }
    let apart = |a: &Extent, b: &Extent| a.end() <= b.offset || b.end() <= a.offset;
    needed.iter().all(|need| patient.damaged.iter().all(|hit| apart(need, hit)))
}

fn whole_files(bytes: &[u8]) -> Vec<(String, String)> {
    let medium = Memory::new(bytes.to_vec());
    let volume = family::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.clone(), file.sha256(&medium))).collect()
}

fn survives(patient: &Patient) -> Result<(), String> {
    let medium = Memory::new(patient.bytes.clone());
    let subject = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "x.img", subject, BTreeMap::new(), &Silent)
        .map_err(|error| format!("no plan: {error}"))?;
    if !plan.outcome.after.sound {
        return Err(format!("not sound after the plan: {:?}", plan.outcome.after.findings));
    }
    let mut bench = Bench::default();
    let applied = apply::apply(&plan, &medium, &mut bench, &Silent).map_err(|e| e.to_string())?;
    if !applied.as_planned {
        return Err("the outcome is not the planned one".to_owned());
    }
    let after = whole_files(bench.copy.as_deref().unwrap());
    for made in patient.live().filter(|made| !made.folder && untouched(patient, made)) {
        if !after.iter().any(|(path, hash)| *path == made.path && *hash == made.sha256) {
            let instead = after.iter().filter(|(_, hash)| *hash == made.sha256).collect::<Vec<_>>();
            return Err(format!("{} was not touched and is not whole; its content: {instead:?}", made.path));
        }
    }
    apply::undo(&mut bench).map_err(|error| error.to_string())?;
    if bench.copy.as_deref() == Some(&patient.bytes[..]) { Ok(()) } else { Err("undo differs".to_owned()) }
}

/// Kind, sector bytes, cluster bytes.
const VOLUMES: &[(Kind, u32, u32)] = &[
    (Kind::Fat12, 512, 512),
    (Kind::Fat12, 512, 2048),
    (Kind::Fat16, 512, 1024),
    (Kind::Fat16, 1024, 1024),
    (Kind::Fat32, 512, 512),
    (Kind::Fat32, 512, 8192),
];

/// How many accidents one run tries on each volume; `PUNCHDOG_ACCIDENTS` takes more.
fn rounds() -> u64 {
    std::env::var("PUNCHDOG_ACCIDENTS").ok().and_then(|text| text.parse().ok()).unwrap_or(64)
}

#[test]
fn what_damage_does_not_touch_repair_does_not_lose() {
    let rounds = rounds();
    let failures: Vec<String> = std::thread::scope(|scope| {
        let lanes: Vec<_> = (0..2_u64)
            .map(|lane| {
                scope.spawn(move || {
                    let mut failures = Vec::new();
                    for (number, (kind, sector, cluster)) in VOLUMES.iter().enumerate() {
                        let sound = Patient::new(everyday(&small(*kind, *sector, *cluster), 5));
                        for round in (0..rounds).filter(|round| round % 2 == lane) {
                            let name = (number as u64) << 32 | round;
                            let mut seed = Seed::new(name);
                            let mut patient = sound.clone();
                            let first = ACCIDENTS[usize::try_from(round).unwrap() % ACCIDENTS.len()];
                            happen(&mut patient, first, &mut seed);
                            let second = (round % 3 == 2).then(|| *seed.pick(ACCIDENTS));
                            if let Some(second) = second {
                                happen(&mut patient, second, &mut seed);
                            }
                            if let Err(why) = survives(&patient) {
                                failures.push(format!(
                                    "{kind:?} {sector}/{cluster} round {round}: {first:?} {second:?} at {:?}: {why}",
                                    &patient.damaged[..patient.damaged.len().min(3)]
                                ));
                            }
                        }
                    }
                    failures
                })
            })
            .collect();
        lanes.into_iter().flat_map(|lane| lane.join().unwrap()).collect()
    });
    assert!(failures.is_empty(), "{} failed:\n{}", failures.len(), failures.join("\n"));
}
