//! A name for the second of two files that have one in a folder.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    files::naming::{Names, numbered},
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        build::{resident, units},
        catalogue as c,
        doubled::{self, Doubled},
        edit::{insert, remove_at},
        layout::{NAME_BOTH, NAME_HEAD, NAME_LONG, NAME_SHORT, kind, number, put},
        record::attributes,
        records::Name,
        survey::Survey,
    },
};

/// Characters that a name has at most.
const LONGEST: usize = 255;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let all = doubled::names(&survey.records);
    if all.is_empty() {
        return Ok(());
    }
    let folder = |name: &Name| u32::try_from(number(name.parent)).unwrap_or(u32::MAX);
    let name = |index: u32| survey.records.names.get(index.size());
    let mut taken = Names::of(all.iter().filter_map(|doubled| name(doubled.name)).map(folder));
    for name in &survey.records.names {
        if taken.keeps(folder(name)) {
            taken.take(folder(name), name.text.to_uppercase());
        }
    }
    let paths = doubled::paths(survey, &all);
    // Further changes of a record wait for the next round: what stands behind this one has moved.
    let mut changed = std::collections::HashSet::new();
    for Doubled { name: index, .. } in all {
        let Some(of) = name(index).filter(|of| changed.insert(of.holder)) else { continue };
        let path = paths.get(&of.file).map_or(&*of.text, String::as_str);
        if of.space == NAME_SHORT {
            short(job, of, path)?;
            continue;
        }
        let old: Vec<u16> = of.text.encode_utf16().collect();
        let called = taken.another(folder(of), &of.text.to_uppercase(), |number| {
            let text = String::from_utf16_lossy(&numbered(&old, number, LONGEST));
            (text.clone(), text.to_uppercase())
        });
        let Some(called) = called else { continue };
        renamed(job, of, path, &called)?;
    }
    Ok(())
}

fn renamed(job: &mut Job<'_, '_, '_, '_>, of: &Name, path: &str, called: &str) -> Result<(), MediumError> {
    let step = Step::new(
        "renamed",
        format!("{path}: call it {called}"),
        Provenance::Judged,
        "another file of the folder is called so, and hosts find one of two",
        &[&c::NAME_TWICE, &c::ENTRY_MISSING],
    )
    .file(path);
    let value_at = usize::from(of.at);
    job.edit(of.holder, step, |record| {
        let (list, _) = attributes(record);
        let Some(old) = list.iter().find(|a| a.kind() == kind::NAME && a.value_at() == value_at) else {
            return false;
        };
        let (at, mut key) = (old.at, old.value().part(0, NAME_HEAD).to_vec());
        let text = units(called);
        put(&mut key, 64, &[u8::try_from(text.len().per(2)).unwrap_or(u8::MAX)]);
        if key.byte(65) == NAME_BOTH {
            put(&mut key, 65, &[NAME_LONG]);
        }
        key.extend(text);
        let mut new = record.clone();
        let done = remove_at(&mut new, at) && insert(&mut new, &resident(kind::NAME, "", &key));
        if done {
            *record = new;
        }
        done
    })
}

/// The short name beside a long one is given up: no file is lost by it.
fn short(job: &mut Job<'_, '_, '_, '_>, of: &Name, path: &str) -> Result<(), MediumError> {
    let step = Step::new(
        "short-name-dropped",
        format!("{path}: drop its short name {}", of.text),
        Provenance::Judged,
        "another file of the folder is called so; its long name stays",
        &[&c::NAME_TWICE, &c::SHORT_MISSING],
    )
    .file(path);
    let value_at = usize::from(of.at);
    job.edit(of.holder, step, |record| {
        let (list, _) = attributes(record);
        let names: Vec<(usize, usize)> =
            list.iter().filter(|a| a.kind() == kind::NAME).map(|a| (a.at, a.value_at())).collect();
        let own = names.iter().find(|(_, value)| *value == value_at).map(|(at, _)| *at);
        names.len() > 1 && own.is_some_and(|at| remove_at(record, at))
    })
}
