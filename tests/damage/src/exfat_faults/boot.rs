//! Damage to the boot regions.

use super::{Fault, Patient, SINGLY, fault};

/// Zeroes a region, 0 the main or 1 the backup.
fn zero(p: &mut Patient, region: u64) {
    let length = p.geometry.region_bytes();
    p.fill(region * length, length, 0);
}

/// Sets a field of the main region and says nothing to the checksum.
fn field(p: &mut Patient, at: u64, bytes: &[u8]) {
    p.write(at, bytes);
}

/// Sets a field in both regions, checksums included.
fn both(p: &mut Patient, at: u64, bytes: &[u8]) {
    p.write_boot(0, at, bytes);
    p.write_boot(1, at, bytes);
}

pub(super) const ALL: &[Fault] = &[
    fault("boot sector zeroed", "exfat/boot-gone", |p, _| p.fill(0, 512, 0)),
    fault("boot sector all FF", "exfat/boot-gone", |p, _| p.fill(0, 512, 0xFF)),
    fault("main boot region zeroed", "exfat/boot-gone", |p, _| zero(p, 0)),
    fault("main boot region overwritten with noise", "exfat/boot-gone", |p, s| {
        let noise = s.bytes(usize::try_from(p.geometry.region_bytes()).expect("a small region"));
        p.write(0, &noise);
    }),
    fault("both boot regions zeroed", "exfat/boot-gone", |p, _| {
        zero(p, 0);
        zero(p, 1);
    }),
    fault("both boot sectors zeroed", "exfat/boot-gone", |p, _| {
        p.fill(0, 512, 0);
        let second = p.geometry.region_bytes();
        p.fill(second, 512, 0);
    }),
    fault("both boot regions noise", "exfat/boot-gone", |p, s| {
        let noise = s.bytes(usize::try_from(p.geometry.region_bytes() * 2).expect("small regions"));
        p.write(0, &noise);
    }),
    fault("signature 55 AA zeroed", "exfat/boot-signature", |p, _| field(p, 510, &[0, 0])),
    fault("name overwritten", "exfat/boot-name", |p, _| field(p, 3, b"MSDOS5.0")),
    fault("must-be-zero bytes set", "exfat/boot-must-be-zero", |p, _| p.write_boot(0, 11, &[0, 2, 8])),
    fault("jump zeroed", "exfat/boot-jump", |p, _| p.write_boot(0, 0, &[0, 0, 0])),
    fault("volume length 0", "exfat/volume-length", |p, _| p.write_boot(0, 72, &[0; 8])),
    fault("volume length halved in both", "exfat/volume-length", |p, _| {
        let half = (p.geometry.sectors / 2).to_le_bytes();
        both(p, 72, &half);
    }),
    fault("table offset 0", "exfat/fat-offset", |p, _| p.write_boot(0, 80, &[0; 4])),
    fault("table offset one too far, in both", "exfat/fat-offset", |p, _| {
        let wrong = (p.geometry.table_offset + 1).to_le_bytes();
        both(p, 80, &wrong);
    }),
    fault("table length 0 in both", "exfat/fat-length", |p, _| both(p, 84, &[0; 4])),
    fault("table length huge", "exfat/fat-length", |p, _| p.write_boot(0, 84, &[0, 0, 0, 1])),
    fault("heap offset 0", "exfat/heap-offset", |p, _| p.write_boot(0, 88, &[0; 4])),
    fault("heap offset 8 too far, in both", "exfat/heap-offset", |p, _| {
        let wrong = (p.geometry.heap_offset + 8).to_le_bytes();
        both(p, 88, &wrong);
    }),
    fault("cluster count 0", "exfat/cluster-count", |p, _| p.write_boot(0, 92, &[0; 4])),
    fault("cluster count halved in both", "exfat/cluster-count", |p, _| {
        let half = (p.geometry.clusters / 2).to_le_bytes();
        both(p, 92, &half);
    }),
    fault("cluster count huge", "exfat/cluster-count", |p, _| p.write_boot(0, 92, &[0xFF; 4])),
    fault("root cluster 0", "exfat/root-cluster", |p, _| p.write_boot(0, 96, &[0; 4])),
    fault("root cluster out of range", "exfat/root-cluster", |p, _| {
        p.write_boot(0, 96, &[0xE5, 0x30, 0x20, 0]);
    }),
    fault("root cluster is a folder's, in both", "exfat/root-cluster", |p, _| {
        let wrong = p.find(super::FOLDER).clusters[0].to_le_bytes();
        both(p, 96, &wrong);
    }),
    fault("revision 2.00", "exfat/revision", |p, _| p.write_boot(0, 104, &[0, 2])),
    fault("sector shift 8", "exfat/sector-size", |p, _| p.write_boot(0, 108, &[8])),
    fault("sector shift 13", "exfat/sector-size", |p, _| field(p, 108, &[13])),
    fault("cluster shift one too many, in both", "exfat/cluster-size", |p, _| {
        let wrong = [p.geometry.cluster_shift + 1];
        both(p, 109, &wrong);
    }),
    fault("cluster shift 25", "exfat/cluster-size", |p, _| p.write_boot(0, 109, &[25])),
    fault("number of tables 0", "exfat/fat-count", |p, _| p.write_boot(0, 110, &[0])),
    fault("number of tables 3, in both", "exfat/fat-count", |p, _| both(p, 110, &[3])),
    fault("percent in use 200", "exfat/percent-in-use", |p, _| p.write(112, &[200])),
    fault("reserved bytes set", "exfat/boot-reserved-bytes", |p, _| p.write_boot(0, 113, &[1; 7])),
    fault("extended boot sector 5 unsigned", "exfat/extended-signature", |p, _| {
        let at = p.geometry.sector_bytes() * 6 - 4;
        p.write_boot(0, at, &[0; 4]);
    }),
    fault("boot checksum: one value zeroed", "exfat/boot-checksum", |p, _| {
        let at = p.geometry.sector_bytes() * 11 + 8;
        p.write(at, &[0; 4]);
    }),
    fault("boot checksum sector zeroed", "exfat/boot-checksum", |p, _| {
        let size = p.geometry.sector_bytes();
        p.fill(size * 11, size, 0);
    }),
    fault("boot code changed without the checksum", "exfat/boot-checksum", |p, _| p.write(200, b"something")),
    fault("checksum wrong in both regions", "exfat/boot-checksum", |p, _| {
        let (size, second) = (p.geometry.sector_bytes(), p.geometry.region_bytes());
        p.fill(size * 11, size, 0x11);
        p.fill(second + size * 11, size, 0x11);
    }),
    fault("backup region zeroed", "exfat/backup-gone", |p, _| zero(p, 1)),
    fault("backup drifted", "exfat/backup-differs", |p, _| p.write_boot(1, 300, b"an older boot code")),
    fault("backup checksum wrong", "exfat/backup-differs", |p, _| {
        let at = p.geometry.region_bytes() + p.geometry.sector_bytes() * 11;
        p.write(at, &[9; 4]);
    }),
    fault("not closed", "exfat/not-closed", |p, _| p.write(106, &[2])),
    fault("errors met", "exfat/errors-met", |p, _| p.write(106, &[4])),
    Fault {
        on: SINGLY,
        ..fault("second table active, but none there", "exfat/active-fat", |p, _| p.write(106, &[1]))
    },
    Fault {
        choose: &[("cut-image", "shrink")],
        ..fault("image cut short", "exfat/volume-beyond-image", |p, _| {
            // Only unused clusters go.
            let keep = p.geometry.cluster_place(p.geometry.last_cluster() - 60);
            p.bytes.truncate(usize::try_from(keep).expect("a small volume"));
            let gone = p.geometry.bytes() - keep;
            p.damaged.push(punchdog_core::medium::Extent::new(keep, gone));
        })
    },
];
