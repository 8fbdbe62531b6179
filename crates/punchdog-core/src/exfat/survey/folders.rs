//! Reading folders: bytes and sets of some on both cores, while those before are settled, in order.

use super::{Content, Surveyor};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link},
        places::Places,
    },
    exfat::{
        layout::{DIRECTORY, ENTRY},
        sets::{Flaws, Reading},
        table::Because,
        tree::{FolderNotes, Reached},
    },
    medium::{Extent, MediumError},
};
use rayon::prelude::*;

/// Folders that are read side by side, at most, and their bytes.
const BATCH: usize = 64;
const BATCH_BYTES: u64 = 4 << 20;

impl Surveyor<'_> {
    /// Reads the folders that wait, until none does. Where their clusters lie is known beforehand: the bytes and sets of some are
    /// read on both cores while what was read before is settled, in order.
    pub(super) fn read_folders(&mut self) -> Result<(), MediumError> {
        let medium = self.medium;
        let mut before: Vec<(u32, Content, Reading)> = Vec::new();
        while !self.queue.is_empty() || !before.is_empty() {
            if self.watch.stop() {
                return Err(MediumError::Stopped);
            }
            let known = self.out.tree.nodes.len().wide();
            self.watch.at("reading folders", known.minus(self.queue.len().wide()), known);
            let batch = self.next_folders();
            let capitals = self.out.capitals.clone();
            let mut read = Vec::new();
            rayon::in_place_scope(|scope| {
                scope.spawn(|_| {
                    let one = |(number, places): (u32, Places)| {
                        let content = Content::read(medium, places);
                        let reading = Reading::of(&content.bytes, &capitals, number == 0);
                        (number, content, reading)
                    };
                    read = batch.into_par_iter().map(one).collect();
                });
                for (number, content, reading) in before {
                    self.take_in(number, &content, reading);
                }
            });
            before = read;
        }
        Ok(())
    }

    /// Some of the folders that wait, with where they lie.
    fn next_folders(&mut self) -> Vec<(u32, Places)> {
        let (mut batch, mut bytes) = (Vec::new(), 0_u64);
        while batch.len() < BATCH && bytes < BATCH_BYTES {
            let Some(number) = self.queue.pop_front() else { break };
            let places = self.out.places(self.medium, number);
            bytes = bytes.plus(places.bytes());
            batch.push((number, places));
        }
        batch
    }

    /// Clusters that the root folder turned out to go on in: what they hold is taken in.
    pub(in crate::exfat) fn root_goes_on(&mut self, next: u32) {
        let before = self.out.content(self.medium, 0).entries();
        let last = self.last_of(0);
        self.out.links.believe(last, Link::Next(next), Because::Guess);
        self.out.links.believe(next, Link::End, Because::Derived);
        self.claim(0, &[(next, 1)]);
        self.change(0, |node| {
            node.flaws |= Flaws::GUESSED;
            if node.fault.is_none() {
                // An end in an erased part of the table.
                node.flaws |= Flaws::INTO_FREE;
                node.fault = Some((last, End::Free));
            }
        });
        let content = self.out.content(self.medium, 0);
        let mut reading = Reading::of(&content.bytes, &self.out.capitals, true);
        reading.items.retain(|item| item.index >= before);
        reading.labels.clear();
        self.out.tree.notes.remove(&0);
        self.take_in(0, &content, reading);
    }

    /// True when the root's chain broke off, or ends where the table is erased, and its last cluster has no end mark.
    pub(in crate::exfat) fn root_breaks_off(&mut self) -> bool {
        let last = self.last_of(0);
        let each = self.out.geometry.cluster_bytes().size();
        let broken = self.node(0).is_some_and(|node| node.fault.is_some());
        (broken || self.out.links.is_erased(self.medium, last)) && {
            let bytes = self.medium.lenient(self.out.geometry.cluster_place(last), each).bytes;
            bytes.chunks_exact(ENTRY).all(|raw| raw.byte(0) != 0)
        }
    }

    fn take_in(&mut self, number: u32, content: &Content, reading: Reading) {
        let end = reading.end.unwrap_or_else(|| content.entries());
        let mut notes = FolderNotes {
            strays: reading.strays,
            junk: reading.junk,
            unknown: reading.unknown,
            tail: reading.tail.map(|first| (end, first)),
            hides: None,
        };
        if number == 0 {
            for (index, text, ok) in reading.labels {
                match self.out.label {
                    None => self.out.label = Some((index, text, ok)),
                    Some(_) => self.out.labels.push(index),
                }
            }
        }
        for item in reading.items.iter().filter(|item| item.attributes() & DIRECTORY != 0) {
            let (first, g) = (item.stream.first, self.out.geometry);
            if g.has(first) {
                self.medium.soon(Extent::new(g.cluster_place(first), g.cluster_bytes()));
            }
        }
        for item in reading.items {
            let place = content.place(item.index).unwrap_or(0);
            self.add(number, place, &item, Reached::Tree);
        }
        if !reading.behind.is_empty() {
            notes.hides = Some((end, 0));
        }
        for item in reading.behind.into_iter().chain(reading.broken) {
            let place = content.place(item.index).unwrap_or(0);
            self.behind.push((number, place, item));
        }
        for item in reading.deleted {
            let place = content.place(item.index).unwrap_or(0);
            self.out.tree.deleted.push((number, place, item));
        }
        if !notes.is_empty() {
            self.out.tree.notes.insert(number, notes);
        }
    }
}
