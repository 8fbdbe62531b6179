//! Volumes that nothing is wrong with: where else to look, by what the bytes of the disk say.

use super::{folder_with, json, patient, run};
use punchdog_core::{
    family::Kind,
    medium::Extent,
    partition::{gpt, layout::MbrEntry},
};
use punchdog_damage::{
    exfat,
    fat::{Filler, Placing, small},
    ntfs,
    seed::Seed,
};
use serde_json::Value;
use zerocopy::{FromZeros, IntoBytes};

const MIB: usize = 1 << 20;

/// What `explain` says of the bytes, and the whole list, of the last volume.
fn hints(bytes: &[u8], more: &[&str]) -> (Vec<String>, Vec<Value>) {
    let folder = folder_with("disk.img", bytes);
    let told = json(folder.path(), &[&["explain", "disk.img"], more].concat(), 0);
    let last = told["volumes"].as_array().unwrap().last().unwrap().clone();
    let all = last["outside"].as_array().unwrap().clone();
    let of_bytes = all.iter().filter(|hint| hint["ground"] == "bytes");
    (of_bytes.map(|hint| hint["what"].as_str().unwrap().to_owned()).collect(), all)
}

/// A disk with these volumes at 1 MiB and on, and a table of entries of these types.
fn with_mbr(volumes: &[(&[u8], u8)]) -> Vec<u8> {
    with_mbr_of(volumes, 512)
}

/// The same, counted in sectors of `sector` bytes.
fn with_mbr_of(volumes: &[(&[u8], u8)], sector: usize) -> Vec<u8> {
    let mut disk = vec![0; MIB];
    for (number, (bytes, kind)) in volumes.iter().enumerate() {
        let mut entry = MbrEntry::new_zeroed();
        entry.kind = *kind;
        entry.start = u32::try_from(disk.len() / sector).unwrap().into();
        entry.length = u32::try_from(bytes.len() / sector).unwrap().into();
        disk[446 + number * 16..462 + number * 16].copy_from_slice(entry.as_bytes());
        disk.extend_from_slice(bytes);
        disk.resize(disk.len().next_multiple_of(MIB), 0);
    }
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    disk
}

/// A disk with one volume, listed by a GPT for sectors of `sector` bytes with these attributes.
fn with_gpt(volume: &[u8], sector: u64, attributes: u64, kind: Option<[u8; 16]>) -> Vec<u8> {
    let bytes = 2 * MIB + volume.len().next_multiple_of(MIB);
    let mut disk = vec![0; bytes];
    let mut entry = gpt::new_entry(Extent::new(MIB as u64, volume.len() as u64), sector, [7; 16]);
    entry.attributes = attributes.into();
    entry.kind = kind.unwrap_or(entry.kind);
    let mut list = entry.as_bytes().to_vec();
    list.resize(128 * 128, 0);
    for (at, copy) in gpt::both_copies(bytes as u64, sector, [9; 16], &list).unwrap() {
        let at = usize::try_from(at).unwrap();
        disk[at..at + copy.len()].copy_from_slice(&copy);
    }
    let mut protective = MbrEntry::new_zeroed();
    protective.kind = 0xEE;
    protective.start = 1.into();
    protective.length = u32::try_from(bytes as u64 / sector - 1).unwrap().into();
    disk[446..462].copy_from_slice(protective.as_bytes());
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    disk[MIB..MIB + volume.len()].copy_from_slice(volume);
    disk
}

/// Some pictures in folders, of which one is not for galleries; or such that nobody else can read.
fn pictures(skipped: bool, sealed: bool) -> Vec<u8> {
    let wish = small(Kind::Fat32, 512, 1024);
    let mut filler = Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Nest").unwrap();
    if skipped {
        filler.file("Nest/.nomedia", b"", Placing::Row).unwrap();
    }
    for number in 0..6 {
        let mut content = Seed::new(number).bytes(3000);
        if !sealed {
            content[..11].copy_from_slice(&[0xFF, 0xD8, 0xFF, 0xE0, 0, 16, b'J', b'F', b'I', b'F', 0]);
        }
        filler.file(&format!("Nest/IMG_{number}.JPG"), &content, Placing::Row).unwrap();
    }
    filler.finish().unwrap().canvas
}

