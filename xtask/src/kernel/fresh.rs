//! Fresh file systems in many sizes: the kernel mounts each, fills it a little, leaves it and mounts it again, and says
//! nothing; our check is clean before and after that.

use super::{guest, setup::Machine};
use anyhow::{Context, bail, ensure};
use punchdog_core::{
    arith::Sat,
    family::Kind,
    formatting::{Details, Fresh, Piece, Table},
    medium::{Extent, FileImage, Medium, Window},
    partition,
    progress::Silent,
    registry,
};
use std::{
    fmt::Write as _,
    fs::File,
    io::{Seek, SeekFrom, Write as _},
    path::{Path, PathBuf},
    time::Instant,
};

/// Volumes of one guest: each is a disk.
const DISKS: usize = 16;

const KIB: u64 = 1 << 10;
const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;

/// Kind, bytes of the disk, sector, cluster (0: the usual one), partition table.
type Shape = (Kind, u64, u32, u64, Option<Table>);

const SHAPES: [Shape; 79] = [
    (Kind::Fat12, MIB, 512, 0, None),
    (Kind::Fat12, 2 * MIB + 512, 512, 512, None),
    (Kind::Fat12, 15 * MIB, 512, 4 * KIB, None),
    (Kind::Fat12, 100 * MIB, 512, 32 * KIB, None),
    (Kind::Fat12, 200 * MIB, 512, 64 * KIB, None),
    (Kind::Fat12, 8 * MIB, 4096, 0, None),
    (Kind::Fat12, 60 * MIB, 2048, 16 * KIB, None),
    (Kind::Fat16, 8 * MIB, 512, 0, None),
    (Kind::Fat16, 30 * MIB, 512, 512, None),
    (Kind::Fat16, 100 * MIB, 512, 0, None),
    (Kind::Fat16, 200 * MIB, 512, 0, None),
    (Kind::Fat16, 500 * MIB, 512, 0, None),
    (Kind::Fat16, 900 * MIB, 512, 0, None),
    (Kind::Fat16, 2 * GIB - MIB, 512, 0, None),
    (Kind::Fat16, 3 * GIB, 512, 64 * KIB, None),
    (Kind::Fat16, 200 * MIB, 4096, 4 * KIB, None),
    (Kind::Fat32, 34 * MIB, 512, 0, None),
    (Kind::Fat32, 100 * MIB, 512, KIB, None),
    (Kind::Fat32, 300 * MIB, 512, 0, None),
    (Kind::Fat32, GIB, 512, 2 * KIB, None),
    (Kind::Fat32, 9 * GIB, 512, 0, None),
    (Kind::Fat32, 20 * GIB, 512, 0, None),
    (Kind::Fat32, 60 * GIB, 512, 0, None),
    (Kind::Fat32, 128 * GIB, 512, 64 * KIB, None),
    (Kind::Fat32, 2048 * GIB - MIB, 512, 0, None),
    (Kind::Fat32, 2 * GIB, 4096, 0, None),
    (Kind::Fat32, 500 * GIB, 4096, 32 * KIB, None),
    (Kind::Exfat, MIB, 512, 512, None),
    (Kind::Exfat, 7 * MIB, 512, 0, None),
    (Kind::Exfat, 250 * MIB, 512, KIB, None),
    (Kind::Exfat, GIB, 512, 0, None),
    (Kind::Exfat, 2 * GIB, 512, 8 * KIB, None),
    (Kind::Exfat, 64 * GIB, 512, 0, None),
    (Kind::Exfat, 64 * GIB, 512, 512 * KIB, None),
    (Kind::Exfat, 500 * GIB, 512, 4 * MIB, None),
    (Kind::Exfat, 2048 * GIB, 512, 0, None),
    (Kind::Exfat, 2048 * GIB, 512, 32 * MIB, None),
    (Kind::Exfat, 8 * GIB, 4096, 0, None),
    (Kind::Exfat, 40 * MIB, 4096, 4 * KIB, None),
    (Kind::Ntfs, 8 * MIB, 512, 0, None),
    (Kind::Ntfs, 40 * MIB, 512, 512, None),
    (Kind::Ntfs, 100 * MIB, 512, KIB, None),
    (Kind::Ntfs, 300 * MIB, 512, 2 * KIB, None),
    (Kind::Ntfs, GIB, 512, 0, None),
    (Kind::Ntfs, 40 * GIB, 512, 64 * KIB, None),
    (Kind::Ntfs, 40 * GIB, 512, 2 * MIB, None),
    (Kind::Ntfs, 2048 * GIB, 512, 0, None),
    (Kind::Ntfs, 200 * MIB, 4096, 0, None),
    (Kind::Fat12, 3 * MIB, 512, KIB, None),
    (Kind::Fat12, 7 * MIB, 512, 2 * KIB, None),
    (Kind::Fat12, 28 * MIB, 512, 8 * KIB, None),
    (Kind::Fat16, 60 * MIB, 512, KIB, None),
    (Kind::Fat32, 50 * MIB, 512, 512, None),
    (Kind::Fat32, 20 * GIB, 512, 4 * KIB, None),
    (Kind::Exfat, 300 * MIB, 512, 2 * KIB, None),
    (Kind::Exfat, 300 * MIB, 512, 16 * KIB, None),
    (Kind::Exfat, 100 * GIB, 512, 64 * KIB, None),
    (Kind::Exfat, 100 * GIB, 512, 256 * KIB, None),
    (Kind::Exfat, 100 * GIB, 512, MIB, None),
    (Kind::Exfat, 100 * GIB, 512, 2 * MIB, None),
    (Kind::Exfat, 100 * GIB, 512, 8 * MIB, None),
    (Kind::Exfat, 100 * GIB, 512, 16 * MIB, None),
    (Kind::Ntfs, 300 * MIB, 512, 8 * KIB, None),
    (Kind::Ntfs, 300 * MIB, 512, 16 * KIB, None),
    (Kind::Ntfs, 300 * MIB, 512, 32 * KIB, None),
    (Kind::Ntfs, 100 * GIB, 512, 128 * KIB, None),
    (Kind::Ntfs, 100 * GIB, 512, 256 * KIB, None),
    (Kind::Ntfs, 100 * GIB, 512, 512 * KIB, None),
    (Kind::Ntfs, 100 * GIB, 512, MIB, None),
    (Kind::Fat32, 5 * GIB, 4096, 0, Some(Table::Mbr)),
    (Kind::Exfat, 70 * GIB, 4096, 0, Some(Table::Mbr)),
    (Kind::Ntfs, 3 * GIB, 4096, 0, Some(Table::Mbr)),
    (Kind::Fat16, 100 * MIB, 512, 0, Some(Table::Mbr)),
    (Kind::Exfat, 2000 * GIB, 512, 0, Some(Table::Mbr)),
    (Kind::Fat32, 5 * GIB, 4096, 0, Some(Table::Gpt)),
    (Kind::Exfat, 70 * GIB, 4096, 0, Some(Table::Gpt)),
    (Kind::Ntfs, 3 * GIB, 4096, 0, Some(Table::Gpt)),
    (Kind::Fat16, 100 * MIB, 512, 0, Some(Table::Gpt)),
    (Kind::Exfat, 2000 * GIB, 512, 0, Some(Table::Gpt)),
];

