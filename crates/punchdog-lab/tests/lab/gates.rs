//! The forecast for Linux, row by row against what a real Linux 6.12 kernel was seen to do with
//! volumes of exactly this shape: 100352 sectors of 512 bytes, clusters of one sector, 32 reserved
//! sectors, tables of 772 sectors. The same numbers stand in the kernel's own log lines.

use punchdog_core::{
    family::{Kind, Volume},
    fat::{FatVolume, fresh::Wish},
    medium::{Extent, Medium, Memory, Overlay, Window},
    progress::Silent,
    report::forecast::HostForecast,
};
use punchdog_damage::fat::{Filler, Placing};

const END: &str = "Can't find a valid FAT filesystem";
const CHAIN: &str = "error, fat_get_cluster: invalid cluster chain (i_pos 1)";
const LOOP: &str = "error, fat_get_cluster: detected the cluster chain loop (i_pos 1)";
const READ_ONLY: &str = "Filesystem has been set read-only";
/// Entry 2 of the first table.
const ENTRY_2: u64 = 32 * 512 + 8;

fn volume(kind: Kind, bytes: u64, cluster_bytes: u32) -> Memory {
    let label = *b"GATES      ";
    let wish = Wish { kind, bytes, sector_bytes: 512, cluster_bytes, tables: 2, label, serial: 1 };
    let mut filler = Filler::new(&wish, vec![0; usize::try_from(bytes).unwrap()]).unwrap();
    filler.file("one.txt", b"a file of one cluster", Placing::Row).unwrap();
    filler.folder("folder").unwrap();
    filler.file("folder/two.txt", &[b'x'; 1500], Placing::Row).unwrap();
    Memory::new(filler.finish().unwrap().canvas)
}

fn forecast(medium: &dyn Medium, sector: u32) -> HostForecast {
    let volume = FatVolume::recognise(medium, &Silent).unwrap().expect("a volume, however damaged");
    volume.forecast(medium, sector).into_iter().find(|host| host.host == "linux").unwrap()
}

fn changed(base: &Memory, edits: &[(u64, Vec<u8>)]) -> HostForecast {
    let mut overlay = Overlay::new(base);
    for (at, bytes) in edits {
        overlay.write_at(*at, bytes).unwrap();
    }
    forecast(&overlay, 512)
}

fn lines(log: &[String]) -> Vec<&str> {
    log.iter().map(|line| line.strip_prefix("FAT-fs (DEV): ").expect("the driver's prefix")).collect()
}

#[test]
fn the_shape_is_the_one_that_the_kernel_was_asked_about() {
    let base = volume(Kind::Fat32, 100_352 * 512, 512);
    let geometry = FatVolume::recognise(&base, &Silent).unwrap().unwrap().believed().geometry;
    assert_eq!((geometry.table_sectors, geometry.clusters()), (772, 98_776));
}

