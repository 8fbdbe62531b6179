//! What is counted from everything else: FSInfo, entries 0 and 1, the state flags. Last, because
//! the flags say that nothing is wrong.

use super::Job;
use crate::{
    arith::Sat,
    fat::{
        catalogue as c,
        fsinfo::{self, Count},
        layout::FsInfo,
        table::{state_bits, write_entry},
    },
    medium::{Medium, MediumError},
    mending::step::{Provenance, Step},
};
use zerocopy::IntoBytes;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    free_counts(job)?;
    first_entries(job)?;
    flags(job)
}

fn free_counts(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let Some(place) = fsinfo::place(job.boot, &job.believed.geometry) else { return Ok(()) };
    let wrong = fsinfo::judge(job.window, place, job.survey);
    if wrong.is_empty() {
        return Ok(());
    }
    let medium: &dyn Medium = job.window;
    let standing = FsInfo::read(&medium.lenient(place, 512).bytes);
    let mut info = FsInfo::with_counts(job.survey.free, job.survey.first_free.unwrap_or(u32::MAX));
    let mut mends = vec![];
    if let Some(kept) = standing.filter(FsInfo::signed) {
        info = kept;
    }
    for count in wrong {
        match count {
            Count::Signature { .. } => mends.push(&c::FSINFO_SIGNATURE),
            Count::Free { should, .. } => {
                info.free_count = should.into();
                mends.push(&c::FSINFO_FREE);
            }
            Count::Next { should, .. } => {
                info.next_free = should.into();
                mends.push(&c::FSINFO_NEXT);
            }
        }
    }
    mends.dedup();
    let step = Step::new(
        "fsinfo-counted",
        format!("write the FSInfo sector: {} free clusters", job.survey.free),
        Provenance::Derived,
        "counted in the table",
        &mends,
    );
    job.steps.run(job.window, step, |window| window.write_at(place, info.as_bytes()))
}

fn first_entries(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let (media, end) = fsinfo::first_entries(&geometry, job.boot.believed.media);
    let flags = state_bits(geometry.kind).map_or(0, |(closed, fine)| closed | fine);
    let mut wrong = Vec::new();
    for copy in 0..geometry.tables {
        let zero = job.survey.links.raw(job.window, copy, 0);
        let one = job.survey.links.raw(job.window, copy, 1);
        if zero.is_some_and(|value| value != media) {
            wrong.push((copy, 0, media));
        }
        if one.is_some_and(|value| value | flags != end) {
            wrong.push((copy, 1, end));
        }
    }
    let step = Step::new(
        "table-first-entries",
        "set entries 0 and 1 of the table",
        Provenance::Derived,
        "the media byte of the boot sector; the end mark",
        &[&c::MEDIA_ENTRY, &c::END_ENTRY],
    );
    job.steps.run(job.window, step, |window| {
        wrong
            .iter()
            .try_for_each(|(copy, cluster, value)| write_entry(window, &geometry, *copy, *cluster, *value))
    })
}

fn flags(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    if !job.steps.is_empty() {
        return Ok(());
    }
    let geometry = job.believed.geometry;
    let dirty = job.boot.fields.iter().find(|field| field.field == "BS_Reserved1" && field.wrong()).cloned();
    let end = fsinfo::first_entries(&geometry, 0).1;
    let mut open = Vec::new();
    for copy in 0..geometry.tables {
        if state_bits(geometry.kind).is_some()
            && job.survey.links.raw(job.window, copy, 1).is_some_and(|value| value != end)
        {
            open.push(copy);
        }
    }
    let step = Step::new(
        "state-closed",
        "mark the volume as properly closed",
        Provenance::Derived,
        "nothing else is wrong any more",
        &[&c::NOT_CLOSED, &c::ERRORS_MET],
    );
    job.steps.run(job.window, step, |window| {
        if let Some(field) = dirty {
            window.write_at(field.at.wide(), &field.believed)?;
        }
        open.iter().try_for_each(|copy| write_entry(window, &geometry, *copy, 1, end))
    })
}
