//! Folders and names: dots, junk, parts of long names, illegal and doubled names, labels, tails.

use super::{
    Job,
    writing::{edit, free_entries, plain_entry, rename},
};
use crate::{
    arith::{Peek, Sat},
    fat::{
        catalogue as c, check_hidden_tree,
        folder::Flaws,
        layout::{
            ATTR_DIRECTORY, ATTR_HIDDEN, ATTR_SYSTEM, ATTR_VOLUME_ID, END_ENTRY, ENTRY_BYTES, LONG_UNITS,
        },
        names,
        survey::Content,
        tree::Node,
    },
    files::{
        filler::Filled,
        naming::{Names, numbered},
    },
    medium::{MediumError, OverlayWindow},
    mending::step::{Provenance, Step},
    report::{finding::Entry, wording::counted},
};
use std::collections::HashMap;
use zerocopy::IntoBytes;

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let folders: Vec<u32> = job.survey.tree.notes.keys().copied().collect();
    for number in folders {
        notes(job, number)?;
    }
    if !job.steps.is_empty() {
        return Ok(());
    }
    let flawed: Vec<(u32, Node)> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.flaws != Flaws::default())
        .map(|(number, node)| (number, node.clone()))
        .collect();
    let mut siblings = Siblings::of(job, flawed.iter().filter(|(_, node)| node.flaws.any(NAME_FLAWS)));
    for (number, node) in flawed {
        entry(job, number, &node, &mut siblings)?;
    }
    hidden(job)
}

/// Folders whose beginning is noise, made to begin as one: before lost folders are reconnected,
/// because a folder given an entry in noise is as lost as before.
pub(super) fn begin_again(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let mut unlike = Vec::new();
    for (number, notes) in &job.survey.tree.notes {
        let held = |node: &&Node| node.length > 0 && !node.is_unseen();
        let Some(node) = job.survey.tree.node(*number).filter(held) else { continue };
        let dotless = notes.dot_wrong.is_some() || notes.dot_dot_wrong.is_some();
        if node.flaws.has(Flaws::NOT_FOLDER) || dotless {
            unlike.push((*number, node.flaws.has(Flaws::NOT_FOLDER)));
        }
    }
    // An end mark in place of a dot hides all that is written behind it.
    unlike.retain(|(number, noise)| {
        let bytes = &job.survey.content(job.window, *number).bytes;
        *noise || bytes.byte(0) == END_ENTRY || bytes.byte(ENTRY_BYTES) == END_ENTRY
    });
    let unlike = unlike.into_iter().map(|(number, _)| number);
    unlike.collect::<Vec<_>>().into_iter().try_for_each(|number| notes(job, number))
}

fn notes(job: &mut Job<'_, '_, '_, '_>, number: u32) -> Result<(), MediumError> {
    if job.survey.tree.node(number).is_some_and(Node::is_unseen) {
        return Ok(());
    }
    let content = job.survey.content(job.window, number);
    let title = job.survey.tree.folder_title(number);
    let own = job.survey.tree.node(number).map_or(0, |node| node.first);
    let Some(notes) = job.survey.tree.notes.remove(&number) else { return Ok(()) };
    let dots = [
        (0, names::DOT, notes.dot_wrong.is_some(), own, &c::DOT),
        (
            1,
            names::DOT_DOT,
            notes.dot_dot_wrong.is_some(),
            notes.dot_dot_wrong.map_or(0, |(_, parent)| parent),
            &c::DOT_DOT,
        ),
    ];
    for (index, name, wrong, target, entry) in dots {
        let Some(place) = content.place(index).filter(|_| wrong) else { continue };
        let raw = content.bytes.part(index.size().times(ENTRY_BYTES), ENTRY_BYTES).to_vec();
        let text = names::short_text(&name, 0);
        let step = Step::new(
            "dot-entry",
            format!("{title}: let {} name cluster {target}", dots_text(&name)),
            Provenance::Derived,
            if index == 0 { "the folder's own first cluster" } else { "the folder above" },
            &[entry],
        )
        .file(if text.is_empty() { title.clone() } else { job.survey.tree.path(number) });
        job.steps.run(job.window, step, |window| {
            if raw.starts_with(&name) && raw.byte(11) & ATTR_DIRECTORY != 0 {
                edit(window, place, |entry| entry.set_first_cluster(target))
            } else {
                window.write_at(place, plain_entry(name, ATTR_DIRECTORY, target, 0).as_bytes())
            }
        })?;
    }
    let groups: [(&[u32], &'static Entry, &'static str, Provenance, &str); 4] = [
        (
            &notes.stray_parts,
            &c::LONG_STRAY,
            "long-name-parts-freed",
            Provenance::Derived,
            "no short entry follows that they belong to",
        ),
        (&notes.junk, &c::JUNK_ENTRY, "junk-freed", Provenance::Judged, "they name nothing that exists"),
        (
            &notes.stray_dots,
            &c::STRAY_DOTS,
            "stray-dots-freed",
            Provenance::Derived,
            "only the first two entries may be \".\" and \"..\"",
        ),
        (
            &notes.labels,
            &c::LABEL_MISPLACED,
            "label-freed",
            Provenance::Derived,
            "one label is allowed, in the root folder",
        ),
    ];
    // What was overwritten by "." and ".." just now is neither junk nor stray any more.
    let dotted = |index: &&u32| {
        !(**index == 0 && notes.dot_wrong.is_some() || **index == 1 && notes.dot_dot_wrong.is_some())
    };
    for (indices, entry, name, provenance, from) in groups {
        let indices: Vec<u32> = indices.iter().filter(dotted).copied().collect();
        if indices.is_empty() {
            continue;
        }
        let step = Step::new(
            name,
            format!("{title}: mark {} free", counted(indices.len().wide(), "entry", "entries")),
            provenance,
            from,
            &[entry],
        );
        job.steps.run(job.window, step, |window| free(window, &content, &indices))?;
    }
    if let Some((_, tail)) = notes.tail.filter(|_| !notes.tail_is_real) {
        let step = Step::new(
            "folder-tail-cleared",
            format!("{title}: clear what stands behind its end mark"),
            Provenance::Derived,
            "a folder ends at its first end mark",
            &[&c::FOLDER_TAIL],
        );
        job.steps.run(job.window, step, |window| {
            (tail..content.entries())
                .filter_map(|index| content.place(index))
                .try_for_each(|place| window.write_at(place, &[0; ENTRY_BYTES]))
        })?;
    }
    Ok(())
}