const SCRIPT: &str = r#"
fresh() { # number device driver
  echo "@case $1"; driver=$3; dev=$2; try after rw
  mkdir -p "/mnt/Ledges/2026, week 23"
  for i in 1 2 3 4 5 6 7; do
    dd if=/dev/urandom of="/mnt/Ledges/2026, week 23/Zählung Nr. $i.csv" bs=1000 count=$((i * 3)) 2>/dev/null || echo "@nowrite"
  done
  rm "/mnt/Ledges/2026, week 23/Zählung Nr. 3.csv"; : > /mnt/EMPTY.DAT; sync
  (cd /mnt; find . -type f -print0 | xargs -0 -r sha256sum) > /tmp/first; leave; log end
  try after rw; list; cmp -s /tmp/first /tmp/sums && echo "@wrote" || echo "@nowrite"; leave; log end
}
"#;

struct Volume {
    name: String,
    path: PathBuf,
    driver: &'static str,
    sector: u32,
    place: Extent,
}

/// Lays one down in a file with holes.
fn made(folder: &Path, number: usize) -> anyhow::Result<Volume> {
    let (kind, bytes, sector, cluster, table) = *SHAPES.get(number).context("a shape")?;
    let cluster = (cluster > 0).then(|| cluster.narrow());
    let details =
        Details { sector, cluster, label: "LANE".to_owned(), serial: 77, time: 133_000_000_000_000_000 };
    let place = table.map_or(Ok(Extent::new(0, bytes)), |table| table.room(bytes, sector.into()))?;
    let fresh = Fresh::new(kind, place.length, &details).with_context(|| format!("shape {number}"))?;
    let name = format!(
        "{} of {} MiB, sectors of {sector}, clusters of {}, table {table:?}",
        kind.title(),
        bytes >> 20,
        fresh.cluster()
    );
    let path = folder.join(format!("{number}.img"));
    let mut file = File::create_new(&path)?;
    file.set_len(bytes)?;
    let around = table.map_or(Ok(Vec::new()), |table| table.pieces(bytes, sector.into(), place, kind, 77))?;
    // The file is nothing but zeros.
    let own = fresh.pieces(place.offset)?.into_iter().filter_map(|(at, piece)| match piece {
        Piece::Bytes(bytes) => Some((place.offset + at, bytes)),
        Piece::Zeros(_) => None,
    });
    for (at, bytes) in around.into_iter().chain(own) {
        file.seek(SeekFrom::Start(at))?;
        file.write_all(&bytes)?;
    }
    let driver = match kind {
        Kind::Fat12 | Kind::Fat16 | Kind::Fat32 => "vfat",
        Kind::Exfat => "exfat",
        Kind::Ntfs => "ntfs3",
    };
    Ok(Volume { name, path, driver, sector, place })
}

