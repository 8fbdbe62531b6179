//! `punchdog explain`: why it does not mount, host by host.

use crate::{
    args::{self, Args, Explain},
    choose::{self, Chosen},
    failure::Verdict,
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    diagnosis::{
        Diagnosed, Target,
        outside::{Ground, Hint},
    },
    family::Kind,
    medium::Medium,
    report::{
        examination::{Deleted, Exhibit},
        finding::{Entry, Finding},
        forecast::{Basis, HostForecast},
        wording::capital,
    },
};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

pub(crate) fn run(args: &Args, given: &Explain) -> anyhow::Result<Verdict> {
    let image = choose::open_for(&given.target.image, &given.target.which)?;
    let screen = Screen::new();
    let (chosen, _) = choose::all(&image, &given.target, &screen)?;
    let mut told = Vec::new();
    for Chosen { target, again } in chosen {
        let (found, hints) = Diagnosed::with_hints(&image, target, given.sector, &screen)?;
        told.push((found, again, hints));
    }
    drop(screen);
    let fine = told.iter().all(|(found, ..)| found.reaches_every_host());
    if args.json {
        let hosts = match told.as_slice() {
            [(only, ..)] => Some(Host::all(only)),
            _ => None,
        };
        json::print(&Document {
            schema: "punchdog.explain/2",
            image: json::Image::of(&given.target.image, image.len()),
            hosts,
            volumes: told.iter().map(|(found, _, hints)| Volume::of(found, hints)).collect(),
        })?;
        return Ok(Verdict::of(fine));
    }
    let mut page = Page::new();
    for (number, (found, again, hints)) in told.iter().enumerate() {
        if number > 0 {
            page.gap();
        }
        volume(&mut page, &given.target, found, again, hints);
    }
    page.print()?;
    Ok(Verdict::of(fine))
}

/// The document of `explain`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document<'d> {
    #[schemars(extend("const" = "punchdog.explain/2"))]
    schema: &'static str,
    image: json::Image,
    /// Those of the only volume.
    #[serde(skip_serializing_if = "Option::is_none")]
    hosts: Option<Vec<Host<'d>>>,
    volumes: Vec<Volume<'d>>,
}

/// What a host does.
#[derive(Serialize, JsonSchema)]
struct Host<'d> {
    /// `linux` or `windows`.
    #[serde(rename = "host")]
    name: &'static str,
    finds_volume: bool,
    /// The code of the fault of the table that keeps it from there.
    not_found_by: Option<&'static str>,
    /// Once it gets there.
    mounts_read_only: bool,
    mounts_read_write: bool,
    /// The code of the finding that it refuses the volume for.
    refused_by: Option<&'static str>,
    reason: &'d str,
    /// What it logs, a line a row; `DEV` stands for the device.
    log: String,
    log_read_write: String,
    /// What its user sees.
    seen: &'d str,
    basis: Basis,
}

impl<'d> Host<'d> {
    fn all(found: &'d Diagnosed) -> Vec<Self> {
        let of = |host: &'d HostForecast| {
            let missed = found.target.not_found_by(host.host);
            Self {
                name: host.host,
                finds_volume: missed.is_none(),
                not_found_by: missed.map(|entry| entry.code),
                mounts_read_only: host.mounts_read_only,
                mounts_read_write: host.mounts_read_write,
                refused_by: host.refused_by,
                reason: &host.reason,
                log: host.log.join("\n"),
                log_read_write: host.log_read_write.join("\n"),
                seen: &host.seen,
                basis: host.basis,
            }
        };
        found.hosts.iter().map(of).collect()
    }
}

/// Bytes that show what is wrong.
#[derive(Serialize, JsonSchema)]
struct Shown<'d> {
    place: &'d str,
    /// Where they stand.
    offset: u64,
    /// In hexadecimal.
    bytes: String,
    note: &'d str,
}

/// A volume, why it does not mount, and what is still whole.
#[derive(Serialize, JsonSchema)]
struct Volume<'d> {
    kind: Kind,
    /// Where it begins.
    offset: u64,
    bytes: u64,
    label: Option<&'d str>,
    /// Nothing weighs more than a remark.
    sound: bool,
    /// What is wrong, in one or two sentences.
    story: &'d str,
    /// What probably happened.
    likely: Option<&'d str>,
    /// What is still whole, a sentence each.
    intact: &'d [String],
    hosts: Vec<Host<'d>>,
    evidence: Vec<Shown<'d>>,
    /// What to try where nothing in the volume stops a host, in order.
    outside: &'d [Hint],
}

