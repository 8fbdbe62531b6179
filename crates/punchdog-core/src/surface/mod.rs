//! Which places of a medium can be read: searched for once, written down, and used by everything else.
//!
//! [`list`] is the document, [`read`] the search, [`filler`] finds what an imager put where it could not read,
//! [`intervals`] what reads blank at a regular distance, and [`spaced`] puts back what an imager left out.

pub mod filler;
pub mod intervals;
pub mod list;
pub mod read;
pub mod spaced;
