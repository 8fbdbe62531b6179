//! What file systems with clusters and a table share: chains, sets of clusters, what belongs to nothing.

pub mod aside;
pub mod blank_end;
pub mod chain;
pub mod former;
pub mod free;
pub(crate) mod joints;
pub mod keeping;
pub(crate) mod lengths;
pub mod occupied;
pub mod places;
pub(crate) mod seams;
pub mod set;
pub(crate) mod skipped;
pub mod traces;
