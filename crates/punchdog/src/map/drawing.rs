//! The picture as a drawing (SVG). Patterns and letters carry the meaning; colour only helps.

use super::{
    lanes::{self, Row, rows},
    letter, purpose,
};
use crate::page;
use maud::{Markup, PreEscaped, html};
use punchdog_core::{
    picture::{Cell, Picture, Trouble},
    report::structure::Purpose,
};

/// Pixels of a column.
const STEP: f64 = 4.5;
/// Pixels before the lanes.
const LEFT: f64 = 120.0;
/// Pixels of a row.
const ROW: f64 = 58.0;
/// Height of each lane, and where it begins in its row.
const LIES: (f64, f64) = (0.0, 14.0);
const FULL: (f64, f64) = (17.0, 20.0);
const TROUBLE: (f64, f64) = (40.0, 10.0);

/// The name of a pattern and its colour.
fn pattern(kind: Purpose) -> (&'static str, &'static str) {
    match kind {
        Purpose::Boot => ("boot", "#8a1f4b"),
        Purpose::Table => ("table", "#1f4b8a"),
        Purpose::Folder => ("folder", "#8a6d1f"),
        Purpose::Records => ("records", "#3b6e2e"),
        Purpose::Own => ("own", "#5a4a8a"),
        Purpose::Spare => ("spare", "#8a8a8a"),
    }
}

/// The lines that a pattern is made of, in a square of eight pixels.
fn lines(kind: Purpose) -> &'static str {
    match kind {
        Purpose::Boot => "M0 0H8V8H0Z",
        Purpose::Table => "M0 2H8M0 6H8",
        Purpose::Folder => "M0 8L8 0M-2 2L2 -2M6 10L10 6",
        Purpose::Records => "M2 0V8M6 0V8",
        Purpose::Own => "M0 0L8 8M-2 6L2 10M6 -2L10 2",
        Purpose::Spare => "M0 4H2",
    }
}

/// A count as a length.
fn real(count: impl TryInto<u32>) -> f64 {
    f64::from(count.try_into().unwrap_or(u32::MAX))
}

/// A number as drawings have it.
fn n(value: f64) -> String {
    let text = format!("{value:.1}");
    text.strip_suffix(".0").map_or(text.clone(), str::to_owned)
}

fn definitions() -> Markup {
    html! {
        defs {
            @for kind in lanes::PURPOSES {
                @let (name, colour) = pattern(kind);
                pattern id={ "p-" (name) } width="8" height="8" patternUnits="userSpaceOnUse" {
                    rect width="8" height="8" fill="#fff" {}
                    path d=(lines(kind)) stroke=(colour) stroke-width="1.6" fill=(if kind == Purpose::Boot { colour } else { "none" }) {}
                }
            }
        }
    }
}

/// A document of its own.
pub(crate) fn whole(picture: &Picture, title: &str, columns: u64) -> Markup {
    let body = inner(picture, columns);
    let (width, height) = size(picture, columns);
    let height = height + 40.0;
    html! {
        (PreEscaped("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"))
        svg xmlns="http://www.w3.org/2000/svg" width=(n(width)) height=(n(height)) viewBox={ "0 0 " (n(width)) " " (n(height)) } font-family="sans-serif" font-size="11" {
            rect width="100%" height="100%" fill="#fff" {}
            text x="12" y="24" font-size="16" font-weight="bold" { (title) }
            g transform="translate(0 40)" { (body) }
        }
    }
}

/// The picture, as fine as so many rows allow.
pub(crate) fn fitting(fine: &Picture, columns: u64, rows: u64) -> Picture {
    lanes::fitting(fine, columns, rows)
}

/// Inside of another page.
pub(crate) fn inline(picture: &Picture, columns: u64) -> Markup {
    let (width, height) = size(picture, columns);
    html! {
        svg viewBox={ "0 0 " (n(width)) " " (n(height)) } font-family="sans-serif" font-size="11" width="100%" role="img" { (inner(picture, columns)) }
    }
}

