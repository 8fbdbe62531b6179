//! Files whose records are lost, though a folder still names them, and their content is found.
//!
//! An entry of an index is a copy of the name, with the size and the time of the last change. What was allocated follows from
//! the size, and its content stands in clusters that no record has ([`super::by_content`], [`super::in_pieces`]). So all of the
//! record can be written again but for what it alone had: who may read it, streams beside the content, other times.

use super::{
    Job,
    by_content::{FROM, Wanted, asked, rows, worded},
    orphans::stray_paths,
    writing::put_record,
};
use crate::{
    arith::Sat,
    cluster::set::ClusterSet,
    medium::{Medium, MediumError},
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

/// Files whose records are lost, and that are nothing but content, with the entries that name each.
fn plain(survey: &Survey) -> Vec<(u64, Vec<&Stray>)> {
    let mut lost: BTreeMap<u64, Vec<&Stray>> = BTreeMap::new();
    for stray in survey.strays.iter().filter(|stray| stray.why == Why::Lost) {
        let there = number(stray.reference) < survey.mft.records().into();
        if there && number(stray.reference) >= own::FIRST_USER.into() {
            lost.entry(stray.reference).or_default().push(stray);
        }
    }
    if lost.is_empty() {
        return Vec::new();
    }
    let parents: HashSet<u64> = survey.records.names.iter().map(|name| name.parent).collect();
    let mut uses: HashMap<u64, usize> = HashMap::new();
    for of in lost.keys() {
        let count = uses.entry(number(*of)).or_default();
        *count = count.plus(1);
    }
    let plain = |(of, strays): &(u64, Vec<&Stray>)| {
        let size = strays.first().map_or(0, |stray| stray.size);
        size > 0
            && strays.iter().all(|stray| stray.attributes & NOT_PLAIN == 0 && stray.size == size)
            // Two uses of one record, or a folder: what is in it says so.
            && uses.get(&number(*of)) == Some(&1)
            && !parents.contains(of)
    };
    lost.into_iter().filter(plain).take(MOST).collect()
}

/// The clusters that hold the content of such files, by the reference that names them. `claimed` as in [`rows`].
pub(super) fn found(survey: &Survey, medium: &dyn Medium, claimed: &ClusterSet) -> HashMap<u64, Vec<Run>> {
    let lost = plain(survey);
    let wanted = lost.iter().map(|(_, strays)| {
        let size = strays.first().map_or(0, |stray| stray.size);
        let names = strays.iter().filter(|stray| stray.space != NAME_SHORT);
        let names = names.map(|stray| &*stray.text).collect();
        Wanted { names, clusters: survey.mft.geometry.clusters_for(size), size }
    });
    let wanted: Vec<Wanted<'_>> = wanted.collect();
    let rows = rows(survey, medium, claimed, &wanted);
    lost.iter().zip(rows).filter_map(|((of, _), runs)| Some((*of, runs?))).collect()
}

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let found = &survey.lost_content(job.window).lost;
    if found.is_empty() {
        return Ok(());
    }
    let mut lost = plain(survey);
    lost.retain(|(of, _)| found.contains_key(of));
    let paths = stray_paths(survey);
    let named = |of: &u64, strays: &[&Stray]| {
        let path = paths.get(of).cloned().or_else(|| Some(strays.first()?.text.to_string()));
        path.unwrap_or_default()
    };
    if !asked(job, lost.iter().map(|(of, strays)| named(of, strays)).collect()) {
        return Ok(());
    }
    for (of, strays) in &lost {
        let Some(runs) = found.get(of) else { continue };
        let Some(record) = record(survey, *of, strays, runs) else { continue };
        let path = named(of, strays);
        let does = format!("write the record of {path} anew, with clusters {}", worded(runs));
        let step = Step::new("file-made-anew", does, Provenance::Judged, FROM, &[&c::RECORD_LOST])
            .file(path)
            .or("with --choose content-found=leave it counts as lost; unearth finds the content without a name");
        let at = u32::try_from(number(*of)).unwrap_or(u32::MAX);
        job.steps.run(job.window, step, |window| put_record(window, &survey.mft, at, &record))?;
    }
    Ok(())
}

/// The record of such a file; `None` where it has more names than go into one.
fn record(survey: &Survey, of: u64, strays: &[&Stray], runs: &[Run]) -> Option<Vec<u8>> {
    let geometry = survey.mft.geometry;
    let first = strays.first()?;
    let times = Times::all(first.modified);
    let security = survey.records.live(first.folder)?.security;
    let number = u32::try_from(number(of)).ok()?;
    let standard = standard(times, first.attributes, security);
    let mut record = Record::new(number, sequence(of), 0).with(resident(kind::STANDARD, "", &standard));
    let held = runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
    let sizes = (geometry.place(held), first.size);
    for stray in strays {
        let folder = survey.records.live(stray.folder)?;
        let parent = reference(folder.number, folder.sequence);
        let (attributes, space) = (stray.attributes, stray.space);
        let key = FileName { parent, times, sizes, attributes, space, name: &stray.text };
        record = record.with(resident(kind::NAME, "", &key.bytes()));
    }
    let content = Outside::plain(runs, first.size, geometry.cluster());
    record.with(outside(kind::DATA, "", content)).bytes(geometry.record())
}