/// What our check finds wrong; files there are.
fn checked(volume: &Volume) -> anyhow::Result<u64> {
    let image = FileImage::open(&volume.path)?;
    let seen = partition::scout(&image, false, &Silent)?;
    let [place] = &seen.volumes[..] else { bail!("{}: scout finds {:?}", volume.name, seen.volumes) };
    ensure!(place.extent == volume.place && seen.in_order(), "{}: scout finds {place:?}", volume.name);
    let window = Window::new(&image, place.extent);
    let found = registry::recognise(&window, &Silent)?.context("not recognised")?;
    let seen = found.examine(&window, &Silent)?;
    let told: Vec<&String> = seen.findings.iter().map(|finding| &finding.summary).collect();
    ensure!(seen.sound(), "{} ({} bytes): {told:?}", volume.name, image.len());
    Ok(seen.tally.intact)
}

/// Every second one, by the seed; all without one.
pub(super) fn run(machine: &Machine, seed: Option<u64>) -> anyhow::Result<()> {
    let started = Instant::now();
    let turn = seed.map(|seed| usize::from(seed % 2 == 1));
    let numbers = (0..SHAPES.len()).filter(|number| turn.is_none_or(|turn| number % 2 == turn));
    let numbers: Vec<usize> = numbers.collect();
    let batches: Vec<&[usize]> = numbers.chunks(DISKS).collect();
    let files: u64 = guest::all(&batches, |batch| look(machine, batch))?.iter().sum();
    println!(
        "  {} fresh file systems: mounted, filled, mounted again, not a word in the log; check clean, {files} files, {} s",
        numbers.len(),
        started.elapsed().as_secs()
    );
    Ok(())
}

fn look(machine: &Machine, numbers: &[usize]) -> anyhow::Result<u64> {
    let folder = tempfile::tempdir()?;
    let volumes =
        numbers.iter().map(|number| made(folder.path(), *number)).collect::<anyhow::Result<Vec<_>>>()?;
    let mut script = SCRIPT.to_owned();
    for (number, (volume, letter)) in volumes.iter().zip('a'..).enumerate() {
        ensure!(checked(volume)? == 0, "{}: a fresh one has files", volume.name);
        let part = if volume.place.offset > 0 { "1" } else { "" };
        writeln!(script, "fresh {number} /dev/vd{letter}{part} {}", volume.driver)?;
    }
    let drives: Vec<guest::Drive<'_>> =
        volumes.iter().map(|volume| (volume.path.as_path(), volume.sector)).collect();
    let (said, answers) = guest::answers(machine, &script, &drives, volumes.len())?;
    ensure!(answers.len() == volumes.len(), "the guest said: {said}");
    let mut files = 0;
    for (volume, answer) in volumes.iter().zip(answers) {
        let name = &volume.name;
        ensure!(
            answer.after.writable == Some(true),
            "{name}: the kernel does not mount it: {:?}",
            answer.after.log
        );
        ensure!(answer.after.log.is_empty(), "{name}: the kernel says {:?}", answer.after.log);
        ensure!(answer.wrote == Some(true) && answer.unread == 0, "{name}: what was written is not there");
        ensure!(answer.files.len() == 7, "{name}: {:?}", answer.files.keys());
        let there = checked(volume)?;
        ensure!(there == 7, "{name}: {there} files are whole");
        files += there;
    }
    Ok(files)
}
