//! `punchdog format`: a fresh file system on a copy, when nothing else is left.

use crate::{
    args::{Args, FileSystem, Format, PartitionTable},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    salvage::manifest::Manifest,
    watch::Screen,
    workplace::{self, Files, journal_path},
};
use punchdog_core::{
    arith::Sat,
    diagnosis::{self, Diagnosed, NotChosen, Wish},
    family::{Kind, Wanted},
    formatting::{Details, Fresh, Piece, Table},
    impaired,
    medium::{Blank, Extent, Medium, Overlay, Unknown, Window},
    mending::change::Tally,
    repair::lay::{self, KeptOff, Laying},
    report::wording,
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{
    collections::HashSet,
    fs::File,
    io::{Seek, SeekFrom, Write},
    ops::ControlFlow,
    path::Path,
};

/// Files that are named.
const SHOWN: usize = 8;
/// Bytes that are written at once.
const PIECE: usize = 1 << 20;

pub(crate) fn run(args: &Args, given: &Format) -> anyhow::Result<Verdict> {
    let image = choose::open(&given.target.image, &given.target.which.reading)?;
    let screen = Screen::of_bytes();
    let unsaved = look(given, &image, &screen)?;
    let place = place(given, &image, &screen)?;
    let kind = kind(given.file_system);
    let details = Details {
        sector: given.sector,
        cluster: given.cluster,
        label: given.label.clone().unwrap_or_default(),
        serial: serial(),
        time: filetime(),
    };
    let no = |error: String| Failure::with(error, "choose another file system, or other sizes");
    let fresh = Fresh::new(kind, place.length, &details).map_err(|error| no(error.to_string()))?;
    let mut pieces = Vec::new();
    if let Some(table) = table(given) {
        let made = table
            .pieces(image.len(), details.sector.into(), place, kind, details.serial)
            .map_err(|error| no(error.to_string()))?;
        pieces.extend(made.into_iter().map(|(at, bytes)| (at, Piece::Bytes(bytes))));
    }
    let own = fresh.pieces(place.offset).map_err(|error| no(error.to_string()))?;
    pieces.extend(own.into_iter().map(|(at, piece)| (at + place.offset, piece)));
    let mut files = Files::new(&given.copy, Some(&given.target.image), None)?;
    let laying = Laying { pieces: &pieces, volume: place };
    let unread = image.unknown(Unknown::Unreadable);
    let (written, kept_off) = if given.wipe {
        (None, wiped(&given.copy, image.len(), &laying, &unread, &screen)?)
    } else {
        let done = lay::lay(&image, &laying, &mut files, &screen).map_err(|error| {
            Failure::with(
                format!("{}: {error}", given.copy.display()),
                "name a new file with --copy; the image itself was only read",
            )
        })?;
        (Some(done.0), done.1)
    };
    // What was made is looked at as anybody else's is.
    let copy = choose::file(&given.copy)?;
    let wish = Wish::At { offset: place.offset, inside: true };
    let (targets, _) = diagnosis::choose(&copy, wish, &screen)
        .map_err(|error| choose::in_words(error, &given.copy, &copy))?;
    let target = targets.into_iter().next().ok_or_else(|| anyhow::anyhow!("the copy holds no volume"))?;
    let found = Diagnosed::of(&copy, target, Some(given.sector), &screen)?;
    drop(screen);
    let fine = found.examination.sound() && found.reaches_every_host() && kept_off.stays.is_empty();
    if args.json {
        json::print(&Document {
            schema: "punchdog.format/1",
            image: json::Image::of(&given.target.image, image.len()),
            copy: given.copy.display().to_string(),
            journal: written.map(|_| journal_path(&given.copy).display().to_string()),
            kind,
            offset: place.offset,
            bytes: place.length,
            cluster_bytes: fresh.cluster(),
            table: given.table.map(|table| format!("{table:?}").to_lowercase()),
            wiped: given.wipe,
            written_bytes: written.map(|tally| tally.bytes),
            not_saved: unsaved,
            marked_bad_bytes: kept_off.marked,
            cannot_be_moved: kept_off.stays,
            sound: found.examination.sound(),
        })?;
        return Ok(Verdict::of(fine));
    }
    let unread = (impaired::sectors(&unread), &kept_off);
    text(given, &found, (place, fresh.cluster()), (written, unread), &unsaved, fine)?;
    Ok(Verdict::of(fine))
}

/// The document of `format`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.format/1"))]
    schema: &'static str,
    image: json::Image,
    copy: String,
    /// None of a copy that was wiped.
    journal: Option<String>,
    kind: Kind,
    /// Where the volume begins.
    offset: u64,
    bytes: u64,
    cluster_bytes: u32,
    /// `mbr` or `gpt`, where one was laid down with it.
    table: Option<String>,
    wiped: bool,
    /// Bytes that differ from the image.
    written_bytes: Option<u64>,
    /// Files of the image that nobody copied out.
    not_saved: Vec<String>,
    marked_bad_bytes: u64,
    /// Structures that fail in places.
    cannot_be_moved: Vec<String>,
    /// As the copy was checked.
    sound: bool,
}

