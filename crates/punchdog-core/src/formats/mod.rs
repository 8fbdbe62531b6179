//! Kinds of files: how each begins, and a walk through its structure to its end.
//!
//! A signature says little: eight bytes of a picture may be all that is left of it. What a file holds is known when
//! its structure was walked to the end: each kind has a length, a table, a sum or a code that the bytes have to fit.
//! One walk serves all who ask: where a file without a name ends, whether it is whole, where its bytes stop fitting
//! (which is where a piece of something else begins), and whether a file that has a name holds what it should.
//!
//! Content is hostile: every length is held against what there is, nesting and counts are bounded, and a walk ends
//! because each of its steps goes forward.

mod audio;
mod begin;
mod bitmap;
mod boxes;
mod compound;
mod deflate;
mod film;
mod gif;
mod jpeg;
mod markup;
mod matroska;
mod ogg;
mod pdf;
mod png;
mod riff;
mod sqlite;
mod stream;
mod tape;
mod text;
mod tiff;
mod zip;

pub use begin::{BEGINNING, begins};
pub use tape::{Source, Tape};

use jiff::civil::DateTime;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A kind of file that can be walked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "each is called as the trade calls it")]
pub enum Format {
    Jpeg,
    Png,
    Gif,
    Bmp,
    Tiff,
    /// Camera raw formats built on TIFF.
    Cr2,
    Nef,
    Arw,
    Dng,
    Orf,
    Rw2,
    Pef,
    Heif,
    Avif,
    Webp,
    Mp4,
    Mov,
    ThreeGp,
    M4a,
    Avi,
    Wav,
    TransportStream,
    Mp3,
    Flac,
    Ogg,
    Matroska,
    Webm,
    Pdf,
    Zip,
    Docx,
    Xlsx,
    Pptx,
    Odt,
    Ods,
    Odp,
    Epub,
    Doc,
    Xls,
    Ppt,
    /// A compound file of another kind.
    Compound,
    Sqlite,
    SevenZip,
    Gzip,
    Rtf,
    Html,
    Xml,
    Svg,
    Text,
    Csv,
}

/// What people look for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Group {
    /// Photographs and drawings.
    Pictures,
    /// Recordings.
    Sound,
    /// Films.
    Video,
    /// Texts, tables, slides, pages.
    Documents,
    /// Packed files.
    Archives,
    /// Anything else.
    Other,
}

impl Group {
    /// Its word, as arguments and folders have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Pictures => "pictures",
            Self::Sound => "sound",
            Self::Video => "video",
            Self::Documents => "documents",
            Self::Archives => "archives",
            Self::Other => "other",
        }
    }
}

/// Extension, name, and what it is to a person.
const NAMES: [(Format, &str, &str, Group); 50] = {
    use Format as F;
    use Group as G;
    [
        (F::Jpeg, "jpg", "JPEG picture", G::Pictures),
        (F::Png, "png", "PNG picture", G::Pictures),
        (F::Gif, "gif", "GIF picture", G::Pictures),
        (F::Bmp, "bmp", "BMP picture", G::Pictures),
        (F::Tiff, "tif", "TIFF picture", G::Pictures),
        (F::Cr2, "cr2", "camera raw picture", G::Pictures),
        (F::Nef, "nef", "camera raw picture", G::Pictures),
        (F::Arw, "arw", "camera raw picture", G::Pictures),
        (F::Dng, "dng", "camera raw picture", G::Pictures),
        (F::Orf, "orf", "camera raw picture", G::Pictures),
        (F::Rw2, "rw2", "camera raw picture", G::Pictures),
        (F::Pef, "pef", "camera raw picture", G::Pictures),
        (F::Heif, "heic", "HEIF picture", G::Pictures),
        (F::Avif, "avif", "AVIF picture", G::Pictures),
        (F::Webp, "webp", "WebP picture", G::Pictures),
        (F::Mp4, "mp4", "MP4 film", G::Video),
        (F::Mov, "mov", "MOV film", G::Video),
        (F::ThreeGp, "3gp", "3GP film", G::Video),
        (F::M4a, "m4a", "MP4 sound", G::Sound),
        (F::Avi, "avi", "AVI film", G::Video),
        (F::Wav, "wav", "WAV sound", G::Sound),
        (F::TransportStream, "mts", "MPEG transport stream", G::Video),
        (F::Mp3, "mp3", "MP3 sound", G::Sound),
        (F::Flac, "flac", "FLAC sound", G::Sound),
        (F::Ogg, "ogg", "Ogg sound", G::Sound),
        (F::Matroska, "mkv", "Matroska film", G::Video),
        (F::Webm, "webm", "WebM film", G::Video),
        (F::Pdf, "pdf", "PDF document", G::Documents),
        (F::Zip, "zip", "ZIP archive", G::Archives),
        (F::Docx, "docx", "text document", G::Documents),
        (F::Xlsx, "xlsx", "spreadsheet", G::Documents),
        (F::Pptx, "pptx", "presentation", G::Documents),
        (F::Odt, "odt", "text document", G::Documents),
        (F::Ods, "ods", "spreadsheet", G::Documents),
        (F::Odp, "odp", "presentation", G::Documents),
        (F::Epub, "epub", "book", G::Documents),
        (F::Doc, "doc", "text document", G::Documents),
        (F::Xls, "xls", "spreadsheet", G::Documents),
        (F::Ppt, "ppt", "presentation", G::Documents),
        (F::Compound, "cfb", "compound file", G::Other),
        (F::Sqlite, "sqlite", "SQLite database", G::Other),
        (F::SevenZip, "7z", "7z archive", G::Archives),
        (F::Gzip, "gz", "gzip archive", G::Archives),
        (F::Rtf, "rtf", "RTF document", G::Documents),
        (F::Html, "html", "HTML page", G::Documents),
        (F::Xml, "xml", "XML document", G::Documents),
        (F::Svg, "svg", "SVG drawing", G::Pictures),
        (F::Text, "txt", "plain text", G::Documents),
        (F::Csv, "csv", "table of values", G::Documents),
        (F::Jpeg, "jpeg", "JPEG picture", G::Pictures),
    ]
};

