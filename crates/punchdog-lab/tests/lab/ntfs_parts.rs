//! Parts of NTFS that single faults do not reach: long attribute lists, several lost parts of one file, clusters that two
//! lists could take, `$Secure` with as many descriptors as volumes in use have.

use punchdog_core::{
    arith::Peek,
    family::Wanted,
    files::record::State,
    medium::{Extent, Medium, Memory},
    ntfs::{
        build::{Order, Outside, Record, Room, index, outside, resident, view_entry},
        fresh::{SDS_STEP, Wish, hash},
        layout::{kind, own},
        record::attributes,
        runs::Run,
    },
    progress::Silent,
    registry,
    repair::{
        measure::Subject,
        plan::{self, Plan},
    },
};
use punchdog_damage::{
    fat::Placing,
    ntfs::{Filler, everyday, small},
    ntfs_faults::{Patient, WIDE},
    seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

fn codes(bytes: &[u8]) -> BTreeSet<&'static str> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    volume.examine(&medium, &Silent).unwrap().findings.iter().map(|finding| finding.entry.code).collect()
}

pub(crate) fn planned(bytes: &[u8], wanted: &[(&str, &str)]) -> Plan {
    let medium = Memory::new(bytes.to_vec());
    let wanted = wanted.iter().map(|(name, option)| ((*name).into(), (*option).into())).collect();
    plan::build(&medium, "x", Subject::Volume(Extent::new(0, medium.len())), wanted, &Silent).unwrap()
}

pub(crate) fn mended(bytes: &[u8], plan: &Plan) -> Vec<u8> {
    let medium = Memory::new(bytes.to_vec());
    let overlay = plan.replay(&medium).unwrap();
    let mended: &dyn Medium = &overlay;
    mended.bytes(0, bytes.len()).unwrap()
}

/// Hashes of the files that are called intact, by path.
fn intact(bytes: &[u8]) -> BTreeMap<String, String> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.to_string(), file.sha256(&medium))).collect()
}

/// The plan makes the volume sound, with every file as it was.
fn all_back(patient: &Patient, plan: &Plan) -> Vec<u8> {
    let bytes = mended(&patient.bytes, plan);
    assert!(plan.outcome.after.sound, "{:?}", plan.outcome.after.findings);
    let there = intact(&bytes);
    for made in patient.live().filter(|made| !made.folder) {
        assert_eq!(there.get(&made.path), Some(&made.sha256), "{}", made.path);
    }
    bytes
}

fn filler() -> Filler<Vec<u8>> {
    let wish = Wish { bytes: 12 << 20, records: 320, ..small(512, 1024, 1024) };
    Filler::new(&wish, vec![0; 12 << 20]).unwrap()
}

