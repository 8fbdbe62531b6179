//! What nothing names: lost chains become files in the folder ADRIFT, or free; lost folders get an
//! entry in the folder that their ".." names.

use super::{
    Job,
    writing::{Slot, free_place, link_chain, plain_entry, set_link, take_clusters},
};
use crate::{
    arith::{Peek, Sat},
    chain::{End, Link},
    fat::{
        ADRIFT, catalogue as c,
        layout::{ATTR_ARCHIVE, ATTR_DIRECTORY, ENTRY_BYTES},
        names,
        tree::{Lost, Reached},
    },
    medium::{Extent, MediumError},
    naming::Names,
    step::{Provenance, Step},
};
use zerocopy::IntoBytes;

/// The name that a lost chain gets.
pub(crate) fn lost_name(head: u32, extension: Option<&str>) -> String {
    let extension = extension.filter(|e| e.len() <= 3 && e.chars().all(|c| c.is_ascii_alphanumeric()));
    format!("A{:07}.{}", head.rest(10_000_000), extension.unwrap_or("bin").to_ascii_uppercase())
}

fn short(name: &str) -> names::Short {
    let mut short = *b"           ";
    let (base, extension) = name.split_once('.').unwrap_or((name, ""));
    let (low, high) = short.split_at_mut(8);
    for (half, text) in [(low, base), (high, extension)] {
        for (place, byte) in half.iter_mut().zip(text.bytes()) {
            *place = byte;
        }
    }
    short
}

pub(super) fn mend(job: &mut Job<'_, '_, '_>) -> Result<(), MediumError> {
    folders(job)?;
    if !job.steps.is_empty() || job.survey.tree.lost.is_empty() {
        return Ok(());
    }
    let lost = std::mem::take(&mut job.survey.tree.lost);
    let names: Vec<String> = lost
        .iter()
        .take(2000)
        .map(|l| format!("{ADRIFT}/{}", lost_name(l.head, l.extension.as_deref())))
        .collect();
    let options = [
        ("keep", format!("each chain becomes a file in the folder {ADRIFT}, to be looked through later")),
        ("free", "the clusters become free; what they hold is given up".to_owned()),
    ];
    let question = "Clusters are in use that belong to no file. Keep what they hold?";
    let taken = job.choices.ask("lost-chains", question, &options, names);
    if taken == "keep" {
        if keep(job, &lost)? {
            return Ok(());
        }
        tracing::warn!("no room for the folder {ADRIFT}: lost chains stay as they are");
        return Ok(());
    }
    let geometry = job.believed.geometry;
    let step = Step::new(
        "lost-chains-freed",
        format!("free {} lost chains", lost.len()),
        Provenance::Judged,
        "they belong to no file",
        &[&c::LOST_CHAIN],
    )
    .or(format!("keep them as files in the folder {ADRIFT}"));
    let chains: Vec<Vec<u32>> = lost
        .iter()
        .map(|l| crate::fat::survey::chain(job.stage, &mut job.survey.links, l.head, l.length))
        .collect();
    job.steps.run(job.stage, step, |stage| {
        chains.iter().flatten().try_for_each(|cluster| set_link(stage, &geometry, *cluster, Link::Free))
    })
}

/// True when the chains were kept; false when there was no room for a folder.
fn keep(job: &mut Job<'_, '_, '_>, lost: &[Lost]) -> Result<bool, MediumError> {
    let geometry = job.believed.geometry;
    let root = job.survey.content(job.stage, 0);
    // A folder holds 65536 entries at most (specification, "FAT Directory Structure").
    let lost = lost.get(..lost.len().min(60_000)).unwrap_or(lost);
    let numbered = |number: u32| if number == 1 { ADRIFT.to_owned() } else { format!("{ADRIFT}{number}") };
    let name = unused_name(&mut names_in(job, [0]), 0, numbered);
    let (Some(slot), Some(name)) = (free_place(&root), name) else {
        return Ok(false);
    };
    let bytes = lost.len().plus(3).times(ENTRY_BYTES);
    let Some(clusters) = take_clusters(job, geometry.clusters_for(bytes.wide())) else { return Ok(false) };
    let first = clusters.first().copied().unwrap_or(0);
    let mut content = vec![
        plain_entry(names::DOT, ATTR_DIRECTORY, first, 0),
        plain_entry(names::DOT_DOT, ATTR_DIRECTORY, 0, 0),
    ];
    for chain in lost {
        let size = chain.length.times(geometry.cluster_bytes());
        content.push(plain_entry(
            short(&lost_name(chain.head, chain.extension.as_deref())),
            ATTR_ARCHIVE,
            chain.head,
            size,
        ));
    }
    let mut step = Step::new(
        "lost-chains-kept",
        format!("keep {} lost chains as files in the folder {}", lost.len(), names::short_text(&name, 0)),
        Provenance::Judged,
        "the table has them in use, and no file claims them; names and exact sizes are not known",
        &[&c::LOST_CHAIN],
    )
    .or("free their clusters");
    step.paths = lost
        .iter()
        .take(2000)
        .map(|l| format!("{}/{}", names::short_text(&name, 0), lost_name(l.head, l.extension.as_deref())))
        .collect();
    let broken: Vec<u32> = lost
        .iter()
        .filter(|l| l.end != End::Proper)
        .filter_map(|l| {
            crate::fat::survey::chain(job.stage, &mut job.survey.links, l.head, l.length).last().copied()
        })
        .collect();
    let raw: Vec<u8> = content.iter().flat_map(|entry| entry.as_bytes().to_vec()).collect();
    job.steps.run(job.stage, step, |stage| {
        broken.iter().try_for_each(|cluster| set_link(stage, &geometry, *cluster, Link::End))?;
        link_chain(stage, &geometry, &clusters)?;
        for (index, cluster) in clusters.iter().enumerate() {
            let each = geometry.cluster_bytes().size();
            let mut page = raw.part(index.times(each), each).to_vec();
            page.resize(each, 0);
            stage.write_at(geometry.cluster_offset(*cluster), &page)?;
        }
        slot.put(stage, &plain_entry(name, ATTR_DIRECTORY, first, 0))
    })?;
    Ok(true)
}

