//! For maintainers: generated pages, the real-kernel lane, benches, loose patients.

mod bench;
mod findings;
mod kernel;
mod pairs;
mod patients;

use clap::{Parser, Subcommand};
use std::path::PathBuf;

#[derive(Parser)]
#[command(name = "xtask")]
struct Args {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Write docs/findings.md from the catalogue; with --check, fail where it is stale.
    Findings {
        /// Only compare.
        #[arg(long)]
        check: bool,
    },
    /// Let a real Linux kernel mount every volume of the fault matrix, before and after repair.
    Kernel(kernel::Kernel),
    /// Time check on a large volume with holes, against reading the same metadata in order.
    Bench(bench::Bench),
    /// Try every pair of faults on small volumes.
    Pairs {
        /// Name the pairs that cost a file.
        #[arg(long)]
        costs: bool,
    },
    /// Write loose patients for trying things out.
    Patients {
        /// The folder to write into.
        dir: PathBuf,
        /// Volumes that are large in one way, instead.
        #[arg(long)]
        large: bool,
    },
}

fn main() -> anyhow::Result<()> {
    match Args::parse().command {
        Command::Findings { check } => findings::run(check),
        Command::Kernel(given) => kernel::run(&given),
        Command::Bench(given) => bench::run(&given),
        Command::Pairs { costs } => pairs::run(costs),
        Command::Patients { dir, large: true } => patients::large(&dir),
        Command::Patients { dir, .. } => patients::run(&dir),
    }
}

/// The root of the workspace.
fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..")
}
