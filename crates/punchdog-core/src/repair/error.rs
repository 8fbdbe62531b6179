//! Why there is no plan, or why it cannot be used.

use crate::medium::MediumError;

/// Why there is no plan, or why it cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// Bytes could not be read.
    #[error(transparent)]
    Medium(#[from] MediumError),
    /// Nothing here is a volume that can be mended.
    #[error(
        "no FAT, exFAT or NTFS volume was found there, neither by its boot sector nor by what lies behind it"
    )]
    NoVolume,
    /// An answer fits no question.
    #[error(
        "no question of this repair is answered by {answers}; the plan without it lists the questions and their options"
    )]
    NoSuchChoice {
        /// The answers that fit nothing.
        answers: String,
    },
    /// The file is no plan.
    #[error("this is no plan file: {0}")]
    NotAPlan(String),
    /// The plan was changed after it was made.
    #[error(
        "the plan was changed after it was made: its seal does not fit its contents; make it again with `punchdog plan`"
    )]
    Edited,
    /// Bytes are listed as unreadable now that the plan took for readable ones.
    #[error(
        "the plan was made without knowing that {bytes} bytes, the first at byte {first}, cannot be read: it may rest on what the file has there"
    )]
    Unlisted {
        /// How many.
        bytes: u64,
        /// Where the first of them is.
        first: u64,
    },
    /// The image is not the one the plan was made for.
    #[error("the plan is for another image: {0}; make a plan for this one with `punchdog plan`")]
    OtherImage(String),
}
