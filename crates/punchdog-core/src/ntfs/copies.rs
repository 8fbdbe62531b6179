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
    let mut copies: BTreeMap<u32, u32> = BTreeMap::new();
    for (one, others) in pairs {
        let alone = others.first().copied().filter(|first| others.iter().all(|of| of == first));
        if let Some(other) = alone.filter(|other| is_copy(medium, mft, records, (one, *other))) {
            copies.insert(one, other);
        }
    }
    if copies.is_empty() {
        return;
    }
    let is_of = |stray: &&mut Stray| {
        u32::try_from(number(stray.reference)).is_ok_and(|number| copies.contains_key(&number))
    };
    strays.iter_mut().filter(is_of).for_each(|stray| stray.why = Why::Lost);
    records.drop_copies(copies);
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
    /// Takes records for such that cannot be read.
    fn drop_copies(&mut self, copies: BTreeMap<u32, u32>) {
        self.files.retain(|file| !copies.contains_key(&file.number));
        self.flaws.retain(|(number, _)| !copies.contains_key(number));
        for of in copies.keys() {
            if let Some(usage) = self.uses.get_mut(of.size()) {
                *usage = Use::Noise;
            }
        }
        self.copies = copies;
    }
    /// The record of which this one holds a copy.
    pub(super) fn copy_of(&self, number: u32) -> Option<u32> {
        self.copies.get(&number).copied()
    }
}
