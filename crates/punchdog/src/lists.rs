//! Lists of places that cannot be read: `--unreadable` and `--filler`.

use crate::{args::Reading, failure::Failure, json, page, watch::Screen, workplace};
use punchdog_core::{
    arith::Sat,
    medium::{Extent, FileImage, Medium},
    repair::journal,
    surface::{
        filler,
        list::{List, NoList},
    },
};
use std::{
    fs::File,
    io::{self, Read},
    path::Path,
};

/// Bytes of a list at most.
const LIMIT: u64 = 1 << 30;

/// The places of an image that are not to be believed.
pub(crate) fn unknown(path: &Path, image: &FileImage, reading: &Reading) -> anyhow::Result<Vec<Extent>> {
    let mut places = Vec::new();
    if let Some(list) = &reading.unreadable {
        let list = read(list, image.len())?;
        places.extend(list.unknown());
    }
    if let Some(pattern) = &reading.filler {
        let screen = Screen::of_search();
        let found = filler::find(image, pattern, &screen)?;
        drop(screen);
        let bytes: u64 = found.iter().map(|place| place.length).sum();
        let what = page::count(found.len().wide(), "place", "places");
        eprintln!(
            "punchdog: {} of {} hold nothing but the filler, in {what}",
            page::size(bytes),
            page::clean(&path.display().to_string())
        );
        places.extend(found);
    }
    Ok(places)
}

/// The places of a copy that hold zeros for what could not be read from its image, as the journal beside it says.
pub(crate) fn lost(path: &Path, image: &FileImage) -> Vec<Extent> {
    let path = workplace::journal_path(path);
    // A pipe would be waited for.
    let is_file = path.symlink_metadata().is_ok_and(|about| about.is_file());
    let journal = is_file.then(|| FileImage::open(&path).ok()).flatten();
    journal.map_or_else(Vec::new, |journal| journal::lost(&journal, image))
}

/// Writes a new image and the list of what of it was not read; nothing that is there is overwritten.
pub(crate) fn with_image(
    image: &Path,
    list: (&Path, &List),
    write: impl FnOnce(&mut File) -> io::Result<()>,
) -> anyhow::Result<()> {
    let (path, list) = list;
    if let Some(taken) = [image, path].into_iter().find(|path| path.symlink_metadata().is_ok()) {
        return Err(Failure::with(
            format!("{} is already there, and is left alone", taken.display()),
            "name new files with --list and --image",
        ));
    }
    let made = workplace::write_new(image, write)
        .and_then(|()| workplace::write_new(path, |file| json::write(file, list)));
    made.map_err(|error| {
        Failure::with(
            format!("{} and {} cannot be made: {error}", path.display(), image.display()),
            "name new files with --list and --image, where there is room",
        )
    })
}

/// Reads a list of places of a source of `bytes`.
pub(crate) fn read(path: &Path, bytes: u64) -> anyhow::Result<List> {
    let name = path.display();
    let again = "punchdog surface SOURCE --list LIST.json writes such a list; a text file with an offset and a length a line is taken too";
    let mut text = String::new();
    File::open(path)
        .and_then(|file| file.take(LIMIT).read_to_string(&mut text))
        .map_err(|error| Failure::with(format!("{name} cannot be read as a list: {error}"), again))?;
    List::parse(&text, bytes).map_err(|error| {
        let next = match error {
            NoList::Shape(_) => again,
            NoList::OtherSource { .. } | NoList::Beyond(..) => {
                "give the list that was made of this image, or of the device that it is of"
            }
        };
        Failure::with(format!("{name} cannot be used: {error}"), next)
    })
}
