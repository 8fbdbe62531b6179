//! Attribute lists, held against the records that they speak of.
//!
//! A file whose attributes stand in several records has in its first one a list ([`super::list`]) that says where each
//! stands. Hosts go by the list alone; here a file is put together by the base record that each record names, so that a
//! list that is gone costs nothing. The list is a witness all the same: of a record whose base was struck, and of one
//! that says that it is free. There is no published description; that hosts go by the list is what Linux does (6.12,
//! `fs/ntfs3/frecord.c`, `ni_find_attr`), and that it is sorted by type what `fs/ntfs3/attrlist.c` rests on.

use super::{
    layout::{kind, number, reference},
    list::{self, Entry},
    record::Attribute,
    records::{File, Flaw, Notes, Records, Use},
    runs::Mapping,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
};
use std::collections::{HashMap, HashSet};

/// An attribute of a file: its record, its type, the number of its name.
type Stream = (u32, u32, u32);
/// A gap in it, by its first VCN.
type Gap = (Stream, u64);

/// Bytes of a list that are read: hosts write a quarter of that at most.
const LONGEST: u64 = 1 << 20;

/// One attribute, as a list has it.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Listed {
    /// Its type.
    pub kind: u32,
    /// Its name, UTF-16 as bytes.
    pub name: Box<[u8]>,
    /// Its first VCN.
    pub first_vcn: u64,
    /// The record that it stands in.
    pub reference: u64,
    /// Its id there.
    pub id: u16,
}

impl Listed {
    fn of(entry: &Entry<'_>) -> Self {
        Self {
            kind: entry.kind,
            name: entry.name.into(),
            first_vcn: entry.first_vcn,
            reference: entry.reference,
            id: entry.id,
        }
    }
    /// What a list should say of an attribute in the record that is meant.
    pub(super) fn attribute(attribute: &Attribute<'_>, reference: u64) -> Self {
        let first_vcn = if attribute.resident() { 0 } else { attribute.first_vcn() };
        let name = attribute.name().into();
        Self { kind: attribute.kind(), name, first_vcn, reference, id: attribute.id() }
    }
    /// The entry.
    pub(super) fn entry(&self) -> Entry<'_> {
        Entry {
            kind: self.kind,
            name: &self.name,
            first_vcn: self.first_vcn,
            reference: self.reference,
            id: self.id,
            at: 0,
        }
    }
}

/// How a list differs from what the records have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ListFlaw {
    /// There is none, or it cannot be read to its end.
    pub unreadable: bool,
    /// Attributes that it leaves out.
    pub missing: u32,
    /// Entries that stand for none.
    pub stale: u32,
    /// The entries are out of order.
    pub order: bool,
}

/// What lists say, and what the records have that they speak of.
#[derive(Debug, Default)]
pub struct Lists {
    /// By file: the list's entries, and whether it could be read to its end.
    told: HashMap<u32, (Vec<Listed>, bool)>,
    /// Attributes, by the record that they stand in.
    has: HashMap<u32, Vec<Listed>>,
}

impl Lists {
    /// Notes what a record has, if that is in a list.
    pub(super) fn add(&mut self, holder: u32, has: Vec<Listed>, told: Option<&[u8]>) {
        self.has.insert(holder, has);
        if let Some(told) = told {
            self.told.insert(holder, read(told));
        }
    }
    /// What a file's list says.
    pub(super) fn told_of(&self, file: u32) -> &[Listed] {
        self.told.get(&file).map_or(&[], |(told, _)| told)
    }
}

fn read(bytes: &[u8]) -> (Vec<Listed>, bool) {
    let mut end = 0;
    let found =
        list::entries(bytes).inspect(|entry| end = entry.at.plus(usize::from(bytes.le16(entry.at.plus(4)))));
    let found: Vec<Listed> = found.map(|entry| Listed::of(&entry)).collect();
    let whole = end == bytes.len() && !found.is_empty();
    (found, whole)
}

impl Records {
    /// Reads the lists that stand outside their records.
    pub(super) fn read_lists(&mut self, medium: &dyn Medium, cluster: u64) {
        let outside = |piece: &&super::records::Piece| piece.kind == kind::LIST && !piece.resident;
        let pieces: Vec<_> = self.pieces.iter().filter(outside).cloned().collect();
        for piece in pieces {
            let map = Mapping::of(self.runs_of(&piece), cluster);
            let length = piece.size.min(map.len()).min(LONGEST);
            let (told, whole) = read(&map.read(medium, 0, length.size()));
            self.lists.told.insert(piece.file, (told, whole && length == piece.size));
        }
    }

