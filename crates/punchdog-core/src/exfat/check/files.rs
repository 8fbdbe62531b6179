//! Entry sets, chains, lengths and folders.

use super::Subject;
use crate::{
    arith::Sat,
    cluster::chain::End,
    exfat::{
        catalogue as c,
        layout::{ENTRY, HIDDEN, SYSTEM},
        sets::Flaws,
        tree::{Node, Reached, Tree},
    },
    report::{
        finding::{Entry, Finding, Sink},
        hidden::{self, Hidden, Seen},
        wording::counted,
    },
};

pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let numbers: Vec<u32> = (0..subject.survey.tree.nodes.len().narrow()).collect();
    for number in numbers {
        let Some(node) = subject.survey.tree.node(number).cloned() else { continue };
        if node.reached == Reached::Orphan && node.place == 0 && number != 0 {
            lost_folder(subject, &node, sink);
            continue;
        }
        set(subject, number, &node, sink);
        chain(subject, number, &node, sink);
    }
    copies(subject, sink);
    notes(subject, sink);
    hidden(subject, sink);
}

/// Files that something hid.
fn hidden(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let tree = &subject.survey.tree;
    let Some(found) = hidden_tree(tree) else { return };
    let finding = found.finding(&c::HIDDEN_TREE);
    sink.add(found.numbers.into_iter().take(2000).fold(finding, |finding, number| {
        let place = tree.node(number).map_or(0, |node| node.place);
        finding.at(place.plus(4), 2).file(tree.path(number))
    }));
}

/// The tree that something hid, if something did.
pub(in crate::exfat) fn hidden_tree(tree: &Tree) -> Option<Hidden> {
    let seen = tree.below_root().filter(|(_, node)| node.place != 0).map(|(number, node)| Seen {
        number,
        parent: node.parent,
        name: &node.name,
        hidden: node.attributes & HIDDEN != 0,
        system: node.attributes & SYSTEM != 0,
    });
    hidden::tree(seen)
}

fn title(subject: &Subject<'_>, number: u32) -> String {
    if number == 0 { "the root folder".to_owned() } else { subject.survey.tree.path(number) }
}

/// Flaw, class, where in the set it shows (offset, length; length 0 for the whole set).
const IN_SETS: &[(Flaws, &Entry, u64, u64)] = &[
    (Flaws::COUNT, &c::SET_COUNT, 1, 1),
    (Flaws::STREAM_TYPE, &c::SET_TYPES, 0, 0),
    (Flaws::HEAD_TYPE, &c::SET_TYPES, 0, 1),
    (Flaws::HEAD, &c::HEAD_LOST, 0, 32),
    (Flaws::NAME, &c::NAME_LOST, 64, 0),
    (Flaws::NAME_FOUND, &c::NAME_LOST, 64, 0),
    (Flaws::NAME_TYPE, &c::SET_TYPES, 0, 0),
    (Flaws::CRITICAL, &c::CRITICAL, 0, 0),
    (Flaws::NAME_LENGTH, &c::NAME_LENGTH, 35, 1),
    (Flaws::NAME_TAIL, &c::NAME_TAIL, 64, 0),
    (Flaws::HASH, &c::NAME_HASH, 36, 2),
    (Flaws::NAME_STRUCK, &c::NAME_HASH, 64, 0),
    (Flaws::LENGTH_STRUCK, &c::SET_CHECKSUM, 40, 24),
    (Flaws::ILLEGAL, &c::NAME_ILLEGAL, 0, 0),
    (Flaws::TWICE, &c::NAME_TWICE, 0, 0),
    (Flaws::VALID, &c::VALID_LENGTH, 40, 8),
    (Flaws::FOLDER_LENGTH, &c::FOLDER_LENGTH, 56, 8),
    (Flaws::FLAGS, &c::FLAGS, 33, 1),
    (Flaws::ATTRIBUTES, &c::ATTRIBUTES, 4, 2),
    (Flaws::FIRST_UNUSED, &c::FIRST_UNUSED, 52, 4),
    (Flaws::NO_FIRST, &c::FIRST_MISSING, 52, 4),
    (Flaws::FIRST_RANGE, &c::FIRST_RANGE, 52, 4),
    (Flaws::NOT_FOLDER, &c::FIRST_WRONG, 52, 4),
    (Flaws::RUN_RANGE, &c::RUN_RANGE, 52, 12),
    (Flaws::SHORT, &c::SHORT, 56, 8),
    (Flaws::ENDS_EARLY, &c::SHORT, 56, 8),
    (Flaws::SKIPS, &c::SHORT, 56, 8),
    (Flaws::LONG, &c::LONG, 56, 8),
    (Flaws::FLAG_LOST, &c::FLAG_LOST, 33, 1),
    (Flaws::FLAG_WRONG, &c::FLAG_WRONG, 33, 1),
    (Flaws::CROSSED, &c::CROSSED, 52, 4),
];

