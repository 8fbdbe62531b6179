//! Whole media before the kernel: which partitions it makes of a disk, and what it finds in them.
//!
//! Of each situation the damaged medium and the mended one are disks of a guest. Of the damaged one the
//! kernel must make a partition device where we say that a host finds the volume, and none where we say that
//! it does not; of the mended one every volume must stand where it truly begins, mount for writing without a
//! log line, and hold every file whose content was untouched.

use super::{guest, setup::Machine};
use punchdog_core::{
    family::Kind,
    medium::{Extent, Medium, Memory},
    partition::{self, Place, Way},
    progress::Silent,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    canvas::write_with_holes,
    cards::{
        Card,
        situations::{self, Ends, Situation},
    },
    seed::Seed,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write,
    path::PathBuf,
    time::Instant,
};

/// Situations of one boot: each takes two disks, and a guest has some two dozen.
const EACH: usize = 9;

/// Says which partitions a disk has, and mounts the one that begins at a sector, or the disk.
const SCRIPT: &str = r#"
parts() { for p in /sys/block/$1/$1*; do [ -e $p/start ] && echo "@part $2 $(cat $p/start)"; done; }
at() { dev=; for p in /sys/block/$1/$1*; do [ "$(cat $p/start 2>/dev/null)" = $2 ] && dev=/dev/$(basename $p); done; }
volume() { # number driver
  echo "@case $1"; driver=$2
  if [ -z "$dev" ]; then echo "@refused after"; return; fi
  try after rw
  if [ $mounted = 1 ]; then list; leave; log end; fi
}
"#;

/// A situation as the kernel gets it.
struct Case<'s> {
    row: &'s Situation,
    card: Card,
    /// The volumes of the damaged medium, and of the mended one where it was mended.
    before: Vec<Place>,
    after: Vec<Place>,
    failure: Option<String>,
}

/// What the kernel did with all of them.
#[derive(Default)]
struct Tally {
    media: usize,
    devices: usize,
    volumes: usize,
    files: usize,
    disagreements: Vec<String>,
}

/// Tries `count` situations, which ones by the seed; all of them where there are no more.
pub(super) fn run(machine: &Machine, count: usize, seed: u64, only: Option<&str>) -> anyhow::Result<bool> {
    let started = Instant::now();
    let mut rows: Vec<Situation> = situations::all();
    rows.retain(|row| only.is_none_or(|text| row.name.contains(text)));
    let mut pick = Seed::new(seed);
    while rows.len() > count {
        let one = pick.below(rows.len() as u64);
        rows.swap_remove(usize::try_from(one)?);
    }
    let mut tally = Tally::default();
    let parts: Vec<&[Situation]> = rows.chunks(EACH).collect();
    for answer in guest::all(&parts, |part| look(machine, part))? {
        tally.media += answer.media;
        tally.devices += answer.devices;
        tally.volumes += answer.volumes;
        tally.files += answer.files;
        tally.disagreements.extend(answer.disagreements);
    }
    for line in &tally.disagreements {
        println!("  disagrees  {line}");
    }
    println!("  whole media                              {:>7}", tally.media);
    println!("  partitions there or not, as forecast     {:>7}", tally.devices);
    println!("  mended volumes in their true places      {:>7}", tally.volumes);
    println!("  files with the right hash on them        {:>7}", tally.files);
    println!("  disagreements                            {:>7}", tally.disagreements.len());
    println!("  seconds                                  {:>7}", started.elapsed().as_secs());
    Ok(tally.disagreements.is_empty())
}

