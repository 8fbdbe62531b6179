//! The real-kernel lane: Debian's Linux under qemu mounts what we damaged and what we mended.
//!
//! Our reader and our writer share our misunderstandings; the kernel does not. For each volume of
//! the fault matrix the forecast must be what the kernel did, log line included, and after the
//! repair the kernel must mount for reading and writing, log nothing, and list every file that
//! could be kept with its hash. Volumes that the kernel itself filled go through the same.

mod cases;
mod compare;
mod failing;
mod fresh;
mod guest;
mod large;
mod media;
mod pack;
mod setup;
mod sweep;

use clap::Args;
use std::{path::Path, time::Instant};

/// How much to try.
#[derive(Args)]
#[expect(clippy::struct_excessive_bools, reason = "flags of a command line")]
pub(crate) struct Kernel {
    /// Only faults whose name contains this.
    #[arg(long)]
    only: Option<String>,
    /// Volumes of each boot of the guest.
    #[arg(long, default_value_t = 75)]
    batch: usize,
    /// Only the volume of the largest clusters, with files above 4 GiB.
    #[arg(long)]
    large: bool,
    /// Struck bytes of boot and root structures that are tried, taken from all of them by the seed.
    #[arg(long, default_value_t = 48)]
    sweep: usize,
    /// Every fault on every volume, instead of one that the seed takes.
    #[arg(long)]
    every: bool,
    /// The seed; without one it follows from the commit.
    #[arg(long)]
    seed: Option<u64>,
    /// Only the struck bytes; with --only, of the parts of NTFS whose name contains its text.
    #[arg(long)]
    only_sweep: bool,
    /// Situations of whole media that are tried, taken from all of them by the seed.
    #[arg(long, default_value_t = 28)]
    media: usize,
    /// Only the whole media; with --only, those whose name contains its text.
    #[arg(long)]
    only_media: bool,
    /// Only disks with sectors that fail.
    #[arg(long)]
    only_failing: bool,
    /// Only fresh file systems.
    #[arg(long)]
    only_fresh: bool,
    /// Keep the images of cases that disagree in this folder.
    #[arg(long)]
    keep: Option<std::path::PathBuf>,
}

pub(crate) fn run(given: &Kernel) -> anyhow::Result<()> {
    let started = Instant::now();
    let Some(machine) = setup::machine()? else {
        println!("kernel lane: skipped, this machine has no apt to get a kernel and qemu from");
        return Ok(());
    };
    println!("kernel lane: {} ready after {} s", machine.kernel, started.elapsed().as_secs());
    if given.large {
        return large::run(&machine, &crate::bench::program()?);
    }
    if given.only_failing {
        return failing::run(&machine, &crate::bench::program()?);
    }
    if given.only_fresh {
        return fresh::run(&machine, None);
    }
    let seed = given.seed.unwrap_or_else(crate::of_commit);
    if given.only_media {
        let fine = media::run(&machine, given.media, seed, given.only.as_deref())?;
        anyhow::ensure!(fine, "the kernel disagrees");
        return Ok(());
    }
    let everything = given.only.is_none() && !given.only_sweep;
    let filled = if everything { cases::filled(&machine)? } else { Vec::new() };
    // Those that take longest go first.
    let mut all = if everything { cases::of_station() } else { Vec::new() };
    all.extend(cases::of_filled(&filled));
    if !given.only_sweep {
        let seed = (!given.every && given.only.is_none()).then_some(seed);
        all.extend(cases::of_matrix(given.only.as_deref(), seed));
    }
    if given.only.is_none() || given.only_sweep {
        println!("  {} struck bytes by seed {seed}", given.sweep);
        all.extend(sweep::recipes(given.sweep, seed, given.only.as_deref()));
    }
    let fine = std::thread::scope(|scope| -> anyhow::Result<bool> {
        let others = everything.then(|| {
            [
                scope.spawn(|| media::run(&machine, given.media, seed, None)),
                scope.spawn(|| failing::run(&machine, &crate::bench::program()?).map(|()| true)),
                scope.spawn(|| fresh::run(&machine, (!given.every).then_some(seed)).map(|()| true)),
            ]
        });
        let mut fine = volumes(&machine, &all, given, started)?;
        for other in others.into_iter().flatten() {
            fine &= other.join().map_err(|_| anyhow::anyhow!("a lane ended badly"))??;
        }
        Ok(fine)
    })?;
    anyhow::ensure!(fine, "the kernel disagrees");
    Ok(())
}

/// Puts volumes before the kernel; true when it agrees.
fn volumes(
    machine: &setup::Machine,
    all: &[cases::Recipe<'_>],
    given: &Kernel,
    started: Instant,
) -> anyhow::Result<bool> {
    let mut table = compare::Table::default();
    let batches: Vec<&[cases::Recipe<'_>]> = all.chunks(given.batch.max(1)).collect();
    // Images that agree are dropped at once.
    let looked = guest::all(&batches, |batch| {
        let mut told = compare::Table::default();
        for (case, answer) in look(machine, batch)? {
            if !told.add(&case, &answer)
                && let Some(folder) = &given.keep
            {
                keep(folder, &case)?;
            }
        }
        println!("  {} more volumes, {} s", batch.len(), started.elapsed().as_secs());
        Ok(told)
    })?;
    for told in looked {
        table.join(told);
    }
    table.print(started.elapsed());
    Ok(table.agrees())
}

type Answered = Vec<(cases::Case, guest::Answer)>;

/// Makes the cases of one batch, and lets a guest look at them.
fn look(machine: &setup::Machine, recipes: &[cases::Recipe<'_>]) -> anyhow::Result<Answered> {
    let cases = recipes.iter().map(|make| make()).collect::<anyhow::Result<Vec<_>>>()?;
    let answers = guest::ask(machine, &cases)?;
    Ok(cases.into_iter().zip(answers).collect())
}

fn keep(folder: &Path, case: &cases::Case) -> anyhow::Result<()> {
    std::fs::create_dir_all(folder)?;
    let plain: String = case.name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    std::fs::write(folder.join(format!("{plain}.before.img")), &case.before)?;
    std::fs::write(folder.join(format!("{plain}.after.img")), &case.after)?;
    Ok(())
}