#[test]
fn lists_that_no_record_has_room_for_get_clusters_of_their_own() {
    let mut filler = filler();
    let mut seed = Seed::new(5);
    for name in ["ebb.raw", "flood.raw"] {
        filler.spread_over(name, &seed.bytes(1024 * 48), Placing::Pieces(1), 48, true).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    assert!(codes(&patient.bytes).is_empty());
    for name in ["ebb.raw", "flood.raw"] {
        let number = patient.number(name);
        let at = patient.attribute(number, kind::LIST, "");
        patient.edit(number, |record| {
            let (runs, end) = (at + usize::from(record.le16(at + 32)), at + record.le32(at + 4) as usize);
            record[runs..end].fill(0xFE);
        });
    }
    // Where the lists stood is nobody's now.
    let plan = planned(&patient.bytes, &[]);
    let steps: Vec<&str> = plan.steps.iter().map(|step| step.name.as_str()).collect();
    assert_eq!(steps.iter().filter(|step| **step == "attribute-list-anew").count(), 2, "{steps:?}");
    all_back(&patient, &plan);
}

#[test]
fn several_parts_of_one_file_are_each_told_by_their_gap() {
    let mut patient = Patient::new(everyday(&small(512, 1024, 1024), 3));
    let number = patient.number(WIDE);
    let list = patient.runs(number, kind::LIST, "")[0].first.unwrap();
    patient.fill(patient.geometry.place(list), 192, 0);
    for part in [1, 3] {
        patient.edit(number + part, |record| record[32..36].copy_from_slice(&0x0066_6666_u32.to_le_bytes()));
    }
    let plan = planned(&patient.bytes, &[]);
    all_back(&patient, &plan);
}

#[test]
fn clusters_that_two_lists_could_take_are_neither_s() {
    let mut filler = filler();
    let mut seed = Seed::new(6);
    for name in ["ebb.raw", "flood.raw"] {
        filler.file(name, &seed.bytes(1024 * 3), Placing::Row).unwrap();
    }
    let mut patient = Patient::new(filler.finish().unwrap());
    let [ebb, flood] = ["ebb.raw", "flood.raw"].map(|name| patient.number(name));
    let at = patient.attribute(ebb, kind::DATA, "");
    // Both lists are one, and cannot be read; what the other had is marked free.
    for cluster in patient.runs(flood, kind::DATA, "").iter().flat_map(|run| run.first.unwrap()..run.end()) {
        patient.flip_cluster(cluster);
    }
    let mut list = patient.record(ebb)[at + 64..at + 72].to_vec();
    list[0] = 0xFF;
    for number in [ebb, flood] {
        let at = patient.attribute(number, kind::DATA, "");
        patient.edit(number, |record| record[at + 64..at + 72].copy_from_slice(&list));
    }
    let plan = planned(&patient.bytes, &[]);
    assert!(plan.steps.iter().all(|step| step.name != "run-list-byte"), "{:?}", plan.steps);
    let there = intact(&mended(&patient.bytes, &plan));
    // What is told of them is that they are empty now, by their names.
    assert!(plan.choices.iter().any(|choice| choice.name == "unreadable-runs" && choice.paths.len() == 2));
    assert!(
        !there
            .values()
            .any(|hash| patient.live().any(|made| made.path == "flood.raw" && made.sha256 == *hash))
    );
}

#[test]
fn a_stream_and_the_content_of_one_file_are_both_parted_from_others() {
    let mut filler = filler();
    let mut seed = Seed::new(7);
    filler.file("ebb.raw", &seed.bytes(1024 * 6), Placing::Row).unwrap();
    let (content, beside) = (seed.bytes(1024 * 3), seed.bytes(300));
    filler.with_stream("flood.raw", &content, "origin", &beside).unwrap();
    let mut patient = Patient::new(filler.finish().unwrap());
    let (ebb, flood) = (patient.number("ebb.raw"), patient.number("flood.raw"));
    let first = patient.runs(ebb, kind::DATA, "")[0].first.unwrap();
    let cluster = patient.geometry.cluster();
    // Content and stream both name clusters of the other file, in lists of more than one byte's difference.
    patient.edit(flood, |record| {
        let (list, _) = attributes(record);
        let kept = list.iter().filter(|a| a.kind() != kind::DATA).map(|a| a.bytes.to_vec());
        let mut made = Record::new(flood, 1, 0);
        made.attributes.extend(kept);
        for (name, from) in [("", first + 1), ("origin", first + 3)] {
            let runs = [Run::new(from, 1), Run::new(from + 1, 1)];
            made = made.with(outside(kind::DATA, name, Outside::plain(&runs, 2 * cluster, cluster)));
        }
        let bytes = made.bytes(record.len()).unwrap();
        record.copy_from_slice(&bytes);
        punchdog_core::ntfs::layout::unfix(record);
    });
    let plan = planned(&patient.bytes, &[("unowned-clusters", "free")]);
    let steps: BTreeSet<&str> = plan.steps.iter().map(|step| step.name.as_str()).collect();
    assert!(plan.outcome.after.sound, "{:?}", plan.outcome.after.findings);
    assert!(steps.contains("cross-link-duplicated") && !steps.contains("cross-link-cut"), "{steps:?}");
    let there = intact(&mended(&patient.bytes, &plan));
    assert_eq!(there["ebb.raw"], patient.find("ebb.raw").sha256);
    let before = {
        let medium = Memory::new(patient.bytes.clone());
        let volume = registry::recognise(&medium, &Silent).unwrap().unwrap();
        let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
        files.iter().map(|file| (file.path.to_string(), file.sha256(&medium))).collect::<BTreeMap<_, _>>()
    };
    for path in ["flood.raw", "flood.raw:origin"] {
        assert_eq!(there[path], before[path], "{path} reads as before");
    }
}

/// Gives `$Secure` many descriptors: as large as that, its indexes have blocks.
fn with_descriptors(patient: &mut Patient, count: u32) {
    let geometry = patient.geometry;
    let record = patient.record(own::SECURE);
    let sample = patient.read(patient.own_place(own::SECURE, "$SDS", 0), 256);
    let first = sample[20..sample.le32(16) as usize].to_vec();
    let length = 20 + first.len();
    let step = length.div_ceil(16) * 16;
    let mut stream = patient.read(patient.own_place(own::SECURE, "$SDS", 0), step * 2);
    for id in 2..count {
        let mut descriptor = first.clone();
        let end = descriptor.len();
        descriptor[end - 4..].copy_from_slice(&(1000 + id).to_le_bytes());
        let mut entry = vec![0; 20];
        entry[0..4].copy_from_slice(&hash(&descriptor).to_le_bytes());
        entry[4..8].copy_from_slice(&(0x100 + id).to_le_bytes());
        entry[8..16].copy_from_slice(&(stream.len() as u64).to_le_bytes());
        entry[16..20].copy_from_slice(&u32::try_from(length).unwrap().to_le_bytes());
        entry.extend(descriptor);
        entry.resize(step, 0);
        stream.extend(entry);
    }
    let mut heads: Vec<Vec<u8>> = Vec::new();
    let mut at = 0;
    while at < stream.len() {
        heads.push(stream[at..at + 20].to_vec());
        at += (stream.le32(at + 16) as usize).div_ceil(16) * 16;
    }
    let by_id: Vec<Vec<u8>> = heads.iter().map(|head| view_entry(&head[4..8], head)).collect();
    heads.sort_by_key(|head| (head.le32(0), head.le32(4)));
    let by_hash: Vec<Vec<u8>> = heads.iter().map(|head| view_entry(&head[0..8], head)).collect();
    // The stream twice, and clusters for all of it.
    let mut content = stream.clone();
    content.resize(SDS_STEP, 0);
    content.extend(&stream);
    let mut next = geometry.clusters() / 4;
    let mut lay = |patient: &mut Patient, bytes: &[u8]| {
        let clusters = (bytes.len() as u64).div_ceil(geometry.cluster());
        (next..next + clusters).for_each(|cluster| patient.flip_cluster(cluster));
        patient.write(geometry.place(next), bytes);
        next += clusters;
        [Run::new(next - clusters, clusters)]
    };
    for run in patient.runs(own::SECURE, kind::DATA, "$SDS") {
        (run.first.unwrap()..run.end()).for_each(|cluster| patient.flip_cluster(cluster));
    }
    let cluster = geometry.cluster();
    let runs = lay(patient, &content);
    let room = Room { block: geometry.index(), cluster: usize::try_from(cluster).unwrap(), root: 64 };
    let (list, _) = attributes(&record);
    let mut made = Record::new(own::SECURE, 9, u16::from_le_bytes([record[22], record[23]]) & !1);
    made.attributes.extend(list.iter().filter(|a| a.kind() < kind::DATA).map(|a| a.bytes.to_vec()));
    made = made.with(outside(kind::DATA, "$SDS", Outside::plain(&runs, content.len() as u64, cluster)));
    let indexes = [("$SDH", 0x12, by_hash), ("$SII", 0x10, by_id)]
        .map(|(name, rule, all)| (name, index(all, Order { of: 0, rule }, room)));
    for (name, index) in &indexes {
        made = made.with(resident(kind::INDEX_ROOT, name, &index.root));
    }
    for (name, index) in &indexes {
        assert!(index.blocks.len() > 1, "a large index");
        let bytes = index.blocks.concat();
        let runs = lay(patient, &bytes);
        made = made.with(outside(
            kind::INDEX_ALLOCATION,
            name,
            Outside::plain(&runs, bytes.len() as u64, cluster),
        ));
    }
    for (name, index) in &indexes {
        made = made.with(resident(kind::BITMAP, name, &((1_u64 << index.blocks.len()) - 1).to_le_bytes()));
    }
    let bytes = made.bytes(geometry.record()).expect("the record has room");
    patient.write(patient.record_place(own::SECURE), &bytes);
}

#[test]
fn the_indexes_of_many_descriptors_are_laid_anew_in_their_blocks() {
    let mut patient = Patient::new(filler_with_files());
    with_descriptors(&mut patient, 180);
    if let Ok(folder) = std::env::var("PUNCHDOG_KEEP") {
        std::fs::write(std::path::Path::new(&folder).join("descriptors.img"), &patient.bytes).unwrap();
    }
    assert_eq!(codes(&patient.bytes), BTreeSet::new());
    // The record is lost with both indexes: the descriptors are found again, and get new ones.
    let mut lost = Patient { bytes: patient.bytes.clone(), ..Patient::new(filler_with_files()) };
    let before = descriptors(&lost);
    assert_eq!(before.len(), 180);
    let (place, size) = (lost.record_place(own::SECURE), lost.geometry.record() as u64);
    lost.fill(place, size, 0);
    let bytes = all_back(&lost, &planned(&lost.bytes, &[("unowned-clusters", "free")]));
    let lost = Patient { bytes, ..Patient::new(filler_with_files()) };
    assert_eq!(descriptors(&lost), before);
    if let Ok(folder) = std::env::var("PUNCHDOG_KEEP") {
        std::fs::write(std::path::Path::new(&folder).join("record 9.img"), &lost.bytes).unwrap();
    }
    // A block of noise, and one whose head names another number of fixups.
    let strikes: [(&str, u64, Option<u8>); 4] =
        [("$SDH", 0, None), ("$SII", 1, None), ("$SDH", 1, Some(0x80)), ("$SII", 0, Some(0x80))];
    for (name, number, count) in strikes {
        let mut patient = Patient { bytes: patient.bytes.clone(), ..Patient::new(filler_with_files()) };
        let runs = patient.runs(own::SECURE, kind::INDEX_ALLOCATION, name);
        let block = patient.geometry.index() as u64;
        let place = patient.geometry.place(runs[0].first.unwrap()) + number * block;
        match count {
            Some(count) => patient.write(place + 7, &[count]),
            None => patient.fill(place, block, 0x5A),
        }
        assert_eq!(codes(&patient.bytes), ["ntfs/security-index"].into(), "{name}");
        let plan = planned(&patient.bytes, &[]);
        let steps: Vec<&str> = plan.steps.iter().map(|step| step.name.as_str()).collect();
        assert_eq!(steps, ["security-index-laid-anew"], "{name}");
        let bytes = all_back(&patient, &plan);
        if let Ok(folder) = std::env::var("PUNCHDOG_KEEP") {
            std::fs::write(std::path::Path::new(&folder).join(format!("{}.img", &name[1..])), &bytes)
                .unwrap();
        }
    }
}

/// How far the second copy of a descriptor stands behind the first.
const COPY: u64 = 0x4_0000;

/// A name, where each copy is struck, how many descriptors then are others than before, and by which steps.
type Struck = (&'static str, &'static [(u64, u64, u64)], usize, &'static [&'static str]);

