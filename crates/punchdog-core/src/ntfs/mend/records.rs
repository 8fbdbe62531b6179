//! Records of all files: heads, fixups, attributes.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        build::{Times, resident, standard},
        catalogue as c,
        edit::{count_used, first_attribute, insert, remove_at, straightened, told_by_value},
        heads,
        layout::{
            self, COMPRESSED, FILE_COMPRESSED, FILE_SPARSE, Fixups, PACKED, SPARSE, STRIDE, kind, own, put,
            unfix,
        },
        record::{Attribute, Broken, attributes},
        records::Flaw,
        runs::{BadRuns, decode},
        struck::{refitted, unstruck},
        system::is_told,
    },
    report::finding::Entry,
};
use std::collections::HashMap;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let paths = crate::ntfs::check::paths(job.survey);
    let flaws: Vec<(u32, Flaw)> = job.survey.records.flaws.clone();
    let (mut done, mut torn) = (u32::MAX, None);
    for (number, flaw) in &flaws {
        // It is told before what else is wrong with the record.
        if let Flaw::Torn(strides) = flaw {
            torn = strides.first().map(|stride| (*number, stride.times(STRIDE)));
        }
        // One step a record and round: the next round sees what is left of it.
        if *number == done || is_told(*number, flaw) && *number <= own::VOLUME {
            continue;
        }
        let before = job.steps.count();
        let at = torn.filter(|(of, _)| of == number).map(|(_, at)| at);
        one(job, (*number, at), flaw, &paths)?;
        if job.steps.count() > before {
            done = *number;
        }
    }
    Ok(())
}

pub(super) fn step(
    name: &'static str,
    does: String,
    how: Provenance,
    from: &str,
    mends: &'static Entry,
    path: Option<&String>,
) -> Step {
    let step = Step::new(name, does, how, from, &[mends]);
    match path {
        Some(path) => step.file(path.clone()),
        None => step,
    }
}

fn one(
    job: &mut Job<'_, '_, '_, '_>,
    (number, torn): (u32, Option<usize>),
    flaw: &Flaw,
    paths: &HashMap<u32, String>,
) -> Result<(), MediumError> {
    if own::RESERVED.contains(&number) {
        return reserved(job, number);
    }
    let path = paths.get(&number);
    let derived = Provenance::Derived;
    match flaw {
        Flaw::Signature(_) => {
            let does = format!("set the signature of record {number}");
            let step = step(
                "record-signature",
                does,
                derived,
                "the rest of the record is whole",
                &c::RECORD_SIGNATURE,
                path,
            );
            job.edit(number, step, put_right)
        }
        Flaw::Torn(strides) => {
            // Its head may name another place for them than the one that they have.
            let count = job.steps.count();
            fixups(job, number, &c::RECORD_TORN, path)?;
            if job.steps.count() > count {
                return Ok(());
            }
            let does = format!("set the fixups of record {number} anew");
            let older: Vec<String> = strides.iter().map(|stride| stride.times(STRIDE).to_string()).collect();
            let step = step(
                "record-fixups-anew",
                does,
                Provenance::Judged,
                "what the record says can be read to its end",
                &c::RECORD_TORN,
                path,
            )
            .or(format!("the 512 bytes from {} on may be older than the rest", older.join(", ")));
            job.edit(number, step, put_right)
        }
        Flaw::Fixups => fixups(job, number, &c::RECORD_FIXUPS, path),
        Flaw::Head(from, kept) => head(job, number, (*from, *kept), path),
        Flaw::Broken(_) => broken(job, (number, torn), path),
        Flaw::Ids => {
            let does = format!("tell the attributes of record {number} apart by their ids");
            let step = step(
                "attribute-ids",
                does,
                derived,
                "the attributes, in their order",
                &c::ATTRIBUTE_IDS,
                path,
            );
            job.edit(number, step, |record| renumber(record))
        }
        Flaw::NoStandard => {
            let does = format!("give record {number} standard information again");
            let step = step(
                "standard-information",
                does,
                derived,
                "the times and attributes of its name",
                &c::NO_STANDARD,
                path,
            );
            job.edit(number, step, |record| {
                let (list, _) = attributes(record);
                let Some(name) = list.iter().find(|a| a.kind() == kind::NAME) else { return false };
                let key = name.value().to_vec();
                // One that is too short, or stands outside.
                if let Some(short) = list.iter().find(|a| a.kind() == kind::STANDARD).map(|a| a.at) {
                    remove_at(record, short);
                }
                let times = Times([key.le64(8), key.le64(16), key.le64(24), key.le64(32)]);
                let value = standard(times, key.le32(56) & 0xFFFF, 0);
                insert(record, &resident(kind::STANDARD, "", &value))
            })
        }
        Flaw::Runs(of, at, BadRuns::Count) => run_count(job, number, (*of, *at), path),
        Flaw::Sizes(of, at) => sizes(job, number, (*of, *at), path),
        Flaw::Size(at, _, told) => {
            let does = format!("set the size of the content of record {number} to {told} bytes");
            let from = "the entry in its folder, and what was written of it";
            let step = step("attribute-sizes", does, derived, from, &c::SIZES, path);
            job.edit(number, step, |record| {
                put(record, at.plus(48), &told.to_le_bytes());
                true
            })
        }
        Flaw::Number(_)
        | Flaw::Used(_)
        | Flaw::Links(_)
        | Flaw::Free
        | Flaw::Parent(..)
        | Flaw::Folder
        | Flaw::Name(..)
        | Flaw::Extends(..)
        | Flaw::Own(_)
        | Flaw::Sequence(..) => super::fields::mend(job, number, flaw, path),
        Flaw::Runs(..) | Flaw::Pieces(_) | Flaw::Base(_) | Flaw::List(_) => Ok(()),
    }
}

