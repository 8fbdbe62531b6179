//! What nothing names: lost chains become files in the folder ADRIFT, or free; lost folders get an
//! entry in the folder that their ".." names.

use super::{
    Job, joined,
    writing::{Slot, free_place, free_places, link_chain, plain_entry, set_link, take_clusters, take_up_to},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link},
        keeping::{asked_to_keep, listed},
    },
    fat::{
        catalogue as c,
        geometry::Geometry,
        layout::{ATTR_ARCHIVE, ATTR_DIRECTORY, ENTRY_BYTES, ShortEntry},
        names,
        tree::{Lost, Reached},
    },
    files::naming::{ADRIFT, Names},
    medium::{Extent, MediumError, OverlayWindow},
    mending::step::{Provenance, Step},
    report::wording::counted,
};
use zerocopy::IntoBytes;

/// Folders that are looked at for room.
const LOOKED_AT: usize = 256;

/// The name that a lost chain gets.
pub(crate) fn lost_name(head: u32, lost: &Lost) -> String {
    let extension = lost.kind().filter(|e| e.len() <= 3 && e.chars().all(|c| c.is_ascii_alphanumeric()));
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

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    folders(job)?;
    if !job.steps.is_empty() || job.survey.tree.lost.is_empty() || job.survey.has_unseen() {
        return Ok(());
    }
    joined::mend(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    let lost = job.survey.tree.lost.clone();
    let names = lost.iter().map(|l| lost_name(l.head, l));
    if asked_to_keep(job.choices, names) {
        return keep(job, &lost);
    }
    let geometry = job.believed.geometry;
    let step = Step::new(
        "lost-chains-freed",
        format!("free {}", counted(lost.len().wide(), "lost chain", "lost chains")),
        Provenance::Judged,
        "they belong to no file",
        &[&c::LOST_CHAIN],
    )
    .or(format!("keep them as files in the folder {ADRIFT}"));
    let chains: Vec<Vec<u32>> = lost
        .iter()
        .map(|l| crate::fat::survey::chain(job.window, &mut job.survey.links, l.head, l.length))
        .collect();
    job.steps.run(job.window, step, |window| {
        chains.iter().flatten().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::Free))
    })
}

/// An entry for a lost chain.
fn entry_of(chain: &Lost, geometry: &Geometry) -> ShortEntry {
    let room = chain.length.times(geometry.cluster_bytes());
    let size = chain.bytes.map_or(room, Sat::narrow);
    plain_entry(short(&lost_name(chain.head, chain)), ATTR_ARCHIVE, chain.head, size)
}

/// Where the folder for lost chains can go: into the root, which grows where it can, else into the
/// first folder that has room or grows.
fn home(job: &mut Job<'_, '_, '_, '_>) -> Option<(u32, Place)> {
    for folder in folders_of(job) {
        let content = job.survey.content(job.window, folder);
        if let Some(place) = place_in(job, folder, &content) {
            return Some((folder, place));
        }
    }
    None
}

/// Lists the chains in a folder, as many as there is room for; without a free cluster, in the
/// folders there are.
fn keep(job: &mut Job<'_, '_, '_, '_>, lost: &[Lost]) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    // A folder holds 65536 entries at most (specification, "FAT Directory Structure").
    let lost = lost.get(..lost.len().min(60_000)).unwrap_or(lost);
    let numbered = |number: u32| if number == 1 { ADRIFT.to_owned() } else { format!("{ADRIFT}{number}") };
    let Some((folder, place)) = home(job) else { return in_folders(job, lost) };
    let Some(name) = unused_name(&mut names_in(job, [folder]), folder, numbered) else { return Ok(()) };
    let each = geometry.cluster_bytes();
    // The dots and an end mark are the folder's own.
    let own = (ENTRY_BYTES.wide().times(3), ENTRY_BYTES.wide());
    let wanted = geometry.clusters_for(own.0.plus(own.1.times(lost.len().wide())));
    let clusters = take_up_to(job, wanted);
    let Some((count, fit)) = listed(lost.len(), own, each.wide(), clusters.len().narrow()) else {
        return in_folders(job, lost);
    };
    let clusters: Vec<u32> = clusters.into_iter().take(count.size()).collect();
    let lost = lost.get(..fit).unwrap_or(lost);
    let first = clusters.first().copied().unwrap_or(0);
    let above = if folder == 0 { 0 } else { job.survey.tree.node(folder).map_or(0, |node| node.first) };
    let mut content = vec![
        plain_entry(names::DOT, ATTR_DIRECTORY, first, 0),
        plain_entry(names::DOT_DOT, ATTR_DIRECTORY, above, 0),
    ];
    content.extend(lost.iter().map(|chain| entry_of(chain, &geometry)));
    let path = match (folder, names::short_text(&name, 0)) {
        (0, name) => name,
        (_, name) => format!("{}/{name}", job.survey.tree.path(folder)),
    };
    let step = kept(&format!("the folder {path}"), &path, lost);
    let broken = broken(job, lost);
    let raw: Vec<u8> = content.iter().flat_map(|entry| entry.as_bytes().to_vec()).collect();
    job.steps.run(job.window, step, |window| {
        broken.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::End))?;
        link_chain(window, &geometry, &clusters)?;
        for (index, cluster) in clusters.iter().enumerate() {
            let each = each.size();
            let mut page = raw.part(index.times(each), each).to_vec();
            page.resize(each, 0);
            window.write_at(geometry.cluster_offset(*cluster), &page)?;
        }
        put_entry(window, &geometry, &place, &plain_entry(name, ATTR_DIRECTORY, first, 0))
    })
}

