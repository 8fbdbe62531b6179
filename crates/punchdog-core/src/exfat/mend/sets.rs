//! Entry sets: what is wrong in themselves, what end marks hide, what was deleted and is in use.

use super::{
    Job,
    bits::clear_bits,
    files::flawed,
    writing::{free_entries, set_of, write_set},
};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::run_of,
    exfat::{
        catalogue as c,
        layout::{ATTRIBUTES, ENTRY, put, set_checksum},
        sets::Flaws,
        tree::Reached,
    },
    medium::MediumError,
    mending::step::{Provenance, Step},
    report::{
        finding::Entry,
        wording::{counted, listed},
    },
};
use std::collections::{HashMap, HashSet};

/// Flaws of a set that follow from the set itself.
const OF_SETS: &[(Flaws, &Entry, &str)] = &[
    (Flaws::HEAD_TYPE, &c::SET_TYPES, "the file entry's type"),
    (Flaws::HEAD, &c::HEAD_LOST, "the file entry"),
    (Flaws::NAME, &c::NAME_LOST, "the name"),
    (Flaws::NAME_FOUND, &c::NAME_LOST, "the name"),
    (Flaws::STREAM_TYPE, &c::SET_TYPES, "the stream entry's type"),
    (Flaws::NAME_TYPE, &c::SET_TYPES, "a name entry's type"),
    (Flaws::COUNT, &c::SET_COUNT, "the number of entries"),
    (Flaws::NAME_LENGTH, &c::NAME_LENGTH, "the length of the name"),
    (Flaws::NAME_TAIL, &c::NAME_TAIL, "what stands behind the name"),
    (Flaws::HASH, &c::NAME_HASH, "the hash of the name"),
    (Flaws::NAME_STRUCK, &c::NAME_HASH, "a character of the name"),
    (Flaws::LENGTH_STRUCK, &c::SET_CHECKSUM, "a length"),
    (Flaws::ATTRIBUTES, &c::ATTRIBUTES, "reserved attribute bits"),
    (Flaws::CHECKSUM, &c::SET_CHECKSUM, "the checksum"),
];

