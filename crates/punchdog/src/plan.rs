//! `punchdog plan`: the repair, step by step, with what it does to the files.

use crate::{
    args::{Args, Plan as Given},
    choose, json,
    page::{self, Page},
    trouble::{Trouble, Verdict},
    watch::Screen,
};
use punchdog_core::{
    inventory::{Change, Fate},
    measure::{Measured, Subject},
    medium::{FileImage, Window},
    partition,
    plan::{self, Plan, PlanError},
    step::Provenance,
};
use std::{
    collections::BTreeMap,
    io::{Read, Write},
    path::Path,
};

/// Files of one fate that are named.
const NAMED: usize = 8;

pub(crate) fn run(args: &Args, given: &Given) -> anyhow::Result<Verdict> {
    let path = &given.target.image;
    let image = choose::open(path)?;
    let wanted = answers(&given.choose)?;
    let screen = Screen::new();
    let (subject, title, again) = subject(&image, given, &screen)?;
    if let Some(out) = &given.out {
        must_be_free(out, given.replace)?;
    }
    let built = plan::build(&image, &path.display().to_string(), subject, wanted, &screen);
    drop(screen);
    let plan = built.map_err(|error| match error {
        PlanError::NoSuchChoice { answers } => Trouble::with(
            format!("no question of this repair is answered by {answers}"),
            format!(
                "punchdog plan {}{again} without it lists the questions and their options",
                page::word(path)
            ),
        ),
        other => other.into(),
    })?;
    if let Some(out) = &given.out {
        write(&plan, out, given.replace)?;
    }
    if args.json {
        json::print(&plan)?;
    } else {
        text(&plan, given, &title, &again)?;
    }
    Ok(Verdict::of(plan.outcome.after.sound))
}

/// What is to be mended, and how to call it.
fn subject(image: &FileImage, given: &Given, screen: &Screen) -> anyhow::Result<(Subject, String, String)> {
    let path = &given.target.image;
    if given.table {
        let seen = partition::scout(image, true, screen)?;
        if seen.volumes.is_empty() && seen.table == partition::scout::Table::None {
            return Err(choose::nothing(path, image, &seen));
        }
        return Ok((
            Subject::Table,
            format!("{} · partition table", page::clean(&path.display().to_string())),
            " --table".to_owned(),
        ));
    }
    let chosen = choose::one(image, &given.target, screen)?;
    let label = chosen.volume.examine(&Window::new(image, chosen.extent), screen)?.label;
    Ok((Subject::Volume(chosen.extent), choose::title(path, &chosen, label.as_deref()), chosen.again))
}

fn answers(list: &[String]) -> anyhow::Result<BTreeMap<String, String>> {
    let mut wanted = BTreeMap::new();
    for answer in list {
        let Some((name, option)) = answer.split_once('=') else {
            return Err(Trouble::with(
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
        return Err(Trouble::with(
            format!("{name} is not a file: a plan is never written over a folder, a device or a link"),
            "name another file with --out",
        ));
    }
    if !replace {
        return Err(Trouble::with(
            format!("{name} is already there"),
            "name another file, or add --replace if it is a plan that may go",
        ));
    }
    if !is_plan(out) {
        return Err(Trouble::with(
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
    let trouble = |error: std::io::Error| {
        Trouble::with(
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
    done.map_err(trouble)
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
    if !plan.steps.is_empty() {
        page.gap();
    }
    for (number, step) in plan.steps.iter().enumerate() {
        one_step(&mut page, number + 1, step);
    }
    for choice in &plan.choices {
        page.gap();
        page.say(&format!("Choice {}: {}", choice.name, choice.question));
        for option in &choice.options {
            let taken = option.option == choice.taken;
            let (mark, style) = if taken { ("taken", page::GOOD) } else { ("", page::FAINT) };
            page.beside(28, &format!("{:<6} {}", mark, option.option), style, &option.effect);
        }
    }
    if plan.volume.is_some() {
        page.gap();
        outcome(&mut page, &plan.outcome.fates, &plan.outcome.changes, after);
    }
    page.gap();
    page.line(&format!(
        "{STRONG}{}{STRONG:#}",
        page::wrap(&page::clean(&plan.outcome.summary), page.width(), 0),
        STRONG = page::STRONG
    ));
    let image = &given.target.image;
    if plan.steps.is_empty() {
        if !after.sound {
            page.next(&[(
                format!("punchdog check {}{again} --all", page::word(image)),
                "what no step mends",
            )]);
        }
        return page.print();
    }
    if let Some(out) = &given.out {
        let copy = image.with_extension("mended.img");
        let apply = format!(
            "punchdog apply {} --image {} --copy {}",
            page::word(out),
            page::word(image),
            page::word(&copy)
        );
        page.next(&[(apply, "mends a copy")]);
    } else {
        let out = image.with_extension("plan.json");
        page.next(&[(
            format!("punchdog plan {}{again} --out {}", page::word(image), page::word(&out)),
            "keeps the plan",
        )]);
    }
    page.print()
}

fn one_step(page: &mut Page, number: usize, step: &plan::PlannedStep) {
    let left = format!("{number:>2}  {:<8}", step.provenance.name());
    page.beside(16, &left, provenance(step.provenance), &step.does);
    page.under_faint(16, &format!("{}: {}", step.name, step.from));
    for other in &step.alternatives {
        page.under_faint(16, &format!("or: {other}"));
    }
    let bytes: u64 = step.changes.iter().map(|change| change.length).sum();
    let first = step.changes.first().map_or(0, |change| change.offset);
    let places = match step.changes.len() {
        1 => format!("at byte {first}"),
        many => format!("in {many} places, the first at byte {first}"),
    };
    page.under_faint(16, &format!("writes {} {places}", page::size(bytes)));
}

/// What becomes of the files, and what is left.
pub(crate) fn outcome(page: &mut Page, fates: &BTreeMap<Fate, u64>, changes: &[Change], after: &Measured) {
    let told = [
        (Fate::Intact, "intact", "as they were", page::GOOD),
        (Fate::Back, "back", "out of reach or damaged before, whole afterwards", page::GOOD),
        (Fate::Moved, "moved", "whole, under another path", page::WARN),
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
            page.under(16, &format!("{}{to}{bytes}", change.path));
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
    for (code, number) in &after.findings {
        page.beside(16, "remains", page::BAD, &format!("{code}, {number} times"));
    }
}
