//! Opening an image, and settling which volume of it is meant.

use crate::{
    args::{Reading, Target, Which},
    failure::Failure,
    lists, page,
    watch::Screen,
};
use punchdog_core::{
    arith::Sat,
    diagnosis::{self, Nature, NotChosen, Wish},
    medium::{Extent, FileImage, Medium, Window, WithLost, WithUnreadable},
    partition::{self, Scouting, Table, Way, strangers::Blank},
};
use std::{io::ErrorKind, path::Path};

/// An image as it is read: some places of it may not be readable, or were listed as such.
pub(crate) type Image = WithUnreadable<WithLost<FileImage>>;

/// Opens an image for reading, with the places that are not to be believed.
pub(crate) fn open(path: &Path, reading: &Reading) -> anyhow::Result<Image> {
    let image = file(path)?;
    let unknown = lists::unknown(path, &image, reading)?;
    let lost = lists::lost(path, &image);
    Ok(WithUnreadable::new(WithLost::new(image, lost), unknown))
}

/// Opens an image for work on what is meant of it. What was written over a volume counts as what cannot be read.
pub(crate) fn open_for(path: &Path, which: &Which) -> anyhow::Result<Image> {
    let image = open(path, &which.reading)?;
    if let Some((over, name)) = which.at.and_then(|at| partition::written_over(&image, at)) {
        anstream::eprintln!(
            "punchdog: {} was written over bytes {} to {}; what stands there counts as what cannot be read",
            name.title,
            over.offset,
            over.end()
        );
        image.add(over);
    }
    Ok(image)
}

/// Opens a file for reading.
pub(crate) fn file(path: &Path) -> anyhow::Result<FileImage> {
    let image = FileImage::open(path).map_err(|error| {
        let name = path.display();
        match error.kind() {
            ErrorKind::NotFound => Failure::with(
                format!("{name} does not exist"),
                "check the path; an image is a file with the bytes of a volume or disk",
            ),
            ErrorKind::IsADirectory => Failure::with(
                format!("{name} is a folder, not an image"),
                "name an image file: the bytes of a volume or of a whole disk",
            ),
            ErrorKind::PermissionDenied => Failure::with(
                format!("{name} may not be read"),
                "change its permissions, or run as a user who may read it",
            ),
            _ => Failure::with(
                format!("{name} cannot be opened: {error}"),
                "check the path and the medium it is on",
            ),
        }
    })?;
    if image.is_empty() {
        return Err(Failure::with(
            format!("{} is empty: it has not one byte", path.display()),
            "the copy that made it failed: image the medium again",
        ));
    }
    Ok(image)
}

/// A volume to work on, and how to ask for it again: ` --at 1048576`, or nothing.
pub(crate) struct Chosen {
    pub(crate) target: diagnosis::Target,
    pub(crate) again: String,
}

impl Chosen {
    pub(crate) fn new(target: diagnosis::Target, given: &Target) -> Self {
        let offset = target.extent.offset;
        let mut again = if offset == 0 { String::new() } else { format!(" --at {offset}") };
        if given.which.inside && given.which.at.is_some() {
            again.push_str(" --inside");
        }
        again.push_str(&given.which.reading.again());
        Self { target, again }
    }
}

/// In words why what is meant cannot be worked on.
pub(crate) fn in_words(error: NotChosen, path: &Path, image: &dyn Medium) -> anyhow::Error {
    let (name, quoted) = (path.display(), page::quoted(path));
    match error {
        NotChosen::Medium(error) => error.into(),
        NotChosen::Beyond(offset) => Failure::with(
            format!("byte {offset} lies beyond the end of {name}, which has {} bytes", image.len()),
            format!("punchdog scout {quoted} lists the volumes and where they begin"),
        ),
        NotChosen::NotThere(offset, found) => {
            let there = Window::new(image, Extent::new(offset, image.len().minus(offset)));
            let what = match (found, partition::claim(&there)) {
                (Some(found), _) => found.title.to_owned(),
                (None, Some((kind, _))) => {
                    format!(
                        "with the boot sector of {} volume, and nothing that it leads to",
                        kind.with_article()
                    )
                }
                (None, None) => "nothing that speaks for a FAT, exFAT or NTFS volume".to_owned(),
            };
            let next = found.map_or_else(
                || format!("punchdog scout {quoted} lists what the image holds"),
                |found| found.advice().to_owned(),
            );
            Failure::with(format!("byte {offset} of {name} begins {what}"), next)
        }
        NotChosen::NoSuchNumber { number, of } => Failure::with(
            format!("{name} has no volume {number}; it has {}", page::count(of.wide(), "volume", "volumes")),
            format!("punchdog scout {quoted} lists them"),
        ),
        NotChosen::Nothing(seen) => nothing(path, image, &seen),
        NotChosen::Overlaps { offset, place, number } => {
            let again = if place.way == Way::Bare { String::new() } else { format!(" --volume {number}") };
            Failure::with(
                format!(
                    "a volume at byte {offset} would overlap the {} volume at byte {}, which has its boot sector: what is recognised there is made of that one's tables and files",
                    place.what.title(),
                    place.extent.offset
                ),
                format!(
                    "punchdog check {quoted}{again} looks at that volume; add --inside to take byte {offset} for a volume all the same"
                ),
            )
        }
    }
}

