//! Damage to the boot sector, its backup, the FSInfo sector and the first table entries.

use super::{ANY, CLOSING, Fault, NARROW, Patient, WIDE, fault};
use crate::seed::Seed;

fn backup_too(p: &mut Patient, at: u64, bytes: &[u8]) {
    p.write(at, bytes);
    if p.geometry.wide() {
        p.write(6 * u64::from(p.geometry.sector_bytes) + at, bytes);
    }
}

fn le16(value: u32) -> [u8; 2] {
    u16::try_from(value & 0xFFFF).expect("sixteen bits").to_le_bytes()
}

fn fsinfo(p: &Patient) -> u64 {
    u64::from(p.geometry.sector_bytes)
}

fn total_place(p: &Patient) -> u64 {
    if p.read(19, 2) == [0, 0] { 32 } else { 19 }
}

fn set_total(p: &mut Patient, total: u32) {
    match total_place(p) {
        19 => p.write(19, &le16(total)),
        _ => p.write(32, &total.to_le_bytes()),
    }
}

fn gone_with_reserved(p: &mut Patient, _: &mut Seed) {
    let all = u64::from(p.geometry.reserved_sectors) * u64::from(p.geometry.sector_bytes);
    p.fill(0, all, 0);
}

fn table_size_place(p: &Patient) -> u64 {
    if p.geometry.wide() { 36 } else { 22 }
}

fn set_table_media(p: &mut Patient, media: u8) {
    for copy in 0..2 {
        let (at, _) = p.link_place(copy, 0);
        p.write(at, &[media]);
    }
}

fn state_place(p: &Patient) -> u64 {
    if p.geometry.wide() { 65 } else { 37 }
}

fn clear_state_bit(p: &mut Patient, bit: u32) {
    let value = p.end() & !bit;
    p.set_link(1, value);
}

