//! `$Secure`: security descriptors, each twice.
//!
//! ```text
//! $SDS   blocks of 256 KiB, each followed by its copy; in them entries at multiples of 16:
//!        0 hash   4 id   8 offset in the stream   16 length   20 descriptor
//! ```

use super::{
    catalogue as c,
    fresh::{SDS_STEP, hash},
    layout::{kind, own, put},
    records::Notes,
    runs::Mapping,
    survey::Survey,
    views,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::{finding::Finding, wording::counted},
};
use std::collections::HashSet;

/// Bytes of the stream that are read.
const MOST: u64 = 64 << 20;
/// Bytes of an entry before its descriptor.
pub(super) const HEAD: usize = 20;
/// Entries begin at multiples of it.
const STEP: usize = 16;
/// Places in which two damaged copies differ, of which each is tried from either.
const DIFFERING: usize = 10;
/// Bytes that may be alike between two bytes that differ of one place.
const ALIKE: usize = 8;

/// An entry of the stream whose descriptor is whole in one copy at least.
pub(super) struct Descriptor {
    /// Where it stands in the stream, in the first copy.
    pub(super) at: usize,
    /// Bytes of it.
    pub(super) length: usize,
    /// Its id.
    pub(super) id: u32,
    /// The copies have two ids.
    pub(super) doubted: bool,
    /// Where the copy stands that is whole.
    from: usize,
    /// Which copies are as they should be: the first, the second.
    pub(super) whole: [bool; 2],
}

impl Descriptor {
    /// What stands in each copy, or should.
    pub(super) fn entry(&self, bytes: &[u8]) -> Vec<u8> {
        let mut entry = bytes.part(self.from, self.length).to_vec();
        put(&mut entry, 4, &self.id.to_le_bytes());
        entry
    }
}

/// The stream, and where it stands.
pub(super) fn stream(medium: &dyn Medium, survey: &Survey) -> Option<(Vec<u8>, Mapping)> {
    let file = survey.records.live(own::SECURE)?;
    let pieces = survey.records.stream_of(file, kind::DATA, "$SDS");
    let first = pieces.first().filter(|piece| !piece.resident)?;
    let map = Mapping::of(&survey.records.all_runs(pieces), survey.mft.geometry.cluster());
    let length = first.size.min(map.len()).min(MOST);
    Some((map.read(medium, 0, length.size()), map))
}

/// A descriptor stands at `at`, as the one of this offset, and its hash fits.
pub(super) fn whole(bytes: &[u8], at: usize, offset: usize) -> bool {
    let length = bytes.le32(at.plus(16)).size();
    length > HEAD
        && length <= SDS_STEP
        && at.plus(length) <= bytes.len()
        && bytes.le64(at.plus(8)) == offset.wide()
        && hash(bytes.part(at.plus(HEAD), length.minus(HEAD))) == bytes.le32(at)
}

/// The id that the first descriptor has; they are counted up from there.
pub(super) const FIRST_ID: u32 = 0x100;

/// The entries that can be found in either copy.
pub(super) fn descriptors(bytes: &[u8]) -> Vec<Descriptor> {
    let mut found: Vec<Descriptor> = Vec::new();
    let mut block = 0_usize;
    while block < bytes.len() {
        let mut at = block;
        let end = block.plus(SDS_STEP);
        while at.plus(HEAD) < end {
            let copy = at.plus(SDS_STEP);
            // The hash comes out alike with 128 bytes of zeros behind it: of two lengths the shorter is right.
            let longer = bytes.le32(at.plus(16)) > bytes.le32(copy.plus(16));
            let from = match (whole(bytes, at, at), whole(bytes, copy, at)) {
                (true, true) if longer => copy,
                (true, _) => at,
                (false, true) => copy,
                // One that is damaged twice hides none of those behind it.
                (false, false) => {
                    at = at.plus(STEP);
                    continue;
                }
            };
            // The hash is of the descriptor alone: of two ids, that is right which follows sooner.
            let due = found.last().map_or(FIRST_ID, |last| last.id.plus(1));
            let other = if from == at { copy } else { at };
            let twins = bytes.part(from, 4) == bytes.part(other, 4)
                && bytes.part(from.plus(8), 12) == bytes.part(other.plus(8), 12);
            let [own, others] = [from, other].map(|at| bytes.le32(at.plus(4)));
            let doubted = twins && own != others;
            let late = |id: u32| id.checked_sub(due).unwrap_or(u32::MAX);
            let id = if doubted && late(others) < late(own) { others } else { own };
            let length = bytes.le32(from.plus(16)).size();
            let mut one = Descriptor { at, length, id, doubted, from, whole: [true, true] };
            let entry = one.entry(bytes);
            one.whole = [at, copy].map(|at| bytes.part(at, length) == entry);
            found.push(one);
            at = behind(at, length);
        }
        block = block.plus(SDS_STEP.times(2));
    }
    found
}

/// Where the entry behind one of this length begins.
fn behind(at: usize, length: usize) -> usize {
    at.plus(length).plus(STEP.minus(1)).per(STEP).times(STEP)
}

/// An entry that is damaged in both copies, and of which it is known where it stands.
pub(super) struct Lost {
    /// Where it stands in the stream, in the first copy.
    pub(super) at: usize,
    /// Bytes of it.
    pub(super) length: usize,
    /// Its id.
    pub(super) id: u32,
    /// The entry, where each damaged place of one copy is whole in the other.
    pub(super) told: Option<Vec<u8>>,
}

