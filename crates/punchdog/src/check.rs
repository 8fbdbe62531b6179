//! `punchdog check`: structural faults.

use crate::{
    args::{Args, Check, Target},
    choose::{self, Chosen},
    failure::Verdict,
    json,
    many::{self, Looked},
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    diagnosis::{Diagnosed, Verdict as Comes},
    family::Kind,
    medium::{Gap, Interval, Medium},
    partition::Scouting,
    report::{
        examination::{Deleted, Tally},
        finding::{Finding, Weight},
    },
};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// Findings of one class that are shown one by one.
const SHOWN: usize = 4;
/// Deleted files that can be read, from which on they are worth a word: a few lie on every volume.
pub(crate) const MANY_DELETED: u64 = 8;
/// Where the text beside a code begins.
const TEXT_AT: usize = 32;

pub(crate) fn run(args: &Args, given: &Check) -> anyhow::Result<Verdict> {
    let images = match given.images.as_slice() {
        [only] if !only.is_dir() => return look(given, only, &Screen::new())?.print(args),
        several => many::images(several)?,
    };
    many::run(args, &images, "punchdog.checks/1", |image| look(given, image, &Screen::quiet()))
}

/// Looks at one image.
fn look(given: &Check, path: &Path, screen: &Screen) -> anyhow::Result<Looked<Document>> {
    let target = given.target(path);
    let image = choose::open_for(path, &target.which)?;
    let (chosen, seen) = choose::all(&image, &target, screen)?;
    let mut examined = Vec::new();
    for Chosen { target, again } in chosen {
        examined.push((Diagnosed::of(&image, target, None, screen)?, again));
    }
    let sound = seen.as_ref().is_none_or(Scouting::in_order)
        && examined.iter().all(|(found, _)| found.examination.sound());
    let document = Document {
        schema: "punchdog.check/2",
        image: json::Image::of(path, image.len()),
        sound,
        volumes: examined.iter().map(|(found, _)| Volume::of(found)).collect(),
        table: seen.as_ref().map(|seen| Table {
            kind: crate::scout::table_name(seen.table),
            findings: json::Finding::all(&seen.findings, 0),
        }),
        strangers: seen.as_ref().map_or_else(Vec::new, json::strangers),
    };
    let mut page = Page::new();
    if let Some(seen) = &seen {
        table(&mut page, seen, &target);
    }
    for (number, (found, again)) in examined.iter().enumerate() {
        if number > 0 {
            page.gap();
        }
        volume(&mut page, path, found, again, given.all);
    }
    let mut words: Vec<(String, anstyle::Style)> = Vec::new();
    if seen.as_ref().is_some_and(|seen| !seen.in_order()) {
        words.push(("partition table not in order".to_owned(), page::BAD));
    }
    for (found, _) in &examined {
        let (text, style) = verdict(found);
        words.push((format!("{} {text}", found.target.volume.kind().title()), style));
    }
    let style = words.iter().find(|(_, style)| *style != page::GOOD).map_or(page::GOOD, |(_, style)| *style);
    let texts: Vec<String> = words.into_iter().map(|(text, _)| text).collect();
    Ok(Looked { verdict: (texts.join("; "), style), page, document, fine: sound })
}

/// The document of `check`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.check/2"))]
    schema: &'static str,
    image: json::Image,
    /// Nothing weighs more than a remark, of the table and of every volume.
    sound: bool,
    volumes: Vec<Volume>,
    /// Where one volume was chosen, none.
    table: Option<Table>,
    /// What Punchdog does not know.
    strangers: Vec<json::Stranger>,
}

/// The partition table.
#[derive(Serialize, JsonSchema)]
struct Table {
    /// `none`, `mbr` or `gpt`.
    kind: &'static str,
    findings: Vec<json::Finding>,
}

/// A volume as it was read.
#[derive(Serialize, JsonSchema)]
struct Volume {
    kind: Kind,
    /// Where it begins.
    offset: u64,
    bytes: u64,
    label: Option<String>,
    /// Nothing weighs more than a remark.
    sound: bool,
    files: Tally,
    /// What is marked deleted.
    deleted: Deleted,
    findings: Vec<json::Finding>,
    /// Bytes that are left out of the image, by where they would stand if they were there, as `surface --left-out` takes them.
    #[serde(skip_serializing_if = "<[Gap]>::is_empty")]
    left_out: Vec<Gap>,
    /// Bytes that the image has too many, by the place before which they stand, as `surface --inserted` takes them.
    #[serde(skip_serializing_if = "<[Gap]>::is_empty")]
    inserted: Vec<Gap>,
    /// Places at a regular distance that read blank, from the start of the image, as `surface --blank-intervals` takes them.
    #[serde(skip_serializing_if = "<[Interval]>::is_empty")]
    blank_intervals: Vec<Interval>,
}

impl Volume {
    fn of(found: &Diagnosed) -> Self {
        let Diagnosed { target, examination, .. } = found;
        let base = target.extent.offset;
        Self {
            kind: target.volume.kind(),
            offset: base,
            bytes: target.volume.bytes(),
            label: examination.label.clone(),
            sound: examination.sound(),
            files: examination.tally,
            deleted: examination.deleted,
            findings: json::Finding::all(&examination.findings, base),
            left_out: examination.left_out.iter().map(|gap| gap.moved(base)).collect(),
            inserted: examination.inserted.iter().map(|gap| gap.moved(base)).collect(),
            blank_intervals: examination.blank_intervals.iter().map(|one| one.moved(base)).collect(),
        }
    }
}

