//! Writing records and bytes of streams, on the overlay.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    medium::{Medium, MediumError, OverlayWindow},
    mending::step::Step,
    ntfs::{layout::fix, mft::Mft, runs::Mapping, survey::Survey},
};

/// Writes a record, whose fixups are off, at its place, and its copy where it has one.
pub(super) fn write_record(
    window: &mut OverlayWindow<'_, '_>,
    mft: &Mft,
    number: u32,
    record: &[u8],
) -> Result<(), MediumError> {
    let mut bytes = record.to_vec();
    fix(&mut bytes);
    put_record(window, mft, number, &bytes)
}

/// Writes a record with its fixups on.
pub(super) fn put_record(
    window: &mut OverlayWindow<'_, '_>,
    mft: &Mft,
    number: u32,
    bytes: &[u8],
) -> Result<(), MediumError> {
    let size = mft.geometry.record().wide();
    let mut done = 0_usize;
    for extent in mft.places(number) {
        put_within(window, extent.offset, bytes.part(done, extent.length.size()))?;
        done = done.plus(extent.length.size());
    }
    let copy = mft.geometry.place(mft.geometry.mirror).plus(number.wide().times(size));
    // What stands there says whether there is one: the boot sector alone may lead anywhere, also among the records.
    let own = mft
        .runs
        .iter()
        .any(|run| run.first.is_some_and(|first| (first..run.end()).contains(&mft.geometry.mirror)));
    let kept = !own && number.wide() < mft.geometry.mirrored() && {
        let medium: &dyn Medium = window;
        matches!(medium.lenient(copy, 4).bytes.as_slice(), b"FILE" | b"BAAD")
    };
    if kept {
        put_within(window, copy, bytes)?;
    }
    Ok(())
}

/// Writes what the image has room for: one that was cut short ends somewhere.
pub(super) fn put_within(
    window: &mut OverlayWindow<'_, '_>,
    at: u64,
    bytes: &[u8],
) -> Result<(), MediumError> {
    let room = window.len().minus(at).size();
    match bytes.part(0, room) {
        [] => Ok(()),
        there => window.write_at(at, there),
    }
}

/// Writes bytes into a stream.
pub(super) fn write_stream(
    window: &mut OverlayWindow<'_, '_>,
    map: &Mapping,
    at: u64,
    bytes: &[u8],
) -> Result<(), MediumError> {
    for (skip, extent) in map.places(at, bytes.len().wide()) {
        put_within(window, extent.offset, bytes.part(skip.size(), extent.length.size()))?;
    }
    Ok(())
}

impl Job<'_, '_, '_, '_> {
    /// A record as it stands now, fixups off.
    pub(super) fn record(&self, number: u32) -> Option<Vec<u8>> {
        self.survey.mft.read(self.window, number)
    }
    /// Changes a record in one step, where `change` says that there is something to change.
    pub(super) fn edit(
        &mut self,
        number: u32,
        step: Step,
        change: impl FnOnce(&mut Vec<u8>) -> bool,
    ) -> Result<(), MediumError> {
        let Some(mut record) = self.record(number) else { return Ok(()) };
        let size = record.len();
        if !change(&mut record) {
            return Ok(());
        }
        record.resize(size, 0);
        let survey: &Survey = self.survey;
        self.steps.run(self.window, step, |window| write_record(window, &survey.mft, number, &record))
    }
}
