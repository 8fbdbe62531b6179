//! Disks: tables with each of their faults, strangers by their signatures, blank media, volumes
//! that no table lists. Seen from the core, without the command line.

use punchdog_core::{
    exfat::layout::boot_checksum,
    family::Kind,
    medium::{Extent, Medium, Memory},
    partition::{
        Scouting, Table, Way, gpt,
        layout::{BASIC_DATA, ENTRIES_AT, GptEntry, GptHeader, MbrEntry},
        mbr, scout, strangers,
    },
    progress::Silent,
    repair::{apply, measure::Subject, plan},
};
use punchdog_damage::{
    exfat,
    fat::{everyday, small},
    ntfs,
    seed::Seed,
    workplace::Bench,
};
use std::collections::BTreeMap;
use zerocopy::{FromZeros, IntoBytes};

const SECTOR: usize = 512;

/// Damages a disk.
type Blow<'a> = &'a dyn Fn(&mut Vec<u8>);

/// A disk under construction.
struct Disk(Vec<u8>);

impl Disk {
    fn new(sectors: usize) -> Self {
        Self(vec![0; sectors * SECTOR])
    }
    fn put(&mut self, sector: usize, bytes: &[u8]) -> &mut Self {
        self.0[sector * SECTOR..sector * SECTOR + bytes.len()].copy_from_slice(bytes);
        self
    }
    /// An entry of the table in `sector`, relative to it as the table type wants.
    fn entry(&mut self, sector: usize, slot: usize, kind: u8, start: u32, length: u32) -> &mut Self {
        let mut entry = MbrEntry::new_zeroed();
        entry.kind = kind;
        entry.start = start.into();
        entry.length = length.into();
        let at = sector * SECTOR + ENTRIES_AT + slot * 16;
        self.0[at..at + 16].copy_from_slice(entry.as_bytes());
        self.0[sector * SECTOR + 510..sector * SECTOR + 512].copy_from_slice(&[0x55, 0xAA]);
        self
    }
    fn scout(&self) -> Scouting {
        scout(&Memory::new(self.0.clone()), true, &Silent).unwrap()
    }
    fn codes(&self) -> Vec<&'static str> {
        self.scout().findings.iter().map(|finding| finding.entry.code).collect()
    }
    /// What a plan makes of the table, applied, and undone to see that it can be.
    fn mended(&self) -> Self {
        let medium = Memory::new(self.0.clone());
        let plan = plan::build(&medium, "disk.img", Subject::Table, BTreeMap::new(), &Silent).unwrap();
        let mut bench = Bench::default();
        let applied = apply::apply(&plan, &medium, &mut bench, &Silent).unwrap();
        assert!(applied.as_planned);
        let mended = Self(bench.copy.clone().unwrap());
        apply::undo(&mut bench).unwrap();
        assert!(bench.copy.unwrap() == self.0, "undo gives the disk back");
        mended
    }
}

fn volume(kind: Kind, seed: u64) -> Vec<u8> {
    everyday(&small(kind, 512, if kind == Kind::Fat16 { 512 } else { 1024 }), seed).canvas
}

fn sectors(bytes: &[u8]) -> u32 {
    u32::try_from(bytes.len() / SECTOR).unwrap()
}

fn places(seen: &Scouting) -> Vec<(Kind, u64, Way)> {
    seen.volumes.iter().map(|place| (place.what, place.extent.offset, place.way)).collect()
}

