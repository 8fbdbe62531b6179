//! Pieces of folders that no folder goes on with, though the files that they name are nobody's: each is taken to stand between
//! two clusters of a folder that were joined by guess, where its names follow best. The volume is read again with that.

use super::seam::{Fit, Seam};
use crate::{
    arith::Sat,
    fat::{
        folder::Flaws,
        layout::{ATTR_LONG_NAME, ATTR_LONG_NAME_MASK, ATTR_VOLUME_ID, ENTRY_BYTES, FREE_ENTRY, ShortEntry},
        survey::{Surveyor, chain},
    },
};
use std::{cmp::Reverse, collections::HashMap};

/// Pieces, and clusters of folders, that are held against each other.
const LOOKED_AT: usize = 1024;

impl Surveyor<'_> {
    /// Where such pieces belong: what follows each cluster.
    pub(in crate::fat) fn left_over(&mut self) -> HashMap<u32, u32> {
        if !self.table_lost || self.watch.stop() {
            return HashMap::new();
        }
        // The volume is searched for pieces only where one can stand in between.
        let borders = self.guessed_borders();
        if borders.is_empty() {
            return HashMap::new();
        }
        let unlisted = self.unlisted_folders();
        let pieces: Vec<u32> =
            unlisted.iter().copied().filter(|piece| self.names_nobodys(*piece)).take(LOOKED_AT).collect();
        if pieces.is_empty() {
            return HashMap::new();
        }
        let seams: Vec<Seam> = borders.iter().map(|(_, before, _)| self.seam(*before)).collect();
        // Behind which border each stands, and in what order: where its names follow best, of several the next one before it.
        let mut at: HashMap<usize, Vec<(Reverse<Fit>, u32)>> = HashMap::new();
        for piece in pieces {
            let ranked = seams.iter().zip(&borders).enumerate().filter_map(|(index, (seam, border))| {
                let (folder, before, _) = *border;
                let fit = self.fit(seam, folder, piece)?;
                let near = Reverse(if before < piece { piece.minus(before) } else { u32::MAX });
                Some((fit.is_any().then_some(fit), near, index, fit))
            });
            if let Some((_, _, index, fit)) = ranked.max() {
                at.entry(index).or_default().push((Reverse(fit), piece));
            }
        }
        let mut joins = HashMap::new();
        for (index, mut pieces) in at {
            let Some((_, before, behind)) = borders.get(index) else { continue };
            pieces.sort_unstable();
            let mut last = *before;
            for next in pieces.into_iter().map(|(_, piece)| piece).chain([*behind]) {
                joins.insert(last, next);
                last = next;
            }
        }
        joins
    }

    /// True where entries in use name clusters that are all nobody's.
    fn names_nobodys(&self, piece: u32) -> bool {
        if !self.is_unclaimed(piece) {
            return false;
        }
        let wide = self.geometry.wide();
        let bytes = self.cluster(piece);
        let entries = bytes.chunks_exact(ENTRY_BYTES).take_while(|raw| raw.first() != Some(&0));
        let used = entries.filter_map(ShortEntry::read).filter(|entry| {
            let long = entry.attributes & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME;
            let label = entry.attributes & ATTR_VOLUME_ID != 0;
            !long && !label && entry.name.first() != Some(&FREE_ENTRY)
        });
        let mut firsts = used.map(|entry| entry.first_cluster(wide)).filter(|first| *first != 0).peekable();
        firsts.peek().is_some() && firsts.all(|first| self.geometry.has(first) && self.is_unclaimed(first))
    }

    /// A folder, as the ".." of its sub-folders calls it, and two clusters of it that follow one another by guess.
    fn guessed_borders(&mut self) -> Vec<(u32, u32, u32)> {
        let mut folders = Vec::new();
        // Of FAT32 the root too: it is a chain like any other.
        for (number, node) in self.tree.nodes.iter().enumerate() {
            if node.folder && node.length > 1 && node.flaws.has(Flaws::GUESSED) {
                folders.push((if number == 0 { 0 } else { node.first }, node.first, node.length));
            }
        }
        let mut borders = Vec::new();
        for (folder, first, length) in folders {
            let clusters = chain(self.medium, &mut self.links, first, length);
            for pair in clusters.windows(2) {
                if let [before, behind] = pair
                    && !(0..self.geometry.tables)
                        .any(|copy| self.links.in_copy(self.medium, copy, *before).in_chain())
                {
                    borders.push((folder, *before, *behind));
                }
            }
            if borders.len() >= LOOKED_AT {
                break;
            }
        }
        borders
    }
}
