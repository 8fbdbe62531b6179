//! SQLite databases (the published file format, 1.3 and 1.6).
//!
//! ```text
//! "SQLite format 3" 00, 16 bytes in a page (2, first byte highest; 1: 65536), 24 counter of changes (4), 28 pages (4),
//! 92 the counter for which the number of pages is valid (4)
//! page of a tree: kind (1: 2, 5, 10, 13), first free (2), cells (2), where cells begin (2), …
//! ```

use super::{End, Proof, Tape};
use crate::arith::{Peek, Sat};

pub(super) fn walk(tape: &mut Tape<'_>) -> End {
    let head = tape.at(0, 108).to_vec();
    let page = match head.be16(16) {
        1 => 65_536_u64,
        bytes => u64::from(bytes),
    };
    let pages = u64::from(head.be32(28));
    let valid = head.be32(24) == head.be32(92) && pages > 0;
    let right =
        page.is_power_of_two() && page >= 512 && matches!(head.byte(100), 5 | 13) && head.byte(21) == 64;
    if !right || !valid {
        return End::unfit(0, 0, "a head that cannot be");
    }
    let end = page.times(pages);
    if end > tape.length() {
        return End::early(tape.length(), tape.length());
    }
    // Of a page of a tree, cells and free bytes lie within it. Others hold content alone and can be anything.
    let spare = u64::from(head.byte(20));
    for number in 1..pages {
        let at = number.times(page);
        let bytes = tape.at(at, 12);
        let (kind, cells, from) = (bytes.byte(0), u64::from(bytes.be16(3)), u64::from(bytes.be16(5)));
        let from = if from == 0 { 65_536 } else { from };
        let own = if matches!(kind, 2 | 5) { 12 } else { 8 };
        let first = if bytes.byte(0) == 0 { None } else { Some(kind) };
        let tree = matches!(first, Some(2 | 5 | 10 | 13));
        if tree && (own.plus(cells.times(2)) > from || from > page.minus(spare)) {
            return End::unfit(at, at.plus(page), "a page that cannot be");
        }
        // Content that was cut into pages names the next; lists of free and moved pages name others.
        if !tree && u64::from(bytes.be32(0)) > pages && !matches!(kind, 1..=5) {
            return End::unfit(at, at.plus(page), "a page that leads out of its file");
        }
    }
    End::whole(end, Proof::Structure)
}
