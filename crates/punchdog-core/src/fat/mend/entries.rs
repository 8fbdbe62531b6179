//! What entries say of chains: first clusters, sizes, the folder bit, shared clusters, entries that
//! are marked deleted or hidden behind an end mark.

use super::{
    Job,
    writing::{edit, link_chain, rename, set_link, take_clusters},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{Link, alongside},
        set::ClusterSet,
    },
    fat::{
        catalogue as c,
        folder::Flaws,
        layout::{ATTR_DIRECTORY, ENTRY_BYTES, FREE_ENTRY},
        names,
        tree::{Node, Reached},
    },
    medium::{Extent, MediumError},
    mending::step::{Provenance, Step},
    report::wording::counted,
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let troubled: Vec<(u32, Node)> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.flaws != Flaws::default() || node.reached != Reached::Tree)
        .map(|(number, node)| (number, node.clone()))
        .collect();
    for (number, node) in &troubled {
        if node.reached == Reached::Undeleted {
            undelete(job, *number, node)?;
        }
        first_cluster(job, *number, node)?;
    }
    crossed(job, &troubled)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    for (number, node) in &troubled {
        size(job, *number, node)?;
    }
    ends(job)
}

fn first_cluster(job: &mut Job<'_, '_, '_, '_>, number: u32, node: &Node) -> Result<(), MediumError> {
    let path = job.survey.tree.path(number);
    let place = node.place;
    if node.flaws.has(Flaws::FIRST_FOUND) {
        let first = node.first;
        let step = Step::new(
            "first-cluster-found",
            format!("{path}: set the first cluster to {first}"),
            Provenance::Judged,
            "a chain that nothing claimed, of exactly the length or with the \"..\" that this entry needs",
            &[&c::FIRST_WRONG, &c::FIRST_RANGE, &c::FIRST_MISSING, &c::FIRST_FREE, &c::NOT_FOLDER],
        )
        .or("leave the file empty and keep the chain as a file of its own")
        .file(path.clone());
        job.steps
            .run(job.window, step, |window| edit(window, place, |entry| entry.set_first_cluster(first)))?;
    }
    if node.flaws.has(Flaws::WRONG_TYPE) {
        let folder = node.folder;
        let step = Step::new(
            "folder-bit",
            format!("{path}: mark it as a {}", if folder { "folder" } else { "file" }),
            Provenance::Derived,
            "what stands in its first cluster",
            &[&c::WRONG_TYPE],
        )
        .file(path.clone());
        job.steps.run(job.window, step, |window| {
            edit(window, place, |entry| {
                entry.attributes = if folder {
                    entry.attributes | ATTR_DIRECTORY
                } else {
                    entry.attributes & !ATTR_DIRECTORY
                };
            })
        })?;
    }
    let unusable =
        node.flaws.any(Flaws::NO_FIRST.with(Flaws::FIRST_RANGE)) && !node.flaws.has(Flaws::FIRST_FOUND);
    if unusable && !node.folder {
        let step = Step::new(
            "file-emptied",
            format!("{path}: set size and first cluster to 0"),
            Provenance::Judged,
            "nothing of its content can be found",
            &[&c::FIRST_RANGE, &c::FIRST_MISSING],
        )
        .file(path.clone());
        job.steps.run(job.window, step, |window| {
            edit(window, place, |entry| {
                entry.set_first_cluster(0);
                entry.size = 0.into();
            })
        })?;
    }
    if node.folder && node.flaws.has(Flaws::NOT_FOLDER) && node.length == 0 {
        // The entry names no cluster of its own: there is nothing behind the name.
        remove(job, node, &path)?;
    }
    Ok(())
}

fn remove(job: &mut Job<'_, '_, '_, '_>, node: &Node, path: &str) -> Result<(), MediumError> {
    let places = job.places(node.parent);
    let step = Step::new(
        "entry-removed",
        format!("{path}: remove the entry"),
        Provenance::Judged,
        "it names no cluster that is its own, and no lost folder fits it",
        &[&c::NOT_FOLDER, &c::FIRST_RANGE, &c::FIRST_MISSING, &c::CROSS_LINKED],
    )
    .file(path);
    let from = node.index.minus(u32::from(node.long));
    job.steps.run(job.window, step, |window| {
        super::writing::free_entries(window, &places, &(from..=node.index).collect::<Vec<_>>())
    })
}

