//! Holding the kernel's answers against our forecast and against the truth.

use super::{
    cases::Case,
    guest::{Answer, Mount},
};
use punchdog_core::report::forecast::HostForecast;
use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

/// What was compared, and what disagreed.
#[derive(Default)]
pub(crate) struct Table {
    cases: u32,
    refused: u32,
    forecasts: u32,
    lines: u32,
    mended: u32,
    files: usize,
    disagreements: Vec<String>,
}

fn word(mount: &Mount) -> &'static str {
    match mount.writable {
        None => "refuses",
        Some(false) => "mounts read-only",
        Some(true) => "mounts",
    }
}

/// Where the forecast is not what the kernel did.
pub(super) fn forecast_differs(forecast: &HostForecast, answer: &Answer) -> Option<String> {
    let read = (forecast.mounts_read_only, answer.read_only.writable.is_some());
    let write = (forecast.mounts_read_write, answer.read_write.writable == Some(true));
    if read.0 != read.1 || write.0 != write.1 {
        let (ro, rw) = (word(&answer.read_only), word(&answer.read_write));
        return Some(format!("forecast reading {} writing {}, the kernel {ro} and {rw}", read.0, write.0));
    }
    for (ours, theirs) in
        [(&forecast.log, &answer.read_only.log), (&forecast.log_read_write, &answer.read_write.log)]
    {
        if ours != theirs {
            return Some(format!("we say {ours:?}, the kernel {theirs:?}"));
        }
    }
    None
}

/// Where the mended volume is not what it should be.
pub(super) fn mended_differs(
    files: &BTreeMap<String, String>,
    contents: &BTreeSet<String>,
    answer: &Answer,
) -> Option<String> {
    if answer.after.writable != Some(true) {
        return Some(format!("mended, the kernel {}", word(&answer.after)));
    }
    if !answer.after.log.is_empty() {
        return Some(format!("mended, the kernel says {:?}", answer.after.log));
    }
    if answer.unread > 0 || answer.wrote == Some(false) {
        return Some(format!("mended, {} files cannot be read, writing {:?}", answer.unread, answer.wrote));
    }
    if let Some((path, _)) = files.iter().find(|(path, hash)| answer.files.get(*path) != Some(*hash)) {
        return Some(format!("mended, {path} is not as it was"));
    }
    let there: BTreeSet<&String> = answer.files.values().collect();
    contents.iter().find(|hash| !there.contains(hash)).map(|_| "mended, a moved file is not whole".to_owned())
}

impl Table {
    /// Compares one case; true when all agrees.
    pub(crate) fn add(&mut self, case: &Case, answer: &Answer) -> bool {
        self.cases += 1;
        let before = self.disagreements.len();
        if answer.read_only.writable.is_none() {
            self.refused += 1;
        }
        if let Some(why) = forecast_differs(&case.forecast, answer) {
            self.disagreements.push(format!("{}: {why}", case.name));
        } else {
            self.forecasts += 1;
            self.lines += u32::try_from(case.forecast.log.len()).unwrap_or(0);
        }
        let differs = case.failure.clone().or_else(|| mended_differs(&case.files, &case.contents, answer));
        if let Some(why) = differs {
            self.disagreements.push(format!("{}: {why}", case.name));
        } else {
            self.mended += 1;
            self.files += answer.files.len();
        }
        self.disagreements.len() == before
    }

    /// Takes what another tells.
    pub(crate) fn join(&mut self, other: Self) {
        self.cases += other.cases;
        self.refused += other.refused;
        self.forecasts += other.forecasts;
        self.lines += other.lines;
        self.mended += other.mended;
        self.files += other.files;
        self.disagreements.extend(other.disagreements);
    }

    /// True when nothing disagreed, and every class of outcome was seen.
    pub(crate) fn agrees(&self) -> bool {
        self.disagreements.is_empty() && self.cases > 0
    }

    /// One table for people.
    pub(crate) fn print(&self, took: Duration) {
        for line in &self.disagreements {
            println!("  disagrees  {line}");
        }
        println!("  cases                                    {:>7}", self.cases);
        println!("  refused by the kernel before repair      {:>7}", self.refused);
        println!("  forecast is what the kernel did          {:>7}", self.forecasts);
        println!("  log lines forecast to the letter         {:>7}", self.lines);
        println!("  mended: mounts, writes, logs nothing     {:>7}", self.mended);
        println!("  files with the right hash afterwards     {:>7}", self.files);
        println!("  disagreements                            {:>7}", self.disagreements.len());
        println!("  seconds                                  {:>7}", took.as_secs());
    }
}
