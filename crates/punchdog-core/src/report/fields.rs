//! The structures of a volume, field by field, for people.

use schemars::JsonSchema;
use serde::Serialize;

/// One field of a structure: as it stands, in the second copy, as computed.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct FieldRow {
    /// Bytes from the start of the structure.
    pub at: u64,
    /// Bytes long.
    pub bytes: u64,
    /// The specification's name for it.
    pub field: &'static str,
    /// What it is, in plain words.
    pub title: &'static str,
    /// The value as it stands.
    pub primary: Option<String>,
    /// The value in the second copy.
    pub backup: Option<String>,
    /// The value computed from the rest of the volume.
    pub computed: Option<String>,
    /// The value that Punchdog believes.
    pub believed: String,
    /// Why.
    pub why: String,
    /// True when the value as it stands is not the believed one.
    pub wrong: bool,
}

/// The fields of one structure.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct FieldGroup {
    /// The word to ask for it by.
    pub which: &'static str,
    /// What the structure is called.
    pub title: String,
    /// Where it stands: bytes from the start of the volume.
    pub offset: u64,
    /// Where its second copy stands, if it has one.
    pub backup_offset: Option<u64>,
    /// Its fields.
    pub rows: Vec<FieldRow>,
}