/// Sets behind end marks, sets marked deleted, and sets that are wrong in themselves.
pub(super) fn sets(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    end_marks(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    deleted(job)?;
    let all = OF_SETS.iter().fold(Flaws::empty(), |all, (flaw, ..)| all | *flaw);
    // With a first cluster that was found, the checksum that stands there can be right.
    let own = flawed(job, all).into_iter().filter(|(_, node)| {
        !node.flaws.contains(Flaws::FOUND) || node.flaws.intersects(all.difference(Flaws::CHECKSUM))
    });
    for (number, node) in own {
        let path = job.survey.tree.path(number);
        let Some((places, mut item)) = set_of(job, number) else { continue };
        let what: Vec<String> = OF_SETS
            .iter()
            .filter(|(flaw, ..)| node.flaws.contains(*flaw))
            .map(|(.., text)| (*text).to_owned())
            .collect();
        let entries: Vec<&'static Entry> = OF_SETS
            .iter()
            .filter(|(flaw, ..)| node.flaws.contains(*flaw))
            .map(|(_, entry, _)| *entry)
            .collect();
        // With types and count put right, the checksum as it stands may fit: nothing was guessed then.
        let standing = places.read(job.window, item.index, 1).le16(2);
        if node.flaws.contains(Flaws::ATTRIBUTES) {
            let attributes = item.attributes() & ATTRIBUTES;
            put(&mut item.raw, 4, &attributes.to_le_bytes());
        }
        let fits = set_checksum(&item.raw) == standing;
        let step = Step::new(
            "set-rewritten",
            format!("{path}: put right {} in its entry set", listed(&what)),
            match node.flaws {
                flaws if flaws.intersects(Flaws::NAME | Flaws::NAME_FOUND | Flaws::GUESSED) => {
                    Provenance::Judged
                }
                _ if fits && !node.flaws.contains(Flaws::HEAD) => Provenance::Exact,
                _ => Provenance::Derived,
            },
            if node.flaws.contains(Flaws::NAME_FOUND) {
                "of the names that its neighbours' numbers suggest, it alone has the hash that the set tells"
            } else if node.flaws.contains(Flaws::NAME) {
                "made up: of the name only length and hash are left; content, length and times are the file's own"
            } else if node.flaws.contains(Flaws::HEAD) {
                "the entries that follow: the name has its hash, and the clusters are in use and nobody else's; attributes and times are lost"
            } else if fits {
                "with it, the set has the checksum that stands in it"
            } else {
                "the entries that follow, the name's characters, and the checksum computed from them"
            },
            &entries,
        )
        .file(path);
        job.steps.run(job.window, step, |window| write_set(window, &places, item.index, &item.raw))?;
    }
    Ok(())
}

fn end_marks(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let hides: Vec<(u32, u32)> = job
        .survey
        .tree
        .notes
        .iter()
        .filter_map(|(folder, notes)| {
            notes.hides.filter(|(_, count)| *count > 0).map(|(end, _)| (*folder, end))
        })
        .collect();
    // Of several marks in a folder none is left before its last set; an entry of a set is written with its set.
    let folders: HashSet<u32> = hides.iter().map(|(folder, _)| *folder).collect();
    let (mut last, mut of_sets) = (HashMap::new(), HashSet::new());
    for (_, node) in job.survey.tree.below_root().filter(|(_, node)| folders.contains(&node.parent)) {
        let entries = run_of(node.index, node.entries);
        if node.reached == Reached::BehindEnd {
            let last = last.entry(node.parent).or_insert(0);
            *last = node.index.max(*last);
        }
        of_sets.extend(entries.map(|index| (node.parent, index)));
    }
    for (folder, end) in hides {
        let last = last.get(&folder).copied().unwrap_or(end);
        let content = job.survey.content(job.window, folder);
        let title = job.survey.tree.folder_title(folder);
        let kind = |index: u32| content.bytes.byte(index.size().times(ENTRY));
        let marks = (end..last).filter(|index| kind(*index) == 0 && !of_sets.contains(&(folder, *index)));
        let marks: Vec<u32> = marks.collect();
        if marks.is_empty() {
            continue;
        }
        let step = Step::new(
            "end-mark-moved",
            format!("{title}: make the end mark at entry {end} an unused entry"),
            Provenance::Derived,
            "the sets behind it have clusters that fit and belong to nothing else",
            &[&c::END_EARLY],
        );
        job.steps.run(job.window, step, |window| free_entries(window, &content.places, marks))?;
    }
    Ok(())
}

fn deleted(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let hit: Vec<u32> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.reached == Reached::Undeleted)
        .map(|(n, _)| n)
        .collect();
    if hit.is_empty() {
        return Ok(());
    }
    let paths: Vec<String> = hit.iter().map(|number| job.survey.tree.path(*number)).collect();
    let options = [
        ("restore", "the files are listed again under their names".to_owned()),
        ("free", "the delete is finished: their clusters become free".to_owned()),
    ];
    let taken = job.choices.ask(
        "deleted-in-use",
        "Entries are marked deleted, but their clusters are in use and nobody else's. Bring the files back?",
        &options,
        paths.clone(),
    );
    for (number, path) in hit.into_iter().zip(paths) {
        let Some((places, item)) = set_of(job, number) else { continue };
        if taken == "restore" {
            let step = Step::new(
                "set-restored",
                format!("{path}: mark its entry set as in use again"),
                // The bytes follow from the checksum; that the file shall be there again does not.
                Provenance::Judged,
                "the set has its checksum as it was before the delete; that the delete was none is judged",
                &[&c::DELETED_IN_USE],
            )
            .file(path)
            .or("finish the delete");
            job.steps.run(job.window, step, |window| write_set(window, &places, item.index, &item.raw))?;
        } else {
            let Some(node) = job.survey.tree.node(number).cloned() else { continue };
            let runs = job.survey.runs(job.window, node.first, node.length, node.row);
            let step = Step::new(
                "delete-finished",
                format!("{path}: free its {}", counted(node.length.wide(), "cluster", "clusters")),
                Provenance::Judged,
                "as chosen",
                &[&c::DELETED_IN_USE],
            )
            .file(path);
            clear_bits(job, step, &runs)?;
        }
    }
    Ok(())
}
