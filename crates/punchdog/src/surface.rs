//! `punchdog surface`: which places of a medium can be read, and an image of what can.

use crate::{
    args::{Args, Surface},
    choose,
    failure::{Failure, Verdict},
    intervals, json, lists,
    page::{self, Page},
    spaced, striped,
    watch::Screen,
    workplace,
};
use punchdog_core::{
    arith::Sat,
    impaired,
    medium::{Medium, Uncached},
    progress::Watch,
    surface::{
        list::{List, State},
        read::{End, Host, Progress, Search},
    },
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{
    fs::{File, OpenOptions},
    io::{self, Write},
    path::Path,
    sync::mpsc,
    thread::{self, JoinHandle},
    time::{Duration, Instant},
};

/// The list is kept so often.
const KEPT: Duration = Duration::from_secs(10);
/// And tried again so soon where the disk is busy.
const BUSY: Duration = Duration::from_secs(1);
/// So many bytes are brought onto the disk together.
const TOGETHER: u64 = 64 << 20;
/// Places that are shown.
const SHOWN: usize = 16;

/// The document of `surface`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.surface-read/1"))]
    schema: &'static str,
    source: json::Image,
    /// The file with the places.
    list: String,
    /// The file that was saved into.
    image: Option<String>,
    /// Nothing is left to be tried.
    done: bool,
    read_bytes: u64,
    unreadable_bytes: u64,
    slow_bytes: u64,
    untried_bytes: u64,
}

impl Document {
    /// Of what is listed without having been tried.
    pub(crate) fn listed(given: &Surface, source: &dyn Medium, list: &List, read_bytes: u64) -> Self {
        Self {
            schema: "punchdog.surface-read/1",
            source: json::Image::of(&given.source, source.len()),
            list: given.list.display().to_string(),
            image: given.image.as_ref().map(|path| path.display().to_string()),
            done: true,
            read_bytes,
            unreadable_bytes: list.bytes_in(State::Unreadable),
            slow_bytes: 0,
            untried_bytes: 0,
        }
    }
}

pub(crate) fn run(args: &Args, given: &Surface) -> anyhow::Result<Verdict> {
    if !given.left_out.is_empty() || !given.inserted.is_empty() {
        return spaced::run(args, given);
    }
    if let Some(set) = given.striped {
        return striped::run(args, given, set);
    }
    if !given.blank_intervals.is_empty() {
        return intervals::run(args, given);
    }
    let source = open(&given.source)?;
    let bytes = source.medium.len();
    let standing = standing(given, bytes)?;
    let (image, fresh) = image(given, bytes, standing.is_some())?;
    // A new image has nothing in it yet, whatever was read before.
    let list = match standing {
        Some(list) if !fresh => list,
        _ => List::untried(&given.source.display().to_string(), bytes, source.sector),
    };
    let before = list.clone();
    let mut search = Search::new(&*source.medium, list);
    let mut work = Work {
        started: Instant::now(),
        keep_at: Instant::now() + KEPT,
        screen: Screen::of_search(),
        image: image.map(|file| Image::new(file, &given.list, source.once)).transpose()?,
        given,
        failed: None,
    };
    let end = search.run(given.tries, &mut work);
    let list = search.list();
    let Work { image, screen, failed, .. } = work;
    drop(screen);
    // The list says of nothing that it was read before the image has it.
    let whole = matches!(end, End::Done) && list.extents.is_empty();
    let closed = image.map_or(Ok(()), |image| image.close(whole));
    let synced = closed.and(failed.map_or(Ok(()), Err));
    let kept = synced.and_then(|()| keep(&list, &given.list));
    kept.map_err(|error| not_saved(given, &error))?;
    if args.json {
        json::print(&Document {
            schema: "punchdog.surface-read/1",
            source: json::Image::of(&given.source, bytes),
            list: given.list.display().to_string(),
            image: given.image.as_ref().map(|path| path.display().to_string()),
            done: list.done,
            read_bytes: bytes - list.bytes_in(State::Untried) - list.bytes_in(State::Unreadable),
            unreadable_bytes: list.bytes_in(State::Unreadable),
            slow_bytes: list.bytes_in(State::Slow),
            untried_bytes: list.bytes_in(State::Untried),
        })?;
    } else {
        text(given, &list, &before)?;
    }
    match end {
        End::Done => Ok(Verdict::of(list.bytes_in(State::Unreadable) == 0)),
        End::Stopped => Err(Failure::with(
            format!("stopped on request; what was read so far is in {}", given.list.display()),
            "run the same command again: it goes on where it stopped",
        )),
        End::Gone => Err(Failure::with(
            format!("{} does not answer any more, also where it did before", given.source.display()),
            "plug it in again, let it cool down, try another port; then run the same command again: it goes on where it stopped",
        )),
        End::NotSaved(error) => Err(not_saved(given, &error)),
    }
}

