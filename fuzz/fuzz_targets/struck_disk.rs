//! A disk with two volumes and a table, struck a few times: the first byte says which table.
#![no_main]

use libfuzzer_sys::fuzz_target;
use punchdog_core::family::Kind;
use punchdog_lab::cards::{Card, Fill, Listing, Shape};
use std::sync::LazyLock;

static DISKS: LazyLock<Vec<Vec<u8>>> = LazyLock::new(|| {
    let first = Shape { kind: Kind::Fat12, start: 1 << 20, bytes: 1 << 20, cluster: 2048, fill: Fill::Some };
    let second = Shape { kind: Kind::Exfat, start: 2 << 20, bytes: 1 << 20, cluster: 1024, fill: Fill::Some };
    [Listing::Mbr, Listing::Gpt].map(|listing| Card::new(4 << 20, listing, &[first, second]).bytes).into()
});

fuzz_target!(|bytes: &[u8]| {
    let Some((which, blows)) = bytes.split_first() else { return };
    let mut disk = DISKS[usize::from(*which) % DISKS.len()].clone();
    punchdog_fuzz::strike(&mut disk, blows);
    punchdog_fuzz::ask(disk);
});
