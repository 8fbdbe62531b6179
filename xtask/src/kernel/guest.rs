//! What the guest is told to do, and what it answers.

use super::{cases::Case, setup::Machine};
use anyhow::{Context, ensure};
use base64::prelude::{BASE64_STANDARD, Engine};
use std::{
    collections::BTreeMap,
    fmt::Write,
    io::Read,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{
        Condvar, Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

/// Guests at a time: each uses about one core.
const GUESTS: usize = 2;
/// Jobs at a time of one kind: while guests run, the next is made ready.
const JOBS: usize = GUESTS + 1;

static RUNNING: Mutex<usize> = Mutex::new(0);
static ENDED: Condvar = Condvar::new();

/// The right to run a guest.
struct Turn;

impl Turn {
    fn wait() -> Self {
        let running = RUNNING.lock().unwrap_or_else(PoisonError::into_inner);
        let mut running =
            ENDED.wait_while(running, |running| *running >= GUESTS).unwrap_or_else(PoisonError::into_inner);
        *running += 1;
        Self
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        *RUNNING.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
        ENDED.notify_one();
    }
}

/// Does all of these jobs, some at a time; what each gave, in their order.
pub(super) fn all<J: Sync, T: Send>(
    jobs: &[J],
    each: impl Fn(&J) -> anyhow::Result<T> + Sync,
) -> anyhow::Result<Vec<T>> {
    let next = AtomicUsize::new(0);
    let work = || {
        let mut done = Vec::new();
        while let number = next.fetch_add(1, Ordering::Relaxed)
            && let Some(job) = jobs.get(number)
        {
            done.push((number, each(job)));
        }
        done
    };
    let mut done: Vec<(usize, anyhow::Result<T>)> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..JOBS).map(|_| scope.spawn(work)).collect();
        let ended_badly = |_| vec![(0, Err(anyhow::anyhow!("a guest thread ended badly")))];
        threads.into_iter().flat_map(|thread| thread.join().unwrap_or_else(ended_badly)).collect()
    });
    done.sort_by_key(|(number, _)| *number);
    done.into_iter().map(|(_, one)| one).collect()
}

/// Mounts and looks; each line of the answer begins with `@`. Lists of files come in base64.
const SCRIPT: &str = r#"
log() { dmesg -c | sed -n 's/^\[ *[0-9.]*\] *//; /FAT-fs (/p; /ntfs3(/p' | sed "s/^/@log $1 /"; }
try() { # word mode
  dmesg -c >/dev/null
  if [ $driver = vfat ]; then options=$2,loud,utf8=1,codepage=437; else options=$2,iocharset=utf8; fi
  if mount -t $driver -o $options $dev /mnt 2>/dev/null; then
    grep ' /mnt ' /proc/mounts | sed "s/.* \(r[ow]\),.*/@mounted $1 \1/"
    mounted=1
  else echo "@refused $1"; mounted=0; fi
  log $1
}
leave() { umount /mnt || { sleep 1; umount /mnt; } || umount -l /mnt; }
list() { cd /mnt; find . -type f -print0 | xargs -0 -r sha256sum > /tmp/sums 2>/tmp/err; cd /
  echo "@sums $(base64 < /tmp/sums | tr -d '\n')"
  [ -s /tmp/err ] && echo "@unread $(wc -l < /tmp/err)"; }
look() { # number driver write
  echo "@case $1"; driver=$2
  dev=/dev/vda$((3 * $1 + 1)); try ro ro; [ $mounted = 1 ] && leave
  dev=/dev/vda$((3 * $1 + 2)); try rw rw; [ $mounted = 1 ] && leave
  dev=/dev/vda$((3 * $1 + 3)); try after rw
  if [ $mounted = 1 ]; then
    list
    if [ $3 = true ]; then
      ( cd /mnt && mkdir lane && echo lane > lane/a.txt && sync && mv lane/a.txt "lane/a longer name.txt" &&
        rm "lane/a longer name.txt" && rmdir lane && sync ) 2>/dev/null && echo "@wrote" || echo "@nowrite"
    fi
    leave; log end
  fi
}
"#;

