//! Steps that set fields of a boot sector, one by one.

use super::step::{Provenance, Step, Steps};
use crate::{
    arith::Sat,
    medium::{MediumError, OverlayWindow},
    report::judgement::Judgement,
};

/// Sets each of these fields, which are wrong, to what is believed; `second` is what the second copy is called.
pub(crate) fn set<'f>(
    window: &mut OverlayWindow<'_, '_>,
    steps: &mut Steps<'_>,
    fields: impl Iterator<Item = &'f Judgement>,
    second: &str,
) -> Result<(), MediumError> {
    for field in fields.filter(|field| field.wrong()) {
        let Some(entry) = field.entry else { continue };
        let exact = field.backup.as_ref() == Some(&field.believed);
        let is = field.primary.as_deref().map_or(String::new(), |bytes| field.text(bytes));
        let step = Step::new(
            "boot-field",
            format!(
                "set {} (boot sector, byte {}) from {is} to {}",
                field.field,
                field.at,
                field.text(&field.believed)
            ),
            if exact { Provenance::Exact } else { Provenance::Derived },
            if exact { second.to_owned() } else { field.why.clone() },
            &[entry],
        );
        steps.run(window, step, |window| window.write_at(field.at.wide(), &field.believed))?;
    }
    Ok(())
}
