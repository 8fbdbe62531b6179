//! Every geometry that is worth weighing.

use super::{FIRST_FAT16, FIRST_FAT32, Geometry, Origin, evidence::Evidence};
use crate::{arith::Sat, family::Kind, fat::layout::BootSector, medium::Medium};
use std::collections::HashSet;

/// A geometry to weigh, and where it comes from.
#[derive(Debug, Clone, Copy)]
pub(super) struct Claim {
    pub(super) geometry: Geometry,
    pub(super) origin: Origin,
}

impl Claim {
    /// Points taken off so that, of two equally good claims, the one that changes least wins.
    pub(super) fn handicap(self) -> i64 {
        match self.origin {
            Origin::Primary => 0,
            Origin::Backup(_) => 1,
            Origin::Corrected(fields) => i64::from(fields).saturating_mul(2).saturating_add(1),
            Origin::Derived => 9,
        }
    }
}

/// Backup boot sectors that make sense: where the boot sector says, and at the usual sector 6
/// (specification, "BPB_BkBootSec") for each sector size.
pub(super) fn backups(medium: &dyn Medium, primary: Option<&BootSector>) -> Vec<(u64, BootSector)> {
    let mut places: Vec<u64> = Vec::new();
    if let Some(boot) = primary {
        let size = u64::from(boot.bytes_per_sector.get());
        places.push(u64::from(boot.tail32().backup_sector.get()).times(size));
    }
    places.extend([512, 1024, 2048, 4096].map(|size: u64| size.times(6)));
    let mut found = Vec::new();
    for place in places {
        if place == 0 || found.iter().any(|(at, _)| *at == place) {
            continue;
        }
        if let Some(boot) = BootSector::read(&medium.lenient(place, 512).bytes)
            && boot.signature == [0x55, 0xAA]
            && let Some(claim) = Geometry::claimed_by(&boot)
            && claim.wide()
            && u64::from(boot.tail32().backup_sector.get()).times(claim.sector_bytes.wide()) == place
        {
            found.push((place, boot));
        }
    }
    found
}

/// The boot sector as it stands, and its backups.
pub(super) fn as_claimed(
    medium: &dyn Medium,
    primary: Option<&BootSector>,
    backups: &[(u64, BootSector)],
) -> Vec<Claim> {
    let mut claims = Vec::new();
    if let Some(geometry) = primary.and_then(Geometry::claimed_by) {
        claims.push(Claim { geometry, origin: Origin::Primary });
    }
    for (place, boot) in backups {
        if let Some(geometry) = Geometry::claimed_by(boot) {
            claims.push(Claim { geometry, origin: Origin::Backup(*place) });
        }
    }
    claims.extend(primary.and_then(|boot| lengthened(medium, boot)));
    claims
}

/// A boot sector whose table is far too long for its number of sectors, but just right for the
/// length of the image: the number is wrong.
fn lengthened(medium: &dyn Medium, boot: &BootSector) -> Option<Claim> {
    let short = Geometry::claimed_by(boot)?;
    let mut longer = *boot;
    longer.total_sectors_16 = 0.into();
    longer.total_sectors_32 = medium.len().per(short.sector_bytes.wide()).narrow().into();
    let geometry = Geometry::claimed_by(&longer)?;
    let has = short.table_sectors;
    let fits =
        geometry.table_sectors_needed() == has && short.table_sectors_needed().times(4) <= has.times(3);
    fits.then_some(Claim { geometry, origin: Origin::Corrected(1) })
}

/// The values that each field may have, by evidence and by custom.
struct Palette {
    sector: Vec<u32>,
    cluster: Vec<u32>,
    reserved: Vec<u32>,
    tables: Vec<u32>,
    root_entries: Vec<u32>,
    table_sectors: Vec<u32>,
    total: Vec<u32>,
    root: Vec<u32>,
    kinds: Vec<Kind>,
}

/// Root folder sizes in use: 512 for disks, the others for diskettes and small cards.
const ROOT_ENTRIES: [u32; 8] = [512, 224, 112, 256, 240, 64, 128, 1024];

