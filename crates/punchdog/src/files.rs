//! `punchdog files`: the files as they can be reached now.

use crate::{
    args::{Args, Files},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    family::{Kind, Survey, Wanted},
    files::{
        content::Part,
        filler,
        judgement::{self, Judgement},
        path::TreePath,
        record::{FileRecord, State},
    },
    medium::{Extent, Medium, Window},
    progress::Watch,
    unearth::Find,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize, Serializer, ser::SerializeSeq};
use std::{cell::RefCell, ops::ControlFlow, path::Path};

pub(crate) fn run(args: &Args, given: &Files) -> anyhow::Result<Verdict> {
    let image = choose::open_for(&given.target.image, &given.target.which)?;
    let screen = Screen::new();
    let chosen = choose::perhaps(&image, &given.target, given.finds.is_some(), &screen)?;
    let wanted = Wanted { deleted: given.deleted, system: given.system };
    let mut listed = Listed::new(&image, chosen.as_ref(), given.finds.as_deref(), &given.target)?;
    if let Some(chosen) = &chosen {
        let window = Window::new(&image, chosen.target.extent);
        let survey = chosen.target.survey(&window, &screen)?;
        let base = chosen.target.extent.offset;
        listed.volume = Some(OfVolume { survey: RefCell::new(survey), window, base, wanted });
    }
    let source = if given.hash || given.content {
        Source::Read(read(&listed, given, &screen)?)
    } else {
        Source::Listed(&listed)
    };
    drop(screen);
    if let Some(sheet) = &given.sheet {
        let mut pictures = Vec::new();
        source.each(|row| {
            if crate::sheet::is_picture(row.record) {
                pictures.push(row.record.clone());
            }
        });
        return crate::sheet::write(args, given, sheet, &image, &pictures);
    }
    if args.json {
        json::print(&Document {
            schema: "punchdog.files/1",
            image: json::Image::of(&given.target.image, image.len()),
            volume: chosen.as_ref().map(|chosen| About {
                kind: chosen.target.volume.kind(),
                offset: chosen.target.extent.offset,
                bytes: chosen.target.volume.bytes(),
            }),
            files: List(&source, given),
        })?;
        return Ok(Verdict::Fine);
    }
    text(given, chosen.as_ref(), &image, &source)?;
    Ok(Verdict::Fine)
}

/// A volume to be listed.
struct OfVolume<'l> {
    survey: RefCell<Box<dyn Survey>>,
    window: Window<'l>,
    /// Where it begins.
    base: u64,
    wanted: Wanted,
}

/// The files of a volume, and what was found besides; places are bytes from the start of the image.
struct Listed<'l> {
    image: &'l choose::Image,
    volume: Option<OfVolume<'l>>,
    finds: Option<&'l Path>,
    /// Only finds that begin within the volume that was asked for.
    within: Option<Extent>,
}

impl<'l> Listed<'l> {
    fn new(
        image: &'l choose::Image,
        chosen: Option<&choose::Chosen>,
        finds: Option<&'l Path>,
        target: &crate::args::Target,
    ) -> anyhow::Result<Self> {
        // Refused before anything is listed; each reading later trusts it.
        if let Some(finds) = finds {
            crate::finds::read_of(finds, (&target.image, image), &mut |_| ())?;
        }
        let narrowed = target.which.narrows();
        let within = chosen.map(|chosen| chosen.target.extent).filter(|_| narrowed);
        Ok(Self { image, volume: None, finds, within })
    }
    /// Each file: those of the volume by path, then what was found.
    fn each(&self, mut take: impl FnMut(FileRecord)) {
        if let Some(OfVolume { survey, window, base, wanted }) = &self.volume {
            survey.borrow_mut().each_file(window, *wanted, &mut |mut file| {
                file.content = std::mem::take(&mut file.content).moved(*base);
                take(file);
                ControlFlow::Continue(())
            });
        }
        if let Some(finds) = self.finds {
            let mut pass = |find: Find| {
                if is_within(&find, self.within) {
                    take(find.record());
                }
            };
            if let Err(error) = crate::finds::read(finds, &mut pass) {
                tracing::warn!(%error, "the list of finds cannot be read to its end");
            }
        }
    }
}