impl Format {
    fn row(self) -> (&'static str, &'static str, Group) {
        let row = NAMES.iter().find(|(format, ..)| *format == self);
        row.map_or(("bin", "file", Group::Other), |(_, extension, name, group)| (extension, name, *group))
    }
    /// Its usual extension, in lower case.
    pub fn extension(self) -> &'static str {
        self.row().0
    }
    /// What it is, in two words.
    pub fn title(self) -> &'static str {
        self.row().1
    }
    /// What it is to a person.
    pub fn group(self) -> Group {
        self.row().2
    }
    /// The kind that files with this extension are of.
    pub fn of_extension(extension: &str) -> Option<Self> {
        const SAME: [(&str, Format); 9] = [
            ("jpe", Format::Jpeg),
            ("tiff", Format::Tiff),
            ("htm", Format::Html),
            ("wave", Format::Wav),
            ("m2ts", Format::TransportStream),
            ("heif", Format::Heif),
            ("m4v", Format::Mp4),
            ("log", Format::Text),
            ("oga", Format::Ogg),
        ];
        let lower = extension.to_ascii_lowercase();
        let named = NAMES.iter().find(|(_, own, ..)| *own == lower).map(|(format, ..)| *format);
        named.or_else(|| SAME.iter().find(|(other, _)| *other == lower).map(|(_, format)| *format))
    }
    /// Kinds that a name of the other kind may well stand for: one box format, one packed format, text.
    pub fn is_like(self, other: Self) -> bool {
        let family = |format: Self| match format {
            Self::Mp4 | Self::Mov | Self::ThreeGp | Self::M4a => 1,
            Self::Heif | Self::Avif => 2,
            Self::Tiff
            | Self::Cr2
            | Self::Nef
            | Self::Arw
            | Self::Dng
            | Self::Orf
            | Self::Rw2
            | Self::Pef => 3,
            Self::Zip
            | Self::Docx
            | Self::Xlsx
            | Self::Pptx
            | Self::Odt
            | Self::Ods
            | Self::Odp
            | Self::Epub => 4,
            Self::Doc | Self::Xls | Self::Ppt | Self::Compound => 5,
            Self::Html | Self::Xml | Self::Svg | Self::Text | Self::Csv | Self::Rtf => 6,
            Self::Matroska | Self::Webm => 7,
            _ => 0,
        };
        self == other || (family(self) != 0 && family(self) == family(other))
    }
    /// Its files have no signature: nothing but letters.
    pub fn is_text(self) -> bool {
        matches!(self, Self::Text | Self::Csv | Self::Html | Self::Xml | Self::Svg)
    }
    /// Its content is packed: a sector of zeros in it is not its own.
    pub fn is_packed(self) -> bool {
        matches!(
            self,
            Self::Jpeg
                | Self::Png
                | Self::Gif
                | Self::Zip
                | Self::Docx
                | Self::Xlsx
                | Self::Pptx
                | Self::Gzip
                | Self::Flac
        )
    }
    /// Its beginning alone proves little: only a walk to its end counts.
    fn is_weak(self) -> bool {
        matches!(
            self,
            Self::Bmp
                | Self::Mp3
                | Self::TransportStream
                | Self::Gzip
                | Self::Text
                | Self::Csv
                | Self::Html
                | Self::Xml
                | Self::Svg
        )
    }
}

