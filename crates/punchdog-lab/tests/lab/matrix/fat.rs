//! FAT12, FAT16 and FAT32.

use punchdog_core::family::Kind;
use punchdog_damage::{
    fat::{everyday, small},
    faults::{self, Patient},
};

/// Kind, sector bytes, cluster bytes.
type Shape = (Kind, u32, u32);

const VOLUMES: &[Shape] = &[
    (Kind::Fat12, 512, 512),
    (Kind::Fat12, 512, 4096),
    (Kind::Fat12, 4096, 4096),
    (Kind::Fat16, 512, 512),
    (Kind::Fat16, 512, 2048),
    (Kind::Fat16, 2048, 2048),
    (Kind::Fat32, 512, 512),
    (Kind::Fat32, 512, 4096),
    (Kind::Fat32, 512, 32768),
    (Kind::Fat32, 4096, 4096),
    (Kind::Fat32, 1024, 1024),
];

fn patient((kind, sector, cluster): Shape, seed: u64) -> Patient {
    Patient::new(everyday(&small(kind, sector, cluster), seed))
}

#[test]
fn every_fault_on_every_volume_is_found_mended_and_undone() {
    super::every_fault(faults::all(), VOLUMES, patient);
}

#[test]
fn sound_volumes_have_no_finding_and_all_files() {
    for shape in VOLUMES {
        super::sound(&format!("{shape:?}"), &patient(*shape, 7), 512);
    }
}
