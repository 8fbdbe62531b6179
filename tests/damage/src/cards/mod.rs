//! Whole media as they come over the counter, and what happened to them. How they are made is the lab's ([`punchdog_lab::cards`]).

mod records;
pub mod situations;

pub use punchdog_lab::cards::*;
