//! Whole media with their accidents, through every command of the built program.
//!
//! For each row of `punchdog_damage::cards::situations` the commands must tell one story, and what the
//! repair leaves is held against the truth, file by file and by hash. `PUNCHDOG_SITUATION=TEXT` takes the
//! rows with that text in their names; `PUNCHDOG_KEEP=DIR` keeps images and mended copies.

use punchdog_core::family::Kind;
use punchdog_damage::{
    canvas::write_with_holes,
    cards::{
        Card, Volume,
        situations::{self, Ends, Situation},
    },
};
use serde_json::Value;
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write as _,
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};

/// A run of the program.
struct Run {
    status: i32,
    out: String,
    err: String,
}

/// One situation being tried, with what went wrong so far.
struct Trial<'s> {
    at: PathBuf,
    row: &'s Situation,
    card: Card,
    wrong: Vec<String>,
    /// Printed commands are run too.
    follows: bool,
    /// All that was said in words.
    told: String,
    /// Files of which the plan says that they rest on judgement, or what becomes of them.
    named: BTreeSet<String>,
}

impl Trial<'_> {
    fn run(&self, words: &[&str]) -> Run {
        let done = Command::new(env!("CARGO_BIN_EXE_punchdog"))
            .current_dir(&self.at)
            .env_remove("RUST_LOG")
            .env("NO_COLOR", "1")
            .args(words)
            .output()
            .unwrap();
        Run {
            status: done.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&done.stdout).into_owned(),
            err: String::from_utf8_lossy(&done.stderr).into_owned(),
        }
    }

    fn must(&mut self, good: bool, say: impl FnOnce() -> String) {
        if !good {
            self.wrong.push(say());
        }
    }

    /// A JSON document and its exit status; an empty one where the work could not be done.
    fn json(&mut self, words: &[&str]) -> (Value, i32) {
        let done = self.run(&[words, &["--json"]].concat());
        self.must((0..2).contains(&done.status), || {
            let error: Value = serde_json::from_str(&done.out).unwrap_or_default();
            format!("{} ends with {}: {}{}", words.join(" "), done.status, error["error"], done.err.trim())
        });
        (serde_json::from_str(&done.out).unwrap_or_default(), done.status)
    }

    fn whole(&mut self) {
        let (seen, scouted) = self.json(&["scout", "card.img"]);
        if scouted > 1 {
            return;
        }
        let (checked, status) = self.json(&["check", "card.img"]);
        // Scout looks at the way to the volumes, check at the way and into them.
        self.must(scouted <= status, || format!("scout ends with {scouted}, check with {status}"));
        self.must(checked["sound"] == (status == 0), || "check's status is not its word".to_owned());
        let (told, refused) = self.json(&["explain", "card.img"]);
        let blocks = checked.to_string().contains("blocks-mount");
        self.must(blocks == (refused == 1) || status == 1 && !blocks, || {
            format!("explain ends with {refused}, check has a fault that blocks the mount: {blocks}")
        });
        self.told = self.run(&["check", "card.img"]).out + &self.run(&["explain", "card.img"]).out;
        // Every fifth row: what the pages print as next commands runs.
        if self.follows {
            let pages = self.told.clone() + &self.run(&["scout", "card.img"]).out;
            for (number, words) in printed(&pages).into_iter().enumerate() {
                let place = format!("elsewhere-{number}");
                let filled: Vec<&str> = words
                    .iter()
                    .map(|word| if word == "SOMEWHERE-ELSE" { &place } else { word.as_str() })
                    .collect();
                let done = self.run(&filled);
                self.must(done.status < 2, || {
                    format!("{words:?} ends with {}: {}", done.status, done.err.trim())
                });
            }
        }
        self.must(status == 0 || !self.told.contains("Look outside"), || "says to look outside".to_owned());
        self.must(self.row.ends != Ends::Nothing || status == 0, || {
            "a sound medium is called unsound".to_owned()
        });
        self.places(&seen, &told);
        self.salvaged(&seen);
        let flat = self.told.split_whitespace().collect::<Vec<_>>().join(" ");
        for words in self.row.says {
            self.must(flat.contains(words), || format!("nothing says {words:?}"));
        }
        let mended = self.mended();
        if mended && self.row.ends == Ends::Sound {
            let (after, status) = self.json(&["check", "mended.img"]);
            self.must(status == 0, || format!("the mended copy is not sound: {}", codes(&after)));
            let (seen, status) = self.json(&["scout", "mended.img"]);
            self.must(status == 0, || format!("scout on the mended copy: {}", seen["findings"]));
            self.places(&seen, &Value::Null);
        }
    }

    /// Every volume is found where it begins.
    fn places(&mut self, seen: &Value, told: &Value) {
        let found: Vec<(String, u64)> = list(&seen["volumes"])
            .map(|v| (v["kind"].as_str().unwrap_or("").to_owned(), v["offset"].as_u64().unwrap_or(u64::MAX)))
            .collect();
        let due: Vec<(String, u64)> = self
            .card
            .volumes
            .iter()
            .filter_map(|v| Some((v.kind.name().to_owned(), self.card.place(v.start)?)))
            .collect();
        for volume in &due {
            self.must(found.contains(volume), || format!("{volume:?} is not found, but {found:?}"));
        }
        if !due.is_empty() {
            self.must(found.len() == due.len(), || format!("found {found:?}, there are {due:?}"));
        }
        if !told.is_null() {
            let numbers = list(&told["volumes"]).count();
            self.must(numbers == found.len(), || format!("explain speaks of {numbers} volumes"));
        }
    }

    /// Every file that stands untouched can be copied out before the repair.
    fn salvaged(&mut self, seen: &Value) {
        let mut hashes = BTreeSet::new();
        for number in 1..=list(&seen["volumes"]).count() {
            let (number, to) = (number.to_string(), format!("saved-{number}"));
            let done = self.run(&["salvage", "card.img", "--volume", &number, "--to", &to]);
            self.must(done.status < 2, || format!("salvage {number}: {}", done.err.trim()));
            self.told.push_str(&done.out);
            let manifest = fs::read(self.at.join(&to).join("punchdog-salvage.json")).unwrap_or_default();
            let manifest: Value = serde_json::from_slice(&manifest).unwrap_or_default();
            let lies = self.lies(&manifest["files"], |file| file["whole"] == true);
            self.must(lies.is_empty(), || format!("salvage calls whole what is not: {lies:?}"));
            hashes.extend(list(&manifest["files"]).filter_map(|f| Some(f["sha256"].as_str()?.to_owned())));
        }
        self.kept("salvage", &hashes);
        self.deleted(list(&seen["volumes"]).count());
    }

    /// Deleted files that nobody has written over can be copied out too.
    fn deleted(&mut self, volumes: usize) {
        let gone = |volume: &Volume| {
            let files = volume.made.iter().filter(|made| made.deleted && !made.folder && made.size > 0);
            files.map(|made| made.sha256.clone()).collect::<Vec<_>>()
        };
        let due: Vec<String> = self.card.volumes.iter().flat_map(gone).collect();
        if due.is_empty() {
            return;
        }
        let mut hashes = BTreeSet::new();
        for number in 1..=volumes {
            let (number, to) = (number.to_string(), format!("deleted-{number}"));
            let words = ["salvage", "card.img", "--volume", &number, "--state", "deleted", "--to", &to];
            let (saved, _) = self.json(&words);
            hashes.extend(list(&saved["files"]).filter_map(|f| Some(f["sha256"].as_str()?.to_owned())));
        }
        let missing = due.iter().filter(|hash| !hashes.contains(*hash)).count();
        self.must(missing == 0, || format!("{missing} of {} deleted files are missing", due.len()));
    }

    /// Files by their true path that are called whole and have other bytes than they had.
    fn lies(&self, files: &Value, whole: fn(&Value) -> bool) -> Vec<String> {
        let truth: BTreeMap<&str, BTreeSet<&str>> =
            self.card.volumes.iter().flat_map(Volume::files).fold(BTreeMap::new(), |mut map, made| {
                map.entry(made.path.as_str()).or_default().insert(made.sha256.as_str());
                map
            });
        let mut lies = Vec::new();
        for file in list(files).filter(|file| file["folder"] != true && whole(file)) {
            let path = file["path"].as_str().unwrap_or("");
            if let (Some(true_ones), Some(hash)) = (truth.get(path), file["sha256"].as_str())
                // An empty file is all that its entry promises.
                && file["size"] != 0
                && !true_ones.contains(hash)
                && !self.named.contains(path)
            {
                lies.push(path.to_owned());
            }
        }
        lies
    }

    fn kept(&mut self, how: &str, hashes: &BTreeSet<String>) {
        let mut missing = Vec::new();
        for volume in &self.card.volumes {
            let costs = (self.row.costs)(&self.card, volume);
            let untouched = self.card.untouched(volume).filter(|made| !costs.contains(&made.path));
            missing.extend(untouched.filter(|m| !hashes.contains(&m.sha256)).map(|m| m.path.clone()));
        }
        let all: usize = self.card.volumes.iter().map(|v| self.card.untouched(v).count()).sum();
        missing.sort();
        self.must(missing.is_empty(), || {
            format!(
                "{how}: {} of {all} untouched files are missing: {:?}",
                missing.len(),
                &missing[..missing.len().min(4)]
            )
        });
    }

    /// Plans and applies; true when there is a copy.
    fn mended(&mut self) -> bool {
        let (plan, status) = self.json(&["plan", "card.img", "--out", "plan.json"]);
        if status > 1 {
            return false;
        }
        let sound = plan["outcome"]["after"]["sound"] == true;
        self.must(sound == (status == 0), || "plan's status is not its word".to_owned());
        self.must(sound == (self.row.ends != Ends::Remains), || {
            format!("after the plan: sound {sound}, {}", plan["outcome"]["after"]["findings"])
        });
        let judged = list(&plan["steps"]).filter(|step| step["provenance"] == "judged");
        let steps = judged.flat_map(|step| list(&step["paths"])).filter_map(Value::as_str);
        let fates = list(&plan["outcome"]["changes"]).filter(|change| change["fate"] != "back");
        let fates = fates.filter_map(|change| change["path"].as_str());
        self.named = steps.chain(fates).map(str::to_owned).collect();
        let (applied, _) = self.json(&["apply", "plan.json", "--image", "card.img", "--copy", "mended.img"]);
        self.must(applied["as_planned"] == true, || "not as planned".to_owned());
        let (seen, _) = self.json(&["scout", "mended.img"]);
        let mut hashes = BTreeSet::new();
        for number in 1..=list(&seen["volumes"]).count() {
            let number = number.to_string();
            let (files, _) = self.json(&["files", "mended.img", "--volume", &number, "--hash"]);
            let whole = |file: &Value| file["state"] == "intact";
            let lies = self.lies(&files["files"], whole);
            self.must(lies.is_empty(), || format!("intact after the repair and not what it was: {lies:?}"));
            hashes.extend(
                list(&files["files"])
                    .filter(|file| self.row.ends == Ends::Remains || whole(file))
                    .filter_map(|file| Some(file["sha256"].as_str()?.to_owned())),
            );
        }
        self.kept("the repair", &hashes);
        true
    }
}

