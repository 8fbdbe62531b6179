//! One side of a comparison: a volume of an image or a device, or a folder.

use crate::{
    args::{Reading, Target, Which},
    choose::{self, Image},
    failure::Failure,
    salvage::manifest::{self, Manifest},
    watch::Screen,
};
use punchdog_core::{
    arith::Sat,
    diagnosis,
    family::Wanted,
    files::{
        content::{Content, OnMedium},
        record::State,
    },
    formats::Source,
    medium::{Medium, Window},
};
use std::{
    collections::{BTreeMap, HashMap},
    fs::File,
    io,
    ops::ControlFlow,
    path::{Path, PathBuf},
};

/// A file of one side.
pub(super) struct Entry {
    pub(super) size: u64,
    /// It is not whole by what its file system says.
    pub(super) damaged: bool,
    what: What,
}

enum What {
    /// In the image: places are bytes from the start of the volume.
    Stored(Content),
    /// In a folder.
    File(PathBuf),
}

/// A side with its files, by path.
pub(super) struct Side {
    pub(super) title: String,
    pub(super) files: BTreeMap<String, Entry>,
    image: Option<(Image, diagnosis::Target)>,
}

impl Side {
    /// Opens a side; a folder is one where `folder` allows it.
    pub(super) fn open(
        path: &Path,
        (at, volume): (Option<u64>, Option<usize>),
        folder: bool,
        screen: &Screen,
    ) -> anyhow::Result<Self> {
        if folder && path.is_dir() {
            return of_folder(path);
        }
        let image = image(path)?;
        let target = Target { image: path.to_owned(), which: Which { at, volume, ..Which::default() } };
        let target = choose::one(&image, &target, screen)?.target;
        let window = Window::new(&image, target.extent);
        let mut survey = target.survey(&window, screen)?;
        let mut files = BTreeMap::new();
        survey.each_file(&window, Wanted::default(), &mut |file| {
            if !file.folder {
                let damaged = file.state != State::Intact;
                let entry = Entry { size: file.size, damaged, what: What::Stored(file.content) };
                files.insert(file.path.to_string(), entry);
            }
            ControlFlow::Continue(())
        });
        drop(survey);
        let title = choose::title(path, &target, None);
        Ok(Self { title, files, image: Some((image, target)) })
    }

    /// Does something with the content of a file.
    pub(super) fn with<T>(&self, entry: &Entry, take: impl FnOnce(&dyn Source) -> T) -> anyhow::Result<T> {
        match (&entry.what, &self.image) {
            (What::Stored(content), Some((image, target))) => {
                let window = Window::new(image, target.extent);
                Ok(take(&OnMedium::new(&window, content, entry.size)))
            }
            (What::File(path), _) => {
                let file = File::open(path).map_err(|error| {
                    Failure::with(
                        format!("{} cannot be read: {error}", path.display()),
                        "mend the cause, and compare again",
                    )
                })?;
                let failed = std::cell::RefCell::new(None);
                let taken = take(&OnFile { file, length: entry.size, failed: &failed });
                match failed.into_inner() {
                    Some(error) => Err(Failure::with(
                        format!("{} cannot be read: {error}", path.display()),
                        "mend the cause, and compare again",
                    )),
                    None => Ok(taken),
                }
            }
            _ => Err(anyhow::anyhow!("a file of no side")),
        }
    }
}

/// A file of the host. What a reader cannot say on the way is said afterwards.
struct OnFile<'f> {
    file: File,
    length: u64,
    failed: &'f std::cell::RefCell<Option<io::Error>>,
}

impl Source for OnFile<'_> {
    fn len(&self) -> u64 {
        self.length
    }
    fn read(&self, at: u64, into: &mut [u8]) {
        use std::io::{Read, Seek, SeekFrom};
        let mut file = &self.file;
        if let Err(error) = file.seek(SeekFrom::Start(at)).and_then(|_| file.read_exact(into)) {
            into.fill(0);
            self.failed.borrow_mut().get_or_insert(error);
        }
    }
}

/// Everything below a folder. What salvage copied out has the paths of the volume again.
fn of_folder(path: &Path) -> anyhow::Result<Side> {
    let named: HashMap<String, String> = if path.join(manifest::NAME).exists() {
        let saved = Manifest::load(path)?;
        saved.files.into_iter().map(|file| (file.to, file.path.to_string())).collect()
    } else {
        HashMap::new()
    };
    let mut files = BTreeMap::new();
    let mut open = vec![path.to_owned()];
    while let Some(folder) = open.pop() {
        let failed = |error: io::Error| {
            Failure::with(
                format!("{} cannot be read: {error}", folder.display()),
                "mend the cause, and compare again",
            )
        };
        for entry in std::fs::read_dir(&folder).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            let (kind, place) = (entry.file_type().map_err(failed)?, entry.path());
            if kind.is_dir() {
                open.push(place);
            } else if kind.is_file() {
                let below = place.strip_prefix(path).unwrap_or(&place).to_string_lossy().replace('\\', "/");
                if below == manifest::NAME {
                    continue;
                }
                let size = entry.metadata().map_err(failed)?.len();
                let name = named.get(&below).cloned().unwrap_or(below);
                files.insert(name, Entry { size, damaged: false, what: What::File(place) });
            }
        }
    }
    let title = format!("{}, a folder of {} files", path.display(), files.len().wide());
    Ok(Side { title, files, image: None })
}

/// Opens an image or a device for comparing its bytes.
pub(super) fn image(path: &Path) -> anyhow::Result<Image> {
    choose::open(path, &Reading::default())
}

/// The bytes of an image that are meant: a volume, or all.
pub(super) fn range(
    image: &Image,
    path: &Path,
    (at, volume): (Option<u64>, Option<usize>),
    screen: &Screen,
) -> anyhow::Result<punchdog_core::medium::Extent> {
    if at.is_none() && volume.is_none() {
        return Ok(punchdog_core::medium::Extent::new(0, image.len()));
    }
    let target = Target { image: path.to_owned(), which: Which { at, volume, ..Which::default() } };
    let target = choose::one(image, &target, screen)?.target;
    let length = target.volume.bytes().min(target.extent.length);
    Ok(punchdog_core::medium::Extent::new(target.extent.offset, length))
}
