//! The geometry of exFAT volumes: derived without boot regions, unmoved by a wrong field, and none
//! where there is no exFAT volume.

use punchdog_core::{
    exfat::{
        ExfatVolume,
        fresh::{self, Wish},
        geometry::{Geometry, Origin},
    },
    family::Kind,
    medium::{Extent, Medium, Memory, WithUnreadable},
    progress::Silent,
};
use punchdog_damage::{
    exfat::{everyday, small},
    exfat_faults::Patient,
    fat,
    seed::Seed,
};

/// Sector bytes, cluster bytes.
const SHAPES: &[(u32, u32)] = &[
    (512, 512),
    (512, 1024),
    (512, 2048),
    (512, 4096),
    (512, 8192),
    (512, 16384),
    (512, 32768),
    (512, 131_072),
    (1024, 1024),
    (2048, 4096),
    (4096, 4096),
    (4096, 32768),
];

fn patient(shape: (u32, u32)) -> Patient {
    Patient::new(everyday(&small(shape.0, shape.1, 1), 9))
}

/// Where everything lies, whatever the sectors are that it is counted in.
fn places(g: &Geometry) -> (u64, u64, u64, u32, u32) {
    (g.table_place(0), g.heap_place(), g.cluster_bytes(), g.clusters, g.root_cluster)
}

fn believed(medium: &dyn Medium) -> (Geometry, Origin) {
    let volume = ExfatVolume::recognise(medium, &Silent).unwrap().expect("a volume");
    (volume.believed().geometry, volume.believed().origin)
}

#[test]
fn the_derived_geometry_is_the_true_one() {
    for shape in SHAPES {
        let mut patient = patient(*shape);
        let length = patient.geometry.region_bytes() * 2;
        for filling in [0, 0xFF, 0x5A] {
            patient.fill(0, length, filling);
            let (geometry, origin) = believed(&Memory::new(patient.bytes.clone()));
            assert_eq!(places(&geometry), places(&patient.geometry), "{shape:?} filled with {filling:02X}");
            assert_eq!(origin, Origin::Derived, "{shape:?}");
        }
    }
}

/// As cards are laid out: the table far behind the boot regions, the clusters far behind the table.
#[test]
fn a_table_and_clusters_that_begin_late_are_found() {
    for (shape, table, heap) in [((512, 32768), 8 << 20, 16 << 20), ((512, 4096), 40 << 20, 48 << 20)] {
        let sound = patient(shape);
        let g = sound.geometry;
        let mut bytes = vec![0; heap];
        let at = |place: u64| usize::try_from(place).unwrap();
        bytes[table..table + at(g.table_bytes())]
            .copy_from_slice(&sound.read(g.table_place(0), at(g.table_bytes())));
        bytes.extend(&sound.bytes[at(g.heap_place())..]);
        let (geometry, origin) = believed(&Memory::new(bytes));
        let expected = (table as u64, heap as u64, g.cluster_bytes(), g.clusters, g.root_cluster);
        assert_eq!(places(&geometry), expected, "{shape:?}");
        assert_eq!(origin, Origin::Derived, "{shape:?}");
    }
}

#[test]
fn a_backup_is_preferred_to_derivation() {
    for shape in SHAPES {
        let mut patient = patient(*shape);
        let length = patient.geometry.region_bytes();
        patient.fill(0, length, 0);
        let (geometry, origin) = believed(&Memory::new(patient.bytes.clone()));
        assert_eq!(geometry, patient.geometry, "{shape:?}");
        assert_eq!(origin, Origin::Backup(length), "{shape:?}");
    }
}

#[test]
fn unreadable_boot_regions_are_as_good_as_none() {
    let patient = patient((512, 4096));
    let medium = Memory::new(patient.bytes.clone());
    for (hole, derived) in [(Extent::new(0, 512), false), (Extent::new(0, 24 * 512), true)] {
        let (geometry, origin) = believed(&WithUnreadable::new(&medium, vec![hole]));
        assert_eq!(places(&geometry), places(&patient.geometry));
        assert_eq!(origin == Origin::Derived, derived, "{origin:?}");
    }
}

