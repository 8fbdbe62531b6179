//! What an image holds: partition tables, volumes, lost volumes, strangers.
//!
//! [`scout`](scout::scout) answers it: a bare volume, or a disk with a table ([`mbr`], [`gpt`]) whose entries are
//! held against what stands where they point, or a disk without a table, searched for volumes
//! by their structures (`search`). What is nothing of ours is named by [`strangers`].

pub mod catalogue;
pub mod gpt;
pub mod layout;
pub mod mbr;
mod mend;
pub mod scout;
mod search;
pub mod strangers;

pub use mend::round;
pub use scout::{Place, Scouting, Way, What, scout};