/// Fills an empty volume the way a busy owner would: long and foreign names, fragments, deleted
/// files, a crowded folder.
const FILL: &str = r#"
fill() { # number driver
  echo "@case $1"; driver=$2
  cp /host/$1.before /tmp/x.img; dev=$(losetup -f); losetup $dev /tmp/x.img; try fill rw
  cd /mnt
  mkdir -p "Field notes/2026/week 23" "Bilder und Töne" Crowd
  for i in 1 2 3 4 5 6 7 8 9; do
    dd if=/dev/urandom of="Bilder und Töne/Möwe $i 文字.raw" bs=1000 count=$((i * 3)) 2>/dev/null
    dd if=/dev/urandom of="Field notes/2026/week 23/sheet number $i.csv" bs=700 count=$((10 - i)) 2>/dev/null
  done
  for i in 2 4 6 8; do rm "Bilder und Töne/Möwe $i 文字.raw"; done
  dd if=/dev/urandom of="Field notes/fragmented.bin" bs=1000 count=70 2>/dev/null
  i=0; while [ $i -lt 300 ]; do echo "count $i" > Crowd/"counted on day $i.txt"; i=$((i + 1)); done
  i=0; while [ $i -lt 300 ]; do rm Crowd/"counted on day $i.txt"; i=$((i + 7)); done
  echo short > SHORT.TXT; : > empty.file; echo mixed > Mixed.Txt
  cd /; sync; list; leave; log end
  losetup -d $dev; mv /tmp/x.img /host/$1.filled
}
"#;

/// What the kernel made of one mount.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(crate) struct Mount {
    /// It mounted; `Some(true)` for writing.
    pub(crate) writable: Option<bool>,
    /// Its lines in the log, with DEV for the device.
    pub(crate) log: Vec<String>,
}

/// What the kernel made of one case.
#[derive(Debug, Default)]
pub(crate) struct Answer {
    /// The damaged volume, mounted for reading.
    pub(crate) read_only: Mount,
    /// The damaged volume, mounted for writing.
    pub(crate) read_write: Mount,
    /// The mended volume, mounted for writing; all lines until it was left again.
    pub(crate) after: Mount,
    /// The files of the mended volume: path to SHA-256.
    pub(crate) files: BTreeMap<String, String>,
    /// Files that gave read errors.
    pub(crate) unread: u32,
    /// A file could be written, renamed and deleted.
    pub(crate) wrote: Option<bool>,
}

/// A disk: its image, and the bytes of its sectors.
pub(super) type Drive<'p> = (&'p Path, u32);

/// A disk whose sectors fail: the image, and which sectors of 512 bytes.
pub(super) type Failing = (PathBuf, Vec<u64>);

/// A disk of which reads of some sectors end in an error.
fn failing(qemu: &mut Command, number: usize, (image, sectors): &Failing) {
    let error = |sector: &u64| {
        serde_json::json!({
            "event": "none", "iotype": "read", "errno": 5, "sector": sector, "once": false, "immediately": false
        })
    };
    let errors: Vec<_> = sectors.iter().map(error).collect();
    let node = format!("failing{number}");
    let file = serde_json::json!({
        "driver": "blkdebug", "image": { "driver": "file", "filename": image }, "inject-error": errors
    });
    let disk = serde_json::json!({ "driver": "raw", "node-name": node, "file": file });
    qemu.arg("-blockdev").arg(disk.to_string());
    qemu.arg("-device").arg(format!("virtio-blk-pci,drive={node},rerror=report,werror=report"));
}

/// So often a guest is started that ends before it has done anything.
const STARTS: u32 = 3;

