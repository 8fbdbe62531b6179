//! `punchdog apply`: carrying a plan out on a new copy.

use crate::{
    args::{Apply, Args},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
    workplace::{Files, clear_left_over, journal_path},
};
use punchdog_core::{
    medium::{FileImage, Medium, WithUnreadable},
    repair::{
        apply::{self, ApplyError, Standing},
        content::{self, Content},
        error::PlanError,
        measure::Measured,
        plan::{Plan, Scope},
    },
};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// Bytes of a plan file at most: a plan names ranges, not volumes.
const PLAN_LIMIT: u64 = 1 << 30;

/// The document of `apply`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.apply/2"))]
    schema: &'static str,
    image: json::Image,
    copy: String,
    journal: String,
    /// Bytes of the copy that differ from the image, and in how many places.
    written_bytes: u64,
    written_places: u64,
    finished_an_earlier_apply: bool,
    /// The copy measures as the plan said.
    as_planned: bool,
    /// As measured on the copy.
    outcome: Measured,
    /// Of the files that rest on judgement, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    content: Option<Content>,
}

pub(crate) fn run(args: &Args, given: &Apply) -> anyhow::Result<Verdict> {
    let plan = read_plan(&given.plan)?;
    let image = choose::open(&given.image, &given.reading)?;
    let mut files = Files::new(&given.copy, Some(&given.image), Some(&given.plan))?;
    clear_left_over(given.copy.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new(".")));
    let screen = Screen::of_bytes();
    let done = apply::apply(&plan, &image, &mut files, &screen);
    let applied = done.map_err(|error| explain(&error, given))?;
    let content = given.content.then(|| look_at_content(&plan, &given.copy, &screen)).transpose()?;
    drop(screen);
    let broken = content.as_ref().is_some_and(|content| !content.broken.is_empty());
    let fine = applied.as_planned;
    if args.json {
        json::print(&Document {
            schema: "punchdog.apply/2",
            image: json::Image::of(&given.image, image.len()),
            copy: given.copy.display().to_string(),
            journal: journal_path(&given.copy).display().to_string(),
            written_bytes: applied.written.bytes,
            written_places: applied.written.places,
            finished_an_earlier_apply: applied.standing == Standing::Partly,
            as_planned: fine,
            outcome: applied.measured,
            content,
        })?;
        return Ok(Verdict::of(fine && !broken));
    }
    let mut page = Page::new();
    let name = page::clean(&given.copy.display().to_string());
    let (verdict, style) = match (fine, applied.measured.sound) {
        (true, _) if broken => ("as planned, the content of files is broken", page::WARN),
        (true, true) => ("mended and sound, as planned", page::GOOD),
        (true, false) => ("as planned, faults remain", page::WARN),
        (false, _) => ("not as planned", page::BAD),
    };
    page.head(&name, verdict, style);
    page.gap();
    match applied.standing {
        Standing::New => {}
        Standing::Unchanged => {
            page.say("A copy of this plan was there without its changes; they are made now.");
        }
        Standing::Partly => page.say("An earlier apply had been cut off; it is finished now."),
        Standing::Changed => page.say("The copy had these changes already; it was looked at again."),
    }
    page.say(&format!(
        "The copy differs from the image in {}, in {}. The image was not touched; the old bytes are kept in {}.",
        page::size(applied.written.bytes),
        page::count(applied.written.places, "place", "places"),
        page::quoted(&journal_path(&given.copy)),
    ));
    if fine {
        page.gap();
        let (fates, changes) = (&plan.outcome.fates, &plan.outcome.changes);
        crate::plan::outcome(&mut page, fates, changes, &applied.measured, content.as_ref());
        if let Some(content) = &content {
            crate::plan::said_by_content(&mut page, content);
        }
        crate::plan::not_done(&mut page, &plan.outcome.not_done);
        page.gap();
        let width = page.width();
        let summary =
            content.as_ref().map_or_else(|| plan.outcome.summary.clone(), |content| plan.summed_up(content));
        page.line(&format!("{S}{}{S:#}", page::wrap(&page::clean(&summary), width, 0), S = page::STRONG));
    } else {
        page.gap();
        page.say("What was measured on the copy is not what the plan said. Do not hand it out: undo it, and look at the image again.");
        crate::plan::remains(&mut page, &applied.measured.findings);
    }
    let copy = page::quoted(&given.copy);
    let look = match plan.volume {
        _ if plan.scope == Scope::Medium => {
            (format!("punchdog check {copy}"), "looks at everything once more")
        }
        None => (format!("punchdog scout {copy}"), "what it holds now"),
        Some(volume) if volume.offset > 0 => {
            (format!("punchdog files {copy} --at {} --hash", volume.offset), "what is on it now")
        }
        Some(_) => (format!("punchdog files {copy} --hash"), "what is on it now"),
    };
    if fine {
        onto_a_medium(&mut page, &copy, plan.image.bytes);
    }
    page.next(&[look, (format!("punchdog undo {copy}"), "puts the old bytes back")]);
    page.print()?;
    Ok(Verdict::of(fine && !broken))
}

