//! A volume in memory that can be damaged, with the truth about its files. `G` is the geometry of its family.

pub mod exfat;
pub mod fat;
pub mod ntfs;

use punchdog_core::medium::Extent;

/// A file or folder as it was made.
#[derive(Debug, Clone)]
pub struct Made {
    /// Its path.
    pub path: String,
    /// It is a folder.
    pub folder: bool,
    /// Bytes; 0 for folders.
    pub size: u64,
    /// The SHA-256 of its content; empty for folders and for files without content.
    pub sha256: String,
    /// Its clusters, in order.
    pub clusters: Vec<u32>,
    /// Where its short entry (FAT) or its file entry (exFAT) stands: bytes from the start of the
    /// volume. Known at the end.
    pub entry: u64,
    /// Entries that it takes: a short entry with the long ones before it, or the entries of its set.
    pub entries: u32,
    /// It was deleted again.
    pub deleted: bool,
    pub(crate) in_folder: usize,
    /// The index of its short or file entry in its folder; of NTFS, its record.
    pub index: usize,
}

/// What a filled volume is.
pub struct Filled<C, G> {
    /// Its bytes.
    pub canvas: C,
    /// Where everything lies.
    pub geometry: G,
    /// All files and folders, in the order they were made.
    pub made: Vec<Made>,
}

/// A volume in memory that can be damaged.
#[derive(Clone)]
pub struct Patient<G> {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Where everything lies.
    pub geometry: G,
    /// What was made on it.
    pub made: Vec<Made>,
    /// What was damaged so far: bytes from the start.
    pub damaged: Vec<Extent>,
    /// Files whose content or size cannot come back.
    pub costs: Vec<String>,
    /// Files whose content comes back under another path.
    pub moved: Vec<String>,
}

/// Byte offsets and lengths are `usize` in memory; the volumes of the lab are small.
///
/// # Panics
/// When it is none.
pub fn index(value: u64) -> usize {
    usize::try_from(value).expect("a small volume")
}

impl<G> Patient<G> {
    /// A sound patient.
    pub fn new(filled: Filled<Vec<u8>, G>) -> Self {
        Self {
            bytes: filled.canvas,
            geometry: filled.geometry,
            made: filled.made,
            damaged: Vec::new(),
            costs: Vec::new(),
            moved: Vec::new(),
        }
    }

    /// Files that are there and not deleted.
    pub fn live(&self) -> impl Iterator<Item = &Made> {
        self.made.iter().filter(|made| !made.deleted)
    }

    /// A file or folder by its path.
    ///
    /// # Panics
    /// When there is none.
    pub fn find(&self, path: &str) -> Made {
        self.live().find(|made| made.path == path).unwrap_or_else(|| panic!("{path} was never made")).clone()
    }

    /// Overwrites bytes, and remembers where.
    pub fn write(&mut self, offset: u64, bytes: &[u8]) {
        let at = index(offset);
        self.bytes[at..at + bytes.len()].copy_from_slice(bytes);
        self.damaged.push(Extent::new(offset, bytes.len() as u64));
    }

    /// Tips a bit over.
    pub fn tip(&mut self, offset: u64, bit: u32) {
        let byte = self.bytes[index(offset)] ^ 1 << bit;
        self.write(offset, &[byte]);
    }

    /// Fills a range with one byte.
    pub fn fill(&mut self, offset: u64, length: u64, byte: u8) {
        self.write(offset, &vec![byte; index(length)]);
    }

    /// The bytes of a range.
    pub fn read(&self, offset: u64, length: usize) -> Vec<u8> {
        self.bytes[index(offset)..index(offset) + length].to_vec()
    }

    /// Fills the sector in which the entry of `path` stands, in the folder `folder`, as an imager does that cannot
    /// read it.
    pub fn unread_by_imager(&mut self, path: &str, folder: &str) {
        let text = b"<< UNREADABLE SECTOR >> ".iter().copied().cycle().take(512).collect::<Vec<u8>>();
        self.write(self.find(path).entry / 512 * 512, &text);
        self.moves(&[folder]);
    }

    fn under(&self, paths: &[&str]) -> Vec<String> {
        let hit = |made: &&Made| {
            paths.iter().any(|path| made.path == *path || made.path.starts_with(&format!("{path}/")))
        };
        self.live().filter(hit).map(|made| made.path.clone()).collect()
    }

    /// Says that these files, and all in them where they are folders, cannot all come back.
    pub fn cost(&mut self, paths: &[&str]) {
        let hit = self.under(paths);
        self.costs.extend(hit);
    }

    /// Says that these files, and all in them, come back whole under another path.
    pub fn moves(&mut self, paths: &[&str]) {
        let hit = self.under(paths);
        self.moved.extend(hit);
    }

    /// A cluster behind the last one in use.
    pub fn unused(&self, number: u32) -> u32 {
        let last = self.live().flat_map(|made| made.clusters.iter()).max().copied().unwrap_or(2);
        last + 40 + number
    }
}