#[test]
fn primary_and_logical_volumes_are_listed_in_order() {
    let (one, two, three) = (volume(Kind::Fat16, 1), volume(Kind::Fat12, 2), volume(Kind::Fat12, 3));
    let mut disk = Disk::new(20_000);
    let (first, extended) = (63, 8000);
    disk.put(first, &one).entry(0, 0, 0x06, 63, sectors(&one));
    disk.entry(0, 1, 0x0F, 8000, 12_000);
    // Each logical volume hangs in a table of its own; its place counts from that table, the next
    // table's from the start of the extended partition.
    disk.put(extended + 63, &two).entry(extended, 0, 0x01, 63, sectors(&two));
    disk.entry(extended, 1, 0x05, 4000, 4000);
    disk.put(extended + 4000 + 63, &three).entry(extended + 4000, 0, 0x01, 63, sectors(&three));
    let seen = disk.scout();
    assert_eq!(seen.table, Table::Mbr);
    let at = |sector: u64| sector * 512;
    assert_eq!(
        places(&seen),
        [
            (Kind::Fat16, at(63), Way::Listed),
            (Kind::Fat12, at(8063), Way::Listed),
            (Kind::Fat12, at(12_063), Way::Listed),
        ]
    );
    assert!(disk.codes().is_empty(), "{:?}", disk.codes());
}

/// The same on a disk with sectors of 4096 bytes, in which its tables count: nothing says so but what stands there.
/// The length that a boot sector says is one witness, the volume itself another: the way to it does not end where that field
/// does, and no second round is needed to see the rest.
#[test]
fn a_listed_volume_goes_on_where_its_boot_sector_has_it_end() {
    let made = exfat::everyday(&exfat::small(512, 1024, 1), 5).canvas;
    let ntfs = ntfs::everyday(&ntfs::small(512, 4096, 1024), 5).canvas;
    let volumes = [
        (Kind::Exfat, made, 72, 8),
        (Kind::Ntfs, ntfs, 40, 8),
        (Kind::Fat12, volume(Kind::Fat12, 5), 19, 2),
        (Kind::Fat16, volume(Kind::Fat16, 5), 19, 2),
        (Kind::Fat32, volume(Kind::Fat32, 5), 32, 4),
    ];
    for (kind, bytes, field, width) in volumes {
        let own = u64::from(sectors(&bytes));
        for said in [own / 4, own / 2, own * 2, own << 9] {
            // Of FAT nothing but that field says that the volume does not go on behind the image.
            if width < 8 && said > own {
                continue;
            }
            let mut struck = bytes.clone();
            struck[field..field + width].copy_from_slice(&said.to_le_bytes()[..width]);
            let mut disk = Disk::new(2048 + sectors(&bytes) as usize);
            disk.put(2048, &struck).entry(0, 0, kind.mbr_types()[0], 2048, sectors(&bytes));
            let name = format!("{kind:?}: {said} sectors instead of {own}");
            let seen = disk.scout();
            assert_eq!(places(&seen), [(kind, 2048 * 512, Way::Listed)], "{name}");
            assert!(seen.findings.is_empty(), "{name}: {:?}", seen.findings);
            let medium = Memory::new(disk.0.clone());
            let plan = plan::build(&medium, "disk.img", Subject::Medium, BTreeMap::new(), &Silent).unwrap();
            assert!(plan.outcome.after.sound, "{name}: {:?}", plan.outcome.after.findings);
            let mended = plan.replay(&medium).unwrap();
            let mended: &dyn Medium = &mended;
            let mended = mended.bytes(2048 * 512, bytes.len()).unwrap();
            let field_of = |bytes: &[u8]| bytes[field..field + width].to_vec();
            assert_eq!(field_of(&mended), field_of(&bytes), "{name}");
        }
    }
}

