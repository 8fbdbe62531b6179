//! Indexes of what stands in `$Extend`: files by their object ids, reparse points by their tags, what owners may use.
//!
//! ```text
//! $ObjId:$O    key    16 object id                      value  8 reference to the file   48 where it was made
//! $Reparse:$R  key    4 tag   8 reference to the file   value  none
//! $Quota:$O    key    security id of an owner           value  4 id of the owner
//! $Quota:$Q    key    4 id of the owner                 value  what is used, and what may be
//! ```
//! The first two say once more what the records of files have, and are laid anew from these. What owners may use stands
//! nowhere else. Rests on what Linux 6.12 writes (`fs/ntfs3/fsntfs.c`, `ntfs_insert_reparse`, `ntfs_objid_remove`) and on
//! volumes that were looked at.

use super::{
    build::view_entry,
    catalogue as c,
    fresh::{BY_NUMBER, BY_NUMBERS, BY_OWNER},
    layout::{kind, number, own, reference},
    records::{File, Marked},
    survey::Survey,
    views::{Row, Wrong, read},
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::wording::counted,
};
use std::collections::{BTreeMap, BTreeSet};

/// Bytes of an object id.
const ID: usize = 16;
/// Bytes of what follows it in `$OBJECT_ID`.
const ORIGIN: usize = 48;

/// The indexes that are wrong.
pub(super) fn wrong(medium: &dyn Medium, survey: &Survey) -> Vec<Wrong> {
    let mut found = Vec::new();
    for (of, name) in [("$ObjId", "$O"), ("$Reparse", "$R")] {
        let Some(file) = child(survey, of) else { continue };
        if survey.records.stream_of(file, kind::INDEX_ROOT, name).is_empty() {
            // The record lacks an attribute that it must have: that is told of the record.
            continue;
        }
        let rows = read(medium, survey, file, name, BY_NUMBERS);
        let wanted = if of == "$ObjId" {
            by_id(survey, rows.as_deref().unwrap_or_default())
        } else {
            by_tag(survey, rows.as_deref().unwrap_or_default())
        };
        let told = match &rows {
            None => Some("It cannot be read to its end.".to_owned()),
            Some(rows) => differs(rows, &wanted),
        };
        found.extend(told.map(|told| Wrong {
            file: file.number,
            of,
            name,
            class: &c::EXTEND_INDEX,
            order: BY_NUMBERS,
            wanted: Some(in_order(wanted)),
            told,
            should: "It leads to each file whose record says so, and to no other.",
        }));
    }
    let quotas = child(survey, "$Quota").into_iter();
    for (file, name, order) in quotas.flat_map(|file| [(file, "$O", BY_OWNER), (file, "$Q", BY_NUMBER)]) {
        let there = !survey.records.stream_of(file, kind::INDEX_ROOT, name).is_empty();
        if there && read(medium, survey, file, name, order).is_none() {
            found.push(Wrong {
                file: file.number,
                of: "$Quota",
                name,
                class: &c::QUOTA_INDEX,
                order,
                wanted: None,
                told: "It cannot be read to its end.".to_owned(),
                should: "It says what each owner of files uses, and may use.",
            });
        }
    }
    found
}

/// A file in `$Extend`.
fn child<'s>(survey: &'s Survey, name: &str) -> Option<&'s File> {
    let records = &survey.records;
    let of = |entry: &&super::records::Name| {
        number(entry.parent) == u64::from(own::EXTEND) && *entry.text == *name
    };
    records.names.iter().filter(of).find_map(|entry| records.live(entry.file))
}

/// The order of rows of numbers: each four bytes of the key are one.
fn row_of(key: &[u8]) -> Vec<u32> {
    (0..key.len().per(4)).map(|at| key.le32(at.times(4))).collect()
}

/// The entries by their keys: as they stand, where they are as they should be.
type Wanted = BTreeMap<Vec<u8>, Vec<u8>>;

