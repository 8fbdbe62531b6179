//! The picture in a terminal: letters and blocks, so that nothing rests on colour.

use super::{letter, purpose};
use crate::page::{self, Page};
use punchdog_core::{
    arith::Sat,
    medium::Extent,
    picture::{Cell, Picture},
    report::structure::Purpose,
};

/// Columns before the lanes.
const MARGIN: u64 = 22;
/// How full a cell is, from a little to all of it.
const FULL: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Cells that a row of the terminal has.
pub(super) fn columns() -> u64 {
    (page::width() as u64).saturating_sub(MARGIN + 2).clamp(16, 128)
}

/// The bytes of some cells.
pub(super) fn place(picture: &Picture, from: usize, count: usize) -> Extent {
    let start = picture.range.offset.plus(from.wide().times(picture.cell));
    let end = start.plus(count.wide().times(picture.cell)).min(picture.range.end());
    Extent::new(start, end.minus(start))
}

/// How full a cell is: 0 for nothing, 8 for all of it.
pub(super) fn eighths(cell: &Cell, bytes: u64) -> usize {
    if cell.used == 0 {
        return 0;
    }
    usize::try_from(cell.used.saturating_mul(8).div_ceil(bytes.max(1))).unwrap_or(8).clamp(1, 8)
}

/// Rows that are drawn: many that are alike, and hold no structure, are one, with how many there are.
pub(crate) enum Row<'p> {
    /// The number of the first cell, and the cells.
    Cells(usize, &'p [Cell]),
    /// The number of the first cell, how many rows, and what each cell is.
    Alike(usize, usize, Cell),
}

/// The rows of a picture.
pub(crate) fn rows(picture: &Picture, columns: u64) -> Vec<Row<'_>> {
    let width = usize::try_from(columns).unwrap_or(64);
    let all: Vec<&[Cell]> = picture.cells.chunks(width).collect();
    let mut found = Vec::new();
    let mut number = 0;
    while number < all.len() {
        let first = all[number][0];
        let dull = |row: &[Cell]| first.structure.is_none() && row.iter().all(|cell| *cell == first);
        let alike = all[number..].iter().take_while(|row| dull(row)).count();
        if alike > 2 {
            found.push(Row::Alike(number * width, alike, first));
            number += alike;
        } else {
            found.push(Row::Cells(number * width, all[number]));
            number += 1;
        }
    }
    found
}

/// What is to be said of rows that are alike.
pub(crate) fn words(cell: &Cell) -> String {
    let what = match (cell.in_volume, cell.used) {
        (false, _) => "outside of every volume",
        (true, 0) => "nothing stands there",
        (true, _) => "full of files",
    };
    cell.troubles.worst().map_or(what.to_owned(), |worst| format!("{what}, {}", worst.name()))
}

/// The picture, as fine as so many rows allow.
pub(super) fn fitting(fine: &Picture, columns: u64, limit: u64) -> Picture {
    let mut by = 1;
    loop {
        let picture = fine.coarser(by);
        if rows(&picture, columns).len() as u64 <= limit || by > 1 << 20 {
            return picture;
        }
        by *= 2;
    }
}

/// The three lanes, and the one of a file that was asked for.
struct Lanes {
    lies: String,
    full: String,
    trouble: String,
    asked: String,
}

fn lanes(picture: &Picture, from: usize, cells: &[Cell]) -> Lanes {
    let mut lanes =
        Lanes { lies: String::new(), full: String::new(), trouble: String::new(), asked: String::new() };
    for (number, cell) in cells.iter().enumerate() {
        lanes.lies.push(match cell.structure {
            // Where it is the least of what is there, its letter is small.
            Some(structure) if cell.of_it * 2 < picture.cell => purpose(structure).1.to_ascii_lowercase(),
            Some(structure) => purpose(structure).1,
            None if cell.in_volume => '·',
            None => '-',
        });
        let bytes = place(picture, from + number, 1).length;
        lanes.full.push(match eighths(cell, bytes) {
            0 => ' ',
            eighths => FULL[eighths - 1],
        });
        lanes.trouble.push(cell.troubles.worst().map_or(' ', letter));
        lanes.asked.push(if cell.asked { '^' } else { ' ' });
    }
    lanes
}

/// A place in few letters.
fn short(offset: u64) -> String {
    let text = page::size(offset);
    format!("{text:>11}")
}

