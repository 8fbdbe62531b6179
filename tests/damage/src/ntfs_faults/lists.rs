//! Damage to attribute lists, and to the records that extend a file.

use super::{Fault, OTHER, Patient, SPREAD, WIDE, fault, files::Records};
use crate::seed::Seed;
use easy_ext::ext;
use punchdog_core::{
    arith::Peek,
    ntfs::{layout::kind, list, record::attributes},
};

/// Bytes of an entry without a name.
const ENTRY: usize = 32;

const fn lost(name: &'static str, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code: "ntfs/attribute-pieces", on: |_| true, make, choose: &[("unowned-clusters", "free")] }
}

pub(super) const ALL: &[Fault] = &[
    fault("a list leaves a record out", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| list.truncate(list.len() - ENTRY));
    }),
    fault("a list leaves the name out", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| {
            let name = list::entries(list).find(|entry| entry.kind == kind::NAME).expect("a name").at;
            list.drain(name..name + ENTRY);
        });
    }),
    fault("a list names another record", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| {
            let last = list.len() - ENTRY;
            list[last + 16] ^= 3;
        });
    }),
    fault("a list names another use of a record", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| {
            let last = list.len() - ENTRY;
            list[last + 22] = 9;
        });
    }),
    fault("a list names another id", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| {
            let last = list.len() - ENTRY;
            list[last + 24] = 7;
        });
    }),
    fault("a list names another VCN", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| {
            let last = list.len() - ENTRY;
            list[last + 8] += 1;
        });
    }),
    fault("a list is out of order", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| list.rotate_left(ENTRY));
    }),
    fault("a list has an entry twice", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| {
            let last = list.len() - ENTRY;
            list.copy_within(last - ENTRY..last, last);
        });
    }),
    fault("a list's entry has no length", "ntfs/attribute-list", |p, _| {
        p.relist(SPREAD, |list| list[ENTRY + 4] = 0);
    }),
    fault("a list is gone", "ntfs/attribute-list", |p, _| {
        let number = p.number(SPREAD);
        p.edit(number, |record| {
            let (found, _) = attributes(record);
            let old = found.iter().find(|a| a.kind() == kind::LIST).expect("a list");
            let (at, length) = (old.at, old.bytes.len());
            shrink(record, at, length);
        });
        p.at_record(SPREAD);
    }),
    fault("a list outside its record is zero", "ntfs/attribute-list", |p, _| {
        let place = p.list_place(WIDE);
        p.write(place, &[0; 192]);
        p.at_record(WIDE);
    }),
    fault("a list outside its record is another file's bytes", "ntfs/attribute-list", |p, seed| {
        let place = p.list_place(WIDE);
        let noise = seed.bytes(192);
        p.write(place, &noise);
        p.at_record(WIDE);
    }),
    fault("a list outside its record names no record", "ntfs/attribute-list", |p, _| {
        let place = p.list_place(WIDE) + 2 * ENTRY as u64 + 16;
        p.write(place, &[0x66, 0x66]);
        p.at_record(WIDE);
    }),
    fault("a list outside its record is cut short", "ntfs/attribute-list", |p, _| {
        let number = p.number(WIDE);
        let at = p.attribute(number, kind::LIST, "");
        p.edit(number, |record| record[at + 48] -= 32);
        p.at_record(WIDE);
    }),
    fault("the run list of a list is zero", "ntfs/attribute-list", |p, _| {
        let number = p.number(WIDE);
        let at = p.attribute(number, kind::LIST, "");
        p.edit(number, |record| {
            let runs = at + usize::from(record.le16(at + 32));
            record[runs] = 0;
        });
        p.at_record(WIDE);
    }),
    lost("the last record of a file of two is lost", |p, _| {
        p.lose(SPREAD, 1);
    }),
    lost("the third record of a file of four is lost", |p, _| {
        p.lose(WIDE, 2);
    }),
    fault("a record extends another file", "ntfs/extension-base", |p, _| {
        let (number, other) = (p.number(SPREAD) + 1, p.number(OTHER));
        p.edit(number, |record| record[32..36].copy_from_slice(&other.to_le_bytes()));
    }),
    fault("a file's own record says that it extends another", "ntfs/record-base", |p, _| {
        let number = p.number("Möwen und Lummen/文字.txt");
        p.edit(number, |record| record[34] = 0x80);
        p.at_record("Möwen und Lummen/文字.txt");
    }),
    fault("a record extends no file", "ntfs/extension-base", |p, _| {
        let number = p.number(WIDE) + 2;
        p.edit(number, |record| record[32..36].copy_from_slice(&0x0066_6666_u32.to_le_bytes()));
    }),
    fault("a record extends an older use of its file", "ntfs/extension-base", |p, _| {
        let number = p.number(WIDE) + 3;
        p.edit(number, |record| record[38] = 7);
    }),
    fault("a record does not say that it extends another", "ntfs/extension-base", |p, _| {
        let number = p.number(SPREAD) + 1;
        p.edit(number, |record| record[32..40].fill(0));
    }),
    fault("a record that extends another says that it is free", "ntfs/record-flag", |p, _| {
        let number = p.number(SPREAD) + 1;
        p.edit(number, |record| record[22] = 0);
    }),
    fault("two records that extend a file say that they are free", "ntfs/record-flag", |p, _| {
        let number = p.number(WIDE);
        p.edit(number + 1, |record| record[22] = 0);
        p.edit(number + 3, |record| record[22] = 0);
    }),
];

/// Takes bytes out of a record.
fn shrink(record: &mut Vec<u8>, at: usize, length: usize) {
    let size = record.len();
    record.drain(at..at + length);
    record.resize(size, 0);
    let used = record.le32(24) - u32::try_from(length).expect("short");
    record[24..28].copy_from_slice(&used.to_le_bytes());
}

#[ext(Lists)]
pub(super) impl Patient {
    /// Changes the list of a file that has it in its record; it may get shorter.
    fn relist(&mut self, path: &str, change: impl FnOnce(&mut Vec<u8>)) {
        let number = self.number(path);
        self.edit(number, |record| {
            let (found, _) = attributes(record);
            let old = found.iter().find(|a| a.kind() == kind::LIST).expect("a list");
            let (at, mut value, value_at) = (old.at, old.value().to_vec(), old.value_at());
            let before = value.len();
            change(&mut value);
            let less = before - value.len();
            record[value_at..value_at + value.len()].copy_from_slice(&value);
            if less > 0 {
                shrink(record, value_at + value.len(), less);
                let length = record.le32(at + 4) - u32::try_from(less).expect("short");
                record[at + 4..at + 8].copy_from_slice(&length.to_le_bytes());
                let length = u32::try_from(value.len()).expect("short");
                record[at + 16..at + 20].copy_from_slice(&length.to_le_bytes());
            }
        });
        self.at_record(path);
    }

    /// Nothing is left of a record that extends a file.
    fn lose(&mut self, path: &str, behind: u32) {
        let place = self.record_place(self.number(path) + behind);
        self.fill(place, self.geometry.record() as u64, 0x5A);
        self.at_record(path);
        self.costs.push(path.to_owned());
    }

    /// Where a list outside its record stands.
    fn list_place(&self, path: &str) -> u64 {
        let runs = self.runs(self.number(path), kind::LIST, "");
        self.geometry.place(runs[0].first.expect("no hole"))
    }
}
