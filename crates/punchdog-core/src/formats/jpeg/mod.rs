//! JPEG pictures (ITU-T T.81).
//!
//! ```text
//! FF D8                      start
//! FF xx, length (2), …       segments: E0 to EF for programs (E1: EXIF), DB quantisation, C4 codes, DD restart interval
//! FF C0/C1/C2 …              frame: precision (1), height (2), width (2), components (1), of each: id, sampling, table
//! FF DA …                    scan: components, of each: id, tables; first and last coefficient, bit positions
//! codes …                    FF 00 stands for FF; FF D0 to D7 at restart intervals
//! FF D9                      end
//! ```
//!
//! Nothing in the codes says where the next piece of the file is missing, so they are decoded: a picture has exactly as
//! many blocks as its frame says, no block has more than 64 coefficients, and no sum of differences leaves its range.
//! Bytes of another picture, of text or noise offend one of these within a few hundred bytes.

mod frame;
mod huffman;
mod rows;
pub(super) mod segments;
mod units;

use super::{End, Format, Proof, Tape, Walked};
use crate::arith::{Peek, Sat};
use frame::{Component, Frame, Head, Part, Scan, State, UNIT};
use huffman::{Bits, Codes};
use jiff::civil::DateTime;
use rows::Rows;
use std::{collections::VecDeque, sync::Arc};
use units::{DOWN, Edges, progressive, unit, unit_with_edges};

/// Blocks of a progressive picture of which is remembered which coefficients they have: 8 bytes each.
const REMEMBERED: usize = 4 << 20;
/// What is wrong where units do not lie where they should.
const FOREIGN: &str = "another picture's data";
/// Places kept at which a walk can be gone on with.
const STANDS: usize = 64;

/// A place at which a walk can be gone on with: nothing from there on was read.
#[derive(Debug, Clone)]
pub(super) struct Stand {
    at: u64,
    head: Arc<Head>,
    scan: Arc<Scan>,
    state: State,
    rows: Rows,
}

impl Stand {
    pub(super) fn at(&self) -> u64 {
        self.at
    }
}

/// What a walk collects.
struct Walk<'w, 's> {
    tape: &'w mut Tape<'s>,
    head: Head,
    taken: Option<DateTime>,
    /// The end of the last of several pictures in the file, as its index says.
    further: u64,
    stands: VecDeque<Stand>,
    grid: Option<u64>,
    scans: u32,
    /// Which coefficients are not zero, by component and block; only for progressive pictures.
    known: Vec<Vec<u64>>,
    /// Only where pieces are put together.
    rows: Option<Rows>,
}

pub(super) fn walk(tape: &mut Tape<'_>, grid: Option<u64>) -> (Walked, Vec<Stand>) {
    let mut walk = Walk::new(tape, grid);
    let end = walk.markers(2);
    let walked = Walked { taken: walk.taken, ..Walked::of(Format::Jpeg, end) };
    (walked, walk.stands.into())
}

pub(super) fn resume(stand: &Stand, tape: &mut Tape<'_>) -> Walked {
    let mut walk = Walk::new(tape, None);
    walk.head = Head::clone(&stand.head);
    walk.scans = 1;
    walk.rows = Some(stand.rows.behind_joint());
    let end = match walk.scan(&stand.scan, stand.state) {
        Ok(at) if walk.rows.as_ref().is_some_and(|after| !stand.rows.goes_on_as(after)) => {
            End::unfit(stand.at, at, FOREIGN)
        }
        Ok(at) => walk.markers(at),
        Err(end) => end,
    };
    Walked::of(Format::Jpeg, end)
}

impl<'w, 's> Walk<'w, 's> {
    fn new(tape: &'w mut Tape<'s>, grid: Option<u64>) -> Self {
        Self {
            tape,
            head: Head::default(),
            taken: None,
            further: 0,
            stands: VecDeque::new(),
            grid,
            scans: 0,
            known: Vec::new(),
            rows: grid.map(|_| Rows::default()),
        }
    }

