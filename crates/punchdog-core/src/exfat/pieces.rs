//! Folders whose chains the table has lost: their clusters are known by what they hold.
//!
//! A set that runs over the border of two clusters is whole with only one of those that could come next: its checksum
//! (section 6.3.3) proves it. Where none does, a folder goes on with the piece whose first name is most like its last one.

use super::{
    layout::{END, ENTRY, FILE, IN_USE, SECONDARY, set_checksum},
    sets::{Flaws, Reading, looks_like_folder},
    survey::Surveyor,
    table::Because,
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::Link,
        seams::{self, JOINED, Likeness},
    },
};
use std::{cmp::Reverse, collections::HashMap, rc::Rc};

/// Clusters that are looked at.
const LOOKED_AT: usize = 1 << 20;
/// Clusters that the table leads to and that are looked at for the rest of one set.
const LED_TO: usize = 1 << 16;
/// Bytes of the longest set: what can stand of it in the next cluster.
const LONGEST_SET: usize = 19 * ENTRY;

/// A cluster that reads as a later one of a folder.
pub(super) struct Piece {
    cluster: u32,
    start: Vec<u8>,
    /// The first name in it.
    name: Option<String>,
}

impl Piece {
    /// How well the first name in it follows another.
    fn follows(&self, name: &[u16]) -> Likeness {
        Likeness::of(name, &units(self.name.as_deref().unwrap_or_default()))
    }
}

fn units(name: &str) -> Vec<u16> {
    name.encode_utf16().collect()
}

/// A folder that breaks off where no cluster goes on.
pub(super) struct BrokenOff {
    number: u32,
    /// Its last cluster.
    at: u32,
    /// How many it can have behind the one that is gone.
    left: u32,
}

/// What the last cluster of a part of a folder ends with.
enum Seam {
    /// An end mark, or nothing that goes on.
    End,
    /// A set of which entries are missing.
    Torn(Vec<u8>),
    /// A whole set, of this name.
    Whole(Option<String>),
}

impl Seam {
    fn of(bytes: &[u8], surveyor: &Surveyor<'_>) -> Self {
        let count = bytes.len().per(ENTRY);
        let mut index = 0_usize;
        while index < count {
            let rest = bytes.get(index.times(ENTRY)..).unwrap_or(&[]);
            let secondaries = rest.chunks_exact(ENTRY).skip(1).take_while(|raw| raw.byte(0) & SECONDARY != 0);
            let said = usize::from(rest.byte(1));
            index = index.plus(1);
            if rest.byte(0) == END {
                return Self::End;
            }
            if rest.byte(0) | IN_USE != FILE {
                continue;
            }
            let follow = secondaries.count();
            if said > follow && (2..=18).contains(&said) && index.plus(follow) == count {
                return Self::Torn(rest.to_vec());
            }
            index = index.plus(follow.min(said));
        }
        Self::Whole(last_name(bytes, surveyor))
    }
}

fn last_name(bytes: &[u8], surveyor: &Surveyor<'_>) -> Option<String> {
    let reading = Reading::of(bytes, &surveyor.out.capitals, false);
    reading.items.last().map(|item| item.name.clone())
}

/// True when what is missing of a set that is `torn` off is what stands at the start of `next`.
fn is_mended_by(torn: &[u8], next: &[u8]) -> bool {
    let missing = usize::from(torn.byte(1)).plus(1).minus(torn.len().per(ENTRY));
    let mut set = torn.to_vec();
    set.extend_from_slice(next.part(0, missing.times(ENTRY)));
    // The sum of a deleted set is of what it was before.
    for entry in set.chunks_exact_mut(ENTRY) {
        if let Some(kind) = entry.first_mut() {
            *kind |= IN_USE;
        }
    }
    set.len() == usize::from(torn.byte(1)).plus(1).times(ENTRY) && set_checksum(&set) == set.le16(2)
}

