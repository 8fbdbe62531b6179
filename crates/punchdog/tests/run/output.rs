//! What people and programs read.

use super::{folder_with, json, patient, punchdog, run};
use punchdog_core::{catalogue::all_entries, family::Kind};
use punchdog_damage::{faults, seed::Seed};
use std::collections::BTreeSet;

/// As many faults at once as leave something to be told; by name, so that a new row changes nothing here.
const MANY: [&str; 16] = [
    "boot sector zeroed",
    "sector size wrong in boot sector and backup",
    "root entries odd",
    "table size 0",
    "backup sector number FFFF",
    "free count huge",
    "image cut short",
    "a sector of copy 0 overwritten with text",
    "one chain zeroed in both copies",
    "chain into another's",
    "folder's first cluster 0",
    "lost chain, to be freed",
    "\"..\" of a folder in the root does not name 0",
    "long name numbered wrongly",
    "control character in a short name",
    "deleted folder whose clusters are in use",
];

#[test]
fn no_line_is_wider_than_the_terminal() {
    let mut patient = patient(Kind::Fat32);
    for name in MANY {
        let fault = faults::all().find(|fault| fault.name == name).expect("a row of that name");
        (fault.make)(&mut patient, &mut Seed::new(2));
    }
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let commands: [&[&str]; 8] = [
        &["scout", "card.img"],
        &["check", "card.img", "--all"],
        &["explain", "card.img"],
        &["fields", "card.img"],
        &["files", "card.img"],
        &["salvage", "card.img", "--list"],
        &["plan", "card.img", "--out", "card.plan.json", "--replace"],
        &["apply", "card.plan.json", "--image", "card.img", "--copy", "card.mended.img"],
    ];
    for wide in [40, 60, 80, 100, 120] {
        for words in commands {
            let done = punchdog(at, words).env("COLUMNS", wide.to_string()).output().unwrap();
            let out = String::from_utf8(done.stdout).unwrap();
            assert!(done.status.code().unwrap() < 2, "{words:?}");
            for line in out.lines() {
                let columns = line.chars().count();
                // A command is never broken: it is there to be copied.
                assert!(
                    columns <= wide || line.contains("punchdog "),
                    "{words:?}, {columns} of {wide}: {line}"
                );
            }
            assert!(out.lines().count() > 3, "{words:?}");
        }
    }
}

/// Characters that a terminal obeys, or that hide others, come out escaped, in text and in JSON.
#[test]
fn odd_characters_in_names_are_escaped_everywhere() {
    let odd = ['\u{202E}', '\u{85}', '\u{200B}', '\u{2028}', '\u{7F}', '\u{2066}'];
    for c in odd {
        let mut patient = patient(Kind::Fat16);
        let made = patient.find("Logs/2026/counts on the western ledges, second visit.csv");
        let unit = u16::try_from(u32::from(c)).unwrap().to_le_bytes();
        patient.write(made.entry - 32 + 1, &unit);
        let folder = folder_with("card.img", &patient.bytes);
        let at = folder.path();
        for words in [
            &["files", "card.img"][..],
            &["files", "card.img", "--json"],
            &["check", "card.img", "--all"],
            &["plan", "card.img", "--json", "--out", "plan.json", "--replace"],
            &["salvage", "card.img", "--list", "--json"],
        ] {
            let done = run(at, words);
            assert!(done.status < 2, "{words:?}: {}", done.err);
            assert!(!done.out.contains(c) && !done.err.contains(c), "{c:?} in {words:?}");
        }
        let listed = json(at, &["files", "card.img"], 0);
        let paths =
            listed["files"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap().to_owned());
        assert!(paths.into_iter().any(|path| path.contains(c)), "{c:?}: the name itself is kept in JSON");
        assert!(!std::fs::read_to_string(at.join("plan.json")).unwrap().contains(c));
    }
}

