//! Damage to the indexes of `$Secure`, and to the root folder's node.

use super::{Fault, Patient, fault};
use punchdog_core::{
    arith::Peek,
    ntfs::{
        layout::{kind, own},
        record::attributes,
    },
};

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
    fault("the last entry of the root folder's node without a length", "ntfs/index-entry", |p, _| {
        let record = p.record(own::ROOT);
        let (found, _) = attributes(&record);
        let root = found.iter().find(|a| a.kind() == kind::INDEX_ROOT).expect("an index");
        let at = root.value_at() + 32;
        p.edit(own::ROOT, |record| record[at + 8] = 0);
        let entry = p.record_place(own::ROOT) + at as u64;
        p.damaged.push(punchdog_core::medium::Extent::new(entry, 16));
    }),
];

impl Patient {
    /// Changes the root node of an index of `$Secure`, and says that all of it is damaged.
    fn view(&mut self, name: &str, change: impl FnOnce(&mut [u8])) {
        let record = self.record(own::SECURE);
        let (found, _) = attributes(&record);
        let root =
            found.iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called(name)).expect("an index");
        let (at, length) = (root.value_at(), root.value().len());
        self.edit(own::SECURE, |record| change(&mut record[at..at + length]));
    }
}
