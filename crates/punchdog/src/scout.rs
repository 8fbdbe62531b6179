//! `punchdog scout`: what the image holds.

use crate::{
    args::{Args, Scout},
    choose,
    failure::Verdict,
    json,
    many::{self, Looked},
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::report::wording::capital;
use punchdog_core::{
    diagnosis,
    family::Kind,
    impaired,
    medium::{Extent, Medium, Unknown},
    partition::{self, Place, Scouting, Table, Way},
    report::finding::{Finding, Weight},
};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// The document of `scout`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.scout/1"))]
    schema: &'static str,
    image: json::Image,
    /// `none`, `mbr` or `gpt`.
    table: &'static str,
    /// Bytes of the sectors that the table counts in.
    table_sector_bytes: u64,
    volumes: Vec<Volume>,
    /// What Punchdog does not know.
    strangers: Vec<json::Stranger>,
    /// What cannot be read.
    unreadable: Vec<Extent>,
    /// The value, where all bytes have one.
    blank: Option<String>,
    /// Faults of the partition table.
    findings: Vec<json::Finding>,
}

/// A volume of an image.
#[derive(Serialize, JsonSchema)]
struct Volume {
    /// From 1 on.
    number: usize,
    kind: Kind,
    /// Where it begins.
    offset: u64,
    /// Bytes that it says it has.
    bytes: u64,
    /// `bare`, `listed` or `lost`.
    found: &'static str,
    boot_sector_gone: bool,
    /// What its partition entry says, in words.
    entry: Option<String>,
    /// What is left of an older volume beneath it.
    older: Option<json::Finding>,
}

pub(crate) fn run(args: &Args, given: &Scout) -> anyhow::Result<Verdict> {
    let images = match given.images.as_slice() {
        [only] if !only.is_dir() => return look(given, only, &Screen::new())?.print(args),
        several => many::images(several)?,
    };
    many::run(args, &images, "punchdog.scouts/1", |image| look(given, image, &Screen::quiet()))
}

/// Looks at one image.
fn look(given: &Scout, path: &Path, screen: &Screen) -> anyhow::Result<Looked<Document>> {
    let image = choose::open(path, &given.reading)?;
    let seen = partition::scout(&image, true, screen)?;
    let older = diagnosis::formatted_over(&image, &seen, screen)?;
    let whole =
        seen.volumes.iter().all(|place| !place.boot_gone && place.extent.offset + place.bytes <= image.len());
    let faults = seen.findings.iter().any(|finding| finding.weight != Weight::Remark);
    let found = !seen.volumes.is_empty() || !seen.strangers.is_empty();
    let fine = found && whole && !faults;
    // A table that leads to nothing is something to show.
    if !found && (seen.table == Table::None || seen.findings.is_empty()) {
        return Err(choose::nothing(path, &image, &seen));
    }
    let volumes = seen.volumes.iter().enumerate().map(|(n, place)| Volume {
        number: n + 1,
        kind: place.what,
        offset: place.extent.offset,
        bytes: place.bytes,
        found: place.way.name(),
        boot_sector_gone: place.boot_gone,
        entry: place.entry.clone(),
        older: older
            .iter()
            .find(|(index, _)| *index == n)
            .map(|(_, finding)| json::Finding::of(finding, place.extent.offset)),
    });
    let document = Document {
        schema: "punchdog.scout/1",
        image: json::Image::of(path, image.len()),
        table: table_name(seen.table),
        table_sector_bytes: seen.unit,
        volumes: volumes.collect(),
        strangers: json::strangers(&seen),
        unreadable: medium_unreadable(&image),
        blank: seen.blank.map(|blank| format!("{blank:?}").to_lowercase()),
        findings: json::Finding::all(&seen.findings, 0),
    };
    let (order, style) = if fine { ("in order", page::GOOD) } else { ("not in order", page::BAD) };
    let kinds: Vec<&str> = seen
        .volumes
        .iter()
        .map(|place| place.what.title())
        .chain(seen.strangers.iter().map(|stranger| stranger.name.title))
        .collect();
    let verdict = (format!("{order}: {}", kinds.join(", ")), style);
    Ok(Looked { verdict, page: text(path, given, &image, &seen, &older, fine), document, fine })
}

pub(crate) fn table_name(table: Table) -> &'static str {
    match table {
        Table::None => "none",
        Table::Mbr => "mbr",
        Table::Gpt(..) => "gpt",
    }
}

fn table_text(seen: &Scouting) -> String {
    let table = match seen.table {
        Table::None => "no partition table",
        Table::Mbr => "MBR partition table",
        Table::Gpt(true, true) => "GPT partition table, both copies whole",
        Table::Gpt(false, false) => "GPT partition table, both copies gone",
        Table::Gpt(true, false) => "GPT partition table, backup copy damaged",
        Table::Gpt(..) => "GPT partition table, primary copy damaged",
    };
    match seen.unit {
        large if large != 512 && seen.table != Table::None => {
            format!("{table}, which counts in sectors of {large} bytes")
        }
        _ => table.to_owned(),
    }
}