/// Marks entries free; of an imager's text nothing is left that would pass for a deleted one.
fn free(window: &mut OverlayWindow<'_, '_>, content: &Content, indices: &[u32]) -> Result<(), MediumError> {
    let mut filled = Filled::default();
    for index in indices {
        if filled.at(&content.bytes, index.size().times(ENTRY_BYTES))
            && let Some(place) = content.place(*index)
        {
            window.write_at(place, &[0; ENTRY_BYTES])?;
        }
    }
    free_entries(window, &content.places, indices)
}

fn dots_text(name: &names::Short) -> &'static str {
    if *name == names::DOT { "\".\"" } else { "\"..\"" }
}

fn entry(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    node: &Node,
    siblings: &mut Siblings,
) -> Result<(), MediumError> {
    let path = job.survey.tree.path(number);
    if node.flaws.any(Flaws::ATTRIBUTES) {
        let step = Step::new(
            "attributes-cleared",
            format!("{path}: clear attribute bits that cannot be"),
            Provenance::Derived,
            "the two highest bits are reserved; an entry with clusters is no label",
            &[&c::ATTRIBUTES],
        )
        .file(path.clone());
        job.steps.run(job.window, step, |window| {
            edit(window, node.place, |raw| raw.attributes &= 0x3F & !ATTR_VOLUME_ID)
        })?;
    }
    if node.flaws.has(Flaws::FOLDER_SIZE) && node.folder {
        let step = Step::new(
            "folder-size-cleared",
            format!("{path}: set the size of the folder to 0"),
            Provenance::Derived,
            "a folder's size is always 0",
            &[&c::FOLDER_SIZE],
        )
        .file(path.clone());
        job.steps.run(job.window, step, |window| edit(window, node.place, |raw| raw.size = 0.into()))?;
    }
    name(job, node, &path, siblings)
}

/// What is wrong with the parts of a long name, and not with the name.
const PART_FLAWS: Flaws = Flaws::LONG_ORDER.with(Flaws::LONG_CHECKSUM).with(Flaws::LONG_FIELDS);
const NAME_FLAWS: Flaws = PART_FLAWS
    .with(Flaws::LONG_ILLEGAL)
    .with(Flaws::LONG_TWICE)
    .with(Flaws::SHORT_ILLEGAL)
    .with(Flaws::SHORT_TWICE);

/// The names of the folders in which some are to be changed.
struct Siblings {
    short: Names<names::Short>,
    /// Long names in lower case.
    long: Names<String>,
    /// The number tried next behind a short name, by folder.
    next: HashMap<(u32, names::Short), u32>,
}