/// Offsets and lengths of the fields that say where everything lies.
const FIELDS: &[(u64, usize)] = &[(80, 4), (84, 4), (88, 4), (92, 4), (96, 4), (108, 1), (109, 1), (110, 1)];

#[test]
fn no_single_field_can_move_the_geometry() {
    let sound = patient((512, 2048));
    let mut seed = Seed::new(5);
    for (at, length) in FIELDS {
        for _ in 0..24 {
            let mut patient = sound.clone();
            let mut value = patient.read(*at, *length);
            match seed.below(4) {
                0 => value.fill(0),
                1 => value.fill(0xFF),
                2 => value[0] ^= 1 << seed.below(8),
                _ => value = seed.bytes(*length),
            }
            patient.write_boot(0, *at, &value);
            if seed.below(2) == 0 {
                patient.write_boot(1, *at, &value);
            }
            let (geometry, _) = believed(&Memory::new(patient.bytes));
            // A few clusters fewer than would fit are a volume like any other; more than a byte of
            // the bitmap is not.
            let bytes =
                |g: &Geometry| (places(g).0, places(g).1, places(g).2, g.bitmap_bytes(), g.root_cluster);
            assert_eq!(bytes(&geometry), bytes(&sound.geometry), "field at {at} set to {value:02X?}");
        }
    }
}

#[test]
fn other_volumes_and_nothing_are_no_exfat_volume() {
    let fat = |kind| fat::everyday(&fat::small(kind, 512, 1024), 3).canvas;
    let mut images: Vec<(&str, Vec<u8>)> = vec![
        ("FAT12", fat(Kind::Fat12)),
        ("FAT16", fat(Kind::Fat16)),
        ("FAT32", fat(Kind::Fat32)),
        ("zeros", vec![0; 1 << 20]),
        ("ones", vec![0xFF; 1 << 20]),
        ("noise", Seed::new(1).bytes(1 << 20)),
        ("nothing", Vec::new()),
        ("a sector", vec![0; 512]),
        ("text", b"The gauge at the landing was read at noon. ".repeat(20_000)),
    ];
    for index in 0..3 {
        let mut without = images[index].1.clone();
        without[..512].fill(0);
        images.push(("FAT without its boot sector", without));
    }
    for (name, bytes) in images {
        assert!(ExfatVolume::recognise(&Memory::new(bytes), &Silent).unwrap().is_none(), "{name}");
    }
}

#[test]
fn wishes_that_cannot_be_met_are_refused_and_others_give_possible_volumes() {
    let wish = |bytes, sector_bytes, cluster_bytes, tables| Wish {
        bytes,
        sector_bytes,
        cluster_bytes,
        tables,
        label: String::new(),
        serial: 1,
    };
    for bad in [
        wish(1 << 20, 256, 4096, 1),
        wish(1 << 20, 8192, 8192, 1),
        wish(1 << 20, 512, 768, 1),
        wish(1 << 20, 4096, 512, 1),
        wish(1 << 30, 512, 64 << 20, 1),
        wish(10_000, 512, 4096, 1),
    ] {
        assert!(fresh::geometry(&bad).is_err(), "{bad:?}");
    }
    for bytes in [2_u64 << 20, 1 << 30, 64 << 30, 2 << 40] {
        for (sector, cluster) in [(512, 4096), (512, 131_072), (4096, 32 << 20), (1024, 65536)] {
            for tables in [1, 2] {
                let wish = wish(bytes, sector, cluster, tables);
                let Ok(g) = fresh::geometry(&wish) else { continue };
                assert!(g.possible(), "{wish:?}: {g:?}");
                assert!(
                    g.heap_end() <= bytes && bytes - g.heap_end() < u64::from(cluster) + u64::from(sector)
                );
                assert_eq!(g.heap_place() % u64::from(cluster).min(1 << 20), 0, "{wish:?}");
            }
        }
    }
}
