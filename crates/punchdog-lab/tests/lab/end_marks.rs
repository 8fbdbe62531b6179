//! False end marks in folders: what stands behind them comes back with its names, folders too, and
//! stale entries whose clusters belong to others by now do not.

use crate::mended;
use punchdog_core::{family::Kind, fat::fresh::Wish, files::record::State};
use punchdog_damage::{
    exfat, exfat_faults,
    fat::{self, Placing},
    faults,
    patient::Patient,
};
use std::collections::BTreeMap;

/// Path to hash of every whole file after the repair, and the paths of all folders.
fn mended(bytes: &[u8]) -> (BTreeMap<String, String>, Vec<String>) {
    mended::mended(bytes, |_, medium, files| {
        let folders = files.iter().filter(|file| file.folder).map(|file| file.path.to_string()).collect();
        let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
        (whole.map(|file| (file.path.to_string(), file.sha256(medium))).collect(), folders)
    })
}

fn all_at_their_paths<G>(name: &str, patient: &Patient<G>) {
    let (there, folders) = mended(&patient.bytes);
    for made in patient.live() {
        if made.folder {
            assert!(folders.contains(&made.path), "{name}: folder {} is gone; {folders:?}", made.path);
        } else {
            assert_eq!(there.get(&made.path), Some(&made.sha256), "{name}: {}", made.path);
        }
    }
}

fn wish(kind: Kind) -> Wish {
    let wish = fat::small(kind, 512, 512);
    Wish { bytes: if kind == Kind::Fat12 { 1 << 20 } else { wish.bytes }, ..wish }
}

/// Where the entry stands in which the false mark is put, and what follows it: folders alone, or files
/// as well. `above` is the folder it happens in.
fn fat(kind: Kind, above: &str, files_too: bool) -> faults::Patient {
    let wish = wish(kind);
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    let below = |name: &str| if above.is_empty() { name.to_owned() } else { format!("{above}/{name}") };
    if !above.is_empty() {
        filler.folder(above).unwrap();
    }
    filler.file(&below("FIRST.TXT"), b"before the mark", Placing::Row).unwrap();
    filler.file(&below("GONE.TXT"), b"deleted", Placing::Row).unwrap();
    for number in 0..3 {
        let folder = below(&format!("Day {number} on the western ledges"));
        filler.folder(&folder).unwrap();
        filler.folder(&format!("{folder}/Inner")).unwrap();
        for file in 0..3 {
            let content = format!("{number} {file} ").repeat(200 + file);
            filler
                .file(&format!("{folder}/Inner/count {file}.txt"), content.as_bytes(), Placing::Row)
                .unwrap();
        }
        if files_too {
            filler.file(&below(&format!("NOTE{number}.TXT")), &[65 + number; 700], Placing::Row).unwrap();
        }
    }
    filler.delete(&below("GONE.TXT"));
    let mut patient = Patient::new(filler.finish().unwrap());
    let gone = patient.made.iter().find(|made| made.deleted).unwrap().entry;
    patient.write(gone, &[0]);
    patient
}

#[test]
fn folders_behind_a_false_end_mark_keep_their_names() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        for above in ["", "Counts"] {
            for files_too in [false, true] {
                all_at_their_paths(
                    &format!("{kind:?} in {above:?}, {files_too}"),
                    &fat(kind, above, files_too),
                );
            }
        }
    }
}