/// One boot of the guest.
fn look(machine: &Machine, rows: &[Situation]) -> anyhow::Result<Tally> {
    let folder = tempfile::tempdir()?;
    let (mut cases, mut disks): (Vec<Case<'_>>, Vec<PathBuf>) = (Vec::new(), Vec::new());
    let mut script = SCRIPT.to_owned();
    let mut volumes = 0;
    for (number, row) in rows.iter().enumerate() {
        let card = (row.make)();
        let damaged = Memory::new(card.bytes.clone());
        let before = partition::scout(&damaged, true, &Silent)?.volumes;
        let (after, failure) = match mended(&damaged, &before, row) {
            Ok(bytes) => (bytes, None),
            Err(why) => (card.bytes.clone(), Some(why)),
        };
        for (bytes, what) in [(&card.bytes, "before"), (&after, "after")] {
            let path = folder.path().join(format!("{number}.{what}.img"));
            write_with_holes(&path, bytes)?;
            disks.push(path);
        }
        let after = if row.ends == Ends::Remains || failure.is_some() {
            Vec::new()
        } else {
            partition::scout(&Memory::new(after), true, &Silent)?.volumes
        };
        let _ = writeln!(script, "parts {} {number}", disk(number * 2));
        for place in &after {
            let disk = disk(number * 2 + 1);
            let _ = match place.way {
                Way::Bare => writeln!(script, "dev=/dev/{disk}"),
                _ => writeln!(script, "at {disk} {}", place.extent.offset / 512),
            };
            let driver = match place.what {
                Kind::Exfat => "exfat",
                Kind::Ntfs => "ntfs3",
                Kind::Fat12 | Kind::Fat16 | Kind::Fat32 => "vfat",
            };
            let _ = writeln!(script, "volume {volumes} {driver}");
            volumes += 1;
        }
        cases.push(Case { row, card, before, after, failure });
    }
    let drives: Vec<guest::Drive<'_>> = disks.iter().map(|disk| (disk.as_path(), 512)).collect();
    let (text, answers) = guest::answers(machine, &script, &drives, volumes)?;
    anyhow::ensure!(answers.len() == volumes, "the guest answered {} of {volumes}: {text}", answers.len());
    let mut tally = Tally::default();
    let mut answers = answers.into_iter();
    for (number, case) in cases.iter().enumerate() {
        let own: Vec<guest::Answer> = answers.by_ref().take(case.after.len()).collect();
        compare(case, &partitions(&text, number), &own, &mut tally);
    }
    Ok(tally)
}

/// The guest's name for a disk.
fn disk(number: usize) -> String {
    format!("vd{}", char::from(b'a' + u8::try_from(number).unwrap_or(25)))
}

/// Where the partitions of disk `number` begin, in bytes.
fn partitions(text: &str, number: usize) -> BTreeSet<u64> {
    let own = text.lines().filter_map(|line| line.strip_prefix(&format!("@part {number} ")));
    own.filter_map(|sector| sector.trim().parse::<u64>().ok()).map(|sector| sector * 512).collect()
}

/// The medium as the plan leaves it.
fn mended(medium: &Memory, before: &[Place], row: &Situation) -> Result<Vec<u8>, String> {
    let bare = before.iter().any(|place| place.way == Way::Bare);
    let subject = if bare { Subject::Volume(Extent::new(0, medium.len())) } else { Subject::Medium };
    let plan = plan::build(medium, "", subject, BTreeMap::new(), &Silent).map_err(|e| e.to_string())?;
    if plan.outcome.after.sound != (row.ends != Ends::Remains) {
        return Err(format!("after the plan: {:?}", plan.outcome.after.findings));
    }
    let overlay = plan.replay(medium).map_err(|e| e.to_string())?;
    let all: &dyn Medium = &overlay;
    all.bytes(0, usize::try_from(medium.len()).unwrap_or(0)).map_err(|e| e.to_string())
}

fn compare(case: &Case<'_>, there: &BTreeSet<u64>, answers: &[guest::Answer], tally: &mut Tally) {
    tally.media += 1;
    let name = &case.row.name;
    let mut wrong = |text: String| tally.disagreements.push(format!("{name}: {text}"));
    if let Some(why) = &case.failure {
        wrong(why.clone());
    }
    for place in case.before.iter().filter(|place| place.way != Way::Bare) {
        let found = place.not_found_by("linux").is_none();
        if found == there.contains(&place.extent.offset) {
            tally.devices += 1;
        } else {
            wrong(format!("volume at {}: forecast found {found}, partitions {there:?}", place.extent.offset));
        }
    }
    let mut hashes: BTreeSet<&String> = BTreeSet::new();
    for (place, answer) in case.after.iter().zip(answers) {
        if answer.after.writable != Some(true) || !answer.after.log.is_empty() || answer.unread > 0 {
            wrong(format!(
                "mended volume at {}: {:?}, {} unread",
                place.extent.offset, answer.after, answer.unread
            ));
        } else {
            tally.volumes += 1;
        }
        hashes.extend(answer.files.values());
    }
    if case.after.is_empty() {
        return;
    }
    for volume in &case.card.volumes {
        let costs = (case.row.costs)(&case.card, volume);
        for made in case.card.untouched(volume).filter(|made| !costs.contains(&made.path)) {
            if hashes.contains(&made.sha256) {
                tally.files += 1;
            } else {
                wrong(format!("{} is not there", made.path));
            }
        }
    }
}
