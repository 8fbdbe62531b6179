//! The GUID partition table: a header and entries behind sector 0, and both again at the end.

use super::layout::{GptEntry, GptHeader};
use crate::{
    arith::Sat,
    medium::{Extent, Medium},
};
use zerocopy::{FromBytes, IntoBytes};

/// Bytes of entries that are read at most: 1024 entries of 128 bytes; usual are 128.
const MOST: u64 = 128 * 1024;

/// One of the two copies of a GPT, whole: header and entries have the checksums they should.
#[derive(Debug, Clone)]
pub struct Copy {
    /// The header.
    pub header: GptHeader,
    /// Where the header stands: bytes from the start of the disk.
    pub at: u64,
    /// Bytes in a sector of the disk.
    pub sector: u64,
    /// The bytes of all entries.
    pub entries: Vec<u8>,
}

/// A volume that a GPT lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its number, from 0.
    pub number: usize,
    /// Its type GUID, in the order of the disk.
    pub kind: [u8; 16],
    /// Where it lies, in bytes.
    pub extent: Extent,
    /// Its name.
    pub name: String,
}

/// The checksum of a header, computed over its bytes with the checksum field zero.
pub fn header_crc(header: &GptHeader) -> u32 {
    let zeroed = GptHeader { header_crc: 0.into(), ..*header };
    crc32fast::hash(zeroed.as_bytes())
}

impl Copy {
    /// The copy whose header stands at sector `lba`, if it is whole.
    pub fn read(medium: &dyn Medium, lba: u64, sector: u64) -> Option<Self> {
        let at = lba.times(sector);
        let bytes = medium.bytes(at, 92).ok()?;
        let (header, _) = GptHeader::read_from_prefix(&bytes).ok()?;
        let whole = &header.signature == b"EFI PART"
            && header.header_size.get() == 92
            && header.my_lba.get() == lba
            && header.header_crc.get() == header_crc(&header)
            && header.entry_bytes.get() == 128;
        let length = u64::from(header.entries.get()).times(128);
        if !whole || length > MOST {
            return None;
        }
        let entries = medium.bytes(header.entries_lba.get().times(sector), length.size()).ok()?;
        (crc32fast::hash(&entries) == header.entries_crc.get()).then_some(Self {
            header,
            at,
            sector,
            entries,
        })
    }

    /// The volumes it lists.
    pub fn listed(&self) -> Vec<Listed> {
        let mut found = Vec::new();
        for (number, raw) in self.entries.chunks_exact(128).enumerate() {
            let Ok((entry, _)) = GptEntry::read_from_prefix(raw) else { break };
            if entry.kind != [0; 16] {
                let (first, last) = (entry.first.get(), entry.last.get());
                let extent =
                    Extent::new(first.times(self.sector), last.minus(first).plus(1).times(self.sector));
                let units = entry.name.chunks_exact(2).map(|pair| match pair {
                    [low, high] => u16::from_le_bytes([*low, *high]),
                    _ => 0,
                });
                let units = units.take_while(|unit| *unit != 0);
                let name =
                    char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
                found.push(Listed { number, kind: entry.kind, extent, name });
            }
        }
        found
    }
}

/// The two copies of the GPT of a disk, each where it is whole; for 512- and 4096-byte sectors.
pub fn copies(medium: &dyn Medium) -> (Option<Copy>, Option<Copy>) {
    for sector in [512, 4096] {
        let primary = Copy::read(medium, 1, sector);
        let last = medium.len().per(sector).minus(1);
        let pointed = primary.as_ref().map_or(last, |copy| copy.header.alternate_lba.get());
        let backup = Copy::read(medium, last, sector).or_else(|| Copy::read(medium, pointed, sector));
        if primary.is_some() || backup.is_some() {
            return (primary, backup);
        }
    }
    (None, None)
}
