//! Damage to the records of people's files.

use super::{Fault, HOLED, OTHER, PIECES, Patient, README, ROW, SPREAD, fault};
use easy_ext::ext;

use punchdog_core::{
    medium::Extent,
    ntfs::layout::{kind, own},
};

/// A file in a row that few other faults strike: what strikes a record twice is no pair.
const CALL: &str = "Möwen und Lummen/Ruf der Trottellumme.wav";

pub(super) const ALL: &[Fault] = &[
    fault("a record's signature zero", "ntfs/record-signature", |p, _| {
        let place = p.record_place(p.number(ROW));
        p.write(place, &[0; 4]);
    }),
    fault("a record is marked BAAD", "ntfs/record-signature", |p, _| {
        let place = p.record_place(p.number(OTHER));
        p.write(place, b"BAAD");
    }),
    fault("the head of a record zero", "ntfs/record-head", |p, _| {
        let place = p.record_place(p.number(CALL));
        p.write(place, &[0; 48]);
    }),
    fault("head and standard information of a record noise", "ntfs/record-head", |p, seed| {
        let place = p.record_place(p.number(OTHER));
        p.write(place, &seed.bytes(120));
    }),
    Fault {
        name: "a record holds a copy of another",
        code: "ntfs/record-lost",
        on: |_| true,
        make: |p, _| {
            let copy = p.read(p.record_place(p.number(ROW)), p.geometry.record());
            let place = p.record_place(p.number(CALL));
            p.write(place, &copy);
            p.costs.push(CALL.to_owned());
        },
        choose: &[("unowned-clusters", "free")],
    },
    fault("a record for later versions holds a part of another", "ntfs/record-broken", |p, _| {
        let copy = p.read(p.record_place(p.number(ROW)), 232);
        let place = p.record_place(own::RESERVED.start + 1);
        p.write(place, &copy);
        p.damaged.push(Extent::new(place, p.geometry.record() as u64));
    }),
    fault("a record is torn in its last sector", "ntfs/record-torn", |p, _| {
        let place = p.record_place(p.number(ROW)) + p.geometry.record() as u64 - 2;
        p.write(place, &[0x77, 0x77]);
    }),
    fault("a record is torn in its first sector", "ntfs/record-torn", |p, _| {
        let place = p.record_place(p.number(PIECES)) + 510;
        p.write(place, &[0x77, 0x77]);
    }),
    fault("the number of fixups wrong", "ntfs/record-fixups", |p, _| {
        let place = p.record_place(p.number(ROW));
        p.write(place + 6, &[7, 0]);
    }),
    fault("the place of fixups wrong", "ntfs/record-fixups", |p, _| {
        let place = p.record_place(p.number(OTHER));
        p.write(place + 4, &[0xFE, 0x7F]);
    }),
    fault("a record says that it is another", "ntfs/record-number", |p, _| {
        let number = p.number(ROW);
        p.edit(number, |record| record[44] ^= 0x5A);
    }),
    fault("bytes in use too many", "ntfs/record-used", |p, _| {
        let number = p.number(ROW);
        p.edit(number, |record| record[24] += 8);
    }),
    fault("bytes in use too few", "ntfs/record-broken", |p, _| {
        let number = p.number(ROW);
        p.edit(number, |record| record[24..28].copy_from_slice(&64_u32.to_le_bytes()));
        p.at_record(ROW);
    }),
    fault("bytes allocated wrong", "ntfs/record-broken", |p, _| {
        let number = p.number(ROW);
        p.edit(number, |record| record[28..32].copy_from_slice(&0x777_u32.to_le_bytes()));
        p.at_record(ROW);
    }),
    fault("first attribute wrong", "ntfs/record-broken", |p, _| {
        let number = p.number(OTHER);
        p.edit(number, |record| record[20] = 0x31);
        p.at_record(OTHER);
    }),
    fault("end mark zero", "ntfs/record-broken", |p, _| {
        let number = p.number(ROW);
        let record = p.record(number);
        let used = u32::from_le_bytes([record[24], record[25], record[26], record[27]]) as usize;
        p.edit(number, |record| record[used - 8..used - 4].fill(0));
        p.at_record(ROW);
    }),
    fault("an attribute's length wrong", "ntfs/record-broken", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::NAME, "");
        p.edit(number, |record| record[at + 4..at + 8].copy_from_slice(&0x7004_u32.to_le_bytes()));
    }),
    fault("an attribute's type wrong", "ntfs/record-broken", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at] = 0x83);
    }),
    fault("a bit of an attribute's type wrong", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::DATA, 0, 1);
    }),
    fault("an attribute that has no name with one", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::STANDARD, 9, 0x80);
    }),
    fault("the value of a name longer than its record", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::NAME, 18, 1);
    }),
    fault("a value begins behind its attribute", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::STANDARD, 21, 0x40);
    }),
    fault("bits of two attributes of one record wrong", "ntfs/record-broken", |p, _| {
        let number = p.number(CALL);
        let (one, other) = (p.attribute(number, kind::STANDARD, ""), p.attribute(number, kind::DATA, ""));
        p.edit(number, |record| {
            record[one + 9] ^= 4;
            record[other + 6] ^= 0x20;
        });
    }),
    fault("the content of another type by a bit", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::DATA, 0, 0x20);
    }),
    fault("a name of another type by a bit", "ntfs/record-broken", |p, _| {
        p.strike(ROW, kind::NAME, 0, 0x40);
    }),
    fault("the content begins in the middle", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::DATA, 17, 0x10);
    }),
    fault("a value begins in the head of its attribute", "ntfs/record-broken", |p, _| {
        p.strike(CALL, kind::NAME, 20, 0x10);
    }),
    fault("the next attribute id in use", "ntfs/attribute-ids", |p, _| {
        let number = p.number(ROW);
        p.edit(number, |record| record[40] = 1);
    }),
    fault("two attributes of one id", "ntfs/attribute-ids", |p, _| {
        let number = p.number(OTHER);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 14] = 0);
        p.at_record(OTHER);
    }),
    fault("standard information gone", "ntfs/no-standard-information", |p, _| {
        let number = p.number(ROW);
        p.edit(number, |record| {
            let at = usize::from(record[20]);
            let length = record[at + 4] as usize;
            record.drain(at..at + length);
            record.extend(vec![0; length]);
            let used = u32::from_le_bytes([record[24], record[25], record[26], record[27]]);
            record[24..28].copy_from_slice(&(used - u32::try_from(length).expect("short")).to_le_bytes());
        });
    }),
    fault("link count 9", "ntfs/link-count", |p, _| {
        let number = p.number(README);
        p.edit(number, |record| record[18] = 9);
    }),
    fault("standard information too short", "ntfs/no-standard-information", |p, _| {
        let number = p.number(OTHER);
        let at = p.attribute(number, kind::STANDARD, "");
        p.edit(number, |record| record[at + 16] = 40);
        p.at_record(OTHER);
    }),
    fault("a file says that it is packed", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 12] = 1);
        p.at_record(ROW);
    }),
    fault("allocated size above the volume's", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 46] = 1);
        p.at_record(ROW);
    }),
    fault("valid size above the size", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 56 + 5] = 1);
    }),
    fault("size struck within the last cluster", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 48] ^= 1);
        p.at_record(ROW);
    }),
    fault("size struck above what is allocated", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(OTHER);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 48 + 3] ^= 8);
        p.at_record(OTHER);
    }),
    fault("allocated size too small", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(OTHER);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 40..at + 48].fill(0));
    }),
    fault("allocated size no whole clusters", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(PIECES);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 40] |= 8);
    }),
    fault("compression unit without compression", "ntfs/attribute-sizes", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 34] = 4);
        p.at_record(ROW);
    }),
    fault("last VCN wrong", "ntfs/run-count", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 24] += 3);
        p.at_record(ROW);
    }),
    fault("last VCN of a file with a hole wrong", "ntfs/run-count", |p, _| {
        let number = p.number(HOLED);
        let at = p.attribute(number, kind::DATA, "");
        p.edit(number, |record| record[at + 24] += 1);
        p.at_record(HOLED);
    }),
    fault("a security id that there is not", "ntfs/security-id", |p, _| {
        let number = p.number("Recordings/Thumbs/spectrogram number 052.png");
        let at = p.attribute(number, kind::STANDARD, "") + 24 + 52;
        p.edit(number, |record| record[at + 1] ^= 0x40);
    }),
    fault("a record that extends another is torn", "ntfs/record-torn", |p, _| {
        let place = p.record_place(p.number(SPREAD) + 1) + 510;
        p.write(place, &[0x77, 0x77]);
    }),
];

#[ext(Records)]
pub(super) impl Patient {
    /// Says that findings on a file's record are findings on the damage.
    fn at_record(&mut self, path: &str) {
        let place = self.record_place(self.number(path));
        self.damaged.push(Extent::new(place, self.geometry.record() as u64));
    }
    /// Strikes a byte in the head of an attribute of a file's record.
    fn strike(&mut self, path: &str, of: u32, at: usize, bits: u8) {
        let number = self.number(path);
        let at = self.attribute(number, of, "") + at;
        self.edit(number, |record| record[at] ^= bits);
    }
}
