//! Looking through a whole medium for a volume's own marks, wherever it begins.
//!
//! The copy of a boot sector says how far in front of it its volume begins. Record 0, or its copy, says in which clusters
//! $MFT and $MFTMirr begin; a second record whose number is known then tells the size of a cluster, and with that where
//! cluster 0 is: the other copy of record 0, or any later record.

use super::{
    Geometry,
    anchors::{self, Own},
    by_files,
    evidence::{CLUSTERS, Evidence, first_cluster, is_own, record_at, record_size},
};
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium, Window},
    ntfs::{
        layout::{BootSector, own},
        record::Head,
    },
    progress::Watch,
};

/// Copies of record 0, and other records, that are looked at.
const MOST: usize = 64;

/// A record 0, or its copy.
struct Zero {
    place: u64,
    size: usize,
    /// First cluster of $MFT.
    mft: u64,
    /// First cluster of $MFTMirr.
    mirror: Option<u64>,
}

/// What was come upon.
#[derive(Default)]
struct Seen {
    zeros: Vec<Zero>,
    /// Places of other records with their numbers.
    others: Vec<(u64, u32)>,
    /// Records that do not say their number, one behind the other: where the last ends, their bytes, how many.
    row: (u64, u64, usize),
    /// The longest of such rows: where it begins, the bytes of a record, how many.
    longest: (u64, u64, usize),
    /// Records of the file system's own files, but record 0.
    own: Vec<Own>,
    /// Geometries of boot sectors, and where their volumes would begin.
    boots: Vec<(u64, Geometry)>,
    /// Records and index blocks of files and folders.
    by_files: by_files::Seen,
}

/// What the records of a volume on `medium` say, and where it begins.
pub(crate) fn search(medium: &dyn Medium, watch: &dyn Watch) -> Option<Evidence> {
    let mut seen = Seen::default();
    let mut at = 0_u64;
    let end = medium.len();
    while let Some(piece) = medium.piece_from(at, end) {
        if watch.stop() || seen.zeros.len() >= MOST {
            break;
        }
        watch.at("searching for records", piece.offset, end);
        let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
        for (index, sector) in bytes.chunks(512).enumerate() {
            let here = piece.offset.plus(index.times(512).wide());
            if let Some(found) = seen.take(medium, here, sector) {
                return Some(found);
            }
        }
        at = piece.end();
    }
    seen.elsewhere(medium)
        .or_else(|| anchors::find(medium, &seen.own))
        .or_else(|| seen.by_row())
        .or_else(|| seen.by_files.evidence(medium))
}

/// Records in a row, within a volume whose boot sector is left, that are as good as its first ones.
const ROW: usize = 8;

/// What speaks for a volume of this geometry that begins at `start`.
fn beginning(medium: &dyn Medium, start: u64, geometry: &Geometry) -> Option<Evidence> {
    let window = Window::new(medium, Extent::new(start, medium.len().minus(start)));
    let found = Evidence::of_geometry(&window, geometry).filter(|found| found.agree > 1)?;
    Some(Evidence { start, ..found })
}

impl Seen {
    /// Looks at one sector; what it says if that is enough.
    fn take(&mut self, medium: &dyn Medium, here: u64, sector: &[u8]) -> Option<Evidence> {
        if sector.part(3, 8) == b"NTFS    " && sector.ends_with(&[0x55, 0xAA]) {
            let geometry = BootSector::read(sector).and_then(|boot| Geometry::claimed_by(&boot))?;
            let starts = [Some(here), here.checked_sub(geometry.counted())];
            let starts = starts.into_iter().flatten();
            if self.boots.len() < MOST {
                self.boots.extend(starts.clone().map(|start| (start, geometry)));
            }
            return starts.into_iter().find_map(|start| beginning(medium, start, &geometry));
        }
        self.by_files.take(here, sector);
        if sector.part(0, 4) != b"FILE" {
            return None;
        }
        let number = Head::read(sector).number;
        if number.is_none() {
            self.unnumbered(here, Head::read(sector).allocated.wide());
        }
        if let Some(number) = number.filter(|number| *number >= own::FIRST_FREE) {
            if self.others.len() < MOST {
                self.others.push((here, number));
            }
            return None;
        }
        if let Some(number) = number.filter(|number| *number != own::MFT) {
            let shift = record_size(sector)?;
            if self.own.len() < MOST && number <= own::EXTEND {
                self.own.push(Own { place: here, number, shift });
            }
            return None;
        }
        if let Some(found) = Evidence::of_record_zero(medium, here) {
            return Some(found);
        }
        let size = 1_usize.checked_shl(u32::from(record_size(sector)?))?;
        let zero = record_at(medium, here, size).filter(|record| is_own(record, own::MFT))?;
        let one = record_at(medium, here.plus(size.wide()), size);
        let mirror = one.filter(|record| is_own(record, own::MIRROR));
        let mirror = mirror.as_deref().and_then(first_cluster);
        self.zeros.push(Zero { place: here, size, mft: first_cluster(&zero)?, mirror });
        None
    }

