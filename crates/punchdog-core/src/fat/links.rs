//! The table as Punchdog believes it: several copies and what was judged, read as one.
//!
//! Where the copies agree, that is the value. Where they differ, the first copy with a value that
//! can be one is read until a chain has decided which copy is right for it; decisions and
//! rebuilt entries are kept here as overrides and never touch the medium.

use super::{
    geometry::Geometry,
    table::{Copy, entry_place, first_entry_from},
};
use crate::{
    arith::Sat,
    cluster::{chain::Link, set::ClusterSet},
    family::Kind,
    medium::{Medium, pages::PAGE},
    progress::Watch,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    ops::Range,
};

/// Where the believed value of an overridden entry comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Because {
    /// This copy of the table has it, and its chain fits.
    Copy(u32),
    /// It follows from the size of the file, or from the folder's end mark.
    Derived,
    /// It is the likeliest of several values.
    Guess,
}

/// An entry that is believed to be something else than copy 0 says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Override {
    /// The believed value.
    pub link: Link,
    /// Why.
    pub because: Because,
}

/// The believed table.
pub struct Links {
    geometry: Geometry,
    copies: Vec<Copy>,
    /// One bit a cluster: the copies do not agree about it.
    differs: ClusterSet,
    overrides: BTreeMap<u32, Override>,
    /// The page of the first copy that was found last not to be blank.
    filled: Option<usize>,
    /// Per 512-byte piece of the table: how often each copy was right for a chain.
    votes: BTreeMap<u64, Vec<u32>>,
    /// How often each copy was right for a chain, anywhere.
    right: Vec<u32>,
    /// Per copy: 512-byte pieces that hold no table entries at all, but foreign bytes.
    trashed: Vec<BTreeSet<u64>>,
    /// Pieces that are FF in every copy: erased, or the ends of files that have one cluster each.
    suspect: BTreeSet<u64>,
}

impl Links {
    /// A table of which nothing has been read or compared yet: for asking after single entries.
    pub fn unread(geometry: &Geometry) -> Self {
        Self {
            geometry: *geometry,
            copies: (0..geometry.tables).map(|number| Copy::new(geometry, number)).collect(),
            differs: ClusterSet::with_capacity(0),
            overrides: BTreeMap::new(),
            votes: BTreeMap::new(),
            right: vec![0; geometry.tables.size()],
            trashed: Vec::new(),
            suspect: BTreeSet::new(),
            filled: None,
        }
    }

    /// True when no piece of copy `copy` holds foreign bytes.
    #[inline]
    pub fn copy_is_clean(&self, copy: u32) -> bool {
        self.trashed.get(copy.size()).is_none_or(BTreeSet::is_empty)
    }

    /// Reads all copies once, in order, and compares them.
    pub fn read(medium: &dyn Medium, geometry: &Geometry, watch: &dyn Watch) -> Self {
        let mut links = Self {
            differs: ClusterSet::with_capacity(geometry.last_cluster().plus(1).size()),
            trashed: vec![BTreeSet::new(); geometry.tables.size()],
            ..Self::unread(geometry)
        };
        links.compare(medium, watch);
        links.find_trashed(medium);
        links
    }

    fn compare(&mut self, medium: &dyn Medium, watch: &dyn Watch) {
        let geometry = self.geometry;
        let end = geometry.last_cluster().plus(1);
        let Some((first, others)) = self.copies.split_first_mut() else { return };
        let mut from = 0;
        let mut page = 0_usize;
        while from < end {
            watch.at("comparing the table copies", from.wide(), end.wide());
            let next = first_entry_from(geometry.kind, page.plus(1).times(PAGE).wide()).min(end);
            let mut same = !first.has_holes(medium, page);
            for other in others.iter_mut() {
                same &= first.is_blank(medium, page) && other.is_blank(medium, page)
                    || !other.has_holes(medium, page) && first.page(medium, page) == other.page(medium, page);
                if same {
                    // Nothing more will be asked of it.
                    other.forget(page);
                }
            }
            if !same {
                // An entry of FAT12 can begin in the page before.
                for cluster in from.minus(1).max(2)..next {
                    let one = first.value(medium, cluster);
                    if others.iter_mut().any(|other| other.value(medium, cluster) != one) {
                        self.differs.insert(cluster.size());
                    }
                }
            }
            from = next;
            page = page.plus(1);
        }
    }

