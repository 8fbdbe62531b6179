//! The geometry where nothing of the file system's own is left: boot sectors, record 0 and its copies, and records 1 to 11.
//!
//! A file's record has the clusters of its content and their bytes: that gives the size of a cluster. A folder's record says
//! in which cluster its index begins, and the block there names the folder in its entries: that gives where cluster 0 is.
//! Without such folders it is looked for where volumes usually begin: there files must end where their records say, in the
//! middle of a cluster, with zeros behind (hosts write whole pages, and clear the rest of the last one).

use super::evidence::{CLUSTERS, Evidence, record_size};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    ntfs::{
        index::named_in_block,
        layout::{self, Fixups, kind, sequence, unfix},
        record::{Head, attributes},
        runs::decode,
    },
};
use std::collections::BTreeMap;

/// Records, of files and of folders each, that are kept.
const RECORDS: usize = 4096;
/// Index blocks that are kept.
const BLOCKS: usize = 1 << 16;
/// Clusters of a folder's index that are held against the blocks.
const OF_FOLDER: u64 = 16;
/// Contents that must say the same of a cluster.
const CONTENTS: u32 = 4;
/// Blocks that must stand where folders say. Fewer are an accident.
const STAND: u32 = 2;
/// Where volumes usually begin.
const BEGINNINGS: [u64; 9] = [0, 63 * 512, 1 << 20, 2 << 20, 4 << 20, 8 << 20, 16 << 20, 32 << 20, 64 << 20];
/// Places for cluster 0 that are weighed, and blocks that are held against folders.
const VOTES: usize = 1 << 18;
/// See [`VOTES`].
const PAIRS: usize = 1 << 24;
/// Files whose ends are looked at, and how many must be right at least.
const ENDS: usize = 256;
/// See [`ENDS`].
const FIT: usize = 6;
/// Bytes behind a file's end that must be zeros, at least: those up to the end of a page.
const BEHIND: u64 = 16;
/// Bytes of a page of a host's memory.
const PAGE: u64 = 4096;
/// Bytes in front of the first record that are looked at for what else stands there.
const BEFORE: u64 = 1 << 20;
/// Where $MFT begins on a volume that no host of its own made, in bytes.
const USUAL: u64 = 16 << 10;

/// What was come upon, by its place.
#[derive(Default)]
pub(super) struct Seen {
    files: Vec<u64>,
    folders: Vec<u64>,
    blocks: Vec<(u64, u64)>,
}

/// The index of a folder.
struct Folder {
    number: Option<u32>,
    sequence: u16,
    /// Bytes of a block.
    block: u64,
    /// Clusters: where in the index, and where on the volume.
    clusters: Vec<(u64, u64)>,
}

impl Seen {
    /// Looks at one sector.
    pub(super) fn take(&mut self, here: u64, sector: &[u8]) {
        if sector.part(0, 4) == b"INDX" && self.blocks.len() < BLOCKS {
            self.blocks.push((here, sector.le64(16)));
        } else if sector.part(0, 4) == b"FILE" {
            let head = Head::read(sector);
            let to = if head.folder() { &mut self.folders } else { &mut self.files };
            if head.in_use() && to.len() < RECORDS {
                to.push(here);
            }
        }
    }

