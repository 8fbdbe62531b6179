//! What a FAT volume's bytes are for, besides files and folders with an entry; which clusters its table marks bad
//! (FAT 1.03, "FAT Data Structure").

use super::{layout::BootSector, survey::Survey};
use crate::{
    arith::Sat,
    cluster::chain::Link,
    medium::{Extent, Medium},
    report::structure::{Purpose, Structure},
};

const TABLES: [&str; 4] = ["the first table", "the second table", "the third table", "the fourth table"];

/// The structures.
pub(super) fn of(medium: &dyn Medium, survey: &mut Survey) -> Vec<Structure> {
    let g = survey.geometry;
    let sector = g.sector_bytes.wide();
    let at = |number: u64| Extent::new(number.times(sector), sector);
    let reserved = Extent::new(sector, g.table_offset(0).minus(sector));
    let boot = Structure::new("the boot sector", Purpose::Boot, at(0)).needed(sector);
    let mut found = Vec::new();
    if g.wide() {
        // The sector itself says where the others are; where it cannot be asked they are where they usually are.
        let tail = BootSector::read(&medium.lenient(0, 512).bytes).map(|boot| boot.tail32());
        let usual = |field: Option<u16>, else_: u64| {
            let number = field.map_or(0, u64::from);
            if (1..g.reserved_sectors.wide()).contains(&number) { number } else { else_ }
        };
        let info = usual(tail.map(|tail| tail.fsinfo_sector.get()), 1);
        let backup = usual(tail.map(|tail| tail.backup_sector.get()), 6);
        let copy = info.plus(backup);
        found.push(boot.with_twin(backup.times(sector), "its backup"));
        found.push(
            Structure::new("FSInfo", Purpose::Own, at(info))
                .with_twin(copy.times(sector), "its copy")
                .needed(sector),
        );
        found.push(
            Structure::new("the backup boot sector", Purpose::Boot, at(backup))
                .with_twin(0, "the boot sector"),
        );
        found.push(
            Structure::new("the copy of FSInfo", Purpose::Own, at(copy))
                .with_twin(info.times(sector), "FSInfo"),
        );
        found.retain(|one| one.extent.end() <= reserved.end());
    } else {
        found.push(boot);
    }
    found.push(Structure::new("reserved sectors that nothing is in", Purpose::Spare, reserved));
    for (copy, name) in (0..g.tables).zip(TABLES) {
        let other = u32::from(copy == 0);
        let table = Structure::new(name, Purpose::Table, Extent::new(g.table_offset(copy), g.table_bytes()));
        let twin = TABLES.get(other.size()).filter(|_| g.tables > 1);
        found.push(match twin {
            Some(twin) => table.with_twin(g.table_offset(other), twin),
            None => table,
        });
    }
    let root =
        if g.wide() { survey.extents(medium, 0) } else { vec![Extent::new(g.root_offset(), g.root_bytes())] };
    found.extend(root.into_iter().map(|extent| Structure::new("the root folder", Purpose::Folder, extent)));
    found.retain(|one| one.extent.length > 0);
    found
}

/// Clusters that the table marks bad, in order; neighbours are one.
pub(super) fn marked_bad(medium: &dyn Medium, survey: &mut Survey) -> Vec<Extent> {
    if survey.bad == 0 {
        return Vec::new();
    }
    let g = survey.geometry;
    let mut bad = Vec::new();
    let (mut next, end) = (2, g.last_cluster().plus(1));
    while next < end {
        let cluster = survey.links.blank_until(medium, next);
        if cluster < end && survey.links.get(medium, cluster) == Link::Bad {
            bad.push(g.cluster_offset(cluster));
        }
        next = cluster.plus(1);
    }
    Extent::joined(bad, g.cluster_bytes().wide())
}
