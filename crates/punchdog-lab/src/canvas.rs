//! Where the bytes of a made-up volume go: memory for small ones, a file with holes for large ones.

use std::{
    fs::File,
    io::{self, Seek, SeekFrom, Write},
};

/// Takes bytes at offsets; what was never written reads as zero.
pub trait Canvas {
    /// Puts `bytes` at `offset`.
    ///
    /// # Errors
    /// What the file system said.
    fn put(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()>;
}

impl Canvas for Vec<u8> {
    fn put(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let at = usize::try_from(offset).map_err(io::Error::other)?;
        let place = self.get_mut(at..at + bytes.len()).ok_or(io::ErrorKind::UnexpectedEof)?;
        place.copy_from_slice(bytes);
        Ok(())
    }
}

impl Canvas for File {
    fn put(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        self.seek(SeekFrom::Start(offset))?;
        self.write_all(bytes)
    }
}

/// Writes an image with holes where 64 KiB or more are zero.
///
/// # Errors
/// What the file system said.
pub fn write_with_holes(path: &std::path::Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = File::create(path)?;
    file.set_len(bytes.len() as u64)?;
    for (number, piece) in bytes.chunks(1 << 16).enumerate() {
        if piece.iter().any(|byte| *byte != 0) {
            file.put((number as u64) << 16, piece)?;
        }
    }
    Ok(())
}