fn not_saved(given: &Surface, error: &io::Error) -> anyhow::Error {
    let which = given.image.as_ref().unwrap_or(&given.list);
    Failure::with(
        format!("what was read cannot be kept in {}: {error}", which.display()),
        "make room or mend the cause, then run the same command again: it goes on where it stopped",
    )
}

/// What is read.
struct Source {
    medium: Box<dyn Medium>,
    sector: u64,
    /// A medium, which may give its bytes once and not again.
    once: bool,
}

/// A device is read past the host's cache: else one bad sector takes its neighbours with it.
fn open(path: &Path) -> anyhow::Result<Source> {
    let file = choose::file(path)?;
    let once = !path.metadata().is_ok_and(|about| about.is_file());
    Ok(match Uncached::open(path)? {
        Some(device) => Source { sector: device.sector(), medium: Box::new(device), once },
        None => Source { sector: 512, medium: Box::new(file), once },
    })
}

/// The list that is there already.
fn standing(given: &Surface, bytes: u64) -> anyhow::Result<Option<List>> {
    let (path, name) = (&given.list, given.list.display());
    let Ok(about) = path.symlink_metadata() else { return Ok(None) };
    let alone = "name another file with --list: only lists that surface wrote are gone on with";
    if !about.is_file() || same_file::is_same_file(path, &given.source).unwrap_or(false) {
        return Err(Failure::with(format!("{name} is no list of ours, and is left alone"), alone));
    }
    let list = lists::read(path, bytes)?;
    if list.source.path.is_empty() {
        return Err(Failure::with(format!("{name} was not written by surface, and is left alone"), alone));
    }
    Ok(Some(list))
}

/// The image to save into, and whether it is new.
fn image(given: &Surface, bytes: u64, listed: bool) -> anyhow::Result<(Option<File>, bool)> {
    let Some(path) = &given.image else { return Ok((None, false)) };
    let name = path.display();
    let other = "name a new file with --image";
    let failed = |error: io::Error| Failure::with(format!("{name} cannot be made: {error}"), other);
    if let Ok(about) = path.symlink_metadata() {
        if !about.is_file() || same_file::is_same_file(path, &given.source).unwrap_or(true) {
            return Err(Failure::with(format!("{name} is the source itself, or no file"), other));
        }
        if !listed || about.len() != bytes {
            return Err(Failure::with(
                format!("{name} is already there, and nothing says which places of it were read"),
                "name a new file with --image, or the list that was written together with it with --list",
            ));
        }
        return Ok((Some(OpenOptions::new().read(true).write(true).open(path).map_err(failed)?), false));
    }
    let file = OpenOptions::new().write(true).create_new(true).open(path).map_err(failed)?;
    file.set_len(bytes).map_err(failed)?;
    Ok((Some(file), true))
}

fn keep(list: &List, path: &Path) -> io::Result<()> {
    workplace::replace(path, |file| {
        let mut out = io::BufWriter::new(file);
        json::write(&mut out, list)?;
        out.flush()
    })
}

/// The world of the search.
struct Work<'w> {
    started: Instant,
    /// When the list is kept the next time.
    keep_at: Instant,
    screen: Screen,
    image: Option<Image>,
    given: &'w Surface,
    failed: Option<io::Error>,
}

/// The image that is written. What a medium gave may not be had a second time: it is brought onto the disk while
/// the next bytes are read, and waited for at the end. What comes from a file can be read again, and is left to
/// the host as any copied file is.
struct Image {
    file: File,
    since: u64,
    once: bool,
    ask: mpsc::SyncSender<Ask>,
    syncing: JoinHandle<io::Result<()>>,
}

/// What is done beside the reading.
enum Ask {
    Sync,
    /// All that was written before is brought onto the disk, and then this list, which says so.
    Keep(List),
}

impl Image {
    fn new(file: File, list: &Path, once: bool) -> io::Result<Self> {
        let (ask, asked) = mpsc::sync_channel(1);
        let other = file.try_clone()?;
        let path = list.to_owned();
        let syncing = thread::spawn(move || {
            asked.iter().try_for_each(|what| {
                other.sync_data()?;
                match what {
                    Ask::Sync => Ok(()),
                    Ask::Keep(list) => keep(&list, &path),
                }
            })
        });
        Ok(Self { file, since: 0, once, ask, syncing })
    }

    fn put(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        workplace::put_with_holes(&mut self.file, offset, bytes)?;
        self.since = self.since.plus(bytes.len().wide());
        if self.since < TOGETHER || !self.once {
            return Ok(());
        }
        self.since = 0;
        // Where it has not come so far yet, it will take these as well.
        self.ask(Ask::Sync).map(drop)
    }

