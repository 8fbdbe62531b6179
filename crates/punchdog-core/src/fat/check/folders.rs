//! Faults of folders and their entries: names, dots, marks, labels.

use super::Subject;
use crate::{
    arith::Sat,
    fat::{
        catalogue as c,
        folder::Flaws,
        layout::{ATTR_HIDDEN, ATTR_SYSTEM, ENTRY_BYTES},
        names,
        tree::{Node, Reached, Tree},
    },
    report::{
        finding::{Entry, Finding, Sink},
        hidden::{self, Hidden, Seen},
        wording::counted,
    },
};

const ENTRY: u64 = 32;

/// Flaws of a single entry: class, offset in the entry, length, what is so.
const FLAWS: &[(Flaws, &Entry, u64, u64, &str)] = &[
    (
        Flaws::SHORT_ILLEGAL,
        &c::SHORT_ILLEGAL,
        0,
        11,
        "The short name holds a byte that is not allowed there.",
    ),
    (
        Flaws::ATTRIBUTES,
        &c::ATTRIBUTES,
        11,
        1,
        "The attribute byte has bits set that cannot be set together.",
    ),
    (Flaws::FOLDER_SIZE, &c::FOLDER_SIZE, 28, 4, "The entry of a folder gives a size."),
    (Flaws::SHORT_TWICE, &c::NAME_TWICE, 0, 11, "Another entry of the folder has the same short name."),
];

/// Flaws of a long name: class, what is so.
const LONG_FLAWS: &[(Flaws, &Entry, &str)] = &[
    (Flaws::LONG_ORDER, &c::LONG_ORDER, "The parts of the long name are not numbered as they stand."),
    (
        Flaws::LONG_CHECKSUM,
        &c::LONG_CHECKSUM,
        "Parts of the long name carry another checksum than the short name has.",
    ),
    (
        Flaws::LONG_FIELDS,
        &c::LONG_FIELDS,
        "A part of the long name has other attributes than 15, or a value where 0 must stand.",
    ),
    (Flaws::LONG_ILLEGAL, &c::LONG_ILLEGAL, "The long name holds a character that is forbidden."),
    (Flaws::LONG_TWICE, &c::NAME_TWICE, "Another entry of the folder has the same long name."),
];

pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    for (number, node) in subject.survey.tree.below_root() {
        entry(subject, number, node, sink);
    }
    let numbers: Vec<u32> = subject.survey.tree.notes.keys().copied().collect();
    for number in numbers {
        folder(subject, number, sink);
    }
    hidden(subject, sink);
    label(subject, sink);
}

fn entry(subject: &Subject<'_>, number: u32, node: &Node, sink: &mut dyn Sink) {
    if node.flaws == Flaws::default() && node.reached != Reached::BehindEnd {
        return;
    }
    let path = || subject.survey.tree.path(number);
    for (_, entry, at, length, is) in FLAWS.iter().filter(|(flaw, ..)| node.flaws.has(*flaw)) {
        sink.add(
            Finding::new(entry, format!("{}: {}", path(), entry.title))
                .at(node.place.plus(*at), *length)
                .file(path())
                .because(*is, "", ""),
        );
    }
    // The parts of a long name stand right before the short entry, except across a cluster border.
    let parts = u64::from(node.long).times(ENTRY);
    for (_, entry, is) in LONG_FLAWS.iter().filter(|(flaw, ..)| node.flaws.has(*flaw)) {
        sink.add(
            Finding::new(entry, format!("{}: {}", path(), entry.title))
                .at(node.place.minus(parts), parts)
                .file(path())
                .because(*is, "", ""),
        );
    }
}

