//! The one trait that ties the file systems together.

use crate::{
    arith::Sat,
    exfat, fat,
    finding::Finding,
    forecast::HostForecast,
    inventory::{FileRecord, State},
    medium::{Medium, MediumError, Stage},
    progress::Watch,
    step::{Choices, Steps},
};
use serde::{Deserialize, Serialize};

/// The file systems that Punchdog mends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// FAT with 12-bit table entries.
    Fat12,
    /// FAT with 16-bit table entries.
    Fat16,
    /// FAT with 32-bit table entries.
    Fat32,
    /// exFAT.
    Exfat,
}

impl Kind {
    /// As people write it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Exfat => "exFAT",
        }
    }
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fat12 => "fat12",
            Self::Fat16 => "fat16",
            Self::Fat32 => "fat32",
            Self::Exfat => "exfat",
        }
    }
}

/// A few bytes worth looking at, with what they show.
#[derive(Debug, Clone)]
pub struct Exhibit {
    /// The place's name, such as `sector 0`.
    pub place: String,
    /// Bytes from the start of the volume.
    pub offset: u64,
    /// The bytes, at most sixteen.
    pub bytes: Vec<u8>,
    /// What they show.
    pub note: String,
}

/// How many files are in which state.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Folders that can be reached, without the root.
    pub folders: u64,
    /// Files that can be reached whole.
    pub intact: u64,
    /// Files that can be reached but have lost something.
    pub damaged: u64,
    /// Files and folders that nothing names any more.
    pub orphans: u64,
}

impl Tally {
    /// Counts files (`false`) and folders (`true`) by state, and what else is out of reach.
    pub(crate) fn of(all: impl Iterator<Item = (State, bool)>, lost: usize) -> Self {
        let mut tally = Self { orphans: lost.wide(), ..Self::default() };
        for one in all {
            let count = match one {
                (State::Orphan, _) => &mut tally.orphans,
                (_, true) => &mut tally.folders,
                (State::Intact, _) => &mut tally.intact,
                _ => &mut tally.damaged,
            };
            *count = count.plus(1);
        }
        tally
    }
    /// All of them.
    pub(crate) fn all(&self) -> u64 {
        self.folders.plus(self.intact).plus(self.damaged).plus(self.orphans)
    }
    /// Adds what another volume has.
    pub(crate) fn add(&mut self, other: &Self) {
        self.folders = self.folders.plus(other.folders);
        self.intact = self.intact.plus(other.intact);
        self.damaged = self.damaged.plus(other.damaged);
        self.orphans = self.orphans.plus(other.orphans);
    }
}

/// How many deleted files can be had again.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Deleted {
    /// Files that are marked deleted, in deleted folders too.
    pub files: u64,
    /// Of those, files whose clusters nothing has now.
    pub readable: u64,
}

impl Deleted {
    pub(crate) fn of(files: &[FileRecord]) -> Self {
        let all = files.iter().filter(|file| !file.folder);
        let readable = all.clone().filter(|file| !file.taken && (file.size == 0 || !file.extents.is_empty()));
        Self { files: all.count().wide(), readable: readable.count().wide() }
    }
}

/// All that one reading of a volume shows.
#[derive(Debug, Default)]
pub struct Examination {
    /// The volume's label, if it has one.
    pub label: Option<String>,
    /// The faults, heaviest first.
    pub findings: Vec<Finding>,
    /// The files by state.
    pub tally: Tally,
    /// The deleted ones.
    pub deleted: Deleted,
    /// What is wrong, in one or two sentences.
    pub story: String,
    /// What probably happened.
    pub likely: Option<String>,
    /// What is still intact, a sentence each.
    pub intact: Vec<String>,
    /// The bytes that show it.
    pub exhibits: Vec<Exhibit>,
}

impl Examination {
    /// True when nothing weighs more than a remark.
    pub fn sound(&self) -> bool {
        self.findings.iter().all(|f| f.weight == crate::finding::Weight::Remark)
    }
}

