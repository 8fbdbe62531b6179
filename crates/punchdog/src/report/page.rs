//! The page itself: plain words first, then the grounds.

use super::{Facts, Named, sectors};
use crate::json::Finding;
use crate::page::{clean, count, size};
use maud::{DOCTYPE, Markup, PreEscaped, html};

/// Findings of a volume that stand on the page; the JSON has all.
const FINDINGS: usize = 60;
/// Steps that stand on the page.
const STEPS: usize = 80;

const STYLE: &str = "
@page{size:A4;margin:16mm}
body{font:14px/1.45 sans-serif;color:#111;max-width:60em;margin:1.5em auto;padding:0 1.2em}
h1{font-size:1.5em;margin:0 0 .2em}h2{font-size:1.1em;margin:1.6em 0 .4em;border-bottom:1px solid #999}
.job{font-weight:bold}.plain{font-size:1.08em;border-left:4px solid #444;padding:.2em 0 .2em 1em;margin:1em 0}
table{border-collapse:collapse;width:100%;font-size:.92em}td,th{text-align:left;vertical-align:top;padding:.2em .7em .2em 0;border-bottom:1px solid #ddd}
code{font:12px/1.4 monospace;word-break:break-all}.faint{color:#555}.files td:first-child{word-break:break-all}
h2,tr{break-inside:avoid}h2{break-after:avoid}svg{max-width:100%;height:auto}
";

/// What came in, what was wrong, what was done, what was saved, what was not: a paragraph each.
pub(super) fn summary(facts: &Facts) -> Vec<String> {
    let mut said = Vec::new();
    let image = format!("An image of {} was examined.", size(facts.image.bytes));
    match facts.volumes.as_slice() {
        [] => said.push(format!("{image} No file system that this program knows was recognised on it.")),
        volumes => {
            let sound = volumes.iter().all(|volume| volume.sound) && facts.table.iter().all(is_remark);
            let which = count(volumes.len() as u64, "file system", "file systems");
            said.push(if sound {
                format!("{image} It holds {which}, in which no fault was found.")
            } else {
                format!("{image} It holds {which}, and something is wrong:")
            });
            for volume in volumes.iter().filter(|volume| !volume.sound) {
                said.push(volume.story.clone());
            }
        }
    }
    let told = facts.volumes.iter().any(|volume| !volume.sound);
    if !facts.unreadable.is_empty() && !told {
        said.push(format!("{} of the medium could not be read.", sectors(&facts.unreadable)));
    }
    if let Some(saved) = &facts.saved {
        let failed = match saved.failed {
            0 => String::new(),
            some => format!(" {} could not be copied.", count(some, "file", "files")),
        };
        said.push(format!(
            "{}, {}, were copied out of the image; {} of them are whole as far as the file system tells.{failed}",
            count(saved.files, "file", "files"),
            size(saved.bytes),
            saved.whole
        ));
    }
    if let Some(found) = &facts.finds {
        said.push(format!(
            "A search for deleted and former files found {} that are complete, {} that are likely so, and {} that are not{}.",
            found.complete,
            found.likely,
            found.broken,
            if found.done { "" } else { "; it was not finished" }
        ));
    }
    match (&facts.plan, &facts.copy) {
        (Some(plan), Some(copy)) if copy.as_planned => said.push(format!(
            "A copy was repaired in {}; measured again, it came out as planned: {}",
            count(plan.steps.len() as u64, "step", "steps"),
            plan.summary
        )),
        (Some(_), Some(_)) => said.push(
            "The copy is not what the plan said: it was changed since, or belongs to another plan. It must not be handed out as repaired.".to_owned(),
        ),
        (Some(plan), None) => {
            said.push(format!("A repair was planned, and no repaired copy was examined: {}", plan.summary));
        }
        (None, _) => said.push("Nothing was repaired.".to_owned()),
    }
    said
}

fn is_remark(finding: &Finding) -> bool {
    finding.weight == "remark"
}

/// What this report does not know.
pub(super) fn not_tried(facts: &Facts, listed: bool) -> Vec<String> {
    let mut said = Vec::new();
    if !listed && facts.unreadable.is_empty() {
        said.push("Whether every place of the medium can be read was not tried (no list of unreadable places was given).".to_owned());
    }
    said.push("What hosts do is a forecast: Linux by the checks of its driver, Windows by published demands only. No host was asked.".to_owned());
    said.push(
        "The content of files was not opened: a file is called whole where the file system has all of it."
            .to_owned(),
    );
    if facts.saved.is_none() {
        said.push(
            "Whether files were copied out is not known (no folder of saved files was given).".to_owned(),
        );
    }
    if facts.finds.is_none() {
        said.push("Deleted and former files were not searched for.".to_owned());
    }
    if facts.plan.is_some() && facts.copy.is_none() {
        said.push("The repaired copy was not examined.".to_owned());
    }
    said
}

pub(super) fn page(facts: &Facts, drawings: &[Markup]) -> Markup {
    html! {
        (DOCTYPE)
        html lang="en" {
            head { meta charset="utf-8"; title { "Report on " (clean(&facts.image.path)) } style { (PreEscaped(STYLE)) } }
            body {
                h1 { "Report on " (clean(&facts.image.path)) }
                @if let Some(job) = &facts.job { p class="job" { (clean(job)) } }
                p class="faint" { "Made " (facts.made) " by Punchdog " (facts.version) ". The image itself was only read." }
                @for note in &facts.notes { p { (clean(note)) } }
                div class="plain" { @for paragraph in &facts.summary { p { (clean(paragraph)) } } }
                @for drawing in drawings { h2 { "Where everything lies" } (drawing) }
                (table(&facts.table))
                @for volume in &facts.volumes { (one_volume(volume)) }
                @if let Some(plan) = &facts.plan { (repair(plan)) }
                @if let Some(copy) = &facts.copy {
                    p { "The copy was measured for this report: "
                        @if copy.as_planned { "it is what the plan said" } @else { b { "it is not what the plan said" } }
                        ", " (if copy.outcome.sound { "and it is sound." } else { "and faults remain." })
                    }
                }
                @if let Some(saved) = &facts.saved {
                    (files("Files that were copied out and are not whole", &saved.short, 0))
                }
                h2 { "What was not tried" }
                ul { @for line in &facts.not_tried { li { (line) } } }
                h2 { "Digests" }
                table {
                    tr { td { "image" } td { code { "SHA-256 " (facts.image.sha256) } br; (facts.image.bytes) " bytes" @if !facts.unreadable.is_empty() { ", zeros for what cannot be read" } } }
                    @if let Some(copy) = &facts.copy {
                        tr { td { "copy" } td { (clean(&copy.file.path)) br; code { "SHA-256 " (copy.file.sha256) } br; (copy.file.bytes) " bytes" } }
                    }
                }
            }
        }
    }
}

fn table(findings: &[Finding]) -> Markup {
    html! {
        @if !findings.is_empty() {
            h2 { "Partition table" }
            (rows(findings))
        }
    }
}

fn rows(findings: &[Finding]) -> Markup {
    let places = |finding: &Finding| -> String {
        let shown: Vec<String> = finding
            .extents
            .iter()
            .take(3)
            .map(|extent| {
                format!(
                    "bytes {} to {}",
                    extent.offset,
                    extent.offset.saturating_add(extent.length).saturating_sub(1)
                )
            })
            .collect();
        let more = finding.extents.len().saturating_sub(3);
        if more > 0 { format!("{} and {more} more", shown.join(", ")) } else { shown.join(", ") }
    };
    html! {
        table {
            @for finding in findings.iter().take(FINDINGS) {
                tr {
                    td { (clean(&finding.summary)) br; span class="faint" { (finding.code) } }
                    td { (clean(&finding.detail)) br; span class="faint" { (places(finding)) } }
                    td { (finding.weight) }
                }
            }
        }
        @if findings.len() > FINDINGS { p class="faint" { "and " (findings.len() - FINDINGS) " more, in the JSON beside this page" } }
    }
}

fn one_volume(volume: &super::Volume) -> Markup {
    html! {
        h2 { (clean(&volume.title)) }
        p { (clean(&volume.story)) @if let Some(likely) = &volume.likely { " Likely: " (clean(likely)) "." } }
        table {
            @for host in &volume.hosts {
                tr {
                    td { (host.host) }
                    td { @if host.mounts { "mounts it (forecast)" } @else { "does not take it as it should: " (clean(&host.reason)) }
                        @for line in &host.log { br; code { (clean(line)) } } }
                }
            }
        }
        @if !volume.findings.is_empty() { h2 { "Findings" } (rows(&volume.findings)) }
        (files("Files that were not whole when it came in", &volume.damaged, volume.damaged_more))
    }
}

fn repair(plan: &super::Planned) -> Markup {
    html! {
        h2 { "The repair, step by step" }
        p { (clean(&plan.summary)) }
        table {
            @for step in plan.steps.iter().take(STEPS) {
                tr { td { (step.provenance) } td { (clean(&step.does)) br; span class="faint" { "from " (clean(&step.from)) } } td { (size(step.bytes)) } }
            }
        }
        @if plan.steps.len() > STEPS { p class="faint" { "and " (plan.steps.len() - STEPS) " more, in the plan" } }
        p class="faint" { "exact: from an intact second copy. derived: computed from other structures. judged: the likelier of several readings; open such files before handing them out." }
        (files("What the repair could not keep whole", &plan.worse, 0))
    }
}

fn files(title: &str, list: &[Named], more: usize) -> Markup {
    html! {
        @if !list.is_empty() {
            h2 { (title) }
            table class="files" {
                @for file in list { tr { td { (clean(&file.path)) } td { (file.state) } td { (clean(&file.why)) } } }
            }
            @if more > 0 { p class="faint" { "and " (more) " more" } }
        }
    }
}
