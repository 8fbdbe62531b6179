//! Volumes that were used since they were laid over another one: what is left of that is told, and told from what was deleted.

use punchdog_core::{
    family::{Kind, Wanted},
    medium::{Extent, Memory},
    progress::Silent,
    registry,
};
use punchdog_damage::cards::{Card, Fill, Listing, Shape};

const BYTES: u64 = 40 << 20;

fn card(kind: Kind, cluster: u32, fill: Fill) -> Vec<u8> {
    Card::new(BYTES, Listing::Bare, &[Shape { kind, start: 0, bytes: BYTES, cluster, fill }]).bytes
}

/// What was written last, its own structures and the clusters of its files, and elsewhere what stood there before.
fn over(last: &[u8], before: &[u8]) -> Vec<u8> {
    let medium = Memory::new(last.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let wanted = Wanted { deleted: false, system: true };
    let files = volume.files(&medium, wanted, &Silent).unwrap();
    let mut own: Vec<bool> = last.chunks(512).map(|sector| sector.iter().any(|byte| *byte != 0)).collect();
    // With the bitmap of exFAT, which is no file.
    let front = Extent::new(0, volume.data_at() + (64 << 10));
    for place in files.iter().flat_map(|file| file.content.extents()).chain([front]) {
        let cluster = 4096;
        let end = place.end().next_multiple_of(cluster).min(BYTES);
        own[usize::try_from(place.offset / 512).unwrap()..usize::try_from(end / 512).unwrap()].fill(true);
    }
    let sectors = last.chunks(512).zip(before.chunks(512)).zip(own);
    sectors.flat_map(|((last, before), own)| if own { last } else { before }.to_vec()).collect()
}

/// Whether the whole examination tells of an older volume, and whether a few reads do.
fn told(bytes: Vec<u8>) -> (bool, bool) {
    let medium = Memory::new(bytes);
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let older = volume.survey(&medium, &Silent).unwrap().older(&medium);
    let code = older.as_ref().map(|older| older.entry.code);
    assert!(code.is_none_or(|code| code.ends_with("/older-volume-in-free-space")), "{code:?}");
    (older.is_some(), volume.lies_over_another(&medium))
}

#[test]
fn what_a_volume_in_use_cannot_have_made_is_of_an_older_one() {
    let olders = [(Kind::Fat16, 2048), (Kind::Fat32, 512), (Kind::Exfat, 32768), (Kind::Ntfs, 2048)]
        .map(|(kind, cluster)| (kind, cluster, card(kind, cluster, Fill::Full)));
    for (kind, cluster) in [(Kind::Fat16, 4096), (Kind::Fat32, 512), (Kind::Exfat, 4096), (Kind::Ntfs, 4096)]
    {
        let live = card(kind, cluster, Fill::Some);
        assert_eq!(told(live.clone()), (false, false), "{kind:?} alone");
        for (before, other, older) in &olders {
            let is_fat = |kind| matches!(kind, Kind::Fat16 | Kind::Fat32);
            // Of one family folders say where they stand in FAT only.
            let expected = if is_fat(kind) && is_fat(*before) { cluster != *other } else { kind != *before };
            let image = over(&live, older);
            let medium = Memory::new(image.clone());
            let seen = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
            assert_eq!(seen.kind(), kind);
            let seen = seen.examine(&medium, &Silent).unwrap();
            assert!(seen.sound(), "{kind:?} over {before:?}: {:?}", seen.findings);
            assert_eq!(told(image), (expected, expected), "{kind:?} over {before:?}");
        }
    }
}
