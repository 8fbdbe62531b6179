//! A set of clusters, in memory that grows with how mixed it is and not with the volume.
//!
//! ```text
//! page of 32768 clusters:  none of them │ all of them │ one bit each (4 KiB)
//! ```
//!
//! A volume of 2 TiB with clusters of 4 KiB has half a billion clusters. A survey keeps several sets of
//! them, of which nearly all pages are empty or full: files lie in rows.

use crate::arith::Sat;
use std::ops::Range;

/// Clusters of a page.
const PAGE: usize = 32_768;
const WORD: usize = 64;

#[derive(Debug, Clone, PartialEq, Eq)]
enum Page {
    Empty,
    Full,
    /// The bits, and how many are set: neither none nor all.
    Mixed(Box<[u64]>, usize),
}

/// See the module. Numbers outside the set's length are never in it.
#[derive(Debug, Clone)]
pub struct ClusterSet {
    pages: Vec<Page>,
    len: usize,
}

#[inline]
fn mask(range: &Range<usize>) -> u64 {
    // Bits `range` of a word; `range` lies within 0..64.
    let ones = |count: usize| 1_u64.checked_shl(count.narrow()).map_or(u64::MAX, |bit| bit.wrapping_sub(1));
    ones(range.end) & !ones(range.start)
}

/// The places of the bits that are set, the first at `base`.
fn bits(base: usize, word: u64) -> impl Iterator<Item = usize> {
    let rest = std::iter::successors(Some(word), |left| Some(left & left.wrapping_sub(1)));
    rest.take_while(|left| *left != 0).map(move |left| base.plus(left.trailing_zeros().size()))
}

impl ClusterSet {
    /// An empty set of numbers below `len`.
    #[inline]
    pub fn with_capacity(len: usize) -> Self {
        Self { pages: vec![Page::Empty; len.per_up(PAGE)], len }
    }

    /// The first number that cannot be in it.
    #[inline]
    pub fn len(&self) -> usize {
        self.len
    }

    /// True when nothing is in it.
    #[inline]
    pub fn is_empty(&self) -> bool {
        self.pages.iter().all(|page| *page == Page::Empty)
    }

    /// True when `number` is in it.
    #[inline]
    pub fn contains(&self, number: usize) -> bool {
        match self.pages.get(number.per(PAGE)) {
            Some(Page::Mixed(words, _)) => {
                let bit = number.rest(PAGE);
                words.get(bit.per(WORD)).is_some_and(|word| word >> bit.rest(WORD) & 1 == 1)
            }
            Some(Page::Full) => number < self.len,
            _ => false,
        }
    }

    /// Puts `number` in; true when it was in already.
    pub fn put(&mut self, number: usize) -> bool {
        let was = self.contains(number);
        if !was {
            self.insert(number);
        }
        was
    }

    /// Puts `number` in.
    #[inline]
    pub fn insert(&mut self, number: usize) {
        self.change(number..number.plus(1), true);
    }

    /// Puts all of a range in.
    #[inline]
    pub fn insert_range(&mut self, range: Range<usize>) {
        self.change(range, true);
    }

    /// Takes all of a range out.
    #[inline]
    pub fn remove_range(&mut self, range: Range<usize>) {
        self.change(range, false);
    }

    fn change(&mut self, range: Range<usize>, to: bool) {
        let end = range.end.min(self.len);
        let mut at = range.start;
        while at < end {
            let start = at.rest(PAGE);
            let stop = end.minus(at).plus(start).min(PAGE);
            if let Some(page) = self.pages.get_mut(at.per(PAGE)) {
                page.change(start..stop, to);
            }
            at = at.plus(stop.minus(start));
        }
    }

    /// True when anything of a range is in it.
    #[inline]
    pub fn contains_any_in_range(&self, range: Range<usize>) -> bool {
        self.count_in(range.clone()) > 0
    }

    /// How many of a range are in it.
    pub fn count_in(&self, range: Range<usize>) -> usize {
        let end = range.end.min(self.len);
        let (mut at, mut count) = (range.start, 0_usize);
        while at < end {
            let start = at.rest(PAGE);
            let stop = end.minus(at).plus(start).min(PAGE);
            count = count.plus(self.pages.get(at.per(PAGE)).map_or(0, |page| page.count(start..stop)));
            at = at.plus(stop.minus(start));
        }
        count
    }

    /// The first run within a range that is not in it.
    #[inline]
    pub fn gap_in(&self, range: Range<usize>) -> Option<Range<usize>> {
        let start = self.first_in(range.clone(), false)?;
        let end = self.first_in(start..range.end, true).unwrap_or(range.end);
        Some(start..end)
    }

