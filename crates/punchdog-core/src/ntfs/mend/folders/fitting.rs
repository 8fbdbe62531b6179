//! The smallest change of an index: its nodes stay, and each gets what belongs between its neighbours.

use super::{level, wanted::of_entry};
use crate::{
    arith::{Peek, Sat},
    ntfs::{
        build::Level,
        index::{self, Index},
        survey::Survey,
    },
};
use std::{cmp::Ordering, collections::BTreeSet, ops::Range};

/// Nodes one below the other.
const DEPTH: usize = 40;

/// What an index becomes.
#[derive(Default)]
pub(super) struct Fitted {
    /// Blocks that are written, by where they begin in the attribute.
    pub(super) blocks: Vec<(u64, Vec<u8>)>,
    /// The root node, where it is another one.
    pub(super) root: Option<Level>,
    /// The blocks that are in use.
    pub(super) used: BTreeSet<u64>,
}

struct Fitting<'f> {
    index: &'f Index<'f>,
    wanted: &'f [Vec<u8>],
    survey: &'f Survey,
    fitted: Fitted,
}

/// Fits the wanted entries into the nodes there are; `None` where that cannot be done. `right` says that hosts take the
/// root node as it stands.
pub(super) fn fit(index: &Index<'_>, wanted: &[Vec<u8>], survey: &Survey, right: bool) -> Option<Fitted> {
    let mut fitting = Fitting { index, wanted, survey, fitted: Fitted::default() };
    let root = level(index.root.clone()?);
    let (level, same) = fitting.below(root.whole.then_some(root.level)?, 0..wanted.len(), 0)?;
    if !same || !right {
        fitting.fitted.root = Some(level);
    }
    Some(fitting.fitted)
}

/// The same reference, and the same name with all that is told beside it.
fn same(one: &[u8], other: &[u8]) -> bool {
    one.le64(0) == other.le64(0) && index::key(one) == index::key(other)
}

impl Fitting<'_> {
    /// The node in a block.
    fn block(&mut self, number: u64, range: Range<usize>, depth: usize) -> Option<()> {
        let blocks = &self.index.blocks;
        let at = blocks.at(number)?;
        if depth > DEPTH || !self.fitted.used.insert(at.per(blocks.size.wide())) {
            return None;
        }
        // A leaf without entries is none: those that hosts make have some.
        if range.is_empty() {
            return None;
        }
        let (new, right) = match blocks.node(at, number) {
            Ok((node, torn)) => {
                let read = level(node);
                let deep = read.level.entries.iter().any(|(_, below)| below.is_some());
                match (read.whole, deep) {
                    (true, _) => {
                        let (level, same) = self.below(read.level, range, depth)?;
                        (level, same && torn.is_none())
                    }
                    (false, true) => return None,
                    (false, false) => (self.leaf(range), false),
                }
            }
            // What cannot be read is taken for a leaf, as nearly all blocks are; where it is none, its names do not fit.
            Err(_) => (self.leaf(range), false),
        };
        if !right {
            let bytes = new.block(number, self.index.blocks.size)?;
            self.fitted.blocks.push((at, bytes));
        }
        Some(())
    }

    fn leaf(&self, range: Range<usize>) -> Level {
        let entries = self.wanted.get(range).unwrap_or(&[]);
        Level { entries: entries.iter().map(|entry| (entry.clone(), None)).collect(), last: None }
    }

    /// What a node becomes, and whether it is that already.
    fn below(&mut self, level: Level, range: Range<usize>, depth: usize) -> Option<(Level, bool)> {
        if level.last.is_none() {
            if level.entries.iter().any(|(_, below)| below.is_some()) {
                return None;
            }
            let new = self.leaf(range);
            let right = new.entries.len() == level.entries.len()
                && new.entries.iter().zip(&level.entries).all(|((one, _), (other, _))| same(one, other));
            return Some(if right { (level, true) } else { (new, false) });
        }
        let mut new = Level { entries: Vec::new(), last: level.last };
        let mut right = true;
        let mut from = range.start;
        for (entry, below) in level.entries {
            let below = below?;
            let rest = self.wanted.get(from..range.end).unwrap_or(&[]);
            let order = |other: &Vec<u8>| self.survey.capitals.order(of_entry(other), of_entry(&entry));
            let mut at = from.plus(rest.partition_point(|other| order(other) == Ordering::Less));
            let there = self.wanted.get(at).filter(|_| at < range.end);
            if there.is_none_or(|there| order(there) != Ordering::Equal) {
                // The name in front of it parts the blocks as well.
                at = at.checked_sub(1).filter(|before| *before > from)?;
            }
            let chosen = self.wanted.get(at)?;
            right = right && same(chosen, &entry);
            self.block(below, from..at, depth.plus(1))?;
            new.entries.push((chosen.clone(), Some(below)));
            from = at.plus(1);
        }
        self.block(level.last?, from..range.end, depth.plus(1))?;
        Some((new, right))
    }
}
