//! The boot sector field by field: as it stands, in the backup, as computed, as believed.
//!
//! One table of judgements serves check (what is wrong), `fields` (all of it side by side) and
//! mend (the bytes to write), so that the three cannot disagree.

use super::{
    catalogue as c,
    geometry::{Believed, Geometry, Origin},
    layout::{BootSector, BootTail16, BootTail32, FsInfo},
    links::Links,
    names,
};
use crate::{
    arith::{Peek, Sat},
    family::Kind,
    medium::Medium,
    report::judgement::{Judgement, Show, Table},
};
use zerocopy::{FromZeros, IntoBytes};

/// All judgements on the boot sector, and the sector that follows from them.
pub struct Boot {
    /// The fields, in the order of the sector.
    pub fields: Vec<Judgement>,
    /// The sector as it should be.
    pub believed: BootSector,
    /// Nothing of the sector as it stands can be used.
    pub gone: bool,
    /// Where the bytes of a lost sector come from: the backup fits as it is.
    pub from_backup: bool,
    /// There is a backup, and its tables or clusters are not this volume's.
    pub stale_backup: bool,
}

/// True for a media byte that the specification allows.
pub fn media_is_valid(media: u8) -> bool {
    media == 0xF0 || media >= 0xF8
}

/// True for a jump that the specification allows.
pub fn jump_is_valid(jump: &[u8]) -> bool {
    matches!(jump, [0xEB, _, 0x90] | [0xE9, _, _])
}

/// True when the sector claims no geometry and has little else of a boot sector.
fn is_gone(boot: &BootSector) -> bool {
    let bytes = boot.as_bytes();
    let uniform = bytes.iter().all(|byte| *byte == bytes.byte(0));
    let marks = [
        boot.signature == [0x55, 0xAA],
        jump_is_valid(&boot.jump),
        boot.bytes_per_sector.get().is_power_of_two() && boot.bytes_per_sector.get() >= 512,
        boot.sectors_per_cluster.is_power_of_two(),
        (1..=4).contains(&boot.tables),
        media_is_valid(boot.media),
    ];
    uniform || marks.iter().filter(|mark| **mark).count() < 3
}

/// The media byte that the table copies agree on. FF is none that they could bear out: erased tables have it.
fn media_of_tables(medium: &dyn Medium, links: &mut Links) -> Option<u8> {
    let mut found = None;
    for copy in 0..links.geometry().tables {
        let value = links.raw(medium, copy, 0)?;
        let [media, ..] = value.to_le_bytes();
        if !media_is_valid(media) || media == 0xFF || found.is_some_and(|other| other != media) {
            return None;
        }
        found = Some(media);
    }
    found
}

/// Judges every field of the boot sector. `label` is the volume label in the root folder.
pub fn judge(
    medium: &dyn Medium,
    believed: &Believed,
    links: &mut Links,
    label: Option<names::Short>,
) -> Boot {
    let geometry = &believed.geometry;
    let gone = believed.primary.as_ref().is_none_or(is_gone);
    let backup = believed.backup.as_ref().map(|(_, boot)| boot);
    let stale_backup = backup
        .and_then(Geometry::claimed_by)
        .is_some_and(|claim| claim.elsewhere(geometry) || claim.table_sectors != geometry.table_sectors);
    let mut table = Table {
        stale: stale_backup,
        primary: believed.primary.as_ref().map(IntoBytes::as_bytes),
        backup: backup.map(IntoBytes::as_bytes),
        gone,
        fields: Vec::new(),
    };
    // A media byte that boot sector and backup agree on stands against the tables.
    let standing =
        believed.primary.filter(|_| !gone).map(|boot| boot.media).filter(|media| media_is_valid(*media));
    let seconded = standing.filter(|media| backup.is_some_and(|boot| boot.media == *media));
    let media = seconded.or_else(|| media_of_tables(medium, links));
    shared_fields(&mut table, geometry, media, &reason(believed, backup));
    if geometry.wide() {
        fields_32(&mut table, medium, believed, label);
    } else {
        tail_fields(&mut table, 36, geometry.kind, label, &[0x80], media);
    }
    table.computed(
        (510, 2),
        ("Signature_word", "signature"),
        Show::Bytes,
        &[0x55, 0xAA],
        "always 55 AA",
        &c::BOOT_SIGNATURE,
    );
    let fields = table.fields;
    // Boot code, and what nothing tells, comes from the sector as it stands or from the backup.
    let base = believed
        .primary
        .filter(|_| !gone)
        .or(backup.copied().filter(|_| !stale_backup))
        .unwrap_or_else(BootSector::new_zeroed);
    let mut bytes = base.as_bytes().to_vec();
    for field in &fields {
        for (place, byte) in bytes.iter_mut().skip(field.at).zip(&field.believed) {
            *place = *byte;
        }
    }
    let from_backup = backup.is_some_and(|boot| {
        fields.iter().all(|field| {
            field.entry.is_none() || boot.as_bytes().part(field.at, field.length) == field.believed
        })
    });
    Boot { fields, believed: BootSector::read(&bytes).unwrap_or(base), gone, from_backup, stale_backup }
}