/// The commands behind "Next" of some pages, as words, each once.
fn printed(pages: &str) -> BTreeSet<Vec<String>> {
    let commands = pages.lines().filter_map(|line| {
        let text = line.trim_start_matches("Next").trim_start().strip_prefix("punchdog ")?;
        Some(text.split("    ").next().unwrap_or(text))
    });
    commands
        .map(|text| text.split_whitespace().map(|word| word.trim_matches('\'').to_owned()).collect())
        .collect()
}

fn list(value: &Value) -> impl Iterator<Item = &Value> {
    value.as_array().into_iter().flatten()
}

/// The codes of a check, for a message.
fn codes(checked: &Value) -> String {
    let volumes = list(&checked["volumes"]).flat_map(|v| list(&v["findings"]));
    let all = volumes.chain(list(&checked["table"]["findings"])).filter(|f| f["weight"] != "remark");
    let codes: BTreeSet<&str> = all.filter_map(|f| f["code"].as_str()).collect();
    format!("{codes:?}")
}

fn keep(at: &Path, row: &Situation, card: &Card) {
    let Ok(to) = std::env::var("PUNCHDOG_KEEP") else { return };
    let name = row.name.replace([' ', ':', ','], "-");
    let kinds: Vec<&str> = card.volumes.iter().map(|v| driver(v.kind)).collect();
    let starts: Vec<String> = card.volumes.iter().map(|v| v.start.to_string()).collect();
    let to = Path::new(&to).join(format!("{name}--{}--{}", kinds.join("+"), starts.join("+")));
    fs::create_dir_all(&to).unwrap();
    for file in ["card.img", "mended.img", "plan.json"] {
        let _ = fs::copy(at.join(file), to.join(file));
    }
}

