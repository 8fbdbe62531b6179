//! Reading a medium from end to end, the good parts first.
//!
//! ```text
//! forth    1 MiB at a time; where a read fails, step away, further each time it fails again
//! back     what was stepped over, from its end
//! narrow   what failed, 64 KiB at a time
//! edges    what still failed, sector by sector, from its front to the first failure and from its back to the first
//! inside   what lies between, sector by sector
//! again    sectors that failed, as often as is asked for
//! ```
//!
//! A failing medium may not live through many tries: what can be had easily is had before anything is tried hard. At
//! every moment the places are known that were not read yet, so that stopping loses nothing.

use super::list::{List, Listed, State};
use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError},
};
use rangemap::RangeMap;
use std::{io, ops::Range, time::Duration};

/// Bytes of a long read.
const LONG: u64 = 1 << 20;
/// Bytes that a file's host is told of ahead.
const AHEAD: u64 = 8 << 20;
/// Bytes of a shorter one.
const SHORT: u64 = 64 << 10;
/// The longest step away from a failure, as a part of the medium.
const STEPS: u64 = 64;
/// Reads that fail one after the other before it is asked whether the medium is still there.
const DOUBT: u32 = 16;
/// A long read that takes this long is slow.
const SLOW: Duration = Duration::from_millis(500);
/// A read of a sector that takes this long is slow.
const SLOW_SECTOR: Duration = Duration::from_millis(100);

/// What the search needs of the world.
pub trait Host {
    /// Time since some moment.
    fn now(&self) -> Duration;
    /// Takes bytes that were read.
    ///
    /// # Errors
    /// Where they cannot be kept: the search ends there, and they count as not read.
    fn save(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()>;
    /// Tells how far it is; returns true to stop.
    fn at(&mut self, progress: &Progress<'_>) -> bool;
}

/// How far the search is.
pub struct Progress<'p> {
    /// What is being done.
    pub doing: &'static str,
    /// Bytes of the source.
    pub bytes: u64,
    /// Bytes that were not read yet.
    pub left: u64,
    /// Bytes that cannot be read.
    pub unreadable: u64,
    /// Bytes that were slow.
    pub slow: u64,
    /// The list as it stands, for keeping it from time to time.
    pub list: &'p dyn Fn() -> List,
}

/// How a search ended.
#[derive(Debug)]
pub enum End {
    /// Everything was tried.
    Done,
    /// It was told to stop.
    Stopped,
    /// What was read could not be kept.
    NotSaved(io::Error),
    /// The medium does not answer any more, also where it did before.
    Gone,
}

/// The places, each with what is known of it; what has no state was read.
type Places = RangeMap<u64, State>;

/// A search.
pub struct Search<'m> {
    medium: &'m dyn Medium,
    list: List,
    places: Places,
    /// Failed in reads longer than a sector.
    failed: Places,
    /// Bytes in each state: unreadable, slow, untried.
    totals: [u64; 3],
    /// A place that was read.
    good: Option<u64>,
    failures: u32,
    buffer: Vec<u8>,
}

fn index(state: State) -> usize {
    match state {
        State::Unreadable => 0,
        State::Slow => 1,
        State::Untried => 2,
    }
}

enum Got {
    Read,
    Failed,
}

impl<'m> Search<'m> {
    /// Goes on where `list` ends.
    pub fn new(medium: &'m dyn Medium, list: List) -> Self {
        let mut search = Self {
            medium,
            places: Places::new(),
            failed: Places::new(),
            totals: [0; 3],
            good: None,
            failures: 0,
            buffer: vec![0; LONG.size()],
            list,
        };
        for place in search.list.extents.clone() {
            search.set(place.offset..place.extent().end(), Some(place.state));
        }
        search
    }

    /// The list as it stands.
    pub fn list(&self) -> List {
        let extents: Vec<Listed> = self
            .places
            .iter()
            .map(|(range, state)| Listed {
                offset: range.start,
                length: range.end.minus(range.start),
                state: *state,
            })
            .collect();
        List { done: self.totals[2] == 0, extents, ..self.list.clone() }
    }

