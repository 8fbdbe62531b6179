//! Check never says sound of what a host refuses, and says "does not mount" of nothing else: every byte
//! of the boot and root structures set to the values that break comparisons. A sample by a seed;
//! `PUNCHDOG_SWEEP=1` takes all of them, another number one of so many.

use punchdog_core::{family::Kind, medium::Memory, progress::Silent, registry, report::finding::Weight};
use punchdog_lab::{
    exfat, fat, ntfs,
    patient::Patient,
    sweep::{self, Blow},
};
use std::{
    collections::BTreeMap,
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

fn sweep<G: Clone + Sync>(
    name: &str,
    sound: &Patient<G>,
    blows: &[Blow],
    strike: impl Fn(&mut Patient<G>, Blow) + Sync,
) -> Vec<String> {
    let next = AtomicUsize::new(0);
    let counts = [AtomicU64::new(0), AtomicU64::new(0), AtomicU64::new(0)];
    let found: Mutex<BTreeMap<(&str, u64), String>> = Mutex::new(BTreeMap::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some(blow) = blows.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let mut patient = sound.clone();
                    strike(&mut patient, *blow);
                    if let Some(why) = contradiction(&patient.bytes, &counts) {
                        let line = format!("{name}, {blow:?}: {why}");
                        found.lock().unwrap().entry((blow.part, blow.offset)).or_insert(line);
                    }
                }
            });
        }
    });
    // A sweep that never met one of these would prove nothing.
    for (count, what) in counts.iter().zip(["sound", "unsound but mounted", "refused"]) {
        let whole = std::env::var_os("PUNCHDOG_PART").is_none();
        assert!(!whole || count.load(Ordering::Relaxed) > 0, "{name}: never {what} in {} blows", blows.len());
    }
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

#[test]
fn fat_is_never_called_sound_where_a_host_refuses() {
    let mut failures = Vec::new();
    for (kind, sector, cluster) in [
        (Kind::Fat12, 512, 512),
        (Kind::Fat16, 512, 2048),
        (Kind::Fat32, 512, 512),
        (Kind::Fat32, 4096, 4096),
    ] {
        let patient = Patient::new(fat::everyday(&fat::small(kind, sector, cluster), 3));
        let blows = some(sweep::of_fat(&patient), 60);
        failures.extend(sweep(&format!("{kind:?} {sector}/{cluster}"), &patient, &blows, sweep::strike_fat));
    }
    assert!(failures.is_empty(), "{} bytes:\n{}", failures.len(), failures.join("\n"));
}

#[test]
fn exfat_is_never_called_sound_where_a_host_refuses() {
    let mut failures = Vec::new();
    for (sector, cluster, tables) in [(512, 4096, 1), (512, 512, 1), (512, 1024, 2)] {
        let patient = Patient::new(exfat::everyday(&exfat::small(sector, cluster, tables), 3));
        let blows = some(sweep::of_exfat(&patient), 400);
        let name = format!("exFAT {sector}/{cluster}/{tables}");
        failures.extend(sweep(&name, &patient, &blows, sweep::strike_exfat));
    }
    assert!(failures.is_empty(), "{} bytes:\n{}", failures.len(), failures.join("\n"));
}

#[test]
fn ntfs_is_never_called_sound_where_a_host_refuses() {
    let mut failures = Vec::new();
    for (sector, cluster, record) in [(512, 4096, 1024), (512, 512, 1024), (512, 1024, 4096)] {
        let mut patient = Patient::new(ntfs::everyday(&ntfs::small(sector, cluster, record), 3));
        sweep::give_log(&mut patient, false);
        let blows = some(sweep::of_ntfs(&patient), 100);
        let name = format!("NTFS {sector}/{cluster}/{record}");
        failures.extend(sweep(&name, &patient, &blows, sweep::strike_ntfs));
    }
    assert!(failures.is_empty(), "{} bytes:\n{}", failures.len(), failures.join("\n"));
}
