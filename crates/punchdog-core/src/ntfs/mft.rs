//! $MFT as a whole: where its records stand, by record 0 and what extends it.

use super::{
    geometry::Geometry,
    layout::{Fixups, kind, number, own, unfix},
    record::{Attribute, Head, attributes},
    runs::{BadRuns, Mapping, Run, decode},
};
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium},
};

/// Records in pieces of which $MFT is looked through where nothing tells how long it is.
const STEP: usize = 64;
/// Records at most: each takes a few bytes, also where there is none.
pub(super) const MOST: u64 = 1 << 26;
/// Bytes of its bitmap at most, where hardly anything is on a volume.
const BITMAP: u64 = 1 << 20;
/// Runs of $MFT's own attribute list that are followed.
const PARTS: usize = 4096;

/// Whose word is taken for where the records stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ToldBy {
    /// Record 0.
    Itself,
    /// Its copy in $MFTMirr.
    Mirror,
    /// Nobody: records were found one behind the other.
    Found,
}

/// Where the records stand.
#[derive(Debug, Clone)]
pub struct Mft {
    /// The geometry.
    pub geometry: Geometry,
    /// Where its bytes stand.
    pub map: Mapping,
    /// Its runs.
    pub runs: Vec<Run>,
    /// Bytes of records.
    pub size: u64,
    /// Bytes of records that were ever written.
    pub valid: u64,
    /// Whose word that is.
    pub told_by: ToldBy,
    /// What is wrong with its run list.
    pub bad: Option<BadRuns>,
    /// Bytes of records of which nothing says where they stand: a record that extends record 0 is lost.
    pub missing: u64,
    /// Bytes of records that nothing names and that were found by their numbers.
    pub refound: u64,
}

/// The plain content that a record describes, as far as it does itself.
fn data<'r>(list: &[Attribute<'r>], of: u32) -> Option<Attribute<'r>> {
    let fits = |a: &&Attribute<'r>| a.kind() == of && a.name().is_empty() && !a.resident();
    list.iter().find(fits).copied()
}

/// Record 0 in these bytes, if they are it: runs of its content, its size and valid size, what is wrong with the runs.
pub(crate) fn record_zero(
    bytes: &[u8],
    geometry: &Geometry,
) -> Option<(Vec<Run>, u64, u64, Option<BadRuns>)> {
    let mut record = bytes.to_vec();
    if unfix(&mut record) == Fixups::Bad {
        return None;
    }
    let head = Head::read(&record);
    let (list, _) = attributes(&record);
    let found = data(&list, kind::DATA).filter(|_| head.in_use() && head.base == 0)?;
    let (runs, bad) = decode(found.runs(), found.clusters(), geometry.clusters());
    let first = runs.first().filter(|_| found.first_vcn() == 0)?;
    let there = first.first.is_some() && found.size() > 0;
    there.then(|| (runs, found.size(), found.valid(), bad))
}

impl Mft {
    /// Where the records stand on a volume of this geometry.
    pub fn find(medium: &dyn Medium, geometry: &Geometry) -> Self {
        let size = geometry.record();
        let at = |cluster: u64| medium.lenient(geometry.place(cluster), size).bytes;
        let own = record_zero(&at(geometry.mft), geometry);
        let fits = |found: &(Vec<Run>, u64, u64, Option<BadRuns>)| {
            found.0.first().and_then(|run| run.first) == Some(geometry.mft)
        };
        let first_fits = own.as_ref().is_some_and(|found| fits(found) && found.3.is_none());
        let copy = record_zero(&at(geometry.mirror), geometry).filter(|found| fits(found));
        let (found, told_by) = match (own, copy) {
            (Some(found), _) if first_fits => (Some(found), ToldBy::Itself),
            (_, Some(found)) => (Some(found), ToldBy::Mirror),
            (Some(found), None) if fits(&found) => (Some(found), ToldBy::Itself),
            _ => (None, ToldBy::Found),
        };
        let mut mft = match found {
            Some((runs, bytes, valid, bad)) => Self {
                geometry: *geometry,
                map: Mapping::of(&runs, geometry.cluster()),
                runs,
                size: bytes,
                valid,
                told_by,
                bad,
                missing: 0,
                refound: 0,
            },
            None => Self::looked_through(medium, geometry),
        };
        mft.follow_list(medium);
        mft.size = mft.size.min(mft.map.len()).min(mft.held(medium)).min(MOST.times(size.wide()));
        mft
    }

    /// Bytes up to the last one that stands on the medium and is no hole: what is behind that was never written.
    fn held(&self, medium: &dyn Medium) -> u64 {
        let holds = |extent: &Extent| {
            let data = medium.data_from(extent.offset).filter(|data| data.offset < extent.end());
            let first = data?.offset;
            // The last data within the extent, hole by hole.
            let (mut at, mut end) = (first, first);
            while let Some(data) = medium.data_from(at).filter(|data| data.offset < extent.end()) {
                end = data.end().min(extent.end());
                if data.end() >= extent.end() {
                    break;
                }
                at = data.end();
            }
            Some(end.minus(extent.offset))
        };
        let all = self.map.places(0, u64::MAX);
        let last = all.iter().rev().find_map(|(at, extent)| holds(extent).map(|held| at.plus(held)));
        let record = self.geometry.record().wide();
        last.unwrap_or(0).per_up(record).times(record)
    }

