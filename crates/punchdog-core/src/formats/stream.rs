//! MPEG transport streams (ISO/IEC 13818-1, 2.4.3.2), as camcorders write them.
//!
//! ```text
//! packet of 188 bytes: 47, bit of fault, start, priority, packet id (13 bits), scrambling (2), adaption (2), counter (4)
//! camcorders put 4 bytes of time before each packet: 192
//! ```

use super::{End, Proof, Tape};
use crate::arith::{Peek, Sat};
use std::collections::HashMap;

/// Packets that have to follow one another before the first is believed.
const PACKETS: u64 = 32;

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let timed = tape.at(0, 1) != [0x47];
    let (each, skip) = if timed { (192_u64, 4_u64) } else { (188, 0) };
    let (mut at, mut tables) = (0_u64, 0_u64);
    // The counter that follows, by packet id: it runs from 0 to 15 with each packet that has content.
    let mut counters: HashMap<u16, u8> = HashMap::new();
    let mut lost = 0_u64;
    loop {
        let packet = tape.at(at.plus(skip), 4);
        if packet.len() < 4 || packet.byte(0) != 0x47 {
            break;
        }
        let (id, flags) = (packet.be16(1) & 0x1FFF, packet.byte(3));
        tables = tables.plus(u64::from(id == 0));
        if id != 0x1FFF && flags & 0x10 != 0 {
            let counter = flags & 15;
            let expected = counters.insert(id, counter.wrapping_add(1) & 15);
            let again = expected.is_some_and(|expected| expected == counter.wrapping_add(1) & 15);
            if expected.is_some_and(|expected| expected != counter) && !again {
                lost = lost.plus(1);
            }
        }
        if counters.len() > 512 {
            return End::unfit(0, at, "more streams than there can be");
        }
        at = at.plus(each);
    }
    if at < PACKETS.times(each) || tables == 0 {
        return End::unfit(at, at, "no row of packets");
    }
    if at > tape.length() {
        return End::early(tape.length(), tape.length());
    }
    // Packets that are missing between others tell of a piece that is.
    if lost.times(1000) > at.per(each) {
        return End::unfit(0, at, "packets are missing");
    }
    End::whole(at, Proof::Structure)
}
