//! What an earlier life of the medium left: folders, or boot sectors, in space that the volume calls free.
//!
//! Formatting lays down empty tables and an empty root folder; clusters keep their bytes. A volume that is in
//! order and nearly empty, with folders of another one in its free space, was formatted over: that its owner
//! misses files is then no matter of reader or cable. In one that was used since, such folders can be what was deleted
//! from it: there only those count that it cannot have made.

use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
    report::{
        finding::{Entry, Finding},
        wording::counted,
    },
};
use std::collections::BTreeSet;

/// Files and folders from which on a volume is in use, and what is in its free space is what was deleted.
pub(crate) const NEARLY_EMPTY: usize = 16;
/// Bytes of free space that are looked at.
const LOOKED_AT: u64 = 32 << 20;
/// Of one that is in use: places all over it, bytes of each, and clusters of each that are asked for a free one.
const PLACES: u64 = 128;
const PLACE: u64 = 256 << 10;
const BEHIND: u64 = 4096;
/// Folders that it cannot have made which must be seen there.
const STRANGE: u64 = 3;
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
    /// The volume over it is in use.
    pub used: bool,
}

/// What a volume itself says of where folders can begin.
pub(crate) struct Live<'l> {
    /// Where its clusters begin, in bytes from its start, and how long each is.
    pub(crate) from: u64,
    pub(crate) cluster: u64,
    /// Files and folders on it.
    pub(crate) nodes: usize,
    /// True where something owns a place.
    pub(crate) is_used: &'l dyn Fn(u64) -> bool,
    /// Where a folder of its own must stand that begins so, if it is of its family at all and says where.
    pub(crate) own: &'l dyn Fn(&[u8]) -> Own,
}

/// What a volume makes of the beginning of a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Own {
    /// One like its own, which says nothing of where it stands.
    Like,
    /// One like its own that stands at this byte of it.
    At(u64),
    /// One that no host writes into a volume of its family.
    Never,
}

impl Live<'_> {
    fn is_in_use(&self) -> bool {
        self.nodes > NEARLY_EMPTY
    }

    /// Pieces of what nothing owns.
    fn pieces(&self, medium: &dyn Medium) -> Vec<Extent> {
        let mut pieces = if self.is_in_use() { self.all_over(medium) } else { self.at_its_beginning(medium) };
        for piece in [Extent::new(USUAL_MFT, FEW_RECORDS), Extent::new(medium.len().minus(512), 512)] {
            let known = pieces.iter().any(|one| one.overlaps(piece));
            if !known && piece.offset >= self.from && piece.end() <= medium.len() {
                pieces.push(piece);
            }
        }
        pieces
    }

    /// From the first cluster on.
    fn at_its_beginning(&self, medium: &dyn Medium) -> Vec<Extent> {
        let mut pieces = Vec::new();
        let (mut at, mut left) = (self.from, LOOKED_AT);
        while left > 0
            && let Some(piece) = medium.piece_from(at, medium.len())
        {
            let piece = Extent::new(piece.offset, piece.length.min(left));
            pieces.push(piece);
            at = piece.end();
            left = left.minus(piece.length);
        }
        pieces
    }

    /// A little at each of many places, one as far behind the other.
    fn all_over(&self, medium: &dyn Medium) -> Vec<Extent> {
        let cluster = self.cluster.max(1);
        let step = medium.len().minus(self.from).per(PLACES).max(PLACE).per_up(cluster).times(cluster);
        let piece = |number: u64| {
            let first = self.from.plus(number.times(step));
            let mut here = (0..step.per(cluster).min(BEHIND)).map(|next| first.plus(next.times(cluster)));
            let free = here.find(|at| !(self.is_used)(*at))?;
            let piece = medium.piece_from(free, first.plus(step).min(medium.len()))?;
            Some(Extent::new(piece.offset, piece.length.min(PLACE)))
        };
        (0..PLACES).filter_map(piece).collect()
    }
}

/// True where a few reads show folders of another file system beneath a volume, whatever is in use there. `cluster` and `own`
/// as in [`Live`].
pub(crate) fn shows(medium: &dyn Medium, from: u64, cluster: u64, own: &dyn Fn(&[u8]) -> Own) -> bool {
    let live = Live { from, cluster, nodes: usize::MAX, is_used: &|_| false, own };
    look(medium, &live).is_some()
}

