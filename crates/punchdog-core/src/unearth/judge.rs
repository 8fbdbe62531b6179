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
        content::{Content, OnMedium},
        kinds,
        record::{FileRecord, State},
    },
    formats::{self, BEGINNING, End, Format, Proof, Tape, Walked},
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
        for (round, chunk) in records.chunks(AT_ONCE).enumerate() {
            self.watch.at("judging files that are named", round.times(AT_ONCE).wide(), all);
            if self.watch.stop() {
                return Ok(());
            }
            let judged: Vec<Judged> = chunk.par_iter().map(|record| self.judge(record)).collect();
            for (index, (record, judged)) in chunk.iter().zip(judged).enumerate() {
                if let Some(start) = judged.content.extents().next() {
                    self.starts.insert(start.offset);
                }
                let known = judged.content.extents().any(|place| self.claimed.contains(&place.offset));
                let Judged { mut complete, mut reason, content } = judged;
                if known {
                    complete = Complete::No;
                    reason = String::from("its clusters are of another file that was found");
                }
                if complete != Complete::No {
                    content.extents().for_each(|place| self.claim(place));
                }
                if let Some(names) = owners.get(&round.times(AT_ONCE).plus(index)) {
                    reason = format!("{reason}: {}", names.join(", "));
                }
                let group = kind_of(self, record);
                let range = self.wish.range;
                let begins = |at: u64| range.offset <= at && at < range.end();
                let within = content.extents().next().is_none_or(|place| begins(place.offset));
                if !within || !self.wish.wants(group) {
                    continue;
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
                })?;
            }
        }
        Ok(())
    }

    fn judge(&self, record: &FileRecord) -> Judged {
        let content = record.content.clone();
        let of = |complete, reason: &str, content| Judged { complete, reason: reason.to_owned(), content };
        if record.size == 0 {
            return of(Complete::Yes, "it is empty", content);
        }
        if content.held() == 0 {
            return of(Complete::No, "nothing says where it stood", content);
        }
        let taken: u64 = content.extents().fold(0, |sum, place| sum.plus(self.ground.taken_of(place)));
        // What stands in a record of the file system is no cluster of its own.
        let taken = if record.taken { taken } else { 0 };
        let walked = self.walk(record, &content);
        let claimed = extension_of(record);
        match walked.as_ref().map(|walked| (&walked.end, walked.format)) {
            Some((End::Whole { length, proof }, format)) if taken == 0 => {
                if claimed.is_some_and(|claimed| !claimed.is_like(format)) {
                    return of(Complete::No, &format!("a {} stands where it began", format.title()), content);
                }
                let (complete, reason) = match proof {
                    _ if content.held() < record.size => (Complete::No, "only part of it can be had"),
                    _ if *length < record.size.minus(64 << 10) => {
                        (Complete::Likely, "what stands there ends before its size does")
                    }
                    Proof::Content => (Complete::Yes, "its content fits to its end"),
                    Proof::Structure => (Complete::Likely, "its structure fits to its end"),
                };
                of(complete, reason, content)
            }
            Some(_) => self.otherwise(record, taken),
            None if taken > 0 => self.otherwise(record, taken),
            None if claimed.is_some_and(|claimed| !claimed.is_text()) => {
                of(Complete::No, "what stands there does not begin as its name says", content)
            }
            None if content.held() < record.size => of(Complete::No, "only part of it can be had", content),
            None => of(
                Complete::Likely,
                "nobody has its clusters; nothing in it can be held against anything",
                content,
            ),
        }
    }

    /// Another reading of where a file stands than its entry alone gives.
    fn otherwise(&self, record: &FileRecord, taken: u64) -> Judged {
        let content = &record.content;
        let first = content.extents().next();
        if let Some(first) = first
            && self.ground.taken_of(Extent::new(first.offset, 1)) == 0
            && content.extents().count() == 1
            && let Some(step) = self.ground.cluster(first.offset)
        {
            let rest = Rest::new(self.image, &self.ground, &self.claimed, first.offset);
            let start = self.image.lenient(first.offset, BEGINNING).bytes;
            if let Some(format) = formats::begins(&start)
                && extension_of(record).is_none_or(|claimed| claimed.is_like(format))
            {
                let walked = formats::walk(format, &mut Tape::new(&rest));
                // The structure has to end where the file does.
                let fits = |length: u64| length <= record.size && length.plus(step) > record.size;
                let judged = |places: Vec<Extent>, reason: &str| Judged {
                    complete: Complete::Likely,
                    reason: reason.to_owned(),
                    content: Content::stored(places, record.size),
                };
                match &walked.end {
                    End::Whole { length, .. } if fits(*length) => {
                        if let Some(places) = rest.places(record.size) {
                            return judged(
                                places,
                                "around the clusters of others, its structure fits to its end",
                            );
                        }
                    }
                    End::Broken { good, at, .. } => {
                        let size = Some(record.size);
                        let found = self
                            .around_blanks(first.offset, &walked, size)
                            .or_else(|| self.second(&rest, first.offset, &walked, (*good, *at), size));
                        if let Some(found) = found {
                            return judged(
                                found.places,
                                "put together of pieces that lie apart; its structure fits to its end",
                            );
                        }
                    }
                    End::Whole { .. } => {}
                }
            }
        }
        let reason = if taken > 0 {
            format!("{taken} of its {} bytes belong to something else now", record.size)
        } else {
            match self.walk(record, content).map(|walked| walked.end) {
                Some(End::Broken { at, why, .. }) => format!("it breaks at its byte {at}: {}", why.words()),
                _ => "what stands there is not what it was".to_owned(),
            }
        };
        Judged { complete: Complete::No, reason, content: content.clone() }
    }

    fn walk(&self, record: &FileRecord, content: &Content) -> Option<Walked> {
        let source = OnMedium::new(self.image, content, record.size);
        let mut tape = Tape::new(&source);
        let format = formats::begins(tape.at(0, BEGINNING))?;
        let walked = formats::walk(format, &mut tape);
        // A beginning that proves little, and does not go on, says nothing.
        let broken = matches!(walked.end, End::Broken { .. });
        (!broken || walked.is_worth_keeping() || extension_of(record).is_some_and(|own| own.is_like(format)))
            .then_some(walked)
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
