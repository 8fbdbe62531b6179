//! Files that are not ours stay as they are, whatever they are called; what a killed run left is found.

use super::{Run, folder_with, json, patient, punchdog, run};
use punchdog_core::family::Kind;
use std::{fs, path::Path, process::Stdio, time::Duration};
use tempfile::TempDir;

/// A folder with a damaged card and its plan.
fn planned() -> (TempDir, Vec<u8>) {
    let mut patient = patient(Kind::Fat16);
    patient.fill(0, 512, 0);
    let folder = folder_with("card.img", &patient.bytes);
    json(folder.path(), &["plan", "card.img", "--out", "plan.json"], 0);
    (folder, patient.bytes)
}

fn apply(at: &Path, plan: &str, image: &str, copy: &str) -> Run {
    run(at, &["apply", plan, "--image", image, "--copy", copy])
}

/// Every file of a folder with its bytes.
fn all(at: &Path) -> Vec<(String, Vec<u8>)> {
    let mut found: Vec<(String, Vec<u8>)> = fs::read_dir(at)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.is_file())
        .map(|path| (path.file_name().unwrap().to_string_lossy().into_owned(), fs::read(&path).unwrap()))
        .collect();
    found.sort();
    found
}

#[test]
fn a_journal_replaces_nothing() {
    let (folder, card) = planned();
    let at = folder.path();
    fs::write(at.join("notes.undo"), b"what the customer said on the phone").unwrap();
    fs::write(at.join("empty.undo"), b"").unwrap();
    fs::copy(at.join("card.img"), at.join("whole.undo")).unwrap();
    fs::copy(at.join("plan.json"), at.join("planned.undo")).unwrap();
    fs::hard_link(at.join("card.img"), at.join("linked.undo")).unwrap();
    fs::create_dir(at.join("folder.undo")).unwrap();
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink("notes.undo", at.join("pointing.undo")).unwrap();
        std::os::unix::fs::symlink("nowhere", at.join("dangling.undo")).unwrap();
    }
    let before = all(at);
    for copy in ["notes", "empty", "whole", "planned", "linked", "folder", "pointing", "dangling"] {
        if !cfg!(unix) && (copy == "pointing" || copy == "dangling") {
            continue;
        }
        let done = apply(at, "plan.json", "card.img", copy);
        assert_eq!(done.status, 2, "{copy}: {}{}", done.out, done.err);
        assert!(done.err.contains("Next"), "{copy}: {}", done.err);
        assert_eq!(all(at), before, "{copy}: nothing has changed");
    }
    // The image and the plan themselves in the journal's place, or as the copy.
    fs::rename(at.join("card.img"), at.join("run.undo")).unwrap();
    fs::copy(at.join("plan.json"), at.join("other.undo")).unwrap();
    let before = all(at);
    for (plan, copy) in [("plan.json", "run"), ("other.undo", "other"), ("plan.json", "plan.json")] {
        let done = apply(at, plan, "run.undo", copy);
        assert_eq!(done.status, 2, "{copy}: {}", done.out);
        assert_eq!(all(at), before, "{copy}");
    }
    assert_eq!(fs::read(at.join("run.undo")).unwrap(), card);
}

#[test]
fn a_plan_replaces_plans_only() {
    let (folder, card) = planned();
    let at = folder.path();
    fs::write(at.join("notes.json"), b"{\"schema\": \"of somebody else\"}").unwrap();
    fs::write(at.join("other.img"), &card).unwrap();
    #[cfg(unix)]
    std::os::unix::fs::symlink("plan.json", at.join("link.json")).unwrap();
    fs::create_dir(at.join("dir")).unwrap();
    let before = all(at);
    for out in ["notes.json", "other.img", "card.img", "link.json", "dir"] {
        if out == "link.json" && !cfg!(unix) {
            continue;
        }
        for words in
            [&["plan", "card.img", "--out", out][..], &["plan", "card.img", "--out", out, "--replace"]]
        {
            let done = run(at, words);
            assert_eq!(done.status, 2, "{words:?}: {}", done.out);
            assert_eq!(all(at), before, "{words:?}");
        }
    }
    assert_eq!(run(at, &["plan", "card.img", "--out", "plan.json"]).status, 2, "not without being told to");
    json(at, &["plan", "card.img", "--out", "plan.json", "--replace"], 0);
    assert_eq!(apply(at, "plan.json", "card.img", "new.img").status, 0);
}

