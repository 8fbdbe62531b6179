//! How a command ends: fine, not sound, or not done, with what to do next.

use crate::page;
use schemars::JsonSchema;
use serde::Serialize;
use std::{fmt, path::Path};

/// The answer of a command that could do its work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Verdict {
    /// Done, and nothing wrong: exit status 0.
    Fine,
    /// Done, and the answer is "not sound": exit status 1.
    NotSound,
    /// Some of the work could not be done, and the answer has said so: exit status 2.
    NotDone,
}

impl Verdict {
    /// Fine when `fine`.
    pub(crate) fn of(fine: bool) -> Self {
        if fine { Self::Fine } else { Self::NotSound }
    }
}

/// Why the work could not be done, and what to do next: exit status 2.
#[derive(Debug)]
pub(crate) struct Failure {
    what: String,
    next: String,
}

impl Failure {
    /// `what` happened; do `next`.
    pub(crate) fn with(what: impl Into<String>, next: impl Into<String>) -> anyhow::Error {
        anyhow::Error::new(Self { what: what.into(), next: next.into() })
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.what)
    }
}

impl std::error::Error for Failure {}

/// Prints an error: what, why, and the next step. On standard error for people; with `json` as the
/// one document on standard output.
pub(crate) fn report(error: &anyhow::Error, of: Option<&Path>, json: bool) {
    let mut text = String::new();
    for (number, cause) in error.chain().enumerate() {
        let line = page::clean(&cause.to_string());
        if number == 0 {
            text = line;
        } else if !text.contains(&line) {
            text = format!("{text}: {line}");
        }
    }
    // Whose error it is: a script runs over many images.
    if let Some(path) = of.map(|path| page::clean(&path.display().to_string()))
        && error.downcast_ref::<Failure>().is_none()
        && !text.contains(&path)
    {
        text = format!("{path}: {text}");
    }
    let next = match error.downcast_ref::<Failure>() {
        Some(failure) => failure.next.clone(),
        None => "run it again with -v to see what was being read".to_owned(),
    };
    say(&text, &next, json);
}

const SCHEMA: &str = "punchdog.error/1";

/// The document of what could not be done.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Failed")]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.error/1"))]
    schema: &'static str,
    /// Of several images, which.
    #[serde(skip_serializing_if = "Option::is_none")]
    image: Option<Named>,
    error: String,
    /// What to do.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    next: Vec<String>,
}

/// An image by its path.
#[derive(Serialize, JsonSchema)]
struct Named {
    path: String,
}

impl Document {
    /// One of several images.
    pub(crate) fn of(image: &Path, error: &str) -> Self {
        let image = Some(Named { path: image.display().to_string() });
        Self { schema: SCHEMA, image, error: error.to_owned(), next: Vec::new() }
    }
}

/// Prints an error in either form.
pub(crate) fn say(text: &str, next: &str, json: bool) {
    if json {
        let document =
            Document { schema: SCHEMA, image: None, error: text.to_owned(), next: vec![next.to_owned()] };
        let _ = crate::json::print(&document);
        return;
    }
    let width = page::width();
    anstream::eprintln!(
        "{}punchdog:{} {}",
        page::BAD.render(),
        page::BAD.render_reset(),
        page::wrap(text, width, 10)
    );
    anstream::eprintln!(
        "{}Next{}      {}",
        page::STRONG.render(),
        page::STRONG.render_reset(),
        page::wrap(next, width, 10)
    );
}