impl Surveyor<'_> {
    /// True for a cluster that a folder can go on in: nobody's, and in use, unless the bitmap says nothing of what is.
    fn can_be_folders(&self, cluster: u32, believed: bool) -> bool {
        let nobodys = !self.out.claimed.contains(cluster.size()) && !self.heads.contains(cluster.size());
        nobodys && (self.out.used.contains(cluster.size()) || !believed)
    }

    /// Follows a folder past cluster `at`, where the table says nothing, for up to `missing` clusters.
    pub(super) fn folder_goes_on(&mut self, number: u32, at: u32, missing: u32) {
        let (mut at, mut found) = (at, 0_u32);
        let believed = self.bitmap_believed();
        while found < missing {
            let next = match self.out.links.get(self.medium, at) {
                Link::Next(next) if self.can_be_folders(next, believed) && found > 0 => Some((next, None)),
                Link::End if found > 0 && !self.out.links.is_erased(self.medium, at) => None,
                _ => self.next_piece(at, believed).map(|(next, because)| (next, Some(because))),
            };
            let Some((next, because)) = next else { break };
            if let Some(because) = because {
                self.out.links.believe(at, Link::Next(next), because);
            }
            if because == Some(Because::Guess) {
                self.change(number, |node| node.flaws |= Flaws::GUESSED);
            }
            self.claim(number, &[(next, 1)]);
            (at, found) = (next, found.plus(1));
        }
        if found < missing {
            self.change(number, |node| node.flaws |= Flaws::SHORT);
            // One may be gone, and others stand behind that.
            let left = missing.minus(found).minus(1);
            if left > 0 && !matches!(self.seam_of(at), Seam::End) {
                self.broken_off.push(BrokenOff { number, at, left });
                return;
            }
        }
        self.end_at(at);
    }

    fn end_at(&mut self, cluster: u32) {
        if self.out.links.get(self.medium, cluster) != Link::End {
            self.out.links.believe(cluster, Link::End, Because::Derived);
        }
    }

    fn seam_of(&self, cluster: u32) -> Seam {
        let place = self.out.geometry.cluster_place(cluster);
        let each = self.out.geometry.cluster_bytes().size();
        Seam::of(&self.medium.lenient(place, each).bytes, self)
    }

    /// Takes up the folders that break off where no cluster goes on, when all others have what is theirs: of the pieces that
    /// nobody has, each goes on with the one whose first name is most like its last one.
    pub(super) fn join_over_gaps(&mut self) {
        let broken = std::mem::take(&mut self.broken_off);
        let mut next = self.pieces_behind_gaps(&broken);
        for BrokenOff { number, at, left } in broken {
            let before = self.broken_off.len();
            match next.remove(&number) {
                Some(piece) => {
                    self.out.links.believe(at, Link::Next(piece), Because::Guess);
                    self.claim(number, &[(piece, 1)]);
                    self.change(number, |node| node.flaws |= Flaws::GUESSED);
                    self.folder_goes_on(number, piece, left.minus(1));
                }
                None => self.end_at(at),
            }
            if self.broken_off.len() == before {
                self.settle(number);
            }
        }
    }

    fn pieces_behind_gaps(&mut self, broken: &[BrokenOff]) -> HashMap<u32, u32> {
        let believed = self.bitmap_believed();
        let pieces = self.pieces(believed);
        let open = pieces.iter().filter(|piece| self.can_be_folders(piece.cluster, believed)).take(JOINED);
        let open: Vec<&Piece> = open.collect();
        let broken = broken.get(..broken.len().min(JOINED)).unwrap_or(broken);
        let each = self.out.geometry.cluster_bytes().size();
        let name = |one: &BrokenOff| {
            let bytes = self.medium.lenient(self.out.geometry.cluster_place(one.at), each).bytes;
            units(&last_name(&bytes, self).unwrap_or_default())
        };
        let names: Vec<Vec<u16>> = broken.iter().map(name).collect();
        let ends: Vec<(u32, u32)> = broken.iter().map(|one| (one.number, one.at)).collect();
        let clusters: Vec<u32> = open.iter().map(|piece| piece.cluster).collect();
        seams::join(&ends, &clusters, |end, piece| {
            let likeness = open.get(piece)?.follows(names.get(end)?);
            likeness.is_any().then_some(likeness)
        })
    }

    /// The cluster in which a folder goes on behind cluster `at`.
    fn next_piece(&mut self, at: u32, believed: bool) -> Option<(u32, Because)> {
        let seam = self.seam_of(at);
        if matches!(seam, Seam::End) {
            return None;
        }
        let pieces = self.pieces(believed);
        let (before, behind) = pieces.split_at(pieces.partition_point(|piece| piece.cluster <= at));
        let mut open =
            behind.iter().chain(before).filter(|piece| self.can_be_folders(piece.cluster, believed));
        match seam {
            Seam::End => None,
            Seam::Torn(torn) => {
                let found = open.find(|piece| is_mended_by(&torn, &piece.start)).map(|piece| piece.cluster);
                let found = found.or_else(|| self.led_to_piece(&torn))?;
                Some((found, Because::Derived))
            }
            Seam::Whole(name) => {
                let name = units(&name.unwrap_or_default());
                let begins = open.filter(|piece| piece.start.byte(0) | IN_USE == FILE).enumerate();
                let ranked =
                    begins.map(|(order, piece)| (piece.follows(&name), Reverse(order), piece.cluster));
                let (alike, _, cluster) = ranked.max()?;
                (alike.is_any() || cluster == at.plus(1)).then_some((cluster, Because::Guess))
            }
        }
    }

    /// A cluster of nobody's to which the table leads, from wherever, and that has the rest of a set that is torn off: the
    /// checksum of the set proves it.
    fn led_to_piece(&mut self, torn: &[u8]) -> Option<u32> {
        let (open, pointed) = self.pointed();
        let led_to = open.ones().filter(|c| pointed.contains(*c)).map(Sat::narrow);
        let led_to = led_to.filter(|c| self.out.geometry.has(*c));
        led_to.take(LED_TO).find(|cluster| {
            let place = self.out.geometry.cluster_place(*cluster);
            let start = self.medium.lenient(place, LONGEST_SET).bytes;
            start.byte(0) & SECONDARY != 0 && is_mended_by(torn, &start)
        })
    }

    /// A set that begins in cluster `at` is whole with what cluster `next` begins with.
    pub(super) fn goes_on_in(&self, at: u32, next: u32) -> bool {
        let start = || self.medium.lenient(self.out.geometry.cluster_place(next), LONGEST_SET).bytes;
        matches!(self.seam_of(at), Seam::Torn(torn) if is_mended_by(&torn, &start()))
    }

    /// A piece of a folder that nobody has goes on where cluster `at` breaks off.
    pub(super) fn goes_on_elsewhere(&mut self, at: u32) -> bool {
        let believed = self.bitmap_believed();
        self.next_piece(at, believed).is_some()
    }

    /// True for a cluster that reads as a later one of a folder, or as one of which nothing is used yet.
    pub(super) fn can_be_later_part(&mut self, cluster: u32) -> bool {
        let pieces = self.pieces(self.bitmap_believed());
        let found = pieces.binary_search_by_key(&cluster, |piece| piece.cluster).is_ok();
        found || {
            let place = self.out.geometry.cluster_place(cluster);
            let each = self.out.geometry.cluster_bytes().size();
            self.medium.lenient(place, each).bytes.iter().all(|byte| *byte == 0)
        }
    }

    /// What reads as a later part of a folder, and is in use and nobody's; by place. Found once, and again only if the
    /// bitmap lost its credit meanwhile: it only gets less.
    fn pieces(&mut self, believed: bool) -> Rc<[Piece]> {
        if let Some((then, found)) = &self.pieces
            && *then == believed
        {
            return found.clone();
        }
        let (mut open, pointed) = self.pointed();
        if !believed {
            open = self.out.claimed.complement();
        }
        let each = self.out.geometry.cluster_bytes().size();
        let mut found = Vec::new();
        let geometry = self.out.geometry;
        let clusters = open.difference(&pointed).map(Sat::narrow).filter(|cluster| geometry.has(*cluster));
        let clusters = clusters.take(LOOKED_AT);
        for (looked, cluster) in clusters.enumerate() {
            if looked.is_multiple_of(1024) && self.watch.stop() {
                break;
            }
            let place = self.out.geometry.cluster_place(cluster);
            let start = self.medium.lenient(place, LONGEST_SET.min(each)).bytes;
            if !looks_like_folder(&start, false) {
                continue;
            }
            let bytes = self.medium.lenient(place, each).bytes;
            let reading = Reading::of(&bytes, &self.out.capitals, false);
            let sets = reading.items.iter().any(|item| item.flaws.is_empty());
            let tail = start.chunks_exact(ENTRY).take_while(|raw| raw.byte(0) & SECONDARY != 0).count();
            // The end of a set, and nothing behind it.
            let ends = tail > 0 && bytes.part(tail.times(ENTRY), each).iter().all(|byte| *byte == 0);
            if sets || ends {
                let name = reading.items.first().map(|item| item.name.clone());
                found.push(Piece { cluster, start, name });
            }
        }
        let found: Rc<[Piece]> = found.into();
        self.pieces = Some((believed, found.clone()));
        found
    }
}
