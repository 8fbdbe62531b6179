//! Faults of single chains, and chains that nothing claims.

use super::Subject;
use crate::{
    arith::Sat,
    cluster::chain::End,
    fat::{
        catalogue as c,
        folder::Flaws,
        table::entry_place,
        tree::{Node, Reached},
    },
    report::{
        finding::{Entry, Finding, Sink},
        wording::counted,
    },
};

/// Flaws of a chain, the class each belongs to, and what follows for the file.
const FAULTS: &[(Flaws, &Entry)] = &[
    (Flaws::INTO_FREE, &c::INTO_FREE),
    (Flaws::INTO_BAD, &c::INTO_BAD),
    (Flaws::INTO_RANGE, &c::INTO_RANGE),
    (Flaws::LOOP, &c::CHAIN_LOOP),
    (Flaws::FIRST_FREE, &c::FIRST_FREE),
    (Flaws::ENDS_EARLY, &c::CHAIN_SHORT),
];

pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let troubled: Vec<u32> = std::iter::once(0)
        .chain(
            subject
                .survey
                .tree
                .below_root()
                .filter(|(_, node)| node.flaws != Flaws::default())
                .map(|(n, _)| n),
        )
        .collect();
    for number in troubled {
        if let Some(node) = subject.survey.tree.node(number).cloned() {
            one(subject, number, &node, sink);
        }
    }
    lost(subject, sink);
}

fn path(subject: &Subject<'_>, number: u32) -> String {
    if number == 0 { "/".to_owned() } else { subject.survey.tree.path(number) }
}

/// Where the first cluster stands in an entry: the low half, and for FAT32 the high half too.
fn first_cluster_places(subject: &Subject<'_>, node: &Node, finding: Finding) -> Finding {
    let finding = finding.at(node.place.plus(26), 2);
    if subject.believed.geometry.wide() { finding.at(node.place.plus(20), 2) } else { finding }
}

fn one(subject: &mut Subject<'_>, number: u32, node: &Node, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    let path = path(subject, number);
    let named = |node: &Node| node.parent == 0 && node.reached == Reached::Tree;
    let empty = number == 0 && !subject.survey.tree.nodes.iter().skip(1).any(named);
    let outcome = outcome(node, empty);
    if let Some((cluster, end)) = node.fault {
        for (flaw, entry) in FAULTS.iter().filter(|(flaw, _)| node.flaws.has(*flaw)) {
            let said_below = *flaw == Flaws::ENDS_EARLY && node.flaws.has(Flaws::CHAIN_SHORT);
            if *flaw == Flaws::INTO_FREE && node.flaws.has(Flaws::FIRST_FREE) || said_below {
                continue;
            }
            let (at, width) = entry_place(geometry.kind, cluster);
            let finding = Finding::new(entry, format!("{path}: {}", entry.title)).file(path.clone()).because(
                describe(node, cluster, end),
                "It should name the next cluster, or end the chain.",
                outcome.clone(),
            );
            sink.add(
                (0..geometry.tables)
                    .fold(finding, |f, copy| f.at(geometry.table_offset(copy).plus(at), width)),
            );
        }
    }
    for (flaw, entry, is) in [
        (Flaws::NO_FIRST, &c::FIRST_MISSING, "The entry gives no first cluster."),
        (Flaws::FIRST_RANGE, &c::FIRST_RANGE, "The entry's first cluster is none of this volume's."),
        (Flaws::NOT_FOLDER, &c::NOT_FOLDER, "What the entry calls a folder does not begin as one."),
        (
            Flaws::WRONG_TYPE,
            &c::WRONG_TYPE,
            "The folder bit does not agree with what stands in the first cluster.",
        ),
    ] {
        if node.flaws.has(flaw) {
            let finding = Finding::new(entry, format!("{path}: {}", entry.title)).file(path.clone()).because(
                is,
                "",
                outcome.clone(),
            );
            let finding = if flaw == Flaws::WRONG_TYPE {
                finding.at(node.place.plus(11), 1)
            } else if flaw == Flaws::NOT_FOLDER && node.length > 0 {
                finding.at(geometry.cluster_offset(node.first), geometry.cluster_bytes().wide())
            } else {
                first_cluster_places(subject, node, finding)
            };
            sink.add(finding);
        }
    }
    if node.flaws.has(Flaws::FIRST_FOUND)
        && !node.flaws.any(Flaws::NO_FIRST.with(Flaws::FIRST_RANGE).with(Flaws::FIRST_FREE))
    {
        let written = node.entry.first_cluster(geometry.wide());
        let finding = Finding::new(
            &c::FIRST_WRONG,
            format!("{path}: begins at cluster {written}, its content at {}", node.first),
        )
        .file(path.clone())
        .because(
            format!("The entry names cluster {written}."),
            format!("What fits it exactly, and belongs to nothing else, begins at cluster {}.", node.first),
            outcome.clone(),
        );
        sink.add(first_cluster_places(subject, node, finding));
    } else if node.flaws.any(Flaws::MET.with(Flaws::CROSSED)) {
        crossed(subject, number, node, &path, sink);
    }
    sizes(subject, (number, node), &path, sink);
}

