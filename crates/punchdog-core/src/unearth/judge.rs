//! Files that an entry or a record still names: what of them is there, judged by their content.
//!
//! Where the chain is gone, the clusters that follow are taken; where these do not fit, those that follow without what
//! others have; where these do not either, a second piece near.

use super::{Complete, Error, Find, Search, Take, find::stretches, ground::Rest};
use crate::{
    arith::Sat,
    diagnosis::Target,
    family::{Survey, Wanted},
    files::{
        content::Content,
        judgement::{self, Judgement},
        kinds,
        record::{FileRecord, State},
    },
    formats::{self, BEGINNING, End, Format, Tape},
    medium::{Extent, Window},
};
use rangemap::RangeMap;
use rayon::prelude::*;
use std::{collections::BTreeMap, ops::ControlFlow};

/// Files that are judged at once.
const AT_ONCE: usize = 64;
/// Owners that are named.
const NAMED: usize = 3;

/// What judging a file came to.
struct Judged {
    complete: Complete,
    reason: String,
    content: Content,
    /// Its content speaks for it, not the place of its clusters alone: they are its own.
    own: bool,
}

impl Search<'_> {
    /// Finds the deleted files of a volume.
    pub(super) fn deleted(
        &mut self,
        target: &Target,
        survey: &mut dyn Survey,
        take: &mut Take<'_>,
    ) -> Result<(), Error> {
        let window = Window::new(self.image, target.extent);
        let base = target.extent.offset;
        let mut records = Vec::new();
        survey.each_file(&window, Wanted { deleted: true, system: false }, &mut |file| {
            if file.state == State::Deleted && !file.folder {
                records.push(FileRecord { content: file.content.clone().moved(base), ..file });
            }
            ControlFlow::Continue(())
        });
        let evidence =
            format!("a deleted entry of the {} volume at byte {base}", target.volume.kind().title());
        let owners = owners(&records, survey, &window, base);
        self.named(&records, &evidence, &owners, take)
    }

    /// Judges files that something names, and passes them on.
    pub(super) fn named(
        &mut self,
        records: &[FileRecord],
        evidence: &str,
        owners: &BTreeMap<usize, Vec<String>>,
        take: &mut Take<'_>,
    ) -> Result<(), Error> {
        let all = records.len().wide();
        // What only the place of its clusters speaks for waits: files that are proved may lie there.
        let mut waiting = Vec::new();
        for (round, chunk) in records.chunks(AT_ONCE).enumerate() {
            let before = round.times(AT_ONCE);
            self.watch.at("judging files that are named", before.wide(), all);
            if self.watch.stop() {
                return Ok(());
            }
            let judged: Vec<Judged> = chunk.par_iter().map(|record| self.judge(record)).collect();
            for (index, (record, judged)) in chunk.iter().zip(judged).enumerate() {
                let number = before.plus(index);
                if judged.complete == Complete::Likely && !judged.own {
                    waiting.push((number, judged));
                } else {
                    self.pass(record, judged, evidence, owners.get(&number), take)?;
                }
            }
        }
        for (number, judged) in waiting {
            if let Some(record) = records.get(number) {
                self.pass(record, judged, evidence, owners.get(&number), take)?;
            }
        }
        Ok(())
    }

    /// Passes a file on that was judged; what is proved has its clusters from now on.
    fn pass(
        &mut self,
        record: &FileRecord,
        judged: Judged,
        evidence: &str,
        owners: Option<&Vec<String>>,
        take: &mut Take<'_>,
    ) -> std::io::Result<()> {
        let Judged { mut complete, mut reason, content, own } = judged;
        let start = content.extents().next().map(|place| place.offset);
        self.starts.extend(start);
        let found = |place: Extent| place.length > 0 && self.claimed.overlaps(&(place.offset..place.end()));
        if complete != Complete::No && content.extents().any(found) {
            complete = Complete::No;
            reason = String::from("clusters of it are another file's that was found");
        } else if complete != Complete::No && own {
            content.extents().for_each(|place| self.claim(place));
        }
        if let Some(names) = owners {
            reason = format!("{reason}: {}", names.join(", "));
        }
        let range = self.wish.range;
        let within = start.is_none_or(|at| range.offset <= at && at < range.end());
        if !within || !self.wish.wants(kind_of(self, record)) {
            return Ok(());
        }
        take(Find {
            path: record.path.clone(),
            size: record.size,
            state: record.state,
            evidence: evidence.to_owned(),
            complete,
            reason,
            modified: record.modified,
            extents: stretches(&content),
        })
    }

    fn judge(&self, record: &FileRecord) -> Judged {
        let content = record.content.clone();
        let of = |complete, reason: String, own| Judged { complete, reason, content: content.clone(), own };
        if record.size == 0 {
            return of(Complete::Yes, "it is empty".to_owned(), false);
        }
        if content.held() == 0 {
            return of(Complete::No, "nothing says where it stood".to_owned(), false);
        }
        // What stands in a record of the file system is no cluster of its own.
        let taken = if record.taken {
            content.extents().fold(0_u64, |sum, place| sum.plus(self.ground.taken_of(place)))
        } else {
            0
        };
        let judgement = judgement::of(record, self.image);
        match &judgement {
            _ if taken > 0 => self.otherwise(record).unwrap_or_else(|| {
                let reason = format!("{taken} of its {} bytes belong to something else now", record.size);
                of(Complete::No, reason, false)
            }),
            Judgement::Whole => of(Complete::Yes, judgement.words(), true),
            Judgement::Fits => of(Complete::Likely, judgement.words(), true),
            Judgement::NotJudged(why) => {
                of(Complete::Likely, format!("nobody has its clusters; {why}"), false)
            }
            Judgement::Broken { .. } => {
                self.otherwise(record).unwrap_or_else(|| of(Complete::No, judgement.words(), false))
            }
        }
    }

    /// Another reading of where a file stands than its entry alone gives, if its structure bears one out.
    fn otherwise(&self, record: &FileRecord) -> Option<Judged> {
        let mut extents = record.content.extents();
        let start = extents.next().filter(|_| extents.next().is_none())?.offset;
        let step = self.ground.cluster(start)?;
        if self.ground.taken_of(Extent::new(start, 1)) > 0 {
            return None;
        }
        let format = formats::begins(&self.image.lenient(start, BEGINNING).bytes)?;
        if extension_of(record).is_some_and(|claimed| !claimed.is_like(format)) {
            return None;
        }
        let rest = Rest::new(self.image, &self.ground, &self.claimed, start).on_grid(step, start);
        let walked = formats::walk(format, &mut Tape::new(&rest));
        let (places, reason) = match &walked.end {
            // The structure has to end where the file does.
            End::Whole { length, .. } if *length <= record.size && length.plus(step) > record.size => {
                let how = "around the clusters of others; its structure fits to its end";
                (rest.places(record.size)?, how.to_owned())
            }
            End::Whole { .. } => return None,
            End::Broken { good, at, .. } => {
                let size = Some(record.size);
                let found = self
                    .around_blanks(start, &walked, size)
                    .or_else(|| self.second(&rest, start, &walked, (*good, *at), size))?;
                let words = found.words();
                (found.places, words)
            }
        };
        let content = Content::stored(places, record.size);
        Some(Judged { complete: Complete::Likely, reason, content, own: true })
    }
}

