//! Where a folder breaks off, and how well a piece of a folder that nobody has goes on there.
//!
//! ```text
//! … REPORT_7 ZIP, its first cluster, its size │ REPORT_3 ZIP, its first cluster …
//! ```
//!
//! Three things tell: the sub-folders of the piece, whose ".." names the folder that they are in; where the files lie, as a
//! host that fills a folder writes them one behind the other; and names that number on. What holds the end of a folder comes
//! last.

use crate::{
    arith::Sat,
    cluster::seams::Likeness,
    fat::{
        geometry::Geometry,
        layout::{
            ATTR_DIRECTORY, ATTR_LONG_NAME, ATTR_LONG_NAME_MASK, ATTR_VOLUME_ID, END_ENTRY, ENTRY_BYTES,
            FREE_ENTRY, LAST_LONG, LongEntry, ShortEntry,
        },
        names,
        survey::Surveyor,
    },
};
use std::{
    collections::{HashMap, HashSet},
    rc::Rc,
};

/// Clusters between two files that were written one behind the other: those of the folder itself.
const BETWEEN: u32 = 2;
/// Sub-folders of a piece that are looked at.
const SUB_FOLDERS: usize = 4;

/// What speaks for a piece most, the stronger the later. Behind one that holds the folder's end nothing of it can follow: that
/// is taken when nothing else is left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Grounds {
    /// No more than how its names begin, and the folder ends in it.
    LastNames,
    /// Its sub-folders say that they are in this folder, and it ends there.
    LastFolders,
    /// How its names begin.
    Names,
    /// Its first file lies right behind the last one here.
    Place,
    /// Its first name has the next number.
    Number,
    /// Its sub-folders say that they are in this folder.
    Folders,
    /// Its first file lies right behind the last one here, and their names are alike: where files were written to two folders
    /// in turn, the next one on the medium can be the other's.
    NamedPlace,
}

/// How well a piece goes on where a folder breaks off, the better the more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Fit {
    grounds: Grounds,
    /// Its first file lies right behind the last one of no other piece, behind which it would come.
    leads: bool,
    likeness: Likeness,
}

impl Fit {
    /// Its sub-folders say so.
    fn in_this_folder(self) -> Self {
        let grounds = match self.grounds {
            Grounds::LastNames => Grounds::LastFolders,
            Grounds::NamedPlace => Grounds::NamedPlace,
            _ => Grounds::Folders,
        };
        Self { grounds, ..self }
    }
    /// True where something speaks for it.
    pub(super) fn is_any(self) -> bool {
        !matches!(self.grounds, Grounds::Names | Grounds::LastNames) || self.likeness.is_any()
    }
}

/// Where a folder breaks off: what its last cluster ends with.
#[derive(Debug)]
pub(super) struct Seam {
    /// A part of a long name, whose other parts come next.
    broken: Option<LongEntry>,
    /// The last short name.
    short: Option<Vec<u16>>,
    /// The last long one, as much of it as stands here.
    long: Option<Vec<u16>>,
    /// The cluster behind the last file.
    behind: Option<u32>,
}

