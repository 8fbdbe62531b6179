//! Byte by byte: every range that differs, named by what lies there.

use super::side;
use crate::{
    args::{Args, Compare},
    choose,
    failure::Verdict,
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    arith::Sat,
    comparison::{self, Differences},
    diagnosis::{self, Wish},
    impaired::{Hits, Places, bytes},
    medium::{Extent, Window},
};
use schemars::JsonSchema;
use serde::Serialize;

/// The document of `compare --bytes`.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "ByBytes")]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.compare/1"))]
    schema: &'static str,
    #[schemars(extend("const" = "bytes"))]
    by: &'static str,
    one: String,
    other: String,
    alike: bool,
    compared_bytes: u64,
    /// Of each side.
    lengths: [u64; 2],
    differing_bytes: u64,
    /// Those less than a sector apart are one; from the start of the first.
    places: Vec<Extent>,
    /// There are more.
    more_places: bool,
    /// What of the first they lie in.
    lies_in: Vec<String>,
}

/// Places that are shown.
const SHOWN: usize = 16;

pub(super) fn run(args: &Args, given: &Compare, screen: &Screen) -> anyhow::Result<Verdict> {
    let (one, other) = (side::image(&given.one)?, side::image(&given.other)?);
    let left = side::range(&one, &given.one, (given.at_a, given.volume_a), screen)?;
    let right = side::range(&other, &given.other, (given.at_b, given.volume_b), screen)?;
    let length = left.length.min(right.length);
    let (first, second) = (Window::new(&one, left), Window::new(&other, right));
    let found = comparison::bytes(&first, &second, length, screen)?;
    // A medium may be larger than the image that was written onto it; two files are not alike then.
    let beyond = right.length > length && !given.other.metadata().is_ok_and(|about| about.is_file());
    let alike = found.bytes == 0 && (left.length == right.length || beyond);
    let named = names(&one, &found, left.offset, screen)?;
    if args.json {
        json::print(&Document {
            schema: "punchdog.compare/1",
            by: "bytes",
            one: given.one.display().to_string(),
            other: given.other.display().to_string(),
            alike,
            compared_bytes: length,
            lengths: [left.length, right.length],
            differing_bytes: found.bytes,
            places: found.places.iter().map(|place| place.moved(left.offset)).collect(),
            more_places: found.more,
            lies_in: named,
        })?;
        return Ok(Verdict::of(alike));
    }
    let mut page = Page::new();
    let name = |path: &std::path::Path| page::clean(&choose::file_name(path));
    let (verdict, style) = if alike { ("alike", page::GOOD) } else { ("different", page::BAD) };
    page.head(&format!("{} against {}", name(&given.one), name(&given.other)), verdict, style);
    page.gap();
    page.say(&format!("{} were compared, byte by byte.", page::size(length)));
    if left.length != right.length {
        let which = if left.length > right.length { "first" } else { "second" };
        page.say(&format!(
            "The {which} is longer by {}; that was not compared.",
            page::size(left.length.max(right.length) - length)
        ));
    }
    if found.bytes > 0 {
        let many = page::count(found.places.len().wide(), "place", "places");
        let more = if found.more { " and more" } else { "" };
        page.say(&format!("{} differ, in {many}{more}.", page::size(found.bytes)));
        page.gap();
        for place in found.places.iter().take(SHOWN) {
            let at = place.moved(left.offset);
            page.beside(
                34,
                &format!("bytes {} to {}", at.offset, at.end() - 1),
                page::BAD,
                &page::size(place.length),
            );
        }
        if found.places.len() > SHOWN {
            page.under_faint(34, &format!("and {} more; --json lists them", found.places.len() - SHOWN));
        }
        page.gap();
        for line in &named {
            page.beside(16, "lies in", page::STRONG, line);
        }
    }
    page.print()?;
    Ok(Verdict::of(alike))
}

/// What of the first side the places lie in.
fn names(
    one: &choose::Image,
    found: &Differences,
    base: u64,
    screen: &Screen,
) -> anyhow::Result<Vec<String>> {
    if found.places.is_empty() {
        return Ok(Vec::new());
    }
    let differ: Vec<Extent> = found.places.iter().map(|place| place.moved(base)).collect();
    let Ok((targets, _)) = diagnosis::choose(one, Wish::All, screen) else { return Ok(Vec::new()) };
    let mut named = Vec::new();
    let mut inside = 0;
    for target in &targets {
        let window = Window::new(one, target.extent);
        let bytes_of = target.volume.bytes().min(target.extent.length);
        let own = Extent::new(target.extent.offset, bytes_of);
        let here = Places::from(differ.clone()).in_these([own]);
        inside += bytes(&here);
        let places: Vec<Extent> = here.iter().map(|e| Extent::new(e.offset - own.offset, e.length)).collect();
        let mut survey = target.survey(&window, screen)?;
        let hits = Hits::of(&window, &mut *survey, &Places::from(places));
        named.extend(
            hits.structures.iter().map(|hit| format!("{}: {}", hit.name, page::size(bytes(&hit.extents)))),
        );
        named.extend(
            hits.folders
                .iter()
                .map(|hit| format!("the folder {}: {}", hit.path, page::size(bytes(&hit.extents)))),
        );
        named.extend(
            hits.files
                .iter()
                .map(|hit| format!("the file {}: {}", hit.path, page::size(bytes(&hit.extents)))),
        );
        if !hits.free.is_empty() {
            named.push(format!("where nothing is: {}", page::size(bytes(&hits.free))));
        }
    }
    let outside = bytes(&differ).saturating_sub(inside);
    if outside > 0 {
        named.push(format!("outside of every volume: {}", page::size(outside)));
    }
    Ok(named)
}
