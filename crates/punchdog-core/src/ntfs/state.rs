//! What can be had of each file, in the words of the other families.

use super::{
    layout::{ENCRYPTED, NAME_SHORT, kind, own},
    records::{File, Notes, Piece},
    runs::Run,
    survey::Survey,
    tree::{Node, Of, Reached},
};
use crate::{
    arith::Sat,
    family::Wanted,
    files::{
        content::Content,
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::{Extent, Medium},
    report::examination::Tally,
};
use jiff::civil::DateTime;

/// Seconds from 1601 to 1970.
const EPOCH: i64 = 11_644_473_600;
/// The tag of content that a host packs behind a reparse point.
pub(super) const PACKED: u32 = 0x8000_0017;
/// Tags of reparse points that are links: of folders, of files, and those of Linux hosts.
const LINKS: [u32; 3] = [0xA000_0003, 0xA000_000C, 0xA000_001D];
/// The stream that the packed bytes stand in.
pub(super) const PACKED_STREAM: &str = "WofCompressedData";

/// A time as NTFS writes it: 100 ns since 1601.
pub(super) fn time(filetime: u64) -> Option<DateTime> {
    let seconds = i64::try_from(filetime.per(10_000_000)).ok()?.checked_sub(EPOCH)?;
    let nanos = i32::try_from(filetime.rest(10_000_000).times(100)).ok()?;
    let stamp = jiff::Timestamp::new(seconds, nanos).ok()?;
    (filetime > 0).then(|| jiff::tz::Offset::UTC.to_datetime(stamp))
}

/// True for the file system's own files, and what is in them.
pub(super) fn is_own(survey: &Survey, number: u32) -> bool {
    let mut at = number;
    while let Some(node) = survey.tree.nodes.get(at.size()) {
        if node.file.is_some_and(|file| file < own::FIRST_FREE && file != own::ROOT) {
            return true;
        }
        if node.of == Of::Root || node.parent >= at {
            return false;
        }
        at = node.parent;
    }
    false
}

/// The record of a node, where it is to be listed.
pub(super) fn record(
    medium: &dyn Medium,
    survey: &Survey,
    number: u32,
    path: TreePath,
    wanted: Wanted,
) -> Option<FileRecord> {
    let node = *survey.tree.nodes.get(number.size())?;
    if node.of == Of::Root || !wanted.system && is_own(survey, number) {
        return None;
    }
    if let Of::Stray(index) = node.of {
        return stray(medium, survey, index, path);
    }
    let Some(file) = survey.file(&node) else {
        // A folder of our making.
        return Some(FileRecord {
            folder: true,
            state: State::Orphan,
            note: Some("what nothing leads to".into()),
            ..empty(path)
        });
    };
    let stream = matches!(node.of, Of::Stream(..));
    let folder = file.notes.contains(Notes::FOLDER) && !stream;
    let found = if folder { None } else { found(medium, survey, &node) };
    let sought = found.is_some();
    let content = match found {
        Some(content) => content,
        None if folder => Content::default(),
        None => survey.content(medium, &node),
    };
    let size = survey.pieces(&node).first().map_or(0, |piece| piece.size);
    let beyond = content.extents().any(|extent| extent.end() > medium.len());
    let (state, note) = judge(survey, &node, file, beyond);
    let attributes = u16::try_from(file.attributes & 0xFFFF).unwrap_or(0);
    Some(FileRecord {
        folder,
        size: if folder { 0 } else { size },
        state,
        modified: time(file.modified),
        attributes: Attributes::from_bits_truncate(attributes),
        content,
        place: place(survey, &node, file),
        whole: whole(survey, &node, file) && !beyond,
        sought,
        note: note.map(|note| if sought && state == State::Damaged { FOUND } else { note }.into()),
        ..empty(path)
    })
}

/// Of content that was found for a damaged run list.
const FOUND: &str = "its run list is damaged: the only clusters of nobody that fit it";

/// Names that one record has room for are fewer.
const NAMES: u64 = 512;

/// What tells the node from others, and is the same when its name was another, or could not be read: the place of the file's
/// record, and which of its names or streams it is.
fn place(survey: &Survey, node: &Node, file: &File) -> u64 {
    let which = match node.of {
        Of::Name(index) => {
            let before = survey.records.names_of(file).iter().take(index.minus(file.names.start).size());
            before.filter(|name| name.space != NAME_SHORT).count().wide().min(NAMES)
        }
        Of::Stream(_, name) => {
            let of = |piece: &Piece| piece.kind == kind::DATA && piece.name == name;
            let at = survey.records.pieces_of(file).iter().position(of).unwrap_or(0);
            NAMES.plus(at.wide())
        }
        _ => 0,
    };
    survey.mft.place(file.number).map_or(0, |place| place.plus(which))
}

fn empty(path: TreePath) -> FileRecord {
    FileRecord {
        path,
        folder: false,
        size: 0,
        state: State::Intact,
        modified: None,
        attributes: Attributes::empty(),
        content: Content::default(),
        place: 0,
        nameless: false,
        masked: false,
        whole: false,
        taken: false,
        absent: false,
        sought: false,
        lacks: Vec::new(),
        note: None,
    }
}

/// Content that stands in these clusters.
fn in_clusters(survey: &Survey, runs: &[Run], size: u64) -> Content {
    let geometry = survey.mft.geometry;
    let place = |run: &Run| Extent::new(geometry.place(run.first.unwrap_or(0)), geometry.place(run.length));
    Content::stored(runs.iter().map(place), size)
}

/// What seems to be the content of a file whose run list is of no use.
fn found(medium: &dyn Medium, survey: &Survey, node: &Node) -> Option<Content> {
    let [piece] = survey.pieces(node) else { return None };
    piece.bad?;
    let runs = survey.lost_content(medium).lists.get(&(piece.holder, piece.at))?;
    Some(in_clusters(survey, runs, piece.size))
}

/// A file of which an index alone tells, and what seems to be its content.
fn stray(medium: &dyn Medium, survey: &Survey, index: u32, path: TreePath) -> Option<FileRecord> {
    let stray = survey.strays.get(index.size())?;
    let folder = stray.attributes & super::layout::DUP_FOLDER != 0;
    let found = survey.lost_content(medium).lost.get(&stray.reference);
    let content = found.map(|runs| in_clusters(survey, runs, stray.size));
    let note = match &content {
        Some(_) => "its record is gone: the only clusters of nobody that fit its name, its size and its kind",
        None => "its record is gone: the entry in its folder is all that is left of it",
    };
    Some(FileRecord {
        folder,
        size: if folder { 0 } else { stray.size },
        state: State::Damaged,
        modified: time(stray.modified),
        place: stray.place,
        sought: content.is_some(),
        content: content.unwrap_or_default(),
        note: Some(note.into()),
        ..empty(path)
    })
}

/// True where all of its content is known.
pub(super) fn whole(survey: &Survey, node: &Node, file: &File) -> bool {
    let hurt = Notes::SHORT | Notes::CROSSED | Notes::DOUBT;
    let pieces = survey.pieces(node);
    let folder = file.notes.contains(Notes::FOLDER) && !matches!(node.of, Of::Stream(..));
    let own_file = file.number < own::FIRST_FREE || file.notes.contains(Notes::VIEW);
    let there = folder || own_file || !pieces.is_empty() || is_link(file);
    !file.notes.intersects(hurt)
        && there
        && !is_packed(survey, node, file)
        && !is_elsewhere(survey, node, file)
        && covers(survey, node)
}

/// A file without content of its own: its reparse point leads elsewhere.
fn is_link(file: &File) -> bool {
    LINKS.contains(&file.reparse)
}

/// A host keeps its content elsewhere and put a reparse point in its place: what reads as zeros here is none of it.
fn is_elsewhere(survey: &Survey, node: &Node, file: &File) -> bool {
    let pieces = survey.pieces(node);
    let own = file.reparse != 0 && !is_link(file) && !matches!(node.of, Of::Stream(..));
    let hollow = || {
        pieces.is_empty()
            || survey.records.all_runs(pieces).iter().any(|run| run.first.is_none())
            || pieces.first().is_some_and(|piece| piece.valid < piece.size)
    };
    own && !file.notes.contains(Notes::FOLDER) && hollow()
}

/// The host packed it behind a reparse point: its own content reads as zeros.
fn is_packed(survey: &Survey, node: &Node, file: &File) -> bool {
    !matches!(node.of, Of::Stream(..))
        && file.reparse == PACKED
        && !survey.records.stream_of(file, kind::DATA, PACKED_STREAM).is_empty()
}

/// The clusters of a node are as many as its size needs.
fn covers(survey: &Survey, node: &Node) -> bool {
    let pieces = survey.pieces(node);
    let Some(first) = pieces.first().filter(|piece| !piece.resident) else { return true };
    let runs = survey.records.all_runs(pieces);
    let clusters = runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
    clusters.times(survey.mft.geometry.cluster()) >= first.size
}

/// The state of a node, and why.
pub(super) fn judge(
    survey: &Survey,
    node: &Node,
    file: &File,
    beyond: bool,
) -> (State, Option<&'static str>) {
    let whole = whole(survey, node, file) && !beyond;
    if node.reached == Reached::Orphan {
        return (State::Orphan, Some("the folder that it names is not there any more"));
    }
    if whole {
        return match node.reached {
            Reached::Unindexed => (
                State::Damaged,
                Some(
                    "its content is whole, but hosts do not find it: its folder's index does not lead to it",
                ),
            ),
            Reached::Below => (State::Damaged, Some("in a folder that hosts do not find")),
            _ if file.notes.contains(Notes::STRUCK) => (
                State::Damaged,
                Some("its content is whole, but bytes of its record were written over: hosts do not open it"),
            ),
            _ if file.notes.contains(Notes::MISLISTED) => (
                State::Damaged,
                Some(
                    "its content is whole, but hosts do not find all of it: its attribute list does not lead to it",
                ),
            ),
            _ if file.notes.contains(Notes::MISSIZED) => (
                State::Damaged,
                Some("its content is whole, but its record says another size than its folder"),
            ),
            _ if file.notes.contains(Notes::OUTDATED) && !matches!(node.of, Of::Stream(..)) => (
                State::Damaged,
                Some(
                    "its record is of an earlier writing than the entry in its folder: where it says that the content \
                     stands, another's may by now",
                ),
            ),
            _ if encrypted(survey, node) => {
                (State::Intact, Some("encrypted: only its owner's keys make it readable"))
            }
            _ => (State::Intact, None),
        };
    }
    let note = if file.notes.contains(Notes::CROSSED) {
        "shares clusters with another file"
    } else if is_packed(survey, node, file) {
        "the host packed it: its bytes are in its stream WofCompressedData, and are copied as they stand there"
    } else if is_elsewhere(survey, node, file) {
        "its host keeps its content elsewhere: a reparse point stands in its place, and zeros behind that"
    } else if beyond {
        "part of it lies beyond the end of the image"
    } else if file.notes.contains(Notes::DOUBT) {
        "its record is damaged"
    } else if file.notes.contains(Notes::SHORT) {
        "where some of its content stands is lost"
    } else if survey.pieces(node).is_empty() {
        "its record says nothing of its content"
    } else {
        "it has fewer clusters than its size needs"
    };
    (State::Damaged, Some(note))
}

fn encrypted(survey: &Survey, node: &Node) -> bool {
    survey.pieces(node).first().is_some_and(|piece| piece.flags & ENCRYPTED != 0)
}

/// How many files are in which state; the file system's own are not counted.
pub(super) fn tally(medium: &dyn Medium, survey: &Survey) -> Tally {
    let mut all = Vec::new();
    // A folder of the file system's own, and all that is in it, by node: each stands behind its folder.
    let mut own_ones = vec![false; survey.tree.nodes.len()];
    for (number, node) in (0_usize..).zip(&survey.tree.nodes) {
        let above = number > 0 && own_ones.get(node.parent.size()).copied().unwrap_or(false);
        let itself = node.file.is_some_and(|file| file < own::FIRST_FREE && file != own::ROOT);
        if above || itself {
            if let Some(slot) = own_ones.get_mut(number) {
                *slot = true;
            }
            continue;
        }
        let one = match node.of {
            Of::Root | Of::Stream(..) => continue,
            Of::Made(_) if node.file.is_none() => continue,
            Of::Stray(index) => {
                let stray = survey.strays.get(index.size());
                let folder = stray.is_some_and(|stray| stray.attributes & super::layout::DUP_FOLDER != 0);
                (State::Damaged, folder)
            }
            Of::Name(_) | Of::Made(_) => {
                let Some(file) = survey.file(node) else { continue };
                let beyond = survey.extents(node).iter().any(|extent| extent.end() > medium.len());
                (judge(survey, node, file, beyond).0, file.notes.contains(Notes::FOLDER))
            }
        };
        all.push(one);
    }
    // A damaged folder counts among what is damaged only where its content is: its files count for themselves.
    Tally::of(all.into_iter(), 0)
}
