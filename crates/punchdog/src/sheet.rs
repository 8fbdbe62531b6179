//! A page with small pictures of the pictures, for choosing with a customer: one file, nothing outside of it.
//!
//! Broken pictures are shown as far as they can be decoded. What a decoder takes is bounded: content is hostile.

use crate::{
    args::{Args, Files},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use image::{ImageReader, Limits, codecs::jpeg::JpegEncoder};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use punchdog_core::{
    files::{
        kinds::{self, Group},
        record::FileRecord,
    },
    medium::Medium,
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{
    io::{Cursor, Write},
    path::{Path, PathBuf},
};

/// The document of `files --sheet`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.sheet/1"))]
    schema: &'static str,
    image: json::Image,
    pictures: usize,
    /// Pictures that could not be decoded.
    not_shown: usize,
    /// The files that were written.
    pages: Vec<String>,
}

/// Pictures of a page.
const PAGE: usize = 500;
/// Columns and lines of a small picture.
const SMALL: u32 = 160;
/// Bytes of a picture that are read, and that decoding it may take.
const READ: u64 = 64 << 20;
const MEMORY: u64 = 256 << 20;

const STYLE: &str = "
body { font: 14px/1.4 sans-serif; margin: 24px; color: #1b1b1b; background: #fff }
h1 { font-size: 20px; margin: 0 } p { margin: 4px 0 16px }
main { display: grid; grid-template-columns: repeat(auto-fill, minmax(176px, 1fr)); gap: 14px }
figure { margin: 0; border: 1px solid #bbb; border-radius: 4px; padding: 7px; break-inside: avoid }
figure img, figure .none { display: flex; width: 160px; height: 120px; object-fit: contain; background: #eee; margin: 0 auto;
  align-items: center; justify-content: center; color: #555 }
figcaption { margin-top: 6px; overflow-wrap: anywhere; font-size: 12px }
figcaption b { display: block } .state { color: #555 } .broken { border-color: #a00; border-style: dashed }
nav a { margin-right: 12px } @media print { nav { display: none } }
";

/// A file that belongs on the page.
pub(crate) fn is_picture(record: &FileRecord) -> bool {
    !record.folder && !record.absent && kinds::group(record.path.name(), &[]) == Group::Pictures
}

/// Writes the pictures of the list, page by page.
pub(crate) fn write(
    args: &Args,
    given: &Files,
    path: &Path,
    image: &choose::Image,
    pictures: &[FileRecord],
) -> anyhow::Result<Verdict> {
    let pages = pictures.len().div_ceil(PAGE).max(1);
    let places: Vec<PathBuf> = (0..pages).map(|number| place(path, number)).collect();
    if let Some(taken) = places.iter().find(|place| place.symlink_metadata().is_ok()) {
        return Err(Failure::with(
            format!("{} is already there", taken.display()),
            "name another file with --sheet",
        ));
    }
    let title = page::clean(&choose::file_name(&given.target.image));
    let mut broken = 0;
    for (number, place) in places.iter().enumerate() {
        let from = number * PAGE;
        let chunk = &pictures[from..pictures.len().min(from + PAGE)];
        let mut figures = Vec::new();
        for record in chunk {
            let small = small(record, image);
            broken += usize::from(small.is_none());
            figures.push(figure(record, small.as_ref()));
        }
        let about = (title.as_str(), pictures.len());
        let text = sheet(about, &figures, (number, &places)).into_string();
        crate::workplace::write_new(place, |file| file.write_all(text.as_bytes())).map_err(|error| {
            Failure::with(
                format!("{} cannot be written: {error}", place.display()),
                "name another place with --sheet",
            )
        })?;
    }
    let names: Vec<String> = places.iter().map(|place| place.display().to_string()).collect();
    if args.json {
        json::print(&Document {
            schema: "punchdog.sheet/1",
            image: json::Image::of(&given.target.image, image.len()),
            pictures: pictures.len(),
            not_shown: broken,
            pages: names,
        })?;
        return Ok(Verdict::Fine);
    }
    let mut text = Page::new();
    let verdict = format!(
        "{} on {}",
        page::count(pictures.len() as u64, "picture", "pictures"),
        page::count(pages as u64, "page", "pages")
    );
    text.head(&title, &verdict, page::GOOD);
    text.gap();
    text.say(&format!("Written: {}. It needs no other file, and opens in any browser.", names.join(", ")));
    if broken > 0 {
        text.say(&format!(
            "{} cannot be shown: too broken, or of a kind that has no small picture here.",
            page::count(broken as u64, "picture", "pictures")
        ));
    }
    text.print()?;
    Ok(Verdict::Fine)
}

/// `SHEET.html`, `SHEET-2.html`, …
fn place(path: &Path, number: usize) -> PathBuf {
    if number == 0 {
        return path.to_owned();
    }
    let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let extension = path.extension().map(|own| format!(".{}", own.to_string_lossy())).unwrap_or_default();
    path.with_file_name(format!("{stem}-{}{extension}", number + 1))
}

fn sheet((title, all): (&str, usize), figures: &[Markup], (number, places): (usize, &[PathBuf])) -> Markup {
    html! {
        (DOCTYPE)
        html lang="en" {
            head { meta charset="utf-8"; title { "Pictures of " (title) } style { (PreEscaped(STYLE)) } }
            body {
                h1 { "Pictures of " (title) }
                p { (all) " in all; page " (number + 1) " of " (places.len()) ". A dashed frame: it does not hold together, and is shown as far as it goes." }
                @if places.len() > 1 {
                    nav { @for (index, place) in places.iter().enumerate() {
                        a href=(choose::file_name(place)) { "page " (index + 1) }
                    } }
                }
                main { @for figure in figures { (figure) } }
            }
        }
    }
}

/// One picture with what is known of it.
fn figure(record: &FileRecord, small: Option<&Small>) -> Markup {
    let when = record.modified.map(|time| time.strftime("%Y-%m-%d %H:%M").to_string());
    let broken = small.is_none_or(|small| small.broken);
    html! {
        figure class=@if broken { "broken" } {
            @match small {
                Some(small) => img alt="" src={ "data:image/jpeg;base64," (STANDARD.encode(&small.bytes)) };,
                None => div class="none" { "cannot be shown" },
            }
            figcaption {
                b { (page::clean(record.path.name())) }
                span class="state" {
                    (record.state.name()) " · " (page::size(record.size))
                    @if let Some(when) = when { " · " (when) }
                    br; (page::clean(&folder_of(record)))
                    @if let Some(note) = record.note.as_deref() { br; (page::clean(note.split("; ").next().unwrap_or(note))) }
                }
            }
        }
    }
}

/// The path without the name.
fn folder_of(record: &FileRecord) -> String {
    let path = record.path.to_string();
    path.rsplit_once('/').map_or_else(|| "in the root folder".to_owned(), |(folder, _)| folder.to_owned())
}

/// A small picture, as JPEG.
struct Small {
    bytes: Vec<u8>,
    broken: bool,
}

fn small(record: &FileRecord, image: &choose::Image) -> Option<Small> {
    let bytes = record.content.start(image, READ);
    let broken = matches!(
        punchdog_core::files::judgement::of(record, image),
        punchdog_core::files::judgement::Judgement::Broken { .. }
    );
    let mut reader = ImageReader::new(Cursor::new(&bytes)).with_guessed_format().ok()?;
    let mut limits = Limits::default();
    limits.max_alloc = Some(MEMORY);
    reader.limits(limits);
    let thumbnail = reader.decode().ok()?.thumbnail(SMALL, SMALL).to_rgb8();
    let mut out = Vec::new();
    JpegEncoder::new_with_quality(&mut out, 75).encode_image(&thumbnail).ok()?;
    Some(Small { bytes: out, broken })
}
