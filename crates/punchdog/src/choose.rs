//! Opening an image, and settling which volume of it is meant.

use crate::{args::Target, page, trouble::Trouble, watch::Screen};
use punchdog_core::{
    arith::Sat,
    family::{self, Volume},
    finding::{Entry, Weight},
    medium::{Extent, FileImage, Medium, Window},
    partition::{self, Place, Scouting, Way, strangers::Blank},
};
use std::{io::ErrorKind, path::Path};

/// Opens an image for reading.
pub(crate) fn open(path: &Path) -> anyhow::Result<FileImage> {
    let image = FileImage::open(path).map_err(|error| {
        let name = path.display();
        match error.kind() {
            ErrorKind::NotFound => Trouble::with(
                format!("{name} does not exist"),
                "check the path; an image is a file with the bytes of a volume or disk",
            ),
            ErrorKind::IsADirectory => Trouble::with(
                format!("{name} is a folder, not an image"),
                "name an image file: the bytes of a volume or of a whole disk",
            ),
            ErrorKind::PermissionDenied => Trouble::with(
                format!("{name} may not be read"),
                "change its permissions, or run as a user who may read it",
            ),
            _ => Trouble::with(
                format!("{name} cannot be opened: {error}"),
                "check the path and the medium it is on",
            ),
        }
    })?;
    if image.is_empty() {
        return Err(Trouble::with(
            format!("{} is empty: it has not one byte", path.display()),
            "the copy that made it failed: image the medium again",
        ));
    }
    Ok(image)
}

/// A volume to work on.
pub(crate) struct Chosen {
    /// The bytes of the image that are taken for it.
    pub(crate) extent: Extent,
    /// The volume itself.
    pub(crate) volume: Box<dyn Volume>,
    /// It is not the whole image.
    pub(crate) inside: bool,
    /// How to ask for it again: ` --at 1048576`, or nothing.
    pub(crate) again: String,
    /// How it was found, where scouting found it.
    pub(crate) place: Option<Place>,
    /// The partition table has no fault, of this volume or of another.
    pub(crate) table_sound: bool,
}

impl Chosen {
    /// Why a host does not get as far as the volume, if the partition table is why.
    pub(crate) fn not_found_by(&self, host: &str) -> Option<&'static Entry> {
        self.place.as_ref().and_then(|place| place.not_found_by(host))
    }
    /// Nothing is wrong with the way to it, nor with the table that it is in.
    pub(crate) fn way_is_clear(&self) -> bool {
        self.table_sound && self.place.as_ref().is_none_or(|place| place.way_faults.is_empty())
    }
}

/// The volume at a byte offset.
fn at(
    image: &dyn Medium,
    path: &Path,
    offset: u64,
    length: Option<u64>,
    watch: &Screen,
) -> anyhow::Result<Chosen> {
    if offset >= image.len() {
        return Err(Trouble::with(
            format!(
                "byte {offset} lies beyond the end of {}, which has {} bytes",
                path.display(),
                image.len()
            ),
            format!("punchdog scout {} lists the volumes and where they begin", page::word(path)),
        ));
    }
    let extent = Extent::new(offset, length.unwrap_or(u64::MAX).min(image.len().minus(offset)));
    let window = Window::new(image, extent);
    let volume = family::recognise(&window, watch)?.ok_or_else(|| {
        let found = partition::strangers::name(&window);
        let what = found
            .map_or("nothing that speaks for a FAT or exFAT volume".to_owned(), |name| name.title.to_owned());
        let next = found.map_or_else(
            || format!("punchdog scout {} lists what the image holds", page::word(path)),
            |name| name.advice.to_owned(),
        );
        Trouble::with(format!("byte {offset} of {} begins {what}", path.display()), next)
    })?;
    let again = if offset == 0 { String::new() } else { format!(" --at {offset}") };
    Ok(Chosen { extent, volume, inside: offset != 0, again, place: None, table_sound: true })
}

