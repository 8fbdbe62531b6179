//! Files that no folder leads to: their folder's record is written anew where it is known, else they get another one.

use super::{
    Job,
    writing::{put_record, write_record},
};
use crate::{
    arith::{Peek, Sat},
    files::naming::ADRIFT,
    medium::MediumError,
    mending::step::{Provenance, Step},
    ntfs::{
        build::{BY_NAME, FileName, Record, Times, empty_root, resident, standard},
        catalogue as c,
        edit::insert,
        layout::{
            DUP_FOLDER, NAME_BOTH, NAME_LONG, NAME_SHORT, RECORD_FOLDER, kind, number, own, put, reference,
            sequence,
        },
        records::{Notes, Use},
        survey::Survey,
        tree::{Node, Of, Stray, Why},
    },
};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    lost_folders(job)?;
    if job.steps.is_empty() { adrift(job) } else { Ok(()) }
}

/// Files whose records have fewer names than they say, though entries still name them.
pub(super) fn named_by_entries(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let mut told: BTreeMap<u32, Vec<&Stray>> = BTreeMap::new();
    for stray in survey.strays.iter().filter(|stray| stray.why == Why::Renamed) {
        if let Some(file) = survey.records.referred(stray.reference)
            && (usize::from(file.links) > survey.records.names_of(file).len()
                || !file.notes.contains(Notes::NAMED))
            && !survey.records.names_of(file).iter().any(|name| name.text == stray.text)
            && file.number >= own::FIRST_FREE
        {
            told.entry(file.number).or_default().push(stray);
        }
    }
    for (number, strays) in told {
        let Some(file) = survey.records.live(number) else { continue };
        let keys: Vec<Vec<u8>> = strays
            .iter()
            .filter_map(|stray| {
                let folder = survey.records.live(stray.folder)?;
                let key = FileName {
                    parent: reference(folder.number, folder.sequence),
                    times: Times::all(stray.modified),
                    sizes: (stray.size, stray.size),
                    attributes: stray.attributes,
                    space: stray.space,
                    name: &stray.text,
                };
                Some(key.bytes())
            })
            .collect();
        let step = Step::new(
            "name-from-entry",
            format!("give record {number} its name again"),
            Provenance::Derived,
            "the entry of the folder that names it",
            &[&c::NO_NAME, &c::ENTRY_STALE, &c::NAME_HEAD, &c::LINKS],
        );
        let step = strays.iter().fold(step, |step, stray| step.file(stray.text.to_string()));
        job.edit(file.number, step, |record| {
            let there = u16::try_from(survey.records.names_of(file).len()).unwrap_or(0);
            let count = u16::try_from(keys.len()).unwrap_or(1).saturating_add(there);
            let done = keys.iter().all(|key| insert(record, &resident(kind::NAME, "", key)));
            put(record, 18, &count.to_le_bytes());
            done
        })?;
    }
    Ok(())
}

/// A folder in the making: where its record stands, its reference, its names with the folder that they stand in.
struct Folder<'f> {
    reference: u64,
    parent: u64,
    names: Vec<(u8, &'f str)>,
    time: u64,
    security: u32,
}

impl Folder<'_> {
    /// Its record, without an entry in its index: these come with the next reading.
    fn record(&self, survey: &Survey) -> Option<Vec<u8>> {
        let times = Times::all(self.time);
        let number = u32::try_from(number(self.reference)).ok()?;
        let mut record = Record::new(number, sequence(self.reference), RECORD_FOLDER).with(resident(
            kind::STANDARD,
            "",
            &standard(times, 0, self.security),
        ));
        for (space, name) in &self.names {
            let key = FileName {
                parent: self.parent,
                times,
                sizes: (0, 0),
                attributes: DUP_FOLDER,
                space: *space,
                name,
            };
            record = record.with(resident(kind::NAME, "", &key.bytes()));
        }
        let room = super::folders::sizes(survey);
        record
            .with(resident(kind::INDEX_ROOT, "$I30", &empty_root(BY_NAME, room)))
            .bytes(survey.mft.geometry.record())
    }
}

