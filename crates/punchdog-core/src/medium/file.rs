//! An image file, opened read-only. All that differs between operating systems is in this file.

use super::{Extent, Medium, MediumError};
use crate::arith::Sat;
use std::{fs::File, io, path::Path};

/// An image file or a device, opened for reading only.
pub struct FileImage {
    file: File,
    length: u64,
}

impl FileImage {
    /// Opens `path` for reading. A folder is an error; a device gives its length by seeking.
    pub fn open(path: &Path) -> io::Result<Self> {
        #[expect(clippy::disallowed_methods, reason = "this is the one place where the core opens a file")]
        let file = File::open(path)?;
        let about = file.metadata()?;
        if about.is_dir() {
            return Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder"));
        }
        let length =
            if about.is_file() { about.len() } else { io::Seek::seek(&mut &file, io::SeekFrom::End(0))? };
        Ok(Self { file, length })
    }
}

#[cfg(unix)]
pub(super) fn read_exact_at(file: &File, into: &mut [u8], offset: u64) -> io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, into, offset)
}

#[cfg(windows)]
pub(super) fn read_exact_at(file: &File, mut into: &mut [u8], mut offset: u64) -> io::Result<()> {
    while !into.is_empty() {
        let got = std::os::windows::fs::FileExt::seek_read(file, into, offset)?;
        if got == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        into = into.get_mut(got..).unwrap_or(&mut []);
        offset = offset.plus(got.wide());
    }
    Ok(())
}

impl Medium for FileImage {
    fn len(&self) -> u64 {
        self.length
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let length = into.len().wide();
        if offset.plus(length) > self.length {
            return Err(MediumError::Beyond { offset, length, end: self.length });
        }
        read_exact_at(&self.file, into, offset).map_err(|source| MediumError::Unreadable {
            offset,
            length,
            source,
        })
    }
    #[cfg(unix)]
    fn soon(&self, extent: Extent) {
        // Advice only: where it is refused, reading works all the same.
        let length = std::num::NonZeroU64::new(extent.length);
        let _ = rustix::fs::fadvise(&self.file, extent.offset, length, rustix::fs::Advice::WillNeed);
    }
}
