//! Folders' indexes against the names that records have.

use super::Subject;
use crate::{
    arith::Sat,
    ntfs::{
        catalogue as c,
        doubled::{self, Doubled},
        index::IndexFlaw,
        layout::{NAME_SHORT, own},
        records::Name,
        state::{PACKED, PACKED_STREAM},
        survey::Survey,
        tree::{Of, Reached, Why, is_twin},
    },
    report::{
        finding::{Entry, Finding, Sink},
        wording::counted,
    },
};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Where an entry has its file's attributes.
const ATTRIBUTES: u64 = 72;
/// Files that are named in one finding.
const NAMED: usize = 2000;

pub(super) fn check(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let missing = short_names(survey);
    let told: HashSet<u32> = survey.folders_told_of().chain(missing.keys().copied()).collect();
    let folders = survey.paths_of(|number| told.contains(&number));
    let path = |number: u32| match folders.get(&number) {
        Some(path) if path.is_empty() => "the root folder".to_owned(),
        Some(path) => path.clone(),
        None => format!("folder {number}"),
    };
    let geometry = survey.mft.geometry;
    for (number, flaw) in &survey.index_flaws {
        let (entry, place, is): (&'static Entry, Option<u64>, &str) = match flaw {
            IndexFlaw::Root => (&c::INDEX_ROOT, survey.mft.place(*number), "Its root node cannot be read."),
            IndexFlaw::Blocks => (&c::INDEX_ROOT, survey.mft.place(*number), "Its blocks cannot be found."),
            IndexFlaw::Signature(0) => {
                (&c::INDEX_BLOCK, survey.mft.place(*number), "Where a block stands is not told any more.")
            }
            IndexFlaw::Signature(at) => (&c::INDEX_BLOCK, Some(*at), "A block does not begin with INDX."),
            IndexFlaw::Torn(at, _) => (&c::INDEX_TORN, Some(*at), "A block is of two writings."),
            IndexFlaw::Fixups(at) => (&c::INDEX_BLOCK, Some(*at), "The fixups of a block cannot be."),
            IndexFlaw::Number(at) => (&c::INDEX_BLOCK, Some(at.plus(16)), "A block says that it is another."),
            IndexFlaw::Head(at) => {
                (&c::INDEX_BLOCK, Some(at.plus(24)), "The sizes in the head of a block cannot be.")
            }
            IndexFlaw::Entry(at) => (&c::INDEX_ENTRY, Some(*at), "The length of an entry cannot be."),
            IndexFlaw::Below(at) => (
                &c::INDEX_ENTRY,
                Some(*at),
                "An entry leads to a block that there is not, or that was met before.",
            ),
            IndexFlaw::Order(at) => {
                (&c::INDEX_ORDER, Some(*at), "An entry stands behind one that should follow it.")
            }
            IndexFlaw::Kind(at) => {
                // Where blocks lie in pieces, the byte may be in the next.
                let within = if geometry.cluster() >= geometry.index().wide() { ATTRIBUTES } else { 0 };
                (
                    &c::ENTRY_KIND,
                    Some(at.plus(within)),
                    "Its entry says of a file that it is a folder, or the reverse.",
                )
            }
            IndexFlaw::Unreached(_) => (&c::INDEX_BLOCK, None, "Blocks in use are led to by nothing."),
            IndexFlaw::Unmarked(at) => (&c::INDEX_BITMAP, Some(*at), "A block in use is marked free."),
        };
        let mut finding = Finding::new(entry, entry.title).because(is, "", "").file(path(*number));
        if let Some(place) = place {
            finding = finding.at(place, 8);
        }
        sink.add(finding);
    }
    unreached(subject, sink);
    let twice = doubled::names(&survey.records);
    let paths = if twice.is_empty() { HashMap::new() } else { doubled::paths(survey, &twice) };
    for Doubled { name, stays } in twice {
        let of = |index: u32| survey.records.names.get(index.size());
        let (Some(name), Some(stays)) = (of(name), of(stays)) else { continue };
        let place = survey.mft.place(name.holder).unwrap_or(0);
        sink.add(
            Finding::new(&c::NAME_TWICE, c::NAME_TWICE.title)
                .at(place.plus(usize::from(name.at).wide()), 8)
                .because(
                    format!(
                        "The files of records {} and {} are both called {}.",
                        stays.file, name.file, name.text
                    ),
                    "A folder has a name once.",
                    "",
                )
                .file(paths.get(&name.file).cloned().unwrap_or_else(|| name.text.to_string())),
        );
    }
    for (folder, names) in missing {
        for name in names {
            let place = survey.mft.place(name.holder).unwrap_or(0);
            sink.add(
                Finding::new(&c::SHORT_MISSING, c::SHORT_MISSING.title)
                    .at(place.plus(usize::from(name.at).wide()), 8)
                    .because("The folder's index has the long name alone.", "Its record has both.", "")
                    .file(format!("{}/{}", path(folder), name.text)),
            );
        }
    }
    strays(subject, &path, sink);
    remarks(subject, sink);
}

