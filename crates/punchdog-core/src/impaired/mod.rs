//! A volume on a medium that fails in places.
//!
//! Each family reads what it can and takes what it cannot for missing. What all of them have in common is here: which
//! structures and files the places lie in, that a file with such a place is not intact, and what a host does whose
//! boot sector is not to be had. A byte that cannot be read is neither right nor wrong.

mod aside;
mod blank;
pub mod catalogue;
mod heads;
mod heal;
mod hits;
mod intervals;
mod repeated;
mod shifted;
mod witnesses;
mod wraps;

pub(crate) use aside::{asked as asked_to_mark, set_aside, tell_what_stays};
pub(crate) use heads::is_blank;
pub(crate) use heal::from_second_copies;
pub use hits::{HitFile, HitStructure, Hits, Places, bytes, sectors};

use crate::{
    arith::Sat,
    cluster::{aside::Aside, occupied::Occupied},
    family::{Kind, Start, Survey, Volume, Wanted},
    files::{
        order::Take,
        record::{FileRecord, State},
    },
    medium::{Extent, Medium, MediumError, OverlayWindow, Unknown},
    mending::{choices::Choices, step::Steps},
    progress::{Silent, Watch},
    report::{
        examination::{Examination, Tally},
        fields::FieldGroup,
        finding::{Entry, Finding, Weight},
        forecast::{Basis, HostForecast},
        structure::{Purpose, Structure},
        wording::counted,
    },
};
use blank::Blank;
use catalogue as c;
use heads::Heads;
use intervals::Intervals;
use shifted::Shifted;
use std::ops::ControlFlow;
use wraps::Wraps;

/// Files that are named one by one.
const NAMED: usize = 500;

/// How many files and structures of a volume that stand behind byte `from` begin where it says, and how many begin as nothing
/// does; what cannot be read is neither.
pub(crate) fn fitting(medium: &dyn Medium, survey: &mut dyn Survey, from: u64) -> (usize, usize) {
    let mut starts = survey.starts(medium, heads::MOST);
    starts.retain(|start| start.place >= from);
    starts.sort_by_key(|start| start.place);
    Heads::of(medium, starts).fitting(|_| true)
}

/// So many files that begin as nothing does tell that files do not stand where the volume says.
const FOREIGN: usize = 12;

/// A volume of any family, on a medium that may fail in places.
pub struct Impaired(Box<dyn Volume>);

impl Impaired {
    /// The volume, as it can be read.
    pub fn new(volume: Box<dyn Volume>) -> Self {
        Self(volume)
    }
}

impl Volume for Impaired {
    fn kind(&self) -> Kind {
        self.0.kind()
    }
    fn bytes(&self) -> u64 {
        self.0.bytes()
    }
    fn tables_at(&self) -> u64 {
        self.0.tables_at()
    }
    fn data_at(&self) -> u64 {
        self.0.data_at()
    }
    fn is_nearly_empty(&self, medium: &dyn Medium) -> bool {
        self.0.is_nearly_empty(medium)
    }
    fn lies_over_another(&self, medium: &dyn Medium) -> bool {
        self.0.lies_over_another(medium)
    }
    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError> {
        let mut inner = self.0.survey(medium, watch)?;
        let wraps = wraps::period(medium, false).map(|after| Wraps::of(medium, &mut *inner, after));
        let missing = self.0.bytes().minus(medium.len());
        let found = Found { wraps, ..Found::default() };
        let mut survey = ImpairedSurvey { inner, found, settled: false };
        if survey.found.wraps.is_none() {
            survey.look_at_starts(medium, missing, watch);
        }
        Ok(Box::new(survey))
    }
    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        let mut hosts = self.0.forecast(medium, sector);
        let places = Places::of(medium, Unknown::Unreadable);
        if places.is_empty() {
            return hosts;
        }
        if matches!(self.kind(), Kind::Exfat | Kind::Ntfs) {
            // The driver was followed on the failing medium itself.
            for host in hosts.iter_mut().filter(|host| host.basis == Basis::Driver) {
                if host.reason.ends_with("cannot be read") {
                    host.refused_by = Some(c::STRUCTURE.code);
                }
            }
        }
        let Ok(mut survey) = self.0.survey(medium, &Silent) else { return hosts };
        let structures = survey.structures(medium);
        let Some((name, at)) = needed(&structures, &places) else { return hosts };
        let findings = survey.examine(medium).findings;
        // A boot structure that can be read, and is wrong, stops a host before it comes to anything else.
        let stopped_before = |host: &HostForecast| {
            let told = findings.iter().filter(|finding| Some(finding.entry.code) == host.refused_by);
            let mut begins = told.filter_map(|finding| finding.extents.first());
            begins.any(|begins| {
                let boot = structures.iter().filter(|one| one.purpose == Purpose::Boot);
                // A sum over what cannot be read says nothing.
                boot.into_iter().any(|one| one.extent.overlaps(*begins) && !places.touch([one.extent]))
            })
        };
        // Else what would follow from zeros there does not matter: no host gets them.
        let followed = matches!(self.kind(), Kind::Exfat | Kind::Ntfs);
        let of = |host: HostForecast| {
            if followed && host.basis == Basis::Driver {
                return host;
            }
            if at > 0 && stopped_before(&host) { host } else { unread(self.kind(), host.host, &name) }
        };
        hosts.into_iter().map(of).collect()
    }
}