fn folder(subject: &mut Subject<'_>, number: u32, sink: &mut dyn Sink) {
    let content = subject.survey.content(subject.medium, number);
    let title = subject.survey.tree.folder_title(number);
    let path = if number == 0 { "/".to_owned() } else { subject.survey.tree.path(number) };
    let behind: Vec<String> = subject
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.parent == number && node.reached == Reached::BehindEnd)
        .map(|(n, _)| subject.survey.tree.path(n))
        .collect();
    // Of a folder that the image does not hold nothing can be said.
    if subject.survey.tree.node(number).is_some_and(Node::is_unseen) {
        return;
    }
    let Some(notes) = subject.survey.tree.notes.get(&number) else { return };
    let place = |index: u32| content.place(index).unwrap_or(0);
    let first = subject.survey.tree.node(number).map_or(0, |node| node.first);
    let value = |found: Option<u32>| {
        found.map_or("is missing".to_owned(), |cluster| format!("names cluster {cluster}"))
    };
    if let Some(found) = notes.dot_wrong {
        sink.add(
            Finding::new(&c::DOT, format!("{title}: \".\" {}", value(found)))
                .at(place(0), ENTRY)
                .file(path.clone())
                .because(
                    format!("\".\" {}.", value(found)),
                    format!("It should be the first entry and name cluster {first}."),
                    "",
                ),
        );
    }
    if let Some((found, parent)) = notes.dot_dot_wrong {
        sink.add(
            Finding::new(&c::DOT_DOT, format!("{title}: \"..\" {}", value(found)))
                .at(place(1), ENTRY)
                .file(path.clone())
                .because(
                    format!("\"..\" {}.", value(found)),
                    format!("It should be the second entry and name cluster {parent}."),
                    "",
                ),
        );
    }
    for (indices, entry) in [
        (&notes.stray_parts, &c::LONG_STRAY),
        (&notes.junk, &c::JUNK_ENTRY),
        (&notes.stray_dots, &c::STRAY_DOTS),
        (&notes.labels, &c::LABEL_MISPLACED),
    ] {
        if !indices.is_empty() {
            let number = counted(indices.len().wide(), "entry", "entries");
            let finding = Finding::new(entry, format!("{title}: {} ({number})", entry.title))
                .file(path.clone())
                .because(
                    format!(
                        "{number} of {title} {} of this kind.",
                        if indices.len() == 1 { "is" } else { "are" }
                    ),
                    "",
                    "",
                );
            sink.add(indices.iter().take(2000).fold(finding, |f, index| f.at(place(*index), ENTRY)));
        }
    }
    if let Some((end, tail)) = notes.tail {
        let rest = content.bytes.len().wide().minus(tail.wide().times(ENTRY_BYTES.wide()));
        if notes.tail_is_real {
            let finding = Finding::new(
                &c::END_EARLY,
                format!("{title}: an end mark hides {}", counted(behind.len().wide(), "entry", "entries")),
            )
            .at(place(end), 1)
            .because(
                format!("Entry {end} of {title} is an end mark."),
                "Whole entries follow it, with chains that fit and belong to nothing else.",
                "Hosts that stop at the mark do not show them.",
            );
            sink.add(behind.into_iter().fold(finding, Finding::file));
        } else {
            sink.add(
                Finding::new(
                    &c::FOLDER_TAIL,
                    format!("{title}: {rest} bytes behind its end mark are not empty"),
                )
                .at(place(tail), ENTRY)
                .file(path)
                .because(
                    format!("The folder ends at entry {end}; something stands from entry {tail} on."),
                    "",
                    "",
                ),
            );
        }
    }
}

/// Files that something hid.
fn hidden(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let tree = &subject.survey.tree;
    let Some(found) = hidden_tree(tree) else { return };
    let finding = found.finding(&c::HIDDEN_TREE);
    sink.add(found.numbers.into_iter().take(2000).fold(finding, |finding, number| {
        let place = tree.node(number).map_or(0, |node| node.place);
        finding.at(place.plus(ATTRIBUTES_AT), 1).file(tree.path(number))
    }));
}

/// The tree that something hid, if something did.
pub(crate) fn hidden_tree(tree: &Tree) -> Option<Hidden> {
    let seen = tree.below_root().filter(|(_, node)| node.place != 0).map(|(number, node)| Seen {
        number,
        parent: node.parent,
        name: &node.name,
        hidden: node.entry.attributes & ATTR_HIDDEN != 0,
        system: node.entry.attributes & ATTR_SYSTEM != 0,
    });
    hidden::tree(seen)
}

/// `DIR_Attr` within an entry.
const ATTRIBUTES_AT: u64 = 11;

fn label(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let Some((label, place)) = subject.survey.label else { return };
    let boot = subject.boot.believed;
    let tail = if subject.believed.geometry.wide() { boot.tail32().common } else { boot.tail16() };
    if tail.label != label && tail.extended_signature == 0x29 {
        let (one, other) = (names::label_text(&tail.label), names::label_text(&label));
        sink.add(
            Finding::new(
                &c::LABEL_DIFFERS,
                format!("the boot sector says \"{one}\", the root folder \"{other}\""),
            )
            .at(place, 11)
            .because(
                format!("BS_VolLab is \"{one}\", the label entry \"{other}\"."),
                "They are usually alike.",
                "",
            ),
        );
    }
}