    /// Records one behind the other from where $MFT begins.
    fn looked_through(medium: &dyn Medium, geometry: &Geometry) -> Self {
        let (size, begin) = (geometry.record(), geometry.place(geometry.mft));
        let mut records = 0_usize;
        let mut blank = false;
        while !blank && begin.plus(records.times(size).wide()) < medium.len() {
            let piece = medium.lenient(begin.plus(records.times(size).wide()), size.times(STEP)).bytes;
            let seen = piece.chunks(size).rposition(|record| matches!(record.part(0, 4), b"FILE" | b"BAAD"));
            blank = seen.is_none();
            records = records.plus(seen.map_or(0, |last| last.plus(1)));
            blank = blank || seen.is_some_and(|last| last.plus(1) < STEP);
        }
        let bytes = records.times(size).wide();
        let runs = vec![Run::new(geometry.mft, geometry.clusters_for(bytes).max(1))];
        let map = Mapping::of(&runs, geometry.cluster());
        Self {
            geometry: *geometry,
            map,
            runs,
            size: bytes,
            valid: bytes,
            told_by: ToldBy::Found,
            bad: None,
            missing: 0,
            refound: 0,
        }
    }

    /// Adds what records that extend record 0 say of its content: these stand in the part that is known.
    fn follow_list(&mut self, medium: &dyn Medium) {
        let mut record = match self.told_by {
            ToldBy::Mirror => {
                medium.lenient(self.geometry.place(self.geometry.mirror), self.geometry.record()).bytes
            }
            _ => self.raw(medium, own::MFT),
        };
        if unfix(&mut record) == Fixups::Bad {
            return;
        }
        let (list, _) = attributes(&record);
        let Some(found) = list.iter().find(|attribute| attribute.kind() == kind::LIST) else { return };
        let content = if found.resident() {
            found.value().to_vec()
        } else {
            let (runs, _) = decode(found.runs(), found.clusters(), self.geometry.clusters());
            Mapping::of(&runs, self.geometry.cluster()).read(medium, 0, found.size().min(1 << 18).size())
        };
        let mut next = self.runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
        let parts = super::list::entries(&content).take(PARTS);
        for part in parts.filter(|part| part.kind == kind::DATA && part.name.is_empty() && part.first_vcn > 0)
        {
            let Some(other) = u32::try_from(number(part.reference)).ok().and_then(|n| self.read(medium, n))
            else {
                break;
            };
            let (list, _) = attributes(&other);
            let Some(more) = data(&list, kind::DATA).filter(|more| more.first_vcn() == next) else { break };
            let (runs, bad) = decode(more.runs(), more.clusters(), self.geometry.clusters());
            self.bad = self.bad.or(bad);
            next = runs.iter().fold(next, |sum, run| sum.plus(run.length));
            self.runs.extend(runs);
            self.map = Mapping::of(&self.runs, self.geometry.cluster());
        }
        self.missing = self.size.minus(self.map.len());
    }

    /// True where its bitmap has no more than so many records of people's files in use.
    pub fn few_in_use(&self, medium: &dyn Medium, most: u64) -> bool {
        let zero = self.read(medium, own::MFT).unwrap_or_default();
        let of = |a: &&Attribute<'_>| a.kind() == kind::BITMAP && a.name().is_empty();
        let list = attributes(&zero).0;
        let Some(bitmap) = list.iter().find(of).filter(|_| self.missing == 0) else { return false };
        let bytes = if bitmap.resident() {
            bitmap.value().to_vec()
        } else {
            let (runs, bad) = decode(bitmap.runs(), bitmap.clusters(), self.geometry.clusters());
            if bad.is_some() || bitmap.size() > BITMAP {
                return false;
            }
            Mapping::of(&runs, self.geometry.cluster()).read(medium, 0, bitmap.size().size())
        };
        let used: u64 =
            bytes.iter().skip(own::FIRST_USER.per(8).size()).map(|byte| u64::from(byte.count_ones())).sum();
        used <= most
    }
    /// Records there are.
    pub fn records(&self) -> u32 {
        self.size.per(self.geometry.record().wide()).narrow()
    }
    /// True where nothing of so many records from `first` on was ever written.
    pub fn is_hole(&self, medium: &dyn Medium, first: u32, count: u32) -> bool {
        let size = self.geometry.record().wide();
        let places = self.map.places(first.wide().times(size), count.wide().times(size));
        let holds =
            |extent: &Extent| medium.data_from(extent.offset).is_some_and(|data| data.offset < extent.end());
        !places.iter().any(|(_, extent)| holds(extent))
    }
    /// Where a record stands.
    pub fn place(&self, number: u32) -> Option<u64> {
        self.map.place(number.wide().times(self.geometry.record().wide()))
    }
    /// Where all of a record stands.
    pub fn places(&self, number: u32) -> Vec<Extent> {
        let size = self.geometry.record().wide();
        self.map.places(number.wide().times(size), size).into_iter().map(|(_, extent)| extent).collect()
    }
    /// The bytes of a record as they stand.
    pub fn raw(&self, medium: &dyn Medium, number: u32) -> Vec<u8> {
        let size = self.geometry.record();
        self.map.read(medium, number.wide().times(size.wide()), size)
    }
    /// A record with its fixups off; `None` where they cannot be.
    pub fn read(&self, medium: &dyn Medium, number: u32) -> Option<Vec<u8>> {
        super::heads::read(number, &self.raw(medium, number))
    }
}
