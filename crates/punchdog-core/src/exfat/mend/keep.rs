//! What belongs to nothing: lost clusters become files in a folder, or free; lost folders get an
//! entry.

use super::{
    Job,
    bits::clear_bits,
    joined,
    writing::{Slots, link, new_set, take_row, take_up_to},
};
use crate::{
    arith::Sat,
    cluster::{
        chain::run_of,
        keeping::{asked_to_keep, listed},
    },
    exfat::{
        catalogue as c,
        layout::{ARCHIVE, DIRECTORY, NO_CHAIN, POSSIBLE, Stream},
        survey::Content,
        tree::{Lost, Node, Reached},
    },
    files::naming::{ADRIFT, Names},
    medium::{MediumError, OverlayWindow},
    mending::step::{Provenance, Step},
    report::wording::counted,
};
use std::collections::HashSet;

/// The name under which lost clusters are kept.
pub(in crate::exfat) fn lost_name(lost: &Lost) -> String {
    format!("A{:07}.{}", lost.first, lost.kind().unwrap_or("BIN").to_uppercase())
}

/// Folders that are looked at for room.
const LOOKED_AT: usize = 256;
/// Lost chains that one step keeps.
const KEPT: usize = 2000;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    folders(job)?;
    if !job.steps.is_empty() || job.survey.has_unseen() {
        return Ok(());
    }
    joined::mend(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    let lost = job.survey.tree.lost.clone();
    let (blank, lost): (Vec<Lost>, Vec<Lost>) = lost.into_iter().partition(|lost| lost.blank);
    free(job, &blank, "they hold nothing but one byte value", Provenance::Derived)?;
    if lost.is_empty() || !job.steps.is_empty() {
        return Ok(());
    }
    let names = lost.iter().map(lost_name);
    if asked_to_keep(job.choices, names) {
        // What there was no room to list stays in use.
        return keep(job, &lost);
    }
    free(job, &lost, "as chosen", Provenance::Judged)
}

fn free(
    job: &mut Job<'_, '_, '_, '_>,
    lost: &[Lost],
    from: &str,
    provenance: Provenance,
) -> Result<(), MediumError> {
    if lost.is_empty() {
        return Ok(());
    }
    let mut runs = Vec::new();
    for chain in lost {
        runs.extend(job.survey.runs(job.window, chain.first, chain.length, !chain.chained));
    }
    let clusters = runs.iter().fold(0_u64, |sum, (_, count)| sum.plus(count.wide()));
    let step = Step::new(
        "lost-clusters-freed",
        format!("free {} to nothing", counted(clusters, "cluster that belongs", "clusters that belong")),
        provenance,
        from,
        &[&c::LOST_CLUSTERS],
    );
    clear_bits(job, step, &runs)
}

/// Lists the lost chains in a new folder, as many as there is room for; without a free cluster, in the
/// folders there are.
fn keep(job: &mut Job<'_, '_, '_, '_>, lost: &[Lost]) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let each = geometry.cluster_bytes();
    let lost = lost.get(..lost.len().min(KEPT)).unwrap_or(lost);
    let sets: Vec<Vec<u8>> = lost.iter().map(|chain| set_for(job, chain)).collect();
    let longest = sets.iter().map(Vec::len).max().unwrap_or(0).wide();
    let wanted = geometry.clusters_for(longest.times(lost.len().wide())).narrow();
    let clusters = take_up_to(job, wanted);
    let Some((count, fit)) = listed(lost.len(), (0, longest), each, clusters.len().narrow()) else {
        return in_folders(job, lost, &sets);
    };
    let clusters: Vec<u32> = clusters.into_iter().take(count.size()).collect();
    let lost = lost.get(..fit).unwrap_or(lost);
    let first = clusters.first().copied().unwrap_or(0);
    let row = clusters.iter().copied().eq(run_of(first, count));
    let length = count.wide().times(each);
    let mut bytes: Vec<u8> = sets.into_iter().take(fit).flatten().collect();
    bytes.resize(length.size(), 0);
    let name = unused_name(job, &mut root_names(job), ADRIFT);
    let flags = POSSIBLE | if row { NO_CHAIN } else { 0 };
    let stream = Stream { flags, first, length, valid: length, ..Stream::default() };
    let set = new_set(&job.survey.capitals, &name, DIRECTORY, stream);
    let step = kept(&format!("the folder {name}"), &name, lost);
    put_into_root(job, step, &set, |window| {
        for (cluster, piece) in clusters.iter().zip(bytes.chunks(each.size())) {
            window.write_at(geometry.cluster_place(*cluster), piece)?;
        }
        if row { Ok(()) } else { link(window, &geometry, &clusters) }
    })?;
    Ok(())
}

fn set_for(job: &Job<'_, '_, '_, '_>, chain: &Lost) -> Vec<u8> {
    let room = chain.length.wide().times(job.believed.geometry.cluster_bytes());
    let length = chain.bytes.unwrap_or(room);
    let flags = POSSIBLE | if chain.chained { 0 } else { NO_CHAIN };
    let stream = Stream { flags, first: chain.first, length, valid: length, ..Stream::default() };
    let name = lost_name(chain);
    new_set(&job.survey.capitals, &name, ARCHIVE, stream)
}

