//! Keeping the file system off places that the medium fails in, where the copy goes back onto that medium.

use super::{Hits, Places, catalogue as c};
use crate::{
    arith::Sat,
    cluster::aside::Aside,
    family::Survey,
    medium::{Extent, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
    report::{structure::Purpose, wording::listed},
};

/// The question.
const QUESTION: &str = "unreadable-places";
/// The answer that the copy goes back onto the medium that fails.
const MARK: &str = "mark";
/// Files that it names.
const NAMED: usize = 500;
/// What stays is named, so many of it.
const STAYING: usize = 6;

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

/// Asks whether the copy goes onto a good medium, as usual, or back onto the one that fails: then gives what stands in
/// the places now.
pub(crate) fn asked(
    survey: &mut dyn Survey,
    window: &OverlayWindow<'_, '_>,
    data_at: u64,
    places: &[Extent],
    choices: &mut Choices,
) -> Option<Hits> {
    if !places.iter().any(|place| place.end() > data_at) {
        return None;
    }
    let hits = Hits::of(window, survey, &Places::from(places.to_vec()));
    // The boot sector of NTFS says where its first records are, and their copies.
    let named = ["the first records of $MFT", "$MFTMirr"];
    let fixed = hits.structures.iter().filter(|hit| {
        hit.purpose == Purpose::Boot
            || named.contains(&hit.name.as_str())
            || hit.extents.iter().any(|extent| extent.offset < data_at)
    });
    let options = [
        ("leave", "nothing is moved or marked: the copy goes onto a good medium".to_owned()),
        (MARK, effect(fixed.map(|hit| hit.name.clone()))),
    ];
    let hit = hits.folders.iter().chain(&hits.files).take(NAMED).map(|hit| hit.path.to_string());
    let question = "The medium fails in places. Does the copy go back onto it?";
    (choices.ask(QUESTION, question, &options, hit.collect()) == MARK).then_some(hits)
}

/// Says what stays in the places, once nothing more can be moved.
pub(crate) fn tell_what_stays(standing: &Hits, choices: &mut Choices) {
    let structures = standing.structures.iter().map(|hit| hit.name.clone());
    let others = standing.folders.iter().chain(&standing.files).map(|hit| hit.path.to_string());
    choices.tell(QUESTION, MARK, &effect(structures.chain(others)));
}

/// What marking does, where these stay.
fn effect(stay: impl Iterator<Item = String>) -> String {
    let mut stay: Vec<String> = stay.collect();
    stay.dedup();
    let more = stay.len().minus(STAYING);
    stay.truncate(STAYING);
    if more > 0 {
        stay.push(format!("{more} more"));
    }
    let stays = match stay.len() {
        0 => String::new(),
        1 => format!("; {} stays where it is, and fails there", listed(&stay)),
        _ => format!("; {} stay where they are, and fail there", listed(&stay)),
    };
    format!(
        "the copy goes back onto the same medium: what stands in clusters that fail moves, as far as it could be read, and they are marked bad{stays}"
    )
}
