//! What an exFAT volume's bytes are for, besides files and folders with an entry set; which clusters its table marks
//! bad (exFAT 1.00, 4.1.3).

use super::{
    geometry::summed,
    survey::{Survey, places},
};
use crate::{
    arith::Sat,
    cluster::chain::Link,
    medium::{Extent, Medium},
    report::structure::{Purpose, Structure},
};

/// The structures.
pub(super) fn of(medium: &dyn Medium, survey: &mut Survey) -> Vec<Structure> {
    let g = survey.geometry;
    let region = g.region_bytes();
    let mut found = vec![
        Structure::new("the main boot region", Purpose::Boot, Extent::new(0, region))
            .with_twin(region, "the backup")
            .attested(summed(medium, &g, 0))
            .needed(region),
        Structure::new("the backup boot region", Purpose::Boot, Extent::new(region, region))
            .with_twin(0, "the main one")
            .attested(summed(medium, &g, region)),
    ];
    let mut behind = region.times(2);
    for (copy, name) in (0..g.tables).zip(["the table", "the second table"]) {
        let extent = Extent::new(g.table_place(copy), g.table_bytes());
        found.push(Structure::new(
            "sectors before the table that nothing is in",
            Purpose::Spare,
            Extent::new(behind, extent.offset.minus(behind)),
        ));
        found.push(Structure::new(name, Purpose::Table, extent));
        behind = extent.end();
    }
    found.push(Structure::new(
        "sectors before the clusters that nothing is in",
        Purpose::Spare,
        Extent::new(behind, g.heap_place().minus(behind)),
    ));
    let root = survey.extents(medium, 0);
    let owned = [
        ("the bitmap", Purpose::Table, places(&g, &survey.bitmap.clusters)),
        ("the second bitmap", Purpose::Table, places(&g, &survey.second.clusters)),
        ("the up-case table", Purpose::Own, places(&g, &survey.upcase.clusters)),
        ("the root folder", Purpose::Folder, root),
    ];
    for (name, purpose, extents) in owned {
        found.extend(extents.into_iter().map(|extent| {
            let one = Structure::new(name, purpose, extent);
            if name == "the second bitmap" { one } else { one.needed(u64::MAX) }
        }));
    }
    found.retain(|one| one.extent.length > 0);
    found
}

/// Clusters that the table marks bad and the bitmap has in use, in order; neighbours are one.
pub(super) fn marked_bad(medium: &dyn Medium, survey: &mut Survey) -> Vec<Extent> {
    let g = survey.geometry;
    let open: Vec<usize> = survey.used.difference(&survey.claimed).collect();
    let bad = open.into_iter().map(Sat::narrow);
    let bad: Vec<u64> = bad
        .filter(|cluster| survey.links.get(medium, *cluster) == Link::Bad)
        .map(|cluster| g.cluster_place(cluster))
        .collect();
    Extent::joined(bad, g.cluster_bytes())
}
