//! Sizes of FAT entries that were struck: told by where the content ends, or by the one length that a chain allows.

use punchdog_core::{
    family::{Kind, Wanted},
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    content,
    fat::{Filler, Placing, small},
    faults,
    patient::Patient,
    seed::Seed,
};
use std::collections::BTreeMap;

fn patient(kind: Kind) -> faults::Patient {
    let mut seed = Seed::new(17);
    let wish = small(kind, 512, 512);
    let mut filler = Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for (name, wide) in [("knot.jpg", 130), ("dunlin.jpg", 190)] {
        let picture = content::photo(&mut seed, (wide, 120), "2026:05:03 06:12:11");
        filler.file(name, &picture, Placing::Pieces(2)).unwrap();
    }
    filler.file("rings.txt", &b"ring 00417, seen at the harbour\n".repeat(33), Placing::Row).unwrap();
    Patient::new(filler.finish().unwrap())
}

/// The length and the hash of a file before and after a plan with such choices, and whether the volume is sound then.
fn planned(patient: &faults::Patient, name: &str, choices: &[(&str, &str)]) -> ([(u64, String); 2], bool) {
    let medium = Memory::new(patient.bytes.clone());
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let choices: BTreeMap<String, String> =
        choices.iter().map(|(choice, option)| ((*choice).to_owned(), (*option).to_owned())).collect();
    let plan = plan::build(&medium, "card.img", whole, choices, &Silent).unwrap();
    let overlay = plan.replay(&medium).unwrap();
    let held = |on: &dyn Medium| {
        let volume = registry::recognise(on, &Silent).unwrap().expect("a volume");
        let files = volume.files(on, Wanted::default(), &Silent).unwrap();
        let file = files.into_iter().find(|file| file.path == name).expect("the file");
        (file.size, file.sha256(on))
    };
    ([held(&medium), held(&overlay)], plan.outcome.after.sound)
}

#[test]
fn a_picture_is_as_long_as_its_content_whatever_its_size_says() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let sound = patient(kind);
        let made = sound.find("knot.jpg");
        let size = u32::try_from(made.size).unwrap();
        for struck in [1, 513, size - 600, size + 600, size | 0x0041_0000, 0xD200_0000 | size] {
            let mut patient = sound.clone();
            patient.set_size("knot.jpg", struck);
            let name = format!("{kind:?}: {struck} instead of {size}");
            let right = (made.size, made.sha256.clone());
            let ([before, after], is_sound) = planned(&patient, "knot.jpg", &[]);
            assert_eq!(
                (&before, &after),
                (&right, &right),
                "{name}: also what salvage copies before the repair"
            );
            assert!(is_sound, "{name}");
            let dunlin = sound.find("dunlin.jpg");
            let ([_, other], _) = planned(&patient, "dunlin.jpg", &[]);
            assert_eq!(other, (dunlin.size, dunlin.sha256), "{name}");
            // Whoever trusts the entry gets the volume as it is.
            let (_, is_sound) = planned(&patient, "knot.jpg", &[("size-wrong", "leave")]);
            assert!(!is_sound, "{name}: what is left is said");
        }
    }
}

#[test]
fn of_a_text_the_highest_byte_of_a_size_is_told_by_its_chain() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let sound = patient(kind);
        let made = sound.find("rings.txt");
        for noise in [0x00D2_0000, 0x7B00_0000, 0x0001_0000] {
            let mut patient = sound.clone();
            patient.set_size("rings.txt", u32::try_from(made.size).unwrap() | noise);
            let ([_, after], is_sound) = planned(&patient, "rings.txt", &[]);
            assert_eq!(after, (made.size, made.sha256.clone()), "{kind:?}: {noise:08x}");
            assert!(is_sound, "{kind:?}: {noise:08x}");
        }
    }
}
