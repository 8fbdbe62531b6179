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
//! each byte of a range is the old one or the new one.

use crate::{
    arith::{Peek, Sat},
    medium::Extent,
};
use serde::{Deserialize, Serialize};

const MAGIC: [u8; 8] = *b"PDUNDO\0\x01";
/// The name and version in the header.
pub const SCHEMA: &str = "punchdog.undo/1";

/// What the header says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Header {
    /// [`SCHEMA`].
    pub schema: String,
    /// Bytes in the image, and so in the copy.
    pub bytes: u64,
    /// The seal of the plan that is being applied.
    pub seal: String,
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

/// A whole journal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Journal {
    /// Its header.
    pub header: Header,
    /// Its ranges, in order.
    pub records: Vec<Record>,
}

impl Journal {
    /// The journal as a file.
    pub fn encode(&self) -> Vec<u8> {
        let header = serde_json::to_vec(&self.header).unwrap_or_default();
        let mut bytes = MAGIC.to_vec();
        bytes.extend(header.len().narrow().to_le_bytes());
        bytes.extend(header);
        for record in &self.records {
            bytes.extend(record.offset.to_le_bytes());
            bytes.extend(record.old.len().wide().to_le_bytes());
            bytes.extend(&record.old);
            bytes.extend(&record.new);
        }
        let sum = crc32fast::hash(&bytes);
        bytes.extend(sum.to_le_bytes());
        bytes
    }

    /// Reads a journal; `None` when it is none, or not whole.
    pub fn decode(bytes: &[u8]) -> Option<Self> {
        let body = bytes.get(..bytes.len().checked_sub(4)?)?;
        if !body.starts_with(&MAGIC) || crc32fast::hash(body) != bytes.le32(body.len()) {
            return None;
        }
        let length = body.le32(8).size();
        let header: Header = serde_json::from_slice(body.get(12..12_usize.plus(length))?).ok()?;
        let mut at = 12_usize.plus(length);
        let mut records = Vec::new();
        while at < body.len() {
            let (offset, length) = (body.le64(at), body.le64(at.plus(8)).size());
            let old = body.get(at.plus(16)..at.plus(16).plus(length))?.to_vec();
            let new = body.get(at.plus(16).plus(length)..at.plus(16).plus(length.times(2)))?.to_vec();
            records.push(Record { offset, old, new });
            at = at.plus(16).plus(length.times(2));
        }
        (header.schema == SCHEMA).then_some(Self { header, records })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_flipped_bit_and_any_cut_is_noticed() {
        let journal = Journal {
            header: Header { schema: SCHEMA.into(), bytes: 4096, seal: "ab".into() },
            records: vec![
                Record { offset: 7, old: vec![1, 2, 3], new: vec![4, 5, 6] },
                Record { offset: 99, old: vec![0; 40], new: vec![9; 40] },
            ],
        };
        let bytes = journal.encode();
        assert_eq!(Journal::decode(&bytes), Some(journal));
        for at in 0..bytes.len() {
            let mut flipped = bytes.clone();
            flipped[at] ^= 0x10;
            assert_eq!(Journal::decode(&flipped), None, "flip at {at}");
            assert_eq!(Journal::decode(&bytes[..at]), None, "cut at {at}");
        }
    }
}
