//! The fault matrix: every fault of the lab on every volume that it fits. For each: flagged with the
//! right code on the damaged bytes, planned, applied, sound, every file that could be kept is kept,
//! and undo gives the damaged image back byte for byte. `PUNCHDOG_FAULT` takes one fault only.

mod exfat;
mod fat;
mod ntfs;

use punchdog_core::{
    family::Wanted,
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{
        apply,
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{patient::Patient, row::Fault, seed::Seed, workplace::Bench};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Debug,
    sync::{
        Mutex, OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
};

/// Path and hash of every intact file, as our own reader sees them.
pub(crate) fn contents(bytes: &[u8]) -> BTreeMap<String, String> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.to_string(), file.sha256(&medium))).collect()
}

/// What went wrong, or nothing.
fn try_one<G>(fault: &Fault<G>, mut patient: Patient<G>, seed: u64) -> Result<(), String> {
    (fault.make)(&mut patient, &mut Seed::new(seed));
    let damaged = patient.bytes.clone();
    let medium = Memory::new(damaged.clone());
    let whole = Extent::new(0, medium.len());

    let recognised = registry::recognise(&medium, &Silent).unwrap().ok_or("not recognised")?;
    let seen = recognised.examine(&medium, &Silent).unwrap();
    let touches =
        |place: &Extent| patient.damaged.iter().any(|d| d.offset < place.end() && place.offset < d.end());
    let codes: BTreeSet<&str> = seen.findings.iter().map(|f| f.entry.code).collect();
    let hit = seen.findings.iter().filter(|f| f.entry.code == fault.code);
    if !hit.clone().any(|f| f.extents.iter().any(touches)) {
        return Err(format!("not flagged on the damaged bytes ({}); flagged: {codes:?}", hit.count()));
    }

    let wanted = fault.choose.iter().map(|(name, option)| ((*name).into(), (*option).into())).collect();
    let plan = plan::build(&medium, "patient.img", Subject::Volume(whole), wanted, &Silent)
        .map_err(|e| e.to_string())?;
    if !plan.outcome.after.sound {
        let steps: Vec<&String> = plan.steps.iter().map(|step| &step.does).take(6).collect();
        return Err(format!("not sound after the plan: {:?}; {steps:?}", plan.outcome.after.findings));
    }
    let plan = Plan::from_json(&plan.to_json()).map_err(|e| format!("the plan file: {e}"))?;
    let mut bench = Bench::default();
    let applied = apply::apply(&plan, &medium, &mut bench, &Silent).map_err(|e| e.to_string())?;
    if !applied.as_planned {
        return Err(format!("the outcome is not the planned one: {:?}", applied.measured));
    }
    kept(&patient, bench.copy.as_deref().unwrap())?;

    let undone = apply::undo(&mut bench).map_err(|e| e.to_string())?;
    if bench.copy.as_deref() != Some(&damaged[..]) || undone.restored.places == 0 && !plan.steps.is_empty() {
        return Err("undo did not give the image back".to_owned());
    }
    Ok(())
}

fn kept<G>(patient: &Patient<G>, mended: &[u8]) -> Result<(), String> {
    let after = contents(mended);
    let hashes: BTreeSet<&String> = after.values().collect();
    for made in patient.live().filter(|made| !made.folder && !patient.costs.contains(&made.path)) {
        if patient.moved.contains(&made.path) {
            if !hashes.contains(&made.sha256) {
                return Err(format!("the content of {} is lost", made.path));
            }
        } else if after.get(&made.path) != Some(&made.sha256) {
            return Err(format!("{} is not whole", made.path));
        }
    }
    Ok(())
}

/// Each fault on each volume that it fits; `volume` makes them sound, from a seed.
fn every_fault<G: Clone + Send + Sync + 'static, V: Copy + Debug + Sync>(
    faults: impl Iterator<Item = &'static Fault<G>>,
    volumes: &[V],
    volume: impl Fn(V, u64) -> Patient<G> + Sync,
) {
    let only = std::env::var("PUNCHDOG_FAULT").ok();
    let geometries: Vec<(V, G)> = volumes.iter().map(|shape| (*shape, volume(*shape, 1).geometry)).collect();
    let mut cases = Vec::new();
    for fault in faults.filter(|fault| only.as_ref().is_none_or(|name| fault.name == name)) {
        for (shape, _) in geometries.iter().filter(|(_, geometry)| (fault.on)(geometry)) {
            cases.push((fault, *shape, 1 + cases.len() as u64 % 5));
        }
    }
    // Each volume is made once, and copied.
    let sound: BTreeMap<(String, u64), OnceLock<Patient<G>>> =
        cases.iter().map(|(_, shape, seed)| ((format!("{shape:?}"), *seed), OnceLock::new())).collect();
    let made = |shape: V, seed: u64| {
        sound[&(format!("{shape:?}"), seed)].get_or_init(|| volume(shape, seed)).clone()
    };
    let next = AtomicUsize::new(0);
    let failures = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some((fault, shape, seed)) = cases.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if let Err(why) = try_one(fault, made(*shape, *seed), *seed) {
                        let line = format!("{} on {shape:?}, seed {seed}: {why}", fault.name);
                        failures.lock().unwrap().push(line);
                    }
                }
            });
        }
    });
    let classes: BTreeSet<&str> = cases.iter().map(|case| case.0.name).collect();
    let failures = failures.into_inner().unwrap();
    assert!(only.is_some() || classes.len() >= 100, "only {} classes of fault", classes.len());
    assert!(failures.is_empty(), "{} of {} failed:\n{}", failures.len(), cases.len(), failures.join("\n"));
}

/// A sound volume has no finding and all its files, needs no step, and Linux mounts it in silence.
fn sound<G>(name: &str, patient: &Patient<G>, sector: u32) {
    let medium = Memory::new(patient.bytes.clone());
    let recognised = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    assert_eq!(recognised.bytes(), medium.len(), "{name}");
    let seen = recognised.examine(&medium, &Silent).unwrap();
    let said: Vec<(&str, &String)> = seen.findings.iter().map(|f| (f.entry.code, &f.summary)).collect();
    assert!(said.is_empty(), "{name}: {said:?}");
    kept(patient, &patient.bytes).unwrap();
    let subject = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "x", subject, BTreeMap::new(), &Silent).unwrap();
    assert!(plan.steps.is_empty(), "{name}: a sound volume needs no step");
    let forecast = recognised.forecast(&medium, sector);
    assert!(forecast.iter().all(|host| host.mounts_read_write && host.log.is_empty()), "{forecast:?}");
}