/// True where a find begins in the volume that was asked for, or none was.
pub(crate) fn is_within(find: &Find, within: Option<Extent>) -> bool {
    let begins = |extent: Extent| find.start().is_none_or(|at| extent.offset <= at && at < extent.end());
    within.is_none_or(begins)
}

/// A file whose content was read; folders have neither.
struct ReadFile {
    record: FileRecord,
    hash: Option<String>,
    content: Option<Judgement>,
}

/// A file of the list.
struct Row<'r> {
    record: &'r FileRecord,
    hash: Option<&'r str>,
    content: Option<&'r Judgement>,
}

/// Where the list comes from.
enum Source<'s> {
    /// From the survey, file by file.
    Listed(&'s Listed<'s>),
    /// From memory: reading all content came first.
    Read(Vec<ReadFile>),
}

impl Source<'_> {
    /// Each file.
    fn each(&self, mut take: impl FnMut(&Row<'_>)) {
        match self {
            Self::Listed(listed) => {
                listed.each(|record| take(&Row { record: &record, hash: None, content: None }));
            }
            Self::Read(files) => files.iter().for_each(|file| {
                let ReadFile { record, hash, content } = file;
                take(&Row { record, hash: hash.as_deref(), content: content.as_ref() });
            }),
        }
    }
}

/// Every file with its content read, in the order of the list.
fn read(listed: &Listed<'_>, given: &Files, screen: &Screen) -> anyhow::Result<Vec<ReadFile>> {
    let mut files = Vec::new();
    listed.each(|record| files.push(ReadFile { record, hash: None, content: None }));
    let all = files.iter().map(|file| file.record.content.held()).fold(0, u64::saturating_add);
    let mut done = 0;
    for file in files.iter_mut().filter(|file| !file.record.folder) {
        if screen.stop() {
            return Err(Failure::with(
                "stopped on request",
                "run it again when there is time; nothing was written",
            ));
        }
        screen.at("reading files", done, all);
        done += file.record.content.held();
        if given.content {
            file.content = Some(judgement::of(&file.record, listed.image));
        }
        if !given.hash {
            continue;
        }
        let mut search = filler::Search::default();
        file.hash = Some(file.record.sha256_with(listed.image, |part| match part {
            Part::Bytes(bytes) => search.take(bytes),
            Part::Zeros(count) => search.skip(count),
        }));
        if let Some(found) = search.found() {
            file.record.holds(&found);
        }
    }
    Ok(files)
}

/// The document of `files`; its list is written file by file.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document<'d> {
    #[schemars(extend("const" = "punchdog.files/1"))]
    schema: &'static str,
    image: json::Image,
    /// None where finds are all there is.
    volume: Option<About>,
    #[schemars(with = "Vec<Record<'d>>")]
    files: List<'d>,
}

/// The volume whose files are listed.
#[derive(Serialize, JsonSchema)]
struct About {
    kind: Kind,
    /// Where it begins.
    offset: u64,
    bytes: u64,
}

struct List<'l>(&'l Source<'l>, &'l Files);

impl Serialize for List<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        let mut failed = None;
        self.0.each(|row| {
            if failed.is_none() {
                let mut record = Record::of(
                    row.record,
                    0,
                    self.1.hash.then(|| row.hash.map_or(Hash::None, |hash| Hash::Of(hash.to_owned()))),
                );
                record.content = row.content.map(Judged::of);
                failed = list.serialize_element(&record).err();
            }
        });
        failed.map_or_else(|| list.end(), Err)
    }
}

/// What looking at a file's content came to, for JSON.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Judged {
    /// `whole`, `broken` or `not-judged`.
    pub(crate) verdict: String,
    /// From which byte of the file on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) from: Option<u64>,
    /// Why.
    pub(crate) why: String,
}

impl Judged {
    pub(crate) fn of(judgement: &Judgement) -> Self {
        let from = match judgement {
            Judgement::Broken { from, .. } => Some(*from),
            _ => None,
        };
        Self { verdict: judgement.name().to_owned(), from, why: judgement.words() }
    }
}

/// The SHA-256 of a file's content.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub(crate) enum Hash {
    /// In hexadecimal.
    Of(String),
    /// Not all of it can be read, or it has none.
    None,
}

