//! One reading of a whole volume: records, then the indexes of all folders, then what the clusters come to.

use super::{
    content, copies,
    differing::{self, Differing},
    geometry::Geometry,
    index::{self, IndexFlaw},
    layout::{DUP_FOLDER, kind, number, own, sequence},
    log::Log,
    mend::LostContent,
    mft::Mft,
    names::{Capitals, of_key},
    outvoted,
    record::text,
    records::{File, Name, Notes, Piece, Records, Use},
    runs::{Mapping, Run},
    tree::{self, Node, Of, Stray, Tree, Why},
    volume::{self, About, Asleep, UpCase},
};
use crate::{
    arith::{Peek, Sat},
    cluster::set::ClusterSet,
    files::{content::Content, order},
    medium::{Extent, Medium, MediumError, Unknown},
    progress::Watch,
};
use rayon::prelude::*;
use std::{
    collections::{HashMap, HashSet},
    ops::Range,
    sync::{
        OnceLock,
        atomic::{AtomicUsize, Ordering::Relaxed},
    },
};

/// Strays that are kept.
const STRAYS: usize = 1 << 20;
/// Folders that are read side by side.
const BATCH: usize = 64;
/// Bytes of a bitmap that are read at once.
const LONG: u64 = 1 << 20;

/// All that one reading shows.
pub struct Survey {
    /// Where the records stand.
    pub mft: Mft,
    /// The records.
    pub records: Records,
    /// What indexes name beside them.
    pub strays: Vec<Stray>,
    /// What is wrong with the indexes, by the folder's record.
    pub index_flaws: Vec<(u32, IndexFlaw)>,
    /// Entries that say of files what their records do not, by the file.
    pub differing: Vec<Differing>,
    /// Folders and files.
    pub tree: Tree,
    /// Clusters that files have.
    pub claimed: ClusterSet,
    /// Clusters that more than one has.
    pub crossed: ClusterSet,
    /// Clusters that $Bitmap has in use; `None` where it cannot be read.
    pub bitmap: Option<ClusterSet>,
    /// The cluster behind the last one that $Bitmap has a bit for.
    pub bitmap_end: u64,
    /// Records that $MFT's bitmap has in use; `None` where it cannot be read.
    pub in_use: Option<Vec<u8>>,
    /// The capitals that names are compared by.
    pub capitals: Capitals,
    /// What $UpCase holds.
    pub upcase: UpCase,
    /// What $Volume says.
    pub about: About,
    /// The state of the log.
    pub log: Log,
    /// Whether a host sleeps on the volume.
    pub asleep: Asleep,
    /// See [`Survey::lost_content`].
    found: OnceLock<LostContent>,
}

/// Reads the volume.
pub fn survey(medium: &dyn Medium, geometry: &Geometry, watch: &dyn Watch) -> Result<Survey, MediumError> {
    let mft = Mft::find(medium, geometry).with_scattered(medium, watch);
    let mut records = Records::read(medium, &mft, watch)?;
    records.number_folders();
    let (capitals, upcase) = volume::upcase(medium, &mft, &records);
    let in_use = records_in_use(medium, &mft, &records);
    let mut told = Indexes::default();
    let folders = folders(&records);
    indexes(medium, &mft, &mut records, &capitals, (&folders, watch), &mut told)?;
    // What is in a folder that was taken for deleted is known when it is not.
    let mut again = outvoted::settle(&mut records, &mut told.strays, &told.flaws, in_use.as_deref());
    while !again.is_empty() {
        let folders: Vec<File> = again.iter().filter_map(|number| records.live(*number).cloned()).collect();
        indexes(medium, &mft, &mut records, &capitals, (&folders, watch), &mut told)?;
        again = outvoted::settle(&mut records, &mut told.strays, &told.flaws, in_use.as_deref());
    }
    copies::settle(medium, &mft, &mut records, &mut told.strays);
    astray(&records, &mut told.strays);
    let Indexes { strays, flaws: index_flaws, mut differing } = told;
    differing::settle(&mut records, &mut differing);
    let (claimed, crossed) = records.claims(geometry.clusters());
    let (bitmap, bitmap_end) = clusters_in_use(medium, &mft, &records, &claimed).unzip();
    let tree = tree::build(&records, &strays);
    let about = volume::about(medium, &mft);
    let log = volume::log(medium, &mft, &records);
    let asleep = volume::asleep(medium, &mft, &records);
    Ok(Survey {
        mft,
        records,
        strays,
        index_flaws,
        differing,
        tree,
        claimed,
        crossed,
        bitmap,
        bitmap_end: bitmap_end.unwrap_or(0),
        in_use,
        capitals,
        upcase,
        about,
        log,
        asleep,
        found: OnceLock::new(),
    })
}