/// The volume that a scouted place stands for.
pub(crate) fn place(
    image: &dyn Medium,
    path: &Path,
    place: &Place,
    watch: &Screen,
) -> anyhow::Result<Chosen> {
    if !place.what.is_mended() {
        return Err(Trouble::with(
            format!(
                "{} holds an {} volume at byte {}, which this version cannot check or mend yet",
                path.display(),
                place.what.title(),
                place.extent.offset
            ),
            "read it on a host that knows it; FAT12, FAT16, FAT32 and exFAT are what this version works on",
        ));
    }
    let length = (place.way != Way::Bare).then_some(place.extent.length);
    let mut chosen = at(image, path, place.extent.offset, length, watch)?;
    chosen.place = Some(place.clone());
    Ok(chosen)
}

/// Why nothing in the image can be worked on.
pub(crate) fn nothing(path: &Path, image: &dyn Medium, seen: &Scouting) -> anyhow::Error {
    let name = path.display();
    let again = "image the medium again, with another reader or port, before giving up";
    if let Some(blank) = seen.blank {
        let what = match blank {
            Blank::Zeroes => {
                "nothing but zeroes: a dead controller, an erased medium, or an image of the wrong device"
            }
            Blank::Ones => "nothing but FF: erased flash, or a reader that gave no data",
        };
        return Trouble::with(format!("{name} ({}) holds {what}", page::size(image.len())), again);
    }
    if let Some(stranger) = seen.strangers.first() {
        return Trouble::with(
            format!("{name} holds {}, which Punchdog does not mend", stranger.name.title),
            stranger.name.advice,
        );
    }
    if let Some((what, bytes)) = partition::claim(image).filter(|(_, bytes)| *bytes > image.len()) {
        return Trouble::with(
            format!(
                "{name} holds only the beginning of {} volume: the image ends at byte {} of {bytes}",
                what.with_article(),
                image.len()
            ),
            "image the medium again, to its end; what lies behind the beginning is not in this image",
        );
    }
    let start = image.lenient(0, 4096.min(image.len().size())).bytes;
    let is_text = |text: &str| text.chars().all(|c| !c.is_control() || c.is_whitespace());
    if !start.is_empty() && std::str::from_utf8(&start).is_ok_and(is_text) {
        return Trouble::with(
            format!("{name} is a text file, not an image"),
            "name an image file: the bytes of a volume or of a whole disk",
        );
    }
    let entropy = seen.entropy.unwrap_or(0.0);
    if entropy > 7.9 {
        return Trouble::with(
            format!(
                "{name} holds no volume that Punchdog knows; its bytes look like encrypted or packed data"
            ),
            "ask the owner whether the medium was encrypted; if so, unlock it on its own host first",
        );
    }
    Trouble::with(
        format!(
            "{name} holds no volume that Punchdog knows: no boot sector, no partition table, no allocation table"
        ),
        format!(
            "punchdog scout {} searches the whole image; check too that it is a raw image of the right device",
            page::word(path)
        ),
    )
}

/// Every volume to work on: the one that was asked for, or all that can be mended.
pub(crate) fn all(
    image: &dyn Medium,
    target: &Target,
    watch: &Screen,
) -> anyhow::Result<(Vec<Chosen>, Option<Scouting>)> {
    let path = &target.image;
    if let Some(offset) = target.at {
        // A place between the volumes of a disk ends where its entry ends.
        // What begins elsewhere is looked at only to see whether it overlaps.
        let seen = partition::scout(image, false, watch)?;
        let here = seen.volumes.iter().find(|place| place.extent.offset == offset && place.way != Way::Bare);
        let mut chosen = at(image, path, offset, here.map(|place| place.extent.length), watch)?;
        chosen.place = seen.volumes.iter().find(|place| place.extent.offset == offset).cloned();
        chosen.table_sound = in_order(&seen);
        if target.inside {
            chosen.again.push_str(" --inside");
        } else {
            must_not_overlap(&chosen, &seen, path)?;
        }
        return Ok((vec![chosen], None));
    }
    // As scout does it, so that numbers mean the same, and a volume that no entry lists is not left out.
    let seen = partition::scout(image, true, watch)?;
    if let Some(number) = target.volume {
        let found = number.checked_sub(1).and_then(|index| seen.volumes.get(index));
        let Some(found) = found else {
            return Err(Trouble::with(
                format!(
                    "{} has no volume {number}; it has {}",
                    path.display(),
                    page::count(seen.volumes.len().wide(), "volume", "volumes")
                ),
                format!("punchdog scout {} lists them", page::word(path)),
            ));
        };
        let mut chosen = place(image, path, found, watch)?;
        chosen.table_sound = in_order(&seen);
        return Ok((vec![chosen], None));
    }
    if seen.volumes.is_empty() {
        return Err(nothing(path, image, &seen));
    }
    let mended: Vec<&Place> = seen.volumes.iter().filter(|found| found.what.is_mended()).collect();
    if let (true, Some(first)) = (mended.is_empty(), seen.volumes.first()) {
        return Err(place(image, path, first, watch).err().unwrap_or_else(|| nothing(path, image, &seen)));
    }
    let mut chosen: Vec<Chosen> =
        mended.into_iter().map(|found| place(image, path, found, watch)).collect::<Result<_, _>>()?;
    let fine = in_order(&seen);
    for one in &mut chosen {
        one.table_sound = fine;
    }
    Ok((chosen, Some(seen)))
}