/// A file or folder.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "File")]
pub(crate) struct Record<'f> {
    path: &'f TreePath,
    folder: bool,
    /// Bytes by its entry.
    size: u64,
    state: State,
    /// When it was last written, by its entry, in the time of the host that wrote it.
    modified: Option<String>,
    /// `read-only`, `hidden` and such.
    attributes: Vec<&'static str>,
    /// Where its content stands, in order, from the start of the image.
    extents: Vec<Extent>,
    /// What of it cannot be read from the medium: bytes from its start.
    #[serde(skip_serializing_if = "<[Extent]>::is_empty")]
    missing: &'f [Extent],
    /// Why it is not whole.
    note: Option<&'f str>,
    /// Where it was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    sha256: Option<Hash>,
    /// Whether it holds together, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    content: Option<Judged>,
}

impl<'f> Record<'f> {
    /// `file`, on the volume that begins at `base`.
    pub(crate) fn of(file: &'f FileRecord, base: u64, sha256: Option<Hash>) -> Self {
        Self {
            path: &file.path,
            folder: file.folder,
            size: file.size,
            state: file.state,
            modified: file.modified.map(|time| time.to_string()),
            attributes: file.attributes.names(),
            extents: file.content.extents().map(|extent| extent.moved(base)).collect(),
            missing: &file.lacks,
            note: file.note.as_deref(),
            sha256,
            content: None,
        }
    }
}

/// The style and the mark of a state.
fn state(state: State) -> anstyle::Style {
    match state {
        State::Intact => page::GOOD,
        State::Damaged => page::BAD,
        State::Orphan => page::WARN,
        State::Deleted | State::Older | State::Unnamed => page::FAINT,
    }
}

fn text(
    given: &Files,
    chosen: Option<&choose::Chosen>,
    image: &choose::Image,
    source: &Source<'_>,
) -> anyhow::Result<()> {
    const STATES: [State; 6] =
        [State::Intact, State::Damaged, State::Orphan, State::Deleted, State::Older, State::Unnamed];
    let mut page = Page::new();
    let mut counts = [0_u64; STATES.len()];
    let mut broken = 0_u64;
    source.each(|row| {
        let file = row.record;
        for (count, _) in counts.iter_mut().zip(STATES).filter(|(_, s)| !file.folder && *s == file.state) {
            *count += 1;
        }
        broken += u64::from(matches!(row.content, Some(Judgement::Broken { .. })));
    });
    let there = || counts.iter().zip(STATES).filter(|(count, _)| **count > 0);
    let mut parts: Vec<String> = there().map(|(count, state)| format!("{count} {}", state.name())).collect();
    if broken > 0 {
        parts.push(format!("{broken} broken inside"));
    }
    let worst = there().map(|(_, state)| state).filter(|state| *state < State::Deleted).max();
    let style = if broken > 0 { page::BAD } else { state(worst.unwrap_or(State::Intact)) };
    let verdict = if parts.is_empty() { "no files".to_owned() } else { parts.join(", ") };
    let path = &given.target.image;
    let title = match chosen {
        Some(chosen) => choose::title(path, &chosen.target, None),
        None => format!("{} · {}", page::clean(&choose::file_name(path)), page::size(image.len())),
    };
    page.head(&title, &verdict, style);
    page.gap();
    source.each(|row| {
        let file = row.record;
        let style = state(file.state);
        let size = if file.folder { "folder".to_owned() } else { page::size(file.size) };
        let when = file.modified.map_or(" ".repeat(16), |time| time.strftime("%Y-%m-%d %H:%M").to_string());
        let slash = if file.folder { "/" } else { "" };
        let about = format!("{size:>11}  {when}");
        page.file(file.state.name(), style, &about, &format!("{}{slash}", file.path));
        let content =
            row.content.map(|judgement| format!("content {}: {}", judgement.name(), judgement.words()));
        for under in file.note.as_deref().into_iter().chain(content.as_deref()).chain(row.hash) {
            page.under_faint(40, under);
        }
    });
    let quoted = page::quoted(path);
    let again = chosen.map_or("", |chosen| chosen.again.as_str());
    let finds =
        given.finds.as_ref().map_or(String::new(), |finds| format!(" --finds {}", page::quoted(finds)));
    page.next(&[(format!("punchdog salvage {quoted}{again}{finds} --to SOMEWHERE-ELSE"), "copies them out")]);
    page.print()
}
