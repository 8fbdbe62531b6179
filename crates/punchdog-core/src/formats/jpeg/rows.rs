//! Rows of units, one below the other: what belongs to a picture goes on where the row above it ends.
//!
//! Codes of another place fall into step again soon, and may even come out at the right number of units. But the first
//! coefficient of a block is coded as its difference from the one before (ITU-T T.81, F.1.2.1): whatever units are left out or
//! are foreign, all behind them are brighter or darker by what these would have added up to. So the units right behind a joint
//! are held against those above them, which stand before it: where one ends and the next begins, in samples. Of 206 joints of
//! photographs the middle one of these differences was above 2.5 of 256 levels in 5; of 26,646 wrong ones in 24,957.

use super::units::Edges;
use crate::arith::Sat;

/// Components that are looked at: brightness and two of colour.
const COMPONENTS: usize = 3;
/// What the middle one of the differences behind a joint is at most, in 16ths.
const SHIFTED: u32 = 40;
/// Differences that are nothing, in 16ths, and how many halves of the usual one may be met.
const FLAT: u64 = 32;
const APART: u64 = 5;
/// Units behind a joint that are too few to say anything.
const FEW: usize = 6;

/// Samples of each component, in 16ths.
type Samples = [i32; COMPONENTS];

/// The lower edges of the units of the last row, and how far the upper ones of the next lie from them.
#[derive(Debug, Clone, Default)]
pub(super) struct Rows {
    row: Vec<Samples>,
    /// The sum of the differences of brightness of the last rows, and how many they are.
    apart: u64,
    count: u64,
    joint: Option<Joint>,
}

/// What stands behind a joint.
#[derive(Debug, Clone, Default)]
struct Joint {
    awaited: usize,
    /// How far the units lie from those above.
    apart: Vec<Samples>,
}

impl Rows {
    /// The same, for what stands behind a joint.
    pub(super) fn behind_joint(&self) -> Self {
        let joint = Joint { awaited: self.row.len(), apart: Vec::new() };
        Self { row: self.row.clone(), apart: 0, count: 0, joint: Some(joint) }
    }

    /// Takes the unit at `column` of a row of `across`; false where it is the last one that is awaited behind a joint, and they
    /// do not lie where they should.
    pub(super) fn take(&mut self, column: usize, across: usize, edges: &Edges) -> bool {
        let room = self.row.len() < across;
        match self.row.get_mut(column) {
            Some(above) => {
                let apart = std::array::from_fn(|of| part(&edges.upper, of).saturating_sub(part(above, of)));
                *above = edges.lower;
                self.apart = self.apart.plus(u64::from(part(&apart, 0).unsigned_abs()));
                self.count = self.count.plus(1);
                if let Some(joint) = &mut self.joint {
                    joint.apart.push(apart);
                }
            }
            None if room => self.row.push(edges.lower),
            None => {}
        }
        // Old rows count less and less.
        if self.count > across.times(4).wide() {
            (self.apart, self.count) = (self.apart.per(2), self.count.per(2));
        }
        let all = self.joint.as_ref().is_some_and(|joint| joint.apart.len() >= joint.awaited);
        !all || self.joint_fits()
    }

    /// What was read behind a joint lies where it should, as far as can be told.
    pub(super) fn joint_fits(&mut self) -> bool {
        let Some(mut joint) = self.joint.take().filter(|joint| joint.apart.len() >= FEW) else { return true };
        let half = joint.apart.len().per(2);
        (0..COMPONENTS).all(|of| {
            let (_, middle, _) = joint.apart.select_nth_unstable_by_key(half, |apart| part(apart, of));
            part(middle, of).unsigned_abs() <= SHIFTED
        })
    }

    /// What follows lies about as far from the row above it as what came before did.
    pub(super) fn goes_on_as(&self, after: &Self) -> bool {
        if self.count == 0 || after.count == 0 {
            return true;
        }
        let usual = self.apart.per(self.count).plus(FLAT);
        after.apart.per(after.count) <= usual.times(APART).per(2)
    }
}

fn part(samples: &Samples, component: usize) -> i32 {
    samples.get(component).copied().unwrap_or(0)
}
