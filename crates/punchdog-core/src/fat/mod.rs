//! FAT12, FAT16 and FAT32, after the published specification (version 1.03).
//!
//! In reading order: [`layout`] (the bytes), [`geometry`] (which geometry to believe), [`table`]
//! (one copy of the table), [`links`] (all copies and what is believed of them), [`folder`] and
//! [`names`] (one folder), [`tree`] (all of them), [`survey`] with `resolve` and `lost` (reading a
//! volume through), [`boot`] and [`fsinfo`] (fields that follow from the rest), `check`, `mend`,
//! `gates`, [`fresh`].

pub mod beneath;
pub mod boot;
pub mod catalogue;
mod check;
mod deleted;
pub mod folder;
pub mod fresh;
pub mod fsinfo;
mod gates;
pub mod geometry;
pub mod layout;
pub mod links;
mod lost;
mod mend;
pub mod names;
mod resolve;
mod story;
mod structures;
pub mod survey;
pub mod table;
pub mod tree;

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
use folder::{Flaws, Reading};
use geometry::Believed;
use jiff::civil::DateTime;
use tree::{Node, Reached};

/// A FAT volume whose geometry is known.
pub struct FatVolume {
    believed: Believed,
}

impl FatVolume {
    /// The FAT volume on `medium`, if there is one, also without a boot sector.
    pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Self>, MediumError> {
        Ok(geometry::believe(medium, watch)?.map(|believed| Self { believed }))
    }

    /// The geometry that is believed, and why.
    pub fn believed(&self) -> &Believed {
        &self.believed
    }

    fn read(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<FatSurvey, MediumError> {
        let mut survey = survey::survey(medium, &self.believed.geometry, watch)?;
        let boot = judged(medium, &self.believed, &mut survey);
        Ok(FatSurvey { believed: self.believed.clone(), survey, boot })
    }

    fn gone(&self, medium: &dyn Medium) -> bool {
        let mut links = links::Links::unread(&self.believed.geometry);
        boot::judge(medium, &self.believed, &mut links, None).gone
    }

    fn hosts(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        let gone = self.gone(medium);
        vec![gates::linux(medium, sector, gone), gates::windows(medium, gone)]
    }
}

/// The judgement on the boot sector of a volume that was surveyed.
fn judged(medium: &dyn Medium, believed: &Believed, survey: &mut survey::Survey) -> Boot {
    let label = survey.label.map(|(label, _)| label);
    boot::judge(medium, believed, &mut survey.links, label)
}

impl Volume for FatVolume {
    fn kind(&self) -> Kind {
        self.believed.geometry.kind
    }

    fn bytes(&self) -> u64 {
        self.believed.geometry.bytes()
    }

    fn tables_at(&self) -> u64 {
        self.believed.geometry.table_offset(0)
    }

    fn data_at(&self) -> u64 {
        self.believed.geometry.data_offset()
    }

    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError> {
        Ok(Box::new(self.read(medium, watch)?))
    }

    fn is_nearly_empty(&self, medium: &dyn Medium) -> bool {
        let geometry = &self.believed.geometry;
        // A folder by its cluster; the narrow root has none.
        former::is_nearly_empty(geometry.wide().then_some(geometry.root_cluster), |folder| {
            let (at, length) = match folder {
                Some(cluster) if geometry.has(cluster) => {
                    (geometry.cluster_offset(cluster), geometry.cluster_bytes().wide())
                }
                Some(_) => return None,
                None => (geometry.root_offset(), geometry.root_bytes()),
            };
            let bytes = medium.lenient(at, length.size()).bytes;
            let root = folder.is_none_or(|cluster| geometry.wide() && cluster == geometry.root_cluster);
            let reading = Reading::of(&bytes, geometry.bounds(), root);
            let open = |item: &folder::Item| {
                item.entry.is_folder().then(|| Some(item.entry.first_cluster(geometry.wide())))
            };
            reading.end.is_some().then(|| reading.items.iter().map(open).collect())
        })
    }