/// What is wrong with a record that holds nothing.
const RESERVED: &[&Entry] = &[
    &c::RECORD_SIGNATURE,
    &c::RECORD_HEAD,
    &c::RECORD_TORN,
    &c::RECORD_FIXUPS,
    &c::RECORD_BROKEN,
    &c::RECORD_NUMBER,
    &c::RECORD_USED,
    &c::RECORD_BASE,
    &c::ATTRIBUTE_IDS,
    &c::NO_STANDARD,
    &c::NAME_HEAD,
    &c::LINKS,
    &c::SIZES,
    &c::PIECES,
];

/// One of the records that are kept for later versions.
fn reserved(job: &mut Job<'_, '_, '_, '_>, number: u32) -> Result<(), MediumError> {
    let survey = job.survey;
    let Some(record) = super::lost::reserved(survey, number) else { return Ok(()) };
    let does = format!("write record {number} anew, which holds nothing");
    let from = "records 12 to 15 are kept for later versions on every volume";
    let step = Step::new("record-reserved", does, Provenance::Derived, from, RESERVED);
    job.steps.run(job.window, step, |window| super::writing::put_record(window, &survey.mft, number, &record))
}

/// A head that was written over, by what stands behind it.
fn head(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    (from, kept): (u16, bool),
    path: Option<&String>,
) -> Result<(), MediumError> {
    let survey = job.survey;
    let Some(told) = heads::told(number, &survey.mft.raw(job.window, number)) else { return Ok(()) };
    let mut record = heads::drawn_up(&told);
    let sequence = survey.records.file(number).map_or(1, |file| file.sequence);
    put(&mut record, 16, &sequence.to_le_bytes());
    let how = if kept { Provenance::Derived } else { Provenance::Judged };
    let does = format!("write the head of record {number} anew");
    let rest = "how often it was used from the entry in its folder, or from what stands in it";
    let from = format!("its attributes, which can be read from byte {from} to their end; {rest}");
    let step = step("record-head", does, how, &from, &c::RECORD_HEAD, path);
    job.steps
        .run(job.window, step, |window| super::writing::write_record(window, &survey.mft, number, &record))
}

