//! `punchdog salvage`: copying files out of the damaged image, before any repair.

pub(crate) mod manifest;
mod names;
mod place;

use crate::{
    args::{Args, HowComplete, KindOfFile, Salvage, StateOfFile},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
};
use anyhow::Context;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use manifest::{Failed, Manifest, Saved};
use names::Names;
use punchdog_core::{
    family::Wanted,
    files::{
        judgement,
        kinds::{self, Group},
        path::TreePath,
        record::{FileRecord, State},
    },
    medium::{Medium, Window},
    progress::Watch,
    unearth::{Complete, Find},
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{
    collections::{BTreeMap, VecDeque},
    ops::ControlFlow,
    path::Path,
    time::{Duration, Instant},
};

pub(crate) fn run(args: &Args, given: &Salvage) -> anyhow::Result<Verdict> {
    let image = choose::open_for(&given.target.image, &given.target.which)?;
    let screen = Screen::of_bytes();
    let chosen = choose::perhaps(&image, &given.target, given.finds.is_some(), &screen)?;
    let globs = globs(&given.matching)?;
    let (wanted, left_out) = wanted(given, &image, chosen.as_ref(), &globs, &screen)?;
    let about = About {
        head: if let Some(chosen) = &chosen {
            choose::title(&given.target.image, &chosen.target, None)
        } else {
            let name = page::clean(&choose::file_name(&given.target.image));
            format!("{name} · {}", page::size(image.len()))
        },
        again: chosen.as_ref().map_or(String::new(), |chosen| chosen.again.clone()),
        volume: chosen.is_some(),
        left_out,
    };
    let Some(to) = given.to.as_deref().filter(|_| !given.list) else {
        drop(screen);
        return list(args, given, &about, &wanted, image.len());
    };
    place::must_be_elsewhere(to, &given.target.image)?;
    // Zeros that were never written become holes and take no room.
    let needed = wanted.iter().map(|file| file.content.on_medium()).fold(0, u64::saturating_add);
    place::must_have_room(to, needed)?;
    std::fs::create_dir_all(to).with_context(|| format!("the folder {} cannot be made", to.display()))?;
    let _lock = place::lock(to)?;
    crate::workplace::clear_left_over(to);
    let mut manifest = Manifest::load_or_new(to, &given.target.image, image.len(), chosen.as_ref())?;
    let mut names = Names::new(to);
    let work = Work { image: &image, to, content: given.content, needed };
    let copied = copy_all(&wanted, &work, &mut names, &mut manifest, &screen);
    drop(screen);
    // Whatever happened: what was copied out is written down.
    manifest.save(to)?;
    if copied? {
        return Err(Failure::with(
            format!("stopped on request after {} of {} files", manifest.files.len(), wanted.len()),
            "run the same command again: it goes on where it stopped",
        ));
    }
    report(args, given, &about, to, &manifest)
}

/// What the pages say of the work.
struct About {
    head: String,
    again: String,
    /// A volume was read, which can be planned for.
    volume: bool,
    /// Finds that are not complete, and were not asked for.
    left_out: u64,
}

/// What is copied, from where to where.
struct Work<'w> {
    image: &'w choose::Image,
    to: &'w Path,
    content: bool,
    /// Bytes in all.
    needed: u64,
}

/// The files that are wanted, and how many finds were left out for not being complete; places are bytes from the
/// start of the image.
fn wanted(
    given: &Salvage,
    image: &choose::Image,
    chosen: Option<&choose::Chosen>,
    globs: &GlobSet,
    screen: &Screen,
) -> anyhow::Result<(Vec<FileRecord>, u64)> {
    let mut wanted = Vec::new();
    if let Some(chosen) = chosen {
        let window = Window::new(image, chosen.target.extent);
        // With the finds come the deleted ones, judged.
        let deleted = given.state.contains(&StateOfFile::Deleted) && given.finds.is_none();
        let mut survey = chosen.target.survey(&window, screen)?;
        survey.each_file(&window, Wanted { deleted, system: false }, &mut |mut file| {
            file.content = std::mem::take(&mut file.content).moved(chosen.target.extent.offset);
            if is_wanted(&file, given, globs, image) {
                wanted.push(file);
            }
            ControlFlow::Continue(())
        });
    }
    let mut left_out = 0;
    if let Some(finds) = &given.finds {
        let narrowed = given.target.which.narrows();
        let within = chosen.map(|chosen| chosen.target.extent).filter(|_| narrowed);
        let mut pass = |find: Find| {
            let record = find.record();
            if !crate::files::is_within(&find, within) || !is_wanted(&record, given, globs, image) {
                return;
            }
            if is_complete_enough(find.complete, given) {
                wanted.push(record);
            } else {
                left_out += 1;
            }
        };
        crate::finds::read_of(finds, (&given.target.image, image), &mut pass)?;
    }
    Ok((wanted, left_out))
}

