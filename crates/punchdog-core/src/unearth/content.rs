//! Files by their content: beginnings of known kinds in free space, each walked to its end.
//!
//! The space is read in order, in parts that are searched side by side; a file that begins in one part may end in
//! another. What begins within a file that was found whole is no file of its own.

use super::{
    Complete, Error, Find, Search, Take,
    find::stretches,
    ground::{Rest, SECTOR},
    pieces::{Together, joined},
};
use crate::{
    arith::Sat,
    files::{content::Content, path::TreePath, record::State},
    formats::{self, BEGINNING, End, Format, Proof, Tape, Walked, Why},
    medium::Extent,
};
use rangemap::RangeSet;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// The folder for files that were found by their content.
const UNNAMED: &str = "UNNAMED";
/// Bytes that are searched as one part, and parts that are taken up at once.
const PART: u64 = 16 << 20;
const PARTS: u64 = 8;
/// Bytes that are read at once, and how many behind a file, where the next one mostly begins.
const READ: u64 = 1 << 20;
const BEHIND: u64 = 16 << 10;
/// Broken beginnings that are kept for a second look.
const MOST_BROKEN: usize = 200_000;

/// A beginning that was found, and what walking on from there came to.
struct Hit {
    start: u64,
    walked: Walked,
    /// Where it stands, as far as it fits.
    places: Vec<Extent>,
    /// Where that stands which is surely its own, although it breaks: nothing in it is a file by itself.
    head: Vec<Extent>,
    /// What it was put together of, where that is pieces that lie apart.
    together: Option<Together>,
}

/// A file whose structure broke: it may go on elsewhere.
#[derive(Debug, Clone)]
pub(super) struct Pending {
    pub(super) start: u64,
    pub(super) walked: Walked,
}

impl Search<'_> {
    /// Searches from `from` on; gives how far it came.
    pub(super) fn by_content(
        &mut self,
        from: u64,
        pending: &mut Vec<Pending>,
        take: &mut Take<'_>,
    ) -> Result<u64, Error> {
        let end = self.wish.range.end().min(self.ground.end());
        let mut at = from;
        let mut found: BTreeMap<&'static str, u64> = BTreeMap::new();
        while at < end && !self.watch.stop() {
            self.watch.at(&said(&found), at, end);
            // Parts begin where something may be.
            let mut parts = Vec::new();
            while parts.len().wide() < PARTS
                && let Some(next) = self.next_data(at).filter(|next| *next < end)
            {
                let part = Extent::new(next, end.minus(next).min(PART));
                at = part.end();
                parts.push(part);
            }
            if parts.is_empty() {
                at = end;
                break;
            }
            let hits: Vec<Vec<Hit>> = parts.par_iter().with_max_len(1).map(|part| self.part(*part)).collect();
            for hit in hits.into_iter().flatten() {
                if self.claimed.contains(&hit.start) {
                    continue;
                }
                let group = hit.walked.format.group();
                let ends = match &hit.walked.end {
                    _ if hit.together.is_some() => true,
                    End::Broken { why: Why::NeverClosed(_), .. } | End::Whole { .. } => true,
                    End::Broken { .. } => false,
                };
                // What was found meanwhile can lie in the second piece.
                let overlaps = hit.together.as_ref().is_some_and(|film| self.claimed_in(&film.places));
                if ends && !overlaps {
                    let places = hit.together.as_ref().map_or(&hit.places, |film| &film.places);
                    for place in places {
                        self.claim(*place);
                    }
                    if self.wish.wants(group) && !places.is_empty() {
                        let count = found.entry(group.name()).or_default();
                        *count = count.plus(1);
                        take(match &hit.together {
                            Some(film) => joined(film, hit.start),
                            None => unnamed(&hit.walked, hit.start, &hit.places),
                        })?;
                    }
                } else if self.wish.wants(group)
                    && pending.len() < MOST_BROKEN
                    && !self.starts.contains(&hit.start)
                {
                    pending.push(Pending { start: hit.start, walked: hit.walked });
                }
            }
        }
        Ok(at)
    }

    /// Some of these bytes belong to a file that was found.
    pub(super) fn claimed_in(&self, places: &[Extent]) -> bool {
        places.iter().any(|place| self.claimed.overlaps(&(place.offset..place.end())))
    }

    /// These bytes belong to a file that was found.
    pub(super) fn claim(&mut self, place: Extent) {
        if place.length > 0 {
            self.claimed.insert(place.offset..place.end());
        }
    }

    /// The next place from `at` on where a file may begin: free, and no hole.
    fn next_data(&self, mut at: u64) -> Option<u64> {
        loop {
            let free = self.ground.free_from(at)?;
            let data = self.image.data_from(free.offset)?;
            if data.offset < free.end() {
                let skipped = data.offset.minus(free.offset).per(SECTOR).times(SECTOR);
                return Some(free.offset.plus(skipped));
            }
            at = data.offset.max(free.end());
        }
    }

    /// Searches one part.
    fn part(&self, part: Extent) -> Vec<Hit> {
        let mut hits = Vec::new();
        let mut mine: RangeSet<u64> = RangeSet::new();
        let mut block: (u64, Vec<u8>) = (0, Vec::new());
        let mut at = part.offset;
        while let Some(free) = self.ground.free_from(at).filter(|free| free.offset < part.end()) {
            let end = free.end().min(part.end());
            at = self.ground.step_up(free.offset.max(at));
            while at < end {
                if let Some(over) = self.claimed.get(&at).or_else(|| mine.get(&at)) {
                    at = self.ground.step_up(over.end.min(end.plus(SECTOR)).max(at.plus(1)));
                    continue;
                }
                let behind = at.minus(block.0);
                // The last sector of an image can be cut.
                let needed = self.image.len().minus(at).min(BEGINNING.wide());
                if at < block.0 || behind.plus(needed) > block.1.len().wide() {
                    let Some(data) = self.image.data_from(at).filter(|data| data.offset < end) else {
                        at = end;
                        break;
                    };
                    if data.offset >= at.plus(SECTOR) {
                        let skipped = data.offset.minus(at).per(SECTOR).times(SECTOR);
                        at = at.plus(skipped);
                        continue;
                    }
                    let goes_on = at == block.0.plus(block.1.len().wide());
                    let length = self.image.len().minus(at).min(if goes_on { READ } else { BEHIND });
                    block.1.resize(length.size(), 0);
                    block.0 = at;
                    if self.image.read_at(at, &mut block.1).is_err() {
                        block.1 = self.image.lenient(at, length.size()).bytes;
                    }
                    continue;
                }
                let start = behind.size();
                let bytes = block.1.get(start..start.plus(BEGINNING).min(block.1.len())).unwrap_or(&[]);
                if let Some(format) = formats::begins(bytes)
                    && let Some(hit) = self.hit(at, format)
                {
                    let own = match (&hit.together, &hit.walked.end) {
                        (Some(film), _) => film.places.as_slice(),
                        (None, End::Whole { .. }) => hit.places.as_slice(),
                        (None, End::Broken { .. }) => hit.head.as_slice(),
                    };
                    mine.extend(own.iter().map(|place| place.offset..place.end()));
                    hits.push(hit);
                }
                at = at.plus(SECTOR);
            }
            at = at.max(free.end().min(part.end()));
            if at >= part.end() {
                break;
            }
        }
        hits
    }

    /// Walks the file that begins at `at`.
    fn hit(&self, at: u64, format: Format) -> Option<Hit> {
        let rest = Rest::new(self.image, &self.ground, &self.claimed, at);
        let mut walked = formats::walk(format, &mut Tape::new(&rest));
        // Where the index of a film is not where its data ends, that was written around something.
        let never = matches!(walked.end, End::Broken { why: Why::NeverClosed(_), .. });
        let together = if never { self.film(&rest, at, &walked) } else { None };
        let length = length_of(&walked);
        let places = rest.places_up_to(length);
        let there = places.iter().fold(0_u64, |sum, place| sum.plus(place.length));
        if there < length {
            // The free space is shorter than the walk took it for.
            walked.end = End::early(there, there);
        }
        let head = match walked.end {
            End::Broken { .. } => rest.places_up_to(formats::own_head(format, &mut Tape::new(&rest))),
            End::Whole { .. } => Vec::new(),
        };
        // What breaks early may go on elsewhere.
        let strong = !formats::is_weak(format);
        (strong || walked.is_worth_keeping()).then_some(Hit { start: at, walked, places, head, together })
    }

    /// The same for a beginning that is known from an earlier search.
    pub(super) fn again(&self, at: u64) -> Option<Pending> {
        let bytes = self.image.lenient(at, BEGINNING).bytes;
        let hit = self.hit(at, formats::begins(&bytes)?)?;
        Some(Pending { start: at, walked: hit.walked })
    }
}

