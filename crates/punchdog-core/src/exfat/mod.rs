//! exFAT: recognised, examined, listed and mended.
//!
//! The rooms are those of `fat`: `layout` has the structures, `geometry` says where everything
//! lies, `boot`, `table`, `upcase` and `sets` read the family's own structures, `survey` reads the
//! whole volume, `resolve` settles what does not fit with what is `open`, `lost` finds the rest,
//! `check` reports, `mend` writes, `gates` knows what hosts demand, `fresh` lays down an empty
//! volume.

mod accept;
mod astray;
pub mod beneath;
pub mod boot;
mod broken;
pub mod catalogue;
mod check;
mod deleted;
pub mod fresh;
mod gates;
pub mod geometry;
pub mod layout;
mod lost;
mod mend;
mod pieces;
mod resolve;
mod rivals;
pub mod sets;
mod share_out;
mod story;
mod struck;
mod structures;
pub mod survey;
pub mod table;
pub mod tree;
mod unclaimed;
pub mod upcase;

use crate::{
    arith::Sat,
    cluster::{aside::Aside, former, occupied::Occupied},
    family::{Kind, Mark, Start, Survey, Volume, Wanted, spread},
    files::{
        content::Content,
        naming::ADRIFT,
        order::{Listing, Take},
        path::TreePath,
        record::{Attributes, FileRecord, State},
    },
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::{choices::Choices, step::Steps},
    progress::Watch,
    report::{
        examination::{Examination, Tally},
        fields::FieldGroup,
        finding::{Collector, Finding},
        forecast::HostForecast,
        gap::Part,
        structure::Structure,
    },
};
use boot::Boot;
use geometry::Believed;
use sets::Flaws;
use tree::{HIDING, Node, Reached};

/// Bytes of a folder in which that of a nearly empty volume ends.
const FEW_ENTRIES: u64 = 64 << 10;

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

    fn read(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<ExfatSurvey, MediumError> {
        let boot = boot::judge(medium, &self.believed);
        let survey = survey::survey(medium, &self.believed.geometry, boot.flags, watch)?;
        Ok(ExfatSurvey { believed: self.believed.clone(), survey, boot })
    }
}

impl Volume for ExfatVolume {
    fn kind(&self) -> Kind {
        Kind::Exfat
    }

    fn bytes(&self) -> u64 {
        self.believed.geometry.bytes()
    }

    fn tables_at(&self) -> u64 {
        self.believed.geometry.table_place(0)
    }

    fn data_at(&self) -> u64 {
        self.believed.geometry.heap_place()
    }

    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError> {
        Ok(Box::new(self.read(medium, watch)?))
    }

    fn is_nearly_empty(&self, medium: &dyn Medium) -> bool {
        let geometry = &self.believed.geometry;
        let Some(upcase) = upcase::Upcase::decode(&upcase::Upcase::recommended()) else { return false };
        former::is_nearly_empty(geometry.root_cluster, |cluster| {
            if !geometry.has(cluster) {
                return None;
            }
            // The first entries tell whether there are more than a few.
            let length = geometry.cluster_bytes().min(FEW_ENTRIES);
            let bytes = medium.lenient(geometry.cluster_place(cluster), length.size()).bytes;
            let reading = sets::Reading::of(&bytes, &upcase, cluster == geometry.root_cluster);
            let open =
                |item: &sets::Item| (item.attributes() & layout::DIRECTORY != 0).then_some(item.stream.first);
            reading.end.is_some().then(|| reading.items.iter().map(open).collect())
        })
    }

    fn lies_over_another(&self, medium: &dyn Medium) -> bool {
        let geometry = &self.believed.geometry;
        let own = |sector: &[u8]| former::by_first_byte(sector, former::FILE_ENTRY);
        former::shows(medium, geometry.heap_place(), geometry.cluster_bytes(), &own)
    }

    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        let boot = boot::judge(medium, &self.believed);
        hosts(medium, sector, &boot)
    }
}

fn hosts(medium: &dyn Medium, sector: u32, boot: &Boot) -> Vec<HostForecast> {
    vec![gates::linux(medium, sector, boot.gone), gates::windows(medium, boot)]
}

/// An exFAT volume as it was read.
struct ExfatSurvey {
    believed: Believed,
    survey: survey::Survey,
    boot: Boot,
}