    fn set(&mut self, range: Range<u64>, state: Option<State>) {
        if range.is_empty() {
            return;
        }
        for (old, state) in self.places.overlapping(&range) {
            let length = old.end.min(range.end).minus(old.start.max(range.start));
            if let Some(total) = self.totals.get_mut(index(*state)) {
                *total = total.minus(length);
            }
        }
        match state {
            Some(state) => {
                if let Some(total) = self.totals.get_mut(index(state)) {
                    *total = total.plus(range.end.minus(range.start));
                }
                self.places.insert(range, state);
            }
            None => self.places.remove(range),
        }
    }

    fn all(&self, state: State) -> Vec<Range<u64>> {
        self.places.iter().filter(|(_, of)| **of == state).map(|(range, _)| range.clone()).collect()
    }

    /// Untried places of which no read has failed yet.
    fn fresh(&self) -> Vec<Range<u64>> {
        let mut found = Vec::new();
        for range in self.all(State::Untried) {
            found.extend(self.failed.gaps(&range));
        }
        found
    }

    /// Untried places of which a longer read failed.
    fn narrowed(&self) -> Vec<Range<u64>> {
        self.failed.iter().map(|(range, _)| range.clone()).collect()
    }

    /// Tries everything; `tries` further times what fails.
    pub fn run(&mut self, tries: u32, host: &mut dyn Host) -> End {
        match self.stages(tries, host) {
            Ok(()) => End::Done,
            Err(end) => end,
        }
    }

    fn stages(&mut self, tries: u32, host: &mut dyn Host) -> Result<(), End> {
        let before = self.all(State::Unreadable);
        self.forth(host)?;
        self.back(host)?;
        for range in self.narrowed() {
            self.row(range, SHORT, "narrowing down", host)?;
        }
        for range in self.narrowed() {
            self.edges(range, host)?;
        }
        for range in self.narrowed() {
            self.inside(range, host)?;
        }
        // Those of an earlier run have had a rest.
        for range in before {
            self.retry(range, host)?;
        }
        for _ in 0..tries {
            for range in self.all(State::Unreadable) {
                self.retry(range, host)?;
            }
        }
        Ok(())
    }

    fn forth(&mut self, host: &mut dyn Host) -> Result<(), End> {
        let longest = self.medium.len().per(STEPS).max(LONG);
        for range in self.fresh() {
            let (mut at, mut step) = (range.start, LONG);
            let (mut data_end, mut asked) = (at, at);
            while at < range.end {
                if at >= data_end {
                    // A hole needs no reading: there are zeros.
                    let after = Extent::new(range.end, 0);
                    let data = self.medium.data_from(at).unwrap_or(after);
                    data_end = data.end().min(range.end).max(at.plus(1));
                    let hole = data.offset.min(range.end).per(self.list.sector).times(self.list.sector);
                    if hole > at {
                        self.set(at..hole, None);
                        at = hole;
                        continue;
                    }
                }
                let end = at.plus(LONG).per(LONG).times(LONG).min(range.end);
                // Nothing is asked of a medium ahead: only of a file in the host's cache.
                let ahead = end.plus(AHEAD).min(data_end);
                if ahead > asked {
                    let from = asked.max(end);
                    self.medium.soon(Extent::new(from, ahead.minus(from)));
                    asked = ahead;
                }
                match self.read(at..end, "reading", host)? {
                    Got::Read => {
                        step = LONG;
                        at = end;
                    }
                    Got::Failed => {
                        self.failed.insert(at..end, State::Untried);
                        at = end.plus(step);
                        step = step.times(2).min(longest);
                    }
                }
            }
        }
        Ok(())
    }

    fn back(&mut self, host: &mut dyn Host) -> Result<(), End> {
        let longest = self.medium.len().per(STEPS).max(LONG);
        // What lies between the steps of one stretch is stepped through from its end, and again until nothing is
        // left that no read has touched.
        loop {
            let fresh = self.fresh();
            if fresh.is_empty() {
                return Ok(());
            }
            for range in fresh.into_iter().rev() {
                let (mut end, mut step) = (range.end, LONG);
                while end > range.start {
                    let at = end.minus(1).per(LONG).times(LONG).max(range.start);
                    match self.read(at..end, "reading what was stepped over", host)? {
                        Got::Read => {
                            step = LONG;
                            end = at;
                        }
                        Got::Failed => {
                            self.failed.insert(at..end, State::Untried);
                            end = at.minus(step);
                            step = step.times(2).min(longest);
                        }
                    }
                }
            }
        }
    }

