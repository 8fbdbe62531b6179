//! Pieces of $MFT that nothing names any more: record 0 and its copy are lost, or a record that extends record 0 is.
//!
//! A record says which it is (byte 44 of its head, from version 3.1 on; the Linux driver leaves that out), or a folder that
//! names its file does. Where it stands is then a cluster of $MFT whose number is known, and records one behind the other
//! are a piece. But an image of another volume in a file has such
//! records too, and so has what an earlier formatting left. What a record of ours names as a file's content is no piece of
//! $MFT; nor is a piece whose files name folders that are none.

use super::{
    geometry::Geometry,
    index::{named_in_block, named_in_root},
    layout::{self, Fixups, kind, own, sequence, unfix},
    mft::{self, Mft, ToldBy},
    names::of_key,
    record::{Head, attributes},
    runs::{Mapping, Run, decode},
};
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
    progress::Watch,
};
use rangemap::RangeSet;
use std::{
    collections::{BTreeMap, HashMap},
    hash::{DefaultHasher, Hash, Hasher},
    ops::Range,
};

/// Pieces that are looked at.
const MOST: usize = 1 << 12;
/// Names that are held against each other, of records and of folders.
const NAMES: usize = 1 << 22;
/// $MFT is so many times as long as the pieces of it that are found, at most, and so many bytes longer.
const SPREAD: u64 = 8;
/// See [`SPREAD`].
const SMALL: u64 = 64 << 20;
/// Records of a piece that are read at a time.
const AT_ONCE: u64 = 1024;
/// Bytes without a record within a piece.
const GAP: u64 = 1 << 20;

/// Records one behind the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Piece {
    /// Which cluster of $MFT the first one is.
    vcn: u64,
    /// Where it stands.
    first: u64,
    length: u64,
    records: u64,
}

impl Piece {
    fn end(&self) -> u64 {
        self.vcn.plus(self.length)
    }
    fn clusters(&self) -> Range<u64> {
        self.first..self.first.plus(self.length)
    }
    /// What of it lies within these clusters of $MFT.
    fn within(self, from: u64, to: u64) -> Option<Self> {
        let (vcn, end) = (self.vcn.max(from), self.end().min(to));
        let length = end.checked_sub(vcn).filter(|length| *length > 0)?;
        Some(Self { vcn, first: self.first.plus(vcn.minus(self.vcn)), length, ..self })
    }
}

/// The record that these bytes are, fixups off.
fn whole(bytes: &[u8], size: usize) -> Option<Vec<u8>> {
    let mut record = bytes.to_vec();
    let fits = record.len() == size && unfix(&mut record) != Fixups::Bad;
    let head = Head::read(&record);
    (fits && head.allocated == size && (head.first..=size).contains(&head.used)).then_some(record)
}

/// A name in a folder: the reference to that, and the name's hash.
type Key = (u64, u64);

fn key_of(name: &[u8]) -> Key {
    let mut hash = DefaultHasher::new();
    of_key(name).hash(&mut hash);
    (name.le64(0), hash.finish())
}

/// What stands on the volume.
#[derive(Default)]
struct Seen {
    /// Records whose number is known, by their place.
    numbered: BTreeMap<u64, u32>,
    /// Records that do not say their number, with their sequence number, by their names; `None` for a name that two have.
    unnumbered: HashMap<Key, Option<(u64, u16)>>,
    /// What folders name.
    entries: HashMap<Key, u64>,
    /// Where records stand one behind the other: from, and to.
    rows: Vec<(u64, u64)>,
}

impl Seen {
    fn record(&mut self, at: u64, record: &[u8]) {
        match self.rows.last_mut() {
            Some((_, end)) if *end == at => *end = at.plus(record.len().wide()),
            _ => self.rows.push((at, at.plus(record.len().wide()))),
        }
        let head = Head::read(record);
        if let Some(number) = head.number.filter(|_| self.numbered.len() < NAMES) {
            self.numbered.insert(at, number);
        }
        if !head.in_use() || self.unnumbered.len() >= NAMES {
            return;
        }
        if head.number.is_none() {
            for name in attributes(record).0.iter().filter(|attribute| attribute.kind() == kind::NAME) {
                let one = Some((at, head.sequence));
                self.unnumbered.entry(key_of(name.value())).and_modify(|found| *found = None).or_insert(one);
            }
        }
        if head.folder() {
            self.named(named_in_root(record));
        }
    }

    fn named(&mut self, names: Vec<(u64, Vec<u8>)>) {
        if self.entries.len() < NAMES {
            self.entries.extend(names.into_iter().map(|(reference, name)| (key_of(&name), reference)));
        }
    }

