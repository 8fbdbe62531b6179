//! Laying down an empty FAT file system.

use super::{
    boot,
    fsinfo::first_entries,
    geometry::{FIRST_FAT16, FIRST_FAT32, Geometry},
    layout::{ATTR_VOLUME_ID, FsInfo, ShortEntry},
    names,
    table::{encode, entry_place},
};
use crate::{arith::Sat, family::Kind, medium::Extent};
use zerocopy::{FromZeros, IntoBytes};

/// What an empty volume shall be.
#[derive(Debug, Clone, Copy)]
pub struct Wish {
    /// The width of the table entries.
    pub kind: Kind,
    /// Bytes in the volume.
    pub bytes: u64,
    /// Bytes in a sector: 512, 1024, 2048 or 4096.
    pub sector_bytes: u32,
    /// Bytes in a cluster: a power of two, at least a sector.
    pub cluster_bytes: u32,
    /// Copies of the table.
    pub tables: u32,
    /// The volume label, padded with spaces.
    pub label: names::Short,
    /// The serial number.
    pub serial: u32,
}

/// Why there is no such volume.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum FreshError {
    /// The number of clusters does not fit the kind.
    #[error("{clusters} clusters make no {}: it has {least} to {most}", kind.title())]
    Clusters {
        /// The kind wished for.
        kind: Kind,
        /// Clusters that it would have.
        clusters: u32,
        /// The fewest that the kind has.
        least: u32,
        /// The most.
        most: u32,
    },
    /// The sizes cannot stand together.
    #[error("sector, cluster and volume size do not fit together")]
    Sizes,
}

/// The geometry of an empty volume. FAT32 with fewer clusters than the published rule asks for is
/// allowed: small cards of that kind exist, and every host mounts them.
pub fn geometry(wish: &Wish) -> Result<Geometry, FreshError> {
    let wide = wish.kind == Kind::Fat32;
    let sectors = wish.bytes.per(wish.sector_bytes.wide()).narrow();
    let mut geometry = Geometry {
        kind: wish.kind,
        sector_bytes: wish.sector_bytes,
        sectors_per_cluster: wish.cluster_bytes.per(wish.sector_bytes),
        reserved_sectors: if wide { 32 } else { 1 },
        tables: wish.tables,
        root_entries: match (wide, wish.bytes) {
            (true, _) => 0,
            (false, ..4_000_000) => {
                224_u32.per_up(wish.sector_bytes.per(32)).times(wish.sector_bytes.per(32))
            }
            (false, _) => 512,
        },
        table_sectors: 1,
        total_sectors: sectors,
        root_cluster: if wide { 2 } else { 0 },
    };
    // The table covers the clusters, which are what the table leaves: the smallest that does. Each turn
    // gives one that is large enough, or grows; then it shrinks as long as it stays so.
    for _ in 0..8 {
        geometry.table_sectors = geometry.table_sectors.max(geometry.table_sectors_needed());
    }
    loop {
        let smaller = Geometry { table_sectors: geometry.table_sectors.minus(1), ..geometry };
        if smaller.table_sectors == 0 || smaller.table_sectors_needed() > smaller.table_sectors {
            break;
        }
        geometry = smaller;
    }
    let clusters = geometry.raw_clusters();
    let (least, most) = match wish.kind {
        Kind::Fat12 => (1, FIRST_FAT16.minus(1)),
        Kind::Fat16 => (FIRST_FAT16, FIRST_FAT32.minus(1)),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => (16, 0x0FFF_FFF4),
    };
    if !(least..=most).contains(&clusters) {
        return Err(FreshError::Clusters { kind: wish.kind, clusters, least, most });
    }
    if geometry.possible() { Ok(geometry) } else { Err(FreshError::Sizes) }
}

/// Places of a volume and what stands there.
pub type Pieces = Vec<(Extent, Vec<u8>)>;

/// The bytes of an empty volume: places and what stands there, everything else zero.
pub fn lay_down(wish: &Wish) -> Result<(Geometry, Pieces), FreshError> {
    lay_down_behind(0, wish)
}

/// The same with so many sectors in front of the volume (FAT 1.03, `BPB_HiddSec`).
pub fn lay_down_behind(before: u64, wish: &Wish) -> Result<(Geometry, Pieces), FreshError> {
    let geometry = geometry(wish)?;
    let mut boot = boot::fresh(&geometry, 0xF8, wish.serial, &wish.label);
    boot.hidden_sectors.set(before.narrow());
    let mut pieces: Vec<(u64, Vec<u8>)> = vec![(0, boot.as_bytes().to_vec())];
    let sector = geometry.sector_bytes.wide();
    if geometry.wide() {
        let info = FsInfo::with_counts(geometry.clusters().minus(1), 3);
        for base in [0, 6] {
            pieces.push((sector.times(base), boot.as_bytes().to_vec()));
            pieces.push((sector.times(base.plus(1)), info.as_bytes().to_vec()));
        }
    }
    let (media, end) = first_entries(&geometry, 0xF8);
    let mut start = vec![0; 16];
    let entries = [(0, media), (1, end)].into_iter().chain(geometry.wide().then_some((2, end)));
    for (cluster, value) in entries {
        let (at, _) = entry_place(geometry.kind, cluster);
        if let Some(place) = start.get_mut(at.size()..) {
            encode(geometry.kind, cluster, value, place);
        }
    }
    for copy in 0..geometry.tables {
        pieces.push((geometry.table_offset(copy), start.clone()));
    }
    if wish.label != *b"NO NAME    " {
        let mut entry = ShortEntry::new_zeroed();
        entry.name = wish.label;
        entry.attributes = ATTR_VOLUME_ID;
        let root = if geometry.wide() { geometry.cluster_offset(2) } else { geometry.root_offset() };
        pieces.push((root, entry.as_bytes().to_vec()));
    }
    let placed = pieces.into_iter().map(|(at, bytes)| (Extent::new(at, bytes.len().wide()), bytes)).collect();
    Ok((geometry, placed))
}
