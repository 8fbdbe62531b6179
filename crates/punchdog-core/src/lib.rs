//! Everything that knows about volumes.
//!
//! The core reads bytes through [`medium::Medium`], judges them, and describes what it found
//! ([`finding::Finding`]), what each host would say ([`forecast`]), and how it can be mended
//! ([`plan`]). It prints nothing, opens no terminal, and never writes to the image it reads:
//! every repair is written to a [`medium::Overlay`] and proved there.
//!
//! ```
//! use punchdog_core::{family, medium::Memory, progress::Silent};
//!
//! // Sixty-four KiB of zeroes hold no volume, and the core says so instead of guessing.
//! let image = Memory::new(vec![0; 65536]);
//! assert!(family::recognise(&image, &Silent).unwrap().is_none());
//! ```
#![cfg_attr(
    not(test),
    deny(
        clippy::unwrap_used,
        clippy::expect_used,
        clippy::panic,
        clippy::unreachable,
        clippy::todo,
        clippy::indexing_slicing,
        clippy::string_slice,
        clippy::arithmetic_side_effects,
        clippy::as_conversions,
        clippy::print_stdout,
        clippy::print_stderr,
        clippy::exit,
        clippy::disallowed_methods
    )
)]

pub mod apply;
pub mod arith;
pub mod chain;
pub mod change;
pub mod clusters;
pub mod content;
pub mod evidence;
pub mod exfat;
pub mod family;
pub mod fat;
mod file_end;
pub mod filler;
pub mod finding;
pub mod forecast;
pub mod former;
mod gap;
mod hidden;
pub mod hollow;
pub mod inventory;
pub mod journal;
pub mod judgement;
pub mod keeping;
pub mod measure;
pub mod medium;
mod naming;
pub mod pages;
pub mod partition;
pub mod places;
pub mod plan;
pub mod progress;
mod room;
pub mod step;
pub mod treepath;
pub mod wording;
