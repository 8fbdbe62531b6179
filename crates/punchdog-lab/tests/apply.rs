//! Carrying out and undoing, with a medium that fails at every single change in turn.

use punchdog_core::{
    apply::{self, ApplyError},
    family::Kind,
    measure::Subject,
    medium::{Extent, Medium, Memory},
    plan::{self, Plan, PlanError},
    progress::Silent,
};
use punchdog_lab::{
    fat::{everyday, small},
    faults::Patient,
    workplace::Bench,
};
use std::collections::BTreeMap;

/// A patient whose repair takes many separate writes, and its plan.
fn job() -> (Vec<u8>, Plan) {
    let mut patient = Patient::new(everyday(&small(Kind::Fat32, 512, 1024), 5));
    patient.fill(0, 512, 0);
    for path in ["Logs/station.log", "Pictures/IMG_0004.PNG"] {
        let cluster = patient.find(path).clusters[1];
        patient.set_link_in(0, cluster, 0);
    }
    for path in ["ledges.csv", "Logs/2026/tides of the first week.csv", "Möwen und Lummen/文字.txt"] {
        patient.set_size(path, 0);
    }
    let dots = patient.geometry.cluster_offset(patient.find("Logs").clusters[0]);
    patient.fill(dots, 32, 0x11);
    patient.write(65, &[1]);
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    (patient.bytes, plan)
}

fn mended(image: &Memory, plan: &Plan) -> (Vec<u8>, u64) {
    let mut bench = Bench::default();
    let applied = apply::apply(plan, image, &mut bench, &Silent).unwrap();
    assert!(applied.as_planned && applied.measured.sound && !applied.resumed);
    (bench.copy.unwrap(), bench.changes)
}

#[test]
fn an_apply_cut_off_at_any_change_is_finished_by_the_next_one() {
    let (bytes, plan) = job();
    let image = Memory::new(bytes.clone());
    let (whole, changes) = mended(&image, &plan);
    assert!(changes > 8, "only {changes} changes: too few to cut off");
    let mut resumed = 0;
    for fail_at in 0..changes {
        let mut bench = Bench { fail_at: Some(fail_at), ..Bench::default() };
        let error = apply::apply(&plan, &image, &mut bench, &Silent).unwrap_err();
        assert!(matches!(error, ApplyError::Workplace { .. }), "change {fail_at}: {error}");
        let mut again = Bench { fail_at: None, ..bench };
        let applied = apply::apply(&plan, &image, &mut again, &Silent).unwrap();
        assert!(applied.as_planned, "change {fail_at}");
        assert_eq!(again.copy.as_deref(), Some(&whole[..]), "change {fail_at}");
        resumed += u32::from(applied.resumed);
    }
    assert!(resumed > 5, "most of the cuts leave a copy to go on with");
}

#[test]
fn an_apply_cut_off_at_any_change_can_be_undone() {
    let (bytes, plan) = job();
    let image = Memory::new(bytes.clone());
    let (_, changes) = mended(&image, &plan);
    for fail_at in 1..changes {
        let mut bench = Bench { fail_at: Some(fail_at), ..Bench::default() };
        apply::apply(&plan, &image, &mut bench, &Silent).unwrap_err();
        let mut again = Bench { fail_at: None, ..bench };
        apply::undo(&mut again).unwrap();
        assert!(again.copy.is_none_or(|copy| copy == bytes), "change {fail_at}");
    }
}

#[test]
fn an_undo_cut_off_can_be_undone_again_or_applied_again() {
    let (bytes, plan) = job();
    let image = Memory::new(bytes.clone());
    let mut done = Bench::default();
    apply::apply(&plan, &image, &mut done, &Silent).unwrap();
    let whole = done.copy.clone();
    for fail_at in 0..6 {
        let mut bench =
            Bench { fail_at: Some(fail_at), changes: 0, journal: done.journal.clone(), copy: whole.clone() };
        if apply::undo(&mut bench).is_ok() {
            break;
        }
        let mut on =
            Bench { fail_at: None, journal: bench.journal.clone(), copy: bench.copy.clone(), changes: 0 };
        apply::apply(&plan, &image, &mut on, &Silent).unwrap();
        assert_eq!(on.copy, whole, "change {fail_at}");
        let mut back = Bench { fail_at: None, ..bench };
        apply::undo(&mut back).unwrap();
        assert_eq!(back.copy.as_deref(), Some(&bytes[..]), "change {fail_at}");
    }
}

#[test]
fn nothing_foreign_is_written_over() {
    let (bytes, plan) = job();
    let image = Memory::new(bytes.clone());
    let mut bench = Bench::default();
    apply::apply(&plan, &image, &mut bench, &Silent).unwrap();
    // Someone changes a byte that the plan had changed.
    let mut copy = bench.copy.clone().unwrap();
    copy[0] ^= 0x5A;
    let mut changed = Bench { copy: Some(copy), journal: bench.journal.clone(), ..Bench::default() };
    assert!(matches!(apply::undo(&mut changed), Err(ApplyError::Foreign(..))));
    assert!(matches!(apply::apply(&plan, &image, &mut changed, &Silent), Err(ApplyError::Foreign(..))));
    // A file that no journal of ours stands beside.
    let mut strange = Bench { copy: Some(bytes.clone()), ..Bench::default() };
    assert!(matches!(apply::apply(&plan, &image, &mut strange, &Silent), Err(ApplyError::CopyExists)));
    assert!(matches!(apply::undo(&mut strange), Err(ApplyError::NoJournal)));
    // A damaged journal.
    let mut torn = bench.journal.clone().unwrap();
    torn.truncate(torn.len() / 2);
    let mut broken = Bench { copy: bench.copy.clone(), journal: Some(torn), ..Bench::default() };
    assert!(matches!(apply::undo(&mut broken), Err(ApplyError::BadJournal)));
}

#[test]
fn a_plan_fits_its_image_alone_and_cannot_be_edited() {
    let (mut bytes, plan) = job();
    assert_eq!(Plan::from_json(&plan.to_json()).unwrap(), plan, "the file holds the whole plan");
    let edited = plan.to_json().replacen("\"sound\": true", "\"sound\": false", 1);
    assert!(matches!(Plan::from_json(&edited), Err(PlanError::Edited)));
    assert!(matches!(Plan::from_json("{\"schema\": \"other/1\"}"), Err(PlanError::NotAPlan(_))));
    assert!(matches!(Plan::from_json("no JSON"), Err(PlanError::NotAPlan(_))));
    let place = usize::try_from(plan.image.evidence[0].offset).unwrap();
    bytes[place] ^= 1;
    let other = Memory::new(bytes.clone());
    assert!(matches!(plan.must_fit(&other, &Silent), Err(PlanError::OtherImage(_))));
    bytes.push(0);
    let longer = Memory::new(bytes);
    assert!(matches!(plan.must_fit(&longer, &Silent), Err(PlanError::OtherImage(_))));
}

#[test]
fn the_same_plan_comes_out_twice() {
    let (bytes, plan) = job();
    let medium = Memory::new(bytes);
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let again = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    assert_eq!(again.to_json(), plan.to_json());
}
