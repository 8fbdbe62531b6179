//! The boot sector field by field: as it stands, in its copy, as computed, as believed.

use super::{
    catalogue as c,
    geometry::{Believed, Geometry, Source, cluster_code, cluster_sectors, size_code, sized},
    layout::{BootSector, put},
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::judgement::{Judgement, Show, Table},
};
use zerocopy::{FromZeros, IntoBytes};

/// All judgements on the boot sector and its copy.
pub struct Boot {
    /// The fields, in order.
    pub fields: Vec<Judgement>,
    /// The sector as it should be.
    pub believed: BootSector,
    /// Nothing of the sector as it stands can be used.
    pub gone: bool,
    /// Where the copy belongs.
    pub place: u64,
    /// What stands there; `None` where the image ends before.
    pub copy: Option<Vec<u8>>,
    /// It says what is believed.
    pub copy_fits: bool,
    /// Another copy that was found: where.
    pub elsewhere: Option<u64>,
}

/// Judges the boot sector.
pub fn judge(medium: &dyn Medium, believed: &Believed) -> Boot {
    let geometry = believed.geometry;
    let place = believed.copy_place();
    let copy = (place.plus(512) <= medium.len()).then(|| medium.lenient(place, 512).bytes);
    let gone = believed.gone();
    let named = |bytes: &&[u8]| bytes.part(3, 8) == b"NTFS    ";
    let other = believed.copy.as_ref().map(|(sector, _)| sector.as_slice());
    let standing = copy.as_deref().filter(named).or(other);
    let claims = |bytes: &[u8]| BootSector::read(bytes).and_then(|boot| Geometry::claimed_by(&boot));
    let fits = |bytes: &[u8]| {
        claims(bytes).is_some_and(|found| found == geometry) && bytes.part(510, 2) == [0x55, 0xAA]
    };
    let mut table = Table {
        primary: believed.primary.as_ref().map(<[u8; 512]>::as_slice),
        backup: standing,
        gone,
        stale: standing.is_some_and(|bytes| !fits(bytes)),
        fields: Vec::new(),
    };
    rows(&mut table, &geometry, why(believed));
    let fields = table.fields;
    let mut sector = BootSector::new_zeroed();
    for field in &fields {
        put(sector.as_mut_bytes(), field.at, &field.believed);
    }
    let own = believed.primary.as_ref().map(<[u8; 512]>::as_slice).filter(|_| !gone);
    let code = own.or(standing.filter(|bytes| fits(bytes)));
    if let Some(code) = code {
        put(sector.as_mut_bytes(), 84, code.part(84, 426));
    }
    let copy_fits = copy.as_deref().is_some_and(fits);
    let elsewhere = believed.copy.as_ref().map(|(_, at)| *at).filter(|at| *at != place);
    Boot { fields, believed: sector, gone, place, copy, copy_fits, elsewhere }
}

fn why(believed: &Believed) -> &'static str {
    match (believed.source, believed.evidence.is_some()) {
        (Source::Primary, true) => "the records agree",
        (Source::Copy, true) => "copy and records agree",
        (Source::Records, _) => "computed from the records",
        (_, false) => "nothing contradicts it",
    }
}

