//! Repairs that do not undo each other: several things wrong at once in the structures that depend on
//! one another. A plan decides a value once; a round that repeats an earlier one fails a debug assertion
//! in the core, and so does this test.

use punchdog_core::{
    family::Kind,
    medium::{Extent, Medium, Memory},
    mending::change::Bytes,
    progress::Silent,
    repair::{
        error::PlanError,
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{
    exfat, fat,
    patient::Patient,
    seed::Seed,
    sweep::{self, Blow},
};
use std::collections::{BTreeMap, HashMap};

fn planned(bytes: &[u8]) -> Option<Plan> {
    let medium = Memory::new(bytes.to_vec());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    // An image that is cut short is kept as long as it is, unless it is said to be made shorter.
    let shrink = BTreeMap::from([("cut-image".to_owned(), "shrink".to_owned())]);
    let built = match plan::build(&medium, "patient.img", whole, shrink, &Silent) {
        Err(PlanError::NoSuchChoice { .. }) => {
            plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent)
        }
        built => built,
    };
    match built {
        Ok(plan) => Some(plan),
        Err(PlanError::NoVolume) => None,
        Err(error) => panic!("{error}"),
    }
}

/// Bytes of the boot sectors that the steps set to one value, to another, and back.
fn set_back(plan: &Plan, boot: u64) -> Vec<String> {
    let mut values: HashMap<u64, Vec<u8>> = HashMap::new();
    let mut found = Vec::new();
    for step in &plan.steps {
        for change in step.changes.iter().filter(|change| change.offset < boot) {
            let (Bytes::Hex(before), Bytes::Hex(after)) = (&change.before, &change.after) else { continue };
            let pairs = hex::decode(before).unwrap().into_iter().zip(hex::decode(after).unwrap());
            for (place, (old, new)) in (change.offset..).zip(pairs) {
                let history = values.entry(place).or_insert_with(|| vec![old]);
                if history.last() != Some(&new) {
                    if history.contains(&new) {
                        found.push(format!("byte {place} is {history:?} and {new} again, by {}", step.does));
                    }
                    history.push(new);
                }
            }
        }
    }
    found
}

#[test]
fn a_cut_image_with_a_stale_backup_is_decided_once() {
    for (cut, stale) in [(2_u64, true), (3, true), (2, false), (5, true)] {
        let mut patient = Patient::new(fat::everyday(&fat::small(Kind::Fat32, 512, 512), 4));
        let boot = patient.read(0, 512);
        let total = patient.geometry.total_sectors;
        if stale {
            // An older format: other length, other tables, other number.
            let mut old = boot.clone();
            old[32..36].copy_from_slice(&(total + 4096).to_le_bytes());
            old[36..40].copy_from_slice(&(patient.geometry.table_sectors + 32).to_le_bytes());
            old[67..71].copy_from_slice(&[9, 9, 9, 9]);
            patient.write(6 * 512, &old);
        }
        let keep = patient.bytes.len() - patient.bytes.len() / usize::try_from(cut + 1).unwrap();
        let bytes = patient.bytes[..keep / 512 * 512].to_vec();
        let plan = planned(&bytes).expect("a volume");
        assert!(plan.outcome.after.sound, "{cut} {stale}: {:?}", plan.outcome.after.findings);
        assert_eq!(set_back(&plan, 512 * 32), Vec::<String>::new(), "{cut} {stale}");
        // The same with the primary's own length wrong.
        let mut wrong = bytes.clone();
        wrong[32..36].copy_from_slice(&(total / 2).to_le_bytes());
        let plan = planned(&wrong).expect("a volume");
        assert_eq!(set_back(&plan, 512 * 32), Vec::<String>::new(), "{cut} {stale}, length wrong");
    }
}

/// How many combinations are tried.
fn rounds() -> u64 {
    std::env::var("PUNCHDOG_ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(150)
}

fn some(seed: &mut Seed, blows: &[Blow], parts: &[&str]) -> Vec<Blow> {
    let fitting: Vec<Blow> = blows.iter().filter(|blow| parts.contains(&blow.part)).copied().collect();
    (0..2 + seed.below(4)).map(|_| *seed.pick(&fitting)).collect()
}

#[test]
fn blows_to_boot_and_root_structures_are_decided_once() {
    let shapes = [(Kind::Fat16, 512), (Kind::Fat32, 512)];
    let patients =
        shapes.map(|(kind, cluster)| Patient::new(fat::everyday(&fat::small(kind, 512, cluster), 3)));
    let fats = patients.each_ref().map(sweep::of_fat);
    let (mut planned_at_all, mut refused) = (0, 0);
    for round in 0..rounds() {
        let mut seed = Seed::new(round);
        let number = usize::try_from(round % 2).unwrap();
        let mut patient = patients[number].clone();
        let struck =
            some(&mut seed, &fats[number], &["boot sector", "FSInfo", "backup boot sector", "root folder"]);
        for blow in &struck {
            sweep::strike_fat(&mut patient, *blow);
        }
        let mut bytes = patient.bytes;
        if seed.below(3) == 0 {
            bytes.truncate(bytes.len() / 512 * 400);
        }
        let Some(plan) = planned(&bytes) else {
            refused += 1;
            continue;
        };
        planned_at_all += 1;
        assert_eq!(set_back(&plan, 512 * 8), Vec::<String>::new(), "round {round}: {struck:?}");
    }
    assert!(planned_at_all > refused * 4, "{planned_at_all} planned, {refused} not");
}

#[test]
fn blows_to_what_the_root_of_exfat_names_are_decided_once() {
    let shapes = [(512, 512, 1), (512, 4096, 1), (512, 1024, 2)];
    let patients = shapes.map(|(s, c, t)| Patient::new(exfat::everyday(&exfat::small(s, c, t), 3)));
    let all = patients.each_ref().map(sweep::of_exfat);
    for round in 0..rounds() {
        let mut seed = Seed::new(round);
        let number = usize::try_from(round % 3).unwrap();
        let mut patient = patients[number].clone();
        let parts =
            if round % 2 == 0 { &["root folder"][..] } else { &["root folder", "up-case table", "table"] };
        let struck = some(&mut seed, &all[number], parts);
        for blow in &struck {
            sweep::strike_exfat(&mut patient, *blow);
        }
        // A whole entry unused, or noise, or the end of the folder.
        let entry = patient.root_entry(seed.below(12));
        match seed.below(5) {
            0 => patient.write(entry, &[patient.read(entry, 1)[0] & 0x7F]),
            1 => {
                let noise = seed.bytes(32);
                patient.write(entry, &noise);
            }
            2 => patient.fill(entry, 32, 0),
            _ => {}
        }
        let Some(plan) = planned(&patient.bytes) else { continue };
        let left = &plan.outcome.after.findings;
        // What an unknown critical entry says is not known, and so it stays.
        let unmendable = left.keys().all(|code| code == "exfat/unknown-critical-entry");
        assert!(plan.outcome.after.sound || unmendable, "round {round}: {left:?} after {struck:?}");
    }
}
