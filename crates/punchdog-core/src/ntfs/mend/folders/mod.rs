//! Folders' indexes, by the names that the files' own records have.
//!
//! What an index shall hold is known without it: each name says in which folder it stands. So the smallest change that
//! makes it hold that is looked for first, node by node (`fitting`): a block that is right stays as it is, one that is
//! broken gets the names that belong between its neighbours. Where that does not do, the index is laid anew (`anew`), in
//! the folder's own clusters where they are enough.

mod anew;
mod fitting;
mod wanted;

use super::{Job, room::Clusters, shared};
use crate::{
    arith::{Peek, Sat},
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        build::Level,
        catalogue as c,
        differing::{Differing, How},
        edit::{insert, replace},
        index::{self, Index, IndexFlaw, is_set},
        layout::{kind, number},
        mend::writing::{write_record, write_stream},
        records::{File, Flaw, Notes, Piece},
        runs::Mapping,
        survey::Survey,
        tree::{Of, Why},
    },
    report::{finding::Entry, wording::counted},
};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// Records that are changed together, fixups off.
#[derive(Default)]
pub(super) struct Edits(BTreeMap<u32, Vec<u8>>);

impl Edits {
    /// A record as it will be.
    fn record(&mut self, job: &Job<'_, '_, '_, '_>, number: u32) -> &mut Vec<u8> {
        self.0.entry(number).or_insert_with(|| job.record(number).unwrap_or_default())
    }
    /// Puts an attribute in the place of the one there is, or in.
    fn set(&mut self, job: &Job<'_, '_, '_, '_>, number: u32, attribute: &[u8]) -> bool {
        let record = self.record(job, number);
        replace(record, attribute) || insert(record, attribute)
    }
}

/// What an index becomes.
#[derive(Default)]
pub(super) struct Change {
    /// Blocks, by where they begin in the attribute.
    blocks: Vec<(u64, Vec<u8>)>,
    /// The blocks' own place, where it is another one now.
    map: Option<Mapping>,
    /// Bytes of the bitmap that stands outside the record.
    bitmap: Option<(Mapping, Vec<u8>)>,
    edits: Edits,
}

/// What can be wrong with an index.
const MENDS: [&Entry; 17] = [
    &c::PIECES,
    &c::INDEX_ROOT,
    &c::INDEX_BLOCK,
    &c::INDEX_TORN,
    &c::INDEX_ENTRY,
    &c::INDEX_ORDER,
    &c::INDEX_BITMAP,
    &c::ENTRY_MISSING,
    &c::ENTRY_STALE,
    &c::SHORT_MISSING,
    &c::RUNS,
    &c::RUNS_BEYOND,
    &c::RUNS_COUNT,
    &c::ENTRY_KIND,
    &c::ENTRY_TOLD,
    &c::RECORD_OLDER,
    &c::CROSSED,
];

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let mut missing = missing(survey);
    let unplaced = unplaced(survey);
    let folders: BTreeSet<u32> =
        survey.folders_told_of().chain(missing.keys().copied()).chain(unplaced.iter().copied()).collect();
    if folders.is_empty() {
        return Ok(());
    }
    let keep = keeps_lost(job);
    let mut names = wanted::by_folder(survey, &folders);
    let paths = survey.paths_of(|number| folders.contains(&number));
    let mut stale: HashMap<u32, u64> = HashMap::new();
    for stray in survey.strays.iter().filter(|stray| stray.why != Why::Lost || !keep) {
        let count = stale.entry(stray.folder).or_default();
        *count = count.plus(1);
    }
    let mut differing: HashMap<u32, Vec<&Differing>> = HashMap::new();
    for one in survey.differing.iter().filter(|one| one.how.is_told()) {
        differing.entry(one.folder).or_default().push(one);
    }
    for all in differing.values_mut() {
        all.sort_by_key(|one| one.place);
    }
    let ahead = survey.differing.iter().filter(|one| one.how == How::Ahead);
    let ahead: HashSet<u32> = ahead.map(|one| one.file).collect();
    let older = if ahead.is_empty() { HashMap::new() } else { survey.paths_of(|file| ahead.contains(&file)) };
    let mut room = Clusters::of(survey);
    for folder in folders {
        let Some(file) = survey.records.live(folder).filter(|file| file.notes.contains(Notes::FOLDER)) else {
            continue;
        };
        let own = names.remove(&folder).unwrap_or_default();
        let told = differing.remove(&folder).unwrap_or_default();
        let ahead = told.iter().filter(|one| one.how == How::Ahead);
        let older = ahead.filter_map(|one| older.get(&one.file).cloned()).take(OLDER).collect();
        let news = News {
            path: paths.get(&folder).cloned(),
            missing: missing.remove(&folder).unwrap_or_default(),
            stale: stale.get(&folder).copied().unwrap_or_default(),
            unplaced: unplaced.contains(&folder),
            told: told.len().wide(),
            older,
        };
        let wanted = wanted::of(job.window, survey, file, (&own, &told), keep);
        one(job, file, &wanted, &news, &mut room)?;
    }
    Ok(())
}

