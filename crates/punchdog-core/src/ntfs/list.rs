//! `$ATTRIBUTE_LIST`: in which records the attributes of a file stand.
//!
//! ```text
//! 0 type   4 length   6 name length   7 name offset   8 first VCN   16 record   24 id   26 name
//! ```

use crate::arith::{Peek, Sat};

/// Bytes of an entry before its name.
pub const HEAD: usize = 26;

/// One entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry<'l> {
    /// The type of the attribute.
    pub kind: u32,
    /// Its name in UTF-16, as bytes.
    pub name: &'l [u8],
    /// Its first VCN.
    pub first_vcn: u64,
    /// The reference to the record that it stands in.
    pub reference: u64,
    /// Its id there.
    pub id: u16,
    /// Where the entry stands in the list.
    pub at: usize,
}

/// The entries of a list, as far as they can be read.
pub fn entries(list: &[u8]) -> impl Iterator<Item = Entry<'_>> {
    let mut at = 0_usize;
    std::iter::from_fn(move || {
        let length = usize::from(list.le16(at.plus(4)));
        if at.plus(HEAD) > list.len() || length < HEAD || length.rest(8) != 0 || at.plus(length) > list.len()
        {
            return None;
        }
        let entry = list.part(at, length);
        let name = entry.part(usize::from(entry.byte(7)), usize::from(entry.byte(6)).times(2));
        let found = Entry {
            kind: entry.le32(0),
            name,
            first_vcn: entry.le64(8),
            reference: entry.le64(16),
            id: entry.le16(24),
            at,
        };
        at = at.plus(length);
        Some(found)
    })
}

/// The entries as bytes.
pub fn bytes(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut all = Vec::new();
    for entry in entries {
        let mut bytes = vec![0; super::build::aligned(HEAD.plus(entry.name.len()))];
        let length = u16::try_from(bytes.len()).unwrap_or(0);
        super::layout::put(&mut bytes, 0, &entry.kind.to_le_bytes());
        super::layout::put(&mut bytes, 4, &length.to_le_bytes());
        super::layout::put(&mut bytes, 6, &[u8::try_from(entry.name.len().per(2)).unwrap_or(0), 26]);
        super::layout::put(&mut bytes, 8, &entry.first_vcn.to_le_bytes());
        super::layout::put(&mut bytes, 16, &entry.reference.to_le_bytes());
        super::layout::put(&mut bytes, 24, &entry.id.to_le_bytes());
        super::layout::put(&mut bytes, HEAD, entry.name);
        all.extend(bytes);
    }
    all
}