pub(super) fn text(page: &mut Page, title: &str, picture: &Picture, columns: u64) {
    let width = usize::try_from(columns).unwrap_or(64);
    let clean = picture.troubles.keys().all(|trouble| *trouble == punchdog_core::picture::Trouble::Deleted);
    let (verdict, style) = if clean { ("no trouble", page::GOOD) } else { ("in trouble", page::BAD) };
    page.head(title, verdict, style);
    page.gap();
    page.say(&format!(
        "Bytes {} to {}, from left to right and row by row; each column stands for {}.",
        picture.range.offset,
        picture.range.end() - 1,
        page::size(picture.cell)
    ));
    page.gap();
    for row in rows(picture, columns) {
        match row {
            Row::Alike(from, alike, cell) => {
                let extent = place(picture, from, alike * width);
                page.line(&format!(
                    "{}  {F}{} rows alike, {}: {}{F:#}",
                    short(extent.offset),
                    alike,
                    page::size(extent.length),
                    words(&cell),
                    F = page::FAINT
                ));
            }
            Row::Cells(from, cells) => one_row(page, picture, from, cells),
        }
    }
    page.gap();
    legend(page, picture);
}

fn one_row(page: &mut Page, picture: &Picture, from: usize, cells: &[Cell]) {
    let drawn = lanes(picture, from, cells);
    let at = short(place(picture, from, 1).offset);
    page.line(&format!("{at}  {:<8} {}", "lies in", drawn.lies.trim_end()));
    page.line(format!("{:11}  {:<8} {}", "", "full", drawn.full).trim_end());
    if !drawn.trouble.trim().is_empty() {
        let lane = drawn.trouble.trim_end();
        page.line(&format!("{:11}  {B}{:<8} {lane}{B:#}", "", "trouble", B = page::BAD));
    }
    if !drawn.asked.trim().is_empty() {
        let lane = drawn.asked.trim_end();
        page.line(&format!("{:11}  {G}{:<8} {lane}{G:#}", "", "the file", G = page::GOOD));
    }
}

/// What the letters mean, and what each comes to.
pub(super) fn legend(page: &mut Page, picture: &Picture) {
    let mut parts: Vec<String> = picture
        .structures
        .iter()
        .filter(|(_, bytes)| **bytes > 0)
        .map(|(kind, bytes)| {
            let (name, letter) = purpose(*kind);
            format!("{letter} {name} {}", page::size(*bytes))
        })
        .collect();
    if picture.cells.iter().any(|cell| cell.in_volume && cell.structure.is_none()) {
        parts.push("· room for files".to_owned());
    }
    if picture.cells.iter().any(|cell| !cell.in_volume && cell.structure.is_none()) {
        parts.push("- outside of every volume".to_owned());
    }
    let small = picture.cells.iter().any(|cell| cell.structure.is_some() && cell.of_it * 2 < picture.cell);
    if small {
        parts.push("a small letter: less than half of the column".to_owned());
    }
    page.beside(12, "lies in", page::STRONG, &parts.join("   "));
    page.beside(
        12,
        "full",
        page::STRONG,
        &format!(
            "▁ a little … █ all of it   {} in clusters that are in use, {}",
            page::size(picture.used.bytes),
            page::count(picture.used.files, "file", "files")
        ),
    );
    let troubles: Vec<String> = picture
        .troubles
        .iter()
        .map(|(trouble, sum)| {
            let files = match sum.files {
                0 => String::new(),
                many => format!(", {}", page::count(many, "file", "files")),
            };
            format!("{} {} {}{files}", letter(*trouble), trouble.name(), page::size(sum.bytes))
        })
        .collect();
    let none = "none that was found";
    let said = if troubles.is_empty() { none.to_owned() } else { troubles.join("   ") };
    page.beside(12, "trouble", page::STRONG, &said);
    if !picture.asked.is_empty() {
        let places: Vec<String> = picture
            .asked
            .iter()
            .take(6)
            .map(|extent| format!("bytes {} to {}", extent.offset, extent.end() - 1))
            .collect();
        let more = picture.asked.len().saturating_sub(6);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        page.beside(12, "the file", page::STRONG, &format!("^ {}{more}", places.join(", ")));
    }
}

/// The purposes in the order of their weight, for drawings.
pub(super) const PURPOSES: [Purpose; 6] =
    [Purpose::Boot, Purpose::Table, Purpose::Folder, Purpose::Records, Purpose::Own, Purpose::Spare];
