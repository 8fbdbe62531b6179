//! One view of a whole image, from which scout, check, explain and plan speak.
//!
//! What is meant is settled by [`choose`]: every volume, or the one at a number or a place, each with the way to
//! it. [`Diagnosed`] adds what reading it shows and what hosts make of it.

mod nature;
pub mod outside;

pub use nature::Nature;

use outside::Hint;

use crate::{
    arith::Sat,
    family::{Survey, Volume},
    medium::{Extent, Gap, Medium, MediumError, Window},
    partition::{self, Place, Scouting, Way},
    progress::Watch,
    registry,
    report::{
        examination::Examination,
        finding::{Entry, Finding, Weight},
        forecast::HostForecast,
    },
};

use std::cell::Cell;

/// Which volumes of an image are meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wish {
    /// Every one that can be mended.
    All,
    /// The one with this number, from 1 on, as scouting has them.
    Number(usize),
    /// The one that begins at this byte.
    At {
        /// Bytes from the start of the image.
        offset: u64,
        /// Even inside a whole volume.
        inside: bool,
    },
}

/// A volume with the way to it.
pub struct Target {
    /// The bytes of the image that are taken for it.
    pub extent: Extent,
    /// The volume itself.
    pub volume: Box<dyn Volume>,
    /// How it was found, where scouting found it.
    pub place: Option<Place>,
    /// The partition table has no fault, of this volume or of another.
    pub table_sound: bool,
    /// Bytes of the sectors that the partition table counts in.
    pub unit: u32,
    /// A volume stands behind it where the partition table says.
    pub followed: bool,
    /// What it shows, where scouting had to read it through.
    read: Cell<Option<Box<dyn Survey>>>,
}

impl Target {
    /// What reading the volume shows; `window` has its bytes of the image.
    pub fn survey(&self, window: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError> {
        match self.read.take() {
            Some(survey) => Ok(survey),
            None => self.volume.survey(window, watch),
        }
    }
    /// Lets go of what was read on the way, where nobody will ask for it.
    pub fn let_go(&self) {
        self.read.take();
    }
    /// Why a host does not get as far as the volume, if the partition table is why.
    pub fn not_found_by(&self, host: &str) -> Option<&'static Entry> {
        self.place.as_ref().and_then(|place| place.not_found_by(host))
    }
    /// Nothing is wrong with the way to it, but that it begins at another reader.
    pub fn needs_another_reader(&self) -> bool {
        let others = |entry: &&Entry| entry.code == partition::catalogue::OTHER_SECTORS.code;
        let faults = self.place.as_ref().map_or(&[][..], |place| &place.way_faults);
        self.table_sound && !faults.is_empty() && faults.iter().all(others)
    }
    /// Another volume claims some of the same bytes, and no table says which of the two is in use.
    pub fn is_contested(&self) -> bool {
        let faults = self.place.as_ref().map_or(&[][..], |place| &place.way_faults);
        faults.iter().any(|entry| entry.code == partition::catalogue::RIVAL.code)
    }
    /// Nothing is wrong with the way to it, nor with the table that it is in.
    pub fn way_is_clear(&self) -> bool {
        self.table_sound && self.place.as_ref().is_none_or(|place| place.way_faults.is_empty())
    }
}