#[test]
fn what_fat32_is_refused_for() {
    let base = volume(Kind::Fat32, 100_352 * 512, 512);
    let le32 = |value: u32| value.to_le_bytes().to_vec();
    let invalid = |line: &'static str| vec![line.to_owned(), END.to_owned()];
    let one = |line: &'static str| vec![line.to_owned()];
    let start = |cluster: &str| {
        vec![format!("error, fat_get_cluster: invalid start cluster (i_pos 1, start {cluster})")]
    };
    let wrong_sector =
        || vec!["Invalid FSINFO signature: 0x00000000, 0x00000000 (sector = 1)".to_owned(), CHAIN.to_owned()];
    let rows: Vec<(&str, u64, Vec<u8>, Vec<String>)> = vec![
        ("reserved sectors 0", 14, vec![0, 0], invalid("bogus number of reserved sectors")),
        ("all zero", 0, vec![0; 512], invalid("bogus number of reserved sectors")),
        ("all FF", 0, vec![0xFF; 512], invalid("bogus logical sector size 65535")),
        ("no table", 16, vec![0], invalid("bogus number of FAT structure")),
        ("media 00", 21, vec![0], invalid("invalid media value (0x00)")),
        ("media F7", 21, vec![0xF7], invalid("invalid media value (0xf7)")),
        ("sector size 0", 11, vec![0, 0], invalid("bogus logical sector size 0")),
        ("sector size 256", 11, vec![0, 1], invalid("bogus logical sector size 256")),
        ("sector size 513", 11, vec![1, 2], invalid("bogus logical sector size 513")),
        ("sector size 8192", 11, vec![0, 32], invalid("bogus logical sector size 8192")),
        ("sector size 1024", 11, vec![0, 4], wrong_sector()),
        ("sector size 4096", 11, vec![0, 16], wrong_sector()),
        ("sectors per cluster 0", 13, vec![0], invalid("bogus sectors per cluster 0")),
        ("sectors per cluster 3", 13, vec![3], invalid("bogus sectors per cluster 3")),
        ("table size 0", 36, le32(0), invalid("bogus number of FAT sectors")),
        ("root entries 7", 17, vec![7, 0], invalid("bogus number of directory entries (7)")),
        ("short table size", 22, vec![4, 3], invalid("count of clusters too big (98776)")),
        ("reserved sectors 1", 14, vec![1, 0], one(CHAIN)),
        ("root cluster 1", 44, le32(1), start("00000001")),
        ("root cluster behind the last", 44, le32(98_778), start("000181da")),
        ("root cluster an end mark", 44, le32(268_435_448), start("0ffffff8")),
        ("root chain free", ENTRY_2, le32(0), one(CHAIN)),
        ("root chain 1", ENTRY_2, le32(1), one("error, invalid access to FAT (entry 0x00000001)")),
        (
            "root chain out of range",
            ENTRY_2,
            le32(98_778),
            one("error, invalid access to FAT (entry 0x000181da)"),
        ),
        ("root chain loops", ENTRY_2, le32(2), one(LOOP)),
        ("first table zeroed", 32 * 512, vec![0; 772 * 512], one(CHAIN)),
    ];
    for (name, at, bytes, log) in rows {
        let seen = changed(&base, &[(at, bytes)]);
        assert!(!seen.mounts_read_only && !seen.mounts_read_write, "{name}");
        assert_eq!(lines(&seen.log), log, "{name}");
        let mut writing = log.clone();
        // The driver calls these errors of the volume, and turns a writable mount read-only.
        if log.last().is_some_and(|line| line.starts_with("error, ")) {
            writing.push(READ_ONLY.to_owned());
        }
        assert_eq!(lines(&seen.log_read_write), writing, "{name}");
        assert!(seen.refused_by.is_some() && !seen.reason.is_empty() && !seen.seen.is_empty(), "{name}");
    }
}

#[test]
fn what_fat32_mounts_in_spite_of() {
    let base = volume(Kind::Fat32, 100_352 * 512, 512);
    let le32 = |value: u32| value.to_le_bytes().to_vec();
    let rows: Vec<(&str, u64, Vec<u8>, &[&str])> = vec![
        ("nothing", 0, vec![0xEB], &[]),
        ("media F0", 21, vec![0xF0], &[]),
        (
            "FSInfo first signature",
            512,
            le32(0),
            &["Invalid FSINFO signature: 0x00000000, 0x61417272 (sector = 1)"],
        ),
        (
            "FSInfo second signature",
            996,
            le32(0),
            &["Invalid FSINFO signature: 0x41615252, 0x00000000 (sector = 1)"],
        ),
        ("FSInfo third signature", 1020, le32(0), &[]),
        ("FSInfo sector number 0", 48, vec![0, 0], &[]),
        ("free count wrong", 1000, le32(7), &[]),
        ("free count huge", 1000, le32(0xFFFF_FFF0), &[]),
        ("next free huge", 1004, le32(0xFFFF_FFF0), &[]),
        ("total 0", 32, le32(0), &[]),
        ("total tiny", 32, le32(100), &[]),
        ("total doubled", 32, le32(200_704), &[]),
        ("total huge", 32, le32(0xFFFF_FFFF), &[]),
        ("root cluster 0", 44, le32(0), &[]),
        ("root cluster another's", 44, le32(4), &[]),
        ("root chain ends at a bad mark", ENTRY_2, le32(0x0FFF_FFF7), &[]),
        ("root chain with top bits", ENTRY_2, le32(0xF000_0003), &[]),
        ("jump", 0, vec![0; 3], &[]),
        ("maker", 3, vec![0; 8], &[]),
        ("signature", 510, vec![0, 0], &[]),
        ("track geometry", 24, vec![0; 4], &[]),
        ("hidden sectors", 28, vec![0xFF; 4], &[]),
        ("active table 5", 40, vec![0x85, 0], &[]),
        ("version", 42, vec![1, 0], &[]),
        ("extended signature", 66, vec![0], &[]),
        ("type text", 82, b"NOTHING ".to_vec(), &[]),
        ("backup sector number", 50, vec![0xFF, 0xFF], &[]),
        ("backup zeroed", 6 * 512, vec![0; 1024], &[]),
        ("errors met", 65, vec![2], &[]),
        ("media byte of the table", 32 * 512, vec![0], &[]),
        ("state bits of the table", 32 * 512 + 4, le32(0x03FF_FFFF), &[]),
        ("second table zeroed", (32 + 772) * 512, vec![0; 772 * 512], &[]),
    ];
    for (name, at, bytes, log) in rows {
        let seen = changed(&base, &[(at, bytes)]);
        assert!(seen.mounts_read_only && seen.mounts_read_write, "{name}: {}", seen.reason);
        assert_eq!(lines(&seen.log), log, "{name}");
        assert_eq!(lines(&seen.log_read_write), log, "{name}");
    }
    let dirty = changed(&base, &[(65, vec![1])]);
    assert_eq!(lines(&dirty.log), [""; 0]);
    assert_eq!(lines(&dirty.log_read_write), ["Volume was not properly unmounted. Some data may be corrupt"]);
}

