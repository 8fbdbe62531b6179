//! What check says of each fault of the tables and what the plan does about it, word for word, on
//! one small volume. Each text was read by a person when it was taken down;
//! `UPDATE_EXPECT=1 cargo test -p punchdog-lab` takes them down anew, to be read in the diff.

#![allow(
    clippy::needless_raw_string_hashes,
    clippy::too_many_lines,
    reason = "texts as they were taken down by the tool that keeps them"
)]

mod exfat;
mod fat;
mod ntfs;

use expect_test::Expect;
use punchdog_core::{
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{patient::Patient, row::Fault, seed::Seed};
use std::fmt::Write;

/// How many findings and steps of a text are written out.
const SHOWN: usize = 4;

/// The first findings of a damaged volume and the first steps of its repair.
fn text(bytes: &[u8], choose: &[(&str, &str)]) -> String {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let seen = volume.examine(&medium, &Silent).unwrap();
    let mut text = String::new();
    for finding in seen.findings.iter().take(SHOWN) {
        let places: Vec<String> =
            finding.extents.iter().take(3).map(|e| format!("{}+{}", e.offset, e.length)).collect();
        writeln!(text, "{} at {}", finding.entry.code, places.join(" ")).unwrap();
        writeln!(text, "  {}. {}", finding.summary, finding.detail()).unwrap();
    }
    let wanted = choose.iter().map(|(name, option)| ((*name).into(), (*option).into())).collect();
    let subject = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "x.img", subject, wanted, &Silent).unwrap();
    for step in plan.steps.iter().take(SHOWN) {
        writeln!(text, "{}: {}", step.provenance.name(), step.does).unwrap();
        writeln!(text, "  {}", step.from).unwrap();
    }
    writeln!(text, "{}", plan.outcome.summary).unwrap();
    text
}

/// Holds what is said of a fault against `expected`, on the first of the volumes that it makes
/// sense on.
fn says<G>(fault: &Fault<G>, volumes: impl IntoIterator<Item = Patient<G>>, expected: &Expect) {
    expected.assert_eq(&told(fault, volumes));
}

fn told<G>(fault: &Fault<G>, volumes: impl IntoIterator<Item = Patient<G>>) -> String {
    let mut patient = volumes.into_iter().find(|patient| (fault.on)(&patient.geometry)).expect("a volume");
    (fault.make)(&mut patient, &mut Seed::new(3));
    text(&patient.bytes, fault.choose)
}

/// Every fault of a table has its text in `source`.
fn all_spoken_for<'f, G: 'f>(faults: impl Iterator<Item = &'f Fault<G>>, source: &str) {
    let names = faults.map(|fault| fault.name);
    let missing: Vec<&str> = names.filter(|name| !source.contains(&format!("{name:?},"))).collect();
    assert!(missing.is_empty(), "{missing:?}");
}
