//! Every byte of the boot and root structures set to the values that break comparisons: check never says sound of what a
//! host refuses, and says "does not mount" of nothing else; a plan mends each, and no file that could be read is worse
//! for it. A sample by a seed; `PUNCHDOG_SWEEP=1` takes all of them, another number one of so many.

use punchdog_core::{
    family::{Kind, Wanted},
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
    report::finding::Weight,
};
use punchdog_damage::{
    exfat, exfat_faults, fat, faults, ntfs, ntfs_faults,
    patient::{Made, Patient},
    sweep::{self, Blow},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    panic::AssertUnwindSafe,
    sync::{
        Mutex,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

/// What check and the forecasts say of a struck volume that does not go together.
fn contradiction(bytes: &[u8], counts: &[AtomicU64; 3]) -> Option<String> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap()?;
    let seen = volume.examine(&medium, &Silent).unwrap();
    let hosts = volume.forecast(&medium, 512);
    let refusing: Vec<String> = hosts
        .iter()
        .filter(|host| !host.mounts_read_write)
        .map(|host| format!("{} refuses: {}", host.host, host.reason))
        .collect();
    let unreadable = hosts.iter().any(|host| !host.mounts_read_only);
    let blocks = seen.findings.iter().any(|finding| finding.weight == Weight::BlocksMount);
    let class = usize::from(!seen.sound()) + usize::from(!refusing.is_empty());
    counts[class].fetch_add(1, Ordering::Relaxed);
    if seen.sound() && !refusing.is_empty() {
        return Some(format!("check says sound, {}", refusing.join("; ")));
    }
    if blocks != unreadable && (blocks || refusing.is_empty()) {
        let codes: Vec<&str> = seen.findings.iter().map(|f| f.entry.code).collect();
        return Some(format!("check says mount is blocked: {blocks} ({codes:?}), hosts: {refusing:?}"));
    }
    None
}

/// The hashes of what can be read.
fn hashes(bytes: Vec<u8>) -> BTreeSet<String> {
    let medium = Memory::new(bytes);
    let Some(volume) = registry::recognise(&medium, &Silent).unwrap() else { return BTreeSet::new() };
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    files.iter().filter(|file| !file.folder).map(|file| file.sha256(&medium)).collect()
}

/// What a plan leaves of a struck volume that it should not.
fn unmended<G>(sound: &Patient<G>, bytes: &[u8]) -> Option<String> {
    let medium = Memory::new(bytes.to_vec());
    let whole = Extent::new(0, medium.len());
    let mut chosen = BTreeMap::new();
    let build = |chosen: &BTreeMap<String, String>| {
        plan::build(&medium, "x", Subject::Volume(whole), chosen.clone(), &Silent)
    };
    let mut plan = build(&chosen).map_err(|error| error.to_string());
    // What waits in a log is the technician's to give up.
    if plan.as_ref().is_ok_and(|plan| plan.choices.iter().any(|choice| choice.name == "log")) {
        chosen.insert("log".to_owned(), "reset".to_owned());
        plan = build(&chosen).map_err(|error| error.to_string());
    }
    let plan = match plan {
        Ok(plan) => plan,
        Err(error) => return Some(error),
    };
    let steps: Vec<&String> = plan.steps.iter().map(|step| &step.does).collect();
    // Told, and stays: who may read a file is nothing that can be computed, and of a volume that is longer than its image
    // the rest may be elsewhere.
    let stays = ["ntfs/security-id", "fat/volume-beyond-image"];
    let after = &plan.outcome.after;
    if !after.sound && after.findings.keys().any(|code| !stays.contains(&&**code)) {
        return Some(format!("not sound afterwards: {:?}; {steps:?}", plan.outcome.after.findings));
    }
    let overlay = plan.replay(&medium).unwrap();
    let mended: &dyn Medium = &overlay;
    let mended = mended.bytes(0, bytes.len()).unwrap();
    let (before, after) = (hashes(bytes.to_vec()), hashes(mended));
    let worse = |made: &&Made| before.contains(&made.sha256) && !after.contains(&made.sha256);
    let worse = sound.live().filter(|made| !made.folder).find(worse)?;
    Some(format!("{} could be read, and cannot afterwards; {steps:?}", worse.path))
}

/// What each blow is asked for.
type Ask<'a, G> = dyn Fn(&Patient<G>, &[u8]) -> Option<String> + Sync + 'a;

/// Asks for a contradiction, and that none of the outcomes is missing.
fn sweep<G: Clone + Sync>(
    name: &str,
    sound: &Patient<G>,
    blows: &[Blow],
    strike: impl Fn(&mut Patient<G>, Blow) + Sync,
) -> Vec<String> {
    let counts = [AtomicU64::new(0), AtomicU64::new(0), AtomicU64::new(0)];
    let found = each_of(name, sound, blows, strike, &|_, bytes| contradiction(bytes, &counts));
    // A sweep that never met one of these would prove nothing.
    for (count, what) in counts.iter().zip(["sound", "unsound but mounted", "refused"]) {
        let whole = std::env::var_os("PUNCHDOG_PART").is_none();
        assert!(!whole || count.load(Ordering::Relaxed) > 0, "{name}: never {what} in {} blows", blows.len());
    }
    found
}

fn each_of<G: Clone + Sync>(
    name: &str,
    sound: &Patient<G>,
    blows: &[Blow],
    strike: impl Fn(&mut Patient<G>, Blow) + Sync,
    ask: &Ask<'_, G>,
) -> Vec<String> {
    let next = AtomicUsize::new(0);
    let found: Mutex<BTreeMap<(&str, u64), String>> = Mutex::new(BTreeMap::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some(blow) = blows.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let mut patient = sound.clone();
                    strike(&mut patient, *blow);
                    let asked = std::panic::catch_unwind(AssertUnwindSafe(|| ask(sound, &patient.bytes)));
                    if let Some(why) = asked.unwrap_or_else(|_| Some("it panics".to_owned())) {
                        let line = format!("{name}, {blow:?}: {why}");
                        found.lock().unwrap().entry((blow.part, blow.offset)).or_insert(line);
                    }
                }
            });
        }
    });
    found.into_inner().unwrap().into_values().collect()
}

