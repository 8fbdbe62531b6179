//! Carrying out and undoing, with a medium that fails at every single change in turn.

use punchdog_core::{
    family::Kind,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    repair::{
        apply::{self, ApplyError, Standing},
        error::PlanError,
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{
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
    assert!(applied.as_planned && applied.measured.sound);
    assert_eq!(applied.standing, Standing::New);
    assert_eq!(applied.written, plan.outcome.written);
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
        resumed += u32::from(applied.standing != Standing::New);
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
        match apply::undo(&mut again) {
            Ok(_) => assert_eq!(again.copy.as_deref(), Some(&bytes[..]), "change {fail_at}"),
            Err(error) => assert!(matches!(error, ApplyError::NoCopy) && again.copy.is_none(), "{error}"),
        }
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
        let mut bench = Bench {
            fail_at: Some(fail_at),
            journal: done.journal.clone(),
            copy: whole.clone(),
            ..Bench::default()
        };
        if apply::undo(&mut bench).is_ok() {
            break;
        }
        let mut on = Bench { journal: bench.journal.clone(), copy: bench.copy.clone(), ..Bench::default() };
        apply::apply(&plan, &image, &mut on, &Silent).unwrap();
        assert_eq!(on.copy, whole, "change {fail_at}");
        let mut back = Bench { fail_at: None, ..bench };
        apply::undo(&mut back).unwrap();
        assert_eq!(back.copy.as_deref(), Some(&bytes[..]), "change {fail_at}");
    }
}

#[test]
fn how_the_copy_stood_is_told_apart() {
    let (bytes, plan) = job();
    let image = Memory::new(bytes);
    let mut bench = Bench::default();
    let standing = |bench: &mut Bench| apply::apply(&plan, &image, bench, &Silent).unwrap().standing;
    assert_eq!(standing(&mut bench), Standing::New);
    assert_eq!(standing(&mut bench), Standing::Changed, "applied twice");
    assert_eq!(apply::undo(&mut bench).unwrap().standing, Standing::Changed);
    assert_eq!(apply::undo(&mut bench).unwrap().standing, Standing::Unchanged, "undone twice");
    assert_eq!(standing(&mut bench), Standing::Unchanged, "applied after an undo: nothing was cut off");
    let mut cut = Bench { fail_at: Some(4), ..Bench::default() };
    apply::apply(&plan, &image, &mut cut, &Silent).unwrap_err();
    cut.fail_at = None;
    assert_eq!(standing(&mut cut), Standing::Partly);
    cut.copy = None;
    assert!(matches!(apply::undo(&mut cut), Err(ApplyError::NoCopy)), "no copy, nothing undone");
}

#[test]
fn a_copy_of_an_image_that_changed_meanwhile_is_not_kept() {
    let (bytes, plan) = job();
    let image = Memory::new(bytes);
    // In what the plan rests on, and in what it is going to write over.
    let blows: [fn(&mut [u8]); 2] = [|copy| copy[512 * 6 + 100] ^= 1, |copy| copy[3] ^= 0x20];
    for change in blows {
        let mut bench = Bench { underneath: Some(change), ..Bench::default() };
        let error = apply::apply(&plan, &image, &mut bench, &Silent).unwrap_err();
        assert!(matches!(error, ApplyError::Workplace { .. }), "{error}");
        assert!(bench.copy.is_none());
        bench.underneath = None;
        assert!(
            apply::apply(&plan, &image, &mut bench, &Silent).unwrap().as_planned,
            "the next one succeeds"
        );
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
    // Anything else in the journal's place stays as it is, whether there is a copy or not.
    for stranger in [&b"notes of a stranger"[..], &[], &bench.journal.clone().unwrap()[..40]] {
        let mut other = Bench { journal: Some(stranger.to_vec()), ..Bench::default() };
        let error = apply::apply(&plan, &image, &mut other, &Silent).unwrap_err();
        assert!(matches!(error, ApplyError::OtherJournal), "{error}");
        assert_eq!(other.journal.as_deref(), Some(stranger));
        assert!(other.copy.is_none());
    }
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
