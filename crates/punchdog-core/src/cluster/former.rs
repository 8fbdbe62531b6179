//! What an earlier life of the medium left: folders, or boot sectors, in space that the volume calls free.
//!
//! Formatting lays down empty tables and an empty root folder; clusters keep their bytes. A volume that is in
//! order and nearly empty, with folders of another one in its free space, was formatted over: that its owner
//! misses files is then no matter of reader or cable.

use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
    report::{
        finding::{Entry, Finding},
        wording::counted,
    },
};

/// Files and folders from which on a volume is in use, and what is in its free space is what was deleted.
pub(crate) const NEARLY_EMPTY: usize = 16;
/// Bytes of free space that are looked at.
const LOOKED_AT: u64 = 32 << 20;
/// Where an NTFS of more than a few GB has its records, as hosts lay it down: cluster 786432, of 4 KiB; bytes of them that
/// are looked at. The copy of its boot sector stands in the last sector.
const USUAL_MFT: u64 = 786_432 * 4096;
const FEW_RECORDS: u64 = 64 << 10;

/// What is left of an older volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Former {
    /// Where the first folder begins, or its boot sector: bytes from the start of the volume.
    pub first: u64,
    /// How many folders were seen.
    pub folders: u64,
    /// A boot sector of it.
    pub boot: Option<u64>,
}

/// Looks for folders in the free space of a volume whose clusters begin at `from`; `nodes` is how much is on
/// it, and `is_used` says of a place whether something owns it.
pub(crate) fn look(
    medium: &dyn Medium,
    from: u64,
    nodes: usize,
    is_used: impl Fn(u64) -> bool,
) -> Option<Former> {
    if nodes > NEARLY_EMPTY {
        return None;
    }
    let own = medium.lenient(0, 512).bytes;
    let mut found: Option<Former> = None;
    let mut pieces = Vec::new();
    let (mut at, mut left) = (from, LOOKED_AT);
    while left > 0
        && let Some(piece) = medium.piece_from(at, medium.len())
    {
        let piece = Extent::new(piece.offset, piece.length.min(left));
        pieces.push(piece);
        at = piece.end();
        left = left.minus(piece.length);
    }
    let further = [Extent::new(USUAL_MFT, FEW_RECORDS), Extent::new(medium.len().minus(512), 512)];
    pieces.extend(further.into_iter().filter(|piece| piece.offset >= at && piece.end() <= medium.len()));
    for piece in pieces {
        let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
        for (number, sector) in bytes.chunks(512).enumerate() {
            let place = piece.offset.plus(number.times(512).wide());
            let (folder, boot) = (begins_folder(sector), begins_volume(sector) && !is_same(sector, &own));
            if (folder || boot) && !is_used(place) {
                let former = found.get_or_insert(Former { first: place, folders: 0, boot: None });
                former.folders = former.folders.plus(u64::from(folder));
                former.boot = former.boot.or(boot.then_some(place));
            }
        }
    }
    // One alone can be a folder that was deleted from this volume.
    found.filter(|former| former.folders > 1 || former.boot.is_some())
}

/// True where the beginnings of folders, from the root on, show that hardly anything is on a volume. `open` gives what
/// stands in one: of each file nothing, of each folder what opens it; `None` where that is more than its beginning shows.
pub(crate) fn is_nearly_empty<F>(root: F, open: impl Fn(F) -> Option<Vec<Option<F>>>) -> bool {
    let (mut left, mut nodes) = (vec![root], 0_usize);
    while let Some(folder) = left.pop() {
        let Some(items) = open(folder) else { return false };
        nodes = nodes.plus(items.len());
        if nodes > NEARLY_EMPTY {
            return false;
        }
        left.extend(items.into_iter().flatten());
    }
    true
}

/// True for the beginning of a folder, of whatever family: what is beneath a volume need not be of its own,
/// and no family knows another.
fn begins_folder(sector: &[u8]) -> bool {
    match sector.byte(0) {
        b'.' => begins_with_dots(sector),
        FILE_ENTRY => begins_with_set(sector),
        b'F' => is_record_of_folder(sector),
        _ => false,
    }
}

/// A record of NTFS, in use, of a folder: with places to mend as its length wants them (one a sector of 512 bytes, and one).
fn is_record_of_folder(sector: &[u8]) -> bool {
    let (fixups, flags, used, length) = (sector.le16(6), sector.le16(22), sector.le32(24), sector.le32(28));
    sector.starts_with(b"FILE")
        && matches!((fixups, length), (3, 1024) | (9, 4096))
        && flags & 3 == 3
        && (56..=length).contains(&used)
}

/// A boot sector: its name, or fields that only such a one has (exFAT 1.00, 3.1.2; FAT 1.03, Boot Sector and BPB).
pub(crate) fn begins_volume(sector: &[u8]) -> bool {
    let jump = matches!(sector.part(0, 3), [0xEB, _, 0x90] | [0xE9, _, _]);
    if !jump || sector.part(510, 2) != [0x55, 0xAA] {
        return false;
    }
    let named = matches!(sector.part(3, 8), b"EXFAT   " | b"NTFS    ");
    let (bytes, clustered, reserved, tables) =
        (sector.le16(11), sector.byte(13), sector.le16(14), sector.byte(16));
    let fat = matches!(bytes, 512 | 1024 | 2048 | 4096)
        && clustered.is_power_of_two()
        && reserved > 0
        && matches!(tables, 1 | 2)
        && matches!(sector.byte(21), 0xF0 | 0xF8..=0xFF);
    named || fat
}

