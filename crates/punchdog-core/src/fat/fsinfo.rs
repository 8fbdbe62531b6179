//! The FSInfo sector, and entries 0 and 1 of the table: counts and marks that follow from
//! everything else.

use super::{
    boot::Boot,
    geometry::Geometry,
    layout::{FSINFO_LEAD, FSINFO_STRUCTURE, FSINFO_TRAIL, FSINFO_UNKNOWN, FsInfo},
    survey::Survey,
    table::end_mark,
};
use crate::{arith::Sat, medium::Medium};

/// Something that the FSInfo sector has wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Count {
    /// A signature is not there.
    Signature {
        /// Bytes from the start of the sector.
        at: u64,
    },
    /// The free count is not what the table has.
    Free {
        /// As it stands.
        is: u32,
        /// As counted.
        should: u32,
    },
    /// The hint names no cluster.
    Next {
        /// As it stands.
        is: u32,
        /// The first free cluster.
        should: u32,
    },
}

/// Where the FSInfo sector stands; `None` for FAT12 and FAT16.
pub fn place(boot: &Boot, geometry: &Geometry) -> Option<u64> {
    let sector = u32::from(boot.believed.tail32().fsinfo_sector.get());
    let inside = sector > 0 && sector < geometry.reserved_sectors;
    (geometry.wide() && inside).then(|| sector.wide().times(geometry.sector_bytes.wide()))
}

/// What is wrong with the FSInfo sector at `place`.
pub fn judge(medium: &dyn Medium, place: u64, survey: &Survey) -> Vec<Count> {
    let Some(info) = FsInfo::read(&medium.lenient(place, 512).bytes) else { return Vec::new() };
    let signatures = [
        (0, info.lead.get(), FSINFO_LEAD),
        (484, info.structure.get(), FSINFO_STRUCTURE),
        (508, info.trail.get(), FSINFO_TRAIL),
    ];
    let lost: Vec<Count> = signatures
        .iter()
        .filter(|(_, is, should)| is != should)
        .map(|(at, ..)| Count::Signature { at: *at })
        .collect();
    if !lost.is_empty() {
        return lost;
    }
    let mut wrong = Vec::new();
    let free = info.free_count.get();
    if free != FSINFO_UNKNOWN && free != survey.free {
        wrong.push(Count::Free { is: free, should: survey.free });
    }
    let next = info.next_free.get();
    // 0 and 1 name no cluster, but stand there on fresh volumes of several makers.
    if next != FSINFO_UNKNOWN && next > survey.geometry.last_cluster() {
        wrong.push(Count::Next { is: next, should: survey.first_free.unwrap_or(FSINFO_UNKNOWN) });
    }
    wrong
}

/// What entries 0 and 1 of the table should be, closed properly and without errors.
pub fn first_entries(geometry: &Geometry, media: u8) -> (u32, u32) {
    let top = end_mark(geometry.kind);
    (top & !0xFF | u32::from(media), top)
}
