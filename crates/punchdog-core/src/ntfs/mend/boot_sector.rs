//! The boot sector and its copy.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError},
    mending::{
        field,
        step::{Provenance, Step},
    },
    ntfs::{catalogue as c, geometry::Length, layout::put},
};
use zerocopy::IntoBytes;

/// Records at the places that a geometry gives, from which on it counts as derived.
const ENOUGH: u32 = 6;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    primary(job)?;
    if job.steps.is_empty() { copy(job) } else { Ok(()) }
}

fn primary(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let boot = job.boot;
    let sector = job.believed.geometry.sector().size();
    if boot.gone && boot.copy_fits {
        let medium: &dyn Medium = job.window;
        let bytes = medium.lenient(boot.place, sector).bytes;
        let step = Step::new(
            "boot-from-copy",
            format!("write the copy of the boot sector, at byte {} of the volume, over sector 0", boot.place),
            Provenance::Exact,
            "the copy of the boot sector: it leads to the records, and they agree",
            &[&c::BOOT_GONE],
        );
        return job.steps.run(job.window, step, |window| window.write_at(0, &bytes));
    }
    if boot.gone {
        return derived(job);
    }
    field::set(job.window, job.steps, boot.fields.iter(), "the copy of the boot sector")
}

/// The boot sector computed from the records.
fn derived(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let agree = job.believed.borne_out();
    let clusters = job.believed.evidence.and_then(|evidence| evidence.clusters);
    let sure = agree >= ENOUGH && clusters.is_some();
    let bytes = job.boot.believed.as_bytes().to_vec();
    let by_files = job.believed.evidence.and_then(|evidence| evidence.by_files);
    let stand = by_files.map_or_else(
        || format!("record 0 and {} others stand where $MFT's own run list says", agree.minus(1)),
        str::to_owned,
    );
    let from = format!(
        "{stand}, with clusters of {} bytes; {}",
        geometry.cluster(),
        match clusters {
            Some((count, true)) => format!("$BadClus counts {count} clusters"),
            Some((count, false)) => format!("$Bitmap has {count} bits"),
            None => match job.believed.length {
                Length::Partition(bytes) => format!("its partition has {bytes} bytes, more than the image"),
                Length::Runs => "files lead so far, behind the end of the image".to_owned(),
                Length::Told | Length::Image => {
                    "nothing but the length of the image tells how many there are".to_owned()
                }
            },
        }
    );
    let mut step = Step::new(
        "boot-derived",
        "write a boot sector computed from the records",
        if sure { Provenance::Derived } else { Provenance::Judged },
        from,
        &[&c::BOOT_GONE],
    )
    .or("boot code and serial number are lost; zeros stand there instead");
    if job.believed.sector_guessed {
        step = step.or(format!(
            "sectors of {} bytes are what is usual; on a medium with others, nothing else changes",
            geometry.sector()
        ));
    }
    job.steps.run(job.window, step, |window| window.write_at(0, &bytes))
}

fn copy(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let boot = job.boot;
    let sector = job.believed.geometry.sector().size();
    let Some(standing) = &boot.copy else { return Ok(()) };
    let medium: &dyn Medium = job.window;
    let mut bytes = medium.lenient(0, sector).bytes;
    if bytes.part(0, 512) == standing.as_slice() {
        return Ok(());
    }
    if standing.part(3, 8) != b"NTFS    " {
        // What stands behind the boot sector in a long sector is not known of the copy.
        put(&mut bytes, 512, &vec![0; sector.minus(512)]);
    }
    let place = boot.place;
    let step = Step::new(
        "copy-from-boot",
        format!("write the copy of the boot sector at byte {place} of the volume"),
        Provenance::Exact,
        "the boot sector, as it stands after the steps before",
        &[&c::COPY_GONE, &c::COPY_DIFFERS],
    );
    job.steps.run(job.window, step, |window| window.write_at(place, bytes.part(0, 512)))
}