/// The sizes that indexes of this volume are built for.
pub(super) fn sizes(survey: &Survey) -> crate::ntfs::build::Room {
    anew::sizes(survey, usize::MAX)
}

/// Names that no index leads to, by their folder.
fn missing(survey: &Survey) -> BTreeMap<u32, u64> {
    let mut found: BTreeMap<u32, u64> = BTreeMap::new();
    for name in survey.records.names.iter().filter(|name| !name.indexed) {
        let above = survey.records.referred(name.parent).filter(|above| above.notes.contains(Notes::FOLDER));
        if let (Some(above), Some(_)) = (above, survey.records.live(name.file)) {
            let count = found.entry(above.number).or_default();
            *count = count.plus(1);
        }
    }
    found
}

/// Folders of whose index a run list cannot be: hosts refuse them, also where its blocks can be read all the same. And those
/// whose blocks stand where something else does: what is written there for one the other loses.
fn unplaced(survey: &Survey) -> BTreeSet<u32> {
    let records = &survey.records;
    let crossed = |piece: &Piece| shared::are(survey, records.runs_of(piece));
    // Under whatever name: what is not called as the blocks of a folder are is of another writing.
    let own = records.pieces.iter().filter(|piece| {
        matches!(piece.kind, kind::INDEX_ALLOCATION | kind::BITMAP)
            && (piece.bad.is_some() || !piece.resident && crossed(piece))
    });
    let plain = |file: &File| file.notes.contains(Notes::FOLDER) && !file.notes.contains(Notes::VIEW);
    // What leaves something out has blocks that stand nowhere.
    let partly = records.flaws.iter().filter_map(|(number, flaw)| match flaw {
        Flaw::Pieces(kind::INDEX_ALLOCATION | kind::BITMAP) => Some(records.base_of(*number)),
        _ => None,
    });
    let files = own.map(|piece| piece.file).chain(partly);
    files.filter(|file| records.live(*file).is_some_and(plain)).collect()
}

/// Whether entries of files whose records are lost stay.
fn keeps_lost(job: &mut Job<'_, '_, '_, '_>) -> bool {
    let survey = job.survey;
    let lost: Vec<String> = (0_u32..)
        .zip(&survey.tree.nodes)
        .filter(|(_, node)| matches!(node.of, Of::Stray(_)))
        .map(|(node, _)| survey.path(node))
        .collect();
    lost.is_empty() || super::lost::asked(job, lost)
}

/// Files that are named in one step.
const OLDER: usize = 2000;

/// What is told of a folder whose index is mended.
struct News {
    /// Its path, that of the root folder empty; `None` where nothing leads to it.
    path: Option<String>,
    /// Names that are put in.
    missing: u64,
    /// Entries that are taken out.
    stale: u64,
    /// Where its blocks or their bitmap stand cannot be told.
    unplaced: bool,
    /// Entries that get what the files' records say.
    told: u64,
    /// The files whose records are of an earlier writing than their entries.
    older: Vec<String>,
}

fn one(
    job: &mut Job<'_, '_, '_, '_>,
    folder: &File,
    wanted: &[Vec<u8>],
    news: &News,
    room: &mut Clusters,
) -> Result<(), MediumError> {
    let survey = job.survey;
    let opened = index::open(job.window, &survey.mft, &survey.records, folder);
    let right = !survey.index_flaws.contains(&(folder.number, IndexFlaw::Root));
    let fitted = if news.unplaced { None } else { fitting::fit(&opened, wanted, survey, right) };
    let fitted = fitted.and_then(|fitted| changed(job, folder, &opened, fitted));
    let (anew, change) = match fitted {
        Some(change) => (false, Some(change)),
        None => (true, anew::lay(job, folder, &opened, wanted, room)),
    };
    let path = match news.path.as_deref() {
        Some("") => "the root folder".to_owned(),
        Some(path) => path.to_owned(),
        None => format!("folder {}", folder.number),
    };
    // Without room for it nothing is done, and what is wrong is said as before.
    let Some(change) = change else {
        let (names, needs) = (counted(wanted.len().wide(), "name", "names"), anew::bytes(survey, wanted));
        job.steps.leave(format!(
            "the index of {path} cannot be laid anew: its {names} need {needs} bytes in blocks, and a place in the \
             folder's records that says where these are; {} bytes of the volume are free",
            room.bytes(survey, job.window)
        ));
        return Ok(());
    };
    let map = change.map.clone().unwrap_or_else(|| opened.blocks.map.clone());
    drop(opened);
    let (name, does) = if anew {
        let many = counted(wanted.len().wide(), "name", "names");
        ("index-laid-anew", format!("lay the index of {path} anew, of {many}"))
    } else {
        let parts = [
            (news.missing, "name", "names", "put in"),
            (news.stale, "entry", "entries", "taken out"),
            (news.told, "entry", "entries", "set as the record says"),
            (change.blocks.len().wide(), "block", "blocks", "written"),
        ];
        let told = parts.iter().filter(|(count, ..)| *count > 0);
        let told: Vec<String> =
            told.map(|(count, one, many, done)| format!("{} {done}", counted(*count, one, many))).collect();
        let none = "set what it says of its blocks".to_owned();
        ("index-mended", format!("index of {path}: {}", if told.is_empty() { none } else { told.join(", ") }))
    };
    let from = "the names that the files' own records have";
    let mut step = Step::new(name, does, Provenance::Derived, from, &MENDS);
    if !news.older.is_empty() {
        step.provenance = Provenance::Judged;
        step.paths.clone_from(&news.older);
        step = step.or(
            "the records of these files are of an earlier writing: what they hold may be another's by now",
        );
    }
    // Where it rests on judgement, that is of these files.
    let step = match news.path.as_deref().filter(|path| !path.is_empty() && news.older.is_empty()) {
        None => step,
        Some(path) => step.file(path),
    };
    job.steps.run(job.window, step, |window| {
        for (at, bytes) in &change.blocks {
            write_stream(window, &map, *at, bytes)?;
        }
        if let Some((map, bytes)) = &change.bitmap {
            write_stream(window, map, 0, bytes)?;
        }
        change
            .edits
            .0
            .iter()
            .try_for_each(|(number, record)| write_record(window, &survey.mft, *number, record))
    })
}

