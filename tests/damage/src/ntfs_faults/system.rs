//! Damage to the file system's own files.

use super::{Fault, Patient, fault};
use punchdog_core::ntfs::layout::{kind, own};

fn zero(p: &mut Patient, number: u32) {
    let (place, size) = (p.record_place(number), p.geometry.record() as u64);
    p.fill(place, size, 0);
}

fn zero_copy(p: &mut Patient, number: u32) {
    let (place, size) = (p.copy_place(number), p.geometry.record() as u64);
    p.fill(place, size, 0);
}

fn own_stream(p: &Patient, number: u32, at: u64) -> u64 {
    p.own_place(number, "", at)
}

/// A log whose restart pages, one behind the other, have other bytes at these places than that of a log in use.
macro_rules! log {
    ($name:literal, $code:literal, $pages:expr $(,)?) => {
        Fault {
            choose: &[("log", "reset")],
            ..fault($name, $code, |p, _| {
                let pages: &[&[(usize, &[u8])]] = $pages;
                let pages: Vec<u8> = pages.iter().flat_map(|others| crate::ntfs::log_page(others)).collect();
                let place = own_stream(p, own::LOG, 0);
                p.write(place, &pages);
            })
        }
    };
}

pub(super) const ALL: &[Fault] = &[
    fault("record 0 zero", "ntfs/system-record", |p, _| zero(p, own::MFT)),
    fault("record 0 noise", "ntfs/system-record", |p, seed| {
        let noise = seed.bytes(p.geometry.record());
        let place = p.record_place(0);
        p.write(place, &noise);
    }),
    fault("record 0 and its copy zero", "ntfs/system-record", |p, _| {
        zero(p, own::MFT);
        zero_copy(p, own::MFT);
    }),
    fault("record 0's run list gone", "ntfs/system-record", |p, _| {
        let at = p.attribute(own::MFT, kind::DATA, "");
        p.edit(own::MFT, |record| record[at + 64] = 0);
    }),
    fault("record 0 not in use", "ntfs/system-record", |p, _| p.edit(own::MFT, |record| record[22] = 0)),
    fault("record 0's sequence number 2", "ntfs/sequence", |p, _| p.edit(own::MFT, |record| record[16] = 2)),
    fault("record 1 zero", "ntfs/system-record", |p, _| zero(p, own::MIRROR)),
    fault("record 1 and its copy zero", "ntfs/system-record", |p, _| {
        zero(p, own::MIRROR);
        zero_copy(p, own::MIRROR);
    }),
    fault("record 2 zero", "ntfs/log-gone", |p, _| zero(p, own::LOG)),
    fault("record 2 and its copy zero", "ntfs/log-gone", |p, _| {
        zero(p, own::LOG);
        zero_copy(p, own::LOG);
    }),
    fault("record 3 zero", "ntfs/system-record", |p, _| zero(p, own::VOLUME)),
    fault("record 3 and its copy zero", "ntfs/system-record", |p, _| {
        zero(p, own::VOLUME);
        zero_copy(p, own::VOLUME);
    }),
    fault("records 0 to 3 zero", "ntfs/system-record", |p, _| (0..4).for_each(|number| zero(p, number))),
    fault("records 0 to 3 and their copies zero", "ntfs/system-record", |p, _| {
        (0..4).for_each(|number| {
            zero(p, number);
            zero_copy(p, number);
        });
    }),
    fault("records 0 to 11 zero", "ntfs/system-record", |p, _| (0..12).for_each(|number| zero(p, number))),
    fault("records 4 to 11 zero", "ntfs/system-record", |p, _| (4..12).for_each(|number| zero(p, number))),
    fault("records 0 to 11 and the copies zero", "ntfs/system-record", |p, _| {
        (0..12).for_each(|number| zero(p, number));
        (0..4).for_each(|number| zero_copy(p, number));
    }),
    fault("record 3 without volume information", "ntfs/volume-information", |p, _| {
        let at = p.attribute(own::VOLUME, kind::VOLUME_INFO, "");
        p.edit(own::VOLUME, |record| record[at + 16] = 4);
    }),
    fault("record 3 of another name", "ntfs/system-record", |p, _| {
        let at = p.attribute(own::VOLUME, kind::NAME, "");
        p.edit(own::VOLUME, |record| record[at + 24 + 66] = b'X');
    }),
    fault("record 4 zero", "ntfs/system-record", |p, _| zero(p, own::ATTRDEF)),
    fault("record 6 zero", "ntfs/bitmap-gone", |p, _| zero(p, own::BITMAP)),
    fault("record 6's runs outside", "ntfs/bitmap-gone", |p, _| {
        let at = p.attribute(own::BITMAP, kind::DATA, "");
        p.edit(own::BITMAP, |record| {
            record[at + 64..at + 70].copy_from_slice(&[0x31, 1, 0xFF, 0xFF, 0x7F, 0]);
        });
    }),
    fault("record 7 zero", "ntfs/system-record", |p, _| zero(p, own::BOOT)),
    fault("record 8 zero", "ntfs/system-record", |p, _| zero(p, own::BADCLUS)),
    fault("record 8 too short", "ntfs/bad-clusters-list", |p, _| {
        let at = p.attribute(own::BADCLUS, kind::DATA, "$Bad");
        let less = (p.geometry.clusters() - 9) * p.geometry.cluster();
        p.edit(own::BADCLUS, |record| {
            record[at + 48..at + 56].copy_from_slice(&less.to_le_bytes());
        });
        let place = p.record_place(own::BADCLUS);
        p.damaged.push(punchdog_core::medium::Extent::new(place, 512));
    }),
    fault("record 10 zero", "ntfs/system-record", |p, _| zero(p, own::UPCASE)),
    fault("record 10's sequence number 3", "ntfs/sequence", |p, _| {
        p.edit(own::UPCASE, |record| record[16] = 3);
        let place = p.record_place(own::UPCASE);
        p.damaged.push(punchdog_core::medium::Extent::new(place, 512));
    }),
    fault("records 4 and 10 and their content gone", "ntfs/system-record", |p, _| {
        for (number, length) in [(own::ATTRDEF, 2560), (own::UPCASE, 131_072)] {
            let place = own_stream(p, number, 0);
            p.fill(place, length, 0);
            zero(p, number);
        }
    }),
    fault("copies zero", "ntfs/mirror-record", |p, _| (0..4).for_each(|number| zero_copy(p, number))),
    fault("a copy is older", "ntfs/mirror-differs", |p, _| {
        let place = p.copy_place(3);
        let at = p.attribute(own::VOLUME, kind::VOLUME_INFO, "") as u64;
        let byte = p.read(place + at + 24 + 10, 1)[0] ^ 1;
        p.write(place + at + 24 + 10, &[byte]);
    }),
    fault("up-case table zero", "ntfs/up-case", |p, _| {
        let place = own_stream(p, own::UPCASE, 0);
        p.fill(place, 512, 0);
    }),
    fault("up-case table too short", "ntfs/up-case", |p, _| {
        let at = p.attribute(own::UPCASE, kind::DATA, "");
        p.edit(own::UPCASE, |record| record[at + 50] = 1);
        let place = own_stream(p, own::UPCASE, 0);
        p.damaged.push(punchdog_core::medium::Extent::new(place, 512));
    }),
    fault("attribute definitions zero", "ntfs/attribute-definitions", |p, _| {
        let place = own_stream(p, own::ATTRDEF, 0);
        p.fill(place, 2560, 0);
    }),
    fault("an attribute definition struck", "ntfs/attribute-definitions", |p, _| {
        let place = own_stream(p, own::ATTRDEF, 160 * 3);
        p.fill(place, 128, 0xAA);
    }),
    fault("attribute definitions too long", "ntfs/attribute-definitions", |p, _| {
        let at = p.attribute(own::ATTRDEF, kind::DATA, "");
        p.edit(own::ATTRDEF, |record| {
            record[at + 48..at + 56].copy_from_slice(&100_u64.to_le_bytes());
            record[at + 56..at + 64].copy_from_slice(&100_u64.to_le_bytes());
        });
        let place = own_stream(p, own::ATTRDEF, 0);
        p.damaged.push(punchdog_core::medium::Extent::new(place, 160));
    }),
    fault("record 9 zero", "ntfs/system-record", |p, _| zero(p, own::SECURE)),
    fault("record 9 noise", "ntfs/system-record", |p, seed| {
        let noise = seed.bytes(p.geometry.record());
        let place = p.record_place(own::SECURE);
        p.write(place, &noise);
    }),
    fault("record 9 and the first copy of the descriptors zero", "ntfs/system-record", |p, _| {
        let place = p.own_place(own::SECURE, "$SDS", 0);
        p.fill(place, 512, 0);
        zero(p, own::SECURE);
    }),
    fault("record 9 and the second copy of the descriptors zero", "ntfs/system-record", |p, _| {
        let place = p.own_place(own::SECURE, "$SDS", 0x4_0000);
        p.fill(place, 512, 0);
        zero(p, own::SECURE);
    }),
    fault("record 9 zero, and the descriptors with it", "ntfs/system-record", |p, _| {
        for copy in [0, 0x4_0000] {
            let place = p.own_place(own::SECURE, "$SDS", copy);
            p.fill(place, 512, 0);
        }
        zero(p, own::SECURE);
    }),
    fault("a security descriptor struck", "ntfs/security-descriptors", |p, _| {
        let place = p.own_place(own::SECURE, "$SDS", 30);
        p.fill(place, 6, 0x55);
    }),
    fault("the second copy of a security descriptor struck", "ntfs/security-descriptors", |p, _| {
        let place = p.own_place(own::SECURE, "$SDS", 0x4_0000 + 30);
        p.fill(place, 6, 0x55);
    }),
    fault("a security descriptor struck in both copies", "ntfs/security-descriptors", |p, _| {
        for copy in [0, 0x4_0000] {
            let place = p.own_place(own::SECURE, "$SDS", copy + 30);
            p.fill(place, 6, 0x55);
        }
    }),
    fault("all security descriptors zero in both copies", "ntfs/security-descriptors", |p, _| {
        for copy in [0, 0x4_0000] {
            let place = p.own_place(own::SECURE, "$SDS", copy);
            p.fill(place, 512, 0);
        }
    }),
    fault("the id of a security descriptor struck", "ntfs/security-descriptors", |p, _| {
        let place = p.own_place(own::SECURE, "$SDS", 6);
        p.fill(place, 1, 0x10);
    }),
    fault("volume dirty", "ntfs/not-closed", |p, _| {
        let at = p.attribute(own::VOLUME, kind::VOLUME_INFO, "");
        p.edit_both(own::VOLUME, |record| record[at + 24 + 10] |= 1);
    }),
    fault("version 9", "ntfs/version", |p, _| {
        let at = p.attribute(own::VOLUME, kind::VOLUME_INFO, "");
        p.edit_both(own::VOLUME, |record| record[at + 24 + 8] = 9);
    }),
    log!("log in use", "ntfs/log-in-use", &[&[]]),
    log!("log in use, by a client of another name", "ntfs/log-in-use", &[&[(124, &[6])]]),
    log!("log in use, longer than it is", "ntfs/log-in-use", &[&[(64, &[47]), (74, &[8])]]),
    log!("log in use, 4 GiB longer than it is", "ntfs/log-in-use", &[&[(76, &[1])]]),
    // No client, and a page of log number 5 behind it that has one.
    log!(
        "log in use by its later page",
        "ntfs/log-in-use",
        &[&[(60, &[0xFF, 0xFF])], &[(48, &[5]), (124, &[6])]],
    ),
    log!(
        "log closed, its numbers of another length",
        "ntfs/log-garbage",
        &[&[(60, &[0xFF, 0xFF]), (64, &[47])]]
    ),
    log!("log closed, the place of its data odd", "ntfs/log-garbage", &[&[(60, &[0xFF, 0xFF]), (86, &[66])]]),
    log!("log in use, a client before the first", "ntfs/log-garbage", &[&[(112, &[0, 0])]]),
    fault("log zero", "ntfs/log-garbage", |p, _| {
        let place = own_stream(p, own::LOG, 0);
        p.fill(place, 65536, 0);
    }),
    fault("log noise", "ntfs/log-garbage", |p, seed| {
        let noise = seed.bytes(8192);
        let place = own_stream(p, own::LOG, 0);
        p.write(place, &noise);
    }),
];