/// Whose files the clusters of these records are now: of each record, some of the paths.
fn owners(
    records: &[FileRecord],
    survey: &mut dyn Survey,
    window: &Window<'_>,
    base: u64,
) -> BTreeMap<usize, Vec<String>> {
    let mut wanted: RangeMap<u64, usize> = RangeMap::new();
    for (number, record) in records.iter().enumerate().filter(|(_, record)| record.taken) {
        for extent in record.content.extents().filter(|extent| extent.length > 0) {
            wanted.insert(extent.offset..extent.end(), number);
        }
    }
    let mut owners: BTreeMap<usize, Vec<String>> = BTreeMap::new();
    if wanted.is_empty() {
        return owners;
    }
    survey.each_file(window, Wanted::default(), &mut |file| {
        for extent in file.content.extents().map(|extent| extent.moved(base)).filter(|e| e.length > 0) {
            for (_, number) in wanted.overlapping(extent.offset..extent.end()) {
                let names = owners.entry(*number).or_default();
                let path = file.path.to_string();
                if names.len() < NAMED && !names.contains(&path) {
                    names.push(path);
                }
            }
        }
        ControlFlow::Continue(())
    });
    owners
}

/// The kind that a name stands for.
fn extension_of(record: &FileRecord) -> Option<Format> {
    record.path.name().rsplit_once('.').and_then(|(_, extension)| Format::of_extension(extension))
}

/// What a file is to a person: by its name, else by its beginning.
fn kind_of(search: &Search<'_>, record: &FileRecord) -> formats::Group {
    if search.wish.groups.is_empty() {
        return formats::Group::Other;
    }
    let start = record.content.start(search.image, kinds::ENOUGH.wide());
    kinds::group(record.path.name(), &start)
}
