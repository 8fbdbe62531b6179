//! Any bytes, and volumes, disks, plans and journals struck as any bytes say. `PUNCHDOG_SEED` takes others than those of every
//! run, `PUNCHDOG_INPUTS` more of them; `fuzz/` has the same for a fuzzer.

use punchdog_damage::{inputs, seed::Seed};
use std::panic::{AssertUnwindSafe, catch_unwind};

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok().and_then(|text| text.parse().ok())
}

/// Bytes as a fuzzer would come to: a few blows, now and then much of one value.
fn input(seed: u64) -> Vec<u8> {
    let mut seed = Seed::new(seed);
    let length = 2 + usize::try_from(seed.below(60)).unwrap();
    let mut bytes = seed.bytes(length);
    if seed.below(4) == 0 {
        let value = [0, 0xFF, b'{'][usize::try_from(seed.below(3)).unwrap()];
        bytes.truncate(9);
        bytes.extend(vec![value; 600]);
    }
    bytes
}

/// Asks `target` for so many inputs.
fn none_breaks(target: fn(&[u8]), count: u64) {
    let (first, more) = (number("PUNCHDOG_SEED").unwrap_or(2026), number("PUNCHDOG_INPUTS").unwrap_or(1));
    let breaks = |number: &u64| {
        let bytes = input(first.wrapping_mul(1 << 20) + number);
        catch_unwind(AssertUnwindSafe(|| target(&bytes))).is_err()
    };
    let broken: Vec<u64> = (0..count * more).filter(breaks).collect();
    assert_eq!(broken, Vec::<u64>::new(), "inputs by number, of seed {first}");
}

#[test]
fn any_bytes_are_an_image() {
    none_breaks(inputs::any_image, 200);
}

#[test]
fn volumes_are_struck_in_any_way() {
    none_breaks(inputs::struck_volume, 120);
}

#[test]
fn disks_are_struck_in_any_way() {
    none_breaks(inputs::struck_disk, 80);
}

#[test]
fn plans_are_struck_in_any_way() {
    none_breaks(inputs::plan_file, 120);
}

#[test]
fn journals_are_struck_in_any_way() {
    none_breaks(inputs::journal, 400);
}

#[test]
fn any_bytes_are_a_file_of_each_kind() {
    none_breaks(inputs::walk_file, 4000);
}
