//! `punchdog map`: a picture of a medium, row by row, each with a lane for what lies there, how full it is, and what is
//! in trouble.

pub(crate) mod drawing;
mod lanes;
mod pixels;

use crate::{
    args::{Args, Map},
    choose::{self, Chosen},
    failure::{Failure, Verdict},
    json, lists,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    diagnosis::{self, NotChosen, Wish as Which},
    medium::{Extent, Medium},
    picture::{Picture, Sum, Trouble, Wish},
    report::structure::Purpose,
    surface::list::State,
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{io::Write, path::Path};

/// Rows of a picture, where nothing else is asked for.
const ROWS: u64 = 16;
/// How much finer than that it is looked at first: rows in which nothing stands are drawn as one.
const FINE: u64 = 64;
/// Columns that are drawn in a file.
const COLUMNS: u64 = 200;

pub(crate) fn run(args: &Args, given: &Map) -> anyhow::Result<Verdict> {
    let path = &given.target.image;
    let image = choose::open_for(path, &given.target.which)?;
    let screen = Screen::new();
    let (targets, again) = targets(&image, given, &screen)?;
    let range = range(&image, given, &targets)?;
    let columns = if given.out.is_some() { COLUMNS } else { lanes::columns() };
    let slow = match &given.target.which.reading.unreadable {
        Some(list) => lists::read(list, image.len())?.places(&[State::Slow]),
        None => Vec::new(),
    };
    let rows = given.rows.unwrap_or(ROWS);
    let wish = Wish { range, cells: columns * rows * FINE, file: given.file.as_deref(), slow };
    let picture = Picture::draw(&image, &targets, &wish, &screen)?;
    let picture = lanes::fitting(&picture, columns, rows);
    drop(screen);
    if let Some(file) = &given.file
        && picture.asked.is_empty()
    {
        return Err(Failure::with(
            format!("{} has no file {} with content on the medium", path.display(), page::clean(file)),
            format!(
                "punchdog files {}{again} lists them; give the path as it stands there",
                page::quoted(path)
            ),
        ));
    }
    let title = title(path, &image, &targets);
    if let Some(out) = &given.out {
        write(&picture, &title, columns, out)?;
    }
    if args.json {
        json::print(&document(&picture, given, image.len()))?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    match &given.out {
        Some(out) => {
            page.head(&title, "drawn", page::GOOD);
            page.gap();
            page.say(&format!("Written: {}. Any browser shows it.", page::quoted(out)));
            page.gap();
            lanes::legend(&mut page, &picture);
        }
        None => lanes::text(&mut page, &title, &picture, columns),
    }
    page.print()?;
    Ok(Verdict::Fine)
}

/// The volumes that are drawn: all, or the one that was chosen; none where nothing is recognised.
fn targets(
    image: &choose::Image,
    given: &Map,
    screen: &Screen,
) -> anyhow::Result<(Vec<diagnosis::Target>, String)> {
    if given.target.which.narrows() {
        let Chosen { target, again } = choose::one(image, &given.target, screen)?;
        return Ok((vec![target], again));
    }
    match diagnosis::choose(image, Which::All, screen) {
        Ok((targets, _)) => Ok((targets, given.target.which.reading.again())),
        Err(NotChosen::Nothing(_)) => Ok((Vec::new(), given.target.which.reading.again())),
        Err(error) => Err(choose::in_words(error, &given.target.image, image)),
    }
}

/// The bytes that are drawn.
fn range(image: &choose::Image, given: &Map, targets: &[diagnosis::Target]) -> anyhow::Result<Extent> {
    let chosen = given.target.which.narrows();
    let all = match targets {
        [only] if chosen => {
            let length = only.volume.bytes().min(only.extent.length);
            Extent::new(only.extent.offset, length)
        }
        _ => Extent::new(0, image.len()),
    };
    let from = given.from.unwrap_or(all.offset);
    let to = given.to.unwrap_or(all.end()).min(image.len());
    if from >= to {
        return Err(Failure::with(
            format!("from byte {from} to byte {to} there is nothing: the image has {} bytes", image.len()),
            "give --from and --to as bytes of the image, the first before the second",
        ));
    }
    Ok(Extent::new(from, to - from))
}

fn title(path: &Path, image: &choose::Image, targets: &[diagnosis::Target]) -> String {
    match targets {
        [only] if only.extent.offset == 0 => choose::title(path, only, None),
        _ => format!("{} · {}", page::clean(&choose::file_name(path)), page::size(image.len())),
    }
}

/// Writes a drawing as a new file.
fn write(picture: &Picture, title: &str, columns: u64, out: &Path) -> anyhow::Result<()> {
    let name = out.display();
    let ends = |wanted| out.extension().is_some_and(|ending| ending.eq_ignore_ascii_case(wanted));
    let text = drawing::whole(picture, title, columns).into_string();
    let bytes = if ends("svg") {
        text.into_bytes()
    } else if ends("png") {
        pixels::of(&text).map_err(|why| {
            Failure::with(
                format!("{name} cannot be drawn: {why}"),
                "name a file such as map.svg with --out, or ask for fewer --rows",
            )
        })?
    } else {
        return Err(Failure::with(
            format!("{name} ends neither in .svg nor in .png"),
            "name a file such as map.svg or map.png with --out",
        ));
    };
    crate::workplace::write_new(out, |file| file.write_all(&bytes)).map_err(|error| {
        Failure::with(format!("{name} cannot be written: {error}"), "name another file with --out")
    })
}

/// What a kind of structure is called.
pub(crate) fn purpose(purpose: Purpose) -> (&'static str, char) {
    match purpose {
        Purpose::Boot => ("boot sectors", 'B'),
        Purpose::Table => ("tables", 'T'),
        Purpose::Folder => ("folders", 'F'),
        Purpose::Records => ("records", 'R'),
        Purpose::Own => ("the file system's own", 'O'),
        Purpose::Spare => ("set aside", 'S'),
    }
}

/// The letter of a trouble.
pub(crate) fn letter(trouble: Trouble) -> char {
    match trouble {
        Trouble::Unreadable => 'u',
        Trouble::Twice => '2',
        Trouble::Damaged => 'x',
        Trouble::Lost => '?',
        Trouble::MarkedBad => 'b',
        Trouble::Slow => 's',
        Trouble::Deleted => 'd',
    }
}

/// The picture for programs: cells that are alike are one.
fn document<'p>(picture: &'p Picture, given: &Map, bytes: u64) -> Document<'p> {
    let mut cells = Vec::new();
    let mut from = 0;
    while from < picture.cells.len() {
        let cell = picture.cells[from];
        let alike = picture.cells[from..].iter().take_while(|other| **other == cell).count();
        let extent = lanes::place(picture, from, alike);
        cells.push(Alike {
            offset: extent.offset,
            length: extent.length,
            structure: cell.structure.map(|structure| purpose(structure).0),
            in_volume: cell.in_volume,
            used_bytes: cell.used * alike as u64,
            troubles: Trouble::ALL.into_iter().filter(|trouble| cell.troubles.has(*trouble)).collect(),
            asked: cell.asked,
        });
        from += alike;
    }
    let structures =
        picture.structures.iter().map(|(kind, bytes)| OfKind { kind: purpose(*kind).0, bytes: *bytes });
    let troubles = picture.troubles.iter().map(|(trouble, sum)| OfTrouble {
        trouble: *trouble,
        bytes: sum.bytes,
        files: sum.files,
    });
    Document {
        schema: "punchdog.map/1",
        image: json::Image::of(&given.target.image, bytes),
        range: picture.range,
        cell_bytes: picture.cell,
        cells,
        structures: structures.collect(),
        used: picture.used,
        troubles: troubles.collect(),
        asked: &picture.asked,
    }
}