/// The entries between those that are whole: their heads are told by either copy, or by the `rows` of an index.
pub(super) fn lost(bytes: &[u8], whole: &[Descriptor], rows: &[Vec<u8>]) -> Vec<Lost> {
    let mut found = Vec::new();
    let mut block = 0_usize;
    while block < bytes.len() {
        let end = block.plus(SDS_STEP);
        let next =
            |at: usize| whole.iter().find(|one| one.at >= at && one.at < end).map_or(end, |one| one.at);
        let mut at = block;
        while at.plus(HEAD) < end {
            if let Ok(there) = whole.binary_search_by_key(&at, |one| one.at) {
                at = behind(at, whole.get(there).map_or(0, |one| one.length));
                continue;
            }
            let limit = next(at);
            let copy = at.plus(SDS_STEP);
            let own_rows = rows.iter().filter(|row| row.le64(8) == at.wide()).map(Vec::as_slice);
            let heads: Vec<&[u8]> = own_rows
                .chain([bytes.part(at, HEAD), bytes.part(copy, HEAD)])
                .filter(|head| head.len() == HEAD)
                .collect();
            let fits = |head: &&&[u8]| {
                let length = head.le32(16).size();
                head.le64(8) == at.wide()
                    && head.le32(4) >= FIRST_ID
                    && length > HEAD
                    && copy.plus(length) <= bytes.len()
                    && at.plus(length) <= limit
                    && whole.iter().all(|one| one.id != head.le32(4))
            };
            // Best one that reaches to the next; another lost one may follow.
            let reaches = |head: &&&[u8]| fits(head) && behind(at, head.le32(16).size()) == limit;
            let Some(head) = heads.iter().find(reaches).or_else(|| heads.iter().find(fits)) else {
                // What follows cannot be told from what is within this one.
                at = limit;
                continue;
            };
            let length = head.le32(16).size();
            let told = heads.iter().filter(fits).find_map(|head| {
                let (one, other) = (bytes.part(at, length), bytes.part(copy, length));
                let descriptor = combined(one.part(HEAD, length), other.part(HEAD, length), head.le32(0))?;
                Some([*head, descriptor.as_slice()].concat())
            });
            found.push(Lost { at, length, id: head.le32(4), told });
            at = behind(at, length);
        }
        block = block.plus(SDS_STEP.times(2));
    }
    found
}

/// The descriptor of this hash, each place where the copies differ from one of these.
fn combined(one: &[u8], other: &[u8], wanted: u32) -> Option<Vec<u8>> {
    let mut places: Vec<std::ops::Range<usize>> = Vec::new();
    for (at, _) in one.iter().zip(other).enumerate().filter(|(_, (one, other))| one != other) {
        match places.last_mut() {
            Some(last) if at < last.end.plus(ALIKE) => last.end = at.plus(1),
            _ => places.push(at..at.plus(1)),
        }
    }
    if places.len() > DIFFERING {
        return None;
    }
    (0_u32..1 << places.len()).find_map(|taken| {
        let mut tried = one.to_vec();
        for (number, place) in places.iter().enumerate() {
            if taken >> number & 1 == 1 {
                put(&mut tried, place.start, other.part(place.start, place.len()));
            }
        }
        (hash(&tried) == wanted).then_some(tried)
    })
}

/// Files that are named in one finding.
const NAMED: usize = 64;

/// What is wrong with the descriptors.
pub(super) fn faults(medium: &dyn Medium, survey: &Survey) -> Vec<Finding> {
    let mut found = Vec::new();
    let Some((bytes, map)) = stream(medium, survey) else { return found };
    let all = descriptors(&bytes);
    let copies = all.iter().flat_map(|one| {
        let [first, second] = one.whole;
        [(one, one.at, "first", first), (one, one.at.plus(SDS_STEP), "second", second)]
    });
    for (one, at, which, _) in copies.filter(|(.., whole)| !whole) {
        // The second copy of what was written last may be due.
        found.push(
            Finding::new(&c::SECURE, c::SECURE.title)
                .at(map.place(at.wide()).unwrap_or(0), one.length.wide())
                .because(
                    format!("The {which} copy of the descriptor with the id {:#x} is damaged.", one.id),
                    "Its hash should fit, in both, and the id should be one.",
                    "",
                ),
        );
    }
    for one in lost(&bytes, &all, &views::rows(medium, survey)) {
        let place = map.place(one.at.wide()).unwrap_or(0);
        found.push(
            Finding::new(&c::SECURE, "a security descriptor is damaged in both copies in $Secure")
                .at(place, one.length.wide())
                .because(
                    format!("The descriptor with the id {:#x} is damaged in both copies.", one.id),
                    if one.told.is_some() {
                        "Each damaged place of one is whole in the other, as its hash says."
                    } else {
                        "Its hash should fit in one at least."
                    },
                    "",
                ),
        );
    }
    let known: HashSet<u32> = all.iter().map(|one| one.id).collect();
    let strangers = survey.records.files.iter().filter(|file| {
        !file.notes.contains(Notes::DELETED) && file.security != 0 && !known.contains(&file.security)
    });
    let strangers: Vec<u32> = strangers.map(|file| file.number).collect();
    if !strangers.is_empty() {
        let many = counted(strangers.len().wide(), "file names", "files name");
        let mut finding =
            Finding::new(&c::SECURITY_ID, format!("{many} a security id that is not in $Secure"));
        let told: HashSet<u32> = strangers.into_iter().take(NAMED).collect();
        let mut paths: Vec<(u32, String)> =
            survey.paths_of(|number| told.contains(&number)).into_iter().collect();
        paths.sort_unstable();
        for (number, path) in paths {
            let place = survey.mft.place(number).unwrap_or(0);
            finding = finding.at(place, survey.mft.geometry.record().wide());
            finding = if path.is_empty() { finding } else { finding.file(path) };
        }
        found.push(finding);
    }
    found
}
