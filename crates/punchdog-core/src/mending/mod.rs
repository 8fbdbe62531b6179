//! What the families mend with: steps, the bytes they change, questions.

pub mod change;
pub mod choices;
pub(crate) mod field;
pub(crate) mod stages;
pub mod step;
