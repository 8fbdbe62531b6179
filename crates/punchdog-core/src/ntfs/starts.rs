//! Where files and structures begin that say themselves where they belong: what a shifted stretch of a volume is told by.
//!
//! ```text
//! FILE record   0 "FILE"   4 where the fixups are (from 30 hex on it has a number)   2C its number
//! INDX block    0 "INDX"   16 its number   18 hex: where the entries begin, from there; an entry's key at 16, its parent first
//! ```

use super::{
    layout::{kind, own},
    records::Notes,
    runs::Mapping,
    state,
    survey::Survey,
    tree::Of,
};
use crate::{
    arith::{Peek, Sat},
    family::{Mark, Start, spread},
    files::order,
    medium::Medium,
};

/// Records that are asked whether records have their numbers.
const ASKED: usize = 8;

/// Files by their names, blocks of folders' indexes, records, and the copy of record 0.
pub(super) fn of(medium: &dyn Medium, survey: &Survey, most: usize) -> Vec<Start> {
    let nodes = survey.tree.nodes.iter().zip(0_u32..).filter(|(node, _)| matches!(node.of, Of::Name(_)));
    let each = most.per(4).max(1);
    let mut found = Vec::new();
    let folders = nodes.clone().filter_map(|(node, _)| survey.file(node));
    let folders: Vec<_> = spread(folders.filter(|file| file.notes.contains(Notes::FOLDER)), each).collect();
    let of_each = each.per(folders.len().max(1)).max(1);
    for file in folders {
        let geometry = &survey.mft.geometry;
        let (size, step) = (geometry.index().wide(), geometry.index_step(geometry.index().wide()));
        let runs = survey.records.all_runs(survey.records.stream_of(file, kind::INDEX_ALLOCATION, "$I30"));
        let places = Mapping::of(&runs, geometry.cluster()).places(0, u64::MAX).into_iter();
        // Where an index was laid anew the old one can stand still.
        let blocks = spread(places.filter(|(at, _)| at.rest(size) == 0), of_each).map(|(at, extent)| {
            let of = [u64::from(file.number), at.per(size).times(step)];
            Start::own(extent.offset, is_block, of, false)
        });
        found.extend(blocks);
    }
    let records = 0..survey.mft.records();
    if have_numbers(medium, survey) {
        found.extend(spread(records, each).filter_map(|number| {
            let place = survey.mft.place(number)?;
            Some(Start::own(place, is_record, [u64::from(number), 0], true))
        }));
    }
    let geometry = &survey.mft.geometry;
    found.push(Start::own(geometry.place(geometry.mirror), is_record_zero, [0; 2], true));
    let start = |(node, number): (&super::tree::Node, u32)| {
        let folder = survey.file(node).is_some_and(|file| file.notes.contains(Notes::FOLDER));
        let own = folder || state::is_own(survey, number);
        let first = survey.content(medium, node).extents().next().filter(|_| !own)?;
        let mark = Mark::Name(order::Tree::name(survey, number).into());
        Some(Start { place: first.offset, bytes: first.length, mark })
    };
    found.extend(spread(nodes, most).filter_map(start));
    found
}

/// True where records are written with their numbers in them: some drivers leave them out.
fn have_numbers(medium: &dyn Medium, survey: &Survey) -> bool {
    let numbers = own::FIRST_USER.narrow()..survey.mft.records();
    let asked = spread(numbers, ASKED.times(2)).map(|number| survey.mft.raw(medium, number));
    let asked: Vec<bool> =
        asked.filter(|raw| raw.starts_with(b"FILE")).map(|raw| raw.le16(4) >= 0x30).collect();
    asked.len() >= ASKED && asked.iter().all(|has| *has)
}

fn is_record(bytes: &[u8], [number, _]: [u64; 2]) -> bool {
    bytes.starts_with(b"FILE") && bytes.le16(4) >= 0x30 && u64::from(bytes.le32(44)) == number
}

/// The block of that number of the index of a folder, by its first entry.
fn is_block(bytes: &[u8], [folder, number]: [u64; 2]) -> bool {
    let entry = bytes.le32(24).size().plus(24);
    let parent = bytes.le64(entry.plus(16)) & 0xFFFF_FFFF_FFFF;
    bytes.starts_with(b"INDX") && bytes.le64(16) == number && parent == folder
}

/// A record with the name `$MFT`.
pub(crate) fn is_record_zero(bytes: &[u8], _: [u64; 2]) -> bool {
    let name = |part: &[u8]| part.first() == Some(&4) && part.get(2..) == Some(b"$\0M\0F\0T\0");
    bytes.starts_with(b"FILE") && bytes.windows(10).any(name)
}
