//! Files that name a security descriptor that there is not: they get the one that the other files of their folder have.

use super::{Job, writing::write_record};
use crate::{
    arith::{Peek, Sat},
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        catalogue as c,
        layout::{kind, number, own, put},
        mend::displaced,
        record::attributes,
        records::{File, Notes},
        secure,
        survey::Survey,
    },
    report::wording::counted,
};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Where `$STANDARD_INFORMATION` has the id, and the bytes of one that has it.
const ID: usize = 52;
const LEAST: usize = 72;
/// Files that are named in the step.
const NAMED: usize = 2000;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let Some((bytes, _)) = secure::stream(job.window, survey) else { return Ok(()) };
    // What is not there may be where $Secure's content is found again.
    if displaced::content(survey, own::SECURE, "$SDS").is_none() {
        return Ok(());
    }
    let known: HashSet<u32> = secure::descriptors(&bytes).iter().map(|one| one.id).collect();
    let live = |file: &&File| !file.notes.contains(Notes::DELETED);
    let stranger = |file: &&File| file.security != 0 && !known.contains(&file.security);
    let strangers: Vec<&File> = survey.records.files.iter().filter(live).filter(stranger).collect();
    if strangers.is_empty() || known.is_empty() {
        return Ok(());
    }
    let folder = |file: &File| survey.records.names_of(file).first().map(|name| number(name.parent));
    let asked: HashSet<u64> = strangers.iter().filter_map(|file| folder(file)).collect();
    let mut beside: HashMap<u64, BTreeMap<u32, u64>> = HashMap::new();
    for file in survey.records.files.iter().filter(live).filter(|file| known.contains(&file.security)) {
        if let Some(of) = folder(file).filter(|of| asked.contains(of)) {
            let count = beside.entry(of).or_default().entry(file.security).or_default();
            *count = count.plus(1);
        }
    }
    let usual = |file: &File| {
        let of = folder(file)?;
        let most = beside.get(&of).and_then(|ids| ids.iter().max_by_key(|(_, count)| **count));
        let above = || {
            let above = survey.records.live(u32::try_from(of).ok()?)?;
            known.contains(&above.security).then_some(above.security)
        };
        most.map(|(id, _)| *id).or_else(above)
    };
    let given: Vec<(u32, u32)> =
        strangers.iter().filter_map(|file| Some((file.number, usual(file)?))).collect();
    if given.is_empty() {
        return Ok(());
    }
    let wanted: HashSet<u32> = given.iter().take(NAMED).map(|(file, _)| *file).collect();
    let mut paths: Vec<String> = survey.paths_of(|file| wanted.contains(&file)).into_values().collect();
    paths.sort_unstable();
    let step = Step::new(
        "security-id",
        format!(
            "give {} the security id of the others in its folder",
            counted(given.len().wide(), "file", "files")
        ),
        Provenance::Judged,
        "the files beside it; the descriptor that it names is not in $Secure",
        &[&c::SECURITY_ID],
    )
    .or("leave it: hosts take what is usual".to_owned());
    let step = paths.into_iter().filter(|path| !path.is_empty()).fold(step, Step::file);
    job.steps.run(job.window, step, |window| {
        for (file, id) in &given {
            let Some(mut record) = survey.mft.read(window, *file) else { continue };
            let (list, broken) = attributes(&record);
            let standard = list.iter().find(|a| a.kind() == kind::STANDARD && a.value().len() >= LEAST);
            let Some(at) = standard.filter(|_| broken.is_none()).map(|a| a.value_at().plus(ID)) else {
                continue;
            };
            if record.le32(at) != *id {
                put(&mut record, at, &id.to_le_bytes());
                write_record(window, &survey.mft, *file, &record)?;
            }
        }
        Ok(())
    })
}
