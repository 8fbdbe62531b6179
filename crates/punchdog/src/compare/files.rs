//! By files: the same, moved, changed, missing, only in the other.

use super::side::{Entry, Side};
use crate::{
    args::{Args, Compare},
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{arith::Sat, comparison, formats::Source, progress::Watch};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashMap;

/// Files of one kind that are named.
const SHOWN: usize = 12;

/// The document of `compare`, by files.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "ByFiles")]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.compare/1"))]
    schema: &'static str,
    #[schemars(extend("const" = "files"))]
    by: &'static str,
    one: String,
    other: String,
    alike: bool,
    /// Files of each fate.
    same: u64,
    changed: u64,
    moved: u64,
    missing: u64,
    only_in_other: u64,
    files: Vec<Row>,
}

/// What became of a file from the first side to the second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Fate {
    Missing,
    Changed,
    Moved,
    OnlyInOther,
    Same,
}

/// A file with what became of it.
#[derive(Debug, Serialize, JsonSchema)]
struct Row {
    fate: Fate,
    path: String,
    /// Its path in the other, where it was moved.
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<String>,
    /// Bytes on each side.
    bytes: [Option<u64>; 2],
    /// The first byte that differs.
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<u64>,
    /// The SHA-256 on each side.
    sha256: [Option<String>; 2],
    /// The file system of the first side says that it is not whole there.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    damaged: bool,
}

fn stopped() -> anyhow::Error {
    Failure::with("stopped on request", "nothing was written; compare again")
}

pub(super) fn run(args: &Args, given: &Compare, screen: &Screen) -> anyhow::Result<Verdict> {
    let one = Side::open(&given.one, (given.at_a, given.volume_a), false, screen)?;
    let other = Side::open(&given.other, (given.at_b, given.volume_b), true, screen)?;
    let mut rows = Vec::new();
    let mut alone: Vec<(&String, &Entry)> = Vec::new();
    let all = one.files.len().wide();
    for (number, (path, entry)) in one.files.iter().enumerate() {
        screen.at("comparing files", number.wide(), all);
        match other.files.get(path) {
            Some(there) => rows.push(both(&one, &other, path, (entry, there), screen)?),
            None => alone.push((path, entry)),
        }
    }
    let extra: Vec<(&String, &Entry)> =
        other.files.iter().filter(|(path, _)| !one.files.contains_key(*path)).collect();
    rows.extend(unmatched((&one, alone), (&other, extra), screen)?);
    rows.sort_by(|a, b| (a.fate, &a.path).cmp(&(b.fate, &b.path)));
    let alike = rows.iter().all(|row| row.fate == Fate::Same);
    let count = |fate: Fate| rows.iter().filter(|row| row.fate == fate).count().wide();
    if args.json {
        json::print(&Document {
            schema: "punchdog.compare/1",
            by: "files",
            one: given.one.display().to_string(),
            other: given.other.display().to_string(),
            alike,
            same: count(Fate::Same),
            changed: count(Fate::Changed),
            moved: count(Fate::Moved),
            missing: count(Fate::Missing),
            only_in_other: count(Fate::OnlyInOther),
            files: rows,
        })?;
        return Ok(Verdict::of(alike));
    }
    let mut page = Page::new();
    let (verdict, style) = if alike { ("the same files", page::GOOD) } else { ("different", page::BAD) };
    page.head(&format!("{} against {}", page::clean(&one.title), page::clean(&other.title)), verdict, style);
    page.gap();
    for (fate, word, meaning, style) in [
        (Fate::Same, "same", "byte for byte, under the same path", page::GOOD),
        (Fate::Moved, "moved", "the same bytes under another path", page::WARN),
        (Fate::Changed, "changed", "other bytes under the same path", page::BAD),
        (Fate::Missing, "missing", "not in the second", page::BAD),
        (Fate::OnlyInOther, "new", "only in the second", page::WARN),
    ] {
        let number = count(fate);
        if number == 0 {
            continue;
        }
        page.beside(16, &format!("{number:>5} {word}"), style, meaning);
        if fate == Fate::Same {
            continue;
        }
        let hit: Vec<&Row> = rows.iter().filter(|row| row.fate == fate).collect();
        for row in hit.iter().take(SHOWN) {
            let to = row.to.as_ref().map_or(String::new(), |to| format!(" → {to}"));
            let from = row.from.map_or(String::new(), |from| format!(", from byte {from} on"));
            let damaged = if row.damaged { ", not whole in the first" } else { "" };
            page.under(16, &format!("{}{to}{from}{damaged}", row.path));
        }
        if hit.len() > SHOWN {
            page.under_faint(16, &format!("and {} more; --json lists them", hit.len() - SHOWN));
        }
    }
    if rows.is_empty() {
        page.say("Neither has a file.");
    }
    page.print()?;
    Ok(Verdict::of(alike))
}

/// A path that both have.
fn both(
    one: &Side,
    other: &Side,
    path: &str,
    (entry, there): (&Entry, &Entry),
    screen: &Screen,
) -> anyhow::Result<Row> {
    let compared = one
        .with(entry, |left| other.with(there, |right| comparison::contents(left, right, screen)))??
        .ok_or_else(stopped)?;
    // What cannot be had of a file is no content of it.
    let differs = compared.from.or((entry.size != there.size).then(|| entry.size.min(there.size)));
    let [left, right] = compared.sha256;
    Ok(Row {
        fate: if differs.is_none() { Fate::Same } else { Fate::Changed },
        path: path.to_owned(),
        to: None,
        bytes: [Some(entry.size), Some(there.size)],
        from: differs,
        sha256: [Some(left), Some(right)],
        damaged: entry.damaged,
    })
}

fn sum(side: &Side, entry: &Entry, screen: &Screen) -> anyhow::Result<String> {
    let nothing: &[u8] = &[];
    let compared = side.with(entry, |source: &dyn Source| comparison::contents(source, &nothing, screen))?;
    compared.map(|compared| compared.sha256.into_iter().next().unwrap_or_default()).ok_or_else(stopped)
}

/// Files whose path only one side has: with the same bytes on the other side they were moved.
fn unmatched(
    (one, alone): (&Side, Vec<(&String, &Entry)>),
    (other, extra): (&Side, Vec<(&String, &Entry)>),
    screen: &Screen,
) -> anyhow::Result<Vec<Row>> {
    let mut rows = Vec::new();
    let mut there: HashMap<(u64, String), Vec<(&String, u64)>> = HashMap::new();
    for (path, entry) in extra {
        there.entry((entry.size, sum(other, entry, screen)?)).or_default().push((path, entry.size));
    }
    for (path, entry) in alone {
        let sha256 = sum(one, entry, screen)?;
        let moved = there.get_mut(&(entry.size, sha256.clone())).and_then(Vec::pop);
        // Empty files are all alike: that one has the place of another says nothing.
        let moved = moved.filter(|_| entry.size > 0);
        rows.push(Row {
            fate: if moved.is_some() { Fate::Moved } else { Fate::Missing },
            path: path.clone(),
            to: moved.map(|(path, _)| path.clone()),
            bytes: [Some(entry.size), moved.map(|(_, size)| size)],
            from: None,
            sha256: [Some(sha256.clone()), moved.map(|_| sha256)],
            damaged: entry.damaged,
        });
    }
    for ((_, sha256), left) in there {
        for (path, size) in left {
            rows.push(Row {
                fate: Fate::OnlyInOther,
                path: path.clone(),
                to: None,
                bytes: [None, Some(size)],
                from: None,
                sha256: [None, Some(sha256.clone())],
                damaged: false,
            });
        }
    }
    Ok(rows)
}
