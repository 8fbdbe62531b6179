//! One file or folder: what it is called, what state it is in, where its content lies.

use super::{
    content::{Content, Part},
    filler::Filler,
    path::TreePath,
};
use crate::medium::{Extent, Medium};
use bitflags::bitflags;
use jiff::civil::DateTime;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::{borrow::Cow, convert::Infallible};

/// What can be had of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// All of it, and it can be reached.
    Intact,
    /// Something of it is missing or in doubt.
    Damaged,
    /// Nothing names it any more.
    Orphan,
    /// Deleted; its clusters may hold something else.
    Deleted,
    /// Of a file system that was on the medium before.
    Older,
    /// Found by its content: nothing names it.
    Unnamed,
}

impl State {
    /// The word as people and JSON read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Intact => "intact",
            Self::Damaged => "damaged",
            Self::Orphan => "orphan",
            Self::Deleted => "deleted",
            Self::Older => "older",
            Self::Unnamed => "unnamed",
        }
    }
}

bitflags! {
    /// What hosts are told of a file: both families have the same bits (FAT 1.03, DIR_Attr; exFAT 1.00,
    /// 7.4.4).
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub struct Attributes: u16 {
        /// Not to be written.
        const READ_ONLY = 1;
        /// Not to be shown.
        const HIDDEN = 2;
        /// The host's own.
        const SYSTEM = 4;
        /// Changed since it was last saved elsewhere.
        const ARCHIVE = 0x20;
    }
}

impl Attributes {
    /// Their names, as JSON has them.
    pub fn names(self) -> Vec<&'static str> {
        let all = [
            (Self::READ_ONLY, "read-only"),
            (Self::HIDDEN, "hidden"),
            (Self::SYSTEM, "system"),
            (Self::ARCHIVE, "archive"),
        ];
        all.iter().filter(|(bit, _)| self.contains(*bit)).map(|(_, name)| *name).collect()
    }
}

/// One file or folder.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is a plain fact of its own")]
pub struct FileRecord {
    /// Its path.
    pub path: TreePath,
    /// It is a folder.
    pub folder: bool,
    /// Its size in bytes; 0 for folders.
    pub size: u64,
    /// What can be had of it.
    pub state: State,
    /// When it was last written.
    pub modified: Option<DateTime>,
    /// Its attributes.
    pub attributes: Attributes,
    /// What it holds, as far as it can be had.
    pub content: Content,
    /// Where its entry stands in the volume; 0 when it has none.
    pub place: u64,
    /// A host that reads only the first copy of the table cannot read it.
    pub masked: bool,
    /// All of its content is known, whatever keeps hosts from it.
    pub whole: bool,
    /// Its name is lost, and this one is made up.
    pub nameless: bool,
    /// It is deleted, and part of its clusters belongs to something else now.
    pub taken: bool,
    /// It has content, and none of it is on the medium: beyond the end of the image, or where everything
    /// reads blank.
    pub absent: bool,
    /// Nothing leads to its content: this was looked for among clusters of nobody.
    pub sought: bool,
    /// What of it cannot be read from the medium: bytes from the start of the file.
    pub lacks: Vec<Extent>,
    /// Why it is not intact.
    pub note: Option<Cow<'static, str>>,
}

impl FileRecord {
    /// What is called a file because its clusters are in use and belong to none.
    pub(crate) fn adrift(path: TreePath, size: u64, places: impl IntoIterator<Item = Extent>) -> Self {
        Self {
            path,
            folder: false,
            size,
            state: State::Orphan,
            modified: None,
            attributes: Attributes::empty(),
            content: Content::stored(places, size),
            place: 0,
            masked: false,
            whole: false,
            nameless: false,
            taken: false,
            absent: false,
            sought: false,
            lacks: Vec::new(),
            note: Some("clusters in use that belong to no file".into()),
        }
    }

    /// Notes whether none of its content stands before `end`.
    pub(crate) fn mark_absent(&mut self, end: u64) {
        let mut places = self.content.extents().peekable();
        self.absent = !self.folder && places.peek().is_some() && places.all(|extent| extent.offset >= end);
    }

    /// The SHA-256 of the content that is there, in hexadecimal.
    pub fn sha256(&self, medium: &dyn Medium) -> String {
        self.sha256_with(medium, |_| {})
    }

    /// The same, with a look at the content on the way.
    pub fn sha256_with(&self, medium: &dyn Medium, mut look: impl FnMut(Part<'_>)) -> String {
        let mut hash = Sha256::new();
        let walked = self.content.walk(medium, |part| {
            part.bytes(|bytes| hash.update(bytes));
            look(part);
            Ok::<(), Infallible>(())
        });
        debug_assert!(walked.is_ok());
        hex::encode(hash.finalize())
    }

    /// Notes that an imager's filler stands in it.
    pub fn holds(&mut self, filler: &Filler) {
        if self.state == State::Intact {
            self.state = State::Damaged;
        }
        self.whole = false;
        self.note = Some(filler.note().into());
    }
}
