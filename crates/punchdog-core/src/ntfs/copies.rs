//! Records that hold a copy of another record: a write that went to the wrong place of `$MFT`.
//!
//! Such a record has names, run lists and content of a file that stands elsewhere, and nothing is left of what it held. A
//! folder still leads to the file whose record that was, and to the one that was copied, each by its own entry. So it is told
//! which of the two is the copy, and it counts as a record that cannot be read.

use super::{
    doubled,
    layout::{number, own},
    mft::Mft,
    record::{Head, attributes},
    records::{Name, Records, Use},
    tree::{Stray, Why},
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
};
use std::collections::BTreeMap;

/// Files that are asked about.
const MOST: usize = 1 << 12;

/// Takes copies for what they are; what entries name by them is lost.
pub(super) fn settle(medium: &dyn Medium, mft: &Mft, records: &mut Records, strays: &mut [Stray]) {
    // By the file that has names which others have too: those others.
    let mut pairs: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
    for doubled in doubled::names(records) {
        let of = |index: u32| records.names.get(index.size()).map(|name| name.file);
        if let (Some(one), Some(other)) = (of(doubled.name), of(doubled.stays))
            && one > own::EXTEND
            && pairs.len() < MOST
        {
            pairs.entry(one).or_default().push(other);
        }
    }
    for (one, others) in pairs {
        let Some(other) = others.first().copied().filter(|first| others.iter().all(|of| of == first)) else {
            continue;
        };
        if is_copy(medium, mft, records, (one, other)) {
            records.drop_copy(one, other);
            for stray in strays.iter_mut().filter(|stray| number(stray.reference) == u64::from(one)) {
                stray.why = Why::Lost;
            }
        }
    }
}

/// `one` holds what `other` does, times and all. Names alone do not tell it: a file that is saved over another has its name
/// for a while.
fn is_copy(medium: &dyn Medium, mft: &Mft, records: &Records, (one, other): (u32, u32)) -> bool {
    let names = |number: u32| records.live(number).map(|file| records.names_of(file));
    let (Some(own_names), Some(names)) = (names(one), names(other)) else { return false };
    let same =
        |(a, b): (&Name, &Name)| a.parent == b.parent && a.text == b.text && a.space == b.space && !a.indexed;
    let led_to = names.iter().any(|name| name.indexed);
    if own_names.len() != names.len() || !own_names.iter().zip(names).all(same) || !led_to {
        return false;
    }
    let (Some(copy), Some(original)) = (mft.read(medium, one), mft.read(medium, other)) else { return false };
    // Where records have their numbers, this one has the other's.
    let numbered = |record: &[u8]| Head::read(record).number;
    if numbered(&copy) == Some(other) && numbered(&original) == Some(other) {
        return true;
    }
    let holds = |record: &[u8]| {
        let head = Head::read(record);
        record.part(head.first, head.used.minus(head.first)).to_vec()
    };
    attributes(&copy).1.is_none() && holds(&copy) == holds(&original)
}

impl Records {
    /// Takes a record for one that cannot be read.
    fn drop_copy(&mut self, of: u32, original: u32) {
        self.files.retain(|file| file.number != of);
        self.flaws.retain(|(number, _)| *number != of);
        if let Some(usage) = self.uses.get_mut(of.size()) {
            *usage = Use::Noise;
        }
        self.copies.push((of, original));
    }
    /// The record of which this one holds a copy.
    pub(super) fn copy_of(&self, number: u32) -> Option<u32> {
        self.copies.iter().find(|(copy, _)| *copy == number).map(|(_, original)| *original)
    }
}
