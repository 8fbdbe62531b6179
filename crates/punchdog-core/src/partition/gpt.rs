//! The GUID partition table: a header and entries behind sector 0, and both again at the end.

use super::{
    layout::{BASIC_DATA, GptEntry, GptHeader},
    mbr,
};
use crate::{
    arith::Sat,
    medium::{Extent, Medium},
};
use sha2::{Digest, Sha256};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

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
    /// Its attributes, bit by bit.
    pub attributes: u64,
}

/// Bytes of an entry.
const ENTRY: u64 = 128;

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

    /// Where entry `number` stands: bytes from the start of the disk.
    pub fn entry_place(&self, number: usize) -> u64 {
        self.header.entries_lba.get().times(self.sector).plus(number.wide().times(ENTRY))
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
                let attributes = entry.attributes.get();
                found.push(Listed { number, kind: entry.kind, extent, name, attributes });
            }
        }
        found
    }
}

/// The two copies of the GPT of a disk, each where it is whole; for sectors of each size.
pub fn copies(medium: &dyn Medium) -> (Option<Copy>, Option<Copy>) {
    for sector in [mbr::SECTOR].into_iter().chain(mbr::LARGE) {
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

/// Sectors that 128 entries of 128 bytes take, with the header before them.
fn reserved(sector: u64) -> u64 {
    (128_u64 * 128).per_up(sector).plus(1)
}

/// The bytes of both copies of a GPT with these entries, each with its place; `None` where the disk has no
/// room for them.
pub fn both_copies(
    disk_bytes: u64,
    sector: u64,
    disk_guid: [u8; 16],
    entries: &[u8],
) -> Option<Vec<(u64, Vec<u8>)>> {
    let last = disk_bytes.per(sector).minus(1);
    let taken = reserved(sector);
    let mut header = GptHeader::new_zeroed();
    header.signature = *b"EFI PART";
    header.revision = 0x0001_0000.into();
    header.header_size = 92.into();
    header.first_usable = taken.plus(1).into();
    header.last_usable = last.checked_sub(taken)?.into();
    header.disk_guid = disk_guid;
    header.entries = entries.len().per(128).narrow().into();
    header.entry_bytes = 128.into();
    header.entries_crc = crc32fast::hash(entries).into();
    if header.first_usable.get() >= header.last_usable.get() {
        return None;
    }
    let copy = |my: u64, other: u64, at: u64| {
        let mut copy =
            GptHeader { my_lba: my.into(), alternate_lba: other.into(), entries_lba: at.into(), ..header };
        copy.header_crc = header_crc(&copy).into();
        let mut bytes = copy.as_bytes().to_vec();
        bytes.resize(sector.size(), 0);
        bytes
    };
    let entries_at = last.minus(taken).plus(1);
    Some(vec![
        (sector, copy(1, last, 2)),
        (sector.times(2), entries.to_vec()),
        (entries_at.times(sector), entries.to_vec()),
        (last.times(sector), copy(last, 1, entries_at)),
    ])
}

/// The entries that stand where a copy has them, whatever became of its header, if all of them make sense
/// on a disk of this length and at least one is used.
pub fn left_entries(medium: &dyn Medium, sector: u64) -> Option<Vec<u8>> {
    let last = medium.len().per(sector).minus(1);
    let places = [2, last.minus(reserved(sector)).plus(1)];
    places.into_iter().find_map(|lba| {
        let bytes = medium.bytes(lba.times(sector), 128 * 128).ok()?;
        let sane = |raw: &[u8]| {
            GptEntry::read_from_prefix(raw).is_ok_and(|(entry, _)| {
                let (first, end) = (entry.first.get(), entry.last.get());
                entry.kind == [0; 16] && raw.iter().all(|byte| *byte == 0)
                    || first >= reserved(sector) && first <= end && end <= last
            })
        };
        let used = bytes.chunks_exact(128).filter(|raw| raw.iter().any(|byte| *byte != 0)).count();
        (used > 0 && bytes.chunks_exact(128).all(sane)).then_some(bytes)
    })
}

/// An entry for a volume with an everyday file system. Its own GUID is `unique`.
pub fn new_entry(extent: Extent, sector: u64, unique: [u8; 16]) -> GptEntry {
    let mut entry = GptEntry::new_zeroed();
    entry.kind = BASIC_DATA;
    entry.unique = unique;
    entry.first = extent.offset.per(sector).into();
    entry.last = extent.end().per_up(sector).minus(1).into();
    entry
}

/// A GUID that follows from what it names: random ones would make every plan another one. Laid out as
/// version 8 of RFC 9562 (made by the maker's own rule).
pub fn made_guid(seed: &[u8]) -> [u8; 16] {
    let mut guid = [0; 16];
    for (byte, from) in guid.iter_mut().zip(Sha256::digest(seed)) {
        *byte = from;
    }
    // The third field is little-endian on the disk: its high byte has the version.
    guid[7] = guid[7] & 0x0F | 0x80;
    guid[8] = guid[8] & 0x3F | 0x80;
    guid
}
