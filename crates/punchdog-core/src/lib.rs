//! Everything that knows about volumes.
//!
//! The core reads bytes through [`medium::Medium`], judges them, and describes what it found
//! ([`report::finding::Finding`]), what each host would say ([`report::forecast`]), and how it can be mended
//! ([`repair::plan`]). It prints nothing, opens no terminal, and never writes to the image it reads:
//! every repair is written to a [`medium::Overlay`] and proved there.
//!
//! ```
//! use punchdog_core::{medium::Memory, progress::Silent, registry};
//!
//! // Sixty-four KiB of zeroes hold no volume, and the core says so instead of guessing.
//! let image = Memory::new(vec![0; 65536]);
//! assert!(registry::recognise(&image, &Silent).unwrap().is_none());
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

pub mod arith;
pub mod catalogue;
pub mod cluster;
pub mod comparison;
pub mod diagnosis;
pub mod exfat;
pub mod family;
pub mod fat;
pub mod files;
pub mod formats;
pub mod formatting;
pub mod impaired;
pub mod medium;
pub mod mending;
pub mod ntfs;
pub mod partition;
pub mod picture;
pub mod progress;
pub mod registry;
pub mod repair;
pub mod report;
pub mod surface;
pub mod unearth;