fn set(subject: &mut Subject<'_>, number: u32, node: &Node, sink: &mut dyn Sink) {
    let reached = match node.reached {
        Reached::Undeleted => Some(&c::DELETED_IN_USE),
        _ => None,
    };
    let mut flaws = node.flaws;
    // Of a set that is wrong in one place, its checksum is only the echo.
    let struck = Flaws::NAME_STRUCK | Flaws::LENGTH_STRUCK;
    let said = Flaws::HASH | Flaws::NAME_LENGTH | Flaws::NAME_TAIL | Flaws::COUNT | struck;
    if flaws.contains(Flaws::CHECKSUM) && flaws.intersects(said) {
        flaws.remove(Flaws::CHECKSUM);
    }
    let path = title(subject, number);
    let whole = node.entries.wide().times(ENTRY.wide());
    let mut add = |entry: &'static Entry, offset: u64, length: u64| {
        let length = if length == 0 { whole.minus(offset) } else { length };
        let (is, should) = says(node, entry);
        let mut finding = Finding::new(entry, format!("{path}: {}", entry.title))
            .file(path.clone())
            .at(node.place.plus(offset), length)
            .because(is, should, consequence(node, entry));
        if node.fault.is_some() || entry.code == c::CROSSED.code {
            finding = finding.file(path.clone());
        }
        sink.add(finding);
    };
    if let Some(entry) = reached {
        add(entry, 0, 0);
    }
    if flaws.contains(Flaws::CHECKSUM) {
        add(&c::SET_CHECKSUM, 2, 2);
    }
    // How long a chain is that cannot be read to its end is not known.
    let unread = matches!(node.fault, Some((_, End::Unreadable)));
    for (flaw, entry, offset, length) in IN_SETS {
        let short = flaw.contains(Flaws::SHORT);
        let said = flaw.contains(Flaws::ENDS_EARLY) && flaws.contains(Flaws::SHORT);
        if unread && short || said {
            continue;
        }
        if flaws.contains(*flaw) && number != 0 {
            add(entry, *offset, *length);
        }
    }
}

