//! The main boot region and its backup.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    exfat::{
        boot::region,
        catalogue as c,
        geometry::Geometry,
        layout::{BootSector, NOT_SUMMED, put},
    },
    medium::{Medium, MediumError},
    mending::{
        field,
        step::{Provenance, Step},
    },
    report::{finding::Entry, wording::counted},
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    shrink(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    main(job)?;
    if job.steps.is_empty() { backup(job) } else { Ok(()) }
}

fn main(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let boot = &job.boot;
    let wrong: Vec<_> = boot.fields.iter().filter(|f| f.wrong() && f.entry.is_some()).cloned().collect();
    let summed_wrong = wrong.iter().any(|field| !NOT_SUMMED.contains(&field.at));
    let broken = boot.gone || summed_wrong || boot.main.wrong.is_some() || !boot.main.unsigned.is_empty();
    let faults: &[&'static Entry] = &[&c::BOOT_GONE, &c::CHECKSUM, &c::EXTENDED];
    if broken && boot.backup_fits {
        let place = boot.backup.place;
        let mut bytes = boot.backup.bytes.clone();
        if !boot.gone {
            // What the checksum leaves out changes while the volume is used, and only here.
            for at in NOT_SUMMED {
                put(&mut bytes, at, &[boot.main.bytes.byte(at)]);
            }
        }
        let mut step = Step::new(
            "boot-region-from-backup",
            format!("copy the backup boot region at byte {place} of the volume over the main one"),
            Provenance::Exact,
            "the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap",
            faults,
        );
        step.mends.extend(wrong.iter().filter_map(|field| field.entry.map(|entry| entry.code)));
        return job.steps.run(job.window, step, |window| window.write_at(0, &bytes));
    }
    if boot.gone {
        let bytes = region(&boot.believed, &geometry, None);
        let reasons: Vec<&str> = job
            .believed
            .score
            .reasons
            .iter()
            .filter(|reason| reason.points > 0)
            .map(|reason| reason.text.as_str())
            .collect();
        let step = Step::new(
            "boot-region-derived",
            "write a boot region computed from the volume",
            Provenance::Derived,
            reasons.join("; "),
            faults,
        )
        .or("boot code, serial number and OEM parameters are lost; usual values stand there instead");
        return job.steps.run(job.window, step, |window| window.write_at(0, &bytes));
    }
    field::set(job.window, job.steps, boot.fields.iter(), "the backup boot sector")?;
    if broken {
        sum_anew(job, &geometry)?;
    }
    Ok(())
}

fn sum_anew(job: &mut Job<'_, '_, '_, '_>, geometry: &Geometry) -> Result<(), MediumError> {
    let medium: &dyn Medium = job.window;
    let standing = medium.lenient(0, geometry.region_bytes().size()).bytes;
    let Some(sector) = BootSector::read(&standing) else { return Ok(()) };
    let bytes = region(&sector, geometry, Some(&standing));
    let step = Step::new(
        "boot-checksum",
        "compute the boot checksum anew, and sign the extended boot sectors",
        Provenance::Derived,
        "sectors 0 to 10 as they stand after the steps before",
        &[&c::CHECKSUM, &c::EXTENDED],
    );
    job.steps.run(job.window, step, |window| window.write_at(0, &bytes))
}

fn backup(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let boot = &job.boot;
    if boot.backup_fits && boot.differing.is_empty() {
        return Ok(());
    }
    let place = boot.backup.place;
    let mut bytes = boot.main.bytes.clone();
    // A backup is never dirty (section 3.1.13: its flags may be stale).
    put(&mut bytes, 106, &[0, 0]);
    put(&mut bytes, 112, &[if boot.backup.named { boot.backup.bytes.byte(112) } else { 0xFF }]);
    let step = Step::new(
        "backup-from-main",
        format!("write the backup boot region at byte {place} of the volume as a copy of the main one"),
        Provenance::Exact,
        "the main boot region, as it stands after the steps before",
        &[&c::BACKUP_GONE, &c::BACKUP_DIFFERS],
    );
    job.steps.run(job.window, step, |window| window.write_at(place, &bytes))
}

/// A volume that is longer than its image is made as long as the image, if that is wanted.
fn shrink(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let there = job.window.len();
    if geometry.bytes() <= there || job.boot.gone {
        return Ok(());
    }
    let clusters = there.minus(geometry.heap_place()).per(geometry.cluster_bytes().max(1)).narrow();
    let smaller = Geometry {
        sectors: there.per(geometry.sector_bytes()),
        clusters: geometry.clusters.min(clusters),
        ..geometry
    };
    if !smaller.possible() {
        return Ok(());
    }
    let cut = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.flaws.contains(crate::exfat::sets::Flaws::BEYOND));
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
    let mut sector = job.boot.believed;
    sector.volume_length = smaller.sectors.into();
    sector.cluster_count = smaller.clusters.into();
    let bytes = region(&sector, &smaller, Some(&job.boot.main.bytes));
    let place = job.boot.backup.place;
    let step = Step::new(
        "shrink-to-image",
        format!(
            "set the volume's length from {} to {} sectors, and its clusters from {} to {}",
            geometry.sectors, smaller.sectors, geometry.clusters, smaller.clusters
        ),
        Provenance::Judged,
        "the length of the image",
        &[&c::BEYOND_IMAGE],
    )
    .or("make a full image of the medium, and mend that");
    // Backup and bitmap go along: left as they were, they would speak for the old length again.
    let content = job.survey.content(job.window, 0);
    let bitmap = job.survey.bitmap.entry.and_then(|(index, _)| content.place(index));
    job.steps.run(job.window, step, |window| {
        window.write_at(0, &bytes)?;
        window.write_at(place, &bytes)?;
        match bitmap {
            Some(entry) => window.write_at(entry.plus(24), &smaller.bitmap_bytes().to_le_bytes()),
            None => Ok(()),
        }
    })
}
