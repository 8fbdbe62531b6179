//! Another reader of NTFS, which knows nothing of ours: it goes by the folders' indexes alone.

use ntfs::{Ntfs, NtfsFile, indexes::NtfsFileNameIndex, structured_values::NtfsFileNamespace};
use std::{
    collections::{BTreeMap, BTreeSet},
    io::{Cursor, Read},
};

type Volume<'v> = Cursor<&'v [u8]>;

/// What tells contents apart.
pub(crate) fn sum(bytes: &[u8]) -> u64 {
    let long = bytes.len() as u64;
    bytes.iter().fold(long, |sum, byte| sum.wrapping_mul(31).wrapping_add((*byte).into()))
}

/// Goes through a folder and those in it; `take` gets the path and file of each that is no folder.
fn walk(
    ntfs: &Ntfs,
    folder: &NtfsFile<'_>,
    above: &str,
    volume: &mut Volume<'_>,
    take: &mut dyn FnMut(String, &NtfsFile<'_>, &mut Volume<'_>),
) {
    let index = folder.directory_index(volume).unwrap();
    let mut entries = index.entries();
    while let Some(entry) = entries.next(volume) {
        let entry = entry.unwrap();
        let key = entry.key().expect("a name").unwrap();
        let number = entry.file_reference().file_record_number();
        if number < 24 {
            continue;
        }
        // By name, down from the root node: that is another way than through all entries.
        let name = key.name().to_string_lossy();
        // What is no UTF-16 cannot be asked for.
        if !name.contains(char::REPLACEMENT_CHARACTER) {
            let mut finder = index.finder();
            let found = NtfsFileNameIndex::find(&mut finder, ntfs, volume, &name);
            let found = found.unwrap_or_else(|| panic!("{above}{name} is listed and not found")).unwrap();
            assert_eq!(found.file_reference().file_record_number(), number, "{above}{name}");
        }
        if key.namespace() == NtfsFileNamespace::Dos {
            continue;
        }
        let path = format!("{above}{name}");
        let file = entry.to_file(ntfs, volume).unwrap();
        if file.is_directory() {
            walk(ntfs, &file, &format!("{path}/"), volume, take);
        } else {
            take(path, &file, volume);
        }
    }
}

fn all(bytes: &[u8], take: &mut dyn FnMut(String, &NtfsFile<'_>, &mut Volume<'_>)) {
    let mut volume = Cursor::new(bytes);
    let mut ntfs = Ntfs::new(&mut volume).unwrap();
    ntfs.read_upcase_table(&mut volume).unwrap();
    let root = ntfs.root_directory(&mut volume).unwrap();
    walk(&ntfs, &root, "", &mut volume, take);
}

/// All paths with what tells their content apart.
pub(crate) fn files(bytes: &[u8]) -> BTreeMap<String, u64> {
    let mut found = BTreeMap::new();
    all(bytes, &mut |path, file, volume| {
        let data = file.data(volume, "").expect("content").unwrap();
        let value = data.to_attribute().unwrap().value(volume).unwrap();
        let mut content = Vec::new();
        value.attach(volume).read_to_end(&mut content).unwrap();
        found.insert(path, sum(&content));
    });
    found
}

/// All paths, each of which was listed and found by its name.
pub(crate) fn paths(bytes: &[u8]) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    all(bytes, &mut |path, _, _| {
        found.insert(path);
    });
    found
}
