//! `punchdog surface --striped`: disks that share their bytes in stripes, laid out as the one that they make.

use crate::{
    args::{Args, Surface},
    choose,
    failure::{Failure, Verdict},
    json, lists,
    page::{self, Page},
    surface::Document,
    watch::Screen,
    workplace,
};
use punchdog_core::{
    arith::Sat,
    impaired,
    medium::{Extent, FileImage, Medium, Striped, Unknown},
    partition::Member,
    progress::Watch,
    surface::list::{List, State},
};
use std::{
    fs::File,
    io::{self, Write},
    path::{Path, PathBuf},
};

/// Bytes that are copied at once.
const PIECE: u64 = 1 << 20;

/// How disks share their bytes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Set {
    chunk: u64,
    disks: usize,
}

/// A set as it is given: `CHUNK:DISKS`.
pub(crate) fn set(words: &str) -> Result<Set, String> {
    let numbers = words.split_once(':').and_then(|(one, two)| Some((one.parse().ok()?, two.parse().ok()?)));
    match numbers {
        Some((chunk, disks)) if chunk >= 512 && chunk % 512 == 0 && (2..=64).contains(&disks) => {
            Ok(Set { chunk, disks })
        }
        _ => Err("a set is CHUNK:DISKS, bytes of a stripe and how many disks, as scout prints it".to_owned()),
    }
}

/// The command that puts a set together, of whose disks `image` is the first.
pub(crate) fn next(image: &Path, member: Member) -> (String, &'static str) {
    let others: String = (1..member.of).map(|_| " --with -").collect();
    let command = format!(
        "punchdog surface {} --striped {}:{}{others} --list {} --image {}",
        page::quoted(image),
        member.chunk,
        member.of,
        page::quoted(&page::beside(image, "", "set.json")),
        page::quoted(&page::beside(image, "", "set.img")),
    );
    (command, "puts the set together; name an image of each other disk in place of its -, in order")
}

pub(crate) fn run(args: &Args, given: &Surface, set: Set) -> anyhow::Result<Verdict> {
    let Some(target) = &given.image else {
        return Err(Failure::with(
            "a set is put together into another image, and none is named",
            "name one with --image",
        ));
    };
    if given.with.len() >= set.disks {
        return Err(Failure::with(
            format!("the set has {} disks, and {} are given", set.disks, given.with.len() + 1),
            "give the first as the source, and the others in order with --with",
        ));
    }
    let source = choose::file(&given.source)?;
    let other = |path: &PathBuf| (path.as_os_str() != "-").then(|| choose::file(path)).transpose();
    let others: Vec<Option<FileImage>> = given.with.iter().map(other).collect::<Result<_, _>>()?;
    let given_disks = others.iter().map(|disk| disk.as_ref().map(|disk| disk as &dyn Medium));
    let mut disks: Vec<Option<&dyn Medium>> =
        std::iter::once(Some(&source as &dyn Medium)).chain(given_disks).collect();
    disks.resize(set.disks, None);
    let there = disks.iter().flatten().count();
    let whole = Striped::new(disks, set.chunk).filter(|whole| whole.len() > 0).ok_or_else(|| {
        Failure::with("these disks hold not one stripe", "give CHUNK:DISKS as scout prints it")
    })?;
    let unread = whole.unknown(Unknown::Unreadable);
    let list = List::of(&target.display().to_string(), whole.len(), &unread);
    lists::with_image(target, (&given.list, &list), |file| write(&whole, &unread, file))?;
    if args.json {
        let read = whole.len().minus(list.bytes_in(State::Unreadable));
        json::print(&Document::listed(given, &source, &list, read))?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    let title = format!("{} · {}", page::clean(&choose::file_name(target)), page::size(whole.len()));
    page.head(&title, "put together", page::GOOD);
    page.gap();
    page.say(&format!("{there} of {} disks, in stripes of {} bytes.", set.disks, set.chunk));
    let (image, listed) = (page::quoted(target), page::quoted(&given.list));
    if unread.is_empty() {
        page.next(&[(format!("punchdog check {image}"), "as of any image")]);
    } else {
        page.say(&format!(
            "What the others hold is not there: {} count as not read, and {listed} lists them.",
            page::count(impaired::sectors(&unread), "sector", "sectors"),
        ));
        page.next(&[(
            format!("punchdog check {image} --unreadable {listed}"),
            "as of a medium that fails in these places",
        )]);
    }
    page.print()?;
    Ok(Verdict::Fine)
}

/// Writes what can be read, with holes for the rest.
fn write(whole: &Striped<'_>, unread: &[Extent], file: &mut File) -> io::Result<()> {
    let screen = Screen::of_bytes();
    file.set_len(whole.len())?;
    let mut at = 0;
    let ends = unread.iter().copied().chain([Extent::new(whole.len(), 0)]);
    for gap in ends {
        while at < gap.offset {
            if screen.stop() {
                return Err(io::Error::new(io::ErrorKind::Interrupted, "stopped on request"));
            }
            screen.at("putting the set together", at, whole.len());
            let length = gap.offset.minus(at).min(PIECE);
            let medium: &dyn Medium = whole;
            let bytes = medium.bytes(at, length.size()).map_err(io::Error::other)?;
            workplace::put_with_holes(file, at, &bytes)?;
            at = at.plus(length);
        }
        at = at.max(gap.end());
    }
    file.flush()
}
