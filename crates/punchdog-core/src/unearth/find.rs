//! A file that was found, as it is passed on and written down.

use crate::{
    files::{
        content::{Content, Packed, Piece},
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::Extent,
};
use jiff::civil::DateTime;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Whether all of a file was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Complete {
    /// Its own structure proves it.
    Yes,
    /// Nothing speaks against it.
    Likely,
    /// Something is missing, or is not its own.
    No,
}

impl Complete {
    /// Its word.
    pub fn name(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::Likely => "likely",
            Self::No => "no",
        }
    }
}

/// A piece of a file, as it is written down. Places are bytes from the start of the image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Stretch {
    /// It stands there.
    Stored(Extent),
    /// So many zeros that stand nowhere.
    Zeros {
        /// How many.
        zeros: u64,
    },
    /// It stands packed.
    Packed(Packed),
}

/// A file that was found.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Find {
    /// As it was, or made up.
    pub path: TreePath,
    /// Bytes, as its entry or its structure has them.
    pub size: u64,
    /// How it was found.
    pub state: State,
    /// What speaks for it.
    pub evidence: String,
    /// Whether all of it was found.
    pub complete: Complete,
    /// Why it is called so.
    pub reason: String,
    /// When it was last written, or made, as far as something says so.
    #[schemars(with = "Option<String>")]
    pub modified: Option<DateTime>,
    /// Where it stands, in the order of the file.
    pub extents: Vec<Stretch>,
}

/// Pieces as they are written down.
pub(super) fn stretches(content: &Content) -> Vec<Stretch> {
    let one = |piece: &Piece| match piece {
        Piece::Stored(extent) => Stretch::Stored(*extent),
        Piece::Fixed(place) => Stretch::Stored(Extent::new(*place, 2)),
        Piece::Zeros(zeros) => Stretch::Zeros { zeros: *zeros },
        Piece::Packed(packed) => Stretch::Packed(packed.clone()),
    };
    content.pieces().iter().map(one).collect()
}

impl Find {
    /// What it holds; places are bytes from the start of the image.
    pub fn content(&self) -> Content {
        let one = |stretch: &Stretch| match stretch {
            Stretch::Stored(extent) => Piece::Stored(*extent),
            Stretch::Zeros { zeros } => Piece::Zeros(*zeros),
            Stretch::Packed(packed) => Piece::Packed(packed.clone()),
        };
        Content::of(self.extents.iter().map(one), self.size)
    }

    /// The first byte of it that stands anywhere.
    pub fn start(&self) -> Option<u64> {
        self.places().next().map(|extent| extent.offset)
    }

    /// Where it stands.
    pub fn places(&self) -> impl Iterator<Item = Extent> + '_ {
        self.extents
            .iter()
            .flat_map(|stretch| match stretch {
                Stretch::Stored(extent) => std::slice::from_ref(extent),
                Stretch::Packed(packed) => packed.places.as_slice(),
                Stretch::Zeros { .. } => &[],
            })
            .copied()
    }

    /// What is to be said of it beside its path.
    fn note(&self) -> String {
        let how = match self.complete {
            Complete::Yes => "complete",
            Complete::Likely => "likely complete",
            Complete::No => "not complete",
        };
        match self.state {
            // Its path says that its content is all that speaks for it.
            State::Unnamed => format!("{how}: {}", self.reason),
            _ => format!("{how}: {}; {}", self.reason, self.evidence),
        }
    }

    /// As a record among others; places are bytes from the start of the image.
    pub fn record(&self) -> FileRecord {
        let content = self.content();
        let short = content.held() < self.size;
        FileRecord {
            path: self.path.clone(),
            folder: false,
            size: self.size,
            state: self.state,
            modified: self.modified,
            attributes: Attributes::empty(),
            place: self.start().unwrap_or(0),
            nameless: false,
            masked: false,
            whole: self.complete == Complete::Yes,
            taken: self.complete == Complete::No && !short,
            absent: self.size > 0 && content.held() == 0,
            sought: false,
            content,
            lacks: Vec::new(),
            note: Some(self.note().into()),
        }
    }
}
