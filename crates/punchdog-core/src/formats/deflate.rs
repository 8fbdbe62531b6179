//! Packed bytes: a deflate stream ends by itself (RFC 1951), and what it becomes is held against a sum.
//!
//! ```text
//! gzip (RFC 1952): 1F 8B 08, flags (1), time (4), 2 more; 4: extra (length 2), 8: name, 16: comment, 2: sum of the head
//!                  the stream, CRC-32 and length of what it becomes (4, 4)                  further members may follow
//! ```

use super::{End, Proof, Tape, Why};
use crate::arith::{Peek, Sat};
use flate2::{Decompress, FlushDecompress, Status};

/// Bytes that a stream becomes at most: a small file can be made to become any number of them.
const MOST: u64 = 64 << 30;

/// What a stream comes to.
pub(super) struct Stream {
    /// Behind it.
    pub(super) end: u64,
    pub(super) sum: u32,
    pub(super) becomes: u64,
}

/// Unpacks the deflate stream that begins at `from`; what it becomes is summed and forgotten. `Err` says how far the
/// packed bytes made sense.
pub(super) fn stream(tape: &mut Tape<'_>, from: u64) -> Result<Stream, u64> {
    let mut inflate = Decompress::new(false);
    let mut sum = crc32fast::Hasher::new();
    let mut out = vec![0; 64 << 10];
    loop {
        let at = from.plus(inflate.total_in());
        let bytes = tape.rest(at);
        let bytes = bytes.get(..bytes.len().min(64 << 10)).unwrap_or(&[]);
        let (taken, given) = (inflate.total_in(), inflate.total_out());
        let status = inflate.decompress(bytes, &mut out, FlushDecompress::None);
        let made = inflate.total_out().minus(given).size();
        sum.update(out.part(0, made));
        match status {
            Ok(Status::StreamEnd) => {
                let end = from.plus(inflate.total_in());
                return Ok(Stream { end, sum: sum.finalize(), becomes: inflate.total_out() });
            }
            Ok(_) if (inflate.total_in() > taken || made > 0) && inflate.total_out() < MOST => {}
            _ => return Err(from.plus(inflate.total_in())),
        }
    }
}

pub(super) fn gzip(tape: &mut Tape<'_>) -> End {
    let mut at = 0_u64;
    loop {
        let head = tape.at(at, 12);
        let (flags, extra) = (head.byte(3), u64::from(head.le16(10)));
        let mut from = at.plus(10);
        if flags & 4 != 0 {
            from = from.plus(2).plus(extra);
        }
        for flag in [8, 16] {
            if flags & flag != 0 {
                let text = tape.at(from, 4096);
                match text.iter().position(|byte| *byte == 0) {
                    Some(length) => from = from.plus(length.wide()).plus(1),
                    None => return End::unfit(at, from, "a name without end"),
                }
            }
        }
        if flags & 2 != 0 {
            from = from.plus(2);
        }
        let stream = match stream(tape, from) {
            Ok(stream) => stream,
            Err(at) if at >= tape.length() => return End::early(from, at),
            Err(at) => return End::unfit(from, at, "packed bytes that cannot be unpacked"),
        };
        let tail = tape.at(stream.end, 8);
        if tail.len() < 8 {
            return End::early(from, tape.length());
        }
        if tail.le32(0) != stream.sum || u64::from(tail.le32(4)) != stream.becomes & 0xFFFF_FFFF {
            return End::Broken { good: from, at: stream.end, why: Why::Unfit("a sum that does not fit") };
        }
        at = stream.end.plus(8);
        let next = tape.at(at, 4);
        if next.part(0, 3) != [0x1F, 0x8B, 8] || next.byte(3) & 0xE0 != 0 {
            return End::whole(at, Proof::Content);
        }
    }
}
