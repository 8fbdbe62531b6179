//! The largest clusters and files above 4 GiB: an exFAT volume of 32 MiB clusters that the kernel
//! fills, struck in several ways, mended by the built program, and given back to the kernel.
//!
//! The images are files with holes: what is zero takes no room. Files above 300 MB are compared by
//! their length and pieces of 3 MiB; hashing gigabytes in an emulated machine takes too long.

use super::{guest, setup::Machine};
use anyhow::{Context, ensure};
use punchdog_core::{
    arith::Sat,
    exfat::{ExfatVolume, fresh::Wish, geometry::Geometry},
    family::Wanted,
    files::record::{FileRecord, State},
    medium::FileImage,
    progress::Silent,
    registry,
};
use punchdog_damage::{canvas::Canvas, exfat, seed::Seed};
use std::{collections::BTreeMap, fs::File, path::Path, process::Command, time::Instant};

const BYTES: u64 = 24 << 30;
const CLUSTER: u32 = 32 << 20;
/// Files from here on are compared by pieces.
const LARGE: u64 = 300_000 << 10;
/// Where pieces of large files begin, in MiB: at the start, where nothing was written, and around
/// what was written far behind.
const PIECES: [u64; 3] = [0, 2000, 4599];

/// Fills the volume: files in pieces, and two above 4 GiB, one of which has something written at its
/// end and one that is but allocated.
const FILL: &str = r#"
dev=/dev/vda; driver=exfat
echo "@case 0"; try fill rw; mkdir -p /mnt/Takes/Notes
for i in 1 2 3 4 5 6; do dd if=/dev/urandom of="/mnt/Takes/take $i.raw" bs=1M count=33 2>/dev/null; done
rm "/mnt/Takes/take 2.raw" "/mnt/Takes/take 4.raw"; sync
dd if=/dev/urandom of="/mnt/Takes/in pieces.raw" bs=1M count=130 2>/dev/null
dd if=/dev/urandom of="/mnt/Takes/long take.wav" bs=1M count=2 2>/dev/null
dd if=/dev/urandom of="/mnt/Takes/long take.wav" bs=1M seek=4600 count=2 conv=notrunc 2>/dev/null
truncate -s 6G "/mnt/Takes/room kept.wav"
for i in 1 2 3 4 5 6 7 8; do echo "sheet $i" > "/mnt/Takes/Notes/a note with quite a long name, number $i.txt"; done
sync; pieces; leave; log end
"#;

const PIECES_OF: &str = r#"
pieces() { cd /mnt; find . -type f -size -300000k -print0 | xargs -0 -r sha256sum > /tmp/sums 2>/tmp/err
  find . -type f -size +299999k | while read -r f; do
    for at in PIECES; do
      echo "$(dd if="$f" bs=1M skip=$at count=3 2>/dev/null | sha256sum | cut -d' ' -f1)  $f@$at" >> /tmp/sums
    done
    echo "$(stat -c %s "$f")  $f@size" >> /tmp/sums
  done; cd /
  echo "@sums $(base64 < /tmp/sums | tr -d '\n')"; }
"#;

const LOOK: &str = r#"
dev=/dev/vda; driver=exfat
echo "@case 0"; try ro ro; [ $mounted = 1 ] && leave
dev=/dev/vdb
try after rw; pieces
( cd /mnt && echo lane > "Takes/lane.txt" && sync && rm Takes/lane.txt && sync ) && echo "@wrote" || echo "@nowrite"
leave; log end
"#;