/// Folders whose records are lost, though an entry of another folder still names them.
fn lost_folders(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let parents: HashSet<u64> = survey.records.names.iter().map(|name| name.parent).collect();
    let mut made: BTreeMap<u64, Vec<&Stray>> = BTreeMap::new();
    for stray in survey.strays.iter().filter(|stray| stray.why == Why::Lost) {
        let folder = stray.attributes & DUP_FOLDER != 0 || parents.contains(&stray.reference);
        let there = number(stray.reference) < survey.mft.records().into();
        if folder && there && number(stray.reference) >= own::FIRST_FREE.into() {
            made.entry(stray.reference).or_default().push(stray);
        }
    }
    let paths = if made.is_empty() { HashMap::new() } else { stray_paths(survey) };
    let mut done = HashSet::new();
    for (of, mut strays) in made {
        // Two uses of one record: the first that something stands in.
        if !done.insert(number(of)) {
            continue;
        }
        strays.sort_by_key(|stray| (stray.folder, stray.space == NAME_SHORT));
        let Some(first) = strays.first().copied() else { continue };
        let Some(above) = survey.records.live(first.folder) else { continue };
        let own_names = strays.iter().filter(|stray| stray.folder == first.folder);
        let folder = Folder {
            reference: of,
            parent: reference(above.number, above.sequence),
            names: own_names.map(|stray| (stray.space, &*stray.text)).collect(),
            time: first.modified,
            security: above.security,
        };
        let Some(record) = folder.record(survey) else { continue };
        let path = paths.get(&of).cloned().unwrap_or_else(|| first.text.to_string());
        let step = Step::new(
            "folder-made-anew",
            format!("write the record of folder {path} anew"),
            Provenance::Derived,
            "its entry in the folder above, and the names that say that they stand in it",
            &[&c::RECORD_LOST, &c::ENTRY_MISSING],
        )
        .file(path);
        let at = u32::try_from(number(of)).unwrap_or(u32::MAX);
        job.steps.run(job.window, step, |window| put_record(window, &survey.mft, at, &record))?;
    }
    Ok(())
}

/// The paths of strays, by the reference that they name.
pub(super) fn stray_paths(survey: &Survey) -> HashMap<u64, String> {
    let of = |node: &Node| match node.of {
        Of::Stray(index) => survey.strays.get(index.size()).map(|stray| stray.reference),
        _ => None,
    };
    let strays = (0_u32..).zip(&survey.tree.nodes).filter_map(|(node, of_node)| Some((of(of_node)?, node)));
    strays.map(|(reference, node)| (reference, survey.path(node))).collect()
}

/// Records that can be given to new folders, from the first on.
struct Unused<'s> {
    survey: &'s Survey,
    named: HashSet<u64>,
    next: u32,
}

impl Unused<'_> {
    /// True for a record that holds no file.
    fn is(&self, number: u32) -> bool {
        let usage = self.survey.records.uses.get(number.size());
        number >= own::FIRST_USER && matches!(usage, Some(Use::Free | Use::Blank | Use::Noise))
    }
    fn take(&mut self) -> Option<u64> {
        while self.next < self.survey.mft.records() {
            let number = self.next;
            self.next = number.plus(1);
            let marked = self
                .survey
                .in_use
                .as_deref()
                .is_some_and(|bits| bits.byte(number.per(8).size()) >> number.rest(8) & 1 == 1);
            let noise = self.survey.records.uses.get(number.size()) == Some(&Use::Noise);
            if self.is(number) && !marked && !noise && self.named.insert(number.into()) {
                let sequence = self.survey.records.sequences.get(number.size()).copied().unwrap_or(1).max(1);
                return Some(reference(number, sequence));
            }
        }
        None
    }
}

/// What the tree has adrift: files with the folder that they name, which is no more.
#[derive(Default)]
struct Adrift {
    /// By that folder: the names, in the list of all.
    groups: BTreeMap<u64, Vec<u32>>,
    /// Names whose folders lead in a ring, or that cannot be told apart otherwise.
    loose: Vec<u32>,
    /// Files without a name: record, and what it will be called.
    nameless: Vec<(u32, String)>,
}