impl Siblings {
    fn of<'n>(job: &Job<'_, '_, '_, '_>, wrong: impl Iterator<Item = &'n (u32, Node)>) -> Self {
        let folders: Vec<u32> = wrong.map(|(_, node)| node.parent).collect();
        let mut out = Self {
            short: Names::of(folders.iter().copied()),
            long: Names::of(folders),
            next: HashMap::new(),
        };
        for (_, node) in job.survey.tree.below_root() {
            if out.short.keeps(node.parent) {
                out.short.take(node.parent, node.entry.name);
                out.long.take(node.parent, node.name.to_lowercase());
            }
        }
        out
    }

    /// Names for this node that its folder does not have, from those it has.
    fn another(&mut self, node: &Node) -> (String, names::Short) {
        let mut long = names::long_made_legal(&node.name);
        let compared = long.to_lowercase();
        if node.flaws.has(Flaws::LONG_TWICE) || *long != *node.name && self.long.has(node.parent, &compared) {
            let units: Vec<u16> = long.encode_utf16().collect();
            let room = usize::from(node.long).times(LONG_UNITS);
            let other = self.long.another(node.parent, &compared, |count| {
                let name = String::from_utf16_lossy(&numbered(&units, count, room));
                let compared = name.to_lowercase();
                (name, compared)
            });
            long = other.unwrap_or(long);
        } else {
            self.long.take(node.parent, compared);
        }
        let mut short = names::made_legal(&node.entry.name);
        let taken = |name: &names::Short| self.short.has(node.parent, name);
        if node.flaws.has(Flaws::SHORT_TWICE) || short != node.entry.name && taken(&short) {
            let name = if node.long > 0 { long.as_str() } else { &node.name };
            // Names that begin alike make the same short names: one count for all of them.
            let key = (node.parent, names::short_from(name, 1, &|_| false).0);
            let from = self.next.get(&key).copied().unwrap_or(1);
            let (found, next) = names::short_from(name, from, &taken);
            self.next.insert(key, next);
            short = found;
        }
        self.short.take(node.parent, short);
        (long, short)
    }
}

fn name(
    job: &mut Job<'_, '_, '_, '_>,
    node: &Node,
    path: &str,
    siblings: &mut Siblings,
) -> Result<(), MediumError> {
    if !node.flaws.any(NAME_FLAWS) {
        return Ok(());
    }
    let places = job.places(node.parent);
    let (long, short) = siblings.another(node);
    let fits = names::long_parts(&long, 0).len() == usize::from(node.long) || node.long == 0;
    let entries: Vec<&'static Entry> = [
        (Flaws::LONG_ORDER, &c::LONG_ORDER),
        (Flaws::LONG_CHECKSUM, &c::LONG_CHECKSUM),
        (Flaws::LONG_FIELDS, &c::LONG_FIELDS),
        (Flaws::LONG_ILLEGAL, &c::LONG_ILLEGAL),
        (Flaws::LONG_TWICE, &c::NAME_TWICE),
        (Flaws::SHORT_ILLEGAL, &c::SHORT_ILLEGAL),
        (Flaws::SHORT_TWICE, &c::NAME_TWICE),
    ]
    .into_iter()
    .filter(|(flaw, _)| node.flaws.has(*flaw))
    .map(|(_, entry)| entry)
    .collect();
    let only_parts = !node.flaws.any(NAME_FLAWS.without(PART_FLAWS));
    let step = Step::new(
        "name-mended",
        if only_parts {
            format!("{path}: write the parts of its long name again")
        } else {
            format!(
                "{path}: name it {} ({})",
                if node.long > 0 && fits { &long } else { "" },
                names::short_text(&short, 0)
            )
        },
        if only_parts { Provenance::Derived } else { Provenance::Judged },
        if only_parts {
            "the place of each part and the short name"
        } else {
            "the name, with what may not be in it replaced"
        },
        &entries,
    )
    .file(path);
    let parts = u32::from(node.long);
    job.steps.run(job.window, step, |window| rename(window, &places, (parts, node.index), &long, &short))
}

/// Hidden system bits on most ordinary files, if they are to go.
fn hidden(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    if !job.steps.is_empty() {
        return Ok(());
    }
    let both = ATTR_HIDDEN | ATTR_SYSTEM;
    let Some(found) = check_hidden_tree(&job.survey.tree) else { return Ok(()) };
    let tree = &job.survey.tree;
    let hit: Vec<(u64, String)> = found
        .numbers
        .iter()
        .filter_map(|number| Some((tree.node(*number)?.place, tree.path(*number))))
        .collect();
    let paths: Vec<String> = hit.iter().map(|(_, path)| path.clone()).take(2000).collect();
    let options = [
        ("leave", "nothing changes".to_owned()),
        (
            "show",
            format!(
                "{} shown again by hosts; no content changes",
                counted(hit.len().wide(), "file or folder is", "files and folders are")
            ),
        ),
    ];
    let question = "Ordinary files are hidden, as malware does it. Show them again?";
    if job.choices.ask("hidden-files", question, &options, paths.clone()) == "show" {
        let mut step = Step::new(
            "shown-again",
            format!("clear the hidden and system bits of {}", counted(hit.len().wide(), "entry", "entries")),
            Provenance::Judged,
            "hosts set both bits only on files of their own",
            &[&c::HIDDEN_TREE],
        );
        step.paths = paths;
        job.steps.run(job.window, step, |window| {
            hit.iter().try_for_each(|(place, _)| edit(window, *place, |raw| raw.attributes &= !both))
        })?;
    }
    Ok(())
}
