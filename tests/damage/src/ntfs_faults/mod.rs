//! Damage to NTFS volumes, as a table: how the lab makes it, what check must say of it, which files it costs.

mod bitmaps;
mod boot;
mod files;
mod folders;
mod lists;
mod runs;
mod system;
mod views;

pub use crate::patient::ntfs::*;

use crate::{row, seed::Seed};
use punchdog_core::ntfs::geometry::Geometry;

/// A class of fault of NTFS volumes.
pub type Fault = row::Fault<Geometry>;

const fn fault(name: &'static str, code: &'static str, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code, on: |_| true, make, choose: &[] }
}

/// With the first records, their copies and these all gone at once, nothing is found that says where the records are and
/// how large the clusters: such pairs are not mended yet.
const UNTOLD: &[&str] = &[
    "boot sector and copy zero",
    "boot sector zero, copy of an older format",
    "name overwritten in both",
    "sector size 513 in both",
    "cluster size doubled in both",
    "$MFT's cluster wrong in both",
    "record size too large in both",
    "index size too large in both",
];

/// Two faults, by name, that together leave too little.
pub fn beyond(one: &str, other: &str) -> bool {
    let both =
        |one: &str, other: &str| one == "records 0 to 11 and the copies zero" && UNTOLD.contains(&other);
    both(one, other) || both(other, one)
}

/// Every NTFS fault that the lab can make.
pub fn all() -> impl Iterator<Item = &'static Fault> {
    [boot::ALL, system::ALL, files::ALL, bitmaps::ALL, folders::ALL, lists::ALL, runs::ALL, views::ALL]
        .into_iter()
        .flatten()
}
