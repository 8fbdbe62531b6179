//! What the index of a folder shall hold.

use super::meant;
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    ntfs::{
        build::folder_entry,
        differing::Differing,
        index,
        layout::{DUP_FOLDER, NAME_HEAD, kind, number, own, put, reference},
        names::of_key,
        record::attributes,
        records::{File, Name, Notes, Records},
        survey::{self, Survey},
        tree::Why,
    },
};
use std::{
    cmp::Ordering,
    collections::{BTreeSet, HashMap, HashSet},
};

/// Where `$FILE_NAME` says what else is known of the file: times, sizes, attributes.
const TOLD: usize = 8;

/// The names that say that they stand in these folders, in the list of all.
pub(super) fn by_folder(survey: &Survey, folders: &BTreeSet<u32>) -> HashMap<u32, Vec<u32>> {
    let mut found: HashMap<u32, Vec<u32>> = HashMap::new();
    for (index, name) in (0_u32..).zip(&survey.records.names) {
        let above = survey.records.referred(name.parent).map(|above| above.number);
        if let Some(above) = above.filter(|above| folders.contains(above))
            && survey.records.live(name.file).is_some()
        {
            found.entry(above).or_default().push(index);
        }
    }
    found
}

/// The entries that the index of a folder shall hold, in order. What stands there already stays as it is.
pub(super) fn of(
    medium: &dyn Medium,
    survey: &Survey,
    folder: &File,
    (names, differing): (&[u32], &[&Differing]),
    keep: bool,
) -> Vec<Vec<u8>> {
    let records = &survey.records;
    let mut there: HashMap<u32, Vec<u8>> = HashMap::new();
    let mut lost: Vec<(u64, Vec<u8>)> = Vec::new();
    index::read(medium, &survey.mft, records, folder, &survey.capitals, |entry| {
        let bytes = || folder_entry(entry.reference, entry.key);
        match survey::meant(records, folder, entry.reference, entry.key) {
            Ok((name, folder)) => {
                there.entry(name).or_insert_with(|| {
                    let differs = differing.binary_search_by_key(&entry.place, |one| one.place).is_ok();
                    told(entry, folder, differs.then_some(records))
                });
            }
            Err(Why::Lost) if keep => lost.push((entry.place, bytes())),
            Err(_) => {}
        }
    });
    if !lost.is_empty() {
        // What leads astray, and is named by a record after all.
        let astray = survey.strays.iter().filter(|s| s.folder == folder.number && s.why == Why::Renamed);
        let astray: HashSet<u64> = astray.map(|stray| stray.place).collect();
        lost.retain(|(place, _)| !astray.contains(place));
    }
    let mut entries: Vec<(bool, Vec<u8>)> = lost.into_iter().map(|(_, entry)| (true, entry)).collect();
    // The names that have to be read, in the order in which their records stand.
    let mut missing: Vec<&Name> = Vec::new();
    for index in names {
        match there.remove(index) {
            Some(entry) => entries.push((true, entry)),
            None => missing.extend(records.names.get(index.size())),
        }
    }
    missing.sort_by_key(|name| name.holder);
    let mut held: Option<(u32, Vec<u8>)> = None;
    for name in missing {
        if held.as_ref().is_none_or(|(number, _)| *number != name.holder) {
            held = survey.mft.read(medium, name.holder).map(|record| (name.holder, record));
        }
        let Some((_, record)) = &held else { continue };
        if let Some(entry) = made(medium, survey, name, record) {
            entries.push((false, entry));
        }
    }
    entries.sort_by(|(kept, one), (other_kept, other)| {
        survey.capitals.order(of_entry(one), of_entry(other)).then(other_kept.cmp(kept))
    });
    // Two names alike in one folder no host can tell apart: the one that stands there stays.
    let mut seen: HashSet<(u32, Vec<u8>)> = HashSet::new();
    entries.retain(|(_, entry)| seen.insert((meant(entry), of_entry(entry).to_vec())));
    entries.dedup_by(|(_, one), (_, other)| {
        survey.capitals.order(of_entry(one), of_entry(other)) == Ordering::Equal
    });
    entries.into_iter().map(|(_, entry)| entry).collect()
}

/// An entry as it stands, but for whether its file is a folder; of the file system's own files that is not looked at. Where
/// `records` are given, size and time are as the file's record has them.
fn told(entry: &index::Entry<'_>, folder: bool, records: Option<&Records>) -> Vec<u8> {
    let mut key = entry.key.to_vec();
    if number(entry.reference) >= own::FIRST_FREE.into() {
        let said = key.le32(56) & !DUP_FOLDER;
        put(&mut key, 56, &(said | if folder { DUP_FOLDER } else { 0 }).to_le_bytes());
    }
    if let Some((records, file)) =
        records.and_then(|records| Some((records, records.referred(entry.reference)?)))
    {
        put(&mut key, 16, &file.modified.to_le_bytes());
        sizes(records, file, &mut key);
    }
    folder_entry(entry.reference, &key)
}

/// Sets the sizes in an entry as the file's record has them.
fn sizes(records: &Records, file: &File, key: &mut [u8]) {
    if let Some(data) = records.stream_of(file, kind::DATA, "").first() {
        put(key, 40, &data.allocated.to_le_bytes());
        put(key, 48, &data.size.to_le_bytes());
    }
}

/// The name that an entry is ordered by.
pub(super) fn of_entry(entry: &[u8]) -> &[u8] {
    of_key(index::key(entry))
}

/// The entry of a name, with what its record says of the file now.
fn made(medium: &dyn Medium, survey: &Survey, name: &Name, holder: &[u8]) -> Option<Vec<u8>> {
    let file = survey.records.live(name.file)?;
    let at = usize::from(name.at);
    let mut key = holder.part(at, NAME_HEAD.plus(usize::from(holder.byte(at.plus(64))).times(2))).to_vec();
    if key.len() <= NAME_HEAD {
        return None;
    }
    let own;
    let base = if name.holder == name.file {
        holder
    } else {
        own = survey.mft.read(medium, name.file)?;
        &own
    };
    let (list, _) = attributes(base);
    if let Some(standard) = list.iter().find(|a| a.kind() == kind::STANDARD && a.value().len() >= 36) {
        put(&mut key, TOLD, standard.value().part(0, 32));
        let kept = key.le32(56) & !0xFFFF;
        let folder = if file.notes.contains(Notes::FOLDER) { DUP_FOLDER } else { 0 };
        put(&mut key, 56, &(standard.value().le32(32) & 0xFFFF | kept | folder).to_le_bytes());
    }
    sizes(&survey.records, file, &mut key);
    Some(folder_entry(reference(file.number, file.sequence), &key))
}