    fn lies_over_another(&self, medium: &dyn Medium) -> bool {
        let geometry = &self.believed.geometry;
        let own = |sector: &[u8]| check::boot_region::own_place(geometry, sector);
        former::shows(medium, geometry.data_offset(), geometry.cluster_bytes().wide(), &own)
    }

    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        self.hosts(medium, sector)
    }
}

/// A FAT volume as it was read.
struct FatSurvey {
    believed: Believed,
    survey: survey::Survey,
    boot: Boot,
}

impl FatSurvey {
    /// Its structures, in order.
    fn parts(&self) -> Vec<Part> {
        let g = self.believed.geometry;
        let sector = g.sector_bytes.wide();
        let mut parts = vec![Part::new("the boot sector", 0, sector)];
        if g.wide() {
            parts.push(Part::new("FSInfo", sector, sector));
            parts.push(Part::new("the backup boot sector", sector.times(6), sector));
        }
        let names = ["the first table", "the second table", "the third table", "the fourth table"];
        for (copy, name) in (0..g.tables).zip(names) {
            parts.push(Part::new(name, g.table_offset(copy), g.table_bytes()));
        }
        let root = if g.wide() {
            Part::new("the root folder", g.cluster_offset(g.root_cluster), g.cluster_bytes().wide())
        } else {
            Part::new("the root folder", g.root_offset(), g.root_bytes())
        };
        parts.push(root);
        parts
    }
}

impl Survey for FatSurvey {
    fn examine(&mut self, medium: &dyn Medium) -> Examination {
        let parts = self.parts();
        let Self { believed, survey, boot } = self;
        let mut collector = Collector::default();
        check::check(&mut check::Subject { medium, believed, boot, survey }, &mut collector);
        let volume = FatVolume { believed: believed.clone() };
        let forecast = volume.hosts(medium, 512);
        let findings = collector.weighed_by(&forecast);
        let mut examination = Examination {
            label: survey.label.map(|(label, _)| names::label_text(&label)),
            findings,
            tally: tally(survey),
            deleted: deleted::count(medium, survey),
            ..Examination::default()
        };
        story::tell(medium, believed, boot, survey, &mut examination);
        examination.find_cause(medium, survey.hollow.is_some(), &parts);
        examination
    }

    fn older(&mut self, medium: &dyn Medium) -> Option<Finding> {
        check::boot_region::older_volume(medium, &self.believed.geometry, &self.survey)
    }

    fn each_file(&mut self, medium: &dyn Medium, wanted: Wanted, take: &mut Take<'_>) {
        let survey = &mut self.survey;
        let geometry = survey.geometry;
        let adrift = TreePath::in_root(ADRIFT);
        let mut others = Vec::new();
        for lost in &survey.tree.lost {
            let runs = survey::runs(medium, &mut survey.links, lost.head, lost.length);
            let each = geometry.cluster_bytes().wide();
            let places = runs
                .into_iter()
                .map(|(first, count)| Extent::new(geometry.cluster_offset(first), count.wide().times(each)));
            let path = adrift.child(&mend::lost_name(lost.head, lost));
            let room = lost.length.wide().times(each);
            others.push(FileRecord::adrift(path, lost.bytes.unwrap_or(room), places));
        }
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
                size: node.size(),
                state: state(node),
                modified: modified(node.entry.written_date.get(), node.entry.written_time.get()),
                attributes: Attributes::from_bits_truncate(node.entry.attributes.into()),
                content: Content::stored(places, u64::MAX),
                place: node.place,
                nameless: false,
                masked: node.flaws.has(Flaws::OTHER_COPY),
                whole: node.whole(),
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
        let begins = nodes.filter(|node| geometry.has(node.first) && (node.folder || node.size() > 0));
        let start = |node: &Node| {
            let place = geometry.cluster_offset(node.first);
            if node.folder {
                let of = [u64::from(node.first), u64::from(geometry.wide())];
                return Start::own(place, former::is_folder_of, of, true);
            }
            Start { place, bytes: node.size(), mark: Mark::Name(node.name.clone()) }
        };
        let lost = tree.lost.iter().filter(|lost| lost.folder_in.is_none());
        let nameless = |lost: &tree::Lost| {
            let bytes = u64::from(lost.length).times(geometry.cluster_bytes().wide());
            Start::nameless(geometry.cluster_offset(lost.head), lost.bytes.unwrap_or(bytes))
        };
        spread(begins, most).map(start).chain(spread(lost, most).map(nameless)).collect()
    }

