//! A nameless temporary file for what an overlay cannot keep in memory.

use super::file::read_exact_at;
use crate::arith::Sat;
use std::{
    fs::File,
    io::{self, Seek, SeekFrom, Write},
};

/// Blocks appended to a nameless temporary file.
pub(super) struct Scratch {
    file: File,
    end: u64,
}

impl Scratch {
    pub(super) fn new() -> io::Result<Self> {
        Ok(Self { file: tempfile::tempfile()?, end: 0 })
    }

    /// Writes `bytes` at `place`, or at the end of the file when there is no place yet.
    pub(super) fn put(&mut self, place: Option<u64>, bytes: &[u8]) -> io::Result<u64> {
        let at = place.unwrap_or(self.end);
        self.file.seek(SeekFrom::Start(at))?;
        self.file.write_all(bytes)?;
        self.end = self.end.max(at.plus(bytes.len().wide()));
        Ok(at)
    }

    pub(super) fn get(&self, place: u64, into: &mut [u8]) -> io::Result<()> {
        read_exact_at(&self.file, into, place)
    }
}
