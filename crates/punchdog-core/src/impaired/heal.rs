//! What stands a second time is taken from there, before anything else is concluded.

use super::{Places, sectors};
use crate::{
    arith::Sat,
    family::Survey,
    medium::{Extent, Medium, MediumError, OverlayWindow, Unknown},
    mending::step::{Provenance, Step, Steps},
    report::{structure::Purpose, wording::counted},
};

/// Fills what cannot be read of a table from another copy that can be read there. Boot sectors and records are taken so
/// only where the family knows that their copy is this volume's.
pub(crate) fn from_second_copies(
    survey: &mut dyn Survey,
    window: &mut OverlayWindow<'_, '_>,
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let places = Places::of(window, Unknown::Unreadable);
    if places.is_empty() {
        return Ok(());
    }
    for structure in survey.structures(window) {
        let Some((at, twin)) =
            structure.twin.filter(|_| structure.purpose == Purpose::Table || structure.attested)
        else {
            continue;
        };
        let there = |extent: &Extent| {
            Extent::new(at.plus(extent.offset.minus(structure.extent.offset)), extent.length)
        };
        let mut lacking = places.in_these([structure.extent]);
        lacking.retain(|extent| !places.touch([there(extent)]));
        if lacking.is_empty() {
            continue;
        }
        let what = counted(sectors(&lacking), "sector that cannot be read", "sectors that cannot be read");
        let mut step = Step::new(
            "unreadable-from-second-copy",
            format!("fill {what} of {} from {twin}", structure.name),
            Provenance::Exact,
            format!("{twin}, which can be read there"),
            &[&super::catalogue::STRUCTURE],
        );
        step.twins = vec![structure.extent, Extent::new(at, structure.extent.length)];
        steps.run(window, step, |window| {
            for extent in &lacking {
                let medium: &dyn Medium = window;
                let bytes = medium.bytes(there(extent).offset, extent.length.size())?;
                window.write_at(extent.offset, &bytes)?;
            }
            Ok(())
        })?;
    }
    Ok(())
}
