//! Damage to single chains, the same in all copies of the table, and to what entries say of them.

use super::{ANY, CROWDED, FOLDER, Fault, OTHER, On, PICTURE, Patient, README, ROW, SMALL, WIDE, fault};
use crate::patient::Made;
use crate::seed::Seed;

fn value_at(p: &mut Patient, path: &str, at: usize, value: u32) {
    let cluster = p.find(path).clusters[at];
    p.set_link(cluster, value);
}

/// Volumes whose clusters are sectors of 512 bytes, with 16 entries.
const TIGHT: On = |geometry| geometry.cluster_bytes() == 512;

/// A folder's second cluster was not read by an imager, and the table has lost it and the one before.
fn lose_a_part(p: &mut Patient, _: &mut Seed) {
    let crowded = format!("{CROWDED}/");
    let named_there = |made: &&Made| {
        let first = made.index + 1 - made.entries as usize;
        made.path.starts_with(&crowded) && first < 32 && made.index >= 16
    };
    let named: Vec<String> = p.live().filter(named_there).map(|made| made.path.clone()).collect();
    assert!(named.len() > 3 && p.find(CROWDED).clusters.len() > 3, "a part, and pieces behind it");
    // The first and the last of them may run over a border.
    p.unread_by_imager(&named[1], CROWDED);
    p.moved.retain(|path| named.contains(path));
    value_at(p, CROWDED, 0, 0);
    value_at(p, CROWDED, 1, 0);
}

fn hide_entry(p: &mut Patient, path: &str) {
    // The entry and its long name are marked free and blanked: nothing of them can be read.
    let made = p.find(path);
    let from = made.entry - u64::from(made.entries - 1) * 32;
    for slot in 0..u64::from(made.entries) {
        p.write(from + slot * 32, &[0xE5]);
        p.fill(from + slot * 32 + 1, 31, 0x20);
        p.fill(from + slot * 32 + 11, 21, 0);
    }
}

fn lost_chain(p: &mut Patient, _: &mut Seed) {
    hide_entry(p, OTHER);
    let cluster = p.find(OTHER).clusters[0];
    let place = p.link_place(0, cluster);
    p.damaged.push(punchdog_core::medium::Extent::new(place.0, place.1));
    p.cost(&[OTHER]);
}

fn lost_folder(p: &mut Patient, _: &mut Seed) {
    hide_entry(p, CROWDED);
    let place = p.geometry.cluster_offset(p.find(CROWDED).clusters[0]);
    p.damaged.push(punchdog_core::medium::Extent::new(place, 64));
    p.moves(&[CROWDED]);
}

fn crossed(p: &mut Patient, _: &mut Seed) {
    let (from, into) = (p.find(ROW).clusters[1], p.find(OTHER).clusters[2]);
    p.set_link(from, into);
}

/// One chain leads into another's, and its own last clusters are lost in the table for good.
fn crossed_without_end(p: &mut Patient, _: &mut Seed) {
    let clusters = p.find(ROW).clusters;
    let into = p.find(OTHER).clusters[2];
    p.set_link(clusters[1], into);
    for cluster in &clusters[2..] {
        p.set_link(*cluster, 0);
    }
    p.cost(&[ROW]);
}

fn same_start(p: &mut Patient, _: &mut Seed) {
    let first = p.find(OTHER).clusters[0];
    p.set_first("ledges.csv", first);
}