fn kind(given: FileSystem) -> Kind {
    match given {
        FileSystem::Fat12 => Kind::Fat12,
        FileSystem::Fat16 => Kind::Fat16,
        FileSystem::Fat32 => Kind::Fat32,
        FileSystem::Exfat => Kind::Exfat,
        FileSystem::Ntfs => Kind::Ntfs,
    }
}

fn table(given: &Format) -> Option<Table> {
    given.table.map(|table| match table {
        PartitionTable::Mbr => Table::Mbr,
        PartitionTable::Gpt => Table::Gpt,
    })
}

/// 100 ns since 1601.
fn filetime() -> u64 {
    let now = jiff::Timestamp::now();
    let seconds = u64::try_from(now.as_second().saturating_add(11_644_473_600)).unwrap_or(0);
    seconds.saturating_mul(10_000_000)
}

/// What two volumes seldom have in common.
fn serial() -> u64 {
    let now = u64::try_from(jiff::Timestamp::now().as_nanosecond().unsigned_abs() % (1 << 62)).unwrap_or(7);
    now.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1
}

/// Where the file system goes.
fn place(given: &Format, image: &choose::Image, screen: &Screen) -> anyhow::Result<Extent> {
    let whole = Extent::new(0, image.len());
    if let Some(table) = table(given) {
        return table
            .room(image.len(), given.sector.into())
            .map_err(|error| Failure::with(error.to_string(), "take the other table, or none"));
    }
    if !given.target.which.narrows() {
        return Ok(whole);
    }
    // What was recognised there does not matter, nor whether anything was: the partition does.
    if let Wish::At { offset, .. } = given.target.which.wish()
        && let Some(partition) = diagnosis::partition_at(image, offset)
    {
        return Ok(partition);
    }
    let chosen = choose::one(image, &given.target, screen)?;
    Ok(diagnosis::room(image, chosen.target.extent, screen)?)
}

/// Refuses while files can be copied out, until they were, or somebody says that none matters; gives those that were
/// not saved.
fn look(given: &Format, image: &choose::Image, screen: &Screen) -> anyhow::Result<Vec<String>> {
    let wish = given.target.which.wish();
    let mut stranger = None;
    let (targets, seen) = match diagnosis::choose(image, wish, screen) {
        Ok(chosen) => chosen,
        Err(NotChosen::Nothing(seen)) => (Vec::new(), Some(*seen)),
        // A partition in which nothing is recognised can be given up as it is.
        Err(NotChosen::NotThere(offset, name)) if diagnosis::partition_at(image, offset).is_some() => {
            stranger = name;
            (Vec::new(), None)
        }
        Err(error) => return Err(choose::in_words(error, &given.target.image, image)),
    };
    // What this program does not read may hold files for all that.
    let stranger =
        stranger.or_else(|| seen.iter().flat_map(|seen| &seen.strangers).next().map(|one| one.name));
    if let Some(stranger) = stranger.filter(|_| !given.nothing_to_save) {
        return Err(Failure::with(
            format!(
                "{} holds {}, whose files Punchdog does not read: whether any matters is not for it to say",
                given.target.image.display(),
                stranger.title
            ),
            format!("{}; then add --nothing-to-save", stranger.advice()),
        ));
    }
    let saved: Option<HashSet<String>> = match &given.saved {
        Some(folder) => {
            let manifest = Manifest::load(folder)?;
            if manifest.image.bytes != image.len() {
                return Err(Failure::with(
                    format!("{} holds files of another image, {}", folder.display(), manifest.image.path),
                    "give the folder that files of this image were copied into",
                ));
            }
            Some(manifest.files.iter().map(|file| file.path.to_string()).collect())
        }
        None => None,
    };
    let mut unsaved = Vec::new();
    for target in targets {
        let window = Window::new(image, target.extent);
        let mut survey = target.survey(&window, screen)?;
        survey.each_file(&window, Wanted::default(), &mut |file| {
            let path = file.path.to_string();
            if !file.folder && file.size > 0 && !saved.as_ref().is_some_and(|saved| saved.contains(&path)) {
                unsaved.push(path);
            }
            ControlFlow::Continue(())
        });
    }
    if unsaved.is_empty() || saved.is_some() || given.nothing_to_save {
        return Ok(unsaved);
    }
    let quoted = page::quoted(&given.target.image);
    Err(Failure::with(
        format!(
            "{} can still be copied out of {}: a fresh file system is the last resort",
            page::count(unsaved.len().wide(), "file", "files"),
            given.target.image.display()
        ),
        format!(
            "punchdog salvage {quoted} --to DIR copies them; then add --saved DIR here, or --nothing-to-save if none of them matters"
        ),
    ))
}

