//! `punchdog report`: one page for the job sheet and the customer, and the same as JSON.
//!
//! It says what was measured, by this run or by the files that are given, and what was not.

mod page;

use crate::{
    apply,
    args::{Args, Report},
    choose,
    failure::{Failure, Verdict},
    finds, json,
    map::drawing,
    page::{self as text, Page},
    salvage::manifest::Manifest,
    watch::Screen,
};
use maud::Markup;
use punchdog_core::{
    arith::Sat,
    diagnosis::{self, Diagnosed, NotChosen, Wish},
    family::Wanted,
    files::record::State,
    impaired,
    medium::{Extent, Medium, Unknown, Window, WithUnreadable},
    picture::{self, Picture},
    progress::Watch,
    repair::{
        measure::{Measured, measure},
        plan::Plan,
    },
};
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    io::Write,
    ops::ControlFlow,
    path::{Path, PathBuf},
};

const SCHEMA: &str = "punchdog.report/1";
/// Columns of the picture.
const COLUMNS: u64 = 200;
/// Its rows at most.
const ROWS: u64 = 10;
/// Files that are named.
const NAMED: usize = 400;

/// All that the page says.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Facts {
    #[schemars(extend("const" = "punchdog.report/1"))]
    schema: &'static str,
    version: &'static str,
    made: String,
    job: Option<String>,
    notes: Vec<String>,
    image: Hashed,
    /// In plain words, a paragraph each.
    summary: Vec<String>,
    volumes: Vec<Volume>,
    table: Vec<json::Finding>,
    unreadable: Vec<Extent>,
    plan: Option<Planned>,
    copy: Option<Copied>,
    saved: Option<Saved>,
    finds: Option<Found>,
    not_tried: Vec<String>,
}

/// A file with the digest of all its bytes.
#[derive(Serialize, JsonSchema)]
struct Hashed {
    path: String,
    bytes: u64,
    sha256: String,
}

/// A volume as it came in.
#[derive(Serialize, JsonSchema)]
struct Volume {
    title: String,
    kind: &'static str,
    offset: u64,
    bytes: u64,
    sound: bool,
    story: String,
    likely: Option<String>,
    findings: Vec<json::Finding>,
    hosts: Vec<HostSays>,
    whole_files: u64,
    damaged: Vec<Named>,
    damaged_more: usize,
}

#[derive(Serialize, JsonSchema)]
struct HostSays {
    host: &'static str,
    mounts: bool,
    reason: String,
    log: Vec<String>,
}

/// A file by name, and what it lacks.
#[derive(Serialize, JsonSchema)]
struct Named {
    path: String,
    state: &'static str,
    why: String,
}

#[derive(Serialize, JsonSchema)]
struct Planned {
    path: String,
    steps: Vec<StepDone>,
    summary: String,
    fates: BTreeMap<String, u64>,
    worse: Vec<Named>,
}

#[derive(Serialize, JsonSchema)]
struct StepDone {
    provenance: &'static str,
    does: String,
    from: String,
    bytes: u64,
}

/// The mended copy, as it was measured by this run.
#[derive(Serialize, JsonSchema)]
struct Copied {
    file: Hashed,
    as_planned: bool,
    outcome: Measured,
}

#[derive(Serialize, JsonSchema)]
struct Saved {
    folder: String,
    files: u64,
    bytes: u64,
    whole: u64,
    failed: u64,
    short: Vec<Named>,
}

#[derive(Serialize, JsonSchema)]
struct Found {
    path: String,
    done: bool,
    complete: u64,
    likely: u64,
    broken: u64,
}

pub(crate) fn run(args: &Args, given: &Report) -> anyhow::Result<Verdict> {
    let beside = given.out.with_extension("json");
    must_be_free(&[&given.out, &beside])?;
    let image = choose::open_for(&given.target.image, &given.target.which)?;
    let screen = Screen::of_bytes();
    let (facts, drawing) = gather(given, &image, &screen)?;
    drop(screen);
    let html = page::page(&facts, &drawing).into_string();
    write(&given.out, |file| file.write_all(html.as_bytes()))?;
    write(&beside, |file| json::write(file, &facts))?;
    if args.json {
        json::print(&facts)?;
        return Ok(Verdict::Fine);
    }
    let mut out = Page::new();
    out.head(&text::clean(&choose::file_name(&given.target.image)), "reported", text::GOOD);
    out.gap();
    for paragraph in &facts.summary {
        out.say(paragraph);
    }
    out.gap();
    out.say(&format!(
        "Written: {}, which needs no other file and prints on A4, and the same as JSON, {}.",
        text::quoted(&given.out),
        text::quoted(&beside)
    ));
    out.print()?;
    Ok(Verdict::Fine)
}

