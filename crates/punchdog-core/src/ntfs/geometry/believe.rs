//! Which geometry to believe: what the records say, then the boot sector, then its copy.
//!
//! A boot sector is believed where it leads to records that lead back to it. One of an older format may lead to records of
//! that format; then the volume decides whose records name the clusters that they stand in.

use super::{
    Geometry, cluster_sectors,
    evidence::{Evidence, is_own, record_at, zero_at},
    length,
    search::search,
};
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError},
    ntfs::layout::BootSector,
    progress::Watch,
};

/// The first 512 bytes of a boot sector.
type Sector = [u8; 512];

/// From where a geometry comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// The boot sector as it stands.
    Primary,
    /// Its copy.
    Copy,
    /// The records.
    Records,
}

/// What tells how long a volume is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// A boot sector, its copy, or the place in which that stands; `$Bad` or $Bitmap.
    Told,
    /// The partition that it lies in, of so many bytes: they are not all there.
    Partition(u64),
    /// The run lists of files: they reach so far, at least.
    Runs,
    /// Nothing but the end of the image.
    Image,
}

/// The geometry that is believed, and what it rests on.
#[derive(Debug, Clone)]
pub struct Believed {
    /// The geometry.
    pub geometry: Geometry,
    /// From where it comes.
    pub source: Source,
    /// The boot sector as it stands, where sector 0 can be read.
    pub primary: Option<[u8; 512]>,
    /// The copy, and where it was found.
    pub copy: Option<([u8; 512], u64)>,
    /// The copy is of another format than the volume.
    pub stale: bool,
    /// What the records say.
    pub evidence: Option<Evidence>,
    /// The length of the sectors is what is usual: nothing that is left says it.
    pub sector_guessed: bool,
    /// What tells how long the volume is.
    pub length: Length,
}

impl Believed {
    /// Where the copy of the boot sector belongs.
    pub fn copy_place(&self) -> u64 {
        self.geometry.counted()
    }
    /// Nothing of sector 0 is a boot sector.
    pub fn gone(&self) -> bool {
        let marks = |sector: &[u8; 512]| {
            [
                sector.part(0, 3) == [0xEB, 0x52, 0x90],
                sector.part(3, 8) == b"NTFS    ",
                cluster_sectors(sector.byte(13)).is_some() && sector.le16(11).is_power_of_two(),
                sector.le64(48) == self.geometry.mft,
                sector.le64(40) == self.geometry.sectors,
            ]
        };
        let told = |sector: &[u8; 512]| marks(sector).iter().filter(|mark| **mark).count() < 3;
        self.primary.as_ref().is_none_or(told)
    }
    /// How well it is borne out: records at the places that it gives.
    pub fn borne_out(&self) -> u32 {
        self.evidence.map_or(0, |evidence| evidence.agree)
    }
}

fn sector_at(medium: &dyn Medium, at: u64) -> Option<[u8; 512]> {
    if at.plus(512) > medium.len() {
        return None;
    }
    let got = medium.lenient(at, 512);
    got.missing.is_empty().then(|| got.bytes.try_into().ok()).flatten()
}

fn named(sector: &[u8; 512]) -> bool {
    sector.part(3, 8) == b"NTFS    "
}

/// Where a copy of the boot sector may stand, by the end of the medium and by what sector 0 says.
fn copy_places(medium: &dyn Medium, primary: Option<&[u8; 512]>) -> Vec<u64> {
    let end = medium.len();
    let mut places: Vec<u64> = Vec::new();
    if let Some(sector) = primary {
        let size = u64::from(sector.le16(11));
        places.push(sector.le64(40).times(size));
        // Some tools put it into the last sector that is counted.
        places.push(sector.le64(40).minus(1).times(size));
    }
    for size in [512, 1024, 2048, 4096_u64] {
        places.push(end.minus(size));
        // An image that does not end with its volume: cylinders, or a megabyte, of nothing behind it.
        places.push(end.per(1 << 20).times(1 << 20).minus(size));
    }
    places
}

