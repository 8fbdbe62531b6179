//! What folders' entries say of files beside their names.

use super::Subject;
use crate::{
    arith::Sat,
    ntfs::{
        catalogue as c,
        differing::{Differing, How},
        layout::kind,
        state::time,
    },
    report::{
        finding::{Finding, Sink},
        wording::counted,
    },
};
use std::collections::HashSet;

/// Where an entry has when its file was changed, and how far its size ends behind that.
const CHANGED: u64 = 32;
const LONG: u64 = 40;

pub(super) fn check(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let told: HashSet<u32> =
        survey.differing.iter().filter(|one| one.how.is_told()).map(|one| one.file).collect();
    let paths = survey.paths_of(|number| told.contains(&number));
    for one in survey.differing.iter().filter(|one| one.how.is_told()) {
        let finding = of(subject, one);
        sink.add(match paths.get(&one.file) {
            Some(path) => finding.file(path.clone()),
            None => finding,
        });
    }
    let late = survey.differing.iter().filter(|one| one.how == How::Late).count().wide();
    if late > 0 {
        let many = counted(late, "entry shows", "entries show");
        sink.add(Finding::new(&c::ENTRY_LATE, format!("{many} an earlier time of change than the file has")));
    }
}

fn of(subject: &Subject<'_>, one: &Differing) -> Finding {
    let survey = subject.survey;
    let file = survey.records.live(one.file);
    let data = file.and_then(|file| survey.records.stream_of(file, kind::DATA, "").first());
    let (size, modified) = (data.map_or(0, |data| data.size), file.map_or(0, |file| file.modified));
    let entry = if one.how == How::Ahead { &c::RECORD_OLDER } else { &c::ENTRY_TOLD };
    // Where blocks lie in pieces, these bytes may be in the next.
    let geometry = survey.mft.geometry;
    let at = if geometry.cluster() >= geometry.index().wide() { CHANGED } else { 0 };
    let is = format!("The entry in its folder says {}.", said(one.size, one.modified));
    let should = format!("Record {} says {}.", one.file, said(size, modified));
    Finding::new(entry, entry.title).at(one.place.plus(at), LONG).because(is, should, "")
}

/// A size, and when it was changed.
fn said(size: u64, modified: u64) -> String {
    let changed = match time(modified) {
        Some(time) => format!("changed on {}", time.strftime("%Y-%m-%d at %H:%M:%S")),
        None => "changed at a time that cannot be".to_owned(),
    };
    format!("{size} bytes, {changed}")
}