/// No cluster is free: what the root has room for is listed there, the rest in the first folders that
/// have room.
fn in_folders(job: &mut Job<'_, '_, '_, '_>, mut lost: &[Lost]) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    for folder in folders_of(job) {
        let mut names = names_in(job, [folder]);
        let content = job.survey.content(job.window, folder);
        let slots = free_places(&content, lost.len());
        let Some((here, later)) = lost.split_at_checked(slots.len()).filter(|(here, _)| !here.is_empty())
        else {
            continue;
        };
        let named = here.iter().map(|chain| {
            let head = |number: u32| if number == 1 { chain.head } else { chain.head.plus(number) };
            let name = |number: u32| lost_name(head(number), chain);
            let mut entry = entry_of(chain, &geometry);
            entry.name = unused_name(&mut names, folder, name).unwrap_or(entry.name);
            entry
        });
        let entries: Vec<ShortEntry> = named.collect();
        let step = kept(&job.survey.tree.folder_title(folder), &job.survey.tree.path(folder), here);
        let broken = broken(job, here);
        job.steps.run(job.window, step, |window| {
            broken.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::End))?;
            slots.iter().zip(&entries).try_for_each(|(slot, entry)| slot.put(window, entry))
        })?;
        lost = later;
        if lost.is_empty() {
            return Ok(());
        }
    }
    tracing::warn!("no room to list {} lost chains: they stay as they are", lost.len());
    Ok(())
}

/// The root and then other folders, as far as they are looked at for room.
fn folders_of(job: &Job<'_, '_, '_, '_>) -> Vec<u32> {
    let nodes = job.survey.tree.below_root();
    let folders = nodes.filter(|(_, node)| node.folder && node.length > 0 && node.reached == Reached::Tree);
    std::iter::once(0).chain(folders.map(|(number, _)| number)).take(LOOKED_AT).collect()
}

fn kept(place: &str, folder: &str, lost: &[Lost]) -> Step {
    let many = counted(lost.len().wide(), "lost chain as a file", "lost chains as files");
    let mut step = Step::new(
        "lost-chains-kept",
        format!("keep {many} in {place}"),
        Provenance::Judged,
        "the table has them in use, and no file claims them; names are not known, exact sizes where the content tells",
        &[&c::LOST_CHAIN],
    )
    .or("free their clusters");
    let path = |l: &Lost| {
        let name = lost_name(l.head, l);
        if folder.is_empty() { name } else { format!("{folder}/{name}") }
    };
    step.paths = lost.iter().take(2000).map(path).collect();
    step
}

/// The last clusters of chains that have no end.
pub(super) fn broken(job: &mut Job<'_, '_, '_, '_>, lost: &[Lost]) -> Vec<u32> {
    let links = &mut job.survey.links;
    let endless = lost.iter().filter(|l| l.end != End::Proper);
    endless
        .filter_map(|l| crate::fat::survey::chain(job.window, links, l.head, l.length).last().copied())
        .collect()
}

/// The names in some folders. A lost folder has its name only in what we call it.
fn names_in(job: &Job<'_, '_, '_, '_>, folders: impl IntoIterator<Item = u32>) -> Names<names::Short> {
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
fn folders(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
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
        let content = job.survey.content(job.window, parent);
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
        let geometry = job.believed.geometry;
        job.steps.run(job.window, step, |window| put_entry(window, &geometry, &place, &entry))?;
    }
    Ok(())
}

/// Puts an entry where `place_in` found room for it.
fn put_entry(
    window: &mut OverlayWindow<'_, '_>,
    geometry: &Geometry,
    place: &Place,
    entry: &ShortEntry,
) -> Result<(), MediumError> {
    match place {
        Place::At(slot) => slot.put(window, entry),
        Place::InNew { last, cluster, extent } => {
            let mut page = entry.as_bytes().to_vec();
            page.resize(extent.length.size(), 0);
            window.write_at(extent.offset, &page)?;
            set_link(window, geometry, *cluster, Link::End)?;
            set_link(window, geometry, *last, Link::Next(*cluster))
        }
    }
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

fn place_in(
    job: &mut Job<'_, '_, '_, '_>,
    folder: u32,
    content: &crate::fat::survey::Content,
) -> Option<Place> {
    if let Some(slot) = free_place(content) {
        return Some(Place::At(slot));
    }
    let geometry = job.believed.geometry;
    if folder == 0 && !geometry.wide() {
        return None;
    }
    let last = job.survey.clusters(job.window, folder).last().copied();
    let fresh = take_clusters(job, 1).and_then(|clusters| clusters.first().copied());
    last.zip(fresh).map(|(last, cluster)| {
        let extent = Extent::new(geometry.cluster_offset(cluster), geometry.cluster_bytes().wide());
        Place::InNew { last, cluster, extent }
    })
}
