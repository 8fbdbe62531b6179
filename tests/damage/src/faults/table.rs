//! Damage to the copies of the allocation table.

use super::{ANY, Fault, OTHER, PIECES, Patient, README, ROW, fault};
use crate::{patient::Made, seed::Seed};

/// The 512-byte piece of a copy in which the chain of `path` begins.
fn piece_of(p: &Patient, copy: u32, path: &str) -> u64 {
    let (at, _) = p.link_place(copy, p.find(path).clusters[0]);
    at / 512 * 512
}

/// Overwrites a piece of both copies; in the first piece, entries 0 and 1 stay.
fn spoil(p: &mut Patient, copy: u32, from: u64, bytes: &[u8]) {
    let start = p.geometry.table_offset(copy);
    let skip = if from == start { 12 } else { 0 };
    p.write(from + skip as u64, &bytes[skip..]);
}

/// True for a file or folder whose clusters lie in a row.
fn in_a_row(made: &Made) -> bool {
    made.clusters.windows(2).all(|pair| pair[1] == pair[0] + 1)
}

/// With no table left, only what lies in a row comes back.
fn cost_of_scattered(p: &mut Patient) {
    let scattered: Vec<String> =
        p.live().filter(|m| !m.folder && !in_a_row(m)).map(|m| m.path.clone()).collect();
    p.costs.extend(scattered);
}

fn both_whole(p: &mut Patient, byte: u8) {
    for copy in 0..p.geometry.tables {
        let (from, length) = (p.geometry.table_offset(copy), p.geometry.table_bytes());
        p.fill(from, length, byte);
    }
    cost_of_scattered(p);
}

/// Faults that leave nothing of both tables and the root folder, or not their beginnings.
pub(super) const WIPED: [&str; 2] = [
    "both copies and the root folder zeroed",
    "the first sectors of both copies and of the root folder zeroed",
];

/// Nothing is left of the tables nor of the root folder, or of the first `length` bytes of each.
fn wiped(p: &mut Patient, length: u64) {
    let geometry = p.geometry;
    for copy in 0..geometry.tables {
        p.fill(geometry.table_offset(copy), geometry.table_bytes().min(length), 0);
    }
    let (root, whole) = if geometry.wide() {
        (geometry.cluster_offset(geometry.root_cluster), geometry.cluster_bytes().into())
    } else {
        (geometry.root_offset(), geometry.root_bytes())
    };
    p.fill(root, length.min(whole), 0);
    cost_of_scattered(p);
    let paths = |folders: bool| -> Vec<String> {
        let wanted = |made: &&Made| made.path.contains('/') == folders && !made.folder;
        p.live().filter(wanted).map(|made| made.path.clone()).collect()
    };
    let (in_root, below) = (paths(false), paths(true));
    p.costs.extend(in_root);
    p.moved.extend(below);
}

fn both_in_part(p: &mut Patient, bytes: &[u8]) {
    for copy in 0..p.geometry.tables {
        let from = piece_of(p, copy, ROW);
        spoil(p, copy, from, bytes);
    }
    cost_of_scattered(p);
}

fn cross_over(p: &mut Patient, _: &mut Seed) {
    // Each copy is right about one file and wrong about another: no copy is right for all.
    for (copy, path) in [(0, ROW), (1, OTHER)] {
        for cluster in p.find(path).clusters {
            p.set_link_in(copy, cluster, 0);
        }
    }
}

pub(super) const ALL: &[Fault] = &[
    fault("one entry differs in copy 0", "fat/copies-differ", ANY, |p, _| {
        let cluster = p.find(ROW).clusters[1];
        p.set_link_in(0, cluster, 0);
    }),
    fault("one entry differs in copy 1", "fat/copies-differ", ANY, |p, _| {
        let cluster = p.find(PIECES).clusters[2];
        p.set_link_in(1, cluster, 0);
    }),
    fault("copy 0 leads one chain into another", "fat/copies-differ", ANY, |p, _| {
        let (cluster, other) = (p.find(ROW).clusters[1], p.find(OTHER).clusters[2]);
        p.set_link_in(0, cluster, other);
    }),
    fault("each copy wrong about another file", "fat/copies-differ", ANY, cross_over),
    fault("a sector of copy 0 zeroed", "fat/copies-differ", ANY, |p, _| {
        let from = piece_of(p, 0, ROW);
        spoil(p, 0, from, &[0; 512]);
    }),
    fault("a sector of copy 1 zeroed", "fat/copies-differ", ANY, |p, _| {
        let from = piece_of(p, 1, ROW);
        spoil(p, 1, from, &[0; 512]);
    }),
    fault("a sector of copy 0 overwritten with noise", "fat/copies-differ", ANY, |p, s| {
        let (from, noise) = (piece_of(p, 0, ROW), s.bytes(512));
        spoil(p, 0, from, &noise);
    }),
    fault("a sector of copy 1 overwritten with noise", "fat/copies-differ", ANY, |p, s| {
        let (from, noise) = (piece_of(p, 1, ROW), s.bytes(512));
        spoil(p, 1, from, &noise);
    }),
    fault("a sector of copy 0 overwritten with text", "fat/copies-differ", ANY, |p, _| {
        let from = piece_of(p, 0, ROW);
        let text: Vec<u8> =
            b"Wind from the west, swell on the landing. ".iter().copied().cycle().take(512).collect();
        spoil(p, 0, from, &text);
    }),
    fault("a sector of copy 0 all FF", "fat/copies-differ", ANY, |p, _| {
        let from = piece_of(p, 0, ROW);
        spoil(p, 0, from, &[0xFF; 512]);
    }),
    fault("copy 0 zeroed whole", "fat/copies-differ", ANY, |p, _| {
        let (from, length) = (p.geometry.table_offset(0), p.geometry.table_bytes());
        p.fill(from, length, 0);
    }),
    fault("copy 0 erased to FF whole", "fat/copies-differ", ANY, |p, _| {
        let (from, length) = (p.geometry.table_offset(0), p.geometry.table_bytes());
        p.fill(from, length, 0xFF);
    }),
    fault("copy 1 zeroed whole", "fat/copies-differ", ANY, |p, _| {
        let (from, length) = (p.geometry.table_offset(1), p.geometry.table_bytes());
        p.fill(from, length, 0);
    }),
    fault("copy 0 overwritten whole with noise", "fat/copies-differ", ANY, |p, s| {
        let (from, length) = (p.geometry.table_offset(0), p.geometry.table_bytes());
        let noise = s.bytes(usize::try_from(length).expect("a small table"));
        p.write(from, &noise);
    }),
    fault("a sector zeroed in both copies", "fat/first-cluster-free", ANY, |p, _| both_in_part(p, &[0; 512])),
    fault("both copies zeroed whole", "fat/first-cluster-free", ANY, |p, _| both_whole(p, 0)),
    fault(WIPED[0], "fat/chain-into-free", ANY, |p, _| wiped(p, u64::MAX)),
    fault(WIPED[1], "fat/chain-into-free", ANY, |p, _| {
        wiped(p, 512);
    }),
    fault("one chain zeroed in both copies", "fat/first-cluster-free", ANY, |p, _| {
        for cluster in p.find(OTHER).clusters {
            p.set_link(cluster, 0);
        }
    }),
    fault("a one-cluster file zeroed in both copies", "fat/first-cluster-free", ANY, |p, _| {
        let cluster = p.find(README).clusters[0];
        p.set_link(cluster, 0);
    }),
];
