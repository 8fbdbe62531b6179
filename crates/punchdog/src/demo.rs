//! `punchdog demo`: made-up patients, and a whole job run on one of them.

use crate::{
    args::{Args, Demo},
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
};
use anyhow::Context;
use punchdog_core::{family::Wanted, files::record::State, medium::FileImage, progress::Silent, registry};
use punchdog_lab::{canvas::write_with_holes, faults::Patient, station};
use serde_json::json;
use std::{
    collections::BTreeMap,
    io::Write,
    path::Path,
    process::{Command, Stdio},
};

pub(crate) fn run(args: &Args, given: &Demo) -> anyhow::Result<Verdict> {
    let dir = &given.dir;
    if std::fs::read_dir(dir).is_ok_and(|mut inside| inside.next().is_some()) {
        return Err(Failure::with(
            format!("{} is not empty", dir.display()),
            "name a new folder: punchdog demo FOLDER; nothing is overwritten",
        ));
    }
    std::fs::create_dir_all(dir).with_context(|| format!("the folder {} cannot be made", dir.display()))?;
    let camera = station::camera_card()?;
    let mut page = Page::new();
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
    page.gap();
    page.line(&format!("  in {}; beside each patient its sound twin, *.sound.img", page::quoted(dir)));
    page.gap();
    page.say("The job on the nest camera's card:");
    if !args.json {
        page.print()?;
    }
    let job: [(&[&str], i32); 7] = [
        (&["scout", "nest-camera.img"], 1),
        (&["check", "nest-camera.img"], 1),
        (&["explain", "nest-camera.img"], 1),
        (&["salvage", "nest-camera.img", "--to", "saved"], 0),
        (&["plan", "nest-camera.img", "--out", "nest-camera.plan.json"], 0),
        (
            &[
                "apply",
                "nest-camera.plan.json",
                "--image",
                "nest-camera.img",
                "--copy",
                "nest-camera.mended.img",
            ],
            0,
        ),
        (&["check", "nest-camera.mended.img"], 0),
    ];
    for (words, expected) in job {
        step(args, dir, words, expected)?;
    }
    verify(args, dir, &job, &camera.sound)
}

/// Runs one command of the job in the folder, and shows what it prints.
fn step(args: &Args, dir: &Path, words: &[&str], expected: i32) -> anyhow::Result<()> {
    if !args.json {
        anstream::println!("\n{S}$ punchdog {}{S:#}\n", words.join(" "), S = page::STRONG);
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
    let status = Command::new(std::env::current_exe()?)
        .args(words)
        .args(["--color", color])
        .current_dir(dir)
        .stdout(if args.json { Stdio::null() } else { Stdio::inherit() })
        .status()
        .context("the program cannot start itself")?;
    if status.code() != Some(expected) {
        return Err(Failure::with(
            format!("punchdog {} ended with {status}, not with {expected}", words.join(" ")),
            "this is a fault of Punchdog itself; the folder is left as it is",
        ));
    }
    Ok(())
}

/// Holds every file on the mended copy against the sound twin.
fn verify(args: &Args, dir: &Path, job: &[(&[&str], i32)], sound: &Patient) -> anyhow::Result<Verdict> {
    let image = FileImage::open(&dir.join("nest-camera.mended.img"))?;
    let volume = registry::recognise(&image, &Silent)?.context("the mended copy holds no volume")?;
    let files = volume.files(&image, Wanted::default(), &Silent)?;
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    let found: BTreeMap<String, String> =
        whole.map(|file| (file.path.to_string(), file.sha256(&image))).collect();
    let made: Vec<_> = sound.live().filter(|made| !made.folder).collect();
    let back = made.iter().filter(|made| found.get(&made.path) == Some(&made.sha256)).count();
    let fine = back == made.len() && found.len() == made.len();
    if args.json {
        json::print(&json!({
            "schema": "punchdog.demo/1",
            "folder": dir.display().to_string(),
            "job": job.iter().map(|(words, status)| json!({ "words": words, "status": status })).collect::<Vec<_>>(),
            "files": made.len(),
            "files_back": back,
        }))?;
        return Ok(Verdict::of(fine));
    }
    let mut page = Page::new();
    page.gap();
    let style = if fine { page::GOOD } else { page::BAD };
    page.head(
        "nest-camera.mended.img, held against its sound twin",
        &format!("{back} of {} files are back, byte for byte", made.len()),
        style,
    );
    page.next(&[
        ("punchdog explain tide-logger.img".to_owned(), "the other patient: a damaged allocation table"),
        ("punchdog explain sound-recorder.img".to_owned(), "an exFAT card that shows as RAW"),
        ("punchdog explain office-disk.img".to_owned(), "an NTFS volume that shows as RAW, on a whole disk"),
        ("punchdog scout field-stick.img".to_owned(), "a disk that shows no volume"),
        ("punchdog fields nest-camera.img".to_owned(), "what Punchdog believes of each boot sector field"),
    ]);
    page.print()?;
    Ok(Verdict::of(fine))
}