impl<'d> Volume<'d> {
    fn of(found: &'d Diagnosed, outside: &'d [Hint]) -> Self {
        let Diagnosed { target, examination, .. } = found;
        let base = target.extent.offset;
        let evidence = examination.exhibits.iter().map(|exhibit| Shown {
            place: &exhibit.place,
            offset: exhibit.offset + base,
            bytes: hex::encode(&exhibit.bytes),
            note: &exhibit.note,
        });
        Self {
            kind: target.volume.kind(),
            offset: base,
            bytes: target.volume.bytes(),
            label: examination.label.as_deref(),
            sound: examination.sound(),
            story: &examination.story,
            likely: examination.likely.as_deref(),
            intact: &examination.intact,
            hosts: Host::all(found),
            evidence: evidence.collect(),
            outside,
        }
    }
}

/// In a word, of so many hosts, of which some refuse it and some do not find it.
fn verdict(hosts: usize, refusing: usize, missing: usize, sound: bool) -> (&'static str, anstyle::Style) {
    match (refusing, sound) {
        (0, _) if missing == hosts => ("no host finds it", page::BAD),
        (0, _) if missing > 0 => ("some hosts do not find it", page::BAD),
        (0, true) => ("mounts", page::GOOD),
        (0, false) => ("mounts, but is not sound", page::WARN),
        (n, _) if n == hosts => ("does not mount", page::BAD),
        _ => ("some hosts refuse it", page::BAD),
    }
}

fn volume(page: &mut Page, given: &args::Target, found: &Diagnosed, again: &str, hints: &[Hint]) {
    let path = &given.image;
    let Diagnosed { target, examination, hosts } = found;
    let refusing = hosts.iter().filter(|host| !host.mounts_read_only).count();
    let missing = hosts.iter().filter(|host| target.not_found_by(host.host).is_some()).count();
    let (verdict, style) = verdict(hosts.len(), refusing, missing, examination.sound());
    page.head(&choose::title(path, target, examination.label.as_deref()), verdict, style);
    page.gap();
    way(page, target);
    page.say(&examination.story);
    if let Some(likely) = &examination.likely {
        page.gap();
        page.say(&format!("Likely: {likely}."));
    }
    page.gap();
    for forecast in hosts {
        host(page, forecast, target.not_found_by(forecast.host));
    }
    if !examination.exhibits.is_empty() {
        page.gap();
        for exhibit in &examination.exhibits {
            bytes(page, exhibit, target.extent.offset);
        }
    }
    follows(page, given, found, again, hints);
}

/// What can be done about it, and the command for that.
fn follows(page: &mut Page, given: &args::Target, found: &Diagnosed, again: &str, hints: &[Hint]) {
    let (path, reading) = (&given.image, given.which.reading.again());
    let Diagnosed { target, examination, .. } = found;
    let image = page::quoted(path);
    let plan = page::beside(path, again, "plan.json");
    if crate::spaced::comes_next(page, path, examination, target.extent.offset) {
        return;
    }
    if examination.sound() && target.needs_another_reader() {
        page.next(&[(
            format!("punchdog explain {image}{again}"),
            "the same through a reader with the sectors that the table counts in",
        )]);
    } else if examination.sound() && !target.way_is_clear() {
        page.next(&[
            (
                format!("punchdog scout {image}{reading}"),
                "what the partition table lists, and what it should",
            ),
            (
                format!(
                    "punchdog plan {image}{reading} --out {}",
                    page::quoted(&page::beside(path, "", "plan.json"))
                ),
                "the repair of the table, and of all else that is wrong",
            ),
        ]);
    } else if examination.sound()
        && let Some(reason) = found.reason_for_absence()
    {
        absence(page, path, found, reason, again);
    } else if examination.sound() && examination.deleted.readable >= crate::check::MANY_DELETED {
        page.gap();
        page.say(&format!(
            "Nothing in the volume stops a host. {}. Write nothing to the medium before they are copied out.",
            marked_deleted(examination.deleted)
        ));
        page.next(&[
            (
                format!("punchdog salvage {image}{again} --state deleted --to SOMEWHERE-ELSE"),
                "copies the deleted files out",
            ),
            (unearth(path, again), "judges each by its content, and searches for others"),
        ]);
    } else if examination.sound() {
        page.gap();
        page.say("Nothing in the volume stops a host. Outside it, in this order:");
        page.gap();
        outside(page, hints);
        page.next(&[(
            format!("punchdog scout {image}"),
            "is it the right volume, and is the partition listed?",
        )]);
    } else {
        page.next(&[
            (format!("punchdog salvage {image}{again} --to SOMEWHERE-ELSE"), "copy the files out first"),
            (
                format!("punchdog plan {image}{again} --out {}", page::quoted(&plan)),
                "the repair, and what it costs",
            ),
        ]);
    }
}

