//! The geometry where record 0 and its copy are gone.
//!
//! Records 1 to 11 that stand one behind the other say where $MFT begins, in bytes. Each names the first cluster of a
//! content that is known by its own marks: $MFTMirr holds copies of records, $AttrDef begins with a name, $UpCase with
//! the first characters, the root folder's index with INDX. The size of a cluster is the one at which these stand there.

use super::evidence::{CLUSTERS, Evidence, first_cluster, is_own, record_at};
use crate::{
    arith::Sat,
    medium::Medium,
    ntfs::{
        layout::{kind, own},
        record::attributes,
        runs::decode,
    },
};
use std::collections::BTreeMap;

/// A record of one of the file system's own files, that is not record 0.
#[derive(Debug, Clone, Copy)]
pub(super) struct Own {
    /// Where it stands.
    pub(super) place: u64,
    /// Which it says that it is.
    pub(super) number: u32,
    /// Bytes of a record, as a power of two.
    pub(super) shift: u8,
}

/// What these records say of a volume that begins at byte 0 of `medium`.
pub(super) fn find(medium: &dyn Medium, records: &[Own]) -> Option<Evidence> {
    // Those of $MFT outnumber the copies.
    let mut rows: BTreeMap<(u64, u8), u32> = BTreeMap::new();
    for record in records {
        let size = 1_u64.checked_shl(u32::from(record.shift))?;
        if let Some(begin) = record.place.checked_sub(record.number.wide().times(size)) {
            let count = rows.entry((begin, record.shift)).or_default();
            *count = count.plus(1);
        }
    }
    let (&(begin, shift), _) =
        rows.iter().filter(|(_, count)| **count > 2).max_by_key(|(_, count)| **count)?;
    let mut best: Option<(u32, Evidence)> = None;
    let mut rival = 0;
    for cluster_shift in CLUSTERS {
        let cluster = 1_u64.checked_shl(u32::from(cluster_shift))?;
        if begin.rest(cluster) != 0 {
            continue;
        }
        let votes = votes(medium, begin, shift, cluster);
        match &best {
            Some((most, _)) if votes <= *most => rival = rival.max(votes),
            _ => {
                rival = best.as_ref().map_or(0, |(most, _)| *most);
                let found = Evidence::with(medium, cluster_shift, shift, begin.per(cluster), None);
                best = Some((votes, found));
            }
        }
    }
    best.filter(|(votes, _)| *votes > 1 && *votes > rival).map(|(_, found)| found)
}

/// Contents that stand where the records say if a cluster has so many bytes.
fn votes(medium: &dyn Medium, begin: u64, shift: u8, cluster: u64) -> u32 {
    let size = 1_usize.checked_shl(u32::from(shift)).unwrap_or(1024);
    let record = |number: u32| {
        let at = begin.plus(number.size().times(size).wide());
        record_at(medium, at, size).filter(|record| is_own(record, number))
    };
    let holds = |first: Option<u64>, mark: &dyn Fn(u64) -> bool| {
        first.is_some_and(|first| mark(first.times(cluster)))
    };
    let bytes = |at: u64, length: usize| medium.lenient(at, length).bytes;
    let first = |number: u32| record(number).as_deref().and_then(first_cluster);
    let copies = |at: u64| {
        let second = record_at(medium, at.plus(size.wide()), size);
        second.is_some_and(|second| is_own(&second, own::MIRROR)) && at != begin
    };
    let definitions = |at: u64| bytes(at, 16).starts_with(b"$\0S\0T\0A\0N\0D\0A\0");
    let capitals = |at: u64| bytes(at, 8) == [0, 0, 1, 0, 2, 0, 3, 0];
    let index = |at: u64| bytes(at, 4) == b"INDX";
    let root = record(own::ROOT).and_then(|record| {
        let (list, _) = attributes(&record);
        let blocks = list.iter().find(|a| a.kind() == kind::INDEX_ALLOCATION && !a.resident())?;
        decode(blocks.runs(), blocks.clusters(), u64::from(u32::MAX)).0.first()?.first
    });
    let all = [
        holds(first(own::MIRROR), &copies),
        holds(first(own::ATTRDEF), &definitions),
        holds(first(own::UPCASE), &capitals),
        holds(root, &index),
    ];
    all.iter().fold(0, |sum: u32, held| sum.plus(u32::from(*held)))
}
