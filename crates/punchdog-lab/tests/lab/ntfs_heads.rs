//! NTFS records whose beginnings were written over, and records that a write for another place went into.

use punchdog_core::{
    arith::Peek,
    family::Wanted,
    medium::{Extent, Medium, Memory},
    ntfs::layout::{kind, own},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    content,
    fat::Placing,
    ntfs::{self, everyday, small},
    ntfs_faults::{FOLDER, Patient, README, ROW},
    seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

type Listed = BTreeMap<String, String>;

/// Path and hash of every file.
fn listed(medium: &dyn Medium) -> Listed {
    let volume = registry::recognise(medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(medium, Wanted::default(), &Silent).unwrap();
    let all = files.iter().map(|file| {
        (file.path.to_string(), if file.folder { "folder".to_owned() } else { file.sha256(medium) })
    });
    all.collect()
}

/// What is listed before and after the plan, whether the volume is sound then, and the steps.
fn mended(bytes: &[u8]) -> (Listed, Listed, bool, Vec<String>) {
    let medium = Memory::new(bytes.to_vec());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let plan = plan::build(&medium, "patient.img", whole, BTreeMap::new(), &Silent).unwrap();
    let steps: Vec<String> = plan.steps.iter().map(|step| step.does.clone()).collect();
    let overlay = plan.replay(&medium).unwrap();
    (listed(&medium), listed(&overlay), plan.outcome.after.sound, steps)
}

/// How the bytes of a beginning are written over.
const FILLINGS: [fn(&mut Seed, usize) -> Vec<u8>; 3] =
    [|_, long| vec![0; long], |_, long| vec![0xFF; long], |seed, long| seed.bytes(long)];

#[test]
fn whatever_of_the_head_is_lost_the_file_stays() {
    for (record, every) in [(1024, 1), (4096, 3)] {
        let sound = Patient::new(everyday(&small(512, 1024, record), 11));
        let truth = listed(&Memory::new(sound.bytes.clone()));
        let mut seed = Seed::new(5);
        // Up to the name, which says what the file is: signature, fixups, sequence, flags, sizes, standard information.
        let lengths = |path: &str| -> Vec<usize> {
            let number = sound.number(path);
            let standard = sound.attribute(number, kind::STANDARD, "");
            let name = sound.attribute(number, kind::NAME, "");
            (2..standard).step_by(2).chain([standard + 2, standard + 20, name]).collect()
        };
        let struck = [ROW, README, FOLDER].map(|path| (path, lengths(path)));
        let rounds = struck.iter().map(|(_, lengths)| lengths.len()).max().unwrap();
        for round in (0..rounds).step_by(every) {
            for filling in FILLINGS {
                let mut patient = sound.clone();
                let mut case = vec![format!("records of {record}")];
                // All three at once, each another part of its lengths on.
                for (shift, (path, lengths)) in struck.iter().enumerate() {
                    let long = lengths[(round + shift * lengths.len() / struck.len()) % lengths.len()];
                    let bytes = filling(&mut seed, long);
                    patient.write(sound.record_place(sound.number(path)), &bytes);
                    case.push(format!("{path}: {long} bytes of {:02X?}", &bytes[..2]));
                }
                let case = case.join(", ");
                let (before, after, is_sound, steps) = mended(&patient.bytes);
                let wrong = |found: &Listed| {
                    truth.iter().filter(|(path, hash)| found.get(*path) != Some(*hash)).count()
                };
                assert_eq!(wrong(&before), 0, "{case}: before the repair");
                assert_eq!((wrong(&after), truth.len()), (0, after.len()), "{case}: {steps:?}");
                assert!(is_sound, "{case}: {steps:?}");
            }
        }
    }
}

#[test]
fn all_heads_at_once_cost_no_file() {
    let sound = Patient::new(everyday(&small(512, 1024, 1024), 11));
    let truth = listed(&Memory::new(sound.bytes.clone()));
    let mut patient = sound.clone();
    let numbers: BTreeSet<u32> = sound.live().map(|made| sound.number(&made.path)).collect();
    for number in &numbers {
        patient.write(sound.record_place(*number), &[0; 48]);
    }
    assert!(numbers.len() > 40, "{numbers:?}");
    let (before, after, is_sound, steps) = mended(&patient.bytes);
    // A part of a file in another record says of it what its head did: such a file is told apart by that.
    let wrong = |found: &Listed| truth.iter().filter(|(path, hash)| found.get(*path) != Some(*hash)).count();
    assert_eq!((wrong(&before), wrong(&after), is_sound), (0, 0, true), "{steps:?}");
    assert_eq!(after.len(), truth.len());
}

/// A volume with pictures in a row and in pieces, and texts that stand in their records.
fn pictures(cluster: u32) -> Patient {
    let wish = small(512, cluster, 1024);
    let mut filler = ntfs::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    let mut seed = Seed::new(77);
    for (name, wide, placing) in [
        ("gull.jpg", 400, Placing::Row),
        ("tern.jpg", 410, Placing::Pieces(2)),
        ("skua.jpg", 420, Placing::Pieces(3)),
        ("ruff.jpg", 430, Placing::Gaps),
    ] {
        let picture = content::photo(&mut seed, (wide, 300), "2026:05:03 06:12:11");
        filler.file(name, &picture, placing).unwrap();
    }
    for (name, text) in [("rings.txt", "ring 00417"), ("tides.txt", "low 06:12, high 12:40")] {
        filler.file(name, text.as_bytes(), Placing::Row).unwrap();
    }
    Patient::new(filler.finish().unwrap())
}

const PICTURES: [&str; 4] = ["gull.jpg", "tern.jpg", "skua.jpg", "ruff.jpg"];

#[test]
fn a_picture_whose_record_holds_a_copy_of_another_comes_back() {
    for cluster in [1024, 4096] {
        let sound = pictures(cluster);
        let truth = listed(&Memory::new(sound.bytes.clone()));
        let all = ["gull.jpg", "tern.jpg", "skua.jpg", "ruff.jpg", "rings.txt", "tides.txt"];
        for (struck, of) in all.into_iter().flat_map(|one| all.map(|other| (one, other))) {
            if struck == of {
                continue;
            }
            // Records of hosts that do not number them, or of a copy that got the number of its place.
            for numbered in [true, false] {
                let mut patient = sound.clone();
                let (to, from) = (sound.number(struck), sound.number(of));
                let copy = sound.read(sound.record_place(from), 1024);
                patient.write(sound.record_place(to), &copy);
                if !numbered {
                    patient.edit(to, |record| record[44..48].copy_from_slice(&to.to_le_bytes()));
                }
                let (_, after, is_sound, steps) = mended(&patient.bytes);
                let case = format!("{cluster}: {struck} holds {of}, numbered: {numbered}: {steps:?}");
                assert!(is_sound, "{case}");
                let mut wanted = truth.clone();
                if !PICTURES.contains(&struck) {
                    wanted.remove(struck);
                }
                assert_eq!(after, wanted, "{case}");
            }
        }
    }
}

/// What is lost of the picture in a record of this number, and how.
type Loss = (&'static str, fn(&mut Patient, u32));

/// All of the record, its run list, or one byte of that.
const LOST: [Loss; 3] = [
    ("the record", |patient, number| {
        let noise = Seed::new(6 + u64::from(number)).bytes(1024);
        patient.write(patient.record_place(number), &noise);
    }),
    ("the run list", |patient, number| {
        let at = patient.attribute(number, kind::DATA, "");
        patient.edit(number, |record| {
            let (runs, end) = (at + usize::from(record.le16(at + 32)), at + record.le32(at + 4) as usize);
            record[runs..end].fill(0xFE);
        });
    }),
    ("one byte of the run list", |patient, number| {
        let at = patient.attribute(number, kind::DATA, "");
        patient.edit(number, |record| {
            let runs = at + usize::from(record.le16(at + 32));
            record[runs + 1] ^= 0x40;
        });
    }),
];

#[test]
fn pictures_come_back_without_their_records_or_run_lists() {
    for cluster in [1024, 4096] {
        let sound = pictures(cluster);
        let truth = listed(&Memory::new(sound.bytes.clone()));
        for (name, (what, lose)) in PICTURES.into_iter().flat_map(|name| LOST.map(|lost| (name, lost))) {
            let mut patient = sound.clone();
            lose(&mut patient, sound.number(name));
            let (before, after, is_sound, steps) = mended(&patient.bytes);
            assert_eq!((&after, is_sound), (&truth, true), "{cluster} {name}, {what}: {steps:?}");
            assert_eq!(before, truth, "{cluster} {name}, {what}: what salvage copies before the repair");
        }
    }
}

#[test]
fn what_is_in_a_record_for_later_versions_is_no_file() {
    let sound = Patient::new(everyday(&small(512, 1024, 1024), 11));
    let truth = listed(&Memory::new(sound.bytes.clone()));
    let copy = sound.read(sound.record_place(sound.number(ROW)), 1024);
    for number in own::RESERVED {
        // A write for another record went here, or came only in part.
        for long in [1024, 512, 232, 60] {
            let mut patient = sound.clone();
            patient.write(sound.record_place(number), &copy[..long]);
            let (before, after, is_sound, steps) = mended(&patient.bytes);
            assert_eq!((&before, &after), (&truth, &truth), "{number}, {long} bytes: {steps:?}");
            assert!(is_sound, "{number}, {long} bytes: {steps:?}");
            let places: BTreeSet<&String> = steps.iter().collect();
            assert!(places.len() == steps.len() && !steps.is_empty(), "{number}, {long} bytes: {steps:?}");
        }
    }
}