#[expect(clippy::too_many_lines, reason = "one row of a table after the other")]
fn rows(t: &mut Table<'_>, g: &Geometry, why: &'static str) {
    let always = "always the same";
    let sector = u16::try_from(g.sector()).unwrap_or(512).to_le_bytes();
    // One size can be written in two ways: as it stands is right if it means the same.
    let own = |at: usize| t.primary.map_or(0, |bytes| bytes.byte(at));
    let wide = g.cluster_shift.saturating_sub(g.sector_shift);
    let per = Some(own(13)).filter(|code| cluster_sectors(*code) == Some(wide)).unwrap_or(cluster_code(wide));
    let size = |at: usize, shift: u8| {
        let standing = i8::from_le_bytes([own(at)]);
        let same = sized(standing, g.cluster_shift) == Some(shift);
        if same { standing } else { size_code(shift, g.cluster_shift) }.to_le_bytes()
    };
    let (record, index) = (size(64, g.record_shift), size(68, g.index_shift));
    t.computed(
        (0, 3),
        ("Jump", "jump to the boot code"),
        Show::Bytes,
        &[0xEB, 0x52, 0x90],
        always,
        &c::BOOT_JUMP,
    );
    t.computed((3, 8), ("OemId", "name"), Show::Text, b"NTFS    ", always, &c::BOOT_NAME);
    t.computed((11, 2), ("BytesPerSector", "bytes per sector"), Show::Number, &sector, why, &c::SECTOR_SIZE);
    t.computed(
        (13, 1),
        ("SectorsPerCluster", "sectors per cluster"),
        Show::Number,
        &[per],
        why,
        &c::CLUSTER_SIZE,
    );
    t.computed(
        (14, 7),
        ("Reserved", "where FAT has its sizes"),
        Show::Bytes,
        &[0; 7],
        "always zero",
        &c::BOOT_ZERO,
    );
    t.kept(
        (21, 1),
        ("Media", "media descriptor"),
        Show::Hex,
        |v| matches!(v.byte(0), 0xF0 | 0xF8..=0xFF),
        &[0xF8],
        Some(&c::MEDIA),
    );
    t.computed(
        (22, 2),
        ("Unused", "where FAT has the length of a table"),
        Show::Bytes,
        &[0; 2],
        "always zero",
        &c::BOOT_ZERO,
    );
    t.kept((24, 2), ("SectorsPerTrack", "sectors per track"), Show::Number, |_| true, &[63, 0], None);
    t.kept((26, 2), ("NumberOfHeads", "heads"), Show::Number, |_| true, &[255, 0], None);
    t.kept((28, 4), ("HiddenSectors", "sectors before the volume"), Show::Number, |_| true, &[0; 4], None);
    t.computed(
        (32, 4),
        ("Unused", "where FAT has its length"),
        Show::Bytes,
        &[0; 4],
        "always zero",
        &c::BOOT_ZERO,
    );
    t.kept((36, 4), ("Unused", "drive number and flags"), Show::Hex, |_| true, &[0x80, 0, 0x80, 0], None);
    t.computed(
        (40, 8),
        ("TotalSectors", "sectors of the volume"),
        Show::Number,
        &g.sectors.to_le_bytes(),
        why,
        &c::TOTAL_SECTORS,
    );
    t.computed(
        (48, 8),
        ("MftStartLcn", "first cluster of $MFT"),
        Show::Number,
        &g.mft.to_le_bytes(),
        why,
        &c::MFT_PLACE,
    );
    t.computed(
        (56, 8),
        ("Mft2StartLcn", "first cluster of $MFTMirr"),
        Show::Number,
        &g.mirror.to_le_bytes(),
        why,
        &c::MIRROR_PLACE,
    );
    t.computed(
        (64, 1),
        ("ClustersPerFileRecord", "size of a record"),
        Show::Hex,
        &record,
        why,
        &c::RECORD_SIZE,
    );
    t.kept((65, 3), ("Unused", "unused"), Show::Bytes, |_| true, &[0; 3], None);
    t.computed(
        (68, 1),
        ("ClustersPerIndexBlock", "size of an index block"),
        Show::Hex,
        &index,
        why,
        &c::INDEX_SIZE,
    );
    t.kept((69, 3), ("Unused", "unused"), Show::Bytes, |_| true, &[0; 3], None);
    t.kept((72, 8), ("VolumeSerialNumber", "serial number"), Show::Hex, |_| true, &[0; 8], None);
    t.kept((80, 4), ("Checksum", "checksum, which nobody computes"), Show::Hex, |_| true, &[0; 4], None);
    t.computed((510, 2), ("Signature", "signature"), Show::Bytes, &[0x55, 0xAA], always, &c::BOOT_SIGNATURE);
}
