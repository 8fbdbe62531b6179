//! One gap, many findings: a range of blank bytes that crosses structures.
//!
//! A block that was never written, or an erase that was cut off, takes whatever lies in it. Each structure then
//! has findings of its own; that they are one accident is what a technician wants to know first.

use crate::{
    arith::Sat,
    medium::{Extent, Medium},
    report::wording::listed,
};

/// A structure, with where it lies in the volume.
#[derive(Debug, Clone)]
pub(crate) struct Part {
    /// What it is called, with an article.
    pub(crate) name: &'static str,
    /// Where it lies. Its first sector is never blank on a volume in order.
    pub(crate) extent: Extent,
}

impl Part {
    pub(crate) fn new(name: &'static str, offset: u64, length: u64) -> Self {
        Self { name, extent: Extent::new(offset, length) }
    }
}

const SECTOR: u64 = 512;
/// Bytes of a gap that are measured.
const MEASURED: u64 = 256 << 20;

/// The value of a sector that is blank.
fn blank(medium: &dyn Medium, place: u64) -> Option<u8> {
    let bytes = medium.lenient(place, SECTOR.min(medium.len().minus(place)).size()).bytes;
    let first = *bytes.first()?;
    (matches!(first, 0 | 0xFF) && bytes.iter().all(|byte| *byte == first)).then_some(first)
}

/// Where the blank bytes end that begin at `from`, at `end` at the latest.
fn blank_until(medium: &dyn Medium, from: u64, end: u64, value: u8) -> u64 {
    let mut at = from;
    while at < end {
        if value == 0 {
            // A hole needs no reading.
            match medium.data_from(at) {
                None => return end,
                Some(data) => at = at.max(data.offset.per(SECTOR).times(SECTOR)).min(end),
            }
        }
        let chunk = medium.lenient(at, end.minus(at).min(1 << 20).size()).bytes;
        if let Some(odd) = chunk.iter().position(|byte| *byte != value) {
            return at.plus(odd.wide().per(SECTOR).times(SECTOR));
        }
        at = at.plus(chunk.len().wide());
        if chunk.is_empty() {
            break;
        }
    }
    end
}

/// The blank range that takes the beginnings of at least two of `parts`, in words: where it lies and what
/// is in it. `parts` are in order.
pub(crate) fn across(medium: &dyn Medium, parts: &[Part]) -> Option<String> {
    let end = parts.last()?.extent.end().min(medium.len());
    for part in parts {
        let begin = part.extent.offset;
        let Some(value) = blank(medium, begin) else { continue };
        let mut from = begin;
        while from > 0 && blank(medium, from.minus(SECTOR)) == Some(value) && begin.minus(from) < 1 << 20 {
            from = from.minus(SECTOR);
        }
        let to = blank_until(medium, begin, end.min(begin.plus(MEASURED)), value);
        let begins = |part: &&Part| from <= part.extent.offset && part.extent.offset < to;
        // What lies in a structure that is hit goes without saying.
        let within = |part: &Part| {
            parts.iter().filter(begins).any(|other| {
                other.extent != part.extent
                    && other.extent.offset <= part.extent.offset
                    && part.extent.end() <= other.extent.end()
            })
        };
        let hit: Vec<String> = parts
            .iter()
            .filter(begins)
            .filter(|part| !within(part))
            .map(|part| {
                if part.extent.end() <= to {
                    part.name.to_owned()
                } else {
                    format!("the head of {}", part.name)
                }
            })
            .collect();
        if hit.len() > 1 {
            let what = if value == 0 { "zero" } else { "FF" };
            return Some(format!(
                "one gap: bytes {from} to {} of the volume are {what}, and with them {}; the findings follow from that (a block that was never written, or an erase that was cut off)",
                to.minus(1),
                listed(&hit)
            ));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::Memory;

    #[test]
    fn a_gap_names_what_is_in_it() {
        let mut bytes = vec![1_u8; 16 * 512];
        let parts = [
            Part::new("the boot sector", 0, 512),
            Part::new("its backup", 6 * 512, 512),
            Part::new("the first table", 8 * 512, 4 * 512),
        ];
        assert_eq!(across(&Memory::new(bytes.clone()), &parts), None);
        bytes[..512].fill(0);
        assert_eq!(
            across(&Memory::new(bytes.clone()), &parts),
            None,
            "one structure is no gap across several"
        );
        bytes[5 * 512..9 * 512].fill(0xFF);
        let found = across(&Memory::new(bytes), &parts).unwrap();
        assert!(found.contains("bytes 2560 to 4607 of the volume are FF"), "{found}");
        assert!(found.contains("its backup and the head of the first table"), "{found}");
        let region = Part::new("the region", 0, 8 * 512);
        let with_region: Vec<Part> = [region].into_iter().chain(parts.iter().cloned()).collect();
        let found = across(&Memory::new(vec![0; 16 * 512]), &with_region).unwrap();
        assert!(found.contains("with them the region and the first table;"), "{found}");
    }
}