/// Looks for folders in the free space of a volume.
pub(crate) fn look(medium: &dyn Medium, live: &Live<'_>) -> Option<Former> {
    let own = medium.lenient(0, 512).bytes;
    let mut found: Option<Former> = None;
    let mut strange = Strange::default();
    for piece in live.pieces(medium) {
        let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
        for (number, sector) in bytes.chunks(512).enumerate() {
            let place = piece.offset.plus(number.times(512).wide());
            // In the midst of a volume in use it is of a file that was deleted; in the last sector formatting left it.
            let boot = begins_volume(sector)
                && !is_same(sector, &own)
                && (!live.is_in_use() || place.plus(512) == medium.len());
            let folder = begins_folder(sector);
            if !(folder || boot) || (live.is_used)(place) {
                continue;
            }
            let folder = folder && (!live.is_in_use() || strange.take((live.own)(sector), place));
            if folder || boot {
                let first = Former { first: place, folders: 0, boot: None, used: live.is_in_use() };
                let former = found.get_or_insert(first);
                former.folders = former.folders.plus(u64::from(folder));
                former.boot = former.boot.or(boot.then_some(place));
            }
        }
    }
    // One alone can be a folder that was deleted from this volume.
    let enough = |folders: u64| if live.is_in_use() { strange.are_enough() } else { folders > 1 };
    found.filter(|former| former.boot.is_some() || enough(former.folders))
}

/// Folders that a volume in use cannot have made where they stand.
#[derive(Default)]
struct Strange {
    /// Of other families.
    others: u64,
    /// How far those of its own stand from where it would have put them. What stands as far off as others do was shifted
    /// with them, and is the volume's own.
    apart: BTreeSet<u64>,
}

impl Strange {
    /// Counts a folder at `place`, if it is one.
    fn take(&mut self, own: Own, place: u64) -> bool {
        match own {
            Own::Never => self.others = self.others.plus(1),
            Own::At(at) if at != place => _ = self.apart.insert(place.wrapping_sub(at)),
            Own::At(_) | Own::Like => return false,
        }
        true
    }

    fn are_enough(&self) -> bool {
        self.others.max(self.apart.len().wide()) >= STRANGE
    }
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

/// What a family whose folders do not say where they stand makes of one that begins with another's first byte.
pub(crate) fn by_first_byte(sector: &[u8], own: u8) -> Own {
    if sector.byte(0) == own { Own::Like } else { Own::Never }
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

/// The cluster that a folder of FAT says that it begins at.
pub(crate) fn says_cluster(sector: &[u8], wide: bool) -> u64 {
    let high = if wide { u64::from(sector.le16(20)) << 16_u32 } else { 0 };
    high | u64::from(sector.le16(26))
}

/// The folder of FAT whose first cluster this is: "." names it, in FAT32 with its upper half (FAT 1.03, `DIR_FstClusLO`,
/// `DIR_FstClusHI`). The other value is 1 for FAT32.
pub(crate) fn is_folder_of(sector: &[u8], [cluster, wide]: [u64; 2]) -> bool {
    begins_with_dots(sector) && says_cluster(sector, wide == 1) == cluster
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
pub(crate) const FILE_ENTRY: u8 = 0x85;

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
                if self.used {
                    "It was formatted over, or the image of a medium was deleted."
                } else {
                    "It was formatted over."
                },
            ),
        };
        let should = if self.used {
            "This volume cannot have made it where it stands, and nothing in it names it."
        } else {
            "The volume is nearly empty, and nothing in it names what was there."
        };
        let first = Finding::new(class, summary).at(self.boot.unwrap_or(self.first), 512);
        first.because(seen, should, format!("{why} Write nothing to the medium; keep this image."))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_of_one_shift_are_no_other_file_system_s() {
        let shifted = |by: [u64; 4]| {
            let mut strange = Strange::default();
            for (at, by) in (1..).zip(by) {
                assert_eq!(strange.take(Own::At(at * 4096), at * 4096 + by), by > 0);
            }
            strange.are_enough()
        };
        assert!(!shifted([0, 0, 0, 0]));
        assert!(!shifted([512, 512, 512, 512]));
        assert!(!shifted([0, 512, 512, 1024]));
        assert!(shifted([0, 512, 1024, 1536]));
        let others = |many: usize| {
            let mut strange = Strange::default();
            assert!((0..many).all(|at| strange.take(Own::Never, at.wide()) && !strange.take(Own::Like, 0)));
            strange.are_enough()
        };
        assert!(!others(2));
        assert!(others(3));
    }
}
