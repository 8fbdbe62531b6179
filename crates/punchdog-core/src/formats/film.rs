//! What a film's index says of its data: samples, each of which has to be what its track holds (ISO/IEC 14496-12, 8.7).
//!
//! ```text
//! trak, mdia, minf, stbl: stsd: kind of the samples (avc1 with avcC, hvc1 with hvcC, jpeg, mp4v, s263, mp4a)
//!   stsz: bytes of each sample     stsc: samples in a chunk     stco, co64: where chunks begin, from the file's first byte
//! ```
//!
//! A picture of AVC or HEVC is units, each behind its length (ISO/IEC 14496-15, 4.3.3): the lengths have to come out at
//! its end, and zeros in a row stand in none. That tells foreign bytes in the midst of the data, where nothing else does.

use super::{End, Format, Proof, Tape, Walked, Why, jpeg};
use crate::arith::{Peek, Sat};
use std::sync::Arc;

/// Samples of one track that are looked at, and chunks.
const SAMPLES: usize = 1 << 17;
const CHUNKS: usize = 1 << 16;
/// Samples of one film that are looked at.
const MOST: usize = 1 << 20;
/// Boxes within a fragment of a film.
const CHILDREN: usize = 4096;
/// Samples of one row of a fragment.
const FRAGMENT: usize = 1 << 14;
/// Samples before a broken one from which a walk can be gone on with.
const STANDS: usize = 512;
/// Tracks that are looked at.
pub(super) const TRACKS: usize = 8;
/// Units of one picture.
const UNITS: usize = 1 << 16;
/// Bytes of a table that are read at once.
const PART: u64 = 1 << 19;
/// Bytes of a sound of which one at least is not zero, in all but the shortest.
const SOUND: u64 = 16;

/// What samples have to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Holds {
    /// Units behind lengths of so many bytes, with heads as AVC has them.
    Avc(u8),
    /// The same with heads as HEVC has them.
    Hevc(u8),
    /// Pictures of their own: JPEG.
    Jpeg,
    /// MPEG-4 pictures (ISO/IEC 14496-2, 6.2.1): a start code.
    Visual,
    /// H.263 pictures (5.1.1): a start code of 22 bits.
    H263,
    /// AAC (ISO/IEC 14496-3, 4.4.2.1): it ends with an element of ones, so that there is something.
    Sound,
}

/// The tables of one track.
#[derive(Debug, Default)]
pub(super) struct Track {
    holds: Option<Holds>,
    sizes: Vec<u32>,
    /// First chunk (from 1), samples in each.
    runs: Vec<(u32, u32)>,
    chunks: Vec<u64>,
    /// The place of the last chunk.
    last: u64,
    /// Its number.
    id: u32,
    /// Bytes of samples in fragments that say nothing of it.
    usual: u32,
    /// Samples in fragments: where, and how many bytes.
    loose: Vec<(u64, u32)>,
}

impl Track {
    /// Takes a box of the sample table that stands at `from`, up to `end`; false where it cannot be.
    pub(super) fn take(&mut self, kind: [u8; 4], tape: &mut Tape<'_>, from: u64, end: u64) -> bool {
        let head = tape.at(from, 20).to_vec();
        let (rows, each, count) = match &kind {
            b"tkhd" => {
                self.id =
                    if head.byte(8) == 1 { tape.at(from, 32).be32(28) } else { tape.at(from, 24).be32(20) };
                return true;
            }
            b"stsd" => {
                self.holds = described(tape, from.plus(16), end).filter(|_| head.be32(12) == 1);
                return true;
            }
            // Samples that are all of one size are those of plain sound.
            b"stsz" if head.be32(12) != 0 => return true,
            b"stsz" => (from.plus(20), 4, head.be32(16)),
            b"stsc" => (from.plus(16), 12, head.be32(12)),
            b"stco" => (from.plus(16), 4, head.be32(12)),
            b"co64" => (from.plus(16), 8, head.be32(12)),
            _ => return true,
        };
        let most = if &kind == b"stsz" { SAMPLES } else { CHUNKS };
        let Some(bytes) = table(tape, (rows, end), count, each, most) else { return false };
        match &kind {
            b"stsz" => self.sizes = bytes.chunks_exact(4).map(|size| size.be32(0)).collect(),
            b"stsc" => self.runs = bytes.chunks_exact(12).map(|run| (run.be32(0), run.be32(4))).collect(),
            _ => {
                let place = |one: &[u8]| if one.len() == 4 { u64::from(one.be32(0)) } else { one.be64(0) };
                self.chunks = bytes.chunks_exact(each.size()).map(place).collect();
                let last = tape.at(rows.plus(u64::from(count.minus(1)).times(each)), each.size());
                self.last = if count == 0 { 0 } else { place(last) };
            }
        }
        true
    }

