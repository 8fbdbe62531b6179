//! Every byte of the structures that a host looks at before it mounts, each set to the values that
//! break comparisons: what check calls sound must then be what every host mounts.

use crate::{exfat_faults, faults, ntfs_faults, seed::Seed};
use punchdog_core::{
    exfat::layout::{NOT_SUMMED, put, set_checksum},
    ntfs::layout::{kind, own},
};

/// One byte to change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Blow {
    /// What the byte belongs to.
    pub part: &'static str,
    /// Bytes from the start of the volume.
    pub offset: u64,
    /// What stands there then.
    pub value: u8,
    /// The checksum over it is put right, as a program does that knows of it.
    pub summed: bool,
}

/// Values that a byte is set to, beside one more and one less than it was, and each bit of it turned.
const VALUES: [u8; 5] = [0, 1, 0x7F, 0x80, 0xFF];

fn blows(bytes: &[u8], part: &'static str, range: std::ops::Range<u64>, summed: bool, found: &mut Vec<Blow>) {
    for offset in range {
        let Some(was) = usize::try_from(offset).ok().and_then(|at| bytes.get(at)).copied() else { break };
        let mut values = [&VALUES[..], &[was.wrapping_add(1), was.wrapping_sub(1)]].concat();
        values.extend((0..8).map(|bit| was ^ 1 << bit));
        values.sort_unstable();
        values.dedup();
        let others = values.into_iter().filter(|value| *value != was);
        found.extend(others.map(|value| Blow { part, offset, value, summed }));
    }
}

/// All blows to a FAT volume: boot sector, FSInfo, their copies, the first entries of each table, and
/// the root folder's entries.
pub fn of_fat(patient: &faults::Patient) -> Vec<Blow> {
    let (g, bytes) = (&patient.geometry, &patient.bytes[..]);
    let sector = u64::from(g.sector_bytes);
    let mut found = Vec::new();
    blows(bytes, "boot sector", 0..512, false, &mut found);
    if g.wide() {
        blows(bytes, "FSInfo", sector..sector + 512, false, &mut found);
        blows(bytes, "backup boot sector", sector * 6..sector * 6 + 512, false, &mut found);
    }
    for copy in 0..g.tables {
        let at = g.table_offset(copy);
        blows(bytes, "table", at..at + 24, false, &mut found);
    }
    let root = if g.wide() { g.cluster_offset(g.root_cluster) } else { g.root_offset() };
    let used = (0..16).take_while(|entry| patient.read(root + entry * 32, 1)[0] != 0).count() as u64;
    blows(bytes, "root folder", root..root + (used + 2) * 32, false, &mut found);
    found
}

/// All blows to an exFAT volume: both boot regions, with their checksums as they stand and put right,
/// the table's first entries, the root folder's entries likewise, and the up-case table.
pub fn of_exfat(patient: &exfat_faults::Patient) -> Vec<Blow> {
    let (g, bytes) = (&patient.geometry, &patient.bytes[..]);
    let mut found = Vec::new();
    let region = g.region_bytes();
    blows(bytes, "boot region", 0..region, false, &mut found);
    blows(bytes, "boot region", 0..512, true, &mut found);
    blows(bytes, "backup boot region", region..region * 2, false, &mut found);
    blows(bytes, "backup boot region", region..region + 512, true, &mut found);
    for copy in 0..g.tables {
        let at = g.table_place(copy);
        blows(bytes, "table", at..at + 24, false, &mut found);
    }
    let used = (0..64).take_while(|entry| patient.read(patient.root_entry(*entry), 1)[0] != 0).count() as u64;
    for entry in 0..used + 2 {
        let at = patient.root_entry(entry);
        blows(bytes, "root folder", at..at + 32, false, &mut found);
        blows(bytes, "root folder", at..at + 32, true, &mut found);
    }
    let upcase = patient.root_entry(1 + u64::from(g.tables)) + 20;
    let first = patient.read(upcase, 4);
    let at = g.cluster_place(u32::from_le_bytes([first[0], first[1], first[2], first[3]]));
    blows(bytes, "up-case table", at..at + 5836, false, &mut found);
    found
}