fn kept(place: &str, folder: &str, lost: &[Lost]) -> Step {
    let many = counted(lost.len().wide(), "lost chain as a file", "lost chains as files");
    let mut step = Step::new(
        "lost-chains-kept",
        format!("keep {many} in {place}"),
        Provenance::Judged,
        "the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells",
        &[&c::LOST_CLUSTERS],
    )
    .or("free their clusters");
    let path = |l: &Lost| {
        let name = lost_name(l);
        if folder.is_empty() { name } else { format!("{folder}/{name}") }
    };
    step.paths = lost.iter().map(path).collect();
    step
}

/// No cluster is free: what the root has room for is listed there, the rest in the first folders that
/// have room.
fn in_folders(
    job: &mut Job<'_, '_, '_, '_>,
    mut lost: &[Lost],
    mut sets: &[Vec<u8>],
) -> Result<(), MediumError> {
    let reserved = reserved(job);
    for folder in folders_of(job) {
        let mut content = job.survey.content(job.window, folder);
        let reserved = if folder == 0 { reserved.clone() } else { HashSet::new() };
        let mut slots = Vec::new();
        for set in sets {
            let Some(found) = Slots::find(&content, set.len().per(32).narrow(), &reserved) else { break };
            found.fill(&mut content, set);
            slots.push((found, set));
        }
        let Some((here, later)) = lost.split_at_checked(slots.len()).filter(|(here, _)| !here.is_empty())
        else {
            continue;
        };
        let step = kept(&job.survey.tree.folder_title(folder), &job.survey.tree.path(folder), here);
        job.steps.run(job.window, step, |window| {
            slots.iter().try_for_each(|(slots, set)| slots.put(window, &content, set))
        })?;
        (lost, sets) = (later, sets.get(here.len()..).unwrap_or(&[]));
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

/// Unused entries of the root that are going to be used again: sets marked deleted whose files are there.
pub(super) fn reserved(job: &Job<'_, '_, '_, '_>) -> HashSet<u32> {
    let nodes = job.survey.tree.below_root().map(|(_, node)| node);
    let marked = nodes.filter(|node| node.parent == 0 && node.reached == Reached::Undeleted);
    marked.flat_map(|node| run_of(node.index, node.entries)).collect()
}

/// The names in the root folder.
fn root_names(job: &Job<'_, '_, '_, '_>) -> Names<Vec<u16>> {
    let mut names = Names::of([0]);
    // A lost folder has its name only in what we call it.
    let named = |node: &&Node| node.parent == 0 && node.place != 0;
    for node in job.survey.tree.below_root().map(|(_, node)| node).filter(named) {
        names.take(0, compared(job, &node.name));
    }
    names
}

fn compared(job: &Job<'_, '_, '_, '_>, name: &str) -> Vec<u16> {
    job.survey.capitals.upper(&name.encode_utf16().collect::<Vec<_>>())
}

/// `wish`, or with a number where the root has that.
fn unused_name(job: &Job<'_, '_, '_, '_>, names: &mut Names<Vec<u16>>, wish: &str) -> String {
    let with = |name: String| {
        let compared = compared(job, &name);
        (name, compared)
    };
    names.free(0, with(wish.to_owned()), |number| with(format!("{wish} {number}"))).unwrap_or_default()
}

/// Folders that no entry names get one in the root.
fn folders(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let orphans: Vec<(u32, Node)> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.reached == Reached::Orphan && node.place == 0 && node.length > 0)
        .map(|(number, node)| (number, node.clone()))
        .collect();
    let mut names = root_names(job);
    for (number, node) in orphans {
        let name = unused_name(job, &mut names, &node.name);
        let path = job.survey.tree.path(number);
        let set = new_set(&job.survey.capitals, &name, DIRECTORY, node.stream);
        let step = Step::new(
            "folder-reconnected",
            format!("give the folder at cluster {} an entry in the root folder, as {name}", node.first),
            Provenance::Derived,
            "it begins with a whole entry set, and belongs to no folder; its name is lost",
            &[&c::LOST_FOLDER],
        )
        .file(path);
        if put_into_root(job, step, &set, |_| Ok(()))? != Placed::Within {
            // The root has grown: the next round sees where the next one fits.
            break;
        }
    }
    Ok(())
}

/// What became of a new entry in the root.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Placed {
    /// It stands where there was room.
    Within,
    /// The root grew for it.
    Grown,
    /// There is no room.
    Nowhere,
}

/// Runs a step that adds a set to the root folder, which grows by a cluster where it is full.
fn put_into_root(
    job: &mut Job<'_, '_, '_, '_>,
    step: Step,
    set: &[u8],
    also: impl FnOnce(&mut OverlayWindow<'_, '_>) -> Result<(), MediumError>,
) -> Result<Placed, MediumError> {
    let geometry = job.believed.geometry;
    let content: Content = job.survey.content(job.window, 0);
    if let Some(slots) = Slots::find(&content, set.len().per(32).narrow(), &reserved(job)) {
        job.steps.run(job.window, step, |window| {
            also(window)?;
            slots.put(window, &content, set)
        })?;
        return Ok(Placed::Within);
    }
    let mut clusters = job.survey.clusters(job.window, 0);
    let Some(fresh) = take_row(job, 1) else { return Ok(Placed::Nowhere) };
    clusters.push(fresh);
    let mut page = set.to_vec();
    page.resize(geometry.cluster_bytes().size(), 0);
    job.steps.run(job.window, step, |window| {
        also(window)?;
        window.write_at(geometry.cluster_place(fresh), &page)?;
        link(window, &geometry, &clusters)
    })?;
    Ok(Placed::Grown)
}
