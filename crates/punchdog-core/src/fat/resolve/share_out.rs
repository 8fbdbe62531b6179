//! Files that lie in pieces, and of which the table says nothing: whose what is nobody's can be, by lengths and by content.
//!
//! A file is taken to lie in a row where nothing stands in its way; what is left to these is what no row has and is not
//! blank. A piece is a file's where it is the only one of exactly the length that is lacking, where the next ones come to that,
//! or where sums that run through the content say so.

use super::flaw_of;
use crate::{
    arith::Sat,
    cluster::{
        chain::{End, Link, run_of},
        joints::{Joints, Part},
        lengths::{Break, Runs, in_rows, rests},
        set::ClusterSet,
    },
    fat::{folder::Flaws, links::Because, survey::Surveyor},
    files::{end, kinds},
    medium::Extent,
};
use std::{collections::HashSet, rc::Rc};

/// Turns in which what one file has decides between others.
const TURNS: usize = 64;
/// Pieces of which a file's content is asked whether it goes on there, and bytes that may be read for one file.
const ASKED: usize = 64;
const READ: u64 = 256 << 20;

/// Clusters that are looked at to tell which are blank: of more, a large volume of which only a part of the table is lost, most
/// are free, and each would be read.
const LOOKED_AT: usize = 1 << 18;

/// A file that breaks off.
struct Torn {
    number: u32,
    own: Runs,
    /// How the chain breaks off.
    end: End,
    at: Break,
}