/// The driver of Linux for it.
fn driver(kind: Kind) -> &'static str {
    match kind {
        Kind::Exfat => "exfat",
        Kind::Ntfs => "ntfs3",
        _ => "vfat",
    }
}

fn attempt(number: usize, row: &Situation) -> Vec<String> {
    let folder = tempfile::tempdir().unwrap();
    let card = (row.make)();
    write_with_holes(&folder.path().join("card.img"), &card.bytes).unwrap();
    let mut trial = Trial {
        at: folder.path().to_owned(),
        row,
        card,
        follows: number % 5 == 2,
        wrong: Vec::new(),
        told: String::new(),
        named: BTreeSet::new(),
    };
    trial.whole();
    keep(folder.path(), row, &trial.card);
    trial.wrong
}

#[test]
fn every_situation_is_told_and_mended() {
    let wanted = std::env::var("PUNCHDOG_SITUATION").unwrap_or_default();
    let rows: Vec<Situation> =
        situations::all().into_iter().filter(|row| row.name.contains(&wanted)).collect();
    assert!(!rows.is_empty());
    let (next, wrong) = (AtomicUsize::new(0), Mutex::new(BTreeMap::new()));
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    let Some(row) = rows.get(number) else { break };
                    let problems = attempt(number, row);
                    if !problems.is_empty() {
                        wrong.lock().unwrap().insert(row.name.clone(), problems);
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    let mut text = String::new();
    for (name, problems) in &wrong {
        let _ = writeln!(text, "{name}");
        for problem in problems {
            let _ = writeln!(text, "    {problem}");
        }
    }
    assert!(wrong.is_empty(), "{} of {} situations:\n{text}", wrong.len(), rows.len());
}