fn clusters(number: u32) -> String {
    counted(number.wide(), "cluster", "clusters")
}

fn sizes(subject: &Subject<'_>, (number, node): (u32, &Node), path: &str, sink: &mut dyn Sink) {
    let each = subject.believed.geometry.cluster_bytes().wide();
    let needed = subject.believed.geometry.clusters_for(node.size());
    let holds = node.length.wide().times(each);
    if node.flaws.has(Flaws::SIZE_WRONG) {
        let said = subject.survey.tree.said_sizes.get(&number).copied().unwrap_or_default();
        let is = format!("The entry gives {said} bytes. Its chain has {}.", clusters(node.length));
        sink.add(
            Finding::new(&c::SIZE_WRONG, format!("{path}: {}", c::SIZE_WRONG.title))
                .at(node.place.plus(28), 4)
                .file(path)
                .because(
                    is,
                    format!(
                        "By its own structure its content ends at byte {}, in the last of these.",
                        node.size()
                    ),
                    "",
                ),
        );
    }
    let standing = format!("The entry gives {} bytes, that is {}.", node.size(), clusters(needed));
    let has = format!("Its chain has {}, room for {holds} bytes.", clusters(node.length));
    for (flaw, entry, follows) in [
        (Flaws::CHAIN_SHORT, &c::CHAIN_SHORT, "What is missing cannot be read."),
        (Flaws::CHAIN_LONG, &c::CHAIN_LONG, "Either the size is too small, or clusters were not given back."),
        (Flaws::SIZE_ZERO, &c::SIZE_ZERO, "Hosts show an empty file."),
    ] {
        if node.flaws.has(flaw) && !node.folder {
            sink.add(
                Finding::new(entry, format!("{path}: {}", entry.title))
                    .at(node.place.plus(28), 4)
                    .file(path)
                    .because(standing.clone(), has.clone(), follows),
            );
        }
    }
}

fn describe(node: &Node, cluster: u32, end: End) -> String {
    match end {
        End::Another(into) if node.flaws.has(Flaws::SKIPS) => {
            format!("The table entry of cluster {cluster} leads to cluster {into}, past others of the file.")
        }
        End::Free => format!("Cluster {cluster} belongs to the chain, but the table calls it free."),
        End::Bad => format!("Cluster {cluster} belongs to the chain, but the table marks it bad."),
        End::Odd(value) => format!(
            "The table entry of cluster {cluster} holds {value:#x}, which is no cluster of this volume."
        ),
        End::Loop(back) => {
            format!("The table entry of cluster {cluster} leads back to cluster {back} of the same chain.")
        }
        End::Unreadable => format!("The table entry of cluster {cluster} cannot be read."),
        End::Proper => format!("The chain ends at cluster {cluster}, before the size is reached."),
        End::Another(into) => format!(
            "The table entry of cluster {cluster} leads to cluster {into}, which belongs to another chain."
        ),
    }
}

fn outcome(node: &Node, empty: bool) -> String {
    let text = if node.folder && node.flaws.has(Flaws::CHAIN_SHORT.with(Flaws::GUESSED)) {
        "A part of it is missing; what goes on behind the fault was found by judgement."
    } else if node.flaws.has(Flaws::CHAIN_SHORT) {
        "Only the part before the fault can be read."
    } else if node.flaws.has(Flaws::GUESSED) {
        "The rest was found by judgement: clusters that fit and belong to nothing else."
    } else if node.flaws.has(Flaws::CROSSED) {
        "At most one of the files that share clusters is right there."
    } else if node.flaws.has(Flaws::FIRST_FOUND) {
        "Its content was found elsewhere."
    } else if node.length == 0 && !node.folder && node.size() > 0 {
        "Nothing of its content can be found."
    } else if node.folder && empty {
        "It names nothing: no entry stands in it."
    } else if node.folder {
        "Its entries end there."
    } else {
        "All of its content is known."
    };
    text.to_owned()
}

