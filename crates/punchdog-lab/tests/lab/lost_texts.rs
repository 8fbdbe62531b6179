//! Texts whose entries are gone: nothing begins them but letters, and nothing ends them but the zeros behind.

use crate::mended::mended;
use punchdog_core::{exfat::fresh::Wish, family::Kind, medium::Memory, progress::Silent, registry};
use punchdog_damage::{
    content, exfat, exfat_faults,
    fat::{self, Placing},
    faults,
    patient::Patient,
    seed::Seed,
};
use std::collections::BTreeMap;

/// What tells nothing of where it ends: a text behind it would be taken for its rest.
const NOISE: &str = "Log/note 35 of the watch.txt";

/// Texts of up to three clusters, a picture between them and noise at the end: path and content, as they lie one behind the other.
fn contents(cluster: usize) -> Vec<(String, Vec<u8>)> {
    let mut seed = Seed::new(31);
    let mut all = Vec::new();
    for number in 0..36 {
        let long = cluster * (number % 3) + 40 + number * 7;
        let bytes = match number {
            10 => content::picture(&mut seed, 30, 20),
            35 => seed.bytes(long),
            // Too short to be told by their letters.
            0 | 11 | 12 | 24 => format!("seen at {number}:30, two\n").into_bytes(),
            _ => {
                let mut text = content::log(&mut seed, 12 + long / 20);
                text.truncate(long);
                text
            }
        };
        let kind = if number == 10 { "png" } else { "txt" };
        all.push((format!("Log/note {number} of the watch.{kind}"), bytes));
    }
    all
}

/// The bytes of each file after the repair, by path.
fn held(damaged: &[u8]) -> BTreeMap<String, Vec<u8>> {
    mended(damaged, |_, medium, files| {
        let files = files.iter().filter(|file| !file.folder);
        files.map(|file| (file.path.to_string(), file.content.start(medium, file.size))).collect()
    })
}

/// With each sector of the folder zeroed in turn: what the texts and the picture held is some file's, from the first byte
/// to the last; and noise, which tells nothing of its end, is in one piece.
fn all_come_back<G: Clone>(sound: &Patient<G>, made: &[(String, Vec<u8>)], case: &str) {
    let mut struck = 0;
    let mut sectors: Vec<u64> = made.iter().map(|(path, _)| sound.find(path).entry / 512 * 512).collect();
    sectors.dedup();
    for sector in sectors {
        let mut patient = sound.clone();
        patient.fill(sector, 512, 0);
        let after = held(&patient.bytes);
        for (path, bytes) in made {
            let back = after.values().any(|found| found == bytes);
            let noise = path == NOISE && after.values().any(|found| found.starts_with(bytes));
            assert!(back || noise, "{case}, sector at {sector}: {path} of {} bytes is lost", bytes.len());
            struck += usize::from(after.get(path) != Some(bytes));
        }
    }
    assert!(struck > 20, "{case}: {struck} files were struck");
}

#[test]
fn of_exfat() {
    for cluster in [512_u32, 4096] {
        let wish = exfat::small(512, cluster, 1);
        let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
        filler.folder("Log", 1 + 4096 / cluster, Placing::Row).unwrap();
        let made = contents(cluster as usize);
        for (path, bytes) in &made {
            filler.file(path, bytes, Placing::Row).unwrap();
        }
        let sound: exfat_faults::Patient = Patient::new(filler.finish().unwrap());
        all_come_back(&sound, &made, &format!("clusters of {cluster}"));
    }
}

#[test]
fn of_fat() {
    for (kind, cluster) in [(Kind::Fat16, 2048_u32), (Kind::Fat32, 512)] {
        let wish = fat::small(kind, 512, cluster);
        let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
        filler.folder("Log").unwrap();
        let made = contents(cluster as usize);
        for (path, bytes) in &made {
            filler.file(path, bytes, Placing::Row).unwrap();
        }
        let sound: faults::Patient = Patient::new(filler.finish().unwrap());
        all_come_back(&sound, &made, &format!("{kind:?}"));
    }
}

/// Thousands of clusters with a line of text each and blanks behind it read blank at a regular distance, and nothing of them is
/// missing.
#[test]
fn a_line_in_each_cluster_is_no_set_of_disks() {
    let (cluster, notes, folder) = (4096, 5200, 170);
    let wish = Wish { bytes: 32 << 20, ..exfat::small(512, cluster, 1) };
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Log", folder, Placing::Row).unwrap();
    for number in 0..notes {
        let text = format!("note number {number} of the station on the point, sea slight\n");
        filler.file(&format!("Log/note {number}.txt"), text.as_bytes(), Placing::Row).unwrap();
    }
    let mut patient: exfat_faults::Patient = Patient::new(filler.finish().unwrap());
    patient.fill(patient.find("Log/note 0.txt").entry, u64::from(folder * cluster), 0);
    let medium = Memory::new(patient.bytes);
    let seen =
        registry::recognise(&medium, &Silent).unwrap().expect("a volume").examine(&medium, &Silent).unwrap();
    let codes: Vec<&str> = seen.findings.iter().map(|finding| finding.entry.code).collect();
    assert!(codes.contains(&"exfat/lost-clusters"), "{codes:?}");
    assert!(!codes.contains(&"medium/blank-intervals"), "{codes:?}");
}
