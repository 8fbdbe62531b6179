//! Sizes that were struck: a file whose chain has another length than its size needs, and whose content ends, by its own
//! structure, in the last cluster of that chain. Two witnesses against the one field.

use crate::{
    arith::Sat,
    cluster::chain::{End, Walk},
    fat::{folder::Flaws, survey::Surveyor},
    files::kinds,
    medium::Extent,
};

impl Surveyor<'_> {
    /// Takes the size that the content of a file tells, if it ends in the last cluster of its chain, `walk`.
    pub(super) fn size_by_content(&mut self, number: u32, walk: &Walk) -> bool {
        let Some(node) = self.node(number).cloned() else { return false };
        let own = walk.end == End::Proper && walk.meets.is_none() && walk.length > 0;
        let Some(first) = walk.clusters().next().filter(|_| own && !node.folder) else { return false };
        if kinds::agrees(&node.name, &self.cluster(first)) != Some(true) {
            return false;
        }
        let extents: Vec<Extent> = walk.runs.iter().map(|run| self.extent(*run)).collect();
        let each = self.geometry.cluster_bytes().wide();
        let room = walk.length.wide().times(each);
        let told = self.ends.length(self.medium, &extents).filter(|told| *told > room.minus(each));
        let Some(told) = told.and_then(|told| u32::try_from(told).ok()) else { return false };
        self.tree.said_sizes.insert(number, node.entry.size.get());
        self.change(number, |node| {
            node.entry.size = told.into();
            node.flaws.set(Flaws::SIZE_WRONG);
        });
        self.claim(number, walk);
        true
    }
}