fn crossed(subject: &mut Subject<'_>, number: u32, node: &Node, path: &str, sink: &mut dyn Sink) {
    let clusters = subject.survey.clusters(subject.medium, number);
    let shared: Vec<u32> =
        clusters.iter().copied().filter(|c| subject.survey.shared.contains(c.size())).collect();
    let geometry = subject.believed.geometry;
    let mut finding = Finding::new(&c::CROSS_LINKED, format!("{path}: shares clusters with another chain"))
        .file(path)
        .because(
            if shared.is_empty() {
                "Its chain, as the table has it, runs into another's.".to_owned()
            } else {
                format!(
                    "{} of its clusters belong to another chain as well, the first is {}.",
                    shared.len(),
                    shared.first().copied().unwrap_or(0)
                )
            },
            "A cluster belongs to one file.",
            if node.flaws.has(Flaws::TWICE) {
                "Another entry names the same first cluster and the same size: a move that was cut off leaves a file in both folders.".to_owned()
            } else {
                outcome(node, false)
            },
        );
    // The entry that leads astray stands before the first shared cluster.
    let astray = node.fault.filter(|(_, end)| matches!(end, End::Another(_))).map(|(cluster, _)| cluster);
    let before = astray.or(clusters.iter().take_while(|c| !shared.contains(c)).last().copied());
    if let Some(cluster) = before {
        let (at, width) = entry_place(geometry.kind, cluster);
        finding = finding.at(geometry.table_offset(0).plus(at), width);
    } else {
        finding = finding.at(node.place.plus(26), 2);
    }
    for cluster in shared.iter().take(64) {
        finding = finding.at(geometry.cluster_offset(*cluster), geometry.cluster_bytes().wide());
    }
    sink.add(finding);
}

fn lost(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    let unseen = subject.survey.has_unseen();
    if unseen && !subject.survey.tree.lost.is_empty() {
        let many = subject.survey.tree.lost.len().wide();
        let summary = counted(many, "chain may belong to a folder", "chains may belong to folders");
        sink.add(Finding::new(&c::UNSEEN, format!("{summary} in the part of the volume that is not there")));
    }
    for lost in subject.survey.tree.lost.iter().filter(|_| !unseen) {
        let (at, width) = entry_place(geometry.kind, lost.head);
        let (belong, begin) = if lost.length == 1 { ("belongs", "begins") } else { ("belong", "begin") };
        let kind = lost.extension.as_ref().map(|extension| format!("like a {extension} file"));
        let like = kind.as_ref().map_or(String::new(), |kind| format!(", and {begin} {kind}"));
        let which = kind.map_or(String::new(), |kind| format!(", which begins {kind}"));
        sink.add(
            Finding::new(
                &c::LOST_CHAIN,
                format!("{} from {} on {belong} to no file{like}", clusters(lost.length), lost.head),
            )
            .at(geometry.table_offset(0).plus(at), width)
            .because(
                format!(
                    "The table has a chain of {} from cluster {} on{which}.",
                    clusters(lost.length),
                    lost.head
                ),
                "Each chain belongs to a file or folder.",
                "It may be what is left of a missing file.",
            ),
        );
    }
    let orphans: Vec<(u32, Reached)> = subject
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.reached != Reached::Tree)
        .map(|(number, node)| (number, node.reached))
        .collect();
    for (number, reached) in orphans {
        let Some(node) = subject.survey.tree.node(number) else { continue };
        let path = subject.survey.tree.path(number);
        match reached {
            Reached::Orphan if node.place == 0 => sink.add(
                Finding::new(&c::LOST_FOLDER, format!("the folder at cluster {} has no entry", node.first))
                    .at(geometry.cluster_offset(node.first), 64)
                    .file(path)
                    .because(
                        format!("Cluster {} begins a folder that names it; no entry does.", node.first),
                        "Each folder has an entry in the folder above it.",
                        "Its files are out of reach.",
                    ),
            ),
            Reached::Undeleted => sink.add(
                Finding::new(
                    &c::DELETED_IN_USE,
                    format!("{path}: marked deleted, but its clusters are in use"),
                )
                .at(node.place, 1)
                .file(path)
                .because(
                    "The entry's first byte says that it is free.",
                    "Its chain is whole, as long as its size needs, and belongs to nothing else.",
                    "Hosts do not show it.",
                ),
            ),
            _ => {}
        }
    }
}
