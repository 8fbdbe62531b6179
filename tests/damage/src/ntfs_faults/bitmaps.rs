//! Damage to the bitmaps.

use super::{Fault, OTHER, Patient, ROW, fault};
use punchdog_core::ntfs::{
    layout::{kind, own},
    runs::Mapping,
};

fn record_bit(p: &Patient, number: u32) -> (u64, u8) {
    let runs = p.runs(own::MFT, kind::BITMAP, "");
    let place = Mapping::of(&runs, p.geometry.cluster()).place(u64::from(number / 8)).expect("it is there");
    (place, 1 << (number % 8))
}

fn flip_record(p: &mut Patient, number: u32) {
    let (place, mask) = record_bit(p, number);
    let byte = p.read(place, 1)[0] ^ mask;
    p.write(place, &[byte]);
}

pub(super) const ALL: &[Fault] = &[
    fault("a file's cluster marked free", "ntfs/cluster-marked-free", |p, _| {
        let cluster = u64::from(p.find(ROW).clusters[1]);
        p.flip_cluster(cluster);
        p.at_cluster(cluster, 1);
    }),
    fault("all clusters marked free", "ntfs/cluster-marked-free", |p, _| {
        let place = p.own_place(own::BITMAP, "", 0);
        let length = p.geometry.clusters() / 8;
        p.fill(place, length, 0);
        p.at_cluster(0, 8);
    }),
    fault("all clusters marked used", "ntfs/cluster-marked-used", |p, _| {
        let place = p.own_place(own::BITMAP, "", 0);
        let length = p.geometry.clusters() / 8;
        p.fill(place, length, 0xFF);
        p.at_cluster(0, p.geometry.clusters());
    }),
    fault("a free cluster marked used", "ntfs/cluster-marked-used", |p, _| {
        let cluster = p.free_cluster();
        p.flip_cluster(cluster);
        p.at_cluster(cluster, 1);
    }),
    fault("bitmap too short", "ntfs/bitmap-size", |p, _| {
        let at = p.attribute(own::BITMAP, kind::DATA, "");
        p.edit(own::BITMAP, |record| {
            record[at + 48..at + 56].copy_from_slice(&8_u64.to_le_bytes());
            record[at + 56..at + 64].copy_from_slice(&8_u64.to_le_bytes());
        });
    }),
    fault("a file's record marked free", "ntfs/record-marked-free", |p, _| {
        let number = p.number(OTHER);
        flip_record(p, number);
    }),
    fault("all records marked free", "ntfs/record-marked-free", |p, _| {
        let (place, _) = record_bit(p, 0);
        p.fill(place, 16, 0);
    }),
    fault("a free record marked used", "ntfs/record-marked-used", |p, _| {
        let deleted = p.made.iter().find(|made| made.deleted).expect("one was deleted").index;
        flip_record(p, u32::try_from(deleted).expect("a small volume"));
    }),
];
