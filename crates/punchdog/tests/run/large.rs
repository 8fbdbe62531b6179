//! Volumes that are large in one way: memory, time and what is written stay within bounds.
#![cfg(target_os = "linux")]

use super::punchdog;
use punchdog_damage::large;
use std::{
    fs,
    os::unix::fs::MetadataExt,
    path::Path,
    process::Stdio,
    time::{Duration, Instant},
};

/// Runs the program; exit status, peak memory in KiB, time.
fn measured(at: &Path, words: &[&str]) -> (i32, u64, Duration) {
    let program = punchdog(at, &[]).get_program().to_owned();
    let started = Instant::now();
    let out = fs::File::create(at.join("out.txt")).unwrap();
    let mut child = std::process::Command::new(program)
        .current_dir(at)
        .args(words)
        .stdin(Stdio::null())
        .stdout(out)
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    loop {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let now = line.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok()).unwrap_or(0);
        peak = peak.max(now);
        if let Some(done) = child.try_wait().unwrap() {
            return (done.code().expect("it ends by itself"), peak, started.elapsed());
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}

/// What a command may take on this build: debug builds are a few times slower.
fn within(at: &Path, words: &[&str], mib: u64, seconds: u64) {
    let (status, peak, took) = measured(at, words);
    assert!(status < 2, "{words:?} ended with {status}");
    assert!(peak <= mib << 10, "{words:?} took {} MiB", peak >> 10);
    assert!(took <= Duration::from_secs(seconds), "{words:?} took {took:?}");
}

#[test]
fn half_a_billion_clusters_take_no_memory() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    large::wide_exfat(&at.join("exfat.img")).unwrap();
    large::wide_fat32(&at.join("fat32.img")).unwrap();
    for image in ["exfat.img", "fat32.img"] {
        for command in ["check", "files", "explain", "plan"] {
            within(at, &[command, image], 200, 60);
        }
    }
}

#[test]
fn a_thousand_folders_in_one_another() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    large::deep_fat32(&at.join("deep.img")).unwrap();
    // Out of reach, so that the plan has something to say of every file.
    let mut bytes = fs::read(at.join("deep.img")).unwrap();
    bytes[..512].fill(0);
    fs::write(at.join("deep.img"), bytes).unwrap();
    for words in [
        &["check", "deep.img"][..],
        &["files", "deep.img"],
        &["files", "deep.img", "--json"],
        &["plan", "deep.img", "--out", "deep.plan.json"],
        &["apply", "deep.plan.json", "--image", "deep.img", "--copy", "deep.mended.img"],
        &["salvage", "deep.img", "--to", "out"],
    ] {
        within(at, words, 200, 90);
    }
}

#[test]
fn crowds_in_one_folder() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    large::equal_names_fat32(&at.join("fat32.img"), 8_000).unwrap();
    large::equal_names_exfat(&at.join("exfat.img"), 8_000).unwrap();
    large::bad_checksums(&at.join("sums.img"), 4_000).unwrap();
    large::broken_chains(&at.join("chains.img"), 20_000).unwrap();
    large::garbage_folder(&at.join("garbage.img"), 48 << 20).unwrap();
    for image in ["fat32.img", "exfat.img", "sums.img", "chains.img", "garbage.img"] {
        within(at, &["check", image], 128, 30);
        within(at, &["plan", image], 350, 60);
    }
    for image in ["fat32.img", "exfat.img"] {
        within(at, &["salvage", image, "--to", &format!("{image}.out")], 128, 30);
        let saved = fs::read_dir(at.join(format!("{image}.out")).join("Counts")).unwrap().count();
        assert_eq!(saved, 8_000, "{image}");
    }
}

#[test]
fn holes_are_not_read_and_stay_holes() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    large::hollow_disk(&at.join("empty.img"), 64 << 30, false).unwrap();
    large::hollow_disk(&at.join("disk.img"), 64 << 30, true).unwrap();
    let (status, _, took) = measured(at, &["scout", "empty.img"]);
    assert_eq!(status, 2, "it holds no volume");
    assert!(took < Duration::from_secs(5), "{took:?}");
    within(at, &["scout", "disk.img"], 64, 5);
    within(at, &["plan", "disk.img", "--out", "disk.plan.json"], 64, 10);
    within(at, &["apply", "disk.plan.json", "--image", "disk.img", "--copy", "mended.img"], 64, 10);
    let blocks = |name: &str| fs::metadata(at.join(name)).unwrap().blocks();
    assert!(blocks("mended.img") <= blocks("disk.img") + 64, "{} blocks", blocks("mended.img"));
}

/// A file of 24 MiB that shares its clusters: its copy is a range of the image in the plan.
#[test]
fn a_plan_holds_no_content() {
    use punchdog_damage::{
        fat::{Filler, Placing},
        patient::Patient,
        seed::Seed,
    };
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let wish = punchdog_core::fat::fresh::Wish {
        bytes: 64 << 20,
        ..punchdog_damage::fat::small(punchdog_core::family::Kind::Fat32, 512, 4096)
    };
    let mut filler = Filler::new(&wish, vec![0; 64 << 20]).unwrap();
    let content = Seed::new(3).bytes(24 << 20);
    filler.file("ONE.WAV", &content, Placing::Row).unwrap();
    filler.file("TWO.WAV", &[1; 4096], Placing::Row).unwrap();
    let mut patient: punchdog_damage::faults::Patient = Patient::new(filler.finish().unwrap());
    let first = patient.find("ONE.WAV").clusters[0];
    patient.set_first("TWO.WAV", first);
    let size = patient.find("TWO.WAV").entry + 28;
    patient.write(size, &(24_u32 << 20).to_le_bytes());
    fs::write(at.join("card.img"), &patient.bytes).unwrap();
    within(at, &["plan", "card.img", "--out", "plan.json"], 64, 20);
    assert!(fs::metadata(at.join("plan.json")).unwrap().len() < 1 << 20, "the plan holds no content");
    let text = fs::read_to_string(at.join("plan.json")).unwrap();
    assert!(text.contains("copy_of"), "it names a range of the image");
    within(at, &["apply", "plan.json", "--image", "card.img", "--copy", "new.img"], 64, 20);
    let mended = fs::read(at.join("new.img")).unwrap();
    let medium = punchdog_core::medium::Memory::new(mended);
    let silent = punchdog_core::progress::Silent;
    let volume = punchdog_core::registry::recognise(&medium, &silent).unwrap().unwrap();
    let files = volume.files(&medium, punchdog_core::family::Wanted::default(), &silent).unwrap();
    let expected = hex::encode(<sha2::Sha256 as sha2::Digest>::digest(&content));
    for name in ["ONE.WAV", "TWO.WAV"] {
        let file = files.iter().find(|file| file.path == name).unwrap();
        assert_eq!(file.sha256(&medium), expected, "{name}");
    }
    assert_eq!(measured(at, &["undo", "new.img"]).0, 0);
    assert_eq!(fs::read(at.join("new.img")).unwrap(), patient.bytes);
}
