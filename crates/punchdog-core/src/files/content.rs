//! What a file holds: its pieces in the order of the file, and the one reader of them.
//!
//! Hashing, copying out, comparing and looking at first bytes all go through [`Content::walk`], so that what is a
//! hole on the medium, what was never written and what cannot be read means the same to each.

use super::lznt1;
use crate::{
    arith::{Peek, Sat},
    formats::Source,
    medium::{Extent, Medium, Unknown},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::convert::Infallible;

/// A piece of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// It stands there: bytes from the start of the volume.
    Stored(Extent),
    /// So many bytes that stand nowhere and read as zeros: never written, or left out.
    Zeros(u64),
    /// Two bytes whose place holds something else, a fixup: they stand at this place.
    Fixed(u64),
    /// It stands packed.
    Packed(Packed),
}

/// Bytes that stand packed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Packed {
    /// Where, in order.
    #[serde(rename = "packed")]
    pub places: Vec<Extent>,
    /// Bytes that all of it becomes.
    pub becomes: u64,
    /// Those of them that belong to the piece.
    from: u64,
    length: u64,
}

impl Packed {
    /// All of what stands in these places and becomes so many bytes.
    pub fn new(places: Vec<Extent>, becomes: u64) -> Self {
        Self { places, becomes, from: 0, length: becomes }
    }
    /// The bytes, and where in them is what cannot be had: for what of the places `lies` names, and where it cannot be unpacked.
    /// Zeros stand there.
    fn unpack(
        &self,
        medium: &dyn Medium,
        lies: &mut dyn FnMut(Extent) -> Vec<Extent>,
    ) -> (Vec<u8>, Vec<Extent>) {
        let (mut packed, mut gaps) = (Vec::new(), Vec::new());
        for place in &self.places {
            let begins = packed.len();
            let got = medium.lenient(place.offset, place.length.min(LONG).size());
            gaps.extend(got.missing.into_iter().chain(lies(*place)).map(|gap| {
                let from = begins.plus(gap.offset.minus(place.offset).size());
                from..from.plus(gap.length.size())
            }));
            packed.extend(got.bytes);
        }
        let (all, missing) = lznt1::unpack(&packed, &gaps, self.becomes.min(LONG).size());
        let here = Extent::new(self.from, self.length);
        let missing =
            missing.into_iter().map(|gap| Extent::new(gap.start.wide(), gap.len().wide()).common(here));
        let missing = missing.filter(|gap| gap.length > 0);
        (
            all.part(self.from.size(), self.length.size()).to_vec(),
            missing.map(|gap| Extent::new(gap.offset.minus(self.from), gap.length)).collect(),
        )
    }
}

impl Piece {
    /// Bytes of the file.
    fn length(&self) -> u64 {
        match self {
            Self::Stored(extent) => extent.length,
            Self::Zeros(count) => *count,
            Self::Fixed(_) => FIXED,
            Self::Packed(packed) => packed.length,
        }
    }
    /// `length` of its bytes from `skip` on; a fixup is taken whole.
    fn part(&self, skip: u64, length: u64) -> Self {
        match self {
            Self::Stored(extent) => Self::Stored(Extent::new(extent.offset.plus(skip), length)),
            Self::Zeros(_) => Self::Zeros(length),
            Self::Fixed(place) if length == FIXED => Self::Fixed(*place),
            Self::Fixed(place) => Self::Stored(Extent::new(place.plus(skip), length)),
            Self::Packed(packed) => {
                Self::Packed(Packed { from: packed.from.plus(skip), length, ..packed.clone() })
            }
        }
    }
    fn extents(&self) -> &[Extent] {
        match self {
            Self::Stored(extent) => std::slice::from_ref(extent),
            Self::Packed(packed) => &packed.places,
            Self::Zeros(_) | Self::Fixed(_) => &[],
        }
    }
}

/// Bytes that a fixup stands for.
const FIXED: u64 = 2;

/// What a file holds; shorter than its size where some of it is missing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Content(Vec<Piece>);

/// What a walk comes upon.
#[derive(Debug, Clone, Copy)]
pub enum Part<'p> {
    /// These bytes, at most 1 MiB; zeros stand for what cannot be read.
    Bytes(&'p [u8]),
    /// So many zeros that need no reading, at most 64 MiB.
    Zeros(u64),
}