#[test]
fn tables_of_disks_with_large_sectors_are_read_and_mended_in_theirs() {
    const LARGE: usize = 4096;
    let one = exfat::everyday(&exfat::small(4096, 4096, 1), 1).canvas;
    let two = ntfs::everyday(&ntfs::small(4096, 4096, 4096), 2).canvas;
    let three = everyday(&small(Kind::Fat16, 4096, 4096), 3).canvas;
    let long = |bytes: &[u8]| u32::try_from(bytes.len() / LARGE).unwrap();
    // A disk is built in sectors of 512 bytes here: places times eight.
    let first = 256;
    let extended = first + long(&one) + 100;
    let next = extended + 256 + long(&two) + 10;
    let end = next + 256 + long(&three);
    let at = |sector: u32| sector as usize * 8;
    let mut sound = Disk::new(at(end + 300));
    sound.put(at(first), &one).entry(0, 0, 0x07, first, long(&one));
    sound.entry(0, 1, 0x0F, extended, end - extended);
    sound.put(at(extended + 256), &two).entry(at(extended), 0, 0x07, 256, long(&two));
    sound.entry(at(extended), 1, 0x05, next - extended, end - next);
    sound.put(at(next + 256), &three).entry(at(next), 0, 0x0E, 256, long(&three));
    let true_places = [(Kind::Exfat, first), (Kind::Ntfs, extended + 256), (Kind::Fat16, next + 256)];
    let seen = sound.scout();
    assert_eq!((seen.table, seen.unit), (Table::Mbr, 4096));
    let entry = |number: usize| ENTRIES_AT + number * 16;
    let boots = |bytes: &mut Vec<u8>| {
        for (_, sector) in true_places {
            bytes[at(sector) * SECTOR..][..LARGE].fill(0);
        }
        bytes[at(extended) * SECTOR + 510] = 0;
    };
    let blows: [(&str, &[&str], Blow<'_>); 8] = [
        ("none", &[], &|_| {}),
        ("entry zero", &["partition/entry-missing"], &|bytes| bytes[entry(0)..entry(1)].fill(0)),
        ("start", &["partition/wrong-start"], &|bytes| bytes[entry(0) + 8] = 1),
        ("length", &["partition/wrong-length"], &|bytes| bytes[entry(0) + 13..entry(1)].fill(0)),
        ("type", &["partition/wrong-type"], &|bytes| bytes[entry(0) + 4] = 0x0C),
        ("link", &["partition/chain-broken"], &|bytes| bytes[at(next) * SECTOR..][..SECTOR].fill(0)),
        ("link's entry", &["partition/chain-broken"], &|bytes| {
            bytes[at(extended) * SECTOR + entry(1)..][..16].fill(0);
        }),
        ("signature", &["partition/signature"], &|bytes| bytes[510] = 0),
    ];
    for (name, codes, strike) in blows {
        let mut disk = Disk(sound.0.clone());
        strike(&mut disk.0);
        assert_eq!(disk.codes(), codes, "{name}");
        let mended = if codes.is_empty() { disk } else { disk.mended() };
        let seen = mended.scout();
        let due = true_places.map(|(kind, sector)| (kind, u64::from(sector) * 4096, Way::Listed));
        assert_eq!((places(&seen), seen.unit), (due.to_vec(), 4096), "{name}");
        assert!(seen.findings.is_empty(), "{name}: {:?}", mended.codes());
        let length = |number: usize| mended.0[entry(number) + 12..entry(number) + 16].to_vec();
        assert_eq!(length(0), long(&one).to_le_bytes(), "{name}");
    }
    // With no table left, the volumes that say what stood before them tell in which sectors the next one counts.
    let mut disk = Disk(sound.0.clone());
    disk.0[..SECTOR].fill(0);
    disk.0[at(extended) * SECTOR..].fill(0);
    let offset = first.to_le_bytes();
    for region in [0, 12 * LARGE] {
        let start = at(first) * SECTOR + region;
        disk.0[start + 64..start + 68].copy_from_slice(&offset);
        let sum = boot_checksum(&disk.0[start..start + 11 * LARGE], LARGE).to_le_bytes();
        disk.0[start + 11 * LARGE..start + 12 * LARGE].copy_from_slice(&sum.repeat(LARGE / 4));
    }
    for boot_gone in [false, true] {
        if boot_gone {
            disk.0[at(first) * SECTOR..][..12 * LARGE].fill(0);
        }
        assert_eq!(disk.scout().unit, 4096, "{boot_gone}");
        let mended = disk.mended().scout();
        let due = vec![(Kind::Exfat, 256 * 4096, Way::Listed)];
        assert_eq!((places(&mended), mended.unit), (due, 4096), "{boot_gone}");
    }
    // With every beginning gone the entries still say where something lies.
    let mut disk = Disk(sound.0.clone());
    boots(&mut disk.0);
    let seen = disk.scout();
    assert_eq!((seen.unit, seen.volumes[0].extent.offset), (4096, 256 * 4096));
}

/// A GPT that is lost is written in the sectors that its protective entry is counted in, or its volumes; and the
/// protective entry in those of the GPT.
#[test]
fn a_gpt_is_written_in_the_sectors_of_its_disk() {
    let volume = exfat::everyday(&exfat::small(4096, 4096, 1), 1).canvas;
    let (start, bytes) = (1 << 20, (volume.len() + (2 << 20)).next_multiple_of(1 << 20));
    let mut sound = Disk(vec![0; bytes]);
    sound.0[start..start + volume.len()].copy_from_slice(&volume);
    sound.entry(0, 0, 0xEE, 1, u32::try_from(bytes / 4096 - 1).unwrap());
    let mut entries =
        gpt::new_entry(Extent::new(start as u64, volume.len() as u64), 4096, [7; 16]).as_bytes().to_vec();
    entries.resize(128 * 128, 0);
    let copies = gpt::both_copies(bytes as u64, 4096, [9; 16], &entries).unwrap();
    for (at, copy) in &copies {
        let at = usize::try_from(*at).unwrap();
        sound.0[at..at + copy.len()].copy_from_slice(copy);
    }
    let (seen, due) = (sound.scout(), vec![(Kind::Exfat, start as u64, Way::Listed)]);
    assert_eq!((places(&seen), seen.unit), (due.clone(), 4096));
    let mut unprotected = Disk(sound.0.clone());
    unprotected.0[..512].fill(0);
    let mut gone = Disk(sound.0.clone());
    for (at, copy) in &copies {
        let at = usize::try_from(*at).unwrap();
        gone.0[at..at + copy.len()].fill(0);
    }
    for disk in [unprotected, gone] {
        let mended = disk.mended();
        let seen = mended.scout();
        assert_eq!((places(&seen), seen.table, seen.unit), (due.clone(), Table::Gpt(true, true), 4096));
        assert!(seen.findings.is_empty(), "{:?}", mended.codes());
        assert_eq!(mended.0[446 + 8..446 + 16], sound.0[446 + 8..446 + 16], "the protective entry");
    }
}

/// The medium was divided anew: where the old volume was not written over it still claims what a
/// listed one holds. Whatever became of the new one's boot sector, the table is not turned back.
#[test]
fn an_older_volume_that_reaches_into_a_listed_one_is_a_remark() {
    let old = exfat::everyday(&exfat::small(512, 4096, 1), 3).canvas;
    let new = volume(Kind::Fat16, 7);
    let start = 63 + old.len() / SECTOR / 2;
    for boot_gone in [false, true] {
        let mut disk = Disk::new(start + new.len() / SECTOR + 100);
        disk.put(63, &old).put(start, &new).entry(0, 0, 0x0E, u32::try_from(start).unwrap(), sectors(&new));
        if boot_gone {
            disk.0[start * SECTOR + 11..start * SECTOR + 64].fill(0);
        }
        let seen = disk.scout();
        let place = (Kind::Fat16, (start * SECTOR) as u64, Way::Listed);
        assert_eq!(places(&seen), [place], "boot sector gone: {boot_gone}");
        assert_eq!(disk.codes(), ["partition/older-volume"], "boot sector gone: {boot_gone}");
        assert!(seen.volumes.iter().all(|place| place.way_faults.is_empty()));
        // One that ends before the listed one begins is a lost volume.
        let length = ((start - 63) * SECTOR) as u64 / 512;
        disk.0[63 * SECTOR + 72..63 * SECTOR + 80].copy_from_slice(&length.to_le_bytes());
        assert_eq!(disk.codes(), ["partition/entry-missing"], "boot sector gone: {boot_gone}");
    }
}

#[test]
fn a_chain_of_logical_tables_that_bites_its_tail_ends() {
    let one = volume(Kind::Fat12, 2);
    let mut disk = Disk::new(20_000);
    disk.entry(0, 0, 0x0F, 8000, 12_000);
    disk.put(8063, &one).entry(8000, 0, 0x01, 63, sectors(&one)).entry(8000, 1, 0x05, 4000, 4000);
    // The second table leads back to the first, and its own volume stands outside the disk.
    disk.entry(12_000, 0, 0x01, u32::MAX - 20, 63).entry(12_000, 1, 0x05, 0, 4000);
    let seen = disk.scout();
    assert_eq!(places(&seen), [(Kind::Fat12, 8063 * 512, Way::Listed)]);
    let medium = Memory::new(disk.0.clone());
    let entries = mbr::entries(&medium, 0).unwrap();
    assert!(mbr::listed(&medium, &entries, mbr::SECTOR).len() <= 4, "each table is read once");
}

#[test]
fn a_boot_sector_is_not_taken_for_a_table() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let bytes = volume(kind, 4);
        let length = bytes.len() as u64;
        let medium = Memory::new(bytes);
        let entries = mbr::entries(&medium, 0).expect("it ends with 55 AA");
        assert!(!mbr::is_table(&entries, length, mbr::SECTOR), "{kind:?}");
        let seen = scout(&medium, true, &Silent).unwrap();
        assert_eq!(places(&seen), [(kind, 0, Way::Bare)]);
    }
}

