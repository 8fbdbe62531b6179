//! Damage that no row of the fault table names: flipped bits, misdirected and torn writes, stale
//! and swapped sectors, in the places that hold the structure of a volume.
//!
//! Whatever it was, three things must hold. The plan ends in a sound volume; apply does what the
//! plan says and undo takes it back; and a file that the damage did not touch, neither in its
//! content, nor in its table entries, nor in the entries that lead to it, comes through whole.

use punchdog_core::{
    family::{Kind, Wanted},
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{apply, measure::Subject, plan},
};
use punchdog_damage::{
    fat::{everyday, small},
    faults::Patient,
    patient::Made,
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

/// A volume that can be struck, with what each of its files depends on.
#[derive(Clone)]
struct Target {
    bytes: Vec<u8>,
    damaged: Vec<Extent>,
    sector: u64,
    /// The sectors that hold structure.
    structure: Vec<u64>,
    /// Per copy of the table, where the entries of all used clusters stand.
    links: Vec<Vec<Extent>>,
    /// Path, hash, and all that has to be whole for the file to be found and read.
    files: Vec<(String, String, Vec<Extent>)>,
}

impl Target {
    fn read(&self, offset: u64, length: u64) -> Vec<u8> {
        let at = usize::try_from(offset).unwrap();
        self.bytes[at..at + usize::try_from(length).unwrap()].to_vec()
    }
    fn write(&mut self, offset: u64, bytes: &[u8]) {
        let at = usize::try_from(offset).unwrap();
        self.bytes[at..at + bytes.len()].copy_from_slice(bytes);
        self.damaged.push(Extent::new(offset, bytes.len() as u64));
    }
    fn fill(&mut self, offset: u64, length: u64, byte: u8) {
        self.write(offset, &vec![byte; usize::try_from(length).unwrap()]);
    }
    fn untouched(&self) -> impl Iterator<Item = (&str, &str)> {
        let apart = |a: &Extent, b: &Extent| a.end() <= b.offset || b.end() <= a.offset;
        let whole =
            move |needs: &[Extent]| needs.iter().all(|need| self.damaged.iter().all(|hit| apart(need, hit)));
        self.files
            .iter()
            .filter(move |(_, _, needs)| whole(needs))
            .map(|(path, hash, _)| (path.as_str(), hash.as_str()))
    }
}

/// Sectors from `start` to `end`, both bytes.
fn sectors(start: u64, end: u64, sector: u64) -> impl Iterator<Item = u64> {
    start / sector..end.div_ceil(sector)
}

fn fat(kind: Kind, sector: u32, cluster: u32) -> Target {
    let patient = Patient::new(everyday(&small(kind, sector, cluster), 5));
    let g = patient.geometry;
    let size = u64::from(g.sector_bytes);
    let used: Vec<u32> = patient.live().flat_map(|made| made.clusters.clone()).collect();
    let last = used.iter().max().copied().unwrap_or(2);
    let place = |copy: u32, cluster: u32| {
        let (at, width) = patient.link_place(copy, cluster);
        Extent::new(at, width)
    };
    let mut structure: Vec<u64> = sectors(0, g.table_offset(0), size).collect();
    for copy in 0..g.tables {
        // Most of a table is empty; damage there touches nobody. The part in use counts twice.
        let part = sectors(g.table_offset(copy), place(copy, last).end(), size);
        structure.extend(part.flat_map(|sector| [sector, sector]));
    }
    structure.extend(sectors(g.root_offset(), g.root_offset() + g.root_bytes(), size));
    for folder in patient.live().filter(|made| made.folder) {
        for cluster in &folder.clusters {
            let start = g.cluster_offset(*cluster);
            structure.extend(sectors(start, start + u64::from(g.cluster_bytes()), size));
        }
    }
    let root = if g.wide() { g.cluster_offset(g.root_cluster) } else { g.root_offset() };
    let depends = |made: &Made| {
        let set = u64::from(made.entries - 1) * 32;
        let mut all = vec![Extent::new(made.entry - set, set + 32)];
        for cluster in &made.clusters {
            all.push(Extent::new(g.cluster_offset(*cluster), g.cluster_bytes().into()));
            all.extend((0..g.tables).map(|copy| place(copy, *cluster)));
        }
        // The root folder has no entry of its own; it is needed up to this one.
        if !made.path.contains('/') && made.entry >= root {
            all.push(Extent::new(root, made.entry - root));
            if g.wide() {
                all.extend((0..g.tables).map(|copy| place(copy, g.root_cluster)));
            }
        }
        all
    };
    let folders: Vec<&Made> = patient.live().filter(|made| made.folder).collect();
    let files = patient.live().filter(|made| !made.folder).map(|made| {
        let above = folders.iter().filter(|folder| made.path.starts_with(&format!("{}/", folder.path)));
        let needs = above.copied().chain([made]).flat_map(&depends).collect();
        (made.path.clone(), made.sha256.clone(), needs)
    });
    Target {
        files: files.collect(),
        links: (0..g.tables).map(|copy| used.iter().map(|c| place(copy, *c)).collect()).collect(),
        bytes: patient.bytes.clone(),
        damaged: Vec::new(),
        sector: size,
        structure,
    }
}

fn exfat(sector: u32, cluster: u32) -> Target {
    let wish = punchdog_damage::exfat::small(sector, cluster, 1);
    let patient = punchdog_damage::exfat_faults::Patient::new(punchdog_damage::exfat::everyday(&wish, 5));
    let g = patient.geometry;
    let size = g.sector_bytes();
    let used: Vec<u32> = patient.live().flat_map(|made| made.clusters.clone()).collect();
    let last = used.iter().max().copied().unwrap_or(2);
    let link = |cluster: u32| Extent::new(g.table_place(0) + u64::from(cluster) * 4, 4);
    let mut structure: Vec<u64> = sectors(0, g.region_bytes() * 2, size).collect();
    structure.extend(sectors(g.table_place(0), link(last).end(), size));
    // Bitmap, up-case table and root, twice: they are short.
    let own = sectors(g.heap_place(), g.cluster_place(g.root_cluster + 1), size);
    structure.extend(own.flat_map(|sector| [sector, sector]));
    for folder in patient.live().filter(|made| made.folder) {
        for cluster in &folder.clusters {
            let start = g.cluster_place(*cluster);
            structure.extend(sectors(start, start + g.cluster_bytes(), size));
        }
    }
    let root = g.cluster_place(g.root_cluster);
    let depends = |made: &Made| {
        let mut all = vec![Extent::new(made.entry, u64::from(made.entries) * 32)];
        for cluster in &made.clusters {
            all.push(Extent::new(g.cluster_place(*cluster), g.cluster_bytes()));
            all.push(link(*cluster));
        }
        if !made.path.contains('/') {
            all.push(Extent::new(root, g.cluster_bytes()));
            all.push(link(g.root_cluster));
        }
        all
    };
    let folders: Vec<_> = patient.live().filter(|made| made.folder).collect();
    let files = patient.live().filter(|made| !made.folder).map(|made| {
        let above = folders.iter().filter(|folder| made.path.starts_with(&format!("{}/", folder.path)));
        let needs = above.copied().chain([made]).flat_map(&depends).collect();
        (made.path.clone(), made.sha256.clone(), needs)
    });
    Target {
        files: files.collect(),
        links: vec![used.iter().map(|cluster| link(*cluster)).collect()],
        bytes: patient.bytes.clone(),
        damaged: Vec::new(),
        sector: size,
        structure,
    }
}

fn happen(target: &mut Target, accident: Accident, seed: &mut Seed) {
    let sector = target.sector;
    let (here, there) = (seed.pick(&target.structure) * sector, seed.pick(&target.structure) * sector);
    match accident {
        Accident::FlippedBits => {
            for _ in 0..=seed.below(8) {
                let at = here + seed.below(sector);
                let byte = target.read(at, 1)[0] ^ (1 << seed.below(8));
                target.write(at, &[byte]);
            }
        }
        Accident::ZeroedSector => target.fill(here, sector, 0),
        Accident::ErasedSector => target.fill(here, sector, 0xFF),
        Accident::Noise => {
            let noise = seed.bytes(usize::try_from(sector).unwrap());
            target.write(here, &noise);
        }
        Accident::Misdirected => {
            let bytes = target.read(there, sector);
            target.write(here, &bytes);
        }
        Accident::Swapped => {
            let (one, other) = (target.read(here, sector), target.read(there, sector));
            target.write(here, &other);
            target.write(there, &one);
        }
        Accident::Torn => target.fill(here + sector / 2, sector / 2, 0),
        Accident::Stale => {
            let copy = usize::try_from(seed.below(target.links.len() as u64)).unwrap();
            let from = usize::try_from(seed.below(target.links[copy].len() as u64)).unwrap();
            for place in target.links[copy].clone().into_iter().skip(from).take(12) {
                target.fill(place.offset, place.length, 0);
            }
        }
    }
}

fn whole_files(bytes: &[u8]) -> Vec<(String, String)> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.to_string(), file.sha256(&medium))).collect()
}

