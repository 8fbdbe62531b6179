//! NTFS.

use punchdog_core::ntfs::layout::own;
use punchdog_damage::{
    ntfs::{everyday, small},
    ntfs_faults::{self, Fault, Patient},
    ntfs_older::older,
};

/// Sector bytes, cluster bytes, record bytes.
type Shape = (u32, u32, u32);

const VOLUMES: &[Shape] =
    &[(512, 512, 1024), (512, 1024, 1024), (512, 4096, 1024), (512, 65536, 1024), (4096, 4096, 4096)];

fn patient((sector, cluster, record): Shape, seed: u64) -> Patient {
    Patient::new(everyday(&small(sector, cluster, record), seed))
}

#[test]
fn every_fault_on_every_volume_is_found_mended_and_undone() {
    super::every_fault(ntfs_faults::all(), VOLUMES, patient);
}

/// Faults of what came with version 3.1, or (true) with version 3.
const NEWER: &[(&str, bool)] = &[
    ("a record says that it is another", false),
    ("record 9 zero", true),
    ("record 9 noise", true),
    ("record 9 and the first copy of the descriptors zero", true),
    ("record 9 and the second copy of the descriptors zero", true),
    ("record 9 zero, and the descriptors with it", true),
    ("a security id that there is not", true),
    ("the record of $Extend zero", true),
];

#[test]
fn every_fault_of_an_older_version_is_found_mended_and_undone() {
    for version in [(3, 0), (1, 2)] {
        let newer =
            |fault: &Fault| NEWER.iter().any(|(name, all)| *name == fault.name && (!all || version < (3, 0)));
        let faults = ntfs_faults::all().filter(|fault| !newer(fault));
        super::every_fault(faults, &[(512, 4096, 1024)], |shape, seed| older(patient(shape, seed), version));
    }
}

#[test]
fn a_table_of_attributes_of_version_1_2_is_in_order() {
    let mut patient = older(patient((512, 4096, 1024), 2), (1, 2));
    // The fourth row has another name there.
    let place = patient.own_place(own::ATTRDEF, "", 3 * 160);
    let name: Vec<u8> = "$VOLUME_VERSION".encode_utf16().flat_map(u16::to_le_bytes).collect();
    patient.write(place, &name);
    super::sound("version 1.2", &patient, 512);
}

#[test]
fn sound_volumes_have_no_finding_and_all_files() {
    for shape in VOLUMES {
        super::sound(&format!("{shape:?}"), &patient(*shape, 7), shape.0);
    }
    for version in [(3, 0), (1, 2)] {
        super::sound(&format!("version {version:?}"), &older(patient((512, 4096, 1024), 7), version), 512);
    }
}
