//! The indexes of `$Secure` and of `$Extend`, laid anew from the descriptors and the records.

use super::{
    Job,
    writing::{write_record, write_stream},
};
use crate::{
    arith::{Peek, Sat},
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        build::{Room, index, resident},
        edit::{end_of, remove, replace},
        fresh::set_bit,
        index::root_of,
        layout::{kind, own},
        runs::Mapping,
        survey::Survey,
        views,
    },
};

/// Bytes of names that the root node of a large index gets.
const ROOT: usize = 256;

/// What has to be written.
struct Laid {
    record: Vec<u8>,
    blocks: Vec<(u64, Vec<u8>)>,
    map: Mapping,
}

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    for wrong in views::wrong(job.window, job.survey) {
        let Some(wanted) = &wrong.wanted else { continue };
        let Some(laid) = laid(job, &wrong, wanted) else { continue };
        let (name, from) = if wrong.file == own::SECURE {
            ("security-index-laid-anew", "the descriptors in $SDS whose hashes fit")
        } else {
            ("extend-index-laid-anew", "the records of the files")
        };
        let step = Step::new(
            name,
            format!("lay the index {} of {} anew, of {}", wrong.name, wrong.of, wanted.len()),
            Provenance::Derived,
            from,
            &[wrong.class],
        );
        let survey = job.survey;
        job.steps.run(job.window, step, |window| {
            for (at, bytes) in &laid.blocks {
                write_stream(window, &laid.map, *at, bytes)?;
            }
            write_record(window, &survey.mft, wrong.file, &laid.record)
        })?;
        // Another one can stand in the same record.
        break;
    }
    Ok(())
}

/// The index in the record alone, or in the blocks that it has; `None` where neither has room.
fn laid(job: &Job<'_, '_, '_, '_>, wrong: &views::Wrong, wanted: &[Vec<u8>]) -> Option<Laid> {
    let survey: &Survey = job.survey;
    let (geometry, name) = (survey.mft.geometry, wrong.name);
    let file = survey.records.live(wrong.file)?;
    let record = job.record(wrong.file)?;
    let told = root_of(&record, name).map_or(0, |(root, _)| root.value().le32(8).size());
    let block = if told.is_power_of_two() && (512..=65536).contains(&told) { told } else { geometry.index() };
    let room = |root: usize| Room { block, cluster: geometry.cluster().size(), root };
    let mut small = record.clone();
    remove(&mut small, kind::INDEX_ALLOCATION, name);
    remove(&mut small, kind::BITMAP, name);
    let bytes: usize = wanted.iter().map(Vec::len).sum();
    if bytes < record.len() {
        let all = index(wanted.to_vec(), wrong.order, room(usize::MAX));
        if replace(&mut small, &resident(kind::INDEX_ROOT, name, &all.root)) {
            return Some(Laid { record: small, blocks: Vec::new(), map: Mapping::default() });
        }
    }
    let pieces = survey.records.stream_of(file, kind::INDEX_ALLOCATION, name);
    let sound =
        !pieces.is_empty() && pieces.iter().all(|piece| piece.bad.is_none() && piece.holder == wrong.file);
    let map = Mapping::of(&survey.records.all_runs(pieces), geometry.cluster());
    let mut large = record.clone();
    let old = root_of(&record, name).map_or(0, |(root, _)| root.bytes.len());
    let left = large.len().minus(end_of(&large)).plus(old).minus(64);
    let laid = index(wanted.to_vec(), wrong.order, room(left.min(ROOT)));
    let count = map.len().per(block.wide());
    if !sound || laid.blocks.len().wide() > count {
        return None;
    }
    let mut bits = vec![0; count.per_up(64).max(1).times(8).size()];
    (0..laid.blocks.len().wide()).for_each(|block| set_bit(&mut bits, block));
    let set = replace(&mut large, &resident(kind::INDEX_ROOT, name, &laid.root))
        && replace(&mut large, &resident(kind::BITMAP, name, &bits));
    let blocks = (0_u64..).zip(laid.blocks).map(|(at, bytes)| (at.times(block.wide()), bytes)).collect();
    set.then_some(Laid { record: large, blocks, map })
}
