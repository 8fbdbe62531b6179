//! The command line of Punchdog: arguments, rendering, progress, JSON. What it knows of volumes it
//! asks of `punchdog-core`.

mod apply;
mod args;
mod check;
mod choose;
mod demo;
mod explain;
mod fields;
mod files;
mod json;
mod page;
mod plan;
mod salvage;
mod scout;
mod trouble;
mod undo;
mod watch;
mod workplace;

use args::{Args, Command};
use clap::Parser;
use std::process::ExitCode;
use trouble::Verdict;

fn main() -> ExitCode {
    let args = Args::parse();
    args.start();
    let result = run(&args);
    match result {
        Ok(Verdict::Fine) => ExitCode::SUCCESS,
        Ok(Verdict::NotSound) => ExitCode::from(1),
        Err(error) => {
            trouble::report(&error);
            ExitCode::from(2)
        }
    }
}

fn run(args: &Args) -> anyhow::Result<Verdict> {
    match &args.command {
        Command::Scout(given) => scout::run(args, given),
        Command::Check(given) => check::run(args, given),
        Command::Explain(given) => explain::run(args, given),
        Command::Fields(given) => fields::run(args, given),
        Command::Files(given) => files::run(args, given),
        Command::Salvage(given) => salvage::run(args, given),
        Command::Plan(given) => plan::run(args, given),
        Command::Apply(given) => apply::run(args, given),
        Command::Undo(given) => undo::run(args, given),
        Command::Demo(given) => demo::run(args, given),
        Command::Completions(given) => {
            given.print();
            Ok(Verdict::Fine)
        }
        Command::Manual => {
            args::manual()?;
            Ok(Verdict::Fine)
        }
    }
}
