//! The command line of Punchdog: arguments, rendering, progress, JSON. What it knows of volumes it
//! asks of `punchdog-core`.

mod apply;
mod args;
mod check;
mod choose;
mod compare;
mod demo;
mod explain;
mod failure;
mod fields;
mod files;
mod finds;
mod format;
mod intervals;
mod json;
mod lists;
mod many;
mod map;
mod page;
mod plan;
mod report;
mod salvage;
#[cfg(test)]
mod schemas;
mod scout;
mod sheet;
mod spaced;
mod striped;
mod surface;
mod undo;
mod unearth;
mod watch;
mod workplace;

use args::{Args, Command};
use clap::Parser;
use failure::Verdict;
use std::process::ExitCode;

fn main() -> ExitCode {
    let args = match Args::try_parse() {
        Ok(args) => args,
        Err(error) => return misused(&error),
    };
    args.start();
    let result = run(&args);
    match result {
        Ok(Verdict::Fine) => ExitCode::SUCCESS,
        Ok(Verdict::NotSound) => ExitCode::from(1),
        Ok(Verdict::NotDone) => ExitCode::from(2),
        Err(error) => {
            failure::report(&error, args.command.subject(), args.json);
            ExitCode::from(2)
        }
    }
}

/// Arguments that make no sense: also one JSON document, where that was asked for.
fn misused(error: &clap::Error) -> ExitCode {
    let wants_json = std::env::args_os().any(|word| word == "--json");
    if wants_json && error.use_stderr() {
        let text = error.to_string();
        let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
        failure::say(first, "punchdog --help lists the commands and their arguments", true);
    } else {
        // Whoever read the help may have seen enough.
        let _ = error.print();
    }
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}

fn run(args: &Args) -> anyhow::Result<Verdict> {
    match &args.command {
        Command::Scout(given) => scout::run(args, given),
        Command::Check(given) => check::run(args, given),
        Command::Explain(given) => explain::run(args, given),
        Command::Fields(given) => fields::run(args, given),
        Command::Files(given) => files::run(args, given),
        Command::Salvage(given) => salvage::run(args, given),
        Command::Unearth(given) => unearth::run(args, given),
        Command::Surface(given) => surface::run(args, given),
        Command::Map(given) => map::run(args, given),
        Command::Plan(given) => plan::run(args, given),
        Command::Apply(given) => apply::run(args, given),
        Command::Report(given) => report::run(args, given),
        Command::Compare(given) => compare::run(args, given),
        Command::Format(given) => format::run(args, given),
        Command::Undo(given) => undo::run(args, given),
        Command::Demo(given) => demo::run(args, given),
        Command::Completions(given) => {
            given.print()?;
            Ok(Verdict::Fine)
        }
        Command::Manual => {
            args::manual()?;
            Ok(Verdict::Fine)
        }
    }
}