fn size(job: &mut Job<'_, '_, '_, '_>, number: u32, node: &Node) -> Result<(), MediumError> {
    if node.folder {
        return Ok(());
    }
    let path = job.survey.tree.path(number);
    let room = node.length.times(job.believed.geometry.cluster_bytes());
    let bytes = |value: u32| format!("{path}: {value} bytes");
    if node.flaws.has(Flaws::SIZE_WRONG) {
        return told_size(job, number, node, path);
    }
    if node.flaws.has(Flaws::CHAIN_SHORT) {
        let told = node.size_without_a_bit(&job.believed.geometry);
        let room = told.unwrap_or(room);
        let options = [
            ("shorten", format!("each file keeps what its chain holds ({})", bytes(room))),
            ("leave", "nothing changes; reading past the end gives an error".to_owned()),
        ];
        let taken = job.choices.ask(
            "short-chain",
            "A file's chain is shorter than its size. Set the size to what is there?",
            &options,
            vec![path.clone()],
        );
        if taken == "shorten" {
            let step = Step::new(
                "size-from-chain",
                format!("{path}: set the size from {} to {room}", node.size()),
                if told.is_some() { Provenance::Judged } else { Provenance::Derived },
                if told.is_some() {
                    "the length of its chain, which the size has but for one bit or its highest byte"
                } else {
                    "the length of its chain"
                },
                &[&c::CHAIN_SHORT],
            )
            .file(path.clone());
            let first = if room == 0 { 0 } else { node.first };
            job.steps.run(job.window, step, |window| {
                edit(window, node.place, |entry| {
                    entry.size = room.into();
                    entry.set_first_cluster(first);
                })
            })?;
        }
    }
    if node.flaws.has(Flaws::CHAIN_LONG) {
        let options = [
            (
                "trust-size",
                "the clusters that are too many become free, and what stands in them is given up".to_owned(),
            ),
            ("trust-chain", format!("the file grows to its chain ({})", bytes(room))),
        ];
        let taken = job.choices.ask(
            "long-chain",
            "A file's chain is longer than its size. Which is right?",
            &options,
            vec![path.clone()],
        );
        if taken == "trust-chain" {
            set_size(job, node, &path, room, &c::CHAIN_LONG)?;
        } else {
            let needed = job.believed.geometry.clusters_for(node.size());
            cut_chain(job, number, needed, &path, &c::CHAIN_LONG)?;
        }
    }
    if node.flaws.has(Flaws::SIZE_ZERO) {
        let told = end_by_content(job, number);
        let room = told.unwrap_or(room);
        let length =
            if told.is_some() { "as long as its own structure says" } else { "up to a cluster too long" };
        let options = [
            ("trust-chain", format!("the content is back, {length} ({})", bytes(room))),
            ("trust-size", "the file stays empty, its clusters become free".to_owned()),
        ];
        let taken = job.choices.ask(
            "no-size",
            "A file of size 0 has clusters. Which is right?",
            &options,
            vec![path.clone()],
        );
        if taken == "trust-chain" && room > 0 {
            set_size(job, node, &path, room, &c::SIZE_ZERO)?;
        } else {
            cut_chain(job, number, 0, &path, &c::SIZE_ZERO)?;
            let step = Step::new(
                "first-cluster-cleared",
                format!("{path}: set the first cluster to 0"),
                Provenance::Derived,
                "the size is 0",
                &[&c::SIZE_ZERO],
            )
            .file(path.clone());
            job.steps.run(job.window, step, |window| {
                edit(window, node.place, |entry| entry.set_first_cluster(0))
            })?;
        }
    }
    Ok(())
}

