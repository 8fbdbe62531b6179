//! Deleted files and folders: what their records still say, and how much of it can still be read.
//!
//! Deleting clears the in-use flag of a record, counts its sequence number on, and gives its clusters back in $Bitmap. Most
//! hosts leave the rest of the record as it was, names with it; the driver of Linux takes the names out. Names tell their
//! folder by its record and the use that it was in then; a folder that was deleted itself is in its next use.

use super::{
    layout::{NAME_SHORT, number, own, sequence},
    records::{File, Notes},
    state::time,
    survey::Survey,
    tree::Of,
};
use crate::{
    arith::Sat,
    files::{
        content::Content,
        kinds,
        naming::ADRIFT,
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::Medium,
    report::examination::Deleted,
};
use std::collections::HashMap;

/// Records at most.
const MOST: usize = 200_000;
/// Deleted folders one in the other.
const DEPTH: u32 = 64;

/// How many deleted files there are, and how many of them nobody has written over.
pub(super) fn count(medium: &dyn Medium, survey: &Survey) -> Deleted {
    Deleted::of(&files(medium, survey))
}

/// All deleted files and folders.
pub(super) fn files(medium: &dyn Medium, survey: &Survey) -> Vec<FileRecord> {
    let deleted = |file: &&File| file.notes.contains(Notes::DELETED) && file.number >= own::FIRST_USER;
    let all: Vec<&File> = survey.records.files.iter().filter(deleted).take(MOST).collect();
    if all.is_empty() {
        return Vec::new();
    }
    let mut folders: HashMap<u32, TreePath> = HashMap::new();
    for (node, of) in (0_u32..).zip(&survey.tree.nodes) {
        let Some(folder) = survey.file(of).filter(|file| file.notes.contains(Notes::FOLDER)) else {
            continue;
        };
        if matches!(of.of, Of::Name(_)) {
            folders.entry(folder.number).or_insert_with(|| TreePath::from(survey.path(node)));
        }
    }
    all.into_iter().filter_map(|file| one(medium, survey, file, &folders)).collect()
}

fn one(
    medium: &dyn Medium,
    survey: &Survey,
    file: &File,
    folders: &HashMap<u32, TreePath>,
) -> Option<FileRecord> {
    let pieces = survey.records.stream_of(file, super::layout::kind::DATA, "");
    let folder = file.notes.contains(Notes::FOLDER);
    let content = super::content::of(medium, &survey.mft, &survey.records, pieces);
    let path = match path_of(survey, file, folders, 0) {
        Some(path) => path,
        // Neither a name nor a byte: nothing is known of it.
        None if folder || content.held() == 0 => return None,
        None => {
            let extension = kinds::extension(&content.start(medium, kinds::ENOUGH.wide()));
            let dot = extension.map_or(String::new(), |extension| format!(".{extension}"));
            TreePath::in_root(ADRIFT).child(&format!("FILE {}{dot}", file.number))
        }
    };
    let size = pieces.first().map_or(0, |piece| piece.size);
    let short = content.held() < size || pieces.iter().any(|piece| piece.bad.is_some());
    let cluster = survey.mft.geometry.cluster();
    let taken = content.extents().any(|extent| {
        let (from, to) = (extent.offset.per(cluster), extent.end().per_up(cluster));
        // What stands in the record itself is nobody else's.
        pieces.first().is_some_and(|piece| !piece.resident)
            && survey.claimed.contains_any_in_range(from.size()..to.size())
    });
    let note = if taken {
        "deleted, and part of its clusters belong to something else now"
    } else if short {
        "deleted; its record tells only part of where it stood"
    } else {
        "deleted; its record still tells where it stands, and nothing that is there now has it"
    };
    Some(FileRecord {
        path,
        folder,
        size: if folder { 0 } else { size },
        state: State::Deleted,
        modified: time(file.modified),
        attributes: Attributes::from_bits_truncate(u16::try_from(file.attributes & 0xFFFF).unwrap_or(0)),
        content: if folder { Content::default() } else { content },
        place: survey.mft.place(file.number).unwrap_or(0),
        nameless: false,
        masked: false,
        whole: false,
        taken,
        absent: false,
        sought: false,
        lacks: Vec::new(),
        note: Some(note.into()),
    })
}

/// Where it was: in a folder that is there still, or in one that was deleted too. `None` where it has no name.
fn path_of(survey: &Survey, file: &File, folders: &HashMap<u32, TreePath>, depth: u32) -> Option<TreePath> {
    let names = survey.records.names_of(file);
    let name = names.iter().find(|name| name.space != NAME_SHORT).or_else(|| names.first())?;
    let above = u32::try_from(number(name.parent)).unwrap_or(u32::MAX);
    if above == own::ROOT {
        return Some(TreePath::in_root(&name.text));
    }
    let use_then = sequence(name.parent);
    let adrift = || Some(TreePath::in_root(ADRIFT).child(&name.text));
    let Some(folder) = survey.records.file(above).filter(|above| above.notes.contains(Notes::FOLDER)) else {
        return adrift();
    };
    let gone = folder.notes.contains(Notes::DELETED);
    let same = folder.sequence == use_then || gone && folder.sequence == use_then.wrapping_add(1);
    let path = match (same, gone) {
        (true, false) => folders.get(&above).cloned(),
        (true, true) if depth < DEPTH => path_of(survey, folder, folders, depth.plus(1)),
        _ => None,
    };
    path.map(|path| path.child(&name.text)).or_else(adrift)
}