    /// Some of its samples stand in fragments.
    pub(super) fn is_in_fragments(&self) -> bool {
        !self.loose.is_empty()
    }

    /// The place of the last piece of data.
    pub(super) fn furthest(&self) -> u64 {
        self.last
    }

    /// Its samples, the track of that number.
    fn samples(&self, number: usize, list: &mut Vec<Sample>) {
        let Some(holds) = self.holds else { return };
        let track = number.narrow();
        list.extend(self.loose.iter().take(MOST.minus(list.len())).map(|(at, size)| Sample {
            at: *at,
            size: *size,
            track,
            holds,
        }));
        let mut sizes = self.sizes.iter();
        let mut run = 0_usize;
        for (chunk, place) in (1_u32..).zip(&self.chunks) {
            while self.runs.get(run.plus(1)).is_some_and(|(first, _)| *first <= chunk) {
                run = run.plus(1);
            }
            let many = self.runs.get(run).map_or(0, |(_, many)| many.size());
            let mut at = *place;
            for size in sizes.by_ref().take(many.min(MOST.minus(list.len()))) {
                list.push(Sample { at, size: *size, track, holds });
                at = at.plus(size.wide());
            }
        }
    }
}

/// What the index says of samples in fragments: `trex`, at `from`.
pub(super) fn take_usual(tape: &mut Tape<'_>, from: u64, tracks: &mut [Track]) {
    let head = tape.at(from, 28).to_vec();
    for track in tracks.iter_mut().filter(|track| track.id == head.be32(12)) {
        track.usual = head.be32(24);
    }
}

/// The samples of a fragment of a film (8.8): `moof` begins at `begin`, what is in it at `from`.
pub(super) fn take_fragment(tape: &mut Tape<'_>, (begin, from, end): (u64, u64, u64), tracks: &mut [Track]) {
    let mut at = from;
    for _ in 0..CHILDREN {
        let Some((kind, next)) = child(tape, at, end) else { return };
        if &kind == b"traf" {
            take_part(tape, begin, (at.plus(8), next), tracks);
        }
        at = next;
    }
}

/// The box at `at` within another: its kind, and where it ends.
fn child(tape: &mut Tape<'_>, at: u64, end: u64) -> Option<([u8; 4], u64)> {
    let head = tape.at(at, 8);
    let next = at.plus(u64::from(head.be32(0)));
    let kind = [head.byte(4), head.byte(5), head.byte(6), head.byte(7)];
    (next >= at.plus(8) && next <= end).then_some((kind, next))
}

/// What a fragment has of one track: `tfhd` says which and where the counting begins, each `trun` has a row of samples.
fn take_part(tape: &mut Tape<'_>, begin: u64, (from, end): (u64, u64), tracks: &mut [Track]) {
    let (mut at, mut base, mut next) = (from, begin, begin);
    let mut of: Option<(usize, u32)> = None;
    for _ in 0..CHILDREN {
        let Some((kind, stop)) = child(tape, at, end) else { return };
        let head = tape.at(at, 40).to_vec();
        let flags = head.be32(8) & 0xFF_FFFF;
        match &kind {
            b"tfhd" => {
                let index = tracks.iter().position(|track| track.id == head.be32(12));
                let own = if flags & 1 != 0 { 8 } else { 0 };
                base = if own > 0 { head.be64(16) } else { begin };
                next = base;
                let before = [2, 8].iter().filter(|flag| flags & **flag != 0).count();
                let told = head.be32(16_usize.plus(own).plus(before.times(4)));
                let usual = |index: usize| tracks.get(index).map_or(0, |track| track.usual);
                of = index.map(|index| (index, if flags & 0x10 != 0 { told } else { usual(index) }));
            }
            b"trun" => {
                let Some((track, size)) = of.and_then(|(index, size)| Some((tracks.get_mut(index)?, size)))
                else {
                    return;
                };
                let skip = [1, 4].iter().filter(|flag| flags & **flag != 0).count();
                if flags & 1 != 0 {
                    next = base.saturating_add_signed(i64::from(head.be32(16).cast_signed()));
                }
                let each = (flags & 0xF00).count_ones().times(4);
                let within = if flags & 0x100 != 0 { 4 } else { 0 };
                let rows = at.plus(16).plus(skip.times(4).wide());
                let most = SAMPLES.minus(track.loose.len()).min(FRAGMENT);
                let bytes = if each == 0 {
                    Some(Vec::new())
                } else {
                    table(tape, (rows, stop), head.be32(12), each.into(), most)
                };
                let Some(bytes) = bytes else { return };
                for row in 0..head.be32(12).size().min(most) {
                    let told = bytes.be32(row.times(each.size()).plus(within));
                    let size = if flags & 0x200 != 0 { told } else { size };
                    track.loose.push((next, size));
                    next = next.plus(u64::from(size));
                }
            }
            _ => {}
        }
        at = stop;
    }
}