/// The first structure that no host mounts without, and that cannot be read: its name, and from which byte on.
fn needed(structures: &[Structure], places: &Places) -> Option<(String, u64)> {
    structures.iter().find_map(|one| {
        let part = Extent::new(one.extent.offset, one.needed?.min(one.extent.length));
        let first = places.in_these([part]).first().copied()?;
        Some((one.name.to_string(), first.offset))
    })
}

/// What a host does that cannot read a structure that it needs, as far as that is not followed in the family's own
/// gates. Linux 6.12: fs/fat/inode.c.
fn unread(kind: Kind, host: &'static str, name: &str) -> HostForecast {
    let basis = if host == "linux" { Basis::Driver } else { Basis::Documented };
    let reason = format!("{name} cannot be read");
    let mut forecast = HostForecast::refuses(host, basis, c::STRUCTURE.code, reason);
    if host == "linux" {
        let line = match name {
            "the boot sector" => Some("FAT-fs (DEV): unable to read boot sector"),
            "FSInfo" if kind == Kind::Fat32 => Some("FAT-fs (DEV): bread failed, FSINFO block (sector = 1)"),
            _ => None,
        };
        forecast.log = line.into_iter().map(str::to_owned).collect();
        forecast.log_read_write.clone_from(&forecast.log);
    } else {
        "a device that cannot be read, or nothing".clone_into(&mut forecast.seen);
    }
    forecast
}

/// What was found of the medium, besides what it says itself that it cannot read.
#[derive(Default)]
struct Found {
    wraps: Option<Wraps>,
    shifted: Option<Shifted>,
    blank: Blank,
    /// Hardly a file begins as its name says: how many do, and how many do not.
    foreign: Option<(usize, usize)>,
}

/// A volume as it was read.
struct ImpairedSurvey {
    inner: Box<dyn Survey>,
    found: Found,
    /// All was looked for that is only looked for where something is wrong.
    settled: bool,
}

impl ImpairedSurvey {
    /// Looks for what a few of the files tell: how they begin, and what reads blank in them.
    fn look_at_starts(&mut self, medium: &dyn Medium, missing: u64, watch: &dyn Watch) {
        let mut starts = self.inner.starts(medium, heads::MOST);
        starts.sort_by_key(|start| start.place);
        self.found.blank.intervals = Intervals::in_files(medium, &starts);
        if self.found.blank.intervals.is_some() {
            return;
        }
        let Some(heads) = Heads::read(medium, starts, missing) else { return };
        self.found.shifted = shifted::find(medium, &heads, missing, watch);
        if self.found.shifted.is_none() {
            self.found.blank = Blank::stretches(medium, &heads);
            let (right, wrong) = heads.fitting(|start| !start.says_itself());
            let foreign = wrong >= FOREIGN && wrong >= right.times(4);
            self.found.foreign = foreign.then_some((right, wrong));
        }
    }

