//! Two faults at once on one volume: what their repair comes to.
//!
//! Two faults together can cost more than either: what one leaves as the only witness the other may
//! take. Still every pair must be planned and proved, come out sound, and be carried out as planned;
//! and files that neither fault costs must be kept, except where both strike the same evidence.

use crate::{patient::Patient, row::Fault, seed::Seed, workplace::Bench};
use punchdog_core::{
    family::Wanted,
    files::record::State,
    medium::{Extent, Medium, Memory},
    mending::choices::Choice,
    progress::Silent,
    registry,
    repair::{apply, error::PlanError, measure::Subject, plan},
};
use std::{
    cell::Cell,
    collections::{BTreeMap, BTreeSet},
    panic::AssertUnwindSafe,
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};

/// What a pair came to.
#[derive(Debug)]
pub enum Outcome {
    /// Sound, as planned, and all files are there that can be.
    Kept,
    /// The second fault needs what the first one took away.
    NoPair,
    /// Sound and as planned, without these files, which neither fault costs alone.
    Costs(Vec<String>),
    /// What went wrong.
    Fails(String),
}

thread_local! {
    /// True while a fault is made that may not be possible.
    static STRIKING: Cell<bool> = const { Cell::new(false) };
}

/// Says nothing of the panics of faults that cannot be made together.
pub fn hush() {
    let told = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !STRIKING.get() {
            told(panic);
        }
    }));
}

/// Makes both faults on a copy of `sound`, plans and applies.
pub fn both<G: Clone>(sound: &Patient<G>, one: &Fault<G>, other: &Fault<G>) -> Outcome {
    let mut patient = sound.clone();
    // A cut comes last: the other fault may strike what it takes away.
    let (first, second) = if one.name.contains("cut short") { (other, one) } else { (one, other) };
    (first.make)(&mut patient, &mut Seed::new(1));
    // What the second fault makes of a structure that the first one took away is no news.
    STRIKING.set(true);
    let struck = std::panic::catch_unwind(AssertUnwindSafe(|| {
        (second.make)(&mut patient, &mut Seed::new(2));
        patient
    }));
    STRIKING.set(false);
    let Ok(patient) = struck else { return Outcome::NoPair };
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let choose = one.choose.iter().chain(other.choose);
    let mut wanted: BTreeMap<String, String> =
        choose.map(|(name, option)| ((*name).into(), (*option).into())).collect();
    let mut plan = match plan::build(&medium, "", whole, wanted.clone(), &Silent) {
        // An answer that one fault needs can be moot beside the other.
        Err(PlanError::NoSuchChoice { .. }) => {
            wanted.clear();
            plan::build(&medium, "", whole, BTreeMap::new(), &Silent)
        }
        plan => plan,
    };
    // What may be of a file that is lost stays in use until somebody says that it need not.
    let kept = |choice: &Choice| choice.name == "unowned-clusters" && choice.taken == "keep";
    if plan.as_ref().is_ok_and(|plan| plan.choices.iter().any(kept)) {
        wanted.insert("unowned-clusters".into(), "free".into());
        plan = plan::build(&medium, "", whole, wanted, &Silent);
    }
    let plan = match plan {
        Ok(plan) => plan,
        Err(error) => return Outcome::Fails(error.to_string()),
    };
    if !plan.outcome.after.sound {
        return Outcome::Fails(format!("not sound: {:?}", plan.outcome.after.findings));
    }
    // What becomes of the file system's own files is told by findings and steps.
    let own = |path: &str| path.starts_with('$') && !path.contains('/');
    if let Some(change) = plan.outcome.changes.iter().find(|change| own(&change.path.to_string())) {
        return Outcome::Fails(format!("takes {} for somebody's file", change.path));
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

/// The hashes of every whole file; of empty ones too.
fn hashes(bytes: Vec<u8>) -> BTreeSet<String> {
    let medium = Memory::new(bytes);
    let Ok(Some(volume)) = registry::recognise(&medium, &Silent) else { return BTreeSet::new() };
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap_or_default();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| file.sha256(&medium)).collect()
}

/// Tries pairs on all processors; gives those that are not as they were wished, in no order.
pub fn all<'f, G: Clone + Sync>(
    sound: &Patient<G>,
    pairs: &[(&'f Fault<G>, &'f Fault<G>)],
) -> Vec<(String, Outcome)> {
    let next = AtomicUsize::new(0);
    let found = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some((one, other)) = pairs.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let outcome = both(sound, one, other);
                    if !matches!(outcome, Outcome::Kept)
                        && let Ok(mut found) = found.lock()
                    {
                        found.push((format!("{} + {}", one.name, other.name), outcome));
                    }
                }
            });
        }
    });
    found.into_inner().unwrap_or_default()
}