    /// The pieces: a folder that names a file says the number of its record.
    fn pieces(mut self, geometry: &Geometry) -> Vec<Piece> {
        for (key, found) in &self.unnumbered {
            let Some((at, own)) = *found else { continue };
            let reference = self.entries.get(key).filter(|reference| sequence(**reference) == own);
            if let Some(reference) = reference {
                self.numbered.insert(at, layout::number(*reference).narrow());
            }
        }
        let mut pieces = Vec::new();
        for (at, number) in &self.numbered {
            if pieces.len() < MOST {
                add(&mut pieces, geometry, *at, *number);
            }
        }
        self.stretched(&pieces, geometry)
    }

    /// Records right in front of a piece and right behind it are of it, up to the next one.
    fn stretched(&self, pieces: &[Piece], geometry: &Geometry) -> Vec<Piece> {
        let row_of = |cluster: u64| {
            let at = geometry.place(cluster);
            let index = self.rows.partition_point(|(from, _)| *from <= at).checked_sub(1)?;
            self.rows.get(index).filter(|(_, to)| at < *to)
        };
        let mut all: Vec<Piece> = Vec::new();
        for (index, piece) in pieces.iter().enumerate() {
            let mut piece = *piece;
            let before = all.last().map_or(0, |piece| piece.clusters().end);
            if let Some((from, _)) = row_of(piece.first) {
                let first = from.per_up(geometry.cluster()).max(before).max(piece.first.minus(piece.vcn));
                let more = piece.first.minus(first);
                piece = Piece {
                    vcn: piece.vcn.minus(more),
                    first: piece.first.minus(more),
                    length: piece.length.plus(more),
                    ..piece
                };
            }
            let next = pieces.get(index.plus(1)).map_or(geometry.clusters(), |next| next.first);
            if let Some((_, to)) = row_of(piece.clusters().end.minus(1)) {
                let end = to.per_up(geometry.cluster()).min(next).max(piece.clusters().end);
                piece.length = end.minus(piece.first);
            }
            all.push(piece);
        }
        all
    }
}

/// All records on the volume whose number is known, as pieces in the order in which they stand.
fn search(medium: &dyn Medium, geometry: &Geometry, watch: &dyn Watch) -> Vec<Piece> {
    let (size, cluster) = (geometry.record(), geometry.cluster());
    let step = size.wide().min(cluster);
    let end = geometry.counted().min(medium.len());
    let mut seen = Seen::default();
    let mut at = 0_u64;
    while let Some(piece) = medium.piece_from(at, end) {
        if watch.stop() {
            break;
        }
        watch.at("searching for records of $MFT", piece.offset, end);
        let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
        let mut here = piece.offset.per_up(step).times(step);
        while here < piece.end() {
            let from = here.minus(piece.offset).size();
            // What goes on in the next piece is read for itself.
            let all = |length: usize| match bytes.get(from..from.plus(length)) {
                Some(own) => own.to_vec(),
                None => medium.lenient(here, length).bytes,
            };
            match bytes.part(from, 4) {
                b"FILE" => {
                    if let Some(record) = whole(&all(size), size) {
                        seen.record(here, &record);
                    }
                }
                b"INDX" => seen.named(named_in_block(&all(geometry.index()))),
                _ => {}
            }
            here = here.plus(step);
        }
        at = piece.end();
    }
    seen.pieces(geometry)
}

fn add(pieces: &mut Vec<Piece>, geometry: &Geometry, at: u64, number: u32) {
    let (size, cluster) = (geometry.record().wide(), geometry.cluster());
    let byte = number.wide().times(size);
    if at.rest(cluster) != byte.rest(cluster) {
        return;
    }
    let (vcn, first, length) = (byte.per(cluster), at.per(cluster), size.per_up(cluster));
    if let Some(last) = pieces.last_mut() {
        let same = last.first.plus(vcn.minus(last.vcn)) == first && vcn >= last.vcn;
        if same && vcn.minus(last.end()).times(cluster) <= GAP {
            last.length = last.length.max(vcn.plus(length).minus(last.vcn));
            last.records = last.records.plus(1);
            return;
        }
    }
    pieces.push(Piece { vcn, first, length, records: 1 });
}

/// What the records of a piece say.
#[derive(Default)]
struct Said {
    /// Clusters that hold the content of files.
    content: RangeSet<u64>,
    /// Sequence number of each record, and whether it is a folder.
    files: HashMap<u32, (u16, bool)>,
    /// The folders that they name.
    parents: Vec<(u32, u16)>,
}

