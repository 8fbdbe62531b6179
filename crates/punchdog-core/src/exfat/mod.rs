//! exFAT: recognised, examined, listed and mended.
//!
//! The rooms are those of `fat`: `layout` has the structures, `geometry` says where everything
//! lies, `boot`, `table`, `upcase` and `sets` read the family's own structures, `survey` reads the
//! whole volume, `resolve` settles what does not fit with what is `open`, `lost` finds the rest,
//! `check` reports, `mend` writes, `gates` knows what hosts demand, `fresh` lays down an empty
//! volume.

pub mod boot;
pub mod catalogue;
mod check;
pub mod fresh;
mod gates;
pub mod geometry;
pub mod layout;
mod lost;
mod mend;
mod open;
mod resolve;
pub mod sets;
mod story;
pub mod survey;
pub mod table;
pub mod tree;
pub mod upcase;

use crate::{
    arith::Sat,
    family::{Examination, FieldGroup, Kind, Tally, Volume, Wanted},
    finding::Collector,
    forecast::HostForecast,
    inventory::{FileRecord, State},
    keeping::ADRIFT,
    medium::{Extent, Medium, MediumError, Stage},
    progress::Watch,
    step::{Choices, Steps},
    treepath::TreePath,
};
use boot::Boot;
use geometry::Believed;
use sets::Flaws;
use survey::Survey;
use tree::{HIDING, Node, Reached};

/// An exFAT volume whose geometry is known.
pub struct ExfatVolume {
    believed: Believed,
}

impl ExfatVolume {
    /// The exFAT volume on `medium`, if there is one, also without its boot regions.
    pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Self>, MediumError> {
        Ok(geometry::believe(medium, watch)?.map(|believed| Self { believed }))
    }

    /// The geometry that is believed, and why.
    pub fn believed(&self) -> &Believed {
        &self.believed
    }

    fn read(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<(Survey, Boot), MediumError> {
        let boot = boot::judge(medium, &self.believed);
        let survey = survey::survey(medium, &self.believed.geometry, boot.flags, watch)?;
        Ok((survey, boot))
    }
}

impl Volume for ExfatVolume {
    fn kind(&self) -> Kind {
        Kind::Exfat
    }

    fn bytes(&self) -> u64 {
        self.believed.geometry.bytes()
    }