/// Why nothing in the image can be worked on.
pub(crate) fn nothing(path: &Path, image: &dyn Medium, seen: &Scouting) -> anyhow::Error {
    let name = path.display();
    let again = "image the medium again, with another reader or port, before giving up";
    if let (Some(member), Some(told)) = (seen.member, seen.findings.first()) {
        let (command, what) = crate::striped::next(path, member);
        return Failure::with(
            format!("{name}: {}. {}", told.summary, told.detail()),
            format!("{command} {what}"),
        );
    }
    if let Some(late) = seen.findings.iter().find(|finding| finding.entry.code == "partition/image-late") {
        return Failure::with(
            format!("{}: {}. {}", name, late.summary, late.detail()),
            "image the medium again, from its first byte on: what is missing in front cannot be made up for",
        );
    }
    match Nature::of(image, seen) {
        Nature::Blank(blank) => {
            let what = match blank {
                Blank::Zeroes => {
                    "nothing but zeroes: a dead controller, an erased medium, or an image of the wrong device"
                }
                Blank::Ones => "nothing but FF: erased flash, or a reader that gave no data",
            };
            Failure::with(format!("{name} ({}) holds {what}", page::size(image.len())), again)
        }
        Nature::Stranger(stranger) if let Some(place) = seen.beneath.first() => Failure::with(
            format!(
                "{name} holds {}, which was written over {} volume that begins at byte {}",
                stranger.title,
                place.what.with_article(),
                place.extent.offset
            ),
            format!(
                "punchdog check {} --at {} --inside shows what is left of that; write nothing to the medium",
                page::quoted(path),
                place.extent.offset
            ),
        ),
        Nature::Stranger(stranger) if stranger.was_laid_over() => Failure::with(
            format!("{name} holds {}, which Punchdog does not mend", stranger.title),
            format!(
                "{}; if it was laid over what was there before by mistake, write nothing to the medium: punchdog unearth {} --out {} searches for that",
                stranger.advice(),
                page::quoted(path),
                page::quoted(&page::beside(path, "", "finds.json"))
            ),
        ),
        Nature::Stranger(stranger) => Failure::with(
            format!("{name} holds {}, which Punchdog does not mend", stranger.title),
            stranger.advice(),
        ),
        Nature::Beginning(what, bytes) => Failure::with(
            format!(
                "{name} holds only the beginning of {} volume: the image ends at byte {} of {bytes}",
                what.with_article(),
                image.len()
            ),
            "image the medium again, to its end; what lies behind the beginning is not in this image",
        ),
        Nature::Alone(what, bytes) => Failure::with(
            format!(
                "{name} holds the boot sector of {} volume of {bytes} bytes, and nothing that it leads to: no table, no folder stands where it says",
                what.with_article()
            ),
            format!("image the medium again, with another reader or port; {}", by_content(path)),
        ),
        Nature::Swapped => Failure::with(
            format!(
                "{name} holds a disk of which every two bytes stand in reversed order, as some bridges and recorders give them"
            ),
            format!(
                "image the medium with another bridge, or turn them: dd if={} of={} conv=swab",
                page::quoted(path),
                page::quoted(&page::beside(path, "", "turned.img"))
            ),
        ),
        Nature::Text => Failure::with(
            format!("{name} is a text file, not an image"),
            "name an image file: the bytes of a volume or of a whole disk",
        ),
        Nature::Packed => Failure::with(
            format!(
                "{name} holds no volume that Punchdog knows; its bytes look like encrypted or packed data"
            ),
            "ask the owner whether the medium was encrypted; if so, unlock it on its own host first",
        ),
        Nature::Unknown if seen.table != Table::None => Failure::with(
            format!("{name} has a partition table, and holds no volume that Punchdog knows"),
            format!("punchdog scout {} shows what the table says; {}", page::quoted(path), by_content(path)),
        ),
        Nature::Unknown => Failure::with(
            format!(
                "{name} holds no volume that Punchdog knows: no boot sector, no partition table, no allocation table"
            ),
            format!("check that it is a raw image of the right device; {}", by_content(path)),
        ),
    }
}