/// Bytes that a walk came through.
pub(super) fn length_of(walked: &Walked) -> u64 {
    match walked.end {
        End::Whole { length, .. } => length,
        End::Broken { good, at, .. } => good.max(at),
    }
}

fn said(found: &BTreeMap<&'static str, u64>) -> String {
    let parts: Vec<String> = found.iter().map(|(name, count)| format!("{count} {name}")).collect();
    if parts.is_empty() { "searching by content".to_owned() } else { parts.join(", ") }
}

/// A file that was found by its content.
pub(super) fn unnamed(walked: &Walked, start: u64, places: &[Extent]) -> Find {
    let group = walked.format.group();
    let length = places.iter().fold(0_u64, |sum, place| sum.plus(place.length));
    let (complete, reason) = match &walked.end {
        End::Whole { proof: Proof::Content, .. } => {
            (Complete::Yes, "walked to its end, and all of its content fits".to_owned())
        }
        End::Whole { proof: Proof::Structure, .. } => (
            Complete::Likely,
            "its structure fits to its end; nothing in it proves the bytes between".to_owned(),
        ),
        End::Broken { at, why, .. } => {
            let kept = if walked.reaches.is_some() { "; what follows is kept as it stands" } else { "" };
            (Complete::No, format!("it breaks at its byte {at}: {}{kept}", why.words()))
        }
    };
    let said = match (walked.taken, &walked.title) {
        (Some(time), _) => time.strftime("%Y-%m-%d %H.%M.%S, ").to_string(),
        (None, Some(title)) => format!("{}, ", clean(title)),
        (None, None) => String::new(),
    };
    let name = format!("{said}at byte {start}.{}", walked.format.extension());
    Find {
        path: TreePath::in_root(UNNAMED).child(group.name()).child(&name),
        size: length,
        state: State::Unnamed,
        evidence: format!("its content: a {}", walked.format.title()),
        complete,
        reason,
        modified: walked.taken,
        extents: stretches(&Content::stored(places.iter().copied(), length)),
    }
}

/// What can be part of a name.
fn clean(title: &str) -> String {
    let fits = |letter: char| letter.is_alphanumeric() || " .,-_()+".contains(letter);
    let text: String = title.chars().map(|letter| if fits(letter) { letter } else { '_' }).collect();
    text.trim().trim_matches('.').to_owned()
}
