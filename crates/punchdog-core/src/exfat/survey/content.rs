//! Where what a node holds stands: its clusters, their places, a folder's entries.

use super::{READ, Survey};
use crate::{
    arith::Sat,
    cluster::chain::{Link, run_of},
    cluster::places::Places,
    exfat::{geometry::Geometry, layout::ENTRY, sets::Flaws, tree::Node},
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
    /// What stands in these places, up to [`READ`] bytes.
    pub(super) fn read(medium: &dyn Medium, places: Places) -> Self {
        let mut bytes = Vec::new();
        for place in places.extents() {
            let room = READ.minus(bytes.len().wide()).min(place.length);
            bytes.extend(medium.lenient(place.offset, room.size()).bytes);
        }
        Self { bytes, places }
    }
    /// Where entry `index` stands: bytes from the start of the volume.
    pub fn place(&self, index: u32) -> Option<u64> {
        self.places.place(index)
    }
    /// Entries there is room for.
    pub fn entries(&self) -> u32 {
        self.bytes.len().per(ENTRY).narrow()
    }
}

/// The places of runs of clusters.
pub(in crate::exfat) fn extents_of(geometry: &Geometry, runs: &[(u32, u32)]) -> Vec<Extent> {
    let each = geometry.cluster_bytes();
    runs.iter()
        .filter(|(_, count)| *count > 0)
        .map(|(first, count)| Extent::new(geometry.cluster_place(*first), count.wide().times(each)))
        .collect()
}

/// The places of clusters, neighbours as one.
pub(in crate::exfat) fn places(geometry: &Geometry, clusters: &[u32]) -> Vec<Extent> {
    Extent::joined(clusters.iter().map(|cluster| geometry.cluster_place(*cluster)), geometry.cluster_bytes())
}

impl Survey {
    /// True when folders lie behind the end of the image or of what was stored: what is in them cannot be
    /// told from what nobody owns.
    pub fn has_unseen(&self) -> bool {
        let unseen = |node: &Node| node.folder && node.flaws.intersects(Flaws::BEYOND | Flaws::HOLLOW);
        self.tree.below_root().any(|(_, node)| unseen(node))
    }

    /// The clusters of a node, in order.
    pub fn clusters(&mut self, medium: &dyn Medium, number: u32) -> Vec<u32> {
        let Some(node) = self.tree.node(number).cloned() else { return Vec::new() };
        self.chain(medium, node.first, node.length, node.row)
    }

    /// `length` clusters from `first`, in a row or as the table is believed.
    pub fn chain(&mut self, medium: &dyn Medium, first: u32, length: u32, row: bool) -> Vec<u32> {
        let runs = self.runs(medium, first, length, row);
        runs.into_iter().flat_map(|(first, count)| run_of(first, count)).collect()
    }

    /// The same as first cluster and length of each piece.
    pub fn runs(&mut self, medium: &dyn Medium, first: u32, length: u32, row: bool) -> Vec<(u32, u32)> {
        let room = self.geometry.last_cluster().plus(1).minus(first);
        if row {
            return vec![(first, length.min(room))];
        }
        let mut runs: Vec<(u32, u32)> = Vec::new();
        let (mut at, mut found) = (first, 0_u32);
        while found < length {
            found = found.plus(1);
            match runs.last_mut() {
                Some((start, count)) if start.plus(*count) == at => *count = count.plus(1),
                _ => runs.push((at, 1)),
            }
            match self.links.get(medium, at) {
                Link::Next(next) => at = next,
                _ => break,
            }
        }
        runs
    }

    /// The places of a node's clusters; a file's last one is cut at its length.
    pub fn extents(&mut self, medium: &dyn Medium, number: u32) -> Vec<Extent> {
        let Some(node) = self.tree.node(number) else { return Vec::new() };
        let (first, length, row) = (node.first, node.length, node.row);
        let mut left = if number != 0 && !node.folder { node.stream.length } else { u64::MAX };
        let runs = if length == 0 { Vec::new() } else { self.runs(medium, first, length, row) };
        let mut found = extents_of(&self.geometry, &runs);
        for extent in &mut found {
            extent.length = extent.length.min(left);
            left = left.minus(extent.length);
        }
        found.retain(|extent| extent.length > 0);
        found
    }

    /// Where the entries of a folder stand.
    pub fn places(&mut self, medium: &dyn Medium, number: u32) -> Places {
        let clusters = self.clusters(medium, number);
        Places::of(places(&self.geometry, &clusters))
    }

    /// The content of a folder.
    pub fn content(&mut self, medium: &dyn Medium, number: u32) -> Content {
        let places = self.places(medium, number);
        Content::read(medium, places)
    }
}
