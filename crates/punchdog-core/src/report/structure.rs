//! What the bytes of a volume are for, besides files.

use crate::medium::Extent;
use std::borrow::Cow;

/// What a structure does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Purpose {
    /// Says where everything is: boot sectors and their copies.
    Boot,
    /// Says which clusters belong together, or are in use: tables, bitmaps.
    Table,
    /// Names files.
    Folder,
    /// Holds what is known of each file: NTFS's records.
    Records,
    /// Other things of the file system's own.
    Own,
    /// Set aside, and holding nothing.
    Spare,
}

/// A stretch of the volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Structure {
    /// What it is called, with an article.
    pub name: Cow<'static, str>,
    /// Where it lies: bytes from the start of the volume.
    pub extent: Extent,
    /// What it does.
    pub purpose: Purpose,
    /// Where the same bytes stand a second time, and what that is called.
    pub twin: Option<(u64, &'static str)>,
    /// That the twin is this volume's and says the same is known, also where one of them cannot be read.
    pub attested: bool,
    /// How many of its first bytes every host reads before it mounts, and refuses where it cannot.
    pub needed: Option<u64>,
}

impl Structure {
    pub(crate) fn new(name: impl Into<Cow<'static, str>>, purpose: Purpose, extent: Extent) -> Self {
        Self { name: name.into(), extent, purpose, twin: None, attested: false, needed: None }
    }
    /// Nothing mounts without its first `length` bytes.
    pub(crate) fn needed(mut self, length: u64) -> Self {
        self.needed = Some(length);
        self
    }
    pub(crate) fn with_twin(mut self, at: u64, name: &'static str) -> Self {
        self.twin = Some((at, name));
        self
    }
    pub(crate) fn attested(mut self, attested: bool) -> Self {
        self.attested = attested;
        self
    }
}
