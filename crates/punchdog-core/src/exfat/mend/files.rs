//! Entry sets, first clusters, lengths, chains, and what stands in folders besides.

use super::{
    Job, names,
    writing::{edit_stream, free_entries, link, set_of, take_exactly, write_set},
};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::{self, Link, alongside, run_of},
    exfat::{
        catalogue as c,
        layout::{ATTRIBUTES, DIRECTORY, ENTRY, FILE, IN_USE, NO_CHAIN, POSSIBLE, put, set_checksum},
        sets::Flaws,
        survey::Content,
        table::{self, Because},
        tree::{Node, Reached},
    },
    files::filler::{Filled, phrase},
    medium::{Medium, MediumError, OverlayWindow},
    mending::step::{Basis, Provenance, Step},
    report::{
        finding::Entry,
        wording::{counted, listed},
    },
};
use std::collections::{HashMap, HashSet};

pub(super) fn flawed(job: &Job<'_, '_, '_, '_>, flaws: Flaws) -> Vec<(u32, Node)> {
    let hit = job.survey.tree.below_root().filter(|(_, node)| node.flaws.intersects(flaws));
    hit.map(|(number, node)| (number, node.clone())).collect()
}

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

/// Marks runs of clusters free in the bitmap.
pub(super) fn clear_bits(
    job: &mut Job<'_, '_, '_, '_>,
    step: Step,
    runs: &[(u32, u32)],
) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let Some(bitmap) = job.survey.bitmap.clusters.first().map(|first| geometry.cluster_place(*first)) else {
        return Ok(());
    };
    job.steps.run(job.window, step, |window| write_bits(window, bitmap, runs, false))
}

/// Marks runs of clusters in the bitmap that stands at byte `bitmap`.
pub(super) fn write_bits(
    window: &mut OverlayWindow<'_, '_>,
    bitmap: u64,
    runs: &[(u32, u32)],
    in_use: bool,
) -> Result<(), MediumError> {
    for (first, count) in runs {
        let (mut at, end) = (first.minus(2).wide(), first.minus(2).plus(*count).wide());
        while at < end {
            // A piece of whole bytes, but for its ends.
            let piece = end.minus(at).min(1 << 20);
            let place = bitmap.plus(at.per(8));
            let medium: &dyn Medium = window;
            let mut bytes = medium.lenient(place, at.rest(8).plus(piece).per_up(8).size()).bytes;
            for bit in at.rest(8)..at.rest(8).plus(piece) {
                if let Some(byte) = bytes.get_mut(bit.per(8).size()) {
                    let mask = 1_u8.checked_shl(bit.rest(8).narrow()).unwrap_or(0);
                    *byte = if in_use { *byte | mask } else { *byte & !mask };
                }
            }
            window.write_at(place, &bytes)?;
            at = at.plus(piece);
        }
    }
    Ok(())
}

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

fn first_clusters(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
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

fn flags(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
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

fn lengths(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
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

fn crossed(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
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

/// An entry that is not in use, and was of no file (exFAT 1.00, 6.2.1).
const UNUSED: [u8; ENTRY] = {
    let mut entry = [0; ENTRY];
    entry[0] = FILE & !IN_USE;
    entry
};

/// Names, and what stands in folders besides sets.
pub(super) fn folders(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    names::mend(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    let all: Vec<u32> = job.survey.tree.notes.keys().copied().collect();
    for folder in all {
        let Some(notes) = job.survey.tree.notes.get(&folder).cloned() else { continue };
        let content = job.survey.content(job.window, folder);
        let title = job.survey.tree.folder_title(folder);
        let groups: [(&[u32], &'static Entry, &'static str, Provenance, &str); 2] = [
            (
                &notes.strays,
                &c::STRAY,
                "strays-freed",
                Provenance::Derived,
                "no file entry stands before them",
            ),
            (&notes.junk, &c::JUNK, "junk-freed", Provenance::Judged, "they name nothing that exists"),
        ];
        for (indices, entry, name, provenance, from) in groups {
            if indices.is_empty() {
                continue;
            }
            let many = counted(indices.len().wide(), "entry", "entries");
            let step = Step::new(name, format!("{title}: mark {many} unused"), provenance, from, &[entry]);
            job.steps.run(job.window, step, |window| {
                let mut filled = Filled::default();
                for index in indices {
                    let at = index.size().times(ENTRY);
                    match content.place(*index).filter(|_| filled.at(&content.bytes, at)) {
                        Some(place) => window.write_at(place, &UNUSED)?,
                        None => free_entries(window, &content.places, [*index])?,
                    }
                }
                Ok(())
            })?;
        }
        if let Some((end, _)) = notes.tail {
            let step = Step::new(
                "tail-cleared",
                format!("{title}: clear what stands behind its end mark"),
                Provenance::Derived,
                "nothing may follow the end mark",
                &[&c::TAIL],
            );
            job.steps.run(job.window, step, |window| {
                (end..content.entries())
                    .filter_map(|index| content.place(index))
                    .try_for_each(|place| window.write_at(place, &[0; ENTRY]))
            })?;
        }
    }
    Ok(())
}
