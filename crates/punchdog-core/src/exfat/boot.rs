//! The boot regions: fields as they stand, in the backup, as computed, as believed; checksums.

use super::{
    catalogue as c,
    geometry::{Believed, Geometry, Origin},
    layout::{
        BootSector, CHECKSUM_SECTOR, EXTENDED_SIGNATURE, FLAG_ACTIVE, FLAG_DIRTY, FLAG_FAILURE, NOT_SUMMED,
        REGION_SECTORS, boot_checksum, put,
    },
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::judgement::{Judgement, Show, Table},
};
use zerocopy::{FromZeros, IntoBytes};

/// Twelve sectors, main or backup.
pub struct Region {
    /// Where it begins.
    pub place: u64,
    /// Its bytes; zeros where they cannot be read.
    pub bytes: Vec<u8>,
    /// The checksum of its first eleven sectors.
    pub sum: u32,
    /// The first value in its checksum sector that is another one, and where.
    pub wrong: Option<(u64, u32)>,
    /// Extended boot sectors without their signature.
    pub unsigned: Vec<u64>,
    /// Its first sector has the marks of exFAT.
    pub named: bool,
}

impl Region {
    fn read(medium: &dyn Medium, geometry: &Geometry, place: u64) -> Self {
        let sector = geometry.sector_bytes();
        let bytes = medium.lenient(place, geometry.region_bytes().size()).bytes;
        let sum = boot_checksum(&bytes, sector.size());
        let at = CHECKSUM_SECTOR.times(sector);
        let values = bytes.part(at.size(), sector.size()).chunks_exact(4).map(|value| value.le32(0));
        let wrong = values.enumerate().find(|(_, value)| *value != sum);
        let unsigned = (1..=8_u64)
            .filter(|number| bytes.le32(number.plus(1).times(sector).minus(4).size()) != EXTENDED_SIGNATURE)
            .collect();
        Self {
            place,
            sum,
            wrong: wrong.map(|(number, value)| (place.plus(at).plus(number.times(4).wide()), value)),
            unsigned,
            named: BootSector::read(&bytes).is_some_and(|boot| boot.named()),
            bytes,
        }
    }
    /// Checksum and signatures fit.
    pub fn whole(&self) -> bool {
        self.wrong.is_none() && self.unsigned.is_empty() && self.named
    }
}

/// All judgements on the boot regions.
pub struct Boot {
    /// The fields of the boot sector, in its order.
    pub fields: Vec<Judgement>,
    /// The sector as it should be.
    pub believed: BootSector,
    /// Nothing of the main boot sector as it stands can be used.
    pub gone: bool,
    /// The main region.
    pub main: Region,
    /// The backup region.
    pub backup: Region,
    /// The backup region is whole and says what is believed.
    pub backup_fits: bool,
    /// Byte offsets in a region where the two are not alike.
    pub differing: Vec<usize>,
    /// VolumeFlags as they stand; 0 when the sector is gone.
    pub flags: u16,
}

/// Judges the boot regions.
pub fn judge(medium: &dyn Medium, believed: &Believed) -> Boot {
    let geometry = believed.geometry;
    let main = Region::read(medium, &geometry, 0);
    let backup = Region::read(medium, &geometry, geometry.region_bytes());
    let standing = believed.primary.unwrap_or_else(BootSector::new_zeroed);
    let gone = is_gone(believed);
    let backup_sector = BootSector::read(&backup.bytes).filter(BootSector::named);
    let mut table = Table {
        primary: believed.primary.as_ref().map(IntoBytes::as_bytes),
        backup: backup_sector.as_ref().map(IntoBytes::as_bytes),
        gone,
        stale: false,
        fields: Vec::new(),
    };
    rows(&mut table, &geometry, why(believed));
    let fields = table.fields;
    let mut sector = BootSector::new_zeroed();
    for field in &fields {
        put(sector.as_mut_bytes(), field.at, &field.believed);
    }
    let code = [Some(standing).filter(|_| !gone), backup_sector].into_iter().flatten().next();
    sector.code = code.map_or([0xF4; 390], |boot| boot.code);
    let backup_fits = backup.whole()
        && backup_sector
            .is_some_and(|boot| Geometry::claimed_by(&boot) == geometry && boot.signature.get() == 0xAA55);
    let differing = main
        .bytes
        .iter()
        .zip(&backup.bytes)
        .enumerate()
        .filter(|(at, (one, other))| one != other && !NOT_SUMMED.contains(at))
        .map(|(at, _)| at)
        .collect();
    let flags = if gone { 0 } else { standing.flags.get() };
    Boot { fields, believed: sector, gone, main, backup, backup_fits, differing, flags }
}