/// What speaks for NTFS at first glance: a boot sector, its copy where it usually is, records where these usually are.
/// Reads little, and says nothing of volumes that are lost further; but where no record says how long the volume is, its
/// boot sector's copy is looked for.
pub fn glance(medium: &dyn Medium, watch: &dyn Watch) -> Option<Believed> {
    let primary = sector_at(medium, 0);
    let mut copies = copy_places(medium, primary.as_ref().filter(|sector| named(sector)));
    copies.retain(|at| *at >= 512);
    let copy =
        copies.into_iter().find_map(|at| sector_at(medium, at).filter(named).map(|sector| (sector, at)));
    let claimed = |sector: &[u8; 512]| BootSector::read(sector).and_then(|boot| Geometry::claimed_by(&boot));
    let own = primary.as_ref().and_then(claimed);
    let other = copy.as_ref().and_then(|(sector, _)| claimed(sector));
    // Records where the two say, and where hosts put them.
    let mut places: Vec<u64> = Vec::new();
    for geometry in own.iter().chain(&other) {
        places.extend([geometry.place(geometry.mft), geometry.place(geometry.mirror)]);
    }
    if let Some(sector) = primary.as_ref().filter(|sector| named(sector)) {
        // One field may be wrong: the clusters that it names, at every size.
        for shift in 9..=21_u32 {
            for at in [48, 56] {
                places.push(sector.le64(at).checked_shl(shift).unwrap_or(u64::MAX));
            }
        }
    }
    let usual = (9..=16_u32).flat_map(|shift| [4_u64, 0xC_0000, 2, 0x5555, 1].map(|first| first << shift));
    places.extend(usual);
    places.push(16 << 10);
    let mut seen = std::collections::HashSet::new();
    places.retain(|at| *at < medium.len() && seen.insert(*at));
    // Sector 0 that is no NTFS at all is not believed for records alone that stand where something else may.
    let mut evidence: Option<Evidence> = None;
    for at in places {
        let found = Evidence::of_record_zero(medium, at);
        if let Some(found) = found.filter(|found| evidence.is_none_or(|best| found.agree > best.agree)) {
            let enough = found.agree >= 12;
            evidence = Some(found);
            if enough {
                break;
            }
        }
    }
    // Records 0 may both be gone, and the rest be where a boot sector says.
    for geometry in own.iter().chain(&other) {
        let found = Evidence::of_geometry(medium, geometry);
        if let Some(found) = found.filter(|found| evidence.is_none_or(|best| found.agree > best.agree)) {
            evidence = Some(found);
        }
    }
    let found = settle(medium, primary.as_ref(), copy.as_ref(), evidence)?;
    Some(length_known(medium, found, watch))
}

/// Clusters by which a volume may have fewer than its bitmap has bits.
const SPARE: u64 = 64;

/// The copy behind the last cluster that records count: some sectors that make no cluster may stand between. Where they say
/// it to a word of bits only, a copy that leads back to the same records.
fn copy_behind(medium: &dyn Medium, evidence: &Evidence) -> Option<([u8; 512], u64)> {
    let (clusters, exact) = evidence.clusters?;
    let cluster = 1_u64.checked_shl(u32::from(evidence.cluster_shift))?;
    let spare = if exact { 0 } else { SPARE };
    let begin = clusters.minus(spare).times(cluster);
    let bytes = medium.lenient(begin, cluster.times(spare.plus(1)).plus(512).size()).bytes;
    let mut sectors = (0_u64..).zip(bytes.chunks_exact(512));
    let (index, sector) = sectors.find(|(index, sector)| {
        let at = begin.plus(index.times(512));
        sector.part(3, 8) == b"NTFS    " && (exact || is_copy(sector, at, evidence))
    })?;
    let at = begin.plus(index.times(512));
    sector.try_into().ok().filter(|_| at.plus(512) <= medium.len()).map(|sector| (sector, at))
}

/// True for a boot sector that belongs at `at` as a copy, and says of the records what they say themselves.
fn is_copy(sector: &[u8], at: u64, evidence: &Evidence) -> bool {
    let claimed = BootSector::read(sector).and_then(|boot| Geometry::claimed_by(&boot));
    claimed.is_some_and(|geometry| {
        (geometry.cluster_shift, geometry.mft, geometry.record_shift)
            == (evidence.cluster_shift, evidence.mft, evidence.record_shift)
            && (geometry.counted() == at || geometry.counted() == at.plus(geometry.sector()))
    })
}

