//! Damage as tables, whole media and what happened to them, and any bytes: what the tests, the fuzz targets and the kernel lane
//! run on.
//!
//! The volumes that are damaged are the lab's (`punchdog-lab`), which the demo fills too; nothing of what is here is in the
//! program. In reading order: [`row`] (a class of fault), [`faults`], [`exfat_faults`] and [`ntfs_faults`] (the tables),
//! [`sweep`] (every byte of what a host looks at first), [`trial`] (two at once), [`ntfs_listed`] and [`ntfs_older`] (volumes
//! that need more than a filler), [`large`] (one thing too many), [`inputs`] (any bytes), [`cards`] (whole media).

pub mod cards;
pub mod exfat_faults;
pub mod faults;
pub mod inputs;
pub mod large;
pub mod ntfs_faults;
pub mod ntfs_listed;
pub mod ntfs_older;
pub mod row;
pub mod sweep;
pub mod trial;
pub mod workplace;

pub use punchdog_lab::{canvas, content, exfat, fat, formatted, ntfs, patient, seed, station};
