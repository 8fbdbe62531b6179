//! LZNT1, in which NTFS packs content.
//!
//! ```text
//! chunk    u16 head: bits 0 to 11 bytes behind it less 1, bits 12 to 14 are 3, bit 15 packed; 0 ends all
//! packed   a byte of flags, then eight items: a byte as it is (flag 0), or u16 (flag 1): how far back and how long
//! ```
//! Each chunk becomes 4096 bytes. How many of the 16 bits say how far back grows with the place in the chunk. As
//! Open Specifications have it (MS-XCA 1.0, section 2.5).

use crate::arith::{Peek, Sat};
use std::ops::Range;

/// Bytes that a chunk becomes.
const CHUNK: usize = 4096;

/// Unpacks `packed`, of which `gaps` could not be read, into `length` bytes: these, and where in them is what could not be
/// had. Zeros stand there, and where a chunk ends early. A chunk is had as a whole or not at all; behind the head of one that
/// is none, or was not read, nothing is found.
pub fn unpack(packed: &[u8], gaps: &[Range<usize>], length: usize) -> (Vec<u8>, Vec<Range<usize>>) {
    let hit = |from: usize, to: usize| gaps.iter().any(|gap| gap.start < to && from < gap.end);
    let mut out: Vec<u8> = Vec::with_capacity(length);
    let mut missing = Vec::new();
    let mut at = 0_usize;
    while out.len() < length && at.plus(2) <= packed.len() {
        let (head, begin, behind) = (packed.le16(at), out.len(), at.plus(2));
        if head == 0 && !hit(at, behind) {
            break;
        }
        let end = behind.plus(usize::from(head & 0xFFF)).plus(1);
        let Some(body) = packed.get(behind..end).filter(|_| head >> 12_u8 & 7 == 3 && !hit(at, behind))
        else {
            missing.push(begin..length);
            break;
        };
        let had = !hit(behind, end)
            && if head & 0x8000 == 0 {
                out.extend(body);
                body.len() <= CHUNK
            } else {
                chunk(body, begin, &mut out).is_some()
            };
        if !had {
            out.truncate(begin);
            missing.push(begin..begin.plus(CHUNK).min(length));
        }
        // A chunk that became less is filled up: what follows stands at the next multiple.
        out.resize(begin.plus(CHUNK), 0);
        at = end;
    }
    out.resize(length, 0);
    (out, missing)
}

fn chunk(body: &[u8], begin: usize, out: &mut Vec<u8>) -> Option<()> {
    let mut at = 0_usize;
    while at < body.len() {
        let flags = body.byte(at);
        at = at.plus(1);
        for bit in 0..8_u8 {
            if at >= body.len() {
                break;
            }
            let done = out.len().minus(begin);
            if flags >> bit & 1 == 0 {
                if done >= CHUNK {
                    return None;
                }
                out.push(body.byte(at));
                at = at.plus(1);
                continue;
            }
            let item = usize::from(body.le16(at));
            at = at.plus(2);
            // Bits that say how long: 12 at first, one less each time that the place doubles behind 16.
            let mut long = 12_u32;
            let mut reach = 16_usize;
            while reach < done {
                reach = reach.times(2);
                long = long.minus(1);
            }
            let back = (item >> long).plus(1);
            let ones = 1_usize.checked_shl(long)?.minus(1);
            let count = (item & ones).plus(3);
            if back > done || done.plus(count) > CHUNK {
                return None;
            }
            for _ in 0..count {
                let byte = *out.get(out.len().minus(back))?;
                out.push(byte);
            }
        }
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_published_example() {
        // MS-XCA 1.0, section 3.3.
        let packed = hex::decode(
            "38b08846232000204720410010a24701a045204400084501507900c045200524138805b4024a44ef0358028c091601484500be009e000401189000",
        )
        .unwrap();
        let expected = "F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\0";
        assert_eq!(unpack(&packed, &[], expected.len()), (expected.as_bytes().to_vec(), vec![]));
    }

    #[test]
    fn a_gap_costs_the_chunks_that_it_hits() {
        // Three chunks as they are, of 4096 bytes each, and the end.
        let chunk = |value: u8| [&[0xFF, 0x3F][..], &[value; CHUNK]].concat();
        let packed = [chunk(1), chunk(2), chunk(3), vec![0; 500]].concat();
        let second = CHUNK + 2;
        for (from, to, missing) in [
            (100, 110, &[(0, 1)][..]),
            (second + 1, second + 2, &[(1, 4)]),
            (second + 2, second + 3, &[(1, 2)]),
            (second - 1, second + 5, &[(0, 1), (1, 4)]),
            (3 * second + 1, 3 * second + 2, &[(3, 4)]),
            (3 * second + 2, 3 * second + 400, &[]),
        ] {
            let gap = from..to;
            let (out, told) = unpack(&packed, std::slice::from_ref(&gap), 4 * CHUNK);
            let told: Vec<_> = told.iter().map(|gap| (gap.start / CHUNK, gap.end / CHUNK)).collect();
            assert_eq!(told, missing, "{gap:?}");
            for (at, byte) in out.iter().enumerate() {
                let number = at / CHUNK;
                let gone = number == 3 || missing.iter().any(|(from, to)| (*from..*to).contains(&number));
                assert_eq!(usize::from(*byte), if gone { 0 } else { number + 1 }, "{gap:?} at {at}");
            }
        }
    }

    proptest! {
        #[test]
        fn any_bytes_come_to_an_end(bytes in prop::collection::vec(any::<u8>(), 0..9000)) {
            let (out, missing) = unpack(&bytes, &[], 16384);
            prop_assert_eq!(out.len(), 16384);
            prop_assert!(missing.iter().all(|gap| gap.end <= 16384 && out[gap.clone()].iter().all(|byte| *byte == 0)));
        }
    }
}