fn reason(believed: &Believed, backup: Option<&BootSector>) -> String {
    let agrees = backup.and_then(Geometry::claimed_by) == Some(believed.geometry);
    match believed.origin {
        Origin::Primary if agrees => "backup and volume agree".to_owned(),
        Origin::Primary => "the volume agrees".to_owned(),
        Origin::Backup(_) => "backup and volume agree".to_owned(),
        Origin::Corrected(_) | Origin::Derived => "computed from the volume".to_owned(),
    }
}

fn narrow16(value: u32) -> [u8; 2] {
    u16::try_from(value).unwrap_or(u16::MAX).to_le_bytes()
}

fn shared_fields(table: &mut Table<'_>, geometry: &Geometry, media: Option<u8>, why: &str) {
    let wide = geometry.wide();
    let jump: &[u8] = if wide { &[0xEB, 0x58, 0x90] } else { &[0xEB, 0x3C, 0x90] };
    table.kept((0, 3), ("BS_jmpBoot", "jump"), Show::Bytes, jump_is_valid, jump, Some(&c::BOOT_JUMP));
    table.kept((3, 8), ("BS_OEMName", "made by"), Show::Text, |_| true, b"PUNCHDOG", None);
    let sector = narrow16(geometry.sector_bytes);
    table.computed(
        (11, 2),
        ("BPB_BytsPerSec", "bytes in a sector"),
        Show::Number,
        &sector,
        why,
        &c::SECTOR_SIZE,
    );
    let cluster = [u8::try_from(geometry.sectors_per_cluster).unwrap_or(0)];
    table.computed(
        (13, 1),
        ("BPB_SecPerClus", "sectors in a cluster"),
        Show::Number,
        &cluster,
        why,
        &c::CLUSTER_SIZE,
    );
    let reserved = narrow16(geometry.reserved_sectors);
    table.computed(
        (14, 2),
        ("BPB_RsvdSecCnt", "reserved sectors"),
        Show::Number,
        &reserved,
        why,
        &c::RESERVED,
    );
    let tables = [u8::try_from(geometry.tables).unwrap_or(0)];
    table.computed(
        (16, 1),
        ("BPB_NumFATs", "allocation tables"),
        Show::Number,
        &tables,
        why,
        &c::TABLE_COUNT,
    );
    let root = narrow16(geometry.root_entries);
    let root_why = if wide { "FAT32 has no fixed root folder" } else { why };
    table.computed(
        (17, 2),
        ("BPB_RootEntCnt", "root folder entries"),
        Show::Number,
        &root,
        root_why,
        &c::ROOT_ENTRIES,
    );
    let (total16, total32) = totals(table, geometry);
    table.computed(
        (19, 2),
        ("BPB_TotSec16", "sectors, if few"),
        Show::Number,
        &total16.to_le_bytes(),
        why,
        &c::TOTAL_SECTORS,
    );
    match media {
        Some(media) => {
            table.computed(
                (21, 1),
                ("BPB_Media", "media byte"),
                Show::Hex,
                &[media],
                "entry 0 of the tables has it",
                &c::MEDIA,
            );
        }
        None => table.kept(
            (21, 1),
            ("BPB_Media", "media byte"),
            Show::Hex,
            |v| media_is_valid(v.byte(0)),
            &[0xF8],
            Some(&c::MEDIA),
        ),
    }
    let small = narrow16(if wide { 0 } else { geometry.table_sectors });
    let size_why = if wide { "FAT32 has it further behind" } else { why };
    table.computed(
        (22, 2),
        ("BPB_FATSz16", "sectors in a table"),
        Show::Number,
        &small,
        size_why,
        &c::TABLE_SIZE,
    );
    table.kept((24, 2), ("BPB_SecPerTrk", "sectors in a track"), Show::Number, |_| true, &[63, 0], None);
    table.kept((26, 2), ("BPB_NumHeads", "heads"), Show::Number, |_| true, &[255, 0], None);
    table.kept((28, 4), ("BPB_HiddSec", "sectors before the volume"), Show::Number, |_| true, &[0; 4], None);
    table.computed(
        (32, 4),
        ("BPB_TotSec32", "sectors"),
        Show::Number,
        &total32.to_le_bytes(),
        why,
        &c::TOTAL_SECTORS,
    );
}

