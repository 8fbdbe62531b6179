//! What an image holds: partition tables, volumes, strangers.

pub mod catalogue;
