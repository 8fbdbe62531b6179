//! MP3 (ISO/IEC 11172-3, 2.4.1.3; ID3 2.4) and FLAC (RFC 9639).
//!
//! ```text
//! ID3: "ID3", version (2), flags (1), length in 4 times 7 bits                     at the end: TAG, 128 bytes
//! MP3 frame: 11 bits of 1, version (2), layer (2), no sum (1), rate (4), samples (2), filled (1), …
//!
//! fLaC; blocks: last and type (1), length (3), content     0: samples in a block, …, at byte 10: rate, channels, samples (36 bits)
//! FLAC frame: FF F8 or FF F9, sizes (1), channels and bits (1), number in the manner of UTF-8, CRC-8, …, CRC-16
//! ```

use super::{End, Proof, Tape, Why};
use crate::arith::{Peek, Sat};

/// Frames that have to follow one another before the first is believed.
const FRAMES: u32 = 16;

/// The length of an MP3 frame and what all frames of a file have in common.
fn frame(head: u32) -> Option<(u64, u32)> {
    const RATES: [[u64; 16]; 5] = [
        [0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448, 0],
        [0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 0],
        [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0],
        [0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256, 0],
        [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0],
    ];
    let part = |shift: u32, mask: u32| (head >> shift & mask).size();
    let (version, layer) = (part(19, 3), part(17, 3));
    if head >> 21 != 0x7FF || version == 1 || layer == 0 {
        return None;
    }
    let first = version == 3;
    let row = match (first, layer) {
        (true, 3) => 0,
        (true, 2) => 1,
        (true, _) => 2,
        (false, 3) => 3,
        (false, _) => 4,
    };
    let rate = RATES.get(row)?.get(part(12, 15)).copied().filter(|rate| *rate > 0)?.times(1000);
    let samples = [44_100_u64, 48_000, 32_000].get(part(10, 3)).copied()?;
    let samples = match version {
        3 => samples,
        2 => samples.per(2),
        _ => samples.per(4),
    };
    let filled = part(9, 1).wide();
    let length = match (layer, first) {
        (3, _) => rate.times(12).per(samples).plus(filled).times(4),
        (1, false) => rate.times(72).per(samples).plus(filled),
        _ => rate.times(144).per(samples).plus(filled),
    };
    // Version, layer and samples stay the same throughout a file.
    (length > 4).then_some((length, head & 0xFFFE_0C00))
}

pub(super) fn mp3(tape: &mut Tape<'_>) -> End {
    let head = tape.at(0, 10);
    let mut at = if head.part(0, 3) == b"ID3" {
        let length = (6..10).fold(0_u64, |sum, at| sum.times(128).plus(u64::from(head.byte(at) & 0x7F)));
        length.plus(10)
    } else {
        0
    };
    // Zeros may fill the tag.
    let padded = tape.at(at, 4096);
    at = at.plus(padded.iter().take_while(|byte| **byte == 0).count().wide().rest(4096));
    let (mut frames, mut kind) = (0_u32, None);
    while let Some((length, same)) = frame(tape.at(at, 4).be32(0)) {
        if *kind.get_or_insert(same) != same {
            break;
        }
        if at.plus(length) > tape.length() {
            return End::early(at, tape.length());
        }
        (at, frames) = (at.plus(length), frames.plus(1));
    }
    if frames < FRAMES {
        return End::unfit(at, at, "no row of frames");
    }
    let tail = tape.at(at, 128);
    if tail.part(0, 3) == b"TAG" && tail.len() == 128 {
        at = at.plus(128);
    } else if tail.iter().take(4).any(|byte| *byte != 0) && at.rest(512) == 0 {
        // Frames that stop where a cluster does may go on elsewhere.
        return End::unfit(at, at, "its frames stop");
    }
    End::whole(at, Proof::Structure)
}

/// CRC-8, polynomial 07 (RFC 9639, 9.1.8).
fn crc8(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0, |sum, byte| {
        (0..8).fold(sum ^ byte, |sum, _| if sum & 0x80 == 0 { sum << 1 } else { (sum << 1) ^ 7 })
    })
}