/// One fault of a table and what must be said of it.
type TableFault = (&'static str, fn(&mut Disk, u32), &'static str);

const TABLE_FAULTS: &[TableFault] = &[
    (
        "the entry is gone",
        |disk, _| {
            disk.entry(0, 0, 0, 0, 0);
        },
        "partition/entry-missing",
    ),
    (
        "the start is off",
        |disk, length| {
            disk.entry(0, 0, 0x06, 64, length);
        },
        "partition/wrong-start",
    ),
    (
        "the length is short",
        |disk, length| {
            disk.entry(0, 0, 0x06, 63, length / 2);
        },
        "partition/wrong-length",
    ),
    (
        "the type is another",
        |disk, length| {
            disk.entry(0, 0, 0x83, 63, length);
        },
        "partition/wrong-type",
    ),
    (
        "it is hidden",
        |disk, length| {
            disk.entry(0, 0, 0x16, 63, length);
        },
        "partition/hidden",
    ),
    (
        "it reaches past the end",
        |disk, _| {
            disk.entry(0, 0, 0x06, 63, 4_000_000);
        },
        "partition/entry-too-long",
    ),
    ("there is no table", |disk, _| disk.0[..SECTOR].fill(0), "partition/table-missing"),
    (
        "the table is noise",
        |disk, _| disk.0[..SECTOR].copy_from_slice(&Seed::new(9).bytes(SECTOR)),
        "partition/table-missing",
    ),
];