    fn unnumbered(&mut self, here: u64, size: u64) {
        let (end, same, count) = self.row;
        let count = if end == here && same == size { count.plus(1) } else { 1 };
        self.row = (here.plus(size), size, count);
        if count > self.longest.2 {
            self.longest = (here.plus(size).minus(size.times(count.wide())), size, count);
        }
    }

    /// A volume that begins elsewhere than at byte 0, by two records whose numbers are known.
    fn elsewhere(&self, medium: &dyn Medium) -> Option<Evidence> {
        for zero in &self.zeros {
            let Some(mirror) = zero.mirror else { continue };
            let clusters = zero.mft.abs_diff(mirror);
            // One is $MFTMirr's first record, the other $MFT's first, which it is itself or by its number.
            let record = |number: u32| number.wide().times(zero.size.wide());
            let firsts = self.others.iter().map(|(place, number)| place.minus(record(*number)));
            for first in self.zeros.iter().map(|other| other.place).chain(firsts) {
                let distance = first.abs_diff(zero.place);
                let fits = |shift: &u8| {
                    1_u64.checked_shl(u32::from(*shift)).is_some_and(|size| clusters.times(size) == distance)
                };
                let Some(shift) = CLUSTERS.into_iter().find(fits).filter(|_| distance > 0) else { continue };
                let size = 1_u64.checked_shl(u32::from(shift)).unwrap_or(512);
                let lower = zero.mft.min(mirror).times(size);
                let begin = first.min(zero.place).checked_sub(lower);
                if let Some(found) = begin.and_then(|begin| Self::of(medium, begin, zero, size)) {
                    return Some(found);
                }
            }
        }
        None
    }

    /// Where all first records and their copies are gone: a boot sector, or its copy, in whose volume records stand one behind
    /// the other, in clusters as it has them.
    fn by_row(&self) -> Option<Evidence> {
        self.boots.iter().find_map(|(start, geometry)| {
            let (size, cluster) = (geometry.record().wide(), geometry.cluster());
            let fits = |(place, number): &&(u64, u32)| {
                let (at, byte) = (place.minus(*start), number.wide().times(size));
                *place >= *start && at < geometry.counted() && at.rest(cluster) == byte.rest(cluster)
            };
            let fitting: Vec<&(u64, u32)> = self.others.iter().filter(fits).collect();
            let next = |(one, other): (&&(u64, u32), &&(u64, u32))| {
                other.1 > one.1 && other.0 == one.0.plus(other.1.minus(one.1).wide().times(size))
            };
            let row = fitting.iter().zip(fitting.iter().skip(1)).filter(|pair| next(*pair)).count();
            let (first, own, count) = self.longest;
            let unnumbered = own == size
                && count > ROW
                && first >= *start
                && first.minus(*start).rest(cluster.min(size)) == 0
                && first.minus(*start) < geometry.counted();
            (row >= ROW || unnumbered).then(|| Evidence {
                cluster_shift: geometry.cluster_shift,
                record_shift: geometry.record_shift,
                index_shift: Some(geometry.index_shift),
                mft: geometry.mft,
                mirror: Some(geometry.mirror),
                clusters: Some((geometry.clusters(), true)),
                agree: 2,
                by_files: None,
                start: *start,
            })
        })
    }

    /// What the records say if the volume begins there.
    fn of(medium: &dyn Medium, begin: u64, zero: &Zero, size: u64) -> Option<Evidence> {
        let window = Window::new(medium, Extent::new(begin, medium.len().minus(begin)));
        let places = [Some(zero.mft), zero.mirror];
        let found = places.into_iter().flatten().find_map(|cluster| {
            let found = Evidence::of_record_zero(&window, cluster.times(size))?;
            (1_u64.checked_shl(u32::from(found.cluster_shift)) == Some(size)).then_some(found)
        })?;
        Some(Evidence { start: begin, ..found })
    }
}
