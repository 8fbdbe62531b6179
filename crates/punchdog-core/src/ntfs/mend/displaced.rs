//! The file system's own files whose run lists lead into clusters of others.
//!
//! What stands there is then not what the file must hold, and whatever was written into it to mend it would be written over
//! somebody else's. So this comes before anything is written into a file of the file system's own: where one byte of the
//! list leads to what the file must hold, that is set; else the record is made anew around what is found.

use super::{
    Job,
    rebuild::{self, Given},
    runs, shared,
    system::{made, written},
};
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError},
    mending::step::{Provenance, Step},
    ntfs::{
        attrdef,
        build::units,
        catalogue as c,
        geometry::evidence::first_cluster as first,
        layout::{kind, own, put},
        mirror,
        names::Capitals,
        records::{File, Piece, Use},
        runs::{Mapping, Run},
        secure,
        survey::Survey,
        system,
    },
};

/// The content that each of them must have where its list leads: type and name of the attribute.
const CONTENT: &[(u32, u32, &str)] = &[
    (own::MFT, kind::BITMAP, ""),
    (own::MIRROR, kind::DATA, ""),
    (own::LOG, kind::DATA, ""),
    (own::ATTRDEF, kind::DATA, ""),
    (own::ROOT, kind::INDEX_ALLOCATION, "$I30"),
    (own::BITMAP, kind::DATA, ""),
    (own::BOOT, kind::DATA, ""),
    (own::SECURE, kind::DATA, "$SDS"),
    (own::UPCASE, kind::DATA, ""),
];
/// Of so many bits of a bitmap one may be wrong.
const WRONG: usize = 8;
/// Clusters by which it is told whether a bitmap is one.
const LOOKED_AT: usize = 1 << 23;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    mirrored(job)?;
    for (number, of, name) in CONTENT {
        // What is given back, and to whom, is known when all was read again.
        if !job.steps.is_empty() {
            break;
        }
        let survey: &Survey = job.survey;
        let Some(file) = survey.records.live(*number) else { continue };
        let [piece] = survey.records.stream_of(file, *of, name) else { continue };
        let runs = survey.records.runs_of(piece);
        if piece.resident
            || piece.bad.is_some()
            || piece.holder != *number
            || right(job.window, survey, *number, runs)
        {
            continue;
        }
        let so = |runs: &[Run]| {
            right(job.window, survey, *number, runs)
                && (*number != own::BITMAP || tells_free(job.window, survey, runs))
        };
        if let Some(struck) = runs::only(survey, job.window, piece, 1, &so) {
            let title = crate::ntfs::check::title(*of);
            let step = Step::new(
                "run-list-byte",
                format!("set one byte in the run list of {title} of record {number}"),
                Provenance::Derived,
                "the one byte with which it leads to what the file must hold, in clusters that nobody else has",
                &[&c::CROSSED, &c::CLUSTERS_FREE, &c::CLUSTERS_USED],
            );
            let at = usize::from(piece.at).plus(struck.byte);
            job.edit(*number, step, |record| {
                put(record, at, &[struck.value]);
                true
            })?;
        } else if shared::are(survey, runs) {
            anew(job, *number)?;
        }
    }
    Ok(())
}

/// The record made anew, whatever it says of its content.
fn anew(job: &mut Job<'_, '_, '_, '_>, number: u32) -> Result<(), MediumError> {
    let mut given = Given::new(job.survey, job.window);
    given.distrusted = true;
    let mut found = rebuild::record(job.window, job.survey, number, &mut given);
    if found.is_none() {
        given.finding = false;
        found = rebuild::record(job.window, job.survey, number, &mut given);
    }
    match found {
        Some(one) => made(job, number, one),
        None => Ok(()),
    }
}

/// Record 1 leads elsewhere than the boot sector, and its copy there leads to itself.
fn mirrored(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey: &Survey = job.survey;
    let believed = survey.mft.geometry.mirror;
    let (record, copy) = (job.record(own::MIRROR), mirror::copy_of(job.window, survey, own::MIRROR));
    let elsewhere = record.as_deref().and_then(first) != Some(believed);
    if elsewhere && copy.as_deref().and_then(first) == Some(believed) {
        return written(job, own::MIRROR, &[&c::MIRROR_DIFFERS, &c::CROSSED, &c::SYSTEM_RECORD]);
    }
    Ok(())
}