    /// Marks pieces of a copy that cannot be part of a table. Where most entries lead somewhere
    /// far away, and many of them to free clusters or to where another leads as well, no host wrote
    /// them; nor a whole piece of FF where another copy has entries. A piece that is FF in every copy is
    /// suspect, until it is known what the files say of it.
    fn find_trashed(&mut self, medium: &dyn Medium) {
        let geometry = self.geometry;
        // A whole FAT12 table is a few pieces: too little to tell fragments from noise, but not to see what was erased.
        let few = geometry.kind == Kind::Fat12;
        let mut from = 0;
        let last_cluster = geometry.last_cluster();
        while from <= last_cluster {
            let piece = self.piece(from);
            // Where nothing stands, nothing foreign does.
            let blank = self.blank_until(medium, from);
            let blank = self.piece(blank);
            if blank > piece {
                from = self.entries_of(blank).start;
                continue;
            }
            let next = self.entries_of(piece).end;
            let to = next.minus(1).min(last_cluster);
            let first = from.max(2);
            let alike = !self.differs.contains_any_in_range(first.size()..to.plus(1).size());
            let erased: Vec<bool> =
                (0..geometry.tables).map(|copy| self.is_erased(medium, copy, piece)).collect();
            from = next;
            if erased.iter().all(|erased| *erased) {
                self.suspect.insert(piece);
                continue;
            }
            // One entry that is damaged in the other copy is no witness against all of these.
            let differing = self.differs.count_in(first.size()..to.plus(1).size());
            let contradicted = differing.times(2) >= to.plus(1).minus(first).size();
            let mut trashed = false;
            for (copy, erased) in (0..geometry.tables).zip(erased) {
                // Where the copies are alike, the first answers for all.
                if copy == 0 || !alike {
                    trashed = erased && contradicted || !few && self.is_trashed(medium, copy, first, to);
                }
                if trashed && let Some(pieces) = self.trashed.get_mut(copy.size()) {
                    pieces.insert(piece);
                }
            }
        }
    }

    /// The entries that begin in a 512-byte piece of the table.
    fn entries_of(&self, piece: u64) -> Range<u32> {
        first_entry_from(self.geometry.kind, piece.times(512))
            ..first_entry_from(self.geometry.kind, piece.plus(1).times(512))
    }

    fn is_trashed(&mut self, medium: &dyn Medium, copy: u32, from: u32, to: u32) -> bool {
        let (mut far, mut used, mut odd) = (Vec::new(), 0_u32, 0_u32);
        for cluster in from..=to {
            match self.in_copy(medium, copy, cluster) {
                Link::Free | Link::Unreadable => continue,
                Link::Next(next) if next != cluster.plus(1) => far.push(next),
                Link::Odd(_) => odd = odd.plus(1),
                _ => {}
            }
            used = used.plus(1);
        }
        if used < 48 {
            return false;
        }
        if far.len().narrow().plus(odd).times(10) >= used.times(6) {
            let aims = far.len().narrow();
            let mut targets = far.clone();
            targets.sort_unstable();
            let doubles = targets.windows(2).filter(|pair| matches!(pair, [a, b] if a == b)).count().narrow();
            let dead =
                far.iter().filter(|next| !self.in_copy(medium, copy, **next).in_chain()).count().narrow();
            return odd.plus(doubles).plus(dead).times(5) >= aims.plus(odd);
        }
        false
    }

