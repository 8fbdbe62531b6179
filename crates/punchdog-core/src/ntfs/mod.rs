//! NTFS: recognised, examined, listed and mended.
//!
//! The rooms are those of `fat`: `layout` has the structures, `geometry` says where everything lies, `record`, `runs`,
//! `list`, `index` and `names` read the family's own structures, `mft` finds the records, `records` reads them all, `tree`
//! puts folders and files together, `survey` is one reading of a whole volume, `volume` what it says of itself, `check`
//! reports, `mend` writes, `gates` knows what hosts demand, `build` and `fresh` make records and empty volumes.

pub mod attrdef;
pub mod boot;
pub mod build;
pub mod catalogue;
mod check;
pub mod content;
mod copies;
mod deleted;
mod differing;
mod doubled;
pub mod edit;
mod extend;
pub mod fresh;
mod gates;
pub mod geometry;
mod heads;
pub mod index;
pub mod layout;
pub mod list;
pub mod lists;
pub mod log;
mod mend;
pub mod mft;
mod mirror;
pub mod names;
mod outvoted;
mod parse;
mod reading;
pub mod record;
pub mod records;
pub mod runs;
mod scattered;
mod secure;
pub(crate) mod starts;
mod state;
mod story;
mod struck;
mod structures;
pub mod survey;
mod system;
pub mod tree;
mod views;
pub mod volume;

use crate::{
    arith::Sat,
    cluster::{aside::Aside, former, occupied::Occupied},
    family::{Kind, Start, Survey, Volume, Wanted},
    files::order::{Listing, Take},
    medium::{Extent, Medium, MediumError, OverlayWindow, Window},
    mending::{choices::Choices, step::Steps},
    progress::Watch,
    report::{
        examination::Examination,
        fields::FieldGroup,
        finding::{Collector, Finding},
        forecast::HostForecast,
        gap::Part,
        structure::Structure,
    },
};
use boot::Boot;
use geometry::Believed;
use volume::About;

/// An NTFS volume whose geometry is known.
pub struct NtfsVolume {
    believed: Believed,
}

impl NtfsVolume {
    /// The NTFS volume on `medium`, where a boot sector, its copy or records in their usual places tell of one.
    pub fn glance(medium: &dyn Medium, watch: &dyn Watch) -> Option<Self> {
        geometry::glance(medium, watch).map(|believed| Self { believed })
    }