    /// Reads a range in steps; what fails stays as it is.
    fn row(
        &mut self,
        range: Range<u64>,
        step: u64,
        doing: &'static str,
        host: &mut dyn Host,
    ) -> Result<(), End> {
        let mut at = range.start;
        while at < range.end {
            let end = at.plus(step).per(step).times(step).min(range.end);
            self.read(at..end, doing, host)?;
            at = end;
        }
        Ok(())
    }

    /// From both sides to the first sector that fails.
    fn edges(&mut self, range: Range<u64>, host: &mut dyn Host) -> Result<(), End> {
        let sector = self.list.sector;
        let mut at = range.start;
        while at < range.end {
            let end = at.plus(sector).min(range.end);
            if let Got::Failed = self.read(at..end, "finding the edges", host)? {
                self.fails(at..end);
                break;
            }
            at = end;
        }
        let mut end = range.end;
        while end > at.plus(sector) {
            let start = end.minus(1).per(sector).times(sector).max(at);
            if let Got::Failed = self.read(start..end, "finding the edges", host)? {
                self.fails(start..end);
                break;
            }
            end = start;
        }
        Ok(())
    }

    fn inside(&mut self, range: Range<u64>, host: &mut dyn Host) -> Result<(), End> {
        let sector = self.list.sector;
        let mut at = range.start;
        while at < range.end {
            let end = at.plus(sector).min(range.end);
            if let Got::Failed = self.read(at..end, "reading sector by sector", host)? {
                self.fails(at..end);
            }
            at = end;
        }
        Ok(())
    }

    fn retry(&mut self, range: Range<u64>, host: &mut dyn Host) -> Result<(), End> {
        self.row(range, self.list.sector, "trying again", host)
    }

    /// A sector that failed alone.
    fn fails(&mut self, range: Range<u64>) {
        self.failed.remove(range.clone());
        self.set(range, Some(State::Unreadable));
    }

    fn read(&mut self, range: Range<u64>, doing: &'static str, host: &mut dyn Host) -> Result<Got, End> {
        let list = || self.list();
        let progress = Progress {
            doing,
            bytes: self.list.source.bytes,
            left: self.totals[2],
            unreadable: self.totals[0],
            slow: self.totals[1],
            list: &list,
        };
        if host.at(&progress) {
            return Err(End::Stopped);
        }
        let length = range.end.minus(range.start);
        let alone = length <= self.list.sector;
        let bytes = self.buffer.get_mut(..length.size()).unwrap_or(&mut []);
        let before = host.now();
        let got = self.medium.read_at(range.start, bytes);
        let took = host.now().saturating_sub(before);
        match got {
            Ok(()) => {
                host.save(range.start, bytes).map_err(End::NotSaved)?;
                self.failures = 0;
                self.good = Some(range.start);
                self.failed.remove(range.clone());
                let slow = took > if alone { SLOW_SECTOR } else { SLOW };
                self.set(range, slow.then_some(State::Slow));
                Ok(Got::Read)
            }
            Err(MediumError::Unreadable { .. }) => {
                self.failures = self.failures.plus(1);
                if self.failures.rest(DOUBT) == 0 {
                    self.ask()?;
                }
                Ok(Got::Failed)
            }
            Err(_) => Err(End::Gone),
        }
    }

