//! Which geometry to believe.
//!
//! ```text
//! ┌─reserved──────────────┬─table 0─┬─table 1─┬─root (12/16)─┬─data: cluster 2, 3, … ────┐
//! │ boot  FSInfo  backup  │         │         │              │                           │
//! └───────────────────────┴─────────┴─────────┴──────────────┴───────────────────────────┘
//! 0        reserved_sectors       root_offset            data_offset              total_sectors
//! ```
//!
//! A boot sector is a claim, not a fact. `propose` lists claims: the sector as it stands, its
//! backup, either with single fields put right, and geometries computed from what [`evidence`]
//! finds in the volume. [`weigh`] holds each against the volume: do tables begin where it says,
//! does the root look like a folder, do the "." entries name the clusters they stand in, do
//! chains have the lengths that the sizes ask for. Every later stage works on the winner.

pub mod evidence;
mod marks;
mod propose;
mod runs;
mod weigh;

pub use marks::marked;
pub use weigh::{Reason, Score, weigh};

use super::layout::BootSector;
use crate::{
    arith::Sat,
    family::Kind,
    medium::{Extent, Medium, MediumError},
    progress::Watch,
};

/// Clusters at which FAT16 begins (specification, "FAT Type Determination").
pub const FIRST_FAT16: u32 = 4085;
/// Clusters at which FAT32 begins by the published rule.
pub const FIRST_FAT32: u32 = 65525;

/// Where everything lies in a FAT volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Geometry {
    /// The width of the table entries.
    pub kind: Kind,
    /// Bytes in a sector.
    pub sector_bytes: u32,
    /// Sectors in a cluster.
    pub sectors_per_cluster: u32,
    /// Sectors before the first table.
    pub reserved_sectors: u32,
    /// Copies of the table.
    pub tables: u32,
    /// Entries in the root folder; 0 for FAT32.
    pub root_entries: u32,
    /// Sectors in one table.
    pub table_sectors: u32,
    /// Sectors in the volume.
    pub total_sectors: u32,
    /// First cluster of the root; 0 for FAT12 and FAT16.
    pub root_cluster: u32,
}

impl Geometry {
    /// The geometry that a boot sector claims; `None` where its fields cannot be one.
    pub fn claimed_by(boot: &BootSector) -> Option<Self> {
        let small = u32::from(boot.table_sectors_16.get());
        let tail = boot.tail32();
        let wide = small == 0;
        let total16 = u32::from(boot.total_sectors_16.get());
        let mut claim = Self {
            kind: Kind::Fat32,
            sector_bytes: u32::from(boot.bytes_per_sector.get()),
            sectors_per_cluster: u32::from(boot.sectors_per_cluster),
            reserved_sectors: u32::from(boot.reserved_sectors.get()),
            tables: u32::from(boot.tables),
            root_entries: u32::from(boot.root_entries.get()),
            table_sectors: if wide { tail.table_sectors.get() } else { small },
            total_sectors: if total16 == 0 { boot.total_sectors_32.get() } else { total16 },
            root_cluster: if wide { tail.root_cluster.get() } else { 0 },
        };
        if !wide {
            claim.kind = if claim.sectors_for_data().per(claim.sectors_per_cluster) < FIRST_FAT16 {
                Kind::Fat12
            } else {
                Kind::Fat16
            };
        }
        claim.possible().then_some(claim)
    }

    /// True when the fields can stand together at all, whatever the volume holds.
    pub fn possible(&self) -> bool {
        self.sector_bytes.is_power_of_two()
            && (512..=4096).contains(&self.sector_bytes)
            && self.sectors_per_cluster.is_power_of_two()
            && self.sectors_per_cluster <= 128
            && (1..=65535).contains(&self.reserved_sectors)
            && (1..=4).contains(&self.tables)
            && self.table_sectors > 0
            && self.root_entries.times(32).rest(self.sector_bytes) == 0
            && (self.kind == Kind::Fat32) == (self.root_entries == 0)
            && self.clusters() > 0
            && match self.kind {
                Kind::Fat12 => self.raw_clusters() < FIRST_FAT16,
                Kind::Fat16 => (FIRST_FAT16..FIRST_FAT32).contains(&self.raw_clusters()),
                // Sector 0 and an FSInfo sector stand before the tables.
                Kind::Fat32 | Kind::Exfat | Kind::Ntfs => {
                    self.raw_clusters() < 0x0FFF_FFF6
                        && self.has(self.root_cluster)
                        && self.reserved_sectors > 1
                }
            }
    }

