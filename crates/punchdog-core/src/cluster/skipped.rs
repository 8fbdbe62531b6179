//! A chain that is too short because one link leads past clusters of its own.
//!
//! What it passes over is a chain that nothing leads to, and that leads into the same file: the entry of its last cluster is as
//! it was. So two clusters lead to one, and one of the two is wrong. With the other, the chain has a length; where that is the
//! file's, it is told which.

use crate::arith::Sat;

/// How many of a chain's clusters stand before the link that is wrong, where `lost`, a chain that nothing leads to, goes on
/// with the chain's last ones, and both together have `needed` clusters. None stand before where the entry itself names the
/// wrong one.
pub(crate) fn kept(own: &[u32], lost: &[u32], needed: u32) -> Option<usize> {
    let kept = needed.size().checked_sub(lost.len())?;
    let tail = own.get(kept..)?;
    let other = lost.first() != own.first() && tail.len() < lost.len();
    (!tail.is_empty() && other && lost.ends_with(tail)).then_some(kept)
}

/// The lengths that a chain can have which goes on with the last clusters of one of `own` clusters and makes `needed` with the
/// others.
pub(crate) fn lengths(own: u32, needed: u32) -> impl Iterator<Item = u32> {
    needed.minus(own.minus(1))..=needed
}

/// Where in a chain the end of it begins that another one leads into at `into`, if that has `shared` clusters: how many stand
/// before it, and the last of these.
pub(crate) fn before_tail(all: &[u32], into: u32, shared: u32) -> Option<(usize, u32)> {
    let kept = all.iter().position(|cluster| *cluster == into)?;
    let last = all.get(kept.checked_sub(1)?)?;
    (all.len().minus(kept) == shared.size()).then_some((kept, *last))
}

/// Searches of one survey for the file that has a cluster: each goes through all chains.
pub(crate) const SEARCHES: u32 = 8;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_chain_passes_over_is_told_by_both_lengths() {
        // 10 to 19 in order, of which 12 leads to 16 now.
        let own = [10, 11, 12, 16, 17, 18, 19];
        let lost = [13, 14, 15, 16, 17, 18, 19];
        assert_eq!(kept(&own, &lost, 10), Some(3));
        assert_eq!(kept(&own, &lost, 9), None, "one too many");
        assert_eq!(kept(&own, &[16, 17, 18, 19], 7), None, "nothing passed over");
        assert_eq!(kept(&[16, 17, 18, 19], &lost, 7), Some(0), "the entry names the wrong one");
        assert_eq!(kept(&own, &[30, 31, 32], 10), None, "another's");
        assert_eq!(kept(&own, &own, 10), None, "itself");
        assert_eq!(before_tail(&own, 16, 4), Some((3, 12)));
        assert_eq!(before_tail(&own, 16, 3), None, "another length");
        assert_eq!(before_tail(&own, 10, 7), None, "all of it");
        assert_eq!(lengths(7, 10).collect::<Vec<u32>>(), [4, 5, 6, 7, 8, 9, 10]);
    }
}