/// Bytes that are read at once.
const LONG: u64 = 1 << 20;
/// Zeros that are passed on at once, so that whoever takes them can stop.
const BLANK: u64 = 64 << 20;
/// Where a hole ends is rounded down to this.
const SECTOR: u64 = 512;
/// Zeros, for whoever wants them as bytes.
static ZEROS: [u8; 1 << 16] = [0; 1 << 16];

impl Part<'_> {
    /// Passes it on as bytes, piece by piece.
    pub fn bytes(&self, mut take: impl FnMut(&[u8])) {
        match *self {
            Self::Bytes(bytes) => take(bytes),
            Self::Zeros(count) => {
                let mut left = count;
                while left > 0 {
                    let piece = ZEROS.get(..left.size()).unwrap_or(&ZEROS);
                    take(piece);
                    left = left.minus(piece.len().wide());
                }
            }
        }
    }
}

impl Content {
    /// What stands in these places, in this order, as far as `length` bytes go.
    pub fn stored(places: impl IntoIterator<Item = Extent>, length: u64) -> Self {
        let mut left = length;
        let mut pieces = Vec::new();
        for place in places {
            let extent = Extent::new(place.offset, place.length.min(left));
            left = left.minus(extent.length);
            if extent.length > 0 {
                pieces.push(Piece::Stored(extent));
            }
        }
        pieces.shrink_to_fit();
        Self(pieces)
    }

    /// These pieces, in order, as far as `length` bytes go.
    pub fn of(pieces: impl IntoIterator<Item = Piece>, length: u64) -> Self {
        let mut left = length;
        let mut all = Vec::new();
        for piece in pieces {
            let there = piece.length().min(left);
            left = left.minus(there);
            if there == piece.length() {
                all.push(piece);
            } else if there > 0 {
                all.push(piece.part(0, there));
            }
        }
        all.shrink_to_fit();
        Self(all)
    }

    /// The same with so many zeros behind.
    #[must_use]
    pub fn and_zeros(mut self, count: u64) -> Self {
        if count > 0 {
            self.0.push(Piece::Zeros(count));
        }
        self
    }

    /// The pieces, in order.
    pub fn pieces(&self) -> &[Piece] {
        &self.0
    }