#[test]
fn each_fault_of_a_table_is_named_and_mended() {
    let card = volume(Kind::Fat16, 5);
    let other = volume(Kind::Fat12, 6);
    for (name, damage, code) in TABLE_FAULTS {
        let mut disk = Disk::new(12_000);
        disk.put(63, &card).entry(0, 0, 0x06, 63, sectors(&card));
        disk.put(9000, &other).entry(0, 1, 0x01, 9000, sectors(&other));
        assert!(disk.codes().is_empty(), "sound before: {:?}", disk.codes());
        damage(&mut disk, sectors(&card));
        let seen = disk.scout();
        let hit = seen.findings.iter().find(|finding| finding.entry.code == *code);
        let hit = hit.unwrap_or_else(|| panic!("{name}: {:?}", disk.codes()));
        assert!(hit.extents[0].end() <= 512, "{name}: {:?}", hit.extents);
        let mended = disk.mended();
        assert!(mended.codes().is_empty(), "{name}: {:?}", mended.codes());
        let both: Vec<u64> = mended.scout().volumes.iter().map(|place| place.extent.offset).collect();
        assert_eq!(both, [63 * 512, 9000 * 512], "{name}");
        assert!(mended.scout().volumes.iter().all(|place| place.way == Way::Listed), "{name}");
        assert_eq!(mended.0[SECTOR..], disk.0[SECTOR..], "{name}: only the table is written");
    }
}

