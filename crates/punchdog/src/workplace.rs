//! The copy and its journal as files.

use crate::trouble::Trouble;
use punchdog_core::{
    apply::Workplace,
    arith::Sat,
    medium::{FileImage, Medium},
    progress::Watch,
};
use std::{
    fs::{File, OpenOptions},
    io::{self, Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
};

/// Pieces in which an image is copied; pieces that are all zero become holes.
const PIECE: u64 = 1 << 20;
const HOLE: usize = 1 << 16;
/// Bytes of a journal at most.
const JOURNAL_LIMIT: u64 = 8 << 30;

/// Where the journal of a copy stands.
pub(crate) fn journal_path(copy: &Path) -> PathBuf {
    let mut name = copy.as_os_str().to_owned();
    name.push(".undo");
    PathBuf::from(name)
}

/// A copy, its journal, and the image it is made from.
pub(crate) struct Files {
    copy: PathBuf,
    journal: PathBuf,
    image: Option<PathBuf>,
    open: Option<File>,
}

impl Files {
    /// A copy at `copy`; refused where that is the image, a hard link of it, a device or a folder.
    pub(crate) fn new(copy: &Path, image: Option<&Path>) -> anyhow::Result<Self> {
        let name = copy.display();
        if let Some(image) = image
            && same_file::is_same_file(copy, image).unwrap_or(false)
        {
            return Err(Trouble::with(
                format!("{name} is the image itself, or another name for it"),
                "name a new file with --copy; the image is never written to",
            ));
        }
        if let Ok(about) = std::fs::metadata(copy)
            && !about.is_file()
        {
            return Err(Trouble::with(
                format!("{name} is not a file"),
                "name a new file: copies are never made onto devices or folders",
            ));
        }
        if copy.file_name().is_none() {
            return Err(Trouble::with(format!("{name} is no file name"), "name a new file"));
        }
        Ok(Self {
            copy: copy.to_owned(),
            journal: journal_path(copy),
            image: image.map(Path::to_owned),
            open: None,
        })
    }

    fn folder(&self) -> &Path {
        self.copy.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
    }

    /// Makes a rename durable, where the host can.
    fn sync_folder(&self) {
        if let Ok(folder) = File::open(self.folder())
            && let Err(error) = folder.sync_all()
        {
            tracing::debug!(%error, "the folder cannot be synchronised");
        }
    }

    fn writable(&mut self) -> io::Result<&mut File> {
        if self.open.is_none() {
            let file = OpenOptions::new().read(true).write(true).open(&self.copy)?;
            if file.try_lock().is_err() {
                return Err(io::Error::other("another apply or undo is at work on this copy"));
            }
            self.open = Some(file);
        }
        self.open.as_mut().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

fn put_with_holes(file: &mut File, at: u64, bytes: &[u8]) -> io::Result<()> {
    for (number, piece) in bytes.chunks(HOLE).enumerate() {
        if piece.iter().any(|byte| *byte != 0) {
            file.seek(SeekFrom::Start(at + (number * HOLE) as u64))?;
            file.write_all(piece)?;
        }
    }
    Ok(())
}

impl Workplace for Files {
    fn load_journal(&mut self) -> io::Result<Option<Vec<u8>>> {
        match File::open(&self.journal) {
            Ok(file) => {
                let mut bytes = Vec::new();
                file.take(JOURNAL_LIMIT).read_to_end(&mut bytes)?;
                Ok(Some(bytes))
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn save_journal(&mut self, bytes: &[u8]) -> io::Result<()> {
        write_whole(&self.journal, bytes)?;
        self.sync_folder();
        Ok(())
    }

    fn has_copy(&mut self) -> io::Result<bool> {
        self.copy.try_exists()
    }

    fn make_copy(&mut self, image: &dyn Medium, watch: &dyn Watch) -> io::Result<()> {
        let place = tempfile::Builder::new().prefix(".punchdog-").tempdir_in(self.folder())?;
        let path = place.path().join("copy");
        let shared = self.image.as_ref().is_some_and(|from| reflink_copy::reflink(from, &path).is_ok());
        if shared {
            let file = OpenOptions::new().write(true).open(&path)?;
            if file.metadata()?.len() != image.len() {
                return Err(io::Error::other("the image changed its length while it was copied"));
            }
            file.sync_all()?;
        } else {
            let mut file = OpenOptions::new().write(true).create_new(true).open(&path)?;
            file.set_len(image.len())?;
            let mut at = 0;
            while at < image.len() {
                if watch.stop() {
                    return Err(io::Error::other("stopped on request"));
                }
                watch.at("copying the image", at, image.len());
                let length = image.len().minus(at).min(PIECE);
                let bytes = image.bytes(at, length.size()).map_err(io::Error::other)?;
                put_with_holes(&mut file, at, &bytes)?;
                at += length;
            }
            file.sync_all()?;
        }
        // Not over a file that has come to be there in the meantime.
        if self.copy.try_exists()? {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        std::fs::rename(&path, &self.copy)?;
        self.sync_folder();
        Ok(())
    }

    fn copy(&mut self) -> io::Result<Box<dyn Medium + '_>> {
        Ok(Box::new(FileImage::open(&self.copy)?))
    }

    fn write(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let file = self.writable()?;
        file.seek(SeekFrom::Start(offset))?;
        file.write_all(bytes)
    }

    fn sync(&mut self) -> io::Result<()> {
        self.writable()?.sync_all()
    }
}

/// Gives a temporary file the rights of an ordinary one.
pub(crate) fn readable(file: &File) -> io::Result<()> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        file.set_permissions(std::fs::Permissions::from_mode(0o644))?;
    }
    #[cfg(not(unix))]
    let _ = file;
    Ok(())
}

/// Writes a file whole and durable, or not at all.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(bytes)?;
    readable(file.as_file())?;
    file.as_file().sync_all()?;
    file.persist(path).map_err(|error| error.error)?;
    Ok(())
}
