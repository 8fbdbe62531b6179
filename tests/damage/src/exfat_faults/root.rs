//! Damage to what the root folder names, and to the bitmap and the up-case table themselves.

use super::{Fault, Patient, fault};

/// The root's entries as the lab lays them: label, bitmap (one a table), up-case table.
fn bitmap_entry(p: &Patient) -> u64 {
    p.root_entry(1)
}

fn upcase_entry(p: &Patient) -> u64 {
    p.root_entry(1 + u64::from(p.geometry.tables))
}

fn upcase_place(p: &Patient) -> u64 {
    let at = upcase_entry(p) + 20;
    let first = p.read(at, 4);
    p.geometry.cluster_place(u32::from_le_bytes([first[0], first[1], first[2], first[3]]))
}

fn double(p: &mut Patient, from: u64) {
    // Over the label, which every host can do without.
    let entry = p.read(from, 32);
    let at = p.root_entry(0);
    p.write(at, &entry);
}

pub(super) const ALL: &[Fault] = &[
    fault("table's first entries zeroed", "exfat/table-first-entries", |p, _| {
        let at = p.geometry.table_place(0);
        p.fill(at, 8, 0);
    }),
    fault("bitmap entry unused", "exfat/bitmap-entry-missing", |p, _| {
        let at = bitmap_entry(p);
        p.write(at, &[1]);
        p.damaged.push(punchdog_core::medium::Extent::new(p.root_entry(0), 32));
    }),
    fault("bitmap entry overwritten", "exfat/bitmap-entry-missing", |p, _| {
        let at = bitmap_entry(p);
        p.fill(at, 32, 0x05);
        p.damaged.push(punchdog_core::medium::Extent::new(p.root_entry(0), 32));
    }),
    fault("bitmap entry and bitmap gone", "exfat/bitmap-entry-missing", |p, _| {
        let at = bitmap_entry(p);
        p.fill(at, 32, 0x05);
        let (place, length) = (p.geometry.cluster_place(2), p.geometry.bitmap_bytes());
        p.fill(place, length, 0);
        p.damaged.push(punchdog_core::medium::Extent::new(p.root_entry(0), 32));
    }),
    fault("bitmap's first cluster 0", "exfat/bitmap-entry", |p, _| {
        let at = bitmap_entry(p) + 20;
        p.write(at, &[0; 4]);
    }),
    fault("bitmap's first cluster is a file's", "exfat/bitmap-entry", |p, _| {
        let at = bitmap_entry(p) + 20;
        let wrong = p.find(super::ROW).clusters[0].to_le_bytes();
        p.write(at, &wrong);
    }),
    fault("bitmap one byte too short", "exfat/bitmap-entry", |p, _| {
        let at = bitmap_entry(p) + 24;
        let wrong = (p.geometry.bitmap_bytes() - 1).to_le_bytes();
        p.write(at, &wrong);
    }),
    fault("bitmap too long", "exfat/bitmap-entry", |p, _| {
        let at = bitmap_entry(p) + 24;
        p.write(at, &[0, 0, 1, 0, 0, 0, 0, 0]);
    }),
    fault("second bitmap entry", "exfat/bitmap-entry-doubled", |p, _| {
        let from = bitmap_entry(p);
        double(p, from);
        p.damaged.push(punchdog_core::medium::Extent::new(from, 32));
    }),
    fault("up-case entry unused", "exfat/upcase-entry-missing", |p, _| {
        let at = upcase_entry(p);
        p.write(at, &[2]);
        p.damaged.push(punchdog_core::medium::Extent::new(p.root_entry(0), 32));
    }),
    fault("up-case entry and table gone", "exfat/upcase-entry-missing", |p, _| {
        let (at, place) = (upcase_entry(p), upcase_place(p));
        p.fill(at, 32, 0x05);
        p.fill(place, 5836, 0);
        p.damaged.push(punchdog_core::medium::Extent::new(p.root_entry(0), 32));
    }),
    fault("up-case first cluster out of range", "exfat/upcase-entry", |p, _| {
        let at = upcase_entry(p) + 20;
        p.write(at, &[0xFF, 0xFF, 0, 0]);
    }),
    fault("up-case length 0", "exfat/upcase-entry", |p, _| {
        let at = upcase_entry(p) + 24;
        p.write(at, &[0; 8]);
    }),
    fault("up-case checksum wrong", "exfat/upcase-checksum", |p, _| {
        let at = upcase_entry(p) + 4;
        p.write(at, &[1, 0, 0, 0]);
    }),
    fault("up-case table damaged", "exfat/upcase-table", |p, _| {
        let place = upcase_place(p) + 300;
        p.write(place, &[0x40, 0x41, 0x42]);
    }),
    fault("up-case table zeroed", "exfat/upcase-entry", |p, _| {
        let (place, at) = (upcase_place(p), upcase_entry(p));
        p.fill(place, 5836, 0);
        p.damaged.push(punchdog_core::medium::Extent::new(at, 32));
    }),
    fault("second up-case entry", "exfat/upcase-entry-doubled", |p, _| {
        let from = upcase_entry(p);
        double(p, from);
        p.damaged.push(punchdog_core::medium::Extent::new(from, 32));
    }),
    fault("label of 200 characters", "exfat/label-length", |p, _| {
        let at = p.root_entry(0) + 1;
        p.write(at, &[200]);
    }),
    fault("second label", "exfat/label-doubled", |p, _| {
        // Behind everything else.
        let label = p.read(p.root_entry(0), 32);
        let used = (0..4096).find(|n| p.read(p.root_entry(*n), 1)[0] == 0).expect("the root has an end");
        let at = p.root_entry(used);
        p.write(at, &label);
    }),
    fault("a file's bits cleared in the bitmap", "exfat/used-but-free", |p, _| {
        for cluster in p.find(super::OTHER).clusters {
            p.set_bit(cluster, false);
        }
    }),
    fault("the root's bit cleared", "exfat/used-but-free", |p, _| {
        let root = p.geometry.root_cluster;
        p.set_bit(root, false);
    }),
    fault("bits set that nothing uses", "exfat/lost-clusters", |p, _| {
        for number in 0..5 {
            let cluster = p.unused(number);
            p.set_bit(cluster, true);
        }
    }),
    fault("bitmap zeroed", "exfat/used-but-free", |p, _| {
        let (place, length) = (p.geometry.cluster_place(2), p.geometry.bitmap_bytes());
        p.fill(place, length, 0);
    }),
    fault("bitmap all ones", "exfat/lost-clusters", |p, _| {
        let (place, length) = (p.geometry.cluster_place(2), p.geometry.bitmap_bytes());
        p.fill(place, length, 0xFF);
    }),
    fault("lost clusters with content", "exfat/lost-clusters", |p, _| {
        for number in 0..3 {
            let cluster = p.unused(number);
            p.set_bit(cluster, true);
            let place = p.geometry.cluster_place(cluster);
            p.write(place, b"what is left of something that was written here");
        }
    }),
    Fault {
        choose: &[("lost-chains", "free")],
        ..fault("lost clusters, to be freed", "exfat/lost-clusters", |p, _| {
            let cluster = p.unused(0);
            p.set_bit(cluster, true);
            let place = p.geometry.cluster_place(cluster);
            p.write(place, b"what is left of something that was written here");
        })
    },
];
