//! The allocation tables: what is believed of each entry is written to all copies.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    cluster::chain::{self, Link},
    fat::{
        catalogue as c,
        folder::Flaws,
        links::Because,
        survey::runs,
        table::{encode, entry_place},
    },
    medium::{Extent, Medium, MediumError},
    mending::step::{Basis, Provenance, Step},
    report::{finding::Entry, wording::counted},
};
use std::collections::BTreeMap;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let mut exact: BTreeMap<u32, u32> = BTreeMap::new();
    let mut derived = BTreeMap::new();
    let mut judged = BTreeMap::new();
    let overridden: Vec<_> = job.survey.links.overrides().collect();
    for (cluster, found) in overridden {
        let group = match found.because {
            Because::Copy(_) => &mut exact,
            Because::Derived => &mut derived,
            Because::Guess => &mut judged,
        };
        group.insert(cluster, found.link.value(&geometry));
    }
    let differing: Vec<u32> = job.survey.links.differing().collect();
    for cluster in differing {
        if !derived.contains_key(&cluster) && !judged.contains_key(&cluster) {
            let link = job.survey.links.get(job.window, cluster);
            exact.entry(cluster).or_insert(link.value(&geometry));
        }
    }
    // What no copy knows and nobody claims is free.
    let end = if job.survey.links.has_noise() { geometry.last_cluster().plus(1) } else { 2 };
    for cluster in 2..end {
        if job.survey.links.is_noise(cluster) && !job.survey.claimed.contains(cluster.size()) {
            judged.insert(cluster, Link::Free.value(&geometry));
        }
    }
    let paths = |job: &Job<'_, '_, '_, '_>, flaw: Flaws| -> Vec<String> {
        let hit = job.survey.tree.below_root().filter(|(_, node)| node.flaws.any(flaw));
        hit.take(2000).map(|(number, _)| job.survey.tree.path(number)).collect()
    };
    let faults: &[&'static Entry] =
        &[&c::INTO_FREE, &c::INTO_BAD, &c::INTO_RANGE, &c::CHAIN_LOOP, &c::CROSS_LINKED];
    let mut step = Step::new(
        "table-from-other-copy",
        format!("make all copies of the table alike in {}", counted(exact.len().wide(), "entry", "entries")),
        Provenance::Exact,
        "for each chain the copy with which it fits its file's size or its folder's content",
        &[&c::COPIES_DIFFER, &c::TABLE_UNREADABLE],
    );
    step.paths = paths(job, Flaws::OTHER_COPY);
    write(job, step, &exact)?;
    let dotted = job.survey.dotted;
    let mut step = Step::new(
        "chain-ended-by-size",
        format!(
            "end {} where the size or the folder's own end mark says",
            counted(derived.len().wide(), "chain", "chains")
        ),
        if dotted { Provenance::Judged } else { Provenance::Derived },
        "sizes in the folder entries, end marks in the folders",
        faults,
    );
    if dotted {
        step = step.or(
            "the folders were deleted, or the volume was formatted, before the tables lost their beginning",
        );
    }
    write(job, step, &derived)?;
    let mut step = Step::new(
        "chain-rebuilt",
        format!("write {} that no copy has", counted(judged.len().wide(), "table entry", "table entries")),
        Provenance::Judged,
        "chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left",
        faults,
    )
    .or("leave the files cut where the table breaks off")
    .or("the clusters in question belonged to deleted files");
    step.mends.push(c::FIRST_FREE.code);
    step.paths = paths(job, Flaws::GUESSED.with(Flaws::CHAIN_SHORT));
    step.bases = bases(job);
    write(job, step, &judged)
}

/// Of each file whose chain was judged, what was taken for its clusters.
fn bases(job: &mut Job<'_, '_, '_, '_>) -> Vec<Basis> {
    let judged = Flaws::GUESSED.with(Flaws::CHAIN_SHORT);
    let hit = job.survey.tree.below_root().filter(|(_, node)| node.flaws.any(judged));
    let hit: Vec<(u32, u32, u32, bool)> = hit
        .take(2000)
        .map(|(number, node)| (number, node.first, node.length, node.flaws.has(Flaws::CHAIN_SHORT)))
        .collect();
    let mut bases = Vec::new();
    for (number, first, length, short) in hit {
        let runs = runs(job.window, &mut job.survey.links, first, length);
        if let Some(basis) = chain::basis(&runs, short, |range| job.survey.links.guesses(range)) {
            bases.push(Basis { path: job.survey.tree.path(number), basis });
        }
    }
    bases
}

/// Writes values to all copies, page by page, so that a long run is one write.
fn write(
    job: &mut Job<'_, '_, '_, '_>,
    mut step: Step,
    values: &BTreeMap<u32, u32>,
) -> Result<(), MediumError> {
    if values.is_empty() {
        return Ok(());
    }
    let geometry = job.believed.geometry;
    let copies = 0..geometry.tables;
    step.twins =
        copies.map(|copy| Extent::new(geometry.table_offset(copy), geometry.table_bytes())).collect();
    job.steps.run(job.window, step, |window| {
        for copy in 0..geometry.tables {
            let mut run: Vec<(u32, u32)> = Vec::new();
            let all = values.iter().map(|(cluster, value)| (*cluster, *value));
            for (cluster, value) in all.chain([(u32::MAX, 0)]) {
                let near = run.last().is_some_and(|(last, _)| cluster.minus(*last) <= 64);
                if (!near || run.len() > 4096)
                    && let (Some((first, _)), Some((last, _))) = (run.first(), run.last())
                {
                    let (start, _) = entry_place(geometry.kind, *first);
                    let (end, width) = entry_place(geometry.kind, *last);
                    let place = geometry.table_offset(copy).plus(start);
                    let medium: &dyn Medium = window;
                    let mut bytes = medium.lenient(place, end.plus(width).minus(start).size()).bytes;
                    for (cluster, value) in &run {
                        let (at, width) = entry_place(geometry.kind, *cluster);
                        let from = at.minus(start).size();
                        let mut entry = bytes.part(from, width.size()).to_vec();
                        encode(geometry.kind, *cluster, *value, &mut entry);
                        if let Some(slot) = bytes.get_mut(from..from.plus(entry.len())) {
                            slot.copy_from_slice(&entry);
                        }
                    }
                    window.write_at(place, &bytes)?;
                    run.clear();
                }
                run.push((cluster, value));
            }
        }
        Ok(())
    })
}
