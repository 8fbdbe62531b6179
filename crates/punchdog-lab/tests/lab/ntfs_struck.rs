//! NTFS volumes struck at random in their structures: nothing panics or hangs, what is called intact is what it was, a
//! plan makes no file worse that could be read, and where the volume is called sound afterwards, another reader finds the
//! same files in it by going down the folders' indexes.

use crate::reader;
use punchdog_core::{
    family::Wanted,
    files::record::State,
    medium::{Extent, Medium, Memory},
    ntfs::record::attributes,
    progress::Silent,
    registry,
    repair::{error::PlanError, measure::Subject, plan},
};
use punchdog_damage::{
    ntfs::{everyday, small},
    ntfs_faults::{Patient, ROW},
    seed::Seed,
};
use std::collections::{BTreeMap, BTreeSet};

/// Strikes of one run; `PUNCHDOG_STRIKES` takes another number.
const STRIKES: u64 = 160;

/// Path and hash of every file, and whether it is called intact.
fn listed(bytes: &[u8]) -> Option<Vec<(String, String, State)>> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap()?;
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let all = files.iter().filter(|file| !file.folder && !file.path.to_string().contains(':'));
    Some(all.map(|file| (file.path.to_string(), file.sha256(&medium), file.state)).collect())
}

/// A volume with some of its structures struck, not its files' clusters.
fn struck(sound: &Patient, seed: u64) -> Vec<u8> {
    let mut seed = Seed::new(seed);
    let mut bytes = sound.bytes.clone();
    let g = sound.geometry;
    let records = 27 + sound.made.len() as u64;
    let blocks = (0..bytes.len() / 512).map(|sector| sector * 512);
    let blocks: Vec<u64> =
        blocks.filter(|at| bytes[*at..].starts_with(b"INDX")).map(|at| at as u64).collect();
    let block = *seed.pick(&blocks);
    let places = [
        Extent::new(block, 1024),
        Extent::new(0, 512),
        Extent::new(g.counted(), 512),
        Extent::new(g.place(g.mft), records * g.record() as u64),
        Extent::new(g.place(g.mirror), 4 * g.record() as u64),
    ];
    for _ in 0..=seed.below(3) {
        // Mostly records and indexes.
        let place = places[[3, 3, 0, 1, 2, 4][usize::try_from(seed.below(6)).unwrap()]];
        let at = usize::try_from(place.offset + seed.below(place.length)).unwrap();
        let length =
            usize::try_from([1, 2, 4, 16, 64, 512][usize::try_from(seed.below(6)).unwrap()]).unwrap();
        let end = (at + length).min(bytes.len());
        match seed.below(3) {
            0 => bytes[at..end].fill(0),
            1 => bytes[at..end].fill(0xFF),
            _ => {
                let noise = seed.bytes(end - at);
                bytes[at..end].copy_from_slice(&noise);
            }
        }
    }
    bytes
}

#[test]
fn no_strike_makes_a_wrong_word_or_a_worse_file() {
    let strikes =
        std::env::var("PUNCHDOG_STRIKES").ok().and_then(|text| text.parse().ok()).unwrap_or(STRIKES);
    let sound = Patient::new(everyday(&small(512, 1024, 1024), 11));
    let truth: BTreeMap<String, String> = sound
        .live()
        .filter(|made| !made.folder)
        .map(|made| (made.path.clone(), made.sha256.clone()))
        .collect();
    let mut wrong = Vec::new();
    for seed in 0..strikes {
        let bytes = struck(&sound, 7_000 + seed);
        let Some(before) = listed(&bytes) else {
            wrong.push(format!("{seed}: not recognised"));
            continue;
        };
        for (path, hash, _) in before.iter().filter(|(.., state)| *state == State::Intact) {
            // Content in a record can itself be struck, and nothing tells.
            let other = truth.get(path).is_some_and(|true_hash| true_hash != hash);
            let short = sound.live().any(|made| made.path == *path && made.clusters.is_empty());
            if other && !short {
                wrong.push(format!("{seed}: {path} is called intact and is not what it was"));
            }
        }
        let medium = Memory::new(bytes.clone());
        let whole = Extent::new(0, medium.len());
        let plan = match plan::build(&medium, "x", Subject::Volume(whole), BTreeMap::new(), &Silent) {
            Ok(plan) => plan,
            Err(PlanError::NoVolume) => continue,
            Err(error) => panic!("{seed}: {error}"),
        };
        let overlay = plan.replay(&medium).unwrap();
        let mended: &dyn Medium = &overlay;
        let after = listed(&mended.bytes(0, bytes.len()).unwrap()).unwrap_or_default();
        if plan.outcome.after.sound {
            let ours: BTreeSet<&String> = after.iter().map(|(path, ..)| path).collect();
            let theirs = reader::paths(&mended.bytes(0, bytes.len()).unwrap());
            let differ: Vec<_> =
                theirs.iter().collect::<BTreeSet<_>>().symmetric_difference(&ours).copied().collect();
            if !differ.is_empty() {
                wrong.push(format!("{seed}: sound afterwards, but another reader differs on {differ:?}"));
            }
        }
        let kept: BTreeSet<&String> = after.iter().map(|(_, hash, _)| hash).collect();
        // A lost record of an empty file has the hash that the file had.
        let there =
            |path: &str, state: State| state == State::Intact || !sound.find(path).clusters.is_empty();
        for (path, hash, _) in
            before.iter().filter(|(path, _, state)| truth.contains_key(path) && there(path, *state))
        {
            if truth.get(path) == Some(hash) && !kept.contains(hash) {
                wrong.push(format!("{seed}: {path} could be read, and after the plan it cannot"));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {strikes}:\n{}", wrong.len(), wrong.join("\n"));
}

/// Of all bits that can tip over in the heads of a file's attributes, none costs a file: what hosts do not read any more
/// is told by the rest.
#[test]
fn no_bit_of_an_attributes_head_costs_a_file() {
    let sound = Patient::new(everyday(&small(512, 1024, 1024), 11));
    let number = sound.number(ROW);
    let record = sound.record(number);
    let truth: BTreeSet<String> =
        listed(&sound.bytes).unwrap().into_iter().map(|(_, hash, _)| hash).collect();
    let mut wrong = Vec::new();
    for attribute in attributes(&record).0 {
        // Type, lengths, where name and value stand; not flags and id, which nothing else says.
        for at in (0..12).chain(16..24).map(|at| attribute.at + at) {
            for bit in 0..8 {
                let mut patient = sound.clone();
                patient.edit(number, |record| record[at] ^= 1 << bit);
                let medium = Memory::new(patient.bytes.clone());
                let whole = Extent::new(0, medium.len());
                let plan =
                    plan::build(&medium, "x", Subject::Volume(whole), BTreeMap::new(), &Silent).unwrap();
                let mended = plan.replay(&medium).unwrap();
                let mended: &dyn Medium = &mended;
                let after = listed(&mended.bytes(0, patient.bytes.len()).unwrap()).unwrap();
                let has: BTreeSet<&String> = after.iter().map(|(_, hash, _)| hash).collect();
                let gone = truth.iter().filter(|hash| !has.contains(hash)).count();
                if !plan.outcome.after.sound || gone > 0 {
                    let of = attribute.kind();
                    wrong.push(format!(
                        "{of:X} byte {} bit {bit}: {gone} gone, {:?}",
                        at - attribute.at,
                        plan.outcome.after.findings
                    ));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}:\n{}", wrong.len(), wrong.join("\n"));
}