    /// Looks for what costs more reading, where something is wrong with the volume.
    fn settle(&mut self, medium: &dyn Medium, sound: bool) {
        let told = self.found.wraps.is_some()
            || self.found.shifted.is_some()
            || self.found.blank.intervals.is_some();
        if std::mem::replace(&mut self.settled, true) || told || sound {
            return;
        }
        let after = wraps::period(medium, true);
        self.found.wraps = after.map(|after| Wraps::of(medium, &mut *self.inner, after));
        if self.found.wraps.is_none() {
            self.found.blank.intervals = Intervals::anywhere(medium, &self.inner.starts(medium, heads::MOST));
        }
    }
}

/// What speaks against the content of files.
struct Doubts<'w> {
    medium: &'w dyn Medium,
    unreadable: Places,
    lost: Places,
    found: &'w Found,
}

/// Why a file lacks something, if it does.
#[expect(clippy::struct_excessive_bools, reason = "each is a plain fact of its own")]
struct Lacking {
    anything: bool,
    /// What is read of it may be another's.
    misplaced: bool,
    /// It could not be read from what the medium was copied from.
    lost: bool,
    /// It reads blank.
    blank: bool,
}

impl<'w> Doubts<'w> {
    fn of(medium: &'w dyn Medium, found: &'w Found) -> Self {
        let places = |which| Places::of(medium, which);
        Self { medium, unreadable: places(Unknown::Unreadable), lost: places(Unknown::Lost), found }
    }

    fn none(&self) -> bool {
        let Found { wraps, shifted, blank, foreign } = self.found;
        let none = wraps.is_none() && shifted.is_none() && blank.is_none() && foreign.is_none();
        none && self.unreadable.is_empty() && self.lost.is_empty()
    }

    /// Why the content of a file is that of another place, if it may be.
    fn misplaced(&self, record: &FileRecord) -> Option<&'static str> {
        let wrapped = self.found.wraps.as_ref().and_then(|wraps| wraps.hurts(record.content.extents()));
        let shifted =
            || self.found.shifted.as_ref().and_then(|shifted| shifted.hurts(record.content.extents()));
        let held = !record.folder && record.content.extents().next().is_some();
        let foreign = (self.found.foreign.is_some() && held).then_some(
            "hardly a file of the volume begins as its name says: what is read of it may be of another",
        );
        wrapped.or_else(shifted).or(foreign)
    }

    /// Says of a record what it lacks, and why that is.
    fn judge(&self, record: &mut FileRecord) -> Lacking {
        let lacks = record.content.within(self.medium, |extent| self.unreadable.in_these([extent]));
        let zeros = record.content.within(self.medium, |extent| self.lost.in_these([extent]));
        let of = if record.folder { String::new() } else { format!(" of its {}", record.size) };
        let mut notes = Vec::new();
        if !lacks.is_empty() {
            notes.push(format!("{}{of} bytes cannot be read", bytes(&lacks)));
        }
        if !zeros.is_empty() {
            let count = bytes(&zeros);
            notes.push(format!("{count}{of} bytes could not be read from the medium; zeros stand there"));
        }
        let misplaced = self.misplaced(record);
        notes.extend(misplaced.map(str::to_owned));
        let mut blank = Vec::new();
        if notes.is_empty() {
            blank = self.found.blank.of(self.medium, record);
            notes.extend((!blank.is_empty()).then(|| self.found.blank.note(&blank, record.size)));
        }
        let lacking = Lacking {
            anything: !notes.is_empty(),
            misplaced: misplaced.is_some(),
            lost: !zeros.is_empty(),
            blank: !blank.is_empty(),
        };
        if !lacking.anything {
            return lacking;
        }
        if record.state == State::Intact {
            record.state = State::Damaged;
        }
        record.whole = false;
        record.lacks = [lacks, zeros, blank].concat();
        notes.splice(0..0, record.note.as_deref().map(str::to_owned));
        record.note = Some(notes.join("; ").into());
        lacking
    }
}