/// The partition table has no fault.
fn in_order(seen: &Scouting) -> bool {
    seen.findings.iter().all(|finding| finding.weight == Weight::Remark)
}

/// Refuses a place whose volume would overlap a whole one that begins elsewhere: what is recognised
/// there is made of that one's tables and files, and mending it would write into them.
fn must_not_overlap(chosen: &Chosen, seen: &Scouting, path: &Path) -> anyhow::Result<()> {
    let offset = chosen.extent.offset;
    if seen.volumes.iter().any(|place| place.extent.offset == offset && seen.is_contested(place)) {
        return Ok(());
    }
    let end = offset.saturating_add(chosen.volume.bytes().min(chosen.extent.length));
    let over = seen.volumes.iter().enumerate().find(|(_, place)| {
        !place.boot_gone
            && place.extent.offset != offset
            && place.extent.offset < end
            && offset < place.extent.end()
    });
    let Some((number, place)) = over else { return Ok(()) };
    let again = if place.way == Way::Bare { String::new() } else { format!(" --volume {}", number + 1) };
    Err(Trouble::with(
        format!(
            "a volume at byte {offset} would overlap the {} volume at byte {}, which has its boot sector: what is recognised there is made of that one's tables and files",
            place.what.title(),
            place.extent.offset
        ),
        format!(
            "punchdog check {}{again} looks at that volume; add --inside to take byte {offset} for a volume all the same",
            page::word(path)
        ),
    ))
}

/// The one volume to work on; a disk with several needs a choice.
pub(crate) fn one(image: &dyn Medium, target: &Target, watch: &Screen) -> anyhow::Result<Chosen> {
    let (mut chosen, seen) = all(image, target, watch)?;
    if chosen.len() > 1 {
        let list: Vec<String> = chosen
            .iter()
            .map(|c| format!("{} at byte {}", c.volume.kind().title(), c.extent.offset))
            .collect();
        return Err(Trouble::with(
            format!("{} holds several volumes: {}", target.image.display(), list.join(", ")),
            "choose one with --volume N or --at BYTES, as punchdog scout prints them",
        ));
    }
    let only = chosen
        .pop()
        .ok_or_else(|| Trouble::with("no volume was found", "punchdog scout lists what the image holds"))?;
    if only.inside && seen.is_some() {
        eprintln!(
            "punchdog: the only {} volume of the image, at byte {}, is meant",
            only.volume.kind().title(),
            only.extent.offset
        );
    }
    Ok(only)
}

/// The last part of a path, as text.
pub(crate) fn file_name(path: &Path) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned())
}

/// The first words about a volume: name, kind, size, label.
pub(crate) fn title(path: &Path, chosen: &Chosen, label: Option<&str>) -> String {
    let name = file_name(path);
    let mut text = format!(
        "{} · {} · {}",
        page::clean(&name),
        chosen.volume.kind().title(),
        page::size(chosen.volume.bytes())
    );
    if chosen.inside {
        text = format!("{text} at byte {}", chosen.extent.offset);
    }
    if let Some(label) = label {
        text = format!("{text} · \"{}\"", page::clean(label));
    }
    text
}
