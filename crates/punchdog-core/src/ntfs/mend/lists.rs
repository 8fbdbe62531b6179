//! Attribute lists, written anew from the records that extend a file.

use super::{
    Job,
    records::step,
    room::Clusters,
    writing::{write_record, write_stream},
};
use crate::{
    arith::Sat,
    medium::MediumError,
    mending::step::Provenance,
    ntfs::{
        build::{Outside, outside, resident},
        catalogue as c,
        edit::{insert, replace},
        layout::{kind, put, reference},
        list,
        lists::Listed,
        record::attributes,
        records::Flaw,
        runs::{Mapping, Run},
        survey::Survey,
    },
};
use std::collections::HashMap;

/// What has to be written.
struct Written {
    /// The base record.
    record: Vec<u8>,
    /// Where the list stands, if outside of it.
    runs: Vec<Run>,
    /// The list.
    bytes: Vec<u8>,
}

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let is_list = |flaw: &Flaw| matches!(flaw, Flaw::List(_));
    let files: Vec<u32> =
        survey.records.flaws.iter().filter(|(_, flaw)| is_list(flaw)).map(|(number, _)| *number).collect();
    if files.is_empty() {
        return Ok(());
    }
    let paths = crate::ntfs::check::paths(survey);
    let mut room = Clusters::of(survey);
    let mut extending: HashMap<u32, Vec<u32>> = HashMap::new();
    for (holder, base) in &survey.records.extending {
        if survey.records.referred(*base).is_some() {
            extending.entry(survey.records.base_of(*holder)).or_default().push(*holder);
        }
    }
    for file in files {
        let others = extending.get(&file).map_or(&[][..], |others| others);
        let Some(Written { record, runs, bytes }) = written(job, file, others, &mut room) else {
            job.steps.leave(format!(
                "the attribute list of record {file} cannot be written anew: neither the record nor the free clusters \
                 have room for it, or a record that it leads to cannot be read"
            ));
            continue;
        };
        let step = step(
            "attribute-list-anew",
            format!("write the attribute list of record {file} anew"),
            Provenance::Derived,
            "the records that name this one as their base, and what stands in them",
            &c::LIST,
            paths.get(&file),
        );
        let map = Mapping::of(&runs, survey.mft.geometry.cluster());
        job.steps.run(job.window, step, |window| {
            write_stream(window, &map, 0, &bytes)?;
            write_record(window, &survey.mft, file, &record)
        })?;
    }
    Ok(())
}

/// What a list has to say: sorted by type, name and VCN.
fn wanted(job: &Job<'_, '_, '_, '_>, file: u32, others: &[u32]) -> Option<Vec<Listed>> {
    let survey: &Survey = job.survey;
    let own =
        |holder: u32| reference(holder, survey.records.sequences.get(holder.size()).copied().unwrap_or(0));
    let mut all = Vec::new();
    for holder in std::iter::once(file).chain(others.iter().copied()) {
        let record = job.record(holder)?;
        let (found, broken) = attributes(&record);
        if broken.is_some() {
            return None;
        }
        let found = found.iter().filter(|attribute| attribute.kind() != kind::LIST);
        all.extend(found.map(|attribute| Listed::attribute(attribute, own(holder))));
    }
    all.sort_by(|one, other| {
        let names = survey.capitals.order(&one.name, &other.name);
        one.kind.cmp(&other.kind).then(names).then(one.first_vcn.cmp(&other.first_vcn))
    });
    Some(all)
}

/// The list where it stands, in the record, or in clusters of its own; `None` where it has no room.
fn written(job: &Job<'_, '_, '_, '_>, file: u32, others: &[u32], room: &mut Clusters) -> Option<Written> {
    let survey: &Survey = job.survey;
    let cluster = survey.mft.geometry.cluster();
    let all = wanted(job, file, others)?;
    let entries: Vec<list::Entry<'_>> = all.iter().map(Listed::entry).collect();
    let bytes = list::bytes(&entries);
    let mut record = job.record(file)?;
    let pieces = survey.records.stream_of(survey.records.live(file)?, kind::LIST, "");
    let runs = survey.records.all_runs(pieces);
    let outer = pieces.first().filter(|piece| !piece.resident && piece.bad.is_none() && piece.holder == file);
    if let Some(piece) = outer.filter(|_| Mapping::of(&runs, cluster).len() >= bytes.len().wide()) {
        let at = usize::from(piece.at);
        for size in [at.plus(48), at.plus(56)] {
            put(&mut record, size, &bytes.len().wide().to_le_bytes());
        }
        return Some(Written { record, runs, bytes });
    }
    let set =
        |record: &mut Vec<u8>, attribute: &[u8]| replace(record, attribute) || insert(record, attribute);
    if set(&mut record, &resident(kind::LIST, "", &bytes)) {
        return Some(Written { record, runs: Vec::new(), bytes: Vec::new() });
    }
    let runs = room.rows(survey, job.window, survey.mft.geometry.clusters_for(bytes.len().wide()))?;
    let attribute = outside(kind::LIST, "", Outside::plain(&runs, bytes.len().wide(), cluster));
    set(&mut record, &attribute).then_some(Written { record, runs, bytes })
}
