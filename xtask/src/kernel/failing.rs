//! Disks whose sectors fail with a real read error: the built program reads them in the guest, and all that follows
//! works on its image and its list.

use super::{cases::Case, compare, guest, setup::Machine};
use anyhow::{Context, ensure};
use punchdog_core::{
    family::Kind,
    files::{inventory::Fate, record::State},
    medium::{Extent, Medium, Memory, WithUnreadable},
    mending::step::Provenance,
    progress::Silent,
    registry,
    repair::{apply, measure::Subject, plan},
    report::structure::Purpose,
    surface::list::List,
};
use punchdog_damage::{
    exfat, fat, ntfs,
    patient::{Made, Patient},
    workplace::Bench,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write,
    path::{Path, PathBuf},
    process::Command,
    time::Instant,
};

/// A volume, and which of its sectors fail.
struct Disk {
    name: &'static str,
    driver: &'static str,
    bytes: Vec<u8>,
    made: Vec<Made>,
    bad: BTreeSet<u64>,
    /// The file of which a sector fails.
    hit: String,
}

fn disk<G>(
    name: &'static str,
    driver: &'static str,
    patient: Patient<G>,
    boot: &[u64],
) -> anyhow::Result<Disk> {
    let medium = Memory::new(patient.bytes.clone());
    let volume = registry::recognise(&medium, &Silent)?.context("no volume")?;
    let mut survey = volume.survey(&medium, &Silent)?;
    let structures = survey.structures(&medium);
    let table = structures.iter().find(|one| matches!(one.purpose, Purpose::Table) && one.extent.offset > 0);
    let spare =
        structures.iter().find(|one| one.purpose == Purpose::Spare).map(|one| one.extent.offset / 512);
    let file = patient
        .live()
        .filter(|made| !made.folder && made.clusters.len() > 2 && !made.path.contains(':'))
        .max_by_key(|made| made.size)
        .context("a file")?;
    let files = volume.files(&medium, punchdog_core::family::Wanted::default(), &Silent)?;
    let content = files.iter().find(|one| one.path == file.path).context("the file")?;
    let content = content.content.extents().next().context("its content")?.offset / 512;
    let last = medium.len() / 512 - 3;
    let mut bad: BTreeSet<u64> = [content + 1, content + 2, last].into();
    bad.extend(boot);
    bad.extend(table.map(|one| one.extent.offset / 512));
    bad.extend(spare.filter(|sector| *sector > 6));
    let hit = file.path.clone();
    Ok(Disk { name, driver, bytes: patient.bytes, made: patient.made, bad, hit })
}

/// The program with all that it is linked with, for a guest that has nothing.
fn pack(program: &Path, folder: &Path) -> anyhow::Result<()> {
    let told = Command::new("ldd").arg(program).output().context("ldd")?;
    let text = String::from_utf8_lossy(&told.stdout).into_owned();
    for word in text.split_whitespace().filter(|word| word.starts_with('/')) {
        let path = PathBuf::from(word);
        std::fs::copy(&path, folder.join(path.file_name().context("a name")?))?;
    }
    std::fs::copy(program, folder.join("punchdog"))?;
    Ok(())
}

