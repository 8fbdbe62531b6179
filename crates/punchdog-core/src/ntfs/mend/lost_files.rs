//! Files whose records are lost, though a folder still names them, and their content is found.
//!
//! An entry of an index is a copy of the name, with the size and the time of the last change. What was allocated follows from
//! the size, and a file that lay in one row stands in clusters that no record has ([`super::by_content`]). So all of the
//! record can be written again but for what it alone had: who may read it, streams beside the content, other times.

use super::{
    Job,
    by_content::{FROM, Wanted, asked, rows},
    orphans::stray_paths,
    writing::put_record,
};
use crate::{
    arith::Sat,
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        build::{FileName, Outside, Record, Times, outside, resident, standard},
        catalogue as c,
        layout::{
            DUP_FOLDER, FILE_COMPRESSED, FILE_SPARSE, NAME_SHORT, kind, number, own, reference, sequence,
        },
        runs::Run,
        survey::Survey,
        tree::{Stray, Why},
    },
};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Files that are looked for in one round.
const MOST: usize = 1 << 12;
/// What is packed behind a reparse point, or encrypted ([MS-FSCC] 2.6).
const NOT_PLAIN: u32 = 0x400 | 0x4000 | DUP_FOLDER | FILE_COMPRESSED | FILE_SPARSE;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let mut lost: BTreeMap<u64, Vec<&Stray>> = BTreeMap::new();
    for stray in survey.strays.iter().filter(|stray| stray.why == Why::Lost) {
        let there = number(stray.reference) < survey.mft.records().into();
        if there && number(stray.reference) >= own::FIRST_USER.into() {
            lost.entry(stray.reference).or_default().push(stray);
        }
    }
    if lost.is_empty() {
        return Ok(());
    }
    let parents: HashSet<u64> = survey.records.names.iter().map(|name| name.parent).collect();
    let mut uses: HashMap<u64, usize> = HashMap::new();
    for of in lost.keys() {
        let count = uses.entry(number(*of)).or_default();
        *count = count.plus(1);
    }
    let geometry = survey.mft.geometry;
    let plain = |(of, strays): &(u64, Vec<&Stray>)| {
        let size = strays.first().map_or(0, |stray| stray.size);
        size > 0
            && strays.iter().all(|stray| stray.attributes & NOT_PLAIN == 0 && stray.size == size)
            // Two uses of one record, or a folder: what is in it says so.
            && uses.get(&number(*of)) == Some(&1)
            && !parents.contains(of)
    };
    let lost: Vec<(u64, Vec<&Stray>)> = lost.into_iter().filter(plain).take(MOST).collect();
    let wanted: Vec<Wanted<'_>> = lost
        .iter()
        .map(|(_, strays)| {
            let size = strays.first().map_or(0, |stray| stray.size);
            let names = strays.iter().filter(|stray| stray.space != NAME_SHORT);
            let names = names.map(|stray| &*stray.text).collect();
            Wanted { names, clusters: geometry.clusters_for(size), size }
        })
        .collect();
    let found = rows(survey, job.window, &wanted);
    if found.iter().all(Option::is_none) {
        return Ok(());
    }
    let paths = stray_paths(survey);
    let named = |of: &u64, strays: &[&Stray]| {
        let path = paths.get(of).cloned().or_else(|| Some(strays.first()?.text.to_string()));
        path.unwrap_or_default()
    };
    let found_for = lost.iter().zip(&found).filter(|(_, run)| run.is_some());
    if !asked(job, found_for.map(|((of, strays), _)| named(of, strays)).collect()) {
        return Ok(());
    }
    for ((of, strays), run) in lost.iter().zip(found) {
        let Some((run, record)) = run.and_then(|run| Some((run, record(survey, *of, strays, run)?))) else {
            continue;
        };
        let path = named(of, strays);
        let does = format!(
            "write the record of {path} anew, with clusters {} to {}",
            run.first.unwrap_or(0),
            run.end().minus(1)
        );
        let step = Step::new("file-made-anew", does, Provenance::Judged, FROM, &[&c::RECORD_LOST])
            .file(path)
            .or("with --choose content-found=leave it counts as lost; unearth finds the content without a name");
        let at = u32::try_from(number(*of)).unwrap_or(u32::MAX);
        job.steps.run(job.window, step, |window| put_record(window, &survey.mft, at, &record))?;
    }
    Ok(())
}

/// The record of such a file; `None` where it has more names than go into one.
fn record(survey: &Survey, of: u64, strays: &[&Stray], run: Run) -> Option<Vec<u8>> {
    let geometry = survey.mft.geometry;
    let first = strays.first()?;
    let times = Times::all(first.modified);
    let security = survey.records.live(first.folder)?.security;
    let number = u32::try_from(number(of)).ok()?;
    let standard = standard(times, first.attributes, security);
    let mut record = Record::new(number, sequence(of), 0).with(resident(kind::STANDARD, "", &standard));
    let sizes = (geometry.place(run.length), first.size);
    for stray in strays {
        let folder = survey.records.live(stray.folder)?;
        let parent = reference(folder.number, folder.sequence);
        let (attributes, space) = (stray.attributes, stray.space);
        let key = FileName { parent, times, sizes, attributes, space, name: &stray.text };
        record = record.with(resident(kind::NAME, "", &key.bytes()));
    }
    let runs = [run];
    let content = Outside::plain(&runs, first.size, geometry.cluster());
    record.with(outside(kind::DATA, "", content)).bytes(geometry.record())
}
