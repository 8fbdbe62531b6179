//! With no boot sector left, and no backup, the geometry is derived, and it is the true one.

use punchdog_core::{
    family::{Kind, Volume},
    fat::{
        FatVolume,
        fresh::Wish,
        geometry::{Geometry, Origin},
    },
    medium::{Medium, Memory, WithUnreadable},
    progress::Silent,
};
use punchdog_damage::{
    fat::{everyday, small},
    faults::Patient,
};

/// Kind, sector bytes, cluster bytes, tables.
fn wishes() -> Vec<Wish> {
    let mut all = Vec::new();
    for (kind, sectors, clusters) in [
        (Kind::Fat12, [512, 512, 512], [512, 2048, 8192]),
        (Kind::Fat16, [512, 512, 512], [512, 1024, 4096]),
        (Kind::Fat32, [512, 512, 4096], [512, 16384, 4096]),
    ] {
        for (sector, cluster) in sectors.into_iter().zip(clusters) {
            for tables in [1, 2] {
                all.push(Wish { tables, ..small(kind, sector, cluster) });
            }
        }
    }
    all
}

/// What counts of a geometry: where everything lies. Several ways of writing it down can say the
/// same.
fn places(geometry: &Geometry) -> (Kind, u32, u64, u64, u64, u32) {
    let tables = (geometry.table_offset(0), geometry.table_offset(geometry.tables.saturating_sub(1)));
    (
        geometry.kind,
        geometry.cluster_bytes(),
        tables.0,
        tables.1,
        geometry.data_offset(),
        geometry.root_cluster,
    )
}

fn derive(medium: &dyn Medium) -> (Geometry, Origin) {
    let volume = FatVolume::recognise(medium, &Silent).unwrap().expect("the volume is recognised");
    (volume.believed().geometry, volume.believed().origin)
}

#[test]
fn the_derived_geometry_is_the_true_one() {
    for wish in wishes() {
        let mut patient = Patient::new(everyday(&wish, 6));
        let truth = patient.geometry;
        let sector = u64::from(wish.sector_bytes);
        patient.fill(0, sector.min(512), 0);
        if truth.wide() {
            patient.fill(6 * sector, 512, 0);
        }
        let (found, origin) = derive(&Memory::new(patient.bytes.clone()));
        assert_eq!(places(&found), places(&truth), "{wish:?}");
        assert_eq!(origin, Origin::Derived, "{wish:?}");
        // The last clusters are what rounding leaves open; nothing that is used lies there.
        assert!(
            found.clusters().abs_diff(truth.clusters()) <= 1 + truth.clusters() / 100,
            "{wish:?}: {found:?}"
        );
    }
}

/// Nothing but folders speaks for it: no table begins as one does, and the root does not.
#[test]
fn a_boot_sector_is_borne_out_by_folders_alone() {
    for wish in wishes() {
        let sound = Patient::new(everyday(&wish, 6));
        let truth = sound.geometry;
        let root = if truth.wide() {
            (truth.cluster_offset(truth.root_cluster), truth.cluster_bytes().into())
        } else {
            (truth.root_offset(), truth.root_bytes())
        };
        for all in [false, true] {
            let mut patient = sound.clone();
            let length = |whole: u64| if all { whole } else { 512 };
            for copy in 0..truth.tables {
                patient.fill(truth.table_offset(copy), length(truth.table_bytes()), 0);
            }
            patient.fill(root.0, length(root.1), 0);
            let found = FatVolume::recognise(&Memory::new(patient.bytes), &Silent).unwrap();
            let found = found.as_ref().map(FatVolume::believed);
            let told = found.map(|believed| (places(&believed.geometry), believed.origin));
            assert_eq!(told, Some((places(&truth), Origin::Primary)), "{wish:?}, all: {all}");
        }
    }
}

#[test]
fn an_unreadable_boot_sector_is_as_good_as_none() {
    for wish in wishes() {
        let patient = Patient::new(everyday(&wish, 6));
        let inner = Memory::new(patient.bytes.clone());
        let place = punchdog_core::medium::Extent::new(0, u64::from(wish.sector_bytes));
        let medium = WithUnreadable::new(&inner, vec![place]);
        let (found, _) = derive(&medium);
        assert_eq!(places(&found), places(&patient.geometry), "{wish:?}");
        let volume = FatVolume::recognise(&medium, &Silent).unwrap().unwrap();
        let files = volume.files(&medium, punchdog_core::family::Wanted::default(), &Silent).unwrap();
        let made = patient.live().count();
        assert_eq!(files.len(), made, "{wish:?}: every file can be reached");
    }
}

/// A field that is possible but wrong is outvoted by the volume, whatever the field.
#[test]
fn no_single_field_can_move_the_geometry() {
    let fields: [(u64, &[u8]); 12] = [
        (11, &[0, 4]),
        (13, &[2]),
        (13, &[64]),
        (14, &[1, 0]),
        (14, &[33, 0]),
        (16, &[1]),
        (16, &[3]),
        (17, &[0, 4]),
        (17, &[0x10, 0]),
        (22, &[5, 0]),
        (36, &[9, 0, 0, 0]),
        (44, &[5, 0, 0, 0]),
    ];
    for wish in [small(Kind::Fat12, 512, 1024), small(Kind::Fat16, 512, 1024), small(Kind::Fat32, 512, 1024)]
    {
        let patient = Patient::new(everyday(&wish, 6));
        for (at, value) in fields.iter().filter(|(at, _)| *at < 36 || patient.geometry.wide()) {
            let mut struck = patient.clone();
            struck.write(*at, value);
            let (found, _) = derive(&Memory::new(struck.bytes));
            assert_eq!(places(&found), places(&patient.geometry), "{wish:?}, byte {at} = {value:?}");
        }
    }
}

#[test]
fn other_file_systems_and_nothing_are_no_volume() {
    for mark in [b"NTFS    ", b"EXFAT   "] {
        let mut bytes = vec![0; 1 << 20];
        bytes[..3].copy_from_slice(&[0xEB, 0x52, 0x90]);
        bytes[3..11].copy_from_slice(mark);
        bytes[510..512].copy_from_slice(&[0x55, 0xAA]);
        assert!(FatVolume::recognise(&Memory::new(bytes), &Silent).unwrap().is_none());
    }
    for bytes in [vec![0; 1 << 20], vec![0xFF; 1 << 20], vec![0xF8; 1 << 20], Vec::new()] {
        assert!(FatVolume::recognise(&Memory::new(bytes), &Silent).unwrap().is_none());
    }
}
