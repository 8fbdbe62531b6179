//! Damage to exFAT volumes, as a table: how the lab makes it, what check must say of it, which
//! files it costs.

mod boot;
mod chains;
mod root;
mod sets;

pub use crate::patient::exfat::*;

use crate::{row, seed::Seed};
use punchdog_core::exfat::geometry::Geometry;

/// A class of fault of exFAT volumes.
pub type Fault = row::Fault<Geometry>;

/// A volume with one table.
const SINGLY: fn(&Geometry) -> bool = |geometry| geometry.tables == 1;
/// A volume with two tables.
const DOUBLY: fn(&Geometry) -> bool = |geometry| geometry.tables == 2;

const fn fault(name: &'static str, code: &'static str, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code, on: |_| true, make, choose: &[] }
}

/// Every exFAT fault that the lab can make.
pub fn all() -> impl Iterator<Item = &'static Fault> {
    [boot::ALL, root::ALL, sets::ALL, chains::ALL].into_iter().flatten()
}
