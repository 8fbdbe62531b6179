//! Two faults at once, each fault with a few others: a sample of what `cargo xtask pairs` tries
//! whole. Each pair must end in a sound volume, as planned, and may cost only a file that both
//! faults strike.

use punchdog_core::family::Kind;
use punchdog_damage::{
    exfat, exfat_faults, fat, faults, ntfs, ntfs_faults,
    patient::{Made, Patient},
    row::Fault,
    trial::{self, Outcome},
};

/// How many partners each fault gets: always the same ones, while `cargo xtask pairs` tries a quarter of all by
/// the commit. `PUNCHDOG_PARTNERS` takes more.
fn partners() -> usize {
    std::env::var("PUNCHDOG_PARTNERS").ok().and_then(|text| text.parse().ok()).unwrap_or(2)
}

fn sample<G: Clone + Sync + 'static>(sound: &Patient<G>, faults: impl Iterator<Item = &'static Fault<G>>) {
    let fitting: Vec<&Fault<G>> = faults.filter(|fault| (fault.on)(&sound.geometry)).collect();
    let mut pairs = Vec::new();
    let only = std::env::var("PUNCHDOG_FAULT").ok();
    for first in &fitting {
        if let Some(only) = fitting.iter().find(|fault| only.as_deref() == Some(fault.name)) {
            pairs.extend([(*first, *only), (*only, *first)]);
            continue;
        }
        // By their names, so that a new row does not change everybody's partners.
        let mut others = fitting.clone();
        others.sort_by_key(|other| crc32fast::hash(format!("{} + {}", first.name, other.name).as_bytes()));
        pairs.extend(others.into_iter().take(partners()).map(|other| (*first, other)));
    }
    pairs.retain(|(one, other)| {
        one.name != other.name && !ntfs_faults::beyond(one.name, other.name) && !faults::beyond(one, other)
    });
    let outcomes = trial::all(sound, &pairs);
    let fail: Vec<_> = outcomes.iter().filter(|(_, outcome)| matches!(outcome, Outcome::Fails(_))).collect();
    assert!(fail.is_empty(), "{} of {}:\n{fail:#?}", fail.len(), pairs.len());
    let cost: Vec<_> = outcomes.iter().filter(|(_, outcome)| matches!(outcome, Outcome::Costs(_))).collect();
    assert!(cost.len() * 40 <= pairs.len(), "{} of {}:\n{cost:#?}", cost.len(), pairs.len());
    let apart = outcomes.iter().filter(|(_, outcome)| matches!(outcome, Outcome::NoPair)).count();
    assert!(apart * 20 <= pairs.len(), "{apart} of {} pairs exclude each other", pairs.len());
}

#[test]
fn pairs_of_fat_faults() {
    sample(&Patient::new(fat::everyday(&fat::small(Kind::Fat32, 512, 512), 4)), faults::all());
}

#[test]
fn pairs_of_exfat_faults() {
    sample(&Patient::new(exfat::everyday(&exfat::small(512, 2048, 1), 4)), exfat_faults::all());
}

#[test]
fn pairs_of_ntfs_faults() {
    sample(&Patient::new(ntfs::everyday(&ntfs::small(512, 4096, 1024), 4)), ntfs_faults::all());
}

fn in_pieces(made: &Made) -> bool {
    made.clusters.windows(2).any(|pair| pair[1] != pair[0] + 1)
}

/// Pairs that once took hours, or a volume for one of another family, keep every file.
#[test]
fn pairs_that_once_went_wrong() {
    let sound = Patient::new(fat::everyday(&fat::small(Kind::Fat12, 512, 512), 1));
    let named = |name: &str| faults::all().find(|fault| fault.name == name).expect("a fault");
    let outcome = trial::both(&sound, named("copy 0 erased to FF whole"), named("copy 1 zeroed whole"));
    // What does not lie in a row is not to be had without a table.
    let Outcome::Costs(cost) = outcome else { panic!("FAT12 without its tables: {outcome:?}") };
    let apart = |path: &String| sound.live().any(|made| made.path == *path && in_pieces(made));
    assert!(!cost.is_empty() && cost.iter().all(apart), "FAT12 without its tables: {cost:?}");
    let sound = Patient::new(exfat::everyday(&exfat::small(512, 2048, 1), 4));
    let named = |name: &str| exfat_faults::all().find(|fault| fault.name == name).expect("a fault");
    for (one, other) in [
        ("both boot regions zeroed", "must-be-zero bytes set"),
        ("both boot sectors zeroed", "must-be-zero bytes set"),
        ("cluster count huge", "root chain runs into itself"),
        ("bitmap zeroed", "a folder's set lost"),
    ] {
        let outcome = trial::both(&sound, named(one), named(other));
        assert!(matches!(outcome, Outcome::Kept), "{one} + {other}: {outcome:?}");
    }
    let sound = Patient::new(ntfs::everyday(&ntfs::small(512, 4096, 1024), 4));
    let named = |name: &str| ntfs_faults::all().find(|fault| fault.name == name).expect("a fault");
    for (one, other) in [
        ("bitmap too short", "records 0 to 3 and their copies zero"),
        ("records 0 to 3 and their copies zero", "all clusters marked free"),
        ("end mark zero", "an attribute's length wrong"),
        ("bytes in use too few", "end mark zero"),
        ("an attribute's type wrong", "standard information gone"),
        ("a record extends another file", "a list's entry has no length"),
        ("a record does not say that it extends another", "a list's entry has no length"),
        ("a record extends an older use of its file", "the run list of a list is zero"),
        ("allocated size too small", "a run list ends before it begins"),
        ("a security descriptor struck", "the second copy of a security descriptor struck"),
        ("end mark zero", "an attribute's type wrong"),
    ] {
        let outcome = trial::both(&sound, named(one), named(other));
        assert!(matches!(outcome, Outcome::Kept), "{one} + {other}: {outcome:?}");
    }
}
