//! NTFS.

use punchdog_lab::{
    ntfs::{everyday, small},
    ntfs_faults::{self, Patient},
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

#[test]
fn sound_volumes_have_no_finding_and_all_files() {
    for shape in VOLUMES {
        super::sound(&format!("{shape:?}"), &patient(*shape, 7), shape.0);
    }
}
