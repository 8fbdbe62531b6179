//! A row of the tables of faults. `G` is the geometry of its family.

use crate::{patient::Patient, seed::Seed};

/// A class of fault.
pub struct Fault<G> {
    /// Its name in test output.
    pub name: &'static str,
    /// The code that check must give, on one of the damaged bytes.
    pub code: &'static str,
    /// The volumes it makes sense on.
    pub on: fn(&G) -> bool,
    /// Makes it.
    pub make: fn(&mut Patient<G>, &mut Seed),
    /// Answers to questions that the repair needs; names and options.
    pub choose: &'static [(&'static str, &'static str)],
}