/// An entry to a record that cannot be read, of a name that a file of this folder has, leads astray: no file is lost.
fn astray(records: &Records, strays: &mut [Stray]) {
    let lost = |stray: &&Stray| stray.why == Why::Lost;
    let names: HashSet<(u64, &str)> =
        strays.iter().filter(lost).map(|stray| (stray.folder.into(), &*stray.text)).collect();
    if names.is_empty() {
        return;
    }
    let there: HashSet<(u64, &str)> = records
        .names
        .iter()
        .filter(|name| names.contains(&(number(name.parent), &*name.text)))
        .filter(|name| records.live(name.file).is_some() && records.referred(name.parent).is_some())
        .map(|name| (number(name.parent), &*name.text))
        .collect();
    let told: Vec<bool> =
        strays.iter().map(|stray| there.contains(&(stray.folder.into(), &*stray.text))).collect();
    for (stray, there) in strays.iter_mut().zip(told) {
        if there && stray.why == Why::Lost {
            stray.why = Why::Renamed;
        }
    }
}

/// What indexes name beside the records' own names, and what is wrong with them.
#[derive(Default)]
struct Indexes {
    strays: Vec<Stray>,
    flaws: Vec<(u32, IndexFlaw)>,
    differing: Vec<Differing>,
}

/// The folders, in the order in which their blocks stand.
fn folders(records: &Records) -> Vec<File> {
    let live = |file: &&File| file.notes.contains(Notes::FOLDER) && !file.notes.contains(Notes::DELETED);
    let mut folders: Vec<(u64, File)> = records
        .files
        .iter()
        .filter(live)
        .map(|file| {
            let blocks = records.stream_of(file, kind::INDEX_ALLOCATION, "$I30").first();
            let first = blocks.and_then(|piece| records.runs_of(piece).first().copied());
            (first.and_then(|run| run.first).unwrap_or(0), file.clone())
        })
        .collect();
    folders.sort_by_key(|(first, file)| (*first, file.number));
    folders.into_iter().map(|(_, file)| file).collect()
}

/// Goes through the indexes of these folders.
fn indexes(
    medium: &dyn Medium,
    mft: &Mft,
    records: &mut Records,
    capitals: &Capitals,
    (folders, watch): (&[File], &dyn Watch),
    told: &mut Indexes,
) -> Result<(), MediumError> {
    let all = folders.len().wide();
    for (done, batch) in (0_u64..).step_by(BATCH).zip(folders.chunks(BATCH)) {
        if watch.stop() {
            return Err(MediumError::Stopped);
        }
        watch.at("reading folders", done, all);
        let known = &*records;
        // On both cores; what they come to is settled in order.
        let room = AtomicUsize::new(STRAYS.minus(told.strays.len().max(told.differing.len())));
        let read = batch.par_iter().map(|folder| One::read(medium, mft, known, folder, (capitals, &room)));
        for (folder, mut one) in batch.iter().zip(read.collect::<Vec<One>>()) {
            told.strays.append(&mut one.told.strays);
            told.differing.append(&mut one.told.differing);
            for (index, reached, place) in &one.names {
                let Some(name) = records.names.get_mut(index.size()) else { continue };
                if name.indexed && *reached && told.strays.len() < STRAYS {
                    let (file, text) = (name.file, name.text.clone());
                    told.strays.push(Stray {
                        folder: folder.number,
                        reference: file.into(),
                        parent: name.parent,
                        place: *place,
                        why: Why::Doubled,
                        attributes: 0,
                        size: 0,
                        modified: 0,
                        space: name.space,
                        text,
                    });
                }
                name.indexed |= *reached;
            }
            told.flaws.append(&mut one.told.flaws);
        }
    }
    Ok(())
}

/// What the index of one folder tells.
struct One {
    /// Of names: which, in the list of all; whether the way through the index leads to it; where the entry stands.
    names: Vec<(u32, bool, u64)>,
    told: Indexes,
}