    /// What these say together.
    pub(super) fn evidence(&self, medium: &dyn Medium) -> Option<Evidence> {
        let record = |place: &u64| {
            let shift = record_size(&medium.lenient(*place, 48).bytes)?;
            let mut bytes = medium.lenient(*place, 1_usize.checked_shl(shift.into())?).bytes;
            (unfix(&mut bytes) != Fixups::Bad).then_some((*place, shift, bytes))
        };
        let all: Vec<(u64, u8, Vec<u8>)> =
            self.files.iter().chain(&self.folders).filter_map(record).collect();
        let cluster_shift = most(all.iter().flat_map(|(.., bytes)| cluster_sizes(bytes)), CONTENTS)?;
        let record_shift = most(all.iter().map(|(_, shift, _)| *shift), CONTENTS)?;
        let cluster = 1_u64.checked_shl(cluster_shift.into())?;
        let folders: Vec<Folder> = all.iter().filter_map(|(.., bytes)| folder(bytes)).collect();
        let usual = || BEGINNINGS.into_iter().find(|start| files_end(medium, &all, *start, cluster));
        let (start, index, by_files) = match self.start(medium, &folders, cluster) {
            Some((start, block)) => {
                (start, Some(block), "index blocks stand where the records of their folders say")
            }
            None => (usual()?, None, "files end where their records say, with zeros behind"),
        };
        let numbered = all.iter().filter_map(|(place, _, bytes)| Some((*place, Head::read(bytes).number?)));
        let size = 1_u64.checked_shl(record_shift.into())?;
        let first = numbered.filter(|(place, _)| *place >= start).min();
        // Records in front of that, in one piece with it; else where they usually are.
        let before = first.and_then(|(place, number)| {
            let begin = place.minus(start).checked_sub(number.wide().times(size))?;
            (begin.rest(cluster) == 0 && begin > 0).then_some((begin, place))
        });
        let blank = |(begin, place): &(u64, u64)| {
            let length = place.minus(start).minus(*begin).min(BEFORE);
            let bytes = medium.lenient(start.plus(*begin), length.size()).bytes;
            bytes.iter().all(|byte| Some(byte) == bytes.first())
        };
        let begin = before.filter(blank).map_or(USUAL.per_up(cluster).times(cluster), |(begin, _)| begin);
        Some(Evidence {
            cluster_shift,
            record_shift,
            index_shift: index.and_then(|block| u8::try_from(block.trailing_zeros()).ok()),
            mft: begin.per(cluster).max(1),
            mirror: None,
            clusters: None,
            agree: STAND,
            by_files: Some(by_files),
            start,
        })
    }

    /// Where cluster 0 is, and the bytes of an index block: where most of the blocks stand as the folders say that they do.
    fn start(&self, medium: &dyn Medium, folders: &[Folder], cluster: u64) -> Option<(u64, u64)> {
        if folders.is_empty() {
            return None;
        }
        let mut by_vcn: BTreeMap<u64, Vec<(u64, u64)>> = BTreeMap::new();
        for (place, vcn) in &self.blocks {
            // Its entries tell in whose folder the block is.
            let sectors = usize::from(medium.lenient(place.plus(6), 2).bytes.le16(0)).clamp(2, 129).minus(1);
            let names = named_in_block(&medium.lenient(*place, sectors.times(512)).bytes);
            let whose = names.first().and_then(|(_, name)| name.get(..8)).map(|parent| parent.le64(0));
            if let Some(parent) = whose {
                by_vcn.entry(*vcn).or_default().push((*place, parent));
            }
        }
        let mut votes: BTreeMap<(u64, u64), (u32, u32)> = BTreeMap::new();
        let mut pairs = 0_usize;
        for folder in folders {
            // The first ones tell as well as all do.
            if votes.len() >= VOTES || pairs >= PAIRS {
                break;
            }
            let step = if folder.block >= cluster { cluster } else { 512 };
            for (vcn, lcn) in &folder.clusters {
                let blocks = by_vcn.get(&vcn.times(cluster).per(step)).map_or(&[][..], Vec::as_slice);
                pairs = pairs.plus(blocks.len());
                for (place, parent) in blocks {
                    let known = folder.number.is_some();
                    let same =
                        folder.number.is_none_or(|number| layout::number(*parent) == u64::from(number));
                    let Some(start) = place.checked_sub(lcn.times(cluster)) else { continue };
                    if same && sequence(*parent) == folder.sequence {
                        let vote = votes.entry((start, folder.block)).or_default();
                        *vote = (vote.0.plus(1), vote.1.plus(u32::from(known)));
                    }
                }
            }
        }
        let (best, (count, known)) = votes.iter().max_by_key(|(_, (count, _))| *count)?;
        let other = votes.iter().filter(|(start, _)| *start != best).map(|(_, (count, _))| *count).max();
        // Where records do not say their numbers, blocks of others fit by accident.
        let alone = other.is_none_or(|other| *count > other.times(2));
        (*count >= STAND && alone && (*known > 0 || *count > STAND)).then_some(*best)
    }
}