#[test]
fn what_the_bytes_say_of_hosts_that_do_not_show_it() {
    let fat = || patient(Kind::Fat32).bytes;
    let exfat = || exfat::everyday(&exfat::small(512, 4096, 1), 4).canvas;
    let ntfs = |sector| ntfs::everyday(&ntfs::small(sector, 4096, 1024.max(sector)), 4).canvas;
    let efi = [0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B];
    let gpt = "The disk has a GPT";
    // A disk, what is said of its bytes, each once and nothing else.
    let cases: Vec<(&str, Vec<u8>, Vec<&str>)> = vec![
        ("bare", fat(), vec![]),
        ("one partition", with_mbr(&[(&fat(), 0x0C)]), vec![]),
        ("NTFS of a host's own", with_mbr(&[(&ntfs(512), 0x27)]), vec!["has the type 27"]),
        ("an EFI partition by its MBR", with_mbr(&[(&fat(), 0xEF)]), vec!["has the type EF"]),
        (
            "behind another",
            with_mbr(&[(&exfat(), 0x07), (&fat(), 0x0C)]),
            vec!["Another partition stands before"],
        ),
        ("GPT", with_gpt(&exfat(), 512, 0, None), vec![gpt]),
        ("GPT, bit 63", with_gpt(&exfat(), 512, 1 << 63, None), vec!["Bit 63", gpt]),
        ("GPT, bits 60 and 62", with_gpt(&fat(), 512, 5 << 60, None), vec!["Bit 62", "Bit 60", gpt]),
        ("GPT, bit 0", with_gpt(&fat(), 512, 1, None), vec!["Bit 0", gpt]),
        ("GPT, EFI", with_gpt(&fat(), 512, 0, Some(efi)), vec!["an EFI system partition", gpt]),
        (
            "GPT, another type",
            with_gpt(&fat(), 512, 1 << 63, Some([3; 16])),
            vec!["another file system", gpt],
        ),
        (
            "GPT and volume of another reader",
            with_gpt(&ntfs(4096), 4096, 0, None),
            vec!["counts in sectors of 4096", gpt],
        ),
        (
            "MBR and volume of another reader",
            with_mbr_of(&[(&ntfs(4096), 0x07)], 4096),
            vec!["counts in sectors of 4096"],
        ),
        ("bare volume of another reader", ntfs(4096), vec!["laid down for sectors of 4096"]),
        ("not for galleries", pictures(true, false), vec![".nomedia lies in Nest"]),
        ("sealed", pictures(false, true), vec!["keeps them encrypted"]),
        ("pictures", pictures(false, false), vec![]),
    ];
    for (name, disk, wanted) in &cases {
        let (told, _) = hints(disk, &[]);
        assert_eq!(told.len(), wanted.len(), "{name}: {told:#?}");
        for (told, wanted) in told.iter().zip(wanted) {
            assert!(told.contains(wanted), "{name}: {told}");
        }
    }
    // Through the right reader there is nothing to say of sectors; through a wrong one the table leads nowhere.
    let (told, _) = hints(&cases[13].1, &["--sector", "4096"]);
    assert!(told.is_empty(), "{told:?}");
    for number in [11, 12] {
        let folder = folder_with("disk.img", &cases[number].1);
        let told = json(folder.path(), &["explain", "disk.img", "--sector", "512"], 1);
        for host in told["volumes"][0]["hosts"].as_array().unwrap() {
            assert_eq!(host["not_found_by"], "partition/other-sectors", "{host}");
        }
    }
}

#[test]
fn the_list_is_ordered_and_says_how_to_tell() {
    let disk = with_gpt(&patient(Kind::Fat32).bytes, 512, 1 << 63, None);
    let (_, all) = hints(&disk, &[]);
    let grounds: Vec<&str> = all.iter().map(|hint| hint["ground"].as_str().unwrap()).collect();
    let bytes_first = grounds.iter().take_while(|ground| **ground == "bytes").count();
    assert!(
        bytes_first == 2 && grounds[bytes_first..].iter().all(|ground| *ground == "usual"),
        "{grounds:?}"
    );
    assert!(all.len() > 8 && all.iter().all(|hint| !hint["tell"].as_str().unwrap().is_empty()));
    // The place named is the byte that says so.
    let at = usize::try_from(all[0]["at"].as_u64().unwrap()).unwrap();
    assert_eq!(u64::from_le_bytes(disk[at..at + 8].try_into().unwrap()), 1 << 63);
    let folder = folder_with("disk.img", &disk);
    let text = run(folder.path(), &["explain", "disk.img"]);
    assert!(text.out.contains("   1  Bit 63 of its GPT attributes is set"), "{}", text.out);
    // Of a volume that something is wrong with, that comes first.
    let mut broken = patient(Kind::Fat32).bytes;
    broken[..512].fill(0);
    let folder = folder_with("disk.img", &broken);
    let told = json(folder.path(), &["explain", "disk.img"], 1);
    assert_eq!(told["volumes"][0]["outside"], serde_json::json!([]));
}
