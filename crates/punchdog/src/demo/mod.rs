//! `punchdog demo`: made-up patients, and whole jobs run on some of them.

mod chapters;

use crate::{
    args::{Args, Demo},
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
};
use anyhow::Context;
use chapters::{AFTERWARDS, CAMERA, FAILING, FORMATTED};
use punchdog_core::{
    family::Wanted,
    files::record::State,
    medium::FileImage,
    progress::Silent,
    registry,
    surface::list::{List, Listed, State as Failed},
};
use punchdog_lab::{canvas::write_with_holes, patient::fat::Patient, station};
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    io::Write,
    path::Path,
    process::{Command, Stdio},
};

/// The document of `demo`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.demo/1"))]
    schema: &'static str,
    folder: String,
    /// The commands that were run.
    job: Vec<Asked>,
    /// Files of the nest camera, and how many are back.
    files: usize,
    files_back: usize,
    /// Of the card that was formatted by mistake.
    formatted_files: usize,
    formatted_files_back: usize,
    /// Of the card that fails in places.
    failing_files: usize,
    failing_files_back: usize,
}

/// A command, and the exit status that it should have.
#[derive(Serialize, JsonSchema)]
struct Asked {
    words: Vec<&'static str>,
    status: i32,
}

pub(crate) fn run(args: &Args, given: &Demo) -> anyhow::Result<Verdict> {
    let dir = &given.dir;
    if std::fs::read_dir(dir).is_ok_and(|mut inside| inside.next().is_some()) {
        return Err(Failure::with(
            format!("{} is not empty", dir.display()),
            "name a new folder: punchdog demo FOLDER; nothing is overwritten",
        ));
    }
    std::fs::create_dir_all(dir).with_context(|| format!("the folder {} cannot be made", dir.display()))?;
    let mut page = Page::new();
    let Patients { camera, formatted, failing } = lay_out(dir, &mut page)?;
    page.say("The job on the nest camera's card:");
    if !args.json {
        page.print()?;
    }
    for (words, expected) in CAMERA {
        step(args, dir, words, expected)?;
    }
    let (made, back) = verify(args, dir, &camera.sound)?;
    if !args.json {
        let mut page = Page::new();
        page.gap();
        page.say("The job on the card that was formatted by mistake:");
        page.print()?;
    }
    for (words, expected) in FORMATTED {
        step(args, dir, words, expected)?;
    }
    let (photos, unearthed) = unearthed(dir, &formatted.before)?;
    if !args.json {
        let mut page = Page::new();
        page.gap();
        page.head(
            "unearthed, held against the card before it was formatted",
            &format!("{unearthed} of {photos} files are back, byte for byte"),
            if unearthed == photos { page::GOOD } else { page::BAD },
        );
        page.gap();
        page.say("The job on the card that cannot be read in places:");
        page.print()?;
    }
    for (words, expected) in FAILING {
        step(args, dir, words, expected)?;
    }
    let (kept, all) = read_in_places(dir, &failing)?;
    let fine = back == made && unearthed == photos && kept + failing.hit.len() == all;
    if !args.json {
        let mut page = Page::new();
        page.gap();
        page.head(
            "weather-mast.mended.img, held against the card before it failed",
            &format!("{kept} of {all} files are back, byte for byte, and the report names the others"),
            if fine { page::GOOD } else { page::BAD },
        );
        page.gap();
        page.say("After the repair, and where there is none:");
        page.print()?;
    }
    for (words, expected) in AFTERWARDS {
        step(args, dir, words, expected)?;
    }
    if args.json {
        let all_words = CAMERA.iter().chain(&FORMATTED).chain(&FAILING).chain(&AFTERWARDS);
        json::print(&Document {
            schema: "punchdog.demo/1",
            folder: dir.display().to_string(),
            job: all_words.map(|(words, status)| Asked { words: words.to_vec(), status: *status }).collect(),
            files: made,
            files_back: back,
            formatted_files: photos,
            formatted_files_back: unearthed,
            failing_files: all,
            failing_files_back: kept,
        })?;
        return Ok(Verdict::of(fine));
    }
    let mut page = Page::new();
    page.gap();
    page.next(&[
        ("punchdog explain tide-logger.img".to_owned(), "another patient: a damaged allocation table"),
        ("punchdog explain sound-recorder.img".to_owned(), "an exFAT card that shows as RAW"),
        ("punchdog explain office-disk.img".to_owned(), "an NTFS volume that shows as RAW, on a whole disk"),
        ("punchdog scout field-stick.img".to_owned(), "a disk that shows no volume"),
        ("punchdog fields nest-camera.img".to_owned(), "what Punchdog believes of each boot sector field"),
    ]);
    page.print()?;
    Ok(Verdict::of(fine))
}