/// The files end there if cluster 0 is at `start`.
fn files_end(medium: &dyn Medium, records: &[(u64, u8, Vec<u8>)], start: u64, cluster: u64) -> bool {
    let (mut fit, mut all) = (0_usize, 0_usize);
    for (.., record) in records {
        let (list, _) = attributes(record);
        let data = list.iter().find(|a| a.kind() == kind::DATA && !a.resident() && a.name().is_empty());
        let Some(data) = data.filter(|a| a.first_vcn() == 0 && a.flags() == 0 && a.valid() == a.size())
        else {
            continue;
        };
        let (runs, wrong) = decode(data.runs(), data.clusters(), u64::MAX);
        let (used, whole) = (data.size().rest(cluster), data.size().per_up(cluster) == data.clusters());
        let last = runs.last().filter(|run| run.first.is_some() && wrong.is_none() && whole);
        let behind = used.per_up(PAGE.min(cluster)).times(PAGE.min(cluster)).minus(used);
        let Some(last) = last.filter(|_| behind >= BEHIND) else { continue };
        let end = start.plus(last.end().minus(1).times(cluster)).plus(used);
        let bytes = medium.lenient(end.minus(1), behind.plus(1).size()).bytes;
        let zeros = bytes.iter().skip(1).all(|byte| *byte == 0);
        fit = fit.plus(usize::from(bytes.byte(0) != 0 && zeros));
        all = all.plus(1);
        if all >= ENDS {
            break;
        }
    }
    fit >= FIT && all.minus(fit) <= all.per(4)
}

/// What most say, where so many do, and nearly all.
fn most(said: impl Iterator<Item = u8>, least: u32) -> Option<u8> {
    let mut votes: BTreeMap<u8, u32> = BTreeMap::new();
    let mut all = 0_u32;
    for one in said {
        let vote = votes.entry(one).or_default();
        *vote = vote.plus(1);
        all = all.plus(1);
    }
    let (best, count) = votes.into_iter().max_by_key(|(_, count)| *count)?;
    (count >= least && all.minus(count) <= all.per(8)).then_some(best)
}

/// The size of a cluster, as a power of two, by each content of this record.
fn cluster_sizes(record: &[u8]) -> Vec<u8> {
    let (list, _) = attributes(record);
    // Of a content that goes on in another record, the bytes are of all of it.
    if list.iter().any(|a| a.kind() == kind::LIST) {
        return Vec::new();
    }
    // Packed and holed ones have fewer clusters than their bytes would take.
    let plain = list.iter().filter(|a| !a.resident() && a.first_vcn() == 0 && a.flags() == 0);
    let sizes = plain.filter_map(|attribute| {
        let (runs, wrong) = decode(attribute.runs(), attribute.clusters(), u64::MAX);
        let clusters = runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
        let size = attribute.allocated().checked_div(clusters).filter(|_| wrong.is_none())?;
        let shift = u8::try_from(size.trailing_zeros()).ok()?;
        let whole = size.is_power_of_two() && size.times(clusters) == attribute.allocated();
        (whole && CLUSTERS.contains(&shift)).then_some(shift)
    });
    sizes.collect()
}

fn folder(record: &[u8]) -> Option<Folder> {
    let head = Head::read(record);
    let (list, _) = attributes(record);
    let root = list.iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called("$I30"))?;
    let block = u64::from(root.value().le32(8));
    let index = list.iter().find(|a| a.kind() == kind::INDEX_ALLOCATION && !a.resident())?;
    let (runs, _) = decode(index.runs(), index.clusters(), u64::MAX);
    let (mut clusters, mut vcn) = (Vec::new(), index.first_vcn());
    for run in runs {
        let first =
            run.first.into_iter().flat_map(|first| (0..run.length.min(OF_FOLDER)).map(move |at| (at, first)));
        clusters.extend(first.map(|(at, first)| (vcn.plus(at), first.plus(at))));
        vcn = vcn.plus(run.length);
        if clusters.len().wide() >= OF_FOLDER {
            break;
        }
    }
    let fits = head.folder() && block.is_power_of_two() && (512..=65536).contains(&block);
    fits.then_some(Folder { number: head.number, sequence: head.sequence, block, clusters })
}