/// What has to be written for a fitted index; `None` where its records have no room.
fn changed(
    job: &Job<'_, '_, '_, '_>,
    folder: &File,
    opened: &Index<'_>,
    fitted: fitting::Fitted,
) -> Option<Change> {
    let mut change = Change { blocks: fitted.blocks, ..Change::default() };
    if let Some(root) = fitted.root {
        let room = anew::sizes(job.survey, 0);
        let value = root.root(crate::ntfs::build::BY_NAME, room);
        let attribute = crate::ntfs::build::resident(kind::INDEX_ROOT, "$I30", &value);
        if !replace(change.edits.record(job, opened.holder), &attribute) {
            return None;
        }
    }
    mark(job, folder, opened, &fitted.used, &mut change)?;
    Some(change)
}

/// Sets the bitmap of the blocks to those that are used.
fn mark(
    job: &Job<'_, '_, '_, '_>,
    folder: &File,
    opened: &Index<'_>,
    used: &BTreeSet<u64>,
    change: &mut Change,
) -> Option<()> {
    let count = opened.blocks.map.len().per(opened.blocks.size.wide());
    if (0..count).all(|block| is_set(&opened.marked, block) == used.contains(&block)) {
        return Some(());
    }
    let pieces = job.survey.records.stream_of(folder, kind::BITMAP, "$I30");
    let bits = anew::bits(used, count);
    let first = pieces.first()?;
    if first.resident {
        let length = first.size.size().max(bits.len());
        let mut value = bits;
        value.resize(length, 0);
        let attribute = crate::ntfs::build::resident(kind::BITMAP, "$I30", &value);
        return replace(change.edits.record(job, first.holder), &attribute).then_some(());
    }
    let map = Mapping::of(&job.survey.records.all_runs(pieces), job.survey.mft.geometry.cluster());
    let length = first.size.size().min(1 << 22);
    if bits.len() > length || map.len() < length.wide() {
        return None;
    }
    let mut value = bits;
    value.resize(length, 0);
    change.bitmap = Some((map, value));
    Some(())
}

/// A node of an index, as it stands.
pub(super) struct Read {
    /// Its entries, each with the reference and key alone.
    level: Level,
    /// It can be read to its end.
    whole: bool,
}

/// Reads the entries of a node.
fn level(mut node: index::Node) -> Read {
    let mut level = Level::default();
    loop {
        let at = node.next;
        let length = usize::from(node.bytes.le16(at.plus(8)));
        let flags = node.bytes.le16(at.plus(12));
        let below = || {
            let has = flags & crate::ntfs::layout::ENTRY_NODE != 0;
            has.then(|| node.bytes.le64(at.plus(length).minus(8)))
        };
        match index::next(&node) {
            Err(()) => return Read { level, whole: false },
            Ok(None) => {
                level.last = below();
                return Read { level, whole: true };
            }
            Ok(Some((entry, ..))) => {
                let below = below();
                let bytes = crate::ntfs::build::folder_entry(entry.le64(0), index::key(&entry));
                level.entries.push((bytes, below));
            }
        }
        node.next = at.plus(length);
    }
}

/// The record that an entry means.
fn meant(entry: &[u8]) -> u32 {
    u32::try_from(number(entry.le64(0))).unwrap_or(u32::MAX)
}
