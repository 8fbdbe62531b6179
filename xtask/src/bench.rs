//! Timing check on a large volume with holes, against reading the same metadata in order.

use anyhow::{Context, ensure};
use clap::Args;
use punchdog_core::{
    arith::Sat,
    family::Kind,
    fat::fresh::Wish,
    medium::{FileImage, Medium, ReadLog},
    progress::Silent,
    registry,
};
use punchdog_lab::fat::Filler;
use std::{
    fs::File,
    io::{Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// What to time.
#[derive(Args)]
pub(crate) struct Bench {
    /// An exFAT volume of 1 TiB with 300,000 files, instead of a FAT32 one.
    #[arg(long)]
    exfat: bool,
    /// GiB of the volume; by default 64 for FAT32, 1024 for exFAT.
    #[arg(long)]
    gib: Option<u64>,
    /// Folders.
    #[arg(long, default_value_t = 5000)]
    folders: u32,
    /// Files in all; by default 200,000 for FAT32, 300,000 for exFAT.
    #[arg(long)]
    files: Option<u32>,
    /// Only report times: on a machine whose disk others use as well they prove nothing. Memory is
    /// held to its bound all the same.
    #[arg(long)]
    report: bool,
}

/// How much longer than a plain read of the same bytes a check may take.
const RATIO: f64 = 3.0;
/// KiB that a check may use at its peak.
const PEAK_KIB: u64 = 128 << 10;
/// The same for volumes up to 2 TB.
const PEAK_LARGE_KIB: u64 = 256 << 10;

impl Bench {
    fn gib(&self) -> u64 {
        self.gib.unwrap_or(if self.exfat { 1024 } else { 64 })
    }
    fn files(&self) -> u32 {
        self.files.unwrap_or(if self.exfat { 300_000 } else { 200_000 })
    }
}

pub(crate) fn run(given: &Bench) -> anyhow::Result<()> {
    let folder = crate::root().join("target/bench");
    std::fs::create_dir_all(&folder)?;
    let image = folder.join(format!(
        "{}-{}-{}-{}.img",
        if given.exfat { "exfat" } else { "fat32" },
        given.gib(),
        given.folders,
        given.files()
    ));
    if !image.exists() {
        if given.exfat { build_exfat(given, &image)? } else { build(given, &image)? }
    }
    let program = program()?;
    let cold = forget_caches();
    let read: Vec<Duration> = plain_reads(&image)?;
    let (check, peak) = (0..3)
        .map(|_| {
            forget_caches();
            timed(Command::new(&program).arg("check").arg(&image))
        })
        .collect::<anyhow::Result<Vec<_>>>()?
        .into_iter()
        .min()
        .context("a run")?;
    let plain = read.into_iter().min().context("a read")?;
    let ratio = check.as_secs_f64() / plain.as_secs_f64();
    let caches = if cold {
        "caches dropped before each run"
    } else {
        "caches warm: dropping them is not allowed here"
    };
    println!("{caches}");
    println!("volume of {} GiB, {} folders, {} files", given.gib(), given.folders, given.files());
    println!("  reading the same metadata in order   {:>8.3} s", plain.as_secs_f64());
    println!(
        "  punchdog check                       {:>8.3} s   {ratio:.2} times as long",
        check.as_secs_f64()
    );
    println!("  peak memory of check                 {peak:>8} KiB");
    // It does not read exFAT.
    if !given.exfat && Command::new("7z").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok() {
        forget_caches();
        let (list, _) = timed(Command::new("7z").arg("l").arg(&image))?;
        println!(
            "  7z l, which only lists               {:>8.3} s   {:.2} times as long as check",
            list.as_secs_f64(),
            list.as_secs_f64() / check.as_secs_f64()
        );
        ensure!(given.report || check < list, "check is slower than a listing");
    }
    let most = if given.exfat { PEAK_LARGE_KIB } else { PEAK_KIB };
    ensure!(peak <= most, "check uses {peak} KiB");
    repair(given, &program, &image, most)?;
    if given.report {
        return Ok(());
    }
    ensure!(ratio <= RATIO, "check takes {ratio:.2} times as long as a plain read");
    Ok(())
}

/// The whole job on a damaged copy: boot sector gone, and a piece of the table or of the bitmap.
fn repair(given: &Bench, program: &Path, image: &Path, most: u64) -> anyhow::Result<()> {
    let [struck, copied, mended, plan] =
        ["struck.img", "copied.img", "mended.img", "plan.json"].map(|name| image.with_file_name(name));
    let journal = image.with_file_name("mended.img.undo");
    let clear = || {
        for file in [&struck, &copied, &mended, &plan, &journal] {
            let _ = std::fs::remove_file(file);
        }
    };
    clear();
    let copy = |from: &Path, to: &Path| timed(Command::new("cp").arg("--sparse=always").args([from, to]));
    copy(image, &struck)?;
    strike(given, &struck)?;
    let run = |words: &[&str], files: &[&Path]| {
        let mut command = Command::new(program);
        command.args(&words[..1]).args(files).args(&words[1..]);
        timed(&mut command)
    };
    println!("  damaged                                  wall s    of check    peak KiB");
    let row = |name: &str, (time, peak): (Duration, u64), check: Duration| {
        let (seconds, share) = (time.as_secs_f64(), time.as_secs_f64() / check.as_secs_f64());
        println!("    {name:<34} {seconds:>10.3} {share:>11.2} {peak:>11}");
    };
    let check = run(&["check"], &[&struck])?;
    row("check", check, check.0);
    row("scout", run(&["scout"], &[&struck])?, check.0);
    let files = run(&["files", "--json"], &[&struck])?;
    row("files --json", files, check.0);
    let planned = run(&["plan", "--out", &plan.to_string_lossy()], &[&struck])?;
    row("plan", planned, check.0);
    row("cp --sparse=always", copy(&struck, &copied)?, check.0);
    let words = ["apply", "--image", &struck.to_string_lossy(), "--copy", &mended.to_string_lossy()];
    let applied = run(&words, &[&plan])?;
    row("apply", applied, check.0);
    let room = |path: &Path| -> anyhow::Result<u64> {
        Ok(std::os::unix::fs::MetadataExt::blocks(&std::fs::metadata(path)?) / 2)
    };
    let (copied_kib, mended_kib) = (room(&copied)?, room(&mended)?);
    println!("    room on the disk: cp {copied_kib} KiB, the mended copy {mended_kib} KiB");
    clear();
    // Bounds that hold on every machine.
    ensure!(files.1 <= check.1 + (16 << 10), "files uses {} KiB, check {}", files.1, check.1);
    ensure!(planned.1 <= 2 * most, "plan uses {} KiB", planned.1);
    ensure!(applied.1 <= 2 * most, "apply uses {} KiB", applied.1);
    ensure!(
        mended_kib <= copied_kib + (8 << 10),
        "the mended copy takes {mended_kib} KiB, cp's {copied_kib}"
    );
    Ok(())
}

/// Zeroes the boot sector, and 256 KiB of the first table, or 4 KiB of exFAT's bitmap.
fn strike(given: &Bench, path: &Path) -> anyhow::Result<()> {
    let mut file = File::options().read(true).write(true).open(path)?;
    let mut boot = [0_u8; 512];
    file.read_exact(&mut boot)?;
    let (at, length) = if given.exfat {
        let heap = u32::from_le_bytes([boot[88], boot[89], boot[90], boot[91]]);
        (u64::from(heap) * 512, 4096)
    } else {
        (u64::from(u16::from_le_bytes([boot[14], boot[15]])) * 512, 256 << 10)
    };
    for (place, length) in [(0, 512), (at, length)] {
        file.seek(SeekFrom::Start(place))?;
        file.write_all(&vec![0; length])?;
    }
    Ok(())
}

pub(crate) fn program() -> anyhow::Result<PathBuf> {
    let status =
        Command::new("cargo").args(["build", "--release", "--quiet", "--package", "punchdog"]).status()?;
    ensure!(status.success(), "the program does not build");
    Ok(crate::root().join("target/release/punchdog"))
}

/// What is written of a file: of the last in each folder its beginning, lest the volume's end read as one that
/// was never written; of the others nothing, to save room.
fn head(number: u32, each: u32) -> &'static [u8] {
    if number + 1 == each { b"RIFF\x24\x00\x00\x00WAVEfmt " } else { b"" }
}

fn build(given: &Bench, image: &Path) -> anyhow::Result<()> {
    let bytes = given.gib() << 30;
    let wish = Wish {
        kind: Kind::Fat32,
        bytes,
        sector_bytes: 512,
        cluster_bytes: 32768,
        tables: 2,
        label: *b"LARGE      ",
        serial: 64,
    };
    let part = image.with_extension("part");
    let file = File::create(&part)?;
    file.set_len(bytes)?;
    let mut filler = Filler::new(&wish, file)?;
    let each = given.files().per(given.folders);
    for folder in 0..given.folders {
        let (above, name) = (format!("year {:02}", folder / 100), format!("day {folder:05}"));
        if folder % 100 == 0 {
            filler.folder(&above)?;
        }
        filler.folder(&format!("{above}/{name}"))?;
        for number in 0..each {
            let size = 4000 + (folder * 7919 + number * 104_729) % 400_000;
            let path = format!("{above}/{name}/recording number {number:04}.wav");
            filler.hollow_file(&path, size, head(number, each))?;
        }
    }
    filler.finish()?;
    std::fs::rename(part, image)?;
    Ok(())
}

fn build_exfat(given: &Bench, image: &Path) -> anyhow::Result<()> {
    use punchdog_lab::{exfat, fat::Placing};
    let bytes = given.gib() << 30;
    let wish = punchdog_core::exfat::fresh::Wish {
        bytes,
        sector_bytes: 512,
        cluster_bytes: 128 << 10,
        tables: 1,
        label: "LARGE".to_owned(),
        serial: 1024,
    };
    let part = image.with_extension("part");
    let file = File::create(&part)?;
    file.set_len(bytes)?;
    let mut filler = exfat::Filler::new(&wish, file)?;
    let each = given.files().per(given.folders);
    for folder in 0..given.folders {
        let (above, name) = (format!("year {:02}", folder / 100), format!("day {folder:05}"));
        if folder % 100 == 0 {
            filler.folder(&above, 1, Placing::Row)?;
        }
        filler.folder(&format!("{above}/{name}"), 1, Placing::Row)?;
        for number in 0..each {
            let size = 4000 + (folder * 7919 + number * 104_729) % 400_000;
            let path = format!("{above}/{name}/recording number {number:04}.wav");
            filler.hollow_file(&path, u64::from(size), head(number, each))?;
        }
    }
    filler.finish()?;
    std::fs::rename(part, image)?;
    Ok(())
}

/// Reads what a check reads, once, in the order of the medium, three times over.
fn plain_reads(image: &Path) -> anyhow::Result<Vec<Duration>> {
    let file = FileImage::open(image)?;
    let read_log = ReadLog::new(&file);
    let volume = registry::recognise(&read_log, &Silent)?.context("no volume")?;
    ensure!(volume.examine(&read_log, &Silent)?.sound(), "the volume is not sound");
    let seen = read_log.seen();
    let mut times = Vec::new();
    for _ in 0..3 {
        forget_caches();
        let started = Instant::now();
        let mut piece = vec![0; 1 << 20];
        for extent in &seen {
            let mut at = extent.offset;
            while at < extent.end() {
                let length = (extent.end() - at).min(1 << 20);
                file.read_at(at, &mut piece[..usize::try_from(length)?])?;
                at += length;
            }
        }
        times.push(started.elapsed());
    }
    Ok(times)
}

/// Lets the kernel forget what it has read, so that every run reads from the disk; needs root.
fn forget_caches() -> bool {
    std::fs::write("/proc/sys/vm/drop_caches", "3").is_ok()
}

/// Wall time and peak memory in KiB of one run.
fn timed(command: &mut Command) -> anyhow::Result<(Duration, u64)> {
    let started = Instant::now();
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
    let status = PathBuf::from(format!("/proc/{}/status", child.id()));
    let mut peak = 0;
    while child.try_wait()?.is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let now = line.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok());
        peak = peak.max(now.unwrap_or(0));
        std::thread::sleep(Duration::from_millis(2));
    }
    Ok((started.elapsed(), peak))
}
