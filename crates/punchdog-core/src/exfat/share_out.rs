//! Files whose chains break off where the table says nothing: what is in use and nobody's is shared out among them.
//!
//! ```text
//! A ▮▮▮▮ what the table still has · ░░ in use and nobody's, right behind it · ▒▒▒ elsewhere, and of nobody either
//! ```
//!
//! Hosts write NoFatChain for what lies in a row (section 6.3.4.2), so that a file with a chain mostly lies in pieces. One
//! that is as long as what stands behind it ends there; one that needs more has the pieces whose lengths come to what it lacks.
//! Where several can have the same clusters, and their content does not tell, none of them gets them; nor does one
//! whose content breaks where such a piece begins.

use super::{
    resolve::flaw_of,
    sets::Flaws,
    survey::{Surveyor, extents_of},
    table::Because,
};
use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Link, run_of},
        joints::{Joints, Part},
        lengths::{Break, Runs, in_rows, rests},
    },
    files::{end, kinds},
    medium::Extent,
};
use std::collections::HashSet;

/// Turns in which what one file has decides between others.
const TURNS: usize = 64;

/// A file whose chain breaks off.
struct Torn {
    number: u32,
    /// What the table has of it.
    own: Runs,
    /// How the chain breaks off there.
    end: End,
    at: Break,
}