#[cfg(unix)]
#[test]
fn pipes_and_devices_are_told_and_not_waited_for() {
    let (folder, _) = planned();
    let at = folder.path();
    let made = std::process::Command::new("mkfifo").arg(at.join("pipe")).status().unwrap();
    assert!(made.success());
    for (words, says) in [
        (vec!["check", "pipe"], "is a pipe"),
        (vec!["scout", "pipe"], "is a pipe"),
        (vec!["check", "/dev/null"], "character device"),
        (vec!["plan", "card.img", "--out", "pipe"], "not a file"),
        (vec!["plan", "card.img", "--out", "pipe", "--replace"], "not a file"),
        (vec!["apply", "plan.json", "--image", "card.img", "--copy", "pipe"], "not a file"),
        (vec!["apply", "pipe", "--image", "card.img", "--copy", "new.img"], "no plan"),
        (vec!["undo", "pipe"], "not a file"),
        (vec!["salvage", "card.img", "--to", "pipe"], "not a folder"),
    ] {
        let done = punchdog(at, &words).timeout(Duration::from_secs(20)).output().unwrap();
        let text = String::from_utf8_lossy(&done.stderr).replace("\n          ", " ");
        assert_eq!(done.status.code(), Some(2), "{words:?}: {text}");
        assert!(text.contains(says) && text.contains("Next"), "{words:?}: {text}");
    }
}

#[test]
fn what_a_killed_run_left_is_taken_away_and_said() {
    let (folder, card) = planned();
    let at = folder.path();
    let stale = at.join(".punchdog-abc123.unfinished");
    fs::write(&stale, &card).unwrap();
    let strange = at.join(".punchdog-notes.txt");
    fs::write(&strange, b"not ours").unwrap();
    // One that a run is at work on holds a lock.
    let busy = fs::File::create(at.join(".punchdog-busy.unfinished")).unwrap();
    busy.lock().unwrap();
    let done = apply(at, "plan.json", "card.img", "new.img");
    assert_eq!(done.status, 0, "{}", done.err);
    assert!(done.err.contains("abc123.unfinished") && !done.err.contains("busy"), "{}", done.err);
    assert!(!stale.exists() && strange.exists() && at.join(".punchdog-busy.unfinished").exists());
    fs::create_dir(at.join("out")).unwrap();
    let stale = at.join("out/.punchdog-part.unfinished");
    fs::write(&stale, b"half a picture").unwrap();
    let saved = run(at, &["salvage", "card.img", "--to", "out"]);
    assert_eq!(saved.status, 0, "{}", saved.err);
    assert!(saved.err.contains("part.unfinished") && !stale.exists(), "{}", saved.err);
    let left: Vec<_> = fs::read_dir(at.join("out")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().starts_with(".punchdog")), "{left:?}");
}

#[test]
fn two_salvages_do_not_work_in_one_folder() {
    let (folder, _) = planned();
    let at = folder.path();
    fs::create_dir(at.join("out")).unwrap();
    let lock = fs::File::create(at.join("out/.punchdog-salvage.lock")).unwrap();
    lock.lock().unwrap();
    let done = run(at, &["salvage", "card.img", "--to", "out"]);
    assert!(done.status == 2 && done.err.contains("another salvage"), "{}", done.err);
    drop(lock);
    fs::write(at.join("out/.punchdog-salvage.lock"), b"a note of somebody").unwrap();
    assert_eq!(run(at, &["salvage", "card.img", "--to", "out"]).status, 2);
    assert_eq!(fs::read(at.join("out/.punchdog-salvage.lock")).unwrap(), b"a note of somebody");
}

#[test]
fn errors_are_one_document_too() {
    let (folder, _) = planned();
    let at = folder.path();
    fs::write(at.join("text.txt"), b"Wind from the west. ".repeat(400)).unwrap();
    for words in [
        vec!["check", "nowhere.img"],
        vec!["scout", "text.txt"],
        vec!["check", "text.txt"],
        vec!["files", "card.img", "--volume", "9"],
        vec!["plan", "card.img", "--out", "card.img"],
        vec!["plan", "card.img", "--choose", "nothing=this"],
        vec!["apply", "text.txt", "--image", "card.img", "--copy", "new.img"],
        vec!["undo", "card.img"],
        vec!["explain", "card.img", "--sector", "3"],
        vec!["frobnicate"],
        vec!["salvage", "card.img"],
    ] {
        let document = json(at, &words, 2);
        assert_eq!(document["schema"], "punchdog.error/1", "{words:?}");
        assert!(document["error"].as_str().is_some_and(|text| text.len() > 10), "{words:?}: {document}");
        assert!(document["next"].as_array().is_some_and(|next| !next.is_empty()), "{words:?}");
    }
    for sector in ["0", "3", "1000", "8192"] {
        assert_eq!(run(at, &["explain", "card.img", "--sector", sector]).status, 2, "{sector}");
    }
    let demo = json(at, &["demo", "station"], 0);
    assert_eq!(demo["files_back"], demo["files"], "{demo}");
}

#[cfg(unix)]
#[test]
fn whoever_reads_only_the_beginning_is_served() {
    let folder = tempfile::tempdir().unwrap();
    for words in [&["completions", "bash"][..], &["manual"], &["check", "--help"]] {
        let program = punchdog(folder.path(), &[]).get_program().to_owned();
        let mut child = std::process::Command::new(program)
            .args(words)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        let done = child.wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&done.stderr);
        assert!(text.is_empty() && done.status.code() == Some(0), "{words:?}: {:?} {text}", done.status);
    }
}