/// A GPT in both its places, one volume listed at sector 64.
fn gpt_disk(sectors: usize, card: &[u8]) -> Disk {
    let mut disk = Disk::new(sectors);
    let last = sectors - 1;
    let mut list = vec![0_u8; 128 * 128];
    let mut entry = GptEntry::new_zeroed();
    entry.kind = BASIC_DATA;
    entry.unique = *b"skerry point no1";
    entry.first = 64.into();
    entry.last = (64 + card.len() as u64 / 512 - 1).into();
    list[..128].copy_from_slice(entry.as_bytes());
    disk.entry(0, 0, 0xEE, 1, u32::try_from(last).unwrap());
    for (mine, other, entries) in [(1, last, 2), (last, 1, last - 32)] {
        let mut header = GptHeader::new_zeroed();
        header.signature = *b"EFI PART";
        header.revision = 0x0001_0000.into();
        header.header_size = 92.into();
        header.my_lba = (mine as u64).into();
        header.alternate_lba = (other as u64).into();
        header.first_usable = 34.into();
        header.last_usable = (last as u64 - 33).into();
        header.disk_guid = *b"a field station.";
        header.entries_lba = (entries as u64).into();
        header.entries = 128.into();
        header.entry_bytes = 128.into();
        header.entries_crc = crc32fast::hash(&list).into();
        header.header_crc = gpt::header_crc(&header).into();
        disk.put(mine, header.as_bytes()).put(entries, &list);
    }
    disk.put(64, card);
    disk
}

