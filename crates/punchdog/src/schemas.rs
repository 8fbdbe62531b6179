//! docs/schemas: the JSON Schema of each document, made from the type that it is written from.

use crate::{apply, check, compare, demo, explain, failure, fields, files, finds, format, many, map, report};
use crate::{salvage, scout, sheet, surface, undo, unearth};
use expect_test::expect_file;
use punchdog_core::{
    repair::{journal, plan},
    surface::list,
};
use schemars::{JsonSchema, generate::SchemaSettings};
use serde_json::{Value, json};
use std::{collections::BTreeSet, fs, path::PathBuf};

/// Either way of comparing.
#[derive(JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "it stands for its schema")]
enum Compared {
    Files(compare::files::Document),
    Bytes(compare::bytes::Document),
}

fn of<D: JsonSchema>() -> Value {
    let schema = SchemaSettings::draft2020_12().for_serialize().into_generator().into_root_schema_for::<D>();
    let mut schema = schema.to_value();
    if let Some(version) = schema["properties"]["schema"].get("const").cloned() {
        schema["title"] = version;
    }
    schema
}

/// Of several images: which command it is of is told by its name.
fn several<D: JsonSchema>(name: &str) -> Value {
    let mut schema = of::<many::Several<D>>();
    schema["properties"]["schema"]["const"] = json!(name);
    schema["title"] = json!(name);
    schema
}

/// The documents by their files.
fn all() -> Vec<(&'static str, Value)> {
    vec![
        ("apply", of::<apply::Document>()),
        ("check", of::<check::Document>()),
        ("checks", several::<check::Document>("punchdog.checks/1")),
        ("compare", of::<Compared>()),
        ("demo", of::<demo::Document>()),
        ("error", of::<failure::Document>()),
        ("explain", of::<explain::Document<'static>>()),
        ("fields", of::<fields::Document>()),
        ("files", of::<files::Document<'static>>()),
        ("finds", of::<finds::Whole>()),
        ("format", of::<format::Document>()),
        ("map", of::<map::Document<'static>>()),
        ("plan", of::<plan::Plan>()),
        ("report", of::<report::Facts>()),
        ("salvage", of::<salvage::manifest::Manifest>()),
        ("salvage-list", of::<salvage::List<()>>()),
        ("scout", of::<scout::Document>()),
        ("scouts", several::<scout::Document>("punchdog.scouts/1")),
        ("sheet", of::<sheet::Document>()),
        ("surface", of::<list::List>()),
        ("surface-read", of::<surface::Document>()),
        ("undo", of::<undo::Document>()),
        ("undo-journal", of::<journal::Header>()),
        ("unearth", of::<unearth::Document>()),
    ]
}

#[test]
fn every_document_has_the_schema_of_its_type() {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    for (name, schema) in all() {
        let text = serde_json::to_string_pretty(&schema).unwrap();
        expect_file![folder.join(format!("{name}.json"))].assert_eq(&format!("{text}\n"));
    }
    let there: BTreeSet<String> = fs::read_dir(&folder)
        .unwrap()
        .map(|file| file.unwrap().file_name().into_string().unwrap().replace(".json", ""))
        .collect();
    assert_eq!(there, all().iter().map(|(name, _)| (*name).to_owned()).collect());
    let page = fs::read_to_string(folder.join("../formats.md")).unwrap();
    for (name, schema) in all() {
        // Each names its version, and the page speaks of that.
        let parts: Vec<&Value> = match schema["anyOf"].as_array() {
            Some(_) => schema["$defs"].as_object().unwrap().values().collect(),
            None => vec![&schema],
        };
        let versions: BTreeSet<&str> =
            parts.iter().filter_map(|part| part["properties"]["schema"]["const"].as_str()).collect();
        assert_eq!(versions.len(), 1, "{name}");
        assert!(versions.iter().all(|version| page.contains(version)), "{name}: docs/formats.md");
    }
}
