//! `punchdog files`: the files as they can be reached now.

use crate::{
    args::{Args, Files},
    choose, json,
    page::{self, Page},
    trouble::{Trouble, Verdict},
    watch::Screen,
};
use punchdog_core::{
    family::Wanted,
    inventory::{FileRecord, State},
    medium::{Medium, Window},
    progress::Watch,
};
use serde_json::{Value, json};

pub(crate) fn run(args: &Args, given: &Files) -> anyhow::Result<Verdict> {
    let image = choose::open(&given.target.image)?;
    let screen = Screen::new();
    let chosen = choose::one(&image, &given.target, &screen)?;
    let window = Window::new(&image, chosen.extent);
    let wanted = Wanted { deleted: given.deleted, system: given.system };
    let files = chosen.volume.files(&window, wanted, &screen)?;
    let mut hashes = Vec::new();
    if given.hash {
        let all = files.iter().map(FileRecord::held).sum();
        let mut done = 0;
        for file in &files {
            if screen.stop() {
                return Err(Trouble::with(
                    "stopped on request",
                    "run it again when there is time; nothing was written",
                ));
            }
            screen.at("reading files", done, all);
            hashes.push((!file.folder).then(|| file.sha256(&window)));
            done += file.held();
        }
    }
    drop(screen);
    if args.json {
        let base = chosen.extent.offset;
        let list: Vec<Value> = files
            .iter()
            .enumerate()
            .map(|(number, file)| {
                record(file, base, given.hash.then(|| json!(hashes.get(number).cloned().flatten())))
            })
            .collect();
        json::print(&json!({
            "schema": "punchdog.files/1",
            "image": json::image(&given.target.image, image.len()),
            "volume": { "kind": chosen.volume.kind().name(), "offset": base, "bytes": chosen.volume.bytes() },
            "files": list,
        }))?;
        return Ok(Verdict::Fine);
    }
    text(&given.target.image, &chosen, &files, &hashes)?;
    Ok(Verdict::Fine)
}

/// A file for JSON; `hash` is left out where none was asked for.
pub(crate) fn record(file: &FileRecord, base: u64, hash: Option<Value>) -> Value {
    let mut value = json!({
        "path": file.path,
        "folder": file.folder,
        "size": file.size,
        "state": file.state.name(),
        "modified": file.modified.map(|time| time.to_string()),
        "extents": json::extents(&file.extents, base),
        "note": file.note,
    });
    if let Some(hash) = hash {
        value["sha256"] = hash;
    }
    value
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
    page.head(&choose::title(path, chosen, None), &verdict, state(worst));
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
    let image = page::word(path);
    page.next(&[(
        format!("punchdog salvage {image}{} --to SOMEWHERE-ELSE", chosen.again),
        "copies them out",
    )]);
    page.print()
}