type GptFault = (&'static str, fn(&mut Disk), &'static [&'static str]);

const GPT_FAULTS: &[GptFault] = &[
    ("primary header zeroed", |disk| disk.0[512..1024].fill(0), &["partition/gpt-primary"]),
    ("a bit of the primary header", |disk| disk.0[512 + 56] ^= 1, &["partition/gpt-primary"]),
    ("a bit of the primary list", |disk| disk.0[1024 + 33] ^= 4, &["partition/gpt-primary"]),
    ("primary list zeroed", |disk| disk.0[1024..1024 + 512].fill(0), &["partition/gpt-primary"]),
    (
        "backup header zeroed",
        |disk| {
            let at = disk.0.len() - 512;
            disk.0[at..].fill(0);
        },
        &["partition/gpt-backup"],
    ),
    (
        "a bit of the backup list",
        |disk| {
            let at = disk.0.len() - 33 * 512 + 40;
            disk.0[at] ^= 0x80;
        },
        &["partition/gpt-backup"],
    ),
    ("protective MBR zeroed", |disk| disk.0[..512].fill(0), &["partition/gpt-protection"]),
    ("protective MBR and primary zeroed", |disk| disk.0[..1024].fill(0), &["partition/gpt-primary"]),
];

#[test]
fn each_copy_of_a_gpt_is_mended_from_the_other() {
    let card = volume(Kind::Fat16, 7);
    let sound = gpt_disk(10_000, &card);
    assert!(sound.codes().is_empty(), "{:?}", sound.codes());
    for (name, damage, codes) in GPT_FAULTS {
        let mut disk = Disk(sound.0.clone());
        damage(&mut disk);
        for code in *codes {
            assert!(disk.codes().contains(code), "{name}: {:?}", disk.codes());
        }
        let seen = disk.scout();
        assert_eq!(places(&seen), [(Kind::Fat16, 64 * 512, Way::Listed)], "{name}");
        let mended = disk.mended();
        assert!(mended.codes().is_empty(), "{name}: {:?}", mended.codes());
        let (one, other) = gpt::copies(&Memory::new(mended.0.clone()));
        let list = |copy: Option<gpt::Copy>| copy.expect("a copy").listed().len();
        assert_eq!((list(one), list(other)), (1, 1), "{name}");
        if !name.contains("MBR") {
            assert!(mended.0 == sound.0, "{name}: every byte is back");
        }
    }
}

#[test]
fn a_gpt_whose_sizes_are_wild_is_not_believed() {
    let card = volume(Kind::Fat16, 7);
    for (entries, bytes) in [(u32::MAX, 128_u32), (128, u32::MAX), (u32::MAX, u32::MAX), (128, 0), (0, 128)] {
        let mut disk = gpt_disk(10_000, &card);
        for at in [512, disk.0.len() - 512] {
            disk.0[at + 80..at + 84].copy_from_slice(&entries.to_le_bytes());
            disk.0[at + 84..at + 88].copy_from_slice(&bytes.to_le_bytes());
            disk.0[at + 16..at + 20].fill(0);
            let sum = crc32fast::hash(&disk.0[at..at + 92]);
            disk.0[at + 16..at + 20].copy_from_slice(&sum.to_le_bytes());
        }
        // The volume is found all the same, by its structures.
        let seen = disk.scout();
        assert!(seen.volumes.iter().any(|place| place.extent.offset == 64 * 512), "{entries} {bytes}");
    }
}

/// Published places and bytes of what is no volume of ours.
const STRANGERS: &[(usize, &[u8], &str)] = &[
    (0, b"LUKS\xBA\xBE\x00\x02", "LUKS"),
    (3, b"-FVE-FS-", "BitLocker"),
    (0, b"XFSB\x00\x00\x10\x00", "XFS"),
    (0x1_0040, b"_BHRfS_M", "Btrfs"),
    (1080, b"\x53\xEF\x01\x00", "ext"),
    (32, b"NXSB", "APFS"),
    (1024, b"H+\x00\x04", "HFS+"),
    (0x8001, b"CD001\x01", "ISO 9660"),
    (4086, b"SWAPSPACE2", "swap"),
    (1024, b"\x10\x20\xF5\xF2", "F2FS"),
    (0, b"hsqs", "SquashFS"),
    (0, b"QFI\xFB\x00\x00\x00\x03", "qcow2"),
    (0, b"vhdxfile", "VHDX"),
    (0, b"PK\x03\x04", "ZIP"),
    (0, b"\x1F\x8B\x08", "gzip"),
    (0, b"\xFD7zXZ\x00", "xz"),
    (0, b"%PDF-1.7", "PDF"),
    (4096, b"\xFC\x4E\x2B\xA9\x01\x00\x00\x00\x01", "software RAID"),
    (0x1_0034, b"ReIsEr2Fs", "ReiserFS"),
    (0x8000, b"JFS1\x01\x00\x00\x00", "JFS"),
    (0x2000 + 1372, b"\x54\x19\x01\x00", "UFS"),
    (0x2_0000, b"\x0C\xB1\xBA\x00\x00\x00\x00\x00", "ZFS"),
    (512, b"PM\x00\x00\x00\x00\x00\x03", "Apple partition map"),
    (1024, b"\xE2\xE1\xF5\xE0", "EROFS"),
    (0, b"UBI#\x01", "UBI"),
    (64, b"\x7F\x10\xDA\xBE", "VDI"),
    (0, b"\x3A\xFF\x26\xED\x01\x00", "sparse flash image"),
    (0, b"MSWIM\x00\x00\x00\xD0", "WIM"),
    (257, b"ustar\x0000", "tar"),
    ((1 << 20) - 512, b"koly\x00\x00\x00\x04", "DMG"),
];

#[test]
fn strangers_are_named_with_advice_and_left_alone() {
    for (at, bytes, title) in STRANGERS {
        let mut image = vec![0_u8; 1 << 20];
        image[*at..*at + bytes.len()].copy_from_slice(bytes);
        let medium = Memory::new(image);
        let name = strangers::name(&medium).unwrap_or_else(|| panic!("{title} was not recognised"));
        assert!(name.title.contains(title), "{title}: {}", name.title);
        assert!(!name.advice().is_empty());
        let seen = scout(&medium, true, &Silent).unwrap();
        assert!(seen.volumes.is_empty(), "{title}: no volume of ours");
        assert_eq!(seen.strangers.len(), 1, "{title}");
    }
}

#[test]
fn blank_media_and_noise_are_told_apart() {
    let blank = |bytes: Vec<u8>| strangers::blank(&Memory::new(bytes));
    assert_eq!(blank(vec![0; 1 << 20]), Some(strangers::Blank::Zeroes));
    assert_eq!(blank(vec![0xFF; 1 << 20]), Some(strangers::Blank::Ones));
    assert_eq!(blank(vec![0x5A; 1 << 20]), None, "a pattern is not blank");
    let mut almost = vec![0; 1 << 20];
    almost[700_000] = 1;
    assert_eq!(blank(almost), None, "one byte is something");
    assert_eq!(blank(Vec::new()), None);
    let noise = Memory::new(Seed::new(3).bytes(1 << 20));
    assert!(strangers::entropy(&noise) > 7.9, "{}", strangers::entropy(&noise));
    assert!(strangers::entropy(&Memory::new(b"a note, and a note, and a note".repeat(300))) < 4.0);
}

#[test]
fn volumes_that_nothing_lists_are_found_wherever_they_begin() {
    for (kind, start) in [(Kind::Fat12, 63), (Kind::Fat16, 2048), (Kind::Fat32, 2048), (Kind::Fat16, 777)] {
        let card = volume(kind, 8);
        let mut disk = Disk::new(2048 + 12_000);
        disk.put(start, &card);
        let seen = disk.scout();
        let expected = [(kind, start as u64 * 512, Way::Lost)];
        assert_eq!(places(&seen), expected, "{kind:?} at sector {start}");
        assert_eq!(seen.volumes[0].bytes, card.len() as u64);
        let mended = disk.mended();
        assert_eq!(places(&mended.scout()), [(kind, start as u64 * 512, Way::Listed)]);
    }
}

#[test]
fn a_file_that_holds_an_image_is_not_a_lost_volume() {
    // An image of a card, kept as a file on a larger volume.
    let inner = volume(Kind::Fat12, 8);
    let wish = small(Kind::Fat16, 512, 4096);
    let mut filler =
        punchdog_damage::fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.file("old card.img", &inner, punchdog_damage::fat::Placing::Row).unwrap();
    let outer = filler.finish().unwrap().canvas;
    let mut disk = Disk::new(63 + outer.len() / SECTOR + 100);
    disk.put(63, &outer).entry(0, 0, 0x06, 63, sectors(&outer));
    assert_eq!(places(&disk.scout()), [(Kind::Fat16, 63 * 512, Way::Listed)]);
    assert!(disk.codes().is_empty());
}

#[test]
fn places_are_within_the_image_whatever_the_table_says() {
    let mut seed = Seed::new(11);
    for _ in 0..300 {
        let mut disk = Disk::new(600);
        for slot in 0..4 {
            let kind = *seed.pick(&[0_u8, 0x01, 0x05, 0x06, 0x07, 0x0C, 0x0F, 0x83, 0xEE]);
            let (start, length) = (seed.below(900), seed.below(1 << 32));
            let [start, length] = [start, length].map(|number| u32::try_from(number).unwrap());
            disk.entry(0, slot, kind, start, length);
        }
        let extended = usize::try_from(seed.below(599)).unwrap();
        disk.put(extended, &Seed::new(seed.number()).bytes(512)).entry(extended, 1, 0x05, 1, 9);
        let seen = disk.scout();
        let end = disk.0.len() as u64;
        for place in &seen.volumes {
            assert!(place.extent.end() <= end, "{place:?}");
        }
        assert!(Extent::new(0, Memory::new(disk.0.clone()).len()).length == end);
    }
}
