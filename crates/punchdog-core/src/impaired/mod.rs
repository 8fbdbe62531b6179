//! A volume on a medium that fails in places.
//!
//! Each family reads what it can and takes what it cannot for missing. What all of them have in common is here: which
//! structures and files the places lie in, that a file with such a place is not intact, and what a host does whose
//! boot sector is not to be had. A byte that cannot be read is neither right nor wrong.

pub mod catalogue;
mod heal;
mod hits;
mod wraps;

pub(crate) use heal::from_second_copies;
pub use hits::{HitFile, HitStructure, Hits, Places, bytes, sectors};

use crate::{
    arith::Sat,
    cluster::occupied::Occupied,
    family::{Kind, Survey, Volume, Wanted},
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
use catalogue as c;
use std::ops::ControlFlow;
use wraps::Wraps;

/// Files that are named one by one.
const NAMED: usize = 500;

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
    fn survey(&self, medium: &dyn Medium, watch: &dyn Watch) -> Result<Box<dyn Survey>, MediumError> {
        let mut inner = self.0.survey(medium, watch)?;
        let wraps = wraps::period(medium, false).map(|after| Wraps::of(medium, &mut *inner, after));
        Ok(Box::new(ImpairedSurvey { inner, wraps }))
    }
    fn forecast(&self, medium: &dyn Medium, sector: u32) -> Vec<HostForecast> {
        let places = Places::of(medium, Unknown::Unreadable);
        if !places.is_empty()
            && let Ok(mut survey) = self.0.survey(medium, &Silent)
            && let Some(name) = needed(&survey.structures(medium), &places)
        {
            // What would follow from zeros there does not matter: no host gets them.
            return ["linux", "windows"].map(|host| unread(self.kind(), host, &name.0, name.1)).to_vec();
        }
        self.0.forecast(medium, sector)
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

/// Bytes that NTFS's driver reads at once, where clusters are not smaller.
const BLOCK: u64 = 4096;

/// What a host does that cannot read a structure that it needs, from byte `at` on. Linux 6.12: fs/fat/inode.c, fs/exfat/super.c,
/// fs/ntfs3/super.c.
fn unread(kind: Kind, host: &'static str, name: &str, at: u64) -> HostForecast {
    let basis = if host == "linux" { Basis::Driver } else { Basis::Documented };
    let reason = format!("{name} cannot be read");
    let mut forecast = HostForecast::refuses(host, basis, c::STRUCTURE.code, reason);
    if host == "linux" {
        let lines: &[&str] = match (kind, name) {
            (Kind::Exfat, "the main boot region") if at == 0 => &[
                "exFAT-fs (DEV): unable to read boot sector",
                "exFAT-fs (DEV): failed to read boot sector",
                "exFAT-fs (DEV): failed to recognize exfat type",
            ],
            (Kind::Exfat, "the main boot region") => {
                &["exFAT-fs (DEV): invalid boot region", "exFAT-fs (DEV): failed to recognize exfat type"]
            }
            (Kind::Fat12 | Kind::Fat16 | Kind::Fat32, "the boot sector") => {
                &["FAT-fs (DEV): unable to read boot sector"]
            }
            (Kind::Ntfs, "the boot sector") => &["ntfs3(DEV): failed to read volume at offset 0x0"],
            (Kind::Fat32, "FSInfo") => &["FAT-fs (DEV): bread failed, FSINFO block (sector = 1)"],
            _ => &[],
        };
        forecast.log = lines.iter().map(|line| (*line).to_owned()).collect();
        if (kind, name) == (Kind::Ntfs, "$Bitmap") {
            let block = at.per(BLOCK).times(BLOCK);
            forecast.log = vec![
                format!("ntfs3(DEV): failed to read volume at offset {block:#x}"),
                "ntfs3(DEV): Failed to initialize $Bitmap (-5).".to_owned(),
            ];
        }
        forecast.log_read_write.clone_from(&forecast.log);
    } else {
        "a device that cannot be read, or nothing".clone_into(&mut forecast.seen);
    }
    forecast
}

/// A volume as it was read.
struct ImpairedSurvey {
    inner: Box<dyn Survey>,
    wraps: Option<Wraps>,
}

/// Says of a record that it is not what was written.
fn hurt(record: &mut FileRecord, why: &'static str) {
    if record.state == State::Intact {
        record.state = State::Damaged;
        record.note = Some(why.into());
    }
    record.whole = false;
}

/// Says that the medium begins again, and which files that costs.
fn begins_again(seen: &mut Examination, wraps: &Wraps, medium: &dyn Medium, survey: &mut dyn Survey) {
    let mut paths = Vec::new();
    let mut whole = 0_u64;
    survey.each_file(medium, Wanted::default(), &mut |file| {
        if !file.folder && wraps.hurts(file.content.extents()).is_some() {
            whole = whole.plus(u64::from(file.state == State::Intact));
            paths.push(file.path.to_string());
        }
        ControlFlow::Continue(())
    });
    let intact = seen.tally.intact.minus(whole);
    seen.retally(Tally { intact, damaged: seen.tally.damaged.plus(whole), ..seen.tally });
    let after = wraps.after;
    let many = counted(paths.len().wide(), "file is", "files are");
    let sentence = format!(
        "The medium begins again after {after} bytes: that is what it really holds, whatever it says; {many} beyond saving."
    );
    seen.story = if seen.sound() { sentence } else { format!("{sentence} {}", seen.story) };
    let mut finding = Finding::new(&c::WRAPS, format!("the medium begins again after {after} bytes")).because(
        format!("What stands at a byte stands {after} bytes further on as well, wherever that was compared."),
        format!("A volume of {} bytes needs a medium as large.", medium.len()),
        format!("What was written behind byte {after} landed before it; of two files in one place, the one written last is there."),
    );
    finding.extents.push(Extent::new(after, medium.len().minus(after)));
    paths.truncate(NAMED);
    finding.paths = paths;
    seen.findings.insert(0, finding);
    seen.findings.sort_by_key(|finding| finding.weight);
    seen.likely = Some("a medium of false capacity: made to say that it is larger than it is".to_owned());
}

/// What a file lacks: says so of a record.
fn judge(record: &mut FileRecord, unreadable: &Places, lost: &Places) {
    let lacks = record.content.within(|extent| unreadable.in_these([extent]));
    let zeros = record.content.within(|extent| lost.in_these([extent]));
    if lacks.is_empty() && zeros.is_empty() {
        return;
    }
    if record.state == State::Intact {
        record.state = State::Damaged;
    }
    record.whole = false;
    let of = if record.folder { String::new() } else { format!(" of its {}", record.size) };
    let note = if lacks.is_empty() {
        format!("{}{of} bytes could not be read from the medium; zeros stand there", bytes(&zeros))
    } else {
        format!("{}{of} bytes cannot be read", bytes(&lacks))
    };
    record.lacks = [lacks, zeros].concat();
    record.note = Some(match &record.note {
        Some(other) => format!("{other}; {note}").into(),
        None => note.into(),
    });
}

impl Survey for ImpairedSurvey {
    fn examine(&mut self, medium: &dyn Medium) -> Examination {
        let mut seen = self.inner.examine(medium);
        let places = Places::of(medium, Unknown::Unreadable);
        if !places.is_empty() {
            let marked = self.inner.marked_bad(medium);
            let needed = needed(&self.inner.structures(medium), &places);
            let hits = Hits::of(medium, &mut *self.inner, &places);
            tell(&mut seen, &hits, &places, needed.as_ref().map(|(name, _)| &**name));
            compare_marks(&mut seen, &marked, &places);
        }
        let lost = Places::of(medium, Unknown::Lost);
        if !lost.is_empty() {
            let hits = Hits::of(medium, &mut *self.inner, &lost);
            recount(&mut seen, &hits);
        }
        if self.wraps.is_none() && !seen.sound() {
            let after = wraps::period(medium, true);
            self.wraps = after.map(|after| Wraps::of(medium, &mut *self.inner, after));
        }
        if let Some(wraps) = &self.wraps {
            begins_again(&mut seen, wraps, medium, &mut *self.inner);
        }
        seen
    }

    fn each_file(&mut self, medium: &dyn Medium, wanted: Wanted, take: &mut Take<'_>) {
        let places = Places::of(medium, Unknown::Unreadable);
        let lost = Places::of(medium, Unknown::Lost);
        let wraps = &self.wraps;
        if places.is_empty() && lost.is_empty() && wraps.is_none() {
            return self.inner.each_file(medium, wanted, take);
        }
        self.inner.each_file(medium, wanted, &mut |mut file| {
            judge(&mut file, &places, &lost);
            if let Some(why) = wraps.as_ref().and_then(|wraps| wraps.hurts(file.content.extents())) {
                hurt(&mut file, why);
            }
            take(file)
        });
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

    fn mend(
        &mut self,
        window: &mut OverlayWindow<'_, '_>,
        choices: &mut Choices,
        steps: &mut Steps<'_>,
        watch: &dyn Watch,
    ) -> Result<(), MediumError> {
        self.inner.mend(window, choices, steps, watch)
    }
}

/// Counts as damaged what lacks bytes.
fn recount(seen: &mut Examination, hits: &Hits) {
    let hurt = hits.files.iter().filter(|hit| hit.whole).count().wide();
    if hurt > 0 {
        let intact = seen.tally.intact.minus(hurt);
        seen.retally(Tally { intact, damaged: seen.tally.damaged.plus(hurt), ..seen.tally });
    }
}

/// Adds what lies on the places to what was seen of the rest.
fn tell(seen: &mut Examination, hits: &Hits, places: &Places, needed: Option<&str>) {
    recount(seen, hits);
    // What zeros there would be a fault of is no finding: nobody knows what stands there.
    seen.findings.retain(|finding| {
        let begins = finding.extents.first().map(|extent| Extent::new(extent.offset, 1));
        begins.is_none_or(|begins| !places.touch([begins]))
    });
    for exhibit in &mut seen.exhibits {
        if places.touch([Extent::new(exhibit.offset, 1)]) {
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
    seen.findings.sort_by_key(|finding| finding.weight);
}

fn findings(hits: &Hits, needed: Option<&str>) -> Vec<Finding> {
    let mut all = Vec::new();
    let add = |entry: &'static Entry, what: &str, extents: &[Extent], follows: String| {
        let summary = format!("{} of {what} cannot be read", counted(sectors(extents), "sector", "sectors"));
        let is =
            format!("{} bytes from byte {} on.", bytes(extents), extents.first().map_or(0, |e| e.offset));
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