/// The names in some folders. A lost folder has its name only in what we call it.
fn names_in(job: &Job<'_, '_, '_>, folders: impl IntoIterator<Item = u32>) -> Names<names::Short> {
    let mut names = Names::of(folders);
    for (_, node) in job.survey.tree.below_root().filter(|(_, node)| node.place != 0) {
        names.take(node.parent, node.entry.name);
    }
    names
}

/// A name for what is put into a folder, which does not have it yet.
fn unused_name(
    names: &mut Names<names::Short>,
    folder: u32,
    name: impl Fn(u32) -> String,
) -> Option<names::Short> {
    let with = |number: u32| {
        let name = short(&name(number));
        (name, name)
    };
    names.free(folder, with(1), with)
}

/// Gives lost folders an entry: in the folder that their ".." names, else in the root.
fn folders(job: &mut Job<'_, '_, '_>) -> Result<(), MediumError> {
    let orphans: Vec<(u32, u32, u32)> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.reached == Reached::Orphan && node.place == 0 && node.length > 0)
        .map(|(number, node)| (number, node.parent, node.first))
        .collect();
    let mut names = names_in(job, orphans.iter().map(|(_, parent, _)| *parent));
    let mut grown: Vec<u32> = Vec::new();
    for (number, parent, first) in orphans {
        if grown.contains(&parent) {
            // The folder has another cluster now: the next round sees where the next one fits.
            continue;
        }
        let content = job.survey.content(job.stage, parent);
        let Some(place) = place_in(job, parent, &content) else { continue };
        // Four digits of the cluster, or those behind them where they are taken.
        let numbered = |number: u32| format!("ADRF{:04}", first.plus(number).minus(1).rest(10_000));
        let Some(name) = unused_name(&mut names, parent, numbered) else { continue };
        if matches!(place, Place::InNew { .. }) {
            grown.push(parent);
        }
        let path = job.survey.tree.path(number);
        let title = job.survey.tree.folder_title(parent);
        let step = Step::new(
            "folder-reconnected",
            format!("give {path} an entry in {title}, as {}", names::short_text(&name, 0)),
            Provenance::Derived,
            "its \".\" names its own cluster, its \"..\" the folder it lay in; its name is lost",
            &[&c::LOST_FOLDER],
        )
        .file(path);
        let entry = plain_entry(name, ATTR_DIRECTORY, first, 0);
        job.steps.run(job.stage, step, |stage| match place {
            Place::At(slot) => slot.put(stage, &entry),
            Place::InNew { last, cluster, extent } => {
                let geometry = job.believed.geometry;
                let mut page = entry.as_bytes().to_vec();
                page.resize(extent.length.size(), 0);
                stage.write_at(extent.offset, &page)?;
                set_link(stage, &geometry, cluster, Link::End)?;
                set_link(stage, &geometry, last, Link::Next(cluster))
            }
        })?;
    }
    Ok(())
}

enum Place {
    At(Slot),
    /// The folder is full: it grows by a cluster behind its last.
    InNew {
        last: u32,
        cluster: u32,
        extent: Extent,
    },
}

fn place_in(job: &mut Job<'_, '_, '_>, folder: u32, content: &crate::fat::survey::Content) -> Option<Place> {
    if let Some(slot) = free_place(content) {
        return Some(Place::At(slot));
    }
    let geometry = job.believed.geometry;
    if folder == 0 && !geometry.wide() {
        return None;
    }
    let last = job.survey.clusters(job.stage, folder).last().copied();
    let fresh = take_clusters(job, 1).and_then(|clusters| clusters.first().copied());
    last.zip(fresh).map(|(last, cluster)| {
        let extent = Extent::new(geometry.cluster_offset(cluster), geometry.cluster_bytes().wide());
        Place::InNew { last, cluster, extent }
    })
}