/// Starts a guest with `folder` as its host folder and `drives` as its disks, which it may write
/// to, and waits for its end.
fn start(machine: &Machine, folder: &Path, drives: &[Drive<'_>], bad: &[Failing]) -> anyhow::Result<String> {
    let _turn = Turn::wait();
    let said = folder.join("out.txt");
    let mut last = String::new();
    if said.exists() {
        std::fs::remove_file(&said)?;
    }
    for _ in 0..STARTS {
        last = once(machine, folder, drives, bad)?;
        // Its first act is to open this file: without it no disk was touched, and another start is as good.
        if said.exists() {
            return Ok(String::from_utf8_lossy(&std::fs::read(said)?).into_owned());
        }
        println!("  a guest ended before its script began: {}", last.trim());
    }
    anyhow::bail!("no guest came to its script in {STARTS} starts: {last}")
}

/// One guest from its start to its end; what the emulator said of it.
fn once(machine: &Machine, folder: &Path, drives: &[Drive<'_>], bad: &[Failing]) -> anyhow::Result<String> {
    let mut qemu = Command::new("qemu-system-x86_64");
    for (number, disk) in bad.iter().enumerate() {
        failing(&mut qemu, number, disk);
    }
    for (number, (path, sector)) in drives.iter().enumerate() {
        // Zeros become holes in the image.
        let options = "format=raw,if=none,cache=unsafe,discard=unmap,detect-zeroes=unmap";
        qemu.arg("-drive").arg(format!("file={},id=drive{number},{options}", path.display()));
        let sectors = format!("logical_block_size={sector},physical_block_size={sector}");
        qemu.arg("-device").arg(format!("virtio-blk-pci,drive=drive{number},{sectors}"));
    }
    let mut qemu = qemu
        .args([
            "-accel",
            "tcg",
            "-cpu",
            "max",
            "-m",
            "1024",
            "-display",
            "none",
            "-no-reboot",
            "-net",
            "none",
        ])
        .args(["-serial", "null", "-append", "console=ttyS0 panic=1 quiet mitigations=off log_buf_len=4M"])
        .arg("-kernel")
        .arg(&machine.vmlinuz)
        .arg("-initrd")
        .arg(&machine.initrd)
        .arg("-virtfs")
        .arg(format!("local,path={},mount_tag=host,security_model=none", folder.display()))
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .context("qemu does not start")?;
    let started = Instant::now();
    while qemu.try_wait()?.is_none() {
        if started.elapsed() > Duration::from_mins(20) {
            qemu.kill()?;
            qemu.wait()?;
            anyhow::bail!("the guest did not finish within 20 minutes");
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let mut said = String::new();
    if let Some(mut errors) = qemu.stderr.take() {
        errors.read_to_string(&mut said)?;
    }
    Ok(said)
}

/// Lets the guest look at every case.
pub(crate) fn ask(machine: &Machine, cases: &[Case]) -> anyhow::Result<Vec<Answer>> {
    let folder = tempfile::tempdir()?;
    let mut script = SCRIPT.to_owned();
    let mut images: Vec<&[u8]> = Vec::new();
    for (number, case) in cases.iter().enumerate() {
        // Mounting for writing may change a volume: each try has its own.
        images.extend([&case.before[..], &case.before, &case.after]);
        let _ = writeln!(script, "look {number} {} {}", case.driver, case.writable);
    }
    let disk = folder.path().join("disk.img");
    super::pack::disk(&disk, &images)?;
    std::fs::write(folder.path().join("guest.sh"), script)?;
    let answers = parse(&start(machine, folder.path(), &[(&disk, 512)], &[])?, cases.len());
    ensure!(answers.len() == cases.len(), "the guest answered {} of {} cases", answers.len(), cases.len());
    Ok(answers)
}

/// A volume with what it holds: path to SHA-256.
pub(crate) type Filled = (Vec<u8>, BTreeMap<String, String>);

/// Lets the guest fill empty volumes; gives them back with what they hold.
pub(crate) fn fill(machine: &Machine, volumes: &[(&str, Vec<u8>)]) -> anyhow::Result<Vec<Filled>> {
    let folder = tempfile::tempdir()?;
    let mut script = format!("{SCRIPT}{FILL}");
    for (number, (driver, bytes)) in volumes.iter().enumerate() {
        std::fs::write(folder.path().join(format!("{number}.before")), bytes)?;
        let _ = writeln!(script, "fill {number} {driver}");
    }
    std::fs::write(folder.path().join("guest.sh"), script)?;
    let answers = parse(&start(machine, folder.path(), &[], &[])?, volumes.len());
    ensure!(
        answers.len() == volumes.len(),
        "the guest filled {} of {} volumes",
        answers.len(),
        volumes.len()
    );
    let mut filled = Vec::new();
    for (number, answer) in answers.into_iter().enumerate() {
        let bytes = std::fs::read(folder.path().join(format!("{number}.filled")))?;
        filled.push((bytes, answer.files));
    }
    Ok(filled)
}

/// Does what `script` says, with `drives` as /dev/vda and on; gives the one answer.
pub(crate) fn told(machine: &Machine, script: &str, drives: &[Drive<'_>]) -> anyhow::Result<Answer> {
    let folder = tempfile::tempdir()?;
    std::fs::write(folder.path().join("guest.sh"), format!("{SCRIPT}{script}"))?;
    let text = start(machine, folder.path(), drives, &[])?;
    parse(&text, 1).pop().with_context(|| format!("the guest gave no answer: {text}"))
}

/// The same for several answers, with all that the guest said.
pub(crate) fn answers(
    machine: &Machine,
    script: &str,
    drives: &[Drive<'_>],
    expected: usize,
) -> anyhow::Result<(String, Vec<Answer>)> {
    let folder = tempfile::tempdir()?;
    std::fs::write(folder.path().join("guest.sh"), format!("{SCRIPT}{script}"))?;
    let text = start(machine, folder.path(), drives, &[])?;
    let answers = parse(&text, expected);
    Ok((text, answers))
}

/// Runs `script` in a guest with these failing disks as /dev/vda and on, and `folder` as /host.
pub(super) fn on_failing(
    machine: &Machine,
    script: &str,
    folder: &Path,
    disks: &[Failing],
) -> anyhow::Result<(String, Vec<Answer>)> {
    std::fs::write(folder.join("guest.sh"), format!("{SCRIPT}{script}"))?;
    let text = start(machine, folder, &[], disks)?;
    let answers = parse(&text, disks.len());
    Ok((text, answers))
}

fn parse(text: &str, expected: usize) -> Vec<Answer> {
    let mut answers: Vec<Answer> = Vec::with_capacity(expected);
    for line in text.lines() {
        let mut words = line.splitn(3, ' ');
        let (word, first, rest) =
            (words.next().unwrap_or(""), words.next().unwrap_or(""), words.next().unwrap_or(""));
        if word == "@case" {
            answers.push(Answer::default());
            continue;
        }
        let Some(answer) = answers.last_mut() else { continue };
        let mount = match first {
            "ro" => &mut answer.read_only,
            "rw" => &mut answer.read_write,
            _ => &mut answer.after,
        };
        match word {
            "@mounted" => mount.writable = Some(rest == "rw"),
            "@log" => mount.log.push(without_device(rest)),
            "@sums" => answer.files = sums(first),
            "@unread" => answer.unread = first.parse().unwrap_or(u32::MAX),
            "@wrote" => answer.wrote = Some(true),
            "@nowrite" => answer.wrote = Some(false),
            _ => {}
        }
    }
    answers
}

/// The output of `sha256sum` on paths that begin with `./`.
fn sums(coded: &str) -> BTreeMap<String, String> {
    let bytes = BASE64_STANDARD.decode(coded).unwrap_or_default();
    let text = String::from_utf8_lossy(&bytes);
    let pairs = text.lines().filter_map(|line| line.split_once("  ./"));
    pairs.map(|(hash, path)| (path.to_owned(), hash.to_owned())).collect()
}

/// The line with DEV for the device's name, and without the program that some lines recommend.
fn without_device(line: &str) -> String {
    let line = match (line.find("FAT-fs ("), line.find("): ")) {
        (Some(start), Some(end)) if start < end => {
            let prefix = if line[..start].ends_with("ex") { "exFAT-fs" } else { "FAT-fs" };
            format!("{prefix} (DEV){}", &line[end + 1..])
        }
        _ => match (line.find("ntfs3("), line.find("): ")) {
            (Some(start), Some(end)) if start < end => format!("ntfs3(DEV){}", &line[end + 1..]),
            _ => line.to_owned(),
        },
    };
    if let Some(at) = line.find("recommened to use") {
        return format!("{}recommened to use …", &line[..at]);
    }
    line.split(". Please run ").next().unwrap_or(&line).to_owned()
}
