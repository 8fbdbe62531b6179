//! Timing check on a large volume with holes, against reading the same metadata in order.

use anyhow::{Context, ensure};
use clap::{Args, ValueEnum};
use punchdog_core::{
    arith::Sat,
    exfat::fresh as fresh_exfat,
    family::Kind,
    fat::fresh as fresh_fat,
    medium::{FileImage, Medium, ReadLog},
    ntfs::fresh as fresh_ntfs,
    progress::Silent,
    registry,
};
use punchdog_damage::{
    exfat,
    fat::{self, Placing},
    ntfs,
};
use std::{
    fs::File,
    io,
    io::{Read, Seek, SeekFrom, Write},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// What to time.
#[derive(Args)]
pub(crate) struct Bench {
    /// The file system; of NTFS, a folder with 100,000 of the files is broken.
    #[arg(long, value_enum, default_value_t = On::Fat32)]
    on: On,
    /// GiB of the volume; by default 64 for FAT32, 1024 for the others.
    #[arg(long)]
    gib: Option<u64>,
    /// Folders.
    #[arg(long, default_value_t = 5000)]
    folders: u32,
    /// Files in all; by default 200,000 for FAT32, 300,000 for the others.
    #[arg(long)]
    files: Option<u32>,
    /// Only report times: on a machine whose disk others use as well they prove nothing. Memory is
    /// held to its bound all the same.
    #[arg(long)]
    report: bool,
}

#[derive(Clone, Copy, PartialEq, ValueEnum)]
enum On {
    Fat32,
    Exfat,
    Ntfs,
}

/// How much longer than a plain read of the same bytes a check may take.
const RATIO: f64 = 3.0;
/// Files of NTFS that lie in one folder.
const ONE: u32 = 100_000;
/// KiB that a check may use at its peak.
const PEAK_KIB: u64 = 128 << 10;
/// The same for volumes up to 2 TB.
const PEAK_LARGE_KIB: u64 = 256 << 10;

impl Bench {
    fn gib(&self) -> u64 {
        self.gib.unwrap_or(if self.on == On::Fat32 { 64 } else { 1024 })
    }
    fn files(&self) -> u32 {
        self.files.unwrap_or(if self.on == On::Fat32 { 200_000 } else { 300_000 })
    }
    fn name(&self) -> &'static str {
        match self.on {
            On::Fat32 => "fat32",
            On::Exfat => "exfat",
            On::Ntfs => "ntfs",
        }
    }
}

