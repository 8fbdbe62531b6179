//! `punchdog plan`: the repair, step by step, with what it does to the files.

use crate::{
    args::{Args, Only, Plan as Given, Reading},
    choose::{self, Chosen},
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    catalogue::all_entries,
    diagnosis,
    files::inventory::{Change, Fate},
    impaired,
    medium::Medium,
    mending::{choices::Choice, step::Provenance},
    partition,
    repair::{
        content::Content,
        error::PlanError,
        measure::{Measured, Subject},
        plan::{self, Plan, PlannedStep, Scope},
    },
};
use std::{
    collections::{BTreeMap, HashMap},
    io::{Read, Write},
    path::Path,
};

/// Files of one kind of step that are named.
const SHOWN: usize = 4;
/// Files of one fate that are named.
const NAMED: usize = 8;

pub(crate) fn run(args: &Args, given: &Given) -> anyhow::Result<Verdict> {
    let path = &given.target.image;
    let image = choose::open_for(path, &given.target.which)?;
    let wanted = answers(&given.choose)?;
    let screen = Screen::new();
    let aim = aim(&image, given, &screen)?;
    if let Aim::Volume(chosen) = &aim {
        // A plan says which bytes it rests on, and reads the volume itself to know them.
        chosen.target.let_go();
    }
    if let Some(out) = &given.out {
        must_be_free(out, given.replace)?;
    }
    let built = plan::build_for(&image, &path.display().to_string(), aim.subject(), wanted, &screen);
    let (mut plan, label) = built.map_err(|error| match error {
        PlanError::NoSuchChoice { answers } => Failure::with(
            format!("no question of this repair is answered by {answers}"),
            format!(
                "punchdog plan {}{} without it lists the questions and their options",
                page::quoted(path),
                aim.again(&given.target.which.reading)
            ),
        ),
        other => other.into(),
    })?;
    if given.content {
        plan.look_at_content(&image, &screen)?;
    }
    drop(screen);
    if let Some(out) = &given.out {
        write(&plan, out, given.replace)?;
    }
    if args.json {
        json::print(&plan)?;
    } else {
        text(&plan, given, &aim.title(path, label.as_deref()), &aim.again(&given.target.which.reading))?;
    }
    let broken = plan.outcome.content.as_ref().is_some_and(|content| !content.broken.is_empty());
    Ok(Verdict::of(plan.outcome.after.sound && !broken))
}

/// What is to be mended.
enum Aim {
    Volume(Chosen),
    /// With how it is called.
    Other(Subject, String),
}

impl Aim {
    fn subject(&self) -> Subject {
        match self {
            Self::Volume(chosen) => Subject::Volume(chosen.target.extent),
            Self::Other(subject, _) => *subject,
        }
    }
    /// The options that name it once more.
    fn again(&self, reading: &Reading) -> String {
        match self {
            Self::Volume(chosen) => chosen.again.clone(),
            Self::Other(Subject::Table, _) => format!(" --only table{}", reading.again()),
            Self::Other(..) => reading.again(),
        }
    }
    fn title(&self, path: &Path, label: Option<&str>) -> String {
        match self {
            Self::Volume(chosen) => choose::title(path, &chosen.target, label),
            Self::Other(_, title) => title.clone(),
        }
    }
}