impl Palette {
    fn new(medium: &dyn Medium, sector: u32, evidence: &Evidence) -> Self {
        let starts: Vec<u64> = evidence.tables.iter().map(|table| table.offset).collect();
        let in_sectors =
            |bytes: u64| (bytes.rest(sector.wide()) == 0).then(|| bytes.per(sector.wide()).narrow());
        let mut reserved: Vec<u32> = starts.iter().filter_map(|at| in_sectors(*at)).collect();
        reserved.extend([1, 32, 8, 6, 2, 4]);
        let gaps = evidence.tables.iter().filter_map(|table| table.again_after);
        let table_sectors: Vec<u32> = gaps.filter_map(in_sectors).collect();
        let wide = evidence.tables.iter().any(|table| table.wide);
        let mut root: Vec<u32> = vec![2];
        root.extend(evidence.dots.iter().map(|dots| dots.parent).filter(|parent| *parent > 1).take(4));
        Self {
            sector: vec![512, 1024, 2048, 4096],
            cluster: vec![1, 2, 4, 8, 16, 32, 64, 128],
            reserved,
            tables: vec![2, 1],
            root_entries: ROOT_ENTRIES.to_vec(),
            table_sectors,
            total: vec![medium.len().per(sector.wide()).narrow()],
            root,
            kinds: if wide {
                vec![Kind::Fat32, Kind::Fat16, Kind::Fat12]
            } else {
                vec![Kind::Fat16, Kind::Fat12]
            },
        }
    }
}

/// Collects claims without saying the same twice.
struct Claims {
    list: Vec<Claim>,
    seen: HashSet<Geometry>,
}

impl Claims {
    fn add(&mut self, geometry: Geometry, origin: Origin) {
        if geometry.possible() && self.seen.insert(geometry) {
            self.list.push(Claim { geometry, origin });
        }
    }
}

/// Everything worth weighing: as claimed, each claim with one or two fields put right, and what
/// the evidence alone gives.
pub(super) fn all(
    medium: &dyn Medium,
    primary: Option<&BootSector>,
    backups: &[(u64, BootSector)],
    evidence: &Evidence,
) -> Vec<Claim> {
    let mut claims = Claims { list: Vec::new(), seen: HashSet::new() };
    for claim in as_claimed(medium, primary, backups) {
        claims.add(claim.geometry, claim.origin);
    }
    if let Some(boot) =
        primary.filter(|boot| boot.bytes_per_sector.get() != 0 || boot.reserved_sectors.get() != 0)
    {
        for start in loosely_claimed(boot) {
            corrected(medium, start, evidence, &mut claims);
        }
    }
    derived(medium, evidence, &mut claims);
    claims.list
}

/// The claims of a sector whose fields may be impossible: read both ways round.
fn loosely_claimed(boot: &BootSector) -> Vec<Geometry> {
    let tail = boot.tail32();
    let total16 = u32::from(boot.total_sectors_16.get());
    let base = Geometry {
        kind: Kind::Fat16,
        sector_bytes: u32::from(boot.bytes_per_sector.get()),
        sectors_per_cluster: u32::from(boot.sectors_per_cluster),
        reserved_sectors: u32::from(boot.reserved_sectors.get()),
        tables: u32::from(boot.tables),
        root_entries: u32::from(boot.root_entries.get()),
        table_sectors: u32::from(boot.table_sectors_16.get()),
        total_sectors: if total16 == 0 { boot.total_sectors_32.get() } else { total16 },
        root_cluster: 0,
    };
    let wide = Geometry {
        kind: Kind::Fat32,
        root_entries: 0,
        table_sectors: tail.table_sectors.get(),
        root_cluster: tail.root_cluster.get(),
        ..base
    };
    let wide_other_total = Geometry { total_sectors: boot.total_sectors_32.get(), ..wide };
    vec![base, Geometry { kind: Kind::Fat12, ..base }, wide, wide_other_total]
}

type Edit = fn(&mut Geometry, u32);

fn edits(palette: &Palette, start: Geometry) -> Vec<(Edit, Vec<u32>)> {
    let mut edits: Vec<(Edit, Vec<u32>)> = vec![
        (|g, v| g.sector_bytes = v, palette.sector.clone()),
        (|g, v| g.sectors_per_cluster = v, palette.cluster.clone()),
        (|g, v| g.reserved_sectors = v, palette.reserved.clone()),
        (|g, v| g.tables = v, palette.tables.clone()),
        (|g, v| g.total_sectors = v, palette.total.clone()),
    ];
    let mut lengths = palette.table_sectors.clone();
    let needed = Geometry { table_sectors: u32::MAX, ..start }.table_sectors_needed();
    lengths.push(Geometry { table_sectors: 1, ..start }.table_sectors_needed().max(1));
    if needed > 0 && needed < u32::MAX {
        lengths.push(needed);
    }
    edits.push((|g, v| g.table_sectors = v, lengths));
    if start.wide() {
        edits.push((|g, v| g.root_cluster = v, palette.root.clone()));
    } else {
        edits.push((|g, v| g.root_entries = v, palette.root_entries.clone()));
    }
    edits
}