    /// Goes by the lists where a record does not say, or wrongly, which one it extends, and by the gap that it fills where
    /// no list has it; records that belong to nobody are given back, in their order.
    pub(super) fn extended(&mut self, cluster: u64) -> Vec<u32> {
        // A record that only one list names.
        let mut claims: HashMap<u64, Option<u32>> = HashMap::new();
        let files = self.lists.told.iter().filter(|(file, _)| self.uses.get(file.size()) == Some(&Use::File));
        for (file, (told, _)) in files {
            let named: HashSet<u64> = told.iter().map(|listed| listed.reference).collect();
            for other in named.into_iter().filter(|other| number(*other) != u64::from(*file)) {
                claims.entry(other).and_modify(|one| *one = None).or_insert(Some(*file));
            }
        }
        let mut moved: HashMap<u32, u32> = HashMap::new();
        // One that was emptied extends nothing.
        let claimed: HashSet<u64> = claims.keys().map(|other| number(*other)).collect();
        let holders = self.pieces.iter().map(|piece| piece.holder);
        let holders = holders.chain(self.names.iter().map(|name| name.holder));
        let full: HashSet<u32> = if claimed.is_empty() {
            HashSet::new()
        } else {
            holders.filter(|holder| claimed.contains(&u64::from(*holder))).collect()
        };
        let (mut strangers, mut unlisted) = (Vec::new(), Vec::new());
        for (holder, base) in self.extending.clone() {
            let of = u32::try_from(number(base)).unwrap_or(u32::MAX);
            let there = self.uses.get(of.size()) == Some(&Use::File) && self.own(of) == base;
            let own = self.own(holder);
            let named = self.lists.told_of(of).iter().any(|listed| listed.reference == own);
            let told = claims.get(&own).copied().flatten();
            match (self.uses.get(holder.size()), told) {
                (Some(Use::Free), Some(told)) if there && told == of && full.contains(&holder) => {
                    self.flaws.push((holder, Flaw::Free));
                    self.set_use(holder, Use::Extends);
                }
                (Some(Use::Extends), Some(told)) if !there || told != of && !named => {
                    moved.insert(holder, told);
                }
                (Some(Use::Extends), _) if there && named => {}
                (Some(Use::Extends), _) if there => unlisted.push(holder),
                _ => strangers.push(holder),
            }
        }
        let in_use = |holder: &&u32| self.uses.get(holder.size()) == Some(&Use::Extends);
        let lost: HashSet<u32> = strangers.iter().filter(in_use).copied().collect();
        let (bare, known) = (self.bare(), self.extending.len());
        let doubtful: HashSet<u32> = unlisted.iter().chain(&lost).chain(&bare).copied().collect();
        moved.extend(self.by_gaps(&doubtful, cluster));
        for holder in bare.iter().filter(|holder| moved.contains_key(holder)) {
            self.adopt(*holder);
        }
        strangers.retain(|holder| !moved.contains_key(holder));
        // What extends another says so: one that does not is taken for a file without a name, or a deleted one.
        for (told, file) in claims {
            let holder = u32::try_from(number(told)).unwrap_or(u32::MAX);
            let usage = self.uses.get(holder.size()).copied();
            let Some(file) = file.filter(|_| self.own(holder) == told) else { continue };
            let alone = match usage {
                Some(Use::File) => bare.contains(&holder),
                Some(Use::Free) => {
                    let extending = self.extending.get(..known).unwrap_or(&[]);
                    extending.binary_search_by_key(&holder, |(other, _)| *other).is_err()
                        && self.names.iter().all(|name| name.holder != holder)
                        && full.contains(&holder)
                }
                _ => false,
            };
            if !alone {
                continue;
            }
            moved.insert(holder, file);
            self.adopt(holder);
            self.flaws.extend((usage == Some(Use::Free)).then_some((holder, Flaw::Free)));
        }
        self.extending.sort_unstable();
        for at in 0..self.extending.len() {
            let Some((holder, base)) = self.extending.get(at).copied() else { continue };
            if let Some(file) = moved.get(&holder) {
                let told = self.own(*file);
                self.flaws.push((holder, Flaw::Extends(base, told)));
                if let Some(extending) = self.extending.get_mut(at) {
                    extending.1 = told;
                }
            } else if lost.contains(&holder) {
                self.flaws.push((holder, Flaw::Base(base)));
            }
        }
        if !moved.is_empty() {
            for name in &mut self.names {
                name.file = moved.get(&name.holder).copied().unwrap_or(name.file);
            }
            for piece in &mut self.pieces {
                piece.file = moved.get(&piece.holder).copied().unwrap_or(piece.file);
            }
        }
        strangers.sort_unstable();
        strangers
    }

