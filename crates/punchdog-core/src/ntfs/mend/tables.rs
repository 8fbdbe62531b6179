//! $UpCase, $AttrDef, $BadClus, $Secure, the length of $Bitmap.

use super::{
    Job, displaced, rebuild,
    writing::{put_record, write_stream},
};
use crate::{
    arith::Sat,
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        attrdef, catalogue as c,
        fresh::{SDS_STEP, usual_entry},
        layout::{kind, own, put},
        names::TABLE,
        record::attributes,
        records::{File, Notes},
        runs::Mapping,
        secure,
        survey::Survey,
        system, views,
        volume::UpCase,
    },
    report::wording::counted,
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
    let Some((_, _, map)) = displaced::content(job.survey, own::UPCASE, "") else { return Ok(()) };
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
    let Some((_, first, map)) = displaced::content(job.survey, own::ATTRDEF, "") else { return Ok(()) };
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
    let system::Bad::Length(..) = system::badclus(job.survey) else { return Ok(()) };
    let mut given = rebuild::Given::new(job.survey, job.window);
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
    if displaced::content(job.survey, own::SECURE, "$SDS").is_none() {
        return Ok(());
    }
    let all = secure::descriptors(&bytes);
    let broken: Vec<_> = all.iter().filter(|one| one.whole != [true, true]).collect();
    if broken.is_empty() {
        return lost_descriptors(job, &bytes, &map, &all);
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

/// Those that are damaged in both copies: put together from the two, or what is usual in their place.
fn lost_descriptors(
    job: &mut Job<'_, '_, '_, '_>,
    bytes: &[u8],
    map: &Mapping,
    whole: &[secure::Descriptor],
) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    for lost in secure::lost(bytes, whole, &views::rows(job.window, survey)) {
        let id = lost.id;
        let (step, entry) = if let Some(told) = lost.told {
            let step = Step::new(
                "descriptor-put-together",
                format!("put the security descriptor {id:#x} together from its two copies"),
                Provenance::Derived,
                "each damaged place of one copy is whole in the other: the hash fits",
                &[&c::SECURE],
            );
            (step, told)
        } else {
            let Some(usual) = usual_entry(id, lost.at, lost.length) else { continue };
            let live = |file: &&File| !file.notes.contains(Notes::DELETED) && file.security == id;
            let many = survey.records.files.iter().filter(live).count().wide();
            let step = Step::new(
                "descriptor-usual",
                format!("write a usual security descriptor in the place of {id:#x}"),
                Provenance::Judged,
                "the entry of the index, or its head, says where it stands; what it said is lost",
                &[&c::SECURE, &c::SECURITY_ID],
            )
            .or(format!(
                "administrators alone may then read {}, until that is set again",
                counted(many, "file that names it", "files that name it")
            ));
            (step, usual)
        };
        job.steps.run(job.window, step, |window| {
            [lost.at, lost.at.plus(SDS_STEP)]
                .into_iter()
                .try_for_each(|at| write_stream(window, map, at.wide(), &entry))
        })?;
    }
    Ok(())
}