    /// Is the medium still there? A place that was read tells.
    fn ask(&mut self) -> Result<(), End> {
        let Some(good) = self.good else { return Ok(()) };
        let mut bytes = vec![0; self.list.sector.min(self.medium.len().minus(good)).size()];
        self.medium.read_at(good, &mut bytes).map_err(|_| End::Gone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::{Extent, Memory, WithUnreadable};
    use proptest::prelude::*;

    /// Keeps what is saved; stops after so many reads.
    struct Kept {
        bytes: Vec<u8>,
        reads: u32,
        stop: u32,
    }

    impl Host for Kept {
        fn now(&self) -> Duration {
            Duration::ZERO
        }
        fn save(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
            self.bytes[offset.size()..offset.size() + bytes.len()].copy_from_slice(bytes);
            Ok(())
        }
        fn at(&mut self, _: &Progress<'_>) -> bool {
            self.reads += 1;
            self.reads > self.stop
        }
    }

    fn kept(length: usize, stop: u32) -> Kept {
        Kept { bytes: vec![0; length], reads: 0, stop }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        /// Whatever fails, and however often it is stopped: every sector that can be read is read, every other is
        /// listed, and no byte is listed twice.
        #[test]
        fn every_sector_is_read_or_listed(
            length in 1_u64..9_000_000,
            bad in prop::collection::vec((0_u64..17_600, 1_u64..300), 0..12),
            stop in 1_u32..400,
        ) {
            let bytes: Vec<u8> = (0..length).map(|n| (n.wrapping_mul(2_654_435_761) >> 11_u32).to_le_bytes()[0] | 1).collect();
            let bad: Vec<Extent> = bad.into_iter()
                .map(|(at, count)| Extent::new(at * 512, count * 512))
                .filter(|place| place.offset < length)
                .map(|place| Extent::new(place.offset, place.length.min(length - place.offset)))
                .collect();
            let inner = Memory::new(bytes.clone());
            let mut list = List::untried("x", length, 512);
            let mut saved = vec![0; length.size()];
            for run in 0..10_000 {
                // A new medium each time: what one run met is not known to the next.
                let medium = WithUnreadable::new(&inner, bad.clone());
                let mut search = Search::new(&medium, list.clone());
                let mut host = kept(length.size(), stop.saturating_mul(run + 1));
                let end = search.run(0, &mut host);
                list = search.list();
                for (place, byte) in saved.iter_mut().zip(host.bytes).filter(|(_, byte)| *byte != 0) {
                    *place = byte;
                }
                if matches!(end, End::Done) {
                    break;
                }
            }
            prop_assert!(list.done);
            let mut expected = bytes;
            for place in &bad {
                expected[place.offset.size()..place.end().size()].fill(0);
            }
            prop_assert!(saved == expected);
            let known: rangemap::RangeSet<u64> = bad.iter().map(|p| p.offset..p.end()).collect();
            let listed: rangemap::RangeSet<u64> = list.unknown().iter().map(|p| p.offset..p.end()).collect();
            prop_assert_eq!(known, listed);
        }
    }

    /// Fails from byte 32 Mi on for 24 MiB; counts what was read, what failed, and what had failed by the time that all
    /// else was read.
    struct Fails(std::sync::Mutex<(u64, u64, u64)>);

    impl Medium for Fails {
        fn len(&self) -> u64 {
            256 << 20
        }
        fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
            let mut seen = self.0.lock().unwrap();
            if Extent::new(offset, into.len().wide()).overlaps(Extent::new(32 << 20, 24 << 20)) {
                seen.1 += 1;
                let source = io::Error::other("failed");
                return Err(MediumError::Unreadable { offset, length: into.len().wide(), source });
            }
            seen.0 += into.len().wide();
            if seen.0 == (256 - 24) << 20 {
                seen.2 = seen.1;
            }
            Ok(())
        }
    }

    #[test]
    fn the_good_parts_come_first() {
        let medium = Fails(std::sync::Mutex::new((0, 0, 0)));
        let mut search = Search::new(&medium, List::untried("x", medium.len(), 512));
        let mut host = kept(256 << 20, u32::MAX);
        assert!(matches!(search.run(0, &mut host), End::Done));
        assert_eq!(search.list().bytes_in(State::Unreadable), 24 << 20);
        let seen = medium.0.lock().unwrap();
        assert!(seen.2 > 0 && seen.2 < 40, "{} failing reads before the good parts were had", seen.2);
    }

    /// Answers twenty times, and never again.
    struct Going(std::sync::atomic::AtomicU32);

    impl Medium for Going {
        fn len(&self) -> u64 {
            64 << 20
        }
        fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
            if self.0.fetch_add(1, std::sync::atomic::Ordering::SeqCst) < 20 {
                return Ok(());
            }
            let source = io::Error::other("no such device");
            Err(MediumError::Unreadable { offset, length: into.len().wide(), source })
        }
    }

    #[test]
    fn a_medium_that_is_gone_is_not_called_unreadable() {
        let medium = Going(0.into());
        let mut search = Search::new(&medium, List::untried("x", 64 << 20, 512));
        let mut host = kept(64 << 20, u32::MAX);
        assert!(matches!(search.run(3, &mut host), End::Gone));
        let list = search.list();
        assert_eq!((list.bytes_in(State::Unreadable), list.done), (0, false));
        assert_eq!(list.bytes_in(State::Untried), 44 << 20);
    }
}
