//! Faults of partition tables.

use crate::finding::Entry;

/// All of them, in the order of the documentation.
pub static ALL: &[&Entry] = &[];
