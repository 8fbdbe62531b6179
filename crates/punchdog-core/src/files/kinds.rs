//! What kind of file these first bytes begin: for judging whether a chain starts where its name
//! says, for naming what has lost its name, and for choosing files by kind.

use file_format::{FileFormat, Kind as FormatKind};

pub use crate::formats::Group;
use crate::{
    arith::{Peek, Sat},
    formats::{self, BEGINNING, Format},
    medium::{Extent, Medium},
};

/// Bytes from the start of a file that suffice here.
pub const ENOUGH: usize = 4096;

/// The shortest line that counts as one.
const LINE: usize = 8;

fn format_of(bytes: &[u8]) -> Option<FileFormat> {
    let format = FileFormat::from_bytes(bytes);
    (!matches!(format, FileFormat::ArbitraryBinaryData | FileFormat::Empty)).then_some(format)
}

/// The usual extension of files that begin like this, in lower case; `None` when the bytes do
/// not tell.
pub fn extension(bytes: &[u8]) -> Option<String> {
    let extension = format_of(bytes)?.extension().to_owned();
    (!extension.is_empty()).then_some(extension)
}

/// The usual extension of the plain text that begins like this.
pub fn text(bytes: &[u8]) -> Option<&'static str> {
    formats::begins(bytes.part(0, BEGINNING)).filter(|format| format.is_text()).map(Format::extension)
}

/// The bytes of a line that stands alone in a cluster, zeros behind it: too short to be known as text by its letters. `start` is
/// what was read of the cluster.
pub fn line(medium: &dyn Medium, cluster: Extent, start: &[u8]) -> Option<u64> {
    let line = beginning_line(start)?;
    let mut at = start.len().wide();
    while at < cluster.length {
        let piece = cluster.length.minus(at).min(1 << 16);
        if medium.lenient(cluster.offset.plus(at), piece.size()).bytes.iter().any(|byte| *byte != 0) {
            return None;
        }
        at = at.plus(piece);
    }
    Some(line)
}

/// The bytes of a line that these begin with, if nothing but zeros follows.
fn beginning_line(bytes: &[u8]) -> Option<u64> {
    let end = bytes.iter().position(|byte| *byte == 0)?;
    let line = std::str::from_utf8(bytes.part(0, end)).ok()?;
    let letters = |c: char| !c.is_control() || matches!(c, '\t' | '\r' | '\n');
    let alone = line.len() >= LINE && line.chars().all(letters);
    (alone && bytes.iter().skip(end).all(|byte| *byte == 0) && format_of(bytes).is_none())
        .then(|| line.len().wide())
}

const SAME: &[(&str, &str)] =
    &[("jpeg", "jpg"), ("jpe", "jpg"), ("tiff", "tif"), ("htm", "html"), ("wave", "wav")];

fn usual(extension: &str) -> String {
    let lower = extension.to_ascii_lowercase();
    SAME.iter().find(|(other, _)| *other == lower).map_or(lower, |(_, usual)| (*usual).to_owned())
}

/// Extensions whose files always begin with a signature, and its first byte.
const SIGNED: &[(&str, &[u8])] = &[
    ("jpg", &[0xFF]),
    ("png", &[0x89]),
    ("gif", b"G"),
    ("bmp", b"B"),
    ("wav", b"R"),
    ("pdf", b"%"),
    ("zip", b"P"),
    ("docx", b"P"),
    ("xlsx", b"P"),
    ("flac", b"f"),
    ("ogg", b"O"),
    ("avi", b"R"),
    ("tif", b"IM"),
];

/// The first bytes that files of this usual extension can have, where they have a signature.
fn first_bytes(usual: &str) -> Option<&'static [u8]> {
    SIGNED.iter().find(|(extension, _)| *extension == usual).map(|(_, first)| *first)
}

/// The usual form of an extension whose files always begin with a signature.
pub fn usual_of(extension: &str) -> Option<String> {
    let usual = usual(extension);
    first_bytes(&usual).map(|_| usual)
}

/// True when a file called `name` begins as such files do; false when it begins as another kind;
/// `None` when the bytes do not tell.
pub fn agrees(name: &str, bytes: &[u8]) -> Option<bool> {
    let (_, claimed) = name.rsplit_once('.')?;
    let claimed = usual(claimed);
    let first = first_bytes(&claimed)?;
    // Most that is asked about begins as nothing of the kind.
    if bytes.first().is_none_or(|byte| !first.contains(byte)) {
        return Some(false);
    }
    match extension(bytes) {
        Some(found) => {
            let packed = matches!(claimed.as_str(), "docx" | "xlsx") && found == "zip";
            Some(usual(&found) == claimed || packed)
        }
        None => Some(false),
    }
}

/// True for names of files that begin with something: a signature, or text.
pub fn begins_with_something(name: &str) -> bool {
    let extension = name.rsplit_once('.').map(|(_, extension)| extension);
    is_text(name)
        || extension.is_some_and(|one| usual_of(one).is_some() || Format::of_extension(one).is_some())
}

/// True for names of files that hold plain text, and so neither zeros nor FF.
pub fn is_text(name: &str) -> bool {
    name.rsplit_once('.').is_some_and(|(_, extension)| {
        matches!(
            usual(extension).as_str(),
            "txt" | "csv" | "log" | "md" | "html" | "xml" | "json" | "ini" | "cfg"
        )
    })
}

/// The group of a file by its name, or by its first bytes where the name does not tell.
pub fn group(name: &str, bytes: &[u8]) -> Group {
    let by_name = name.rsplit_once('.').and_then(|(_, extension)| {
        let known = Format::of_extension(extension).map(Format::group);
        known.or_else(|| match usual(extension).as_str() {
            "raw" => Some(Group::Pictures),
            "aac" | "wma" | "aif" | "aiff" => Some(Group::Sound),
            "m2t" | "mpg" | "wmv" => Some(Group::Video),
            "md" => Some(Group::Documents),
            "tar" | "rar" | "xz" | "bz2" => Some(Group::Archives),
            _ => None,
        })
    });
    by_name.unwrap_or_else(|| match format_of(bytes).map(|format| format.kind()) {
        Some(FormatKind::Image) => Group::Pictures,
        Some(FormatKind::Audio) => Group::Sound,
        Some(FormatKind::Video) => Group::Video,
        Some(
            FormatKind::Document | FormatKind::Spreadsheet | FormatKind::Presentation | FormatKind::Ebook,
        ) => Group::Documents,
        Some(FormatKind::Archive | FormatKind::Compressed) => Group::Archives,
        _ => Group::Other,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_first_bytes_are_held_together() {
        let jpeg = [0xFF, 0xD8, 0xFF, 0xE0, 0, 16, b'J', b'F', b'I', b'F', 0, 1];
        assert_eq!(agrees("a.JPG", &jpeg), Some(true));
        assert_eq!(agrees("a.jpeg", &jpeg), Some(true));
        assert_eq!(agrees("a.png", &jpeg), Some(false));
        assert_eq!(agrees("a.jpg", &[0; 64]), Some(false));
        assert_eq!(agrees("a.bin", &jpeg), None);
        assert_eq!(group("x", &jpeg), Group::Pictures);
        assert_eq!(group("tide.csv", b""), Group::Documents);
    }
}