    /// False where what was asked for before is still being done.
    fn ask(&self, what: Ask) -> io::Result<bool> {
        match self.ask.try_send(what) {
            Ok(()) => Ok(true),
            Err(mpsc::TrySendError::Full(_)) => Ok(false),
            // What failed there is told there only.
            Err(mpsc::TrySendError::Disconnected(_)) => Err(lost()),
        }
    }

    /// Where it matters, all of it is on the disk; or what went wrong first.
    fn close(self, whole: bool) -> io::Result<()> {
        drop(self.ask);
        let ended = self.syncing.join();
        ended.unwrap_or_else(|_| Err(lost()))?;
        if self.once || !whole { self.file.sync_all() } else { Ok(()) }
    }
}

fn lost() -> io::Error {
    io::Error::other("what was written before did not arrive on the disk")
}

impl Host for Work<'_> {
    fn now(&self) -> Duration {
        self.started.elapsed()
    }
    fn save(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        match &mut self.image {
            Some(image) => image.put(offset, bytes),
            None => Ok(()),
        }
    }
    fn at(&mut self, progress: &Progress<'_>) -> bool {
        let trouble = match (progress.unreadable, progress.slow) {
            (0, 0) => String::new(),
            (bad, 0) => format!("; {} unreadable", page::size(bad)),
            (bad, slow) => format!("; {} unreadable, {} slow", page::size(bad), page::size(slow)),
        };
        let done = progress.bytes.minus(progress.left);
        self.screen.at(&format!("{}{trouble}", progress.doing), done, progress.bytes);
        if Instant::now() >= self.keep_at {
            let list = (progress.list)();
            let kept = match &self.image {
                Some(image) => image.ask(Ask::Keep(list)),
                None => keep(&list, &self.given.list).map(|()| true),
            };
            match kept {
                Ok(true) => self.keep_at = Instant::now() + KEPT,
                Ok(false) => self.keep_at = Instant::now() + BUSY,
                Err(error) => {
                    self.failed = Some(error);
                    return true;
                }
            }
        }
        self.screen.stop()
    }
}

fn text(given: &Surface, list: &List, before: &List) -> anyhow::Result<()> {
    let mut page = Page::new();
    let [bad, slow, untried] =
        [State::Unreadable, State::Slow, State::Untried].map(|state| list.bytes_in(state));
    let bytes = list.source.bytes;
    let title = format!("{} · {}", page::clean(&choose::file_name(&given.source)), page::size(bytes));
    let sectors = impaired::sectors(&list.places(&[State::Unreadable]));
    let (verdict, style) = match (bad, untried) {
        (_, 1..) => ("not all of it was read".to_owned(), page::WARN),
        (0, _) => ("all of it can be read".to_owned(), page::GOOD),
        _ => (page::count(sectors, "sector cannot be read", "sectors cannot be read"), page::BAD),
    };
    page.head(&title, &verdict, style);
    page.gap();
    let read = bytes.minus(bad).minus(untried);
    page.say(&format!(
        "{} of {} were read{}.",
        page::size(read),
        page::size(bytes),
        given.image.as_ref().map_or(String::new(), |path| format!(" and are in {}", page::quoted(path)))
    ));
    if bad > 0 {
        page.say(&format!(
            "{} in {} cannot be read: each sector was tried {}.",
            page::size(bad),
            page::count(list.places(&[State::Unreadable]).len().wide(), "place", "places"),
            page::count(u64::from(given.tries) + 1, "time", "times")
        ));
    }
    let had = before.bytes_in(State::Unreadable);
    if had > bad && bad + untried < bytes {
        page.say(&format!("{} that could not be read before were read now.", page::size(had - bad)));
    }
    if slow > 0 {
        page.say(&format!("{} were slow: the medium had to try more than once.", page::size(slow)));
    }
    if untried > 0 {
        page.say(&format!("{} were not tried yet.", page::size(untried)));
    }
    if !list.extents.is_empty() {
        page.gap();
    }
    for place in list.extents.iter().take(SHOWN) {
        let (word, style) = match place.state {
            State::Unreadable => ("unreadable", page::BAD),
            State::Slow => ("slow", page::WARN),
            State::Untried => ("untried", page::FAINT),
        };
        let end = place.extent().end() - 1;
        page.beside(
            16,
            word,
            style,
            &format!("bytes {} to {end}, {}", place.offset, page::size(place.length)),
        );
    }
    if let Some(more) = list.extents.len().checked_sub(SHOWN).filter(|more| *more > 0) {
        page.under_faint(16, &format!("and {more} more, in the list"));
    }
    let worked_on = page::quoted(given.image.as_ref().unwrap_or(&given.source));
    let again = if bad + untried > 0 {
        format!(" --unreadable {}", page::quoted(&given.list))
    } else {
        String::new()
    };
    page.next(&[(
        format!("punchdog explain {worked_on}{again}"),
        "what lies on these places, and what it means",
    )]);
    page.print()
}
