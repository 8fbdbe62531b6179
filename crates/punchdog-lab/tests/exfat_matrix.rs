//! The fault matrix: every exFAT fault of the lab on every volume. For each: flagged with the right
//! code on the damaged bytes, planned, applied, sound, every file that could be kept is kept, and
//! undo gives the damaged image back byte for byte.

use punchdog_core::{
    apply,
    family::{self, Kind, Wanted},
    inventory::State,
    measure::Subject,
    medium::{Extent, Medium, Memory},
    plan::{self, Plan},
    progress::Silent,
};
use punchdog_lab::{
    exfat::{everyday, small},
    exfat_faults::{self, Fault, Patient},
    seed::Seed,
    workplace::Bench,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};

/// Sector bytes, cluster bytes, tables.
const VOLUMES: &[(u32, u32, u32)] = &[
    (512, 512, 1),
    (512, 1024, 1),
    (512, 4096, 1),
    (512, 32768, 1),
    (1024, 2048, 1),
    (4096, 4096, 1),
    (512, 1024, 2),
];

fn patient(volume: (u32, u32, u32), seed: u64) -> Patient {
    Patient::new(everyday(&small(volume.0, volume.1, volume.2), seed))
}

/// Path and hash of every intact file, as our own reader sees them.
fn contents(bytes: &[u8]) -> BTreeMap<String, String> {
    let medium = Memory::new(bytes.to_vec());
    let volume = family::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.clone(), file.sha256(&medium))).collect()
}

/// What went wrong, or nothing.
fn try_one(fault: &Fault, volume: (u32, u32, u32), seed: u64) -> Result<(), String> {
    let mut patient = patient(volume, seed);
    (fault.make)(&mut patient, &mut Seed::new(seed));
    let damaged = patient.bytes.clone();
    let medium = Memory::new(damaged.clone());
    let whole = Extent::new(0, medium.len());

    let recognised = family::recognise(&medium, &Silent).unwrap().ok_or("not recognised")?;
    if recognised.kind() != Kind::Exfat {
        return Err(format!("taken for {:?}", recognised.kind()));
    }
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

    let (undone, _) = apply::undo(&mut bench).map_err(|e| e.to_string())?;
    if bench.copy.as_deref() != Some(&damaged[..]) || undone == 0 && !plan.steps.is_empty() {
        return Err("undo did not give the image back".to_owned());
    }
    Ok(())
}

fn kept(patient: &Patient, mended: &[u8]) -> Result<(), String> {
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

#[test]
fn every_fault_on_every_volume_is_found_mended_and_undone() {
    let only = std::env::var("PUNCHDOG_FAULT").ok();
    let mut cases = Vec::new();
    for fault in exfat_faults::all().filter(|fault| only.as_ref().is_none_or(|name| fault.name == name)) {
        for volume in VOLUMES.iter().filter(|(_, _, tables)| fault.tables.is_none_or(|only| only == *tables))
        {
            cases.push((fault, *volume, 1 + cases.len() as u64 % 5));
        }
    }
    let next = AtomicUsize::new(0);
    let failures = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some((fault, volume, seed)) = cases.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if let Err(why) = try_one(fault, *volume, *seed) {
                        let line = format!("{} on {volume:?}, seed {seed}: {why}", fault.name);
                        failures.lock().unwrap().push(line);
                    }
                }
            });
        }
    });
    let classes: BTreeSet<&str> = cases.iter().map(|case| case.0.name).collect();
    let failures = failures.into_inner().unwrap();
    assert!(only.is_some() || classes.len() >= 50, "only {} classes of fault", classes.len());
    assert!(failures.is_empty(), "{} of {} failed:\n{}", failures.len(), cases.len(), failures.join("\n"));
}

#[test]
fn sound_volumes_have_no_finding_and_all_files() {
    for volume in VOLUMES {
        let patient = patient(*volume, 7);
        let medium = Memory::new(patient.bytes.clone());
        let recognised = family::recognise(&medium, &Silent).unwrap().expect("a volume");
        assert_eq!((recognised.kind(), recognised.bytes()), (Kind::Exfat, medium.len()), "{volume:?}");
        let seen = recognised.examine(&medium, &Silent).unwrap();
        let said: Vec<(&str, &String)> = seen.findings.iter().map(|f| (f.entry.code, &f.summary)).collect();
        assert!(said.is_empty(), "{volume:?}: {said:?}");
        kept(&patient, &patient.bytes).unwrap();
        let subject = Subject::Volume(Extent::new(0, medium.len()));
        let plan = plan::build(&medium, "x", subject, BTreeMap::new(), &Silent).unwrap();
        assert!(plan.steps.is_empty(), "{volume:?}: a sound volume needs no step");
        let forecast = recognised.forecast(&medium, 512);
        assert!(forecast.iter().all(|host| host.mounts_read_write && host.log.is_empty()), "{forecast:?}");
    }
}
