//! From a damaged volume to a mended copy and back: measuring, planning, applying, the journal.

pub mod apply;
pub mod content;
pub mod error;
pub mod evidence;
pub mod journal;
pub mod lay;
pub mod measure;
pub mod plan;
