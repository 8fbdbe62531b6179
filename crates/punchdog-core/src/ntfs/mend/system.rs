//! Records 0 to 11, and $MFTMirr.

use super::{
    Job, displaced,
    rebuild::{self, Given, Made},
    writing::{put_record, put_within, write_record},
};
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError},
    mending::step::{Provenance, Step},
    ntfs::{
        catalogue as c,
        layout::{RECORD_IN_USE, own, put},
        mirror::{self, Copy},
        record::Head,
        system::{self, is_record},
    },
    report::finding::Entry,
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let faults = system::faults(job.survey);
    let cluster = job.survey.mft.geometry.cluster();
    let mut lost = Vec::new();
    for fault in faults {
        let number = fault.number;
        let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
        let expected = u16::try_from(number).unwrap_or(0).max(1);
        // One field of the head may be all that is wrong.
        if let Some(mut record) = job.record(number).filter(|record| record.part(0, 4) == b"FILE") {
            put(&mut record, 16, &expected.to_le_bytes());
            let flags = Head::read(&record).flags | RECORD_IN_USE;
            let folder = matches!(number, own::ROOT | own::EXTEND);
            let flags = if folder { flags | 2 } else { flags & !2 };
            put(&mut record, 22, &flags.to_le_bytes());
            if job.record(number).as_ref() != Some(&record) && is_record(&record, number, cluster) {
                let step = Step::new(
                    "system-record-head",
                    format!("set sequence number and flags of record {number} ({name})"),
                    Provenance::Derived,
                    "they are always the same; the rest of the record is whole",
                    &[&c::SYSTEM_RECORD, &c::SEQUENCE],
                );
                let survey = job.survey;
                job.steps
                    .run(job.window, step, |window| write_record(window, &survey.mft, number, &record))?;
                continue;
            }
        }
        // A copy of record 0 whose list leads to nothing is no better than that.
        let leads = number != own::MFT || job.survey.mft.refound == 0;
        let copied =
            leads && number < mirror::ALWAYS && mirror::copy_of(job.window, job.survey, number).is_some();
        if copied {
            written(job, number, &[&c::SYSTEM_RECORD, &c::SEQUENCE, &c::VOLUME_INFO, &c::LOG_GONE])?;
            continue;
        }
        lost.push(number);
    }
    // What those have that came back is nobody's until it is read again: nothing may be laid or looked for in it.
    if lost.is_empty() || !job.steps.is_empty() {
        return Ok(());
    }
    // $SDS has blank clusters within, and the bitmap is known by all that the others have.
    lost.sort_by_key(|number| match *number {
        own::SECURE => 0,
        own::BITMAP => 2,
        _ => 1,
    });
    let mut given = Given::new(job.survey, job.window);
    for finding in [true, false] {
        given.finding = finding;
        let mut left = Vec::new();
        for number in lost {
            match rebuild::record(job.window, job.survey, number, &mut given) {
                Some(one) => made(job, number, one)?,
                None => left.push(number),
            }
        }
        lost = left;
    }
    Ok(())
}

/// A record from its copy in the mirror, which is whole.
pub(super) fn written(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    mends: &[&'static Entry],
) -> Result<(), MediumError> {
    let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
    let place = mirror::place(job.survey, number);
    let medium: &dyn Medium = job.window;
    let bytes = medium.lenient(place, job.survey.mft.geometry.record()).bytes;
    let step = Step::new(
        "record-from-mirror",
        format!("copy record {number} ({name}) from $MFTMirr, byte {place} of the volume"),
        Provenance::Exact,
        "$MFTMirr: the copy is whole",
        mends,
    );
    let survey = job.survey;
    job.steps.run(job.window, step, |window| put_record(window, &survey.mft, number, &bytes))
}

/// A record made anew from what else tells of the file.
pub(super) fn made(job: &mut Job<'_, '_, '_, '_>, number: u32, made: Made) -> Result<(), MediumError> {
    let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
    let Made { record, content, from, judged, lost } = made;
    let provenance = if judged { Provenance::Judged } else { Provenance::Derived };
    let mut step = Step::new(
        "record-made-anew",
        format!("write record {number} ({name}) anew"),
        provenance,
        from,
        &[
            &c::SYSTEM_RECORD,
            &c::SEQUENCE,
            &c::VOLUME_INFO,
            &c::LOG_GONE,
            &c::BITMAP_GONE,
            &c::MFT_BITMAP,
            &c::CROSSED,
        ],
    );
    if let Some(lost) = lost {
        step = step.or(lost);
    }
    let survey = job.survey;
    job.steps.run(job.window, step, |window| {
        for (place, bytes) in &content {
            window.write_at(*place, bytes)?;
        }
        put_record(window, &survey.mft, number, &record)
    })
}

/// Copies that are not what they should be.
pub(super) fn mirror(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    // Where the boot sector alone leads may be anybody's.
    let place = job.survey.mft.geometry.mirror;
    let own = displaced::content(job.survey, own::MIRROR, "").is_some_and(|(_, piece, _)| {
        job.survey.records.runs_of(piece).first().and_then(|run| run.first) == Some(place)
    });
    if !own {
        return Ok(());
    }
    let copies = mirror::copies(job.window, job.survey);
    let cluster = job.survey.mft.geometry.cluster();
    let mut bytes = Vec::new();
    for copy in copies {
        let (number, place) = match copy {
            Copy::Differs { number, place, .. } | Copy::Damaged { number, place } => (number, place),
        };
        let whole = job.record(number).is_some_and(|record| is_record(&record, number, cluster));
        if whole {
            bytes.push((place, job.survey.mft.raw(job.window, number)));
        }
    }
    if bytes.is_empty() {
        return Ok(());
    }
    let step = Step::new(
        "mirror-from-records",
        "copy the first records into $MFTMirr",
        Provenance::Exact,
        "the records themselves",
        &[&c::MIRROR_DIFFERS, &c::MIRROR_RECORD],
    );
    job.steps.run(job.window, step, |window| {
        bytes.iter().try_for_each(|(place, bytes)| put_within(window, *place, bytes))
    })
}
