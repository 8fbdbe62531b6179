//! What a volume is once its plan is carried out.

use punchdog_core::{
    family::Wanted,
    files::record::FileRecord,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan, plan::Plan},
};
use std::collections::BTreeMap;

/// Plans the volume, and gives the plan, what the volume reads like then, and its files and folders. It must be sound.
pub(crate) fn mended<T>(bytes: &[u8], look: impl FnOnce(&Plan, &dyn Medium, Vec<FileRecord>) -> T) -> T {
    let medium = Memory::new(bytes.to_vec());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    assert!(plan.outcome.after.sound, "{:?}", plan.outcome.after.findings);
    let overlay = plan.replay(&medium).unwrap();
    let volume = registry::recognise(&overlay, &Silent).unwrap().expect("a volume");
    let files = volume.files(&overlay, Wanted::default(), &Silent).unwrap();
    look(&plan, &overlay, files)
}
