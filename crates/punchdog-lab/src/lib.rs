//! Made-up patients: fresh volumes and files, all from a seed.
//!
//! Used by the demo, the tests and the benches. In reading order: [`seed`] (numbers),
//! [`canvas`] (where the bytes go), [`content`] (what files hold), [`fat`], [`exfat`] and [`ntfs`] (filling
//! volumes), [`patient`] (what they are then, and how they are damaged), [`cards`] (whole media), [`station`] (the seabird
//! field station's cards). Damage as tables, which is the tests' alone, is in `tests/damage`.

pub mod canvas;
pub mod cards;
pub mod content;
pub mod exfat;
pub mod fat;
pub mod formatted;
pub mod ntfs;
pub mod patient;
pub mod seed;
pub mod station;