/// All blows to an NTFS volume: boot sector and its copy, the records of the file system's own files and what the first of
/// them have in the mirror, and the beginnings of what hosts read of them before they mount.
pub fn of_ntfs(patient: &ntfs_faults::Patient) -> Vec<Blow> {
    let (g, bytes) = (&patient.geometry, &patient.bytes[..]);
    let mut found = Vec::new();
    blows(bytes, "boot sector", 0..512, false, &mut found);
    blows(bytes, "copy of the boot sector", g.counted()..g.counted() + 512, false, &mut found);
    let used = |place: u64| {
        let used = patient.read(place + 24, 4);
        place..place + u64::from(u32::from_le_bytes([used[0], used[1], used[2], used[3]]))
    };
    for number in own::MFT..=own::EXTEND {
        blows(bytes, "records", used(patient.record_place(number)), false, &mut found);
    }
    for number in 0..4 {
        blows(bytes, "copies of records", used(patient.copy_place(number)), false, &mut found);
    }
    for (part, number, name, range) in [
        ("log", own::LOG, "", 0..144),
        ("log", own::LOG, "", 510..512),
        ("attribute definitions", own::ATTRDEF, "", 0..320),
        ("capitals", own::UPCASE, "", 0..400),
        ("security descriptors", own::SECURE, "$SDS", 0..200),
        ("bitmap", own::BITMAP, "", 0..16),
    ] {
        let at = patient.own_place(number, name, 0);
        blows(bytes, part, at + range.start..at + range.end, false, &mut found);
    }
    let root = patient.runs(own::ROOT, kind::INDEX_ALLOCATION, "$I30");
    let at = g.place(root[0].first.unwrap_or(0));
    blows(bytes, "root folder", at..at + 480, false, &mut found);
    found
}

/// One of `each` blows, which ones by the seed; all of them with `each` 1.
pub fn sampled(blows: Vec<Blow>, each: u64, seed: u64) -> Vec<Blow> {
    let mut seed = Seed::new(seed);
    blows.into_iter().filter(|_| seed.below(each.max(1)) == 0).collect()
}

/// Strikes a FAT volume.
pub fn strike_fat(patient: &mut faults::Patient, blow: Blow) {
    patient.write(blow.offset, &[blow.value]);
}

/// Gives an NTFS volume a log that was closed, or is still in use with nothing to go on from: its own is empty, and
/// nothing in it matters.
pub fn give_log(patient: &mut ntfs_faults::Patient, used: bool) {
    let place = patient.own_place(own::LOG, "", 0);
    let closed: &[(usize, &[u8])] = &[(60, &[0xFF, 0xFF])];
    patient.write(place, &crate::ntfs::log_page(if used { &[] } else { closed }));
}

/// Strikes an NTFS volume.
pub fn strike_ntfs(patient: &mut ntfs_faults::Patient, blow: Blow) {
    patient.write(blow.offset, &[blow.value]);
}

/// Strikes an exFAT volume.
pub fn strike_exfat(patient: &mut exfat_faults::Patient, blow: Blow) {
    patient.write(blow.offset, &[blow.value]);
    if !blow.summed {
        return;
    }
    let region = patient.geometry.region_bytes();
    if blow.offset < region * 2 {
        if !NOT_SUMMED.contains(&usize::try_from(blow.offset).unwrap_or(0)) {
            patient.sum_boot(blow.offset / region);
        }
        return;
    }
    // The set that the byte lies in: back to its file entry.
    let each = patient.geometry.cluster_bytes() / 32;
    let (mut cluster, mut room) = (patient.geometry.root_cluster, each);
    loop {
        let link = patient.read(patient.geometry.table_place(0) + u64::from(cluster) * 4, 4);
        cluster = u32::from_le_bytes([link[0], link[1], link[2], link[3]]);
        if !patient.geometry.has(cluster) {
            break;
        }
        room += each;
    }
    let here = (0..room).find(|n| (0..32).any(|byte| patient.root_entry(*n) + byte == blow.offset));
    let Some(mut number) = here else { return };
    while number > 0 && patient.read(patient.root_entry(number), 1)[0] & 0x40 != 0 {
        number -= 1;
    }
    let first = patient.root_entry(number);
    if patient.read(first, 1)[0] != 0x85 {
        return;
    }
    let count = u64::from(patient.read(first + 1, 1)[0]).min(18);
    let mut set: Vec<u8> = (0..=count.min(room - 1 - number))
        .flat_map(|n| patient.read(patient.root_entry(number + n), 32))
        .collect();
    let sum = set_checksum(&set).to_le_bytes();
    put(&mut set, 2, &sum);
    patient.write(first + 2, &sum);
}