/// Says that files have zeros for what could not be read from what the medium was copied from.
fn tell_lost(seen: &mut Examination, places: &Places, mut paths: Vec<String>) {
    let many = counted(paths.len().wide(), "file has", "files have");
    if seen.sound() {
        seen.story = format!(
            "By its structures nothing is wrong with this volume. {many} zeros for what could not be read from the medium that it was copied from."
        );
    }
    let mut finding = Finding::new(&c::LOST, format!("{many} zeros for what could not be read")).because(
        format!("{} bytes of the volume were not read when the copy was made.", bytes(&places.all())),
        "",
        "What of these files stood there is lost.",
    );
    finding.extents = places.all().into_iter().take(NAMED).collect();
    paths.truncate(NAMED);
    finding.paths = paths;
    seen.findings.push(finding);
}

/// Says that files do not begin as their names say.
fn tell_foreign(seen: &mut Examination, right: usize, wrong: usize) {
    let all = right.plus(wrong);
    let sentence = format!(
        "Of {all} files whose names say how they begin {right} do: what the folders say does not fit what stands in the volume."
    );
    seen.story = if seen.sound() { sentence } else { format!("{sentence} {}", seen.story) };
    let finding =
        Finding::new(&c::FOREIGN, format!("{wrong} of {all} files begin as nothing of their kind does"));
    seen.findings.push(finding.because(
        format!("Where {wrong} files begin stands something that begins no file."),
        "A file begins as its kind does.",
        "No file is called intact here: which bytes are its own is not known.",
    ));
    seen.likely = Some("the image is of one member of a set of disks, or was put together wrongly; or the files were encrypted where they stand; or the structures are not those of this content".to_owned());
}

/// Says that the medium begins again, and which files that may cost.
fn begins_again(seen: &mut Examination, after: u64, mut paths: Vec<String>, length: u64) {
    let many = counted(paths.len().wide(), "file stands", "files stand");
    let sentence = format!(
        "The medium begins again after {after} bytes, wherever that was compared: it seems to hold no more than these, and {many} behind that or where what was written there may have landed."
    );
    seen.story = if seen.sound() { sentence } else { format!("{sentence} {}", seen.story) };
    let mut finding = Finding::new(&c::WRAPS, format!("the medium begins again after {after} bytes")).because(
        format!("What stands at a byte stands {after} bytes further on as well, wherever that was compared."),
        format!("A volume of {length} bytes needs a medium as large."),
        format!("What was written behind byte {after} landed before it; of two files in one place, the one written last is there."),
    );
    finding.extents.push(Extent::new(after, length.minus(after)));
    paths.truncate(NAMED);
    finding.paths = paths;
    seen.findings.push(finding);
    seen.likely = Some("a medium of false capacity: made to say that it is larger than it is".to_owned());
}

impl Survey for ImpairedSurvey {
    fn older(&mut self, medium: &dyn Medium) -> Option<Finding> {
        self.inner.older(medium)
    }

