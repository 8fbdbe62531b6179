//! Keeping off clusters in which the medium fails: what stands there moves, and the table marks them bad (FAT 1.03,
//! "FAT Data Structure").

use super::{
    Job,
    writing::{edit, link_chain, set_link, take_up_to},
};
use crate::{
    arith::Sat,
    cluster::{
        aside::{Aside, Moving, hit, rows},
        chain::{Link, alongside},
        set::ClusterSet,
    },
    fat::{
        FatSurvey,
        layout::{BootSector, ENTRY_BYTES},
        tree::Node,
    },
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
};
use std::collections::{BTreeMap, HashMap, HashSet};

/// FAT 1.03, "FAT32 Extended BPB": where BPB_RootClus stands.
const ROOT_CLUSTER: u64 = 44;

pub(in crate::fat) fn set_aside(
    seen: &mut FatSurvey,
    window: &mut OverlayWindow<'_, '_>,
    aside: &Aside<'_>,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let geometry = seen.believed.geometry;
    let each = geometry.cluster_bytes().wide();
    let bad = aside.clusters(geometry.data_offset(), each, 2..geometry.last_cluster().plus(1).wide());
    if bad.is_empty() {
        return Ok(());
    }
    let mut choices = Choices::wanting(BTreeMap::new());
    let FatSurvey { believed, survey, boot } = seen;
    let claimed = survey.claimed.clone();
    // Nothing is moved to where the medium fails as well.
    survey.claimed.extend(bad.ones());
    let mut job = Job {
        window,
        believed,
        survey,
        boot,
        choices: &mut choices,
        steps,
        folders: HashMap::new(),
        room: None,
    };
    let done = move_all(&mut job, aside, &bad).and_then(|stay| mark(&mut job, aside, &bad, stay));
    seen.survey.claimed = claimed;
    done
}

/// Moves what can be moved now; gives the clusters that stay.
fn move_all(job: &mut Job<'_, '_, '_, '_>, aside: &Aside<'_>, bad: &ClusterSet) -> Result<u64, MediumError> {
    let (mut moved, mut stay) = (HashSet::new(), 0_u64);
    for number in 0..job.survey.tree.nodes.len().narrow() {
        let Some(node) = job.survey.tree.node(number).cloned() else { continue };
        if node.length == 0 || node.is_unseen() {
            continue;
        }
        let clusters = job.survey.clusters(job.window, number);
        let hit = hit(&clusters, bad);
        if hit.is_empty() {
            continue;
        }
        let child = |of: &Node| of.folder && of.parent == number;
        let waits = number != 0 && moved.contains(&node.parent)
            || node.folder
                && job.survey.tree.below_root().any(|(other, of)| child(of) && moved.contains(&other));
        if waits {
            // Where its entry stands, or a folder that names it, is known anew in the next round.
            continue;
        }
        let fresh = take_up_to(job, hit.len().narrow());
        stay = stay.plus(hit.len().minus(fresh.len()).wide());
        if !fresh.is_empty() {
            move_one(job, aside, (number, &node), &clusters, &hit, &fresh)?;
            moved.insert(number);
        }
    }
    Ok(stay)
}

/// Moves clusters of one file or folder, as many as `fresh` has.
fn move_one(
    job: &mut Job<'_, '_, '_, '_>,
    aside: &Aside<'_>,
    (number, node): (u32, &Node),
    clusters: &[u32],
    hit: &[usize],
    fresh: &[u32],
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let each = geometry.cluster_bytes().wide();
    let own = job.survey.extents(job.window, number);
    let moving = Moving::new(clusters, hit, fresh);
    let path = (number != 0).then(|| job.survey.tree.path(number));
    let step = moving.step(aside, path, &own, |cluster| Extent::new(geometry.cluster_offset(cluster), each));
    let first = moving.first();
    let Moving { old, now } = moving;
    let begins_anew = clusters.first().is_some_and(|old| *old != first);
    // The folders in it name it.
    let children: Vec<u32> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, child)| {
            node.folder && number != 0 && child.folder && child.parent == number && child.length > 0
        })
        .map(|(_, child)| child.first)
        .collect();
    job.steps.run(job.window, step, |window| {
        for (from, to, count) in alongside(&old, fresh.iter().copied()) {
            let (from, to) = (geometry.cluster_offset(from), geometry.cluster_offset(to));
            window.copy_at(from, to, count.wide().times(each))?;
        }
        for at in hit.iter().take(fresh.len()) {
            // The one before it, itself, and the one behind it where that is another one, too.
            let piece = now.get(at.minus(1)..at.plus(2).min(now.len())).unwrap_or(&[]);
            if at.plus(1) < now.len() {
                let Some((next, before)) = piece.split_last() else { continue };
                for (number, cluster) in before.iter().enumerate() {
                    let link = before.get(number.plus(1)).unwrap_or(next);
                    set_link(window, &geometry, *cluster, Link::Next(*link))?;
                }
            } else {
                link_chain(window, &geometry, piece)?;
            }
        }
        old.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::Bad))?;
        if !begins_anew {
            return Ok(());
        }
        if number == 0 {
            return root_at(window, geometry.sector_bytes, first);
        }
        edit(window, node.place, |entry| entry.set_first_cluster(first))?;
        if node.folder {
            edit(window, geometry.cluster_offset(first), |entry| entry.set_first_cluster(first))?;
        }
        children.iter().try_for_each(|child| {
            let above = geometry.cluster_offset(*child).plus(ENTRY_BYTES.wide());
            edit(window, above, |entry| entry.set_first_cluster(first))
        })
    })
}

/// Says in the boot sector and its backup where the root folder begins.
fn root_at(window: &mut OverlayWindow<'_, '_>, sector: u32, first: u32) -> Result<(), MediumError> {
    let medium: &dyn Medium = window;
    let backup =
        BootSector::read(&medium.lenient(0, 512).bytes).map_or(0, |boot| boot.tail32().backup_sector.get());
    window.write_at(ROOT_CLUSTER, &first.to_le_bytes())?;
    if backup == 0 || backup == u16::MAX {
        return Ok(());
    }
    window.write_at(u64::from(backup).times(sector.wide()).plus(ROOT_CLUSTER), &first.to_le_bytes())
}

/// Marks those that are free.
fn mark(
    job: &mut Job<'_, '_, '_, '_>,
    aside: &Aside<'_>,
    bad: &ClusterSet,
    stay: u64,
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let mut free = Vec::new();
    for (first, count) in rows(bad) {
        for cluster in first..first.plus(count) {
            if job.survey.links.get(job.window, cluster) == Link::Free {
                free.push(cluster);
            }
        }
    }
    let step = aside.marked(free.len(), stay);
    job.steps.run(job.window, step, |window| {
        free.iter().try_for_each(|cluster| set_link(window, &geometry, *cluster, Link::Bad))
    })
}
