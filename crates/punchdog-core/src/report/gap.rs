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
    /// Where it lies. Its first sector is never blank on a volume in order, but for a bitmap's.
    pub(crate) extent: Extent,
    /// It has a bit for each cluster: FF where all are in use.
    bitmap: bool,
}

impl Part {
    pub(crate) fn new(name: &'static str, offset: u64, length: u64) -> Self {
        Self { name, extent: Extent::new(offset, length), bitmap: false }
    }
    /// One that has a bit for each cluster.
    pub(crate) fn bitmap(name: &'static str, offset: u64, length: u64) -> Self {
        Self { bitmap: true, ..Self::new(name, offset, length) }
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

/// A blank range, and what it takes.
struct Gap {
    from: u64,
    to: u64,
    value: u8,
    /// The structures whose beginnings it takes, in words.
    hit: Vec<String>,
}

/// Ranges that are told of; what more there are adds nothing.
const TOLD: usize = 4;

/// The blank ranges that begin `parts`, which are in order.
fn gaps(medium: &dyn Medium, parts: &[Part]) -> Vec<Gap> {
    let end = parts.iter().map(|part| part.extent.end()).max().unwrap_or(0).min(medium.len());
    let mut gaps: Vec<Gap> = Vec::new();
    for part in parts {
        let begin = part.extent.offset;
        if gaps.iter().any(|gap| gap.from <= begin && begin < gap.to) {
            continue;
        }
        let value = blank(medium, begin).filter(|value| !part.bitmap || *value == 0);
        let Some(value) = value else { continue };
        let mut from = begin;
        while from > 0 && blank(medium, from.minus(SECTOR)) == Some(value) && begin.minus(from) < 1 << 20 {
            from = from.minus(SECTOR);
        }
        let to = blank_until(medium, begin, end.min(begin.plus(MEASURED)), value);
        let begins = |part: &&Part| from <= part.extent.offset && part.extent.offset < to;
        let hit = named(parts.iter().filter(begins), to);
        // What is blank in front of one structure alone may always have been.
        let from = if hit.len() > 1 { from } else { begin };
        gaps.push(Gap { from, to, value, hit });
    }
    gaps
}

/// These structures in words, where a damage that reaches `to` took their beginnings.
fn named<'p>(hit: impl Iterator<Item = &'p Part>, to: u64) -> Vec<String> {
    let hit: Vec<&Part> = hit.collect();
    // What lies in a structure that is hit goes without saying.
    let within = |part: &Part| {
        hit.iter().any(|other| {
            other.extent != part.extent
                && other.extent.offset <= part.extent.offset
                && part.extent.end() <= other.extent.end()
        })
    };
    let whole = |part: &Part| part.extent.end() <= to;
    let name = |part: &Part| {
        if whole(part) { part.name.to_owned() } else { format!("the head of {}", part.name) }
    };
    hit.iter().filter(|part| !within(part)).map(|part| name(part)).collect()
}

/// The blank ranges that take the beginnings of at least two of `parts`, in words: where they lie and what is in
/// them. `parts` are in order. A range that takes one beginning alone counts where a finding, at one of `places`, says
/// that something is wrong there.
pub(crate) fn across(medium: &dyn Medium, parts: &[Part], places: &[Extent]) -> Option<String> {
    let found = |gap: &Gap| places.iter().any(|place| place.offset < gap.to && gap.from < place.end());
    let gaps: Vec<Gap> =
        gaps(medium, parts).into_iter().filter(|gap| gap.hit.len() > 1 || found(gap)).take(TOLD).collect();
    if gaps.iter().map(|gap| gap.hit.len()).sum::<usize>() < 2 {
        return None;
    }
    let tell = |gap: &Gap| {
        let what = if gap.value == 0 { "zero" } else { "FF" };
        let (from, last) = (gap.from, gap.to.minus(1));
        format!("bytes {from} to {last} of the volume are {what}, and with them {}", listed(&gap.hit))
    };
    let told: Vec<String> = gaps.iter().map(tell).collect();
    Some(match told.as_slice() {
        [one] => format!(
            "one gap: {one}; the findings follow from that (a block that was never written, or an erase that was cut off)"
        ),
        many => format!(
            "{} gaps: {}; the findings follow from that (blocks that were never written, or an erase that was cut off)",
            many.len(),
            many.join("; ")
        ),
    })
}

/// What stands over the beginnings of at least the first two of `parts` and is not blank, in words. `places` are those of
/// the findings: each of these structures has one in its first sector.
pub(crate) fn written_over(medium: &dyn Medium, parts: &[Part], places: &[Extent]) -> Option<String> {
    let struck = |part: &&Part| {
        let head = Extent::new(part.extent.offset, SECTOR);
        places.iter().any(|place| place.offset < head.end() && head.offset < place.end())
            && blank(medium, head.offset).is_none()
    };
    let hit: Vec<&Part> = parts.iter().take_while(struck).collect();
    let hit = named(hit.iter().copied(), hit.last()?.extent.offset.plus(SECTOR));
    (hit.len() > 1).then(|| {
        format!(
            "something else was written over the beginning of the volume: over {}; the findings there follow from that",
            listed(&hit)
        )
    })
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
        let cause = |bytes: &[u8], places: &[Extent]| across(&Memory::new(bytes.to_vec()), &parts, places);
        assert_eq!(cause(&bytes, &[]), None);
        bytes[..512].fill(0);
        let first = Extent::new(10, 2);
        assert_eq!(cause(&bytes, &[first]), None, "one structure is no gap across several");
        bytes[5 * 512..9 * 512].fill(0xFF);
        let found = cause(&bytes, &[]).unwrap();
        assert!(found.starts_with("one gap"), "{found}");
        assert!(found.contains("bytes 2560 to 4607 of the volume are FF"), "{found}");
        assert!(found.contains("its backup and the head of the first table"), "{found}");
        let region = Part::new("the region", 0, 8 * 512);
        let with_region: Vec<Part> = [region].into_iter().chain(parts.iter().cloned()).collect();
        let found = across(&Memory::new(vec![0; 16 * 512]), &with_region, &[]).unwrap();
        assert!(found.contains("with them the region and the first table;"), "{found}");
        let found = cause(&bytes, &[first]).unwrap();
        assert!(found.starts_with("2 gaps: bytes 0 to 511 of the volume are zero, and with them"), "{found}");
        // Clusters that are all in use are no gap, whatever else a finding says of the bitmap.
        let full = [parts[0].clone(), Part::bitmap("the bitmap", 6 * 512, 512)];
        assert_eq!(across(&Memory::new(bytes), &full, &[first, Extent::new(6 * 512, 9)]), None);
    }

    #[test]
    fn what_was_written_over_the_beginning_is_told_as_far_as_it_goes() {
        let parts = [
            Part::new("the boot sector", 0, 512),
            Part::new("its backup", 6 * 512, 512),
            Part::new("the first table", 8 * 512, 4 * 512),
        ];
        let text = Memory::new(vec![b'x'; 16 * 512]);
        let at = |sectors: &[u64]| -> Vec<Extent> {
            sectors.iter().map(|sector| Extent::new(sector * 512 + 4, 4)).collect()
        };
        assert_eq!(written_over(&text, &parts, &at(&[0, 8])), None);
        let found = written_over(&text, &parts, &at(&[0, 6])).unwrap();
        assert!(found.contains("over the boot sector and its backup;"), "{found}");
        let found = written_over(&text, &parts, &at(&[0, 6, 8])).unwrap();
        assert!(found.contains("its backup and the head of the first table;"), "{found}");
    }
}
