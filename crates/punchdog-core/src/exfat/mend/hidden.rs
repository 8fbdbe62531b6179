//! Showing again what something hid.

use super::{
    Job,
    writing::{set_of, write_set},
};
use crate::{
    arith::Sat,
    exfat::{
        catalogue as c, check,
        layout::{HIDDEN, SYSTEM, put, set_checksum},
    },
    medium::MediumError,
    mending::step::{Provenance, Step},
    report::wording::counted,
};

/// Clears the hidden and system bits of a hidden tree, if that is wanted.
pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let Some(found) = check::hidden_tree(&job.survey.tree) else { return Ok(()) };
    let paths: Vec<String> =
        found.numbers.iter().take(2000).map(|number| job.survey.tree.path(*number)).collect();
    let many = counted(found.numbers.len().wide(), "file or folder is", "files and folders are");
    let options = [
        ("leave", "nothing changes".to_owned()),
        ("show", format!("{many} shown again by hosts; no content changes")),
    ];
    let question = "Ordinary files are hidden, as malware does it. Show them again?";
    if job.choices.ask("hidden-files", question, &options, paths.clone()) != "show" {
        return Ok(());
    }
    let mut step = Step::new(
        "shown-again",
        format!("clear the hidden and system bits of {}", counted(found.numbers.len().wide(), "set", "sets")),
        Provenance::Judged,
        "hosts set both bits only on files of their own",
        &[&c::HIDDEN_TREE],
    );
    step.paths = paths;
    let sets: Vec<_> = found.numbers.iter().filter_map(|number| set_of(job, *number)).collect();
    job.steps.run(job.window, step, |window| {
        for (places, mut item) in sets {
            let attributes = item.attributes() & !(HIDDEN | SYSTEM);
            put(&mut item.raw, 4, &attributes.to_le_bytes());
            let sum = set_checksum(&item.raw);
            put(&mut item.raw, 2, &sum.to_le_bytes());
            write_set(window, &places, item.index, &item.raw)?;
        }
        Ok(())
    })
}