/// Looks through the medium for the copy, where no record says how long the volume is.
fn copy_by_search(medium: &dyn Medium, evidence: &Evidence, watch: &dyn Watch) -> Option<(Sector, u64)> {
    let end = medium.len();
    let mut at = evidence.mft.checked_shl(u32::from(evidence.cluster_shift))?;
    while let Some(piece) = medium.piece_from(at, end) {
        if watch.stop() {
            return None;
        }
        watch.at("searching for the copy of the boot sector", piece.offset, end);
        let bytes = medium.lenient(piece.offset, piece.length.size()).bytes;
        let mut sectors = (0_u64..).zip(bytes.chunks_exact(512));
        let found = sectors.find(|(index, sector)| {
            sector.part(3, 8) == b"NTFS    " && is_copy(sector, piece.offset.plus(index.times(512)), evidence)
        });
        if let Some((index, sector)) = found {
            return sector.try_into().ok().map(|sector| (sector, piece.offset.plus(index.times(512))));
        }
        at = piece.end();
    }
    None
}

/// Puts together what was found; `None` where it is no NTFS.
fn settle(
    medium: &dyn Medium,
    primary: Option<&Sector>,
    copy: Option<&(Sector, u64)>,
    evidence: Option<Evidence>,
) -> Option<Believed> {
    let behind = evidence.as_ref().and_then(|evidence| copy_behind(medium, evidence));
    let (primary, copy) = (primary.copied(), behind.or(copy.copied()));
    let claimed = |sector: &[u8; 512]| BootSector::read(sector).and_then(|boot| Geometry::claimed_by(&boot));
    let own = primary.as_ref().and_then(claimed);
    let other = copy.as_ref().and_then(|(sector, _)| claimed(sector));
    // $Bad is one number; against it stand a boot sector, its copy, and the place in which that is.
    let ends =
        |geometry: &&Geometry| own == other && copy.as_ref().is_some_and(|(_, at)| geometry.counted() == *at);
    let mut evidence = evidence;
    if let (Some(found), Some(geometry)) = (&mut evidence, own.as_ref().filter(ends))
        && (geometry.cluster_shift, geometry.mft, geometry.record_shift)
            == (found.cluster_shift, found.mft, found.record_shift)
    {
        found.clusters = Some((geometry.clusters(), true));
    }
    // Where no record says how long the volume is, and it would be longer than what is there, a copy within says it: an
    // image that was cut short has none.
    if let (Some(found), Some(geometry), Some((_, at))) = (&mut evidence, own, &copy)
        && found.clusters.is_none()
        && own == other
        && geometry.counted() > medium.len()
    {
        found.clusters = Some((at.per(geometry.cluster()), true));
    }
    let fits = |geometry: &Geometry| {
        evidence.is_none_or(|found| {
            geometry.cluster_shift == found.cluster_shift
                && geometry.mft == found.mft
                && geometry.record_shift == found.record_shift
                && found.clusters.is_none_or(|(clusters, exact)| {
                    let own = geometry.clusters();
                    if exact { own == clusters } else { own <= clusters && own.plus(SPARE) > clusters }
                })
        })
    };
    let stale = other.is_none_or(|geometry| !fits(&geometry)) && copy.is_some();
    let base = own.filter(fits).map(|geometry| (geometry, Source::Primary));
    let base = base.or_else(|| other.filter(fits).map(|geometry| (geometry, Source::Copy)));
    let mut sector_guessed = false;
    let (geometry, source) = match (base, evidence) {
        (Some((mut geometry, source)), Some(found)) => {
            // What records say of smaller things is put right.
            let said = [found.mirror, own.map(|own| own.mirror), other.map(|other| other.mirror)];
            geometry.mirror = mirror(medium, &geometry, said).unwrap_or(geometry.mirror);
            geometry.index_shift = found.index_shift.unwrap_or(geometry.index_shift);
            (geometry, source)
        }
        (Some((geometry, source)), None) => {
            // Without a record, a boot sector and its copy must say the same, or lead to something like records.
            let agree = own.is_some() && own == other;
            let led = zero_at(medium, geometry.place(geometry.mft), &geometry)
                || medium.lenient(geometry.place(geometry.mft), 4).bytes == b"FILE";
            if !agree && !led {
                return None;
            }
            (geometry, source)
        }
        (None, Some(found)) => {
            let (geometry, guessed) = derived(medium, primary.as_ref(), copy.as_ref(), &found)?;
            sector_guessed = guessed;
            (geometry, Source::Records)
        }
        (None, None) => return None,
    };
    Some(Believed { geometry, source, primary, copy, stale, evidence, sector_guessed, length: Length::Told })
}

