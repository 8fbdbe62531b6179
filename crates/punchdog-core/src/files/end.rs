//! Where a file ends, told by its own structure.
//!
//! A chain that lost its name lost its length too: what stands in its last cluster behind the file is of an
//! older one. Many kinds say themselves how long they are:
//!
//! ```text
//! RIFF (WAV, AVI, WebP)   bytes 4 to 7: length of what follows them
//! PNG                     chunks: 4 length, 4 type, data, 4 checksum; the last is IEND
//! BMP                     bytes 2 to 5: length
//! MP4, MOV, HEIC          boxes: 4 length (1: 8 more behind the type), 4 type
//! ZIP (DOCX, XLSX, ODT)   the end record PK 05 06, 22 bytes and a comment
//! PDF                     %%EOF and the end of its line
//! JPEG                    the marker FF D9
//! plain text              no byte of value 0 in it, and nothing else behind it
//! ```

use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
};

/// Looks at a piece of content that walking through a file's parts may cost.
const LOOKS: usize = 4_000_000;
/// Bytes of the last cluster that are looked through.
const TAIL: u64 = 1 << 20;

/// Content that lies in these ranges of a medium, read as one.
struct Content<'a> {
    medium: &'a dyn Medium,
    extents: &'a [Extent],
    length: u64,
}

impl Content<'_> {
    /// Parts that are walked through at most: to find one costs a look at each piece before it.
    fn parts(&self) -> usize {
        LOOKS.per(self.extents.len().max(1)).min(100_000)
    }

    /// At most `length` bytes from `at` on.
    fn read(&self, at: u64, length: usize) -> Vec<u8> {
        let mut bytes = Vec::new();
        let mut before = 0_u64;
        for extent in self.extents {
            let from = at.plus(bytes.len().wide());
            if bytes.len() >= length {
                break;
            }
            if from < before.plus(extent.length) && from >= before {
                let offset = extent.offset.plus(from.minus(before));
                let take = extent.end().minus(offset).min(length.minus(bytes.len()).wide());
                bytes.extend(self.medium.lenient(offset, take.size()).bytes);
            }
            before = before.plus(extent.length);
        }
        bytes
    }
}

/// The length of the file whose content begins in these ranges and ends in their last `cluster` bytes;
/// `None` where its kind does not tell, or tells of another end.
pub(crate) fn length(medium: &dyn Medium, extents: &[Extent], cluster: u64) -> Option<u64> {
    let room = extents.iter().fold(0_u64, |sum, extent| sum.plus(extent.length));
    let content = Content { medium, extents, length: room };
    let start = content.read(0, 64);
    let found = if start.starts_with(b"RIFF") {
        Some(u64::from(start.le32(4)).plus(8))
    } else if start.starts_with(b"\x89PNG\r\n\x1A\n") {
        png(&content)
    } else if start.starts_with(b"BM") {
        Some(u64::from(start.le32(2)))
    } else if start.part(4, 4) == b"ftyp" {
        boxes(&content)
    } else if start.starts_with(b"PK\x03\x04") {
        in_tail(&content, cluster, b"PK\x05\x06")
            .map(|(at, bytes)| at.plus(22).plus(u64::from(bytes.le16(20))))
    } else if start.starts_with(b"%PDF") {
        in_tail(&content, cluster, b"%%EOF").map(|(at, bytes)| {
            let end = bytes.part(5, 2);
            at.plus(5).plus(end.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count().wide())
        })
    } else if start.starts_with(&[0xFF, 0xD8, 0xFF]) {
        in_tail(&content, cluster, &[0xFF, 0xD9]).map(|(at, _)| at.plus(2))
    } else {
        text(&content, &start, cluster)
    };
    found.filter(|length| *length <= room && *length > room.minus(cluster))
}

/// A number whose first byte is its highest.
fn big(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0, |sum, byte| sum.times(256).plus(u64::from(*byte)))
}

fn png(content: &Content<'_>) -> Option<u64> {
    let mut at = 8_u64;
    for _ in 0..content.parts() {
        let head = content.read(at, 8);
        let length = big(head.get(..4)?);
        at = at.plus(length).plus(12);
        if head.part(4, 4) == b"IEND" {
            return Some(at);
        }
        if at >= content.length {
            return None;
        }
    }
    None
}