/// How much a walk to the end proves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Proof {
    /// The structure fits; content between its parts was not looked at, or has nothing to be held against.
    Structure,
    /// Sums or codes that run through all of the content fit.
    Content,
}

/// Why bytes stop fitting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// The bytes end before the file does.
    EndsEarly,
    /// Nothing but zeros from here on.
    Zeros,
    /// It was never closed: what should have been written last is not there.
    NeverClosed(&'static str),
    /// Something that does not belong there.
    Unfit(&'static str),
}

impl Why {
    /// In words, to follow "from byte N on".
    pub fn words(&self) -> String {
        match self {
            Self::EndsEarly => "it ends before its structure does".to_owned(),
            Self::Zeros => "nothing but zeros from there".to_owned(),
            Self::NeverClosed(what) => (*what).to_owned(),
            Self::Unfit(what) => format!("{what} there"),
        }
    }
}

/// Where a walk ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum End {
    /// At the end of the file, which has so many bytes.
    Whole {
        /// Bytes of the file.
        length: u64,
        /// How much that proves.
        proof: Proof,
    },
    /// Before that.
    Broken {
        /// Bytes that fit.
        good: u64,
        /// The first byte that certainly does not lies here or before.
        at: u64,
        /// Why.
        why: Why,
    },
}

impl End {
    pub(crate) fn whole(length: u64, proof: Proof) -> Self {
        Self::Whole { length, proof }
    }
    pub(crate) fn unfit(good: u64, at: u64, what: &'static str) -> Self {
        Self::Broken { good, at: at.max(good), why: Why::Unfit(what) }
    }
    pub(crate) fn early(good: u64, at: u64) -> Self {
        Self::Broken { good, at: at.max(good), why: Why::EndsEarly }
    }
}

/// What a walk through a file shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Walked {
    /// What it is: told apart further than the first bytes could.
    pub format: Format,
    /// Where the walk ended.
    pub end: End,
    /// When its content was made, as it says itself.
    pub taken: Option<DateTime>,
    /// What its content is called, as it says itself.
    pub title: Option<String>,
    /// Where it ends by its outer structure, although something within does not fit.
    pub reaches: Option<u64>,
}

impl Walked {
    pub(crate) fn of(format: Format, end: End) -> Self {
        Self { format, end, taken: None, title: None, reaches: None }
    }
    /// Enough of it fits to be worth keeping although it is not whole.
    pub fn is_worth_keeping(&self) -> bool {
        match &self.end {
            End::Whole { .. } => true,
            End::Broken { good, why, .. } => {
                !self.format.is_weak() && (*good >= 2048 || matches!(why, Why::NeverClosed(_)))
            }
        }
    }
}

/// The beginning of such a file proves little: only a walk to its end counts.
pub fn is_weak(format: Format) -> bool {
    format.is_weak()
}

/// Walks through a file that begins as `format` does.
pub fn walk(format: Format, tape: &mut Tape<'_>) -> Walked {
    use Format as F;
    let plain = |end| Walked::of(format, end);
    match format {
        F::Jpeg => jpeg::walk(tape, None).0,
        F::Png => plain(png::walk(tape)),
        F::Gif => plain(gif::walk(tape)),
        F::Bmp => plain(bitmap::walk(tape)),
        F::Tiff | F::Cr2 | F::Nef | F::Arw | F::Dng | F::Orf | F::Rw2 | F::Pef => tiff::walk(format, tape),
        F::Heif | F::Avif | F::Mp4 | F::Mov | F::ThreeGp | F::M4a => boxes::walk(format, tape),
        F::Webp | F::Avi | F::Wav => riff::walk(format, tape),
        F::TransportStream => plain(stream::walk(tape)),
        F::Mp3 => plain(audio::mp3(tape)),
        F::Flac => plain(audio::flac(tape)),
        F::Ogg => plain(ogg::walk(tape)),
        F::Matroska | F::Webm => matroska::walk(format, tape),
        F::Pdf => pdf::walk(tape),
        F::Zip | F::Docx | F::Xlsx | F::Pptx | F::Odt | F::Ods | F::Odp | F::Epub => zip::walk(tape),
        F::Doc | F::Xls | F::Ppt | F::Compound => compound::walk(tape),
        F::Sqlite => plain(sqlite::walk(tape)),
        F::SevenZip => plain(zip::seven(tape)),
        F::Gzip => plain(deflate::gzip(tape)),
        F::Rtf => plain(markup::rtf(tape)),
        F::Html | F::Xml | F::Svg => markup::walk(format, tape),
        F::Text | F::Csv => plain(text::walk(tape)),
    }
}