    /// True when tables, root folder or clusters of `other` lie elsewhere than here.
    #[inline]
    pub(crate) fn elsewhere(&self, other: &Self) -> bool {
        let places = |g: &Self| {
            (g.sector_bytes, g.reserved_sectors, g.tables, g.root_offset(), g.root_cluster, g.data_offset())
        };
        places(self) != places(other) || self.cluster_bytes() != other.cluster_bytes()
    }

    /// Bits in a table entry.
    pub fn bits(&self) -> u32 {
        match self.kind {
            Kind::Fat12 => 12,
            Kind::Fat16 => 16,
            Kind::Fat32 | Kind::Exfat | Kind::Ntfs => 32,
        }
    }
    /// True for FAT32.
    #[inline]
    pub fn wide(&self) -> bool {
        self.kind == Kind::Fat32
    }
    /// Bytes in a cluster.
    #[inline]
    pub fn cluster_bytes(&self) -> u32 {
        self.sector_bytes.times(self.sectors_per_cluster)
    }
    /// Bytes in one table.
    #[inline]
    pub fn table_bytes(&self) -> u64 {
        self.table_sectors.wide().times(self.sector_bytes.wide())
    }
    /// Where copy `copy` of the table begins, in bytes.
    #[inline]
    pub fn table_offset(&self, copy: u32) -> u64 {
        let sector = self.reserved_sectors.wide().plus(copy.wide().times(self.table_sectors.wide()));
        sector.times(self.sector_bytes.wide())
    }
    /// Where the root folder of FAT12 and FAT16 begins, in bytes.
    #[inline]
    pub fn root_offset(&self) -> u64 {
        self.table_offset(self.tables)
    }
    /// Bytes in the root folder of FAT12 and FAT16.
    #[inline]
    pub fn root_bytes(&self) -> u64 {
        self.root_entries.wide().times(32)
    }
    /// Where cluster 2 begins, in bytes.
    #[inline]
    pub fn data_offset(&self) -> u64 {
        self.root_offset()
            .plus(self.root_bytes().per_up(self.sector_bytes.wide()).times(self.sector_bytes.wide()))
    }
    #[inline]
    fn sectors_for_data(&self) -> u32 {
        self.total_sectors.minus(self.data_offset().per(self.sector_bytes.wide()).narrow())
    }
    /// Clusters by the sectors of the volume alone: what decides between FAT12 and FAT16.
    #[inline]
    pub fn raw_clusters(&self) -> u32 {
        self.sectors_for_data().per(self.sectors_per_cluster)
    }
    /// Clusters that one table has entries for.
    #[inline]
    pub fn table_clusters(&self) -> u32 {
        self.table_bytes().times(8).per(self.bits().wide()).minus(2).narrow()
    }
    /// Clusters in the volume.
    #[inline]
    pub fn clusters(&self) -> u32 {
        self.raw_clusters().min(self.table_clusters())
    }
    /// The number of the last cluster.
    #[inline]
    pub fn last_cluster(&self) -> u32 {
        self.clusters().plus(1)
    }
    /// True for the number of a cluster of this volume.
    #[inline]
    pub fn has(&self, cluster: u32) -> bool {
        cluster >= 2 && cluster <= self.last_cluster()
    }
    /// Where a cluster begins, in bytes.
    #[inline]
    pub fn cluster_offset(&self, cluster: u32) -> u64 {
        self.data_offset().plus(cluster.minus(2).wide().times(self.cluster_bytes().wide()))
    }
    /// Clusters that `size` bytes need.
    #[inline]
    pub fn clusters_for(&self, size: u64) -> u32 {
        size.per_up(self.cluster_bytes().wide()).narrow()
    }
    /// Bytes in the volume.
    #[inline]
    pub fn bytes(&self) -> u64 {
        self.total_sectors.wide().times(self.sector_bytes.wide())
    }
    /// The smallest number of table sectors that covers the clusters of the volume.
    #[inline]
    pub fn table_sectors_needed(&self) -> u32 {
        let bits = self.raw_clusters().wide().plus(2).times(self.bits().wide());
        bits.per_up(8).per_up(self.sector_bytes.wide()).narrow()
    }
    /// What the folder reader must know.
    #[inline]
    pub fn bounds(&self) -> super::folder::Bounds {
        super::folder::Bounds { last_cluster: self.last_cluster(), wide: self.wide() }
    }
}

/// Where a believed geometry comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// The boot sector as it stands.
    Primary,
    /// The backup boot sector at this byte offset.
    Backup(u64),
    /// The boot sector, with this many fields put right from evidence.
    Corrected(u32),
    /// Evidence alone.
    Derived,
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
    /// A backup boot sector that makes sense, with its byte offset.
    pub backup: Option<(u64, BootSector)>,
    /// Other geometries that something speaks for, with other places for tables, root or clusters, best
    /// first.
    pub rivals: Vec<Rival>,
    /// Nothing stands up to the end of the root folder, and nothing in it.
    pub wiped: bool,
}