impl Surveyor<'_> {
    /// True for a cluster in use, nobody's, and not the first one of something that waits.
    pub(super) fn is_open(&self, cluster: u32) -> bool {
        self.is_unclaimed(cluster) && !self.heads.contains(cluster.size())
    }

    /// Settles what can be settled only together; gives what is left of `files`.
    pub(super) fn share_out(&mut self, files: Vec<u32>) -> Vec<u32> {
        let mut torn: Vec<Torn> = files.iter().filter_map(|number| self.torn(*number)).collect();
        for (first, count) in torn.iter().flat_map(|one| &one.own) {
            self.heads.insert_range(first.size()..first.plus(*count).size());
        }
        self.look_behind(&mut torn);
        torn.retain(|one| one.at.behind != one.at.missing);
        if !torn.iter().any(|one| one.at.behind < one.at.missing) {
            return files;
        }
        // What fits exactly where it stands comes first, and what else can be settled alone.
        let mut settled = HashSet::new();
        let together: HashSet<u32> = torn.iter().map(|one| one.number).collect();
        for number in files.iter().filter(|number| !together.contains(number)) {
            self.resolve_one(*number);
            self.settle(*number);
            settled.insert(*number);
        }
        // That may have taken some of what stands behind these.
        self.look_behind(&mut torn);
        let (mut short, mut long): (Vec<Torn>, Vec<Torn>) =
            torn.into_iter().partition(|one| one.at.behind <= one.at.missing);
        for one in &long {
            let extents = self.extents_with(one, &[one.at.room()]);
            if self.is_told(one, &extents) {
                self.give(one, &[one.at.room()]);
                settled.insert(one.number);
            }
        }
        long.retain(|one| !settled.contains(&one.number));
        let mut pieces = self.free_pieces(&short, &long);
        let mut lacking: Vec<Torn> = Vec::new();
        for _ in 0..TURNS {
            pieces.retain(|(first, _)| self.is_open(*first));
            let found = rests(&breaks(&short), &breaks(&long), &pieces);
            let mut refuted = HashSet::new();
            for (one, runs) in short.iter().zip(&found) {
                match runs {
                    Some(runs) if self.refutes(one, runs) => _ = refuted.insert(one.number),
                    Some(runs) => {
                        self.give(one, runs);
                        settled.insert(one.number);
                    }
                    None => {}
                }
            }
            let before = short.len();
            let (no, rest): (Vec<Torn>, Vec<Torn>) = short
                .into_iter()
                .filter(|one| !settled.contains(&one.number))
                .partition(|one| refuted.contains(&one.number));
            lacking.extend(no);
            short = rest;
            if short.len() == before || self.watch.stop() {
                break;
            }
        }
        lacking.append(&mut short);
        if !lacking.is_empty() {
            // Somebody lacks what another could have as well.
            for one in lacking.iter().chain(&long) {
                let room = if one.at.behind <= one.at.missing { one.at.rooms() } else { Vec::new() };
                let room = if self.refutes(one, &room) { Vec::new() } else { room };
                self.give(one, &room);
                settled.insert(one.number);
            }
        }
        files.into_iter().filter(|number| !settled.contains(number)).collect()
    }

    fn joints(&self) -> Joints<'_> {
        let geometry = &self.out.geometry;
        Joints {
            medium: self.medium,
            ends: &self.ends,
            heap: geometry.cluster_place(2),
            each: geometry.cluster_bytes(),
        }
    }

    fn part(&self, one: &Torn) -> Part {
        let length = self.node(one.number).map_or(0, |node| node.stream.length);
        Part { own: one.own.clone(), length }
    }

    /// The content says that these are not where the file goes on.
    fn refutes(&self, one: &Torn, runs: &[(u32, u32)]) -> bool {
        !runs.is_empty() && self.joints().refutes(&self.part(one), runs)
    }

    fn torn(&mut self, number: u32) -> Option<Torn> {
        let node = self.node(number).cloned()?;
        let needed = node.needed(&self.out.geometry);
        let chained = !node.folder && !node.row && self.out.geometry.has(node.first);
        if !chained || needed < 2 || needed > self.out.geometry.clusters.wide() {
            return None;
        }
        let needed = needed.narrow();
        let walk = self.chain_of(node.first, needed);
        let breaks = matches!(walk.end, End::Free | End::Proper)
            && walk.meets.is_none()
            && walk.length > 0
            && walk.length < needed;
        if !breaks {
            return None;
        }
        // TexFAT: the other table may have it whole.
        if self.out.geometry.tables == 2 {
            let other = self.walk(node.first, Some(1_usize.minus(self.out.links.active())));
            if other.end == End::Proper && other.meets.is_none() && other.length == needed {
                return None;
            }
        }
        let missing = needed.minus(walk.length);
        let passes_over = walk.end == End::Proper && {
            let clusters: Vec<u32> = walk.clusters().collect();
            self.leading_into(&clusters, needed).is_some()
        };
        let astray = self.is_astray(&walk) && self.tail(missing.plus(1), node.first).is_some();
        if passes_over || astray || self.tail(missing, node.first).is_some() {
            return None;
        }
        let at = Break { last: walk.last, missing, behind: 0 };
        Some(Torn { number, own: walk.runs, end: walk.end, at })
    }

    /// True for an open cluster of which the table says nothing.
    fn is_silent(&mut self, cluster: u32) -> bool {
        self.is_open(cluster)
            && match self.out.links.get(self.medium, cluster) {
                Link::Free | Link::Odd(_) | Link::Unreadable => true,
                Link::End => self.out.links.is_erased(self.medium, cluster),
                Link::Next(_) | Link::Bad => false,
            }
    }

    /// Counts the clusters right behind each that can be its own, and one more.
    fn look_behind(&mut self, torn: &mut [Torn]) {
        for one in torn {
            let room = self.out.geometry.last_cluster().minus(one.at.last);
            let row = run_of(one.at.last.plus(1), room.min(one.at.missing.plus(1)));
            one.at.behind = row.take_while(|cluster| self.is_silent(*cluster)).count().narrow();
        }
    }

    /// Clusters in a row that are open, and right behind nothing that breaks off.
    fn free_pieces(&mut self, short: &[Torn], long: &[Torn]) -> Runs {
        let mut open = self.out.used.clone();
        open.difference_with(&self.out.claimed);
        open.difference_with(&self.heads);
        for one in short.iter().chain(long) {
            let mut at = one.at.last.plus(1);
            while open.contains(at.size()) {
                open.remove_range(at.size()..at.plus(1).size());
                at = at.plus(1);
            }
        }
        let silent: Vec<u32> =
            open.ones().map(Sat::narrow).filter(|cluster| self.is_silent(*cluster)).collect();
        let mut pieces = in_rows(silent);
        // What begins like a file is the beginning of one.
        pieces.retain(|(first, _)| kinds::extension(&self.start_of(*first)).is_none());
        pieces
    }

    fn extents_with(&self, one: &Torn, more: &[(u32, u32)]) -> Vec<Extent> {
        let runs: Runs = one.own.iter().chain(more).copied().collect();
        extents_of(&self.out.geometry, &runs)
    }

    /// The content in these ranges says that it is this file, all of it.
    fn is_told(&self, one: &Torn, extents: &[Extent]) -> bool {
        let length = self.node(one.number).map_or(0, |node| node.stream.length);
        end::proves(self.medium, extents, length)
    }

    /// Gives a file what the table has of it, and `runs`; it may lack some still.
    fn give(&mut self, one: &Torn, runs: &[(u32, u32)]) {
        let mut before = one.at.last;
        for cluster in runs.iter().flat_map(|(first, count)| run_of(*first, *count)) {
            self.out.links.believe(before, Link::Next(cluster), Because::Guess);
            before = cluster;
        }
        let given = runs.iter().fold(0_u32, |sum, (_, count)| sum.plus(*count));
        let whole = given >= one.at.missing;
        let because = if whole { Because::Guess } else { Because::Derived };
        if one.end != End::Proper || given > 0 {
            self.out.links.believe(before, Link::End, because);
        }
        self.claim(one.number, &one.own.iter().chain(runs).copied().collect::<Runs>());
        self.change(one.number, |node| {
            node.fault = (one.end != End::Proper).then_some((one.at.last, one.end));
            node.flaws |= flaw_of(one.end);
            node.flaws |= if given > 0 { Flaws::GUESSED } else { Flaws::empty() };
            node.flaws |= if whole { Flaws::empty() } else { Flaws::SHORT };
        });
        self.settle(one.number);
    }
}

fn breaks(torn: &[Torn]) -> Vec<Break> {
    torn.iter().map(|one| one.at).collect()
}
