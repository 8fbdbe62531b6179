//! Where files are copied to: elsewhere than the patient, with room enough, nothing overwritten.

use super::{manifest::Saved, names::Names};
use crate::{failure::Failure, page, watch::Screen};
use punchdog_core::{
    files::{
        content::Part,
        filler,
        record::{FileRecord, State},
    },
    impaired::Places,
    medium::{Extent, Medium, Unknown},
    progress::Watch,
};
use sha2::{Digest, Sha256};
use std::{
    fs::{File, FileTimes},
    io::{self, Read},
    path::{Path, PathBuf},
};

/// Room that is left free beside what is copied.
const SPARE: u64 = 16 << 20;

/// The nearest folder above `path` that exists.
fn existing(path: &Path) -> PathBuf {
    let mut at = path.to_owned();
    while !at.exists() {
        match at.parent().filter(|above| !above.as_os_str().is_empty()) {
            Some(above) => at = above.to_owned(),
            None => return PathBuf::from("."),
        }
    }
    at
}

/// Refuses the image itself, and a folder on the volume that the image holds.
pub(super) fn must_be_elsewhere(to: &Path, image: &Path) -> anyhow::Result<()> {
    let elsewhere = "name a folder on another disk";
    if to.exists() && !to.is_dir() {
        return Err(Failure::with(format!("{} is not a folder", to.display()), elsewhere));
    }
    if on_patient(&existing(to), image) {
        return Err(Failure::with(
            format!(
                "{} lies on the volume of the image itself: writing there destroys what is to be saved",
                to.display()
            ),
            elsewhere,
        ));
    }
    Ok(())
}

/// True when the folder is on a mount whose device is the image, or a loop device over it.
#[cfg(target_os = "linux")]
fn on_patient(folder: &Path, image: &Path) -> bool {
    let (Ok(folder), Ok(image)) = (folder.canonicalize(), image.canonicalize()) else { return false };
    let Ok(mounts) = std::fs::read_to_string("/proc/self/mountinfo") else { return false };
    // Fields: id, parent, major:minor, root, mount point, options …, "-", type, source, options
    // (Linux, Documentation/filesystems/proc.rst, 3.5).
    let mut best: Option<(usize, String)> = None;
    for line in mounts.lines() {
        let point = line.split(' ').nth(4).unwrap_or("").replace("\\040", " ");
        let source = line.split(" - ").nth(1).and_then(|rest| rest.split(' ').nth(1)).unwrap_or("");
        let longer = best.as_ref().is_none_or(|(length, _)| point.len() >= *length);
        if folder.starts_with(&point) && longer {
            best = Some((point.len(), source.to_owned()));
        }
    }
    let Some((_, source)) = best else { return false };
    let source = PathBuf::from(source);
    if same_file::is_same_file(&source, &image).unwrap_or(false) {
        return true;
    }
    let device = source.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    // A partition of a loop device: loop0p1 belongs to loop0.
    let whole = device.split_once('p').filter(|(_, part)| part.parse::<u32>().is_ok());
    let device = whole.filter(|(base, _)| base.starts_with("loo")).map_or(device.clone(), |_| {
        device.rsplit_once('p').map_or(device.clone(), |(base, _)| base.to_owned())
    });
    let backing = std::fs::read_to_string(format!("/sys/block/{device}/loop/backing_file"));
    backing.is_ok_and(|file| Path::new(file.trim_end()) == image)
}

#[cfg(not(target_os = "linux"))]
fn on_patient(_: &Path, _: &Path) -> bool {
    false
}

/// Refuses a disk with too little room for `needed` bytes.
pub(super) fn must_have_room(to: &Path, needed: u64) -> anyhow::Result<()> {
    let place = existing(to);
    match fs4::available_space(&place) {
        Ok(room) if room < needed.saturating_add(SPARE) => Err(Failure::with(
            format!(
                "there is no room: {} are needed, {} are free at {}",
                page::size(needed),
                page::size(room),
                place.display()
            ),
            "name a folder on a larger disk, or fewer files with --match, --kind or --state",
        )),
        Ok(_) => Ok(()),
        Err(error) => {
            tracing::debug!(%error, "the free space is not known");
            Ok(())
        }
    }
}

/// Keeps a second salvage out of the same folder while it lives.
pub(super) struct Lock {
    path: PathBuf,
    _file: File,
}

