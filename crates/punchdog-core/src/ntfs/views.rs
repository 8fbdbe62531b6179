//! Indexes that are not of names. Those of `$Secure`: where in `$SDS` a descriptor stands, by its hash (`$SDH`) and by its
//! id (`$SII`). Those of `$Extend` are `extend.rs`.
//!
//! ```text
//! entry  0 offset of the value   2 length of the value   8 length   10 length of the key   12 flags   16 key, value
//! value  0 hash   4 id   8 offset in $SDS   16 length, as in the head of the descriptor itself
//! ```
//! Nodes and blocks are those of folders (`layout.rs`). Rests on what Linux 6.12 reads (`fs/ntfs3/fsntfs.c`,
//! `ntfs_security_init`) and on volumes that were looked at.

use super::{
    build::Order,
    catalogue as c, extend,
    fresh::{BY_HASH, BY_NUMBER, descriptor_entries},
    index::{root_fits, root_of},
    layout::{ENTRY_HEAD, ENTRY_LAST, ENTRY_NODE, Fixups, counts_fixups, kind, own, unfix},
    records::{File, Notes},
    runs::Mapping,
    secure,
    survey::Survey,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::{
        finding::{Entry, Finding},
        wording::counted,
    },
};
use std::collections::{BTreeSet, HashSet};

/// Bytes of the head of a descriptor.
const HEAD: usize = 20;
/// Nodes one below the other.
const DEPTH: usize = 20;

/// An index that does not hold what it should.
pub(super) struct Wrong {
    /// The record of the file that has it.
    pub(super) file: u32,
    /// What that file is called.
    pub(super) of: &'static str,
    /// Its name.
    pub(super) name: &'static str,
    /// The finding.
    pub(super) class: &'static Entry,
    /// How it is sorted.
    pub(super) order: Order,
    /// What it should hold; none where nothing says.
    pub(super) wanted: Option<Vec<Vec<u8>>>,
    /// What is wrong with it.
    pub(super) told: String,
    /// What it should be.
    pub(super) should: &'static str,
}

/// The indexes that are wrong.
pub(super) fn wrong(medium: &dyn Medium, survey: &Survey) -> Vec<Wrong> {
    let mut found = of_descriptors(medium, survey);
    found.extend(extend::wrong(medium, survey));
    found
}

/// The indexes of `$Secure` that are wrong.
fn of_descriptors(medium: &dyn Medium, survey: &Survey) -> Vec<Wrong> {
    let mut found = Vec::new();
    let Some(file) = survey.records.live(own::SECURE) else { return found };
    let Some((bytes, _)) = secure::stream(medium, survey) else { return found };
    let heads: Vec<Vec<u8>> =
        secure::descriptors(&bytes).iter().map(|one| one.entry(&bytes).part(0, HEAD).to_vec()).collect();
    if heads.is_empty() {
        return found;
    }
    let used: BTreeSet<u32> = survey
        .records
        .files
        .iter()
        .filter(|file| !file.notes.contains(Notes::DELETED) && file.security != 0)
        .map(|file| file.security)
        .collect();
    let (by_hash, by_id) = descriptor_entries(heads.clone());
    for (name, order, wanted) in [("$SDH", BY_HASH, by_hash), ("$SII", BY_NUMBER, by_id)] {
        let there = survey.records.stream_of(file, kind::INDEX_ROOT, name);
        if there.is_empty() {
            // The record lacks an attribute that it must have: that is told of the record.
            continue;
        }
        let told = match entries(medium, survey, file, name) {
            None => Some("It cannot be read to its end.".to_owned()),
            Some(list) => differs(&list, &heads, &used, name),
        };
        if let Some(told) = told {
            found.push(Wrong {
                file: own::SECURE,
                of: "$Secure",
                name,
                class: &c::SECURE_INDEX,
                order,
                wanted: Some(wanted),
                told,
                should: "It leads to each descriptor.",
            });
        }
    }
    found
}

/// What is wrong with the entries of an index, if anything.
fn differs(list: &[Vec<u8>], heads: &[Vec<u8>], used: &BTreeSet<u32>, name: &str) -> Option<String> {
    let known: HashSet<&[u8]> = heads.iter().map(Vec::as_slice).collect();
    let keys: Vec<(u32, u32)> = list
        .iter()
        .map(|head| if name == "$SDH" { (head.le32(0), head.le32(4)) } else { (head.le32(4), 0) })
        .collect();
    let stale = list.iter().filter(|head| !known.contains(head.as_slice())).count();
    let ids: HashSet<u32> = list.iter().map(|head| head.le32(4)).collect();
    let missing =
        heads.iter().map(|head| head.le32(4)).filter(|id| used.contains(id) && !ids.contains(id)).count();
    let order = !keys.windows(2).all(|pair| pair.first() < pair.last());
    let parts = [
        (
            stale > 0,
            format!("it has {} that stand for no descriptor", counted(stale.wide(), "entry", "entries")),
        ),
        (
            missing > 0,
            format!("it leaves {} out that files name", counted(missing.wide(), "descriptor", "descriptors")),
        ),
        (order, "it is out of order".to_owned()),
    ];
    let told: Vec<String> = parts.into_iter().filter(|(is, _)| *is).map(|(_, told)| told).collect();
    (!told.is_empty()).then(|| format!("Of what stands in $SDS: {}.", told.join(", ")))
}