fn survives(target: &Target) -> Result<(), String> {
    let medium = Memory::new(target.bytes.clone());
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
    for (path, hash) in target.untouched() {
        if !after.iter().any(|(other, content)| other == path && content == hash) {
            let instead = after.iter().filter(|(_, content)| content == hash).collect::<Vec<_>>();
            return Err(format!("{path} was not touched and is not whole; its content: {instead:?}"));
        }
    }
    apply::undo(&mut bench).map_err(|error| error.to_string())?;
    if bench.copy.as_deref() == Some(&target.bytes[..]) { Ok(()) } else { Err("undo differs".to_owned()) }
}

fn targets() -> Vec<(&'static str, Target)> {
    vec![
        ("FAT12 512/512", fat(Kind::Fat12, 512, 512)),
        ("FAT12 512/2048", fat(Kind::Fat12, 512, 2048)),
        ("FAT16 512/1024", fat(Kind::Fat16, 512, 1024)),
        ("FAT16 1024/1024", fat(Kind::Fat16, 1024, 1024)),
        ("FAT32 512/512", fat(Kind::Fat32, 512, 512)),
        ("FAT32 512/8192", fat(Kind::Fat32, 512, 8192)),
        ("exFAT 512/512", exfat(512, 512)),
        ("exFAT 512/4096", exfat(512, 4096)),
        ("exFAT 4096/4096", exfat(4096, 4096)),
    ]
}

