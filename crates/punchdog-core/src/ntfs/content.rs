//! What a stream holds, as pieces: in the record, in clusters, packed, never written.

use super::{
    layout::COMPRESSED,
    mft::Mft,
    records::{Piece, Records},
    runs::{Mapping, Run},
};
use crate::{
    arith::Sat,
    files::content::{Content, Packed, Piece as Part},
    medium::{Extent, Medium},
};

/// Bytes of a compression unit at most: 16 clusters of 64 KiB.
const UNIT: u64 = 1 << 20;

/// The content of the stream that these pieces are.
pub fn of(medium: &dyn Medium, mft: &Mft, records: &Records, pieces: &[Piece]) -> Content {
    let Some(first) = pieces.first() else { return Content::default() };
    if first.resident {
        return resident(medium, mft, first);
    }
    let runs = records.all_runs(pieces);
    let cluster = mft.geometry.cluster();
    let written = first.valid.min(first.size);
    let unit = cluster.checked_shl(u32::from(first.unit)).unwrap_or(0);
    let packed = first.flags & COMPRESSED != 0 && first.unit > 0 && unit <= UNIT;
    let parts = if packed { units(&runs, cluster, unit) } else { plain(&runs, cluster) };
    let content = Content::of(parts, written);
    let room = Mapping::of(&runs, cluster).len();
    let zeros = first.size.min(room).minus(written);
    content.and_zeros(zeros)
}

fn plain(runs: &[Run], cluster: u64) -> Vec<Part> {
    let length = |run: &Run| run.length.times(cluster);
    let part = |run: &Run| match run.first {
        Some(first) => Part::Stored(Extent::new(first.times(cluster), length(run))),
        None => Part::Zeros(length(run)),
    };
    runs.iter().map(part).collect()
}

/// Unit by unit: all of its clusters hold it as it is, some hold it packed, none is zeros.
fn units(runs: &[Run], cluster: u64, unit: u64) -> Vec<Part> {
    let each = unit.per(cluster);
    let mut parts = Vec::new();
    let mut here: Vec<Run> = Vec::new();
    let mut there = 0_u64;
    for run in runs {
        let (mut first, mut left) = (run.first, run.length);
        // Whole units in one run are one part.
        while left > 0 {
            let whole = if there == 0 { left.per(each).times(each) } else { 0 };
            let count = if whole > 0 { whole } else { left.min(each.minus(there)) };
            let piece = Run { first, length: count };
            if whole > 0 {
                parts.extend(plain(&[piece], cluster));
            } else {
                here.push(piece);
                there = there.plus(count);
                if there == each {
                    parts.extend(one_unit(&here, cluster, unit));
                    here.clear();
                    there = 0;
                }
            }
            first = first.map(|first| first.plus(count));
            left = left.minus(count);
        }
    }
    if !here.is_empty() {
        // The last unit may end early; then it is whole, or what is missing is a hole that nobody wrote down.
        parts.extend(if here.iter().all(|run| run.first.is_some()) {
            plain(&here, cluster)
        } else {
            one_unit(&here, cluster, there.times(cluster))
        });
    }
    parts
}

fn one_unit(runs: &[Run], cluster: u64, becomes: u64) -> Vec<Part> {
    let holes = runs.iter().filter(|run| run.first.is_none()).count();
    if holes == 0 || holes == runs.len() {
        return plain(runs, cluster);
    }
    let places = runs.iter().filter_map(|run| {
        run.first.map(|first| Extent::new(first.times(cluster), run.length.times(cluster)))
    });
    vec![Part::Packed(Packed::new(places.collect(), becomes))]
}

/// In the record, where the last two bytes of each stride stand with the fixups.
fn resident(medium: &dyn Medium, mft: &Mft, piece: &Piece) -> Content {
    let record = piece.holder.wide().times(mft.geometry.record().wide());
    let (begin, end) = (piece.first_vcn, piece.first_vcn.plus(piece.size));
    let mut parts = Vec::new();
    let mut at = begin;
    let stand = |from: u64, to: u64| {
        let places = mft.map.places(record.plus(from), to.minus(from));
        places.into_iter().map(|(_, extent)| Part::Stored(extent)).collect::<Vec<_>>()
    };
    while at < end {
        let stride = at.per(512);
        let fixed = stride.times(512).plus(510);
        if at >= fixed {
            // The array of fixups is in the first stride.
            let head = mft.raw(medium, piece.holder);
            let array = super::heads::fixups_at(piece.holder, &head)
                .plus(2)
                .plus(stride.times(2))
                .plus(at.minus(fixed));
            let count = stride.plus(1).times(512).min(end).minus(at);
            match mft.map.place(record.plus(array)) {
                Some(place) if count == 2 => parts.push(Part::Fixed(place)),
                Some(place) => parts.push(Part::Stored(Extent::new(place, count))),
                None => parts.push(Part::Zeros(count)),
            }
            at = at.plus(count);
        } else {
            let stop = fixed.min(end);
            parts.extend(stand(at, stop));
            at = stop;
        }
    }
    Content::of(parts, piece.size)
}
