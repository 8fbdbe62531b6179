//! Several images at once: a line each, then what is wrong with those that are not sound; on all cores.

use crate::{
    args::Args,
    failure::{Document, Failure, Verdict},
    json,
    page::{self, Page},
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{
    path::{Path, PathBuf},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
};

/// What looking at one image came to.
pub(crate) struct Looked<D> {
    /// In a few words.
    pub(crate) verdict: (String, anstyle::Style),
    /// In full.
    pub(crate) page: Page,
    /// For programs.
    pub(crate) document: D,
    pub(crate) fine: bool,
}

impl<D: Serialize> Looked<D> {
    /// The answer of a command about this one image.
    pub(crate) fn print(&self, args: &Args) -> anyhow::Result<Verdict> {
        if args.json {
            json::print(&self.document)?;
        } else {
            self.page.print()?;
        }
        Ok(Verdict::of(self.fine))
    }
}

/// Endings of our own files, which are no images.
const OURS: [&str; 6] = ["json", "undo", "svg", "html", "plan", "txt"];

/// The images that are meant: of a folder, the files in it that can be images, by name.
pub(crate) fn images(given: &[PathBuf]) -> anyhow::Result<Vec<PathBuf>> {
    let mut all = Vec::new();
    for path in given {
        if !path.is_dir() {
            all.push(path.clone());
            continue;
        }
        let failed = |error: std::io::Error| {
            Failure::with(
                format!("{} cannot be read: {error}", path.display()),
                "name images, or a folder with images",
            )
        };
        let mut inside = Vec::new();
        for entry in std::fs::read_dir(path).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            let place = entry.path();
            let ours = place.extension().is_some_and(|ending| OURS.iter().any(|own| ending == *own));
            let hidden = entry.file_name().to_string_lossy().starts_with('.');
            if place.is_file() && !ours && !hidden {
                inside.push(place);
            }
        }
        inside.sort();
        all.extend(inside);
    }
    if all.is_empty() {
        let names: Vec<String> = given.iter().map(|path| path.display().to_string()).collect();
        return Err(Failure::with(
            format!("{} is a folder without a file that could be an image", names.join(", ")),
            "name images, or a folder with images",
        ));
    }
    Ok(all)
}

/// The document of a command about several images.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Several<D> {
    schema: String,
    /// All of them are in order.
    fine: bool,
    images: Vec<Answer<D>>,
}

/// The document of an image as it is alone, or why it cannot be looked at.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
enum Answer<D> {
    Looked(D),
    Failed(Document),
}

/// Looks at all of them, and prints a line for each, and the whole of those that are not fine.
pub(crate) fn run<D: Serialize + Send>(
    args: &Args,
    images: &[PathBuf],
    schema: &str,
    look: impl Fn(&Path) -> anyhow::Result<Looked<D>> + Sync,
) -> anyhow::Result<Verdict> {
    let next = AtomicUsize::new(0);
    let slots: Vec<Mutex<Option<anyhow::Result<Looked<D>>>>> =
        images.iter().map(|_| Mutex::new(None)).collect();
    let workers = std::thread::available_parallelism().map_or(2, usize::from).min(images.len());
    std::thread::scope(|scope| {
        for _ in 0..workers {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    let (Some(image), Some(slot)) = (images.get(number), slots.get(number)) else { break };
                    *slot.lock().unwrap_or_else(PoisonError::into_inner) = Some(look(image));
                }
            });
        }
    });
    let looked = slots.into_iter().map(|slot| {
        let found = slot.into_inner().unwrap_or_else(PoisonError::into_inner);
        found.unwrap_or_else(|| Err(Failure::with("stopped on request", "run it again")))
    });
    let all: Vec<(&PathBuf, anyhow::Result<Looked<D>>)> = images.iter().zip(looked).collect();
    let failed = all.iter().filter(|(_, found)| found.is_err()).count();
    let fine = all.iter().all(|(_, found)| found.as_ref().is_ok_and(|looked| looked.fine));
    if args.json {
        let answers = all.into_iter().map(|(image, found)| match found {
            Ok(looked) => Answer::Looked(looked.document),
            Err(error) => Answer::Failed(Document::of(image, &error.to_string())),
        });
        json::print(&Several { schema: schema.to_owned(), fine, images: answers.collect() })?;
    } else {
        let mut page = Page::new();
        let longest =
            all.iter().map(|(image, _)| page::columns(&image.display().to_string())).max().unwrap_or(0);
        for (image, found) in &all {
            let (words, style) = match found {
                Ok(looked) => looked.verdict.clone(),
                Err(error) => (error.to_string(), page::BAD),
            };
            let name = page::clean(&image.display().to_string());
            let gap = " ".repeat(longest + 3 - page::columns(&name));
            page.line(&format!("{name}{gap}{style}{}{style:#}", page::clean(&words)));
        }
        let sound = all.iter().filter(|(_, found)| found.as_ref().is_ok_and(|looked| looked.fine)).count();
        page.gap();
        page.say(&format!("{sound} of {} are in order.", page::count(all.len() as u64, "image", "images")));
        page.print()?;
        for looked in all.iter().filter_map(|(_, found)| found.as_ref().ok()).filter(|looked| !looked.fine) {
            let mut line = Page::new();
            line.gap();
            line.print()?;
            looked.page.print()?;
        }
    }
    Ok(if failed > 0 { Verdict::NotDone } else { Verdict::of(fine) })
}