impl Seam {
    fn of(bytes: &[u8], geometry: &Geometry) -> Self {
        let last = bytes.chunks_exact(ENTRY_BYTES).next_back().and_then(LongEntry::read);
        Self {
            broken: last.filter(is_part),
            short: bytes.chunks_exact(ENTRY_BYTES).rev().find_map(short_name),
            long: long_name(bytes, true),
            behind: files(bytes, geometry).last().map(|(first, count)| first.plus(count)),
        }
    }
    /// How well a piece goes on here, or behind a gap.
    fn fit(&self, bytes: &[u8], geometry: &Geometry) -> Fit {
        let likeness = self.follows(bytes);
        let follows = |behind: u32| places_behind(bytes, geometry).any(|place| place == behind);
        let ends = ends(bytes);
        let grounds = match self.behind {
            Some(behind) if likeness.is_any() && follows(behind) => Grounds::NamedPlace,
            _ if likeness.is_next() => Grounds::Number,
            Some(behind) if follows(behind) => Grounds::Place,
            _ if ends => Grounds::LastNames,
            _ => Grounds::Names,
        };
        Fit { grounds, leads: true, likeness }
    }
    /// How well the first name of a cluster follows the last one here, short or long: of the short ones of many files that
    /// begin alike only two letters are their own.
    fn follows(&self, bytes: &[u8]) -> Likeness {
        let of = |one: &Option<Vec<u16>>, other: Option<Vec<u16>>| match (one, other) {
            (Some(one), Some(other)) => Likeness::of(one, &other),
            _ => Likeness::default(),
        };
        let short = bytes.chunks_exact(ENTRY_BYTES).find_map(short_name);
        of(&self.short, short).max(of(&self.long, long_name(bytes, false)))
    }
    /// True where a piece can come right here: in the middle of a long name the parts must fit, and where none is broken off none
    /// may go on.
    fn fits(&self, bytes: &[u8]) -> bool {
        let next = LongEntry::read(bytes).filter(is_part);
        match (&self.broken, next) {
            (Some(part), _) if part.order & !LAST_LONG == 1 => {
                ShortEntry::read(bytes).is_some_and(|short| names::checksum(&short.name) == part.checksum)
            }
            (Some(part), Some(next)) => {
                let order = u32::from(next.order).plus(1) == u32::from(part.order & !LAST_LONG);
                order && next.checksum == part.checksum
            }
            (Some(_), None) => false,
            (None, Some(next)) => next.order & LAST_LONG != 0 || next.order == FREE_ENTRY,
            (None, None) => true,
        }
    }
}

/// Where a file can end that lies right before the first one here.
fn places_behind(bytes: &[u8], geometry: &Geometry) -> impl Iterator<Item = u32> {
    let next = files(bytes, geometry).next().map(|(first, _)| first);
    next.into_iter().flat_map(|next| next.minus(BETWEEN)..=next)
}

fn ends(bytes: &[u8]) -> bool {
    bytes.chunks_exact(ENTRY_BYTES).any(|entry| entry.first() == Some(&END_ENTRY))
}

/// The first long name in these bytes, or the last: of its parts, which stand in front of one another, those that stand here.
fn long_name(bytes: &[u8], last: bool) -> Option<Vec<u16>> {
    let entries = || bytes.chunks_exact(ENTRY_BYTES).map(|raw| LongEntry::read(raw).filter(is_part));
    let begins = |part: &Option<LongEntry>| part.as_ref().is_some_and(|part| part.order & !LAST_LONG == 1);
    let at = if last {
        entries().len().checked_sub(entries().rev().position(|part| begins(&part))?.plus(1))?
    } else {
        entries().position(|part| begins(&part))?
    };
    let parts = entries().take(at.plus(1)).collect::<Vec<_>>();
    let mut name: Vec<u16> = Vec::new();
    for (order, part) in (1_u32..).zip(parts.into_iter().rev()) {
        let Some(part) = part.filter(|part| u32::from(part.order & !LAST_LONG) == order) else { break };
        name.extend(part.units());
        if part.order & LAST_LONG != 0 {
            break;
        }
    }
    // Behind the name stand a zero and filling (specification, "Long File Name Implementation").
    let length = name.iter().position(|unit| *unit == 0).unwrap_or(name.len());
    name.truncate(length);
    Some(name)
}

fn is_part(entry: &LongEntry) -> bool {
    entry.attributes & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME
}

/// The short name in these bytes, if they are a short entry in use.
fn short_name(bytes: &[u8]) -> Option<Vec<u16>> {
    let entry = ShortEntry::read(bytes)?;
    let used = !matches!(entry.name.first(), None | Some(&(0 | FREE_ENTRY)));
    let listed = used && entry.attributes & ATTR_LONG_NAME_MASK != ATTR_LONG_NAME;
    listed.then(|| entry.name.iter().map(|byte| u16::from(*byte)).collect())
}

