//! `punchdog surface --blank-intervals`: what reads blank at a regular distance, listed as not read.

use crate::{
    args::{Args, Surface},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    surface::Document,
    watch::Screen,
    workplace,
};
use punchdog_core::{
    arith::Sat,
    impaired,
    medium::{Interval, Medium},
    report::examination::Examination,
    surface::{
        intervals,
        list::{List, State},
    },
};
use std::path::Path;

/// Places as they are given: `EVERY:FROM:BYTES`.
pub(crate) fn interval(words: &str) -> Result<Interval, String> {
    let numbers: Vec<u64> = words.split(':').map_while(|word| word.parse().ok()).collect();
    match (numbers.as_slice(), words.matches(':').count()) {
        ([every, from, bytes], 2) if from < every && bytes < every && *bytes > 0 => {
            Ok(Interval { every: *every, from: *from, bytes: *bytes })
        }
        _ => Err("places are EVERY:FROM:BYTES, as check prints them".to_owned()),
    }
}

/// Names the command that lists what reads blank at a regular distance, where something does; the volume begins at `base`.
pub(crate) fn comes_next(page: &mut Page, image: &Path, seen: &Examination, base: u64) -> bool {
    if seen.blank_intervals.is_empty() {
        return false;
    }
    let one = |one: &Interval| {
        let Interval { every, from, bytes } = one.moved(base);
        format!(" --blank-intervals {every}:{from}:{bytes}")
    };
    let all: String = seen.blank_intervals.iter().map(one).collect();
    let list = page::quoted(&page::beside(image, "", "blank.json"));
    page.next(&[(
        format!("punchdog surface {}{all} --list {list}", page::quoted(image)),
        "lists these places as not read, where no better image can be had",
    )]);
    true
}

pub(crate) fn run(args: &Args, given: &Surface) -> anyhow::Result<Verdict> {
    let source = choose::file(&given.source)?;
    if given.list.symlink_metadata().is_ok() {
        return Err(Failure::with(
            format!("{} is already there, and is left alone", given.list.display()),
            "name a new file with --list",
        ));
    }
    let found = {
        let screen = Screen::of_bytes();
        intervals::blank(&source, &given.blank_intervals, &screen)?
    };
    let list = List::of(&given.source.display().to_string(), source.len(), &found);
    workplace::write_new(&given.list, |file| json::write(file, &list)).map_err(|error| {
        Failure::with(
            format!("{} cannot be made: {error}", given.list.display()),
            "name a new file with --list, where there is room",
        )
    })?;
    if args.json {
        let read = source.len().minus(list.bytes_in(State::Unreadable));
        json::print(&Document::listed(given, &source, &list, read))?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    let title = format!("{} · {}", page::clean(&choose::file_name(&given.source)), page::size(source.len()));
    page.head(&title, "listed", page::GOOD);
    page.gap();
    let (image, listed) = (page::quoted(&given.source), page::quoted(&given.list));
    page.say(&format!(
        "{} in {} read blank at these distances and count as not read; {listed} lists them.",
        page::count(impaired::sectors(&found), "sector", "sectors"),
        page::count(found.len() as u64, "place", "places"),
    ));
    page.next(&[(
        format!("punchdog check {image} --unreadable {listed}"),
        "as of a medium that fails in these places",
    )]);
    page.print()?;
    Ok(Verdict::Fine)
}