pub(crate) fn run(given: &Bench) -> anyhow::Result<()> {
    let folder = crate::root().join("target/bench");
    std::fs::create_dir_all(&folder)?;
    let image =
        folder.join(format!("{}-{}-{}-{}.img", given.name(), given.gib(), given.folders, given.files()));
    if !image.exists() {
        build(given, &image)?;
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
    println!(
        "{} volume of {} GiB, {} folders, {} files",
        given.name(),
        given.gib(),
        given.folders,
        given.files()
    );
    println!("  reading the same metadata in order   {:>8.3} s", plain.as_secs_f64());
    println!(
        "  punchdog check                       {:>8.3} s   {ratio:.2} times as long",
        check.as_secs_f64()
    );
    println!("  peak memory of check                 {peak:>8} KiB");
    // It does not read exFAT.
    if given.on != On::Exfat
        && Command::new("7z").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok()
    {
        forget_caches();
        let (list, _) = timed(Command::new("7z").arg("l").arg(&image))?;
        println!(
            "  7z l, which only lists               {:>8.3} s   {:.2} times as long as check",
            list.as_secs_f64(),
            list.as_secs_f64() / check.as_secs_f64()
        );
        ensure!(given.report || check < list, "check is slower than a listing");
    }
    let most = if given.on == On::Fat32 { PEAK_KIB } else { PEAK_LARGE_KIB };
    ensure!(peak <= most, "check uses {peak} KiB");
    repair(given, &program, &image, most)?;
    if given.report {
        return Ok(());
    }
    ensure!(ratio <= RATIO, "check takes {ratio:.2} times as long as a plain read");
    Ok(())
}

/// The whole job on a damaged copy: boot sector gone, and a piece of the table or of the bitmap, or half of a folder's index.
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
    // What was written as zeros is a hole in a copy, and none once it is mended.
    let (copied_kib, mended_kib) = (room(&copied)?.max(room(image)?), room(&mended)?);
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

/// Zeroes the boot sector, and 256 KiB of the first table, 4 KiB of exFAT's bitmap, or every second block of the largest
/// index of NTFS.
fn strike(given: &Bench, path: &Path) -> anyhow::Result<()> {
    let mut file = File::options().read(true).write(true).open(path)?;
    let mut boot = [0_u8; 512];
    file.read_exact(&mut boot)?;
    let mut blows = vec![(0, 512)];
    match given.on {
        On::Fat32 => blows.push((u64::from(u16::from_le_bytes([boot[14], boot[15]])) * 512, 256 << 10)),
        On::Exfat => {
            let heap = u32::from_le_bytes([boot[88], boot[89], boot[90], boot[91]]);
            blows.push((u64::from(heap) * 512, 4096));
        }
        On::Ntfs => blows.extend(largest_index(&file)?.into_iter().step_by(2).map(|place| (place, 4096))),
    }
    for (place, length) in blows {
        file.seek(SeekFrom::Start(place))?;
        file.write_all(&vec![0; length])?;
    }
    Ok(())
}

/// Where the blocks of the index with the most of them stand: those that follow one another in the file and by number.
fn largest_index(file: &File) -> anyhow::Result<Vec<u64>> {
    let (mut largest, mut row) = (Vec::new(), Vec::new());
    let mut piece = vec![0; 4 << 20];
    let mut at = 0;
    while let Ok(data) = rustix::fs::seek(file, rustix::fs::SeekFrom::Data(at)) {
        at = data / 4096 * 4096;
        let read = file.read_at(&mut piece, at)?;
        for block in piece[..read].chunks_exact(4096) {
            if block.starts_with(b"INDX") {
                if block[16..24] == [0; 8] {
                    row.clear();
                }
                row.push(at);
                if row.len() > largest.len() {
                    largest.clone_from(&row);
                }
            }
            at += 4096;
        }
    }
    Ok(largest)
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

/// What a volume is filled with.
trait Fill {
    fn folder(&mut self, path: &str) -> io::Result<()>;
    fn file(&mut self, path: &str, size: u32, head: &[u8]) -> io::Result<()>;
}

impl Fill for fat::Filler<File> {
    fn folder(&mut self, path: &str) -> io::Result<()> {
        self.folder(path)
    }
    fn file(&mut self, path: &str, size: u32, head: &[u8]) -> io::Result<()> {
        self.hollow_file(path, size, head)
    }
}

impl Fill for exfat::Filler<File> {
    fn folder(&mut self, path: &str) -> io::Result<()> {
        self.folder(path, 1, Placing::Row)
    }
    fn file(&mut self, path: &str, size: u32, head: &[u8]) -> io::Result<()> {
        self.hollow_file(path, size.into(), head)
    }
}

impl Fill for ntfs::Filler<File> {
    fn folder(&mut self, path: &str) -> io::Result<()> {
        self.folder(path, Placing::Row)
    }
    fn file(&mut self, path: &str, size: u32, head: &[u8]) -> io::Result<()> {
        self.hollow_file(path, size.into(), head)
    }
}

fn build(given: &Bench, image: &Path) -> anyhow::Result<()> {
    let bytes = given.gib() << 30;
    let part = image.with_extension("part");
    let file = File::create(&part)?;
    file.set_len(bytes)?;
    match given.on {
        On::Fat32 => {
            let wish = fresh_fat::Wish {
                kind: Kind::Fat32,
                bytes,
                sector_bytes: 512,
                cluster_bytes: 32768,
                tables: 2,
                label: *b"LARGE      ",
                serial: 64,
            };
            let mut filler = fat::Filler::new(&wish, file)?;
            fill(given, &mut filler)?;
            filler.finish()?;
        }
        On::Exfat => {
            let wish = fresh_exfat::Wish {
                bytes,
                sector_bytes: 512,
                cluster_bytes: 128 << 10,
                tables: 1,
                label: "LARGE".to_owned(),
                serial: 1024,
            };
            let mut filler = exfat::Filler::new(&wish, file)?;
            fill(given, &mut filler)?;
            filler.finish()?;
        }
        On::Ntfs => {
            let wish = fresh_ntfs::Wish {
                bytes,
                sector_bytes: 512,
                cluster_bytes: 4096,
                record_bytes: 1024,
                label: "LARGE".to_owned(),
                serial: 1024,
                time: ntfs::SPRING,
                records: given.files() + given.folders + 200,
            };
            let mut filler = ntfs::Filler::new(&wish, file)?;
            fill(given, &mut filler)?;
            filler.finish()?;
        }
    }
    std::fs::rename(part, image)?;
    Ok(())
}

fn fill(given: &Bench, filler: &mut dyn Fill) -> io::Result<()> {
    let one = if given.on == On::Ntfs { ONE.min(given.files() / 2) } else { 0 };
    let each = (given.files() - one).per(given.folders);
    let size = |folder: u32, number: u32| {
        4000 + (folder * 7919).wrapping_add(number.wrapping_mul(104_729)) % 400_000
    };
    for folder in 0..given.folders {
        let (above, name) = (format!("year {:02}", folder / 100), format!("day {folder:05}"));
        if folder % 100 == 0 {
            filler.folder(&above)?;
        }
        filler.folder(&format!("{above}/{name}"))?;
        for number in 0..each {
            // Nothing of the content is written: a name that says what a file begins with would be a fault.
            let path = format!("{above}/{name}/recording number {number:04}.take");
            filler.file(&path, size(folder, number), head(number, each))?;
        }
    }
    if one > 0 {
        filler.folder("everything")?;
    }
    for number in 0..one {
        filler.file(
            &format!("everything/recording number {number:06}.take"),
            size(1, number),
            head(number, one),
        )?;
    }
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