/// Which of the two total fields is used: FAT32 the long one; FAT12 and FAT16 the short one if the
/// number fits, but a long one that stands there alone and is right may stay, as may both.
fn totals(table: &Table<'_>, geometry: &Geometry) -> (u16, u32) {
    let total = geometry.total_sectors;
    let short = u16::try_from(total).ok().filter(|_| !geometry.wide());
    let standing = table.primary.map(|sector| (sector.le16(19), sector.le32(32)));
    match (short, standing) {
        (Some(_), Some((0, long))) if long == total => (0, total),
        (Some(short), Some((other, long))) if other == short && long == total => (short, total),
        (Some(short), _) => (short, 0),
        (None, _) => (0, total),
    }
}

fn fields_32(table: &mut Table<'_>, medium: &dyn Medium, believed: &Believed, label: Option<names::Short>) {
    let geometry = &believed.geometry;
    let backup = believed.backup.as_ref().map(|(_, boot)| boot);
    let why = reason(believed, backup);
    let size = geometry.table_sectors.to_le_bytes();
    table.computed((36, 4), ("BPB_FATSz32", "sectors in a table"), Show::Number, &size, &why, &c::TABLE_SIZE);
    let tables = geometry.tables;
    let flags_fit = move |v: &[u8]| {
        let flags = v.le16(0);
        flags & !0x8F == 0
            && (flags & 0x80 == 0 || u32::from(flags & 0x0F) < tables)
            && (flags & 0x80 != 0 || flags == 0)
    };
    table.kept(
        (40, 2),
        ("BPB_ExtFlags", "mirroring flags"),
        Show::Hex,
        flags_fit,
        &[0; 2],
        Some(&c::EXT_FLAGS),
    );
    table.computed(
        (42, 2),
        ("BPB_FSVer", "version"),
        Show::Hex,
        &[0; 2],
        "only 0.0 was published",
        &c::VERSION,
    );
    let root = geometry.root_cluster.to_le_bytes();
    table.computed(
        (44, 4),
        ("BPB_RootClus", "root folder's first cluster"),
        Show::Number,
        &root,
        &why,
        &c::ROOT_CLUSTER,
    );
    let reserved = geometry.reserved_sectors;
    let sector = geometry.sector_bytes.wide();
    let signed = |number: u16| {
        let inside = number > 0 && u32::from(number) < reserved;
        let place = u64::from(number).times(sector);
        inside
            && FsInfo::read(&medium.lenient(place, 512).bytes).is_some_and(|info| {
                info.lead.get() == super::layout::FSINFO_LEAD
                    || info.structure.get() == super::layout::FSINFO_STRUCTURE
            })
    };
    let standing = table.primary.map_or(0, |sector| sector.le16(48));
    let in_backup = table.backup.map_or(0, |sector| sector.le16(48));
    let fsinfo = [standing, in_backup, 1].into_iter().find(|number| signed(*number));
    // Without signatures anywhere, any place before the tables that is not a boot sector's will do.
    let usable = standing != 0
        && u32::from(standing) < reserved
        && standing != table.primary.map_or(0, |s| s.le16(50));
    let fsinfo = fsinfo.unwrap_or(if usable && !table.gone { standing } else { 1 });
    let fsinfo_why = if signed(fsinfo) { "the signatures are there" } else { "the usual place" };
    table.computed(
        (48, 2),
        ("BPB_FSInfo", "FSInfo sector"),
        Show::Number,
        &fsinfo.to_le_bytes(),
        fsinfo_why,
        &c::FSINFO_PLACE,
    );
    let standing = table.primary.map_or(0, |sector| sector.le16(50));
    let found = believed.backup.as_ref().map(|(place, _)| u16::try_from(place.per(sector)).unwrap_or(6));
    let fits = standing > 1 && u32::from(standing) < reserved && standing != fsinfo && !table.gone;
    let place = found.unwrap_or(match (fits, reserved) {
        (true, _) => standing,
        (false, 7..) => 6,
        _ => 0,
    });
    let place_why = if found.is_some() { "the backup stands there" } else { "the usual place" };
    table.computed(
        (50, 2),
        ("BPB_BkBootSec", "backup boot sector"),
        Show::Number,
        &place.to_le_bytes(),
        place_why,
        &c::BACKUP_PLACE,
    );
    table.computed(
        (52, 12),
        ("BPB_Reserved", "reserved"),
        Show::Bytes,
        &[0; 12],
        "must be zero",
        &c::BOOT_RESERVED,
    );
    tail_fields(table, 64, geometry.kind, label, &[0x80], None);
}