fn aim(image: &choose::Image, given: &Given, screen: &Screen) -> anyhow::Result<Aim> {
    let path = &given.target.image;
    if given.target.which.narrows() {
        return Ok(Aim::Volume(choose::one(image, &given.target, screen)?));
    }
    let seen = partition::scout(image, true, screen)?;
    let bare = seen.volumes.iter().find(|place| place.way == partition::Way::Bare);
    let nothing = seen.volumes.is_empty()
        && (seen.member.is_some() || seen.table == partition::Table::None || seen.in_order());
    match (given.only, bare) {
        _ if nothing => Err(choose::nothing(path, image, &seen)),
        (None, Some(bare)) => {
            let target = diagnosis::place(image, &seen, bare, screen);
            let target = target.map_err(|error| choose::in_words(error, path, image))?;
            Ok(Aim::Volume(Chosen::new(target, &given.target)))
        }
        (Some(Only::Table), Some(bare)) => Err(Failure::with(
            format!(
                "{} is a bare {} volume: it begins at byte 0, where a partition table would be, and needs none",
                path.display(),
                bare.what.title()
            ),
            format!("punchdog plan {} mends the volume", page::quoted(path)),
        )),
        (Some(Only::Table), None) => {
            let name = page::clean(&path.display().to_string());
            Ok(Aim::Other(Subject::Table, format!("{name} · partition table")))
        }
        (None, None) => {
            let name = page::clean(&choose::file_name(path));
            let many = page::count(seen.volumes.len() as u64, "volume", "volumes");
            Ok(Aim::Other(Subject::Medium, format!("{name} · {} · {many}", page::size(image.len()))))
        }
    }
}

fn answers(list: &[String]) -> anyhow::Result<BTreeMap<String, String>> {
    let mut wanted = BTreeMap::new();
    for answer in list {
        let Some((name, option)) = answer.split_once('=') else {
            return Err(Failure::with(
                format!("--choose {answer} has no ="),
                "write it as --choose NAME=OPTION",
            ));
        };
        wanted.insert(name.trim().to_owned(), option.trim().to_owned());
    }
    Ok(wanted)
}

/// Refuses a place where something stands that is no plan of ours, or that was not said to be
/// replaced.
fn must_be_free(out: &Path, replace: bool) -> anyhow::Result<()> {
    let name = out.display();
    let Ok(about) = out.symlink_metadata() else { return Ok(()) };
    if !about.is_file() {
        return Err(Failure::with(
            format!("{name} is not a file: a plan is never written over a folder, a device or a link"),
            "name another file with --out",
        ));
    }
    if !replace {
        return Err(Failure::with(
            format!("{name} is already there"),
            "name another file, or add --replace if it is a plan that may go",
        ));
    }
    if !is_plan(out) {
        return Err(Failure::with(
            format!("{name} is no plan of ours, and is left alone"),
            "name another file with --out; --replace replaces plans only",
        ));
    }
    Ok(())
}

/// True for a file that begins as our plans do.
fn is_plan(path: &Path) -> bool {
    let mut start = Vec::new();
    let read = std::fs::File::open(path).and_then(|file| file.take(256).read_to_end(&mut start));
    let start: String = String::from_utf8_lossy(&start).split_whitespace().collect();
    read.is_ok() && start.starts_with("{\"schema\":\"punchdog.plan/")
}

/// Writes the plan whole or not at all.
fn write(plan: &Plan, out: &Path, replace: bool) -> anyhow::Result<()> {
    let failure = |error: std::io::Error| {
        Failure::with(
            format!("the plan cannot be written to {}: {error}", out.display()),
            "name a place that can be written, with --out",
        )
    };
    // What stands there may have changed while the plan was made.
    must_be_free(out, replace)?;
    let put = |file: &mut std::fs::File| {
        let mut writer = std::io::BufWriter::new(file);
        json::write(&mut writer, plan)?;
        writer.flush()
    };
    let done = if replace && out.exists() {
        crate::workplace::replace(out, put)
    } else {
        crate::workplace::write_new(out, put)
    };
    done.map_err(failure)
}

fn provenance(value: Provenance) -> anstyle::Style {
    match value {
        Provenance::Exact | Provenance::Derived => page::GOOD,
        Provenance::Judged => page::WARN,
    }
}

