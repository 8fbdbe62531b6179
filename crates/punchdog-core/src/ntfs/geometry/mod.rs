//! Where everything lies: [`evidence`] has what the volume's own records say, `believe` holds that against the boot
//! sector and its copy, `search` looks for both wherever they are.

pub mod anchors;
mod believe;
mod by_files;
pub mod evidence;
mod length;
mod search;

pub(crate) use search::search;

pub use believe::{Believed, Length, Source, believe, glance};

use super::layout::BootSector;
use crate::arith::Sat;

/// The sizes and places that everything else hangs on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Geometry {
    /// Bytes of a sector, as a power of two.
    pub sector_shift: u8,
    /// Bytes of a cluster, as a power of two.
    pub cluster_shift: u8,
    /// Sectors, without the copy of the boot sector.
    pub sectors: u64,
    /// First cluster of $MFT.
    pub mft: u64,
    /// First cluster of $MFTMirr.
    pub mirror: u64,
    /// Bytes of a record, as a power of two.
    pub record_shift: u8,
    /// Bytes of an index block, as a power of two.
    pub index_shift: u8,
}

#[inline]
fn power(shift: u8) -> u64 {
    1_u64.checked_shl(u32::from(shift)).unwrap_or(0)
}

/// The power of two that a boot sector's signed size stands for: clusters, or where negative its amount.
pub fn sized(code: i8, cluster_shift: u8) -> Option<u8> {
    if code < 0 {
        return Some(code.unsigned_abs()).filter(|shift| (9..=12).contains(shift));
    }
    let clusters = u64::try_from(code).ok().filter(|count| count.is_power_of_two())?;
    let shift = u8::try_from(clusters.trailing_zeros()).ok()?.checked_add(cluster_shift)?;
    Some(shift).filter(|shift| (9..=12).contains(shift))
}

/// How a boot sector writes a size of 2 to the power of `shift`.
#[inline]
pub fn size_code(shift: u8, cluster_shift: u8) -> i8 {
    match shift.checked_sub(cluster_shift) {
        Some(more) => i8::try_from(power(more)).unwrap_or(1),
        None => i8::try_from(shift).unwrap_or(10).saturating_neg(),
    }
}

/// How a boot sector writes a cluster of so many sectors.
#[inline]
pub fn cluster_code(shift: u8) -> u8 {
    if shift <= 7 { u8::try_from(power(shift)).unwrap_or(1) } else { 0_u8.wrapping_sub(shift) }
}

/// Sectors of a cluster, as a power of two, by the boot sector's byte.
pub fn cluster_sectors(code: u8) -> Option<u8> {
    match code {
        0xF4..=0xFF => Some(0_u8.wrapping_sub(code)),
        1..=0x80 if code.is_power_of_two() => u8::try_from(code.trailing_zeros()).ok(),
        _ => None,
    }
}

impl Geometry {
    /// What a boot sector says, where that can be.
    pub fn claimed_by(boot: &BootSector) -> Option<Self> {
        let sector = boot.bytes_per_sector.get();
        if !boot.named() || !sector.is_power_of_two() || !(512..=4096).contains(&sector) {
            return None;
        }
        let sector_shift = u8::try_from(sector.trailing_zeros()).ok()?;
        let cluster_shift = cluster_sectors(boot.sectors_per_cluster)?.checked_add(sector_shift)?;
        let found = Self {
            sector_shift,
            cluster_shift,
            sectors: boot.total_sectors.get(),
            mft: boot.mft.get(),
            mirror: boot.mirror.get(),
            record_shift: sized(boot.record_size, cluster_shift)?,
            index_shift: sized(boot.index_size, cluster_shift)?,
        };
        found.possible().then_some(found)
    }
    /// It can be a volume's.
    pub fn possible(&self) -> bool {
        (9..=21).contains(&self.cluster_shift)
            && self.sectors < 1 << 50
            && self.clusters() > 0
            && u32::try_from(self.clusters()).is_ok()
            && self.mft > 0
            && self.mft < self.clusters()
            && self.mirror < self.clusters()
    }
    /// Bytes of a sector.
    #[inline]
    pub fn sector(&self) -> u64 {
        power(self.sector_shift)
    }
    /// Bytes of a cluster.
    #[inline]
    pub fn cluster(&self) -> u64 {
        power(self.cluster_shift)
    }
    /// Bytes of a record.
    #[inline]
    pub fn record(&self) -> usize {
        power(self.record_shift).size()
    }
    /// Bytes of an index block.
    #[inline]
    pub fn index(&self) -> usize {
        power(self.index_shift).size()
    }
    /// Bytes that the boot sector counts.
    #[inline]
    pub fn counted(&self) -> u64 {
        self.sectors.times(self.sector())
    }
    /// Bytes of the volume with the copy of its boot sector.
    #[inline]
    pub fn bytes(&self) -> u64 {
        self.counted().plus(self.sector())
    }
    /// Whole clusters.
    #[inline]
    pub fn clusters(&self) -> u64 {
        self.counted().checked_shr(u32::from(self.cluster_shift)).unwrap_or(0)
    }
    /// Where a cluster stands.
    #[inline]
    pub fn place(&self, cluster: u64) -> u64 {
        cluster.times(self.cluster())
    }
    /// Clusters that so many bytes need.
    #[inline]
    pub fn clusters_for(&self, bytes: u64) -> u64 {
        bytes.per_up(self.cluster())
    }
    /// What the number of an index block of `block` bytes is counted in.
    #[inline]
    pub fn index_step(&self, block: u64) -> u64 {
        if block >= self.cluster() { block.per(self.cluster()) } else { block.per(512) }
    }
    /// Copies that $MFTMirr has: the first four records, or as many as a cluster holds.
    #[inline]
    pub fn mirrored(&self) -> u64 {
        self.cluster().per(self.record().wide()).max(4)
    }
}