/// One field of a structure: as it stands, in the second copy, as computed.
#[derive(Debug, Clone, Serialize)]
pub struct FieldRow {
    /// Bytes from the start of the structure.
    pub at: u64,
    /// Bytes long.
    pub bytes: u64,
    /// The specification's name for it.
    pub field: &'static str,
    /// What it is, in plain words.
    pub title: &'static str,
    /// The value as it stands.
    pub primary: Option<String>,
    /// The value in the second copy.
    pub backup: Option<String>,
    /// The value computed from the rest of the volume.
    pub computed: Option<String>,
    /// The value that Punchdog believes.
    pub believed: String,
    /// Why.
    pub why: String,
    /// True when the value as it stands is not the believed one.
    pub wrong: bool,
}

/// The fields of one structure.
#[derive(Debug, Clone, Serialize)]
pub struct FieldGroup {
    /// The word to ask for it by.
    pub which: &'static str,
    /// What the structure is called.
    pub title: String,
    /// Where it stands: bytes from the start of the volume.
    pub offset: u64,
    /// Where its second copy stands, if it has one.
    pub backup_offset: Option<u64>,
    /// Its fields.
    pub rows: Vec<FieldRow>,
}

/// Which files to list.
#[derive(Debug, Clone, Copy, Default)]
pub struct Wanted {
    /// List deleted files too.
    pub deleted: bool,
    /// List the file system's own files too.
    pub system: bool,
}

/// A volume whose kind and geometry are known.
pub trait Volume {
    /// Its file system.
    fn kind(&self) -> Kind;
    /// Its length in bytes, as its best geometry has it; can be more than the medium holds.
    fn bytes(&self) -> u64;
    /// Reads it through, once; what that shows answers the rest.
    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError>;
    /// What each host does with it; `sector` is the logical sector size of the device in bytes.
    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast>;

    /// Every fault, for whoever asks nothing else.
    fn examine(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Examination, MediumError> {
        Ok(self.survey(medium, watch)?.examine(medium))
    }
    /// Its files and folders, by path, for whoever asks nothing else.
    fn files(
        &self,
        medium: &dyn Medium,
        wanted: Wanted,
        watch: &dyn Watch,
    ) -> Result<Vec<FileRecord>, MediumError> {
        Ok(self.survey(medium, watch)?.files(medium, wanted))
    }
    /// Its boot structures, field by field, for whoever asks nothing else.
    fn fields(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Vec<FieldGroup>, MediumError> {
        Ok(self.survey(medium, watch)?.fields(medium))
    }
}

/// What one reading of a volume shows. It holds as long as no byte of the volume changes, and is asked
/// with the medium that it was read from: tables can be larger than memory, so that of them only pages are
/// kept, and others are read when they are asked for.
pub trait Survey {
    /// Every fault.
    fn examine(&mut self, medium: &dyn Medium) -> Examination;
    /// Its files and folders, by path.
    fn files(&mut self, medium: &dyn Medium, wanted: Wanted) -> Vec<FileRecord>;
    /// Its boot structures, field by field.
    fn fields(&mut self, medium: &dyn Medium) -> Vec<FieldGroup>;
    /// One round of mending: the earliest stage that has something to do, and the next one where the survey
    /// holds in spite of it. `stage` has the bytes that were surveyed.
    fn mend(
        &mut self,
        stage: &mut Stage<'_, '_>,
        choices: &mut Choices,
        steps: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError>;
}

/// What the medium holds, if it is one of the file systems that Punchdog mends, also when its
/// boot sector is gone. `None` when nothing speaks for one.
pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Box<dyn Volume>>, MediumError> {
    // exFAT first: what its volumes have in their first sectors is nothing that FAT has, and the
    // reverse; but the search for a lost FAT is the less particular.
    if let Some(volume) = exfat::ExfatVolume::recognise(medium, watch)? {
        return Ok(Some(Box::new(volume)));
    }
    Ok(fat::FatVolume::recognise(medium, watch)?.map(|volume| {
        let boxed: Box<dyn Volume> = Box::new(volume);
        boxed
    }))
}
