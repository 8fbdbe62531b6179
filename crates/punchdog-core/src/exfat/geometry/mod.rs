//! Where everything lies on an exFAT volume, and which of several answers to believe.
//!
//! The main boot sector, its backup, single fields put right, and what the volume itself tells
//! (`evidence`) are all candidates; `weigh` holds each against the table's first entries, the
//! root folder's bitmap and up-case entries, what stands where they point, and the folders below.

mod evidence;
mod marks;
mod weigh;

use super::layout::{BootSector, EXTENDED_SIGNATURE, REGION_SECTORS, boot_checksum, put};
use crate::{
    arith::{Peek, Sat},
    medium::{Lenient, Medium, MediumError},
    progress::Watch,
};
pub use marks::marked;
pub use weigh::Score;
pub(crate) use weigh::{begins_as_upcase, table_begins};

/// Places and sizes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Geometry {
    /// Bytes per sector: 2 to the power of this.
    pub sector_shift: u8,
    /// Sectors per cluster: 2 to the power of this.
    pub cluster_shift: u8,
    /// Sectors before the first table.
    pub table_offset: u32,
    /// Sectors of one table.
    pub table_sectors: u32,
    /// Tables.
    pub tables: u32,
    /// Sectors before cluster 2.
    pub heap_offset: u32,
    /// Clusters.
    pub clusters: u32,
    /// First cluster of the root folder.
    pub root_cluster: u32,
    /// Sectors of the volume.
    pub sectors: u64,
}

impl Geometry {
    /// What a boot sector claims.
    pub fn claimed_by(boot: &BootSector) -> Self {
        Self {
            sector_shift: boot.sector_shift,
            cluster_shift: boot.cluster_shift,
            table_offset: boot.fat_offset.get(),
            table_sectors: boot.fat_length.get(),
            tables: u32::from(boot.tables),
            heap_offset: boot.heap_offset.get(),
            clusters: boot.cluster_count.get(),
            root_cluster: boot.root_cluster.get(),
            sectors: boot.volume_length.get(),
        }
    }

    /// True when the values can stand together (section 3.1, the valid ranges).
    pub fn possible(&self) -> bool {
        (9..=12).contains(&self.sector_shift)
            && self.cluster_shift <= 25_u8.saturating_sub(self.sector_shift)
            && (1..=2).contains(&self.tables)
            && self.table_offset.wide() >= REGION_SECTORS.times(2)
            && self.heap_offset.wide()
                >= self.table_offset.wide().plus(self.tables.wide().times(self.table_sectors.wide()))
            && self.clusters >= 1
            && self.clusters <= 0xFFFF_FFF5
            && self.table_bytes() >= self.clusters.wide().plus(2).times(4)
            && self.has(self.root_cluster)
    }

    /// Bytes of a sector.
    #[inline]
    pub fn sector_bytes(&self) -> u64 {
        1_u64.checked_shl(self.sector_shift.into()).unwrap_or(0)
    }
    /// Bytes of a cluster.
    #[inline]
    pub fn cluster_bytes(&self) -> u64 {
        self.sector_bytes().checked_shl(self.cluster_shift.into()).unwrap_or(0)
    }
    /// Where table `copy` begins: bytes from the start of the volume.
    #[inline]
    pub fn table_place(&self, copy: u32) -> u64 {
        let sectors = self.table_offset.wide().plus(copy.wide().times(self.table_sectors.wide()));
        sectors.times(self.sector_bytes())
    }
    /// Bytes of one table.
    #[inline]
    pub fn table_bytes(&self) -> u64 {
        self.table_sectors.wide().times(self.sector_bytes())
    }
    /// Where cluster 2 begins.
    #[inline]
    pub fn heap_place(&self) -> u64 {
        self.heap_offset.wide().times(self.sector_bytes())
    }
    /// Where a cluster begins.
    #[inline]
    pub fn cluster_place(&self, cluster: u32) -> u64 {
        self.heap_place().plus(cluster.minus(2).wide().times(self.cluster_bytes()))
    }
    /// The last cluster.
    #[inline]
    pub fn last_cluster(&self) -> u32 {
        self.clusters.plus(1)
    }
    /// True for a cluster of the volume.
    #[inline]
    pub fn has(&self, cluster: u32) -> bool {
        cluster >= 2 && cluster <= self.last_cluster()
    }
    /// Clusters that so many bytes take.
    #[inline]
    pub fn clusters_for(&self, bytes: u64) -> u64 {
        bytes.per_up(self.cluster_bytes().max(1))
    }
    /// Bytes that the bitmap has to have (section 7.1.5).
    #[inline]
    pub fn bitmap_bytes(&self) -> u64 {
        self.clusters.wide().per_up(8)
    }
    /// Bytes from the start to the end of the last cluster.
    #[inline]
    pub fn heap_end(&self) -> u64 {
        self.heap_place().plus(self.clusters.wide().times(self.cluster_bytes()))
    }
    /// Bytes of the volume: as its length says, and no less than what its clusters take.
    #[inline]
    pub fn bytes(&self) -> u64 {
        self.sectors.times(self.sector_bytes()).max(self.heap_end())
    }
    /// Bytes of a boot region.
    #[inline]
    pub fn region_bytes(&self) -> u64 {
        self.sector_bytes().times(REGION_SECTORS)
    }

