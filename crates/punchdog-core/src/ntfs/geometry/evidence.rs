//! What the records say of the geometry, without a boot sector.
//!
//! Record 0 says in which cluster $MFT begins, record 1 the same of $MFTMirr. Where the two stand in bytes gives the size
//! of a cluster, and where the volume begins. `$Bad` of record 8 is as long as all clusters, $Bitmap of record 6 has a bit
//! for each; a record says how long it is, the root folder how long an index block.

use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    ntfs::{
        layout::{Fixups, kind, own, unfix},
        mft::record_zero,
        names::of_key,
        record::{Attribute, Head, attributes},
        runs::{Run, decode},
    },
};

use super::Geometry;

/// Records of a piece that are looked at where the first ones are gone.
const LATER: u64 = 256;
/// Pieces of $MFT that are looked at then.
const PIECES: usize = 64;
/// Cluster sizes there are, as powers of two.
pub(super) const CLUSTERS: std::ops::RangeInclusive<u8> = 9..=21;

/// What records say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Evidence {
    /// Bytes of a cluster, as a power of two.
    pub cluster_shift: u8,
    /// Bytes of a record, as a power of two.
    pub record_shift: u8,
    /// Bytes of an index block, as a power of two; `None` where the root folder's record is gone.
    pub index_shift: Option<u8>,
    /// First cluster of $MFT.
    pub mft: u64,
    /// First cluster of $MFTMirr, where record 1 or its copy is left.
    pub mirror: Option<u64>,
    /// Clusters of the volume: all of them by `$Bad`, or by $Bitmap to the next 64.
    pub clusters: Option<(u64, bool)>,
    /// Records that were found at the place that this gives $MFT, of the first twelve.
    pub agree: u32,
    /// Nothing of the file system's own is left: what files and folders tell instead.
    pub by_files: Option<&'static str>,
    /// Where the volume begins: bytes from the start of what was looked at.
    pub start: u64,
}

/// The record that stands at `at`, fixups off.
pub(in crate::ntfs) fn record_at(medium: &dyn Medium, at: u64, size: usize) -> Option<Vec<u8>> {
    let mut record = medium.lenient(at, size).bytes;
    (record.part(0, 4) == b"FILE" && unfix(&mut record) != Fixups::Bad).then_some(record)
}

/// The first name of a record.
fn name_of(record: &[u8]) -> String {
    let (list, _) = attributes(record);
    let name = list.iter().find(|a| a.kind() == kind::NAME);
    name.map_or(String::new(), |name| crate::ntfs::record::text(of_key(name.value())))
}

/// True for a record of one of the file system's own files: by its name, and its number where the version has one. Of $MFT
/// in many pieces the name can stand in another record.
pub(in crate::ntfs) fn is_own(record: &[u8], number: u32) -> bool {
    let head = Head::read(record);
    let expected = own::NAMES.get(number.size()).copied().unwrap_or("");
    let has = |of: u32| attributes(record).0.iter().any(|a| a.kind() == of);
    let listed = || head.number == Some(number) && has(kind::LIST) && !has(kind::NAME);
    head.in_use()
        && head.base == 0
        && head.number.is_none_or(|own| own == number)
        && (name_of(record) == expected || number == own::MFT && listed())
}

/// First cluster of the plain content of a record.
pub(in crate::ntfs) fn first_cluster(record: &[u8]) -> Option<u64> {
    all_runs(record).first()?.first
}

/// The runs of the plain content of a record.
fn all_runs(record: &[u8]) -> Vec<Run> {
    let (list, _) = attributes(record);
    let data = list.iter().find(|a| a.kind() == kind::DATA && a.name().is_empty() && !a.resident());
    data.map_or(Vec::new(), |data| decode(data.runs(), data.clusters(), u64::from(u32::MAX)).0)
}

/// The size of a record, by what stands at `at`.
pub(super) fn record_size(bytes: &[u8]) -> Option<u8> {
    let size = Head::read(bytes).allocated;
    (size.is_power_of_two() && (512..=4096).contains(&size))
        .then(|| u8::try_from(size.trailing_zeros()).unwrap_or(10))
}

impl Evidence {
    /// What the records say if record 0 or its copy stands at `at`, on a volume that begins at byte 0 of `medium`.
    pub fn of_record_zero(medium: &dyn Medium, at: u64) -> Option<Self> {
        let head = medium.lenient(at, 512).bytes;
        let record_shift = record_size(&head).filter(|_| head.part(0, 4) == b"FILE")?;
        let size = 1_usize.checked_shl(u32::from(record_shift))?;
        let zero = record_at(medium, at, size).filter(|record| is_own(record, own::MFT))?;
        let mft = first_cluster(&zero)?;
        let one = record_at(medium, at.plus(size.wide()), size).filter(|record| is_own(record, own::MIRROR));
        let mirror = one.as_deref().and_then(first_cluster);
        // It is itself or the copy: whichever place the clusters bear out.
        let mut best: Option<Self> = None;
        for cluster_shift in CLUSTERS {
            let place = |cluster: u64| cluster.checked_shl(u32::from(cluster_shift)).unwrap_or(u64::MAX);
            if place(mft) == at || mirror.map(place) == Some(at) {
                let found = Self::with(medium, cluster_shift, record_shift, mft, mirror);
                if best.is_none_or(|best| found.agree > best.agree) && found.agree > 0 {
                    best = Some(found);
                }
            }
        }
        best
    }