fn by_content(path: &Path) -> String {
    format!(
        "punchdog unearth {} --out {} searches all of it for files by their content",
        page::quoted(path),
        page::quoted(&page::beside(path, "", "finds.json"))
    )
}

/// Every volume to work on: the one that was asked for, or all that can be mended.
pub(crate) fn all(
    image: &dyn Medium,
    given: &Target,
    watch: &Screen,
) -> anyhow::Result<(Vec<Chosen>, Option<Scouting>)> {
    let wish = given.which.wish();
    let (targets, seen) =
        diagnosis::choose(image, wish, watch).map_err(|error| in_words(error, &given.image, image))?;
    Ok((targets.into_iter().map(|target| Chosen::new(target, given)).collect(), seen))
}

/// The one volume to work on; a disk with several needs a choice.
pub(crate) fn one(image: &dyn Medium, given: &Target, watch: &Screen) -> anyhow::Result<Chosen> {
    let (mut chosen, seen) = all(image, given, watch)?;
    let called =
        |one: &Chosen| format!("{} at byte {}", one.target.volume.kind().title(), one.target.extent.offset);
    if chosen.len() > 1 {
        let list: Vec<String> = chosen.iter().map(called).collect();
        return Err(Failure::with(
            format!("{} holds several volumes: {}", given.image.display(), list.join(", ")),
            "choose one with --volume N or --at BYTES, as punchdog scout prints them",
        ));
    }
    let only = chosen
        .pop()
        .ok_or_else(|| Failure::with("no volume was found", "punchdog scout lists what the image holds"))?;
    if only.target.extent.offset != 0 && seen.is_some() {
        eprintln!(
            "punchdog: the only {} volume of the image, at byte {}, is meant",
            only.target.volume.kind().title(),
            only.target.extent.offset
        );
    }
    Ok(only)
}

/// The one volume to work on, where there is one; with `others` to work on, it may be none, or one of several that
/// was not chosen.
pub(crate) fn perhaps(
    image: &dyn Medium,
    given: &Target,
    others: bool,
    watch: &Screen,
) -> anyhow::Result<Option<Chosen>> {
    if !others || given.which.narrows() {
        return one(image, given, watch).map(Some);
    }
    match diagnosis::choose(image, Wish::All, watch) {
        Ok((mut targets, _)) if targets.len() == 1 => {
            Ok(targets.pop().map(|target| Chosen::new(target, given)))
        }
        Ok((targets, _)) => {
            let many = page::count(targets.len().wide(), "volume", "volumes");
            eprintln!("punchdog: the image holds {many}; their own files are taken in with --volume N");
            Ok(None)
        }
        Err(NotChosen::Nothing(_)) => Ok(None),
        Err(error) => Err(in_words(error, &given.image, image)),
    }
}

/// The last part of a path, as text.
pub(crate) fn file_name(path: &Path) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned())
}

/// The first words about a volume: name, kind, size, label.
pub(crate) fn title(path: &Path, target: &diagnosis::Target, label: Option<&str>) -> String {
    let volume = &target.volume;
    let mut text = format!(
        "{} · {} · {}",
        page::clean(&file_name(path)),
        volume.kind().title(),
        page::size(volume.bytes())
    );
    if target.extent.offset != 0 {
        text = format!("{text} at byte {}", target.extent.offset);
    }
    if let Some(label) = label {
        text = format!("{text} · \"{}\"", page::clean(label));
    }
    text
}