/// How many files of the mended copy are as they were on the card before it failed, and how many there were.
fn read_in_places(dir: &Path, failing: &station::FailingCard) -> anyhow::Result<(usize, usize)> {
    let image = FileImage::open(&dir.join("weather-mast.mended.img"))?;
    let volume = registry::recognise(&image, &Silent)?.context("the mended copy holds no volume")?;
    let files = volume.files(&image, Wanted::default(), &Silent)?;
    let found: BTreeMap<String, String> =
        files.iter().filter(|file| !file.folder).map(|f| (f.path.to_string(), f.sha256(&image))).collect();
    let made: Vec<_> = failing.sound.live().filter(|made| !made.folder).collect();
    let kept = made.iter().filter(|made| found.get(&made.path) == Some(&made.sha256)).count();
    Ok((kept, made.len()))
}

/// The patients that are worked on.
struct Patients {
    camera: station::Card,
    formatted: station::FormattedCard,
    failing: station::FailingCard,
}

/// How many files the card had before it was formatted, and how many of them were copied out, whatever they are called.
fn unearthed(dir: &Path, before: &Patient) -> anyhow::Result<(usize, usize)> {
    let mut found = std::collections::BTreeSet::new();
    let mut open = vec![dir.join("unearthed")];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder)? {
            let path = entry?.path();
            if path.is_dir() {
                open.push(path);
            } else {
                found.insert(hex::encode(Sha256::digest(std::fs::read(&path)?)));
            }
        }
    }
    let made: Vec<_> = before.live().filter(|made| !made.folder).collect();
    Ok((made.len(), made.iter().filter(|made| found.contains(&made.sha256)).count()))
}

/// Writes the patients into the folder, and says what happened to each; gives the two that are worked on.
fn lay_out(dir: &Path, page: &mut Page) -> anyhow::Result<Patients> {
    let camera = station::camera_card()?;
    page.say("The seabird field station on Skerry Point has sent its cards. They are made up, byte for byte, by this program.");
    page.gap();
    for card in [&station::tide_card()?, &camera] {
        write_with_holes(&dir.join(format!("{}.img", card.name)), &card.patient.bytes)?;
        write_with_holes(&dir.join(format!("{}.sound.img", card.name)), &card.sound.bytes)?;
        page.beside(22, &format!("{}.img", card.name), page::STRONG, &format!("{}.", card.story));
    }
    let recorder = station::recorder_card()?;
    write_with_holes(&dir.join(format!("{}.img", recorder.name)), &recorder.patient.bytes)?;
    write_with_holes(&dir.join(format!("{}.sound.img", recorder.name)), &recorder.sound.bytes)?;
    page.beside(22, &format!("{}.img", recorder.name), page::STRONG, &format!("{}.", recorder.story));
    let office = station::office_disk()?;
    write_with_holes(&dir.join("office-disk.img"), &office.patient)?;
    write_with_holes(&dir.join("office-disk.sound.img"), &office.sound)?;
    page.beside(22, "office-disk.img", page::STRONG, &format!("a whole disk with NTFS; {}.", office.story));
    let (sound, damaged) = station::field_stick()?;
    write_with_holes(&dir.join("field-stick.img"), &damaged)?;
    write_with_holes(&dir.join("field-stick.sound.img"), &sound)?;
    page.beside(22, "field-stick.img", page::STRONG, "a whole disk; its partition table is gone.");
    let formatted = station::formatted_card()?;
    write_with_holes(&dir.join("formatted-card.img"), &formatted.patient)?;
    write_with_holes(&dir.join("formatted-card.sound.img"), &formatted.before.bytes)?;
    page.beside(22, "formatted-card.img", page::STRONG, &format!("{}.", formatted.story));
    let failing = station::failing_card()?;
    write_with_holes(&dir.join("weather-mast.img"), &failing.image)?;
    write_with_holes(&dir.join("weather-mast.sound.img"), &failing.sound.bytes)?;
    let mut list = List::untried("weather-mast.img", failing.image.len() as u64, 512);
    list.done = true;
    list.extents = failing
        .places
        .iter()
        .map(|place| Listed { offset: place.offset, length: place.length, state: Failed::Unreadable })
        .collect();
    crate::workplace::write_new(&dir.join("weather-mast.surface.json"), |file| json::write(file, &list))?;
    page.beside(22, "weather-mast.img", page::STRONG, &format!("{}.", failing.story));
    page.gap();
    page.line(&format!("  in {}; beside each patient its sound twin, *.sound.img", page::quoted(dir)));
    page.gap();
    Ok(Patients { camera, formatted, failing })
}