    /// The NTFS volume on `medium`, wherever its records are.
    pub fn recognise(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<Self>, MediumError> {
        Ok(geometry::believe(medium, watch)?.map(|believed| Self { believed }))
    }

    /// The NTFS volume on `medium` whose records tell of it, wherever it begins: that, and the volume.
    pub fn wherever(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<(u64, Self)>, MediumError> {
        let Some(start) = geometry::search(medium, watch).map(|found| found.start) else { return Ok(None) };
        let window = Window::new(medium, Extent::new(start, medium.len().minus(start)));
        let found = Self::recognise(&window, watch)?;
        Ok(found.filter(|volume| volume.believed.borne_out() > 1).map(|volume| (start, volume)))
    }

    /// The geometry that is believed, and why.
    pub fn believed(&self) -> &Believed {
        &self.believed
    }
}

impl Volume for NtfsVolume {
    fn kind(&self) -> Kind {
        Kind::Ntfs
    }

    fn bytes(&self) -> u64 {
        self.believed.geometry.bytes()
    }

    fn tables_at(&self) -> u64 {
        self.believed.geometry.place(self.believed.geometry.mft)
    }

    fn data_at(&self) -> u64 {
        // Clusters are counted from the boot sector on.
        self.believed.geometry.sector()
    }

    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError> {
        let survey = survey::survey(medium, &self.believed.geometry, watch)?;
        let boot = boot::judge(medium, &self.believed);
        Ok(Box::new(NtfsSurvey { believed: self.believed.clone(), survey, boot }))
    }

    fn is_nearly_empty(&self, medium: &dyn Medium) -> bool {
        mft::Mft::find(medium, &self.believed.geometry).few_in_use(medium, former::NEARLY_EMPTY.wide())
    }

    fn lies_over_another(&self, medium: &dyn Medium) -> bool {
        let own = |sector: &[u8]| former::by_first_byte(sector, b'F');
        former::shows(medium, 0, self.believed.geometry.cluster(), &own)
    }

    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        let boot = boot::judge(medium, &self.believed);
        let mft = mft::Mft::find(medium, &self.believed.geometry);
        hosts(medium, sector, &boot, &volume::about(medium, &mft))
    }
}

fn hosts(medium: &dyn Medium, sector: u32, boot: &Boot, about: &About) -> Vec<HostForecast> {
    vec![gates::linux(medium, sector, boot.gone), gates::windows(medium, boot, about.version)]
}

/// An NTFS volume as it was read.
struct NtfsSurvey {
    believed: Believed,
    survey: survey::Survey,
    boot: Boot,
}

impl NtfsSurvey {
    /// Its structures, in order.
    fn parts(&self) -> Vec<Part> {
        let g = self.believed.geometry;
        let mut parts = vec![
            Part::new("the boot sector", 0, 512),
            Part::new("the copy of the boot sector", g.counted(), g.sector()),
            Part::new(
                "$MFT",
                g.place(g.mft),
                self.survey
                    .mft
                    .map
                    .places(0, u64::MAX)
                    .first()
                    .map_or(g.cluster(), |(_, extent)| extent.length),
            ),
            Part::new("$MFTMirr", g.place(g.mirror), g.record().wide().times(4)),
        ];
        for (number, name) in [
            (layout::own::BITMAP, "$Bitmap"),
            (layout::own::UPCASE, "$UpCase"),
            (layout::own::ATTRDEF, "$AttrDef"),
        ] {
            if let Some((_, first, map)) = system::content(&self.survey, number, "") {
                let part = if number == layout::own::BITMAP { Part::bitmap } else { Part::new };
                parts.extend(map.place(0).map(|place| part(name, place, first.size)));
            }
        }
        parts.sort_by_key(|part| part.extent.offset);
        parts
    }
}

impl Survey for NtfsSurvey {
    fn examine(&mut self, medium: &dyn Medium) -> Examination {
        let parts = self.parts();
        let Self { believed, survey, boot } = self;
        let mut collector = Collector::default();
        check::check(&check::Subject { medium, believed, boot, survey }, &mut collector);
        let forecast = hosts(medium, 512, boot, &survey.about);
        let findings = collector.weighed_by(&forecast);
        let label = Some(survey.about.label.clone()).filter(|label| !label.is_empty());
        let tally = state::tally(medium, survey);
        let deleted = deleted::count(medium, survey);
        let mut examination = Examination { label, findings, tally, deleted, ..Examination::default() };
        story::tell(medium, believed, boot, survey, &mut examination);
        examination.find_cause(medium, false, &parts);
        examination
    }

    fn older(&mut self, medium: &dyn Medium) -> Option<Finding> {
        check::older_volume(medium, &self.survey)
    }

    fn each_file(&mut self, medium: &dyn Medium, wanted: Wanted, take: &mut Take<'_>) {
        let others = if wanted.deleted { deleted::files(medium, &self.survey) } else { Vec::new() };
        let record = |survey: &mut survey::Survey, number: u32, path| {
            state::record(medium, survey, number, path, wanted)
        };
        Listing { others, end: medium.len() }.pass_on(&mut self.survey, |survey| survey, record, take);
    }

    fn starts(&mut self, medium: &dyn Medium, most: usize) -> Vec<Start> {
        starts::of(medium, &self.survey, most)
    }

    fn fields(&mut self, medium: &dyn Medium) -> Vec<FieldGroup> {
        story::fields(medium, &self.believed, &self.boot, &self.survey)
    }

    fn structures(&mut self, medium: &dyn Medium) -> Vec<Structure> {
        structures::of(medium, &self.believed.geometry, &self.survey)
    }

    fn marked_bad(&mut self, _: &dyn Medium) -> Vec<Extent> {
        structures::marked_bad(&self.survey)
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
        let geometry = &self.survey.mft.geometry;
        let numbers = (0, geometry.clusters().size());
        Occupied::new(0, geometry.cluster(), numbers, self.survey.claimed.clone())
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