/// Why what is meant cannot be worked on.
#[derive(Debug, thiserror::Error)]
pub enum NotChosen {
    /// Bytes could not be read.
    #[error(transparent)]
    Medium(#[from] MediumError),
    /// The place lies behind the end of the image.
    #[error("byte {0} lies beyond the end of the image")]
    Beyond(u64),
    /// No volume begins there.
    #[error("no volume begins at byte {0}")]
    NotThere(u64, Option<partition::strangers::Name>),
    /// There are not so many.
    #[error("no volume {number} of {of}")]
    NoSuchNumber {
        /// The number that was asked for.
        number: usize,
        /// How many there are.
        of: usize,
    },
    /// The image holds no volume.
    #[error("no volume")]
    Nothing(Box<Scouting>),
    /// A whole volume that begins elsewhere has these bytes.
    #[error("the volume would overlap a whole one")]
    Overlaps {
        /// The byte that was asked for.
        offset: u64,
        /// The whole one.
        place: Box<Place>,
        /// Its number, from 1 on.
        number: usize,
    },
}

/// The volumes that are meant; with what scouting saw, where all are.
pub fn choose(
    image: &dyn Medium,
    wish: Wish,
    watch: &dyn Watch,
) -> Result<(Vec<Target>, Option<Scouting>), NotChosen> {
    match wish {
        Wish::At { offset, inside } => {
            // A place between the volumes of a disk ends where its entry ends.
            // What begins elsewhere is looked at only to see whether it overlaps.
            let seen = partition::scout(image, false, watch)?;
            let here =
                seen.volumes.iter().find(|place| place.extent.offset == offset && place.way != Way::Bare);
            let length =
                here.map(|place| place.extent.length).or_else(|| Some(partition_at(image, offset)?.length));
            let mut target = at(image, offset, length, Some(&seen), watch)?;
            target.place = seen.volumes.iter().find(|place| place.extent.offset == offset).cloned();
            target.table_sound = seen.in_order();
            target.unit = seen.unit.narrow();
            target.followed = is_followed(&target, &seen);
            if !inside && let Err(over) = must_not_overlap(&target, &seen) {
                // A lost volume is known where all is searched, and where it ends.
                let seen = partition::scout(image, true, watch)?;
                let lost = seen.volumes.iter().find(|place| place.extent.offset == offset);
                return Ok((vec![place(image, &seen, lost.ok_or(over)?, watch)?], None));
            }
            Ok((vec![target], None))
        }
        Wish::Number(number) => {
            // As scout does it, so that numbers mean the same.
            let seen = partition::scout(image, true, watch)?;
            let found = number.checked_sub(1).and_then(|index| seen.volumes.get(index));
            let found = found.ok_or(NotChosen::NoSuchNumber { number, of: seen.volumes.len() })?;
            Ok((vec![place(image, &seen, found, watch)?], None))
        }
        Wish::All => {
            let seen = partition::scout(image, true, watch)?;
            if seen.volumes.is_empty() {
                return Err(NotChosen::Nothing(Box::new(seen)));
            }
            let all: Result<Vec<Target>, NotChosen> =
                seen.volumes.iter().map(|found| place(image, &seen, found, watch)).collect();
            Ok((all?, Some(seen)))
        }
    }
}

/// The volume that a scouted place stands for.
pub fn place(
    image: &dyn Medium,
    seen: &Scouting,
    place: &Place,
    watch: &dyn Watch,
) -> Result<Target, NotChosen> {
    let length = (place.way != Way::Bare).then_some(place.extent.length);
    let mut target = at(image, place.extent.offset, length, Some(seen), watch)?;
    target.place = Some(place.clone());
    target.table_sound = seen.in_order();
    target.unit = seen.unit.narrow();
    target.followed = is_followed(&target, seen);
    Ok(target)
}

fn is_followed(target: &Target, seen: &Scouting) -> bool {
    let end = target.extent.offset.plus(target.volume.bytes());
    let behind = |place: &&Place| place.way == Way::Listed && !place.boot_gone && place.extent.offset >= end;
    seen.volumes.iter().any(|place| behind(&place))
}

/// The partition that begins at a byte offset, whatever stands there.
pub fn partition_at(image: &dyn Medium, offset: u64) -> Option<Extent> {
    partition::partitions(image).into_iter().find(|entry| entry.offset == offset)
}

/// The bytes of a volume that a fresh file system can have: those of its partition, or else up to where the next one begins.
pub fn room(image: &dyn Medium, extent: Extent, watch: &dyn Watch) -> Result<Extent, MediumError> {
    if let Some(partition) = partition_at(image, extent.offset) {
        return Ok(partition);
    }
    let seen = partition::scout(image, true, watch)?;
    let volumes = seen.volumes.iter().map(|place| place.extent);
    let strangers = seen.strangers.iter().map(|stranger| stranger.extent);
    let others = volumes.chain(strangers).chain(partition::partitions(image)).map(|other| other.offset);
    let next = others.filter(|start| *start > extent.offset).min();
    let end = next.map_or(extent.end(), |next| next.min(extent.end()));
    Ok(Extent::new(extent.offset, end.minus(extent.offset)))
}

/// The volume at a byte offset.
fn at(
    image: &dyn Medium,
    offset: u64,
    length: Option<u64>,
    seen: Option<&Scouting>,
    watch: &dyn Watch,
) -> Result<Target, NotChosen> {
    if offset >= image.len() {
        return Err(NotChosen::Beyond(offset));
    }
    let extent = Extent::new(offset, length.unwrap_or(u64::MAX).min(image.len().minus(offset)));
    let found = |volume, read| Target {
        extent,
        volume,
        place: None,
        table_sound: true,
        unit: 512,
        followed: false,
        read: Cell::new(read),
    };
    if let Some(through) = seen.and_then(|seen| seen.kept.take(extent)) {
        return Ok(found(through.volume, Some(through.survey)));
    }
    let window = Window::new(image, extent);
    let volume = registry::recognise(&window, watch)?
        .ok_or_else(|| NotChosen::NotThere(offset, partition::strangers::name(&window)))?;
    Ok(found(volume, None))
}

/// Refuses a place whose volume would overlap a whole one that begins elsewhere: what is recognised
/// there is made of that one's tables and files, and mending it would write into them.
fn must_not_overlap(target: &Target, seen: &Scouting) -> Result<(), NotChosen> {
    let offset = target.extent.offset;
    if seen.volumes.iter().any(|place| place.extent.offset == offset && seen.is_contested(place)) {
        return Ok(());
    }
    let own = Extent::new(offset, target.volume.bytes().min(target.extent.length));
    let over =
        seen.volumes.iter().enumerate().find(|(_, place)| {
            !place.boot_gone && place.extent.offset != offset && place.extent.overlaps(own)
        });
    match over {
        Some((index, place)) => {
            Err(NotChosen::Overlaps { offset, place: Box::new(place.clone()), number: index.plus(1) })
        }
        None => Ok(()),
    }
}

/// What is left of older volumes, where `seen` has hardly anything on it, or a few reads show folders of another file system:
/// the volume's index, and the remark that says so. Any other volume is not read for it.
pub fn formatted_over(
    image: &dyn Medium,
    seen: &Scouting,
    watch: &dyn Watch,
) -> Result<Vec<(usize, Finding)>, MediumError> {
    let mut all = Vec::new();
    for (index, found) in seen.volumes.iter().enumerate().filter(|(_, found)| !found.boot_gone) {
        let Ok(target) = place(image, seen, found, watch) else { continue };
        let window = Window::new(image, target.extent);
        if target.volume.is_nearly_empty(&window) || target.volume.lies_over_another(&window) {
            let read = Diagnosed::of(image, target, None, watch)?;
            let over = read.reason_for_absence().filter(|_| read.is_formatted_over());
            all.extend(over.map(|finding| (index, finding.clone())));
        }
    }
    Ok(all)
}

/// A volume as it was read, and what hosts make of it.
pub struct Diagnosed {
    /// The volume and the way to it.
    pub target: Target,
    /// What reading it shows.
    pub examination: Examination,
    /// What each host does with it, once it gets there.
    pub hosts: Vec<HostForecast>,
}

/// How the codes end that say so of a volume that was formatted over.
const OLDER: &str = "/older-volume-in-free-space";

/// What a volume comes to, in a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// Nothing weighs more than a remark.
    Sound,
    /// Against the specification; no file is in danger.
    Untidy,
    /// Files are in danger; it mounts.
    FilesAtRisk,
    /// Some hosts refuse it.
    RefusedBySome,
    /// Every host refuses it.
    RefusedByAll,
}