/// The fields that stand at 36 in FAT12 and FAT16, at 64 in FAT32.
fn tail_fields(
    table: &mut Table<'_>,
    at: usize,
    kind: Kind,
    label: Option<names::Short>,
    drive: &[u8],
    media: Option<u8>,
) {
    let drive: &[u8] = if media == Some(0xF0) { &[0] } else { drive };
    table.kept((at, 1), ("BS_DrvNum", "drive number"), Show::Hex, |_| true, drive, None);
    // Bits 0 and 1 say "not closed" and "errors met"; the others have no meaning.
    let kept = table.primary.filter(|_| !table.gone).map_or(0, |sector| sector.byte(at.plus(1)) & !3);
    table.computed(
        (at.plus(1), 1),
        ("BS_Reserved1", "state flags"),
        Show::Hex,
        &[kept],
        "clear when closed properly",
        &c::NOT_CLOSED,
    );
    table.kept((at.plus(2), 1), ("BS_BootSig", "extended signature"), Show::Hex, |_| true, &[0x29], None);
    let signed = table.primary.filter(|_| !table.gone).is_none_or(|sector| sector.byte(at.plus(2)) == 0x29);
    let serial = [0x01, 0x00, 0x0D, 0x09];
    table.kept((at.plus(3), 4), ("BS_VolID", "serial number"), Show::Hex, |_| true, &serial, None);
    let name = label.unwrap_or(*b"NO NAME    ");
    table.kept((at.plus(7), 11), ("BS_VolLab", "label"), Show::Text, |_| true, &name, None);
    let text: &[u8; 8] = match kind {
        Kind::Fat12 => b"FAT12   ",
        Kind::Fat16 => b"FAT16   ",
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => b"FAT32   ",
    };
    let fits = |value: &[u8]| !signed || value == text || value == b"FAT     ";
    table.kept((at.plus(18), 8), ("BS_FilSysType", "type text"), Show::Text, fits, text, Some(&c::BOOT_TEXT));
}

/// A fresh boot sector of this geometry, for volumes that never had one.
pub fn fresh(geometry: &Geometry, media: u8, serial: u32, label: &names::Short) -> BootSector {
    let wide = geometry.wide();
    let small_total = u16::try_from(geometry.total_sectors).ok().filter(|_| !wide);
    let mut boot = BootSector::new_zeroed();
    boot.jump = if wide { [0xEB, 0x58, 0x90] } else { [0xEB, 0x3C, 0x90] };
    boot.oem_name = *b"PUNCHDOG";
    boot.bytes_per_sector = u16::from_le_bytes(narrow16(geometry.sector_bytes)).into();
    boot.sectors_per_cluster = u8::try_from(geometry.sectors_per_cluster).unwrap_or(0);
    boot.reserved_sectors = u16::from_le_bytes(narrow16(geometry.reserved_sectors)).into();
    boot.tables = u8::try_from(geometry.tables).unwrap_or(0);
    boot.root_entries = u16::from_le_bytes(narrow16(geometry.root_entries)).into();
    boot.total_sectors_16 = small_total.unwrap_or(0).into();
    boot.total_sectors_32 = if small_total.is_some() { 0 } else { geometry.total_sectors }.into();
    boot.media = media;
    boot.sectors_per_track = 63.into();
    boot.heads = 255.into();
    boot.signature = [0x55, 0xAA];
    let mut tail = BootTail16::new_zeroed();
    tail.drive = if media == 0xF0 { 0 } else { 0x80 };
    tail.extended_signature = 0x29;
    tail.serial = serial.into();
    tail.label = *label;
    tail.type_text = match geometry.kind {
        Kind::Fat12 => *b"FAT12   ",
        Kind::Fat16 => *b"FAT16   ",
        Kind::Fat32 | Kind::Exfat | Kind::Ntfs => *b"FAT32   ",
    };
    if wide {
        let mut wide_tail = BootTail32::new_zeroed();
        wide_tail.table_sectors = geometry.table_sectors.into();
        wide_tail.root_cluster = geometry.root_cluster.into();
        wide_tail.fsinfo_sector = 1.into();
        wide_tail.backup_sector = if geometry.reserved_sectors > 7 { 6 } else { 0 }.into();
        wide_tail.common = tail;
        boot.set_tail32(wide_tail);
    } else {
        boot.table_sectors_16 = u16::from_le_bytes(narrow16(geometry.table_sectors)).into();
        boot.set_tail16(tail);
    }
    boot
}