/// The document of `map`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document<'p> {
    #[schemars(extend("const" = "punchdog.map/1"))]
    schema: &'static str,
    image: json::Image,
    /// What is drawn.
    range: Extent,
    /// Bytes that a cell stands for.
    cell_bytes: u64,
    /// Those that are alike are one.
    cells: Vec<Alike>,
    /// Bytes by what they are for.
    structures: Vec<OfKind>,
    /// What files have.
    used: Sum,
    troubles: Vec<OfTrouble>,
    /// Where the file lies that was asked for.
    asked: &'p [Extent],
}

/// Cells that are alike.
#[derive(Serialize, JsonSchema)]
struct Alike {
    offset: u64,
    length: u64,
    /// What most of it is for.
    structure: Option<&'static str>,
    in_volume: bool,
    /// Bytes that files have.
    used_bytes: u64,
    /// The worst first.
    troubles: Vec<Trouble>,
    /// The file that was asked for lies there.
    asked: bool,
}

/// What bytes are for.
#[derive(Serialize, JsonSchema)]
struct OfKind {
    kind: &'static str,
    bytes: u64,
}

/// What is wrong with bytes, and with the files there.
#[derive(Serialize, JsonSchema)]
struct OfTrouble {
    trouble: Trouble,
    bytes: u64,
    files: u64,
}