/// Why a sound volume does not show what its owner misses.
fn absence(page: &mut Page, path: &Path, found: &Diagnosed, reason: &Finding, again: &str) {
    page.gap();
    let (summary, meaning) = (capital(&reason.summary), reason.entry.meaning);
    page.say(&format!("Nothing in the volume stops a host. {summary}: {meaning}"));
    page.say(reason.entry.mending);
    let (image, deleted) = (page::quoted(path), found.examination.deleted);
    let mut next = Vec::new();
    if found.is_formatted_over() {
        next.push((unearth(path, again), "searches for what was on it before"));
        if deleted.readable >= crate::check::MANY_DELETED {
            page.say(&format!("Besides, {}.", marked_deleted(deleted)));
            let salvage = format!("punchdog salvage {image}{again} --state deleted --to SOMEWHERE-ELSE");
            next.push((salvage, "copies the deleted files out"));
        }
    } else {
        let files = format!("punchdog files {image}{again} --deleted");
        let plan = page::quoted(&page::beside(path, again, "plan.json"));
        let plan = format!("punchdog plan {image}{again} --out {plan}");
        next.push((files, "what its folders name, deleted files too"));
        next.push((plan, "the questions that it leaves to you, with their options"));
    }
    page.next(&next);
}

/// How many files are marked deleted, in words.
fn marked_deleted(deleted: Deleted) -> String {
    let files = page::count(deleted.files, "file is", "files are");
    format!("{files} marked deleted; {} of them can still be read", deleted.readable)
}

/// What to try, numbered, with how to tell that it was this.
fn outside(page: &mut Page, hints: &[Hint]) {
    for (number, hint) in (1..).zip(hints) {
        let style = if hint.ground == Ground::Bytes { page::WARN } else { page::FAINT };
        page.beside(HINT_AT, &format!("{number:>2}"), style, &hint.what);
        let place = hint.at.map_or(String::new(), |at| format!(" (byte {at} of the image)"));
        page.under_faint(HINT_AT, &format!("It was this if {}{place}.", hint.tell));
    }
}

/// The way to the volume, where something is wrong with it: it comes before all that the volume itself
/// says.
fn way(page: &mut Page, target: &Target) {
    let faults = target.place.iter().flat_map(|place| &place.way_faults);
    let mut told = false;
    for entry in faults {
        page.say(&format!("The way to it: {}. {}", entry.title, entry.meaning));
        told = true;
    }
    if told {
        page.gap();
    }
}

/// Where hints begin.
const HINT_AT: usize = 6;
/// Where the reason begins, and where text under it does.
const REASON_AT: usize = 23;

fn host(page: &mut Page, host: &HostForecast, missed: Option<&Entry>) {
    if let Some(entry) = missed {
        page.beside(REASON_AT, &format!("{:<10}not found", host.host), page::BAD, entry.title);
        page.under_faint(REASON_AT, &format!("finding {}", entry.code));
        let own = match (host.mounts_read_only, host.mounts_read_write) {
            (true, true) => "by its own bytes it would mount the volume",
            (true, false) => "by its own bytes it would mount the volume for reading",
            _ => "and it would refuse the volume itself:",
        };
        page.under(REASON_AT, own);
        if host.mounts_read_write {
            return;
        }
    }
    let documented = host.basis == Basis::Documented;
    let (word, style) = match (host.mounts_read_only, host.mounts_read_write) {
        (true, true) => ("mounts", page::GOOD),
        (true, false) => ("read-only", page::WARN),
        _ => ("refuses", page::BAD),
    };
    let reason = match (&host.reason, documented) {
        (reason, _) if !reason.is_empty() => reason.clone(),
        (_, true) => "it meets the published demands; what the host does was not tried".to_owned(),
        (_, false) => "for reading and for writing".to_owned(),
    };
    page.beside(REASON_AT, &format!("{:<10}{word}", host.host), style, &reason);
    if let Some(code) = host.refused_by {
        page.under_faint(REASON_AT, &format!("finding {code}"));
    }
    for line in &host.log {
        page.under(REASON_AT, &format!("the log says: {line}"));
    }
    for line in host.log_read_write.iter().filter(|line| !host.log.contains(line)) {
        page.under(REASON_AT, &format!("for writing, it adds: {line}"));
    }
    if !host.seen.is_empty() {
        page.under(REASON_AT, &host.seen);
    }
}

/// A few bytes with what they show.
fn bytes(page: &mut Page, exhibit: &Exhibit, base: u64) {
    let shown = if page.width() < 80 { 4 } else { 8 };
    let words: Vec<String> = exhibit.bytes.iter().take(shown).map(|byte| format!("{byte:02X}")).collect();
    let more = if exhibit.bytes.len() > shown { " …" } else { "" };
    let place = format!("{:<14}{:#08x}", exhibit.place, exhibit.offset + base);
    let left = format!("{place}  {:<w$}", format!("{}{more}", words.join(" ")), w = shown * 3 + 1);
    page.beside(page::columns(&left) + 4, &left, page::FAINT, &exhibit.note);
}

/// The command that searches for what no folder names.
pub(crate) fn unearth(path: &Path, again: &str) -> String {
    let finds = page::quoted(&page::beside(path, again, "finds.json"));
    format!("punchdog unearth {}{again} --out {finds}", page::quoted(path))
}