    fn examine(&mut self, medium: &dyn Medium) -> Examination {
        let mut seen = self.inner.examine(medium);
        self.settle(medium, seen.sound());
        let doubts = Doubts::of(medium, &self.found);
        if doubts.none() {
            return seen;
        }
        let (mut paths, mut blank, mut lost, mut hurt) = (Vec::new(), Vec::new(), Vec::new(), 0_u64);
        self.inner.each_file(medium, Wanted::default(), &mut |mut file| {
            let intact = !file.folder && file.state == State::Intact;
            let lacking = doubts.judge(&mut file);
            let lists =
                [(lacking.misplaced, &mut paths), (lacking.lost, &mut lost), (lacking.blank, &mut blank)];
            for (_, list) in lists.into_iter().filter(|(is, _)| *is && !file.folder) {
                list.push(file.path.to_string());
            }
            if lacking.anything && intact {
                hurt = hurt.plus(1);
            }
            ControlFlow::Continue(())
        });
        let (intact, damaged) = (seen.tally.intact.minus(hurt), seen.tally.damaged.plus(hurt));
        seen.doubt(Tally { intact, damaged, ..seen.tally });
        let places = &doubts.unreadable;
        if !places.is_empty() {
            let marked = self.inner.marked_bad(medium);
            let needed = needed(&self.inner.structures(medium), places);
            let mut hits = Hits::of(medium, &mut *self.inner, places);
            // What is marked is not in use, and need not be told as a fault.
            let kept_off = hits.take_free(&marked);
            tell(&mut seen, &hits, places, needed.as_ref().map(|(name, _)| &**name));
            if !kept_off.is_empty() {
                let many = counted(
                    sectors(&kept_off),
                    "sector that cannot be read is",
                    "sectors that cannot be read are",
                );
                let mut finding = Finding::new(&c::MARKED, format!("{many} marked bad"));
                finding.extents = kept_off;
                seen.findings.push(finding);
            }
            compare_marks(&mut seen, &marked, places);
        }
        if !lost.is_empty() {
            tell_lost(&mut seen, &doubts.lost, lost);
        }
        if let Some(wraps) = &doubts.found.wraps {
            begins_again(&mut seen, wraps.after, paths, medium.len());
        } else if let Some(shifted) = &doubts.found.shifted {
            shifted.tell(&mut seen, paths);
        } else if !doubts.found.blank.is_none() {
            doubts.found.blank.tell(&mut seen, blank);
        }
        if let Some((right, wrong)) = self.found.foreign {
            tell_foreign(&mut seen, right, wrong);
        }
        seen.findings.sort_by_key(|finding| finding.weight);
        seen
    }

    fn each_file(&mut self, medium: &dyn Medium, wanted: Wanted, take: &mut Take<'_>) {
        let doubts = Doubts::of(medium, &self.found);
        if doubts.none() {
            return self.inner.each_file(medium, wanted, take);
        }
        self.inner.each_file(medium, wanted, &mut |mut file| {
            doubts.judge(&mut file);
            take(file)
        });
    }

    fn starts(&mut self, medium: &dyn Medium, most: usize) -> Vec<Start> {
        self.inner.starts(medium, most)
    }

    fn fields(&mut self, medium: &dyn Medium) -> Vec<FieldGroup> {
        self.inner.fields(medium)
    }

    fn structures(&mut self, medium: &dyn Medium) -> Vec<Structure> {
        self.inner.structures(medium)
    }

    fn marked_bad(&mut self, medium: &dyn Medium) -> Vec<Extent> {
        self.inner.marked_bad(medium)
    }

    fn occupied(&self) -> Occupied {
        self.inner.occupied()
    }

    fn set_aside(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        aside: &Aside<'_>,
        steps: &mut Steps<'_>,
    ) -> Result<(), MediumError> {
        self.inner.set_aside(window, aside, steps)
    }