/// Runs one command of the job in the folder, and shows what it prints.
fn step(args: &Args, dir: &Path, words: &[&str], expected: i32) -> anyhow::Result<()> {
    if !args.json {
        let shown: Vec<String> = words.iter().map(|word| page::quoted(Path::new(word))).collect();
        anstream::println!("\n{S}$ punchdog {}{S:#}\n", shown.join(" "), S = page::STRONG);
        std::io::stdout().flush()?;
    }
    let color = match args.color {
        crate::args::Color::Auto
            if anstream::AutoStream::choice(&std::io::stdout()) == anstream::ColorChoice::Never =>
        {
            "never"
        }
        crate::args::Color::Never => "never",
        _ => "always",
    };
    let mut command = Command::new(std::env::current_exe()?);
    command.args(words).args(["--color", color]).current_dir(dir).stdout(if args.json {
        Stdio::null()
    } else {
        Stdio::inherit()
    });
    // What is refused is part of the story, and stands where the rest does.
    let refused = if expected == 2 { Stdio::piped() } else { Stdio::inherit() };
    let done = command.stderr(refused).output().context("the program cannot start itself")?;
    if !args.json {
        anstream::print!("{}", String::from_utf8_lossy(&done.stderr));
    }
    let status = done.status;
    if status.code() != Some(expected) {
        return Err(Failure::with(
            format!("punchdog {} ended with {status}, not with {expected}", words.join(" ")),
            "this is a fault of Punchdog itself; the folder is left as it is",
        ));
    }
    Ok(())
}

/// Holds every file on the mended copy against the sound twin: how many there were, and how many are back.
fn verify(args: &Args, dir: &Path, sound: &Patient) -> anyhow::Result<(usize, usize)> {
    let image = FileImage::open(&dir.join("nest-camera.mended.img"))?;
    let volume = registry::recognise(&image, &Silent)?.context("the mended copy holds no volume")?;
    let files = volume.files(&image, Wanted::default(), &Silent)?;
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    let found: BTreeMap<String, String> =
        whole.map(|file| (file.path.to_string(), file.sha256(&image))).collect();
    let made: Vec<_> = sound.live().filter(|made| !made.folder).collect();
    let back = made.iter().filter(|made| found.get(&made.path) == Some(&made.sha256)).count();
    let fine = back == made.len() && found.len() == made.len();
    if !args.json {
        let mut page = Page::new();
        page.gap();
        page.head(
            "nest-camera.mended.img, held against its sound twin",
            &format!("{back} of {} files are back, byte for byte", made.len()),
            if fine { page::GOOD } else { page::BAD },
        );
        page.print()?;
    }
    // A file too many is as wrong as one that is missing.
    Ok((made.len(), if fine { back } else { back.min(made.len() - 1) }))
}
