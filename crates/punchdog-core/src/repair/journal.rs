//! The undo journal: for each range that apply changes, the old bytes and the new ones.
//!
//! ```text
//!  0   8  "PDUNDO\0\1"
//!  8   4  length of the header, bytes, little-endian
//! 12   n  header, JSON: schema, image length, seal of the plan
//!  …   per range:  8 offset   8 length   length bytes old   length bytes new
//!  …   4  CRC-32 of everything before
//! ```
//!
//! The journal is written once and never changed. How far an apply got can be seen from the copy:
//! each byte of a range is the old one or the new one. A long change is several ranges of at most
//! 1 MiB, so that neither writing nor reading a journal takes memory for it.

use crate::{
    arith::{Peek, Sat},
    medium::{self, Extent, Medium, MediumError},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::io;

const MAGIC: [u8; 8] = *b"PDUNDO\0\x01";
/// The name and version in the header.
pub const SCHEMA: &str = "punchdog.undo/1";
/// Bytes of one range at most.
const RANGE: u64 = 1 << 20;
/// Bytes of a header at most: room for more than a million places that could not be read.
const HEADER: u64 = 1 << 26;

/// Bytes of a copy that are looked at for whether they are still zeros, and their steps.
const READ: u64 = 256 << 20;
const SECTOR: usize = 512;

/// What the header says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Header {
    /// [`SCHEMA`].
    #[schemars(extend("const" = "punchdog.undo/1"))]
    pub schema: String,
    /// Bytes in the image, and so in the copy.
    pub bytes: u64,
    /// The seal of the plan that is being applied.
    pub seal: String,
    /// Ranges of the image that could not be read: old bytes there are zeros.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unread: Vec<Extent>,
}

/// One range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    /// Bytes from the start of the copy.
    pub offset: u64,
    /// What stands in the image.
    pub old: Vec<u8>,
    /// What shall stand in the copy; as long as `old`.
    pub new: Vec<u8>,
}

impl Record {
    /// The range.
    pub fn extent(&self) -> Extent {
        Extent::new(self.offset, self.old.len().wide())
    }
    /// True when each of `bytes` is the old or the new one.
    pub fn explains(&self, bytes: &[u8]) -> bool {
        bytes.len() == self.old.len()
            && bytes
                .iter()
                .zip(self.old.iter().zip(&self.new))
                .all(|(byte, (old, new))| byte == old || byte == new)
    }
}

/// Writes and sums up.
struct Summing<'w> {
    out: &'w mut dyn io::Write,
    sum: crc32fast::Hasher,
}

impl Summing<'_> {
    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.sum.update(bytes);
        self.out.write_all(bytes)
    }
}

/// Writes the journal for changing `old` into `new` in these ranges.
pub fn write(
    out: &mut dyn io::Write,
    header: &Header,
    ranges: &[Extent],
    old: &dyn Medium,
    new: &dyn Medium,
) -> io::Result<()> {
    let mut out = Summing { out, sum: crc32fast::Hasher::new() };
    let head = serde_json::to_vec(header)?;
    if head.len().wide() > HEADER {
        return Err(io::Error::other("too many places could not be read for one journal"));
    }
    out.put(&MAGIC)?;
    out.put(&head.len().narrow().to_le_bytes())?;
    out.put(&head)?;
    for range in ranges {
        let mut at = range.offset;
        while at < range.end() {
            let length = range.end().minus(at).min(RANGE);
            out.put(&at.to_le_bytes())?;
            out.put(&length.to_le_bytes())?;
            out.put(&old.bytes(at, length.size()).map_err(io::Error::other)?)?;
            out.put(&new.bytes(at, length.size()).map_err(io::Error::other)?)?;
            at = at.plus(length);
        }
    }
    let sum = out.sum.clone().finalize();
    out.out.write_all(&sum.to_le_bytes())
}