/// The heads of all descriptors, as an index tells them: empty where neither can be read to its end.
pub(super) fn rows(medium: &dyn Medium, survey: &Survey) -> Vec<Vec<u8>> {
    let Some(file) = survey.records.live(own::SECURE) else { return Vec::new() };
    ["$SII", "$SDH"].into_iter().find_map(|name| entries(medium, survey, file, name)).unwrap_or_default()
}

/// What is wrong with the indexes.
pub(super) fn faults(medium: &dyn Medium, survey: &Survey) -> Vec<Finding> {
    let finding = |wrong: Wrong| {
        let file = survey.records.live(wrong.file);
        let root = file.and_then(|file| survey.records.stream_of(file, kind::INDEX_ROOT, wrong.name).first());
        let place = root.and_then(|root| {
            let record = survey.mft.place(root.holder)?;
            Some((record.plus(root.first_vcn), root.size))
        });
        let (at, length) = place.unwrap_or((0, 0));
        Finding::new(wrong.class, format!("the index {} of {} is wrong", wrong.name, wrong.of))
            .at(at, length)
            .because(wrong.told, wrong.should, "")
    };
    wrong(medium, survey).into_iter().map(finding).collect()
}

/// The values of an index of `$Secure` in its order, heads of descriptors; `None` where it cannot be read to its end.
fn entries(medium: &dyn Medium, survey: &Survey, file: &File, name: &str) -> Option<Vec<Vec<u8>>> {
    let order = if name == "$SDH" { BY_HASH } else { BY_NUMBER };
    let head = |row: Row| {
        let head = row.value.get(..HEAD)?;
        // The key is a part of the value.
        let fits = row.key == head.part(4, 4) || row.key == head.part(0, 8);
        fits.then(|| head.to_vec())
    };
    read(medium, survey, file, name, order)?.into_iter().map(head).collect()
}

/// An entry of an index.
pub(super) struct Row {
    /// What it is found by.
    pub(super) key: Vec<u8>,
    /// What it leads to.
    pub(super) value: Vec<u8>,
}

/// The entries of an index in its order; `None` where it cannot be read to its end.
pub(super) fn read(
    medium: &dyn Medium,
    survey: &Survey,
    file: &File,
    name: &str,
    order: Order,
) -> Option<Vec<Row>> {
    let records = &survey.records;
    let holder = records.stream_of(file, kind::INDEX_ROOT, name).first()?.holder;
    let record = survey.mft.read(medium, holder)?;
    let (root, _) = root_of(&record, name)?;
    let size = root.value().le32(8);
    if root.value().le32(0) != order.of
        || root.value().le32(4) != order.rule
        || !root_fits(root.value(), survey.mft.geometry.cluster())
    {
        return None;
    }
    if !size.is_power_of_two() || !(512..=65536).contains(&size) {
        return None;
    }
    let blocks = records.stream_of(file, kind::INDEX_ALLOCATION, name);
    let map = Mapping::of(&records.all_runs(blocks), survey.mft.geometry.cluster());
    let step = survey.mft.geometry.index_step(size.wide()).max(1);
    let block = |number: u64| -> Option<Vec<u8>> {
        let at = (number.rest(step) == 0).then(|| number.per(step).times(size.wide()))?;
        if at.plus(size.wide()) > map.len() {
            return None;
        }
        let mut bytes = map.read(medium, at, size.size());
        let whole =
            bytes.part(0, 4) == b"INDX" && unfix(&mut bytes) == Fixups::Whole && counts_fixups(&bytes);
        (whole && bytes.le64(16) == number).then_some(bytes)
    };
    let mut found = Vec::new();
    let mut seen = HashSet::new();
    walk(root.value(), 16, &block, 0, &mut seen, &mut found)?;
    Some(found)
}

fn walk(
    bytes: &[u8],
    header: usize,
    block: &dyn Fn(u64) -> Option<Vec<u8>>,
    depth: usize,
    seen: &mut HashSet<u64>,
    found: &mut Vec<Row>,
) -> Option<()> {
    let end = header.plus(bytes.le32(header.plus(4)).size());
    let mut at = header.plus(bytes.le32(header).size());
    if depth > DEPTH || end > bytes.len() {
        return None;
    }
    loop {
        let (length, flags) = (usize::from(bytes.le16(at.plus(8))), bytes.le16(at.plus(12)));
        if length < ENTRY_HEAD || length.rest(8) != 0 || at.plus(length) > end {
            return None;
        }
        if flags & ENTRY_NODE != 0 {
            let below = bytes.le64(at.plus(length).minus(8));
            if !seen.insert(below) {
                return None;
            }
            walk(&block(below)?, 24, block, depth.plus(1), seen, found)?;
        }
        if flags & ENTRY_LAST != 0 {
            return Some(());
        }
        let (value, long) = (usize::from(bytes.le16(at)), usize::from(bytes.le16(at.plus(2))));
        let own = bytes.part(at, length);
        let key = own.get(ENTRY_HEAD..ENTRY_HEAD.plus(usize::from(own.le16(10))))?;
        let value = if long == 0 { &[] } else { own.get(value..value.plus(long))? };
        found.push(Row { key: key.to_vec(), value: value.to_vec() });
        at = at.plus(length);
    }
}