fn must_be_free(paths: &[&PathBuf]) -> anyhow::Result<()> {
    match paths.iter().find(|path| path.symlink_metadata().is_ok()) {
        Some(taken) => Err(Failure::with(
            format!("{} is already there", taken.display()),
            "name another file with --out; a report is never written over anything",
        )),
        None if paths.first() == paths.get(1) => {
            Err(Failure::with("the page and its JSON would have one name", "let --out end in .html"))
        }
        None => Ok(()),
    }
}

fn write(path: &Path, put: impl FnOnce(&mut std::fs::File) -> std::io::Result<()>) -> anyhow::Result<()> {
    crate::workplace::write_new(path, put).map_err(|error| {
        Failure::with(
            format!("{} cannot be written: {error}", path.display()),
            "name another place with --out",
        )
    })
}

/// The digest of all bytes; what cannot be read counts as zeros, holes are not read.
fn hashed(path: &Path, medium: &dyn Medium, screen: &Screen) -> anyhow::Result<Hashed> {
    let bytes = medium.len();
    let mut hash = Sha256::new();
    let settled = WithUnreadable::with_lost(medium, medium.unknown(Unknown::Unreadable));
    let content = punchdog_core::files::content::Content::stored([Extent::new(0, bytes)], bytes);
    let mut done = 0;
    content.walk(&settled, |part| {
        if screen.stop() {
            return Err(Failure::with("stopped on request", "nothing was written; run it again"));
        }
        part.bytes(|piece| {
            hash.update(piece);
            done += piece.len() as u64;
        });
        screen.at("taking the digest", done, bytes);
        Ok(())
    })?;
    Ok(Hashed { path: path.display().to_string(), bytes, sha256: hex::encode(hash.finalize()) })
}

fn gather(given: &Report, image: &choose::Image, screen: &Screen) -> anyhow::Result<(Facts, Vec<Markup>)> {
    let path = &given.target.image;
    let wish = given.target.which.wish();
    let (targets, seen) = match diagnosis::choose(image, wish, screen) {
        Ok(chosen) => chosen,
        Err(NotChosen::Nothing(seen)) => (Vec::new(), Some(*seen)),
        Err(error) => return Err(choose::in_words(error, path, image)),
    };
    let range = match (targets.as_slice(), wish) {
        ([only], Wish::At { .. } | Wish::Number(_)) => only.extent,
        _ => Extent::new(0, image.len()),
    };
    let wish = picture::Wish { range, cells: COLUMNS * ROWS * 64, file: None, slow: Vec::new() };
    let drawn = Picture::draw(image, &targets, &wish, screen)?;
    let drawing = vec![drawing::inline(&drawing::fitting(&drawn, COLUMNS, ROWS), COLUMNS)];
    let mut volumes = Vec::new();
    for target in targets {
        volumes.push(volume(path, image, target, screen)?);
    }
    let table = json::Finding::all(seen.iter().flat_map(|seen| &seen.findings), 0);
    let plan = given.plan.as_ref().map(|plan| apply::read_plan(plan)).transpose()?;
    if let Some(plan) = &plan {
        // A report that puts a plan beside another image would tell a story that never was.
        plan.must_fit(image, screen)?;
    }
    let copy = match (&given.copy, &plan) {
        (Some(copy), Some(plan)) => Some(copied(copy, plan, screen)?),
        _ => None,
    };
    let saved = given.saved.as_ref().map(|folder| saved(folder, image)).transpose()?;
    let found = given.finds.as_ref().map(|finds| found(finds, path, image)).transpose()?;
    let planned = plan.as_ref().zip(given.plan.as_ref()).map(|(plan, path)| planned(path, plan));
    let mut facts = Facts {
        schema: SCHEMA,
        version: env!("CARGO_PKG_VERSION"),
        made: format!(
            "{} UTC",
            jiff::tz::Offset::UTC.to_datetime(jiff::Timestamp::now()).strftime("%Y-%m-%d %H:%M")
        ),
        job: given.job.clone(),
        notes: given.note.clone(),
        image: hashed(path, image, screen)?,
        summary: Vec::new(),
        volumes,
        table,
        unreadable: image.unknown(Unknown::Unreadable),
        plan: planned,
        copy,
        saved,
        finds: found,
        not_tried: Vec::new(),
    };
    facts.summary = page::summary(&facts);
    facts.not_tried = page::not_tried(&facts, given.target.which.reading.unreadable.is_some());
    Ok((facts, drawing))
}