fn why(believed: &Believed) -> &'static str {
    match believed.origin {
        Origin::Primary => "the volume agrees",
        Origin::Backup(_) => "backup and volume agree",
        Origin::Corrected(_) | Origin::Derived => "computed from the volume",
    }
}

/// True when so many fields are wrong that the sector is none at all.
fn is_gone(believed: &Believed) -> bool {
    let Some(boot) = &believed.primary else { return true };
    let (g, claim) = (&believed.geometry, Geometry::claimed_by(boot));
    let wrong = [
        !boot.named(),
        boot.signature.get() != 0xAA55,
        claim.sector_shift != g.sector_shift,
        claim.cluster_shift != g.cluster_shift,
        claim.table_offset != g.table_offset,
        claim.heap_offset != g.heap_offset,
        claim.clusters != g.clusters,
        claim.root_cluster != g.root_cluster,
    ];
    wrong.iter().filter(|wrong| **wrong).count() >= 4
}

#[expect(clippy::too_many_lines, reason = "one row of a table after the other")]
fn rows(t: &mut Table<'_>, g: &Geometry, why: &'static str) {
    let always = "always the same";
    t.computed(
        (0, 3),
        ("JumpBoot", "jump to the boot code"),
        Show::Bytes,
        &[0xEB, 0x76, 0x90],
        always,
        &c::BOOT_JUMP,
    );
    t.computed((3, 8), ("FileSystemName", "name"), Show::Text, b"EXFAT   ", always, &c::BOOT_NAME);
    t.computed(
        (11, 53),
        ("MustBeZero", "where FAT has its fields"),
        Show::Bytes,
        &[0; 53],
        "always zero",
        &c::MUST_BE_ZERO,
    );
    t.kept((64, 8), ("PartitionOffset", "sectors before the volume"), Show::Number, |_| true, &[0; 8], None);
    t.computed(
        (72, 8),
        ("VolumeLength", "sectors of the volume"),
        Show::Number,
        &g.sectors.to_le_bytes(),
        why,
        &c::VOLUME_LENGTH,
    );
    t.computed(
        (80, 4),
        ("FatOffset", "sectors before the table"),
        Show::Number,
        &g.table_offset.to_le_bytes(),
        why,
        &c::FAT_OFFSET,
    );
    t.computed(
        (84, 4),
        ("FatLength", "sectors of the table"),
        Show::Number,
        &g.table_sectors.to_le_bytes(),
        why,
        &c::FAT_LENGTH,
    );
    t.computed(
        (88, 4),
        ("ClusterHeapOffset", "sectors before cluster 2"),
        Show::Number,
        &g.heap_offset.to_le_bytes(),
        why,
        &c::HEAP_OFFSET,
    );
    t.computed(
        (92, 4),
        ("ClusterCount", "clusters"),
        Show::Number,
        &g.clusters.to_le_bytes(),
        why,
        &c::CLUSTER_COUNT,
    );
    t.computed(
        (96, 4),
        ("FirstClusterOfRootDirectory", "first cluster of the root"),
        Show::Number,
        &g.root_cluster.to_le_bytes(),
        why,
        &c::ROOT_CLUSTER,
    );
    t.kept((100, 4), ("VolumeSerialNumber", "serial number"), Show::Hex, |_| true, &[0; 4], None);
    t.kept(
        (104, 2),
        ("FileSystemRevision", "revision"),
        Show::Hex,
        |v| v.byte(1) == 1 && v.byte(0) < 100,
        &[0, 1],
        Some(&c::REVISION),
    );
    let known = FLAG_ACTIVE | FLAG_DIRTY | FLAG_FAILURE | super::layout::FLAG_CLEAR;
    t.kept(
        (106, 2),
        ("VolumeFlags", "state"),
        Show::Hex,
        |v| v.le16(0) & !known == 0,
        &[0, 0],
        Some(&c::BOOT_RESERVED),
    );
    t.computed(
        (108, 1),
        ("BytesPerSectorShift", "bytes per sector, as a power of 2"),
        Show::Number,
        &[g.sector_shift],
        why,
        &c::SECTOR_SHIFT,
    );
    t.computed(
        (109, 1),
        ("SectorsPerClusterShift", "sectors per cluster, as a power of 2"),
        Show::Number,
        &[g.cluster_shift],
        why,
        &c::CLUSTER_SHIFT,
    );
    let tables = u8::try_from(g.tables).unwrap_or(1);
    t.computed((110, 1), ("NumberOfFats", "tables"), Show::Number, &[tables], why, &c::FAT_COUNT);
    t.kept((111, 1), ("DriveSelect", "drive number"), Show::Hex, |_| true, &[0x80], None);
    t.kept(
        (112, 1),
        ("PercentInUse", "percent in use"),
        Show::Number,
        |v| v.byte(0) <= 100 || v.byte(0) == 0xFF,
        &[0xFF],
        Some(&c::PERCENT),
    );
    t.computed((113, 7), ("Reserved", "reserved"), Show::Bytes, &[0; 7], "always zero", &c::BOOT_RESERVED);
    t.computed(
        (510, 2),
        ("BootSignature", "signature"),
        Show::Bytes,
        &[0x55, 0xAA],
        always,
        &c::BOOT_SIGNATURE,
    );
}

