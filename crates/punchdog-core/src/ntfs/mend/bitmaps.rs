//! $MFT's bitmap by the records, $Bitmap by the clusters that they have.

use super::{Job, displaced, shared, writing::write_stream};
use crate::{
    arith::Sat,
    cluster::set::ClusterSet,
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        catalogue as c,
        layout::{kind, own},
        records::{Notes, Use},
        runs::Mapping,
        tree::Why,
    },
    report::wording::counted,
};

/// Bytes of a bitmap that are changed at once.
const PIECE: u64 = 4096;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    of_records(job)?;
    claimed(job)?;
    unowned(job)
}

fn of_records(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let Some(bits) = &survey.in_use else { return Ok(()) };
    let Some(file) = survey.records.live(own::MFT) else { return Ok(()) };
    let pieces = survey.records.stream_of(file, kind::BITMAP, "");
    let runs = survey.records.all_runs(pieces);
    if shared::are(survey, &runs) {
        return Ok(());
    }
    let map = Mapping::of(&runs, survey.mft.geometry.cluster());
    let mut new = bits.clone();
    for (number, usage) in (0_u32..).zip(&survey.records.uses) {
        let bit = 1_u8.checked_shl(number.rest(8)).unwrap_or(0);
        let Some(byte) = new.get_mut(number.per(8).size()) else { break };
        match usage {
            Use::File | Use::Extends => *byte |= bit,
            Use::Free if number >= own::FIRST_USER => *byte &= !bit,
            _ => {}
        }
    }
    let step = Step::new(
        "record-bitmap",
        "mark records in $MFT's bitmap as they are",
        Provenance::Derived,
        "each record says itself whether it is in use",
        &[&c::RECORD_FREE, &c::RECORD_USED_UP],
    );
    job.steps.run(job.window, step, |window| {
        for (index, (old, new)) in bits.iter().zip(&new).enumerate() {
            if old != new {
                write_stream(window, &map, index.wide(), &[*new])?;
            }
        }
        Ok(())
    })
}

/// Sets or clears the bits of these clusters.
fn mark(
    job: &mut Job<'_, '_, '_, '_>,
    step: Step,
    clusters: &ClusterSet,
    used: bool,
) -> Result<(), MediumError> {
    let Some((_, _, map)) = displaced::content(job.survey, own::BITMAP, "") else { return Ok(()) };
    job.steps.run(job.window, step, |window| {
        let mut page: Option<(u64, Vec<u8>)> = None;
        for cluster in clusters.ones() {
            let at = cluster.wide().per(8).per(PIECE).times(PIECE);
            if page.as_ref().is_none_or(|(from, _)| *from != at) {
                if let Some((from, bytes)) = page.take() {
                    write_stream(window, &map, from, &bytes)?;
                }
                let length = PIECE.min(map.len().minus(at)).size();
                page = Some((at, map.read(window, at, length)));
            }
            let Some((_, bytes)) = &mut page else { continue };
            let bit = 1_u8.checked_shl(cluster.rest(8).narrow()).unwrap_or(0);
            if let Some(byte) = bytes.get_mut(cluster.wide().per(8).minus(at).size()) {
                *byte = if used { *byte | bit } else { *byte & !bit };
            }
        }
        match page {
            Some((from, bytes)) => write_stream(window, &map, from, &bytes),
            None => Ok(()),
        }
    })
}

fn claimed(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let Some(marked) = &survey.bitmap else { return Ok(()) };
    let mut missing = survey.claimed.clone();
    missing.difference_with(marked);
    if missing.is_empty() {
        return Ok(());
    }
    let many = counted(missing.count().wide(), "cluster", "clusters");
    let step = Step::new(
        "clusters-in-use",
        format!("mark {many} of files in use in $Bitmap"),
        Provenance::Derived,
        "the run lists of the records",
        &[&c::CLUSTERS_FREE],
    );
    mark(job, step, &missing, true)
}

/// Clusters in use that no file has: freed where every record can be read, else left, unless asked for.
fn unowned(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let Some(marked) = &survey.bitmap else { return Ok(()) };
    let mut surplus = marked.clone();
    surplus.difference_with(&survey.claimed);
    if surplus.is_empty() {
        return Ok(());
    }
    // Also after names and records of lost files have left.
    let lost = job.choices.came_up(super::lost::QUESTION)
        || job.choices.came_up(shared::QUESTION)
        || job.choices.came_up(super::ending::QUESTION)
        || survey.strays.iter().any(|stray| stray.why == Why::Lost)
        || survey.records.uses.contains(&Use::Noise)
        || survey.records.files.iter().any(|file| {
            file.notes.intersects(Notes::SHORT | Notes::DOUBT) && !file.notes.contains(Notes::DELETED)
        })
        || job.believed.geometry.bytes()
            > crate::medium::Medium::len(job.window).plus(job.believed.geometry.sector());
    let many = counted(surplus.count().wide(), "cluster", "clusters");
    let free = ("free", format!("{many} can be used for new files; what they hold can be written over"));
    let keep = ("keep", "they stay in use: what they hold can still be searched".to_owned());
    let options = if lost { [keep, free] } else { [free, keep] };
    let taken = job.choices.ask(
        "unowned-clusters",
        if lost {
            "Clusters in use belong to no file, and records or run lists cannot be read, or are wrong: they may be of those files. What shall become of them?"
        } else {
            "Clusters in use belong to no file. What shall become of them?"
        },
        &options,
        Vec::new(),
    );
    if taken != "free" {
        return Ok(());
    }
    let step = Step::new(
        "clusters-freed",
        format!("mark {many} free in $Bitmap that no file has"),
        if lost { Provenance::Judged } else { Provenance::Derived },
        "the run lists of the records",
        &[&c::CLUSTERS_USED],
    );
    mark(job, step, &surplus, false)
}
