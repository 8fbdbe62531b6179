//! `punchdog surface --left-out` and `--inserted`: an image laid out as it was, with gaps for what was left out of it, and
//! without what it has too many.

use crate::{
    args::{Args, Surface},
    choose,
    failure::{Failure, Verdict},
    intervals, json, lists,
    page::{self, Page},
    surface::Document,
    watch::Screen,
    workplace,
};
use punchdog_core::{
    arith::Sat,
    impaired,
    medium::{Gap, Medium},
    progress::Watch,
    report::examination::Examination,
    surface::{
        list::List,
        spaced::{self, Spaced},
    },
};
use std::{
    fs::File,
    io::{self, Write},
    path::Path,
};

/// A gap as it is given: `FROM:TO:BYTES`.
pub(crate) fn gap(words: &str) -> Result<Gap, String> {
    let numbers: Vec<u64> = words.split(':').map_while(|word| word.parse().ok()).collect();
    match (numbers.as_slice(), words.matches(':').count()) {
        ([from, to, bytes], 2) => Ok(Gap { from: *from, to: *to, bytes: *bytes }),
        _ => Err("a gap is FROM:TO:BYTES, as check prints it".to_owned()),
    }
}

/// Names the command that comes before all others where the image is not what the medium held: it lays it out as it was, or
/// lists what reads blank at intervals. Places count from the start of the volume at `base`.
pub(crate) fn comes_next(page: &mut Page, image: &Path, seen: &Examination, base: u64) -> bool {
    let words = match (seen.left_out.is_empty(), seen.inserted.is_empty()) {
        (true, true) => return intervals::comes_next(page, image, seen, base),
        (false, true) => {
            "puts the gap back in, as places that cannot be read; nothing else helps the files behind it"
        }
        (true, false) => "takes out what is too many; nothing else helps the files behind it",
        (false, false) => {
            "puts gaps back in and takes out what is too many; nothing else helps the files behind it"
        }
    };
    let each = |option: &str, gaps: &[Gap]| {
        let one = |gap: &Gap| {
            let gap = gap.moved(base);
            format!(" --{option} {}:{}:{}", gap.from, gap.to, gap.bytes)
        };
        gaps.iter().map(one).collect::<String>()
    };
    let command = format!(
        "punchdog surface {}{}{} --list {} --image {}",
        page::quoted(image),
        each("left-out", &seen.left_out),
        each("inserted", &seen.inserted),
        page::quoted(&page::beside(image, "", "spaced.json")),
        page::quoted(&page::beside(image, "", "spaced.img")),
    );
    page.next(&[(command, words)]);
    true
}

pub(crate) fn run(args: &Args, given: &Surface) -> anyhow::Result<Verdict> {
    let source = choose::file(&given.source)?;
    let Some(target) = &given.image else {
        return Err(Failure::with(
            "an image is laid out anew into another one, and none is named",
            "name one with --image",
        ));
    };
    let Some(layout) = spaced::spaced(source.len(), &given.left_out, &given.inserted) else {
        return Err(Failure::with(
            "these places are not in order, or do not fit into the image",
            "give them as check prints them: FROM:TO:BYTES, the first one first",
        ));
    };
    let list = List::of(&target.display().to_string(), layout.bytes, &layout.unknown);
    lists::with_image(target, (&given.list, &list), |file| write(&source, &layout, file))?;
    if args.json {
        json::print(&Document::listed(given, &source, &list, source.len()))?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    let title = format!("{} · {}", page::clean(&choose::file_name(target)), page::size(layout.bytes));
    page.head(&title, "laid out anew", page::GOOD);
    page.gap();
    for (gaps, done) in [(&given.left_out, "put back in"), (&given.inserted, "taken out")] {
        let bytes = gaps.iter().fold(0, |sum: u64, gap| sum.plus(gap.bytes));
        if bytes > 0 {
            let places = page::count(gaps.len() as u64, "place", "places");
            page.say(&format!(
                "{bytes} bytes were {done} in {places}: everything behind stands where it stood on the medium."
            ));
        }
    }
    let (quoted, listed) = (page::quoted(target), page::quoted(&given.list));
    if layout.unknown.is_empty() {
        page.say("Nothing of the medium is missing there.");
        page.next(&[(format!("punchdog check {quoted}"), "as of any image")]);
    } else {
        page.say(&format!(
            "What stood there, or where exactly the places are, is not known: {} count as not read, and {listed} lists them.",
            page::count(impaired::sectors(&layout.unknown), "sector", "sectors"),
        ));
        page.next(&[(
            format!("punchdog check {quoted} --unreadable {listed}"),
            "as of a medium that fails in these places",
        )]);
    }
    page.print()?;
    Ok(Verdict::Fine)
}

/// Writes the pieces, with holes where nothing stands.
fn write(source: &dyn Medium, layout: &Spaced, file: &mut File) -> io::Result<()> {
    let screen = Screen::of_bytes();
    file.set_len(layout.bytes)?;
    for (piece, to) in &layout.pieces {
        let mut at = piece.offset;
        while let Some(part) = source.piece_from(at, piece.end()) {
            if screen.stop() {
                return Err(io::Error::new(io::ErrorKind::Interrupted, "stopped on request"));
            }
            screen.at("laying the image out anew", part.offset, source.len());
            let bytes = source.bytes(part.offset, part.length.size()).map_err(io::Error::other)?;
            workplace::put_with_holes(file, to.plus(part.offset.minus(piece.offset)), &bytes)?;
            at = part.end();
        }
    }
    file.flush()
}