/// Sets the size that the content of a file tells.
fn told_size(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    node: &Node,
    path: String,
) -> Result<(), MediumError> {
    let said = job.survey.tree.said_sizes.get(&number).copied().unwrap_or_default();
    let size = node.entry.size;
    let options = [
        ("content", format!("the size is set to where the content ends ({path}: {} bytes)", size.get())),
        ("leave", "nothing changes; hosts go on reading what the entry says".to_owned()),
    ];
    let taken = job.choices.ask(
        "size-wrong",
        "A file's size is not where its content ends. Set it to that?",
        &options,
        vec![path.clone()],
    );
    if taken == "leave" {
        return Ok(());
    }
    let step = Step::new(
        "size-from-content",
        format!("{path}: set the size from {said} to {}", size.get()),
        Provenance::Judged,
        "its content ends there by its own structure, in the last cluster of its chain",
        &[&c::SIZE_WRONG],
    )
    .or("leave it as it is")
    .file(path);
    job.steps.run(job.window, step, |window| edit(window, node.place, |entry| entry.size = size))
}

/// Where the content of a file ends by its own structure, in the last cluster of its chain.
fn end_by_content(job: &mut Job<'_, '_, '_, '_>, number: u32) -> Option<u32> {
    let geometry = job.believed.geometry;
    let each = geometry.cluster_bytes().wide();
    let clusters = job.survey.clusters(job.window, number);
    let places = clusters.iter().map(|cluster| Extent::new(geometry.cluster_offset(*cluster), each));
    let places: Vec<Extent> = places.collect();
    crate::files::end::length(job.window, &places, each).and_then(|length| u32::try_from(length).ok())
}

fn set_size(
    job: &mut Job<'_, '_, '_, '_>,
    node: &Node,
    path: &str,
    size: u32,
    entry: &'static crate::report::finding::Entry,
) -> Result<(), MediumError> {
    let step = Step::new(
        "size-from-chain",
        format!("{path}: set the size from {} to {size}", node.size()),
        Provenance::Judged,
        "the length of its chain",
        &[entry],
    )
    .or("trust the size, and free the clusters")
    .file(path);
    job.steps.run(job.window, step, |window| edit(window, node.place, |raw| raw.size = size.into()))
}

/// Ends a chain after `keep` clusters and frees the rest.
fn cut_chain(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    keep: u32,
    path: &str,
    entry: &'static crate::report::finding::Entry,
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let clusters = job.survey.clusters(job.window, number);
    let step = Step::new(
        "chain-shortened",
        format!(
            "{path}: free {} behind its end",
            counted(clusters.len().minus(keep.size()).wide(), "cluster", "clusters")
        ),
        Provenance::Judged,
        "the size in its entry",
        &[entry],
    )
    .or("trust the chain, and make the file longer")
    .file(path);
    job.steps.run(job.window, step, |window| {
        for (index, cluster) in clusters.iter().enumerate().skip(keep.size().minus(1)) {
            let last = keep > 0 && index.plus(1) == keep.size();
            set_link(window, &geometry, *cluster, if last { Link::End } else { Link::Free })?;
        }
        Ok(())
    })
}