fn boxes(content: &Content<'_>) -> Option<u64> {
    let mut at = 0_u64;
    for _ in 0..content.parts() {
        let head = content.read(at, 16);
        let named = head.part(4, 4).iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b' ');
        if head.len() < 8 || !named {
            break;
        }
        let length = match big(head.get(..4)?) {
            1 => big(head.get(8..16)?),
            length => length,
        };
        if length < 8 || at.plus(length) > content.length {
            break;
        }
        at = at.plus(length);
    }
    (at > 0).then_some(at)
}

/// Where `mark` stands first in the last cluster, with the bytes from there on.
fn in_tail(content: &Content<'_>, cluster: u64, mark: &[u8]) -> Option<(u64, Vec<u8>)> {
    let from = content.length.minus(cluster.min(TAIL));
    // The mark may begin in the cluster before.
    let from = from.minus(mark.len().wide());
    let bytes = content.read(from, content.length.minus(from).size());
    let at = bytes.windows(mark.len()).position(|piece| piece == mark)?;
    Some((from.plus(at.wide()), bytes.get(at..)?.to_vec()))
}

/// Text ends where the zeros begin that fill its last cluster.
fn text(content: &Content<'_>, start: &[u8], cluster: u64) -> Option<u64> {
    let plain = |bytes: &[u8]| {
        let control = |byte: &u8| *byte < 0x20 && !matches!(byte, b'\t' | b'\r' | b'\n' | 0x0C);
        // The last character may be cut.
        let valid = match std::str::from_utf8(bytes) {
            Ok(_) => true,
            Err(error) => error.error_len().is_none(),
        };
        !bytes.is_empty() && valid && !bytes.iter().any(control)
    };
    let from = content.length.minus(cluster.min(TAIL));
    let last = content.read(from, content.length.minus(from).size());
    let end = last.iter().position(|byte| *byte == 0).unwrap_or(last.len());
    let (words, rest) = last.split_at_checked(end)?;
    let start = start.split(|byte| *byte == 0).next().unwrap_or(&[]);
    // The seam between clusters may cut a character.
    let words =
        words.iter().position(|byte| byte & 0xC0 != 0x80).and_then(|at| words.get(at..)).unwrap_or(&[]);
    (plain(start) && plain(words) && rest.iter().all(|byte| *byte == 0)).then(|| from.plus(end.wide()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    /// The length that is found for `file` in clusters of 512 bytes with `slack` behind it, in two pieces.
    fn found(file: &[u8], slack: u8) -> Option<u64> {
        let room = file.len().next_multiple_of(512);
        let mut bytes = vec![slack; room + 2048];
        bytes[..512].copy_from_slice(&file[..512]);
        bytes[1024..1024 + file.len() - 512].copy_from_slice(&file[512..]);
        let extents = [Extent::new(0, 512), Extent::new(1024, room as u64 - 512)];
        length(&Memory::new(bytes), &extents, 512)
    }

    #[test]
    fn each_kind_tells_its_end() {
        let body = vec![0x41; 900];
        let mut riff = b"RIFF".to_vec();
        riff.extend(892_u32.to_le_bytes());
        riff.extend(&body[8..]);
        let mut png = b"\x89PNG\r\n\x1A\n".to_vec();
        for (kind, length) in [(b"IHDR", 13_usize), (b"IDAT", 700), (b"IEND", 0)] {
            png.extend([0, 0, u8::try_from(length >> 8).unwrap(), u8::try_from(length & 0xFF).unwrap()]);
            png.extend(kind);
            png.extend(vec![9; length + 4]);
        }
        let mut mp4 = vec![0, 0, 0, 20];
        mp4.extend(b"ftypisom");
        mp4.extend([0; 8]);
        mp4.extend([0, 0, 2, 188]);
        mp4.extend(b"mdat");
        mp4.extend(vec![7; 692]);
        let zip = [b"PK\x03\x04".as_slice(), &body, b"PK\x05\x06", &[0; 16], &[3, 0], b"abc"].concat();
        let pdf = [b"%PDF-1.7\n".as_slice(), &body, b"%%EOF\r\n"].concat();
        let jpeg = [&[0xFF, 0xD8, 0xFF, 0xE1][..], &body, &[0xFF, 0xD9]].concat();
        for file in [riff, png, mp4, zip, pdf, jpeg] {
            assert_eq!(found(&file, 0xEE), Some(file.len() as u64), "{:?}", &file[..8]);
        }
        let text = "Möwen auf Sims 9\r\n".repeat(40);
        assert_eq!(found(text.as_bytes(), 0), Some(text.len() as u64));
        assert_eq!(found(text.as_bytes(), 0xEE), None, "something stands behind it");
        assert_eq!(found(&[0x90; 700], 0), None);
    }
}
