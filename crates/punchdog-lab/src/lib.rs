//! Made-up patients: fresh volumes, files and faults, all from a seed.
//!
//! Used by the demo, the tests and the benches. In reading order: [`seed`] (numbers),
//! [`canvas`] (where the bytes go), [`content`] (what files hold), [`fat`] and [`exfat`] (filling
//! volumes), [`patient`] (what they are then), [`large`] (one thing too many), [`station`] (the seabird field station's cards), [`faults`] and
//! [`exfat_faults`] (damage, as tables), [`sweep`] (every byte of what a host looks at first), [`trial`] (two at once), [`inputs`] (any bytes), [`cards`] (whole media
//! and what happens to them).

pub mod canvas;
pub mod cards;
pub mod content;
pub mod exfat;
pub mod exfat_faults;
pub mod fat;
pub mod faults;
pub mod formatted;
pub mod inputs;
pub mod large;
pub mod ntfs;
pub mod ntfs_faults;
pub mod ntfs_listed;
pub mod ntfs_older;
pub mod patient;
pub mod seed;
pub mod station;
pub mod sweep;
pub mod trial;
pub mod workplace;