/// One sample.
#[derive(Debug, Clone, Copy)]
struct Sample {
    at: u64,
    size: u32,
    track: u32,
    holds: Holds,
}

/// The samples of a film in the order in which they stand, those that are held against something.
#[derive(Debug, Clone, Default)]
pub(super) struct Samples(Arc<Vec<Sample>>);

/// A walk through the samples that stopped before one of them.
#[derive(Debug, Clone)]
pub(super) struct Stand {
    format: Format,
    samples: Samples,
    next: usize,
    /// Where the file ends.
    end: u64,
}

impl Stand {
    /// Bytes that were walked.
    pub(super) fn at(&self) -> u64 {
        self.samples.0.get(self.next).map_or(0, |sample| sample.at)
    }
    /// Goes on.
    pub(super) fn resume(&self, tape: &mut Tape<'_>) -> Walked {
        let rest = self.samples.0.get(self.next..).unwrap_or(&[]);
        let broken =
            rest.iter().find_map(|sample| one(tape, sample.holds, sample.at, sample.size.wide()).err());
        let whole = if self.end > tape.length() {
            End::early(tape.length(), tape.length())
        } else {
            End::whole(self.end, Proof::Structure)
        };
        Walked::of(self.format, broken.unwrap_or(whole))
    }
}

/// A table of `count` rows of `each` bytes; of longer ones than `most` rows the beginning. `None` where it does not fit.
fn table(
    tape: &mut Tape<'_>,
    (from, end): (u64, u64),
    count: u32,
    each: u64,
    most: usize,
) -> Option<Vec<u8>> {
    let length = u64::from(count).times(each);
    if from.plus(length) > end {
        return None;
    }
    let length = length.min(most.wide().times(each));
    let mut bytes = Vec::new();
    while bytes.len().wide() < length {
        let at = from.plus(bytes.len().wide());
        let part = tape.at(at, PART.min(length.minus(bytes.len().wide())).size());
        if part.is_empty() {
            return None;
        }
        bytes.extend_from_slice(part);
    }
    Some(bytes)
}

/// What the first description of samples, at `at`, says.
fn described(tape: &mut Tape<'_>, at: u64, end: u64) -> Option<Holds> {
    let head = tape.at(at, 8).to_vec();
    let stop = at.plus(u64::from(head.be32(0))).min(end);
    let wide = |tape: &mut Tape<'_>, name: &[u8; 4], byte: u64| {
        // What is told of a picture stands behind 86 bytes (ISO/IEC 14496-12, 12.1.3).
        let mut inner = at.plus(86);
        while inner.plus(8) <= stop {
            let head = tape.at(inner, 8).to_vec();
            let length = u64::from(head.be32(0));
            if head.part(4, 4) == name {
                return Some(tape.at(inner.plus(8).plus(byte), 1).byte(0) & 3);
            }
            if length < 8 {
                break;
            }
            inner = inner.plus(length);
        }
        None
    };
    match head.part(4, 4) {
        b"avc1" | b"avc3" => wide(tape, b"avcC", 4).map(|less| Holds::Avc(less.wrapping_add(1))),
        b"hvc1" | b"hev1" => wide(tape, b"hvcC", 21).map(|less| Holds::Hevc(less.wrapping_add(1))),
        b"jpeg" | b"mjpa" | b"mjpb" | b"dmb1" => Some(Holds::Jpeg),
        b"mp4v" => Some(Holds::Visual),
        b"s263" | b"h263" => Some(Holds::H263),
        b"mp4a" => Some(Holds::Sound),
        _ => None,
    }
}