    /// True where nothing but FF stands.
    fn is_erased(&mut self, medium: &dyn Medium, copy: u32, piece: u64) -> bool {
        let erased = |bytes: &[u8]| bytes.iter().all(|byte| *byte == 0xFF);
        // Most pieces are told by an entry in their middle.
        let middle = piece.times(512).plus(256);
        let cluster = middle.times(8).per(self.geometry.bits().wide()).narrow();
        let ones = if self.geometry.kind == Kind::Fat12 { 0xFFF } else { 0xFFFF };
        let ends = self.raw(medium, copy, cluster).is_none_or(|value| value & ones == ones);
        let place = self.geometry.table_offset(copy).plus(piece.times(512));
        ends && erased(&medium.lenient(place, 512).bytes)
    }

    /// True where the entry of `cluster` may be none.
    #[inline]
    pub fn is_suspect(&self, cluster: u32) -> bool {
        !self.suspect.is_empty() && self.suspect.contains(&self.piece(cluster))
    }

    /// Decides about the suspect pieces: most clusters of one that a host wrote are somebody's, as `claimed`
    /// has them once every folder was read. True when there were some.
    pub fn judge_suspects(&mut self, claimed: &ClusterSet) -> bool {
        let suspect = std::mem::take(&mut self.suspect);
        for piece in &suspect {
            let Range { start: from, end } = self.entries_of(*piece);
            let to = end.min(self.geometry.last_cluster().plus(1));
            let of = to.minus(from.max(2));
            if claimed.count_in(from.size()..to.size()).times(2) < of.size() {
                for pieces in &mut self.trashed {
                    pieces.insert(*piece);
                }
            }
        }
        !suspect.is_empty()
    }

    /// The first cluster from `cluster` on whose entry may be anything but free by all copies: large empty
    /// tables are gone through page by page, not entry by entry.
    pub fn blank_until(&mut self, medium: &dyn Medium, cluster: u32) -> u32 {
        let geometry = self.geometry;
        let end = geometry.last_cluster().plus(1);
        if geometry.kind == Kind::Fat12 || cluster >= end {
            return cluster;
        }
        let mut at = cluster;
        while at < end {
            let page = entry_place(geometry.kind, at).0.per(PAGE.wide()).size();
            // Where something stands, each entry is asked for in turn.
            if self.filled == Some(page) {
                break;
            }
            let next = first_entry_from(geometry.kind, page.plus(1).times(PAGE).wide()).min(end);
            if !self.copies.first_mut().is_some_and(|copy| copy.is_blank(medium, page)) {
                self.filled = Some(page);
                break;
            }
            let blank = !self.differs.contains_any_in_range(at.size()..next.size())
                && self.overrides.range(at..next).next().is_none();
            if !blank {
                break;
            }
            at = next;
        }
        at
    }

    /// True when some piece of every copy holds foreign bytes.
    #[inline]
    pub fn has_noise(&self) -> bool {
        self.trashed.iter().all(|pieces| !pieces.is_empty()) && !self.trashed.is_empty()
    }

    /// True where copy `copy` has no entry for `cluster`, only foreign bytes.
    #[inline]
    pub fn is_foreign(&self, copy: u32, cluster: u32) -> bool {
        let trashed = self.trashed.get(copy.size());
        trashed.is_some_and(|pieces| !pieces.is_empty() && pieces.contains(&self.piece(cluster)))
    }

    /// True where no copy has an entry for `cluster`, only foreign bytes.
    #[inline]
    pub fn is_noise(&self, cluster: u32) -> bool {
        let piece = self.piece(cluster);
        !self.trashed.is_empty() && self.trashed.iter().all(|pieces| pieces.contains(&piece))
    }

