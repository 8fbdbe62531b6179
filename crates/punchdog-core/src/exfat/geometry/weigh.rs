//! Holding a geometry against the volume.

use super::Geometry;
use crate::{
    arith::{Peek, Sat},
    exfat::{
        layout::{BITMAP, DIRECTORY, ENTRY, Owner, UPCASE, table_checksum},
        sets,
        upcase::Upcase,
    },
    files::kinds,
    medium::{Extent, Lenient, Medium, Unknown},
};

/// One thing that speaks for or against a geometry.
#[derive(Debug, Clone)]
pub struct Reason {
    /// What was seen.
    pub text: String,
    /// Points for it, negative against.
    pub points: i64,
}

/// How well a geometry fits the volume.
#[derive(Debug, Clone, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is one observation")]
pub struct Score {
    /// The sum of the reasons.
    pub points: i64,
    /// How many observations contradict the geometry.
    pub against: u32,
    /// A table begins where it should.
    pub table: bool,
    /// The root reads as a root folder.
    pub root_speaks: bool,
    /// It cannot be, or what stands where the table or the root should begin is none, as far as that is known.
    pub denied: bool,
    /// Its boot region has its checksum.
    pub vouched: bool,
    /// What was seen.
    pub reasons: Vec<Reason>,
}

impl Score {
    /// Something that speaks for the geometry and not from within the volume.
    pub(super) fn vouch(&mut self, points: i64, text: &str) {
        self.vouched = true;
        self.note(points, text);
    }
    fn note(&mut self, points: i64, text: impl Into<String>) {
        if points != 0 {
            self.points = self.points.saturating_add(points);
            self.reasons.push(Reason { text: text.into(), points });
        }
        if points < 0 {
            self.against = self.against.plus(1);
        }
    }
}

/// How much of the root folder is looked at.
const LISTED: u64 = 64 * 1024;
/// How many files and folders of the root are followed.
const FOLLOWED: usize = 24;

/// Bytes of a volume of which some are in `gaps`: those cannot be read, or could not, and hold zeros since.
pub(super) struct Known<'m> {
    medium: &'m dyn Medium,
    gaps: Vec<Extent>,
}

impl<'m> Known<'m> {
    pub(super) fn of(medium: &'m dyn Medium) -> Self {
        let gaps = [Unknown::Unreadable, Unknown::Lost].into_iter().flat_map(|which| medium.unknown(which));
        Self { medium, gaps: gaps.collect() }
    }

    /// `None` where not all of them are known: what cannot be read speaks neither for nor against.
    fn get(&self, place: u64, length: u64) -> Option<Vec<u8>> {
        let Lenient { bytes, missing } = self.medium.lenient(place, length.size());
        let there = Extent::new(place, length.min(self.medium.len().minus(place)));
        let misses = missing.iter().chain(&self.gaps).any(|gap| gap.overlaps(there));
        (!misses).then_some(bytes)
    }
}

/// The score of `geometry` on what is known of a volume.
pub(super) fn weigh(known: &Known<'_>, geometry: &Geometry) -> Score {
    let medium = known.medium;
    let mut score = Score::default();
    if !geometry.possible() || geometry.heap_place() >= medium.len() {
        score.denied = true;
        score.note(-1000, "the fields cannot stand together");
        return score;
    }
    let begins = |copy: u32| known.get(geometry.table_place(copy), 8).map(|start| table_begins(&start));
    match begins(0) {
        Some(true) => {
            score.table = true;
            score.note(20, "the table begins as a table does");
        }
        Some(false) => {
            score.denied = true;
            score.note(-6, "no table begins where it should");
        }
        None => {}
    }
    if geometry.tables == 2
        && let Some(second) = begins(1)
    {
        score.note(if second { 8 } else { -12 }, "a second table stands behind the first");
    }
    let end = geometry.sectors.times(geometry.sector_bytes());
    if geometry.heap_end() <= end && end <= medium.len() {
        score.note(8, "clusters, volume and image are one within the other");
    } else if geometry.heap_end() > end {
        score.note(-6, "the clusters reach behind the end of the volume");
    }
    let spare = end.minus(geometry.heap_end());
    if spare < geometry.cluster_bytes() {
        score.note(5, "the clusters fill the volume");
    }
    let needed = geometry.clusters.wide().plus(2).times(4).per_up(geometry.sector_bytes());
    let gap = geometry.table_sectors.wide().minus(needed);
    if gap.times(8) <= needed.plus(4096) {
        score.note(3, "the table is about as long as it needs to be");
    }
    weigh_root(known, geometry, &mut score);
    score
}

