//! Where what a node holds stands: its clusters, their places, a folder's entries.

use super::{FOLDER_LIMIT, Survey};
use crate::{
    arith::Sat,
    cluster::chain::{Link, run_of},
    cluster::places::Places,
    fat::{geometry::Geometry, layout::ENTRY_BYTES, links::Links},
    medium::{Extent, Medium},
};

/// The content of a folder and where each entry of it stands.
pub struct Content {
    /// The bytes.
    pub bytes: Vec<u8>,
    /// Where they stand.
    pub places: Places,
}

impl Content {
    pub(super) fn read(medium: &dyn Medium, places: Vec<Extent>) -> Self {
        let mut bytes = Vec::new();
        for place in &places {
            bytes.extend(medium.lenient(place.offset, place.length.size()).bytes);
        }
        Self { bytes, places: Places::of(places) }
    }
    /// Where entry `index` stands: bytes from the start of the volume.
    pub fn place(&self, index: u32) -> Option<u64> {
        self.places.place(index)
    }
    /// Entries there is room for.
    pub fn entries(&self) -> u32 {
        self.bytes.len().per(ENTRY_BYTES).narrow()
    }
}

/// Where a folder lies along the believed chain from `first`, `length` clusters long.
pub(super) fn places(
    medium: &dyn Medium,
    links: &mut Links,
    geometry: &Geometry,
    root: bool,
    first: u32,
    length: u32,
) -> Vec<Extent> {
    let mut places = Vec::new();
    if root && !geometry.wide() {
        places.push(Extent::new(geometry.root_offset(), geometry.root_bytes()));
    } else {
        let each = geometry.cluster_bytes().wide();
        let most = FOLDER_LIMIT.narrow().per(geometry.cluster_bytes()).max(1);
        for cluster in chain(medium, links, first, length.min(most)) {
            let place = Extent::new(geometry.cluster_offset(cluster), each);
            match places.last_mut() {
                Some(last) if Extent::end(*last) == place.offset => last.length = last.length.plus(each),
                _ => places.push(place),
            }
        }
    }
    places
}

/// The first `length` clusters of the believed chain from `first`.
pub fn chain(medium: &dyn Medium, links: &mut Links, first: u32, length: u32) -> Vec<u32> {
    let runs = runs(medium, links, first, length);
    runs.into_iter().flat_map(|(first, count)| run_of(first, count)).collect()
}

/// The same as first cluster and length of each piece.
pub fn runs(medium: &dyn Medium, links: &mut Links, first: u32, length: u32) -> Vec<(u32, u32)> {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    let (mut at, mut found) = (first, 0_u32);
    while found < length && links.geometry().has(at) {
        found = found.plus(1);
        match runs.last_mut() {
            Some((start, count)) if start.plus(*count) == at => *count = count.plus(1),
            _ => runs.push((at, 1)),
        }
        match links.get(medium, at) {
            Link::Next(next) => at = next,
            _ => break,
        }
    }
    runs
}

impl Survey {
    /// True when folders lie behind the end of the image or of what was stored: what is in them cannot be
    /// told from what nobody owns.
    pub fn has_unseen(&self) -> bool {
        self.tree.below_root().any(|(_, node)| node.folder && node.is_unseen())
    }

    fn ranges(&mut self, medium: &dyn Medium, number: u32) -> Vec<Extent> {
        let (first, length) = self.tree.node(number).map_or((0, 0), |node| (node.first, node.length));
        places(medium, &mut self.links, &self.geometry, number == 0, first, length)
    }
    /// Where the entries of folder `number` stand.
    pub fn places(&mut self, medium: &dyn Medium, number: u32) -> Places {
        Places::of(self.ranges(medium, number))
    }
    /// The content of folder `number`.
    pub fn content(&mut self, medium: &dyn Medium, number: u32) -> Content {
        let ranges = self.ranges(medium, number);
        Content::read(medium, ranges)
    }
    /// The clusters of node `number`, in order.
    pub fn clusters(&mut self, medium: &dyn Medium, number: u32) -> Vec<u32> {
        let (first, length) = self.tree.node(number).map_or((0, 0), |node| (node.first, node.length));
        chain(medium, &mut self.links, first, length)
    }
    /// The ranges of the volume that hold the content of node `number`, cut at its size.
    pub fn extents(&mut self, medium: &dyn Medium, number: u32) -> Vec<Extent> {
        let size = self.tree.node(number).map_or(0, |node| match node.size_without_a_bit(&self.geometry) {
            _ if node.folder => u64::MAX,
            Some(told) => told.wide(),
            None => node.size(),
        });
        let (first, length) = self.tree.node(number).map_or((0, 0), |node| (node.first, node.length));
        let each = self.geometry.cluster_bytes().wide();
        let mut left = size;
        let mut extents: Vec<Extent> = Vec::new();
        for (cluster, count) in runs(medium, &mut self.links, first, length) {
            let take = count.wide().times(each).min(left);
            if take == 0 {
                break;
            }
            left = left.minus(take);
            extents.push(Extent::new(self.geometry.cluster_offset(cluster), take));
        }
        extents
    }
}