    fn examine(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Examination, MediumError> {
        let (mut survey, boot) = self.read(medium, watch)?;
        let mut collector = Collector::default();
        let mut subject =
            check::Subject { medium, believed: &self.believed, boot: &boot, survey: &mut survey };
        check::check(&mut subject, &mut collector);
        let forecast = self.forecast(medium, 512);
        let findings = collector.weighed_by(&forecast);
        let label = survey.label.as_ref().map(|(_, text, _)| text.clone()).filter(|text| !text.is_empty());
        let mut examination =
            Examination { label, findings, tally: tally(&survey), ..Examination::default() };
        story::tell(medium, &self.believed, &boot, &mut survey, &mut examination);
        Ok(examination)
    }

    fn files(
        &self,
        medium: &dyn Medium,
        wanted: Wanted,
        watch: &dyn Watch,
    ) -> Result<Vec<FileRecord>, MediumError> {
        let (mut survey, _) = self.read(medium, watch)?;
        let mut files = Vec::new();
        let paths = survey.tree.paths();
        for number in 1..survey.tree.nodes.len().narrow() {
            let extents = survey.extents(medium, number);
            if let Some(node) = survey.tree.node(number) {
                files.push(FileRecord {
                    path: paths.get(number.size()).cloned().unwrap_or_else(|| TreePath::in_root("")),
                    folder: node.folder,
                    size: if node.folder { 0 } else { node.stream.length },
                    state: state(node),
                    modified: node.modified,
                    zeros: unwritten(node, &survey.geometry),
                    extents: written(node, extents),
                    place: node.place,
                    masked: node.flaws.contains(Flaws::OTHER_COPY),
                    whole: node.whole(),
                    note: note(node),
                });
            }
        }
        files.extend(lost(&mut survey, medium));
        if wanted.deleted {
            files.extend(deleted(&survey, &paths));
        }
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(files)
    }

    fn fields(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Vec<FieldGroup>, MediumError> {
        let (survey, boot) = self.read(medium, watch)?;
        Ok(story::fields(&self.believed, &boot, &survey))
    }

    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        let boot = boot::judge(medium, &self.believed);
        vec![gates::linux(medium, sector, boot.gone), gates::windows(medium, &boot)]
    }

    fn mend(
        &self,
        stage: &mut Stage<'_, '_>,
        choices: &mut Choices,
        steps: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError> {
        mend::round(self, stage, choices, steps, watch)
    }
}

/// Bytes of a file that were never written and read as zeros. A length says nothing of what the file
/// has no clusters for: it can be anything.
fn unwritten(node: &Node, geometry: &geometry::Geometry) -> u64 {
    let room = node.length.wide().times(geometry.cluster_bytes());
    let length = if node.folder { 0 } else { node.stream.length.min(room) };
    length.minus(node.stream.valid)
}

/// Only what was ever written is read from the medium: behind the valid length a file is zeros
/// (section 7.6.5), which `FileRecord` gives where it has no extents.
fn written(node: &Node, mut extents: Vec<Extent>) -> Vec<Extent> {
    let mut left = node.stream.valid;
    if node.folder || left >= node.stream.length {
        return extents;
    }
    for extent in &mut extents {
        extent.length = extent.length.min(left);
        left = left.minus(extent.length);
    }
    extents.retain(|extent| extent.length > 0);
    extents
}

fn state(node: &Node) -> State {
    match node.reached {
        Reached::Orphan | Reached::Undeleted => State::Orphan,
        _ if node.whole() && !node.flaws.intersects(HIDING) => State::Intact,
        _ => State::Damaged,
    }
}

fn note(node: &Node) -> Option<String> {
    let text = match node.reached {
        Reached::Orphan => "in a folder that hosts do not show",
        Reached::Undeleted => "marked deleted, but its clusters are still in use",
        _ if node.whole() && node.flaws.contains(Flaws::OTHER_COPY) => {
            "whole, but only by the other table than the one that hosts read"
        }
        _ if node.whole() && node.flaws.intersects(HIDING) => {
            "its content is whole, but hosts do not find it: its entry set is damaged"
        }
        _ if node.whole() => return None,
        _ if node.flaws.contains(Flaws::CROSSED) => "shares clusters with another file",
        _ if node.flaws.contains(Flaws::GUESSED) => "part of its chain was found by judgement",
        _ if node.flaws.contains(Flaws::BEYOND) => "part of it lies beyond the end of the image",
        _ if node.flaws.contains(Flaws::SHORT) => "it has fewer clusters than its length needs",
        _ if node.flaws.contains(Flaws::NOT_FOLDER) => "its first cluster holds no folder",
        _ => "its first cluster is wrong",
    };
    Some(text.to_owned())
}

fn tally(survey: &Survey) -> Tally {
    let nodes = survey.tree.below_root().map(|(_, node)| (state(node), node.folder));
    Tally::of(nodes, survey.tree.lost.iter().filter(|lost| !lost.blank).count())
}

fn lost(survey: &mut Survey, medium: &dyn Medium) -> Vec<FileRecord> {
    let mut files = Vec::new();
    let adrift = TreePath::in_root(ADRIFT);
    for lost in std::mem::take(&mut survey.tree.lost).into_iter().filter(|lost| !lost.blank) {
        let runs = survey.runs(medium, lost.first, lost.length, !lost.chained);
        let extents = survey::extents_of(&survey.geometry, &runs);
        let path = adrift.child(&mend::lost_name(lost.first, lost.extension.as_deref()));
        let size = lost.length.wide().times(survey.geometry.cluster_bytes());
        files.push(FileRecord::adrift(path, size, extents));
    }
    files
}

fn deleted(survey: &Survey, paths: &[TreePath]) -> Vec<FileRecord> {
    let geometry = survey.geometry;
    let mut files = Vec::new();
    for (folder, place, item) in &survey.tree.deleted {
        let (first, size) = (item.stream.first, item.stream.length);
        let extents = if geometry.has(first) && size > 0 {
            // No further than the volume goes, whatever the length says.
            let place = geometry.cluster_place(first);
            vec![Extent::new(place, size.min(geometry.heap_end().minus(place)))]
        } else {
            Vec::new()
        };
        let is_folder = item.attributes() & layout::DIRECTORY != 0;
        files.push(FileRecord {
            path: survey.tree.path_in(paths, *folder, &item.name),
            folder: is_folder,
            size: if is_folder { 0 } else { size },
            state: State::Deleted,
            modified: None,
            extents,
            zeros: 0,
            place: *place,
            masked: false,
            whole: false,
            note: Some(
                "deleted; its clusters are taken to lie in a row and may hold something else".to_owned(),
            ),
        });
    }
    files
}
