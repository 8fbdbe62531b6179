//! Plan files and journals that were edited, cut or belong to something else; applies that were
//! stopped; places that apply must not write to.

use super::{Run, folder_with, json, patient, punchdog, run};
use punchdog_core::family::Kind;
use serde_json::Value;
use std::{fs, path::Path};
use tempfile::TempDir;

/// A folder with a damaged card and its plan.
fn planned() -> (TempDir, Vec<u8>, Value) {
    let mut patient = patient(Kind::Fat16);
    patient.fill(0, 512, 0);
    let cluster = patient.find("Logs/station.log").clusters[1];
    patient.set_link_in(0, cluster, 0);
    let folder = folder_with("card.img", &patient.bytes);
    let plan = json(folder.path(), &["plan", "card.img", "--out", "plan.json"], 0);
    (folder, patient.bytes, plan)
}

fn apply(at: &Path, plan: &str, copy: &str) -> Run {
    run(at, &["apply", plan, "--image", "card.img", "--copy", copy])
}

/// Every place in a document, as a path of keys.
fn places(value: &Value, above: &str, into: &mut Vec<String>) {
    match value {
        Value::Object(fields) => {
            for (key, inner) in fields {
                // JSON pointers (RFC 6901, section 3) write "/" in a key as "~1".
                places(inner, &format!("{above}/{}", key.replace('/', "~1")), into);
            }
        }
        Value::Array(items) => {
            items
                .iter()
                .take(2)
                .enumerate()
                .for_each(|(n, inner)| places(inner, &format!("{above}/{n}"), into));
        }
        _ => into.push(above.to_owned()),
    }
}

fn other(value: &Value) -> Value {
    match value {
        Value::Bool(flag) => Value::Bool(!flag),
        Value::Number(number) => (number.as_u64().unwrap() ^ 1).into(),
        Value::String(text) => format!("{text}0").into(),
        _ => Value::Bool(true),
    }
}

#[test]
fn a_plan_with_any_one_value_changed_is_refused() {
    let (folder, card, _) = planned();
    let at = folder.path();
    let text = fs::read_to_string(at.join("plan.json")).unwrap();
    let plan: Value = serde_json::from_str(&text).unwrap();
    let mut all = Vec::new();
    places(&plan, "", &mut all);
    assert!(all.len() > 40, "{all:?}");
    for place in all {
        let mut edited = plan.clone();
        let value = edited.pointer_mut(&place).unwrap();
        *value = other(value);
        fs::write(at.join("edited.json"), serde_json::to_string_pretty(&edited).unwrap()).unwrap();
        let done = apply(at, "edited.json", "new.img");
        assert_eq!(done.status, 2, "{place}: {}{}", done.out, done.err);
        assert!(done.err.contains("Next") || done.err.contains("punchdog plan"), "{place}: {}", done.err);
        assert!(!at.join("new.img").exists(), "{place}: nothing is written");
    }
    assert_eq!(fs::read(at.join("card.img")).unwrap(), card);
    assert_eq!(apply(at, "plan.json", "new.img").status, 0, "the plan as it was still applies");
}

#[test]
fn a_plan_file_cut_anywhere_is_refused() {
    let (folder, ..) = planned();
    let at = folder.path();
    let text = fs::read(at.join("plan.json")).unwrap();
    for part in 0..12 {
        fs::write(at.join("cut.json"), &text[..text.len() * part / 12]).unwrap();
        let done = apply(at, "cut.json", "new.img");
        assert_eq!(done.status, 2, "{part}: {}", done.out);
        assert!(done.err.contains("no plan file"), "{}", done.err);
    }
}

#[test]
fn an_image_that_changed_where_the_plan_looked_is_refused() {
    let (folder, card, plan) = planned();
    let at = folder.path();
    let evidence = plan["image"]["evidence"].as_array().unwrap();
    assert!(!evidence.is_empty());
    for extent in evidence.iter().take(20) {
        let offset = usize::try_from(extent["offset"].as_u64().unwrap()).unwrap();
        let mut changed = card.clone();
        changed[offset] ^= 0x10;
        fs::write(at.join("card.img"), changed).unwrap();
        let done = apply(at, "plan.json", "new.img");
        assert_eq!(done.status, 2, "{offset}: {}", done.out);
        assert!(done.err.contains("another image"), "{}", done.err);
        assert!(!at.join("new.img").exists());
    }
    for length in [card.len() - 512, card.len() + 512] {
        let mut other = card.clone();
        other.resize(length, 0);
        fs::write(at.join("card.img"), other).unwrap();
        assert_eq!(apply(at, "plan.json", "new.img").status, 2);
    }
}