/// Files that share clusters: each but the first gets its own copy of them, or is cut before them.
fn crossed(job: &mut Job<'_, '_, '_, '_>, troubled: &[(u32, Node)]) -> Result<(), MediumError> {
    let mut involved: Vec<&(u32, Node)> =
        troubled.iter().filter(|(_, node)| node.flaws.has(Flaws::CROSSED) && node.length > 0).collect();
    if involved.is_empty() {
        return Ok(());
    }
    let geometry = job.believed.geometry;
    // The one whose chain is as long as its size needs keeps the clusters; folders before files.
    involved.sort_by_key(|(number, node)| {
        let fits = node.folder || node.length == geometry.clusters_for(node.size());
        (!node.folder, !fits, *number)
    });
    let paths: Vec<String> = involved.iter().map(|(number, _)| job.survey.tree.path(*number)).collect();
    let options = [
        (
            "duplicate",
            "each file gets its own copy of the shared clusters; at most one is right there".to_owned(),
        ),
        ("cut", "the first file keeps them, the others end before them".to_owned()),
    ];
    let taken =
        job.choices.ask("cross-link", "Files share clusters. Who gets them?", &options, paths.clone());
    let mut owned = ClusterSet::with_capacity(geometry.last_cluster().plus(1).size());
    for ((number, node), path) in involved.iter().zip(paths) {
        let mut clusters = job.survey.clusters(job.window, *number);
        if !node.folder {
            clusters.truncate(geometry.clusters_for(node.size()).max(1).size());
        }
        let shared: Vec<usize> = clusters
            .iter()
            .enumerate()
            .filter(|(_, c)| owned.contains(c.size()))
            .map(|(index, _)| index)
            .collect();
        owned.extend(clusters.iter().map(|c| c.size()));
        if shared.is_empty() {
            continue;
        }
        if node.folder {
            remove(job, node, &path)?;
            continue;
        }
        let fresh = if taken == "duplicate" { take_clusters(job, shared.len().narrow()) } else { None };
        if let Some(fresh) = fresh {
            duplicate(job, node, &path, clusters, &shared, &fresh)?;
        } else {
            let keep = shared.first().copied().unwrap_or(0);
            cut_before(job, node, &path, (&clusters, keep), taken != "duplicate")?;
        }
    }
    Ok(())
}

fn duplicate(
    job: &mut Job<'_, '_, '_, '_>,
    node: &Node,
    path: &str,
    mut clusters: Vec<u32>,
    shared: &[usize],
    fresh: &[u32],
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let step = Step::new(
        "cross-link-duplicated",
        format!(
            "{path}: give it its own copy of {}",
            counted(shared.len().wide(), "shared cluster", "shared clusters")
        ),
        Provenance::Judged,
        if node.flaws.has(Flaws::TWICE) {
            "the shared clusters as they stand: both entries name the same first cluster and the same size"
        } else {
            "the shared clusters as they stand; in at most one of the files they are right"
        },
        &[&c::CROSS_LINKED],
    )
    .or("cut this file before the shared clusters")
    .file(path);
    let each = geometry.cluster_bytes().wide();
    job.steps.run(job.window, step, |window| {
        let old: Vec<u32> = shared.iter().filter_map(|index| clusters.get(*index).copied()).collect();
        for (from, to, count) in alongside(&old, fresh.iter().copied()) {
            let (from, to) = (geometry.cluster_offset(from), geometry.cluster_offset(to));
            window.copy_at(from, to, count.wide().times(each))?;
        }
        for (index, new) in shared.iter().zip(fresh) {
            if let Some(slot) = clusters.get_mut(*index) {
                *slot = *new;
            }
        }
        // Only what comes from the first exchanged cluster on is linked anew; what stands before
        // it already leads there.
        let from = shared.first().copied().unwrap_or(0).minus(1);
        link_chain(window, &geometry, clusters.get(from..).unwrap_or(&[]))?;
        let first = clusters.first().copied().unwrap_or(0);
        edit(window, node.place, |entry| entry.set_first_cluster(first))
    })
}

fn cut_before(
    job: &mut Job<'_, '_, '_, '_>,
    node: &Node,
    path: &str,
    (clusters, keep): (&[u32], usize),
    chosen: bool,
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let size = keep.narrow().times(geometry.cluster_bytes()).min(node.entry.size.get());
    let step = Step::new(
        "cross-link-cut",
        format!(
            "{path}: end it before the shared clusters, at {size} bytes{}",
            if chosen { "" } else { ": there is no room for a copy of its own" }
        ),
        Provenance::Judged,
        "the other file's size fits the shared clusters, or it comes first",
        &[&c::CROSS_LINKED],
    )
    .or("give each file its own copy of the shared clusters")
    .file(path);
    job.steps.run(job.window, step, |window| {
        if let Some(last) = keep.checked_sub(1).and_then(|last| clusters.get(last)) {
            set_link(window, &geometry, *last, Link::End)?;
        }
        edit(window, node.place, |entry| {
            entry.size = size.into();
            if keep == 0 {
                entry.set_first_cluster(0);
            }
        })
    })
}