    /// From marker to marker, to the end.
    fn markers(&mut self, mut at: u64) -> End {
        loop {
            let head = self.tape.at(at, 4);
            if head.len() < 2 {
                return End::early(at, at);
            }
            let (mark, code, length) = (head.byte(0), head.byte(1), u64::from(head.be16(2)));
            if mark != 0xFF {
                return End::unfit(at, at, "no marker stands where the next should");
            }
            match code {
                // Any number of FF may stand before a marker.
                0xFF => at = at.plus(1),
                0xD9 if self.scans == 0 => return End::unfit(at, at, "it ends without a picture"),
                0xD9 => return self.last(at.plus(2)),
                0x00 | 0x01 | 0xD0..=0xD8 | 0x02..=0xBF => {
                    return End::unfit(at, at, "a marker that has no place");
                }
                _ if length < 2 => return End::unfit(at, at, "a segment without length"),
                _ => {
                    if at.plus(length).plus(2) > self.tape.length() {
                        return End::early(at, self.tape.length());
                    }
                    let body = self.tape.at(at.plus(4), length.minus(2).size()).to_vec();
                    let next = at.plus(2).plus(length);
                    if self.segment(code, &body, at.plus(4)).is_none() {
                        return End::unfit(at, next, "a segment that cannot be");
                    }
                    at = next;
                    if code == 0xDA {
                        let Some(scan) = self.scan_of(&body) else {
                            return End::unfit(at, at, "a scan that does not fit its frame");
                        };
                        let state = State {
                            base: at,
                            bits: Bits::default(),
                            done: 0,
                            left: scan.restart,
                            mark: 0,
                            sums: [0; 4],
                            skipped: 0,
                        };
                        let after = if self.head.opaque { self.pass(at) } else { self.scan(&scan, state) };
                        match after {
                            Ok(next) => at = next,
                            Err(end) => return end,
                        }
                        self.scans = self.scans.plus(1);
                    }
                }
            }
        }
    }

    /// The end of the first picture; others of the same file can follow it.
    fn last(&mut self, at: u64) -> End {
        let follows = self.further > at && self.further <= self.tape.length();
        let ends = follows && self.tape.at(self.further.minus(2), 2) == [0xFF, 0xD9];
        let length = if ends { self.further } else { at };
        let proof = if self.head.opaque { Proof::Structure } else { Proof::Content };
        End::whole(length, proof)
    }

    fn segment(&mut self, code: u8, body: &[u8], place: u64) -> Option<()> {
        match code {
            0xC4 => self.codes(body),
            0xDB => {
                self.steps(body);
                Some(())
            }
            0xC0..=0xC2 => self.frame(body, code == 0xC2),
            0xC3 | 0xC5..=0xC7 | 0xC9..=0xCB | 0xCD..=0xCF => {
                self.head.opaque = true;
                self.frame(body, false)
            }
            0xDD => {
                self.head.restart = u32::from(body.be16(0));
                (body.len() == 2).then_some(())
            }
            0xE1 => {
                if self.taken.is_none()
                    && let Some(exif) = body.strip_prefix(b"Exif\0\0")
                {
                    self.taken = super::tiff::date(exif);
                }
                Some(())
            }
            0xE2 => {
                if let Some(index) = body.strip_prefix(b"MPF\0") {
                    self.further = self.further.max(further(index, place.plus(4)));
                }
                Some(())
            }
            _ => Some(()),
        }
    }

    /// Code tables (B.2.4.2).
    fn codes(&mut self, mut body: &[u8]) -> Option<()> {
        while !body.is_empty() {
            let (kind, counts) = (body.byte(0), body.part(1, 16).to_vec());
            let many = counts.iter().fold(0_usize, |sum, count| sum.plus(usize::from(*count)));
            let codes = Codes::of(&counts, body.get(17..17_usize.plus(many))?)?;
            let tables = match kind >> 4_u32 {
                0 => &mut self.head.dc,
                1 => &mut self.head.ac,
                _ => return None,
            };
            *tables.get_mut(usize::from(kind & 15))? = Some(Arc::new(codes));
            body = body.get(17_usize.plus(many)..)?;
        }
        Some(())
    }

    /// Tables of quantisation (B.2.4.1). What is wrong in them shows in the picture alone.
    fn steps(&mut self, mut body: &[u8]) {
        while !body.is_empty() {
            let (kind, wide) = (body.byte(0), body.byte(0) >> 4_u32 != 0);
            let each = if wide { 2 } else { 1 };
            let value = |place: usize| {
                let at = place.times(each).plus(1);
                if wide { body.be16(at) } else { u16::from(body.byte(at)) }
            };
            if let Some(steps) = self.head.steps.get_mut(usize::from(kind & 15)) {
                *steps = DOWN.map(value);
            }
            body = body.get(64_usize.times(each).plus(1)..).unwrap_or(&[]);
        }
    }