pub(super) fn run(machine: &Machine, program: &Path) -> anyhow::Result<()> {
    let started = Instant::now();
    let of_fat = || Patient::new(fat::everyday(&fat::small(Kind::Fat32, 512, 1024), 5));
    let of_exfat = || Patient::new(exfat::everyday(&exfat::small(512, 4096, 1), 5));
    let of_ntfs = || Patient::new(ntfs::everyday(&ntfs::small(512, 4096, 1024), 5));
    let disks = [
        disk("fat32, boot sector", "vfat", of_fat(), &[0])?,
        disk("fat32", "vfat", of_fat(), &[])?,
        disk("exfat, boot sector", "exfat", of_exfat(), &[0])?,
        disk("exfat, boot region", "exfat", of_exfat(), &[3])?,
        disk("fat32, FSInfo", "vfat", of_fat(), &[1])?,
        disk("exfat", "exfat", of_exfat(), &[])?,
        disk("ntfs, boot sector", "ntfs3", of_ntfs(), &[0])?,
        disk("ntfs", "ntfs3", of_ntfs(), &[])?,
    ];
    let folder = tempfile::tempdir()?;
    pack(program, folder.path())?;
    let mut script = "P='/host/ld-linux-x86-64.so.2 --library-path /host /host/punchdog'\n".to_owned();
    let mut failing = Vec::new();
    for (number, (disk, letter)) in disks.iter().zip('a'..).enumerate() {
        let image = folder.path().join(format!("{number}.disk"));
        std::fs::write(&image, &disk.bytes)?;
        failing.push((image, disk.bad.iter().copied().collect()));
        let _ = writeln!(
            script,
            "echo '@case {number}'; driver={}; dev=/dev/vd{letter}
$P surface $dev --list /host/{number}.list --image /tmp/{number}.img > /dev/null; cp /tmp/{number}.img /host/
try ro ro; [ $mounted = 1 ] && leave; try rw rw; [ $mounted = 1 ] && leave",
            disk.driver
        );
    }
    let (said, answers) = guest::on_failing(machine, &script, folder.path(), &failing)?;
    ensure!(answers.len() == disks.len(), "the guest said: {said}");
    let mut cases = Vec::new();
    for (number, (disk, answer)) in disks.iter().zip(&answers).enumerate() {
        let name = disk.name;
        let text = std::fs::read_to_string(folder.path().join(format!("{number}.list")))
            .with_context(|| format!("{name}: no list; the guest said: {said}"))?;
        let list = List::parse(&text, disk.bytes.len() as u64)?;
        let listed: BTreeSet<u64> =
            list.unknown().iter().flat_map(|place| place.offset / 512..place.end() / 512).collect();
        ensure!(list.done && listed == disk.bad, "{name}: fail {:?}, listed {listed:?}", disk.bad);
        let image = std::fs::read(folder.path().join(format!("{number}.img")))?;
        let mut expected = disk.bytes.clone();
        for sector in &disk.bad {
            let at = usize::try_from(sector * 512)?;
            expected[at..at + 512].fill(0);
        }
        ensure!(image == expected, "{name}: the image is not what can be read");
        let medium = WithUnreadable::new(Memory::new(image.clone()), list.unknown());
        let volume = registry::recognise(&medium, &Silent)?.context("not recognised")?;
        let hosts = volume.forecast(&medium, 512);
        let forecast = hosts.into_iter().find(|host| host.host == "linux").context("a forecast")?;
        if let Some(differs) = compare::forecast_differs(&forecast, answer) {
            anyhow::bail!("{name}: {differs}");
        }
        let whole = Subject::Volume(Extent::new(0, medium.len()));
        let plan = plan::build(&medium, "", whole, BTreeMap::new(), &Silent)?;
        ensure!(plan.outcome.after.sound, "{name}: {:?}", plan.outcome.after.findings);
        let mut bench = Bench::default();
        let applied = apply::apply(&plan, &medium, &mut bench, &Silent)?;
        ensure!(applied.as_planned, "{name}: not as planned");
        // What the plan names as worse, or as judged, it does not promise.
        let worse = plan.outcome.changes.iter().filter(|change| change.fate > Fate::Moved);
        let judged = plan.steps.iter().filter(|step| step.provenance == Provenance::Judged);
        let named: BTreeSet<String> = worse
            .map(|change| change.path.to_string())
            .chain(judged.flat_map(|step| step.paths.clone()))
            .collect();
        let given_up = named.iter().filter(|path| !path.starts_with("ADRIFT/")).count();
        ensure!(given_up < 6, "{name}: the plan gives up {named:?}");
        let kept = disk.made.iter().filter(|made| !made.deleted && !made.folder && !made.path.contains(':'));
        let files: BTreeMap<String, String> = kept
            .filter(|made| made.path != disk.hit && !named.contains(&made.path))
            .map(|made| (made.path.clone(), made.sha256.clone()))
            .collect();
        cases.push(Case {
            name: name.to_owned(),
            driver: disk.driver,
            before: image,
            after: bench.copy.unwrap_or_default(),
            forecast,
            files,
            contents: BTreeSet::new(),
            writable: true,
            failure: None,
        });
    }
    let mut hashes = 0;
    for (case, answer) in cases.iter().zip(guest::ask(machine, &cases)?) {
        if let Some(differs) = compare::mended_differs(&case.files, &case.contents, &answer) {
            anyhow::bail!("{}: {differs}", case.name);
        }
        hashes += case.files.len();
    }
    println!(
        "  {} failing disks: every sector that fails listed, images, forecasts and {hashes} hashes alike, {} s",
        disks.len(),
        started.elapsed().as_secs()
    );
    each_structure(machine)?;
    kept_off(machine)
}