    #[inline]
    fn elsewhere(&self, other: &Self) -> bool {
        let places =
            |g: &Self| (g.table_place(0), g.heap_place(), g.cluster_bytes(), g.cluster_place(g.root_cluster));
        places(self) != places(other)
    }
}

/// Where a believed geometry comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// The main boot sector as it stands.
    Primary,
    /// The backup boot sector at this byte offset.
    Backup(u64),
    /// The main boot sector, with this many fields put right.
    Corrected(u32),
    /// Evidence alone.
    Derived,
}

impl Origin {
    fn handicap(self) -> i64 {
        match self {
            Self::Primary => 0,
            Self::Backup(_) => 1,
            Self::Corrected(fields) => i64::from(fields).saturating_mul(2).saturating_add(1),
            Self::Derived => 9,
        }
    }
}

/// A geometry with what speaks for it.
#[derive(Debug, Clone)]
pub struct Believed {
    /// The geometry.
    pub geometry: Geometry,
    /// Where it comes from.
    pub origin: Origin,
    /// What speaks for and against it.
    pub score: Score,
    /// Sector 0 as it stands, if it could be read.
    pub primary: Option<BootSector>,
    /// A backup that has the mark of an exFAT boot sector, with its byte offset.
    pub backup: Option<(u64, BootSector)>,
}

/// Points from which a geometry is taken without searching the volume.
const CONVINCING: i64 = 90;
/// Points below which nothing speaks for an exFAT volume.
const PLAUSIBLE: i64 = 45;
/// The same where sector 0 names exFAT, and a table begins where the geometry has it.
const NAMED: i64 = 0;
/// The same for a geometry whose boot region has its checksum: whatever else is damaged, such a
/// region stands on nothing but an exFAT volume.
const VOUCHED: i64 = -60;
/// Points by which another geometry must be better than a boot sector that finds its table, its
/// root folder and what the root names.
const SETTLED: i64 = 40;

