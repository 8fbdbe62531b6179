//! What Linux 6.12 was seen to do with exFAT volumes of which one thing was changed: each row is an
//! image that the kernel mounted or refused, with the lines that it logged.

use punchdog_core::{
    exfat::layout::boot_checksum, medium::Memory, progress::Silent, registry, report::forecast::HostForecast,
};
use punchdog_damage::{
    exfat::{everyday, small},
    exfat_faults::Patient,
};

fn patient() -> Patient {
    Patient::new(everyday(&small(512, 4096, 1), 6))
}

fn forecast(patient: &Patient) -> HostForecast {
    let medium = Memory::new(patient.bytes.clone());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    volume.forecast(&medium, 512).into_iter().find(|host| host.host == "linux").unwrap()
}

/// What the kernel does: refuses, mounts for reading only, or mounts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Does {
    Refuses,
    ReadsOnly,
    Mounts,
}
use Does::{Mounts, ReadsOnly, Refuses};

type Row = (&'static str, fn(&mut Patient), Does, &'static [&'static str]);

const BOOT: &str = "failed to read boot sector";
const REGION: &str = "invalid boot region";
const ROOT: &str = "failed to count the number of clusters in root";
const UPCASE: &str = "failed to load upcase table";
const BITMAP: &str = "failed to load alloc-bitmap";

fn entry(patient: &Patient, number: u64, at: u64) -> u64 {
    patient.root_entry(number) + at
}

const ROWS: &[Row] = &[
    ("sound", |_| {}, Mounts, &[]),
    ("signature", |p| p.write_boot(0, 510, &[0, 0]), Refuses, &["invalid boot record signature", BOOT]),
    ("main region zero", |p| p.fill(0, 6144, 0), Refuses, &["invalid boot record signature", BOOT]),
    ("name", |p| p.write_boot(0, 3, b"NOTHING "), Refuses, &["invalid fs_name", BOOT]),
    ("must be zero", |p| p.write_boot(0, 40, &[1]), Refuses, &[BOOT]),
    ("no tables", |p| p.write_boot(0, 110, &[0]), Refuses, &["bogus number of FAT structure", BOOT]),
    ("three tables", |p| p.write_boot(0, 110, &[3]), Refuses, &["bogus number of FAT structure", BOOT]),
    ("sector bits 8", |p| p.write_boot(0, 108, &[8]), Refuses, &["bogus sector size bits : 8", BOOT]),
    ("sector bits 13", |p| p.write_boot(0, 108, &[13]), Refuses, &["bogus sector size bits : 13", BOOT]),
    (
        "cluster bits 17",
        |p| p.write_boot(0, 109, &[17]),
        Refuses,
        &["bogus sectors bits per cluster : 17", BOOT],
    ),
    ("table length 1", |p| p.write_boot(0, 84, &[1, 0, 0, 0]), Refuses, &["bogus fat length", BOOT]),
    ("heap 0", |p| p.write_boot(0, 88, &[0; 4]), Refuses, &["bogus data start sector", BOOT]),
    ("table huge", |p| p.write_boot(0, 84, &[0, 0, 0, 1]), Refuses, &["bogus data start sector", BOOT]),
    (
        "dirty",
        |p| p.write(106, &[2]),
        Mounts,
        &["Volume was not properly unmounted. Some data may be corrupt"],
    ),
    (
        "media failure",
        |p| p.write(106, &[4]),
        Mounts,
        &["Medium has reported failures. Some data may be lost."],
    ),
    (
        "both",
        |p| p.write(106, &[6]),
        Mounts,
        &[
            "Volume was not properly unmounted. Some data may be corrupt",
            "Medium has reported failures. Some data may be lost.",
        ],
    ),
    ("active table", |p| p.write(106, &[1]), Mounts, &[]),
    ("clear to zero", |p| p.write(106, &[8]), Mounts, &[]),
    ("reserved flags", |p| p.write(106, &[0xF0, 0xFF]), Mounts, &[]),
    ("jump", |p| p.write_boot(0, 0, &[0; 3]), Mounts, &[]),
    ("partition offset", |p| p.write_boot(0, 64, &[9; 8]), Mounts, &[]),
    ("serial", |p| p.write_boot(0, 100, &[9; 4]), Mounts, &[]),
    ("revision 2", |p| p.write_boot(0, 104, &[0, 2]), Mounts, &[]),
    ("drive", |p| p.write_boot(0, 111, &[0]), Mounts, &[]),
    ("percent", |p| p.write(112, &[77]), Mounts, &[]),
    ("volume length 0", |p| p.write_boot(0, 72, &[0; 8]), Mounts, &[]),
    ("backup zero", |p| p.fill(6144, 6144, 0), Mounts, &[]),
    (
        "extended signature, summed",
        |p| p.write_boot(0, 6 * 512 - 4, &[0; 4]),
        Mounts,
        &["Invalid exboot-signature(sector = 5): 0x00000000"],
    ),
    ("root 0", |p| p.write_boot(0, 96, &[0; 4]), Refuses, &[UPCASE]),
    (
        "root 1",
        |p| p.write_boot(0, 96, &[1, 0, 0, 0]),
        Refuses,
        &["error, invalid access to FAT (entry 0x00000001)", ROOT],
    ),
    (
        "root out of range",
        |p| p.write_boot(0, 96, &[0xE5, 0x30, 0, 0]),
        Refuses,
        &["error, invalid access to FAT (entry 0x000030e5)", ROOT],
    ),
    (
        "root bad",
        |p| p.write_boot(0, 96, &[0xF7, 0xFF, 0xFF, 0xFF]),
        Refuses,
        &["error, invalid access to FAT (entry 0xfffffff7)", ROOT],
    ),
    (
        "root ffffffff",
        |p| p.write_boot(0, 96, &[0xFF; 4]),
        Refuses,
        &["error, no upcase table entry", BITMAP],
    ),
    ("up-case entry gone", |p| p.write(entry(p, 2, 0), &[2]), ReadsOnly, &["error, no upcase table entry"]),
    (
        "up-case length 0",
        |p| p.write(entry(p, 2, 24), &[0; 8]),
        ReadsOnly,
        &["error, bad upcase table size (0 bytes)"],
    ),
    ("up-case length past the table", |p| p.write(entry(p, 2, 24), &140_000_u64.to_le_bytes()), Mounts, &[]),
    (
        "up-case length past the image",
        |p| p.write(entry(p, 2, 24), &0x8_0000_16CC_u64.to_le_bytes()),
        Refuses,
        // The first sector behind the device: it has EB0.
        &["failed to read sector(0xeb0)", UPCASE],
    ),
    (
        "up-case checksum 1",
        |p| p.write(entry(p, 2, 4), &[1, 0, 0, 0]),
        Mounts,
        &["failed to load upcase table (idx : 0x00010000, chksum : 0xe619d30d, utbl_chksum : 0x00000001)"],
    ),
    ("bitmap entry gone", |p| p.write(entry(p, 1, 0), &[1]), Refuses, &[BITMAP]),
    ("only a second bitmap", |p| p.write(entry(p, 1, 1), &[1]), Refuses, &[BITMAP]),
    ("bitmap's first cluster 0", |p| p.write(entry(p, 1, 20), &[0; 4]), Refuses, &[BITMAP]),
    // Of its clusters the lower 32 bits are counted.
    (
        "bitmap of 4 PiB and a little",
        |p| p.write(entry(p, 1, 30), &[16]),
        Mounts,
        &["bogus allocation bitmap size(need : 58, cur : 4503599627370554)"],
    ),
    ("bitmap has itself free", |p| p.set_bit(2, false), Refuses, &[BITMAP]),
    ("no label", |p| p.write(entry(p, 0, 0), &[3]), Mounts, &[]),
    ("label of 200", |p| p.write(entry(p, 0, 1), &[200]), Mounts, &[]),
    ("table's first entries", |p| p.fill(p.geometry.table_place(0), 8, 0), Mounts, &[]),
];

#[test]
fn each_row_of_what_the_kernel_was_seen_to_do() {
    for (name, change, does, lines) in ROWS {
        let mut patient = patient();
        change(&mut patient);
        let forecast = forecast(&patient);
        let does_now = match (forecast.mounts_read_only, forecast.mounts_read_write) {
            (false, _) => Refuses,
            (true, false) => ReadsOnly,
            (true, true) => Mounts,
        };
        assert_eq!(does_now, *does, "{name}: {forecast:?}");
        let mut expected: Vec<String> = lines.iter().map(|line| format!("exFAT-fs (DEV): {line}")).collect();
        if *does == Refuses {
            expected.push("exFAT-fs (DEV): failed to recognize exfat type".to_owned());
        }
        assert_eq!(forecast.log, expected, "{name}");
        assert_eq!(forecast.refused_by.is_some(), *does != Mounts, "{name}");
        // An error line turns a mount for writing into one for reading, and says so once.
        let turned = forecast.log_read_write.iter().filter(|line| line.contains("set read-only")).count();
        let errors = lines.iter().any(|line| line.starts_with("error, "));
        assert_eq!(turned, usize::from(errors), "{name}: {:?}", forecast.log_read_write);
    }
}

#[test]
fn the_root_chain_as_the_driver_walks_it() {
    for (value, line) in [
        (0, "invalid access to FAT free cluster (entry ROOT)"),
        (0xFFFF_FFF7, "invalid access to FAT bad cluster (entry ROOT)"),
        (1, "invalid access to FAT (entry ROOT) bogus content (0x00000001)"),
        (0x30E5, "invalid access to FAT (entry ROOT) bogus content (0x000030e5)"),
    ] {
        let mut patient = patient();
        let root = patient.geometry.root_cluster;
        patient.set_link(root, value);
        let forecast = forecast(&patient);
        let line = line.replace("ROOT", &format!("{root:#010x}"));
        assert_eq!(forecast.log[0], format!("exFAT-fs (DEV): error, {line}"));
        assert!(!forecast.mounts_read_only);
    }
    // All values from FFFFFFF8 on end a chain; a chain that leads to itself is a loop.
    for (value, mounts) in [(0xFFFF_FFF8, true), (u32::MAX, true), (0, false)] {
        let mut patient = patient();
        let root = patient.geometry.root_cluster;
        patient.set_link(root, if value == 0 { root } else { value });
        let forecast = forecast(&patient);
        assert_eq!(forecast.mounts_read_only, mounts, "{value:#x}");
        let looped = forecast.log.iter().any(|line| line.contains("The cluster chain has a loop"));
        assert_eq!(looped, !mounts);
    }
}

#[test]
fn one_changed_byte_anywhere_in_the_region_is_refused_but_for_three() {
    let sound = patient();
    for at in (0..11 * 512).step_by(37).chain([106, 107, 112]) {
        let mut patient = sound.clone();
        let byte = patient.read(at, 1)[0] ^ 0x20;
        patient.write(at, &[byte]);
        let sum = boot_checksum(&patient.read(0, 11 * 512), 512);
        let same = sum == boot_checksum(&sound.read(0, 11 * 512), 512);
        assert_eq!(same, [106, 107, 112].contains(&at), "byte {at}");
        let forecast = forecast(&patient);
        assert_eq!(forecast.mounts_read_only, same, "byte {at}: {:?}", forecast.log);
    }
    let mut patient = sound;
    patient.write(11 * 512 + 508, &[0; 4]);
    assert_eq!(
        forecast(&patient).log[1..],
        [format!("exFAT-fs (DEV): {REGION}"), "exFAT-fs (DEV): failed to recognize exfat type".to_owned()]
    );
}
