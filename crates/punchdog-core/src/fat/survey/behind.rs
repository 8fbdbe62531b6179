//! Entries behind an end mark: which of them are real.

use super::Surveyor;
use crate::{
    arith::{Peek, Sat},
    cluster::chain::{End, Walk},
    fat::{folder::Item, layout::END_ENTRY, tree::Reached},
};

impl Surveyor<'_> {
    /// Folders behind an end mark are real when they name themselves and the folder they stand in, and
    /// their chains are nobody else's. True when one was taken: it has to be read.
    pub(super) fn accept_folders_behind(&mut self) -> bool {
        let mut left = Vec::new();
        let mut taken = false;
        for (folder, place, item) in std::mem::take(&mut self.behind) {
            let first = item.entry.first_cluster(self.geometry.wide());
            let own = self.node(folder).map_or(0, |node| node.first);
            // The root is 0 in "..", also on FAT32 (specification, "FAT Directory Structure").
            let above = if folder == 0 { 0 } else { own };
            let real = item.entry.is_folder()
                && self.geometry.has(first)
                && !self.heads.contains(first.size())
                && self.dots_at(first) == Some((first, above));
            if real && self.take_behind(folder, place, &item, |walk| walk.length > 0) {
                taken = true;
            } else {
                left.push((folder, place, item));
            }
        }
        self.behind = left;
        taken
    }

    /// Takes the folder at `head` with the entry behind an end mark that names it, whatever the table says of it.
    pub(in crate::fat) fn take_named(&mut self, head: u32) -> bool {
        let wide = self.geometry.wide();
        let is_it = |item: &Item| item.entry.is_folder() && item.entry.first_cluster(wide) == head;
        let Some(at) = self.behind.iter().position(|(_, _, item)| is_it(item)) else { return false };
        let (folder, place, item) = self.behind.remove(at);
        let number = self.add(folder, place, &item, Reached::BehindEnd);
        self.heads.insert(head.size());
        self.waiting_folders.push_back(number);
        self.tree.notes.entry(folder).or_default().tail_is_real = true;
        self.lost = None;
        true
    }

    /// Files behind an end mark are real when their chains fit and are nobody else's: what else a
    /// volume holds has its clusters by now.
    pub(super) fn accept_files_behind(&mut self) {
        for (folder, place, item) in std::mem::take(&mut self.behind) {
            let first = item.entry.first_cluster(self.geometry.wide());
            if item.entry.is_folder() || !self.geometry.has(first) || self.heads.contains(first.size()) {
                continue;
            }
            let needed = self.geometry.clusters_for(item.entry.size.get().wide());
            let there = self.take_behind(folder, place, &item, |walk| walk.length == needed);
            // Where the tables are lost nothing has a chain: what is nobody's, and begins as its name says, is its own.
            if !there && self.dotted && self.is_clear_row(first, needed) && self.agrees(&item.name, first) {
                let number = self.add(folder, place, &item, Reached::BehindEnd);
                self.heads.insert(first.size());
                self.waiting_files.push(number);
                self.tree.notes.entry(folder).or_default().tail_is_real = true;
            }
        }
        self.accept_end_marks();
        // What was taken for a file can turn out to be a folder.
        self.read_folders();
        self.resolve_files();
    }

    /// An end mark with entries behind it that are real is one of them, and has lost its first letter.
    fn accept_end_marks(&mut self) {
        let mut left = Vec::new();
        for (folder, place, item) in std::mem::take(&mut self.tree.deleted) {
            let first = item.entry.first_cluster(self.geometry.wide());
            let needed = self.geometry.clusters_for(item.entry.size.get().wide());
            let hides = self.tree.notes.get(&folder).is_some_and(|notes| notes.tail_is_real);
            let real = self.dotted
                && hides
                && self.medium.lenient(place, 1).bytes.byte(0) == END_ENTRY
                && self.is_clear_row(first, needed)
                && self.agrees(&item.name, first);
            if real {
                let number = self.add(folder, place, &item, Reached::Undeleted);
                self.heads.insert(first.size());
                self.waiting_files.push(number);
            } else {
                left.push((folder, place, item));
            }
        }
        self.tree.deleted = left;
    }

    fn take_behind(&mut self, folder: u32, place: u64, item: &Item, right: impl Fn(&Walk) -> bool) -> bool {
        let first = item.entry.first_cluster(self.geometry.wide());
        let walk = self.walk(first);
        let fits = walk.end == End::Proper && walk.meets.is_none() && right(&walk);
        if fits {
            let number = self.add(folder, place, item, Reached::BehindEnd);
            self.heads.insert(first.size());
            self.claim(number, &walk);
            self.tree.notes.entry(folder).or_default().tail_is_real = true;
            self.lost = None;
        }
        fits
    }
}
