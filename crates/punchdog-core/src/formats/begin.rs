//! What begins here, by the first bytes.

use super::{Format, boxes, text};
use crate::arith::Peek;

/// Bytes that suffice.
pub const BEGINNING: usize = 512;

/// Marks that stand at the very beginning.
const MARKS: [(&[u8], Format); 17] = [
    (&[0xFF, 0xD8, 0xFF], Format::Jpeg),
    (b"\x89PNG\r\n\x1A\n", Format::Png),
    (b"GIF87a", Format::Gif),
    (b"GIF89a", Format::Gif),
    (b"II*\0", Format::Tiff),
    (b"MM\0*", Format::Tiff),
    (b"IIRO", Format::Orf),
    (b"IIRS", Format::Orf),
    (b"IIU\0", Format::Rw2),
    (b"fLaC\0\0\0", Format::Flac),
    (b"OggS\0\x02", Format::Ogg),
    (b"%PDF-1.", Format::Pdf),
    (b"%PDF-2.", Format::Pdf),
    (b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1", Format::Compound),
    (b"SQLite format 3\0", Format::Sqlite),
    (b"7z\xBC\xAF\x27\x1C", Format::SevenZip),
    (b"{\\rtf1", Format::Rtf),
];

/// The kind of file that these bytes begin, if they begin one; [`BEGINNING`] bytes, or all there are.
pub fn begins(bytes: &[u8]) -> Option<Format> {
    // Most sectors begin nothing, and most of those that do say so in their first byte.
    let first = bytes.byte(0);
    if first == 0 && bytes.part(4, 4) != b"ftyp" {
        return timed_stream(bytes).then_some(Format::TransportStream);
    }
    if let Some((_, format)) = MARKS.iter().find(|(mark, _)| bytes.starts_with(mark)) {
        let right = match format {
            // A segment or a table follows.
            Format::Jpeg => matches!(bytes.byte(3), 0xC0..=0xC2 | 0xC4 | 0xDB | 0xDD | 0xE0..=0xEF | 0xFE),
            Format::Png => bytes.part(12, 4) == b"IHDR",
            _ => true,
        };
        return right.then_some(*format);
    }
    if bytes.part(4, 4) == b"ftyp" {
        let length = bytes.be32(0);
        let right = (16..=1024).contains(&length) || length == 8;
        return boxes::of_brand(bytes.part(8, 4)).filter(|_| right);
    }
    match first {
        b'R' if bytes.starts_with(b"RIFF") => match bytes.part(8, 4) {
            b"WAVE" => Some(Format::Wav),
            b"AVI " => Some(Format::Avi),
            b"WEBP" => Some(Format::Webp),
            _ => None,
        },
        b'P' if bytes.starts_with(b"PK\x03\x04") => {
            (bytes.le16(26) > 0 && bytes.le16(4) < 100).then_some(Format::Zip)
        }
        // An archive with nothing in it.
        b'P' if bytes.starts_with(b"PK\x05\x06") && bytes.part(4, 16).iter().all(|byte| *byte == 0) => {
            Some(Format::Zip)
        }
        b'B' if bytes.starts_with(b"BM") && bytes.le32(6) == 0 && bytes.le16(26) == 1 => Some(Format::Bmp),
        b'I' if bytes.starts_with(b"ID3")
            && bytes.byte(3) < 5
            && bytes.part(6, 4).iter().all(|b| *b < 0x80) =>
        {
            Some(Format::Mp3)
        }
        0x1F if bytes.starts_with(&[0x1F, 0x8B, 8]) && bytes.byte(3) & 0xE0 == 0 => Some(Format::Gzip),
        0x1A if bytes.starts_with(&[0x1A, 0x45, 0xDF, 0xA3]) => Some(Format::Matroska),
        0x47 if stream(bytes, 0, 188) => Some(Format::TransportStream),
        0xFF if bytes.byte(1) & 0xE0 == 0xE0 && sound(bytes) => Some(Format::Mp3),
        _ if timed_stream(bytes) => Some(Format::TransportStream),
        // A film of an older camera: the data box, or an index first.
        _ if matches!(bytes.part(4, 4), b"moov" | b"mdat" | b"wide")
            && (bytes.part(12, 4) == b"mvhd" || matches!(bytes.part(12, 4), b"mdat" | b"moov")) =>
        {
            Some(Format::Mov)
        }
        _ => words(bytes),
    }
}

fn stream(bytes: &[u8], skip: usize, each: usize) -> bool {
    bytes.len() >= BEGINNING
        && bytes.part(0, BEGINNING).iter().skip(skip).step_by(each).all(|byte| *byte == 0x47)
}

fn timed_stream(bytes: &[u8]) -> bool {
    bytes.byte(4) == 0x47 && stream(bytes, 4, 192)
}

/// MPEG sound without a tag: layer 3, and a rate and samples that exist.
fn sound(bytes: &[u8]) -> bool {
    let head = bytes.be32(0);
    head >> 17 & 3 == 1 && head >> 19 & 3 != 1 && !matches!(head >> 12 & 15, 0 | 15) && head >> 10 & 3 != 3
}

/// Texts, with marks or plain.
fn words(bytes: &[u8]) -> Option<Format> {
    let plain = text::begins(bytes)?;
    let start = bytes.strip_prefix(&[0xEF, 0xBB, 0xBF]).unwrap_or(bytes).trim_ascii_start();
    let begins = |word: &[u8]| start.get(..word.len()).is_some_and(|own| own.eq_ignore_ascii_case(word));
    Some(match () {
        () if begins(b"<!doctype html") || begins(b"<html") => Format::Html,
        () if begins(b"<?xml") => Format::Xml,
        () if begins(b"<svg") => Format::Svg,
        () => plain,
    })
}