/// An entry marked deleted whose chain is whole and nobody's.
fn undelete(job: &mut Job<'_, '_, '_, '_>, number: u32, node: &Node) -> Result<(), MediumError> {
    let path = job.survey.tree.path(number);
    let options = [
        ("restore", "the files are listed again under their names".to_owned()),
        ("free", "the delete is finished: their clusters become free".to_owned()),
    ];
    let question =
        "Entries are marked deleted, but their clusters are in use and nobody else's. Bring the files back?";
    let taken = job.choices.ask("deleted-in-use", question, &options, vec![path.clone()]);
    if taken != "restore" {
        let geometry = job.believed.geometry;
        let clusters = job.survey.clusters(job.window, number);
        let step = Step::new(
            "delete-finished",
            format!("{path}: free its {}", counted(clusters.len().wide(), "cluster", "clusters")),
            Provenance::Judged,
            "the mark in its entry",
            &[&c::DELETED_IN_USE],
        )
        .or("bring the file back")
        .file(path);
        return job.steps.run(job.window, step, |window| {
            clusters.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::Free))?;
            edit(window, node.place, |entry| {
                let [first, ..] = &mut entry.name;
                *first = FREE_ENTRY;
            })
        });
    }
    let places = job.places(node.parent);
    let part = places.read(job.window, node.index.minus(1), 1);
    let (short, exact) = first_letter(&part, node);
    let step = Step::new(
        "entry-restored",
        format!("{path}: mark the entry as in use again, as {}", names::short_text(&short, 0)),
        // The name may be certain; that the file shall be there again is not.
        Provenance::Judged,
        if exact {
            "that the delete was none is judged; the first letter follows from the checksum of the long name"
        } else {
            "that the delete was none is judged; the first letter of the short name is lost, and an underline stands for it"
        },
        &[&c::DELETED_IN_USE],
    )
    .or("finish the delete")
    .file(path);
    let place = (u32::from(node.long), node.index);
    job.steps.run(job.window, step, |window| rename(window, &places, place, &node.name, &short))
}

/// The short name of a deleted entry with its first byte computed: the only one with which the
/// long name's checksum comes out. `part` is the last part of that name.
fn first_letter(part: &[u8], node: &Node) -> (names::Short, bool) {
    let mut short = node.entry.name;
    let [first, ..] = &mut short;
    *first = b'_';
    if node.long == 0 {
        return (short, false);
    }
    let wanted = part.byte(13);
    for letter in 0x21..=0xFF_u8 {
        let mut tried = short;
        let [first, ..] = &mut tried;
        *first = letter;
        if names::checksum(&tried) == wanted && names::short_is_legal(&tried) {
            return (tried, names::answers(&node.name, &tried));
        }
    }
    (short, false)
}

/// End marks that hide whole entries become free entries.
fn ends(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let marks: Vec<(u32, u32)> = job
        .survey
        .tree
        .notes
        .iter()
        .filter(|(_, notes)| notes.tail_is_real)
        .filter_map(|(folder, notes)| notes.tail.map(|(end, _)| (*folder, end)))
        .collect();
    for (folder, end) in marks {
        let content = job.survey.content(job.window, folder);
        let real = job
            .survey
            .tree
            .below_root()
            .filter(|(_, node)| node.parent == folder && node.reached == Reached::BehindEnd);
        let last = real.map(|(_, node)| node.index).max().unwrap_or(end);
        let title = job.survey.tree.folder_title(folder);
        let step = Step::new(
            "end-mark-moved",
            format!("{title}: make the end mark at entry {end} a free entry"),
            Provenance::Derived,
            "the entries behind it have chains that fit and belong to nothing else",
            &[&c::END_EARLY],
        );
        let empty: Vec<u32> =
            (end..last).filter(|index| content.bytes.byte(index.size().times(ENTRY_BYTES)) == 0).collect();
        job.steps
            .run(job.window, step, |window| super::writing::free_entries(window, &content.places, &empty))?;
    }
    Ok(())
}
