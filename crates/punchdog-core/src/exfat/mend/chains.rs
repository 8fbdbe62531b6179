//! What the table is believed to say, and in which order chains, first clusters and lengths are mended.

use super::{
    Job,
    files::{crossed, first_clusters, flags, flawed, lengths},
    writing::edit_stream,
};
use crate::{
    arith::Sat,
    cluster::chain::{self, Link},
    exfat::{
        catalogue as c,
        sets::Flaws,
        table::{self, Because},
        tree::Node,
    },
    medium::MediumError,
    mending::step::{Basis, Provenance, Step},
    report::{finding::Entry, wording::counted},
};

/// First clusters, flags, lengths, and the table's chains.
pub(super) fn chains(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    overrides(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    first_clusters(job)?;
    flags(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    lengths(job)?;
    if job.steps.is_empty() { crossed(job) } else { Ok(()) }
}

/// Writes what the table is believed to say.
fn overrides(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let all: Vec<(u32, Link, Because)> = job.survey.links.overrides().collect();
    let geometry = job.believed.geometry;
    let faults: &[&'static Entry] = &[
        &c::INTO_FREE,
        &c::INTO_BAD,
        &c::INTO_RANGE,
        &c::LOOP,
        &c::CROSSED,
        &c::LONG,
        &c::SHORT,
        &c::COPIES_DIFFER,
    ];
    // What another's clusters follow is as long as its length says.
    let mut long = flawed(job, Flaws::LONG);
    long.retain(|(_, node)| node.fault.is_none());
    if !long.is_empty() {
        let paths: Vec<String> = long.iter().map(|(number, _)| job.survey.tree.path(*number)).collect();
        let options = [
            ("entry", "the chain is ended where the length says; what follows becomes free".to_owned()),
            ("chain", "the length is set to what the chain holds".to_owned()),
        ];
        let taken = job.choices.ask(
            "long-chain",
            "A file has more clusters than its length needs. Which is right?",
            &options,
            paths,
        );
        if taken == "chain" {
            for (number, node) in long {
                lengthen(job, number, &node)?;
            }
            return Ok(());
        }
    }
    for (because, name, does, provenance, from) in [
        (
            Because::Copy,
            "table-from-other-copy",
            "take over",
            Provenance::Exact,
            "the other table of TexFAT, in which the chains fit their files",
        ),
        (
            Because::Derived,
            "chain-ended-by-length",
            "end chains where the length says:",
            Provenance::Derived,
            "lengths in the entry sets, end marks in the folders",
        ),
        (
            Because::Guess,
            "chain-rebuilt",
            "rebuild",
            Provenance::Judged,
            "chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else",
        ),
    ] {
        let values: Vec<(u32, Link)> = all
            .iter()
            .filter(|(.., why)| *why == because)
            .map(|(cluster, link, _)| (*cluster, *link))
            .collect();
        if values.is_empty() {
            continue;
        }
        let flaw = match because {
            Because::Copy => Flaws::OTHER_COPY,
            Because::Guess => Flaws::GUESSED,
            Because::Derived => {
                Flaws::LONG | Flaws::LOOP | Flaws::INTO_RANGE | Flaws::INTO_FREE | Flaws::INTO_BAD
            }
        };
        let mut step = Step::new(
            name,
            format!("{does} {}", counted(values.len().wide(), "table entry", "table entries")),
            provenance,
            from,
            faults,
        );
        step.paths =
            flawed(job, flaw).iter().take(2000).map(|(number, _)| job.survey.tree.path(*number)).collect();
        if because == Because::Guess {
            step = step.or("leave the files cut where the table breaks off");
            step.bases = bases(job);
        }
        job.steps.run(job.window, step, |window| {
            values.iter().try_for_each(|(cluster, link)| table::set(window, &geometry, *cluster, *link))
        })?;
    }
    Ok(())
}

/// Of each file whose chain was judged, what was taken for its clusters.
fn bases(job: &mut Job<'_, '_, '_, '_>) -> Vec<Basis> {
    let mut bases = Vec::new();
    for (number, node) in flawed(job, Flaws::GUESSED).into_iter().take(2000) {
        let runs = job.survey.runs(job.window, node.first, node.length, node.row);
        let short = node.flaws.contains(Flaws::SHORT);
        if let Some(basis) = chain::basis(&runs, short, |range| job.survey.links.guesses(range)) {
            bases.push(Basis { path: job.survey.tree.path(number), basis });
        }
    }
    bases
}

fn lengthen(job: &mut Job<'_, '_, '_, '_>, number: u32, node: &Node) -> Result<(), MediumError> {
    let mut length = 0_u64;
    let mut at = node.first;
    let active = job.survey.links.active();
    // A chain that ends has no more clusters than the volume.
    for _ in 0..job.believed.geometry.clusters {
        length = length.plus(job.believed.geometry.cluster_bytes());
        match job.survey.links.in_copy(job.window, active, at) {
            Link::Next(next) => at = next,
            _ => break,
        }
    }
    let path = job.survey.tree.path(number);
    let step = Step::new(
        "length-from-chain",
        format!("{path}: set the length from {} to {length}", node.stream.length),
        Provenance::Judged,
        "the length of its chain, as chosen",
        &[&c::LONG],
    )
    .file(path);
    edit_stream(job, number, step, |stream| {
        stream.length = length;
        stream.valid = length;
    })
}