/// A geometry that was not believed.
#[derive(Debug, Clone)]
pub struct Rival {
    /// The geometry.
    pub geometry: Geometry,
    /// What speaks for and against it.
    pub score: Score,
}

impl Believed {
    /// True where neither a boot sector gives the geometry nor content bears it out.
    #[inline]
    pub fn weak(&self) -> bool {
        matches!(self.origin, Origin::Derived) && !self.content_confirmed()
    }
    /// True when independent anchors agree on a geometry that no boot sector gives: a table that begins where
    /// it should, or several folders, and content that is where it says (folders in the clusters that they
    /// name, files of their kind, chains of their length), and nothing else that comes near it.
    #[inline]
    pub fn confirmed(&self) -> bool {
        self.content_confirmed() && !self.rivals.iter().any(|rival| self.is_near(rival))
    }

    /// The same of where clusters lie alone: another place for the tables puts no content at risk, nor does another root
    /// folder where nothing stands in this one.
    pub fn content_confirmed(&self) -> bool {
        let score = &self.score;
        let anchored = score.tables > 0 || score.folders_agree > 1;
        let root = |g: &Geometry| if self.wiped { (0, 0) } else { (g.root_cluster, g.root_offset()) };
        let clusters = |g: &Geometry| (g.data_offset(), g.cluster_bytes(), root(g));
        let other = |rival: &&Rival| clusters(&rival.geometry) != clusters(&self.geometry);
        let near = self.rivals.iter().filter(other).any(|rival| self.is_near(rival));
        self.origin != Origin::Derived || score.has_content() && anchored && !near
    }

    #[inline]
    fn is_near(&self, rival: &Rival) -> bool {
        rival.score.points.saturating_add(NEAR) >= self.score.points
    }
}

impl Geometry {
    /// The geometry in a few words.
    pub fn in_words(&self) -> String {
        format!(
            "{}, clusters of {} bytes from byte {} on, {} at byte {}",
            self.kind.title(),
            self.cluster_bytes(),
            self.data_offset(),
            crate::report::wording::counted(self.tables.wide(), "table", "tables"),
            self.table_offset(0)
        )
    }
}

/// Points within which another geometry is a rival.
const NEAR: i64 = 10;
/// Points within which another geometry is worth naming.
const RIVAL: i64 = 40;
/// Rivals that are kept.
const RIVALS: usize = 3;

/// Points from which a geometry is taken without searching the volume: a table, its second copy,
/// a root that reads as a folder, and a folder or a chain that agrees.
const CONVINCING: i64 = 58;
/// Points below which nothing speaks for a FAT volume.
const PLAUSIBLE: i64 = 30;
/// Folders in the clusters that they name that bear out a volume of which nothing else is left.
const WITNESSES: u32 = 3;

/// Points by which a derived geometry must be better than a boot sector that finds its tables and
/// its folders.
const SETTLED: i64 = 40;

