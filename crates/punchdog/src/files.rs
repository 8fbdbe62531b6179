//! `punchdog files`: the files as they can be reached now.

use crate::{
    args::{Args, Files},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    family::{Survey, Wanted},
    files::{
        content::Part,
        filler,
        path::TreePath,
        record::{FileRecord, State},
    },
    medium::{Extent, Medium, Window},
    progress::Watch,
};
use serde::{Serialize, Serializer, ser::SerializeSeq};
use serde_json::{Value, json};
use std::{cell::RefCell, ops::ControlFlow};

pub(crate) fn run(args: &Args, given: &Files) -> anyhow::Result<Verdict> {
    let image = choose::open(&given.target.image)?;
    let screen = Screen::new();
    let chosen = choose::one(&image, &given.target, &screen)?;
    let window = Window::new(&image, chosen.target.extent);
    let wanted = Wanted { deleted: given.deleted, system: given.system };
    let mut survey = chosen.target.volume.survey(&window, &screen)?;
    let source = if given.hash {
        Source::Hashed(hashed(survey.as_mut(), &window, wanted, &screen)?)
    } else {
        Source::Survey(RefCell::new(survey), &window, wanted)
    };
    drop(screen);
    if args.json {
        let (base, volume) = (chosen.target.extent.offset, &chosen.target.volume);
        json::print(&Document {
            schema: "punchdog.files/1",
            image: json::image(&given.target.image, image.len()),
            volume: json!({ "kind": volume.kind().name(), "offset": base, "bytes": volume.bytes() }),
            files: List { source: &source, base },
        })?;
        return Ok(Verdict::Fine);
    }
    text(&given.target.image, &chosen, &source)?;
    Ok(Verdict::Fine)
}

/// A file with the hash of its content; folders have none.
type Hashed = (FileRecord, Option<String>);

/// Where the list comes from.
enum Source<'s> {
    /// From the survey, file by file.
    Survey(RefCell<Box<dyn Survey>>, &'s Window<'s>, Wanted),
    /// From memory: reading all content came first.
    Hashed(Vec<Hashed>),
}

impl Source<'_> {
    /// Each file, by path.
    fn each(&self, mut take: impl FnMut(&FileRecord, Option<&str>)) {
        match self {
            Self::Survey(survey, window, wanted) => {
                survey.borrow_mut().each_file(*window, *wanted, &mut |file| {
                    take(&file, None);
                    ControlFlow::Continue(())
                });
            }
            Self::Hashed(files) => files.iter().for_each(|(file, hash)| take(file, hash.as_deref())),
        }
    }
}

/// Every file with its hash, read in the order of the list.
fn hashed(
    survey: &mut dyn Survey,
    window: &Window<'_>,
    wanted: Wanted,
    screen: &Screen,
) -> anyhow::Result<Vec<Hashed>> {
    let mut files = Vec::new();
    survey.each_file(window, wanted, &mut |file| {
        files.push((file, None));
        ControlFlow::Continue(())
    });
    let all = files.iter().map(|(file, _)| file.content.held()).fold(0, u64::saturating_add);
    let mut done = 0;
    for (file, hash) in files.iter_mut().filter(|(file, _)| !file.folder) {
        if screen.stop() {
            return Err(Failure::with(
                "stopped on request",
                "run it again when there is time; nothing was written",
            ));
        }
        screen.at("reading files", done, all);
        done += file.content.held();
        let mut search = filler::Search::default();
        *hash = Some(file.sha256_with(window, |part| match part {
            Part::Bytes(bytes) => search.take(bytes),
            Part::Zeros(count) => search.skip(count),
        }));
        if let Some(found) = search.found() {
            file.holds(&found);
        }
    }
    Ok(files)
}

/// The document of `files`; its list is written file by file.
#[derive(Serialize)]
struct Document<'d> {
    schema: &'static str,
    image: Value,
    volume: Value,
    files: List<'d>,
}

struct List<'l> {
    source: &'l Source<'l>,
    base: u64,
}

impl Serialize for List<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        let with_hash = matches!(self.source, Source::Hashed(_));
        let mut failed = None;
        self.source.each(|file, hash| {
            if failed.is_none() {
                let record = Record::of(file, self.base, with_hash.then(|| json!(hash)));
                failed = list.serialize_element(&record).err();
            }
        });
        failed.map_or_else(|| list.end(), Err)
    }
}

/// A file for JSON.
#[derive(Serialize)]
pub(crate) struct Record<'f> {
    path: &'f TreePath,
    folder: bool,
    size: u64,
    state: &'static str,
    modified: Option<String>,
    attributes: Vec<&'static str>,
    extents: Vec<Extent>,
    note: Option<&'f str>,
    /// Left out where none was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    sha256: Option<Value>,
}

impl<'f> Record<'f> {
    /// `file`, on the volume that begins at `base`.
    pub(crate) fn of(file: &'f FileRecord, base: u64, sha256: Option<Value>) -> Self {
        Self {
            path: &file.path,
            folder: file.folder,
            size: file.size,
            state: file.state.name(),
            modified: file.modified.map(|time| time.to_string()),
            attributes: file.attributes.names(),
            extents: file.content.extents().map(|extent| extent.moved(base)).collect(),
            note: file.note.as_deref(),
            sha256,
        }
    }
}

/// The style and the mark of a state.
fn state(state: State) -> anstyle::Style {
    match state {
        State::Intact => page::GOOD,
        State::Damaged => page::BAD,
        State::Orphan => page::WARN,
        State::Deleted => page::FAINT,
    }
}

fn text(path: &std::path::Path, chosen: &choose::Chosen, source: &Source<'_>) -> anyhow::Result<()> {
    const STATES: [State; 4] = [State::Intact, State::Damaged, State::Orphan, State::Deleted];
    let mut page = Page::new();
    let mut counts = [0_u64; STATES.len()];
    source.each(|file, _| {
        for (count, _) in counts.iter_mut().zip(STATES).filter(|(_, s)| !file.folder && *s == file.state) {
            *count += 1;
        }
    });
    let there = || counts.iter().zip(STATES).filter(|(count, _)| **count > 0);
    let parts: Vec<String> = there().map(|(count, state)| format!("{count} {}", state.name())).collect();
    let worst = there().map(|(_, state)| state).filter(|state| *state != State::Deleted).max();
    let verdict = if parts.is_empty() { "no files".to_owned() } else { parts.join(", ") };
    page.head(&choose::title(path, &chosen.target, None), &verdict, state(worst.unwrap_or(State::Intact)));
    page.gap();
    source.each(|file, hash| {
        let style = state(file.state);
        let size = if file.folder { "folder".to_owned() } else { page::size(file.size) };
        let when = file.modified.map_or(" ".repeat(16), |time| time.strftime("%Y-%m-%d %H:%M").to_string());
        let slash = if file.folder { "/" } else { "" };
        let about = format!("{size:>11}  {when}");
        page.file(file.state.name(), style, &about, &format!("{}{slash}", file.path));
        for under in file.note.as_deref().into_iter().chain(hash) {
            page.under_faint(40, under);
        }
    });
    let image = page::quoted(path);
    page.next(&[(
        format!("punchdog salvage {image}{} --to SOMEWHERE-ELSE", chosen.again),
        "copies them out",
    )]);
    page.print()
}