fn is_complete_enough(complete: Complete, given: &Salvage) -> bool {
    let how = match complete {
        Complete::Yes => HowComplete::Yes,
        Complete::Likely => HowComplete::Likely,
        Complete::No => HowComplete::No,
    };
    if given.complete.is_empty() { how != HowComplete::No } else { given.complete.contains(&how) }
}

fn globs(patterns: &[String]) -> anyhow::Result<GlobSet> {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        let glob = GlobBuilder::new(pattern).case_insensitive(true).build().map_err(|error| {
            Failure::with(
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
    let matches = given.matching.is_empty()
        || globs.is_match(file.path.name())
        || globs.is_match(file.path.to_string());
    let state = match file.state {
        State::Intact => StateOfFile::Intact,
        State::Damaged => StateOfFile::Damaged,
        State::Orphan => StateOfFile::Orphan,
        State::Deleted => StateOfFile::Deleted,
        State::Older => StateOfFile::Older,
        State::Unnamed => StateOfFile::Unnamed,
    };
    let in_state = given.state.is_empty() || given.state.contains(&state);
    matches && in_state && (given.kind.is_empty() || given.kind.contains(&kind_of(file, medium)))
}

/// The group of a file, as the arguments call it.
fn kind_of(file: &FileRecord, medium: &dyn Medium) -> KindOfFile {
    let start = file.content.start(medium, kinds::ENOUGH as u64);
    match kinds::group(file.path.name(), &start) {
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
    work: &Work<'_>,
    names: &mut Names,
    manifest: &mut Manifest,
    screen: &Screen,
) -> anyhow::Result<bool> {
    let Work { image, to, needed, .. } = *work;
    let mut done = 0;
    let before = std::mem::take(&mut manifest.files);
    manifest.failed.clear();
    // Several files can have one path, on a damaged volume.
    let mut earlier: BTreeMap<(&TreePath, u64), VecDeque<&Saved>> = BTreeMap::new();
    for saved in &before {
        earlier.entry((&saved.path, saved.size)).or_default().push_back(saved);
    }
    let mut saved_at = Instant::now();
    for file in wanted {
        screen.at("copying files out", done, needed);
        if screen.stop() {
            return Ok(true);
        }
        let path = file.path.to_string();
        if file.folder {
            let relative = names.folder(&path);
            if let Err(error) = place::make_folders(to, &relative) {
                give_up(manifest, file, &error.into())?;
            }
            continue;
        }
        // A file of zeros in place of one that is not in the image would pass for a copy of it.
        if file.absent {
            let why = "none of its content is in the image; nothing was written".to_owned();
            manifest.failed.push(Failed { path: file.path.clone(), why });
            continue;
        }
        let known = earlier.get_mut(&(&file.path, file.size)).and_then(VecDeque::pop_front);
        if let Some(saved) = known.filter(|saved| place::is_there(to, saved)) {
            names.keep(&path, &saved.to);
            manifest.files.push(saved.clone());
        } else {
            match place::save(to, names, file, image, screen) {
                Ok(Some(saved)) => {
                    let judged = work.content.then(|| judgement::of(file, image));
                    let content = judged.as_ref().map(crate::files::Judged::of);
                    manifest.files.push(Saved { content, ..saved });
                }
                Ok(None) => return Ok(true),
                Err(error) => give_up(manifest, file, &error)?,
            }
        }
        done += file.content.on_medium();
        // Written down now and then; a long list is not written for each file.
        if saved_at.elapsed() > WRITTEN_DOWN {
            manifest.save(to)?;
            saved_at = Instant::now();
        }
    }
    Ok(false)
}

/// Time between two writings of the manifest.
const WRITTEN_DOWN: Duration = Duration::from_secs(20);

/// Notes a file that the target does not take, and goes on; a target that takes nothing more ends it.
fn give_up(manifest: &mut Manifest, file: &FileRecord, error: &anyhow::Error) -> anyhow::Result<()> {
    use std::io::ErrorKind::{AlreadyExists, FileTooLarge, InvalidFilename, InvalidInput, NotADirectory};
    let kind = error.downcast_ref::<std::io::Error>().map(std::io::Error::kind);
    let theirs = error.downcast_ref::<Failure>().is_some();
    if theirs
        || matches!(kind, Some(InvalidFilename | InvalidInput | NotADirectory | AlreadyExists | FileTooLarge))
    {
        manifest.failed.push(Failed { path: file.path.clone(), why: error.to_string() });
        return Ok(());
    }
    let what = format!("copying {} out failed: {error}", file.path);
    Err(Failure::with(
        what,
        "make room or mend the cause, then run the same command again: it goes on where it stopped",
    ))
}

/// The document of `salvage --list`.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "SalvageList")]
pub(crate) struct List<F: Serialize> {
    #[schemars(extend("const" = "punchdog.salvage-list/1"))]
    schema: &'static str,
    image: json::Image,
    /// That would be written.
    bytes: u64,
    #[schemars(with = "Vec<crate::files::Record<'static>>")]
    files: F,
}

fn list(
    args: &Args,
    given: &Salvage,
    about: &About,
    wanted: &[FileRecord],
    image: u64,
) -> anyhow::Result<Verdict> {
    let files: Vec<&FileRecord> = wanted.iter().filter(|file| !file.folder).collect();
    let bytes = files.iter().map(|file| file.content.held()).fold(0, u64::saturating_add);
    if args.json {
        json::print(&List {
            schema: "punchdog.salvage-list/1",
            image: json::Image::of(&given.target.image, image),
            bytes,
            files: json::Each(|| files.iter().map(|file| crate::files::Record::of(file, 0, None))),
        })?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    page.head(
        &about.head,
        &format!("{}, {}", page::count(files.len() as u64, "file", "files"), page::size(bytes)),
        page::GOOD,
    );
    page.gap();
    for file in &files {
        let about = format!("{:>11}", page::size(file.size));
        page.file(file.state.name(), anstyle::Style::new(), &about, &file.path.to_string());
    }
    let again = &about.again;
    let finds =
        given.finds.as_ref().map_or(String::new(), |finds| format!(" --finds {}", page::quoted(finds)));
    say_left_out(&mut page, about);
    page.next(&[(
        format!("punchdog salvage {}{again}{finds} --to SOMEWHERE-ELSE", page::quoted(&given.target.image)),
        "copies them, with the same filters",
    )]);
    page.print()?;
    Ok(Verdict::Fine)
}

/// What of the finds was not asked for.
fn say_left_out(page: &mut Page, about: &About) {
    if about.left_out > 0 {
        page.gap();
        page.say(&format!(
            "{} that unearth found not complete: left out; --complete no takes them.",
            page::count(about.left_out, "file", "files")
        ));
    }
}

fn report(
    args: &Args,
    given: &Salvage,
    about: &About,
    to: &Path,
    manifest: &Manifest,
) -> anyhow::Result<Verdict> {
    // What unearth found likely complete was asked for as such.
    let is_short = |saved: &&Saved| {
        let found = ["deleted", "older", "unnamed"].contains(&saved.state.as_str()) && given.finds.is_some();
        let all = found && saved.missing_bytes == 0 && saved.written_bytes == saved.size;
        saved.broken().is_some() || !(saved.whole || all)
    };
    let short: Vec<&Saved> = manifest.files.iter().filter(is_short).collect();
    let likely = manifest.files.iter().filter(|saved| !saved.whole).count()
        - short.iter().filter(|s| !s.whole).count();
    let bytes = manifest.files.iter().map(|saved| saved.written_bytes).fold(0, u64::saturating_add);
    let fine = short.is_empty() && manifest.failed.is_empty();
    if args.json {
        json::print(manifest)?;
        return Ok(Verdict::of(fine));
    }
    let mut page = Page::new();
    let files = page::count(manifest.files.len() as u64, "file", "files");
    let (verdict, style) = if fine {
        match likely {
            0 => (format!("{files} copied out, all whole"), page::GOOD),
            _ => (format!("{files} copied out, {likely} of them likely whole"), page::GOOD),
        }
    } else if !manifest.failed.is_empty() {
        (format!("{files} copied out, {} could not be", manifest.failed.len()), page::BAD)
    } else {
        // All that a file should have was written, and yet it is not known to be its content.
        let doubted = |saved: &&&Saved| {
            saved.broken().is_none()
                && saved.size > 0
                && saved.missing_bytes == 0
                && saved.written_bytes == saved.size
        };
        let doubted = short.iter().filter(doubted).count();
        let parts = [(short.len() - doubted, "not whole"), (doubted, "in doubt")];
        let parts: Vec<String> =
            parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
        (format!("{files} copied out, {}", parts.join(", ")), page::WARN)
    };
    page.head(&about.head, &verdict, style);
    page.gap();
    page.say(&format!(
        "{} in {}. Names, states and SHA-256 of each are in {}.",
        page::size(bytes),
        to.display(),
        manifest::NAME
    ));
    for saved in short.iter().take(20) {
        let why = match saved.broken() {
            Some(content) => content.why.clone(),
            None => saved.note.clone().unwrap_or_else(|| saved.state.clone()),
        };
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
    for failed in manifest.failed.iter().take(20) {
        page.beside(12, "not copied", page::BAD, &format!("{}: {}", failed.path, failed.why));
    }
    if manifest.failed.len() > 20 {
        page.beside(
            12,
            "",
            page::FAINT,
            &format!("and {} more, in the manifest", manifest.failed.len() - 20),
        );
    }
    let (image, again) = (&given.target.image, &about.again);
    say_left_out(&mut page, about);
    if !about.volume {
        page.print()?;
        return Ok(Verdict::of(fine));
    }
    page.next(&[(
        format!(
            "punchdog plan {}{again} --out {}",
            page::quoted(image),
            page::quoted(&page::beside(image, again, "plan.json"))
        ),
        "now that the files are safe: the repair",
    )]);
    page.print()?;
    Ok(Verdict::of(fine))
}
