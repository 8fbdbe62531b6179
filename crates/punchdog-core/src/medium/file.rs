//! An image file, opened read-only. All that differs between operating systems is in this file.

use super::{Extent, Medium, MediumError};
use crate::arith::Sat;
use std::{fs::File, io, path::Path};

/// An image file or a device, opened for reading only.
pub struct FileImage {
    file: File,
    length: u64,
    /// A device once more, for what cannot be read through the host's cache: that takes the neighbours of a failing
    /// sector with it.
    sectors: Option<Uncached>,
}

impl FileImage {
    /// Opens `path` for reading. A folder is an error; a device gives its length by seeking.
    pub fn open(path: &Path) -> io::Result<Self> {
        // Asked before it is opened: opening a pipe waits for somebody to write into it.
        no_stream(&std::fs::metadata(path)?)?;
        #[expect(clippy::disallowed_methods, reason = "this is the one place where the core opens a file")]
        let file = File::open(path)?;
        let about = file.metadata()?;
        if about.is_dir() {
            return Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder"));
        }
        let length =
            if about.is_file() { about.len() } else { io::Seek::seek(&mut &file, io::SeekFrom::End(0))? };
        let sectors = Uncached::of(path, &file, length);
        Ok(Self { file, length, sectors })
    }
}

/// Refuses what has no bytes at offsets: pipes, sockets, terminals.
#[cfg(unix)]
fn no_stream(about: &std::fs::Metadata) -> io::Result<()> {
    use std::os::unix::fs::FileTypeExt;
    let kind = about.file_type();
    let what = if kind.is_fifo() {
        "it is a pipe"
    } else if kind.is_socket() {
        "it is a socket"
    } else if kind.is_char_device() {
        "it is a character device"
    } else {
        return Ok(());
    };
    Err(io::Error::new(io::ErrorKind::InvalidInput, format!("{what}, and has no bytes at offsets")))
}

#[cfg(not(unix))]
fn no_stream(_: &std::fs::Metadata) -> io::Result<()> {
    Ok(())
}

/// A device, read past the host's cache: single sectors, without what lies around them.
pub struct Uncached {
    file: File,
    length: u64,
    /// Bytes of a logical sector of the device.
    sector: u64,
}

impl Uncached {
    /// Opens `path` for reading; `None` for what is no device, or where the host cannot read past its cache.
    ///
    /// # Errors
    /// As [`FileImage::open`].
    pub fn open(path: &Path) -> io::Result<Option<Self>> {
        Ok(FileImage::open(path)?.sectors)
    }

    fn of(path: &Path, file: &File, length: u64) -> Option<Self> {
        let (file, sector) = past_cache(path, file)?;
        Some(Self { file, length, sector })
    }

    /// Bytes of a logical sector of the device.
    pub fn sector(&self) -> u64 {
        self.sector
    }
}

/// The device opened past the cache, and the size of its sectors.
#[cfg(target_os = "linux")]
fn past_cache(path: &Path, file: &File) -> Option<(File, u64)> {
    use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
    let block = file.metadata().is_ok_and(|about| about.file_type().is_block_device());
    if !block {
        return None;
    }
    let sector = rustix::fs::ioctl_blksszget(file).map_or(512, u64::from);
    let flags = i32::try_from(rustix::fs::OFlags::DIRECT.bits()).unwrap_or(0);
    #[expect(clippy::disallowed_methods, reason = "this is the one place where the core opens a file")]
    let direct = std::fs::OpenOptions::new().read(true).custom_flags(flags).open(path);
    Some((direct.ok()?, sector.clamp(512, 65_536)))
}

#[cfg(not(target_os = "linux"))]
fn past_cache(_: &Path, _: &File) -> Option<(File, u64)> {
    None
}

/// Where buffers begin that a device reads into.
const ALIGNED: usize = 4096;

impl Medium for Uncached {
    fn len(&self) -> u64 {
        self.length
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        let length = into.len().wide();
        if offset.plus(length) > self.length {
            return Err(MediumError::Beyond { offset, length, end: self.length });
        }
        let unreadable = |source| MediumError::Unreadable { offset, length, source };
        // Whole sectors, into a buffer that begins where the device wants it.
        let start = offset.per(self.sector).times(self.sector);
        let all = offset.plus(length).per_up(self.sector).times(self.sector).minus(start).size();
        let mut room = vec![0_u8; all.plus(ALIGNED)];
        let skip = room.as_ptr().align_offset(ALIGNED).min(ALIGNED);
        let aligned = room.get_mut(skip..skip.plus(all)).unwrap_or(&mut []);
        read_exact_at(&self.file, aligned, start).map_err(unreadable)?;
        let from = offset.minus(start).size();
        let Some(bytes) = aligned.get(from..from.plus(into.len())) else {
            return Err(unreadable(io::ErrorKind::UnexpectedEof.into()));
        };
        into.copy_from_slice(bytes);
        Ok(())
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
        match (read_exact_at(&self.file, into, offset), &self.sectors) {
            (Ok(()), _) => Ok(()),
            (Err(_), Some(sectors)) => sectors.read_at(offset, into),
            (Err(source), None) => Err(MediumError::Unreadable { offset, length, source }),
        }
    }
    #[cfg(unix)]
    fn soon(&self, extent: Extent) {
        // Advice only: where it is refused, reading works all the same.
        let length = std::num::NonZeroU64::new(extent.length);
        let _ = rustix::fs::fadvise(&self.file, extent.offset, length, rustix::fs::Advice::WillNeed);
    }
    #[cfg(any(target_os = "linux", target_os = "android", target_os = "freebsd", target_os = "macos"))]
    fn data_from(&self, offset: u64) -> Option<Extent> {
        use rustix::fs::{SeekFrom, seek};
        if offset >= self.length {
            return None;
        }
        // `read_at` gives its own offsets, so the file's position is nobody's. A file system that
        // knows of no holes says that all of a file is data; a device does not know the call.
        match seek(&self.file, SeekFrom::Data(offset)) {
            Ok(start) if start < self.length => {
                let end = seek(&self.file, SeekFrom::Hole(start)).unwrap_or(self.length);
                Some(Extent::new(start, end.min(self.length).minus(start)))
            }
            Ok(_) | Err(rustix::io::Errno::NXIO) => None,
            Err(_) => Some(Extent::new(offset, self.length.minus(offset))),
        }
    }
}
