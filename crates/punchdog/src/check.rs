//! `punchdog check`: structural faults.

use crate::{
    args::{Args, Check},
    choose::{self, Chosen},
    json,
    page::{self, Page},
    trouble::Verdict,
    watch::Screen,
};
use punchdog_core::{
    family::Examination,
    finding::{Finding, Weight},
    forecast::HostForecast,
    medium::{Medium, Window},
    partition::Scouting,
};
use serde_json::json;
use std::path::Path;

/// Findings of one class that are shown one by one.
const SHOWN: usize = 4;
/// Deleted files that can be read, from which on they are worth a word: a few lie on every volume.
pub(crate) const MANY_DELETED: u64 = 8;
/// Where the text beside a code begins.
const TEXT_AT: usize = 32;

pub(crate) fn run(args: &Args, given: &Check) -> anyhow::Result<Verdict> {
    let image = choose::open(&given.target.image)?;
    let screen = Screen::new();
    let (chosen, seen) = choose::all(&image, &given.target, &screen)?;
    let mut examined = Vec::new();
    for volume in chosen {
        let window = Window::new(&image, volume.extent);
        let examination = volume.volume.examine(&window, &screen)?;
        let hosts = volume.volume.forecast(&window, 512);
        examined.push((volume, examination, hosts));
    }
    drop(screen);
    let table_faults = seen.as_ref().map_or(&[][..], |seen| &seen.findings);
    let table_sound = table_faults.iter().all(|f| f.weight == Weight::Remark);
    let sound = table_sound && examined.iter().all(|(_, examination, _)| examination.sound());
    if args.json {
        let volumes: Vec<_> = examined.iter().map(|(chosen, found, _)| volume_json(chosen, found)).collect();
        json::print(&json!({
            "schema": "punchdog.check/2",
            "image": json::image(&given.target.image, image.len()),
            "sound": sound,
            "volumes": volumes,
            "table": seen.as_ref().map(|seen| json!({
                "kind": crate::scout::table_name(seen.table),
                "findings": table_faults.iter().map(|f| json::finding(f, 0)).collect::<Vec<_>>(),
            })),
            "strangers": seen.as_ref().map_or_else(Vec::new, json::strangers),
        }))?;
        return Ok(Verdict::of(sound));
    }
    let mut page = Page::new();
    if let Some(seen) = &seen {
        table(&mut page, seen, &given.target.image);
    }
    for (number, (chosen, examination, hosts)) in examined.iter().enumerate() {
        if number > 0 {
            page.gap();
        }
        let verdict = verdict(examination, hosts);
        volume(&mut page, &given.target.image, chosen, (examination, verdict), given.all);
    }
    page.print()?;
    Ok(Verdict::of(sound))
}

fn volume_json(chosen: &Chosen, examination: &Examination) -> serde_json::Value {
    json!({
        "kind": chosen.volume.kind().name(),
        "offset": chosen.extent.offset,
        "bytes": chosen.volume.bytes(),
        "label": examination.label,
        "sound": examination.sound(),
        "files": examination.tally,
        "deleted": examination.deleted,
        "findings": examination.findings.iter().map(|f| json::finding(f, chosen.extent.offset)).collect::<Vec<_>>(),
    })
}

fn table(page: &mut Page, seen: &Scouting, path: &Path) {
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
            "punchdog plan {} --out {}",
            page::word(path),
            page::word(&page::beside(path, "", "plan.json"))
        ),
        "the repair of the table, and of all else that is wrong",
    )]);
    page.gap();
}

/// What the heaviest finding comes to, for the first line; as `explain` says it, host by host.
fn verdict(examination: &Examination, hosts: &[HostForecast]) -> (String, anstyle::Style) {
    let faults = examination.findings.iter().filter(|f| f.weight != Weight::Remark);
    let number = faults.clone().fold(0, |sum, finding| sum + finding.count);
    match faults.map(|finding| finding.weight).min() {
        None => ("sound".to_owned(), page::GOOD),
        Some(Weight::BlocksMount) => {
            let all = hosts.iter().all(|host| !host.mounts_read_only);
            let what = if all { "does not mount" } else { "some hosts refuse it" };
            (format!("{what}: {}", page::count(number, "fault", "faults")), page::BAD)
        }
        Some(Weight::RisksFiles) => {
            (format!("files at risk: {}", page::count(number, "fault", "faults")), page::WARN)
        }
        Some(_) => (format!("untidy: {}", page::count(number, "fault", "faults")), page::STRONG),
    }
}

/// Some host refuses it.
fn blocks(examination: &Examination) -> bool {
    examination.findings.iter().any(|finding| finding.weight == Weight::BlocksMount)
}

fn volume(
    page: &mut Page,
    path: &Path,
    chosen: &Chosen,
    (examination, (text, style)): (&Examination, (String, anstyle::Style)),
    all: bool,
) {
    page.head(&choose::title(path, chosen, examination.label.as_deref()), &text, style);
    page.gap();
    page.say(&examination.story);
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
        findings(page, &examination.findings, chosen.extent.offset, all);
    }
    if let Some(likely) = &examination.likely {
        page.gap();
        page.say(&format!("Likely: {likely}."));
    }
    let image = page::word(path);
    let again = &chosen.again;
    if examination.sound() {
        // Where the way to it is at fault, the table's findings have said what comes next.
        let when = if chosen.way_is_clear() {
            "if a host does not show it: reader, port, cable, drive letter"
        } else {
            "what is in it; hosts do not show it because of the partition table"
        };
        let mut next = vec![(format!("punchdog files {image}{again}"), when)];
        if examination.deleted.readable >= MANY_DELETED {
            next.push((
                format!("punchdog salvage {image}{again} --state deleted --to SOMEWHERE-ELSE"),
                "copies the deleted files out; write nothing to the medium before that",
            ));
        }
        page.next(&next);
    } else {
        page.next(&[
            (
                format!("punchdog explain {image}{again}"),
                if blocks(examination) {
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
