//! The whole job: check, explain, plan, apply, check again, undo.

use super::{folder_with, json, patient, run};
use punchdog_core::family::Kind;
use punchdog_damage::faults::Patient;
use std::{collections::BTreeMap, fs};

/// Every file of `files --json --hash` that is no folder: path to hash.
fn hashes(document: &serde_json::Value) -> BTreeMap<String, String> {
    let files = document["files"].as_array().unwrap().iter().filter(|file| file["folder"] == false);
    files.map(|f| (f["path"].as_str().unwrap().into(), f["sha256"].as_str().unwrap_or("").into())).collect()
}

fn truth(patient: &Patient) -> BTreeMap<String, String> {
    patient.live().filter(|made| !made.folder).map(|made| (made.path.clone(), made.sha256.clone())).collect()
}

#[test]
fn from_unreadable_to_mended_and_back() {
    for kind in [Kind::Fat12, Kind::Fat16, Kind::Fat32] {
        let mut patient = patient(kind);
        let expected = truth(&patient);
        patient.fill(0, 512, 0);
        let cluster = patient.find("Logs/station.log").clusters[1];
        patient.set_link_in(0, cluster, 0);
        let folder = folder_with("card.img", &patient.bytes);
        let at = folder.path();

        let checked = json(at, &["check", "card.img"], 1);
        assert_eq!(checked["schema"], "punchdog.check/2");
        let volume = &checked["volumes"][0];
        assert_eq!(
            (&volume["kind"], &volume["offset"], &volume["sound"]),
            (&kind.name().into(), &0.into(), &false.into())
        );
        let codes: Vec<&str> =
            volume["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
        assert!(codes.contains(&"fat/boot-gone") && codes.contains(&"fat/copies-differ"), "{codes:?}");

        let explained = json(at, &["explain", "card.img"], 1);
        let linux = &explained["hosts"][0];
        assert_eq!((&linux["host"], &linux["mounts_read_only"]), (&"linux".into(), &false.into()));
        assert_eq!(linux["refused_by"], "fat/boot-gone");
        assert!(linux["log"].as_str().unwrap().contains("bogus number of reserved sectors"));

        assert_eq!(
            hashes(&json(at, &["files", "card.img", "--hash"], 0)),
            expected,
            "readable before any repair"
        );

        let plan = json(at, &["plan", "card.img", "--out", "card.plan.json"], 0);
        assert_eq!(plan["outcome"]["after"]["sound"], true);
        assert!(!plan["steps"].as_array().unwrap().is_empty());
        let words = ["apply", "card.plan.json", "--image", "card.img", "--copy", "mended.img"];
        let applied = json(at, &words, 0);
        assert_eq!(applied["as_planned"], true);
        assert_eq!(fs::read(at.join("card.img")).unwrap(), patient.bytes, "the image is never changed");

        assert_eq!(json(at, &["check", "mended.img"], 0)["sound"], true);
        assert_eq!(json(at, &["explain", "mended.img"], 0)["hosts"][0]["mounts_read_write"], true);
        assert_eq!(hashes(&json(at, &["files", "mended.img", "--hash"], 0)), expected);

        let again = json(at, &words, 0);
        assert_eq!(again["finished_an_earlier_apply"], false, "applying twice does no harm");
        assert_eq!(again["written_bytes"], plan["outcome"]["written"]["bytes"], "one number");
        json(at, &["undo", "mended.img"], 0);
        assert_eq!(fs::read(at.join("mended.img")).unwrap(), patient.bytes, "undo gives the image back");
        let after_undo = run(at, &words);
        assert!(!after_undo.out.contains("cut off"), "{}", after_undo.out);
        fs::remove_file(at.join("mended.img")).unwrap();
        let gone = json(at, &["undo", "mended.img"], 2);
        assert_eq!(gone["schema"], "punchdog.error/1", "with the copy gone nothing is undone");
    }
}

#[test]
fn apply_is_refused_where_it_would_do_harm() {
    let mut patient = patient(Kind::Fat16);
    patient.fill(0, 512, 0);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    json(at, &["plan", "card.img", "--out", "plan.json"], 0);
    fs::hard_link(at.join("card.img"), at.join("same.img")).unwrap();
    fs::write(at.join("other.img"), b"somebody's work").unwrap();
    fs::create_dir(at.join("folder")).unwrap();
    let mut changed = patient.bytes.clone();
    changed[600] ^= 0xFF;
    fs::write(at.join("changed.img"), changed).unwrap();
    let edited =
        fs::read_to_string(at.join("plan.json")).unwrap().replacen("\"offset\": 0", "\"offset\": 1", 1);
    fs::write(at.join("edited.json"), edited).unwrap();
    for (plan, image, copy, says) in [
        ("plan.json", "card.img", "card.img", "the image itself"),
        ("plan.json", "card.img", "same.img", "the image itself"),
        ("plan.json", "card.img", "other.img", "already exists"),
        ("plan.json", "card.img", "folder", "not a file"),
        ("plan.json", "card.img", "no/such/folder.img", "writing the journal"),
        ("plan.json", "changed.img", "new.img", "another image"),
        ("edited.json", "card.img", "new.img", "changed after it was made"),
        ("card.img", "card.img", "new.img", "no plan file"),
        ("nothing.json", "card.img", "new.img", "cannot be read"),
    ] {
        let done = run(at, &["apply", plan, "--image", image, "--copy", copy]);
        assert_eq!(done.status, 2, "{plan} {image} {copy}: {}", done.out);
        assert!(done.err.replace("\n          ", " ").contains(says), "{says}: {}", done.err);
        assert!(done.err.contains("Next"), "{}", done.err);
        assert!(!at.join("new.img").exists());
    }
    assert_eq!(fs::read(at.join("card.img")).unwrap(), patient.bytes);
    assert_eq!(fs::read(at.join("other.img")).unwrap(), b"somebody's work");
    let undone = run(at, &["undo", "other.img"]);
    assert_eq!(undone.status, 2);
    assert!(undone.err.contains("no journal"), "{}", undone.err);
}

#[test]
fn choices_are_offered_taken_and_checked() {
    let mut patient = patient(Kind::Fat32);
    patient.set_size("ledges.csv", 0);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let grown = json(at, &["plan", "card.img"], 0);
    assert_eq!(grown["choices"][0]["name"], "no-size");
    assert_eq!(grown["choices"][0]["taken"], "trust-chain");
    let freed = json(at, &["plan", "card.img", "--choose", "no-size=trust-size"], 0);
    assert_eq!(freed["choices"][0]["taken"], "trust-size");
    assert_ne!(grown["steps"], freed["steps"]);
    for wrong in ["no-size=maybe", "no-such=thing", "no-equals-sign"] {
        let done = run(at, &["plan", "card.img", "--choose", wrong]);
        assert_eq!(done.status, 2, "{wrong}");
        assert!(done.err.contains("Next"), "{}", done.err);
    }
}

#[test]
fn a_sound_volume_needs_nothing() {
    let folder = folder_with("sound.img", &patient(Kind::Fat32).bytes);
    let at = folder.path();
    let plan = json(at, &["plan", "sound.img", "--out", "p.json"], 0);
    assert_eq!(plan["steps"], serde_json::json!([]));
    assert!(run(at, &["plan", "sound.img"]).out.contains("nothing to mend"));
    let refused = run(at, &["plan", "sound.img", "--out", "p.json"]);
    assert_eq!(refused.status, 2, "a plan is not overwritten unasked");
    assert_eq!(run(at, &["plan", "sound.img", "--out", "p.json", "--replace"]).status, 0);
}

/// Ctrl-C ends long work at the next safe point: nothing is left half done.
#[cfg(unix)]
#[test]
fn long_work_stops_when_it_is_told_to() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    punchdog_damage::large::garbage_folder(&at.join("card.img"), 96 << 20).unwrap();
    for words in [
        &["plan", "card.img", "--out", "plan.json"][..],
        &["files", "card.img", "--hash"],
        &["salvage", "card.img", "--to", "out"],
    ] {
        let program = super::punchdog(at, &[]).get_program().to_owned();
        let child = std::process::Command::new(program)
            .current_dir(at)
            .args(words)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(700));
        let asked = std::time::Instant::now();
        let told =
            std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
        assert!(told.success(), "{words:?} was at work for less than 0.7 s");
        let done = child.wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(2), "{words:?}: {text}");
        assert!(text.contains("stopped on request") && text.contains("Next"), "{words:?}: {text}");
        assert!(asked.elapsed().as_secs() < 10, "{words:?} took {:?} to stop", asked.elapsed());
        assert!(!at.join("plan.json").exists());
    }
}