fn text(plan: &Plan, given: &Given, title: &str, again: &str) -> anyhow::Result<()> {
    let mut page = Page::new();
    let after = &plan.outcome.after;
    let steps = page::count(plan.steps.len() as u64, "step", "steps");
    let (verdict, style) = match (plan.steps.is_empty(), after.sound) {
        (true, true) => ("nothing to mend".to_owned(), page::GOOD),
        (false, true) => (format!("{steps}, sound afterwards"), page::GOOD),
        (_, false) => (format!("{steps}, faults remain"), page::BAD),
    };
    page.head(title, &verdict, style);
    let unreadable = &plan.image.unreadable;
    if !unreadable.is_empty() {
        page.gap();
        page.say(&format!(
            "{} of the image cannot be read; nothing rests on what they would hold. The copy has zeros there, but for what these steps write.",
            page::count(impaired::sectors(unreadable), "sector", "sectors")
        ));
    }
    // What a technician has to decide comes first, what follows from the volume last.
    choices(&mut page, &plan.choices);
    if !plan.steps.is_empty() {
        page.gap();
    }
    if given.all {
        for (number, step) in plan.steps.iter().enumerate() {
            one_step(&mut page, &format!("{:>2}  ", number + 1), &[step]);
        }
    } else {
        for steps in kinds(&plan.steps) {
            one_step(&mut page, "", &steps);
        }
    }
    if plan.scope != Scope::Table {
        page.gap();
        let content = plan.outcome.content.as_ref();
        outcome(&mut page, &plan.outcome.fates, &plan.outcome.changes, after, content);
    }
    if let Some(content) = &plan.outcome.content {
        said_by_content(&mut page, content);
    }
    not_done(&mut page, &plan.outcome.not_done);
    page.gap();
    page.line(&format!(
        "{STRONG}{}{STRONG:#}",
        page::wrap(&page::clean(&plan.outcome.summary), page.width(), 0),
        STRONG = page::STRONG
    ));
    let image = &given.target.image;
    if plan.steps.is_empty() {
        if given.only.is_some() {
            remains(&mut page, &after.findings);
        } else if !after.sound {
            let check = format!("punchdog check {}{again} --all", page::quoted(image));
            let mut next = vec![(check, "what no step mends")];
            next.extend(answer(&plan.choices, given, again).map(|next| (next, "answers the question above")));
            page.next(&next);
        }
        return page.print();
    }
    page.say(&format!(
        "The copy will differ from the image in {}, in {}.",
        page::size(plan.outcome.written.bytes),
        page::count(plan.outcome.written.places, "place", "places")
    ));
    if let Some(out) = &given.out {
        let copy = page::beside(image, again, "mended.img");
        let apply = format!(
            "punchdog apply {} --image {} --copy {}",
            page::quoted(out),
            page::quoted(image),
            page::quoted(&copy)
        );
        page.next(&[(apply, "mends a copy")]);
    } else {
        let out = page::beside(image, again, "plan.json");
        page.next(&[(
            format!("punchdog plan {}{again} --out {}", page::quoted(image), page::quoted(&out)),
            "keeps the plan",
        )]);
    }
    page.print()
}

/// What could not be mended, and what it would need.
pub(crate) fn not_done(page: &mut Page, not_done: &[String]) {
    for what in not_done.iter().take(NOT_DONE) {
        page.say(&format!("Not done: {what}."));
    }
    let more = not_done.len().saturating_sub(NOT_DONE);
    if more > 0 {
        page.say(&format!("And {more} more that are not done; the plan file names them."));
    }
}

/// Things that are not done, which are told in full.
const NOT_DONE: usize = 5;

/// The command that answers a question otherwise.
fn answer(choices: &[Choice], given: &Given, again: &str) -> Option<String> {
    let choice = choices.first()?;
    let other = choice.options.iter().rev().find(|option| option.option != choice.taken)?;
    let (image, out) = (&given.target.image, given.out.clone());
    let replace = if out.is_some() { " --replace" } else { "" };
    let out = out.unwrap_or_else(|| page::beside(image, again, "plan.json"));
    let (image, out) = (page::quoted(image), page::quoted(&out));
    Some(format!(
        "punchdog plan {image}{again} --choose {}={} --out {out}{replace}",
        choice.name, other.option
    ))
}

