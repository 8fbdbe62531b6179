//! The copy and its journal as files.
//!
//! Both come into being under a name of ours (`.punchdog-…`) in the folder where they belong, and get
//! their own name when they are whole; never over anything that has that name. What a killed run left
//! is told apart from what another run is at work on by the lock that a run holds on its files.

use crate::{failure::Failure, page};
use punchdog_core::{
    medium::{Extent, FileImage, Medium, MediumError, Unknown},
    progress::Watch,
    repair::apply::{Inspect, Workplace, WriteJournal},
};
use std::{
    fs::{File, OpenOptions},
    io::{self, BufWriter, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
};

/// Zeros of this length become a hole: the block of common file systems.
const HOLE: usize = 4096;
/// What all our unfinished files begin with.
const UNFINISHED: &str = ".punchdog-";

/// Where the journal of a copy stands.
pub(crate) fn journal_path(copy: &Path) -> PathBuf {
    let mut name = copy.as_os_str().to_owned();
    name.push(".undo");
    PathBuf::from(name)
}

/// The folder that a file is in.
fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// A copy, its journal, and the image it is made from.
pub(crate) struct Files {
    copy: PathBuf,
    journal: PathBuf,
    image: Option<PathBuf>,
    open: Option<File>,
}

impl Files {
    /// A copy at `copy`; refused where that, or the place of its journal, is the image, the plan, a
    /// link to one of them, a device, a pipe or a folder.
    pub(crate) fn new(copy: &Path, image: Option<&Path>, plan: Option<&Path>) -> anyhow::Result<Self> {
        let name = copy.display();
        if copy.file_name().is_none() {
            return Err(Failure::with(format!("{name} is no file name"), "name a new file"));
        }
        let journal = journal_path(copy);
        for (title, own) in [("copy", copy), ("journal of the copy", &journal)] {
            // Asked of the name itself, not of what a link points to: a link is never followed. And asked
            // first: what comes after opens the file, and waits if that is a pipe.
            if let Ok(about) = own.symlink_metadata()
                && !about.is_file()
                && !(own == copy && copy.metadata().is_ok_and(|about| about.is_file()))
            {
                return Err(Failure::with(
                    format!("{} is not a file", own.display()),
                    "name a new file: copies and journals are never made onto devices, links or folders",
                ));
            }
            for (what, given) in [("image", image), ("plan", plan)] {
                if given.is_some_and(|given| is_same(own, given)) {
                    let (place, which) =
                        (own.display(), if own == copy { "" } else { ", the journal's place," });
                    return Err(Failure::with(
                        format!("{place}{which} is the {what} itself, or another name for it"),
                        format!("name a new file with --copy; the {title} is never written over the {what}"),
                    ));
                }
            }
        }
        Ok(Self { copy: copy.to_owned(), journal, image: image.map(Path::to_owned), open: None })
    }

    /// Makes a rename durable, where the host can.
    fn sync_folder(&self) {
        if let Ok(folder) = File::open(folder_of(&self.copy))
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

/// True when both names are of one file, also where one of them does not exist.
fn is_same(one: &Path, other: &Path) -> bool {
    let absolute = |path: &Path| {
        let folder = folder_of(path).canonicalize().ok()?;
        Some(folder.join(path.file_name()?))
    };
    same_file::is_same_file(one, other).unwrap_or(false)
        || matches!((absolute(one), absolute(other)), (Some(one), Some(other)) if one == other)
}

/// Copies `image` into `file`, zeros left out.
fn copy_into(file: &mut File, image: &dyn Medium, watch: &dyn Watch) -> io::Result<()> {
    file.set_len(image.len())?;
    let all = image.len();
    image
        .pieces(Extent::new(0, all), |at, bytes| {
            if watch.stop() {
                return Err(Copying(io::Error::other("stopped on request")));
            }
            watch.at("copying the image", at, all);
            put_with_holes(file, at, bytes).map_err(Copying)
        })
        .map_err(|Copying(error)| error)
}

/// An error of a copy, of either side.
struct Copying(io::Error);

impl From<MediumError> for Copying {
    fn from(error: MediumError) -> Self {
        Self(io::Error::other(error))
    }
}

/// A piece that need not be written.
static ZEROS: [u8; HOLE] = [0; HOLE];

/// Writes what is not zero, neighbours at once.
pub(crate) fn put_with_holes(file: &mut File, at: u64, bytes: &[u8]) -> io::Result<()> {
    let mut from = 0;
    while from < bytes.len() {
        let zero = |piece: &[u8]| piece == &ZEROS[..piece.len()];
        let pieces = bytes[from..].chunks(HOLE);
        let skipped: usize = pieces.take_while(|piece| zero(piece)).map(<[u8]>::len).sum();
        from += skipped;
        let pieces = bytes[from..].chunks(HOLE);
        let length: usize = pieces.take_while(|piece| !zero(piece)).map(<[u8]>::len).sum();
        if length > 0 {
            file.seek(SeekFrom::Start(at + from as u64))?;
            file.write_all(&bytes[from..from + length])?;
        }
        from += length;
    }
    Ok(())
}

impl Workplace for Files {
    fn journal(&mut self) -> io::Result<Option<Box<dyn Medium>>> {
        match self.journal.symlink_metadata() {
            Ok(about) if about.is_file() => Ok(Some(Box::new(FileImage::open(&self.journal)?))),
            Ok(_) => Err(io::Error::other(format!("{} is no file", self.journal.display()))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn save_journal(&mut self, write: WriteJournal<'_>) -> io::Result<()> {
        write_new(&self.journal, |file| {
            let mut out = BufWriter::with_capacity(1 << 20, file);
            write(&mut out)?;
            out.flush()
        })?;
        self.sync_folder();
        Ok(())
    }

    fn has_copy(&mut self) -> io::Result<bool> {
        self.copy.try_exists()
    }

    fn make_copy(&mut self, image: &dyn Medium, inspect: Inspect<'_>, watch: &dyn Watch) -> io::Result<()> {
        let mut part = unfinished(folder_of(&self.copy))?;
        let from = self.image.as_ref().map(File::open).transpose()?;
        // What could not be read is zeros on the copy, whatever blocks the image has there.
        let as_it_is = image.unknown(Unknown::Lost).is_empty();
        let shared = as_it_is && from.is_some_and(|from| share(&from, part.as_file()));
        if !shared {
            copy_into(part.as_file_mut(), image, watch)?;
        }
        if part.as_file().metadata()?.len() != image.len() {
            return Err(io::Error::other("the image changed its length while it was copied"));
        }
        readable(part.as_file())?;
        part.as_file().sync_all()?;
        inspect(&FileImage::open(part.path())?)?;
        part.persist_noclobber(&self.copy).map_err(|error| error.error)?;
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

/// Lets `to` have the blocks of `from` without copying them, where the file system can. Other hosts
/// share blocks by name only, into a file that is not there yet: there the copy is an ordinary one.
#[cfg(target_os = "linux")]
fn share(from: &File, to: &File) -> bool {
    rustix::fs::ioctl_ficlone(to, from).is_ok()
}

#[cfg(not(target_os = "linux"))]
fn share(_: &File, _: &File) -> bool {
    false
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

/// A file in the making, locked as long as it is open.
pub(crate) fn unfinished(folder: &Path) -> io::Result<tempfile::NamedTempFile> {
    loop {
        let file = tempfile::Builder::new().prefix(UNFINISHED).suffix(".unfinished").tempfile_in(folder)?;
        if let Err(error) = file.as_file().try_lock() {
            tracing::debug!(%error, "an unfinished file cannot be locked");
        }
        // Between its making and its lock another run may have taken it for a left-over.
        if file.path().exists() {
            return Ok(file);
        }
    }
}

/// Writes a new file whole and durable, or not at all; never over one that is there.
pub(crate) fn write_new(path: &Path, write: impl FnOnce(&mut File) -> io::Result<()>) -> io::Result<()> {
    let file = written(path, write)?;
    file.persist_noclobber(path).map_err(|error| error.error)?;
    Ok(())
}

/// Writes a file of ours anew, whole and durable, or not at all. The caller knows what stands there.
pub(crate) fn replace(path: &Path, write: impl FnOnce(&mut File) -> io::Result<()>) -> io::Result<()> {
    let file = written(path, write)?;
    file.persist(path).map_err(|error| error.error)?;
    Ok(())
}

fn written(
    path: &Path,
    write: impl FnOnce(&mut File) -> io::Result<()>,
) -> io::Result<tempfile::NamedTempFile> {
    let mut file = unfinished(folder_of(path))?;
    write(file.as_file_mut())?;
    readable(file.as_file())?;
    file.as_file().sync_all()?;
    Ok(file)
}

/// Unfinished files in `folder` that a killed run left: nobody holds their lock.
pub(crate) fn left_over(folder: &Path) -> Vec<(PathBuf, u64)> {
    let Ok(inside) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut found: Vec<(PathBuf, u64)> = inside
        .flatten()
        .filter(|entry| {
            let name = entry.file_name();
            let name = name.to_string_lossy();
            name.starts_with(UNFINISHED) && name.ends_with(".unfinished")
        })
        .filter_map(|entry| {
            let path = entry.path();
            let about = path.symlink_metadata().ok().filter(std::fs::Metadata::is_file)?;
            let file = File::open(&path).ok()?;
            file.try_lock().ok().map(|()| (path, about.len()))
        })
        .collect();
    found.sort();
    found
}

/// Takes away what a killed run left in `folder`, and says so.
pub(crate) fn clear_left_over(folder: &Path) {
    for (path, bytes) in left_over(folder) {
        let name = page::clean(&path.display().to_string());
        match std::fs::remove_file(&path) {
            Ok(()) => eprintln!(
                "punchdog: a run that was cut off had left {name} ({}); it is taken away",
                page::size(bytes)
            ),
            Err(error) => eprintln!(
                "punchdog: a run that was cut off has left {name} ({}), which cannot be taken away: {error}",
                page::size(bytes)
            ),
        }
    }
}