#[test]
fn colours_only_where_they_are_wanted() {
    let folder = folder_with("card.img", &patient(Kind::Fat16).bytes);
    let escapes = |words: &[&str], no_color: bool| {
        let mut command = punchdog(folder.path(), words);
        if !no_color {
            command.env_remove("NO_COLOR");
        }
        command.output().unwrap().stdout.contains(&0x1b)
    };
    assert!(!escapes(&["check", "card.img"], false), "not into a pipe");
    assert!(escapes(&["check", "card.img", "--color", "always"], false));
    assert!(escapes(&["check", "card.img", "--color", "always"], true), "an explicit wish wins");
    assert!(!escapes(&["check", "card.img", "--color", "never"], false));
}

/// Every code that comes out is in the catalogue; JSON has exactly the keys that are documented.
#[test]
fn json_has_the_documented_shape() {
    let mut patient = patient(Kind::Fat32);
    patient.fill(0, 512, 0);
    patient.set_size("ledges.csv", 0);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let keys =
        |value: &serde_json::Value| value.as_object().unwrap().keys().cloned().collect::<BTreeSet<_>>();
    let set = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<BTreeSet<_>>();
    let known: BTreeSet<&str> = all_entries().map(|entry| entry.code).collect();

    let check = json(at, &["check", "card.img"], 1);
    assert_eq!(keys(&check), set(&["schema", "image", "sound", "volumes", "table", "strangers"]));
    let volume = &check["volumes"][0];
    assert_eq!(
        keys(volume),
        set(&["kind", "offset", "bytes", "label", "sound", "files", "deleted", "findings"])
    );
    for finding in volume["findings"].as_array().unwrap() {
        assert_eq!(keys(finding), set(&["code", "weight", "summary", "detail", "extents", "paths", "count"]));
        assert!(known.contains(finding["code"].as_str().unwrap()));
        assert!(!finding["detail"].as_str().unwrap().is_empty());
    }
    let explain = json(at, &["explain", "card.img"], 1);
    for host in explain["hosts"].as_array().unwrap() {
        let wanted = [
            "host",
            "finds_volume",
            "not_found_by",
            "mounts_read_only",
            "mounts_read_write",
            "refused_by",
            "reason",
            "log",
            "log_read_write",
            "seen",
            "basis",
        ];
        assert_eq!(keys(host), set(&wanted));
    }
    let files = json(at, &["files", "card.img"], 0);
    for file in files["files"].as_array().unwrap() {
        let wanted = ["path", "folder", "size", "state", "modified", "attributes", "extents", "note"];
        assert_eq!(keys(file), set(&wanted));
        assert!(!file["path"].as_str().unwrap().starts_with('/'));
    }
    let fields = json(at, &["fields", "card.img", "boot"], 0);
    assert_eq!(fields["structures"].as_array().unwrap().len(), 1);
    let plan = json(at, &["plan", "card.img"], 0);
    assert_eq!(
        keys(&plan),
        set(&["schema", "image", "scope", "volume", "steps", "choices", "outcome", "seal"])
    );
}

#[test]
fn completions_and_manual_come_from_the_same_arguments() {
    let folder = tempfile::tempdir().unwrap();
    for shell in ["bash", "zsh", "fish"] {
        let done = run(folder.path(), &["completions", shell]);
        assert!(done.status == 0 && done.out.contains("salvage"), "{shell}");
    }
    let manual = run(folder.path(), &["manual"]);
    assert!(manual.out.contains(".TH") && manual.out.contains("\\-\\-choose"), "{}", &manual.out[..200]);
}

#[test]
fn the_demo_runs_a_whole_job() {
    let folder = tempfile::tempdir().unwrap();
    let done = run(folder.path(), &["demo", "station"]);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    assert!(done.out.contains("214 of 214 files are back, byte for byte"), "{}", done.out);
    assert_eq!(run(folder.path(), &["demo", "station"]).status, 2, "it overwrites nothing");
}
