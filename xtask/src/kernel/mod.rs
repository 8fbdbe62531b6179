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
    #[arg(long, default_value_t = 60)]
    sweep: usize,
    /// Every fault on every volume, instead of one that the seed takes.
    #[arg(long)]
    every: bool,
    /// The seed; without one it follows from the commit.
    #[arg(long)]
    seed: Option<u64>,
    /// Only the struck bytes.
    #[arg(long)]
    only_sweep: bool,
    /// Situations of whole media that are tried, taken from all of them by the seed.
    #[arg(long, default_value_t = 36)]
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
        return fresh::run(&machine);
    }
    let seed = given.seed.unwrap_or_else(crate::of_commit);
    if given.only_media {
        let fine = media::run(&machine, given.media, seed, given.only.as_deref())?;
        anyhow::ensure!(fine, "the kernel disagrees");
        return Ok(());
    }
    let everything = given.only.is_none() && !given.only_sweep;
    let filled = if everything { cases::filled(&machine)? } else { Vec::new() };
    let mut all = if given.only_sweep {
        Vec::new()
    } else {
        cases::of_matrix(given.only.as_deref(), (!given.every && given.only.is_none()).then_some(seed))
    };
    if given.only.is_none() {
        println!("  {} struck bytes by seed {seed}", given.sweep);
        all.extend(sweep::recipes(given.sweep, seed));
    }
    if everything {
        all.extend(cases::of_filled(&filled));
        all.extend(cases::of_station());
    }
    let mut table = compare::Table::default();
    let batches: Vec<&[cases::Recipe<'_>]> = all.chunks(given.batch.max(1)).collect();
    // Two guests at a time: each uses about one core.
    for (turn, pair) in batches.chunks(2).enumerate() {
        println!("  {} of {} volumes, {} s", turn * 2 * given.batch, all.len(), started.elapsed().as_secs());
        let answers: Vec<anyhow::Result<Answered>> = std::thread::scope(|scope| {
            let handles: Vec<_> = pair.iter().map(|batch| scope.spawn(|| look(&machine, batch))).collect();
            let ended_badly = |_| Err(anyhow::anyhow!("a guest thread ended badly"));
            handles.into_iter().map(|handle| handle.join().unwrap_or_else(ended_badly)).collect()
        });
        for answered in answers {
            for (case, answer) in &answered? {
                if !table.add(case, answer)
                    && let Some(folder) = &given.keep
                {
                    keep(folder, case)?;
                }
            }
        }
    }
    table.print(started.elapsed());
    let media = !everything || media::run(&machine, given.media, seed, None)?;
    if everything {
        failing::run(&machine, &crate::bench::program()?)?;
        fresh::run(&machine)?;
    }
    anyhow::ensure!(table.agrees() && media, "the kernel disagrees");
    Ok(())
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