    /// Where something of it stands.
    pub fn extents(&self) -> impl Iterator<Item = Extent> + Clone + '_ {
        self.0.iter().flat_map(|piece| piece.extents().iter().copied())
    }

    /// Bytes that can be had.
    pub fn held(&self) -> u64 {
        self.0.iter().fold(0, |sum, piece| sum.plus(piece.length()))
    }

    /// Bytes that stand on the medium.
    pub fn on_medium(&self) -> u64 {
        self.extents().fold(0, |sum, extent| sum.plus(extent.length))
    }

    /// The parts of it that stand in places where `lies` finds something, or come from there: bytes from the start of the
    /// file.
    pub fn within(&self, medium: &dyn Medium, mut lies: impl FnMut(Extent) -> Vec<Extent>) -> Vec<Extent> {
        let mut at = 0_u64;
        let mut found: Vec<Extent> = Vec::new();
        for piece in &self.0 {
            let parts = match piece {
                Piece::Stored(extent) => lies(*extent)
                    .into_iter()
                    .map(|part| Extent::new(part.offset.minus(extent.offset), part.length))
                    .collect(),
                Piece::Fixed(place) if !lies(Extent::new(*place, FIXED)).is_empty() => {
                    vec![Extent::new(0, FIXED)]
                }
                Piece::Packed(packed) if packed.places.iter().any(|place| !lies(*place).is_empty()) => {
                    packed.unpack(medium, &mut lies).1
                }
                _ => Vec::new(),
            };
            for part in parts {
                let part = part.moved(at);
                match found.last_mut() {
                    Some(last) if last.end() == part.offset => last.length = last.length.plus(part.length),
                    _ => found.push(part),
                }
            }
            at = at.plus(piece.length());
        }
        found
    }

    /// What two readings of the same file have in common, whatever it is called: where it begins, and how long the
    /// first piece is. `None` where nothing of it stands anywhere.
    pub fn identity(&self) -> Option<(u64, u64)> {
        self.extents().next().map(|extent| (extent.offset, extent.length))
    }

    /// `length` bytes of it from `from` on.
    #[must_use]
    pub fn part(&self, from: u64, length: u64) -> Self {
        let (mut position, end) = (0_u64, from.plus(length));
        let mut pieces = Vec::new();
        for piece in &self.0 {
            let there = piece.length();
            let (start, stop) = (from.max(position), end.min(position.plus(there)));
            if start < stop {
                let (skip, length) = (start.minus(position), stop.minus(start));
                pieces.push(piece.part(skip, length));
            }
            position = position.plus(there);
        }
        Self(pieces)
    }

    /// The same, `by` bytes further on.
    #[must_use]
    pub fn moved(mut self, by: u64) -> Self {
        for piece in &mut self.0 {
            match piece {
                Piece::Stored(extent) => *extent = extent.moved(by),
                Piece::Fixed(place) => *place = place.plus(by),
                Piece::Packed(packed) => packed.places.iter_mut().for_each(|place| *place = place.moved(by)),
                Piece::Zeros(_) => {}
            }
        }
        self
    }

    /// Its first bytes, at most `length`.
    pub fn start(&self, medium: &dyn Medium, length: u64) -> Vec<u8> {
        let mut bytes = Vec::new();
        let walked = self.part(0, length).walk(medium, |part| {
            part.bytes(|piece| bytes.extend_from_slice(piece));
            Ok::<(), Infallible>(())
        });
        debug_assert!(walked.is_ok());
        bytes
    }

    /// Places whose zeros are nothing that was packed.
    fn lost(&self, medium: &dyn Medium) -> Vec<Extent> {
        let packed = self.0.iter().any(|piece| matches!(piece, Piece::Packed(_)));
        if packed { medium.unknown(Unknown::Lost) } else { Vec::new() }
    }

    /// Passes it on in order. What is a hole on the medium is not read. Returns how many bytes could not be read.
    ///
    /// # Errors
    /// What `take` returns.
    pub fn walk<E>(
        &self,
        medium: &dyn Medium,
        mut take: impl FnMut(Part<'_>) -> Result<(), E>,
    ) -> Result<u64, E> {
        let mut missing = 0_u64;
        let lost = self.lost(medium);
        for piece in &self.0 {
            let extent = match piece {
                Piece::Stored(extent) => *extent,
                Piece::Fixed(place) => Extent::new(*place, FIXED),
                Piece::Packed(packed) => {
                    let (bytes, gaps) = packed.unpack(medium, &mut |place| common(&lost, place));
                    missing = gaps.iter().fold(missing, |sum, gap| sum.plus(gap.length));
                    take(Part::Bytes(&bytes))?;
                    continue;
                }
                Piece::Zeros(count) => {
                    let mut left = *count;
                    while left > 0 {
                        take(Part::Zeros(left.min(BLANK)))?;
                        left = left.minus(BLANK);
                    }
                    continue;
                }
            };
            let mut at = extent.offset;
            while at < extent.end() {
                let data = medium.data_from(at).map_or(medium.len(), |data| data.offset);
                let hole = data.per(SECTOR).times(SECTOR).min(extent.end()).minus(at).min(BLANK);
                if hole > 0 {
                    take(Part::Zeros(hole))?;
                    at = at.plus(hole);
                    continue;
                }
                let length = extent.end().minus(at).min(LONG);
                let got = medium.lenient(at, length.size());
                missing = got.missing.iter().fold(missing, |sum, gap| sum.plus(gap.length));
                take(Part::Bytes(&got.bytes))?;
                at = at.plus(length);
            }
        }
        Ok(missing)
    }
}

/// The parts of these places, in order, that lie in this one.
fn common(places: &[Extent], with: Extent) -> Vec<Extent> {
    let first = places.partition_point(|place| place.end() <= with.offset);
    let inside = places.iter().skip(first).take_while(|place| place.offset < with.end());
    inside.map(|place| place.common(with)).collect()
}

/// Content on the medium that it is of, for a walk through its structure.
pub struct OnMedium<'c> {
    medium: &'c dyn Medium,
    content: &'c Content,
    /// The pieces with the byte of the file that each begins at.
    starts: Vec<u64>,
    length: u64,
    lost: Vec<Extent>,
}