impl Said {
    /// By the records in these clusters of the volume, which are cluster `vcn` of $MFT and on.
    fn of(medium: &dyn Medium, geometry: &Geometry, piece: &Piece) -> Self {
        let mut said = Self::default();
        let size = geometry.record();
        let map = Mapping::of(&[Run::new(piece.first, piece.length)], geometry.cluster());
        let begin = piece.vcn.times(geometry.cluster()).per_up(size.wide());
        let skip = begin.times(size.wide()).minus(piece.vcn.times(geometry.cluster()));
        let count = map.len().minus(skip).per(size.wide());
        for from in (0..count).step_by(AT_ONCE.size()) {
            let records = count.minus(from).min(AT_ONCE).times(size.wide());
            let mut bytes = map.read(medium, skip.plus(from.times(size.wide())), records.size());
            for (index, record) in (from..).zip(bytes.chunks_exact_mut(size)) {
                let whole = record.part(0, 4) == b"FILE" && unfix(record) != Fixups::Bad;
                let number = begin.plus(index).narrow();
                if whole && Head::read(record).number.is_none_or(|own| own == number) {
                    said.take(geometry, number, record);
                }
            }
        }
        said
    }

    fn take(&mut self, geometry: &Geometry, number: u32, record: &[u8]) {
        let head = Head::read(record);
        self.files.insert(number, (head.sequence, head.folder() && head.in_use()));
        // What records 0 and what extends it name is $MFT itself.
        let of_mft = number == own::MFT || head.base != 0 && layout::number(head.base) == u64::from(own::MFT);
        if !head.in_use() {
            return;
        }
        for attribute in &attributes(record).0 {
            let of = attribute.kind();
            if of == kind::NAME && number >= own::FIRST_USER {
                let parent = attribute.value().le64(0);
                self.parents.push((layout::number(parent).narrow(), sequence(parent)));
            }
            if matches!(of, kind::DATA | kind::INDEX_ALLOCATION) && !attribute.resident() && !of_mft {
                let (runs, _) = decode(attribute.runs(), attribute.clusters(), geometry.clusters());
                self.content.extend(runs.iter().filter_map(|run| Some(run.first?..run.end())));
            }
        }
    }

    fn add(&mut self, other: Self) {
        self.content.extend(other.content);
        self.files.extend(other.files);
    }

    /// True where more of the folders that `other` names are folders, of those that are seen, than are not: the root
    /// is every volume's.
    fn bears_out(&self, other: &Self) -> bool {
        let (mut right, mut wrong) = (0_u64, 0_u64);
        for (parent, sequence) in other.parents.iter().filter(|(parent, _)| *parent >= own::FIRST_USER) {
            match other.files.get(parent).or_else(|| self.files.get(parent)) {
                Some(found) if *found == (*sequence, true) => right = right.plus(1),
                Some(_) => wrong = wrong.plus(1),
                None => {}
            }
        }
        wrong <= right
    }
}

impl Mft {
    /// Adds the pieces that nothing names, where some are missed: all of the volume is looked through for them.
    pub(super) fn with_scattered(mut self, medium: &dyn Medium, watch: &dyn Watch) -> Self {
        let lost = self.told_by == ToldBy::Found;
        if !lost && self.missing == 0 {
            return self;
        }
        let geometry = self.geometry;
        // Where records were looked through from where $MFT begins, there may be none at once.
        let base = if lost && self.size == 0 { Vec::new() } else { self.runs.clone() };
        let known = base.iter().fold(0_u64, |sum, run| sum.plus(run.length));
        let limit = if lost { geometry.clusters() } else { known.plus(geometry.clusters_for(self.missing)) };
        let taken: RangeSet<u64> = base.iter().filter_map(|run| Some(run.first?..run.end())).collect();
        let candidates =
            search(medium, &geometry, watch).into_iter().filter_map(|piece| piece.within(known, limit));
        let candidates: Vec<Piece> = candidates.filter(|piece| !taken.overlaps(&piece.clusters())).collect();
        if candidates.is_empty() {
            return self;
        }
        let mut said = Said::default();
        let mut vcn = 0;
        for run in &base {
            if let Some(first) = run.first {
                said.add(Said::of(medium, &geometry, &Piece { vcn, first, length: run.length, records: 0 }));
            }
            vcn = vcn.plus(run.length);
        }
        let pieces = accepted((medium, &geometry), known, candidates, &mut said);
        if pieces.is_empty() {
            return self;
        }
        let mut all = Laid { runs: base, at: known, holes: 0 };
        for piece in &pieces {
            all.fill((medium, &geometry), piece.vcn, Some(piece), &said);
            all.push(Some(piece.first), piece.length);
        }
        if !lost {
            // How long it is is known: of the last clusters none may ever have been written.
            all.fill((medium, &geometry), limit, None, &said);
        }
        let found = all.at.minus(known);
        self.refound = geometry.place(found);
        self.map = Mapping::of(&all.runs, geometry.cluster());
        self.runs = all.runs;
        let record = geometry.record().wide();
        if lost {
            self.size = self.map.len().per(record).min(mft::MOST).times(record);
            self.valid = self.size;
            self.missing = geometry.place(all.holes);
        } else {
            let told = self.size.plus(self.missing);
            self.size = told.min(self.map.len()).min(mft::MOST.times(record));
            self.missing = geometry.place(limit.minus(all.at).plus(all.holes));
        }
        self
    }
}

