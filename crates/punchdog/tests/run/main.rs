//! The built program, run on files in a temporary folder.

mod bad_input;
mod beneath;
mod blank;
mod compare;
mod disks;
mod exfat;
mod format;
mod in_pieces;
mod inserted;
mod job;
mod large;
mod left_out;
mod next;
mod others_files;
mod output;
mod outside;
mod plans;
mod rivals;
mod salvage;
mod schemas;
mod striped;
mod unearth;
mod unreadable;
mod words;

use assert_cmd::{Command, cargo::cargo_bin_cmd};
use punchdog_core::family::Kind;
use punchdog_damage::{
    fat::{everyday, small},
    faults::Patient,
};
use serde_json::Value;
use std::{fs, path::Path};
use tempfile::TempDir;

/// A folder with an image in it.
fn folder_with(name: &str, bytes: &[u8]) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join(name), bytes).unwrap();
    folder
}

fn patient(kind: Kind) -> Patient {
    Patient::new(everyday(&small(kind, 512, 1024), 4))
}

/// The program, in `folder`, without colours.
fn punchdog(folder: &Path, words: &[&str]) -> Command {
    let mut command = cargo_bin_cmd!("punchdog");
    command.current_dir(folder).env_remove("RUST_LOG").env("NO_COLOR", "1").args(words);
    command
}

/// What a run came to: exit status, standard output, standard error.
struct Run {
    status: i32,
    out: String,
    err: String,
}

fn run(folder: &Path, words: &[&str]) -> Run {
    let done = punchdog(folder, words).output().unwrap();
    if words.contains(&"--json") {
        schemas::fits(&done.stdout, words);
    }
    Run {
        status: done.status.code().expect("an exit status"),
        out: String::from_utf8(done.stdout).unwrap(),
        err: String::from_utf8(done.stderr).unwrap(),
    }
}

/// The JSON document of a run that must end with `status`.
fn json(folder: &Path, words: &[&str], status: i32) -> Value {
    let done = run(folder, &[words, &["--json"]].concat());
    assert_eq!(done.status, status, "{words:?}: {}{}", done.out, done.err);
    serde_json::from_str(&done.out).unwrap_or_else(|error| panic!("{words:?}: {error}\n{}", done.out))
}