/// The header of a journal and where its ranges begin, by its first bytes alone.
fn head(medium: &dyn Medium) -> Option<(Header, u64)> {
    let start = medium.lenient(0, 12).bytes;
    let length = u64::from(start.le32(8));
    if !start.starts_with(&MAGIC) || length > HEADER || length.plus(16) > medium.len() {
        return None;
    }
    let header: Header = serde_json::from_slice(&medium.bytes(12, length.size()).ok()?).ok()?;
    (header.schema == SCHEMA).then_some((header, length.plus(12)))
}

/// The ranges of a journal and where the old bytes of each stand in it; `None` where they do not come to its end.
fn ranges(medium: &dyn Medium, from: u64) -> Option<Vec<(Extent, u64)>> {
    let end = medium.len().minus(4);
    let mut found = Vec::new();
    let mut at = from;
    while at < end {
        let head = medium.lenient(at, 16).bytes;
        let (extent, old) = (Extent::new(head.le64(0), head.le64(8)), at.plus(16));
        at = old.plus(extent.length.times(2));
        if at > end {
            return None;
        }
        found.push((extent, old));
    }
    Some(found)
}

/// What of `copy` still has zeros for what could not be read from the image that it was made of, by the journal that lies
/// beside it. Nothing where that is of another copy, or no journal.
pub fn lost(journal: &dyn Medium, copy: &dyn Medium) -> Vec<Extent> {
    let Some((header, from)) = head(journal).filter(|(header, _)| header.bytes == copy.len()) else {
        return Vec::new();
    };
    if header.unread.is_empty() {
        return Vec::new();
    }
    let Some(written) = ranges(journal, from) else { return Vec::new() };
    let written = written.into_iter().map(|(extent, _)| extent).collect();
    let mut left = READ;
    let mut still = Vec::new();
    for place in medium::without(header.unread, written) {
        let mut at = place.offset;
        // What somebody wrote there since is there.
        while let Some(piece) = copy.piece_from(at, place.end()).filter(|_| left > 0) {
            still.push(Extent::new(at, piece.offset.minus(at)));
            left = left.minus(piece.length);
            let bytes = copy.lenient(piece.offset, piece.length.size()).bytes;
            let sectors = (0_u64..)
                .map(|sector| piece.offset.plus(sector.times(SECTOR.wide())))
                .zip(bytes.chunks(SECTOR));
            let blank = sectors.filter(|(_, sector)| sector.iter().all(|byte| *byte == 0));
            still.extend(blank.map(|(at, sector)| Extent::new(at, sector.len().wide())));
            at = piece.end();
        }
        still.push(Extent::new(at, place.end().minus(at)));
    }
    medium::without(still, Vec::new())
}

/// A whole journal, of which the ranges are read one by one.
pub struct Journal {
    medium: Box<dyn Medium>,
    /// Its header.
    pub header: Header,
    /// Where each range lies in the copy, and where its old bytes stand in the journal.
    ranges: Vec<(Extent, u64)>,
}

impl Journal {
    /// Opens a journal; `None` when it is none, or not whole.
    pub fn open(medium: Box<dyn Medium>) -> Result<Option<Self>, MediumError> {
        let Some((header, from)) = head(&*medium) else { return Ok(None) };
        let end = medium.len().minus(4);
        let mut sum = crc32fast::Hasher::new();
        let mut at = 0;
        while at < end {
            let piece = medium.bytes(at, end.minus(at).min(RANGE).size())?;
            sum.update(&piece);
            at = at.plus(piece.len().wide());
        }
        if sum.finalize() != medium.bytes(end, 4)?.le32(0) {
            return Ok(None);
        }
        let ranges = ranges(&*medium, from);
        Ok(ranges.map(|ranges| Self { medium, header, ranges }))
    }

    /// How many ranges it has.
    pub fn len(&self) -> usize {
        self.ranges.len()
    }

    /// True for a journal that changes nothing.
    pub fn is_empty(&self) -> bool {
        self.ranges.is_empty()
    }