fn in_order(wanted: Wanted) -> Vec<Vec<u8>> {
    let mut rows: Vec<(Vec<u8>, Vec<u8>)> = wanted.into_iter().collect();
    rows.sort_by_key(|(key, _)| row_of(key));
    rows.into_iter().map(|(_, bytes)| bytes).collect()
}

/// Takes entries that stand and lead to what they should first: what they say besides is theirs alone.
fn collect(rows: &[Row], each: impl Iterator<Item = (Vec<u8>, u64, Vec<u8>)>) -> Wanted {
    let mut standing: BTreeMap<&[u8], &Row> = BTreeMap::new();
    for row in rows {
        standing.entry(&row.key).or_insert(row);
    }
    let mut wanted = Wanted::new();
    for (key, to, value) in each {
        let stands = standing.get(key.as_slice());
        let fits = stands.filter(|row| value.is_empty() && row.value.is_empty() || row.value.le64(0) == to);
        let entry = fits.map_or_else(|| view_entry(&key, &value), |row| plain(row));
        // Of two files with one id, the one that the index leads to has it.
        if fits.is_some() || !wanted.contains_key(&key) {
            wanted.insert(key, entry);
        }
    }
    wanted
}

/// An entry without what says that a node is below it.
fn plain(row: &Row) -> Vec<u8> {
    view_entry(&row.key, &row.value)
}

fn by_id(survey: &Survey, rows: &[Row]) -> Wanted {
    let marks = survey.records.marks.iter().filter_map(|mark| {
        let Marked::Object(id) = &mark.what else { return None };
        let file = survey.records.live(mark.file)?;
        let to = reference(file.number, file.sequence);
        let mut origin = id.get(ID..).unwrap_or_default().to_vec();
        origin.resize(ORIGIN, 0);
        Some((id.part(0, ID).to_vec(), to, [&to.to_le_bytes()[..], &origin].concat()))
    });
    collect(rows, marks)
}

fn by_tag(survey: &Survey, rows: &[Row]) -> Wanted {
    let files: BTreeMap<u32, u32> = survey
        .records
        .marks
        .iter()
        .filter_map(|mark| if let Marked::Reparse(tag) = mark.what { Some((mark.file, tag)) } else { None })
        .collect();
    let key = |tag: u32, to: u64| [&tag.to_le_bytes()[..], &to.to_le_bytes()].concat();
    let marks = files.iter().filter_map(|(file, tag)| {
        let file = survey.records.live(*file)?;
        let to = reference(file.number, file.sequence);
        Some((key(*tag, to), to, Vec::new()))
    });
    // A point that stands in clusters of its own does not say its tag in the record.
    let outside = rows.iter().filter_map(|row| {
        let to = row.key.le64(4);
        let file = survey.records.referred(to)?;
        let there = !survey.records.stream_of(file, kind::REPARSE, "").is_empty();
        (there && !files.contains_key(&file.number)).then(|| (row.key.clone(), to, Vec::new()))
    });
    collect(rows, marks.chain(outside))
}

/// What is wrong with the entries, if anything.
fn differs(rows: &[Row], wanted: &Wanted) -> Option<String> {
    let keys: BTreeSet<&[u8]> = rows.iter().map(|row| row.key.as_slice()).collect();
    let stale = rows.iter().filter(|row| wanted.get(&row.key) != Some(&plain(row))).count();
    let missing = wanted.keys().filter(|key| !keys.contains(key.as_slice())).count();
    let order: Vec<Vec<u32>> = rows.iter().map(|row| row_of(&row.key)).collect();
    let parts = [
        (
            stale > 0,
            format!("{} to no file that says so.", counted(stale.wide(), "entry leads", "entries lead")),
        ),
        (missing > 0, format!("It leaves {} out.", counted(missing.wide(), "file", "files"))),
        (!order.is_sorted(), "It is out of order.".to_owned()),
    ];
    let told: Vec<String> = parts.into_iter().filter(|(is, _)| *is).map(|(_, told)| told).collect();
    (!told.is_empty()).then(|| told.join(" "))
}