/// Descriptors that are damaged in both copies cost none of those behind them, in the stream and in the indexes.
#[test]
fn a_descriptor_that_is_lost_costs_no_other() {
    let mut sound = Patient::new(filler_with_files());
    with_descriptors(&mut sound, 180);
    let before = descriptors(&sound);
    let places: Vec<u64> = {
        let all: BTreeSet<u64> =
            before.iter().map(|one| u64::from_le_bytes(one[8..16].try_into().unwrap())).collect();
        [3, 4, 90].into_iter().map(|at| *all.iter().nth(at).unwrap()).collect()
    };
    let cases: &[Struck] = &[
        ("other places", &[(0, 30, 6), (COPY, 60, 6)], 0, &["descriptor-put-together"; 3]),
        ("heads, and other places", &[(0, 0, 40), (COPY, 0, 20)], 0, &["descriptor-put-together"; 3]),
        ("the same place", &[(0, 30, 6), (COPY, 30, 6)], 3, &["descriptor-usual"; 3]),
        ("all of them", &[(0, 0, 100), (COPY, 0, 100)], 3, &["descriptor-usual"; 3]),
    ];
    for (name, blows, others, wanted) in cases {
        let mut patient = Patient { bytes: sound.bytes.clone(), ..Patient::new(filler_with_files()) };
        for (copy, at, length) in *blows {
            for entry in &places {
                let place = patient.own_place(own::SECURE, "$SDS", copy + entry + at);
                patient.fill(place, *length, 0x55);
            }
        }
        let plan = planned(&patient.bytes, &[]);
        let steps: Vec<&str> = plan.steps.iter().map(|step| step.name.as_str()).collect();
        assert_eq!(
            steps.iter().filter(|step| step.starts_with("descriptor")).count(),
            3,
            "{name}: {steps:?}"
        );
        assert_eq!(&steps[..3], *wanted, "{name}");
        let bytes = all_back(&patient, &plan);
        let mended = Patient { bytes, ..Patient::new(filler_with_files()) };
        let after = descriptors(&mended);
        assert_eq!(after.len(), before.len(), "{name}");
        assert_eq!(after.difference(&before).count(), *others, "{name}");
        let ids = |all: &BTreeSet<Vec<u8>>| -> BTreeSet<Vec<u8>> {
            all.iter().map(|one| one[4..20].to_vec()).collect()
        };
        assert_eq!(ids(&after), ids(&before), "{name}");
    }
}

/// All descriptors with their heads.
fn descriptors(patient: &Patient) -> BTreeSet<Vec<u8>> {
    let mut all = BTreeSet::new();
    let mut at = 0;
    loop {
        let head = patient.read(patient.own_place(own::SECURE, "$SDS", at), 20);
        let length = u32::from_le_bytes(head[16..20].try_into().unwrap());
        if length == 0 {
            return all;
        }
        all.insert(patient.read(patient.own_place(own::SECURE, "$SDS", at), length as usize));
        at += u64::from(length).next_multiple_of(16);
    }
}

fn filler_with_files() -> punchdog_damage::ntfs::Filled<Vec<u8>> {
    let mut filler = filler();
    filler.folder("Logs", Placing::Row).unwrap();
    filler.file("Logs/station.log", &Seed::new(8).bytes(5000), Placing::Row).unwrap();
    filler.finish().unwrap()
}