    /// Its ranges, in order, each read when it is asked for.
    pub fn records(&self) -> impl Iterator<Item = Result<Record, MediumError>> + '_ {
        self.ranges.iter().map(|(extent, old)| {
            Ok(Record {
                offset: extent.offset,
                old: self.medium.bytes(*old, extent.length.size())?,
                new: self.medium.bytes(old.plus(extent.length), extent.length.size())?,
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::{Memory, Overlay};

    #[test]
    fn any_flipped_bit_and_any_cut_is_noticed() {
        let base = Memory::new((0..=255).cycle().take(3 << 20).collect());
        let mut overlay = Overlay::new(&base);
        overlay.write_at(7, &[4, 5, 6]).unwrap();
        overlay.write_at(999, &[9; 40]).unwrap();
        let header = Header {
            schema: SCHEMA.into(),
            bytes: 3 << 20,
            seal: "ab".into(),
            unread: vec![Extent::new(7, 9)],
        };
        let mut bytes = Vec::new();
        write(&mut bytes, &header, &overlay.changed(), &base, &overlay).unwrap();
        let open = |bytes: &[u8]| Journal::open(Box::new(Memory::new(bytes.to_vec()))).unwrap();
        let journal = open(&bytes).unwrap();
        assert_eq!(journal.header, header);
        let records: Vec<Record> = journal.records().map(Result::unwrap).collect();
        assert_eq!(records[0], Record { offset: 7, old: vec![7, 8, 9], new: vec![4, 5, 6] });
        assert_eq!(records[1].new, vec![9; 40]);
        for at in 0..bytes.len() {
            let mut flipped = bytes.clone();
            flipped[at] ^= 0x10;
            assert!(open(&flipped).is_none(), "flip at {at}");
            assert!(open(&bytes[..at]).is_none(), "cut at {at}");
        }
    }

    #[test]
    fn a_medium_may_fail_in_as_many_places_as_it_likes() {
        let base = Memory::new(vec![0; 1 << 20]);
        let unread = (0..20_000).map(|number| Extent::new(number * 52, 9)).collect();
        let header = Header { schema: SCHEMA.into(), bytes: 1 << 20, seal: String::new(), unread };
        let mut bytes = Vec::new();
        write(&mut bytes, &header, &[], &base, &base).unwrap();
        assert_eq!(Journal::open(Box::new(Memory::new(bytes))).unwrap().unwrap().header, header);
    }

    #[test]
    fn what_a_copy_lacks_is_what_nobody_wrote_since() {
        let base = Memory::new(vec![0; 1 << 20]);
        let mut overlay = Overlay::new(&base);
        overlay.write_at(8192, &[1; 1024]).unwrap();
        let header = Header {
            schema: SCHEMA.into(),
            bytes: 1 << 20,
            seal: String::new(),
            unread: vec![Extent::new(4096, 8192), Extent::new(65_536, 512)],
        };
        let mut journal = Vec::new();
        write(&mut journal, &header, &overlay.changed(), &base, &overlay).unwrap();
        let journal = Memory::new(journal);
        let mut copy = vec![0; 1 << 20];
        copy[8192..9216].fill(1);
        copy[5000] = 7;
        let places = [(4096, 512), (5120, 3072), (9216, 3072), (65_536, 512)];
        let expected = places.map(|(offset, length)| Extent::new(offset, length));
        assert_eq!(lost(&journal, &Memory::new(copy.clone())), expected);
        copy.pop();
        assert_eq!(lost(&journal, &Memory::new(copy)), [], "of another length");
    }

    #[test]
    fn a_long_change_is_several_ranges() {
        let base = Memory::new(vec![1; 3 << 20]);
        let mut overlay = Overlay::new(&base);
        overlay.write_at(5, &vec![2; (2 << 20) + 9]).unwrap();
        let header =
            Header { schema: SCHEMA.into(), bytes: 3 << 20, seal: String::new(), unread: Vec::new() };
        let mut bytes = Vec::new();
        write(&mut bytes, &header, &overlay.changed(), &base, &overlay).unwrap();
        let journal = Journal::open(Box::new(Memory::new(bytes))).unwrap().unwrap();
        let lengths: Vec<u64> = journal.records().map(|r| r.unwrap().extent().length).collect();
        assert_eq!(lengths, [RANGE, RANGE, 9]);
    }
}