    fn mend(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        choices: &mut Choices,
        steps: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError> {
        // What stands elsewhere would be mended where it does not belong; what is blank at intervals would be mended as if
        // nothing had stood there.
        if self.found.shifted.is_some() || self.found.blank.intervals.is_some() {
            return Ok(());
        }
        self.inner.mend(window, choices, steps, watch)
    }
}

/// Adds what lies on the places to what was seen of the rest.
fn tell(seen: &mut Examination, hits: &Hits, places: &Places, needed: Option<&str>) {
    // What zeros there would be a fault of is no finding: nobody knows what stands there.
    let of_structures: Vec<Extent> = hits.structures.iter().flat_map(|hit| hit.extents.clone()).collect();
    let of_structures = Places::from(of_structures);
    // Whether nothing leads to a cluster is not known while an allocation table cannot be read from any copy.
    let blind = hits.structures.iter().any(|hit| {
        let once = hit.twin.is_none_or(|(_, whole)| !whole);
        hit.purpose == Purpose::Table && hit.name.ends_with("table") && once
    });
    let lost = |finding: &Finding| finding.entry.code.contains("/lost-");
    let rests_on_it = |finding: &Finding| {
        blind && lost(finding)
            || finding.extents.first().is_some_and(|begins| places.begin(*begins))
            || of_structures.touch(finding.extents.iter().copied())
    };
    seen.findings.retain(|finding| !rests_on_it(finding));
    for exhibit in &mut seen.exhibits {
        if places.begin(Extent::new(exhibit.offset, 1)) {
            exhibit.bytes.clear();
            "cannot be read".clone_into(&mut exhibit.note);
        }
    }
    seen.likely = None;
    if hits.structures.iter().any(|hit| hit.purpose == Purpose::Boot) {
        seen.story = seen.story.replacen(" is gone;", " cannot be read;", 1);
    }
    let sentence = hits.sentence();
    if seen.sound() {
        seen.story = format!("{sentence} What can be read of the volume is in order.");
    } else {
        seen.story = format!("{sentence} {}", seen.story);
    }
    seen.findings.extend(findings(hits, needed));
}

fn findings(hits: &Hits, needed: Option<&str>) -> Vec<Finding> {
    let mut all = Vec::new();
    let add = |entry: &'static Entry, what: &str, extents: &[Extent], follows: String| {
        let summary = format!("{} of {what} cannot be read", counted(sectors(extents), "sector", "sectors"));
        let first = extents.first().map_or(0, |extent| extent.offset);
        let is = format!("{} bytes, the first at byte {first} of the volume.", bytes(extents));
        let mut finding = Finding::new(entry, summary).because(is, "", follows);
        finding.extents = extents.to_vec();
        finding
    };
    for hit in &hits.structures {
        let follows = match hit.twin {
            Some((name, true)) => format!("All of them can be read from {name}."),
            Some((name, false)) => format!("Some of them cannot be read from {name} either."),
            None => "They stand nowhere else.".to_owned(),
        };
        let stops = needed == Some(&*hit.name);
        let entry = if hit.purpose == Purpose::Folder && !stops { &c::FOLDER } else { &c::STRUCTURE };
        let finding = add(entry, &hit.name, &hit.extents, follows);
        all.push(if stops { finding.weighing(Weight::BlocksMount) } else { finding });
    }
    for hit in hits.folders.iter().take(NAMED) {
        let path = hit.path.to_string();
        let follows = "What it named there is not known.".to_owned();
        all.push(add(&c::FOLDER, &format!("the folder {path}"), &hit.extents, follows).file(path));
    }
    for hit in hits.files.iter().take(NAMED) {
        let path = hit.path.to_string();
        let follows = "The rest of it can be copied out; zeros stand for what is missing.".to_owned();
        all.push(add(&c::FILE, &format!("the file {path}"), &hit.extents, follows).file(path));
    }
    if let Some(more) = hits.files.len().checked_sub(NAMED).filter(|more| *more > 0)
        && let Some(last) = all.last_mut()
    {
        last.count = last.count.plus(more.wide());
    }
    if !hits.free.is_empty() {
        let follows = "No file of the volume is hit.".to_owned();
        all.push(add(&c::FREE, "places that nothing stands in", &hits.free, follows));
    }
    all
}

/// Compares the clusters that the file system marks as failed with what cannot be read.
fn compare_marks(seen: &mut Examination, marked: &[Extent], places: &Places) {
    let good: Vec<Extent> = marked.iter().copied().filter(|extent| !places.touch([*extent])).collect();
    if good.is_empty() {
        return;
    }
    let mut finding = Finding::new(
        &c::MARKED_READABLE,
        format!(
            "{} marked bad that can be read",
            counted(bytes(&good).per(hits::SECTOR), "sector is", "sectors are")
        ),
    )
    .weighing(Weight::Remark);
    finding.extents = good;
    seen.findings.push(finding);
}
