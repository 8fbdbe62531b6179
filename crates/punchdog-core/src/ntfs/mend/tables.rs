//! $UpCase, $AttrDef, $BadClus, $Secure, the length of $Bitmap.

use super::{
    Job, rebuild,
    writing::{put_record, write_stream},
};
use crate::{
    arith::Sat,
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        attrdef, catalogue as c,
        fresh::SDS_STEP,
        layout::{kind, own, put},
        names::TABLE,
        record::attributes,
        secure, system,
        volume::UpCase,
    },
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    upcase(job)?;
    definitions(job)?;
    badclus(job)?;
    bitmap_size(job)?;
    descriptors(job)
}

/// Sets the size of the plain content of a record, where its clusters have room for it.
fn resize(job: &mut Job<'_, '_, '_, '_>, number: u32, size: u64, step: Step) -> Result<(), MediumError> {
    job.edit(number, step, |record| {
        let (list, _) = attributes(record);
        let found = list.iter().find(|a| a.kind() == kind::DATA && a.name().is_empty() && !a.resident());
        let Some(found) = found.filter(|found| found.allocated() >= size && found.size() != size) else {
            return false;
        };
        let at = found.at;
        put(record, at.plus(48), &size.to_le_bytes());
        put(record, at.plus(56), &size.to_le_bytes());
        true
    })
}

fn upcase(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    if job.survey.upcase == UpCase::Whole {
        return Ok(());
    }
    let step = Step::new(
        "up-case-size",
        "set the length of $UpCase to 131072 bytes",
        Provenance::Derived,
        "it has two bytes for each of 65536 characters",
        &[&c::UPCASE],
    );
    resize(job, own::UPCASE, TABLE.wide(), step)?;
    let Some((_, _, map)) = system::content(job.survey, own::UPCASE, "") else { return Ok(()) };
    if job.survey.upcase == UpCase::Gone || map.len() < TABLE.wide() {
        return Ok(());
    }
    // Letters that are right stay as they are.
    let bytes = job.survey.capitals.bytes();
    let step = Step::new(
        "up-case-table",
        "give letters in $UpCase their usual capitals",
        Provenance::Derived,
        "the table that the exFAT specification publishes, which NTFS volumes have too",
        &[&c::UPCASE],
    )
    .or("the table of the version of Windows that made the volume may differ in rare letters");
    job.steps.run(job.window, step, |window| write_stream(window, &map, 0, &bytes))
}

fn definitions(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    if !matches!(system::attrdef(job.window, job.survey), system::Table::Damaged(_)) {
        return Ok(());
    }
    let Some((_, first, map)) = system::content(job.survey, own::ATTRDEF, "") else { return Ok(()) };
    let table = &*attrdef::TABLE;
    if !(table.len().wide()..=16_000).contains(&first.size) {
        let step = Step::new(
            "attribute-definitions-size",
            format!("set the length of $AttrDef to {} bytes", table.len()),
            Provenance::Derived,
            "the table has sixteen rows of 160 bytes",
            &[&c::ATTRDEF],
        );
        resize(job, own::ATTRDEF, table.len().wide(), step)?;
    }
    let mut bytes = table.clone();
    bytes.resize(first.size.clamp(table.len().wide(), 16_000).min(map.len()).size(), 0);
    let step = Step::new(
        "attribute-definitions",
        "write the usual table of attributes into $AttrDef",
        Provenance::Derived,
        "the table that volumes of version 3 have",
        &[&c::ATTRDEF],
    );
    job.steps.run(job.window, step, |window| write_stream(window, &map, 0, &bytes))
}

fn badclus(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let system::Bad::Length(_) = system::badclus(job.survey) else { return Ok(()) };
    let mut given = rebuild::Given::new(job.survey);
    let Some(made) = rebuild::record(job.window, job.survey, own::BADCLUS, &mut given) else { return Ok(()) };
    let mut step = Step::new(
        "record-made-anew",
        "write record 8 ($BadClus) anew",
        Provenance::Derived,
        made.from,
        &[&c::BADCLUS, &c::SYSTEM_RECORD],
    );
    if let Some(lost) = made.lost {
        step = step.or(lost);
    }
    let survey = job.survey;
    job.steps.run(job.window, step, |window| put_record(window, &survey.mft, own::BADCLUS, &made.record))
}

fn bitmap_size(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let Some((_, first, _)) = system::content(job.survey, own::BITMAP, "") else { return Ok(()) };
    let wanted = job.survey.mft.geometry.clusters().per_up(64).times(8);
    if first.size >= wanted {
        return Ok(());
    }
    let step = Step::new(
        "bitmap-size",
        format!("set the length of $Bitmap to {wanted} bytes"),
        Provenance::Derived,
        "a bit for each cluster",
        &[&c::BITMAP_SIZE],
    );
    resize(job, own::BITMAP, wanted, step)
}

/// Each descriptor stands twice: the copy whose hash fits is written over the other.
fn descriptors(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let Some((bytes, map)) = secure::stream(job.window, job.survey) else { return Ok(()) };
    let all = secure::descriptors(&bytes);
    let broken: Vec<_> = all.iter().filter(|one| one.whole != [true, true]).collect();
    if broken.is_empty() {
        return Ok(());
    }
    let doubted = broken.iter().any(|one| one.doubted);
    let step = Step::new(
        "descriptor-copies",
        "copy damaged security descriptors from where they stand a second time",
        if doubted { Provenance::Judged } else { Provenance::Exact },
        if doubted {
            "the copy in $Secure whose hash fits; of two ids, the one that follows the one before sooner"
        } else {
            "the copy in $Secure whose hash fits"
        },
        &[&c::SECURE],
    );
    job.steps.run(job.window, step, |window| {
        broken.iter().try_for_each(|one| {
            let entry = one.entry(&bytes);
            let copies = [one.at, one.at.plus(SDS_STEP)].into_iter().zip(one.whole);
            copies
                .filter(|(_, whole)| !whole)
                .try_for_each(|(to, _)| write_stream(window, &map, to.wide(), &entry))
        })
    })
}
