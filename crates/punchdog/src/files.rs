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
    family::Wanted,
    files::{
        filler,
        path::TreePath,
        record::{FileRecord, State},
    },
    medium::{Extent, Medium, Window},
    progress::Watch,
};
use serde::Serialize;
use serde_json::{Value, json};

pub(crate) fn run(args: &Args, given: &Files) -> anyhow::Result<Verdict> {
    let image = choose::open(&given.target.image)?;
    let screen = Screen::new();
    let chosen = choose::one(&image, &given.target, &screen)?;
    let window = Window::new(&image, chosen.target.extent);
    let wanted = Wanted { deleted: given.deleted, system: given.system };
    let mut files = chosen.target.volume.files(&window, wanted, &screen)?;
    let mut hashes = Vec::new();
    if given.hash {
        let all = files.iter().map(FileRecord::held).sum();
        let mut done = 0;
        for file in &mut files {
            if screen.stop() {
                return Err(Failure::with(
                    "stopped on request",
                    "run it again when there is time; nothing was written",
                ));
            }
            screen.at("reading files", done, all);
            done += file.held();
            hashes.push((!file.folder).then(|| {
                let mut search = filler::Search::default();
                let hash = file.sha256_with(&window, |bytes| search.take(bytes));
                if let Some(found) = search.found() {
                    file.holds(&found);
                }
                hash
            }));
        }
    }
    drop(screen);
    if args.json {
        let base = chosen.target.extent.offset;
        json::print(&Document {
            schema: "punchdog.files/1",
            image: json::image(&given.target.image, image.len()),
            volume: json!({ "kind": chosen.target.volume.kind().name(), "offset": base, "bytes": chosen.target.volume.bytes() }),
            files: json::Each(|| {
                files.iter().enumerate().map(|(number, file)| {
                    let hash = given.hash.then(|| json!(hashes.get(number).and_then(Option::as_deref)));
                    Record::of(file, base, hash)
                })
            }),
        })?;
        return Ok(Verdict::Fine);
    }
    text(&given.target.image, &chosen, &files, &hashes)?;
    Ok(Verdict::Fine)
}

/// The document of `files`; its list is written file by file.
#[derive(Serialize)]
struct Document<F: Serialize> {
    schema: &'static str,
    image: Value,
    volume: Value,
    files: F,
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
            extents: file.extents.iter().map(|extent| extent.moved(base)).collect(),
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

fn text(
    path: &std::path::Path,
    chosen: &choose::Chosen,
    files: &[FileRecord],
    hashes: &[Option<String>],
) -> anyhow::Result<()> {
    let mut page = Page::new();
    let only_files = files.iter().filter(|file| !file.folder);
    let count = |wanted: State| only_files.clone().filter(|file| file.state == wanted).count() as u64;
    let parts: Vec<String> = [State::Intact, State::Damaged, State::Orphan, State::Deleted]
        .into_iter()
        .filter(|wanted| count(*wanted) > 0)
        .map(|wanted| format!("{} {}", count(wanted), wanted.name()))
        .collect();
    let worst = only_files
        .clone()
        .map(|file| file.state)
        .filter(|s| *s != State::Deleted)
        .max()
        .unwrap_or(State::Intact);
    let verdict = if parts.is_empty() { "no files".to_owned() } else { parts.join(", ") };
    page.head(&choose::title(path, &chosen.target, None), &verdict, state(worst));
    page.gap();
    for (number, file) in files.iter().enumerate() {
        let style = state(file.state);
        let size = if file.folder { "folder".to_owned() } else { page::size(file.size) };
        let when = file.modified.map_or(" ".repeat(16), |time| time.strftime("%Y-%m-%d %H:%M").to_string());
        let slash = if file.folder { "/" } else { "" };
        let about = format!("{size:>11}  {when}");
        page.file(file.state.name(), style, &about, &format!("{}{slash}", file.path));
        if let Some(note) = &file.note {
            page.under_faint(40, note);
        }
        if let Some(Some(hash)) = hashes.get(number) {
            page.under_faint(40, hash);
        }
    }
    let image = page::quoted(path);
    page.next(&[(
        format!("punchdog salvage {image}{} --to SOMEWHERE-ELSE", chosen.again),
        "copies them out",
    )]);
    page.print()
}