impl Samples {
    /// Of these tracks.
    pub(super) fn of(tracks: &[Track]) -> Self {
        let mut list = Vec::new();
        tracks.iter().enumerate().for_each(|(number, track)| track.samples(number, &mut list));
        list.sort_unstable_by_key(|sample| sample.at);
        Self(Arc::new(list))
    }

    /// Where the last of them ends.
    pub(super) fn end(&self) -> u64 {
        self.0.iter().map(|sample| sample.at.plus(sample.size.wide())).max().unwrap_or(0)
    }

    /// Where one of them is not what it has to be, if any. Those of a track whose first are not stay out of it.
    pub(super) fn broken(&mut self, tape: &mut Tape<'_>) -> Option<(usize, End)> {
        let mut fitting = [(0_usize, true); TRACKS];
        let mut found = None;
        // What ends the last picture is not held against anything, nor is sound.
        let mut before = 0_u64;
        for (number, sample) in self.0.iter().enumerate() {
            let Some((seen, told)) = fitting.get_mut(sample.track.size()).filter(|(_, told)| *told) else {
                continue;
            };
            match one(tape, sample.holds, sample.at, sample.size.wide()) {
                Ok(()) => {
                    *seen = seen.plus(usize::from(sample.size > 0));
                    before = if sample.holds == Holds::Sound { before } else { sample.at };
                }
                // Writers differ: where the first one already begins otherwise, the track tells nothing.
                Err(end) if *seen == 0 && !begins_right(tape, sample, &end) => *told = false,
                Err(End::Broken { good, at, why }) if good == sample.at => {
                    found = Some((number, End::Broken { good: before.min(good), at, why }));
                    break;
                }
                Err(end) => {
                    found = Some((number, end));
                    break;
                }
            }
        }
        let told = |sample: &Sample| fitting.get(sample.track.size()).is_some_and(|(_, told)| *told);
        let (number, end) = found?;
        // What is gone on with is told of: the others are left out.
        let number = self.0.iter().take(number).filter(|sample| told(sample)).count();
        Arc::make_mut(&mut self.0).retain(told);
        Some((number, end))
    }

    /// The places to go on from, up to the sample of this number, back to the first in its cluster.
    pub(super) fn stands(
        &self,
        format: Format,
        (number, good): (usize, u64),
        grid: u64,
        end: u64,
    ) -> Vec<Stand> {
        let least = good.minus(grid.times(2));
        let stand = |next: usize| Stand { format, samples: self.clone(), next, end };
        let first = self.0.partition_point(|sample| sample.at < least).max(number.minus(STANDS));
        (first..=number).map(stand).collect()
    }
}

/// The first sample of a track begins as those of its kind do, and broke behind that. A picture of JPEG may lack the tables
/// that all pictures of the film share; start codes instead of lengths are another way to write units.
fn begins_right(tape: &mut Tape<'_>, sample: &Sample, end: &End) -> bool {
    let End::Broken { at, .. } = end else { return true };
    let coded = matches!(tape.at(sample.at, 4), [0, 0, 1, _] | [0, 0, 0, 1]);
    match sample.holds {
        Holds::Avc(_) | Holds::Hevc(_) => *at > sample.at && !coded,
        Holds::Visual | Holds::H263 => *at > sample.at,
        Holds::Jpeg | Holds::Sound => false,
    }
}

