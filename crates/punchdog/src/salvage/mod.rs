//! `punchdog salvage`: copying files out of the damaged image, before any repair.

mod manifest;
mod names;
mod place;

use crate::{
    args::{Args, KindOfFile, Salvage, StateOfFile},
    choose, json,
    page::{self, Page},
    trouble::{Trouble, Verdict},
    watch::Screen,
};
use anyhow::Context;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use manifest::{Manifest, Saved};
use names::Names;
use punchdog_core::{
    content::{self, Group},
    family::Wanted,
    inventory::{FileRecord, State},
    medium::{Medium, Window},
    progress::Watch,
};
use serde_json::json;
use std::path::Path;

pub(crate) fn run(args: &Args, given: &Salvage) -> anyhow::Result<Verdict> {
    let image = choose::open(&given.target.image)?;
    let screen = Screen::of_bytes();
    let chosen = choose::one(&image, &given.target, &screen)?;
    let window = Window::new(&image, chosen.extent);
    let deleted = given.state.contains(&StateOfFile::Deleted);
    let files = chosen.volume.files(&window, Wanted { deleted, system: false }, &screen)?;
    let globs = globs(&given.matching)?;
    let wanted: Vec<FileRecord> =
        files.into_iter().filter(|file| is_wanted(file, given, &globs, &window)).collect();
    let head = choose::title(&given.target.image, &chosen, None);
    let Some(to) = given.to.as_deref().filter(|_| !given.list) else {
        drop(screen);
        return list(args, given, &head, &wanted, chosen.extent.offset, image.len());
    };
    place::must_be_elsewhere(to, &given.target.image)?;
    let needed: u64 = wanted.iter().map(FileRecord::held).sum();
    place::must_have_room(to, needed)?;
    std::fs::create_dir_all(to).with_context(|| format!("the folder {} cannot be made", to.display()))?;
    let _lock = place::lock(to)?;
    let mut manifest = Manifest::load_or_new(to, &given.target.image, image.len(), &chosen)?;
    let mut names = Names::new(to);
    let stopped = copy_all(&wanted, &window, to, &mut names, &mut manifest, &screen, needed)?;
    drop(screen);
    manifest.save(to)?;
    if stopped {
        return Err(Trouble::with(
            format!("stopped on request after {} of {} files", manifest.files.len(), wanted.len()),
            "run the same command again: it goes on where it stopped",
        ));
    }
    report(args, given, &head, to, &manifest)
}

fn globs(patterns: &[String]) -> anyhow::Result<GlobSet> {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        let glob = GlobBuilder::new(pattern).case_insensitive(true).build().map_err(|error| {
            Trouble::with(
                format!("--match {pattern}: {error}"),
                "for example --match '*.jpg' or --match 'DCIM/**'",
            )
        })?;
        set.add(glob);
    }
    Ok(set.build()?)
}

fn is_wanted(file: &FileRecord, given: &Salvage, globs: &GlobSet, medium: &dyn Medium) -> bool {
    if file.folder {
        return given.matching.is_empty() && given.kind.is_empty() && given.state.is_empty();
    }
    let name = file.path.rsplit('/').next().unwrap_or(&file.path);
    let matches = given.matching.is_empty() || globs.is_match(&file.path) || globs.is_match(name);
    let state = match file.state {
        State::Intact => StateOfFile::Intact,
        State::Damaged => StateOfFile::Damaged,
        State::Orphan => StateOfFile::Orphan,
        State::Deleted => StateOfFile::Deleted,
    };
    let in_state = given.state.is_empty() || given.state.contains(&state);
    matches && in_state && (given.kind.is_empty() || given.kind.contains(&kind_of(file, medium)))
}

/// The group of a file, as the arguments call it.
fn kind_of(file: &FileRecord, medium: &dyn Medium) -> KindOfFile {
    let first = file.extents.first();
    let length =
        first.map_or(0, |extent| usize::try_from(extent.length).unwrap_or(usize::MAX).min(content::ENOUGH));
    let start = first.map_or_else(Vec::new, |extent| medium.lenient(extent.offset, length).bytes);
    match content::group(&file.path, &start) {
        Group::Pictures => KindOfFile::Pictures,
        Group::Sound => KindOfFile::Sound,
        Group::Video => KindOfFile::Video,
        Group::Documents => KindOfFile::Documents,
        Group::Archives => KindOfFile::Archives,
        Group::Other => KindOfFile::Other,
    }
}