    /// The frame (B.2.2).
    fn frame(&mut self, body: &[u8], progressive: bool) -> Option<()> {
        let count = usize::from(body.byte(5));
        let components: Vec<Component> = (0..count)
            .map(|number| body.part(number.times(3).plus(6), 3))
            .map(|raw| Component {
                id: raw.byte(0),
                across: u32::from(raw.byte(1) >> 4_u32),
                down: u32::from(raw.byte(1) & 15),
                table: usize::from(raw.byte(2)),
            })
            .collect();
        let fits = |c: &Component| (1..=4).contains(&c.across) && (1..=4).contains(&c.down);
        let frame = Frame {
            precision: u32::from(body.byte(0)),
            height: u32::from(body.be16(1)),
            width: u32::from(body.be16(3)),
            progressive,
            components,
        };
        let right = body.len() == count.times(3).plus(6)
            && (1..=4).contains(&count)
            && frame.width > 0
            && frame.height > 0
            && matches!(frame.precision, 8 | 12)
            && frame.components.iter().all(fits);
        if progressive {
            let blocks = |c: &Component| {
                let (across, down) = frame.units();
                across.times(c.across).wide().times(down.times(c.down).wide()).size()
            };
            let all = frame.components.iter().fold(0, |sum: usize, c| sum.plus(blocks(c)));
            if all > REMEMBERED {
                self.head.opaque = true;
            } else if right {
                self.known = frame.components.iter().map(|c| vec![0; blocks(c)]).collect();
            }
        }
        self.head.frame = Some(Arc::new(frame));
        right.then_some(())
    }

    /// The scan whose header this is (B.2.3).
    fn scan_of(&self, body: &[u8]) -> Option<Arc<Scan>> {
        let frame = self.head.frame.clone()?;
        let count = usize::from(body.byte(0));
        let tail = count.times(2).plus(1);
        if !(1..=4).contains(&count) || body.len() != tail.plus(3) {
            return None;
        }
        let alone = count == 1;
        let mut parts = Vec::new();
        for number in 0..count {
            let (id, tables) = (body.byte(number.times(2).plus(1)), body.byte(number.times(2).plus(2)));
            let index = frame.components.iter().position(|component| component.id == id)?;
            let component = frame.components.get(index)?;
            parts.push(Part {
                index,
                blocks: if alone { 1 } else { component.across.times(component.down) },
                abreast: if alone { 1 } else { component.across },
                steps: self.head.steps.get(component.table).copied().unwrap_or_default(),
                dc: self.head.dc.get(usize::from(tables >> 4_u32)).cloned().flatten(),
                ac: self.head.ac.get(usize::from(tables & 15)).cloned().flatten(),
            });
        }
        let (across, down) = match parts.first().and_then(|part| frame.components.get(part.index)) {
            Some(component) if alone => frame.blocks(component),
            _ => frame.units(),
        };
        let (first, last, bits) = (body.byte(tail), body.byte(tail.plus(1)), body.byte(tail.plus(2)));
        let scan = Scan {
            units: across.wide().times(down.wide()),
            across,
            restart: self.head.restart,
            first: u32::from(first),
            last: u32::from(last),
            high: u32::from(bits >> 4_u32),
            low: u32::from(bits & 15),
            parts,
            frame,
        };
        let needs_dc = if scan.frame.progressive { scan.first == 0 && scan.high == 0 } else { true };
        let needs_ac = if scan.frame.progressive { scan.first > 0 } else { true };
        let complete = scan
            .parts
            .iter()
            .all(|part| (!needs_dc || part.dc.is_some()) && (!needs_ac || part.ac.is_some()));
        let ranged = scan.last < 64
            && scan.low < 14
            && (!scan.frame.progressive
                || (scan.first <= scan.last
                    && (scan.first > 0 || scan.last == 0)
                    && (scan.first == 0 || alone)));
        (self.head.opaque || (complete && ranged)).then(|| Arc::new(scan))
    }

    /// Passes over codes that are not decoded, to the next marker.
    fn pass(&mut self, from: u64) -> Result<u64, End> {
        let mut at = from;
        loop {
            let bytes = self.tape.rest(at);
            if bytes.is_empty() {
                return Err(End::early(from, at));
            }
            let found = bytes.iter().position(|byte| *byte == 0xFF);
            let Some(skip) = found else {
                at = at.plus(bytes.len().wide());
                continue;
            };
            at = at.plus(skip.wide());
            match self.tape.at(at, 2) {
                [0xFF, 0x00 | 0xD0..=0xD7] => at = at.plus(2),
                [0xFF, 0xFF] => at = at.plus(1),
                [0xFF, _] => return Ok(at),
                _ => return Err(End::early(from, at)),
            }
        }
    }

