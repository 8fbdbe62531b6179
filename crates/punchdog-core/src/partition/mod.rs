//! What an image holds: partition tables, volumes, lost volumes, strangers.
//!
//! [`scout`](scout::scout) answers it: a bare volume, or a disk with a table ([`mbr`], [`gpt`]) whose entries are
//! held against what stands where they point, or a disk without a table, searched for volumes
//! by their structures (`search`). What is nothing of ours is named by [`strangers`].

mod apart;
mod begin;
mod beneath;
pub mod catalogue;
mod extended;
pub mod gpt;
pub mod layout;
mod listed;
pub mod mbr;
mod member;
mod mend;
pub mod place;
mod rival;
mod scout;
mod search;
pub mod strangers;
mod unlisted;

pub use beneath::written_over;
pub(crate) use extended::new_entry;
pub use listed::partitions;
pub use member::Member;
pub use mend::round;
pub use place::{Kept, Place, Scouting, Stranger, Table, Through, Way};
pub use scout::scout;
pub(crate) use search::begins;
pub use search::claim;
