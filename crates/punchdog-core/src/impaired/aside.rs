//! Keeping the file system off places that the medium fails in, where the copy goes back onto that medium.

use super::{Hits, Places, catalogue as c};
use crate::{
    cluster::aside::Aside,
    family::Survey,
    medium::{Extent, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
    report::{structure::Purpose, wording::listed},
};

/// The question.
const QUESTION: &str = "unreadable-places";
/// Files that it names.
const NAMED: usize = 500;

/// Keeps off these places of the volume.
///
/// # Errors
/// Where the overlay cannot be written.
pub(crate) fn set_aside(
    survey: &mut dyn Survey,
    window: &mut OverlayWindow<'_, '_>,
    places: &[Extent],
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let aside = Aside { places, file: &c::FILE, structure: &c::STRUCTURE, free: &c::FREE };
    survey.set_aside(window, &aside, steps)
}

/// Asks whether the copy goes onto a good medium, as usual, or back onto the one that fails: true for that.
pub(crate) fn asked(
    survey: &mut dyn Survey,
    window: &OverlayWindow<'_, '_>,
    data_at: u64,
    places: &[Extent],
    choices: &mut Choices,
) -> bool {
    if !places.iter().any(|place| place.end() > data_at) {
        return false;
    }
    let hits = Hits::of(window, survey, &Places::from(places.to_vec()));
    // The boot sector of NTFS says where its first records are, and their copies.
    let named = ["the first records of $MFT", "$MFTMirr"];
    let fixed = hits.structures.iter().filter(|hit| {
        hit.purpose == Purpose::Boot
            || named.contains(&hit.name.as_str())
            || hit.extents.iter().any(|extent| extent.offset < data_at)
    });
    let mut fixed: Vec<String> = fixed.map(|hit| hit.name.clone()).collect();
    fixed.dedup();
    let stay = match fixed.len() {
        0 => String::new(),
        1 => format!("; {} stays where it is, and fails there", listed(&fixed)),
        _ => format!("; {} stay where they are, and fail there", listed(&fixed)),
    };
    let options = [
        ("leave", "nothing is moved or marked: the copy goes onto a good medium".to_owned()),
        (
            "mark",
            format!(
                "the copy goes back onto the same medium: what stands in clusters that fail moves, as far as it could be read, and they are marked bad{stay}"
            ),
        ),
    ];
    let hit = hits.folders.iter().chain(&hits.files).take(NAMED).map(|hit| hit.path.to_string());
    let question = "The medium fails in places. Does the copy go back onto it?";
    choices.ask(QUESTION, question, &options, hit.collect()) == "mark"
}
