//! A small volume of each kind, struck a few times: the first byte says which.
#![no_main]

use libfuzzer_sys::fuzz_target;
use punchdog_core::family::Kind;
use punchdog_lab::{exfat, fat, ntfs};
use std::sync::LazyLock;

static VOLUMES: LazyLock<Vec<Vec<u8>>> = LazyLock::new(|| {
    let mut all: Vec<Vec<u8>> =
        [(Kind::Fat12, 512), (Kind::Fat16, 512), (Kind::Fat32, 512), (Kind::Fat12, 2048)]
            .map(|(kind, cluster)| fat::everyday(&fat::small(kind, 512, cluster), 3).canvas)
            .into();
    for (cluster, tables) in [(512, 1), (1024, 2)] {
        all.push(exfat::everyday(&exfat::small(512, cluster, tables), 3).canvas);
    }
    all.push(ntfs::everyday(&ntfs::small(512, 1024, 1024), 3).canvas);
    all
});

fuzz_target!(|bytes: &[u8]| {
    let Some((which, blows)) = bytes.split_first() else { return };
    let mut volume = VOLUMES[usize::from(*which) % VOLUMES.len()].clone();
    punchdog_fuzz::strike(&mut volume, blows);
    punchdog_fuzz::ask_volume(volume);
});
