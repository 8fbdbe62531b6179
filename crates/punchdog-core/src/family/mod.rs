//! What every family of file systems answers: which volume, what reading it shows, how it is mended.
//!
//! The families know these traits and nothing of each other; [`crate::registry`] is the one place that names them.

mod kind;

pub use kind::Kind;

use crate::{
    arith::Sat,
    cluster::{aside::Aside, occupied::Occupied},
    files::{order::Take, record::FileRecord},
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
    progress::Watch,
    report::{
        examination::Examination, fields::FieldGroup, finding::Finding, forecast::HostForecast,
        structure::Structure,
    },
};
use std::ops::ControlFlow;

/// Which files to list.
#[derive(Debug, Clone, Copy, Default)]
pub struct Wanted {
    /// List deleted files too.
    pub deleted: bool,
    /// List the file system's own files too.
    pub system: bool,
}

/// Where the content of a file or a structure begins.
#[derive(Debug, Clone)]
pub struct Start {
    /// Bytes from the start of the volume.
    pub place: u64,
    /// Bytes of it that stand there, as far as is known without following it: of a file in pieces it can be more.
    pub bytes: u64,
    /// What it is known by.
    pub mark: Mark,
}

/// What tells that something begins where it should.
#[derive(Debug, Clone)]
pub enum Mark {
    /// The file's name, by its kind.
    Name(Box<str>),
    /// The name is lost, and the kind with it.
    Lost,
    /// It says itself which it is.
    Own {
        /// True where bytes are the beginning of it.
        test: fn(&[u8], [u64; 2]) -> bool,
        /// Which it is, as `test` takes it.
        of: [u64; 2],
        /// It stands in one place only; of others what was there before can be left.
        once: bool,
    },
}

impl Start {
    /// Of something whose name is lost.
    pub(crate) fn nameless(place: u64, bytes: u64) -> Self {
        Self { place, bytes, mark: Mark::Lost }
    }

    /// Of something that says itself which it is.
    pub(crate) fn own(place: u64, test: fn(&[u8], [u64; 2]) -> bool, of: [u64; 2], once: bool) -> Self {
        Self { place, bytes: 0, mark: Mark::Own { test, of, once } }
    }

    /// It is known what it begins with.
    pub(crate) fn is_named(&self) -> bool {
        !matches!(self.mark, Mark::Lost)
    }

    /// It says itself which it is.
    pub(crate) fn says_itself(&self) -> bool {
        matches!(self.mark, Mark::Own { .. })
    }

    /// It says itself which it is, and may stand elsewhere too.
    pub(crate) fn may_be_old(&self) -> bool {
        matches!(self.mark, Mark::Own { once: false, .. })
    }
}

/// Of a long list no more than `most`, spread evenly.
pub(crate) fn spread<T>(list: impl Iterator<Item = T> + Clone, most: usize) -> impl Iterator<Item = T> {
    let step = list.clone().count().per_up(most.max(1)).max(1);
    list.step_by(step)
}

/// A volume whose kind and geometry are known.
pub trait Volume {
    /// Its file system.
    fn kind(&self) -> Kind;
    /// Its length in bytes, as its best geometry has it; can be more than the medium holds.
    fn bytes(&self) -> u64;
    /// Where its first tables or records begin: bytes from its start.
    fn tables_at(&self) -> u64;
    /// Where its own structures end that stand before all content: bytes from its start.
    fn data_at(&self) -> u64;
    /// Reads it through, once; what that shows answers the rest.
    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError>;
    /// True where a few reads show that hardly anything is on it: what its owner misses may then be what it was formatted
    /// over, and reading it through costs little.
    fn is_nearly_empty(&self, medium: &dyn Medium) -> bool;
    /// True where a few reads show folders in it that another file system made.
    fn lies_over_another(&self, medium: &dyn Medium) -> bool;
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
        let mut files = Vec::new();
        self.survey(medium, watch)?.each_file(medium, wanted, &mut |file| {
            files.push(file);
            ControlFlow::Continue(())
        });
        Ok(files)
    }
}

/// What one reading of a volume shows. It holds as long as no byte of the volume changes, and is asked
/// with the medium that it was read from: tables can be larger than memory, so that of them only pages are
/// kept, and others are read when they are asked for.
pub trait Survey {
    /// Every fault.
    fn examine(&mut self, medium: &dyn Medium) -> Examination;
    /// What is left beneath it of an older file system. Free space is read for that, on which no plan rests: none asks.
    fn older(&mut self, medium: &dyn Medium) -> Option<Finding>;
    /// Passes its files and folders on by path, each as it is made: a list of all would be larger than all that
    /// the survey holds.
    fn each_file(&mut self, medium: &dyn Medium, wanted: Wanted, take: &mut Take<'_>);
    /// Where files and folders begin, as far as the tree tells without more reading; of many only so many, spread evenly.
    fn starts(&mut self, medium: &dyn Medium, most: usize) -> Vec<Start>;
    /// Its boot structures, field by field.
    fn fields(&mut self, medium: &dyn Medium) -> Vec<FieldGroup>;
    /// What its bytes are for besides files and the folders that are listed with them, in no order.
    fn structures(&mut self, medium: &dyn Medium) -> Vec<Structure>;
    /// Clusters that the file system itself marks as failed, in order.
    fn marked_bad(&mut self, medium: &dyn Medium) -> Vec<Extent>;
    /// Which clusters its files and its own structures have; what is lost or deleted has none.
    fn occupied(&self) -> Occupied;
    /// One round of mending: the earliest stage that has something to do, and the next one where the survey
    /// holds in spite of it. `window` has the bytes that were surveyed.
    fn mend(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        choices: &mut Choices,
        steps: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError>;
    /// Moves what stands in clusters that the medium fails in to others, and marks those as failed: as much as this
    /// reading tells. Asked again of a new reading, until nothing is done.
    fn set_aside(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        aside: &Aside<'_>,
        steps: &mut Steps<'_>,
    ) -> Result<(), MediumError>;
}
