//! Compound files: older office documents ([MS-CFB], 2).
//!
//! ```text
//! head (512): D0 CF 11 E0 A1 B1 1A E1, 24 minor and major version (2, 2), 28 FE FF, 30 sector shift (2), 44 tables (4),
//!             48 directory (4), 68 further lists of tables (4), 72 their number (4), 76: 109 places of tables (4 each)
//! table: of each sector the next (4): FFFFFFFF free, FFFFFFFE end, FFFFFFFD table, FFFFFFFC list of tables
//! directory: entries of 128: name in UTF-16 (64), its length (2), kind (1)
//! ```
//!
//! Sector *n* stands at (*n* + 1) sectors; the file ends behind the last one that is in use.

use super::{End, Format, Proof, Tape, Walked};
use crate::arith::{Peek, Sat};

/// Tables that are read at most: 64 MiB of file each at 4 KiB.
const TABLES: usize = 16_384;
const FREE: u32 = 0xFFFF_FFFF;
const LAST: u32 = 0xFFFF_FFFA;

pub(super) fn walk(tape: &mut Tape<'_>) -> Walked {
    let mut walked = Walked::of(Format::Compound, End::early(0, 0));
    walked.end = sectors(tape, &mut walked.format);
    walked
}

fn sectors(tape: &mut Tape<'_>, format: &mut Format) -> End {
    let head = tape.at(0, 512).to_vec();
    let shift = head.le16(30);
    if head.len() < 512 || !matches!(shift, 9 | 12) || head.le16(28) != 0xFFFE {
        return End::unfit(0, 0, "a head that cannot be");
    }
    let each = 1_u64 << shift;
    let place = |sector: u32| u64::from(sector).plus(1).times(each);
    let tables = head.le32(44).size();
    if tables == 0 || tables > TABLES {
        return End::unfit(0, 0, "a number of tables that cannot be");
    }
    let mut list: Vec<u32> = (0..109).map(|number| head.le32(number.times(4).plus(76))).collect();
    let mut further = head.le32(68);
    while further < LAST && list.len() < tables {
        let bytes = tape.at(place(further), each.size()).to_vec();
        if bytes.len().wide() < each {
            return End::early(512, tape.length());
        }
        let many = each.size().per(4).minus(1);
        list.extend((0..many).map(|number| bytes.le32(number.times(4))));
        further = bytes.le32(many.times(4));
    }
    list.truncate(tables);
    let (mut last, mut first, mut table_seen) = (0_u32, 0_u32, true);
    let directory = head.le32(48);
    let mut directory_next = None;
    for sector in &list {
        let bytes = tape.at(place(*sector), each.size());
        if *sector >= LAST || bytes.len().wide() < each {
            return End::early(512, tape.length());
        }
        for number in 0..each.size().per(4) {
            let value = bytes.le32(number.times(4));
            let own = first.plus(number.narrow());
            if value != FREE {
                last = own;
            }
            table_seen &= !(own == *sector && value != 0xFFFF_FFFD);
            if own == directory {
                directory_next = Some(value);
            }
        }
        first = first.plus(each.size().per(4).narrow());
    }
    let end = place(last).plus(each);
    if end > tape.length() {
        return End::early(tape.length(), tape.length());
    }
    let entries = tape.at(place(directory), each.size()).to_vec();
    let root = entries.part(0, 20) == b"R\0o\0o\0t\0 \0E\0n\0t\0r\0y\0" && entries.byte(66) == 5;
    if !root || !table_seen || directory_next.is_none_or(|next| next == FREE) {
        return End::unfit(512, place(directory), "tables and directory that do not fit");
    }
    *format = kind(tape, &entries, directory_next.filter(|next| *next < LAST).map(place), each);
    End::whole(end, Proof::Structure)
}

/// Which kind of document it is, by the names of its streams.
fn kind(tape: &mut Tape<'_>, first: &[u8], next: Option<u64>, each: u64) -> Format {
    let mut entries = first.to_vec();
    if let Some(next) = next {
        entries.extend_from_slice(tape.at(next, each.size()));
    }
    let names = entries.chunks_exact(128).map(|entry| {
        let units: Vec<u16> =
            (0..32).map(|at: usize| entry.le16(at.times(2))).take_while(|unit| *unit != 0).collect();
        String::from_utf16_lossy(&units)
    });
    for name in names {
        match name.as_str() {
            "WordDocument" => return Format::Doc,
            "Workbook" | "Book" => return Format::Xls,
            "PowerPoint Document" => return Format::Ppt,
            _ => {}
        }
    }
    Format::Compound
}