/// Copies everything; true when it was told to stop.
fn copy_all(
    wanted: &[FileRecord],
    medium: &dyn Medium,
    to: &Path,
    names: &mut Names,
    manifest: &mut Manifest,
    screen: &Screen,
    needed: u64,
) -> anyhow::Result<bool> {
    let mut done = 0;
    let before = std::mem::take(&mut manifest.files);
    let earlier: std::collections::HashMap<(&str, u64), &Saved> =
        before.iter().map(|saved| ((saved.path.as_str(), saved.size), saved)).collect();
    for (number, file) in wanted.iter().enumerate() {
        screen.at("copying files out", done, needed);
        if screen.stop() {
            return Ok(true);
        }
        if file.folder {
            let relative = names.folder(&file.path);
            place::make_folders(to, &relative)?;
            continue;
        }
        let known = earlier.get(&(file.path.as_str(), file.size)).filter(|saved| place::is_there(to, saved));
        if let Some(saved) = known {
            names.keep(&file.path, &saved.to);
            manifest.files.push((*saved).clone());
        } else {
            match place::save(to, names, file, medium, screen)? {
                Some(saved) => manifest.files.push(saved),
                None => return Ok(true),
            }
        }
        done += file.held();
        if number % 512 == 511 {
            manifest.save(to)?;
        }
    }
    Ok(false)
}

fn list(
    args: &Args,
    given: &Salvage,
    head: &str,
    wanted: &[FileRecord],
    base: u64,
    image: u64,
) -> anyhow::Result<Verdict> {
    let files: Vec<&FileRecord> = wanted.iter().filter(|file| !file.folder).collect();
    let bytes: u64 = files.iter().map(|file| file.held()).sum();
    if args.json {
        json::print(&json!({
            "schema": "punchdog.salvage-list/1",
            "image": json::image(&given.target.image, image),
            "bytes": bytes,
            "files": files.iter().map(|file| crate::files::record(file, base, None)).collect::<Vec<_>>(),
        }))?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    page.head(
        head,
        &format!("{}, {}", page::count(files.len() as u64, "file", "files"), page::size(bytes)),
        page::GOOD,
    );
    page.gap();
    for file in &files {
        page.line(&format!(
            "  {:<8} {:>11}  {}",
            file.state.name(),
            page::size(file.size),
            page::clean(&file.path)
        ));
    }
    page.next(&[(
        format!("punchdog salvage {} --to SOMEWHERE-ELSE", page::word(&given.target.image)),
        "copies them, with the same filters",
    )]);
    page.print()?;
    Ok(Verdict::Fine)
}

fn report(
    args: &Args,
    given: &Salvage,
    head: &str,
    to: &Path,
    manifest: &Manifest,
) -> anyhow::Result<Verdict> {
    let short: Vec<&Saved> =
        manifest.files.iter().filter(|saved| saved.missing_bytes > 0 || saved.state != "intact").collect();
    let bytes: u64 = manifest.files.iter().map(|saved| saved.size).sum();
    if args.json {
        json::print(&serde_json::to_value(manifest)?)?;
        return Ok(Verdict::of(short.is_empty()));
    }
    let mut page = Page::new();
    let files = page::count(manifest.files.len() as u64, "file", "files");
    let (verdict, style) = if short.is_empty() {
        (format!("{files} copied out, all whole"), page::GOOD)
    } else {
        (format!("{files} copied out, {} not whole", short.len()), page::WARN)
    };
    page.head(head, &verdict, style);
    page.gap();
    page.say(&format!(
        "{} in {}. Names, states and SHA-256 of each are in {}.",
        page::size(bytes),
        to.display(),
        manifest::NAME
    ));
    for saved in short.iter().take(20) {
        let why = saved.note.clone().unwrap_or_else(|| saved.state.clone());
        let missing = if saved.missing_bytes > 0 {
            format!("; {} missing", page::size(saved.missing_bytes))
        } else {
            String::new()
        };
        page.beside(12, &saved.state, page::WARN, &format!("{}: {why}{missing}", saved.path));
    }
    if short.len() > 20 {
        page.beside(12, "", page::FAINT, &format!("and {} more, in the manifest", short.len() - 20));
    }
    let image = &given.target.image;
    page.next(&[(
        format!(
            "punchdog plan {} --out {}",
            page::word(image),
            page::word(&image.with_extension("plan.json"))
        ),
        "now that the files are safe: the repair",
    )]);
    page.print()?;
    Ok(Verdict::of(short.is_empty()))
}
