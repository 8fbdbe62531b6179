//! What the program writes, held against the schemas in docs/schemas.

use super::*;
use jsonschema::Validator;
use std::{collections::BTreeMap, path::PathBuf, sync::LazyLock};

/// The schemas by the versions of their documents. Unknown keys may come with time, and others must bear them; what this
/// program writes has none.
static SCHEMAS: LazyLock<BTreeMap<String, Vec<Validator>>> = LazyLock::new(|| {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    let mut all: BTreeMap<String, Vec<Validator>> = BTreeMap::new();
    for file in fs::read_dir(folder).unwrap() {
        let mut schema: Value = serde_json::from_slice(&fs::read(file.unwrap().path()).unwrap()).unwrap();
        close(&mut schema);
        let mut own = std::iter::once(&schema)
            .chain(schema["$defs"].as_object().into_iter().flat_map(|defs| defs.values()));
        let version = own.find_map(|part| part["properties"]["schema"]["const"].as_str());
        let version = version.expect("a schema names the version of its document").to_owned();
        all.entry(version).or_default().push(jsonschema::validator_for(&schema).unwrap());
    }
    all
});

/// Allows no key that an object's schema does not name.
fn close(schema: &mut Value) {
    match schema {
        Value::Object(parts) => {
            if parts.contains_key("properties") && !parts.contains_key("additionalProperties") {
                parts.insert("additionalProperties".to_owned(), false.into());
            }
            parts.values_mut().for_each(close);
        }
        Value::Array(parts) => parts.iter_mut().for_each(close),
        _ => {}
    }
}

/// Fails where a document does not have the shape that its schema gives it.
pub(crate) fn fits(document: &[u8], whose: &[&str]) {
    let document: Value = match serde_json::from_slice(document) {
        Ok(document) => document,
        // A run that was stopped has written none.
        Err(_) if document.is_empty() => return,
        Err(error) => panic!("{whose:?}: {error}"),
    };
    let version = document["schema"].as_str().unwrap_or_else(|| panic!("{whose:?}: no schema is named"));
    let known = SCHEMAS.get(version).unwrap_or_else(|| panic!("{whose:?}: {version} has no schema"));
    let wrong: Vec<String> = known
        .iter()
        .flat_map(|schema| schema.iter_errors(&document))
        .map(|error| {
            format!("{}: {}", error.instance_path(), error.to_string().chars().take(300).collect::<String>())
        })
        .take(5)
        .collect();
    assert!(wrong.is_empty(), "{whose:?}: {version}: {wrong:#?}");
}

#[test]
fn what_is_written_into_files_has_its_schema_too() {
    let mut patient = patient(Kind::Fat32);
    patient.fill(0, 512, 0);
    patient.set_size("ledges.csv", 0);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let jobs: [(&[&str], &str); 5] = [
        (&["surface", "card.img", "--list", "places.json"], "places.json"),
        (&["plan", "card.img", "--content", "--out", "card.plan"], "card.plan"),
        (&["unearth", "card.img", "--out", "finds.json"], "finds.json"),
        (&["salvage", "card.img", "--content", "--to", "out"], "out/punchdog-salvage.json"),
        (
            &["report", "card.img", "--plan", "card.plan", "--finds", "finds.json", "--out", "r.html"],
            "r.json",
        ),
    ];
    for (words, file) in jobs {
        let done = run(at, words);
        assert!(done.status < 2, "{words:?}: {}", done.err);
        fits(&fs::read(at.join(file)).unwrap(), words);
    }
    let done = run(at, &["apply", "card.plan", "--image", "card.img", "--copy", "mended.img"]);
    assert!(done.status < 2, "{}", done.err);
    let journal = fs::read(at.join("mended.img.undo")).unwrap();
    let length = u32::from_le_bytes(journal[8..12].try_into().unwrap()) as usize;
    fits(&journal[12..12 + length], &["the head of a journal"]);
    // Each of several images, and one of them none at all.
    fs::write(at.join("none.img"), [0; 512]).unwrap();
    for command in ["check", "scout"] {
        assert_eq!(run(at, &[command, "card.img", "none.img", "--json"]).status, 2);
    }
}

#[test]
fn a_document_of_another_shape_is_refused() {
    let good = serde_json::json!({ "schema": "punchdog.error/1", "error": "it is", "next": ["look"] });
    fits(good.to_string().as_bytes(), &["good"]);
    for bad in [
        serde_json::json!({ "schema": "punchdog.error/1", "next": [] }),
        serde_json::json!({ "schema": "punchdog.error/1", "error": 7 }),
        serde_json::json!({ "schema": "punchdog.error/1", "error": "it is", "besides": 1 }),
        serde_json::json!({ "schema": "punchdog.errors/1" }),
    ] {
        let bad = bad.to_string();
        assert!(std::panic::catch_unwind(|| fits(bad.as_bytes(), &["bad"])).is_err(), "{bad}");
    }
}