    /// Decodes a scan from `state` on; gives where the next marker stands.
    fn scan(&mut self, scan: &Arc<Scan>, mut state: State) -> Result<u64, End> {
        let limit = 2048_i32.checked_shl(scan.frame.precision.minus(8)).unwrap_or(i32::MAX);
        let mut before = state;
        let mut next = self.grid.map_or(u64::MAX, |grid| state.at().per(grid).plus(1).times(grid));
        let head = (next < u64::MAX).then(|| Arc::new(self.head.clone()));
        while state.done < scan.units {
            if state.at() > next
                && let (Some(head), Some(grid)) = (&head, self.grid)
            {
                if !scan.frame.progressive {
                    let (head, scan) = (Arc::clone(head), Arc::clone(scan));
                    let rows = self.rows.clone().unwrap_or_default();
                    self.stands.push_back(Stand { at: next, head, scan, state: before, rows });
                    if self.stands.len() > STANDS {
                        self.stands.pop_front();
                    }
                }
                next = state.at().per(grid).plus(1).times(grid);
            }
            before = state;
            if scan.restart > 0 && state.left == 0 {
                state.bits.close();
                let expected = [0xFF, 0xD0 | state.mark];
                let at = state.at();
                if self.tape.at(at, 2) != expected {
                    return Err(End::unfit(at, at, "a restart marker is missing"));
                }
                state.bits.at = state.bits.at.plus(2);
                state.mark = state.mark.wrapping_add(1) & 7;
                (state.left, state.sums, state.skipped) = (scan.restart, [0; 4], 0);
            }
            state.rebase();
            let bytes = self.tape.at(state.base, UNIT);
            let mut edges = Edges::default();
            let right = if scan.frame.progressive {
                progressive(scan, &mut state, bytes, &mut self.known)
            } else if self.rows.is_some() {
                unit_with_edges(scan, &mut state, bytes, limit, &mut edges)
            } else {
                unit(scan, &mut state, bytes, limit)
            };
            if right.is_none() || state.bits.overrun() {
                let at = state.at();
                let what = if state.bits.marker {
                    "its data ends before the picture does"
                } else {
                    "picture data that cannot be decoded"
                };
                let ends = at >= self.tape.length();
                return Err(if ends { End::early(at, at) } else { End::unfit(at, at, what) });
            }
            if let Some(rows) = &mut self.rows
                && !scan.frame.progressive
            {
                let column = state.done.rest(scan.across.wide()).size();
                if !rows.take(column, scan.across.size(), &edges) {
                    return Err(End::unfit(state.at(), state.at(), FOREIGN));
                }
            }
            state.done = state.done.plus(1);
            state.left = state.left.minus(1);
        }
        if self.rows.as_mut().is_some_and(|rows| !rows.joint_fits()) {
            return Err(End::unfit(state.at(), state.at(), FOREIGN));
        }
        // Behind the last block stand a few bits to fill its byte, and the next marker.
        state.rebase();
        state.bits.fill(self.tape.at(state.base, UNIT));
        let read = state.at();
        let left = u64::from(state.bits.close());
        if left > 1 || self.tape.at(read, 1) != [0xFF] {
            return Err(End::unfit(read.minus(left), read, "data goes on behind the last block"));
        }
        Ok(read)
    }
}

/// Where the last of several pictures ends, by the index of them (CIPA DC-007, 5.2.3: tag B002, of each picture 4 bytes
/// of kind, 4 of length, 4 of offset from `base`, 4 of others it needs).
fn further(index: &[u8], base: u64) -> u64 {
    let little = index.starts_with(b"II");
    let short = |at: usize| if little { index.le16(at) } else { index.be16(at) };
    let long = |at: usize| if little { index.le32(at) } else { index.be32(at) };
    let ifd = long(4).size();
    let entry = (0..usize::from(short(ifd)).min(64))
        .map(|number| ifd.plus(2).plus(number.times(12)))
        .find(|at| short(*at) == 0xB002);
    let Some(entry) = entry else { return 0 };
    let (count, from) = (long(entry.plus(4)).per(16).min(64).size(), long(entry.plus(8)).size());
    (0..count)
        .map(|number| from.plus(number.times(16)))
        .filter(|at| long(at.plus(8)) > 0)
        .map(|at| base.plus(u64::from(long(at.plus(8)))).plus(u64::from(long(at.plus(4)))))
        .max()
        .unwrap_or(0)
}