/// Files to which no index leads, and those whose folder is gone.
fn unreached(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    for (number, node) in (0_u32..).zip(&survey.tree.nodes) {
        let parent = survey.tree.nodes.get(node.parent.size());
        let top =
            parent.is_none_or(|parent| parent.reached != Reached::Orphan || matches!(parent.of, Of::Made(_)));
        let (entry, is, follows) = match (node.reached, node.of) {
            (Reached::Unindexed, Of::Name(_)) => {
                (&c::ENTRY_MISSING, "Its folder's index does not lead to it.", "Its record names the folder.")
            }
            (Reached::Orphan, Of::Name(_)) if top => {
                (&c::ORPHAN, "The record that it names as its folder is no folder, or another's by now.", "")
            }
            (Reached::Orphan, Of::Made(_)) if node.file.is_some() => {
                (&c::NO_NAME, "Its record has no name.", "")
            }
            _ => continue,
        };
        let place = node.file.and_then(|file| survey.mft.place(file)).unwrap_or(0);
        sink.add(
            Finding::new(entry, entry.title)
                .at(place, survey.mft.geometry.record().wide())
                .because(is, "", follows)
                .file(survey.path(number)),
        );
    }
}

/// Short names beside long ones that the index of their folder does not have, by the folder.
fn short_names(survey: &Survey) -> BTreeMap<u32, Vec<&Name>> {
    let mut found: BTreeMap<u32, Vec<&Name>> = BTreeMap::new();
    let missing = |name: &&Name| !name.indexed && survey.records.live(name.file).is_some();
    for name in survey.records.names.iter().filter(missing).filter(|name| is_twin(&survey.records, name)) {
        if let Some(folder) = survey.records.referred(name.parent) {
            found.entry(folder.number).or_default().push(name);
        }
    }
    found
}

fn strays(subject: &Subject<'_>, path: &dyn Fn(u32) -> String, sink: &mut dyn Sink) {
    let strays = &subject.survey.strays;
    let long: HashSet<(u32, u64)> = strays
        .iter()
        .filter(|stray| stray.space != NAME_SHORT)
        .map(|stray| (stray.folder, stray.reference))
        .collect();
    for stray in strays {
        let is = match stray.why {
            Why::Free => "The record of the file is free: it was deleted.",
            Why::Reused => "The record of the file was given to another since.",
            Why::Renamed => "The file has no such name in this folder.",
            Why::Doubled => "The same entry stands there twice.",
            Why::Lost => continue,
        };
        // A long name beside it says the same.
        if stray.space == NAME_SHORT && long.contains(&(stray.folder, stray.reference)) {
            continue;
        }
        sink.add(
            Finding::new(&c::ENTRY_STALE, c::ENTRY_STALE.title)
                .at(stray.place, 16)
                .because(is, "", "")
                .file(format!("{}/{}", path(stray.folder), stray.text)),
        );
    }
}

/// What is worth knowing of files that are in order.
fn remarks(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let mut packed = (Finding::new(&c::PACKED, ""), 0_u64);
    let mut encrypted = (Finding::new(&c::ENCRYPTED, ""), 0_u64);
    for (number, node) in (0_u32..).zip(&survey.tree.nodes) {
        let Some(file) = survey.file(node).filter(|_| matches!(node.of, Of::Name(_))) else { continue };
        let take = |(finding, count): &mut (Finding, u64)| {
            *count = count.plus(1);
            if finding.paths.len() < NAMED {
                finding.paths.push(survey.path(number));
            }
        };
        let stream =
            || !survey.records.stream_of(file, crate::ntfs::layout::kind::DATA, PACKED_STREAM).is_empty();
        if file.reparse == PACKED && stream() {
            take(&mut packed);
        }
        if file.number > own::FIRST_FREE
            && survey.pieces(node).first().is_some_and(|p| p.flags & crate::ntfs::layout::ENCRYPTED != 0)
        {
            take(&mut encrypted);
        }
    }
    for ((mut finding, count), what) in [(packed, "packed behind a reparse point"), (encrypted, "encrypted")]
    {
        if count > 0 {
            let many = counted(count, "file is", "files are");
            finding.summary = format!("{many} {what}");
            sink.add(finding);
        }
    }
}
