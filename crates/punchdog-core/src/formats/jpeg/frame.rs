//! What the segments before a scan say of it (ITU-T T.81, B.2.2, B.2.3), and where decoding it has come to.

use super::huffman::{Bits, Codes};
use crate::arith::Sat;
use std::sync::Arc;

/// By what the coefficients were divided that differ from one row of a block to the next alone: places 0, 2, 3, 9, 10, 20, 21
/// and 35 of 64, as they are coded.
pub(super) type Steps = [u16; 8];

#[derive(Debug, Clone, Copy)]
pub(super) struct Component {
    pub(super) id: u8,
    pub(super) across: u32,
    pub(super) down: u32,
    /// Its table of quantisation.
    pub(super) table: usize,
}

#[derive(Debug, Clone)]
pub(super) struct Frame {
    pub(super) precision: u32,
    pub(super) width: u32,
    pub(super) height: u32,
    pub(super) progressive: bool,
    pub(super) components: Vec<Component>,
}

impl Frame {
    pub(super) fn most(&self, of: impl Fn(&Component) -> u32) -> u32 {
        self.components.iter().map(of).max().unwrap_or(1).max(1)
    }
    /// Units of coded data across and down.
    pub(super) fn units(&self) -> (u32, u32) {
        let (across, down) = (self.most(|c| c.across).times(8), self.most(|c| c.down).times(8));
        (self.width.per_up(across), self.height.per_up(down))
    }
    /// Blocks of a component across and down, where it is coded alone.
    pub(super) fn blocks(&self, of: &Component) -> (u32, u32) {
        let (across, down) = (self.most(|c| c.across), self.most(|c| c.down));
        (
            self.width.times(of.across).per_up(across).per_up(8),
            self.height.times(of.down).per_up(down).per_up(8),
        )
    }
}

/// What the segments before a scan set.
#[derive(Debug, Clone, Default)]
pub(super) struct Head {
    pub(super) frame: Option<Arc<Frame>>,
    pub(super) dc: [Option<Arc<Codes>>; 4],
    pub(super) ac: [Option<Arc<Codes>>; 4],
    /// Quantisation of the coefficients that make up a block's mean rows (B.2.4.1).
    pub(super) steps: [Steps; 4],
    pub(super) restart: u32,
    /// Codes of another kind than Huffman's: only markers are looked at.
    pub(super) opaque: bool,
}

/// A component of a scan: its number in the frame, blocks in a unit, its codes.
#[derive(Debug, Clone)]
pub(super) struct Part {
    pub(super) index: usize,
    pub(super) blocks: u32,
    /// How many of them stand side by side.
    pub(super) abreast: u32,
    pub(super) steps: Steps,
    pub(super) dc: Option<Arc<Codes>>,
    pub(super) ac: Option<Arc<Codes>>,
}

#[derive(Debug, Clone)]
pub(super) struct Scan {
    pub(super) frame: Arc<Frame>,
    pub(super) parts: Vec<Part>,
    pub(super) units: u64,
    /// Units in a row of them.
    pub(super) across: u32,
    pub(super) restart: u32,
    pub(super) first: u32,
    pub(super) last: u32,
    pub(super) high: u32,
    pub(super) low: u32,
}

/// Bytes that a unit takes at most: ten blocks of 64 coefficients of 31 bits, every byte of them stuffed.
pub(super) const UNIT: usize = 6144;

/// Where decoding a scan has come to.
#[derive(Debug, Clone, Copy)]
pub(super) struct State {
    /// Where the bytes stand that the bits are filled from.
    pub(super) base: u64,
    pub(super) bits: Bits,
    pub(super) done: u64,
    pub(super) left: u32,
    pub(super) mark: u8,
    pub(super) sums: [i32; 4],
    pub(super) skipped: u32,
}

impl State {
    /// The byte that is read next.
    pub(super) fn at(&self) -> u64 {
        self.base.plus(self.bits.at.wide())
    }
    /// Fills from there on from now on.
    pub(super) fn rebase(&mut self) {
        (self.base, self.bits.at) = (self.at(), 0);
    }
}
