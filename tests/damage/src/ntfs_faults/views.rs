//! Damage to the indexes of `$Secure` and `$Extend`, and to the root folder's node.

use super::{Fault, Patient, fault};
use crate::seed::Seed;
use easy_ext::ext;
use punchdog_core::{
    arith::Peek,
    medium::Extent,
    ntfs::{
        build::{Room, index, resident, view_entry},
        edit::{insert, replace},
        fresh::BY_NUMBERS,
        layout::{kind, own, reference},
        record::attributes,
    },
};

/// The records of `$ObjId` and `$Reparse` in the lab's volumes.
const OBJECTS: u32 = 25;
const POINTS: u32 = 26;

pub(super) const ALL: &[Fault] = &[
    fault("an id in $SII wrong", "ntfs/security-index", |p, _| p.view("$SII", |view| view[32 + 16] ^= 0x40)),
    fault("a hash in $SDH wrong", "ntfs/security-index", |p, _| {
        p.view("$SDH", |view| {
            view[32 + 16] ^= 0x40;
            view[32 + 24] ^= 0x40;
        });
    }),
    fault("a place in $SII wrong", "ntfs/security-index", |p, _| {
        p.view("$SII", |view| view[32 + 20 + 8] ^= 0x70);
    }),
    fault("an entry of $SDH without a length", "ntfs/security-index", |p, _| {
        p.view("$SDH", |view| view[32 + 8] = 0);
    }),
    fault("$SII out of order", "ntfs/security-index", |p, _| {
        p.view("$SII", |view| {
            let length = usize::from(view.le16(32 + 8));
            let (one, other) = view[32..32 + 2 * length].split_at_mut(length);
            one.swap_with_slice(other);
        });
    }),
    fault("$SII empty", "ntfs/security-index", |p, _| {
        p.view("$SII", |view| {
            // The end entry alone.
            view[32 + 8] = 16;
            view[32 + 12] = 2;
        });
    }),
    fault("the head of $SDH's node wrong", "ntfs/security-index", |p, _| {
        p.view("$SDH", |view| view[16 + 4..16 + 8].copy_from_slice(&0x7777_u32.to_le_bytes()));
    }),
    fault("a file's object id in no index", "ntfs/extend-index", |p, seed| {
        p.object_id(0, seed);
        // The record is as it should be: the index leaves the file out.
        let root = p.record_place(OBJECTS) + p.attribute(OBJECTS, kind::INDEX_ROOT, "$O") as u64;
        p.damaged = vec![Extent::new(root, 64)];
    }),
    fault("two object ids in an index out of order", "ntfs/extend-index", |p, seed| {
        let mut entries = [p.object_id(0, seed), p.object_id(1, seed)];
        entries.sort();
        let [first, second] = entries.map(|(_, entry)| entry);
        p.lay(OBJECTS, "$O", vec![second, first]);
    }),
    fault("an object id leads to another file", "ntfs/extend-index", |p, seed| {
        let (_, mut entry) = p.object_id(0, seed);
        entry[32] ^= 1;
        p.lay(OBJECTS, "$O", vec![entry]);
    }),
    fault("an index leads to a reparse point that there is not", "ntfs/extend-index", |p, _| {
        let file = p.live().find(|made| !made.folder).expect("a file").index;
        let number = u32::try_from(file).expect("a small volume");
        let to = reference(number, p.record(number).le16(16));
        let key = [&0xA000_000C_u32.to_le_bytes()[..], &to.to_le_bytes()].concat();
        p.lay(POINTS, "$R", vec![view_entry(&key, &[])]);
    }),
    fault("the head of $R's node wrong", "ntfs/extend-index", |p, _| {
        p.view_of(POINTS, "$R", |view| view[16 + 4..16 + 8].copy_from_slice(&0x7777_u32.to_le_bytes()));
    }),
    fault("the last entry of the root folder's node without a length", "ntfs/index-entry", |p, _| {
        let record = p.record(own::ROOT);
        let (found, _) = attributes(&record);
        let root = found.iter().find(|a| a.kind() == kind::INDEX_ROOT).expect("an index");
        let at = root.value_at() + 32;
        p.edit(own::ROOT, |record| record[at + 8] = 0);
        let entry = p.record_place(own::ROOT) + at as u64;
        p.damaged.push(Extent::new(entry, 16));
    }),
];

#[ext(Views)]
pub(super) impl Patient {
    /// Gives a file an object id; gives the entry of the index that leads there, by its key.
    fn object_id(&mut self, which: usize, seed: &mut Seed) -> (Vec<u32>, Vec<u8>) {
        let value = seed.bytes(64);
        let file = self.live().filter(|made| !made.folder).nth(which).expect("a file").index;
        let number = u32::try_from(file).expect("a small volume");
        self.edit(number, |record| assert!(insert(record, &resident(kind::OBJECT_ID, "", &value))));
        let to = reference(number, self.record(number).le16(16));
        let key = &value[..16];
        let row = (0..4).map(|at| key.le32(at * 4)).collect();
        (row, view_entry(key, &[&to.to_le_bytes()[..], &value[16..]].concat()))
    }

    /// Lays an index of a file in `$Extend` into its record.
    fn lay(&mut self, number: u32, name: &str, entries: Vec<Vec<u8>>) {
        let room = Room {
            block: self.geometry.index(),
            cluster: usize::try_from(self.geometry.cluster()).expect("a cluster fits"),
            root: usize::MAX,
        };
        let root = resident(kind::INDEX_ROOT, name, &index(entries, BY_NUMBERS, room).root);
        self.edit(number, |record| assert!(replace(record, &root)));
    }

    /// Changes the root node of an index of `$Secure`, and says that all of it is damaged.
    fn view(&mut self, name: &str, change: impl FnOnce(&mut [u8])) {
        self.view_of(own::SECURE, name, change);
    }

    fn view_of(&mut self, number: u32, name: &str, change: impl FnOnce(&mut [u8])) {
        let record = self.record(number);
        let (found, _) = attributes(&record);
        let root =
            found.iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called(name)).expect("an index");
        let (at, length) = (root.value_at(), root.value().len());
        self.edit(number, |record| change(&mut record[at..at + length]));
    }
}
