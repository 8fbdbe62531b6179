//! $MFTMirr: copies of the first records.

use super::{
    geometry::evidence::{is_own, record_at},
    layout::{Fixups, own, unfix},
    records::Use,
    survey::Survey,
    system::is_record,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
};

/// What is wrong with one copy.
pub(super) enum Copy {
    /// It is another than the record, from this byte on.
    Differs {
        /// The record.
        number: u32,
        /// Where the copy stands.
        place: u64,
        /// The byte.
        at: usize,
    },
    /// It cannot be read.
    Damaged {
        /// The record.
        number: u32,
        /// Where the copy stands.
        place: u64,
    },
}

/// Where the copy of a record stands.
pub(super) fn place(survey: &Survey, number: u32) -> u64 {
    let geometry = survey.mft.geometry;
    geometry.place(geometry.mirror).plus(number.wide().times(geometry.record().wide()))
}

/// The copy of a record, fixups off; `None` where it is none.
pub(super) fn copy_of(medium: &dyn Medium, survey: &Survey, number: u32) -> Option<Vec<u8>> {
    let mut bytes = medium.lenient(place(survey, number), survey.mft.geometry.record()).bytes;
    let signed = bytes.part(0, 4) == b"FILE";
    let whole = unfix(&mut bytes) == Fixups::Whole;
    (signed && whole && is_record(&bytes, number, survey.mft.geometry.cluster())).then_some(bytes)
}

/// The copies begin in this cluster: record 0 stands there, whole.
pub(super) fn begins(medium: &dyn Medium, survey: &Survey, cluster: u64) -> bool {
    let geometry = survey.mft.geometry;
    let record = record_at(medium, geometry.place(cluster), geometry.record());
    record.is_some_and(|record| is_own(&record, own::MFT))
}

/// Records that have copies on every volume; where a cluster holds more, more may have.
pub(super) const ALWAYS: u32 = 4;

/// Every copy that is not what it should be. Records that are damaged themselves are not compared.
pub(super) fn copies(medium: &dyn Medium, survey: &Survey) -> Vec<Copy> {
    let mut found = Vec::new();
    for number in 0..ALWAYS {
        let place = place(survey, number);
        let Some(copy) = copy_of(medium, survey, number) else {
            found.push(Copy::Damaged { number, place });
            continue;
        };
        let Some(record) = survey.mft.read(medium, number) else { continue };
        if survey.records.uses.get(number.size()) != Some(&Use::File)
            || !is_record(&record, number, survey.mft.geometry.cluster())
        {
            continue;
        }
        // The fixups themselves are counted anew with each write.
        let array = usize::from(record.le16(4));
        let end = array.plus(usize::from(record.le16(6)).times(2));
        let used = record.le32(24).size().max(copy.le32(24).size());
        let differs = record
            .iter()
            .zip(&copy)
            .enumerate()
            .take(used)
            .position(|(at, (one, other))| one != other && !(array..end).contains(&at));
        if let Some(at) = differs {
            found.push(Copy::Differs { number, place, at });
        }
    }
    found
}