/// A walk that stopped, to be gone on with over other bytes behind the place.
#[derive(Debug, Clone)]
pub struct Resume(Place);

#[derive(Debug, Clone)]
enum Place {
    Jpeg(Box<jpeg::Stand>),
    /// The chunk that begins there.
    Png(u64),
    /// The picture that begins there.
    Gif(u64),
    Film(film::Stand),
}

impl Resume {
    /// It goes on with codes of a picture, which tell soon when they are another's.
    pub fn is_codes(&self) -> bool {
        matches!(self.0, Place::Jpeg(_))
    }
    /// It goes on with samples of a film.
    pub fn is_film(&self) -> bool {
        matches!(self.0, Place::Film(_))
    }
    /// Bytes that were walked.
    pub fn at(&self) -> u64 {
        match &self.0 {
            Place::Jpeg(stand) => stand.at(),
            Place::Png(at) | Place::Gif(at) => *at,
            Place::Film(stand) => stand.at(),
        }
    }
}

/// The same as [`walk`], with the places at which it can be gone on with, one at each multiple of `grid` among the
/// last that were reached; kinds that cannot be gone on with give none.
pub fn walk_with_stands(format: Format, tape: &mut Tape<'_>, grid: u64) -> (Walked, Vec<Resume>) {
    match format {
        Format::Jpeg => {
            let (walked, stands) = jpeg::walk(tape, Some(grid));
            (walked, stands.into_iter().map(|stand| Resume(Place::Jpeg(Box::new(stand)))).collect())
        }
        Format::Png | Format::Gif => {
            let walked = walk(format, tape);
            let place = if format == Format::Png { Place::Png } else { Place::Gif };
            let stands = match walked.end {
                End::Broken { good, .. } if good > 8 => vec![Resume(place(good))],
                _ => Vec::new(),
            };
            (walked, stands)
        }
        film if is_film(film) => {
            let (walked, stands) = boxes::walk_with_stands(film, tape, grid);
            (walked, stands.into_iter().map(|stand| Resume(Place::Film(stand))).collect())
        }
        other => (walk(other, tape), Vec::new()),
    }
}

/// Where the segment of a picture begins that ends at its byte `end`: what is in it was passed over.
pub fn segment_ending_at(format: Format, tape: &mut Tape<'_>, end: u64) -> Option<u64> {
    if format == Format::Jpeg { jpeg::segments::ending_at(tape, end) } else { None }
}

/// In how many segments of a picture what is in them fits.
pub fn segments_that_fit(format: Format, tape: &mut Tape<'_>) -> usize {
    if format == Format::Jpeg { jpeg::segments::that_fit(tape) } else { 0 }
}

/// True for two bytes that can stand behind a segment of a picture.
pub fn can_follow_segment(bytes: &[u8]) -> bool {
    jpeg::segments::can_follow(bytes)
}

/// Bytes at the beginning of a file that breaks which are surely its own, with all that stands in them.
pub fn own_head(format: Format, tape: &mut Tape<'_>) -> u64 {
    if format == Format::Jpeg { jpeg::segments::own(tape) } else { 0 }
}

/// Films whose index may stand behind their data.
fn is_film(format: Format) -> bool {
    matches!(format, Format::Mp4 | Format::Mov | Format::ThreeGp | Format::M4a)
}

/// Where the index of a film should begin that has none where its data ends.
pub fn index_due(format: Format, tape: &mut Tape<'_>) -> Option<u64> {
    if is_film(format) { boxes::index_due(tape) } else { None }
}

/// The index of a film begins here, whose data ends at its byte `due`.
pub fn is_index(tape: &mut Tape<'_>, due: u64) -> bool {
    boxes::is_index(tape, due)
}

/// Goes on with a walk over `tape`, whose first bytes are those that were walked.
pub fn resume(stand: &Resume, tape: &mut Tape<'_>) -> Walked {
    match &stand.0 {
        Place::Jpeg(stand) => jpeg::resume(stand, tape),
        Place::Png(at) => Walked::of(Format::Png, png::walk_from(tape, *at)),
        Place::Gif(at) => Walked::of(Format::Gif, gif::walk_from(tape, *at)),
        Place::Film(stand) => stand.resume(tape),
    }
}
