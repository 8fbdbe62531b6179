//! Two faults at once on one small exFAT volume: each with several others, in both orders. The plan
//! must be proved, end in a sound volume, and keep every file that neither fault costs.

use punchdog_core::{
    family::{self, Wanted},
    inventory::State,
    measure::Subject,
    medium::{Extent, Medium, Memory},
    plan,
    progress::Silent,
};
use punchdog_lab::{
    exfat::{everyday, small},
    exfat_faults::{self, Fault, Patient},
    seed::Seed,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};

/// Hashes of every whole file, and its path.
fn whole(bytes: Vec<u8>) -> BTreeSet<(String, String)> {
    let medium = Memory::new(bytes);
    let volume = family::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.sha256(&medium), file.path.clone())).collect()
}

fn try_pair(sound: &Patient, first: &Fault, second: &Fault) -> Result<(), String> {
    let mut patient = sound.clone();
    for fault in [first, second] {
        // A fault that needs what the other one took away does not make a pair with it.
        let made = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            let mut struck = patient.clone();
            (fault.make)(&mut struck, &mut Seed::new(7));
            struck
        }));
        match made {
            Ok(struck) => patient = struck,
            Err(_) => return Ok(()),
        }
    }
    let medium = Memory::new(patient.bytes.clone());
    let subject = Subject::Volume(Extent::new(0, medium.len()));
    let wanted = BTreeMap::default();
    let plan = plan::build(&medium, "x.img", subject, wanted, &Silent).map_err(|error| error.to_string())?;
    if !plan.outcome.after.sound {
        return Err(format!("not sound after the plan: {:?}", plan.outcome.after.findings));
    }
    let overlay = plan.replay(&medium).map_err(|error| error.to_string())?;
    let mended: &dyn Medium = &overlay;
    let after = whole(mended.bytes(0, patient.bytes.len()).map_err(|error| error.to_string())?);
    let lost: Vec<&String> = patient
        .live()
        .filter(|made| !made.folder && made.size > 0)
        .filter(|made| !patient.costs.contains(&made.path))
        .filter(|made| !after.iter().any(|(hash, _)| *hash == made.sha256))
        .map(|made| &made.path)
        .collect();
    if lost.is_empty() { Ok(()) } else { Err(format!("lost: {lost:?}")) }
}

/// How many partners each fault gets; `PUNCHDOG_PARTNERS` takes more.
fn partners() -> usize {
    std::env::var("PUNCHDOG_PARTNERS").ok().and_then(|text| text.parse().ok()).unwrap_or(5)
}

#[test]
fn pairs_of_faults_end_in_a_sound_volume() {
    let sound = Patient::new(everyday(&small(512, 2048, 1), 4));
    let faults: Vec<&Fault> = exfat_faults::all()
        .filter(|fault| fault.tables.is_none_or(|tables| tables == 1) && fault.choose.is_empty())
        .collect();
    let mut seed = Seed::new(2026);
    let mut pairs = Vec::new();
    for first in &faults {
        for _ in 0..partners() {
            pairs.push((*first, *seed.pick(&faults)));
        }
    }
    pairs.retain(|(one, other)| one.name != other.name);
    let next = AtomicUsize::new(0);
    let failures = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some((first, second)) = pairs.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if let Err(why) = try_pair(&sound, first, second) {
                        failures.lock().unwrap().push(format!("{} + {}: {why}", first.name, second.name));
                    }
                }
            });
        }
    });
    let failures = failures.into_inner().unwrap();
    // A file that two faults hit can be lost to both; that none of them is left unsound is the rule.
    let unsound: Vec<&String> = failures.iter().filter(|line| !line.contains(": lost: ")).collect();
    assert!(unsound.is_empty(), "{} of {}:\n{unsound:#?}", unsound.len(), pairs.len());
    assert!(
        failures.len() * 40 <= pairs.len(),
        "{} of {} pairs cost a file that neither costs alone:\n{failures:#?}",
        failures.len(),
        pairs.len()
    );
}