/// The geometry to believe, or `None` when nothing speaks for an exFAT volume here.
pub fn believe(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Believed>, MediumError> {
    let primary = BootSector::read(&medium.lenient(0, 512).bytes);
    let backup = [9_u32, 10, 11, 12].into_iter().find_map(|shift| {
        let place = REGION_SECTORS.checked_shl(shift)?;
        let sector = BootSector::read(&medium.lenient(place, 512).bytes)?;
        (sector.named() && u32::from(sector.sector_shift) == shift).then_some((place, sector))
    });
    let named = primary.as_ref().is_some_and(BootSector::named);
    let mut claims: Vec<(Geometry, Origin)> = Vec::new();
    claims.extend(primary.iter().map(|boot| (Geometry::claimed_by(boot), Origin::Primary)));
    claims.extend(backup.iter().map(|(at, boot)| (Geometry::claimed_by(boot), Origin::Backup(*at))));
    let mut best = pick(medium, &claims, named);
    let enough = best.as_ref().is_some_and(|(_, _, score)| score.points >= CONVINCING && score.against == 0);
    // Without any mark of exFAT the table has to begin as one does, or nothing is searched.
    if !enough && (named || backup.is_some() || !is_other(medium) && evidence::table_near(medium)) {
        let seen = evidence::gather(medium, watch)?;
        let bases: Vec<Geometry> = claims.iter().map(|(geometry, _)| *geometry).collect();
        for base in &bases {
            claims.extend(
                evidence::corrected(medium, *base, &seen).into_iter().map(|g| (g, Origin::Corrected(1))),
            );
        }
        claims.extend(evidence::derived(medium, &seen).into_iter().map(|g| (g, Origin::Derived)));
        best = pick(medium, &claims, named);
    }
    Ok(best.map(|(geometry, origin, score)| {
        let (geometry, origin) = with_length(medium, geometry, origin, backup.as_ref());
        Believed { geometry, origin, score, primary, backup }
    }))
}
/// True when sector 0 has the fields of a FAT or NTFS boot sector where exFAT has zeros: then no
/// exFAT volume is searched for behind it.
fn is_other(medium: &dyn Medium) -> bool {
    let sector = medium.lenient(0, 512).bytes;
    let bytes = sector.le16(11);
    bytes.is_power_of_two()
        && (512..=4096).contains(&bytes)
        && sector.byte(13).is_power_of_two()
        && ((1..=2).contains(&sector.byte(16)) && sector.byte(21) >= 0xF0 || sector.part(3, 4) == b"NTFS")
}

/// A volume that ends before its clusters do has the length that the backup gives, or the image.
fn with_length(
    medium: &dyn Medium,
    geometry: Geometry,
    origin: Origin,
    backup: Option<&(u64, BootSector)>,
) -> (Geometry, Origin) {
    let end = geometry.heap_end();
    if geometry.sectors.times(geometry.sector_bytes()) >= end {
        return (geometry, origin);
    }
    let fits = |sectors: &u64| {
        let bytes = sectors.times(geometry.sector_bytes());
        bytes >= end && bytes.minus(end) < geometry.cluster_bytes()
    };
    let tries =
        [backup.map_or(0, |(_, boot)| boot.volume_length.get()), medium.len().per(geometry.sector_bytes())];
    let sectors = tries.into_iter().find(fits).unwrap_or(end.per_up(geometry.sector_bytes()));
    (Geometry { sectors, ..geometry }, Origin::Corrected(1))
}

/// True when the boot region at `place` has its checksum.
pub(crate) fn summed(medium: &dyn Medium, geometry: &Geometry, place: u64) -> bool {
    if !(9..=12).contains(&geometry.sector_shift) {
        return false;
    }
    let whole = geometry.region_bytes();
    let Lenient { mut bytes, missing } = medium.lenient(place, whole.size());
    // What cannot be read stands in the other region.
    let other = if place == 0 { whole } else { 0 };
    for gap in missing {
        let at = gap.offset.minus(place);
        let twin = medium.lenient(other.plus(at), gap.length.size());
        put(&mut bytes, at.size(), &twin.bytes);
        // Where neither can be read stands what is usual in extended boot sectors; the checksum says whether it does.
        for number in (1..=8_u64).filter(|_| !twin.missing.is_empty()) {
            let end = number.plus(1).times(geometry.sector_bytes());
            if gap.end().minus(place) >= end && at < end {
                put(&mut bytes, end.minus(4).size(), &EXTENDED_SIGNATURE.to_le_bytes());
            }
        }
    }
    let size = geometry.sector_bytes().size();
    let sum = boot_checksum(&bytes, size);
    bytes.part(size.times(11), size).chunks_exact(4).all(|value| value.le32(0) == sum)
}

fn pick(
    medium: &dyn Medium,
    claims: &[(Geometry, Origin)],
    named: bool,
) -> Option<(Geometry, Origin, Score)> {
    let mut best: Option<(i64, Geometry, Origin, Score)> = None;
    let mut settled: Option<Geometry> = None;
    // The geometry of the main region, if it has its checksum; and that the backup agrees.
    let (mut primary, mut attested) = (None, false);
    let known = weigh::Known::of(medium);
    let mut seen: Vec<Geometry> = Vec::new();
    for (geometry, origin) in claims {
        // A backup that says the same may have the checksum that the main region lacks.
        if seen.contains(geometry) && !matches!(origin, Origin::Backup(_)) {
            continue;
        }
        seen.push(*geometry);
        let mut score = weigh::weigh(&known, geometry);
        let region = match origin {
            Origin::Primary => Some(0),
            Origin::Backup(place) => Some(*place),
            Origin::Corrected(_) | Origin::Derived => None,
        };
        if region.is_some_and(|place| summed(medium, geometry, place)) {
            score.vouch(15, "its boot region has its checksum");
            attested = attested || *origin != Origin::Primary && primary == Some(*geometry);
            if *origin == Origin::Primary {
                primary = Some(*geometry);
            }
        } else if attested && region.is_none() && !score.root_speaks {
            // Two regions with their checksums say the same; a guess that finds no root is no rival.
            continue;
        }
        let mut points = score.points.saturating_sub(origin.handicap());
        if *origin == Origin::Primary {
            // Its checksum is nothing that chance gives: then it takes more than what cannot be seen of table and root.
            let stands = if score.vouched {
                !score.denied
            } else {
                score.table && score.root_speaks && score.against == 0
            };
            settled = stands.then_some(*geometry);
        } else if settled.is_some_and(|standing| standing.elsewhere(geometry)) {
            points = points.saturating_sub(SETTLED);
        }
        tracing::trace!(?geometry, ?origin, points, "weighed");
        // A boot region with its checksum speaks for itself, even where the root is gone.
        let least = match (score.vouched, named && score.table) {
            (true, _) => VOUCHED,
            (false, true) => NAMED,
            (false, false) => PLAUSIBLE,
        };
        let believable =
            score.points >= least && (score.table || named || score.root_speaks || score.vouched);
        if believable && best.as_ref().is_none_or(|(top, ..)| points > *top) {
            best = Some((points, *geometry, *origin, score));
        }
    }
    best.map(|(_, geometry, origin, score)| (geometry, origin, score))
}