type Blow = (&'static str, fn(&mut File, &Geometry) -> std::io::Result<()>);

const BLOWS: [Blow; 5] = [
    ("main boot region zeroed", |file, g| file.put(0, &vec![0; g.region_bytes().size()])),
    ("both boot regions zeroed", |file, g| file.put(0, &vec![0; g.region_bytes().size() * 2])),
    ("bitmap zeroed", |file, g| file.put(g.cluster_place(2), &vec![0; g.bitmap_bytes().size()])),
    ("table zeroed from its first entry", |file, g| file.put(g.table_place(0), &[0; 64])),
    ("boot sector noise, bitmap noise", |file, g| {
        file.put(0, &Seed::new(5).bytes(512))?;
        file.put(g.cluster_place(2), &Seed::new(6).bytes(g.bitmap_bytes().size().min(64)))
    }),
];

pub(super) fn run(machine: &Machine, program: &Path) -> anyhow::Result<()> {
    let started = Instant::now();
    let folder = tempfile::tempdir()?;
    let sound = folder.path().join("sound.img");
    let wish = Wish {
        bytes: BYTES,
        sector_bytes: 512,
        cluster_bytes: CLUSTER,
        tables: 1,
        label: "LANE".to_owned(),
        serial: 7,
    };
    let file = File::options().create_new(true).write(true).read(true).open(&sound)?;
    file.set_len(BYTES)?;
    exfat::Filler::new(&wish, file)?.finish()?;
    let at = PIECES.map(|at| at.to_string()).join(" ");
    let pieces = PIECES_OF.replace("PIECES", &at);
    let filled = guest::told(machine, &format!("{pieces}{FILL}"), &[(&sound, 512)])?;
    println!(
        "  filled by the kernel: {} hashes and lengths, {} s",
        filled.files.len(),
        started.elapsed().as_secs()
    );
    ensure!(filled.files.len() > 15, "the kernel filled nothing: {filled:?}");
    ensure!(filled.after.log.is_empty(), "our fresh volume makes the kernel say {:?}", filled.after.log);
    read_alike(&sound, &filled.files)?;
    let geometry = {
        let image = FileImage::open(&sound)?;
        ExfatVolume::recognise(&image, &Silent)?.context("no volume")?.believed().geometry
    };
    for (name, strike) in BLOWS {
        let own = tempfile::tempdir_in(folder.path())?;
        let at = |name: &str| own.path().join(name);
        let (before, plan, after) = (at("before.img"), at("plan.json"), at("after.img"));
        copy_with_holes(&sound, &before)?;
        strike(&mut File::options().read(true).write(true).open(&before)?, &geometry)?;
        let forecast = {
            let image = FileImage::open(&before)?;
            let volume =
                registry::recognise(&image, &Silent)?.context("the struck volume is not recognised")?;
            let hosts = volume.forecast(&image, 512);
            hosts.into_iter().find(|host| host.host == "linux").context("a forecast")?
        };
        done(Command::new(program).arg("plan").arg(&before).arg("--out").arg(&plan))?;
        let mut apply = Command::new(program);
        done(apply.arg("apply").arg(&plan).arg("--image").arg(&before).arg("--copy").arg(&after))?;
        read_alike(&after, &filled.files).with_context(|| name.to_owned())?;
        let seen = guest::told(machine, &format!("{pieces}{LOOK}"), &[(&before, 512), (&after, 512)])?;
        ensure!(
            forecast.mounts_read_only == seen.read_only.writable.is_some(),
            "{name}: forecast {forecast:?}, the kernel {:?}",
            seen.read_only
        );
        ensure!(seen.after.writable == Some(true) && seen.after.log.is_empty(), "{name}: {:?}", seen.after);
        ensure!(seen.wrote == Some(true), "{name}: nothing can be written");
        ensure!(seen.files == filled.files, "{name}: the kernel reads other contents: {:?}", seen.files);
        println!("  mended and read alike: {name}, {} s", started.elapsed().as_secs());
    }
    Ok(())
}

fn done(command: &mut Command) -> anyhow::Result<()> {
    let output = command.output()?;
    let said = String::from_utf8_lossy(&output.stderr);
    ensure!(output.status.code().is_some_and(|code| code < 2), "{command:?}: {said}");
    Ok(())
}

/// Copies an image; what is zero takes no room in the copy either.
fn copy_with_holes(from: &Path, to: &Path) -> anyhow::Result<()> {
    let status = Command::new("cp").arg("--sparse=always").arg(from).arg(to).status()?;
    ensure!(status.success(), "cp: {status}");
    Ok(())
}

/// Our reading must be the kernel's, and find nothing wrong.
fn read_alike(path: &Path, kernel: &BTreeMap<String, String>) -> anyhow::Result<()> {
    let image = FileImage::open(path)?;
    let volume = registry::recognise(&image, &Silent)?.context("not recognised")?;
    let seen = volume.examine(&image, &Silent)?;
    ensure!(seen.sound(), "findings: {:?}", seen.findings);
    let mut ours = BTreeMap::new();
    let listed = volume.files(&image, Wanted::default(), &Silent)?;
    for file in listed.iter().filter(|file| !file.folder && file.state == State::Intact) {
        if file.size < LARGE {
            ours.insert(file.path.to_string(), file.sha256(&image));
            continue;
        }
        for at in PIECES {
            ours.insert(format!("{}@{at}", file.path), piece(&image, file, at << 20, 3 << 20));
        }
        ours.insert(format!("{}@size", file.path), file.size.to_string());
    }
    ensure!(&ours == kernel, "we read {ours:#?}, the kernel {kernel:#?}");
    Ok(())
}

/// The hash of a piece of a large file, through the places of its content.
fn piece(image: &FileImage, file: &FileRecord, from: u64, length: u64) -> String {
    FileRecord { content: file.content.part(from, length), ..file.clone() }.sha256(image)
}