    /// The first of a range that is in it (`wanted`) or is not.
    fn first_in(&self, range: Range<usize>, wanted: bool) -> Option<usize> {
        let mut at = range.start;
        while at < range.end {
            let next = at.per(PAGE).plus(1).times(PAGE).min(range.end);
            match self.pages.get(at.per(PAGE)) {
                Some(Page::Mixed(..)) => {
                    if let Some(found) = (at..next).find(|number| self.contains(*number) == wanted) {
                        return Some(found);
                    }
                }
                page => {
                    if matches!(page, Some(Page::Full)) == wanted {
                        return Some(at);
                    }
                }
            }
            at = next;
        }
        None
    }

    /// How many are in it.
    #[inline]
    pub fn count(&self) -> usize {
        self.count_in(0..self.len)
    }

    /// What is in it, in order.
    pub fn ones(&self) -> impl Iterator<Item = usize> + '_ {
        self.pages.iter().enumerate().flat_map(|(number, page)| {
            let base = number.times(PAGE);
            let all = if *page == Page::Full { 0..PAGE.min(self.len.minus(base)) } else { 0..0 };
            let words = if let Page::Mixed(words, _) = page { &words[..] } else { &[] };
            let mixed = words.iter().enumerate().flat_map(|(index, word)| bits(index.times(WORD), *word));
            all.chain(mixed).map(move |bit| base.plus(bit))
        })
    }

    /// What is in it and not in the other, of the same length, in order.
    pub fn difference<'s>(&'s self, other: &'s Self) -> impl Iterator<Item = usize> + 's {
        let pages = self.pages.iter().zip(&other.pages).enumerate();
        let some = pages.filter(|(_, (own, others))| **own != Page::Empty && **others != Page::Full);
        let mixed = some.flat_map(|(number, (own, others))| {
            (0..PAGE.per(WORD)).flat_map(move |index| {
                bits(number.times(PAGE).plus(index.times(WORD)), own.word(index) & !others.word(index))
            })
        });
        mixed.take_while(|number| *number < self.len)
    }

    /// Takes out what the other has.
    #[inline]
    pub fn difference_with(&mut self, other: &Self) {
        self.combine(other, |own, others| own & !others);
    }

    /// Takes out what the other has not.
    #[inline]
    pub fn intersect_with(&mut self, other: &Self) {
        self.combine(other, |own, others| own & others);
    }

    fn combine(&mut self, other: &Self, with: impl Fn(u64, u64) -> u64) {
        for (page, others) in self.pages.iter_mut().zip(&other.pages) {
            let uniform = |page: &Page| match page {
                Page::Empty => Some(0),
                Page::Full => Some(u64::MAX),
                Page::Mixed(..) => None,
            };
            if let (Some(one), Some(other)) = (uniform(page), uniform(others)) {
                *page = if with(one, other) == 0 { Page::Empty } else { Page::Full };
                continue;
            }
            let words: Box<[u64]> =
                (0..PAGE.per(WORD)).map(|index| with(page.word(index), others.word(index))).collect();
            let count = words.iter().map(|word| word.count_ones().size()).sum();
            *page = Page::Mixed(words, count);
            page.settle();
        }
    }

    /// Everything below the length that is not in it.
    #[must_use]
    #[inline]
    pub fn complement(&self) -> Self {
        let mut all = Self::with_capacity(self.len);
        all.insert_range(0..self.len);
        all.difference_with(self);
        all
    }
}

impl Extend<usize> for ClusterSet {
    fn extend<T: IntoIterator<Item = usize>>(&mut self, numbers: T) {
        numbers.into_iter().for_each(|number| self.insert(number));
    }
}

impl Page {
    fn word(&self, index: usize) -> u64 {
        match self {
            Self::Empty => 0,
            Self::Full => u64::MAX,
            Self::Mixed(words, _) => words.get(index).copied().unwrap_or(0),
        }
    }

    fn settle(&mut self) {
        match self {
            Self::Mixed(_, 0) => *self = Self::Empty,
            Self::Mixed(_, count) if *count >= PAGE => *self = Self::Full,
            _ => {}
        }
    }