impl One {
    /// Keeps no more of what differs than there is `room` for.
    fn read(
        medium: &dyn Medium,
        mft: &Mft,
        records: &Records,
        folder: &File,
        (capitals, room): (&Capitals, &AtomicUsize),
    ) -> Self {
        let take = || room.fetch_update(Relaxed, Relaxed, |left| left.checked_sub(1)).is_ok();
        let (mut names, mut kinds) = (Vec::new(), Vec::new());
        let Indexes { mut strays, mut flaws, mut differing } = Indexes::default();
        let within = folder.number;
        let reading = index::read(medium, mft, records, folder, capitals, |entry| {
            match meant(records, folder, entry.reference, entry.key) {
                Ok((name, folder)) => {
                    let said = entry.key.le32(56) & DUP_FOLDER != 0;
                    if said != folder && entry.reached && number(entry.reference) >= own::FIRST_FREE.into() {
                        kinds.push(IndexFlaw::Kind(entry.place));
                    }
                    if !folder {
                        differing.extend(differing::of(records, within, entry, name).filter(|_| take()));
                    }
                    names.push((name, entry.reached, entry.place));
                }
                Err(why) if take() => strays.push(Stray {
                    folder: within,
                    reference: entry.reference,
                    parent: entry.key.le64(0),
                    place: entry.place,
                    why,
                    attributes: entry.key.le32(56),
                    size: entry.key.le64(48),
                    modified: entry.key.le64(16),
                    space: entry.key.byte(65),
                    text: text(of_key(entry.key)).into_boxed_str(),
                }),
                Err(_) => {}
            }
        });
        flaws.extend(reading.flaws.into_iter().chain(kinds).map(|flaw| (within, flaw)));
        Self { names, told: Indexes { strays, flaws, differing } }
    }
}

/// The name, in the list of all, that an entry of the folder's index stands for, and whether that file is a folder.
pub(super) fn meant(
    records: &Records,
    folder: &File,
    reference: u64,
    key: &[u8],
) -> Result<(u32, bool), Why> {
    let record = u32::try_from(number(reference)).unwrap_or(u32::MAX);
    let Some(file) = records.file(record) else {
        return Err(match records.uses.get(record.size()) {
            Some(Use::Extends) => Why::Reused,
            Some(Use::Free) => Why::Free,
            _ => Why::Lost,
        });
    };
    if file.notes.contains(Notes::DELETED) {
        return Err(Why::Free);
    }
    if file.sequence != sequence(reference) {
        return Err(Why::Reused);
    }
    let units = of_key(key);
    // An entry is a copy of the name, folder and all: Linux lists none that names another use of the folder's record
    // (6.12, `fs/ntfs3/dir.c`, `ntfs_filldir`).
    if key.le64(0) != super::layout::reference(folder.number, folder.sequence) {
        return Err(Why::Renamed);
    }
    let same = |name: &Name| {
        number(name.parent) == u64::from(folder.number)
            && name.space == key.byte(65)
            && name.text.encode_utf16().eq(units.chunks_exact(2).map(|unit| unit.le16(0)))
    };
    let names = records.names_of(file);
    // Names that are no UTF-16 are known by their text alone.
    let alike = |name: &Name| {
        number(name.parent) == u64::from(folder.number)
            && name.space == key.byte(65)
            && *name.text == text(units)
    };
    let at = names.iter().position(same).or_else(|| names.iter().position(alike)).ok_or(Why::Renamed)?;
    Ok((file.names.start.plus(at.narrow()), file.notes.contains(Notes::FOLDER)))
}

/// The clusters that $Bitmap has in use, and the end of those that it has a bit for.
fn clusters_in_use(
    medium: &dyn Medium,
    mft: &Mft,
    records: &Records,
    claimed: &ClusterSet,
) -> Option<(ClusterSet, u64)> {
    let file = records.live(own::BITMAP)?;
    let pieces = records.stream_of(file, kind::DATA, "");
    let first = pieces.first().filter(|piece| !piece.resident)?;
    let clusters = mft.geometry.clusters();
    let map = Mapping::of(&records.all_runs(pieces), mft.geometry.cluster());
    let length = first.size.min(map.len()).min(clusters.per_up(8));
    if length == 0 {
        return None;
    }
    let mut set = ClusterSet::with_capacity(clusters.size());
    let mut at = 0_u64;
    while at < length {
        let bytes = map.read(medium, at, LONG.min(length.minus(at)).size());
        take_bits(&mut set, at.times(8).size(), &bytes);
        at = at.plus(LONG);
    }
    // A bit that cannot be read is neither right nor wrong.
    let unread = medium.unknown(Unknown::Unreadable);
    for (skip, place) in if unread.is_empty() { Vec::new() } else { map.places(0, length) } {
        for part in unread.iter().map(|one| one.common(place)).filter(|part| part.length > 0) {
            let from = skip.plus(part.offset.minus(place.offset)).times(8);
            let bits = from.size()..from.plus(part.length.times(8)).min(clusters).size();
            set.extend(bits.filter(|cluster| claimed.contains(*cluster)));
        }
    }
    Some((set, length.times(8).min(clusters)))
}