/// What stands in these clusters is what the file must hold, as far as its beginning tells.
fn right(medium: &dyn Medium, survey: &Survey, number: u32, runs: &[Run]) -> bool {
    let geometry = survey.mft.geometry;
    let map = Mapping::of(runs, geometry.cluster());
    let head = map.read(medium, 0, 512);
    match number {
        own::MFT => of_records(&map.read(medium, 0, survey.mft.records().per_up(8).size()), survey),
        own::MIRROR => runs.first().and_then(|run| run.first).is_some_and(|first| {
            first == geometry.mirror || !shared::are(survey, runs) && mirror::begins(medium, survey, first)
        }),
        // An empty log has no beginning; nor has the middle of one.
        own::LOG => match head.part(0, 4) {
            b"RSTR" | b"CHKD" => true,
            [0xFF, 0xFF, 0xFF, 0xFF] => !shared::are(survey, runs),
            _ => false,
        },
        own::ATTRDEF => {
            // Its first row may be damaged where it stands.
            let row = head.part(attrdef::ROW, units("$ATTRIBUTE_LIST").len());
            head.starts_with(&units("$STANDARD_INFORMATION")) || row == units("$ATTRIBUTE_LIST")
        }
        own::ROOT => head.part(0, 4) == b"INDX" && head.le64(16) == 0,
        own::BITMAP => of_clusters(&map, medium, survey, runs),
        own::BOOT => runs.first().and_then(|run| run.first) == Some(0),
        own::SECURE => {
            let bytes = map.read(medium, 0, 65536);
            let second = map.read(medium, crate::ntfs::fresh::SDS_STEP.wide(), 65536);
            secure::whole(&bytes, 0, 0) || secure::whole(&second, 0, 0)
        }
        own::UPCASE => head.part(0, 256) == Capitals::usual().bytes().part(0, 256),
        _ => true,
    }
}

/// The bits say of nearly every record what it says itself.
fn of_records(bits: &[u8], survey: &Survey) -> bool {
    let (mut all, mut wrong) = (0_usize, 0_usize);
    for (number, usage) in (0_usize..).zip(&survey.records.uses) {
        let used = match usage {
            Use::File | Use::Extends => true,
            Use::Free => false,
            Use::Blank | Use::Noise => continue,
        };
        let marked = bits.byte(number.per(8)) >> number.rest(8) & 1 == 1;
        all = all.plus(1);
        wrong = wrong.plus(usize::from(number >= own::FIRST_USER.size() && marked != used));
    }
    wrong.times(WRONG) <= all
}

/// Nearly all clusters that others have are marked in use.
fn of_clusters(map: &Mapping, medium: &dyn Medium, survey: &Survey, runs: &[Run]) -> bool {
    const PIECE: u64 = 1 << 16;
    let mine = |cluster: u64| {
        runs.iter().any(|run| run.first.is_some_and(|first| (first..run.end()).contains(&cluster)))
    };
    let mut page: Option<(u64, Vec<u8>)> = None;
    let (mut all, mut wrong) = (0_usize, 0_usize);
    for cluster in survey.claimed.ones().take(1 << 20) {
        let at = cluster.wide().per(8).per(PIECE).times(PIECE);
        if page.as_ref().is_none_or(|(from, _)| *from != at) {
            page = Some((at, map.read(medium, at, PIECE.min(map.len().minus(at)).size())));
        }
        let bytes = page.as_ref().map_or(&[][..], |(_, bytes)| bytes);
        let marked = bytes.byte(cluster.wide().per(8).minus(at).size()) >> cluster.rest(8) & 1 == 1;
        all = all.plus(1);
        wrong = wrong.plus(usize::from(!marked && !mine(cluster.wide())));
    }
    wrong.times(WRONG) <= all
}

/// Not much more is marked than others have: what has all bits set says of nothing that it is free, and is no bitmap.
fn tells_free(medium: &dyn Medium, survey: &Survey, runs: &[Run]) -> bool {
    let map = Mapping::of(runs, survey.mft.geometry.cluster());
    let bits = survey.claimed.len().min(LOOKED_AT);
    let bytes = map.read(medium, 0, bits.per(8));
    let marked = bytes.iter().fold(0_u64, |sum, byte| sum.plus(byte.count_ones().wide()));
    rebuild::is_sparing(marked, survey.claimed.count_in(0..bits).wide())
}

/// The content of one of them, where it may be written into: nobody else has its clusters.
pub(super) fn content<'s>(
    survey: &'s Survey,
    number: u32,
    name: &str,
) -> Option<(&'s File, &'s Piece, Mapping)> {
    system::content(survey, number, name).filter(|(file, ..)| {
        let pieces = survey.records.stream_of(file, kind::DATA, name);
        !pieces.iter().any(|piece| shared::are(survey, survey.records.runs_of(piece)))
    })
}
