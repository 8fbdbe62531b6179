//! Which geometry a repair works on, where several speak for themselves.

use crate::{
    fat::{
        FatVolume,
        geometry::{Believed, Geometry, Origin, weigh},
    },
    medium::OverlayWindow,
    mending::choices::Choices,
};

/// The volume with another geometry than the believed one, where that was chosen.
pub(super) fn chosen(
    volume: &FatVolume,
    window: &OverlayWindow<'_, '_>,
    choices: &mut Choices,
) -> Option<FatVolume> {
    let believed = &volume.believed;
    let given = choices.given("geometry").map(str::to_owned);
    // Where nothing comes near the believed one, the question is not put; the step names the others.
    let open = !believed.confirmed() || given.is_some();
    if believed.origin == Origin::Derived && open && !believed.rivals.is_empty() && volume.gone(window) {
        let names: Vec<String> =
            (1..=believed.rivals.len().saturating_add(1)).map(|n| n.to_string()).collect();
        let all = std::iter::once((&believed.geometry, &believed.score))
            .chain(believed.rivals.iter().map(|rival| (&rival.geometry, &rival.score)));
        let effect = |(geometry, score): (&Geometry, &crate::fat::geometry::Score)| {
            let folders = crate::report::wording::counted(
                u64::from(score.folders_agree),
                "folder names",
                "folders name",
            );
            format!("{}; {folders} the cluster they stand in", geometry.in_words())
        };
        let options: Vec<(&str, String)> = names.iter().map(String::as_str).zip(all.map(effect)).collect();
        let question = "No boot sector says where things lie. Which geometry is it?";
        let taken = choices.ask("geometry", question, &options, Vec::new());
        let number = names.iter().position(|name| *name == taken)?.checked_sub(1)?;
        let rival = believed.rivals.get(number)?;
        return Some(FatVolume {
            believed: Believed {
                geometry: rival.geometry,
                score: rival.score.clone(),
                rivals: Vec::new(),
                ..believed.clone()
            },
        });
    }
    // Once its boot sector is written, what was chosen stands, whatever else speaks for itself.
    let geometry = believed.primary.as_ref().and_then(Geometry::claimed_by)?;
    let other = given.is_some_and(|answer| answer != "1") && !volume.gone(window);
    other.then(|| FatVolume {
        believed: Believed {
            geometry,
            origin: Origin::Primary,
            score: weigh(window, &geometry, None),
            rivals: Vec::new(),
            ..believed.clone()
        },
    })
}