/// One sample of `size` bytes at `at`.
fn one(tape: &mut Tape<'_>, holds: Holds, at: u64, size: u64) -> Result<(), End> {
    if at.plus(size) > tape.length() {
        return Err(End::early(at.min(tape.length()), tape.length()));
    }
    let begins = |tape: &mut Tape<'_>, fits: &dyn Fn(&[u8]) -> bool| {
        let head = tape.at(at, 4).to_vec();
        if size < 4 || fits(&head) {
            Ok(())
        } else {
            Err(unfit(tape, at, at, "no picture of the film begins"))
        }
    };
    // Three zeros in a row stand in no code of theirs.
    let without = |tape: &mut Tape<'_>| match blank(tape, at, at.plus(size), 0) {
        Some(blank) => Err(unfit(tape, at, blank, "bytes that no picture of the film has")),
        None => Ok(()),
    };
    match holds {
        Holds::Avc(wide) | Holds::Hevc(wide) => units(tape, (holds, u64::from(wide)), at, size),
        Holds::Jpeg if size <= PART => {
            let bytes = tape.at(at, size.size()).to_vec();
            let picture: &[u8] = &bytes;
            match jpeg::walk(&mut Tape::new(&picture), None).0.end {
                End::Whole { .. } => Ok(()),
                // Codes go on over what is not theirs for a while.
                End::Broken { at: byte, why, .. } => Err(End::Broken { good: at, at: at.plus(byte), why }),
            }
        }
        Holds::Jpeg => begins(tape, &|head| head.starts_with(&[0xFF, 0xD8])),
        Holds::Visual => begins(tape, &|head| head.starts_with(&[0, 0, 1])).and_then(|()| without(tape)),
        Holds::H263 => begins(tape, &|head| head.starts_with(&[0, 0]) && head.byte(2) & 0xFC == 0x80)
            .and_then(|()| without(tape)),
        Holds::Sound => {
            let blank = size >= SOUND && tape.at(at, size.min(PART).size()).iter().all(|byte| *byte == 0);
            if blank { Err(End::Broken { good: at, at, why: Why::Zeros }) } else { Ok(()) }
        }
    }
}

/// The units of a picture.
fn units(tape: &mut Tape<'_>, (holds, wide): (Holds, u64), from: u64, size: u64) -> Result<(), End> {
    let end = from.plus(size);
    let (mut at, mut good) = (from, from);
    for _ in 0..UNITS {
        // Some writers fill a picture up.
        if at.plus(wide) >= end {
            return Ok(());
        }
        let head = tape.at(at, wide.plus(2).size()).to_vec();
        let length =
            head.part(0, wide.size()).iter().fold(0_u64, |sum, byte| sum.wrapping_shl(8) | u64::from(*byte));
        let kind = head.part(wide.size(), 2);
        let fits = match holds {
            _ if length == 0 => false,
            Holds::Hevc(_) => kind.byte(0) & 0x80 == 0 && (length < 2 || kind.byte(1) & 7 != 0),
            _ => kind.byte(0) & 0x80 == 0 && kind.byte(0) & 0x1F != 0,
        };
        if !fits || at.plus(wide).plus(length) > end {
            return Err(unfit(tape, good, at, "no unit of a picture begins"));
        }
        let next = at.plus(wide).plus(length);
        if let Some(blank) = blank(tape, at.plus(wide), next, 2) {
            return Err(unfit(tape, at, blank, "bytes that no picture of the film has"));
        }
        good = at;
        at = next;
    }
    Ok(())
}

/// The first place where two zeros are followed by what stands there in no unit (ISO/IEC 14496-10, 7.4.1): 0 to `upto`.
/// Zeros that go on to its end are what some writers fill it up with.
fn blank(tape: &mut Tape<'_>, from: u64, end: u64, upto: u8) -> Option<u64> {
    let mut at = from;
    while at.plus(3) <= end {
        let length = PART.min(end.minus(at)).size();
        let bytes = tape.at(at, length);
        if bytes.len() < 3 {
            return None;
        }
        let found = memchr::memmem::find_iter(bytes, &[0, 0])
            .find(|zeros| bytes.get(zeros.plus(2)).is_some_and(|byte| *byte <= upto));
        let Some(found) = found else {
            at = at.plus(bytes.len().minus(2).wide());
            continue;
        };
        let place = at.plus(found.wide());
        return (!is_blank(tape, place, end)).then_some(place);
    }
    None
}

/// Nothing but zeros.
fn is_blank(tape: &mut Tape<'_>, mut at: u64, end: u64) -> bool {
    while at < end {
        let bytes = tape.at(at, PART.min(end.minus(at)).size());
        if bytes.is_empty() || bytes.iter().any(|byte| *byte != 0) {
            return false;
        }
        at = at.plus(bytes.len().wide());
    }
    true
}

/// What does not fit at `at`; all before `good` does.
fn unfit(tape: &mut Tape<'_>, good: u64, at: u64, what: &'static str) -> End {
    let zeros = tape.at(at, 512).iter().all(|byte| *byte == 0);
    End::Broken { good, at, why: if zeros { Why::Zeros } else { Why::Unfit(what) } }
}