    /// The rest, where $MFT begins at `mft` with clusters of that size.
    pub(super) fn with(
        medium: &dyn Medium,
        cluster_shift: u8,
        record_shift: u8,
        mft: u64,
        mirror: Option<u64>,
    ) -> Self {
        let place = |cluster: u64| cluster.checked_shl(u32::from(cluster_shift)).unwrap_or(u64::MAX);
        let size = 1_usize.checked_shl(u32::from(record_shift)).unwrap_or(1024);
        let mut found = Self {
            cluster_shift,
            record_shift,
            index_shift: None,
            mft,
            mirror,
            clusters: None,
            agree: 0,
            by_files: None,
            start: 0,
        };
        let mut elsewhere = false;
        for number in 0..12_u32 {
            let at = place(mft).plus(number.size().times(size).wide());
            let Some(record) = record_at(medium, at, size).filter(|record| is_own(record, number)) else {
                continue;
            };
            elsewhere |= number == own::MFT && first_cluster(&record).is_some_and(|told| told != mft);
            found.agree = found.agree.plus(1);
            found.learn(number, &record);
        }
        // The copies of the first records are not the records.
        let copies = place(1).per(size.wide()).clamp(4, 11).narrow();
        if elsewhere && found.agree <= copies {
            return Self { agree: 0, clusters: None, mirror, ..found };
        }
        // Where the first ones are gone, later ones tell their numbers; those of other pieces stand where record 0, or its
        // copy, says.
        let zero = |at: u64| {
            let record = record_at(medium, at, size).filter(|record| is_own(record, own::MFT));
            record.filter(|record| first_cluster(record) == Some(mft))
        };
        let told = zero(place(mft)).or_else(|| found.mirror.and_then(|mirror| zero(place(mirror))));
        // Some hosts leave the number out: where a record 0 leads there, a record is enough.
        let unsaid = told.is_some();
        let runs = told.map_or_else(|| vec![Run::new(mft, u64::from(u32::MAX))], |record| all_runs(&record));
        let mut vcn = 0;
        for run in runs.iter().take(PIECES) {
            let first = vcn.times(place(1)).per_up(size.wide()).max(12);
            vcn = vcn.plus(run.length);
            let end = vcn.times(place(1)).per(size.wide()).min(first.plus(LATER));
            let Some(cluster) = run.first else { continue };
            let begin = vcn.minus(run.length).times(place(1));
            for number in first..end {
                if found.agree > 1 {
                    break;
                }
                let at = place(cluster).plus(number.times(size.wide()).minus(begin));
                let later = record_at(medium, at, size).map(|record| Head::read(&record).number);
                let fits = later.is_some_and(|own| own.map_or(unsaid, |own| u64::from(own) == number));
                found.agree = found.agree.plus(u32::from(fits));
            }
        }
        // The copies confirm where $MFTMirr is; alone they are no more than what was asked about.
        if let Some(mirror) = found.mirror.filter(|_| found.agree > 0) {
            let copy = record_at(medium, place(mirror), size).filter(|record| is_own(record, own::MFT));
            if copy.is_some_and(|copy| first_cluster(&copy) == Some(mft)) {
                found.agree = found.agree.plus(1);
            }
        }
        found
    }

    fn learn(&mut self, number: u32, record: &[u8]) {
        let (list, _) = attributes(record);
        match number {
            own::MIRROR => self.mirror = first_cluster(record).or(self.mirror),
            own::BITMAP => {
                let data = list.iter().find(|a| a.kind() == kind::DATA && !a.resident());
                // Its size ends in its last cluster, and it has a bit for all that is known; or it was struck.
                let cluster = 1_u64.checked_shl(u32::from(self.cluster_shift)).unwrap_or(0);
                let known = self.mft.max(self.mirror.unwrap_or(0));
                let ends = |data: &Attribute<'_>| {
                    data.size() <= data.allocated()
                        && data.size().plus(cluster) > data.allocated()
                        && data.size().times(8) > known
                };
                if let (Some(data), None) = (data.filter(|data| ends(data)), self.clusters) {
                    self.clusters = Some((data.size().times(8), false));
                }
            }
            own::BADCLUS => {
                let bad =
                    list.iter().find(|a| a.kind() == kind::DATA && a.is_called("$Bad") && !a.resident());
                if let Some(bad) = bad {
                    let clusters = bad.clusters();
                    let whole = clusters > 0 && u32::try_from(clusters).is_ok();
                    self.clusters = whole.then_some((clusters, true)).or(self.clusters);
                }
            }
            own::ROOT => {
                let root = list.iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called("$I30"));
                let size = root.map_or(0, |root| root.value().le32(8));
                if size.is_power_of_two() && (512..=65536).contains(&size) {
                    self.index_shift = u8::try_from(size.trailing_zeros()).ok();
                }
            }
            _ => {}
        }
    }

    /// The records from another place than record 0: $MFT's later ones are left, by a record whose number and place are
    /// known. `geometry` says where.
    pub fn of_geometry(medium: &dyn Medium, geometry: &Geometry) -> Option<Self> {
        let found = Self::with(
            medium,
            geometry.cluster_shift,
            geometry.record_shift,
            geometry.mft,
            Some(geometry.mirror),
        );
        (found.agree > 0).then_some(found)
    }
}

/// True where what stands at `at` is record 0, with a run list that begins at `first`.
pub(super) fn zero_at(medium: &dyn Medium, at: u64, geometry: &Geometry) -> bool {
    let record = medium.lenient(at, geometry.record()).bytes;
    let first = record_zero(&record, geometry).and_then(|found| found.0.first().and_then(|run| run.first));
    record.part(0, 4) == b"FILE" && first == Some(geometry.mft)
}