    fn fields(&mut self, medium: &dyn Medium) -> Vec<FieldGroup> {
        story::fields(medium, &self.believed, &self.boot, &self.survey)
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
        let geometry = self.survey.geometry;
        let numbers = (2, geometry.last_cluster().plus(1).size());
        let each = geometry.cluster_bytes().wide();
        Occupied::new(geometry.cluster_offset(2), each, numbers, self.survey.claimed.clone())
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

fn state(node: &Node) -> State {
    match node.reached {
        Reached::Orphan | Reached::Undeleted => State::Orphan,
        _ if node.whole() => State::Intact,
        _ => State::Damaged,
    }
}

fn note(node: &Node) -> Option<&'static str> {
    let text = match node.reached {
        Reached::Orphan if node.flaws.has(Flaws::GUESSED) => {
            "in a folder that hosts do not show; part of its chain was found by judgement"
        }
        Reached::Orphan if node.flaws.has(Flaws::FIRST_FREE) => {
            "in a folder that hosts do not show; the table has none of it: that it lies in a row is judged"
        }
        Reached::Orphan => "in a folder that hosts do not show",
        Reached::Undeleted => "marked deleted, but its clusters are still in use",
        _ if node.whole() && node.flaws.has(Flaws::OTHER_COPY) => {
            "whole, but only by another copy of the table than the first, which is all that some hosts read"
        }
        _ if node.whole() => return None,
        _ if node.flaws.has(Flaws::CROSSED) => "shares clusters with another file",
        _ if node.flaws.has(Flaws::GUESSED) => "part of its chain was found by judgement",
        _ if node.flaws.has(Flaws::HOLLOW) => "where it should stand the medium reads blank to its end",
        _ if node.flaws.has(Flaws::BEYOND) => "part of it lies beyond the end of the image",
        _ if node.flaws.has(Flaws::CHAIN_SHORT) => "its chain is shorter than its size",
        _ if node.flaws.has(Flaws::SIZE_WRONG) => "its size is wrong: this one is where its content ends",
        _ if node.flaws.has(Flaws::SIZE_ZERO) => "it has clusters, but its size is 0",
        _ if node.flaws.has(Flaws::NOT_FOLDER) => "its first cluster holds no folder",
        _ => "its first cluster is wrong",
    };
    Some(text)
}

/// A date and time of a folder entry; `None` for zero and for what is no date.
pub fn modified(date: u16, time: u16) -> Option<DateTime> {
    let field = |value: u16, shift: u16, mask: u16| i8::try_from(value >> shift & mask).ok();
    let year = i16::try_from(date >> 9_u16).ok()?.checked_add(1980)?;
    let second = field(time, 0, 31)?.checked_mul(2)?;
    DateTime::new(
        year,
        field(date, 5, 15)?,
        field(date, 0, 31)?,
        field(time, 11, 31)?,
        field(time, 5, 63)?,
        second,
        0,
    )
    .ok()
}

fn tally(survey: &survey::Survey) -> Tally {
    let nodes = survey.tree.below_root().map(|(_, node)| (state(node), node.folder));
    Tally::of(nodes, survey.tree.lost.len())
}

pub(crate) use check::{differences as check_differences, hidden_tree as check_hidden_tree};