/// The pieces that are $MFT's, in its order; what their records say is added.
fn accepted(
    (medium, geometry): (&dyn Medium, &Geometry),
    known: u64,
    pieces: Vec<Piece>,
    said: &mut Said,
) -> Vec<Piece> {
    let all: Vec<(Piece, Said)> =
        pieces.into_iter().map(|piece| (piece, Said::of(medium, geometry, &piece))).collect();
    // What another piece has as the content of a file comes last, so that this one can speak first.
    let named = |piece: &Piece| all.iter().any(|(_, other)| other.content.overlaps(&piece.clusters()));
    let order: Vec<bool> = all.iter().map(|(piece, _)| named(piece)).collect();
    let mut ordered: Vec<(bool, (Piece, Said))> = order.into_iter().zip(all).collect();
    ordered.sort_by_key(|(named, (piece, _))| (*named, std::cmp::Reverse(piece.records)));
    let mut ours: Vec<Piece> = Vec::new();
    for (_, (piece, own)) in ordered {
        let content = said.content.overlaps(&piece.clusters());
        let twice = ours.iter().any(|other| other.vcn < piece.end() && piece.vcn < other.end());
        if !content && !twice && said.bears_out(&own) {
            ours.push(piece);
            said.add(own);
        }
    }
    ours.sort_by_key(|piece| piece.vcn);
    // One number that is wrong would make a table as long as the volume.
    let mut seen = ours.iter().fold(known, |sum, piece| sum.plus(piece.length));
    let most = |seen: u64| seen.times(SPREAD).plus(SMALL.per(geometry.cluster()));
    while let Some(last) = ours.last().filter(|last| last.end() > most(seen)) {
        seen = seen.minus(last.length);
        ours.pop();
    }
    ours
}

/// $MFT as it is put together.
struct Laid {
    runs: Vec<Run>,
    /// Clusters that there are so far.
    at: u64,
    /// Clusters of which it is not known where they stand.
    holes: u64,
}

impl Laid {
    fn push(&mut self, first: Option<u64>, length: u64) {
        self.at = self.at.plus(length);
        match self.runs.last_mut() {
            Some(last) if last.first.is_some() && first == Some(last.end()) => {
                last.length = last.length.plus(length);
            }
            _ => self.runs.push(Run { first, length }),
        }
    }

    /// Comes up to cluster `vcn` of $MFT, where `piece` begins. Blank clusters that nobody has, behind what is known or in
    /// front of the piece, held records; so did those where $MFT begins, whatever stands there now.
    fn fill(
        &mut self,
        (medium, geometry): (&dyn Medium, &Geometry),
        vcn: u64,
        piece: Option<&Piece>,
        said: &Said,
    ) {
        let gap = vcn.minus(self.at);
        if gap == 0 {
            return;
        }
        let start = self.runs.is_empty();
        let behind = self.runs.last().map_or(geometry.mft, Run::end);
        let whose = |first: u64, any: bool| {
            let clusters = first..first.plus(gap);
            let free = clusters.end <= geometry.clusters() && !said.content.overlaps(&clusters);
            let apart = piece
                .is_none_or(|piece| clusters.end <= piece.first || piece.clusters().end <= clusters.start);
            let place = Extent::new(geometry.place(first), geometry.place(gap));
            free && apart && (any || medium.is_zero(place))
        };
        let before = piece.and_then(|piece| piece.first.checked_sub(gap));
        let first =
            if whose(behind, start) { Some(behind) } else { before.filter(|first| whose(*first, false)) };
        if first.is_none() {
            self.holes = self.holes.plus(gap);
        }
        self.push(first, gap);
    }
}
