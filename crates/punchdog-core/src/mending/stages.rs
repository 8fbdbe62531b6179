//! Going through the stages of a family's mending.

use crate::medium::MediumError;

/// Runs stages, each with its name, until one has done something: `run` says whether it has.
pub(crate) fn until_changed<M: Copy>(
    stages: &[(&'static str, M)],
    mut run: impl FnMut(M) -> Result<bool, MediumError>,
) -> Result<(), MediumError> {
    for (name, stage) in stages {
        if run(*stage)? {
            tracing::debug!(stage = name, "a stage of mending changed something");
            break;
        }
    }
    Ok(())
}