/// A whole boot region around `sector`: what the other sectors hold is kept from `like`, signed,
/// and summed.
pub fn region(sector: &BootSector, geometry: &Geometry, like: Option<&[u8]>) -> Vec<u8> {
    let size = geometry.sector_bytes().size();
    let mut bytes = vec![0_u8; REGION_SECTORS.size().times(size)];
    if let Some(like) = like {
        put(&mut bytes, 0, like);
    }
    put(&mut bytes, 0, sector.as_bytes());
    for number in 1..=8_usize {
        put(&mut bytes, number.plus(1).times(size).minus(4), &EXTENDED_SIGNATURE.to_le_bytes());
    }
    let sum = boot_checksum(&bytes, size).to_le_bytes();
    let at = CHECKSUM_SECTOR.size().times(size);
    for slot in 0..size.per(4) {
        put(&mut bytes, at.plus(slot.times(4)), &sum);
    }
    bytes
}

/// A new boot sector.
pub fn fresh(geometry: &Geometry, serial: u32) -> BootSector {
    let mut sector = BootSector::new_zeroed();
    sector.jump = [0xEB, 0x76, 0x90];
    sector.name = *b"EXFAT   ";
    sector.volume_length = geometry.sectors.into();
    sector.fat_offset = geometry.table_offset.into();
    sector.fat_length = geometry.table_sectors.into();
    sector.heap_offset = geometry.heap_offset.into();
    sector.cluster_count = geometry.clusters.into();
    sector.root_cluster = geometry.root_cluster.into();
    sector.serial = serial.into();
    sector.revision = 0x0100.into();
    sector.sector_shift = geometry.sector_shift;
    sector.cluster_shift = geometry.cluster_shift;
    sector.tables = u8::try_from(geometry.tables).unwrap_or(1);
    sector.drive = 0x80;
    sector.percent = 0xFF;
    sector.code = [0xF4; 390];
    sector.signature = 0xAA55.into();
    sector
}
