//! First clusters, flags and lengths of files, and clusters that two of them claim.

use super::{
    Job,
    writing::{edit_stream, free_entries, link, set_of, take_exactly, write_set},
};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::{alongside, run_of},
    exfat::{
        catalogue as c,
        layout::{DIRECTORY, ENTRY, NO_CHAIN, POSSIBLE, put},
        sets::Flaws,
        survey::Content,
        tree::Node,
    },
    files::filler::phrase,
    medium::MediumError,
    mending::step::{Provenance, Step},
    report::{finding::Entry, wording::counted},
};

pub(super) fn flawed(job: &Job<'_, '_, '_, '_>, flaws: Flaws) -> Vec<(u32, Node)> {
    let hit = job.survey.tree.below_root().filter(|(_, node)| node.flaws.intersects(flaws));
    hit.map(|(number, node)| (number, node.clone())).collect()
}

pub(super) fn first_clusters(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let faults: &[&'static Entry] = &[
        &c::FIRST_MISSING,
        &c::FIRST_RANGE,
        &c::FIRST_UNUSED,
        &c::FIRST_WRONG,
        &c::CROSSED,
        &c::SHORT,
        &c::SET_CHECKSUM,
    ];
    for (number, node) in flawed(job, Flaws::FOUND) {
        let path = job.survey.tree.path(number);
        let (first, row) = (node.first, node.row);
        let step = Step::new(
            "first-cluster-found",
            format!("{path}: set the first cluster to {first}"),
            Provenance::Judged,
            "clusters in use that nothing claimed, of exactly the length that this entry needs",
            faults,
        )
        .file(path)
        .or("leave the file empty and keep the clusters as a file of their own");
        edit_stream(job, number, step, |stream| {
            stream.first = first;
            stream.flags = POSSIBLE | if row { NO_CHAIN } else { 0 };
        })?;
    }
    for (number, node) in flawed(job, Flaws::NO_FIRST | Flaws::FIRST_RANGE | Flaws::FIRST_UNUSED) {
        if node.flaws.contains(Flaws::FOUND) || node.length > 0 {
            continue;
        }
        let path = job.survey.tree.path(number);
        if node.folder && node.stream.length > 0 {
            let Some((places, item)) = set_of(job, number) else { continue };
            let step = Step::new(
                "set-removed",
                format!("{path}: free its entry set"),
                Provenance::Judged,
                "it names no cluster that is its own, and no lost folder fits it",
                faults,
            )
            .file(path);
            let indices = item.index..item.index.plus(item.entries());
            job.steps.run(job.window, step, |window| free_entries(window, &places, indices))?;
            continue;
        }
        let provenance = if node.stream.length == 0 { Provenance::Derived } else { Provenance::Judged };
        let step = Step::new(
            "file-emptied",
            format!("{path}: set length and first cluster to 0"),
            provenance,
            if node.stream.length == 0 { "its length is 0" } else { "nothing of its content can be found" },
            faults,
        )
        .file(path);
        edit_stream(job, number, step, |stream| {
            (stream.first, stream.length, stream.valid, stream.flags) = (0, 0, 0, POSSIBLE);
        })?;
    }
    for (number, node) in flawed(job, Flaws::NOT_FOLDER) {
        if node.length == 0 {
            continue;
        }
        let path = job.survey.tree.path(number);
        let content = job.survey.content(job.window, number);
        if blank(&content.bytes) {
            emptied(job, &content, path, faults)?;
            continue;
        }
        let Some((places, mut item)) = set_of(job, number) else { continue };
        let attributes = item.attributes() & !DIRECTORY;
        put(&mut item.raw, 4, &attributes.to_le_bytes());
        let step = Step::new(
            "folder-made-file",
            format!("{path}: make the folder a file"),
            Provenance::Judged,
            "what it names holds no folder; as a file it can be looked at",
            faults,
        )
        .file(path)
        .or("an empty folder in its place");
        job.steps.run(job.window, step, |window| write_set(window, &places, item.index, &item.raw))?;
    }
    Ok(())
}

