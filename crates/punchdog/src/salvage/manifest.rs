//! The manifest: what was copied out, from where, with which hash.

use crate::{choose::Chosen, failure::Failure};
use punchdog_core::{files::path::TreePath, medium::Extent};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::{io::Write, path::Path};

/// Its file name, in the folder that was copied into.
pub(crate) const NAME: &str = "punchdog-salvage.json";
const SCHEMA: &str = "punchdog.salvage/2";

/// A file that was copied out.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Saved {
    /// Its path in the volume.
    pub(crate) path: TreePath,
    /// Where it was put: path below the folder.
    pub(crate) to: String,
    /// Bytes its entry gives.
    pub(crate) size: u64,
    /// Bytes that could not be had: cut off, or read as zeroes.
    pub(crate) missing_bytes: u64,
    /// Of these, what cannot be read from the medium: bytes from the start of the file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) missing: Vec<Extent>,
    /// Bytes of the file that was written.
    pub(crate) written_bytes: u64,
    /// Its state in the volume.
    pub(crate) state: String,
    /// Its content is all there.
    pub(crate) whole: bool,
    /// Why it is not intact.
    pub(crate) note: Option<String>,
    /// The SHA-256 of what was written.
    pub(crate) sha256: String,
    /// When it was last written, by its entry.
    pub(crate) modified: Option<String>,
    /// Whether its content holds together, where that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) content: Option<crate::files::Judged>,
}

impl Saved {
    /// Its content does not hold together.
    pub(crate) fn broken(&self) -> Option<&crate::files::Judged> {
        self.content.as_ref().filter(|content| content.verdict == "broken")
    }
}

/// A file that could not be copied out.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Failed {
    /// Its path in the volume.
    pub(crate) path: TreePath,
    /// Why not.
    pub(crate) why: String,
}

/// Where the files come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Source {
    /// The image's path.
    pub(crate) path: String,
    /// Its bytes.
    pub(crate) bytes: u64,
    /// Where the volume begins.
    pub(crate) offset: u64,
    /// Its file system.
    pub(crate) kind: String,
}

/// The whole manifest.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Manifest {
    #[schemars(extend("const" = "punchdog.salvage/2"))]
    schema: String,
    pub(crate) image: Source,
    /// The files, in the order they were copied.
    pub(crate) files: Vec<Saved>,
    /// What was wanted and could not be written.
    pub(crate) failed: Vec<Failed>,
}

impl Manifest {
    /// The one in `to`, if it is of the same image and volume; a new one where there is none.
    pub(crate) fn load_or_new(
        to: &Path,
        image: &Path,
        bytes: u64,
        chosen: Option<&Chosen>,
    ) -> anyhow::Result<Self> {
        let source = Source {
            path: image.display().to_string(),
            bytes,
            offset: chosen.map_or(0, |chosen| chosen.target.extent.offset),
            kind: chosen.map_or("none", |chosen| chosen.target.volume.kind().name()).to_owned(),
        };
        let place = to.join(NAME);
        let text = match std::fs::read_to_string(&place) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Ok(Self {
                    schema: SCHEMA.to_owned(),
                    image: source,
                    files: Vec::new(),
                    failed: Vec::new(),
                });
            }
            Err(error) => return Err(error.into()),
        };
        let elsewhere = "name another folder with --to: each image gets its own";
        let found: Self = serde_json::from_str(&text).map_err(|error| {
            Failure::with(format!("{} is no manifest: {error}", place.display()), elsewhere)
        })?;
        if (found.image.bytes, found.image.offset) != (source.bytes, source.offset) || found.schema != SCHEMA
        {
            return Err(Failure::with(
                format!("{} belongs to another image, {}", place.display(), found.image.path),
                elsewhere,
            ));
        }
        Ok(found)
    }

    /// The one in `to`, as it is.
    pub(crate) fn load(to: &Path) -> anyhow::Result<Self> {
        let place = to.join(NAME);
        let next = "give the folder that punchdog salvage IMAGE --to DIR copied into";
        let text = std::fs::read_to_string(&place)
            .map_err(|error| Failure::with(format!("{} cannot be read: {error}", place.display()), next))?;
        let found: Self = serde_json::from_str(&text)
            .map_err(|error| Failure::with(format!("{} is no manifest: {error}", place.display()), next))?;
        if found.schema == SCHEMA {
            return Ok(found);
        }
        Err(Failure::with(format!("{} is of another version", place.display()), next))
    }

    /// Writes it whole.
    pub(crate) fn save(&self, to: &Path) -> anyhow::Result<()> {
        crate::workplace::replace(&to.join(NAME), |file| {
            let mut out = std::io::BufWriter::new(file);
            crate::json::write(&mut out, self)?;
            out.flush()
        })?;
        Ok(())
    }
}