fn corrected(medium: &dyn Medium, start: Geometry, evidence: &Evidence, claims: &mut Claims) {
    let sector = if start.sector_bytes.is_power_of_two() { start.sector_bytes.clamp(512, 4096) } else { 512 };
    let palette = Palette::new(medium, sector, evidence);
    claims.add(start, Origin::Corrected(0));
    let edits = edits(&palette, start);
    for (index, (edit, values)) in edits.iter().enumerate() {
        for value in values {
            let mut once = start;
            edit(&mut once, *value);
            claims.add(once, Origin::Corrected(1));
            for (other, more) in edits.iter().skip(index.plus(1)) {
                for value in more {
                    let mut twice = once;
                    other(&mut twice, *value);
                    claims.add(twice, Origin::Corrected(2));
                }
            }
        }
    }
}

/// Geometries from evidence alone.
fn derived(medium: &dyn Medium, evidence: &Evidence, claims: &mut Claims) {
    // With 512-byte sectors every layout can be written down; larger ones are preferred only
    // where FSInfo, in sector 1, says so.
    let sector = match evidence.fsinfo {
        Some(at @ (1024 | 2048 | 4096)) => at.narrow(),
        _ => 512,
    };
    let palette = Palette::new(medium, sector, evidence);
    let grids: Vec<(u64, u64)> = evidence.grids.iter().map(|(size, data, _)| (*size, *data)).collect();
    for grid in grids.iter().take(2) {
        without_tables(&palette, sector, *grid, claims);
    }
    for kind in &palette.kinds {
        for tables in &palette.tables {
            for start in evidence.tables.iter().take(8) {
                if grids.is_empty() {
                    without_folders(
                        &palette,
                        *kind,
                        *tables,
                        sector,
                        (start.offset, start.again_after),
                        claims,
                    );
                }
                for (size, data) in &grids {
                    with_grid(&palette, *kind, *tables, sector, (start.offset, *size, *data), claims);
                }
            }
        }
    }
}

/// Sectors that volumes reserve before their tables, by custom.
pub(super) const RESERVED: [u32; 11] = [32, 1, 34, 36, 38, 64, 2, 4, 6, 8, 16];
/// Sectors that a table may be longer than it needs to be.
const SPARE: u32 = 8;

/// No table shows where it begins: the folders tell where cluster 2 is, and the tables have to lie
/// before it. As they will be written anew, any place that has room for them will do; where two
/// copies are still alike, weighing finds it out.
fn without_tables(palette: &Palette, sector: u32, (size, data): (u64, u64), claims: &mut Claims) {
    let before = data.per(sector.wide()).narrow();
    if data.rest(sector.wide()) != 0 || size < sector.wide() {
        return;
    }
    for kind in [Kind::Fat32, Kind::Fat16, Kind::Fat12] {
        for tables in &palette.tables {
            let start = Geometry {
                sectors_per_cluster: size.per(sector.wide()).narrow(),
                ..base(kind, *tables, sector, palette)
            };
            let roots: &[u32] = if kind == Kind::Fat32 { &[0] } else { &palette.root_entries };
            for root_entries in roots {
                let root = root_entries.times(32).per_up(sector);
                let clusters = start.total_sectors.minus(before).per(start.sectors_per_cluster);
                let bits = clusters.wide().plus(2).times(start.bits().wide());
                let needed = bits.per_up(8).per_up(sector.wide()).narrow();
                let exact = before.minus(root).minus(needed.times(*tables));
                for reserved_sectors in RESERVED.into_iter().chain([exact]) {
                    let room = before.minus(root).minus(reserved_sectors);
                    let length = room.per(*tables);
                    let fits = length >= needed && length.minus(needed) <= SPARE.plus(needed.per(50));
                    if fits && room.rest(*tables) == 0 && reserved_sectors > 0 {
                        let table_sectors = length;
                        settle(
                            Geometry {
                                reserved_sectors,
                                table_sectors,
                                root_entries: *root_entries,
                                ..start
                            },
                            palette,
                            claims,
                        );
                    }
                }
            }
        }
    }
}

