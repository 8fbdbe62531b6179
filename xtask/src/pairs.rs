//! Double faults: every pair of classes on one small volume of each kind.
//!
//! Two faults together can cost more than either: what one leaves as the only witness the other may
//! take. Still every pair must be planned and proved, come out sound, and be carried out as planned;
//! and files that neither fault costs must be kept, except where both strike the same evidence. Those
//! pairs are counted and named.

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
    fat::{everyday, small},
    faults::{self, Fault, Patient},
    seed::Seed,
    workplace::Bench,
};
use std::{
    collections::BTreeSet,
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
    time::Instant,
};

/// What a pair came to.
enum Outcome {
    Kept,
    Costs(Vec<String>),
    Fails(String),
}

fn both(sound: &Patient, one: &Fault, other: &Fault) -> Outcome {
    let mut patient = sound.clone();
    // A cut comes last: the other fault may strike what it takes away.
    let (first, second) = if one.name.contains("cut short") { (other, one) } else { (one, other) };
    (first.make)(&mut patient, &mut Seed::new(1));
    (second.make)(&mut patient, &mut Seed::new(2));
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let choose = one.choose.iter().chain(other.choose);
    let wanted = choose.map(|(name, option)| ((*name).into(), (*option).into())).collect();
    let plan = match plan::build(&medium, "", whole, wanted, &Silent) {
        Ok(plan) => plan,
        // An answer that one fault needs can be moot beside the other.
        Err(plan::PlanError::NoSuchChoice { .. }) => {
            match plan::build(&medium, "", whole, std::collections::BTreeMap::new(), &Silent) {
                Ok(plan) => plan,
                Err(error) => return Outcome::Fails(error.to_string()),
            }
        }
        Err(error) => return Outcome::Fails(error.to_string()),
    };
    if !plan.outcome.after.sound {
        return Outcome::Fails(format!("not sound: {:?}", plan.outcome.after.findings));
    }
    let mut bench = Bench::default();
    match apply::apply(&plan, &medium, &mut bench, &Silent) {
        Ok(applied) if applied.as_planned => {}
        Ok(_) => return Outcome::Fails("not as planned".to_owned()),
        Err(error) => return Outcome::Fails(error.to_string()),
    }
    let hashes = hashes(bench.copy.unwrap_or_default());
    let made = patient.live().filter(|made| !made.folder && !patient.costs.contains(&made.path));
    let missing: Vec<String> =
        made.filter(|made| !hashes.contains(&made.sha256)).map(|m| m.path.clone()).collect();
    if missing.is_empty() { Outcome::Kept } else { Outcome::Costs(missing) }
}

fn hashes(bytes: Vec<u8>) -> BTreeSet<String> {
    let medium = Memory::new(bytes);
    let Ok(Some(volume)) = family::recognise(&medium, &Silent) else { return BTreeSet::new() };
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap_or_default();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| file.sha256(&medium)).collect()
}

/// Share of pairs that may cost a file beyond what each fault costs alone, in percent.
const COSTLY: usize = 3;

pub(crate) fn run(verbose: bool) -> anyhow::Result<()> {
    let started = Instant::now();
    let (mut all, mut costly, mut failed) = (0, 0, 0);
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let sound = Patient::new(everyday(&small(kind, 512, 512), 1));
        let fitting: Vec<&Fault> = faults::all().filter(|fault| fault.on.contains(&kind)).collect();
        // All pairs on FAT32; on the others, each fault with every fifth: the rest is the same code.
        let step = if kind == Kind::Fat32 { 1 } else { 5 };
        let mut pairs = Vec::new();
        for (number, one) in fitting.iter().enumerate() {
            pairs.extend(fitting.iter().skip(number + 1).step_by(step).map(|other| (*one, *other)));
        }
        let next = AtomicUsize::new(0);
        let found = Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
                scope.spawn(|| {
                    while let Some((one, other)) = pairs.get(next.fetch_add(1, Ordering::Relaxed)) {
                        let outcome = both(&sound, one, other);
                        if !matches!(outcome, Outcome::Kept)
                            && let Ok(mut found) = found.lock()
                        {
                            found.push((one.name, other.name, outcome));
                        }
                    }
                });
            }
        });
        all += pairs.len();
        for (one, other, outcome) in found.into_inner().unwrap_or_default() {
            match outcome {
                Outcome::Kept => {}
                Outcome::Costs(paths) => {
                    costly += 1;
                    if verbose {
                        println!("  costs  {} + {one} + {other}: {}", kind.name(), paths.join(", "));
                    }
                }
                Outcome::Fails(why) => {
                    failed += 1;
                    println!("  FAILS  {} + {one} + {other}: {why}", kind.name());
                }
            }
        }
    }
    println!(
        "pairs of faults: {all}, sound and as planned: {}, of those costing a further file: {costly}, {} s",
        all - failed,
        started.elapsed().as_secs()
    );
    anyhow::ensure!(failed == 0, "{failed} pairs of faults fail");
    anyhow::ensure!(
        costly * 100 <= all * COSTLY,
        "{costly} of {all} pairs cost a file that neither fault costs"
    );
    Ok(())
}