/// Puts the bits of a bitmap into a set, from `first` on: mostly all or none of a word is set.
fn take_bits(set: &mut ClusterSet, first: usize, bytes: &[u8]) {
    let mut full: Option<Range<usize>> = None;
    for (index, part) in bytes.chunks(8).enumerate() {
        let at = first.plus(index.times(64));
        let (word, bits) = (part.le64(0), part.len().times(8));
        if word.count_ones().size() == bits {
            full = Some(full.map_or(at, |run| run.start)..at.plus(bits));
            continue;
        }
        if let Some(run) = full.take() {
            set.insert_range(run);
        }
        let mut left = word;
        while left != 0 {
            set.insert(at.plus(left.trailing_zeros().size()));
            left &= left.wrapping_sub(1);
        }
    }
    if let Some(run) = full {
        set.insert_range(run);
    }
}

/// The bits of $MFT's bitmap.
fn records_in_use(medium: &dyn Medium, mft: &Mft, records: &Records) -> Option<Vec<u8>> {
    let file = records.live(own::MFT)?;
    let pieces = records.stream_of(file, kind::BITMAP, "");
    let first = pieces.first().filter(|piece| !piece.resident)?;
    let map = Mapping::of(&records.all_runs(pieces), mft.geometry.cluster());
    let length = first.size.min(map.len()).min(mft.records().wide().per_up(64).times(8));
    (length > 0).then(|| map.read(medium, 0, length.size()))
}

impl Survey {
    /// Clusters that hold what files had whose records or run lists are lost. Looked for once; `medium` has the bytes that
    /// were surveyed.
    pub(super) fn lost_content(&self, medium: &dyn Medium) -> &LostContent {
        self.found.get_or_init(|| super::mend::lost_content(self, medium))
    }
    /// The file of a node.
    pub fn file(&self, node: &Node) -> Option<&File> {
        self.records.file(node.file?)
    }
    /// The folders whose indexes are not what they should be, missing names left out.
    pub fn folders_told_of(&self) -> impl Iterator<Item = u32> {
        let flawed = self.index_flaws.iter().map(|(folder, _)| *folder);
        let differing = self.differing.iter().filter(|one| one.how.is_told()).map(|one| one.folder);
        flawed.chain(self.strays.iter().map(|stray| stray.folder)).chain(differing)
    }
    /// The entry of a file that does not say of it what its record says.
    pub fn differing(&self, file: u32) -> Option<&Differing> {
        let at = self.differing.binary_search_by_key(&file, |one| one.file).ok()?;
        self.differing.get(at)
    }
    /// The first node of each of these records.
    pub fn nodes_of(&self, wanted: impl Fn(u32) -> bool) -> HashMap<u32, u32> {
        let mut found = HashMap::new();
        for (node, of) in (0_u32..).zip(&self.tree.nodes) {
            if let Some(number) = of.file.filter(|number| wanted(*number))
                && !matches!(of.of, Of::Stream(..))
            {
                found.entry(number).or_insert(node);
            }
        }
        found
    }
    /// The paths of these records, each by its first node; that of the root folder is empty.
    pub fn paths_of(&self, wanted: impl Fn(u32) -> bool) -> HashMap<u32, String> {
        self.nodes_of(wanted).into_iter().map(|(number, node)| (number, self.path(node))).collect()
    }
    /// The pieces of the content of a node.
    pub fn pieces(&self, node: &Node) -> &[Piece] {
        let Some(file) = self.file(node) else { return &[] };
        let name = match node.of {
            Of::Stream(_, name) => self.records.stream_name(name),
            _ => "",
        };
        self.records.stream_of(file, kind::DATA, name)
    }
    /// What a node holds.
    pub fn content(&self, medium: &dyn Medium, node: &Node) -> Content {
        content::of(medium, &self.mft, &self.records, self.pieces(node))
    }
    /// The path of a node.
    pub fn path(&self, number: u32) -> String {
        let mut names = Vec::new();
        let mut at = number;
        while at != 0 {
            names.push(self.tree.text(&self.records, &self.strays, at));
            let above = self.tree.nodes.get(at.size()).map_or(0, |node| node.parent);
            if above >= at {
                break;
            }
            at = above;
        }
        names.reverse();
        names.join("/")
    }
    /// Where something of a file stands: all runs of its content.
    pub fn extents(&self, node: &Node) -> Vec<Extent> {
        let runs = self.records.all_runs(self.pieces(node));
        let cluster = self.mft.geometry.cluster();
        let place =
            |run: &Run| run.first.map(|first| Extent::new(first.times(cluster), run.length.times(cluster)));
        runs.iter().filter_map(place).collect()
    }
}

impl order::Tree for Survey {
    fn nodes(&self) -> u32 {
        self.tree.nodes.len().narrow()
    }
    fn parent(&self, number: u32) -> u32 {
        self.tree.nodes.get(number.size()).map_or(0, |node| node.parent)
    }
    fn name(&self, number: u32) -> &str {
        self.tree.text(&self.records, &self.strays, number)
    }
}
