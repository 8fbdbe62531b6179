//! Places that the file system shall keep off, because the medium fails there: which clusters these are, and what
//! moving what stands in them costs.

use super::set::ClusterSet;
use crate::{
    arith::Sat,
    medium::Extent,
    mending::step::{Provenance, Step},
    report::{finding::Entry, wording::counted},
};

/// Places of a volume, in bytes from its start, that it shall keep off.
pub struct Aside<'a> {
    /// The places, in order.
    pub places: &'a [Extent],
    /// What is mended when a file has nothing there any more.
    pub file: &'static Entry,
    /// And what when a folder or another structure has not.
    pub structure: &'static Entry,
    /// And what when a free cluster cannot be taken any more.
    pub free: &'static Entry,
}

impl Aside<'_> {
    /// The clusters that they lie in: those from `first` on stand at byte `heap`, and have `each` bytes.
    pub(crate) fn clusters(&self, heap: u64, each: u64, clusters: std::ops::Range<u64>) -> ClusterSet {
        let mut found = ClusterSet::with_capacity(clusters.end.size());
        let each = each.max(1);
        let end = heap.plus(clusters.end.minus(clusters.start).times(each));
        for place in self.places.iter().filter(|place| place.end() > heap && place.offset < end) {
            let from = place.offset.max(heap).minus(heap).per(each);
            let to = place.end().min(end).minus(heap).per_up(each);
            found.insert_range(clusters.start.plus(from).size()..clusters.start.plus(to).size());
        }
        found
    }

    /// Bytes of a file's extents that lie on them, as far as the file's are in these clusters.
    pub(crate) fn lost(&self, own: &[Extent], clusters: impl IntoIterator<Item = Extent>) -> u64 {
        let on = |extent: Extent| {
            let first = self.places.partition_point(|place| place.end() <= extent.offset);
            let places = self.places.get(first..).unwrap_or(&[]).iter();
            places
                .take_while(|place| place.offset < extent.end())
                .fold(0_u64, |sum, place| sum.plus(place.common(extent).length))
        };
        let mut sum = 0_u64;
        for cluster in clusters {
            let parts = own.iter().map(|own| own.common(cluster)).filter(|part| part.length > 0);
            sum = sum.plus(parts.map(on).fold(0, u64::plus));
        }
        sum
    }

    /// A step that moves `count` clusters of what is called `title`, of which `lost` bytes could not be read.
    pub(crate) fn moved(&self, title: &str, structure: bool, count: usize, lost: u64) -> Step {
        let many = counted(count.wide(), "cluster", "clusters");
        let off = if count == 1 { "a place that fails" } else { "places that fail" };
        let mends = if structure { self.structure } else { self.file };
        let step = Step::new(
            "moved-off-bad-places",
            format!("{title}: move {many} off {off}"),
            Provenance::Exact,
            "what stands there, as far as it could be read, in clusters that were free",
            &[mends],
        );
        if lost == 0 {
            return step;
        }
        step.or(format!(
            "{} of it could not be read, before or now: zeros stand for them",
            counted(lost, "byte", "bytes")
        ))
    }

    /// A step that marks clusters; so many of files stay where they are, for want of room.
    pub(crate) fn marked(&self, count: usize, stay: u64) -> Step {
        let many = counted(count.wide(), "cluster", "clusters");
        let step = Step::new(
            "clusters-marked-bad",
            format!("mark {many} bad: hosts put nothing there"),
            Provenance::Exact,
            "the places that cannot be read",
            &[self.free],
        );
        if stay == 0 {
            return step;
        }
        let stay = counted(stay, "cluster that fails is", "clusters that fail are");
        step.or(format!("{stay} not marked: what stands there cannot be moved"))
    }
}

/// Which of a file's clusters are in a set: their indices.
pub(crate) fn hit(clusters: &[u32], bad: &ClusterSet) -> Vec<usize> {
    (0..).zip(clusters).filter(|(_, cluster)| bad.contains(cluster.size())).map(|(at, _)| at).collect()
}

/// The clusters of one file or folder, of which some move.
pub(crate) struct Moving {
    /// Those that move, in order.
    pub(crate) old: Vec<u32>,
    /// All of them afterwards.
    pub(crate) now: Vec<u32>,
}

impl Moving {
    /// Those at the indices `hit` become the fresh ones, as many as there are.
    pub(crate) fn new(clusters: &[u32], hit: &[usize], fresh: &[u32]) -> Self {
        let (mut old, mut now) = (Vec::new(), clusters.to_vec());
        for (slot, new) in hit.iter().zip(fresh) {
            if let Some(slot) = now.get_mut(*slot) {
                old.push(std::mem::replace(slot, *new));
            }
        }
        Self { old, now }
    }
    /// The first cluster afterwards.
    pub(crate) fn first(&self) -> u32 {
        self.now.first().copied().unwrap_or(0)
    }
    /// The step that does it; `path` is `None` for the root folder. The file has these extents, and a cluster stands
    /// where `place` says.
    pub(crate) fn step(
        &self,
        aside: &Aside<'_>,
        path: Option<String>,
        own: &[Extent],
        place: impl Fn(u32) -> Extent,
    ) -> Step {
        let lost = aside.lost(own, self.old.iter().map(|cluster| place(*cluster)));
        match path {
            None => aside.moved("the root folder", true, self.old.len(), lost),
            Some(path) => aside.moved(&path, false, self.old.len(), lost).file(path),
        }
    }
}

/// The numbers of a set as rows: first, and how many.
pub(crate) fn rows(set: &ClusterSet) -> Vec<(u32, u32)> {
    let mut rows: Vec<(u32, u32)> = Vec::new();
    for number in set.ones().map(Sat::narrow) {
        match rows.last_mut() {
            Some((first, count)) if first.plus(*count) == number => *count = count.plus(1),
            _ => rows.push((number, 1)),
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::report::finding::Weight;

    static ENTRY: Entry =
        Entry { code: "a/b", weight: Weight::Remark, title: "", meaning: "", mending: "", source: "" };

    #[test]
    fn clusters_that_places_touch() {
        let places = [Extent::new(0, 1000), Extent::new(1535, 2), Extent::new(5000, 9000)];
        let aside = Aside { places: &places, file: &ENTRY, structure: &ENTRY, free: &ENTRY };
        // Clusters 2 to 9 of 512 bytes from byte 1024 on: the last ends at 5120.
        let clusters = aside.clusters(1024, 512, 2..10);
        assert_eq!(clusters.ones().collect::<Vec<_>>(), [2, 3, 9]);
        assert_eq!(rows(&clusters), [(2, 2), (9, 1)]);
        let own = [Extent::new(900, 700), Extent::new(5119, 1)];
        assert_eq!(
            aside.lost(&own, [Extent::new(512, 512), Extent::new(1024, 512), Extent::new(4608, 512)]),
            100 + 1 + 1
        );
    }
}
