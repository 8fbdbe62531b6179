//! Lost clusters on volumes with little room or none: what was chosen is done as far as there is room,
//! and never the opposite.

use punchdog_core::{
    family::{Kind, Wanted},
    fat::fresh::Wish,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{
    exfat, exfat_faults,
    fat::{self, Placing},
    faults,
    patient::Patient,
    seed::Seed,
};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};

const LOST: u32 = 20;

/// Contents that begin as nothing in particular and are no longer than two clusters.
fn content(number: u32, cluster: usize) -> Vec<u8> {
    let mut bytes = Seed::new(u64::from(number) + 77).bytes(cluster * 2);
    bytes[0] = 0x11;
    bytes
}

/// A volume with `free` clusters left in which twenty files have lost their entries. With `full_root`
/// there is no entry left in the root.
fn fat(kind: Kind, free: u32, full_root: bool) -> faults::Patient {
    let small = fat::small(kind, 512, 512);
    let wish = Wish { bytes: if kind == Kind::Fat12 { 1 << 20 } else { small.bytes }, ..small };
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Logs").unwrap();
    for number in 0..LOST {
        filler.file(&format!("Logs/F{number:03}.DAT"), &content(number, 512), Placing::Row).unwrap();
    }
    let mut names = 0;
    while full_root && filler.file(&format!("R{names:05}.TXT"), b"", Placing::Row).is_ok() {
        names += 1;
        if kind == Kind::Fat32 && names == 16 {
            break;
        }
    }
    // Whatever room is left, but for a few clusters.
    let all = filler.geometry.clusters();
    let mut number = 0;
    loop {
        let used: u32 = all - filler.free();
        if all - used <= free {
            break;
        }
        let clusters = (all - used - free).min(500);
        let name = format!("Logs/G{number:03}.DAT");
        if filler.file(&name, &vec![7; clusters as usize * 512], Placing::Gaps).is_err() {
            break;
        }
        number += 1;
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    for number in 0..LOST {
        let made = patient.find(&format!("Logs/F{number:03}.DAT"));
        // The short entry is overwritten with an unused one of nothing.
        let mut entry = [0_u8; 32];
        entry[0] = 0xE5;
        patient.write(made.entry, &entry);
    }
    patient
}

/// The same of exFAT; the lost files are chains of the table, so that each is known by itself.
fn exfat(free: u32, cluster: u32) -> exfat_faults::Patient {
    let wish = exfat::small(512, cluster, 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Logs", (LOST + 40) * 96 / cluster + 1, Placing::Row).unwrap();
    let each = cluster as usize;
    for number in 0..LOST {
        filler.file(&format!("Logs/F{number:03}.DAT"), &content(number, each), Placing::Pieces(1)).unwrap();
    }
    let left = filler.free() - free;
    for (number, clusters) in [left / 2, left - left / 2].into_iter().enumerate() {
        filler
            .file(&format!("Logs/G{number:03}.DAT"), &vec![7; clusters as usize * each], Placing::Gaps)
            .unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    for number in 0..LOST {
        let made = patient.find(&format!("Logs/F{number:03}.DAT"));
        patient.fill(made.entry, u64::from(made.entries) * 32, 0x05);
    }
    patient
}

fn planned(bytes: &[u8]) -> Plan {
    let medium = Memory::new(bytes.to_vec());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap()
}

/// The hashes of all files of the mended volume, and of what is still adrift in it.
fn contents(bytes: &[u8], plan: &Plan) -> (BTreeSet<String>, usize) {
    let medium = Memory::new(bytes.to_vec());
    let overlay = plan.replay(&medium).unwrap();
    let volume = registry::recognise(&overlay, &Silent).unwrap().expect("a volume");
    let files = volume.files(&overlay, Wanted::default(), &Silent).unwrap();
    let adrift =
        files.iter().filter(|file| file.note.as_deref().is_some_and(|n| n.contains("no file"))).count();
    (files.iter().filter(|file| !file.folder).map(|file| file.sha256(&overlay)).collect(), adrift)
}

fn nothing_is_given_up<G>(name: &str, patient: &Patient<G>) -> usize {
    let plan = planned(&patient.bytes);
    let freed = plan.steps.iter().find(|step| step.name.contains("freed"));
    assert!(freed.is_none(), "{name}: {:?}", freed.map(|step| &step.does));
    let (there, adrift) = contents(&patient.bytes, &plan);
    let cluster = patient.find("Logs/F000.DAT").size / 2;
    for number in 0..LOST {
        let hash = hex::encode(Sha256::digest(content(number, usize::try_from(cluster).unwrap())));
        assert!(there.contains(&hash), "{name}: lost file {number} is given up");
    }
    assert_eq!(plan.outcome.after.sound, adrift == 0, "{name}: {:?}", plan.outcome.after.findings);
    adrift
}

/// Two files of one content, where single clusters here and there are all that is free: as many as a copy needs, or fewer.
#[test]
fn a_copy_of_its_own_takes_what_is_free_here_and_there() {
    for (free, emptied) in [(6, false), (5, true)] {
        let wish = exfat::small(512, 4096, 1);
        let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
        let picture = Seed::new(5).bytes(6 * 4096 - 100);
        filler.file("first.bin", &picture, Placing::Row).unwrap();
        filler.file("second.bin", b"", Placing::Row).unwrap();
        for number in 0..2 * free {
            filler.file(&format!("small {number:02}.bin"), &[number; 4000], Placing::Row).unwrap();
        }
        let rest = filler.free();
        filler.file("rest.bin", &vec![9; rest as usize * 4096], Placing::Gaps).unwrap();
        for number in 0..free {
            filler.delete(&format!("small {:02}.bin", 2 * number));
        }
        let mut patient = Patient::new(filler.finish().unwrap());
        let first = patient.find("first.bin");
        let size = first.size.to_le_bytes();
        for (at, bytes) in [(33, &[3][..]), (40, &size), (52, &first.clusters[0].to_le_bytes()), (56, &size)]
        {
            patient.write_set("second.bin", at, bytes);
        }
        let plan = planned(&patient.bytes);
        let does: Vec<&str> = plan.steps.iter().map(|step| step.does.as_str()).collect();
        assert!(plan.outcome.after.sound, "{does:?}: {:?}", plan.outcome.after.findings);
        assert_eq!(
            does.iter().any(|does| does.contains("6 clusters for a copy of its own are not free")),
            emptied
        );
        let medium = Memory::new(patient.bytes.clone());
        let overlay = plan.replay(&medium).unwrap();
        let volume = registry::recognise(&overlay, &Silent).unwrap().expect("a volume");
        let files = volume.files(&overlay, Wanted::default(), &Silent).unwrap();
        let wanted = hex::encode(Sha256::digest(&picture));
        let of = |hash: &String| {
            files.iter().filter(|file| !file.folder && file.sha256(&overlay) == *hash).count()
        };
        assert_eq!(of(&wanted), if emptied { 1 } else { 2 }, "{does:?}");
    }
}

#[test]
fn fat_keeps_what_is_lost_as_far_as_there_is_room() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        for (free, full_root) in
            [(40, false), (2, false), (1, false), (0, false), (40, true), (1, true), (0, true)]
        {
            let patient = fat(kind, free, full_root);
            let name = format!("{kind:?}, {free} free, root full: {full_root}");
            // The folder that lost the entries has room for them.
            assert_eq!(nothing_is_given_up(&name, &patient), 0, "{name}");
        }
    }
}

#[test]
fn exfat_keeps_what_is_lost_as_far_as_there_is_room() {
    for cluster in [512, 4096] {
        for free in [60, 6, 2, 1, 0] {
            let name = format!("exFAT {cluster}, {free} free");
            assert_eq!(nothing_is_given_up(&name, &exfat(free, cluster)), 0, "{name}");
        }
    }
}

#[test]
fn without_any_room_what_is_lost_stays_in_use() {
    // No free cluster, and no folder with an unused entry.
    let mut patient = exfat(0, 512);
    for number in 0..LOST {
        let made = patient.find(&format!("Logs/F{number:03}.DAT"));
        // A benign entry of a vendor takes each place.
        for entry in 0..u64::from(made.entries) {
            patient.fill(made.entry + entry * 32, 32, 0);
            patient.write(made.entry + entry * 32, &[0xA0]);
        }
    }
    let last = patient.find("Logs").clusters.last().copied().unwrap();
    let end = patient.geometry.cluster_place(last) + 512;
    let root = patient.geometry.cluster_place(patient.geometry.root_cluster) + 512;
    for (end, first) in [(end, patient.find("Logs/G001.DAT").entry), (root, patient.find("Logs").entry)] {
        let mut at = first + 96;
        while at < end {
            patient.fill(at, 32, 0);
            patient.write(at, &[0xA0]);
            at += 32;
        }
    }
    assert!(nothing_is_given_up("exFAT without room", &patient) > 0);
}

/// A choice to give them up is carried out as well, whatever the room.
#[test]
fn what_shall_be_freed_is_freed() {
    for bytes in [exfat(0, 512).bytes, fat(Kind::Fat16, 0, true).bytes] {
        let medium = Memory::new(bytes.clone());
        let whole = Subject::Volume(Extent::new(0, medium.len()));
        let wanted = BTreeMap::from([("lost-chains".to_owned(), "free".to_owned())]);
        let plan = plan::build(&medium, "patient.img", whole, wanted, &Silent).unwrap();
        assert!(plan.outcome.after.sound, "{:?}", plan.outcome.after.findings);
        assert_eq!(contents(&bytes, &plan).1, 0);
    }
}
