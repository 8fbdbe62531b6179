//! Keeping off clusters in which the medium fails: what stands there moves; the table marks them bad, and the bitmap has
//! them in use (exFAT 1.00, 4.1.3 and 7.1.5).

use super::{
    Job,
    bits::write_bits,
    writing::{link, set_of, take_row, take_up_to, write_set},
};
use crate::{
    arith::Sat,
    cluster::{
        aside::{Aside, Moving, hit, rows},
        chain::{Link, alongside, run_of},
        set::ClusterSet,
    },
    exfat::{
        ExfatSurvey,
        boot::region,
        geometry::Geometry,
        layout::{BootSector, ENTRY, NO_CHAIN},
        sets::Flaws,
        survey::places,
        table,
        tree::Node,
    },
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Where an entry of the bitmap or the up-case table has its first cluster (7.1 and 7.2).
const OWN_FIRST: u64 = 20;

pub(in crate::exfat) fn set_aside(
    seen: &mut ExfatSurvey,
    window: &mut OverlayWindow<'_, '_>,
    aside: &Aside<'_>,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let geometry = seen.believed.geometry;
    let end = geometry.last_cluster().plus(1).wide();
    let bad = aside.clusters(geometry.heap_place(), geometry.cluster_bytes(), 2..end);
    if bad.is_empty() || seen.survey.bitmap.clusters.is_empty() {
        return Ok(());
    }
    let mut choices = Choices::wanting(BTreeMap::new());
    let ExfatSurvey { believed, survey, boot, .. } = seen;
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
    let before = job.steps.count();
    let mut done = own(&mut job, aside, &bad);
    // All that is moved then is noted in a bitmap that is where it stays.
    if job.steps.count() == before {
        done = move_all(&mut job, aside, &bad).and_then(|stay| mark(&mut job, aside, (&bad, &claimed), stay));
    }
    seen.survey.claimed = claimed;
    done
}

/// Bits of these clusters, in every bitmap that there is.
fn bits(job: &Job<'_, '_, '_, '_>) -> Vec<u64> {
    let firsts = [&job.survey.bitmap, &job.survey.second].into_iter().filter_map(|own| own.clusters.first());
    firsts.map(|first| job.believed.geometry.cluster_place(*first)).collect()
}

/// Sets or clears bits of clusters, which come in order or not.
fn note(
    window: &mut OverlayWindow<'_, '_>,
    bitmaps: &[u64],
    clusters: &[u32],
    in_use: bool,
) -> Result<(), MediumError> {
    let runs: Vec<(u32, u32)> = clusters.iter().map(|cluster| (*cluster, 1)).collect();
    bitmaps.iter().try_for_each(|bitmap| write_bits(window, *bitmap, &runs, in_use))
}

/// Bitmaps and the up-case table: hosts want them in a row, so that they move as a whole.
fn own(job: &mut Job<'_, '_, '_, '_>, aside: &Aside<'_>, bad: &ClusterSet) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let each = geometry.cluster_bytes();
    for which in 0..3 {
        let survey = &job.survey;
        let (title, owned) = match which {
            0 => ("the bitmap", &survey.bitmap),
            1 => ("the second bitmap", &survey.second),
            _ => ("the up-case table", &survey.upcase),
        };
        let old = owned.clusters.clone();
        let Some((index, owner)) = owned.entry.filter(|_| old.iter().any(|c| bad.contains(c.size()))) else {
            continue;
        };
        let place = job.places(0).place(index);
        let row = place.and_then(|place| Some((place, take_row(job, old.len().narrow())?)));
        let Some((place, first)) = row else { continue };
        let now: Vec<u32> = run_of(first, old.len().narrow()).collect();
        let mut own = places(&geometry, &old);
        if let Some(last) = own.last_mut() {
            last.length = last.length.minus(each.times(old.len().wide()).minus(owner.length));
        }
        let lost = aside.lost(&own, own.clone());
        let step = aside.moved(title, true, old.len(), lost);
        let mut bitmaps = bits(job);
        if let Some(own) = bitmaps.get_mut(which) {
            *own = geometry.cluster_place(first);
        }
        let (failing, fine): (Vec<u32>, Vec<u32>) = old.iter().partition(|c| bad.contains(c.size()));
        job.steps.run(job.window, step, |window| {
            for (from, to, count) in alongside(&old, now.iter().copied()) {
                let (from, to) = (geometry.cluster_place(from), geometry.cluster_place(to));
                window.copy_at(from, to, count.wide().times(each))?;
            }
            link(window, &geometry, &now)?;
            window.write_at(place.plus(OWN_FIRST), &first.to_le_bytes())?;
            failing.iter().try_for_each(|cluster| table::set(window, &geometry, *cluster, Link::Bad))?;
            fine.iter().try_for_each(|cluster| table::set(window, &geometry, *cluster, Link::Free))?;
            note(window, &bitmaps, &now, true)?;
            note(window, &bitmaps, &fine, false)
        })?;
        // The other bitmap was found where it was.
        break;
    }
    Ok(())
}

/// Moves what can be moved now; gives the clusters that stay.
fn move_all(job: &mut Job<'_, '_, '_, '_>, aside: &Aside<'_>, bad: &ClusterSet) -> Result<u64, MediumError> {
    let owned = [&job.survey.bitmap, &job.survey.second, &job.survey.upcase];
    let own = owned.iter().flat_map(|own| &own.clusters).filter(|cluster| bad.contains(cluster.size()));
    let (mut moved, mut stay) = (HashSet::new(), own.count().wide());
    for number in 0..job.survey.tree.nodes.len().narrow() {
        let Some(node) = job.survey.tree.node(number).cloned() else { continue };
        if node.length == 0 || node.flaws.intersects(Flaws::BEYOND.union(Flaws::HOLLOW)) {
            continue;
        }
        let clusters = job.survey.clusters(job.window, number);
        let hit = hit(&clusters, bad);
        if hit.is_empty() || number != 0 && moved.contains(&node.parent) {
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
    let each = geometry.cluster_bytes();
    let own = job.survey.extents(job.window, number);
    let moving = Moving::new(clusters, hit, fresh);
    let path = (number != 0).then(|| job.survey.tree.path(number));
    let step = moving.step(aside, path, &own, |cluster| Extent::new(geometry.cluster_place(cluster), each));
    let first = moving.first();
    let Moving { old, now } = moving;
    let row = node.row && now.windows(2).all(|pair| matches!(pair, [one, next] if one.plus(1) == *next));
    // The root has no set: its chain is the table's alone.
    let set = if number == 0 { None } else { Some(set_of(job, number)) };
    let set = match set {
        Some(None) => return Ok(()),
        Some(Some((places, mut item))) => {
            let mut stream = item.stream;
            stream.first = first;
            stream.flags = if row { stream.flags } else { stream.flags & !NO_CHAIN };
            if let Some(entry) = item.raw.get_mut(ENTRY..2.times(ENTRY)) {
                stream.put(entry);
            }
            Some((places, item))
        }
        None => None,
    };
    let bitmaps = bits(job);
    job.steps.run(job.window, step, |window| {
        for (from, to, count) in alongside(&old, fresh.iter().copied()) {
            let (from, to) = (geometry.cluster_place(from), geometry.cluster_place(to));
            window.copy_at(from, to, count.wide().times(each))?;
        }
        if !row {
            link(window, &geometry, &now)?;
        }
        old.iter().try_for_each(|cluster| table::set(window, &geometry, *cluster, Link::Bad))?;
        note(window, &bitmaps, fresh, true)?;
        match set {
            Some((places, item)) => write_set(window, &places, item.index, &item.raw),
            None if clusters.first() != Some(&first) => root_at(window, &geometry, first),
            None => Ok(()),
        }
    })
}

/// Says in both boot regions where the root folder begins.
fn root_at(window: &mut OverlayWindow<'_, '_>, geometry: &Geometry, first: u32) -> Result<(), MediumError> {
    for at in [0, geometry.region_bytes()] {
        let medium: &dyn Medium = window;
        let standing = medium.lenient(at, geometry.region_bytes().size()).bytes;
        let Some(mut sector) = BootSector::read(&standing) else { continue };
        sector.root_cluster = first.into();
        window.write_at(at, &region(&sector, geometry, Some(&standing)))?;
    }
    Ok(())
}

/// Marks those that are free.
fn mark(
    job: &mut Job<'_, '_, '_, '_>,
    aside: &Aside<'_>,
    (bad, claimed): (&ClusterSet, &ClusterSet),
    stay: u64,
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let mut free = Vec::new();
    for (first, count) in rows(bad) {
        let here = run_of(first, count).filter(|cluster| !claimed.contains(cluster.size()));
        free.extend(here.filter(|cluster| !job.survey.used.contains(cluster.size())));
    }
    let step = aside.marked(free.len(), stay);
    let bitmaps = bits(job);
    job.steps.run(job.window, step, |window| {
        free.iter().try_for_each(|cluster| table::set(window, &geometry, *cluster, Link::Bad))?;
        note(window, &bitmaps, &free, true)
    })
}