/// The files and folders that entries here name, deleted ones too: first clusters, and how many they need.
fn files(bytes: &[u8], geometry: &Geometry) -> impl DoubleEndedIterator<Item = (u32, u32)> {
    let wide = geometry.wide();
    bytes
        .chunks_exact(ENTRY_BYTES)
        .filter_map(ShortEntry::read)
        .filter(|entry| {
            let named =
                !matches!(entry.name.first(), None | Some(&END_ENTRY)) && !entry.name.starts_with(b".");
            let long = entry.attributes & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME;
            named && !long && entry.attributes & ATTR_VOLUME_ID == 0
        })
        .map(move |entry| (entry.first_cluster(wide), geometry.clusters_for(entry.size.get().wide()).max(1)))
        .filter(|(first, _)| geometry.has(*first))
}

impl Surveyor<'_> {
    pub(super) fn seam(&self, cluster: u32) -> Seam {
        Seam::of(&self.cluster(cluster), &self.geometry)
    }

    /// How well the piece that begins at `cluster` goes on there, in the folder that begins at `folder` (the root at 0); `None`
    /// where it cannot come next.
    pub(super) fn fit(&mut self, seam: &Seam, folder: u32, cluster: u32) -> Option<Fit> {
        seam.fits(&self.cluster(cluster)).then(|| self.fit_over_gap(seam, folder, cluster)).flatten()
    }
    /// The same where something can be missing between them; `None` where it is of another folder.
    pub(super) fn fit_over_gap(&mut self, seam: &Seam, folder: u32, cluster: u32) -> Option<Fit> {
        let mut fit = seam.fit(&self.cluster(cluster), &self.geometry);
        fit.leads = !self.behind_others().contains(&cluster);
        let known = self.within.get(&cluster).copied();
        let within = known.unwrap_or_else(|| self.says_within(cluster));
        self.within.insert(cluster, within);
        match within {
            Some(other) if other != folder => None,
            Some(_) => Some(fit.in_this_folder()),
            None => Some(fit),
        }
    }
    /// The same where something speaks for that piece: something that is told here, or the rest of a name that is broken off.
    pub(super) fn liking(&mut self, seam: &Seam, folder: u32, cluster: u32) -> Option<Fit> {
        self.fit(seam, folder, cluster).filter(|fit| fit.is_any() || seam.broken.is_some())
    }

    /// Pieces of which the table says nothing, and whose first file lies right behind the last one of another, and has a name
    /// like it.
    fn behind_others(&mut self) -> Rc<HashSet<u32>> {
        if let Some(found) = &self.behind_others {
            return found.clone();
        }
        let pieces = self.unlisted_folders();
        let mut before: HashMap<u32, (u32, Seam)> = HashMap::new();
        for piece in pieces.iter() {
            let bytes = self.cluster(*piece);
            let seam = Seam::of(&bytes, &self.geometry);
            if let Some(behind) = seam.behind.filter(|_| !ends(&bytes)) {
                before.insert(behind, (*piece, seam));
            }
        }
        let is_behind = |piece: &&u32| {
            let bytes = self.cluster(**piece);
            let mut those = places_behind(&bytes, &self.geometry).filter_map(|place| before.get(&place));
            those.any(|(other, seam)| other != *piece && seam.fits(&bytes) && seam.follows(&bytes).is_any())
        };
        let found: Rc<HashSet<u32>> = Rc::new(pieces.iter().filter(is_behind).copied().collect());
        self.behind_others = Some(found.clone());
        found
    }

    /// The folder in which the sub-folders say they are that a piece names.
    fn says_within(&self, piece: u32) -> Option<u32> {
        let bytes = self.cluster(piece);
        let wide = self.geometry.wide();
        let folders = bytes.chunks_exact(ENTRY_BYTES).take_while(|raw| raw.first() != Some(&END_ENTRY));
        let folders = folders.filter_map(ShortEntry::read).filter(|entry| {
            let long = entry.attributes & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME;
            !long && entry.attributes & ATTR_DIRECTORY != 0 && entry.name.first() != Some(&FREE_ENTRY)
        });
        let firsts = folders.map(|entry| entry.first_cluster(wide)).filter(|first| self.geometry.has(*first));
        let mut said = firsts.take(SUB_FOLDERS).filter_map(|first| {
            self.dots_at(first).filter(|(own, _)| *own == first).map(|(_, parent)| parent)
        });
        let one = said.next()?;
        said.all(|other| other == one).then_some(one)
    }
}
