//! What a volume tells of its geometry without its boot sectors: where tables, up-case tables and
//! folders stand, and what root folders say of them.

use super::{Geometry, weigh};
use crate::{
    arith::{Peek, Sat},
    exfat::{
        layout::{BITMAP, DIRECTORY, ENTRY, EXTENDED_SIGNATURE, FILE, Owner, STREAM, Stream, UPCASE},
        sets,
    },
    medium::{Medium, MediumError},
    progress::Watch,
};
use std::collections::HashMap;

/// A folder that has a bitmap or an up-case entry.
#[derive(Debug, Clone, Copy)]
pub(super) struct Root {
    /// Where it stands.
    pub place: u64,
    /// Its bitmap entry.
    pub bitmap: Option<Owner>,
    /// Its up-case entry.
    pub upcase: Option<Owner>,
}

/// Everything found.
#[derive(Debug, Default)]
pub(super) struct Evidence {
    /// Where tables begin.
    pub tables: Vec<u64>,
    /// Where up-case tables begin.
    pub upcases: Vec<u64>,
    /// Root folders.
    pub roots: Vec<Root>,
    /// Where other folders begin.
    pub folders: Vec<u64>,
    /// Clusters that entries of folders name.
    pub named: Vec<u32>,
}

/// How far a volume is searched for what only its beginning has.
const SEARCHED: u64 = 512 << 20;
/// Observations of one sort that are enough.
const ENOUGH: usize = 48;

/// How far a table or an up-case table is looked for before anything else is: cards are laid out
/// with tables at 8 MiB and clusters from 16 MiB on.
const NEAR: u64 = 64 << 20;

/// True when a table or an up-case table begins near the start of the volume.
pub(super) fn table_near(medium: &dyn Medium) -> bool {
    let end = medium.len().min(NEAR);
    let mut at = 0;
    while let Some(piece) = medium.piece_from(at, end) {
        let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
        if bytes.chunks(512).any(|sector| weigh::table_begins(sector) || weigh::begins_as_upcase(sector)) {
            return true;
        }
        at = piece.end();
    }
    false
}

/// Searches the volume.
pub(super) fn gather(medium: &dyn Medium, watch: &dyn Watch) -> Result<Evidence, MediumError> {
    let mut seen = Evidence::default();
    let end = medium.len().min(SEARCHED);
    let mut at = 0;
    while at < end {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("searching for tables and folders", at, end);
        let Some(piece) = medium.piece_from(at, end) else { break };
        at = piece.offset;
        let chunk = medium.lenient(at, piece.length.size()).bytes;
        for (index, sector) in chunk.chunks(512).enumerate() {
            look(sector, at.plus(index.times(512).wide()), &mut seen);
        }
        at = piece.end();
        if !seen.roots.is_empty() && !seen.tables.is_empty() && seen.folders.len() >= ENOUGH {
            break;
        }
    }
    tracing::debug!(?seen, "evidence");
    Ok(seen)
}

fn look(sector: &[u8], place: u64, seen: &mut Evidence) {
    if weigh::table_begins(sector) && seen.tables.len() < ENOUGH {
        seen.tables.push(place);
    }
    if weigh::begins_as_upcase(sector) && seen.upcases.len() < ENOUGH {
        seen.upcases.push(place);
    }
    if matches!(sector.byte(0), 0 | 0x80) || !sets::looks_like_folder(sector, false) {
        return;
    }
    let entries = || sector.chunks_exact(ENTRY).take_while(|raw| raw.byte(0) != 0);
    let owner = |kind: u8| entries().find(|raw| raw.byte(0) == kind).map(Owner::read);
    let (bitmap, upcase) = (owner(BITMAP), owner(UPCASE));
    if (bitmap.is_some() || upcase.is_some()) && seen.roots.len() < ENOUGH {
        seen.roots.push(Root { place, bitmap, upcase });
    } else if sector.byte(0) == FILE && seen.folders.len() < ENOUGH.times(8) {
        seen.folders.push(place);
    }
    let all: Vec<&[u8]> = sector.chunks_exact(ENTRY).collect();
    for pair in all.windows(2) {
        let [file, raw] = pair else { continue };
        if file.byte(0) == FILE && raw.byte(0) == STREAM && file.le16(4) & DIRECTORY != 0 {
            let first = Stream::read(raw).first;
            if first >= 2 && seen.named.len() < ENOUGH.times(8) && !seen.named.contains(&first) {
                seen.named.push(first);
            }
        }
    }
}