/// True for clusters that hold one value throughout, or what an imager put there: nothing to look at.
fn blank(bytes: &[u8]) -> bool {
    let first = bytes.byte(0);
    bytes.iter().all(|byte| *byte == first) || bytes.chunks(512).all(|sector| phrase(sector).is_some())
}

/// Makes a folder of such clusters an empty one.
fn emptied(
    job: &mut Job<'_, '_, '_, '_>,
    content: &Content,
    path: String,
    faults: &[&'static Entry],
) -> Result<(), MediumError> {
    let step = Step::new(
        "folder-emptied",
        format!("{path}: empty the folder"),
        Provenance::Judged,
        "one value stands in all of it, or what an imager puts there: what it held is gone",
        faults,
    )
    .file(path)
    .or("a file that holds this in its place");
    job.steps.run(job.window, step, |window| {
        (0..content.entries())
            .filter_map(|index| content.place(index))
            .try_for_each(|place| window.write_at(place, &[0; ENTRY]))
    })
}

pub(super) fn flags(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    for (number, node) in flawed(job, Flaws::FLAGS | Flaws::FLAG_LOST | Flaws::FLAG_WRONG) {
        let path = job.survey.tree.path(number);
        let row = node.row && node.length > 0;
        let from = if node.flaws.contains(Flaws::FLAG_LOST) {
            "the clusters that follow are in use and nobody else's, and the table has no chain"
        } else if node.flaws.contains(Flaws::FLAG_WRONG) {
            "the table has a chain of exactly its length; what follows the first cluster is another's"
        } else {
            "its clusters"
        };
        let step = Step::new(
            "stream-flags",
            format!("{path}: {} NoFatChain", if row { "set" } else { "clear" }),
            if node.flaws.contains(Flaws::GUESSED) { Provenance::Judged } else { Provenance::Derived },
            from,
            &[&c::FLAGS, &c::FLAG_LOST, &c::FLAG_WRONG],
        )
        .file(path);
        edit_stream(job, number, step, |stream| stream.flags = POSSIBLE | if row { NO_CHAIN } else { 0 })?;
    }
    Ok(())
}

pub(super) fn lengths(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let each = job.believed.geometry.cluster_bytes();
    for (number, node) in flawed(job, Flaws::FOLDER_LENGTH) {
        let path = job.survey.tree.path(number);
        let length = node.length.wide().times(each);
        let step = Step::new(
            "folder-length",
            format!("{path}: set length and valid length to {length}"),
            Provenance::Derived,
            "its clusters",
            &[&c::FOLDER_LENGTH],
        )
        .file(path);
        let row = node.row;
        edit_stream(job, number, step, |stream| {
            (stream.length, stream.valid) = (length, length);
            stream.flags = POSSIBLE | if row { NO_CHAIN } else { 0 };
        })?;
    }
    for (number, node) in flawed(job, Flaws::VALID) {
        if node.folder {
            continue;
        }
        let path = job.survey.tree.path(number);
        let step = Step::new(
            "valid-length",
            format!("{path}: set the valid length from {} to {}", node.stream.valid, node.stream.length),
            Provenance::Derived,
            "the length of the file",
            &[&c::VALID_LENGTH],
        )
        .file(path);
        edit_stream(job, number, step, |stream| stream.valid = stream.length)?;
    }
    for (number, node) in flawed(job, Flaws::SHORT) {
        if node.flaws.contains(Flaws::FOLDER_LENGTH) {
            continue;
        }
        let path = job.survey.tree.path(number);
        let all = node.length.wide().times(each);
        // What was written ends in the last of its clusters: that is where the file does.
        let written = (all.minus(each).plus(1)..=all).contains(&node.stream.valid);
        let room = if written { node.stream.valid } else { all };
        let taken = job.choices.ask(
            "short-chain",
            "A file has fewer clusters than its length needs. Set the length to what is there?",
            &[
                ("shorten", format!("each file keeps what its clusters hold ({path}: {room} bytes)")),
                ("leave", "nothing changes; reading past the end gives an error".to_owned()),
            ],
            vec![path.clone()],
        );
        if taken != "shorten" {
            continue;
        }
        let step = Step::new(
            "length-from-clusters",
            format!("{path}: set the length from {} to {room}", node.stream.length),
            Provenance::Derived,
            if written {
                "what is valid of it, which ends in the last of its clusters"
            } else {
                "the clusters it has"
            },
            &[&c::SHORT, &c::RUN_RANGE],
        )
        .file(path);
        let (row, empty) = (node.row, node.length == 0);
        edit_stream(job, number, step, |stream| {
            stream.length = room;
            stream.valid = stream.valid.min(room);
            stream.flags = POSSIBLE | if row && !empty { NO_CHAIN } else { 0 };
            if empty {
                stream.first = 0;
            }
        })?;
    }
    Ok(())
}

pub(super) fn crossed(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    for (number, node) in flawed(job, Flaws::CROSSED) {
        if node.length == 0 || node.flaws.intersects(Flaws::GUESSED | Flaws::SHORT | Flaws::FOUND) {
            continue;
        }
        let path = job.survey.tree.path(number);
        if node.folder && !job.survey.tree.below_root().any(|(_, other)| other.parent == number) {
            // What is in it is reached through the other entry: a copy would name the same files.
            let Some((places, item)) = set_of(job, number) else { continue };
            let step = Step::new(
                "set-removed",
                format!("{path}: free its entry set"),
                Provenance::Judged,
                "another entry names the same folder",
                &[&c::CROSSED],
            )
            .file(path);
            let indices = item.index..item.index.plus(item.entries());
            job.steps.run(job.window, step, |window| free_entries(window, &places, indices))?;
            continue;
        }
        let clusters = job.survey.clusters(job.window, number);
        let options = [
            ("duplicate", "each file gets its own copy of the shared clusters".to_owned()),
            ("cut", "the later file is emptied".to_owned()),
        ];
        let taken = job.choices.ask(
            "cross-link",
            "Files share clusters; at most one of them is right there. Give each its own copy?",
            &options,
            vec![path.clone()],
        );
        let count = clusters.len().narrow();
        let fresh = (taken == "duplicate").then(|| take_exactly(job, count)).flatten();
        let Some((first, fresh)) = fresh.and_then(|fresh| Some((*fresh.first()?, fresh))) else {
            let step = Step::new(
                "file-emptied",
                if taken == "duplicate" {
                    let many = counted(clusters.len().wide(), "cluster", "clusters");
                    format!(
                        "{path}: set length and first cluster to 0: {many} for a copy of its own are not free"
                    )
                } else {
                    format!("{path}: set length and first cluster to 0")
                },
                Provenance::Judged,
                "its clusters are another's too",
                &[&c::CROSSED],
            )
            .file(path);
            edit_stream(job, number, step, |stream| {
                (stream.first, stream.length, stream.valid, stream.flags) = (0, 0, 0, POSSIBLE);
            })?;
            continue;
        };
        let step = Step::new(
            "cross-link-duplicated",
            format!(
                "{path}: give it its own copy of its {}",
                counted(clusters.len().wide(), "cluster", "clusters")
            ),
            Provenance::Judged,
            "the clusters as they stand; in at most one of the files they are right",
            &[&c::CROSSED],
        )
        .file(path)
        .or("empty this file");
        let Some((places, mut item)) = set_of(job, number) else { continue };
        let mut stream = item.stream;
        let row = run_of(first, count).eq(fresh.iter().copied());
        (stream.first, stream.flags) = (first, if row { POSSIBLE | NO_CHAIN } else { POSSIBLE });
        if let Some(entry) = item.raw.get_mut(ENTRY..2.times(ENTRY)) {
            stream.put(entry);
        }
        let each = geometry.cluster_bytes();
        job.steps.run(job.window, step, |window| {
            for (from, to, count) in alongside(&clusters, fresh.iter().copied()) {
                let (from, to) = (geometry.cluster_place(from), geometry.cluster_place(to));
                window.copy_at(from, to, count.wide().times(each))?;
            }
            if !row {
                link(window, &geometry, &fresh)?;
            }
            write_set(window, &places, item.index, &item.raw)
        })?;
    }
    Ok(())
}