pub(super) const ALL: &[Fault] = &[
    fault("chain into a free cluster", "fat/chain-into-free", ANY, |p, _| value_at(p, ROW, 2, 0)),
    fault("chain leads to an unused cluster", "fat/chain-into-free", ANY, |p, _| {
        let unused = p.unused(0);
        value_at(p, ROW, 2, unused);
        let place = p.link_place(0, unused);
        p.damaged.push(punchdog_core::medium::Extent::new(place.0, place.1));
    }),
    fault("chain into a cluster marked bad", "fat/chain-into-bad", ANY, |p, _| {
        let bad = p.end() - 8;
        value_at(p, ROW, 2, bad);
    }),
    fault("chain out of range", "fat/chain-out-of-range", ANY, |p, _| {
        let beyond = p.geometry.last_cluster() + 9;
        value_at(p, ROW, 2, beyond);
    }),
    fault("chain into the reserved value 1", "fat/chain-out-of-range", ANY, |p, _| value_at(p, ROW, 2, 1)),
    fault("chain runs into itself", "fat/chain-loop", ANY, |p, _| {
        let first = p.find(ROW).clusters[0];
        value_at(p, ROW, 2, first);
    }),
    fault("last cluster leads back", "fat/chain-loop", ANY, |p, _| {
        let (first, last) = (p.find(ROW).clusters[1], p.find(ROW).clusters.len() - 1);
        value_at(p, ROW, last, first);
    }),
    fault("chain into another's", "fat/cross-linked", ANY, crossed),
    fault("two entries name the same cluster", "fat/first-cluster-wrong", ANY, same_start),
    fault("chain ended early", "fat/chain-too-short", ANY, |p, _| {
        let end = p.end();
        value_at(p, ROW, 2, end);
        let place = p.find(ROW).entry;
        p.damaged.push(punchdog_core::medium::Extent::new(place + 28, 4));
    }),
    fault("size larger than the chain", "fat/chain-too-short", ANY, |p, _| {
        let size = p.find(OTHER).size;
        p.set_size(OTHER, u32::try_from(size).expect("a small file") + 20 * p.geometry.cluster_bytes());
        p.cost(&[OTHER]);
    }),
    fault("size smaller than the chain", "fat/chain-too-long", ANY, |p, _| {
        p.set_size(OTHER, 10);
        p.cost(&[OTHER]);
    }),
    fault("size of a picture smaller than its chain", "fat/size-wrong", SMALL, |p, _| {
        p.set_size(PICTURE, 10);
    }),
    fault("size of a picture larger than its chain", "fat/size-wrong", ANY, |p, _| {
        let size = p.find(PICTURE).size;
        p.set_size(PICTURE, u32::try_from(size).expect("a small file") + 20 * p.geometry.cluster_bytes());
    }),
    fault("size lost", "fat/size-missing", ANY, |p, _| {
        p.set_size(OTHER, 0);
        p.cost(&[OTHER]);
    }),
    fault("a bit of a size tipped over", "fat/chain-too-short", ANY, |p, _| {
        let place = p.find(OTHER).entry;
        p.tip(place + 30, 5);
    }),
    fault("first cluster 0", "fat/first-cluster-missing", ANY, |p, _| p.set_first(OTHER, 0)),
    fault("first cluster out of range", "fat/first-cluster-out-of-range", ANY, |p, _| {
        let beyond = p.geometry.last_cluster() + 2;
        p.set_first(OTHER, beyond);
    }),
    fault("first cluster is an unused one", "fat/first-cluster-free", ANY, |p, _| {
        let unused = p.unused(1);
        p.set_first(OTHER, unused);
        let place = p.link_place(0, unused);
        p.damaged.push(punchdog_core::medium::Extent::new(place.0, place.1));
    }),
    fault("folder's first cluster 0", "fat/first-cluster-missing", ANY, |p, _| p.set_first(CROWDED, 0)),
    fault("folder's first cluster out of range", "fat/first-cluster-out-of-range", ANY, |p, _| {
        let beyond = p.geometry.last_cluster() + 2;
        p.set_first(CROWDED, beyond);
    }),
    fault("folder's first cluster is a file's", "fat/first-cluster-wrong", ANY, |p, _| {
        let file = p.find(README).clusters[0];
        p.set_first(CROWDED, file);
    }),
    fault("folder's first cluster zeroed", "fat/not-a-folder", ANY, |p, _| {
        let made = p.find("Logs/2026");
        let offset = p.geometry.cluster_offset(made.clusters[0]);
        p.fill(offset, u64::from(p.geometry.cluster_bytes()), 0);
        p.damaged.push(punchdog_core::medium::Extent::new(made.entry + 26, 2));
        p.cost(&["Logs/2026"]);
    }),
    fault("folder's chain runs into itself", "fat/chain-loop", ANY, |p, _| {
        let first = p.find(FOLDER).clusters[0];
        let last = p.find(FOLDER).clusters.len() - 1;
        value_at(p, FOLDER, last, first);
    }),
    fault("folder's chain into a free cluster", "fat/chain-into-free", ANY, |p, _| {
        let (last, unused) = (p.find(CROWDED).clusters.len() - 1, p.unused(0));
        value_at(p, CROWDED, last, unused);
        let place = p.link_place(0, unused);
        p.damaged.push(punchdog_core::medium::Extent::new(place.0, place.1));
    }),
    fault("folder's chain lost over an imager's text", "fat/chain-into-free", TIGHT, lose_a_part),
    fault("folder's cluster is free in the table", "fat/chain-into-free", ANY, |p, _| {
        value_at(p, FOLDER, 0, 0);
    }),
    fault("lost chain", "fat/lost-chain", ANY, lost_chain),
    Fault {
        name: "lost chain, to be freed",
        code: "fat/lost-chain",
        on: ANY,
        make: lost_chain,
        choose: &[("lost-chains", "free")],
    },
    fault("lost folder", "fat/lost-folder", ANY, lost_folder),
    fault("root chain into a free cluster", "fat/chain-into-free", WIDE, |p, _| p.set_link(2, 0)),
    fault("root chain runs into itself", "fat/chain-loop", WIDE, |p, _| p.set_link(2, 2)),
    fault("root chain out of range", "fat/chain-out-of-range", WIDE, |p, _| p.set_link(2, 0x0555_5555)),
    Fault {
        name: "chain into another's, to be cut",
        code: "fat/cross-linked",
        on: ANY,
        make: crossed_without_end,
        choose: &[("cross-link", "cut")],
    },
    fault("chain into another's, its own end lost", "fat/cross-linked", ANY, crossed_without_end),
];