fn choices(page: &mut Page, choices: &[Choice]) {
    for choice in choices {
        page.gap();
        page.say(&format!("Choice {}: {}", choice.name, choice.question));
        for option in &choice.options {
            let taken = option.option == choice.taken;
            let (mark, style) = if taken { ("taken", page::GOOD) } else { ("", page::FAINT) };
            page.beside(28, &format!("{:<6} {}", mark, option.option), style, &option.effect);
        }
        if !choice.paths.is_empty() {
            page.under_faint(28, &named(choice.paths.iter(), choice.paths.len()));
        }
    }
}

/// Steps of one kind together, what rests on judgement first.
fn kinds(steps: &[PlannedStep]) -> Vec<Vec<&PlannedStep>> {
    let mut kinds: Vec<Vec<&PlannedStep>> = Vec::new();
    let mut known: HashMap<(&str, Provenance), usize> = HashMap::new();
    for step in steps {
        let at = *known.entry((step.name.as_str(), step.provenance)).or_insert_with(|| {
            kinds.push(Vec::new());
            kinds.len() - 1
        });
        kinds[at].push(step);
    }
    kinds.sort_by_key(|steps| steps.first().map(|step| step.provenance != Provenance::Judged));
    kinds
}

/// The first of some files, and how many more there are.
fn named<'p>(paths: impl Iterator<Item = &'p String>, all: usize) -> String {
    let shown: Vec<String> = paths.take(SHOWN).cloned().collect();
    let more = all.saturating_sub(shown.len());
    let text = shown.join(", ");
    if more > 0 { format!("{text} and {more} more") } else { text }
}

/// Steps of one kind, told once.
fn one_step(page: &mut Page, number: &str, steps: &[&PlannedStep]) {
    let Some(step) = steps.first() else { return };
    let left = format!("{number}{:<8}", step.provenance.name());
    let does = match steps.len() {
        1 => step.does.clone(),
        many => format!("{}, and {} more of this kind", step.does, many - 1),
    };
    page.beside(16, &left, provenance(step.provenance), &does);
    page.under_faint(16, &format!("{}: {}", step.name, step.from));
    for other in &step.alternatives {
        page.under_faint(16, &format!("or: {other}"));
    }
    let bases = || steps.iter().flat_map(|step| &step.bases);
    if let Some(first) = bases().next() {
        let more = match bases().count() - 1 {
            0 => String::new(),
            more => format!("; the plan file has {more} more of these"),
        };
        page.under_faint(16, &format!("{} is taken to have {}{more}", first.path, first.basis));
    }
    if steps.len() > 1 {
        let paths: std::collections::BTreeSet<&String> = steps.iter().flat_map(|step| &step.paths).collect();
        if !paths.is_empty() {
            let many = page::count(paths.len() as u64, "file", "files");
            page.under_faint(16, &format!("{many}: {}", named(paths.iter().copied(), paths.len())));
        }
    }
    let changes = || steps.iter().flat_map(|step| &step.changes);
    let (bytes, places) = steps
        .iter()
        .fold((0, 0), |(bytes, places), step| (bytes + step.written.bytes, places + step.written.places));
    let first = changes().next().map_or(0, |change| change.offset);
    let places = match places {
        1 => format!("at byte {first}"),
        many => format!("in {many} places, the first at byte {first}"),
    };
    page.under_faint(16, &format!("changes {} {places}", page::size(bytes)));
}

