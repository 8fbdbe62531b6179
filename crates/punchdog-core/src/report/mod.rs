//! What is told: findings and their weight, fields, forecasts, words.

pub mod examination;
pub mod fields;
pub mod finding;
pub mod forecast;
pub mod gap;
pub mod hidden;
pub mod judgement;
pub mod structure;
pub mod wording;
