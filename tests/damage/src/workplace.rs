//! A workplace in memory that can be told to fail: for trying what an interrupted apply leaves.

use punchdog_core::{
    medium::{Medium, Memory},
    progress::Watch,
    repair::apply::{Inspect, Workplace, WriteJournal},
};
use std::io;

/// The copy and its journal in memory. Every change counts; the one numbered `fail_at` fails, half
/// done where it can be.
#[derive(Default)]
pub struct Bench {
    /// The journal, if there is one.
    pub journal: Option<Vec<u8>>,
    /// The copy, if there is one.
    pub copy: Option<Vec<u8>>,
    /// The change that fails; counted from 0.
    pub fail_at: Option<u64>,
    /// Changes so far.
    pub changes: u64,
    /// What happens to the image while it is copied.
    pub underneath: Option<fn(&mut [u8])>,
}

impl Bench {
    fn fails(&mut self) -> bool {
        let now = self.changes;
        self.changes += 1;
        self.fail_at == Some(now)
    }
}

fn broken() -> io::Error {
    io::Error::other("the medium failed")
}

impl Workplace for Bench {
    fn journal(&mut self) -> io::Result<Option<Box<dyn Medium>>> {
        Ok(self.journal.clone().map(|bytes| {
            let medium: Box<dyn Medium> = Box::new(Memory::new(bytes));
            medium
        }))
    }
    fn save_journal(&mut self, write: WriteJournal<'_>) -> io::Result<()> {
        if self.fails() {
            return Err(broken());
        }
        if self.journal.is_some() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let mut bytes = Vec::new();
        write(&mut bytes)?;
        self.journal = Some(bytes);
        Ok(())
    }
    fn has_copy(&mut self) -> io::Result<bool> {
        Ok(self.copy.is_some())
    }
    fn make_copy(&mut self, image: &dyn Medium, inspect: Inspect<'_>, _: &dyn Watch) -> io::Result<()> {
        if self.fails() {
            return Err(broken());
        }
        let length = usize::try_from(image.len()).map_err(io::Error::other)?;
        let mut bytes = image.bytes(0, length).map_err(io::Error::other)?;
        if let Some(change) = self.underneath {
            change(&mut bytes);
        }
        let copy = Memory::new(bytes);
        inspect(&copy)?;
        self.copy = Some(copy.bytes().to_vec());
        Ok(())
    }
    fn copy(&mut self) -> io::Result<Box<dyn Medium + '_>> {
        let bytes = self.copy.clone().ok_or(io::ErrorKind::NotFound)?;
        Ok(Box::new(Memory::new(bytes)))
    }
    fn write(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let fails = self.fails();
        let copy = self.copy.as_mut().ok_or(io::ErrorKind::NotFound)?;
        let at = usize::try_from(offset).map_err(io::Error::other)?;
        // A torn write: the first half arrives.
        let length = if fails { bytes.len() / 2 } else { bytes.len() };
        copy[at..at + length].copy_from_slice(&bytes[..length]);
        if fails { Err(broken()) } else { Ok(()) }
    }
    fn sync(&mut self) -> io::Result<()> {
        if self.fails() { Err(broken()) } else { Ok(()) }
    }
}
