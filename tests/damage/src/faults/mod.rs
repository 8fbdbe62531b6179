//! Damage, as a table: how the lab makes it, what check must say of it, which files it costs.
//!
//! Adding a row here is adding a test: the matrix runs each row on each volume that it fits, and
//! the real-kernel lane mounts the outcome.

mod boot;
mod chains;
mod entries;
mod table;

pub use crate::patient::fat::*;

use crate::{row, seed::Seed};
use punchdog_core::{family::Kind, fat::geometry::Geometry};

/// A class of fault of FAT volumes.
pub type Fault = row::Fault<Geometry>;
type On = fn(&Geometry) -> bool;

/// FAT12, FAT16 and FAT32.
pub const ANY: On = |_| true;
/// FAT12 and FAT16.
pub const NARROW: On = |geometry| !geometry.wide();
/// FAT16 and FAT32.
pub const CLOSING: On = |geometry| geometry.kind != Kind::Fat12;
/// Where a picture has several clusters.
pub const SMALL: On = |geometry| geometry.cluster_bytes() <= 512;
/// FAT32.
pub const WIDE: On = Geometry::wide;

const fn fault(name: &'static str, code: &'static str, on: On, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code, on, make, choose: &[] }
}

/// Two faults that together leave too little: with tables and root wiped and no boot sector, folders alone are left, and
/// where the tables are is told by nothing.
pub fn beyond<G>(one: &row::Fault<G>, other: &row::Fault<G>) -> bool {
    let wiped = |fault: &row::Fault<G>| table::WIPED.contains(&fault.name);
    let gone = |fault: &row::Fault<G>| fault.code == "fat/boot-gone";
    wiped(one) && gone(other) || gone(one) && wiped(other)
}

/// Every FAT fault that the lab can make.
pub fn all() -> impl Iterator<Item = &'static Fault> {
    [boot::ALL, table::ALL, chains::ALL, entries::ALL].into_iter().flatten()
}
