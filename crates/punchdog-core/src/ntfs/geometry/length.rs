//! How long a volume is whose boot sectors, `$Bad` and $Bitmap are gone.
//!
//! An image that was cut short ends before its volume does. The partition's entry says how long that is, and so do, at
//! least, the run lists of files that lead behind what is there.

use super::{Geometry, believe::Length, evidence::Evidence};
use crate::{
    arith::Sat,
    medium::Medium,
    ntfs::{
        layout::{Fixups, unfix},
        mft::Mft,
        record::{Head, attributes},
        runs::{Run, decode},
    },
};

/// Bytes of records that are looked through.
const MOST: u64 = 256 << 20;
/// Bytes of records that are read at a time.
const AT_ONCE: u64 = 1 << 20;
/// The run list that leads furthest is believed where it leads at most so many times as far as the next one.
const FAR: u64 = 4;

/// This geometry with the length that the partition or the run lists tell of, where either is longer than what is there.
pub(super) fn settle(medium: &dyn Medium, geometry: Geometry, evidence: &Evidence) -> (Geometry, Length) {
    let (there, sector) = (medium.len(), geometry.sector());
    let reach = reach(medium, &geometry);
    let promised = medium.promised();
    // The copy of the boot sector has the last sector.
    let (sectors, length) = if promised > there && geometry.place(reach) < promised {
        (promised.per(sector).minus(1), Length::Partition(promised))
    } else if geometry.place(reach) > there {
        (geometry.place(reach).per(sector), Length::Runs)
    } else {
        return (geometry, Length::Image);
    };
    let mut longer = Geometry { sectors, ..geometry };
    let usual = longer.clusters().per(2);
    longer.mirror = evidence.mirror.filter(|mirror| *mirror < longer.clusters()).unwrap_or(usual);
    if longer.possible() { (longer, length) } else { (geometry, Length::Image) }
}

/// The cluster behind the last one that a run list leads to which has as many clusters as its attribute says. Two have to lead
/// behind the end: one alone may be damaged.
fn reach(medium: &dyn Medium, geometry: &Geometry) -> u64 {
    // Runs may lead anywhere.
    let any = Geometry { sectors: u64::MAX.per(2), ..*geometry };
    let mft = Mft::find(medium, &any);
    let size = geometry.record();
    let (mut next, mut furthest) = (geometry.clusters(), geometry.clusters());
    let mut at = 0;
    let end = mft.size.min(mft.map.len()).min(MOST);
    while at < end {
        let mut bytes = mft.map.read(medium, at, AT_ONCE.min(end.minus(at)).size());
        for record in bytes.chunks_exact_mut(size) {
            if !record.starts_with(b"FILE") || unfix(record) == Fixups::Bad || !Head::read(record).in_use() {
                continue;
            }
            for attribute in attributes(record).0.into_iter().filter(|attribute| !attribute.resident()) {
                let (runs, wrong) = decode(attribute.runs(), attribute.clusters(), u64::MAX);
                let last = runs.iter().filter(|run| run.first.is_some()).map(Run::end).max();
                match last.filter(|_| wrong.is_none()) {
                    Some(last) if last > furthest => (next, furthest) = (furthest, last),
                    Some(last) => next = next.max(last),
                    None => {}
                }
            }
        }
        at = at.plus(AT_ONCE);
    }
    if next <= geometry.clusters() || furthest > next.times(FAR) { next } else { furthest }
}
