//! For maintainers: generated pages, the real-kernel lane, benches, loose patients.

mod bench;
mod findings;
mod kernel;
mod pairs;
mod patients;
mod rooms;

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
    /// Draw docs/rooms.svg, which room of the core imports which; a circle is an error.
    Rooms {
        /// Only compare.
        #[arg(long)]
        check: bool,
    },
    /// Let a real Linux kernel mount every volume of the fault matrix, before and after repair.
    Kernel(kernel::Kernel),
    /// Time check on a large volume with holes, against reading the same metadata in order.
    Bench(bench::Bench),
    /// Try pairs of faults on small volumes.
    Pairs {
        /// Name the pairs that cost a file.
        #[arg(long)]
        costs: bool,
        /// All of them, instead of a quarter that changes with the commit.
        #[arg(long)]
        every: bool,
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
        Command::Rooms { check } => rooms::run(check),
        Command::Kernel(given) => kernel::run(&given),
        Command::Bench(given) => bench::run(&given),
        Command::Pairs { costs, every } => pairs::run(costs, every),
        Command::Patients { dir, large: true } => patients::large(&dir),
        Command::Patients { dir, .. } => patients::run(&dir),
    }
}

/// The root of the workspace.
fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// A number that changes with the commit, so that each run tries others.
fn of_commit() -> u64 {
    let said = std::process::Command::new("git").args(["rev-parse", "HEAD"]).output();
    let text = said.map(|done| String::from_utf8_lossy(&done.stdout).into_owned()).unwrap_or_default();
    u64::from_str_radix(text.get(..12).unwrap_or(""), 16).unwrap_or(1)
}