impl Drop for Lock {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

/// Locks the folder. What stands under the lock's name and is not an empty file is not ours.
pub(super) fn lock(to: &Path) -> anyhow::Result<Lock> {
    let path = to.join(".punchdog-salvage.lock");
    if path.symlink_metadata().is_ok_and(|about| !about.is_file() || about.len() > 0) {
        return Err(Failure::with(
            format!("{} is in the way, and is none of ours", path.display()),
            "name another folder with --to",
        ));
    }
    let file = File::options().create(true).write(true).truncate(false).open(&path)?;
    if file.try_lock().is_err() {
        return Err(Failure::with(
            format!("another salvage is at work in {}", to.display()),
            "wait for it, or name another folder",
        ));
    }
    Ok(Lock { path, _file: file })
}

/// Gives a finished file its place below `to`; the file comes back with the error.
fn put(
    to: &Path,
    saved_as: &str,
    part: tempfile::NamedTempFile,
) -> Result<(), (io::Error, tempfile::NamedTempFile)> {
    if let Some((above, _)) = saved_as.rsplit_once('/')
        && let Err(error) = make_folders(to, above)
    {
        return Err((error, part));
    }
    let target = to.join(saved_as);
    if target.symlink_metadata().is_ok() {
        // This very file, from an earlier run: `Names` gives no other path that is occupied.
        return Ok(());
    }
    part.persist_noclobber(&target).map(drop).map_err(|failed| (failed.error, failed.file))
}

/// Makes the folders of `relative` below `to`; none of them may be a link.
pub(super) fn make_folders(to: &Path, relative: &str) -> io::Result<()> {
    let mut at = to.to_owned();
    for name in relative.split('/').filter(|name| !name.is_empty()) {
        at.push(name);
        match at.symlink_metadata() {
            Ok(about) if about.is_dir() => {}
            Ok(_) => {
                let what = format!("{} is in the way and is no folder", at.display());
                return Err(io::Error::new(io::ErrorKind::NotADirectory, what));
            }
            Err(_) => std::fs::create_dir(&at)?,
        }
    }
    Ok(())
}

/// True when a file from an earlier run is still there as it was written.
pub(super) fn is_there(to: &Path, saved: &Saved) -> bool {
    hash_of(&to.join(&saved.to)).is_ok_and(|hash| hash == saved.sha256)
}

fn hash_of(path: &Path) -> io::Result<String> {
    if !path.symlink_metadata()?.is_file() {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let mut file = File::open(path)?;
    let mut hash = Sha256::new();
    let mut piece = vec![0; 1 << 20];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hex::encode(hash.finalize())),
            length => hash.update(&piece[..length]),
        }
    }
}

/// Why the content of a file was not copied to its end.
enum Ended {
    Stopped,
    Write(io::Error),
}

impl From<io::Error> for Ended {
    fn from(error: io::Error) -> Self {
        Self::Write(error)
    }
}

/// Copies one file; `None` when it was told to stop.
pub(super) fn save(
    to: &Path,
    names: &mut Names,
    file: &FileRecord,
    medium: &dyn Medium,
    screen: &Screen,
) -> anyhow::Result<Option<Saved>> {
    let path = file.path.to_string();
    let mut part = crate::workplace::unfinished(to)?;
    let mut hash = Sha256::new();
    let mut search = filler::Search::default();
    let mut at = 0_u64;
    let walked = file.content.walk(medium, |piece| {
        if screen.stop() {
            return Err(Ended::Stopped);
        }
        piece.bytes(|bytes| hash.update(bytes));
        at += match piece {
            Part::Bytes(bytes) => {
                search.take(bytes);
                crate::workplace::put_with_holes(part.as_file_mut(), at, bytes)?;
                bytes.len() as u64
            }
            // What reads as zeros without being stored becomes a hole.
            Part::Zeros(count) => {
                search.skip(count);
                count
            }
        };
        Ok(())
    });
    // Places that nobody listed are known now that they were met.
    let missing = match walked {
        Ok(missing) => missing + file.size.saturating_sub(file.content.held()),
        Err(Ended::Stopped) => return Ok(None),
        Err(Ended::Write(error)) => return Err(error.into()),
    };
    part.as_file().set_len(at)?;
    let sha256 = hex::encode(hash.finalize());
    if let Some(time) = file
        .modified
        .and_then(|time| jiff::tz::TimeZone::system().to_timestamp(time).ok())
        .and_then(|time| std::time::SystemTime::try_from(time).ok())
    {
        part.as_file().set_times(FileTimes::new().set_modified(time))?;
    }
    // After a run that was killed, the same file may be there without being in the manifest.
    let mut saved_as = names.file(&path, |place| hash_of(place).is_ok_and(|there| there == sha256));
    crate::workplace::readable(part.as_file())?;
    let filler = search.found();
    let (mut state, mut note) = (file.state, file.note.as_deref().map(str::to_owned));
    if let Some(found) = &filler {
        note = Some(found.note());
        if state == State::Intact {
            state = State::Damaged;
        }
    }
    if let Err((error, part)) = put(to, &saved_as, part) {
        // A name or a path that this target does not take.
        if error.kind() != io::ErrorKind::InvalidFilename {
            return Err(error.into());
        }
        saved_as = names.short(&path);
        put(to, &saved_as, part).map_err(|(error, _)| error)?;
        note.get_or_insert_with(|| "its own path is too long for the target".to_owned());
    }
    Ok(Some(Saved {
        path: file.path.clone(),
        to: saved_as,
        size: file.size,
        missing_bytes: missing,
        missing: if missing > 0 { lacks(file, medium) } else { Vec::new() },
        state: state.name().to_owned(),
        whole: file.whole && missing == 0 && filler.is_none(),
        note,
        written_bytes: at,
        sha256,
        modified: file.modified.map(|time| time.to_string()),
        content: None,
    }))
}

/// What of a file cannot be read from the medium.
fn lacks(file: &FileRecord, medium: &dyn Medium) -> Vec<Extent> {
    let places = Places::of(medium, Unknown::Unreadable);
    file.content.within(medium, |extent| places.in_these([extent]))
}