/// The head says where the fixups are; that is always the same.
fn fixups(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    mends: &'static Entry,
    path: Option<&String>,
) -> Result<(), MediumError> {
    let raw = job.survey.mft.raw(job.window, number);
    let mut record = raw;
    let first = usize::from(record.le16(20));
    let array = record.len().per(STRIDE).plus(1).times(2);
    // Behind the head of this version, before the first attribute.
    let places = [layout::HEAD, layout::HEAD_OLD];
    let fits = |at: usize| at.plus(array) <= first && first.minus(at.plus(array)) < 8;
    let Some(at) = places.into_iter().find(|at| fits(*at)) else { return Ok(()) };
    put(&mut record, 4, &u16::try_from(at).unwrap_or(48).to_le_bytes());
    put(&mut record, 6, &u16::try_from(array.per(2)).unwrap_or(3).to_le_bytes());
    if unfix(&mut record) != Fixups::Whole || !put_right(&mut record) {
        return Ok(());
    }
    let does = format!("set where the fixups of record {number} are");
    let step = step(
        "record-fixups",
        does,
        Provenance::Derived,
        "they are always there, and all strides agree",
        mends,
        path,
    );
    let survey = job.survey;
    job.steps
        .run(job.window, step, |window| super::writing::write_record(window, &survey.mft, number, &record))
}

fn broken(
    job: &mut Job<'_, '_, '_, '_>,
    (number, torn): (u32, Option<usize>),
    path: Option<&String>,
) -> Result<(), MediumError> {
    let how = "the other attributes can be read to their end in one way only";
    let made = step(
        "record-attributes",
        format!("put the attributes of record {number} in order"),
        Provenance::Derived,
        how,
        &c::RECORD_BROKEN,
        path,
    );
    let clusters = job.survey.mft.geometry.clusters();
    let count = job.steps.count();
    job.edit(number, made, |record| {
        let (list, unread) = attributes(record);
        let refitted = || unread.is_none().then(|| refitted(record, &list, clusters)).flatten();
        let struck = || match refitted() {
            Some((_, told)) => Some(told),
            None => unstruck(record, clusters)
                .or_else(|| unstruck(&opened(record), clusters).and_then(|told| headed(&told))),
        };
        if let Some(told) = struck() {
            *record = told;
            return true;
        }
        put_right(record) || read_from(number, record)
    })?;
    if job.steps.count() == count { super::beginning::keep(job, (number, torn), path) } else { Ok(()) }
}

/// Leaves out what stands before the first attribute that can be read, where the head is whole.
fn read_from(number: u32, record: &mut Vec<u8>) -> bool {
    let unread = attributes(record).0.is_empty();
    let told = unread.then(|| heads::without_first(number, record)).flatten();
    let done = told.is_some();
    if let Some(told) = told {
        *record = told;
    }
    done
}

/// Puts the signature, the head and the attributes right, as far as that can be done in one way; false where it cannot.
fn put_right(record: &mut Vec<u8>) -> bool {
    put(record, 0, b"FILE");
    let Some(broken) = attributes(record).1 else { return true };
    let straight = |record: &[u8], broken: Broken| match broken {
        Broken::Type(at) | Broken::Length(at) | Broken::Value(at) => straightened(record, at)
            .or_else(|| told_by_value(record, at).and_then(|candidate| headed(&candidate))),
        Broken::Head | Broken::End | Broken::Struck(_) => None,
    };
    // One field of the head, one of an attribute, or both.
    let found = headed(record).or_else(|| straight(record, broken)).or_else(|| {
        let opened = opened(record);
        let broken = attributes(&opened).1?;
        straight(&opened, broken).and_then(|candidate| headed(&candidate))
    });
    // An attribute, and the end mark where the head says that all ends.
    let found = found.or_else(|| {
        let mut marked = record.clone();
        let end = record.le32(24).size().checked_sub(8).filter(|end| record.le32(*end) == 0)?;
        put(&mut marked, end, &kind::END.to_le_bytes());
        straight(&marked, attributes(&marked).1?)
    });
    let mended = found.is_some();
    if let Some(found) = found {
        *record = found;
    }
    mended
}

/// The record with a head that says that its attributes begin where they always do, and may use all of it.
fn opened(record: &[u8]) -> Vec<u8> {
    let mut record = record.to_vec();
    let (size, first) = (record.len().narrow(), first_attribute(&record));
    put(&mut record, 28, &size.to_le_bytes());
    put(&mut record, 20, &u16::try_from(first).unwrap_or(56).to_le_bytes());
    put(&mut record, 24, &size.to_le_bytes());
    record
}