/// Cluster size and place of cluster 2, by how often clusters that are named and places that are
/// found fit together.
fn grids(seen: &Evidence) -> Vec<(u64, u64)> {
    let mut votes: HashMap<(u64, u64), u32> = HashMap::new();
    let mut vote = |cluster: u32, place: u64, weight: u32| {
        for shift in 9..=25_u32 {
            let size = 1_u64.checked_shl(shift).unwrap_or(512);
            let before = cluster.minus(2).wide().times(size);
            if before < place && place.minus(before) >= 24 * 512 {
                let slot = votes.entry((size, place.minus(before))).or_insert(0);
                *slot = slot.plus(weight);
            }
        }
    };
    for root in &seen.roots {
        if let Some(upcase) = root.upcase {
            seen.upcases.iter().for_each(|place| vote(upcase.first, *place, 4));
        }
    }
    for cluster in &seen.named {
        seen.folders.iter().for_each(|place| vote(*cluster, *place, 1));
    }
    let mut ranked: Vec<((u64, u64), u32)> = votes.into_iter().collect();
    ranked.sort_by_key(|((size, heap), count)| (std::cmp::Reverse(*count), *heap, *size));
    ranked.into_iter().take(64).map(|(grid, _)| grid).collect()
}

/// Bytes per sector as a power of 2: the extended boot sectors show it, if they are left.
fn sector_shift(medium: &dyn Medium) -> u8 {
    let shows = |shift: &u8| {
        let size = 1_u64.checked_shl(u32::from(*shift)).unwrap_or(512);
        [2_u64, 14]
            .iter()
            .any(|sector| medium.lenient(sector.times(size).minus(4), 4).bytes.le32(0) == EXTENDED_SIGNATURE)
    };
    (9..=12).find(shows).unwrap_or(9)
}

/// Geometries that follow from evidence alone.
pub(super) fn derived(medium: &dyn Medium, seen: &Evidence) -> Vec<Geometry> {
    let shift = sector_shift(medium);
    let sector = 1_u64.checked_shl(shift.into()).unwrap_or(512);
    let mut found = Vec::new();
    for (size, heap) in grids(seen) {
        for root in &seen.roots {
            let Some(from_heap) = root.place.checked_sub(heap) else { continue };
            if from_heap.rest(size) != 0 || heap.rest(sector) != 0 || size < sector {
                continue;
            }
            let there = medium.len().minus(heap).per(size);
            let said = root.bitmap.map_or(0, |owner| owner.length.times(8));
            // The bitmap's length says it to within 7 clusters, the image's length says which; where
            // the two contradict each other, either may be right.
            let exact = there.per_up(8).times(8) == said || said == 0;
            let counts = if exact { vec![there] } else { vec![said, there] };
            for clusters in counts {
                let exact = clusters == there;
                found.extend(with_count(
                    medium,
                    seen,
                    (shift, sector),
                    (size, heap),
                    from_heap,
                    clusters,
                    exact,
                ));
            }
        }
    }
    found
}