impl Diagnosed {
    /// Reads `target` through, on a device with sectors of `sector` bytes; if not given, those that the partition table
    /// counts in.
    pub fn of(
        image: &dyn Medium,
        target: Target,
        sector: Option<u32>,
        watch: &dyn Watch,
    ) -> Result<Self, MediumError> {
        Ok(Self::read(image, target, sector, watch)?.0)
    }
    /// The same, with where to look outside the volume, where nothing in it or on the way to it stops a host.
    pub fn with_hints(
        image: &dyn Medium,
        target: Target,
        sector: Option<u32>,
        watch: &dyn Watch,
    ) -> Result<(Self, Vec<Hint>), MediumError> {
        let sector = sector.unwrap_or(target.unit);
        let (found, mut survey) = Self::read(image, target, Some(sector), watch)?;
        let clear = found.examination.sound() && found.target.way_is_clear();
        let hints =
            if clear { outside::hints(image, &found, &mut *survey, sector, watch) } else { Vec::new() };
        Ok((found, hints))
    }
    fn read(
        image: &dyn Medium,
        mut target: Target,
        sector: Option<u32>,
        watch: &dyn Watch,
    ) -> Result<(Self, Box<dyn Survey>), MediumError> {
        let sector = sector.unwrap_or(target.unit);
        let unit = target.unit;
        if let Some(place) = target.place.as_mut().filter(|place| place.way == Way::Listed && sector != unit)
        {
            place.way_faults.push(&partition::catalogue::OTHER_SECTORS);
        }
        let window = Window::new(image, target.extent);
        let mut survey = target.survey(&window, watch)?;
        let mut examination = survey.examine(&window);
        examination.findings.extend(survey.older(&window));
        if target.is_contested() {
            examination.tell_contested();
        }
        // What follows stands where it should, and stays there when bytes before it are taken out.
        let many = examination.inserted.iter().fold(0, |sum: u64, gap| sum.plus(gap.bytes));
        if many > 0 && target.followed {
            let end = target.volume.bytes();
            examination.left_out.push(Gap { from: end, to: end.plus(many), bytes: many });
        }
        let hosts = target.volume.forecast(&window, sector);
        Ok((Self { target, examination, hosts }, survey))
    }
    /// The heaviest finding, and what hosts do about it.
    pub fn verdict(&self) -> Verdict {
        match self.examination.findings.iter().map(|finding| finding.weight).min() {
            None | Some(Weight::Remark) => Verdict::Sound,
            Some(Weight::Untidy) => Verdict::Untidy,
            Some(Weight::RisksFiles) => Verdict::FilesAtRisk,
            Some(Weight::BlocksMount) if self.hosts.iter().all(|host| !host.mounts_read_only) => {
                Verdict::RefusedByAll
            }
            Some(Weight::BlocksMount) => Verdict::RefusedBySome,
        }
    }
    /// Faults, remarks left out.
    pub fn faults(&self) -> u64 {
        let faults = self.examination.findings.iter().filter(|finding| finding.weight != Weight::Remark);
        faults.fold(0, |sum, finding| sum.plus(finding.count))
    }
    /// The remark that says why a sound volume does not show what its owner misses: it was formatted over, or
    /// its files are hidden.
    pub fn reason_for_absence(&self) -> Option<&Finding> {
        let tells = |finding: &&Finding| {
            let code = finding.entry.code;
            code.ends_with(OLDER) || code.ends_with("/hidden-tree")
        };
        self.examination.findings.iter().find(tells)
    }
    /// What is left of an older volume lies in its free space.
    pub fn is_formatted_over(&self) -> bool {
        self.reason_for_absence().is_some_and(|reason| reason.entry.code.ends_with(OLDER))
    }
    /// Every host finds it, and mounts it for reading and writing.
    pub fn reaches_every_host(&self) -> bool {
        self.hosts.iter().all(|host| host.mounts_read_write && self.target.not_found_by(host.host).is_none())
    }
}
