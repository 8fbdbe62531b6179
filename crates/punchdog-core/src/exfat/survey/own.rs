//! The structures that the root folder names: the allocation bitmap and the up-case table (exFAT 1.00, 7.1 and 7.2).

use super::{Surveyor, places};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::{End, run_of},
    exfat::{
        layout::{Owner, UPCASE, table_checksum},
        sets::Reading,
        upcase::Upcase,
    },
    medium::Unknown,
};

/// A structure that a root entry names: the bitmap or the up-case table.
#[derive(Debug, Clone)]
pub struct Owned {
    /// The entry, with its index in the root; `None` when there is none.
    pub entry: Option<(u32, Owner)>,
    /// Further entries of the same type: their indices.
    pub doubles: Vec<u32>,
    /// Its clusters, as believed.
    pub clusters: Vec<u32>,
    /// Its bytes, as they stand there.
    pub bytes: Vec<u8>,
    /// First cluster and length can be used.
    pub usable: bool,
}

impl Owned {
    pub(super) fn none() -> Self {
        Self { entry: None, doubles: Vec::new(), clusters: Vec::new(), bytes: Vec::new(), usable: false }
    }
}

impl Surveyor<'_> {
    /// Reads the bitmap and the up-case table.
    pub(super) fn owned(&mut self) {
        let content = self.out.content(self.medium, 0);
        let reading = Reading::of(&content.bytes, &self.out.capitals, true);
        let (mut bitmap, mut second, mut upcase) = (Owned::none(), Owned::none(), Owned::none());
        for (index, kind, owner) in reading.owners {
            let owned = match kind {
                UPCASE => &mut upcase,
                // The second bitmap of TexFAT is the second table's.
                _ if owner.flags & 1 == 1 && self.out.geometry.tables == 2 => &mut second,
                _ => &mut bitmap,
            };
            match owned.entry {
                None => owned.entry = Some((index, owner)),
                Some(_) => owned.doubles.push(index),
            }
        }
        self.out.bitmap = self.take_bitmap(bitmap, 2);
        if self.out.geometry.tables == 2 {
            let behind = self.out.bitmap.clusters.last().map_or(2, |last| last.plus(1));
            self.out.second = self.take_bitmap(second, behind);
            self.out.second.bytes = Vec::new();
        }
        self.out.upcase = self.take_upcase(upcase);
        self.take_bits();
        if let Some(table) = Upcase::decode(&self.out.upcase.bytes).filter(|_| self.upcase_fits()) {
            self.out.capitals = table;
        }
    }

    /// Takes the bitmap's bits over; the bytes themselves are not needed any more.
    fn take_bits(&mut self) {
        let bytes = std::mem::take(&mut self.out.bitmap.bytes);
        let mut at = 2_usize;
        for group in bytes.chunk_by(|one, other| one == other) {
            let end = at.plus(group.len().times(8));
            match group.byte(0) {
                0 => {}
                0xFF => self.out.used.insert_range(at..end),
                byte => {
                    for bit in (at..end).filter(|cluster| byte >> cluster.minus(at).rest(8) & 1 == 1) {
                        self.out.used.insert(bit);
                    }
                }
            }
            at = end;
        }
    }

    fn upcase_fits(&self) -> bool {
        self.out
            .upcase
            .entry
            .is_some_and(|(_, owner)| table_checksum(&self.out.upcase.bytes) == owner.checksum)
    }

    /// The clusters of a structure that lies in a row, as Linux reads it, or as a chain.
    fn clusters_of(&mut self, first: u32, count: u32) -> Vec<u32> {
        let walk = self.walk(first, None);
        if walk.end == End::Proper && walk.length == count {
            walk.clusters().collect()
        } else {
            run_of(first, count).filter(|cluster| self.out.geometry.has(*cluster)).collect()
        }
    }

    /// Where a bitmap stands: where its entry says, else at `usual`, where hosts put it.
    fn take_bitmap(&mut self, mut owned: Owned, usual: u32) -> Owned {
        let g = self.out.geometry;
        let needed = g.bitmap_bytes();
        let count = g.clusters_for(needed).narrow();
        let said = owned.entry.map_or(0, |(_, owner)| owner.first);
        // A bitmap has itself in use.
        for (first, by_entry) in [(said, true), (usual, false)] {
            if !g.has(first) || !g.has(first.plus(count).minus(1)) || self.out.claimed.contains(first.size())
            {
                continue;
            }
            let clusters = self.clusters_of(first, count);
            let bytes = self.read(&clusters, needed);
            let set = |cluster: u32| {
                bytes.byte(cluster.minus(2).per(8).size()) >> cluster.minus(2).rest(8) & 1 == 1
            };
            let own = clusters.iter().filter(|cluster| set(**cluster)).count();
            let good = own.times(2) > clusters.len() && set(g.root_cluster);
            let strict = self.is_bitmap(&clusters, &bytes);
            if by_entry && said != usual && !strict && self.stands_at(usual, count, needed) {
                continue;
            }
            if by_entry || good {
                owned.usable = by_entry;
                for cluster in &clusters {
                    self.out.claimed.insert(cluster.size());
                }
                owned.clusters = clusters;
                owned.bytes = bytes;
                break;
            }
        }
        owned
    }

    fn stands_at(&mut self, first: u32, count: u32, needed: u64) -> bool {
        let clusters: Vec<u32> = run_of(first, count).collect();
        let bytes = self.read(&clusters, needed);
        !self.out.claimed.contains(first.size()) && self.is_bitmap(&clusters, &bytes)
    }

    /// True when a bitmap has everything in use that is, and nothing behind the last cluster.
    fn is_bitmap(&self, clusters: &[u32], bytes: &[u8]) -> bool {
        let g = self.out.geometry;
        let set = |cluster: u32| {
            let bit = cluster.minus(2);
            bytes.byte(bit.per(8).size()) >> bit.rest(8) & 1 == 1
        };
        let rest = (g.clusters..g.clusters.per_up(8).times(8)).any(|bit| set(bit.plus(2)));
        !rest && set(g.root_cluster) && clusters.iter().all(|cluster| set(*cluster))
    }

    fn take_upcase(&mut self, mut owned: Owned) -> Owned {
        let g = self.out.geometry;
        let said = owned.entry.map(|(_, owner)| owner);
        let mut tries: Vec<(u32, u64, bool)> = Vec::new();
        if let Some(owner) = said.filter(|owner| owner.length > 0 && owner.length <= 131_072) {
            tries.push((owner.first, owner.length, true));
        }
        // Without its entry it usually stands behind the bitmap.
        let behind = self.out.bitmap.clusters.last().map_or(2, |last| last.plus(1));
        let recommended = crate::exfat::upcase::RECOMMENDED_BYTES.wide();
        for first in [said.map_or(0, |owner| owner.first), behind, 3] {
            tries.push((first, recommended, false));
        }
        for (first, length, by_entry) in tries {
            let count = g.clusters_for(length).narrow();
            if !g.has(first) || !g.has(first.plus(count).minus(1)) || self.out.claimed.contains(first.size())
            {
                continue;
            }
            let clusters = self.clusters_of(first, count);
            let (bytes, unread) = self.read_upcase(&clusters, length);
            let good = Upcase::is_recommended(&bytes)
                || said.is_some_and(|owner| by_entry && table_checksum(&bytes) == owner.checksum);
            let begins = crate::exfat::geometry::begins_as_upcase(&bytes);
            if good || by_entry && (begins || unread) {
                owned.usable = by_entry;
                for cluster in &clusters {
                    self.out.claimed.insert(cluster.size());
                }
                owned.clusters = clusters;
                owned.bytes = bytes;
                break;
            }
        }
        owned
    }

    /// A table, with what the recommended one has where it cannot be read: its checksum tells whether that is so.
    fn read_upcase(&self, clusters: &[u32], length: u64) -> (Vec<u8>, bool) {
        let mut bytes = self.read(clusters, length);
        let usual = Upcase::recommended();
        let (mut at, mut unread) = (0_u64, false);
        let unknown = self.medium.unknown(Unknown::Unreadable);
        for place in places(&self.out.geometry, clusters) {
            for part in unknown.iter().map(|one| one.common(place)).filter(|part| part.length > 0) {
                let from = at.plus(part.offset.minus(place.offset)).size();
                let to = from.plus(part.length.size()).min(bytes.len());
                unread |= from < to;
                if let Some(hole) = bytes.get_mut(from..to) {
                    let there = usual.get(from.min(usual.len())..).unwrap_or(&[]);
                    hole.iter_mut().zip(there).for_each(|(byte, usual)| *byte = *usual);
                }
            }
            at = at.plus(place.length);
        }
        (bytes, unread)
    }

    fn read(&self, clusters: &[u32], length: u64) -> Vec<u8> {
        let mut bytes = Vec::new();
        for place in places(&self.out.geometry, clusters) {
            bytes.extend(self.medium.lenient(place.offset, place.length.size()).bytes);
        }
        bytes.truncate(length.size());
        bytes
    }
}