/// Width and height of what [`inner`] draws.
fn size(picture: &Picture, columns: u64) -> (f64, f64) {
    let rows: f64 =
        rows(picture, columns).iter().map(|row| if matches!(row, Row::Cells(..)) { ROW } else { 24.0 }).sum();
    (LEFT + real(columns) * STEP + 16.0, rows + legend_rows(picture) * 18.0 + 40.0)
}

fn inner(picture: &Picture, columns: u64) -> Markup {
    let mut y = 4.0;
    let mut drawn = Vec::new();
    for row in rows(picture, columns) {
        match row {
            Row::Cells(from, cells) => {
                drawn.push(cells_of(picture, from, cells, y));
                y += ROW;
            }
            Row::Alike(from, alike, cell) => {
                let place = lanes::place(picture, from, alike * usize::try_from(columns).unwrap_or(200));
                let what = lanes::words(&cell);
                drawn.push(html! {
                    text x="12" y=(n(y + 12.0)) { (page::size(place.offset)) }
                    text x=(n(LEFT)) y=(n(y + 12.0)) fill="#555" { (alike) " rows alike, " (page::size(place.length)) ": " (what) }
                });
                y += 24.0;
            }
        }
    }
    html! {
        (definitions())
        @for row in &drawn { (row) }
        (legend(picture, y + 8.0))
    }
}

/// Neighbouring cells that have the same of something: (first, how many, what).
fn runs<T: PartialEq + Copy>(cells: &[Cell], of: impl Fn(&Cell) -> Option<T>) -> Vec<(usize, usize, T)> {
    let mut found: Vec<(usize, usize, T)> = Vec::new();
    for (number, cell) in cells.iter().enumerate() {
        let Some(what) = of(cell) else { continue };
        match found.last_mut() {
            Some((from, count, same)) if *same == what && *from + *count == number => *count += 1,
            _ => found.push((number, 1, what)),
        }
    }
    found
}

fn cells_of(picture: &Picture, from: usize, cells: &[Cell], y: f64) -> Markup {
    let x = |number: usize| LEFT + real(number) * STEP;
    let wide = |count: usize| real(count) * STEP;
    let volume = runs(cells, |cell| cell.in_volume.then_some(()));
    html! {
        text x="12" y=(n(y + 11.0)) font-weight="bold" { (page::size(lanes::place(picture, from, 1).offset)) }
        text x=(n(LEFT - 6.0)) y=(n(y + LIES.0 + 11.0)) text-anchor="end" fill="#555" { "lies in" }
        text x=(n(LEFT - 6.0)) y=(n(y + FULL.0 + 14.0)) text-anchor="end" fill="#555" { "full" }
        @if cells.iter().any(|cell| !cell.troubles.is_empty()) {
            text x=(n(LEFT - 6.0)) y=(n(y + TROUBLE.0 + 9.0)) text-anchor="end" fill="#555" { "trouble" }
        }
        line x1=(n(LEFT)) x2=(n(x(cells.len()))) y1=(n(y + LIES.0 + LIES.1 / 2.0)) y2=(n(y + LIES.0 + LIES.1 / 2.0)) stroke="#bbb" stroke-dasharray="1 3" {}
        @for (first, count, ()) in volume {
            rect x=(n(x(first))) y=(n(y + LIES.0)) width=(n(wide(count))) height=(n(LIES.1)) fill="#fff" stroke="#999" stroke-width="0.6" {}
            rect x=(n(x(first))) y=(n(y + FULL.0)) width=(n(wide(count))) height=(n(FULL.1)) fill="#f4f4f0" {}
        }
        @for (first, count, kind) in runs(cells, |cell| cell.structure) {
            rect x=(n(x(first))) y=(n(y + LIES.0)) width=(n(wide(count))) height=(n(LIES.1)) fill={ "url(#p-" (pattern(kind).0) ")" } stroke=(pattern(kind).1) stroke-width="0.8" {}
            @if count > 3 {
                text x=(n(x(first) + wide(count) / 2.0)) y=(n(y + LIES.0 + 11.0)) text-anchor="middle" font-weight="bold" stroke="#fff" stroke-width="3" paint-order="stroke" { (purpose(kind).1) }
            }
        }
        @for (first, count, eighths) in runs(cells, |cell| Some(lanes::eighths(cell, picture.cell)).filter(|part| *part > 0)) {
            @let high = FULL.1 * real(eighths) / 8.0;
            rect x=(n(x(first))) y=(n(y + FULL.0 + FULL.1 - high)) width=(n(wide(count))) height=(n(high)) fill="#456" {}
        }
        @for (first, count, worst) in runs(cells, |cell| cell.troubles.worst()) {
            (mark(worst, x(first), y + TROUBLE.0, wide(count)))
        }
        @for (first, count, ()) in runs(cells, |cell| cell.asked.then_some(())) {
            rect x=(n(x(first))) y=(n(y + FULL.0 - 2.0)) width=(n(wide(count))) height=(n(FULL.1 + 4.0)) fill="none" stroke="#000" stroke-width="1.8" {}
        }
    }
}

