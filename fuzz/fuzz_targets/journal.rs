//! Any bytes as a journal, and a real one struck: undo refuses it, or puts back what it says.
#![no_main]

use libfuzzer_sys::fuzz_target;
use punchdog_core::{
    family::Kind,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    repair::{apply, measure::Subject, plan},
};
use punchdog_lab::{fat, workplace::Bench};
use std::{collections::BTreeMap, sync::LazyLock};

/// The copy and its journal.
static APPLIED: LazyLock<(Vec<u8>, Vec<u8>)> = LazyLock::new(|| {
    let mut bytes = fat::everyday(&fat::small(Kind::Fat12, 512, 512), 3).canvas;
    bytes[..512].fill(0);
    let image = Memory::new(bytes);
    let whole = Subject::Volume(Extent::new(0, image.len()));
    let plan = plan::build(&image, "x", whole, BTreeMap::new(), &Silent).expect("a plan");
    let mut place = Bench::default();
    apply::apply(&plan, &image, &mut place, &Silent).expect("a workplace in memory");
    (place.copy.expect("a copy"), place.journal.expect("a journal"))
});

fuzz_target!(|bytes: &[u8]| {
    let (copy, journal) = &*APPLIED;
    let journal = match bytes.split_first() {
        Some((0, rest)) => rest.to_vec(),
        _ => {
            let mut journal = journal.clone();
            punchdog_fuzz::strike(&mut journal, bytes);
            journal
        }
    };
    let mut place = Bench { journal: Some(journal), copy: Some(copy.clone()), ..Bench::default() };
    let before = place.copy.clone();
    if apply::undo(&mut place).is_err() {
        assert!(place.copy == before, "what is refused changes nothing");
    }
});