/// True for boot sectors of one volume: a copy that it had before it was enlarged stands in its midst.
fn is_same(one: &[u8], other: &[u8]) -> bool {
    let serials: &[(usize, usize)] = match one.part(3, 8) {
        b"NTFS    " => &[(72, 8)],
        b"EXFAT   " => &[(100, 4)],
        _ => &[(39, 4), (67, 4)],
    };
    let alike = |(at, length): &(usize, usize)| one.part(*at, *length) == other.part(*at, *length);
    one.part(3, 8) == other.part(3, 8) && serials.iter().all(alike)
}

/// A folder of FAT: "." and "..", both folders (FAT 1.03, FAT Directory Structure, `DIR_Name`, `DIR_Attr`).
pub(crate) fn begins_with_dots(sector: &[u8]) -> bool {
    let is = |at: usize, name: &[u8; 11]| sector.part(at, 11) == name && sector.byte(at.plus(11)) & 0x10 != 0;
    is(0, b".          ") && is(32, b"..         ")
}

/// The folder of FAT whose first cluster this is: "." names it, in FAT32 with its upper half (FAT 1.03, `DIR_FstClusLO`,
/// `DIR_FstClusHI`). The other value is 1 for FAT32.
pub(crate) fn is_folder_of(sector: &[u8], [cluster, wide]: [u64; 2]) -> bool {
    let high = if wide == 1 { u64::from(sector.le16(20)) << 16_u32 } else { 0 };
    begins_with_dots(sector) && high | u64::from(sector.le16(26)) == cluster
}

/// Entries of a folder of FAT that does not begin here: parts of long names that end in short entries (FAT 1.03, Long
/// Directory Entries: attributes 0F, type 0, first cluster 0; the checksum of the short name in each).
pub(crate) fn holds_entries(sector: &[u8]) -> bool {
    // Most sectors are told by their first entry.
    let is_long = |raw: &[u8]| raw.byte(11) == 0x0F && raw.byte(12) == 0 && raw.le16(26) == 0;
    let is_short = |raw: &[u8]| {
        let name = raw.part(0, 11);
        let (month, day) = (raw.le16(24) >> 5_u16 & 15, raw.le16(24) & 31);
        raw.byte(11) & 0xC8 == 0
            && raw.byte(11) != 0
            && raw.byte(12) & 0xE7 == 0
            && (1..=12).contains(&month)
            && day > 0
            && name.iter().skip(1).all(|byte| *byte >= 0x20 && !matches!(byte, b'.' | 0x7F | b'a'..=b'z'))
            && name.iter().skip(1).any(|byte| *byte != b' ')
    };
    let first = sector.part(0, 32);
    if !is_long(first) && !is_short(first) {
        return false;
    }
    let (mut good, mut files) = (0_u32, 0_u32);
    for raw in sector.chunks_exact(32).take_while(|raw| raw.byte(0) != 0) {
        let (long, short) = (is_long(raw), is_short(raw));
        if !long && !short {
            return false;
        }
        good = good.plus(1);
        files = files.plus(u32::from(short));
    }
    good > 1 && files > 0
}

/// `File Directory Entry`, in use (exFAT 1.00, 7.4).
const FILE_ENTRY: u8 = 0x85;

/// A folder of exFAT: a file's entry, in use, with 2 to 18 others behind it, its stream and its name, with the set's
/// checksum where the sector holds all of it (exFAT 1.00, 6.3.3, 7.4, 7.6, 7.7).
pub(crate) fn begins_with_set(sector: &[u8]) -> bool {
    let others = sector.byte(1);
    let named = (2..=18).contains(&others) && sector.byte(32) == 0xC0 && sector.byte(64) == 0xC1;
    let summed = |set: &[u8]| {
        let bytes = set.iter().enumerate().filter(|(at, _)| !matches!(at, 2 | 3));
        bytes.fold(0_u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)))
    };
    let set = sector.get(..usize::from(others).plus(1).times(32));
    named && set.is_none_or(|set| summed(set) == sector.le16(2))
}

impl Former {
    /// The remark that says so.
    pub(crate) fn finding(self, class: &'static Entry) -> Finding {
        let many = counted(self.folders, "folder of an older volume lies", "folders of an older volume lie");
        let (summary, seen, why) = match self.boot {
            Some(at) => (
                "the boot sector of another volume lies in free space".to_owned(),
                format!("It stands at byte {at} of the volume."),
                "It was formatted over, or the image of a medium was deleted.",
            ),
            None => (
                format!("{many} in free space"),
                format!("The first begins at byte {} of the volume.", self.first),
                "It was formatted over.",
            ),
        };
        let first = Finding::new(class, summary).at(self.boot.unwrap_or(self.first), 512);
        first.because(
            seen,
            "The volume is nearly empty, and nothing in it names what was there.",
            format!("{why} Write nothing to the medium; keep this image."),
        )
    }
}