    fn change(&mut self, range: Range<usize>, to: bool) {
        match (&*self, to) {
            (Self::Full, true) | (Self::Empty, false) => return,
            _ if range == (0..PAGE) => {
                *self = if to { Self::Full } else { Self::Empty };
                return;
            }
            (Self::Empty, true) => *self = Self::Mixed(vec![0; PAGE.per(WORD)].into_boxed_slice(), 0),
            (Self::Full, false) => {
                *self = Self::Mixed(vec![u64::MAX; PAGE.per(WORD)].into_boxed_slice(), PAGE);
            }
            (Self::Mixed(..), _) => {}
        }
        if let Self::Mixed(words, count) = self {
            let mut at = range.start;
            while at < range.end {
                let start = at.rest(WORD);
                let stop = range.end.minus(at).plus(start).min(WORD);
                let bits = mask(&(start..stop));
                if let Some(word) = words.get_mut(at.per(WORD)) {
                    let before = word.count_ones().size();
                    *word = if to { *word | bits } else { *word & !bits };
                    *count = count.plus(word.count_ones().size()).minus(before);
                }
                at = at.plus(stop.minus(start));
            }
        }
        self.settle();
    }

    fn count(&self, range: Range<usize>) -> usize {
        match self {
            Self::Empty => 0,
            Self::Full => range.end.minus(range.start),
            Self::Mixed(_, count) if range == (0..PAGE) => *count,
            Self::Mixed(words, _) => {
                let (mut at, mut count) = (range.start, 0_usize);
                while at < range.end {
                    let start = at.rest(WORD);
                    let stop = range.end.minus(at).plus(start).min(WORD);
                    let word = words.get(at.per(WORD)).copied().unwrap_or(0);
                    count = count.plus((word & mask(&(start..stop))).count_ones().size());
                    at = at.plus(stop.minus(start));
                }
                count
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    const LEN: usize = 3 * PAGE + 100;

    fn filled(ranges: &[(usize, usize, bool)]) -> (ClusterSet, BTreeSet<usize>) {
        let (mut set, mut model) = (ClusterSet::with_capacity(LEN), BTreeSet::new());
        for (start, length, to) in ranges {
            let range = *start..start + length;
            if *to {
                set.insert_range(range.clone());
                model.extend(range.filter(|n| *n < LEN));
            } else {
                set.remove_range(range.clone());
                model.retain(|n| !range.contains(n));
            }
        }
        (set, model)
    }

    fn ranges() -> impl Strategy<Value = Vec<(usize, usize, bool)>> {
        let length = prop_oneof![1..70_usize, 30_000..80_000_usize];
        prop::collection::vec((0..LEN + 50, length, any::<bool>()), 0..8)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        /// A set says of itself what a plain one would.
        #[test]
        fn is_a_set(one in ranges(), other in ranges(), from in 0..LEN, length in 0..90_000_usize) {
            let (mut set, mut model) = filled(&one);
            let (others, second) = filled(&other);
            prop_assert_eq!(set.ones().collect::<BTreeSet<_>>(), model.clone());
            prop_assert_eq!(set.count(), model.len());
            prop_assert_eq!(set.is_empty(), model.is_empty());
            let inside = model.range(from..from + length).count();
            prop_assert_eq!(set.count_in(from..from + length), inside);
            prop_assert_eq!(set.contains_any_in_range(from..from + length), inside > 0);
            prop_assert_eq!(set.contains(from), model.contains(&from));
            let gap = (from..from + length).find(|n| !model.contains(n));
            let gap = gap.map(|start| start..(start..from + length).find(|n| model.contains(n)).unwrap_or(from + length));
            prop_assert_eq!(set.gap_in(from..from + length), gap);
            prop_assert_eq!(set.difference(&others).collect::<BTreeSet<_>>(), &model - &second);
            prop_assert_eq!(set.complement().count(), LEN - model.len());
            let mut both = set.clone();
            both.intersect_with(&others);
            prop_assert_eq!(both.ones().collect::<BTreeSet<_>>(), &model & &second);
            set.difference_with(&others);
            prop_assert_eq!(set.ones().collect::<BTreeSet<_>>(), &model - &second);
            prop_assert_eq!(set.put(from), model.contains(&from) && !second.contains(&from));
            model = &model - &second;
            model.insert(from);
            prop_assert_eq!(set.count(), model.len());
        }
    }

    #[test]
    fn what_is_outside_is_never_in_it() {
        let mut set = ClusterSet::with_capacity(10);
        set.insert(10);
        set.insert(usize::MAX);
        set.insert_range(8..usize::MAX);
        assert_eq!(set.ones().collect::<Vec<_>>(), [8, 9]);
        assert!(!set.contains(10) && !set.contains(usize::MAX));
    }
}