#[test]
fn the_device_decides_as_well() {
    let base = volume(Kind::Fat32, 100_352 * 512, 512);
    let large = forecast(&base, 4096);
    assert!(!large.mounts_read_only);
    assert_eq!(lines(&large.log), ["logical sector size too small for device (logical sector size = 512)"]);
    for (bytes, mounts, log) in [
        (100_351 * 512, true, vec![]),
        // The first table is there, the root folder is not.
        (64 << 10, true, vec!["Directory bread(block 1576) failed"]),
    ] {
        let cut = Window::new(&base, Extent::new(0, bytes));
        let seen = forecast(&cut, 512);
        assert_eq!(seen.mounts_read_only, mounts, "{bytes}: {}", seen.reason);
        assert_eq!(lines(&seen.log), log, "{bytes}");
    }
}

/// Volume, what is changed, where, to what, and the lines of the log.
type Row<'a> = (&'a Memory, &'static str, u64, Vec<u8>, &'static [&'static str]);

#[test]
fn fat16_and_fat12_have_gates_of_their_own() {
    let fat16 = volume(Kind::Fat16, 20 << 20, 2048);
    let fat12 = volume(Kind::Fat12, 1 << 20, 512);
    let rows: Vec<Row<'_>> = vec![
        (&fat16, "root entries 511", 17, vec![0xFF, 1], &["bogus number of directory entries (511)", END]),
        (&fat16, "reserved sectors 0", 14, vec![0, 0], &["bogus number of reserved sectors", END]),
        (&fat12, "media 12", 21, vec![0x12], &["invalid media value (0x12)", END]),
        (&fat12, "sector size 3", 11, vec![3, 0], &["bogus logical sector size 3", END]),
    ];
    for (base, name, at, bytes, log) in rows {
        let seen = changed(base, &[(at, bytes)]);
        assert!(!seen.mounts_read_only, "{name}");
        assert_eq!(lines(&seen.log), log, "{name}");
    }
    for (name, edits) in [
        ("totals 0", vec![(19, vec![0, 0]), (32, vec![0; 4])]),
        ("signature", vec![(510, vec![0, 0])]),
        ("media byte of the table", vec![(512, vec![0, 0])]),
        ("table size 1", vec![(22, vec![1, 0])]),
    ] {
        let seen = changed(&fat16, &edits);
        assert!(seen.mounts_read_only && seen.log.is_empty(), "{name}: {:?}", seen.log);
    }
    let dirty = changed(&fat16, &[(37, vec![1])]);
    assert_eq!(lines(&dirty.log_read_write), ["Volume was not properly unmounted. Some data may be corrupt"]);
}