#[test]
fn a_mark_in_several_folders_at_once() {
    // The outer folder and each inner one hide what follows.
    let wish = wish(Kind::Fat32);
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    let mut above = String::new();
    for level in 0..5 {
        let below = |name: &str| if above.is_empty() { name.to_owned() } else { format!("{above}/{name}") };
        let (gone, folder) = (below("GONE.TXT"), below(&format!("LEVEL{level}")));
        filler.file(&gone, b"deleted", Placing::Row).unwrap();
        filler.folder(&folder).unwrap();
        filler.file(&format!("{folder}/NOTE.TXT"), &[48 + level; 900], Placing::Row).unwrap();
        filler.delete(&gone);
        above = folder;
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let gone: Vec<u64> = patient.made.iter().filter(|made| made.deleted).map(|made| made.entry).collect();
    for entry in gone {
        patient.write(entry, &[0]);
    }
    all_at_their_paths("marks in five folders", &patient);
}

#[test]
fn stale_entries_behind_the_end_are_not_revived() {
    for kind in [Kind::Fat16, Kind::Fat32] {
        let mut patient = fat(kind, "Counts", true);
        // A real end mark now: what follows is taken off, and then stale entries are put there.
        let first = patient.find("Counts/FIRST.TXT").entry;
        let end = patient.geometry.cluster_offset(*patient.find("Counts").clusters.last().unwrap()) + 512;
        let inner = patient.find("Counts/Day 0 on the western ledges/Inner").clusters[0];
        let file = patient.find("Counts/Day 1 on the western ledges/Inner/count 1.txt").clone();
        let paths: Vec<String> = patient.live().map(|made| made.path.clone()).collect();
        let mut stale = Vec::new();
        for (name, attributes, cluster, size) in [
            (b"STALEDIR   ", 0x10_u8, inner, 0_u32),
            (b"STALE   TXT", 0x20, file.clusters[0], u32::try_from(file.size).unwrap()),
        ] {
            let mut entry = [0_u8; 32];
            entry[..11].copy_from_slice(name);
            entry[11] = attributes;
            entry[20..22].copy_from_slice(&u16::try_from(cluster >> 16).unwrap().to_le_bytes());
            entry[26..28].copy_from_slice(&u16::try_from(cluster & 0xFFFF).unwrap().to_le_bytes());
            entry[28..32].copy_from_slice(&size.to_le_bytes());
            entry[22..26].copy_from_slice(&[0x21, 0x60, 0x81, 0x5C]);
            stale.extend(entry);
        }
        // At the very end of the folder's last cluster, behind the real end mark.
        let room = end - stale.len() as u64;
        assert_eq!(patient.read(room - 32, 1)[0], 0, "there is room behind the end");
        patient.write(room, &stale);
        let gone = patient.made.iter().find(|made| made.deleted).unwrap().entry;
        patient.write(gone, &[0xE5]);
        let (there, folders) = mended(&patient.bytes);
        assert!(!there.keys().chain(&folders).any(|path| path.contains("STALE")), "{kind:?}: {there:?}");
        assert_eq!(there.len() + folders.len(), paths.len(), "{kind:?}: nothing more, nothing less, {first}");
    }
}

fn exfat(above: &str, files_too: bool) -> exfat_faults::Patient {
    let wish = exfat::small(512, 1024, 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    let below = |name: &str| if above.is_empty() { name.to_owned() } else { format!("{above}/{name}") };
    if !above.is_empty() {
        filler.folder(above, 2, Placing::Row).unwrap();
    }
    filler.file(&below("FIRST.TXT"), b"before the mark", Placing::Row).unwrap();
    filler.file(&below("GONE.TXT"), b"deleted", Placing::Row).unwrap();
    for number in 0..3 {
        let folder = below(&format!("Day {number} on the ledges"));
        filler.folder(&folder, 1, Placing::Row).unwrap();
        for file in 0..3 {
            let content = format!("{number} {file} ").repeat(400 + file);
            filler.file(&format!("{folder}/count {file}.txt"), content.as_bytes(), Placing::Row).unwrap();
        }
        if files_too {
            filler
                .file(&below(&format!("NOTE{number}.TXT")), &[65 + number; 1700], Placing::Pieces(1))
                .unwrap();
        }
    }
    filler.delete(&below("GONE.TXT"));
    let mut patient = Patient::new(filler.finish().unwrap());
    let gone = patient.made.iter().find(|made| made.deleted).unwrap().clone();
    patient.fill(gone.entry, u64::from(gone.entries) * 32, 0);
    patient
}

#[test]
fn exfat_folders_behind_a_false_end_mark_keep_their_names() {
    for above in ["", "Counts"] {
        for files_too in [false, true] {
            all_at_their_paths(&format!("exFAT in {above:?}, {files_too}"), &exfat(above, files_too));
        }
    }
}

#[test]
fn exfat_stale_sets_behind_the_end_are_not_revived() {
    let mut patient = exfat("Counts", true);
    let paths = patient.live().count();
    // The sets of a folder and of a file once more, behind the end of another folder; the owner of one of
    // them is damaged itself, so that it does not have its clusters at once.
    for (number, path) in ["Counts/Day 0 on the ledges", "Counts/NOTE1.TXT"].into_iter().enumerate() {
        let made = patient.find(path);
        let set = patient.read(made.entry, made.entries as usize * 32);
        let place = patient.geometry.cluster_place(patient.find("Counts/Day 2 on the ledges").clusters[0]);
        patient.write(place + 1024 - 256 * (number as u64 + 1), &set);
    }
    let note = patient.find("Counts/NOTE1.TXT");
    patient.set_link(note.clusters[0], 0);
    let gone = patient.made.iter().find(|made| made.deleted).unwrap().clone();
    patient.fill(gone.entry, u64::from(gone.entries) * 32, 0x05);
    let (there, folders) = mended(&patient.bytes);
    assert_eq!(there.len() + folders.len(), paths, "{there:?} {folders:?}");
    assert_eq!(there.get("Counts/NOTE1.TXT"), Some(&note.sha256));
}

#[test]
fn many_marks_in_one_folder_are_mended_in_one_step() {
    let wish = exfat::small(512, 4096, 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.folder("Log", 4, Placing::Row).unwrap();
    let note = |number: u32| format!("note {number} of the watch, wind from the west, sea slight");
    for number in 0..120 {
        filler.file(&format!("Log/{number}.txt"), note(number).as_bytes(), Placing::Row).unwrap();
    }
    let sound: exfat_faults::Patient = Patient::new(filler.finish().unwrap());
    let mut patient = sound.clone();
    // Of every other file nothing is left in the folder: each leaves a mark that hides the rest.
    let (gone, kept): (Vec<_>, Vec<_>) =
        sound.live().filter(|made| !made.folder).enumerate().partition(|(number, _)| number % 2 == 1);
    for (_, made) in &gone {
        patient.fill(made.entry, u64::from(made.entries) * 32, 0);
    }
    mended::mended(&patient.bytes, |plan, medium, files| {
        let steps = plan.steps.iter().filter(|step| step.name == "end-mark-moved").count();
        assert_eq!(steps, 1, "{:?}", plan.steps.iter().map(|step| &step.does).collect::<Vec<_>>());
        let held: BTreeMap<String, String> =
            files.iter().map(|file| (file.path.to_string(), file.sha256(medium))).collect();
        for (_, made) in &kept {
            assert_eq!(held.get(&made.path), Some(&made.sha256), "{}", made.path);
        }
        for (_, made) in &gone {
            assert!(held.values().any(|hash| *hash == made.sha256), "what {} held", made.path);
        }
    });
}
