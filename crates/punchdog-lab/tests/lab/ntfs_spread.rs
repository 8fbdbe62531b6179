//! Folders whose indexes lie in so many pieces that their own records do not hold them: a list names others.

use super::ntfs_folders::{filler, listed, mended_with};
use crate::reader;
use punchdog_core::{
    arith::Peek,
    medium::Memory,
    ntfs::{
        build::{Outside, Record, outside, resident},
        layout::{RECORD_FOLDER, kind, own, reference},
        list,
        record::attributes,
        runs::Mapping,
    },
    progress::Silent,
    registry,
};
use punchdog_damage::{fat::Placing, ntfs_faults::Patient};
use sha2::{Digest, Sha256};

/// The records that hold the two halves of the index of [`spread`].
const HALVES: [u32; 2] = [6100, 6101];

/// A volume with a folder whose index lies in many pieces, over two records besides its own: the list names them.
fn spread() -> Patient {
    let mut filler = filler(24 << 20, 6200);
    filler.folder("Rings", Placing::Pieces(1)).unwrap();
    for number in 0..1200 {
        let path = format!("Rings/{:05} of the ringing list, Ölmütz.csv", number * 7919 % 1200);
        filler.file(&path, path.as_bytes(), Placing::Row).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let (number, cluster) = (patient.number("Rings"), patient.geometry.cluster());
    let runs = patient.runs(number, kind::INDEX_ALLOCATION, "$I30");
    assert!(runs.len() > 40, "{} pieces", runs.len());
    let size = runs.iter().map(|run| run.length).sum::<u64>() * cluster;
    let record = patient.record(number);
    let (list, _) = attributes(&record);
    let bitmap = list.iter().find(|a| a.kind() == kind::BITMAP).unwrap().bytes.to_vec();
    let kept = list.iter().filter(|a| !matches!(a.kind(), kind::BITMAP | kind::INDEX_ALLOCATION));
    let kept: Vec<Vec<u8>> = kept.map(|a| a.bytes.to_vec()).collect();
    let base = reference(number, 1);
    let name: Vec<u8> = "$I30".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let entry = |kind: u32, first_vcn: u64, reference: u64, id: u16, named: bool| list::Entry {
        kind,
        name: if named { &name } else { &[] },
        first_vcn,
        reference,
        id,
        at: 0,
    };
    let half = runs.len() / 2;
    let vcn = runs[..half].iter().map(|run| run.length).sum();
    let mut pieces = [(0, &runs[..half]), (vcn, &runs[half..])].map(|(first_vcn, runs)| {
        outside(kind::INDEX_ALLOCATION, "$I30", Outside { first_vcn, ..Outside::plain(runs, size, cluster) })
    });
    // The first piece tells the sizes of all.
    pieces[0][40..48].copy_from_slice(&size.to_le_bytes());
    pieces[1][40..64].fill(0);
    let entries = list::bytes(&[
        entry(kind::STANDARD, 0, base, 0, false),
        entry(kind::NAME, 0, base, 2, false),
        entry(kind::INDEX_ROOT, 0, base, 3, true),
        entry(kind::INDEX_ALLOCATION, 0, reference(HALVES[0], 1), 0, true),
        entry(kind::INDEX_ALLOCATION, vcn, reference(HALVES[1], 1), 0, true),
        entry(kind::BITMAP, 0, reference(HALVES[1], 1), 1, true),
    ]);
    let mut first = Record::new(number, 1, RECORD_FOLDER).with(resident(kind::LIST, "", &entries));
    first.attributes.extend(kept);
    let mut halves = HALVES
        .map(|half| Record { base, ..Record::new(half, 1, 0) })
        .into_iter()
        .zip(pieces)
        .map(|(record, piece)| record.with(piece));
    let (one, two) = (halves.next().unwrap(), halves.next().unwrap().with(bitmap));
    for record in [first, one, two] {
        let bytes = record.bytes(patient.geometry.record()).expect("it fits");
        patient.write(patient.record_place(record.number), &bytes);
    }
    let bits = Mapping::of(&patient.runs(own::MFT, kind::BITMAP, ""), cluster);
    for half in HALVES {
        patient.tip(bits.place(u64::from(half / 8)).expect("it is there"), half % 8);
    }
    patient
}

#[test]
fn an_index_over_several_records_is_laid_anew_in_one_piece() {
    let sound = spread();
    let medium = Memory::new(sound.bytes.clone());
    let volume = registry::recognise(&medium, &Silent).unwrap().unwrap();
    let found = volume.examine(&medium, &Silent).unwrap().findings;
    assert!(found.is_empty(), "{found:?}");
    let truth = listed(&sound.bytes);
    assert_eq!(truth.len(), 1200);
    // The run list of a half; a record that holds one; both of them.
    for (name, halves, all) in [
        ("a list", &HALVES[..1], false),
        ("the other list", &HALVES[1..], false),
        ("a record", &HALVES[..1], true),
        ("the other record", &HALVES[1..], true),
        ("both records", &HALVES[..], true),
    ] {
        let mut patient = sound.clone();
        for half in halves {
            if all {
                patient.fill(patient.record_place(*half), 1024, 0x5A);
                continue;
            }
            let at = patient.attribute(*half, kind::INDEX_ALLOCATION, "$I30");
            patient.edit(*half, |record| {
                let runs = at + usize::from(record.le16(at + 32));
                record[runs..runs + 16].fill(0xFE);
            });
        }
        // What a record had that is lost may be anybody's.
        let choices = if all { &[("unowned-clusters", "free")][..] } else { &[] };
        let mended = mended_with(&patient.bytes, choices);
        assert!(mended.sound, "{name}: {:?}", mended.steps);
        assert!(mended.steps.iter().any(|step| step == "index-laid-anew"), "{name}: {:?}", mended.steps);
        assert_eq!(listed(&mended.bytes), truth, "{name}");
        assert_eq!(reader::paths(&mended.bytes).len(), 1200, "{name}");
    }
}

/// A file whose own record has none of its content: the list names two others, of which the first is lost.
#[test]
fn a_file_that_lost_its_beginning_is_empty_afterwards() {
    let mut filler = filler(24 << 20, 6200);
    let content: Vec<u8> = (0..40_u8).flat_map(|number| [number; 4096]).collect();
    filler.spread_over("tides.raw", &content, Placing::Pieces(1), 2, false).unwrap();
    filler.file("ebb.raw", &[7; 5000], Placing::Row).unwrap();
    let mut patient = Patient::new(filler.finish().unwrap());
    let number = patient.number("tides.raw");
    let bits = Mapping::of(&patient.runs(own::MFT, kind::BITMAP, ""), patient.geometry.cluster());
    patient.tip(bits.place(u64::from(HALVES[0] / 8)).expect("it is there"), HALVES[0] % 8);
    let record = patient.record(number);
    let (list, _) = attributes(&record);
    let mut rest = Record::new(number, 1, 0);
    for attribute in list.iter().filter(|a| a.kind() != kind::DATA) {
        let mut bytes = attribute.bytes.to_vec();
        if attribute.kind() == kind::LIST {
            let at = attribute.value_at() - attribute.at;
            let first = list::entries(attribute.value()).find(|entry| entry.kind == kind::DATA).unwrap().at;
            bytes[at + first + 16..at + first + 24].copy_from_slice(&reference(HALVES[0], 1).to_le_bytes());
        }
        rest.attributes.push(bytes);
    }
    patient.write(patient.record_place(number), &rest.bytes(record.len()).expect("it fits"));
    patient.fill(patient.record_place(HALVES[0]), 1024, 0x5A);
    let mended = mended_with(&patient.bytes, &[("unowned-clusters", "free")]);
    assert!(mended.sound, "{:?}", mended.steps);
    let there = listed(&mended.bytes);
    assert_eq!(there["tides.raw"], hex::encode(Sha256::digest([])), "{:?}", mended.steps);
    assert_eq!(there["ebb.raw"], patient.find("ebb.raw").sha256);
}