/// What the files on the copy say that rest on judgement.
fn look_at_content(plan: &Plan, copy: &Path, screen: &Screen) -> anyhow::Result<Content> {
    let copy = FileImage::open(copy)?;
    let copy = WithUnreadable::with_lost(&copy, plan.outcome.lost.clone());
    Ok(content::look(plan, &copy, screen)?)
}

/// How the copy goes back, by the host's own means.
fn onto_a_medium(page: &mut Page, copy: &str, bytes: u64) {
    page.gap();
    page.say(&format!(
        "Back onto a medium, with the host's own means: is it the right one, unmounted, with at least {bytes} bytes, and nothing on it that is still wanted?"
    ));
    for (host, line) in [
        ("Linux", format!("dd if={copy} of=/dev/sdX bs=4M conv=fsync")),
        ("macOS", format!("dd if={copy} of=/dev/rdiskN bs=4m")),
        ("Windows", "has no means of its own for this: do it on one of the others".to_owned()),
        ("then", format!("punchdog compare {copy} /dev/sdX --bytes")),
    ] {
        page.beside(12, host, page::FAINT, &line);
    }
}

/// Reads a plan file.
pub(crate) fn read_plan(path: &Path) -> anyhow::Result<Plan> {
    let name = path.display();
    let about = std::fs::metadata(path).map_err(|error| {
        Failure::with(
            format!("the plan {name} cannot be read: {error}"),
            "make one with punchdog plan IMAGE --out PLAN",
        )
    })?;
    if !about.is_file() || about.len() > PLAN_LIMIT {
        return Err(Failure::with(
            format!("{name} is no plan file"),
            "make one with punchdog plan IMAGE --out PLAN",
        ));
    }
    let bytes = std::fs::read(path)?;
    let text = String::from_utf8(bytes).map_err(|_| {
        Failure::with(
            format!("{name} is no plan file: it is not text"),
            "the order is: punchdog apply PLAN --image IMAGE --copy COPY",
        )
    })?;
    Plan::from_json(&text).map_err(|error| {
        let next = match error {
            PlanError::Edited => {
                "make the plan again with punchdog plan; choices are made with --choose, not in the file"
            }
            _ => "make one with punchdog plan IMAGE --out PLAN",
        };
        Failure::with(format!("{name}: {error}"), next)
    })
}

fn explain(error: &ApplyError, given: &Apply) -> anyhow::Error {
    let (image, copy) = (page::quoted(&given.image), page::quoted(&given.copy));
    let again = format!("run the same apply again to finish, or: punchdog undo {copy}");
    let next = match error {
        ApplyError::Plan(PlanError::OtherImage(_)) => {
            format!("punchdog plan {image} --out NEW.plan.json, then apply that")
        }
        ApplyError::Plan(PlanError::Unlisted { .. }) => {
            format!("punchdog plan {image}{} --out NEW.plan.json, then apply that", given.reading.again())
        }
        ApplyError::CopyExists | ApplyError::OtherJournal => {
            "name a new file with --copy; nothing that is there is overwritten".to_owned()
        }
        ApplyError::Foreign(..) => {
            "name a new file with --copy, and keep this one until you know who changed it".to_owned()
        }
        ApplyError::Medium(_) | ApplyError::Workplace { .. } => {
            format!("make room or mend the cause, then {again}; the image is untouched")
        }
        _ => format!("make the plan again: punchdog plan {image} --out NEW.plan.json"),
    };
    Failure::with(error.to_string(), next)
}