/// CRC-16, polynomial 8005 (RFC 9639, 9.3).
const CRC16: [u16; 256] = {
    let mut table = [0_u16; 256];
    let mut number = 0_u16;
    let mut rest: &mut [u16] = &mut table;
    while let Some((slot, tail)) = rest.split_first_mut() {
        let mut value = number << 8;
        let mut bit = 0_u32;
        while bit < 8 {
            value = if value & 0x8000 != 0 { (value << 1) ^ 0x8005 } else { value << 1 };
            bit = bit.wrapping_add(1);
        }
        *slot = value;
        number = number.wrapping_add(1);
        rest = tail;
    }
    table
};

/// A frame of FLAC that begins there, by its head: its number, or that of its first sample, and the samples in it.
fn flac_frame(head: &[u8]) -> Option<(u64, u64)> {
    if head.byte(0) != 0xFF || head.byte(1) & 0xFE != 0xF8 {
        return None;
    }
    let (sizes, kind) = (head.byte(2), head.byte(3));
    if sizes >> 4 == 0 || sizes & 15 == 15 || kind >> 4 > 10 || kind & 1 != 0 {
        return None;
    }
    let lead = head.byte(4);
    let extra = match lead.leading_ones() {
        0 => 0_usize,
        ones @ 2..=7 => ones.minus(1).size(),
        _ => return None,
    };
    let own = u64::from(lead) & (0x7F_u64 >> extra.plus(usize::from(extra > 0)).min(7));
    let number = head.part(5, extra).iter().fold(own, |sum, byte| sum.times(64).plus(u64::from(byte & 0x3F)));
    let mut at = extra.plus(5);
    let samples = match sizes >> 4 {
        1 => 192,
        size @ 2..=5 => 576_u64 << (size & 3).wrapping_sub(2).min(3),
        6 => {
            at = at.plus(1);
            u64::from(head.byte(at.minus(1))).plus(1)
        }
        7 => {
            at = at.plus(2);
            u64::from(head.be16(at.minus(2))).plus(1)
        }
        size => 256_u64 << (size & 7),
    };
    at = at.plus(match sizes & 15 {
        12 => 1,
        13 | 14 => 2,
        _ => 0,
    });
    (crc8(head.part(0, at)) == head.byte(at)).then_some((number, samples))
}

pub(super) fn flac(tape: &mut Tape<'_>) -> End {
    let mut at = 4_u64;
    let (mut total, mut largest) = (0_u64, 0_u64);
    loop {
        let head = tape.at(at, 42);
        if head.len() < 4 {
            return End::early(at, tape.length());
        }
        let kind = head.byte(0);
        let own = kind & 0x7F;
        if own == 127 || (at == 4) != (own == 0) {
            return End::unfit(at, at, "no block of facts");
        }
        if at == 4 {
            total = head.be64(14) & 0xF_FFFF_FFFF;
            largest = u64::from(head.be32(10) & 0xFF_FFFF);
        }
        at = at.plus(4).plus(u64::from(head.be32(0) & 0xFF_FFFF));
        if kind & 0x80 != 0 {
            break;
        }
    }
    // A frame has no length: it ends where its sum fits and the next begins, or its samples are all there.
    let most = if largest > 0 { largest } else { 1 << 20 }.min(1 << 20).plus(16);
    let mut samples = 0_u64;
    loop {
        let bytes = tape.at(at, most.size());
        let Some((_, here)) = flac_frame(bytes) else {
            let early = bytes.len() < 16;
            return match () {
                () if early => End::early(at, tape.length()),
                () if total == 0 && samples > 0 => End::whole(at, Proof::Content),
                () => End::unfit(at, at, "no frame begins"),
            };
        };
        samples = samples.plus(here);
        let last = total > 0 && samples >= total;
        let mut sum = 0_u16;
        let mut end = None;
        for (index, byte) in bytes.iter().enumerate() {
            if index > 6 && bytes.be16(index) == sum {
                let next = bytes.get(index.plus(2)..).unwrap_or(&[]);
                if last || total == 0 || flac_frame(next).is_some() {
                    end = Some(index.plus(2));
                    break;
                }
            }
            let slot = usize::from((sum >> 8) ^ u16::from(*byte));
            sum = (sum << 8) ^ CRC16.get(slot).copied().unwrap_or(0);
        }
        let Some(length) = end else {
            let here = bytes.len();
            return if here < most.size() {
                End::early(at, tape.length())
            } else {
                End::Broken {
                    good: at,
                    at: at.plus(here.wide()),
                    why: Why::Unfit("a frame whose sum does not fit"),
                }
            };
        };
        at = at.plus(length.wide());
        if last {
            return End::whole(at, Proof::Content);
        }
    }
}