impl Surveyor<'_> {
    /// Settles those of `files` of which something tells where they go on; gives the others.
    pub(super) fn share_out(&mut self, files: Vec<u32>) -> Vec<u32> {
        let mut torn: Vec<Torn> = files.iter().filter_map(|number| self.torn(*number)).collect();
        if torn.is_empty() {
            return files;
        }
        let Some(mut pieces) = self.free_pieces(&torn) else { return files };
        let mut settled = HashSet::new();
        // Lengths tell as long as what one has leaves another less to choose from; content is asked once.
        self.share_by_lengths(&mut torn, &mut pieces, &mut settled);
        for one in &torn {
            if self.watch.stop() {
                break;
            }
            pieces.retain(|(first, count)| self.is_open_run(*first, *count));
            if let Some(runs) = self.told_by_content(one, &pieces).filter(|runs| self.are_open(runs)) {
                self.give(one, &runs);
                settled.insert(one.number);
            }
        }
        torn.retain(|one| !settled.contains(&one.number));
        self.share_by_lengths(&mut torn, &mut pieces, &mut settled);
        files.into_iter().filter(|number| !settled.contains(number)).collect()
    }

    fn joints(&self) -> Joints<'_> {
        Joints {
            medium: self.medium,
            ends: &self.ends,
            heap: self.geometry.cluster_offset(2),
            each: self.geometry.cluster_bytes().wide(),
        }
    }

    fn part(&self, one: &Torn) -> Part {
        let length = self.node(one.number).map_or(0, |node| node.size().wide());
        Part { own: one.own.clone(), length }
    }

    fn share_by_lengths(&mut self, torn: &mut Vec<Torn>, pieces: &mut Runs, settled: &mut HashSet<u32>) {
        let mut refuted = HashSet::new();
        for _ in 0..TURNS {
            pieces.retain(|(first, count)| self.is_open_run(*first, *count));
            let breaks: Vec<Break> = torn.iter().map(|one| one.at).collect();
            let before = torn.len();
            for (one, runs) in torn.iter().zip(rests(&breaks, &[], pieces)) {
                // What was given to one meanwhile is not another's.
                let Some(runs) = runs.filter(|runs| self.are_open(runs)) else { continue };
                if self.joints().refutes(&self.part(one), &runs) {
                    refuted.insert(one.number);
                } else {
                    self.give(one, &runs);
                    settled.insert(one.number);
                }
            }
            torn.retain(|one| !settled.contains(&one.number) && !refuted.contains(&one.number));
            if torn.len() == before || torn.is_empty() || self.watch.stop() {
                break;
            }
        }
    }

    fn torn(&mut self, number: u32) -> Option<Torn> {
        let node = self.node(number).filter(|node| self.geometry.has(node.first))?;
        let (first, needed) = (node.first, self.geometry.clusters_for(node.size()));
        if self.disagrees(node) {
            return None;
        }
        let walk = self.walk(first);
        let silent = matches!(walk.end, End::Free | End::Odd(_) | End::Unreadable);
        if !silent || walk.meets.is_some() || walk.length == 0 || walk.length >= needed {
            return None;
        }
        let missing = needed.minus(walk.length);
        let room = self.geometry.last_cluster().minus(walk.last).min(missing.plus(1));
        let row = run_of(walk.last.plus(1), room);
        let behind = row.take_while(|cluster| self.is_silent(*cluster)).count().narrow();
        let at = Break { last: walk.last, missing, behind };
        (behind < missing).then_some(Torn { number, own: walk.runs, end: walk.end, at })
    }

    /// True for a cluster that is nobody's, and of which the table says nothing.
    pub(super) fn is_silent(&mut self, cluster: u32) -> bool {
        self.is_unclaimed(cluster)
            && matches!(self.links.get(self.medium, cluster), Link::Free | Link::Odd(_) | Link::Unreadable)
    }

    fn is_open_run(&self, first: u32, count: u32) -> bool {
        run_of(first, count).all(|cluster| self.is_unclaimed(cluster))
    }
    fn are_open(&self, runs: &[(u32, u32)]) -> bool {
        runs.iter().all(|(first, count)| self.is_open_run(*first, *count))
    }

    /// Clusters in a row that hold something and are nobody's, and right behind no file that breaks off; `None` where there
    /// are too many to look at.
    fn free_pieces(&mut self, torn: &[Torn]) -> Option<Runs> {
        let mut open = self.filled()?.as_ref().clone();
        open.difference_with(&self.claimed);
        open.difference_with(&self.heads);
        for one in torn {
            let (first, count) = one.at.room();
            open.remove_range(first.size()..first.plus(count).size());
        }
        let mut pieces = in_rows(open.ones().map(Sat::narrow));
        // What begins like a file is the beginning of one.
        pieces.retain(|(first, _)| kinds::extension(&self.cluster(*first)).is_none());
        Some(pieces)
    }

    /// Clusters that are not blank, nobody's when this is first asked, and of which the table says nothing; `None` where there
    /// are too many to look at.
    pub(super) fn filled(&mut self) -> Option<Rc<ClusterSet>> {
        if let Some((all, found)) = &self.filled {
            return all.then(|| found.clone());
        }
        let mut found = ClusterSet::with_capacity(self.geometry.last_cluster().plus(1).size());
        let mut looked = 0_usize;
        self.look_at_silent(kinds::ENOUGH, LOOKED_AT, |_, cluster, start| {
            looked = looked.plus(1);
            let first = start.first().copied().unwrap_or_default();
            if start.iter().any(|byte| *byte != first) {
                found.insert(cluster.size());
            }
        });
        let (all, found) = (looked < LOOKED_AT, Rc::new(found));
        self.filled = Some((all, found.clone()));
        all.then_some(found)
    }

    /// Shows the first bytes of each cluster that is nobody's, of which the table says nothing, and that is no hole; up to
    /// `most`.
    pub(super) fn look_at_silent(
        &mut self,
        bytes: usize,
        most: usize,
        mut take: impl FnMut(&mut Self, u32, &[u8]),
    ) {
        let each = self.geometry.cluster_bytes();
        let (mut next, mut looked) = (2, 0_usize);
        while looked < most && next <= self.geometry.last_cluster() && !self.watch.stop() {
            let cluster = next;
            next = next.plus(1);
            let place = self.geometry.cluster_offset(cluster);
            let Some(data) = self.medium.data_from(place) else { break };
            if data.offset >= place.plus(each.wide()) {
                next = cluster.plus(data.offset.minus(place).per(each.wide()).narrow());
            } else if self.is_silent(cluster) {
                looked = looked.plus(1);
                let start = self.medium.lenient(place, bytes.min(each.size())).bytes;
                take(self, cluster, &start);
            }
        }
    }

    /// Where one file goes on, if its content has sums that say so: what stands behind it, then what follows from a piece on.
    fn told_by_content(&self, one: &Torn, pieces: &[(u32, u32)]) -> Option<Runs> {
        let size = self.node(one.number)?.size().wide();
        let lacks = one.at.missing.minus(one.at.behind);
        let (before, behind) = pieces.split_at(pieces.partition_point(|(first, _)| *first <= one.at.last));
        let order: Runs = behind.iter().chain(before).copied().collect();
        let most = READ.per(size.max(1)).min(ASKED.wide()).size();
        (0..order.len()).take(most).find_map(|from| {
            let mut left = lacks;
            let mut runs = one.at.rooms();
            for (first, count) in order.iter().skip(from) {
                let taken = left.min(*count);
                runs.push((*first, taken));
                left = left.minus(taken);
                if left == 0 {
                    break;
                }
            }
            let all: Vec<Extent> = one.own.iter().chain(&runs).map(|run| self.extent(*run)).collect();
            (left == 0 && end::proves(self.medium, &all, size)).then_some(runs)
        })
    }

    pub(super) fn extent(&self, (first, count): (u32, u32)) -> Extent {
        let each = self.geometry.cluster_bytes().wide();
        Extent::new(self.geometry.cluster_offset(first), count.wide().times(each))
    }

    fn give(&mut self, one: &Torn, runs: &[(u32, u32)]) {
        let mut before = one.at.last;
        for cluster in runs.iter().flat_map(|(first, count)| run_of(*first, *count)) {
            self.links.rebuild(before, Link::Next(cluster), Because::Guess);
            before = cluster;
        }
        self.links.rebuild(before, Link::End, Because::Derived);
        let single = one.own.iter().fold(0_u32, |sum, (_, count)| sum.plus(*count)) == 1;
        self.change(one.number, |node| {
            if single && one.end == End::Free {
                node.flaws.set(Flaws::FIRST_FREE);
            }
            node.fault.get_or_insert((one.at.last, one.end));
            node.flaws.set(flaw_of(one.end));
            node.flaws.set(Flaws::GUESSED);
        });
        if let Some(first) = self.node(one.number).map(|node| node.first) {
            let walk = self.walk(first);
            self.claim(one.number, &walk);
        }
    }
}