fn base(kind: Kind, tables: u32, sector: u32, palette: &Palette) -> Geometry {
    Geometry {
        kind,
        sector_bytes: sector,
        sectors_per_cluster: 1,
        reserved_sectors: 1,
        tables,
        root_entries: 0,
        table_sectors: 1,
        total_sectors: palette.total.first().copied().unwrap_or(0),
        root_cluster: 0,
    }
}

/// Adds a claim, with the volume's length cut to what its kind and its table allow.
fn settle(mut geometry: Geometry, palette: &Palette, claims: &mut Claims) {
    let most = match geometry.kind {
        Kind::Fat12 => FIRST_FAT16.minus(1),
        Kind::Fat16 => FIRST_FAT32.minus(1),
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => 0x0FFF_FFF4,
    };
    let before = geometry.data_offset().per(geometry.sector_bytes.wide()).narrow();
    let most = most.min(geometry.table_clusters());
    let longest =
        before.plus(most.times(geometry.sectors_per_cluster)).plus(geometry.sectors_per_cluster.minus(1));
    geometry.total_sectors = geometry.total_sectors.min(longest);
    if geometry.wide() {
        for root in &palette.root {
            claims.add(Geometry { root_cluster: *root, ..geometry }, Origin::Derived);
        }
    } else {
        claims.add(geometry, Origin::Derived);
    }
}

/// Cluster size and data start are known from folders; the table's place from its first entries.
fn with_grid(
    palette: &Palette,
    kind: Kind,
    tables: u32,
    sector: u32,
    (table, size, data): (u64, u64, u64),
    claims: &mut Claims,
) {
    let sector_wide = sector.wide();
    if data <= table || data.rest(sector_wide) != 0 || table.rest(sector_wide) != 0 || size < sector_wide {
        return;
    }
    let start = Geometry {
        sectors_per_cluster: size.per(sector_wide).narrow(),
        reserved_sectors: table.per(sector_wide).narrow(),
        ..base(kind, tables, sector, palette)
    };
    let between = data.minus(table).per(sector_wide).narrow();
    let roots: &[u32] = if kind == Kind::Fat32 { &[0] } else { &palette.root_entries };
    let mut lengths: Vec<u32> = palette.table_sectors.clone();
    lengths.extend(roots.iter().map(|entries| between.minus(entries.times(32).per(sector)).per(tables)));
    for length in lengths {
        // What the tables leave before the data is the root folder.
        let root = between.minus(length.times(tables));
        let exact = length.times(tables) <= between;
        let root_entries = root.times(sector).per(32);
        if exact && length > 0 && (kind == Kind::Fat32) == (root == 0) && root_entries <= 65535 {
            settle(Geometry { table_sectors: length, root_entries, ..start }, palette, claims);
            // The first table found may be the second copy, the first one's start being lost.
            if start.reserved_sectors > length {
                let earlier = start.reserved_sectors.minus(length);
                let shifted = Geometry {
                    reserved_sectors: earlier,
                    tables: 2,
                    table_sectors: length,
                    root_entries,
                    ..start
                };
                if tables == 1 {
                    settle(shifted, palette, claims);
                }
            }
        }
    }
}

/// No folder tells the cluster size: every size is a claim, and the files decide.
fn without_folders(
    palette: &Palette,
    kind: Kind,
    tables: u32,
    sector: u32,
    (table, again): (u64, Option<u64>),
    claims: &mut Claims,
) {
    let reserved_sectors = table.per(sector.wide()).narrow();
    if table.rest(sector.wide()) != 0 {
        return;
    }
    for sectors_per_cluster in &palette.cluster {
        let roots: &[u32] = if kind == Kind::Fat32 { &[0] } else { &palette.root_entries };
        for root_entries in roots {
            let start = Geometry {
                sectors_per_cluster: *sectors_per_cluster,
                reserved_sectors,
                root_entries: *root_entries,
                ..base(kind, tables, sector, palette)
            };
            let mut lengths = vec![start.table_sectors_needed(), start.table_sectors_needed().plus(1)];
            if let Some(gap) = again.filter(|gap| gap.rest(sector.wide()) == 0 && tables > 1) {
                lengths = vec![gap.per(sector.wide()).narrow()];
            }
            for table_sectors in lengths {
                settle(Geometry { table_sectors, ..start }, palette, claims);
                if again.is_none() && tables == 1 && reserved_sectors > table_sectors {
                    let reserved_sectors = reserved_sectors.minus(table_sectors);
                    settle(Geometry { reserved_sectors, tables: 2, table_sectors, ..start }, palette, claims);
                }
            }
        }
    }
}
