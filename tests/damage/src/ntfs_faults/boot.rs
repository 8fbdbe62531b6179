//! Damage to the boot sector and its copy.

use super::{Fault, Patient, fault};

fn copy(p: &Patient) -> u64 {
    p.geometry.counted()
}

fn both(p: &mut Patient, at: u64, bytes: &[u8]) {
    let place = copy(p);
    p.write(at, bytes);
    p.write(place + at, bytes);
}

fn gone(p: &mut Patient) {
    let (place, length) = (copy(p), p.geometry.sector());
    p.fill(0, 512, 0);
    p.fill(place, length, 0);
}

pub(super) const ALL: &[Fault] = &[
    fault("sector 0 zero", "ntfs/boot-gone", |p, _| p.fill(0, 512, 0)),
    fault("sector 0 FF", "ntfs/boot-gone", |p, _| p.fill(0, 512, 0xFF)),
    fault("sector 0 noise", "ntfs/boot-gone", |p, seed| {
        let noise = seed.bytes(512);
        p.write(0, &noise);
    }),
    fault("first 8 KiB zero", "ntfs/boot-gone", |p, _| p.fill(0, 8192, 0)),
    fault("boot sector and copy zero", "ntfs/boot-gone", |p, _| gone(p)),
    fault("boot sector zero, copy of an older format", "ntfs/boot-gone", |p, _| {
        let place = copy(p);
        p.fill(0, 512, 0);
        p.write(place + 13, &[if p.read(place + 13, 1)[0] == 1 { 4 } else { 1 }]);
        p.write(place + 48, &77_u64.to_le_bytes());
    }),
    fault("boot sector of an older format", "ntfs/mft-place", |p, _| {
        p.write(48, &77_u64.to_le_bytes());
        p.write(56, &3_u64.to_le_bytes());
        p.write(72, &[7; 8]);
    }),
    fault("name overwritten", "ntfs/boot-name", |p, _| p.write(3, b"MSDOS5.0")),
    fault("name overwritten in both", "ntfs/boot-name", |p, _| both(p, 3, &[0; 8])),
    fault("signature zero", "ntfs/boot-signature", |p, _| p.write(510, &[0, 0])),
    fault("jump zero", "ntfs/boot-jump", |p, _| p.write(0, &[0; 3])),
    fault("sector size 0", "ntfs/sector-size", |p, _| p.write(11, &[0, 0])),
    fault("sector size doubled", "ntfs/sector-size", |p, _| {
        let size = u16::try_from(p.geometry.sector() * 2).expect("small");
        p.write(11, &size.to_le_bytes());
    }),
    fault("sector size 513 in both", "ntfs/sector-size", |p, _| both(p, 11, &[1, 2])),
    fault("cluster size 0", "ntfs/cluster-size", |p, _| p.write(13, &[0])),
    fault("cluster size 3", "ntfs/cluster-size", |p, _| p.write(13, &[3])),
    fault("cluster size doubled in both", "ntfs/cluster-size", |p, _| {
        let code = p.read(13, 1)[0];
        both(p, 13, &[if code < 128 { code * 2 } else { code - 1 }]);
    }),
    fault("reserved sectors 1", "ntfs/boot-must-be-zero", |p, _| p.write(14, &[1, 0])),
    fault("tables 2", "ntfs/boot-must-be-zero", |p, _| p.write(16, &[2])),
    fault("small sectors 5", "ntfs/boot-must-be-zero", |p, _| p.write(19, &[5, 0])),
    fault("table sectors 9", "ntfs/boot-must-be-zero", |p, _| p.write(22, &[9, 0])),
    fault("large sectors 9", "ntfs/boot-must-be-zero", |p, _| p.write(32, &[9, 0, 0, 0])),
    fault("media descriptor 0", "ntfs/media", |p, _| p.write(21, &[0])),
    fault("total sectors 0", "ntfs/total-sectors", |p, _| p.write(40, &[0; 8])),
    fault("total sectors doubled in both", "ntfs/total-sectors", |p, _| {
        let sectors = p.geometry.sectors * 2;
        both(p, 40, &sectors.to_le_bytes());
    }),
    fault("total sectors too few", "ntfs/total-sectors", |p, _| {
        let sectors = p.geometry.sectors - 2 * p.geometry.cluster() / p.geometry.sector();
        p.write(40, &sectors.to_le_bytes());
    }),
    fault("$MFT's cluster wrong", "ntfs/mft-place", |p, _| p.write(48, &99_u64.to_le_bytes())),
    fault("$MFT's cluster outside", "ntfs/mft-place", |p, _| p.write(48, &[0xFF; 8])),
    fault("$MFT's cluster wrong in both", "ntfs/mft-place", |p, _| both(p, 48, &99_u64.to_le_bytes())),
    fault("$MFT's cluster is the copies'", "ntfs/mft-place", |p, _| {
        let mirror = p.geometry.mirror;
        p.write(48, &mirror.to_le_bytes());
    }),
    fault("$MFTMirr's cluster wrong", "ntfs/mirror-place", |p, _| p.write(56, &99_u64.to_le_bytes())),
    fault("$MFTMirr's cluster outside", "ntfs/mirror-place", |p, _| p.write(56, &[0xFF; 8])),
    fault("$MFTMirr's cluster wrong in both", "ntfs/mirror-place", |p, _| both(p, 56, &99_u64.to_le_bytes())),
    fault("record size 0", "ntfs/record-size", |p, _| p.write(64, &[0])),
    fault("record size wrong", "ntfs/record-size", |p, _| p.write(64, &[0xF7])),
    fault("record size too large in both", "ntfs/record-size", |p, _| both(p, 64, &[0xF3])),
    fault("index size 0", "ntfs/index-size", |p, _| p.write(68, &[0])),
    fault("index size too large in both", "ntfs/index-size", |p, _| both(p, 68, &[0xF0])),
    fault("copy zero", "ntfs/copy-gone", |p, _| {
        let (place, length) = (copy(p), p.geometry.sector());
        p.fill(place, length, 0);
    }),
    fault("copy differs", "ntfs/copy-differs", |p, _| {
        let place = copy(p);
        p.write(place + 40, &[1, 2, 3]);
    }),
    fault("copy of an older format", "ntfs/copy-differs", |p, _| {
        let place = copy(p);
        p.write(place + 48, &77_u64.to_le_bytes());
    }),
];
