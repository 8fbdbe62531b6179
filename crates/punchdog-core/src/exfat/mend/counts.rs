//! What is counted or cleared when all else is right: percent in use, flags, TexFAT's other table.

use super::Job;
use crate::{
    arith::Sat,
    exfat::{
        catalogue as c,
        check::percent_in_use,
        layout::{FLAG_ACTIVE, FLAG_DIRTY, FLAG_FAILURE},
    },
    medium::MediumError,
    mending::step::{Provenance, Step},
    report::wording::counted,
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    copies(job)?;
    if !job.steps.is_empty() || job.boot.gone {
        return Ok(());
    }
    let percent = job.boot.main.bytes.get(112).copied().unwrap_or(0xFF);
    if percent > 100 && percent != 0xFF {
        let percent = percent_in_use(job.survey);
        let step = Step::new(
            "percent",
            format!("set the percentage in use to {percent}"),
            Provenance::Derived,
            "counted in the bitmap",
            &[&c::PERCENT],
        );
        job.steps.run(job.window, step, |window| window.write_at(112, &[percent]))?;
    }
    let mut clear = FLAG_DIRTY | FLAG_FAILURE;
    if job.believed.geometry.tables == 1 {
        clear |= FLAG_ACTIVE;
    }
    let flags = job.boot.flags & !clear;
    if flags != job.boot.flags {
        let step = Step::new(
            "flags-cleared",
            "mark the volume as properly closed",
            Provenance::Derived,
            "nothing else is wrong any more",
            &[&c::DIRTY, &c::FAILURE, &c::ACTIVE],
        );
        job.steps.run(job.window, step, |window| window.write_at(106, &flags.to_le_bytes()))?;
    }
    Ok(())
}

/// Makes both tables of TexFAT alike where chains are: as the believed one has them.
fn copies(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    if geometry.tables != 2 {
        return Ok(());
    }
    let used = job.survey.claimed.clone();
    let active = job.survey.links.active();
    let mut values = Vec::new();
    for cluster in used.ones().map(Sat::narrow) {
        let (one, other) =
            (job.survey.links.raw(job.window, 0, cluster), job.survey.links.raw(job.window, 1, cluster));
        if one != other {
            values.extend(if active == 0 { one } else { other }.map(|value| (cluster, value)));
        }
    }
    if values.is_empty() {
        return Ok(());
    }
    let step = Step::new(
        "tables-made-alike",
        format!("make both tables alike in {}", counted(values.len().wide(), "entry", "entries")),
        Provenance::Exact,
        "the active table, whose chains fit their files",
        &[&c::COPIES_DIFFER],
    );
    job.steps.run(job.window, step, |window| {
        for (cluster, value) in values {
            for copy in 0..2 {
                window.write_at(
                    geometry.table_place(copy).plus(cluster.wide().times(4)),
                    &value.to_le_bytes(),
                )?;
            }
        }
        Ok(())
    })
}