/// A copy of nothing but zeros, with the file system on it: no old byte is there.
fn wiped(
    copy: &Path,
    bytes: u64,
    laying: &Laying<'_>,
    unread: &[Extent],
    screen: &Screen,
) -> anyhow::Result<KeptOff> {
    let failed = |error: std::io::Error| {
        Failure::with(format!("{} cannot be made: {error}", copy.display()), "name a new file with --copy")
    };
    let blank = Blank(bytes);
    let mut overlay = Overlay::new(&blank);
    let kept_off = laying.put(&mut overlay, unread, screen)?;
    let made: &dyn Medium = &overlay;
    let put = |file: &mut File| -> std::io::Result<()> {
        file.set_len(bytes)?;
        for extent in overlay.changed() {
            for at in (extent.offset..extent.end()).step_by(PIECE) {
                let length = (extent.end() - at).min(PIECE as u64);
                let piece = made.bytes(at, length.size()).map_err(std::io::Error::other)?;
                file.seek(SeekFrom::Start(at))?;
                file.write_all(&piece)?;
            }
        }
        Ok(())
    };
    workplace::write_new(copy, put).map_err(failed)?;
    Ok(kept_off)
}

fn text(
    given: &Format,
    found: &Diagnosed,
    (place, cluster): (Extent, u32),
    (written, (unread, kept_off)): (Option<Tally>, (u64, &KeptOff)),
    unsaved: &[String],
    fine: bool,
) -> anyhow::Result<()> {
    let mut page = Page::new();
    let (verdict, style) =
        if fine { ("fresh, and sound", page::GOOD) } else { ("not as it should be", page::BAD) };
    page.head(&choose::title(&given.copy, &found.target, found.examination.label.as_deref()), verdict, style);
    page.gap();
    page.say(&format!(
        "An empty file system of {}, in clusters of {}{}. The image itself was only read.",
        page::size(place.length),
        page::size(cluster.into()),
        match given.table {
            Some(table) =>
                format!(", behind a fresh {} partition table", format!("{table:?}").to_uppercase()),
            None => String::new(),
        }
    ));
    match written {
        Some(tally) => page.say(&format!(
            "All other bytes are as they were: what the medium held can still be unearthed. {} are others than in the image; the old ones are kept in {}.",
            page::size(tally.bytes),
            page::quoted(&journal_path(&given.copy))
        )),
        None => page.say("Everything else is zeros: nothing of what the medium held is on the copy. There is no undo but the image itself."),
    }
    if unread > 0 {
        let many = page::count(unread, "sector", "sectors");
        page.say(&format!(
            "{many} of the image cannot be read. Clusters of {} are marked bad: hosts put nothing there.",
            page::size(kept_off.marked)
        ));
        if !kept_off.stays.is_empty() {
            page.say(&format!(
                "This medium cannot carry it as it is: {} cannot be moved, and fails in places. Lay it onto a good medium, or choose other sizes.",
                wording::listed(&kept_off.stays)
            ));
        }
    }
    if !unsaved.is_empty() {
        page.gap();
        let where_now =
            if written.is_some() { "named by no folder of the copy" } else { "not on the copy any more" };
        let many = page::count(unsaved.len().wide(), "file", "files");
        page.say(&format!("Not saved, and {where_now}: {many}."));
        for path in unsaved.iter().take(SHOWN) {
            page.under(6, path);
        }
        if unsaved.len() > SHOWN {
            page.under_faint(6, &format!("and {} more; --json lists them", unsaved.len() - SHOWN));
        }
    }
    let copy = page::quoted(&given.copy);
    let mut next = vec![(format!("punchdog scout {copy}"), "what is on it now")];
    if written.is_some() {
        next.push((format!("punchdog undo {copy}"), "puts the old bytes back"));
    }
    page.next(&next);
    page.print()
}
