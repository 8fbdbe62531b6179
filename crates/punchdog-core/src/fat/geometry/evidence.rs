//! What the volume itself shows of its geometry when no boot sector tells it.

use super::runs::{RunStart, Votes};
use crate::{
    arith::{Peek, Sat},
    fat::{
        layout::{ENTRY_BYTES, ShortEntry},
        names,
    },
    medium::{Medium, MediumError},
    progress::Watch,
};

/// Bytes at the beginning of the volume in which tables are looked for: 65535 reserved sectors of
/// 512 bytes and a table of 32 MiB behind them.
const TABLES_WITHIN: u64 = 64 << 20;
/// Bytes that are searched for folders at most.
const SEARCHED: u64 = 4 << 30;
/// Folders that are enough.
const ENOUGH: usize = 96;

/// A place that reads like the first entries of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TableStart {
    /// Bytes from the start of the volume.
    pub offset: u64,
    /// The first two entries can be those of a FAT32 table.
    pub wide: bool,
    /// Bytes until the same sector stands again, if it does; or until the next table of which entries
    /// tell where it begins.
    pub again_after: Option<u64>,
    /// Its entries tell that it begins here, whatever stands here now.
    pub told: bool,
    /// Bytes that it has at least, by its entries.
    pub reach: u64,
}

/// A folder's first sector: where it stands, and which cluster it says it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dots {
    /// Bytes from the start of the volume.
    pub offset: u64,
    /// The first cluster that "." names.
    pub own: u32,
    /// The first cluster that ".." names, 0 for the root.
    pub parent: u32,
}

/// All that was found.
#[derive(Debug, Default)]
pub struct Evidence {
    /// Places that read like the start of a table.
    pub tables: Vec<TableStart>,
    /// Folders that name their own cluster.
    pub dots: Vec<Dots>,
    /// Cluster size in bytes and the offset of cluster 2 that pairs of folders agree on, with the
    /// number of agreeing pairs, most first.
    pub grids: Vec<(u64, u64, u32)>,
    /// The offset of a sector with FSInfo signatures.
    pub fsinfo: Option<u64>,
}

/// True when `sector` begins like a table: the media byte and set bits up to the width of two
/// entries. `Some(true)` for the FAT32 shape.
pub fn table_shape(sector: &[u8]) -> Option<bool> {
    let media = sector.byte(0);
    if !(media == 0xF0 || media >= 0xF8) || sector.byte(1) != 0xFF || sector.byte(2) != 0xFF {
        return None;
    }
    // Erased flash is FF throughout, and so is a table sector that marks nothing but bad clusters.
    if sector.part(0, 64).iter().all(|byte| *byte == 0xFF) {
        return None;
    }
    // The volume's two flags in entry 1 may be cleared; the top four bits belong to nobody.
    Some(sector.byte(3) & 0x0F == 0x0F && sector.le32(4) & 0x03FF_FFFF == 0x03FF_FFFF)
}

/// The folder that begins in these bytes, if "." and ".." say so.
pub fn dots(bytes: &[u8]) -> Option<(u32, u32)> {
    let own = ShortEntry::read(bytes)?;
    let parent = ShortEntry::read(bytes.get(ENTRY_BYTES..)?)?;
    let fits =
        own.name == names::DOT && parent.name == names::DOT_DOT && own.is_folder() && parent.is_folder();
    fits.then(|| (own.first_cluster(true), parent.first_cluster(true)))
}

/// Searches the volume: tables in its first 64 MiB, folders until there are enough.
pub fn gather(medium: &dyn Medium, watch: &dyn Watch) -> Result<Evidence, MediumError> {
    let mut found = Evidence::default();
    let mut starts: Vec<(u64, bool, Vec<u8>)> = Vec::new();
    let mut votes = Votes::default();
    let end = medium.len().min(SEARCHED);
    let mut at = 0;
    while at < end {
        if at >= TABLES_WITHIN && found.dots.len() >= ENOUGH {
            break;
        }
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("searching for tables and folders", at, end);
        let Some(piece) = medium.piece_from(at, end) else { break };
        at = piece.offset;
        let chunk = medium.lenient(at, piece.length.size()).bytes;
        for (index, sector) in chunk.chunks(512).enumerate() {
            let offset = at.plus(index.times(512).wide());
            if sector.starts_with(&names::DOT)
                && let Some((own, parent)) = dots(sector)
                && found.dots.len() < ENOUGH
            {
                found.dots.push(Dots { offset, own, parent });
            }
            if offset < TABLES_WITHIN && offset > 0 && starts.len() < 64 && table_shape(sector).is_some() {
                starts.push((offset, table_shape(sector) == Some(true), sector.to_vec()));
            }
            if offset < TABLES_WITHIN {
                votes.take(offset, sector);
            }
            if found.fsinfo.is_none()
                && offset < TABLES_WITHIN
                && crate::fat::layout::FsInfo::read(sector).is_some_and(|info| info.signed())
            {
                found.fsinfo = Some(offset);
            }
        }
        at = piece.end();
    }
    for (index, (offset, wide, sector)) in starts.iter().enumerate() {
        let again = starts.iter().skip(index.plus(1)).find(|(_, _, other)| alike(sector, other));
        let again_after = again.map(|(other, ..)| other.minus(*offset));
        found.tables.push(TableStart { offset: *offset, wide: *wide, again_after, told: false, reach: 512 });
    }
    merge(&mut found.tables, &votes.starts());
    found.grids = grids(&found.dots);
    tracing::debug!(tables = ?found.tables, folders = found.dots.len(), grids = ?found.grids, "evidence");
    Ok(found)
}