fn found(survey: &Survey) -> Adrift {
    let mut adrift = Adrift::default();
    let nodes = &survey.tree.nodes;
    let made = |node: &Node| matches!(node.of, Of::Made(_)) && node.file.is_none();
    let top = nodes.iter().position(|node| node.parent == 0 && made(node));
    for (index, node) in (0_u32..).zip(nodes) {
        let above = nodes.get(node.parent.size());
        let below_made = above.is_some_and(made) && node.parent != 0;
        if !below_made {
            continue;
        }
        match node.of {
            Of::Name(name) if Some(node.parent.size()) == top => adrift.loose.push(name),
            Of::Name(name) => {
                if let Some(of) = survey.records.names.get(name.size()) {
                    adrift.groups.entry(of.parent).or_default().push(name);
                }
            }
            Of::Made(_) => {
                if let Some(file) = node.file {
                    let text = survey.tree.text(&survey.records, &survey.strays, index).to_owned();
                    adrift.nameless.push((file, text));
                }
            }
            _ => {}
        }
    }
    adrift
}

/// All names of the files of these names that stand in the same folder: the short ones beside them too.
fn twins(survey: &Survey, names: &[u32]) -> Vec<u32> {
    let mut all = BTreeSet::new();
    for index in names {
        let Some(name) = survey.records.names.get(index.size()) else { continue };
        let Some(file) = survey.records.live(name.file) else { continue };
        for (other, of) in (file.names.start..).zip(survey.records.names_of(file)) {
            if of.parent == name.parent {
                all.insert(other);
            }
        }
    }
    all.into_iter().collect()
}

fn adrift(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let Adrift { groups, loose, nameless } = found(survey);
    let mut loose: Vec<(u32, &str)> =
        loose.into_iter().map(|name| (name, "the folders that it names lead in a ring")).collect();
    if groups.is_empty() && loose.is_empty() && nameless.is_empty() {
        return Ok(());
    }
    let Some(root) = survey.records.live(own::ROOT) else { return Ok(()) };
    let named = survey
        .strays
        .iter()
        .map(|stray| number(stray.reference))
        .chain(survey.records.names.iter().map(|name| number(name.parent)))
        .collect();
    let mut unused = Unused { survey, named, next: own::FIRST_USER };
    let (top, security) = (reference(own::ROOT, root.sequence), root.security);
    let time = root.modified;
    let Some(shelf) = shelf(job, &mut unused, (top, security, time))? else { return Ok(()) };
    // Where no record is left for that folder, it is the root.
    let inside = if shelf == top { String::new() } else { format!("{ADRIFT}/") };
    let mut taken: HashSet<u64> = HashSet::new();
    for (of, names) in groups {
        let there = u32::try_from(number(of)).ok().filter(|at| unused.is(*at) && taken.insert(number(of)));
        let Some(new) = there.map(|_| of).or_else(|| unused.take()) else {
            loose.extend(names.iter().map(|name| (*name, "no record is free for a folder of its own")));
            continue;
        };
        let text = format!("FOLDER {}", number(of));
        let folder =
            Folder { reference: new, parent: shelf, names: vec![(NAME_LONG, &text)], time, security };
        let Some(record) = folder.record(survey) else { continue };
        let path = format!("{inside}{text}");
        let step = Step::new(
            "folder-given",
            format!(
                "{path}: a folder for {} whose own is gone",
                crate::report::wording::counted(names.len().wide(), "file", "files")
            ),
            Provenance::Judged,
            "the files name one folder; its own name and place are not known",
            &[&c::ORPHAN],
        )
        .file(path);
        let moved = if new == of { Vec::new() } else { twins(survey, &names) };
        let at = u32::try_from(number(new)).unwrap_or(u32::MAX);
        job.steps.run(job.window, step, |window| {
            put_record(window, &survey.mft, at, &record)?;
            moved.iter().try_for_each(|name| set_parent(window, survey, *name, new))
        })?;
    }
    // What is called as something there gets another name when it is there.
    for (name, from) in loose {
        let Some(of) = survey.records.names.get(name.size()) else { continue };
        let path = format!("{inside}{}", of.text);
        let step = Step::new(
            "file-given-a-folder",
            format!("{path}: put it there"),
            Provenance::Judged,
            from,
            &[&c::ORPHAN],
        )
        .file(path);
        let all = twins(survey, &[name]);
        job.steps.run(job.window, step, |window| {
            all.iter().try_for_each(|name| set_parent(window, survey, *name, shelf))
        })?;
    }
    named_anew(job, nameless, (shelf, &inside))
}