fn volume(
    path: &Path,
    image: &choose::Image,
    target: diagnosis::Target,
    screen: &Screen,
) -> anyhow::Result<Volume> {
    let base = target.extent.offset;
    let window = Window::new(image, target.extent);
    let mut damaged = Vec::new();
    let mut more = 0;
    let mut survey = target.survey(&window, screen)?;
    let examination = survey.examine(&window);
    let hosts = target.volume.forecast(&window, target.unit);
    survey.each_file(&window, Wanted::default(), &mut |file| {
        if !file.folder && file.state != State::Intact {
            if damaged.len() < NAMED {
                let why = file.note.as_deref().unwrap_or_default().to_owned();
                damaged.push(Named { path: file.path.to_string(), state: file.state.name(), why });
            } else {
                more += 1;
            }
        }
        ControlFlow::Continue(())
    });
    drop(survey);
    let found = Diagnosed { target, examination, hosts };
    let seen = &found.examination;
    let host = |host: &punchdog_core::report::forecast::HostForecast| {
        let way = found.target.not_found_by(host.host);
        HostSays {
            host: host.host,
            mounts: host.mounts_read_write && way.is_none(),
            reason: way.map_or(host.reason.clone(), |entry| entry.title.to_owned()),
            log: host.log.clone(),
        }
    };
    Ok(Volume {
        title: choose::title(path, &found.target, seen.label.as_deref()),
        kind: found.target.volume.kind().name(),
        offset: base,
        bytes: found.target.volume.bytes(),
        sound: seen.sound(),
        story: seen.story.clone(),
        likely: seen.likely.clone(),
        findings: json::Finding::all(&seen.findings, base),
        hosts: found.hosts.iter().map(host).collect(),
        whole_files: seen.tally.intact,
        damaged,
        damaged_more: more,
    })
}

fn planned(path: &Path, plan: &Plan) -> Planned {
    use punchdog_core::files::inventory::Fate;
    let steps = plan.steps.iter().map(|step| StepDone {
        provenance: step.provenance.name(),
        does: step.does.clone(),
        from: step.from.clone(),
        bytes: step.written.bytes,
    });
    let worse = plan.outcome.changes.iter().filter_map(|change| {
        let state = match change.fate {
            Fate::Lost => "lost",
            Fate::Shorter => "shorter",
            Fate::Damaged => "damaged",
            Fate::Adrift => "adrift",
            _ => return None,
        };
        let why = change.bytes.map_or(String::new(), |(old, new)| format!("{old} bytes before, {new} after"));
        Some(Named { path: change.path.to_string(), state, why })
    });
    let fates = plan.outcome.fates.iter().map(|(fate, count)| (format!("{fate:?}").to_lowercase(), *count));
    Planned {
        path: path.display().to_string(),
        steps: steps.collect(),
        summary: plan.outcome.summary.clone(),
        fates: fates.collect(),
        worse: worse.take(NAMED).collect(),
    }
}

/// Measures the copy as apply does, and holds it against the plan.
fn copied(path: &Path, plan: &Plan, screen: &Screen) -> anyhow::Result<Copied> {
    let copy = choose::file(path)?;
    if copy.len() != plan.image.bytes {
        return Err(Failure::with(
            format!("{} has {} bytes, and the plan is for {}", path.display(), copy.len(), plan.image.bytes),
            "give the copy that punchdog apply made of this plan",
        ));
    }
    let file = hashed(path, &copy, screen)?;
    let copy = WithUnreadable::with_lost(copy, plan.outcome.lost.clone());
    let (outcome, _) = measure(&copy, plan.subject(), screen)?;
    Ok(Copied { file, as_planned: outcome == plan.outcome.after, outcome })
}

fn saved(folder: &Path, image: &choose::Image) -> anyhow::Result<Saved> {
    let manifest = Manifest::load(folder)?;
    if manifest.image.bytes != image.len() {
        return Err(Failure::with(
            format!("{} holds files of another image, {}", folder.display(), manifest.image.path),
            "give the folder that files of this image were copied into",
        ));
    }
    let short: Vec<Named> = manifest
        .files
        .iter()
        .filter(|file| !file.whole)
        .map(|file| Named {
            path: file.path.to_string(),
            state: "not whole",
            why: file.note.clone().unwrap_or_else(|| format!("{} bytes missing", file.missing_bytes)),
        })
        .collect();
    Ok(Saved {
        folder: folder.display().to_string(),
        files: manifest.files.len().wide(),
        bytes: manifest.files.iter().map(|file| file.written_bytes).sum(),
        whole: (manifest.files.len() - short.len()).wide(),
        failed: manifest.failed.len().wide(),
        short: short.into_iter().take(NAMED).collect(),
    })
}

fn found(path: &Path, image: &Path, medium: &choose::Image) -> anyhow::Result<Found> {
    let [mut complete, mut likely, mut broken] = [0_u64; 3];
    let about = finds::read_of(path, (image, medium), &mut |find| match find.complete.name() {
        "yes" => complete += 1,
        "likely" => likely += 1,
        _ => broken += 1,
    })?;
    Ok(Found { path: path.display().to_string(), done: about.done, complete, likely, broken })
}

/// Sectors, for the page.
fn sectors(extents: &[Extent]) -> String {
    text::count(impaired::sectors(extents), "sector", "sectors")
}