impl ExfatSurvey {
    /// Its structures, in order.
    fn parts(&self) -> Vec<Part> {
        let (g, survey) = (self.believed.geometry, &self.survey);
        let (region, sector) = (g.region_bytes(), g.sector_bytes());
        let cluster = |first: u32, bytes: u64| (g.cluster_place(first), bytes);
        let mut parts = vec![
            Part::new("the main boot region", 0, region),
            Part::new("the extended boot sectors", sector, sector.times(8)),
            Part::new("the boot checksum", sector.times(11), sector),
            Part::new("the backup boot region", region, region),
            Part::new("the table", g.table_place(0), g.table_bytes()),
        ];
        let bitmap = survey.bitmap.clusters.first().map(|first| cluster(*first, g.bitmap_bytes()));
        let upcase =
            survey.upcase.clusters.first().map(|first| cluster(*first, survey.upcase.bytes.len().wide()));
        let root = Some(cluster(g.root_cluster, g.cluster_bytes()));
        parts.extend(bitmap.map(|(offset, length)| Part::bitmap("the bitmap", offset, length)));
        for (name, place) in [("the up-case table", upcase), ("the root folder", root)] {
            parts.extend(place.map(|(offset, length)| Part::new(name, offset, length)));
        }
        parts.sort_by_key(|part| part.extent.offset);
        parts
    }
}

impl Survey for ExfatSurvey {
    fn examine(&mut self, medium: &dyn Medium) -> Examination {
        let parts = self.parts();
        let Self { believed, survey, boot } = self;
        let mut collector = Collector::default();
        check::check(&mut check::Subject { medium, believed, boot, survey }, &mut collector);
        let forecast = hosts(medium, 512, boot);
        let findings = collector.weighed_by(&forecast);
        let label = survey.label.as_ref().map(|(_, text, _)| text.clone()).filter(|text| !text.is_empty());
        let deleted = deleted::count(medium, survey);
        let mut examination =
            Examination { label, findings, tally: tally(survey), deleted, ..Examination::default() };
        story::tell(medium, believed, boot, survey, &mut examination);
        examination.find_cause(medium, survey.hollow.is_some(), &parts);
        examination
    }

    fn older(&mut self, medium: &dyn Medium) -> Option<Finding> {
        check::older_volume(medium, &self.believed.geometry, &self.survey)
    }

    fn each_file(&mut self, medium: &dyn Medium, wanted: Wanted, take: &mut Take<'_>) {
        let survey = &mut self.survey;
        let mut others = lost(survey, medium);
        if wanted.deleted {
            let paths = survey.tree.paths();
            others.extend(deleted::files(medium, survey, &paths));
        }
        let record = |survey: &mut survey::Survey, number: u32, path: TreePath| {
            let places = survey.extents(medium, number);
            let node = survey.tree.node(number)?;
            Some(FileRecord {
                path,
                folder: node.folder,
                size: if node.folder { 0 } else { node.stream.length },
                state: state(node),
                modified: node.modified,
                attributes: Attributes::from_bits_truncate(node.attributes),
                content: content(node, &survey.geometry, places),
                place: node.place,
                masked: node.flaws.contains(Flaws::OTHER_COPY),
                whole: node.whole(),
                nameless: node.flaws.contains(Flaws::NAME),
                taken: false,
                absent: false,
                sought: false,
                lacks: Vec::new(),
                note: note(node).map(Into::into),
            })
        };
        let end = survey.hollow.map_or(medium.len(), |tail| tail.from);
        Listing { others, end: end.min(medium.len()) }.pass_on(survey, |survey| &survey.tree, record, take);
    }

    fn starts(&mut self, _: &dyn Medium, most: usize) -> Vec<Start> {
        let survey::Survey { geometry, tree, .. } = &self.survey;
        let nodes = tree.below_root().map(|(_, node)| node);
        let begins = nodes.filter(|node| geometry.has(node.first) && !node.folder && node.stream.valid > 0);
        let start = |node: &Node| Start {
            place: geometry.cluster_place(node.first),
            bytes: node.stream.valid,
            mark: Mark::Name(node.name.clone()),
        };
        let nameless = |lost: &tree::Lost| {
            let bytes = u64::from(lost.length).times(geometry.cluster_bytes());
            Start::nameless(geometry.cluster_place(lost.first), lost.bytes.unwrap_or(bytes))
        };
        let lost = tree.lost.iter().filter(|lost| !lost.blank);
        spread(begins, most).map(start).chain(spread(lost, most).map(nameless)).collect()
    }

    fn fields(&mut self, _: &dyn Medium) -> Vec<FieldGroup> {
        story::fields(&self.believed, &self.boot, &self.survey)
    }

