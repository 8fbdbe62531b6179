//! LZNT1, in which NTFS packs content.
//!
//! ```text
//! chunk    u16 head: bits 0 to 11 bytes behind it less 1, bits 12 to 14 are 3, bit 15 packed; 0 ends all
//! packed   a byte of flags, then eight items: a byte as it is (flag 0), or u16 (flag 1): how far back and how long
//! ```
//! Each chunk becomes 4096 bytes. How many of the 16 bits say how far back grows with the place in the chunk. As
//! Open Specifications have it (MS-XCA 1.0, section 2.5).

use crate::arith::{Peek, Sat};

/// Bytes that a chunk becomes.
const CHUNK: usize = 4096;

/// Unpacks `packed` into `length` bytes; zeros where a chunk ends early. `None` where it is no LZNT1.
pub fn unpack(packed: &[u8], length: usize) -> Option<Vec<u8>> {
    let mut out: Vec<u8> = Vec::with_capacity(length);
    let mut at = 0_usize;
    while out.len() < length && at.plus(2) <= packed.len() {
        let head = packed.le16(at);
        if head == 0 {
            break;
        }
        let size = usize::from(head & 0xFFF).plus(1);
        let body = packed.get(at.plus(2)..at.plus(2).plus(size))?;
        if head >> 12_u8 & 7 != 3 {
            return None;
        }
        let begin = out.len();
        if head & 0x8000 == 0 {
            out.extend(body);
        } else {
            chunk(body, begin, &mut out)?;
        }
        // A chunk that became less is filled up: what follows stands at the next multiple.
        out.resize(begin.plus(CHUNK), 0);
        at = at.plus(2).plus(size);
    }
    out.resize(length, 0);
    Some(out)
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
        assert_eq!(unpack(&packed, expected.len()).unwrap(), expected.as_bytes());
    }

    proptest! {
        #[test]
        fn any_bytes_come_to_an_end(bytes in prop::collection::vec(any::<u8>(), 0..9000)) {
            if let Some(out) = unpack(&bytes, 16384) {
                prop_assert_eq!(out.len(), 16384);
            }
        }
    }
}