fn table(page: &mut Page, seen: &Scouting, target: &Target) {
    let path = &target.image;
    if seen.findings.is_empty() {
        return;
    }
    let faults = seen.findings.iter().filter(|finding| finding.weight != Weight::Remark).count() as u64;
    let (verdict, style) = match faults {
        0 => ("in order".to_owned(), page::GOOD),
        _ => (page::count(faults, "fault", "faults"), page::BAD),
    };
    page.head("partition table", &verdict, style);
    page.gap();
    findings(page, &seen.findings, 0, false);
    if faults == 0 {
        page.gap();
        return;
    }
    page.next(&[(
        format!(
            "punchdog plan {}{} --out {}",
            page::quoted(path),
            target.which.reading.again(),
            page::quoted(&page::beside(path, "", "plan.json"))
        ),
        "the repair of the table, and of all else that is wrong",
    )]);
    page.gap();
}

/// What the volume comes to, for the first line; as `explain` says it, host by host.
fn verdict(found: &Diagnosed) -> (String, anstyle::Style) {
    let faults = page::count(found.faults(), "fault", "faults");
    match found.verdict() {
        Comes::Sound if found.target.is_contested() => ("sound by itself".to_owned(), page::WARN),
        Comes::Sound => ("sound".to_owned(), page::GOOD),
        Comes::Untidy => (format!("untidy: {faults}"), page::STRONG),
        Comes::FilesAtRisk => (format!("files at risk: {faults}"), page::WARN),
        Comes::RefusedBySome => (format!("some hosts refuse it: {faults}"), page::BAD),
        Comes::RefusedByAll => (format!("does not mount: {faults}"), page::BAD),
    }
}

fn volume(page: &mut Page, path: &Path, found: &Diagnosed, again: &str, all: bool) {
    let Diagnosed { target, examination, .. } = found;
    let (text, style) = verdict(found);
    page.head(&choose::title(path, target, examination.label.as_deref()), &text, style);
    page.gap();
    page.say(&examination.story);
    if let Some(likely) = &examination.likely {
        page.gap();
        page.say(&format!("Likely: {likely}."));
    }
    let deleted = examination.deleted;
    if deleted.readable >= MANY_DELETED {
        page.say(&format!(
            "{} marked deleted; {} of them can still be read, nothing has their clusters now.",
            page::count(deleted.files, "file is", "files are"),
            deleted.readable
        ));
    }
    if !examination.findings.is_empty() {
        page.gap();
        findings(page, &examination.findings, target.extent.offset, all);
    }
    let image = page::quoted(path);
    if examination.sound() {
        // Where the way to it is at fault, the table's findings have said what comes next.
        let when = if target.way_is_clear() {
            "if a host does not show it: reader, port, cable, drive letter"
        } else {
            "what is in it; hosts do not show it because of the partition table"
        };
        let mut next = vec![(format!("punchdog files {image}{again}"), when)];
        if found.is_formatted_over() {
            let from = crate::explain::unearth(path, again);
            next.push((from, "searches for what was on it before; write nothing to the medium"));
        }
        if examination.deleted.readable >= MANY_DELETED {
            next.push((
                format!("punchdog salvage {image}{again} --state deleted --to SOMEWHERE-ELSE"),
                "copies the deleted files out; write nothing to the medium before that",
            ));
        }
        page.next(&next);
    } else if !crate::spaced::comes_next(page, path, examination, target.extent.offset) {
        page.next(&[
            (
                format!("punchdog explain {image}{again}"),
                if matches!(found.verdict(), Comes::RefusedBySome | Comes::RefusedByAll) {
                    "which host refuses it, and at which byte"
                } else {
                    "what hosts make of it, and the bytes that show it"
                },
            ),
            (format!("punchdog salvage {image}{again} --to SOMEWHERE-ELSE"), "copy the files out first"),
        ]);
    }
}

fn findings(page: &mut Page, list: &[Finding], base: u64, all: bool) {
    let mut shown = std::collections::HashMap::new();
    for finding in list {
        let count: &mut usize = shown.entry(finding.entry.code).or_insert(0);
        *count += 1;
        if !all && *count > SHOWN {
            continue;
        }
        page.beside(TEXT_AT, finding.entry.code, page::style(finding.weight), &finding.summary);
        let detail = finding.detail();
        if !detail.is_empty() && (all || *count <= 2) {
            page.under(TEXT_AT, &detail);
        }
        page.under_faint(TEXT_AT, &place(finding, base));
    }
    for (code, count) in shown.into_iter().collect::<std::collections::BTreeMap<_, _>>() {
        let hidden = count.saturating_sub(SHOWN);
        if !all && hidden > 0 {
            page.beside(
                TEXT_AT,
                code,
                page::FAINT,
                &format!("and {hidden} more of this class; --all lists them"),
            );
        }
    }
}

/// The weight and the bytes of a finding.
fn place(finding: &Finding, base: u64) -> String {
    let mut text = finding.weight.name().to_owned();
    for (number, extent) in finding.extents.iter().enumerate() {
        if number == 3 {
            text = format!("{text}, and {} more", finding.extents.len() - 3);
            break;
        }
        let extent = extent.moved(base);
        text = if extent.length == 1 {
            format!("{text} · byte {}", extent.offset)
        } else {
            format!("{text} · bytes {} to {}", extent.offset, extent.end() - 1)
        };
    }
    if finding.count > 1 {
        text = format!("{text} · {} alike", finding.count);
    }
    text
}