/// The sample that is tried; of one part only, where `PUNCHDOG_PART` names it.
fn some(blows: Vec<Blow>, otherwise: u64) -> Vec<Blow> {
    let part = std::env::var("PUNCHDOG_PART").ok();
    let wanted = blows.into_iter().filter(|blow| part.as_ref().is_none_or(|part| blow.part == part));
    sweep::sampled(wanted.collect(), each(otherwise), 1)
}

/// One of how many is tried.
fn each(otherwise: u64) -> u64 {
    std::env::var("PUNCHDOG_SWEEP").ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

/// What is asked of each family's volumes and the blows to them.
fn every_fat(otherwise: u64, ask: impl Fn(&str, &faults::Patient, &[Blow]) -> Vec<String>) {
    let mut failures = Vec::new();
    for (kind, sector, cluster) in [
        (Kind::Fat12, 512, 512),
        (Kind::Fat16, 512, 2048),
        (Kind::Fat32, 512, 512),
        (Kind::Fat32, 4096, 4096),
    ] {
        let patient = Patient::new(fat::everyday(&fat::small(kind, sector, cluster), 3));
        let blows = some(sweep::of_fat(&patient), otherwise);
        failures.extend(ask(&format!("{kind:?} {sector}/{cluster}"), &patient, &blows));
    }
    assert!(failures.is_empty(), "{} bytes:\n{}", failures.len(), failures.join("\n"));
}

fn every_exfat(otherwise: u64, ask: impl Fn(&str, &exfat_faults::Patient, &[Blow]) -> Vec<String>) {
    let mut failures = Vec::new();
    for (sector, cluster, tables) in [(512, 4096, 1), (512, 512, 1), (512, 1024, 2)] {
        let patient = Patient::new(exfat::everyday(&exfat::small(sector, cluster, tables), 3));
        let blows = some(sweep::of_exfat(&patient), otherwise);
        failures.extend(ask(&format!("exFAT {sector}/{cluster}/{tables}"), &patient, &blows));
    }
    assert!(failures.is_empty(), "{} bytes:\n{}", failures.len(), failures.join("\n"));
}

fn every_ntfs(otherwise: u64, ask: impl Fn(&str, &ntfs_faults::Patient, &[Blow]) -> Vec<String>) {
    let mut failures = Vec::new();
    for (sector, cluster, record) in [(512, 4096, 1024), (512, 512, 1024), (512, 1024, 4096)] {
        let mut patient = Patient::new(ntfs::everyday(&ntfs::small(sector, cluster, record), 3));
        sweep::give_log(&mut patient, false);
        let blows = some(sweep::of_ntfs(&patient), otherwise);
        failures.extend(ask(&format!("NTFS {sector}/{cluster}/{record}"), &patient, &blows));
    }
    assert!(failures.is_empty(), "{} bytes:\n{}", failures.len(), failures.join("\n"));
}

#[test]
fn fat_is_never_called_sound_where_a_host_refuses() {
    every_fat(60, |name, patient, blows| sweep(name, patient, blows, sweep::strike_fat));
}

#[test]
fn exfat_is_never_called_sound_where_a_host_refuses() {
    every_exfat(400, |name, patient, blows| sweep(name, patient, blows, sweep::strike_exfat));
}

#[test]
fn ntfs_is_never_called_sound_where_a_host_refuses() {
    every_ntfs(100, |name, patient, blows| sweep(name, patient, blows, sweep::strike_ntfs));
}

#[test]
fn fat_is_mended_and_no_file_is_worse() {
    every_fat(60, |name, patient, blows| each_of(name, patient, blows, sweep::strike_fat, &unmended));
}

#[test]
fn exfat_is_mended_and_no_file_is_worse() {
    every_exfat(400, |name, patient, blows| each_of(name, patient, blows, sweep::strike_exfat, &unmended));
}

#[test]
fn ntfs_is_mended_and_no_file_is_worse() {
    every_ntfs(300, |name, patient, blows| each_of(name, patient, blows, sweep::strike_ntfs, &unmended));
}

/// The driver holds the name of a record of the file system's own against bytes at their place, also where the value is said
/// to end before them (Linux 6.12, fs/ntfs3/inode.c: only the fixed part is asked for).
#[test]
fn the_name_of_an_own_record_counts_beyond_the_length_of_its_value() {
    for record in [1024, 4096] {
        let mut patient = ntfs_faults::Patient::new(ntfs::everyday(&ntfs::small(512, 1024, record), 3));
        let place = patient.record_place(1);
        let bytes = patient.read(place, 1024);
        // Its second attribute, by the length of the first.
        let first = usize::from(u16::from_le_bytes([bytes[20], bytes[21]]));
        let name = first + usize::from(u16::from_le_bytes([bytes[first + 4], bytes[first + 5]]));
        assert_eq!((bytes[name], bytes[name + 16]), (0x30, 82));
        patient.write(place + name as u64 + 16, &[80]);
        let medium = Memory::new(patient.bytes.clone());
        let volume = registry::recognise(&medium, &Silent).unwrap().unwrap();
        let hosts = volume.forecast(&medium, 512);
        assert!(hosts.iter().all(|host| host.mounts_read_write), "{record}: {hosts:?}");
        assert!(!volume.examine(&medium, &Silent).unwrap().sound(), "{record}");
    }
}
