//! The boot sector and its backup.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    fat::{catalogue as c, check_differences, geometry::Geometry},
    medium::MediumError,
    mending::{
        field,
        step::{Provenance, Step},
    },
    report::wording::counted,
};
use zerocopy::IntoBytes;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    shrink(job)?;
    if !job.steps.is_empty() {
        // The fields were judged for the longer volume: what follows is judged anew.
        return Ok(());
    }
    sector(job)?;
    backup(job)
}

fn sector(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let believed = job.boot.believed;
    if job.boot.gone {
        let (step, bytes) = match job.believed.backup.filter(|_| job.boot.from_backup) {
            Some((place, copy)) => (
                Step::new(
                    "boot-from-backup",
                    format!("copy the backup boot sector at byte {place} of the volume to sector 0"),
                    Provenance::Exact,
                    format!("the backup boot sector at byte {place} of the volume, which agrees with the tables and the root folder"),
                    &[&c::BOOT_GONE],
                ),
                copy.as_bytes().to_vec(),
            ),
            None => (
                rivals(job, Step::new(
                    "boot-derived",
                    "write a boot sector computed from the volume",
                    if job.believed.confirmed() && job.choices.given("geometry").is_none() { Provenance::Derived } else { Provenance::Judged },
                    reasons(job),
                    &[&c::BOOT_GONE],
                ))
                .or("boot code, maker's name, track geometry and serial number are lost; usual values stand there instead"),
                believed.as_bytes().to_vec(),
            ),
        };
        return job.steps.run(job.window, step, |window| window.write_at(0, &bytes));
    }
    let fields = job.boot.fields.iter().filter(|field| field.field != "BS_Reserved1");
    field::set(job.window, job.steps, fields, "the backup boot sector")
}

/// Names the geometries that were not believed.
fn rivals(job: &Job<'_, '_, '_, '_>, step: Step) -> Step {
    job.believed.rivals.iter().enumerate().fold(step, |step, (number, rival)| {
        let (ours, theirs) = (job.believed.score.points, rival.score.points);
        let number = number.plus(2);
        step.or(format!(
            "geometry={number}: {}, for which {theirs} points speak where {ours} speak for the one that is taken",
            rival.geometry.in_words()
        ))
    })
}

/// What a derived boot sector rests on, in a sentence.
fn reasons(job: &Job<'_, '_, '_, '_>) -> String {
    let for_it = job.believed.score.reasons.iter().filter(|reason| reason.points > 0);
    let texts: Vec<&str> = for_it.map(|reason| reason.text.as_str()).collect();
    texts.join("; ")
}

fn backup(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let sector = job.boot.believed;
    let place = u64::from(sector.tail32().backup_sector.get()).times(geometry.sector_bytes.wide());
    if !geometry.wide() || place == 0 {
        return Ok(());
    }
    let standing = job.believed.backup.filter(|(at, _)| *at == place);
    let (entry, differs) = match &standing {
        Some((_, copy)) => {
            (&c::BACKUP_DIFFERS, !check_differences(sector.as_bytes(), copy.as_bytes()).is_empty())
        }
        None => (&c::BACKUP_MISSING, true),
    };
    if differs {
        let step = Step::new(
            "backup-from-boot",
            format!("write the backup boot sector at byte {place} of the volume as a copy of sector 0"),
            Provenance::Exact,
            "the boot sector, as it stands after the steps before",
            &[entry],
        );
        let mut bytes = sector.as_bytes().to_vec();
        if let Some(flags) = bytes.get_mut(65) {
            *flags = 0;
        }
        job.steps.run(job.window, step, |window| window.write_at(place, &bytes))?;
    }
    Ok(())
}

/// A volume that is longer than its image is made as long as the image, if that is wanted.
fn shrink(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    use crate::medium::Medium;
    let geometry = job.believed.geometry;
    let there = job.window.len();
    if geometry.bytes() <= there || job.boot.gone {
        return Ok(());
    }
    let smaller = Geometry { total_sectors: there.per(geometry.sector_bytes.wide()).narrow(), ..geometry };
    if !smaller.possible() || smaller.kind != geometry.kind {
        return Ok(());
    }
    let cut =
        job.survey.tree.below_root().filter(|(_, node)| node.flaws.has(crate::fat::folder::Flaws::BEYOND));
    let paths: Vec<String> = cut.take(2000).map(|(number, _)| job.survey.tree.path(number)).collect();
    let many = counted(paths.len().wide(), "file or folder reaches", "files and folders reach");
    let keep =
        "no length changes and nothing is freed; what lies in the missing part gives errors when it is read";
    let shrink = format!("the volume ends where the image ends: {many} behind that, and will be cut or lost");
    let taken = job.choices.ask(
        "cut-image",
        "The image ends before the volume does: image the medium again, if it can still be read. What shall be done with this image?",
        &[("keep", keep.to_owned()), ("shrink", shrink)],
        paths,
    );
    if taken != "shrink" {
        return Ok(());
    }
    let wide_total = geometry.wide() || job.boot.believed.total_sectors_16.get() == 0;
    let step = Step::new(
        "shrink-to-image",
        format!("set the number of sectors from {} to {}", geometry.total_sectors, smaller.total_sectors),
        Provenance::Judged,
        "the length of the image",
        &[&c::BEYOND_IMAGE],
    )
    .or("make a full image of the medium, and mend that");
    let bytes = smaller.total_sectors.to_le_bytes();
    // The backup goes along: left as it was, it would speak for the old length again.
    let backup = job.believed.backup.map(|(place, _)| place).filter(|_| geometry.wide());
    job.steps.run(job.window, step, |window| {
        for sector in std::iter::once(0).chain(backup) {
            if wide_total {
                window.write_at(sector.plus(32), &bytes)?;
            } else {
                window.write_at(sector.plus(19), bytes.part(0, 2))?;
            }
        }
        Ok(())
    })
}