    /// Records in use without standard information and without a name.
    fn bare(&self) -> HashSet<u32> {
        let flaws = self.flaws.iter().filter(|(_, flaw)| *flaw == Flaw::NoStandard);
        let mut bare: HashSet<u32> = flaws.map(|(number, _)| *number).collect();
        if !bare.is_empty() {
            for name in &self.names {
                bare.remove(&name.holder);
            }
        }
        bare
    }

    /// Takes what was read as a file for a record that extends another.
    fn adopt(&mut self, holder: u32) {
        self.set_use(holder, Use::Extends);
        self.files.retain(|file| file.number != holder);
        self.flaws.retain(|(number, flaw)| *number != holder || *flaw != Flaw::NoStandard);
        self.extending.push((holder, 0));
    }

    /// The reference to a record as it is now.
    fn own(&self, number: u32) -> u64 {
        reference(number, self.sequences.get(number.size()).copied().unwrap_or(0))
    }

    /// Of records that no list has, the file in which each fills a gap, where that is one alone: with first VCN and length
    /// just as the pieces around it, and what is allocated in all, ask for.
    fn by_gaps(&self, doubtful: &HashSet<u32>, cluster: u64) -> Vec<(u32, u32)> {
        if doubtful.is_empty() {
            return Vec::new();
        }
        let mut streams: HashMap<Stream, Vec<(u64, u64, u64)>> = HashMap::new();
        // First VCN, clusters, bytes allocated in all.
        for piece in self.pieces.iter().filter(|piece| !piece.resident && !doubtful.contains(&piece.holder)) {
            let stream = streams.entry((piece.file, piece.kind, piece.name)).or_default();
            stream.push((piece.first_vcn, piece.clusters, piece.allocated));
        }
        // By type, name, and the VCNs around them: the files.
        let mut gaps: HashMap<(u32, u32, u64, u64), Vec<u32>> = HashMap::new();
        for ((file, kind, name), mut pieces) in streams {
            if self.uses.get(file.size()) != Some(&Use::File) {
                continue;
            }
            pieces.sort_unstable();
            let all = pieces.first().filter(|first| first.0 == 0).map_or(0, |first| first.2.per(cluster));
            let mut next = 0_u64;
            for (first, clusters, _) in pieces.into_iter().chain([(all, 0, 0)]) {
                if first > next {
                    gaps.entry((kind, name, next, first)).or_default().push(file);
                }
                next = next.max(first.plus(clusters));
            }
        }
        // By the record: file and gap, where that is one and it has one piece alone.
        let mut taken: HashMap<u32, Option<Gap>> = HashMap::new();
        for piece in self.pieces.iter().filter(|piece| !piece.resident && doubtful.contains(&piece.holder)) {
            let end = piece.first_vcn.plus(piece.clusters);
            let files =
                gaps.get(&(piece.kind, piece.name, piece.first_vcn, end)).map_or(&[][..], |files| files);
            // The one that it names, in whatever use.
            let one = files.contains(&piece.file).then_some(piece.file);
            let one = one.or_else(|| files.first().copied().filter(|_| files.len() == 1));
            let gap = one.map(|file| ((file, piece.kind, piece.name), piece.first_vcn));
            taken.entry(piece.holder).and_modify(|known| *known = None).or_insert(gap);
        }
        // Two for one gap: neither is told.
        let mut many: HashMap<Gap, usize> = HashMap::new();
        for gap in taken.values().flatten() {
            let count = many.entry(*gap).or_default();
            *count = count.plus(1);
        }
        let told = |(holder, gap): (u32, Option<Gap>)| {
            let gap = gap.filter(|gap| many.get(gap) == Some(&1))?;
            let base = self.extending.binary_search_by_key(&holder, |(other, _)| *other);
            let base = base.ok().and_then(|at| self.extending.get(at)).map_or(0, |(_, base)| *base);
            let file = gap.0.0;
            (base != self.own(file)).then_some((holder, file))
        };
        taken.into_iter().filter_map(told).collect()
    }

