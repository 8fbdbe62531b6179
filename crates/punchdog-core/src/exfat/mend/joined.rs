//! Lost clusters, and what is left of the sets they had: a set without clusters, or name entries without the two before them
//! (exFAT 1.00, 7.4, 7.6, 7.7: file, stream extension, names of 15 characters each).

use super::{
    Job,
    writing::{edit_stream, new_set, write_set},
};
use crate::{
    arith::{Peek, Sat},
    cluster::keeping::{Left, Side, between, named, paired},
    exfat::{
        catalogue as c,
        layout::{ARCHIVE, ENTRY, IN_USE, NAME, NAME_UNITS, NO_CHAIN, POSSIBLE, STREAM, Stream},
        sets::is_legal,
        survey::Content,
        tree::{Lost, Node},
    },
    files::naming::ADRIFT,
    medium::MediumError,
    mending::step::{Provenance, Step},
};
use std::collections::HashSet;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    to_entries(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    to_names(job)
}

/// Gives lost chains to empty files that they begin like.
fn to_entries(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let tree = &job.survey.tree;
    let empty = |node: &Node| !node.folder && node.stream.length == 0 && node.first == 0 && node.place != 0;
    let entries: Vec<(u32, &str)> = tree
        .below_root()
        .filter(|(_, node)| empty(node))
        .map(|(number, node)| (number, &*node.name))
        .collect();
    let chains = tree.lost.iter().enumerate().filter(|(_, lost)| !lost.blank);
    let chains: Vec<(usize, &str)> =
        chains.filter_map(|(n, lost)| Some((n, lost.extension.as_deref()?))).collect();
    for (number, lost) in paired(&entries, &chains) {
        let Some(chain) = job.survey.tree.lost.get(lost).cloned() else { continue };
        let path = job.survey.tree.path(number);
        let room = chain.length.wide().times(job.believed.geometry.cluster_bytes());
        let length = chain.bytes.unwrap_or(room);
        let step = Step::new(
            "content-joined",
            format!("{path}: give it the lost clusters from {} on, {length} bytes", chain.first),
            Provenance::Judged,
            "the file is empty, the clusters begin as its kind does, and there is no other of either: a recording that was cut off",
            &[&c::LOST_CLUSTERS],
        )
        .file(path)
        .or(format!("keep the clusters as a file in the folder {ADRIFT}, and the file empty"));
        edit_stream(job, number, step, |stream| {
            stream.flags = POSSIBLE | if chain.chained { 0 } else { NO_CHAIN };
            (stream.first, stream.length, stream.valid) = (chain.first, length, length);
        })?;
    }
    Ok(())
}

/// Name entries whose file entry is gone.
struct Names {
    folder: u32,
    /// Where its file entry stood.
    index: u32,
    name: String,
    between: Option<(u32, u32)>,
}

/// Gives lost clusters to names whose entries are gone.
fn to_names(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let left = names_left(job);
    let chains: Vec<Lost> = job.survey.tree.lost.iter().filter(|lost| !lost.blank).cloned().collect();
    let told: Vec<Left<'_>> =
        left.iter().map(|names| Left { name: &names.name, between: names.between }).collect();
    let firsts: Vec<(u32, Option<&str>)> =
        chains.iter().map(|lost| (lost.first, lost.extension.as_deref())).collect();
    for (number, chain, by_neighbours) in named(&told, &firsts, Side::Last) {
        let (Some(names), Some(chain)) = (left.get(number), chains.get(chain)) else { continue };
        let room = chain.length.wide().times(job.believed.geometry.cluster_bytes());
        let length = chain.bytes.unwrap_or(room);
        let flags = POSSIBLE | if chain.chained { 0 } else { NO_CHAIN };
        let stream = Stream { flags, first: chain.first, length, valid: length, ..Stream::default() };
        let set = new_set(&job.survey.capitals, &names.name, ARCHIVE, stream);
        let folder = job.survey.tree.path(names.folder);
        let path = if folder.is_empty() { names.name.clone() } else { format!("{folder}/{}", names.name) };
        let step = Step::new(
            "entry-for-name",
            format!(
                "{path}: write the entries that its name has lost, for the lost clusters from {} on, {length} bytes",
                chain.first
            ),
            Provenance::Judged,
            if by_neighbours {
                "the files of its folder lie in the order of its entries: these clusters are the last before those of the file behind it, and begin as its kind does"
            } else {
                "the clusters begin as its kind does, and there is no other of either"
            },
            &[&c::LOST_CLUSTERS, &c::STRAY],
        )
        .file(path)
        .or(format!("keep the clusters as a file in the folder {ADRIFT}, and free the name"));
        let places = job.places(names.folder);
        job.steps.run(job.window, step, |window| write_set(window, &places, names.index, &set))?;
    }
    Ok(())
}

/// Whole names without entries, before which there is room for these.
fn names_left(job: &mut Job<'_, '_, '_, '_>) -> Vec<Names> {
    let noted: Vec<u32> = job.survey.tree.notes.keys().copied().collect();
    let mut found = Vec::new();
    for folder in noted {
        let content = job.survey.content(job.window, folder);
        let nodes = job.survey.tree.below_root().map(|(_, node)| node);
        let own: Vec<&Node> = nodes.filter(|node| node.parent == folder && node.place != 0).collect();
        let mut files: Vec<(u32, u32)> =
            own.iter().filter(|node| node.first >= 2).map(|node| (node.index, node.first)).collect();
        files.sort_unstable();
        let taken: HashSet<u32> =
            own.iter().flat_map(|node| node.index..node.index.plus(node.entries)).collect();
        // What no host wrote can look like an entry that belongs to a file.
        let notes = job.survey.tree.notes.get(&folder);
        let noise: HashSet<u32> =
            notes.map(|notes| notes.junk.iter().chain(&notes.strays).copied().collect()).unwrap_or_default();
        let kind = |index: u32| content.bytes.byte(index.size().times(ENTRY));
        let is_name = |index: u32| kind(index) == NAME && !taken.contains(&index);
        let is_room = |index: u32| {
            !taken.contains(&index)
                && (kind(index) & IN_USE == 0
                    || noise.contains(&index) && !matches!(kind(index), NAME | STREAM))
        };
        let mut index = 2;
        while index < content.entries() {
            let count = (index..content.entries()).take_while(|index| is_name(*index)).count().narrow();
            if count > 0
                && is_room(index.minus(1))
                && is_room(index.minus(2))
                && let Some(name) = name_in(&content, index, count)
            {
                let index = index.minus(2);
                found.push(Names { folder, index, name, between: between(&files, index) });
            }
            index = index.plus(count.max(1));
        }
    }
    found
}

/// The name that these entries hold, if it fills them.
fn name_in(content: &Content, index: u32, count: u32) -> Option<String> {
    let entries = content.bytes.part(index.size().times(ENTRY), count.size().times(ENTRY));
    let units: Vec<u16> = entries
        .chunks_exact(ENTRY)
        .flat_map(|raw| raw.part(2, 30).chunks_exact(2).map(|unit| unit.le16(0)))
        .collect();
    let length = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
    let name = units.get(..length)?;
    let padded = units.get(length..)?.iter().all(|unit| *unit == 0);
    let fills = length > 0 && length.per_up(NAME_UNITS) == count.size();
    (fills && padded && is_legal(name)).then(|| String::from_utf16_lossy(name))
}
