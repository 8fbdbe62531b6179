//! The list of places that could not be read (`punchdog.surface/1`), and the same as plain text.
//!
//! ```text
//! {"schema": "punchdog.surface/1", "source": {"path", "bytes"}, "sector": 512, "done": true,
//!  "extents": [{"offset", "length", "state": "unreadable" | "slow" | "untried"}]}
//!
//! # text: an offset and a length a line, in bytes, decimal or 0x…
//! 0x1000 512
//! ```
//!
//! What is not listed was read.

use crate::{arith::Sat, medium::Extent};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The name and version of the document.
pub const SCHEMA: &str = "punchdog.surface/1";

/// What is known of a place that is listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Reading it failed, sector by sector.
    Unreadable,
    /// It was read, but that took long.
    Slow,
    /// It was not read, or only as part of a longer read that failed.
    Untried,
}

/// A place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Listed {
    /// Bytes from the start of the source.
    pub offset: u64,
    /// Bytes.
    pub length: u64,
    /// What is known of it.
    pub state: State,
}

impl Listed {
    /// Where it lies.
    pub fn extent(&self) -> Extent {
        Extent::new(self.offset, self.length)
    }
}

/// What was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Source {
    /// Its path; a help for people, not checked.
    pub path: String,
    /// Its length; 0 where a text list does not say it.
    pub bytes: u64,
}

/// The document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct List {
    /// [`SCHEMA`].
    #[schemars(extend("const" = "punchdog.surface/1"))]
    pub schema: String,
    /// What was read.
    pub source: Source,
    /// Bytes of the smallest read.
    pub sector: u64,
    /// Nothing is untried.
    pub done: bool,
    /// The places, in order, none twice.
    pub extents: Vec<Listed>,
}

/// Why a list cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoList {
    /// It is none.
    #[error("it is neither a list that punchdog surface wrote nor lines of an offset and a length: {0}")]
    Shape(String),
    /// It is of something else.
    #[error("it is of a source of {listed} bytes, and this has {here}")]
    OtherSource {
        /// Bytes that the list says.
        listed: u64,
        /// Bytes that there are.
        here: u64,
    },
    /// A place lies beyond the end.
    #[error("bytes {0} to {1} of it lie beyond the end at {2}")]
    Beyond(u64, u64, u64),
}

impl List {
    /// A list of a source of which nothing was read yet.
    pub fn untried(path: &str, bytes: u64, sector: u64) -> Self {
        let all = Listed { offset: 0, length: bytes, state: State::Untried };
        Self {
            schema: SCHEMA.to_owned(),
            source: Source { path: path.to_owned(), bytes },
            sector,
            done: false,
            extents: vec![all],
        }
    }

    /// A list of a source of which all was read but these places.
    pub fn of(path: &str, bytes: u64, unread: &[Extent]) -> Self {
        let listed = |extent: &Extent| Listed {
            offset: extent.offset,
            length: extent.length,
            state: State::Unreadable,
        };
        let extents = unread.iter().map(listed).collect();
        Self { done: true, extents, ..Self::untried(path, bytes, 512) }
    }

    /// Reads either form of list, for a source of `bytes`.
    ///
    /// # Errors
    /// Where it is neither, or cannot be of that source.
    pub fn parse(text: &str, bytes: u64) -> Result<Self, NoList> {
        let list = if text.trim_start().starts_with('{') {
            let list: Self = serde_json::from_str(text).map_err(|error| NoList::Shape(error.to_string()))?;
            if list.schema != SCHEMA {
                return Err(NoList::Shape(format!("its schema is {:?}", list.schema)));
            }
            if list.source.bytes != bytes {
                return Err(NoList::OtherSource { listed: list.source.bytes, here: bytes });
            }
            list
        } else {
            Self {
                source: Source { path: String::new(), bytes },
                done: true,
                extents: lines(text)?,
                ..Self::untried("", bytes, 512)
            }
        };
        for place in &list.extents {
            let beyond = place.length > bytes || place.offset > bytes.minus(place.length);
            if beyond {
                return Err(NoList::Beyond(place.offset, place.extent().end(), bytes));
            }
        }
        Ok(list)
    }

    /// The places in one of these states, as they are listed.
    pub fn places(&self, states: &[State]) -> Vec<Extent> {
        self.extents.iter().filter(|p| states.contains(&p.state)).map(Listed::extent).collect()
    }

    /// The places whose bytes are not to be had: unreadable, or never read.
    pub fn unknown(&self) -> Vec<Extent> {
        self.places(&[State::Unreadable, State::Untried])
    }

    /// Bytes in this state.
    pub fn bytes_in(&self, state: State) -> u64 {
        self.places(&[state]).iter().fold(0, |sum, place| sum.plus(place.length))
    }
}

/// A number in decimal or, with 0x, in hexadecimal.
fn number(word: &str) -> Option<u64> {
    match word.strip_prefix("0x").or_else(|| word.strip_prefix("0X")) {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None => word.parse().ok(),
    }
}

/// Lines of an offset and a length; what follows a # is a remark.
fn lines(text: &str) -> Result<Vec<Listed>, NoList> {
    let mut found = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let line = line.split('#').next().unwrap_or_default().trim();
        if line.is_empty() {
            continue;
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        let place = match words.as_slice() {
            [offset, length] => number(offset).zip(number(length)),
            _ => None,
        };
        let Some((offset, length)) = place.filter(|(_, length)| *length > 0) else {
            let shown: String = line.chars().take(40).collect();
            return Err(NoList::Shape(format!("line {} is {shown:?}", index.plus(1))));
        };
        found.push(Listed { offset, length, state: State::Unreadable });
    }
    if found.is_empty() && !text.trim().is_empty() && !text.contains('#') {
        return Err(NoList::Shape("it has no line with two numbers".to_owned()));
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_are_read_and_what_is_neither_is_refused() {
        let text = "# a remark\n0x1000 512\n\n8192 1024 # the folder\n";
        let list = List::parse(text, 10_000).unwrap();
        assert_eq!(list.unknown(), [Extent::new(4096, 512), Extent::new(8192, 1024)]);
        assert_eq!(List::parse(text, 9000), Err(NoList::Beyond(8192, 9216, 9000)));
        let json = serde_json::to_string(&List::untried("a", 10_000, 512)).unwrap();
        assert_eq!(List::parse(&json, 10_000).unwrap().unknown(), [Extent::new(0, 10_000)]);
        assert_eq!(List::parse(&json, 10_001), Err(NoList::OtherSource { listed: 10_000, here: 10_001 }));
        for none in [&json[..json.len() - 9], "0x10", "a b", "1 0", "-1 5", "hello", "{}"] {
            assert!(matches!(List::parse(none, 10_000), Err(NoList::Shape(_))), "{none}");
        }
        let far = "18446744073709551615 18446744073709551615";
        assert!(matches!(List::parse(far, 10_000), Err(NoList::Beyond(..))));
        assert_eq!(List::parse("", 10_000).unwrap().unknown(), []);
    }
}