/// A name, the driver, the volume, and the sector that fails.
type Failing = (String, &'static str, Vec<u8>, u64);

/// Where the kernel does something else than was forecast.
fn forecasts_differ(machine: &Machine, batch: &[Failing]) -> anyhow::Result<Vec<String>> {
    let folder = tempfile::tempdir()?;
    let (mut script, mut failing) = (String::new(), Vec::new());
    for (number, ((_, driver, bytes, sector), letter)) in batch.iter().zip('a'..).enumerate() {
        let image = folder.path().join(format!("{number}.disk"));
        std::fs::write(&image, bytes)?;
        failing.push((image, vec![*sector]));
        let _ = writeln!(
            script,
            "echo '@case {number}'; driver={driver}; dev=/dev/vd{letter}
try ro ro; [ $mounted = 1 ] && leave; try rw rw; [ $mounted = 1 ] && leave"
        );
    }
    let (said, answers) = guest::on_failing(machine, &script, folder.path(), &failing)?;
    ensure!(answers.len() == batch.len(), "the guest said: {said}");
    let mut wrong = Vec::new();
    for ((name, _, bytes, sector), answer) in batch.iter().zip(&answers) {
        let places = vec![Extent::new(sector * 512, 512)];
        let medium = WithUnreadable::new(Memory::new(bytes.clone()), places);
        let volume = registry::recognise(&medium, &Silent)?.context("not recognised")?;
        let hosts = volume.forecast(&medium, 512);
        let forecast = hosts.into_iter().find(|host| host.host == "linux").context("a forecast")?;
        wrong.extend(compare::forecast_differs(&forecast, answer).map(|why| format!("{name}: {why}")));
    }
    Ok(wrong)
}

/// One sector of each structure of each family, alone: the kernel does what was forecast, to the letter.
fn each_structure(machine: &Machine) -> anyhow::Result<()> {
    let started = Instant::now();
    let mut cases = Vec::new();
    for (name, driver, bytes) in [
        ("fat12", "vfat", Patient::new(fat::everyday(&fat::small(Kind::Fat12, 512, 1024), 7)).bytes),
        ("fat16", "vfat", Patient::new(fat::everyday(&fat::small(Kind::Fat16, 512, 2048), 7)).bytes),
        ("fat32", "vfat", Patient::new(fat::everyday(&fat::small(Kind::Fat32, 512, 1024), 7)).bytes),
        ("exfat", "exfat", Patient::new(exfat::everyday(&exfat::small(512, 4096, 1), 7)).bytes),
        ("ntfs", "ntfs3", Patient::new(ntfs::everyday(&ntfs::small(512, 4096, 1024), 7)).bytes),
    ] {
        let medium = Memory::new(bytes.clone());
        let volume = registry::recognise(&medium, &Silent)?.context("no volume")?;
        let mut survey = volume.survey(&medium, &Silent)?;
        let mut seen = BTreeSet::new();
        for one in survey.structures(&medium) {
            for at in [one.extent.offset, one.extent.offset + one.extent.length / 2] {
                if seen.insert(at / 512) {
                    cases.push((format!("{name}, {} at {at}", one.name), driver, bytes.clone(), at / 512));
                }
            }
        }
    }
    let batches: Vec<&[Failing]> = cases.chunks(20).collect();
    let told = guest::all(&batches, |batch| forecasts_differ(machine, batch))?;
    let wrong: Vec<String> = told.into_iter().flatten().collect();
    for line in &wrong {
        println!("  disagrees  {line}");
    }
    ensure!(wrong.is_empty(), "{} of {} forecasts differ", wrong.len(), cases.len());
    println!(
        "  {} sectors of structures that fail alone: forecasts to the letter, {} s",
        cases.len(),
        started.elapsed().as_secs()
    );
    Ok(())
}

/// Sectors in all that can move, and in what is free.
fn movable<G>(patient: &Patient<G>) -> anyhow::Result<BTreeSet<u64>> {
    let medium = Memory::new(patient.bytes.clone());
    let volume = registry::recognise(&medium, &Silent)?.context("no volume")?;
    let mut survey = volume.survey(&medium, &Silent)?;
    let stays = |name: &str| name.contains("first records") || name == "$MFTMirr";
    let own = survey.structures(&medium);
    let own = own.iter().filter(|one| one.purpose != Purpose::Boot && one.extent.offset >= volume.data_at());
    // Of a root folder that is one sector nothing would be left.
    let own = own.filter(|one| one.extent.length > 512);
    let mut bad: BTreeSet<u64> =
        own.filter(|one| !stays(&one.name)).map(|one| (one.extent.end() - 1) / 512).collect();
    let files = volume.files(&medium, punchdog_core::family::Wanted::default(), &Silent)?;
    for file in files.iter().filter(|file| !file.folder || file.size > 512).step_by(5) {
        let last = file.content.extents().last();
        bad.extend(last.map(|extent| (extent.offset + extent.length.saturating_sub(1)) / 512));
    }
    bad.extend([medium.len() / 512 - 40, medium.len() / 512 - 41, medium.len() / 512 - 90]);
    Ok(bad)
}

/// Mended copies go back onto the disks that fail: the kernel reads every file, fills all that is free, and meets no
/// place that fails.
fn kept_off(machine: &Machine) -> anyhow::Result<()> {
    let started = Instant::now();
    let of_fat = |kind, cluster| Patient::new(fat::everyday(&fat::small(kind, 512, cluster), 6));
    let of_exfat = |cluster, tables| Patient::new(exfat::everyday(&exfat::small(512, cluster, tables), 6));
    let of_ntfs = |cluster| Patient::new(ntfs::everyday(&ntfs::small(512, cluster, 1024), 6));
    let of = |name, driver, bad, bytes, made| Disk { name, driver, bytes, made, bad, hit: String::new() };
    let mut disks = Vec::new();
    for (name, kind, cluster) in
        [("fat12", Kind::Fat12, 1024), ("fat16", Kind::Fat16, 2048), ("fat32", Kind::Fat32, 1024)]
    {
        let patient = of_fat(kind, cluster);
        disks.push(of(name, "vfat", movable(&patient)?, patient.bytes, patient.made));
    }
    for (name, cluster, tables) in [("exfat", 4096, 1), ("exfat, small clusters", 512, 1)] {
        let patient = of_exfat(cluster, tables);
        disks.push(of(name, "exfat", movable(&patient)?, patient.bytes, patient.made));
    }
    for (name, cluster) in [("ntfs", 4096), ("ntfs, small clusters", 512)] {
        let patient = of_ntfs(cluster);
        disks.push(of(name, "ntfs3", movable(&patient)?, patient.bytes, patient.made));
    }
    let folder = tempfile::tempdir()?;
    let (mut script, mut failing, mut expected) = (String::new(), Vec::new(), Vec::new());
    for (number, (disk, letter)) in disks.iter().zip('a'..).enumerate() {
        let name = disk.name;
        let places = disk.bad.iter().map(|sector| Extent::new(sector * 512, 512)).collect();
        let medium = WithUnreadable::new(Memory::new(disk.bytes.clone()), places);
        let whole = Subject::Volume(Extent::new(0, medium.len()));
        let wanted = [("unreadable-places".to_owned(), "mark".to_owned())].into();
        let plan = plan::build(&medium, "", whole, wanted, &Silent)?;
        ensure!(plan.outcome.after.sound, "{name}: {:?}", plan.outcome.after.findings);
        let mut bench = Bench::default();
        let applied = apply::apply(&plan, &medium, &mut bench, &Silent)?;
        ensure!(applied.as_planned, "{name}: not as planned");
        let copy = bench.copy.unwrap_or_default();
        let image = folder.path().join(format!("{number}.disk"));
        std::fs::write(&image, &copy)?;
        failing.push((image, disk.bad.iter().copied().collect()));
        let copy = WithUnreadable::with_lost(Memory::new(copy), plan.outcome.lost.clone());
        let volume = registry::recognise(&copy, &Silent)?.context("not recognised")?;
        let files = volume.files(&copy, punchdog_core::family::Wanted::default(), &Silent)?;
        let intact: BTreeSet<String> = files
            .iter()
            .filter(|file| file.state == State::Intact)
            .map(|file| file.path.to_string())
            .collect();
        let made = disk.made.iter().filter(|made| !made.deleted && !made.folder && !made.path.contains(':'));
        let all = made.clone().count();
        let kept: BTreeMap<String, String> = made
            .filter(|made| intact.contains(&made.path))
            .map(|made| (made.path.clone(), made.sha256.clone()))
            .collect();
        ensure!(kept.len() * 10 > all * 6, "{name}: {} of {all} files are whole", kept.len());
        expected.push(kept);
        let _ = writeln!(
            script,
            "echo '@case {number}'; driver={}; dev=/dev/vd{letter}; try after rw
list; dd if=/dev/urandom of=/mnt/filled bs=4096 2>/dev/null; sync; sha256sum < /mnt/filled > /tmp/one
leave; log end; echo 3 > /proc/sys/vm/drop_caches; try after rw; sha256sum < /mnt/filled > /tmp/two
cmp -s /tmp/one /tmp/two && [ -s /mnt/filled ] && echo '@wrote' || echo '@nowrite'
rm /mnt/filled; leave; log end",
            disk.driver
        );
    }
    let (said, answers) = guest::on_failing(machine, &script, folder.path(), &failing)?;
    ensure!(answers.len() == disks.len(), "the guest said: {said}");
    let (mut hashes, mut bad) = (0, 0);
    for ((disk, mut answer), files) in disks.iter().zip(answers).zip(expected) {
        // That there are such is all that a driver may say.
        answer.after.log.retain(|line| !line.starts_with("ntfs3(DEV): Volume contains"));
        hashes += files.len();
        bad += disk.bad.len();
        if let Some(differs) = compare::mended_differs(&files, &BTreeSet::new(), &answer) {
            anyhow::bail!("{}, back on its disk: {differs}", disk.name);
        }
    }
    println!(
        "  {} disks mended for themselves: {bad} sectors that fail are kept off, {hashes} hashes alike, {} s",
        disks.len(),
        started.elapsed().as_secs()
    );
    Ok(())
}