    /// The geometry of the volume.
    #[inline]
    pub fn geometry(&self) -> &Geometry {
        &self.geometry
    }
    /// True where the copies do not agree.
    #[inline]
    pub fn differs(&self, cluster: u32) -> bool {
        self.differs.contains(cluster.size())
    }
    /// The clusters about which the copies do not agree.
    #[inline]
    pub fn differing(&self) -> impl Iterator<Item = u32> + '_ {
        self.differs.ones().map(Sat::narrow)
    }
    /// What copy `copy` says of `cluster`.
    #[inline]
    pub fn in_copy(&mut self, medium: &dyn Medium, copy: u32, cluster: u32) -> Link {
        if self.is_foreign(copy, cluster) {
            return Link::Unreadable;
        }
        self.copies.get_mut(copy.size()).map_or(Link::Unreadable, |c| c.link(medium, cluster))
    }
    /// The raw value of entry `cluster` in copy `copy`, entries 0 and 1 included.
    #[inline]
    pub fn raw(&mut self, medium: &dyn Medium, copy: u32, cluster: u32) -> Option<u32> {
        self.copies.get_mut(copy.size()).and_then(|c| c.value(medium, cluster))
    }
    /// What is believed of `cluster`.
    #[inline]
    pub fn get(&mut self, medium: &dyn Medium, cluster: u32) -> Link {
        if !self.overrides.is_empty()
            && let Some(found) = self.overrides.get(&cluster)
        {
            return found.link;
        }
        if self.differs(cluster) {
            return self.undecided(medium, cluster);
        }
        // Where the copies say the same, the first speaks for all; of a piece of it that was erased, FF says
        // nothing, though it reads like the end that another copy has.
        let speaks = if self.copy_is_clean(0) { 0 } else { self.not_trashed(self.piece(cluster)) };
        self.in_copy(medium, speaks, cluster)
    }

    /// The first copy of which this piece is not trashed, or the first of all.
    fn not_trashed(&self, piece: u64) -> u32 {
        let sane = |pieces: &BTreeSet<u64>| !pieces.contains(&piece);
        self.trashed.iter().position(sane).unwrap_or(0).narrow()
    }

    /// The value to read while no chain has decided: the copy that was right for its neighbours,
    /// else the first that can be a value at all.
    fn undecided(&mut self, medium: &dyn Medium, cluster: u32) -> Link {
        let mut order: Vec<u32> = (0..self.geometry.tables).collect();
        // Where no chain of this piece has decided, the copy that was right elsewhere is asked first.
        let here = self.votes.get(&self.piece(cluster));
        let right = |votes: Option<&Vec<u32>>, copy: u32| {
            votes.and_then(|votes| votes.get(copy.size())).copied().unwrap_or(0)
        };
        order.sort_by_key(|copy| std::cmp::Reverse((right(here, *copy), right(Some(&self.right), *copy))));
        let links: Vec<Link> = order.iter().map(|copy| self.in_copy(medium, *copy, cluster)).collect();
        let sane = |link: &&Link| !matches!(link, Link::Odd(_) | Link::Unreadable);
        links.iter().find(sane).or(links.first()).copied().unwrap_or(Link::Unreadable)
    }

    #[inline]
    fn piece(&self, cluster: u32) -> u64 {
        entry_place(self.geometry.kind, cluster).0.per(512)
    }

    /// Records that copy `copy` is right about `cluster`.
    pub fn decide(&mut self, medium: &dyn Medium, cluster: u32, copy: u32) {
        let link = self.in_copy(medium, copy, cluster);
        self.overrides.insert(cluster, Override { link, because: Because::Copy(copy) });
        let piece = self.piece(cluster);
        let votes = self.votes.entry(piece).or_insert_with(|| vec![0; self.geometry.tables.size()]);
        for votes in [votes, &mut self.right] {
            if let Some(vote) = votes.get_mut(copy.size()) {
                *vote = vote.plus(1);
            }
        }
    }

    /// Records a value that no copy has.
    #[inline]
    pub fn rebuild(&mut self, cluster: u32, link: Link, because: Because) {
        self.overrides.insert(cluster, Override { link, because });
    }

    /// The clusters of a range of which what follows was judged.
    #[inline]
    pub fn guesses(&self, range: Range<u32>) -> Vec<u32> {
        let found = self.overrides.range(range).filter(|(_, found)| found.because == Because::Guess);
        found.map(|(cluster, _)| *cluster).collect()
    }

    /// Every override, by cluster.
    #[inline]
    pub fn overrides(&self) -> impl Iterator<Item = (u32, Override)> + '_ {
        self.overrides.iter().map(|(cluster, found)| (*cluster, *found))
    }
}
