//! Files whose records are lost: what becomes of their names, and of the places in $MFT.

use super::{Job, rebuild, writing::put_record};
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError},
    mending::step::{Provenance, Step},
    ntfs::{
        build::{Times, unused},
        catalogue as c, fresh,
        layout::{number, own},
        records::Use,
        survey::Survey,
        tree::Why,
    },
    report::wording::counted,
};
use std::collections::HashSet;

/// The question.
pub(super) const QUESTION: &str = "lost-records";

/// Whether entries of lost files, and what is left of their records, stay.
pub(super) fn asked(job: &mut Job<'_, '_, '_, '_>, paths: Vec<String>) -> bool {
    let drop =
        ("drop", "their names leave the folders, their records become free; hosts meet no error".to_owned());
    let keep = ("keep", "all stays as it is; hosts list the names and report errors".to_owned());
    // Of a medium that ends too early the records may stand on the rest.
    let cut = job.believed.geometry.bytes() > job.window.len().plus(job.believed.geometry.sector());
    let options = if cut { [keep, drop] } else { [drop, keep] };
    let question = "Of some files the record cannot be read: at most a name in a folder is left of each. What shall become of these?";
    job.choices.ask(QUESTION, question, &options, paths) == "keep"
}

/// One of the records that hold nothing, in use all the same.
pub(super) fn reserved(survey: &Survey, number: u32) -> Option<Vec<u8>> {
    let times = Times::all(rebuild::made(survey));
    let record = own::RESERVED.contains(&number).then(|| fresh::reserved(number, times))?;
    record.bytes(survey.mft.geometry.record())
}

/// Frees records that cannot be read, once no folder names them.
pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let named: HashSet<u64> = survey
        .strays
        .iter()
        .filter(|stray| stray.why == Why::Lost)
        .map(|stray| number(stray.reference))
        .collect();
    let marked = |number: u32| {
        let bits = survey.in_use.as_deref();
        bits.is_some_and(|bits| bits.byte(number.per(8).size()) >> number.rest(8) & 1 == 1)
    };
    let free: Vec<u32> = (0_u32..)
        .zip(&survey.records.uses)
        .filter(|(number, usage)| {
            *number > own::EXTEND
                && !named.contains(&u64::from(*number))
                && (**usage == Use::Noise || **usage == Use::Blank && marked(*number))
        })
        .map(|(number, _)| number)
        .collect();
    if free.is_empty() || asked(job, Vec::new()) {
        return Ok(());
    }
    let many = counted(free.len().wide(), "record that cannot be read", "records that cannot be read");
    let step = Step::new(
        "lost-records-freed",
        format!("free {many}"),
        Provenance::Judged,
        "nothing can be read of them, and no folder names them once it is mended",
        &[&c::RECORD_LOST],
    )
    .or("with --choose lost-records=keep they stay");
    let size = survey.mft.geometry.record();
    job.steps.run(job.window, step, |window| {
        free.iter().try_for_each(|number| {
            let reserved = reserved(survey, *number);
            let bytes = reserved.unwrap_or_else(|| unused(*number, 1, size));
            put_record(window, &survey.mft, *number, &bytes)
        })
    })
}