/// How many accidents one run tries on each volume; `PUNCHDOG_ACCIDENTS` takes more.
fn rounds() -> u64 {
    std::env::var("PUNCHDOG_ACCIDENTS").ok().and_then(|text| text.parse().ok()).unwrap_or(64)
}

#[test]
fn what_damage_does_not_touch_repair_does_not_lose() {
    let rounds = rounds();
    let targets = targets();
    let only = std::env::var("PUNCHDOG_ON").unwrap_or_default();
    let lane = |lane: u64| {
        let mut failures = Vec::new();
        for (number, (name, sound)) in
            targets.iter().enumerate().filter(|(_, (name, _))| name.contains(&only))
        {
            for round in (0..rounds).filter(|round| round % 2 == lane) {
                let mut seed = Seed::new((number as u64) << 32 | round);
                let mut target = sound.clone();
                let first = ACCIDENTS[usize::try_from(round).unwrap() % ACCIDENTS.len()];
                happen(&mut target, first, &mut seed);
                let second = (round % 3 == 2).then(|| *seed.pick(ACCIDENTS));
                if let Some(second) = second {
                    happen(&mut target, second, &mut seed);
                }
                if let Err(why) = survives(&target) {
                    if let Ok(folder) = std::env::var("PUNCHDOG_KEEP") {
                        std::fs::write(
                            format!("{folder}/{}-{round}.img", name.replace(['/', ' '], "-")),
                            &target.bytes,
                        )
                        .unwrap();
                    }
                    let places: Vec<u64> =
                        target.damaged.iter().map(|extent| extent.offset).take(3).collect();
                    failures.push(format!("{name} round {round}: {first:?} {second:?} at {places:?}: {why}"));
                }
            }
        }
        failures
    };
    let lane_ref = &lane;
    let failures: Vec<String> = std::thread::scope(|scope| {
        let lanes: Vec<_> = (0..2_u64).map(|number| scope.spawn(move || lane_ref(number))).collect();
        lanes.into_iter().flat_map(|lane| lane.join().unwrap()).collect()
    });
    assert!(failures.is_empty(), "{} failed:\n{}", failures.len(), failures.join("\n"));
}
