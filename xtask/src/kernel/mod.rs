//! The real-kernel lane: Debian's Linux under qemu mounts what we damaged and what we mended.
//!
//! Our reader and our writer share our misunderstandings; the kernel does not. For each volume of
//! the fault matrix the forecast must be what the kernel did, log line included, and after the
//! repair the kernel must mount for reading and writing, log nothing, and list every file that
//! could be kept with its hash. Volumes that the kernel itself filled go through the same.

mod cases;
mod compare;
mod guest;
mod large;
mod setup;

use clap::Args;
use std::{path::Path, time::Instant};

/// How much to try.
#[derive(Args)]
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
    let filled = if given.only.is_none() { cases::filled(&machine)? } else { Vec::new() };
    let mut all = cases::of_matrix(given.only.as_deref());
    if given.only.is_none() {
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
    anyhow::ensure!(table.agrees(), "the kernel disagrees");
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
