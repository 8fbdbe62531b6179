//! What the JSON documents share.

use crate::page;
use punchdog_core::{medium::Extent, partition::Scouting, report::finding};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::ser::{Formatter, PrettyFormatter};
use std::{
    fmt::Write as _,
    io::{self, Write as _},
    path::Path,
};

/// Prints one document on standard output.
pub(crate) fn print(document: &impl Serialize) -> anyhow::Result<()> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    // A document that cannot be written because nobody reads on is no failure of ours.
    match write(&mut out, document).and_then(|()| out.flush()) {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        other => Ok(other?),
    }
}

/// Writes one document with a line feed behind it.
pub(crate) fn write(out: &mut dyn io::Write, document: &impl Serialize) -> io::Result<()> {
    let mut serializer = serde_json::Serializer::with_formatter(&mut *out, Escaping::default());
    document.serialize(&mut serializer)?;
    out.write_all(b"\n")
}

/// A value in one line, for lists that are written item by item.
pub(crate) fn one_line(value: &impl Serialize) -> io::Result<String> {
    let text = serde_json::to_string(value)?;
    // JSON's own escapes leave characters that a terminal obeys or does not show.
    let mut safe = String::with_capacity(text.len());
    for letter in text.chars() {
        if page::is_unseen(letter) {
            for unit in letter.encode_utf16(&mut [0; 2]) {
                let _ = write!(safe, "\\u{unit:04x}");
            }
        } else {
            safe.push(letter);
        }
    }
    Ok(safe)
}

/// Indented as usual, but for characters that a terminal obeys or does not show: these are escaped, so
/// that a document can be looked at.
#[derive(Default)]
struct Escaping(PrettyFormatter<'static>);

impl Formatter for Escaping {
    fn write_string_fragment<W: ?Sized + io::Write>(&mut self, out: &mut W, text: &str) -> io::Result<()> {
        let mut rest = text;
        while let Some((at, odd)) = rest.char_indices().find(|(_, c)| page::is_unseen(*c)) {
            out.write_all(&rest.as_bytes()[..at])?;
            for unit in odd.encode_utf16(&mut [0; 2]) {
                write!(out, "\\u{unit:04x}")?;
            }
            rest = &rest[at + odd.len_utf8()..];
        }
        out.write_all(rest.as_bytes())
    }
    fn begin_array<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.begin_array(out)
    }
    fn end_array<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.end_array(out)
    }
    fn begin_array_value<W: ?Sized + io::Write>(&mut self, out: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_array_value(out, first)
    }
    fn end_array_value<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.end_array_value(out)
    }
    fn begin_object<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.begin_object(out)
    }
    fn end_object<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.end_object(out)
    }
    fn begin_object_key<W: ?Sized + io::Write>(&mut self, out: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_object_key(out, first)
    }
    fn begin_object_value<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.begin_object_value(out)
    }
    fn end_object_value<W: ?Sized + io::Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.0.end_object_value(out)
    }
}

/// A list whose items are made one by one as they are written.
pub(crate) struct Each<F>(pub(crate) F);

impl<F, I> Serialize for Each<F>
where
    F: Fn() -> I,
    I: Iterator,
    I::Item: Serialize,
{
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq((self.0)())
    }
}

/// An image.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Image {
    /// Its path, as it was given.
    pub(crate) path: String,
    /// Its length in bytes.
    pub(crate) bytes: u64,
}

impl Image {
    pub(crate) fn of(path: &Path, bytes: u64) -> Self {
        Self { path: path.display().to_string(), bytes }
    }
}

/// Ranges, moved by `base` so that they count from the start of the image.
pub(crate) fn extents(list: &[Extent], base: u64) -> Vec<Extent> {
    list.iter().map(|extent| extent.moved(base)).collect()
}

/// A finding.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Finding {
    /// The stable code of its class: docs/findings.md.
    pub(crate) code: &'static str,
    /// `blocks-mount`, `risks-files`, `untidy` or `remark`.
    pub(crate) weight: &'static str,
    /// In a sentence.
    pub(crate) summary: String,
    /// What is there, what should be, and what follows.
    pub(crate) detail: String,
    /// Where, from the start of the image.
    pub(crate) extents: Vec<Extent>,
    /// The files that it concerns.
    pub(crate) paths: Vec<String>,
    /// More than 1 where many alike were folded into one.
    pub(crate) count: u64,
}

impl Finding {
    /// A finding of the volume that begins at `base`.
    pub(crate) fn of(finding: &finding::Finding, base: u64) -> Self {
        Self {
            code: finding.entry.code,
            weight: finding.weight.name(),
            summary: finding.summary.clone(),
            detail: finding.detail(),
            extents: extents(&finding.extents, base),
            paths: finding.paths.clone(),
            count: finding.count,
        }
    }
    /// All of a list.
    pub(crate) fn all<'f>(list: impl IntoIterator<Item = &'f finding::Finding>, base: u64) -> Vec<Self> {
        list.into_iter().map(|finding| Self::of(finding, base)).collect()
    }
}

/// What is not ours.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Stranger {
    /// What it is.
    title: &'static str,
    /// What may be done with it.
    advice: &'static str,
    /// Where it begins.
    offset: u64,
    /// Its length.
    bytes: u64,
}

/// What is not ours.
pub(crate) fn strangers(seen: &Scouting) -> Vec<Stranger> {
    let all = seen.strangers.iter().map(|stranger| Stranger {
        title: stranger.name.title,
        advice: stranger.name.advice(),
        offset: stranger.extent.offset,
        bytes: stranger.extent.length,
    });
    all.collect()
}