/// True for the first entries of a table (section 4.1).
pub(crate) fn table_begins(bytes: &[u8]) -> bool {
    bytes.le32(0) == 0xFFFF_FFF8 && bytes.le32(4) == u32::MAX
}

fn weigh_root(known: &Known<'_>, geometry: &Geometry, score: &mut Score) {
    let medium = known.medium;
    let place = geometry.cluster_place(geometry.root_cluster);
    if known.get(place, ENTRY.wide()).is_none() {
        return;
    }
    let root = medium.lenient(place, geometry.cluster_bytes().min(LISTED).size()).bytes;
    if !sets::looks_like_folder(&root, true) {
        score.denied = true;
        score.note(-25, "what should be the root folder does not read as one");
        return;
    }
    let link =
        medium.lenient(geometry.table_place(0).plus(geometry.root_cluster.wide().times(4)), 4).bytes.le32(0);
    if geometry.has(link) || link >= 0xFFFF_FFF8 {
        score.note(4, "the root's chain begins");
    }
    let entries = || root.chunks_exact(ENTRY).take_while(|raw| raw.byte(0) != 0);
    let bitmap = entries().find(|raw| raw.byte(0) == BITMAP && raw.byte(1) & 1 == 0).map(Owner::read);
    let upcase = entries().find(|raw| raw.byte(0) == UPCASE).map(Owner::read);
    score.root_speaks = bitmap.is_some() || upcase.is_some();
    score.denied |= !score.root_speaks;
    score.note(if score.root_speaks { 15 } else { 3 }, "the root folder reads as one");
    if let Some(bitmap) = bitmap {
        if bitmap.length == geometry.bitmap_bytes() {
            score.note(15, "the bitmap is as long as the clusters need");
        } else {
            score.note(-6, "the bitmap is not as long as the clusters need");
        }
        if geometry.has(bitmap.first) {
            let place = geometry.cluster_place(bitmap.first);
            let length = bitmap.length.min(1 << 16);
            let bytes = medium.lenient(place, length.size()).bytes;
            let used = |cluster: u32| {
                let bit = cluster.minus(2);
                bytes.byte(bit.per(8).size()) >> bit.rest(8) & 1 == 1
            };
            let own = [bitmap.first, geometry.root_cluster];
            let near = own.iter().filter(|cluster| cluster.minus(2).per(8).size() < bytes.len());
            let set = near.filter(|cluster| used(**cluster)).count();
            if set > 0 || known.get(place, length).is_some() {
                score.note(if set > 0 { 12 } else { -6 }, "the bitmap has itself and the root in use");
            }
        }
    }
    if let Some(upcase) = upcase.filter(|owner| geometry.has(owner.first) && owner.length <= 1 << 18) {
        let bytes = medium.lenient(geometry.cluster_place(upcase.first), upcase.length.size()).bytes;
        if table_checksum(&bytes) == upcase.checksum {
            score.note(25, "the up-case table stands where the root says, with its checksum");
        } else if begins_as_upcase(&bytes) {
            score.note(12, "an up-case table stands where the root says");
        }
    }
    weigh_files(medium, geometry, &root, score);
}

/// True for the first characters of an up-case table: each its own capital.
pub(crate) fn begins_as_upcase(bytes: &[u8]) -> bool {
    (0..16_u16).all(|n| bytes.le16(usize::from(n).times(2)) == n) && bytes.len() >= 32
}

fn weigh_files(medium: &dyn Medium, geometry: &Geometry, root: &[u8], score: &mut Score) {
    let (mut yes, mut no) = (0_i64, 0_i64);
    let (mut fits, mut not) = (0_i64, 0_i64);
    for item in sets::Reading::of(root, &Upcase::default(), true).items.into_iter().take(FOLLOWED) {
        let first = item.stream.first;
        let place = geometry.cluster_place(first);
        if first == 0 || !geometry.has(first) || place >= medium.len() {
            continue;
        }
        let start = medium.lenient(place, 512).bytes;
        if item.attributes() & DIRECTORY != 0 {
            if sets::looks_like_folder(&start, false) {
                yes = yes.saturating_add(1);
            } else if start.byte(0) != 0 {
                no = no.saturating_add(1);
            }
        } else {
            match kinds::agrees(&item.name, &start) {
                Some(true) => fits = fits.saturating_add(1),
                Some(false) => not = not.saturating_add(1),
                None => {}
            }
        }
    }
    score.note(yes.saturating_mul(8).min(40), "folders stand where their entries say");
    score.note(no.saturating_mul(-8).max(-40), "folders do not stand where their entries say");
    score.note(fits.saturating_mul(4).min(24), "files begin as their kind does");
    score.note(not.saturating_mul(-4).max(-24), "files do not begin as their kind does");
}
