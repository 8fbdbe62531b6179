//! The table as it is believed: two copies under TexFAT, and what was judged (specification,
//! section 4).
//!
//! ```text
//! entry 0    FFFFFFF8          entry 1    FFFFFFFF
//! entry n    0 nothing · 2 … count+1 next cluster · FFFFFFF7 bad · FFFFFFFF end
//! ```
//!
//! What an entry says counts only for files whose NoFatChain flag is clear; whether a cluster is in
//! use is the bitmap's to say, not the table's.

use super::{geometry::Geometry, layout::FLAG_ACTIVE};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::Link,
    medium::{
        Extent, Medium, MediumError, OverlayWindow,
        pages::{PAGE, Pages},
    },
};
use std::collections::BTreeMap;

/// Why an entry is believed to be other than it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Because {
    /// Another copy has it, and its chain fits.
    Copy,
    /// It follows from a file's length.
    Derived,
    /// It is the likeliest of several values.
    Guess,
}

/// Entries of the smallest sector.
const NEAR: u32 = 128;

/// The believed table.
pub struct Links {
    geometry: Geometry,
    copies: Vec<Pages>,
    active: usize,
    overrides: BTreeMap<u32, (Link, Because)>,
}

impl Links {
    /// The tables of a volume whose flags are `flags`.
    pub fn new(geometry: &Geometry, flags: u16) -> Self {
        let place = |copy| Extent::new(geometry.table_place(copy), geometry.table_bytes());
        let active = usize::from(flags & FLAG_ACTIVE != 0 && geometry.tables == 2);
        Self {
            geometry: *geometry,
            copies: (0..geometry.tables).map(|copy| Pages::new(place(copy))).collect(),
            active,
            overrides: BTreeMap::new(),
        }
    }

    /// The copy that hosts go by.
    #[inline]
    pub fn active(&self) -> usize {
        self.active
    }

    /// The raw value of an entry in copy `copy`; `None` where it cannot be read.
    #[inline]
    pub fn raw(&mut self, medium: &dyn Medium, copy: usize, cluster: u32) -> Option<u32> {
        let at = cluster.wide().times(4);
        let pages = self.copies.get_mut(copy)?;
        let value = pages.page(medium, at.per(PAGE.wide()).size()).le32(at.rest(PAGE.wide()).size());
        (at.plus(4) <= pages.len() && !pages.has_holes(at, 4)).then_some(value)
    }

    /// What copy `copy` says of a cluster.
    #[inline]
    pub fn in_copy(&mut self, medium: &dyn Medium, copy: usize, cluster: u32) -> Link {
        match self.raw(medium, copy, cluster) {
            None => Link::Unreadable,
            Some(0) => Link::Free,
            Some(0xFFFF_FFF7) => Link::Bad,
            Some(0xFFFF_FFF8..) => Link::End,
            Some(next) if self.geometry.has(next) => Link::Next(next),
            Some(odd) => Link::Odd(odd),
        }
    }

    /// True where ends stand around the entry of a cluster, and nothing else in most of it: blank flash reads so. Of what
    /// nobody claims such an end says nothing.
    pub fn is_erased(&mut self, medium: &dyn Medium, cluster: u32) -> bool {
        let first = cluster.minus(cluster.rest(NEAR));
        let near = (first..first.plus(NEAR)).filter_map(|entry| self.raw(medium, self.active, entry));
        let (mut ends, mut all) = (0_u32, 0_u32);
        for value in near {
            if value == 0 {
                return false;
            }
            ends = ends.plus(u32::from(value == u32::MAX));
            all = all.plus(1);
        }
        ends.times(2) > all
    }

    /// What is believed of a cluster.
    #[inline]
    pub fn get(&mut self, medium: &dyn Medium, cluster: u32) -> Link {
        match self.overrides.get(&cluster) {
            Some((link, _)) => *link,
            None => self.in_copy(medium, self.active, cluster),
        }
    }

    /// Records what is believed instead.
    #[inline]
    pub fn believe(&mut self, cluster: u32, link: Link, because: Because) {
        self.overrides.insert(cluster, (link, because));
    }

    /// The clusters of a range of which what follows was judged.
    #[inline]
    pub fn guesses(&self, range: std::ops::Range<u32>) -> Vec<u32> {
        let found = self.overrides.range(range).filter(|(_, (_, why))| *why == Because::Guess);
        found.map(|(cluster, _)| *cluster).collect()
    }
    /// Everything that is believed to be other than it stands.
    #[inline]
    pub fn overrides(&self) -> impl Iterator<Item = (u32, Link, Because)> + '_ {
        self.overrides.iter().map(|(cluster, (link, because))| (*cluster, *link, *because))
    }
}

/// The value that says this; an odd one stays what it is.
#[inline]
pub fn value(link: Link) -> u32 {
    match link {
        Link::Free | Link::Unreadable => 0,
        Link::Next(next) => next,
        Link::End => u32::MAX,
        Link::Bad => 0xFFFF_FFF7,
        Link::Odd(value) => value,
    }
}

/// Sets an entry in every copy of the table.
pub fn set(
    stage: &mut OverlayWindow<'_, '_>,
    geometry: &Geometry,
    cluster: u32,
    link: Link,
) -> Result<(), MediumError> {
    (0..geometry.tables).try_for_each(|copy| {
        let place = geometry.table_place(copy).plus(cluster.wide().times(4));
        stage.write_at(place, &value(link).to_le_bytes())
    })
}