/// The record with the sizes in its head, or its end mark, put right, where that is all that is wrong.
fn headed(record: &[u8]) -> Option<Vec<u8>> {
    let used = record.le32(24).size();
    let mut record = opened(record);
    let first = first_attribute(&record);
    let (list, left) = attributes(&record);
    let end = list.last().map_or(first, |last| last.at.plus(last.bytes.len()));
    match left {
        None => {}
        // No end mark: it belongs where the head says that all ends, behind an attribute.
        Some(Broken::Type(at)) if at == end && at.plus(8) == used && !list.is_empty() => {
            put(&mut record, end, &kind::END.to_le_bytes());
        }
        // The head does not say it either: behind all that a file must have, where zeros begin.
        Some(Broken::Type(at)) if at == end && complete(&list) && record.le64(at) == 0 => {
            put(&mut record, end, &kind::END.to_le_bytes());
        }
        Some(_) => return None,
    }
    count_used(&mut record);
    attributes(&record).1.is_none().then_some(record)
}

/// All that a file or folder must have.
fn complete(list: &[Attribute<'_>]) -> bool {
    let has = |of: u32| list.iter().any(|attribute| attribute.kind() == of);
    has(kind::STANDARD) && has(kind::NAME) && (has(kind::DATA) || has(kind::INDEX_ROOT))
}

/// The next id behind the largest; where two have one, each attribute gets one anew: a list that has the old ones is
/// written anew after that.
fn renumber(record: &mut [u8]) -> bool {
    let (list, _) = attributes(record);
    let places: Vec<usize> = list.iter().map(|attribute| attribute.at).collect();
    let mut ids: Vec<u16> = list.iter().map(Attribute::id).collect();
    ids.sort_unstable();
    let doubled = ids.windows(2).any(|pair| pair.first() == pair.last());
    if doubled {
        for (id, at) in (0_u16..).zip(&places) {
            put(record, at.plus(14), &id.to_le_bytes());
        }
    }
    let (list, _) = attributes(record);
    let next = list.iter().map(Attribute::id).max().map_or(0, |id| id.wrapping_add(1));
    put(record, 40, &next.to_le_bytes());
    true
}

/// The last VCN by the runs, where the sizes bear them out.
fn run_count(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    (of, at): (u32, usize),
    path: Option<&String>,
) -> Result<(), MediumError> {
    let geometry = job.survey.mft.geometry;
    let does = format!("set the last VCN of {} of record {number}", crate::ntfs::check::title(of));
    let step = step(
        "run-count",
        does,
        Provenance::Derived,
        "its run list, which its sizes bear out",
        &c::RUNS_COUNT,
        path,
    );
    job.edit(number, step, |record| {
        let (list, _) = attributes(record);
        let Some(attribute) = list.iter().find(|attribute| attribute.at == at) else { return false };
        let (runs, bad) = decode(attribute.runs(), attribute.clusters(), geometry.clusters());
        let sum = runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
        if bad != Some(BadRuns::Count)
            || geometry.place(sum) != attribute.allocated()
            || attribute.size() > attribute.allocated()
            || attribute.first_vcn() != 0
        {
            return false;
        }
        put(record, at.plus(24), &sum.wrapping_sub(1).to_le_bytes());
        true
    })
}

/// The sizes by the runs: allocated as many clusters as there are, the others cut to that.
fn sizes(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    (of, at): (u32, usize),
    path: Option<&String>,
) -> Result<(), MediumError> {
    let geometry = job.survey.mft.geometry;
    // The pieces of a stream that is spread have their clusters together.
    let (clusters, held) =
        job.survey.records.file(job.survey.records.base_of(number)).map_or((0, 0), |file| {
            let pieces = job.survey.records.pieces_of(file);
            let own = pieces.iter().find(|piece| piece.holder == number && usize::from(piece.at) == at);
            own.map_or((0, 0), |own| {
                let same = pieces.iter().filter(|piece| (piece.kind, piece.name) == (own.kind, own.name));
                same.fold((0_u64, 0_u64), |(sum, held), piece| {
                    let runs = job.survey.records.runs_of(piece).iter().filter(|run| run.first.is_some());
                    let own = runs.fold(0_u64, |sum, run| sum.plus(run.length));
                    (sum.plus(piece.clusters), held.plus(own))
                })
            })
        });
    let held = geometry.place(held);
    let allocated = geometry.place(clusters);
    // As the last cluster is in use, a size ends in it; the file's names tell its size a second time.
    let fits = |size: u64| size > 0 && size <= allocated && allocated.minus(size) < geometry.cluster();
    let Some(record) = job.record(number) else { return Ok(()) };
    let (list, _) = attributes(&record);
    let Some(attribute) = list.iter().find(|attribute| attribute.at == at) else { return Ok(()) };
    let named = list.iter().filter(|a| a.kind() == kind::NAME).map(|name| name.value().le64(48));
    let spread = attribute.flags() & (COMPRESSED | SPARSE) != 0;
    let told = attribute.size();
    if attribute.first_vcn() > 0 {
        let does = format!(
            "clear the sizes of a further piece of {} of record {number}",
            crate::ntfs::check::title(of)
        );
        let step = step(
            "attribute-sizes",
            does,
            Provenance::Derived,
            "the first piece alone has them",
            &c::SIZES,
            path,
        );
        return job.edit(number, step, |record| {
            put(record, at.plus(34), &[0]);
            put(record, at.plus(40), &[0; 24]);
            true
        });
    }
    let plain = of == kind::DATA && attribute.name().is_empty();
    let by_name = named.into_iter().find(|size| plain && fits(*size));
    // What the entry in its folder says is newer than what the record's own name says.
    let by_entry = job.survey.differing(number).filter(|one| plain && fits(one.size));
    let (size, how, from) = match by_name {
        _ if fits(told) && by_entry.is_some_and(|one| one.size == attribute.valid()) => {
            (attribute.valid(), Provenance::Derived, "the entry in its folder, and what was written of it")
        }
        _ if fits(told) || clusters == 0 => {
            (told, Provenance::Derived, "its size ends in the last of its clusters")
        }
        _ if by_entry.is_some() => (
            by_entry.map_or(told, |one| one.size),
            Provenance::Derived,
            "the entry in its folder tells its size, which ends in the last of its clusters",
        ),
        Some(size) => {
            (size, Provenance::Derived, "its name tells its size, which ends in the last of its clusters")
        }
        None if told > 0 && told <= allocated => {
            let how = if spread { Provenance::Derived } else { Provenance::Judged };
            (told, how, "its size as it stands has room in its clusters")
        }
        None => {
            (allocated, Provenance::Judged, "all of its clusters: nothing tells where in the last it ends")
        }
    };
    let does = format!("set the sizes of {} of record {number} by its runs", crate::ntfs::check::title(of));
    let step = step("attribute-sizes", does, how, from, &c::SIZES, path);
    job.edit(number, step, |record| {
        let (list, _) = attributes(record);
        let Some(attribute) = list.iter().find(|attribute| attribute.at == at) else { return false };
        // What has no place for the sum of its clusters is neither packed nor has it holes; of the rest the file says it.
        let (room, spread) = (attribute.has_room_for_sum(), attribute.flags() & (COMPRESSED | SPARSE));
        let said = list.iter().find(|a| a.kind() == kind::STANDARD).map_or(0, |a| a.value().le32(32));
        let packed = if said & FILE_COMPRESSED == 0 { 0 } else { PACKED };
        let holed = if said & FILE_SPARSE == 0 { 0 } else { SPARSE };
        let spread = match (room, attribute.unit()) {
            (false, _) => 0,
            (true, unit) if spread == 0 && unit != 0 => packed | holed,
            _ => spread,
        };
        let flags = attribute.flags() & !(COMPRESSED | SPARSE) | spread;
        let (valid, unit) = (attribute.valid(), attribute.unit());
        // With the size, what was written is lost too.
        let valid = if told == 0 || valid > size { size } else { valid };
        put(record, at.plus(40), &allocated.to_le_bytes());
        put(record, at.plus(48), &size.to_le_bytes());
        put(record, at.plus(56), &valid.min(size).to_le_bytes());
        put(record, at.plus(12), &flags.to_le_bytes());
        if unit != 0 && spread == 0 {
            put(record, at.plus(34), &[0]);
        }
        if spread != 0 {
            put(record, at.plus(64), &held.to_le_bytes());
        }
        true
    })
}