fn says(node: &Node, entry: &'static Entry) -> (String, String) {
    let stream = &node.stream;
    match entry.code {
        "exfat/valid-length" => (
            format!("{} bytes are said to be valid.", stream.valid),
            format!("The file has {}.", stream.length),
        ),
        "exfat/chain-too-short" if node.flaws.contains(Flaws::SKIPS) => (
            match node.fault {
                Some((cluster, End::Another(into))) => {
                    format!(
                        "The table entry of cluster {cluster} leads to cluster {into}, past others of the file."
                    )
                }
                _ => format!("The entry names cluster {}, which is not the file's first.", node.stream.first),
            },
            format!(
                "A chain that nothing leads to leads there too, and with it the file has all of its {} bytes.",
                node.stream.length
            ),
        ),
        "exfat/chain-too-short"
            if node.flaws.contains(Flaws::ENDS_EARLY) && node.flaws.contains(Flaws::GUESSED) =>
        {
            (
                match node.fault {
                    Some((cluster, End::Another(into))) => {
                        format!(
                            "The table entry of cluster {cluster} leads to cluster {into}, which holds no folder."
                        )
                    }
                    _ => "The table ends its chain before that.".to_owned(),
                },
                format!("Its length is {} bytes.", node.stream.length),
            )
        }
        "exfat/chain-too-long" if matches!(node.fault, Some((_, End::Another(_)))) => (
            format!("Its length is {} bytes, and it has all of them.", node.stream.length),
            "Its last cluster leads on, to one of another's: a host that removes the file frees that too."
                .to_owned(),
        ),
        "exfat/chain-too-short" | "exfat/chain-too-long" => (
            format!("Its length is {} bytes.", stream.length),
            format!("It has {}.", counted(node.length.wide(), "cluster", "clusters")),
        ),
        "exfat/folder-length" => (
            format!("The folder's length is {}, valid are {}.", stream.length, stream.valid),
            format!("It has {}.", counted(node.length.wide(), "cluster", "clusters")),
        ),
        "exfat/first-cluster-range" | "exfat/first-cluster-missing" => (
            format!("The entry names cluster {} for {} bytes.", stream.first, stream.length),
            if node.first == 0 {
                "Nothing in use fits it.".to_owned()
            } else {
                format!("What fits and belongs to nothing else begins at cluster {}.", node.first)
            },
        ),
        "exfat/no-fat-chain-lost" => (
            "NoFatChain is clear, and the table has no chain behind the first cluster.".to_owned(),
            "The clusters that follow are in use and nobody else's.".to_owned(),
        ),
        "exfat/no-fat-chain-wrong" => (
            "NoFatChain is set, but the clusters that follow are another's.".to_owned(),
            "The table has a chain of exactly the length.".to_owned(),
        ),
        "exfat/set-checksum" if node.flaws.contains(Flaws::LENGTH_STRUCK) => (
            "Its two lengths differ, and the set does not have its checksum.".to_owned(),
            format!("With {} for both it has.", stream.length),
        ),
        "exfat/name-hash" if node.flaws.contains(Flaws::NAME_STRUCK) => (
            "As the name stands, hash and checksum are those of another one.".to_owned(),
            "With one bit of one character as it was, both fit.".to_owned(),
        ),
        _ => (format!("The set stands at byte {} of the volume.", node.place), String::new()),
    }
}

