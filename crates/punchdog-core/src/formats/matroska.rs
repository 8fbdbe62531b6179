//! Matroska and WebM (RFC 8794, RFC 9559).
//!
//! ```text
//! element: id (1 to 4 bytes, the leading zeros of the first tell how many), length (1 to 8, likewise; all ones: not known)
//! 1A45DFA3 head (4282: kind)     18538067 segment: 1549A966 facts (4461: date), 1F43B675 clusters (E7, A3, A0), 1C53BB6B index
//! ```

use super::{End, Format, Proof, Tape, Walked, Why};
use crate::arith::{Peek, Sat};
use jiff::{Timestamp, civil::DateTime, tz::Offset};

/// Elements that stand in a segment, and those in a cluster.
const IN_SEGMENT: [u64; 10] = [
    0x114D_9B74,
    0x1549_A966,
    0x1654_AE6B,
    0x1043_A770,
    0x1941_A469,
    0x1C53_BB6B,
    0x1254_C367,
    0x1F43_B675,
    0xEC,
    0xBF,
];
const CLUSTER: u64 = 0x1F43_B675;
const IN_CLUSTER: [u64; 8] = [0xE7, 0xA3, 0xA0, 0xA7, 0xAB, 0x5854, 0xEC, 0xBF];

/// An element's id, where its content begins, and how long that is; `None` for a length that is not known.
fn element(tape: &mut Tape<'_>, at: u64) -> Option<(u64, u64, Option<u64>)> {
    let bytes = tape.at(at, 12);
    let own = bytes.byte(0).leading_zeros().plus(1).size();
    if own > 4 || bytes.is_empty() {
        return None;
    }
    let number = |from: usize, count: usize| {
        bytes.part(from, count).iter().fold(0_u64, |sum, byte| sum.wrapping_shl(8) | u64::from(*byte))
    };
    let id = number(0, own);
    let wide = bytes.byte(own).leading_zeros().plus(1).size();
    if wide > 8 || bytes.len() < own.plus(wide) {
        return None;
    }
    let mask = 1_u64.checked_shl(wide.times(7).narrow())?.wrapping_sub(1);
    let length = number(own, wide) & mask;
    Some((id, at.plus(own.plus(wide).wide()), (length != mask).then_some(length)))
}

pub(super) fn walk(format: Format, tape: &mut Tape<'_>) -> Walked {
    let mut walked = Walked::of(format, End::early(0, 0));
    walked.end = elements(tape, &mut walked);
    walked
}

fn elements(tape: &mut Tape<'_>, walked: &mut Walked) -> End {
    let Some((_, from, Some(length))) = element(tape, 0) else { return End::unfit(0, 0, "no head") };
    let head = tape.at(from, length.min(4096).size());
    if head.windows(4).any(|piece| piece == b"webm") {
        walked.format = Format::Webm;
    }
    let segment = from.plus(length);
    let Some((0x1853_8067, mut at, stated)) = element(tape, segment) else {
        return End::unfit(segment, segment, "no segment begins");
    };
    let end = stated.map(|length| at.plus(length));
    let (mut clusters, mut tracks) = (0_u64, false);
    loop {
        if end.is_some_and(|end| at >= end) {
            break;
        }
        if at >= tape.length() {
            return End::early(tape.length(), tape.length());
        }
        let Some((id, from, length)) = element(tape, at).filter(|(id, ..)| IN_SEGMENT.contains(id)) else {
            // A recording without a length ends where no further element stands.
            if end.is_none() && clusters > 0 && tracks {
                break;
            }
            return End::unfit(at, at, "no element begins");
        };
        let next = match length {
            Some(length) => from.plus(length),
            None if id == CLUSTER => match inside(tape, from, None) {
                Ok(next) => next,
                Err(end) => return end,
            },
            None => return End::unfit(at, at, "an element without length"),
        };
        if next > tape.length() {
            return End::early(at, tape.length());
        }
        match (id, length) {
            (CLUSTER, Some(length)) => {
                if let Err(end) = inside(tape, from, Some(from.plus(length))) {
                    return end;
                }
            }
            (0x1549_A966, Some(length)) => walked.taken = date(tape, from, from.plus(length)),
            _ => {}
        }
        clusters = clusters.plus(u64::from(id == CLUSTER));
        tracks |= id == 0x1654_AE6B;
        at = next;
    }
    match () {
        () if clusters == 0 => End::unfit(segment, at, "it holds no film"),
        () if end.is_none() => {
            let what = "the recording was never closed: its length was never written";
            End::Broken { good: at, at, why: Why::NeverClosed(what) }
        }
        () => End::whole(at, Proof::Structure),
    }
}

/// The elements of a cluster; gives where they end.
fn inside(tape: &mut Tape<'_>, from: u64, end: Option<u64>) -> Result<u64, End> {
    let mut at = from;
    while end.is_none_or(|end| at < end) {
        let Some((_, from, Some(length))) = element(tape, at).filter(|(id, ..)| IN_CLUSTER.contains(id))
        else {
            return if end.is_none() { Ok(at) } else { Err(End::unfit(at, at, "no element begins")) };
        };
        at = from.plus(length);
        if end.is_some_and(|end| at > end) {
            return Err(End::unfit(from, at, "an element longer than its cluster"));
        }
        if at > tape.length() {
            return Err(End::early(from, tape.length()));
        }
    }
    Ok(at)
}

/// Nanoseconds since the beginning of 2001 (RFC 9559, 5.1.2.11).
fn date(tape: &mut Tape<'_>, mut at: u64, end: u64) -> Option<DateTime> {
    while at < end {
        let (id, from, length) = element(tape, at)?;
        let length = length?;
        if id == 0x4461 && length == 8 {
            let nanoseconds = tape.at(from, 8).be64(0).cast_signed();
            let seconds = nanoseconds.checked_div(1_000_000_000)?.checked_add(978_307_200)?;
            return Some(Offset::UTC.to_datetime(Timestamp::from_second(seconds).ok()?));
        }
        at = from.plus(length);
    }
    None
}