/// Geometries with this many clusters, one for each table that is found or a place for one.
fn with_count(
    medium: &dyn Medium,
    seen: &Evidence,
    (shift, sector): (u8, u64),
    (size, heap): (u64, u64),
    from_heap: u64,
    clusters: u64,
    exact: bool,
) -> Vec<Geometry> {
    let mut found = Vec::new();
    // Where no table begins as one, it is as good as empty, and goes where it has room.
    let room = heap.minus(clusters.plus(2).times(4).per_up(sector).times(sector));
    let custom = [128, 24].map(|sectors: u64| sectors.times(sector)).into_iter().find(|at| *at <= room);
    let tables = if seen.tables.is_empty() { custom.into_iter().collect() } else { seen.tables.clone() };
    for table in tables.iter().filter(|place| **place < heap && place.rest(sector) == 0) {
        let needed = clusters.plus(2).times(4).per_up(sector);
        let sectors =
            if exact { medium.len().per(sector) } else { heap.plus(clusters.times(size)).per(sector) };
        let geometry = Geometry {
            sector_shift: shift,
            cluster_shift: u8::try_from(size.per(sector).trailing_zeros()).unwrap_or(0),
            table_offset: table.per(sector).narrow(),
            table_sectors: needed.narrow(),
            tables: 1,
            heap_offset: heap.per(sector).narrow(),
            clusters: clusters.narrow(),
            root_cluster: from_heap.per(size).plus(2).narrow(),
            sectors,
        };
        found.push(geometry);
        // TexFAT: the second table stands right behind the first.
        for second in seen.tables.iter().filter(|place| *place > table && **place < heap) {
            let length = second.minus(*table).per(sector);
            if length >= needed && table.plus(length.times(sector).times(2)) <= heap {
                found.push(Geometry { tables: 2, table_sectors: length.narrow(), ..geometry });
            }
        }
    }
    found
}

/// Geometries that differ from `base` in one field, or in two that hang together.
pub(super) fn corrected(medium: &dyn Medium, base: Geometry, seen: &Evidence) -> Vec<Geometry> {
    let mut all: Vec<Geometry> = Vec::new();
    let sizes = (9..=12_u8).map(|sector_shift| Geometry { sector_shift, ..base });
    all.extend(sizes);
    all.extend((0..=16_u8).map(|cluster_shift| Geometry { cluster_shift, ..base }));
    all.extend([1, 2].map(|tables| Geometry { tables, ..base }));
    let sector = base.sector_bytes().max(512);
    for table in &seen.tables {
        all.push(Geometry { table_offset: table.per(sector).narrow(), ..base });
    }
    for (_, heap) in grids(seen).into_iter().take(16) {
        all.push(Geometry { heap_offset: heap.per(sector).narrow(), ..base });
    }
    let size = base.cluster_bytes().max(512);
    let there = medium.len().minus(base.heap_place()).per(size).narrow();
    let by_length =
        base.sectors.minus(base.heap_offset.wide()).checked_shr(base.cluster_shift.into()).unwrap_or(0);
    let mut counts = vec![there, by_length.narrow()];
    for root in &seen.roots {
        let cluster = root.place.minus(base.heap_place()).per(size).plus(2).narrow();
        all.push(Geometry { root_cluster: cluster, ..base });
        counts.extend(root.bitmap.map(|owner| owner.length.times(8).narrow()));
    }
    let fitting: Vec<Geometry> =
        counts.iter().map(|clusters| Geometry { clusters: *clusters, ..base }).collect();
    for geometry in all.iter().copied().chain(fitting).chain([base]).collect::<Vec<_>>() {
        let needed = geometry.clusters.wide().plus(2).times(4).per_up(sector).narrow();
        let gap = geometry.heap_offset.minus(geometry.table_offset).per(geometry.tables.max(1));
        for table_sectors in [geometry.table_sectors, needed, gap] {
            all.push(Geometry { table_sectors, ..geometry });
        }
    }
    let ends: Vec<Geometry> = all
        .iter()
        .filter(|geometry| geometry.sectors.times(geometry.sector_bytes()) < geometry.heap_end())
        .map(|geometry| Geometry { sectors: medium.len().per(geometry.sector_bytes().max(512)), ..*geometry })
        .collect();
    all.extend(ends);
    all.retain(Geometry::possible);
    all
}
