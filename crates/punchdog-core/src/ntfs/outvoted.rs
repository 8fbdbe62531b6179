//! Fields of a record that all else on the volume contradicts: the in-use flag, a folder's sequence number, the folder
//! that a name says it stands in.
//!
//! An entry of a folder names a record together with its sequence number. Where the record has that very name in that
//! folder, the two speak of one file; what differs then is one struck field. For the flag, $MFT's bitmap is asked too: a
//! host that deletes a file clears its bit. For a folder's number, the names of what stands in it are asked. A name whose
//! folder there is not stands in the folder whose index has it.

use super::{
    index::IndexFlaw,
    layout::{number, reference, sequence},
    records::{File, Flaw, Name, Notes, Records, Use},
    tree::{Stray, Why},
};
use crate::arith::{Peek, Sat};
use std::collections::{HashMap, HashSet};

/// Takes the word of the others; gives the folders that were not gone through yet.
pub(super) fn settle(
    records: &mut Records,
    strays: &mut Vec<Stray>,
    flaws: &[(u32, IndexFlaw)],
    in_use: Option<&[u8]>,
) -> Vec<u32> {
    let mut folders = Vec::new();
    records.number_files(strays, in_use);
    if strays.iter().any(|stray| matches!(stray.why, Why::Free | Why::Reused | Why::Renamed)) {
        // What an index does not show may be in a part of it that cannot be read.
        let partly = flaws.iter().filter(|(_, flaw)| flaw.hides()).map(|(folder, _)| *folder).collect();
        by_entries(records, strays, (&partly, in_use), &mut folders);
    }
    parents(records);
    records.flaws.sort_by_key(|(number, _)| *number);
    folders
}

/// Fields that entries contradict.
fn by_entries(
    records: &mut Records,
    strays: &mut Vec<Stray>,
    (partly, in_use): (&HashSet<u32>, Option<&[u8]>),
    folders: &mut Vec<u32>,
) {
    let suspect = |stray: &Stray| matches!(stray.why, Why::Free | Why::Reused | Why::Renamed);
    // By the folder that they name: names of files in use.
    let mut within: HashMap<u64, u32> = HashMap::new();
    for name in records.names.iter().filter(|name| records.live(name.file).is_some()) {
        let count = within.entry(name.parent).or_default();
        *count = count.plus(1);
    }
    let mut cleared: Vec<usize> = Vec::new();
    for (index, stray) in strays.iter().enumerate().filter(|(_, stray)| suspect(stray)) {
        let at = u32::try_from(number(stray.reference)).unwrap_or(u32::MAX);
        let Some(file) = records.file(at).cloned() else { continue };
        if stray.why == Why::Renamed {
            if records.parent_told(&file, stray, partly) {
                cleared.push(index);
            }
            continue;
        }
        let Some(name) = named(records, &file, stray) else { continue };
        let own = file.sequence;
        let told = sequence(stray.reference);
        let folder = file.notes.contains(Notes::FOLDER);
        let marked = in_use.is_some_and(|bits| bits.byte(at.per(8).size()) >> at.rest(8) & 1 == 1);
        let settled = match stray.why {
            Why::Free if own == told && marked => {
                let flag = Flaw::Free;
                records.revive(at, flag);
                if folder {
                    folders.push(at);
                }
                true
            }
            Why::Reused if folder && told != 0 => {
                let count = |sequence: u16| within.get(&reference(at, sequence)).copied().unwrap_or(0);
                let outvoted = count(told) > 0 && count(own) == 0;
                if outvoted {
                    records.renumber(at, told);
                }
                outvoted
            }
            _ => false,
        };
        if settled {
            if let Some(name) = records.names.get_mut(name.size()) {
                name.indexed = true;
            }
            cleared.push(index);
        }
    }
    let mut index = 0_usize;
    strays.retain(|_| {
        let gone = cleared.binary_search(&index).is_ok();
        index = index.plus(1);
        !gone
    });
}

/// Names that a folder's index has, and that say that they stand in another use of that folder's record.
fn parents(records: &mut Records) {
    let mut told = Vec::new();
    for (index, name) in (0_u32..).zip(&records.names).filter(|(_, name)| name.indexed) {
        let folder = u32::try_from(number(name.parent)).ok().and_then(|number| records.live(number));
        if let Some(folder) = folder.filter(|folder| folder.sequence != sequence(name.parent)) {
            told.push((index, reference(folder.number, folder.sequence)));
        }
    }
    for (index, parent) in told {
        records.set_parent(index, parent);
    }
}

/// The name of the file that the entry has, in the list of all.
pub(super) fn named(records: &Records, file: &File, stray: &Stray) -> Option<u32> {
    let same = |name: &Name| {
        number(name.parent) == u64::from(stray.folder) && name.space == stray.space && name.text == stray.text
    };
    let at = records.names_of(file).iter().position(same)?;
    Some(file.names.start.plus(at.narrow()))
}

impl Records {
    /// Takes a file for one in use.
    fn revive(&mut self, number: u32, flaw: Flaw) {
        if let Ok(at) = self.files.binary_search_by_key(&number, |file| file.number)
            && let Some(file) = self.files.get_mut(at)
        {
            file.notes.remove(Notes::DELETED);
        }
        if let Some(usage) = self.uses.get_mut(number.size()) {
            *usage = Use::File;
        }
        self.flaws.push((number, flaw));
    }
    /// Takes the folder of the entry for that of the name which it has, where that names none, or one whose index can be
    /// read and does not have it; true where that was so.
    fn parent_told(&mut self, file: &File, stray: &Stray, partly: &HashSet<u32>) -> bool {
        let Some(folder) = self.live(stray.folder).map(|folder| reference(folder.number, folder.sequence))
        else {
            return false;
        };
        // A block of another folder's index, which came here, names that folder as the files do.
        if stray.parent != folder {
            return false;
        }
        let lost = |name: &Name| {
            let above = self.referred(name.parent).filter(|above| above.notes.contains(Notes::FOLDER));
            let elsewhere = above.is_none_or(|above| !name.indexed && !partly.contains(&above.number));
            elsewhere && name.parent != folder && name.space == stray.space && name.text == stray.text
        };
        let Some(at) = self.names_of(file).iter().position(lost) else { return false };
        let index = file.names.start.plus(at.narrow());
        self.set_parent(index, folder);
        if let Some(name) = self.names.get_mut(index.size()) {
            name.indexed = true;
        }
        true
    }
    /// Takes another folder for that of a name.
    fn set_parent(&mut self, index: u32, parent: u64) {
        let Some(name) = self.names.get_mut(index.size()) else { return };
        let flaw = Flaw::Parent(name.at, std::mem::replace(&mut name.parent, parent), parent);
        let holder = name.holder;
        self.flaws.push((holder, flaw));
    }
    /// Takes another sequence number for a file's.
    fn renumber(&mut self, number: u32, told: u16) {
        let was = self.set_sequence(number, told);
        self.flaws.extend(was.map(|was| (number, Flaw::Sequence(was, told))));
    }
}
