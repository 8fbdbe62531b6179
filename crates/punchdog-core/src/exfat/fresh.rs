//! Laying down an empty exFAT volume: the lab fills such volumes, and the last resort is one.

use super::{
    boot,
    geometry::Geometry,
    layout::{BITMAP, ENTRY, LABEL, Owner, REGION_SECTORS, UPCASE, put},
    upcase::{RECOMMENDED_CHECKSUM, Upcase},
};
use crate::{arith::Sat, medium::Extent};

/// What the volume shall be like.
#[derive(Debug, Clone)]
pub struct Wish {
    /// Bytes in all.
    pub bytes: u64,
    /// Bytes per sector: 512 to 4096.
    pub sector_bytes: u32,
    /// Bytes per cluster: 512 to 32 MiB.
    pub cluster_bytes: u32,
    /// Tables: 1, or 2 for TexFAT.
    pub tables: u32,
    /// The label, up to 11 characters; empty for none.
    pub label: String,
    /// The serial number.
    pub serial: u32,
}

/// Why there can be no such volume.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FreshError {
    /// A size is none that exFAT has.
    #[error("{0} is no size that exFAT has")]
    Size(&'static str),
    /// The volume has no room for its own tables.
    #[error("{0} bytes are too few for an exFAT volume")]
    TooSmall(u64),
}

/// Where everything will lie.
///
/// # Errors
/// When a size is none that exFAT has, or the volume is too small.
pub fn geometry(wish: &Wish) -> Result<Geometry, FreshError> {
    let sector = wish.sector_bytes.wide();
    let cluster = wish.cluster_bytes.wide();
    if !sector.is_power_of_two() || !(512..=4096).contains(&sector) {
        return Err(FreshError::Size("the sector size"));
    }
    if !cluster.is_power_of_two() || cluster < sector || cluster > 32 << 20 {
        return Err(FreshError::Size("the cluster size"));
    }
    let sectors = wish.bytes.per(sector);
    let per_cluster = cluster.per(sector);
    // Room for both boot regions, and the same again, as the trade leaves it.
    let table_offset = REGION_SECTORS.times(2).max(128_u64.min(sectors.per(64)));
    let most = sectors.minus(table_offset).per(per_cluster);
    let table_sectors = most.plus(2).times(4).per_up(sector);
    let heap =
        table_offset.plus(table_sectors.times(wish.tables.wide())).per_up(per_cluster).times(per_cluster);
    let clusters = sectors.minus(heap).per(per_cluster);
    if clusters < 8 || heap >= sectors {
        return Err(FreshError::TooSmall(wish.bytes));
    }
    let found = Geometry {
        sector_shift: u8::try_from(sector.trailing_zeros()).unwrap_or(9),
        cluster_shift: u8::try_from(per_cluster.trailing_zeros()).unwrap_or(0),
        table_offset: table_offset.narrow(),
        table_sectors: table_sectors.narrow(),
        tables: wish.tables,
        heap_offset: heap.narrow(),
        clusters: clusters.min(0xFFFF_FFF5).narrow(),
        root_cluster: 2,
        sectors,
    };
    let own =
        found.clusters_for(found.bitmap_bytes()).times(wish.tables.wide()).plus(found.clusters_for(5836));
    Ok(Geometry { root_cluster: own.plus(2).narrow(), ..found })
}

/// Pieces of the volume: where, and the bytes.
pub type Pieces = Vec<(Extent, Vec<u8>)>;

/// The volume's own structures; everything else is zero.
///
/// # Errors
/// As [`geometry`].
pub fn lay_down(wish: &Wish) -> Result<(Geometry, Pieces), FreshError> {
    lay_down_behind(0, wish)
}

/// The same with so many sectors in front of the volume (exFAT 1.00, 3.1.5, `PartitionOffset`).
///
/// # Errors
/// As [`geometry`].
pub fn lay_down_behind(before: u64, wish: &Wish) -> Result<(Geometry, Pieces), FreshError> {
    let geometry = geometry(wish)?;
    let mut boot = boot::fresh(&geometry, wish.serial);
    boot.partition_offset.set(before);
    let region = boot::region(&boot, &geometry, None);
    let mut pieces = Pieces::new();
    let mut add = |place: u64, bytes: Vec<u8>| pieces.push((Extent::new(place, bytes.len().wide()), bytes));
    add(0, region.clone());
    add(geometry.region_bytes(), region);
    let length = geometry.bitmap_bytes();
    let bitmap_clusters = geometry.clusters_for(length).narrow();
    let upcase = Upcase::recommended();
    let upcase_clusters = geometry.clusters_for(upcase.len().wide()).narrow();
    let mut owners: Vec<(u32, u32)> = Vec::new();
    let mut next = 2_u32;
    for count in (0..wish.tables).map(|_| bitmap_clusters).chain([upcase_clusters, 1]) {
        owners.push((next, count));
        next = next.plus(count);
    }
    let mut table: Vec<u32> = vec![0xFFFF_FFF8, u32::MAX];
    for (first, count) in &owners {
        let last = first.plus(*count).minus(1);
        table.extend((*first..=last).map(|cluster| if cluster == last { u32::MAX } else { cluster.plus(1) }));
    }
    let bytes: Vec<u8> = table.iter().flat_map(|value| value.to_le_bytes()).collect();
    for copy in 0..wish.tables {
        add(geometry.table_place(copy), bytes.clone());
    }
    let used = next.minus(2).size();
    let mut bits = vec![0_u8; used.per_up(8)];
    for bit in 0..used {
        if let Some(byte) = bits.get_mut(bit.per(8)) {
            *byte |= 1_u8.checked_shl(bit.rest(8).narrow()).unwrap_or(0);
        }
    }
    let mut root = Vec::new();
    let mut label = [0_u8; ENTRY];
    let units: Vec<u16> = wish.label.encode_utf16().take(11).collect();
    put(
        &mut label,
        0,
        &[if units.is_empty() { LABEL & 0x7F } else { LABEL }, u8::try_from(units.len()).unwrap_or(0)],
    );
    put(&mut label, 2, &units.iter().flat_map(|unit| unit.to_le_bytes()).collect::<Vec<_>>());
    root.extend(label);
    for copy in 0..wish.tables {
        let first = owners.get(copy.size()).map_or(2, |(first, _)| *first);
        add(geometry.cluster_place(first), bits.clone());
        root.extend(
            Owner { flags: u8::try_from(copy).unwrap_or(0), checksum: 0, first, length }.entry(BITMAP),
        );
    }
    let upcase_first = owners.get(wish.tables.size()).map_or(3, |(first, _)| *first);
    let owner =
        Owner { flags: 0, checksum: RECOMMENDED_CHECKSUM, first: upcase_first, length: upcase.len().wide() };
    root.extend(owner.entry(UPCASE));
    add(geometry.cluster_place(upcase_first), upcase);
    add(geometry.cluster_place(geometry.root_cluster), root);
    Ok((geometry, pieces))
}