fn consequence(node: &Node, entry: &'static Entry) -> &'static str {
    let short = entry.code == c::SHORT.code && !node.flaws.contains(Flaws::SKIPS);
    if entry.code == c::CROSSED.code && node.flaws.contains(Flaws::FOUND) {
        "Clusters that fit its length and its kind, and belong to nothing else, were found elsewhere."
    } else if (entry.code == c::CROSSED.code || short) && node.flaws.contains(Flaws::GUESSED) {
        "The rest was found by judgement: clusters that are in use and belong to nothing else."
    } else {
        ""
    }
}

fn chain(subject: &mut Subject<'_>, number: u32, node: &Node, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    let Some((cluster, end)) = node.fault else { return };
    let (entry, what): (&'static Entry, String) = match end {
        End::Free => (&c::INTO_FREE, "says nothing".to_owned()),
        End::Bad => (&c::INTO_BAD, "says that it is bad".to_owned()),
        End::Odd(value) => (&c::INTO_RANGE, format!("holds {value:#x}, which is no cluster of this volume")),
        End::Unreadable => (&c::INTO_RANGE, "cannot be read".to_owned()),
        End::Loop(back) => (&c::LOOP, format!("leads back to cluster {back}")),
        End::Another(_) | End::Proper => return,
    };
    let path = title(subject, number);
    let follows = if node.flaws.contains(Flaws::GUESSED) {
        "The rest was found by judgement: clusters that are in use and belong to nothing else."
    } else if node.flaws.contains(Flaws::SHORT) {
        "What is missing was not found."
    } else if number == 0 {
        "Its entries end there."
    } else {
        "All of its content is known."
    };
    let mut finding = Finding::new(entry, format!("{path}: {}", entry.title)).because(
        format!("The table entry of cluster {cluster} {what}."),
        "It should name the next cluster, or end the chain.",
        follows,
    );
    if number != 0 {
        finding = finding.file(path);
    }
    // The entry itself, and the one before it that leads there.
    finding = finding.at(geometry.table_place(0).plus(cluster.wide().times(4)), 4);
    if end == End::Free && node.first != cluster || number == 0 {
        finding = finding.at(geometry.table_place(0).plus(node.first.wide().times(4)), 4);
    }
    sink.add(finding);
}

fn lost_folder(subject: &Subject<'_>, node: &Node, sink: &mut dyn Sink) {
    let place = subject.believed.geometry.cluster_place(node.first);
    sink.add(
        Finding::new(&c::LOST_FOLDER, format!("the folder at cluster {} has no entry", node.first))
            .at(place, 64)
            .because(
                format!("Cluster {} begins with a whole entry set and belongs to no folder.", node.first),
                "Each folder has an entry in the folder above it.",
                "Its files are out of reach.",
            ),
    );
}

fn copies(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    let hit: Vec<u32> = differing(subject);
    if let (Some(first), Some(last)) = (hit.first(), hit.last()) {
        let finding = Finding::new(
            &c::COPIES_DIFFER,
            format!("the two tables differ in {}", counted(hit.len().wide(), "entry", "entries")),
        )
        .because(
            format!("They differ at clusters {first} to {last}."),
            "A clean volume has both alike.",
            "",
        );
        sink.add(hit.iter().take(2000).fold(finding, |f, cluster| {
            let at = cluster.wide().times(4);
            f.at(geometry.table_place(0).plus(at), 4).at(geometry.table_place(1).plus(at), 4)
        }));
    }
}

/// Clusters of chained files about which the two tables of TexFAT differ.
fn differing(subject: &mut Subject<'_>) -> Vec<u32> {
    let geometry = subject.believed.geometry;
    if geometry.tables != 2 {
        return Vec::new();
    }
    let used = subject.survey.claimed.clone();
    let (links, medium) = (&mut subject.survey.links, subject.medium);
    used.ones()
        .map(Sat::narrow)
        .filter(|cluster| {
            // What cannot be read of one is no difference.
            let both = links.raw(medium, 0, *cluster).zip(links.raw(medium, 1, *cluster));
            both.is_some_and(|(one, other)| one != other)
        })
        .collect()
}

fn notes(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let notes = subject.survey.tree.notes.clone();
    for (number, notes) in notes {
        let content = subject.survey.content(subject.medium, number);
        let name = subject.survey.tree.folder_title(number);
        let place = |index: u32| content.place(index).unwrap_or(0);
        for (indices, entry) in
            [(&notes.strays, &c::STRAY), (&notes.junk, &c::JUNK), (&notes.unknown, &c::UNKNOWN)]
        {
            if !indices.is_empty() {
                let many = counted(indices.len().wide(), "entry", "entries");
                let finding = Finding::new(entry, format!("{name}: {} ({many})", entry.title));
                sink.add(
                    indices.iter().take(2000).fold(finding, |f, index| f.at(place(*index), ENTRY.wide())),
                );
            }
        }
        if let Some((end, count)) = notes.hides.filter(|(_, count)| *count > 0) {
            sink.add(
                Finding::new(&c::END_EARLY, format!("{name}: an end mark hides {}", counted(count.wide(), "file", "files")))
                    .at(place(end), 1)
                    .because(
                        format!("Entry {end} is an end mark. Whole sets follow it, with clusters that fit and belong to nothing else."),
                        "",
                        "Hosts that stop at the mark do not show them.",
                    ),
            );
        } else if let Some((end, first)) = notes.tail {
            sink.add(
                Finding::new(&c::TAIL, format!("{name}: {}", c::TAIL.title))
                    .at(place(first), ENTRY.wide())
                    .because(
                        format!("The folder ends at entry {end}; something stands from entry {first} on."),
                        "",
                        "",
                    ),
            );
        }
    }
}