/// Where the copies of the first records are, by record 1, the boot sector and its copy: where such copies stand, else where
/// record 1 says, within the volume.
fn mirror(medium: &dyn Medium, geometry: &Geometry, said: [Option<u64>; 3]) -> Option<u64> {
    let size = geometry.record();
    let places = said.into_iter().flatten().filter(|first| *first < geometry.clusters());
    let copies = |first: &u64| {
        let copy = |number: u32| {
            let at = geometry.place(*first).plus(number.size().times(size).wide());
            record_at(medium, at, size).is_some_and(|record| is_own(&record, number))
        };
        *first != geometry.mft && (0..4).any(copy)
    };
    places.clone().find(copies).or_else(|| places.clone().next())
}

/// The geometry by what records say; what they do not say is taken from boot sectors as far as it fits.
fn derived(
    medium: &dyn Medium,
    primary: Option<&[u8; 512]>,
    copy: Option<&([u8; 512], u64)>,
    found: &Evidence,
) -> Option<(Geometry, bool)> {
    let sectors = primary.into_iter().filter(|sector| named(sector)).chain(copy.map(|(sector, _)| sector));
    let sizes: Vec<(u64, u64)> =
        sectors.map(|sector| (u64::from(sector.le16(11)), sector.le64(40))).collect();
    let sane = |size: u64| size.is_power_of_two() && (512..=4096).contains(&size);
    let said = sizes.iter().map(|(size, _)| *size).find(|size| sane(*size));
    let cluster = 1_u64.checked_shl(u32::from(found.cluster_shift))?;
    let sector = said.unwrap_or(if found.record_shift == 12 && cluster >= 4096 { 4096 } else { 512 });
    let sector = if sector <= cluster { sector } else { 512 };
    let per = cluster.per(sector);
    let (clusters, exact) =
        found.clusters.unwrap_or_else(|| (medium.len().minus(sector).per(cluster), false));
    // All sectors make so many clusters; some that make no cluster may follow.
    let within = |total: u64| {
        let own = total.per(per);
        if exact { own == clusters } else { own <= clusters && own.plus(SPARE) > clusters }
    };
    let there = medium.len().per(sector).minus(1);
    let said = sizes.iter().filter(|(size, _)| *size == sector).map(|(_, total)| *total);
    let by_copy = copy.map(|(_, at)| at.per(sector));
    let total =
        said.chain(by_copy).chain([there]).find(|total| within(*total)).unwrap_or(clusters.times(per));
    let mut geometry = Geometry {
        sector_shift: u8::try_from(sector.trailing_zeros()).ok()?,
        cluster_shift: found.cluster_shift,
        sectors: total,
        mft: found.mft,
        mirror: 0,
        record_shift: found.record_shift,
        index_shift: found.index_shift.unwrap_or(12),
    };
    let usual = geometry.clusters().per(2);
    geometry.mirror = found.mirror.filter(|mirror| *mirror < geometry.clusters()).unwrap_or(usual);
    geometry.possible().then_some((geometry, sizes.is_empty()))
}

/// The NTFS volume on `medium`, also without boot sectors: all of it is searched for records.
pub fn believe(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Believed>, MediumError> {
    if let Some(found) = glance(medium, watch).filter(|found| found.borne_out() > 0) {
        return Ok(Some(found));
    }
    let evidence = search(medium, watch).filter(|found| found.start == 0 && found.agree > 1);
    if watch.stop() {
        return Err(MediumError::Stopped);
    }
    let primary = sector_at(medium, 0);
    let places = copy_places(medium, primary.as_ref().filter(|sector| named(sector)));
    let copy = places.into_iter().filter(|at| *at >= 512);
    let copy = copy.into_iter().find_map(|at| sector_at(medium, at).filter(named).map(|sector| (sector, at)));
    let found = settle(medium, primary.as_ref(), copy.as_ref(), evidence);
    Ok(found.map(|found| length_known(medium, found, watch)))
}

/// The same with the copy of the boot sector, where nothing but that can say how long the volume is.
fn length_known(medium: &dyn Medium, found: Believed, watch: &dyn Watch) -> Believed {
    let evidence = found.evidence.filter(|evidence| evidence.clusters.is_none() && evidence.agree > 0);
    let Some(evidence) = evidence.filter(|_| found.source == Source::Records) else { return found };
    let copy = copy_by_search(medium, &evidence, watch);
    let known = copy.and_then(|copy| settle(medium, found.primary.as_ref(), Some(&copy), Some(evidence)));
    if let Some(known) = known {
        return known;
    }
    if found.copy.is_some() {
        return found;
    }
    let (geometry, length) = length::settle(medium, found.geometry, &evidence);
    Believed { geometry, length, ..found }
}
