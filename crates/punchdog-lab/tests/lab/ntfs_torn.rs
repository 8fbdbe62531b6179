//! Records of two writings: the second stride is of a time when what stands before it was longer or shorter. A folder loses
//! nothing by it, a file at most what stands in that stride, and nobody is told that it is whole.

use punchdog_core::{
    family::Wanted,
    files::{inventory::Fate, record::State},
    medium::{Extent, Medium, Memory},
    mending::step::Provenance,
    ntfs::{build::resident, edit::insert, layout::kind, record::Head},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    content::note,
    fat::Placing,
    ntfs::{Filler, small},
    ntfs_faults::Patient,
    seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

/// Folders of few files, whose indexes end in the first stride, in the second or in blocks, and notes of all lengths that
/// stand in records.
fn volume() -> Patient {
    let wish = small(512, 4096, 1024);
    let mut filler = Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    let mut seed = Seed::new(5);
    for many in 1..8_usize {
        let folder = format!("Week {many}");
        filler.folder(&folder, Placing::Row).unwrap();
        for number in 0..many {
            let mut text = note(&mut seed, 12);
            text.truncate(100 * many);
            filler.file(&format!("{folder}/Note {number} from the ledge.txt"), &text, Placing::Row).unwrap();
        }
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    for many in 2..5 {
        // Something stands behind the content.
        let number = patient.number(&format!("Week {many}/Note 1 from the ledge.txt"));
        let stream = resident(kind::DATA, "origin", b"station on the point");
        patient.edit(number, |record| assert!(insert(record, &stream)));
    }
    patient
}

/// Puts another writing into the second stride: what stands there, moved by so many bytes, with the number of that writing.
fn tear(patient: &Patient, number: u32, by: isize) -> Vec<u8> {
    let place = usize::try_from(patient.record_place(number)).unwrap();
    let mut bytes = patient.bytes.clone();
    let record = patient.record(number);
    let at = |index: usize| index.checked_add_signed(-by).filter(|from| (512..1022).contains(from));
    for index in 512..1022 {
        bytes[place + index] = at(index).map_or(0, |from| record[from]);
    }
    let usn = u16::from_le_bytes([bytes[place + 510], bytes[place + 511]]) - 1;
    bytes[place + 1022..place + 1024].copy_from_slice(&usn.to_le_bytes());
    bytes
}

fn whole(medium: &dyn Medium) -> BTreeSet<(String, String)> {
    let volume = registry::recognise(medium, &Silent).unwrap().unwrap();
    let files = volume.files(medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.to_string(), file.sha256(medium))).collect()
}

#[test]
fn a_record_of_two_writings_costs_at_most_what_stands_in_one() {
    let sound = volume();
    let (mut wrong, mut tried, mut shorter) = (Vec::new(), 0, 0);
    for made in sound.live() {
        let number = sound.number(&made.path);
        if Head::read(&sound.record(number)).used <= 520 {
            continue;
        }
        for by in [-96, -32, -8, 8, 40, 104] {
            let name = format!("{} moved by {by}", made.path);
            tried += 1;
            let medium = Memory::new(tear(&sound, number, by));
            let before: BTreeSet<(String, String)> = whole(&medium);
            let subject = Subject::Volume(Extent::new(0, medium.len()));
            let plan = plan::build(&medium, "", subject, BTreeMap::new(), &Silent).unwrap();
            if !plan.outcome.after.sound {
                wrong.push(format!("{name}: left are {:?}", plan.outcome.after.findings));
            }
            let overlay = plan.replay(&medium).unwrap();
            let after = whole(&overlay);
            let others = sound.live().filter(|other| !other.folder && other.path != made.path);
            for other in others {
                if !after.contains(&(other.path.clone(), other.sha256.clone())) {
                    wrong.push(format!("{name}: {} is not back", other.path));
                }
            }
            let true_one = (made.path.clone(), made.sha256.clone());
            if made.folder || after.contains(&true_one) {
                continue;
            }
            if before.iter().any(|(path, _)| *path == made.path) {
                wrong.push(format!("{name}: called intact before"));
            }
            let mut fates = plan.outcome.changes.iter().map(|change| (change.path.to_string(), change.fate));
            let fate = fates.find(|(path, _)| *path == made.path).map(|(_, fate)| fate);
            let judged = plan
                .steps
                .iter()
                .any(|step| step.provenance == Provenance::Judged && step.paths.contains(&made.path));
            shorter += usize::from(fate == Some(Fate::Shorter));
            if !judged || matches!(fate, None | Some(Fate::Intact | Fate::Moved)) {
                wrong.push(format!("{name}: {fate:?}, judged {judged}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {tried}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(tried > 100 && shorter > 5, "{tried} tried, {shorter} shorter");
}