/// A trouble: a bar below its place, with its letter; wide ones have it once.
fn mark(trouble: Trouble, x: f64, y: f64, wide: f64) -> Markup {
    let (fill, line) = match trouble {
        Trouble::Unreadable => ("#000", "none"),
        Trouble::Twice | Trouble::Damaged => ("#fff", "#a00"),
        Trouble::Lost | Trouble::MarkedBad => ("#ddd", "#333"),
        Trouble::Slow | Trouble::Deleted => ("#fff", "#777"),
    };
    html! {
        rect x=(n(x)) y=(n(y)) width=(n(wide)) height="3" fill=(fill) stroke=(line) stroke-width="1" {}
        text x=(n(x + wide / 2.0)) y=(n(y + 13.0)) text-anchor="middle" font-size="10" font-weight="bold" { (letter(trouble)) }
    }
}

fn legend_rows(picture: &Picture) -> f64 {
    let structures = picture.structures.values().filter(|bytes| **bytes > 0).count();
    real(structures.max(picture.troubles.len())) + 1.0
}

fn legend(picture: &Picture, top: f64) -> Markup {
    let right = LEFT + 400.0;
    html! {
        g transform={ "translate(0 " (n(top)) ")" } {
            @for (number, (kind, bytes)) in picture.structures.iter().filter(|(_, bytes)| **bytes > 0).enumerate() {
                @let y = real(number) * 18.0;
                rect x=(n(LEFT)) y=(n(y)) width="26" height="12" fill={ "url(#p-" (pattern(*kind).0) ")" } stroke=(pattern(*kind).1) stroke-width="0.8" {}
                text x=(n(LEFT + 34.0)) y=(n(y + 10.0)) { (purpose(*kind).1) "  " (purpose(*kind).0) ", " (page::size(*bytes)) }
            }
            @for (number, (trouble, sum)) in picture.troubles.iter().enumerate() {
                @let y = real(number) * 18.0;
                text x=(n(right)) y=(n(y + 10.0)) {
                    tspan font-weight="bold" { (letter(*trouble)) } "  " (trouble.name()) ", " (page::size(sum.bytes))
                    @if sum.files > 0 { ", " (page::count(sum.files, "file", "files")) }
                }
            }
            @if picture.troubles.is_empty() { text x=(n(right)) y="10" { "no trouble was found" } }
            @let y = (legend_rows(picture) - 1.0) * 18.0;
            rect x=(n(LEFT)) y=(n(y)) width="26" height="12" fill="#456" {}
            text x=(n(LEFT + 34.0)) y=(n(y + 10.0)) {
                "in use: " (page::size(picture.used.bytes)) ", " (page::count(picture.used.files, "file", "files")) "; a column stands for " (page::size(picture.cell))
            }
        }
    }
}