/// What becomes of the files, and what is left.
pub(crate) fn outcome(
    page: &mut Page,
    fates: &BTreeMap<Fate, u64>,
    changes: &[Change],
    after: &Measured,
    content: Option<&Content>,
) {
    // What is without its end, or lost its name, is not said to be whole.
    let is_broken = |change: &Change| {
        let mut broken = content.iter().flat_map(|content| &content.broken);
        matches!(change.fate, Fate::Back | Fate::Moved)
            && broken.any(|broken| broken.change(std::slice::from_ref(change)).is_some())
    };
    let told = [
        (Fate::Intact, "intact", "as they were", page::GOOD),
        (Fate::Back, "back", "out of reach or damaged before, whole afterwards", page::GOOD),
        (Fate::Moved, "moved", "whole, under another path", page::WARN),
        (
            Fate::Adrift,
            "adrift",
            "content kept, name or folder lost; the length where the content tells it",
            page::WARN,
        ),
        (Fate::Shorter, "shorter", "without their end", page::WARN),
        (Fate::Damaged, "damaged", "damaged before and after", page::BAD),
        (Fate::Lost, "lost", "not there any more", page::BAD),
    ];
    for (fate, word, meaning, style) in told {
        let number = fates.get(&fate).copied().unwrap_or(0);
        if number == 0 {
            continue;
        }
        page.beside(16, &format!("{number:>5} {word}"), style, meaning);
        if fate == Fate::Intact {
            continue;
        }
        let hit: Vec<&Change> = changes.iter().filter(|change| change.fate == fate).collect();
        for change in hit.iter().take(NAMED) {
            let to = change.to.as_ref().map_or(String::new(), |to| format!(" → {to}"));
            let bytes = change.bytes.map_or(String::new(), |(old, new)| format!(", {old} → {new} bytes"));
            let volume = change.volume.map_or(String::new(), |at| format!("volume at byte {at}: "));
            let broken = if is_broken(change) { ", broken by its content" } else { "" };
            page.under(16, &format!("{volume}{}{to}{bytes}{broken}", change.path));
        }
        if hit.len() > NAMED {
            page.under_faint(16, &format!("and {} more; the plan file names them", hit.len() - NAMED));
        }
    }
    let hosts: Vec<String> = after
        .mounts
        .iter()
        .map(|(host, (read, write))| match (read, write) {
            (true, true) => format!("{host} mounts it"),
            (true, false) => format!("{host} mounts it read-only"),
            _ => format!("{host} still refuses it"),
        })
        .collect();
    if !hosts.is_empty() {
        page.beside(16, "hosts", page::STRONG, &format!("{} (forecast)", hosts.join(", ")));
    }
    remains(page, &after.findings);
}

/// What the content of the files that rest on judgement says.
pub(crate) fn said_by_content(page: &mut Page, content: &Content) {
    let text = if content.files == 0 {
        "no file rests on judgement".to_owned()
    } else {
        let parts = [
            (content.whole, "whole"),
            (content.broken.len() as u64, "broken"),
            (
                content.fits,
                "with a structure that fits to its end, and nothing that proves the bytes between",
            ),
            (content.not_judged, "of kinds that say nothing"),
        ];
        let parts: Vec<String> =
            parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
        let files = page::count(content.files, "file that rests", "files that rest");
        format!("of {files} on judgement: {}", parts.join(", "))
    };
    let style = if content.broken.is_empty() { page::STRONG } else { page::BAD };
    page.beside(16, "content", style, &text);
    for broken in content.broken.iter().take(NAMED) {
        let volume = broken.volume.map_or(String::new(), |at| format!("volume at byte {at}: "));
        page.under(16, &format!("{volume}{}: from byte {} on: {}", broken.path, broken.from, broken.why));
    }
    if content.broken.len() > NAMED {
        page.under_faint(16, &format!("and {} more; --json names them", content.broken.len() - NAMED));
    }
}

/// Faults that no step mends, with what can be done about them.
pub(crate) fn remains(page: &mut Page, findings: &BTreeMap<String, u64>) {
    for (code, number) in findings {
        let entry = all_entries().find(|entry| entry.code == code);
        let what = entry.map_or(String::new(), |entry| format!(": {}. {}", entry.title, entry.mending));
        let times = page::count(*number, "time", "times");
        page.beside(16, "remains", page::BAD, &format!("{code}, {times}{what}"));
    }
}