pub(super) const ALL: &[Fault] = &[
    fault("boot sector zeroed", "fat/boot-gone", ANY, |p, _| p.fill(0, 512, 0)),
    fault("boot sector all FF", "fat/boot-gone", ANY, |p, _| p.fill(0, 512, 0xFF)),
    fault("boot sector overwritten with noise", "fat/boot-gone", ANY, |p, s| {
        let mut noise = s.bytes(512);
        noise[..40].copy_from_slice(b"GARBAGE: this is no boot sector at all..");
        p.write(0, &noise);
    }),
    fault("boot sector and its backup zeroed", "fat/boot-gone", WIDE, |p, _| backup_too(p, 0, &[0; 512])),
    fault("the whole reserved area zeroed", "fat/boot-gone", WIDE, gone_with_reserved),
    fault("signature 55 AA zeroed", "fat/boot-signature", ANY, |p, _| p.fill(510, 2, 0)),
    fault("jump zeroed", "fat/boot-jump", ANY, |p, _| p.fill(0, 3, 0)),
    fault("sector size 0", "fat/bpb-sector-size", ANY, |p, _| p.fill(11, 2, 0)),
    fault("sector size doubled", "fat/bpb-sector-size", ANY, |p, _| {
        let twice = if p.geometry.sector_bytes == 4096 { 2048 } else { p.geometry.sector_bytes * 2 };
        p.write(11, &le16(twice));
    }),
    fault("sector size wrong in boot sector and backup", "fat/bpb-sector-size", WIDE, |p, _| {
        let other = if p.geometry.sector_bytes == 4096 { 512 } else { 4096 };
        backup_too(p, 11, &le16(other));
    }),
    fault("cluster size 0", "fat/bpb-cluster-size", ANY, |p, _| p.fill(13, 1, 0)),
    fault("cluster size 3", "fat/bpb-cluster-size", ANY, |p, _| p.fill(13, 1, 3)),
    fault("cluster size doubled", "fat/bpb-cluster-size", ANY, |p, _| {
        let twice = u8::try_from(p.geometry.sectors_per_cluster * 2).expect("a cluster size");
        backup_too(p, 13, &[twice]);
    }),
    fault("reserved sectors 0", "fat/bpb-reserved", ANY, |p, _| backup_too(p, 14, &[0, 0])),
    fault("reserved sectors one too many", "fat/bpb-reserved", ANY, |p, _| {
        let more = le16(p.geometry.reserved_sectors + 1);
        p.write(14, &more);
    }),
    fault("number of tables 0", "fat/bpb-table-count", ANY, |p, _| backup_too(p, 16, &[0])),
    fault("number of tables 1", "fat/bpb-table-count", ANY, |p, _| p.fill(16, 1, 1)),
    fault("number of tables 255", "fat/bpb-table-count", ANY, |p, _| p.fill(16, 1, 255)),
    fault("root entries odd", "fat/bpb-root-entries", ANY, |p, _| p.write(17, &[7, 0])),
    fault("root entries doubled", "fat/bpb-root-entries", NARROW, |p, _| {
        let twice = le16(p.geometry.root_entries * 2);
        p.write(17, &twice);
    }),
    fault("root entries set on FAT32", "fat/bpb-root-entries", WIDE, |p, _| backup_too(p, 17, &[0, 2])),
    fault("total sectors 0", "fat/bpb-total-sectors", ANY, |p, _| {
        p.fill(19, 2, 0);
        p.fill(32, 4, 0);
    }),
    fault("total sectors too few for what is there", "fat/bpb-total-sectors", ANY, |p, _| {
        let last = p.live().flat_map(|made| made.clusters.iter()).max().copied().unwrap_or(2);
        let end = p.geometry.cluster_offset(last - 4) / u64::from(p.geometry.sector_bytes);
        set_total(p, u32::try_from(end).expect("a small volume"));
    }),
    fault("total sectors halved", "fat/bpb-total-sectors", CLOSING, |p, _| {
        let half = p.geometry.total_sectors / 2;
        set_total(p, half);
    }),
    fault("total sectors wrong on both ends", "fat/bpb-total-sectors", WIDE, |p, _| {
        backup_too(p, 32, &[0; 4]);
    }),
    fault("short total set on FAT32", "fat/bpb-total-sectors", WIDE, |p, _| p.write(19, &[0x34, 0x02])),
    fault("media byte 00", "fat/bpb-media", ANY, |p, _| backup_too(p, 21, &[0])),
    fault("media byte FF instead of F8", "fat/bpb-media", ANY, |p, _| p.fill(21, 1, 0xFF)),
    fault("table size 0", "fat/bpb-table-size", ANY, |p, _| {
        let place = table_size_place(p);
        let bytes = vec![0; if p.geometry.wide() { 4 } else { 2 }];
        backup_too(p, place, &bytes);
    }),
    fault("table size one too many", "fat/bpb-table-size", ANY, |p, _| {
        let (place, size) = (table_size_place(p), le16(p.geometry.table_sectors + 1));
        p.write(place, &size);
    }),
    fault("short table size set on FAT32", "fat/bpb-table-size", WIDE, |p, _| p.write(22, &[9, 0])),
    fault("root cluster 0", "fat/bpb-root-cluster", WIDE, |p, _| backup_too(p, 44, &[0; 4])),
    fault("root cluster out of range", "fat/bpb-root-cluster", WIDE, |p, _| {
        p.write(44, &[0xEE, 0xEE, 0xEE, 0]);
    }),
    fault("root cluster is a subfolder's", "fat/bpb-root-cluster", WIDE, |p, _| {
        let other = p.find(super::FOLDER).clusters[0].to_le_bytes();
        backup_too(p, 44, &other);
    }),
    fault("mirroring names a table that is not there", "fat/bpb-mirror-flags", WIDE, |p, _| {
        p.write(40, &[0x85, 0]);
    }),
    fault("version 1", "fat/bpb-version", WIDE, |p, _| p.write(42, &[1, 0])),
    fault("FSInfo sector number FFFF", "fat/bpb-fsinfo-place", WIDE, |p, _| p.write(48, &[0xFF, 0xFF])),
    fault("backup sector number FFFF", "fat/bpb-backup-place", WIDE, |p, _| p.write(50, &[0xFF, 0xFF])),
    fault("reserved bytes not zero", "fat/boot-reserved-bytes", WIDE, |p, _| p.fill(52, 12, 0x5A)),
    fault("type text wrong", "fat/boot-type-text", ANY, |p, _| {
        let place = if p.geometry.wide() { 82 } else { 54 };
        p.write(place, b"HPFS    ");
    }),
    fault("backup zeroed", "fat/backup-missing", WIDE, |p, _| {
        let sector = u64::from(p.geometry.sector_bytes);
        p.fill(6 * sector, 512, 0);
    }),
    fault("backup drifted", "fat/backup-differs", WIDE, |p, _| {
        let sector = u64::from(p.geometry.sector_bytes);
        p.write(6 * sector + 24, &[1, 2]);
    }),
    fault("FSInfo signature lost", "fat/fsinfo-signature", WIDE, |p, _| {
        let at = fsinfo(p);
        p.fill(at, 4, 0);
    }),
    fault("FSInfo second signature lost", "fat/fsinfo-signature", WIDE, |p, _| {
        let at = fsinfo(p);
        p.fill(at + 484, 4, 0xEE);
    }),
    fault("FSInfo zeroed", "fat/fsinfo-signature", WIDE, |p, _| {
        let at = fsinfo(p);
        p.fill(at, 512, 0);
    }),
    fault("free count wrong", "fat/fsinfo-free-count", WIDE, |p, _| {
        let at = fsinfo(p) + 488;
        p.write(at, &77_u32.to_le_bytes());
    }),
    fault("free count huge", "fat/fsinfo-free-count", WIDE, |p, _| {
        let at = fsinfo(p) + 488;
        p.write(at, &0xFFFF_FFF0_u32.to_le_bytes());
    }),
    fault("next free out of range", "fat/fsinfo-next-free", WIDE, |p, _| {
        let at = fsinfo(p) + 492;
        p.write(at, &0x0EEE_EEEE_u32.to_le_bytes());
    }),
    fault("media byte of the table is another one", "fat/media-entry", WIDE, |p, _| set_table_media(p, 0xF0)),
    fault("media byte of the table is none", "fat/media-entry", ANY, |p, _| set_table_media(p, 0x12)),
    fault("entry 1 is no end mark", "fat/end-entry", ANY, |p, _| p.set_link(1, 5)),
    fault("not closed, in the boot sector", "fat/not-closed", ANY, |p, _| {
        let at = state_place(p);
        p.write(at, &[1]);
    }),
    fault("errors met, in the boot sector", "fat/errors-met", ANY, |p, _| {
        let at = state_place(p);
        p.write(at, &[2]);
    }),
    fault("not closed, in the table", "fat/not-closed", CLOSING, |p, _| {
        clear_state_bit(p, if p.geometry.wide() { 0x0800_0000 } else { 0x8000 });
    }),
    fault("errors met, in the table", "fat/errors-met", CLOSING, |p, _| {
        clear_state_bit(p, if p.geometry.wide() { 0x0400_0000 } else { 0x4000 });
    }),
    Fault {
        choose: &[("cut-image", "shrink")],
        ..fault("image cut short", "fat/volume-beyond-image", ANY, |p, _| {
            // Only unused clusters go.
            let keep = p.geometry.cluster_offset(p.geometry.last_cluster() - 60);
            p.bytes.truncate(usize::try_from(keep).expect("a small volume"));
            let gone = p.geometry.bytes() - keep;
            p.damaged.push(punchdog_core::medium::Extent::new(keep, gone));
        })
    },
];