/// Gives files without a name one.
fn named_anew(
    job: &mut Job<'_, '_, '_, '_>,
    nameless: Vec<(u32, String)>,
    (shelf, inside): (u64, &str),
) -> Result<(), MediumError> {
    let survey = job.survey;
    for (file, text) in nameless {
        let Some(of) = survey.records.live(file) else { continue };
        let folder = if of.notes.contains(Notes::FOLDER) { DUP_FOLDER } else { 0 };
        let times = Times::all(of.modified);
        let key = FileName {
            parent: shelf,
            times,
            sizes: (0, 0),
            attributes: folder,
            space: NAME_LONG,
            name: &text,
        };
        let attribute = resident(kind::NAME, "", &key.bytes());
        let path = format!("{inside}{text}");
        let step = Step::new(
            "file-given-a-name",
            format!("{path}: give it this name"),
            Provenance::Judged,
            "its record is whole but for a name",
            &[&c::NO_NAME],
        )
        .file(path);
        job.edit(file, step, |record| {
            let done = insert(record, &attribute);
            put(record, 18, &1_u16.to_le_bytes());
            done
        })?;
    }
    Ok(())
}

/// The reference of the folder that such files are put into: the one there is, a new one, or the root where no record is
/// free.
fn shelf(
    job: &mut Job<'_, '_, '_, '_>,
    unused: &mut Unused<'_>,
    (root, security, time): (u64, u32, u64),
) -> Result<Option<u64>, MediumError> {
    let survey = job.survey;
    let there = survey.tree.nodes.iter().find_map(|node| {
        let Of::Name(name) = node.of else { return None };
        let named =
            node.parent == 0 && survey.records.names.get(name.size()).is_some_and(|of| &*of.text == ADRIFT);
        let file = survey.records.live(node.file.filter(|_| named)?)?;
        file.notes.contains(Notes::FOLDER).then(|| reference(file.number, file.sequence))
    });
    if there.is_some() {
        return Ok(there);
    }
    let Some(new) = unused.take() else { return Ok(Some(root)) };
    let folder = Folder { reference: new, parent: root, names: vec![(NAME_BOTH, ADRIFT)], time, security };
    let Some(record) = folder.record(survey) else { return Ok(None) };
    let step = Step::new(
        "folder-given",
        format!("make the folder {ADRIFT}"),
        Provenance::Judged,
        "files whose own folder is gone are put there",
        &[&c::ORPHAN, &c::NO_NAME],
    )
    .file(ADRIFT);
    let at = u32::try_from(number(new)).unwrap_or(u32::MAX);
    job.steps.run(job.window, step, |window| put_record(window, &survey.mft, at, &record))?;
    Ok(Some(new))
}

/// Says of a name that it stands in another folder.
fn set_parent(
    window: &mut crate::medium::OverlayWindow<'_, '_>,
    survey: &Survey,
    name: u32,
    parent: u64,
) -> Result<(), MediumError> {
    let Some(of) = survey.records.names.get(name.size()) else { return Ok(()) };
    let Some(mut record) = survey.mft.read(window, of.holder) else { return Ok(()) };
    put(&mut record, usize::from(of.at), &parent.to_le_bytes());
    write_record(window, &survey.mft, of.holder, &record)
}