/// The geometry to believe, or `None` when nothing speaks for a FAT volume here.
pub fn believe(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Believed>, MediumError> {
    let primary = BootSector::read(&medium.lenient(0, 512).bytes);
    if let Some(boot) = &primary {
        // Another file system's own mark: whatever else looks like FAT here is left over.
        if matches!(&boot.oem_name, b"NTFS    " | b"EXFAT   ") && boot.tables == 0 {
            return Ok(None);
        }
    }
    let backups = propose::backups(medium, primary.as_ref());
    let quick = propose::as_claimed(medium, primary.as_ref(), &backups);
    let mut rivals = Vec::new();
    let mut best = pick(medium, quick, None, &mut rivals);
    let enough = |best: &Option<(Geometry, Origin, Score)>| {
        best.as_ref().is_some_and(|(geometry, _, score)| {
            // An empty root is zeros, and zeros stand in many places: then every table has to be there.
            let witnessed = score.tables == geometry.tables || score.root_speaks;
            score.points >= CONVINCING && score.against == 0 && witnessed
        })
    };
    if !enough(&best) && (best.is_some() || medium.len() >= 4096) {
        let evidence = evidence::gather(medium, watch)?;
        let claims = propose::all(medium, primary.as_ref(), &backups, &evidence);
        best = pick(medium, claims, Some(&evidence), &mut rivals);
    }
    if let Some((geometry, Origin::Derived, score)) = &best {
        // Where tables, root and clusters lie decides; what differs in length alone is no rival.
        rivals.retain(|rival: &Rival| {
            rival.geometry.elsewhere(geometry) && rival.score.points.saturating_add(RIVAL) >= score.points
        });
        rivals.sort_by_key(|rival| std::cmp::Reverse(rival.score.points));
        let mut places: Vec<Geometry> = Vec::new();
        rivals.retain(|rival| {
            let new = places.iter().all(|place| place.elsewhere(&rival.geometry));
            places.push(rival.geometry);
            new
        });
        rivals.truncate(RIVALS);
    } else {
        rivals.clear();
    }
    // Of a volume whose beginning was wiped up to its root folders are all that is left. Where something else stands there
    // they may be of an older one.
    let wiped = best.as_ref().is_some_and(|(geometry, origin, score)| {
        let before = Extent::new(0, geometry.data_offset());
        *origin == Origin::Derived && score.folders_agree >= WITNESSES && is_wiped(medium, before)
    });
    // Where no table begins as one should, the root has to speak for the geometry, and folders.
    let believable = |origin: &Origin, score: &Score| {
        // Folders in the clusters that they name bear a boot sector out by themselves, if not one that was put right in
        // some field by one of them alone.
        let (witnesses, alone) = match origin {
            Origin::Primary | Origin::Backup(_) => (0, Some(1)),
            Origin::Corrected(_) => (1, Some(2)),
            Origin::Derived => (2, wiped.then_some(WITNESSES)),
        };
        let spoken_for = score.root_speaks && score.folders_agree >= witnesses
            || alone.is_some_and(|alone| score.folders_agree >= alone);
        // A single table that nothing else bears out can be one of another kind, as can two that differ: compound files
        // have such tables, exFAT has a table and a bitmap, and numbers that count up stand in many.
        let copied = score.tables > 1 && score.twins;
        let single = !copied && !score.has_content() && !score.root_speaks;
        let table = score.tables > 0 && !(single && *origin == Origin::Derived);
        score.points >= PLAUSIBLE && (table || spoken_for)
    };
    Ok(best.filter(|(_, origin, score)| believable(origin, score)).map(|(geometry, origin, score)| {
        let backup = backups.into_iter().find(|(_, boot)| {
            Geometry::claimed_by(boot).is_some_and(|claim| claim.kind == Kind::Fat32 && geometry.wide())
        });
        let root =
            Extent::new(geometry.cluster_offset(geometry.root_cluster), geometry.cluster_bytes().wide());
        let wiped = wiped && (!geometry.wide() || is_wiped(medium, root));
        Believed { geometry, origin, score, primary, backup, rivals, wiped }
    }))
}

/// Nothing but one value, zeros or FF, stands in this place.
fn is_wiped(medium: &dyn Medium, place: Extent) -> bool {
    let ones = |bytes: &[u8]| bytes.iter().all(|byte| *byte == 0xFF);
    let mut pieces = (place.offset..place.end()).step_by(1 << 16);
    medium.is_zero(place)
        || pieces.all(|at| ones(&medium.lenient(at, place.end().minus(at).min(1 << 16).size()).bytes))
}

fn pick(
    medium: &dyn Medium,
    claims: Vec<propose::Claim>,
    evidence: Option<&evidence::Evidence>,
    rivals: &mut Vec<Rival>,
) -> Option<(Geometry, Origin, Score)> {
    let mut best: Option<(i64, Geometry, Origin, Score)> = None;
    let mut settled: Option<Geometry> = None;
    for claim in claims {
        let score = weigh(medium, &claim.geometry, evidence);
        let mut points = score.points.saturating_sub(claim.handicap());
        // A boot sector that finds its tables, and folders in their own clusters, is not overruled
        // for a few points: moving a volume that stands is the worst mistake.
        if claim.origin == Origin::Primary {
            // Folders alone do where nothing contradicts it: they stand at the sum of what it says.
            let stands = score.tables == claim.geometry.tables && score.folders_agree > 0
                || (score.tables > 0 || score.against == 0) && score.folders_agree > 1;
            settled = stands.then_some(claim.geometry);
        } else if settled.is_some_and(|standing| standing.elsewhere(&claim.geometry)) {
            points = points.saturating_sub(SETTLED);
        }
        tracing::trace!(?claim, points, "weighed");
        if score.points >= PLAUSIBLE {
            // The best so far, and what came near it: a long list of claims is not kept.
            let least = best.as_ref().map_or(0, |(top, ..)| top.saturating_sub(RIVAL));
            if score.points >= least {
                rivals.push(Rival { geometry: claim.geometry, score: score.clone() });
            }
            if rivals.len() > 256 {
                rivals.retain(|rival| rival.score.points >= least);
                rivals.sort_by_key(|rival| std::cmp::Reverse(rival.score.points));
                rivals.truncate(64);
            }
        }
        if best.as_ref().is_none_or(|(top, ..)| points > *top) {
            best = Some((points, claim.geometry, claim.origin, score));
        }
    }
    best.map(|(_, geometry, origin, score)| (geometry, origin, score))
}
