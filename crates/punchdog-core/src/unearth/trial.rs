//! A quick trial of a joint: whether codes go on from the end of a head into what stands somewhere else.
//!
//! Of the thousands of places at which a second piece may begin, nearly all fail within a few hundred bytes. Those are held
//! against each head from memory, and only what goes on is walked on the medium.

use crate::{
    arith::Sat,
    formats::{self, End, Resume, Source, Tape},
};

/// Bytes before a border in which the unit begins that goes on behind it, and more.
const BEFORE: u64 = 8 << 10;
/// Bytes that are looked at behind a joint: a row of units, mostly.
pub(super) const BEHIND: usize = 16 << 10;
/// Bytes at the end of what is looked at in which nothing is decided.
const EDGE: u64 = 16;

/// The end of a head, up to where a second piece is to begin.
pub(super) struct Head<'h> {
    stand: &'h Resume,
    from: u64,
    bytes: Vec<u8>,
}

impl<'h> Head<'h> {
    /// Of the file that `source` gives, up to its byte `border`; `None` where the walk cannot be gone on with near there.
    pub(super) fn new(source: &dyn Source, border: u64, stand: &'h Resume) -> Option<Self> {
        let from = stand.at().minus(BEFORE);
        let near = stand.is_codes() && border.minus(stand.at()) <= BEFORE;
        near.then(|| {
            let mut bytes = vec![0; border.minus(from).size()];
            source.read(from, &mut bytes);
            Self { stand, from, bytes }
        })
    }

    /// The codes go on into these bytes; and how many of them were looked at.
    pub(super) fn goes_on_in(&self, next: &[u8]) -> (bool, u64) {
        let border = self.from.plus(self.bytes.len().wide());
        let joint = Joint { head: self, next };
        match formats::resume(self.stand, &mut Tape::new(&joint)).end {
            End::Broken { at, .. } if at.plus(EDGE) < joint.len() => (false, at.minus(border)),
            _ => (true, next.len().wide()),
        }
    }
}

/// The end of a head, and what stands where a second piece may begin.
struct Joint<'j> {
    head: &'j Head<'j>,
    next: &'j [u8],
}

impl Source for Joint<'_> {
    fn len(&self) -> u64 {
        self.head.from.plus(self.head.bytes.len().wide()).plus(self.next.len().wide())
    }
    fn read(&self, at: u64, into: &mut [u8]) {
        let skip = at.minus(self.head.from).size();
        let head = self.head.bytes.get(skip..).unwrap_or(&[]);
        let next = self.next.get(skip.minus(self.head.bytes.len())..).unwrap_or(&[]);
        let mut filled = 0_usize;
        for part in [head, next] {
            let room = into.get_mut(filled..).unwrap_or_default();
            let there = part.len().min(room.len());
            if let (Some(room), Some(part)) = (room.get_mut(..there), part.get(..there)) {
                room.copy_from_slice(part);
            }
            filled = filled.plus(there);
        }
        if let Some(rest) = into.get_mut(filled..) {
            rest.fill(0);
        }
    }
}
