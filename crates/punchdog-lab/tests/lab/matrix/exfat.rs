//! exFAT.

use punchdog_damage::{
    exfat::{everyday, small},
    exfat_faults::{self, Patient},
};

/// Sector bytes, cluster bytes, tables.
type Shape = (u32, u32, u32);

const VOLUMES: &[Shape] = &[
    (512, 512, 1),
    (512, 1024, 1),
    (512, 4096, 1),
    (512, 32768, 1),
    (1024, 2048, 1),
    (4096, 4096, 1),
    (512, 1024, 2),
];

fn patient((sector, cluster, tables): Shape, seed: u64) -> Patient {
    Patient::new(everyday(&small(sector, cluster, tables), seed))
}

#[test]
fn every_fault_on_every_volume_is_found_mended_and_undone() {
    super::every_fault(exfat_faults::all(), VOLUMES, patient);
}

#[test]
fn sound_volumes_have_no_finding_and_all_files() {
    for shape in VOLUMES {
        super::sound(&format!("{shape:?}"), &patient(*shape, 7), 512);
    }
}