#[test]
fn undo_wants_its_own_journal_whole() {
    let (folder, card, _) = planned();
    let at = folder.path();
    assert_eq!(apply(at, "plan.json", "new.img").status, 0);
    let journal = fs::read_dir(at)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .find(|path| path.to_string_lossy().contains("undo"))
        .expect("a journal beside the copy");
    let whole = fs::read(&journal).unwrap();
    let mended = fs::read(at.join("new.img")).unwrap();
    for at_byte in (0..whole.len()).step_by(whole.len() / 9 + 1) {
        let mut broken = whole.clone();
        broken[at_byte] ^= 0x40;
        fs::write(&journal, broken).unwrap();
        let done = run(at, &["undo", "new.img"]);
        assert_eq!(done.status, 2, "byte {at_byte}: {}", done.out);
        assert_eq!(fs::read(at.join("new.img")).unwrap(), mended, "nothing is written");
    }
    // Bytes that are neither the old nor the new ones: somebody worked on the copy since.
    fs::write(&journal, &whole).unwrap();
    let mut worked_on = mended.clone();
    worked_on[3] ^= 0xA5;
    fs::write(at.join("new.img"), &worked_on).unwrap();
    let done = run(at, &["undo", "new.img"]);
    assert_eq!(done.status, 2, "{}", done.out);
    assert_eq!(fs::read(at.join("new.img")).unwrap(), worked_on);
    fs::write(at.join("new.img"), &mended).unwrap();
    assert_eq!(run(at, &["undo", "new.img"]).status, 0);
    assert_eq!(fs::read(at.join("new.img")).unwrap(), card);
}

/// Runs apply with a limit on the size of files, as on a disk that fills up.
#[cfg(unix)]
fn apply_with_limit(at: &Path, blocks: usize) -> i32 {
    let program = punchdog(at, &[]).get_program().to_owned();
    let line = format!(
        "trap '' XFSZ; ulimit -f {blocks}; exec \"$0\" apply plan.json --image card.img --copy new.img"
    );
    let done = std::process::Command::new("bash")
        .current_dir(at)
        .env("NO_COLOR", "1")
        .args(["-c", &line])
        .arg(program)
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&done.stderr);
    assert!(done.status.code() == Some(0) || text.contains("Next"), "{blocks}: {text}");
    done.status.code().expect("it ends by itself")
}

#[cfg(unix)]
#[test]
fn a_disk_that_fills_up_costs_nothing() {
    let (folder, card, _) = planned();
    let at = folder.path();
    let mut refused = 0;
    // From no room at all to room for the journal and most of the copy.
    for blocks in [0, 1, 2, 8, card.len() / 1024 / 2, card.len() / 1024 - 1] {
        if apply_with_limit(at, blocks) == 2 {
            refused += 1;
        }
        assert_eq!(fs::read(at.join("card.img")).unwrap(), card, "the image is untouched");
    }
    assert!(refused > 0, "the limit was felt");
    // With room again the same command goes on to the end.
    let done = apply(at, "plan.json", "new.img");
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    assert_eq!(json(at, &["check", "new.img"], 0)["sound"], true);
    assert_eq!(run(at, &["undo", "new.img"]).status, 0);
    assert_eq!(fs::read(at.join("new.img")).unwrap(), card);
}

#[cfg(unix)]
#[test]
fn an_apply_that_is_killed_can_be_finished_or_undone() {
    let (folder, card, _) = planned();
    let at = folder.path();
    for wait in [0_u64, 1, 2, 4, 8, 16, 32] {
        for finish in [true, false] {
            for name in ["new.img", "new.img.undo"] {
                let _ = fs::remove_file(at.join(name));
            }
            let program = punchdog(at, &[]).get_program().to_owned();
            let mut child = std::process::Command::new(program)
                .current_dir(at)
                .args(["apply", "plan.json", "--image", "card.img", "--copy", "new.img"])
                .stdout(std::process::Stdio::null())
                .stderr(std::process::Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(std::time::Duration::from_millis(wait));
            let _ = child.kill();
            child.wait().unwrap();
            if finish {
                let done = apply(at, "plan.json", "new.img");
                assert_eq!(done.status, 0, "after {wait} ms: {}{}", done.out, done.err);
                assert_eq!(json(at, &["check", "new.img"], 0)["sound"], true);
            } else if at.join("new.img").exists()
                && fs::metadata(at.join("new.img")).unwrap().len() == card.len() as u64
            {
                let undone = run(at, &["undo", "new.img"]);
                assert!(undone.status == 0 || undone.err.contains("journal"), "{}", undone.err);
                assert_eq!(fs::read(at.join("new.img")).unwrap(), card, "after {wait} ms");
            }
        }
    }
}