fn text(
    path: &Path,
    given: &Scout,
    medium: &choose::Image,
    seen: &Scouting,
    older: &[(usize, Finding)],
    fine: bool,
) -> Page {
    let bytes = medium.len();
    let mut page = Page::new();
    let name = choose::file_name(path);
    let (verdict, style) = if fine { ("in order", page::GOOD) } else { ("not in order", page::BAD) };
    page.head(&format!("{} · {}", page::clean(&name), page::size(bytes)), verdict, style);
    page.gap();
    page.say(&if seen.volumes.iter().any(|place| place.way == Way::Bare) {
        "It is a bare volume, without a partition table.".to_owned()
    } else {
        let many = match seen.volumes.len() {
            0 => "no volume that Punchdog knows".to_owned(),
            many => page::count(many as u64, "volume", "volumes"),
        };
        format!("It holds {many}, {}.", table_text(seen))
    });
    if !seen.volumes.is_empty() || !seen.strangers.is_empty() {
        page.gap();
    }
    for (number, place) in seen.volumes.iter().enumerate() {
        volume(&mut page, number + 1, place, medium);
        for (_, finding) in older.iter().filter(|(index, _)| *index == number) {
            page.under(14, &format!("{}: most likely it was formatted over.", capital(&finding.summary)));
        }
    }
    for stranger in &seen.strangers {
        let left = format!("-  {:<8}", "other");
        let text = format!(
            "{} at byte {}, {}: {}",
            stranger.name.title,
            stranger.extent.offset,
            page::size(stranger.extent.length),
            stranger.name.advice()
        );
        page.beside(14, &left, page::WARN, &text);
    }
    if !seen.findings.is_empty() {
        page.gap();
    }
    let unreadable = medium_unreadable(medium);
    if !unreadable.is_empty() {
        let sectors = impaired::sectors(&unreadable);
        let many = page::count(sectors, "sector of it cannot be read", "sectors of it cannot be read");
        page.gap();
        page.say(&format!("{many}; check says of each volume what lies there."));
    }
    for finding in &seen.findings {
        page.beside(32, finding.entry.code, page::style(finding.weight), &finding.summary);
        page.under(32, &finding.detail());
    }
    let next = comes_next(path, given, bytes, seen, older);
    if !next.is_empty() {
        page.next(&next);
    }
    page
}

/// Commands that come next, with what each does.
fn comes_next(
    path: &Path,
    given: &Scout,
    bytes: u64,
    seen: &Scouting,
    older: &[(usize, Finding)],
) -> Vec<(String, &'static str)> {
    let (image, reading) = (page::quoted(path), given.reading.again());
    let mut next = Vec::new();
    if let Some(member) = seen.member {
        return vec![crate::striped::next(path, member)];
    }
    if let Some(place) = seen.volumes.first() {
        let again = if place.way == Way::Bare { String::new() } else { " --volume 1".to_owned() };
        next.push((format!("punchdog check {image}{again}{reading}"), "is the volume itself sound?"));
        if let Some((index, _)) = older.first() {
            let finds = page::quoted(&page::beside(path, "", "finds.json"));
            let again =
                if place.way == Way::Bare { String::new() } else { format!(" --volume {}", index + 1) };
            next.push((
                format!("punchdog unearth {image}{again}{reading} --out {finds}"),
                "searches for what was on it before; write nothing to the medium",
            ));
        }
    } else if let Some(place) = seen.beneath.first() {
        let at = place.extent.offset;
        next.push((
            format!("punchdog check {image} --at {at} --inside{reading}"),
            "what is left of the volume beneath? write nothing to the medium",
        ));
    } else if seen.strangers.iter().any(|stranger| stranger.name.was_laid_over()) {
        let finds = page::quoted(&page::beside(path, "", "finds.json"));
        next.push((
            format!("punchdog unearth {image}{reading} --out {finds}"),
            "if something was laid over files by mistake: searches for these; write nothing to the medium",
        ));
    } else if seen.strangers.iter().all(|stranger| stranger.extent.end() < bytes) {
        let finds = page::quoted(&page::beside(path, "", "finds.json"));
        next.push((
            format!("punchdog unearth {image}{reading} --out {finds}"),
            "searches all of it for files by their content",
        ));
    }
    if seen.findings.iter().any(|finding| finding.weight != Weight::Remark) {
        next.push((
            format!(
                "punchdog plan {image}{reading} --out {}",
                page::quoted(&page::beside(path, "", "plan.json"))
            ),
            "the repair of the table, and of all else that is wrong",
        ));
    }
    next
}

fn volume(page: &mut Page, number: usize, place: &Place, medium: &choose::Image) {
    let image = medium.len();
    let left = format!("{number}  {:<8}", place.what.title());
    let mut text = format!("at byte {}, {}", place.extent.offset, page::size(place.bytes));
    match (&place.entry, place.way) {
        (Some(entry), _) => text = format!("{text}, listed by {entry}"),
        (None, Way::Lost) => text = format!("{text}, in no partition entry: found by its structures"),
        _ => {}
    }
    if place.boot_gone {
        let first = Extent::new(place.extent.offset, 512);
        let unread = medium_unreadable(medium).iter().any(|bad| bad.overlaps(first));
        let state = if unread { "cannot be read" } else { "is gone, and it is known by what lies behind" };
        text = format!("{text}; its boot sector {state}");
    }
    if place.extent.offset + place.bytes > image {
        let missing = place.extent.offset + place.bytes - image;
        text = format!(
            "{text}; its last {} are not in the image: a copy cut short, or a medium with less room than it claims",
            page::size(missing)
        );
    }
    page.beside(14, &left, if place.boot_gone { page::BAD } else { page::STRONG }, &text);
}

/// The places of the image that cannot be read.
fn medium_unreadable(image: &choose::Image) -> Vec<Extent> {
    image.unknown(Unknown::Unreadable)
}
