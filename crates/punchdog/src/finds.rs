//! FINDS.json: what `unearth` found, written as it grows and read file by file.
//!
//! The document's list can have a million files in it, so neither side holds it: see docs/formats.md.

use crate::{choose, failure::Failure, json, page};
use punchdog_core::{
    medium::Medium,
    unearth::{self, Find},
};
use schemars::JsonSchema;
use serde::{
    Deserialize, Deserializer, Serialize,
    de::{DeserializeSeed, IgnoredAny, MapAccess, SeqAccess, Visitor},
};
use std::{
    fmt,
    fs::File,
    io::{self, BufReader, Read, Write},
    path::Path,
};

pub(crate) const SCHEMA: &str = "punchdog.finds/1";

/// The image that was searched.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Source {
    pub(crate) path: String,
    pub(crate) bytes: u64,
    /// A digest of sectors spread over it.
    pub(crate) digest: String,
}

/// A volume whose space was searched.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Volume {
    pub(crate) kind: String,
    pub(crate) offset: u64,
    pub(crate) bytes: u64,
}

/// What was asked for.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Asked {
    pub(crate) kinds: Vec<String>,
    pub(crate) from: u64,
    pub(crate) to: u64,
    /// Space outside of volumes was searched too.
    pub(crate) outside: bool,
}

/// The document as a whole, which nobody holds.
#[cfg(test)]
#[derive(JsonSchema)]
#[schemars(rename = "Finds")]
#[expect(dead_code, reason = "it stands for its schema")]
pub(crate) struct Whole {
    #[schemars(extend("const" = "punchdog.finds/1"))]
    schema: String,
    image: Source,
    volumes: Vec<Volume>,
    asked: Asked,
    finds: Vec<Find>,
    /// All was searched.
    done: bool,
    /// Deleted and older files are all there.
    named: bool,
    /// How far content was searched.
    searched_to: u64,
}

/// All but the list.
#[derive(Debug, Clone, Default)]
pub(crate) struct About {
    pub(crate) schema: String,
    pub(crate) image: Source,
    pub(crate) volumes: Vec<Volume>,
    pub(crate) asked: Asked,
    pub(crate) done: bool,
    pub(crate) named: bool,
    pub(crate) searched_to: u64,
}

/// The image as the document names it.
pub(crate) fn source(path: &Path, image: &choose::Image) -> Source {
    Source { path: path.display().to_string(), bytes: image.len(), digest: unearth::digest(image) }
}

/// Writes a document piece by piece.
pub(crate) struct Writer<'w> {
    out: io::BufWriter<&'w mut File>,
    first: bool,
}

impl<'w> Writer<'w> {
    /// With all that is known before the search.
    pub(crate) fn new(file: &'w mut File, about: &About) -> io::Result<Self> {
        let mut out = io::BufWriter::new(file);
        writeln!(out, "{{\n  \"schema\": {},", json::one_line(&about.schema)?)?;
        writeln!(out, "  \"image\": {},", json::one_line(&about.image)?)?;
        writeln!(out, "  \"volumes\": {},", json::one_line(&about.volumes)?)?;
        writeln!(out, "  \"asked\": {},", json::one_line(&about.asked)?)?;
        write!(out, "  \"finds\": [")?;
        Ok(Self { out, first: true })
    }
    /// A file.
    pub(crate) fn put(&mut self, find: &Find) -> io::Result<()> {
        let comma = if self.first { "" } else { "," };
        self.first = false;
        write!(self.out, "{comma}\n    {}", json::one_line(find)?)
    }
    /// What is known afterwards.
    pub(crate) fn close(mut self, outcome: unearth::Outcome) -> io::Result<()> {
        let unearth::Outcome { done, named, searched_to } = outcome;
        write!(self.out, "\n  ],\n  \"done\": {done},\n  \"named\": {named},")?;
        writeln!(self.out, "\n  \"searched_to\": {searched_to}\n}}")?;
        self.out.flush()
    }
}

/// Reads a document; each find is passed on as it comes.
pub(crate) fn read(path: &Path, take: &mut dyn FnMut(Find)) -> anyhow::Result<About> {
    let name = path.display();
    let again = "punchdog unearth IMAGE --out FINDS.json makes such a file";
    let file = File::open(path)
        .map_err(|error| Failure::with(format!("{name} cannot be opened: {error}"), again))?;
    if !is_finds(path) {
        return Err(Failure::with(format!("{name} is no list of finds"), again));
    }
    let mut source = serde_json::Deserializer::from_reader(BufReader::with_capacity(1 << 20, file));
    let about = Document { take }.deserialize(&mut source).map_err(|error| {
        Failure::with(format!("{name} is no whole list of finds: {error}"), "search again")
    })?;
    if about.schema != SCHEMA {
        let what = page::clean(&about.schema);
        return Err(Failure::with(
            format!("{name} has the schema {what}, which this version does not know"),
            again,
        ));
    }
    Ok(about)
}

/// Reads the document of a search in `image`; refuses that of another image.
pub(crate) fn read_of(
    path: &Path,
    image: (&Path, &choose::Image),
    take: &mut dyn FnMut(Find),
) -> anyhow::Result<About> {
    let about = read(path, take)?;
    let own = source(image.0, image.1);
    if (about.image.bytes, &about.image.digest) != (own.bytes, &own.digest) {
        return Err(Failure::with(
            format!("{} is of another image, {}", path.display(), page::clean(&about.image.path)),
            "name the image that was searched, or search this one",
        ));
    }
    Ok(about)
}

/// True for a file that begins as our lists of finds do.
pub(crate) fn is_finds(path: &Path) -> bool {
    let mut start = Vec::new();
    let read = File::open(path).and_then(|file| file.take(256).read_to_end(&mut start));
    let start: String = String::from_utf8_lossy(&start).split_whitespace().collect();
    read.is_ok() && start.starts_with("{\"schema\":\"punchdog.finds/")
}

struct Document<'t> {
    take: &'t mut dyn FnMut(Find),
}

impl<'de> DeserializeSeed<'de> for Document<'_> {
    type Value = About;
    fn deserialize<D: Deserializer<'de>>(self, source: D) -> Result<About, D::Error> {
        source.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Document<'_> {
    type Value = About;
    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a list of finds")
    }
    fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<About, M::Error> {
        let mut about = About::default();
        while let Some(key) = map.next_key::<String>()? {
            match key.as_str() {
                "schema" => about.schema = map.next_value()?,
                "image" => about.image = map.next_value()?,
                "volumes" => about.volumes = map.next_value()?,
                "asked" => about.asked = map.next_value()?,
                "done" => about.done = map.next_value()?,
                "named" => about.named = map.next_value()?,
                "searched_to" => about.searched_to = map.next_value()?,
                "finds" => map.next_value_seed(List { take: &mut *self.take })?,
                _ => {
                    map.next_value::<IgnoredAny>()?;
                }
            }
        }
        Ok(about)
    }
}

struct List<'t> {
    take: &'t mut dyn FnMut(Find),
}

impl<'de> DeserializeSeed<'de> for List<'_> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, source: D) -> Result<(), D::Error> {
        source.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for List<'_> {
    type Value = ();
    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("finds")
    }
    fn visit_seq<S: SeqAccess<'de>>(self, mut list: S) -> Result<(), S::Error> {
        while let Some(find) = list.next_element::<Find>()? {
            (self.take)(find);
        }
        Ok(())
    }
}