/// Adds the tables of which entries tell where they begin; they come first.
fn merge(tables: &mut Vec<TableStart>, told: &[RunStart]) {
    for one in told {
        let next = told.iter().filter(|other| other.start > one.start && other.bits == one.bits);
        let again_after = next.map(|other| other.start.minus(one.start)).min();
        if let Some(known) = tables.iter_mut().find(|table| table.offset == one.start) {
            (known.told, known.reach) = (true, one.reach);
            known.again_after = known.again_after.or(again_after);
        } else {
            let (offset, wide, reach) = (one.start, one.bits == 32, one.reach);
            tables.push(TableStart { offset, wide, again_after, told: true, reach });
        }
    }
    tables.sort_by_key(|table| (!table.told, table.offset));
}

/// Two first sectors of the same table: the same but for a few entries.
fn alike(one: &[u8], other: &[u8]) -> bool {
    one.iter().zip(other).filter(|(a, b)| a != b).count() <= 64
}

/// Two folders tell the cluster size and where cluster 2 is: distance in bytes over distance in
/// clusters. Pairs vote.
fn grids(dots: &[Dots]) -> Vec<(u64, u64, u32)> {
    let mut votes: std::collections::BTreeMap<(u64, u64), u32> = std::collections::BTreeMap::new();
    // FAT12 and FAT16 leave the high half of the number to other uses.
    for mask in [u32::MAX, 0xFFFF] {
        for (index, one) in dots.iter().enumerate() {
            for other in dots.iter().skip(index.plus(1)) {
                let (low, high) = (one.own & mask, other.own & mask);
                if high <= low || low < 2 {
                    continue;
                }
                let (bytes, clusters) = (other.offset.minus(one.offset), high.minus(low).wide());
                let size = bytes.per(clusters);
                let before = low.minus(2).wide().times(size);
                if bytes.rest(clusters) == 0
                    && size.is_power_of_two()
                    && (512..=1 << 19).contains(&size)
                    && before < one.offset
                {
                    let vote = votes.entry((size, one.offset.minus(before))).or_insert(0);
                    *vote = vote.plus(1);
                }
            }
        }
        if !votes.is_empty() {
            break;
        }
    }
    let mut ranked: Vec<_> = votes.into_iter().map(|((size, data), count)| (size, data, count)).collect();
    ranked.sort_by_key(|(size, data, count)| (std::cmp::Reverse(*count), *size, *data));
    ranked.truncate(4);
    ranked
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_folders_tell_cluster_size_and_data_start() {
        let dots = [(3, 0), (9, 3), (20, 0)].map(|(own, parent)| Dots {
            offset: 70_144 + (u64::from(own) - 2) * 2048,
            own,
            parent,
        });
        assert_eq!(grids(&dots)[0], (2048, 70_144, 3));
    }

    #[test]
    fn table_starts_have_a_shape() {
        let shape = |bytes: &[u8]| {
            let mut sector = bytes.to_vec();
            sector.resize(512, 0);
            table_shape(&sector)
        };
        assert_eq!(shape(&[0xF8, 0xFF, 0xFF, 0x0F, 0xFF, 0xFF, 0xFF, 0x0F]), Some(true));
        assert_eq!(
            shape(&[0xF8, 0xFF, 0xFF, 0x0F, 0xFF, 0xFF, 0xFF, 0x07, 0xFF, 0xFF, 0xFF, 0x0F]),
            Some(true)
        );
        assert_eq!(shape(&[0xF8, 0xFF, 0xFF, 0x7F, 3, 0]), Some(false));
        assert_eq!(shape(&[0xF0, 0xFF, 0xFF, 3, 0x40, 0]), Some(false));
        assert_eq!(shape(&[0xFF; 512]), None);
        assert_eq!(shape(&[0; 512]), None);
    }
}
