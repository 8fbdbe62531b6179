//! Every class of fault, of the partition table and of every family.

use crate::{exfat, fat, impaired, ntfs, partition, report::finding::Entry};

/// Every class of fault that check can find, in the order of the documentation.
pub fn all_entries() -> impl Iterator<Item = &'static Entry> {
    let families = fat::catalogue::ALL.iter().chain(exfat::catalogue::ALL).chain(ntfs::catalogue::ALL);
    let medium = impaired::catalogue::ALL.iter();
    medium.chain(partition::catalogue::ALL).chain(families).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_unique_and_explained() {
        let mut seen = std::collections::HashSet::new();
        for entry in all_entries() {
            assert!(seen.insert(entry.code), "{} stands twice", entry.code);
            let (family, what) = entry.code.split_once('/').expect(entry.code);
            assert!(["medium", "partition", "fat", "exfat", "ntfs"].contains(&family));
            assert!(what.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-'));
            for text in [entry.title, entry.meaning, entry.mending, entry.source] {
                assert!(!text.is_empty(), "{} lacks a text", entry.code);
            }
        }
    }
}