impl<'c> OnMedium<'c> {
    /// All of it, as far as `length` bytes go.
    pub fn new(medium: &'c dyn Medium, content: &'c Content, length: u64) -> Self {
        let mut at = 0_u64;
        let starts = content
            .0
            .iter()
            .map(|piece| {
                let start = at;
                at = at.plus(piece.length());
                start
            })
            .collect();
        Self { medium, content, starts, length: at.min(length), lost: content.lost(medium) }
    }
}

impl Source for OnMedium<'_> {
    fn len(&self) -> u64 {
        self.length
    }
    fn read(&self, at: u64, into: &mut [u8]) {
        let first = self.starts.partition_point(|start| *start <= at).minus(1);
        let mut filled = 0_usize;
        let pieces = self.content.0.iter().zip(&self.starts).skip(first);
        for (piece, start) in pieces {
            let here = at.plus(filled.wide());
            let skip = here.minus(*start);
            let there = piece.length().minus(skip).min(into.len().minus(filled).wide());
            let Some(room) = into.get_mut(filled..filled.plus(there.size())) else { break };
            match piece {
                Piece::Zeros(_) => room.fill(0),
                Piece::Packed(packed) => {
                    let (bytes, _) = packed.unpack(self.medium, &mut |place| common(&self.lost, place));
                    room.fill(0);
                    room.iter_mut().zip(bytes.iter().skip(skip.size())).for_each(|(to, byte)| *to = *byte);
                }
                Piece::Stored(Extent { offset, .. }) | Piece::Fixed(offset) => {
                    let place = offset.plus(skip);
                    if self.medium.read_at(place, room).is_err() {
                        let got = self.medium.lenient(place, room.len());
                        room.copy_from_slice(&got.bytes);
                    }
                }
            }
            filled = filled.plus(there.size());
            if filled >= into.len() {
                return;
            }
        }
        if let Some(rest) = into.get_mut(filled..) {
            rest.fill(0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::{Memory, WithUnreadable};

    fn content() -> Content {
        let places = [Extent::new(600, 700), Extent::new(2048, 2000)];
        Content::stored(places, 1000).and_zeros(50)
    }

    #[test]
    fn it_is_cut_to_its_length_and_read_in_order() {
        let medium = Memory::new((0..4096_u32).map(|n| n.to_le_bytes()[0] ^ n.to_le_bytes()[1]).collect());
        let all = (&medium as &dyn Medium).bytes(0, 4096).unwrap();
        let expected: Vec<u8> = [&all[600..1300], &all[2048..2348], &[0; 50]].concat();
        assert_eq!(content().held(), 1050);
        assert_eq!(content().on_medium(), 1000);
        assert_eq!(content().start(&medium, 2000), expected);
        for (from, length) in [(0, 1050), (699, 2), (690, 20), (999, 10), (1040, 100), (2000, 5)] {
            let end = (from + length).min(expected.len());
            let part = content().part(from as u64, length as u64);
            assert_eq!(part.start(&medium, 9999), expected[from.min(end)..end], "{from}+{length}");
            let mut read = vec![9; end - from.min(end)];
            OnMedium::new(&medium, &content(), u64::MAX).read(from as u64, &mut read);
            assert_eq!(read, expected[from.min(end)..end], "{from}+{length}");
        }
    }

    #[test]
    fn what_cannot_be_read_is_counted_and_reads_as_zeros() {
        let inner = Memory::new(vec![7; 2560]);
        let medium = WithUnreadable::new(&inner, vec![Extent::new(1024, 1)]);
        let content = Content::stored([Extent::new(512, 700)], 700).and_zeros(50);
        let mut bytes = Vec::new();
        let missing = content.walk(&medium, |part| {
            part.bytes(|piece| bytes.extend_from_slice(piece));
            Ok::<(), Infallible>(())
        });
        // The sector at byte 1024 cannot be read, of which the file has all up to 1212.
        assert_eq!(missing, Ok(188));
        assert_eq!((bytes[511], bytes[512], bytes[699], bytes.len()), (7, 0, 0, 750));
    }
}