    fn structures(&mut self, medium: &dyn Medium) -> Vec<Structure> {
        structures::of(medium, &mut self.survey)
    }

    fn marked_bad(&mut self, medium: &dyn Medium) -> Vec<Extent> {
        structures::marked_bad(medium, &mut self.survey)
    }

    fn set_aside(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        aside: &Aside<'_>,
        steps: &mut Steps<'_>,
    ) -> Result<(), MediumError> {
        mend::set_aside(self, window, aside, steps)
    }

    fn occupied(&self) -> Occupied {
        let geometry = &self.survey.geometry;
        let numbers = (2, geometry.last_cluster().plus(1).size());
        let each = geometry.cluster_bytes();
        Occupied::new(geometry.cluster_place(2), each, numbers, self.survey.claimed.clone())
    }

    fn mend(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        choices: &mut Choices,
        steps: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError> {
        mend::round(self, window, choices, steps, watch)
    }
}

/// Only what was ever written is read from the medium: behind the valid length a file is zeros (section 7.6.5).
/// A length says nothing of what the file has no clusters for: it can be anything.
fn content(node: &Node, geometry: &geometry::Geometry, places: Vec<Extent>) -> Content {
    if node.folder || node.stream.valid >= node.stream.length {
        return Content::stored(places, u64::MAX);
    }
    let room = node.length.wide().times(geometry.cluster_bytes());
    let zeros = node.stream.length.min(room).minus(node.stream.valid);
    Content::stored(places, node.stream.valid).and_zeros(zeros)
}

fn state(node: &Node) -> State {
    match node.reached {
        Reached::Orphan | Reached::Undeleted => State::Orphan,
        _ if node.whole() && !node.flaws.intersects(HIDING) => State::Intact,
        _ => State::Damaged,
    }
}

fn note(node: &Node) -> Option<&'static str> {
    let text = match node.reached {
        Reached::Orphan => "in a folder that hosts do not show",
        Reached::Undeleted => "marked deleted, but its clusters are still in use",
        _ if node.whole() && node.flaws.contains(Flaws::OTHER_COPY) => {
            "whole, but only by the other table than the one that hosts read"
        }
        _ if node.whole() && node.flaws.contains(Flaws::NAME) => {
            "its content is whole, but hosts do not find it, and its name is lost: this one was made up"
        }
        _ if node.whole() && node.flaws.contains(Flaws::HEAD) => {
            "its content is whole, but hosts do not find it, and its attributes and times are lost"
        }
        _ if node.whole() && node.flaws.intersects(HIDING) => {
            "its content is whole, but hosts do not find it: its entry set is damaged"
        }
        _ if node.whole() => return None,
        _ if node.flaws.contains(Flaws::CROSSED) => "shares clusters with another file",
        _ if node.flaws.contains(Flaws::GUESSED) => "part of its chain was found by judgement",
        _ if node.flaws.contains(Flaws::CRITICAL) => {
            "an entry of a type that is not known says something of it"
        }
        _ if node.flaws.contains(Flaws::HOLLOW) => "where it should stand the medium reads blank to its end",
        _ if node.flaws.contains(Flaws::BEYOND) => "part of it lies beyond the end of the image",
        _ if node.flaws.contains(Flaws::SHORT) => "it has fewer clusters than its length needs",
        _ if node.flaws.contains(Flaws::NOT_FOLDER) => "its first cluster holds no folder",
        _ => "its first cluster is wrong",
    };
    Some(text)
}

fn tally(survey: &survey::Survey) -> Tally {
    let nodes = survey.tree.below_root().map(|(_, node)| (state(node), node.folder));
    Tally::of(nodes, survey.tree.lost.iter().filter(|lost| !lost.blank).count())
}

fn lost(survey: &mut survey::Survey, medium: &dyn Medium) -> Vec<FileRecord> {
    let mut files = Vec::new();
    let adrift = TreePath::in_root(ADRIFT);
    for lost in survey.tree.lost.clone().into_iter().filter(|lost| !lost.blank) {
        let runs = survey.runs(medium, lost.first, lost.length, !lost.chained);
        let extents = survey::extents_of(&survey.geometry, &runs);
        let path = adrift.child(&mend::lost_name(&lost));
        let room = lost.length.wide().times(survey.geometry.cluster_bytes());
        files.push(FileRecord::adrift(path, lost.bytes.unwrap_or(room), extents));
    }
    files
}