    fn set_use(&mut self, number: u32, usage: Use) {
        if let Some(slot) = self.uses.get_mut(number.size()) {
            *slot = usage;
        }
    }

    /// True where the pieces of an attribute that can be read are all that it has.
    fn is_complete(&self, file: &File, of: &Listed, cluster: u64) -> bool {
        let units: Vec<u16> = of.name.chunks_exact(2).map(|unit| unit.le16(0)).collect();
        let pieces = self.stream_of(file, of.kind, &String::from_utf16_lossy(&units));
        let Some(first) = pieces.first() else { return false };
        let mut end = 0_u64;
        first.resident
            || pieces.iter().all(|piece| {
                let follows = piece.first_vcn == end;
                end = piece.first_vcn.plus(piece.clusters);
                follows
            }) && end.times(cluster) >= first.allocated
    }

    /// Holds each list against what the file's records have.
    pub(super) fn judge_lists(&mut self, cluster: u64) {
        let mut extending: HashMap<u32, Vec<u32>> = HashMap::new();
        for (holder, base) in &self.extending {
            if self.uses.get(holder.size()) == Some(&Use::Extends) && self.referred(*base).is_some() {
                extending.entry(u32::try_from(number(*base)).unwrap_or(u32::MAX)).or_default().push(*holder);
            }
        }
        let broken: HashSet<u32> = self
            .flaws
            .iter()
            .filter(|(_, flaw)| matches!(flaw, Flaw::Broken(_) | Flaw::Fixups))
            .map(|(number, _)| *number)
            .collect();
        let mut flaws = Vec::new();
        let mut notes = Vec::new();
        for file in self.files.iter().filter(|file| !file.notes.contains(Notes::DELETED)) {
            let others = extending.get(&file.number).map_or(&[][..], |others| others);
            if others.is_empty() && !file.notes.contains(Notes::LISTED) {
                continue;
            }
            let holders = || std::iter::once(file.number).chain(others.iter().copied());
            if holders().any(|holder| broken.contains(&holder)) {
                continue;
            }
            let Some((told, whole)) = self.lists.told.get(&file.number) else {
                flaws.push((file.number, Flaw::List(ListFlaw { unreadable: true, ..ListFlaw::default() })));
                notes.push((file.number, Notes::MISLISTED));
                continue;
            };
            let has: HashSet<&Listed> =
                holders().filter_map(|holder| self.lists.has.get(&holder)).flatten().collect();
            let named: HashSet<&Listed> = told.iter().collect();
            // What stands in a record that cannot be read is lost; the list is right to name it, unless it was laid anew since.
            let lost = |listed: &Listed| {
                let holder = u32::try_from(number(listed.reference)).unwrap_or(u32::MAX);
                matches!(self.uses.get(holder.size()), Some(Use::Noise | Use::Blank))
                    && !self.is_complete(file, listed, cluster)
            };
            let mut stale: Vec<&Listed> = told.iter().filter(|listed| !has.contains(listed)).collect();
            let gone = stale.iter().find(|listed| lost(listed)).map(|listed| listed.kind);
            stale.retain(|listed| !lost(listed));
            let flaw = ListFlaw {
                unreadable: !whole,
                missing: has.iter().filter(|listed| !named.contains(*listed)).count().narrow(),
                stale: stale.len().plus(told.len().minus(named.len())).narrow(),
                order: told.windows(2).any(|pair| match pair {
                    [one, other] if one.kind == other.kind && one.name == other.name => {
                        one.first_vcn > other.first_vcn
                    }
                    [one, other] => one.kind > other.kind,
                    _ => false,
                }),
            };
            if let Some(of) = gone {
                flaws.push((file.number, Flaw::Pieces(of)));
                notes.push((file.number, Notes::SHORT));
            } else if flaw != ListFlaw::default() {
                flaws.push((file.number, Flaw::List(flaw)));
                notes.push((file.number, Notes::MISLISTED));
            }
        }
        for (number, note) in notes {
            self.note(number, note);
        }
        // Of an attribute that leaves something out that may be told already.
        flaws.retain(|flaw| !matches!(flaw.1, Flaw::Pieces(_)) || !self.flaws.contains(flaw));
        self.flaws.extend(flaws);
        // What they said is settled.
        self.lists = Lists::default();
    }
}
