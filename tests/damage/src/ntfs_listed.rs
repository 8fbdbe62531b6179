//! An `$MFT` in so many pieces that its own record does not hold them: a list names a second one, as on volumes in long use.

use crate::ntfs::Filled;
use punchdog_core::ntfs::{
    build::{Outside, Record, outside, resident},
    layout::{fix, kind, own, put, reference, unfix},
    list,
    record::attributes,
    runs::decode,
};

/// The record that extends that of `$MFT`.
pub const EXTENSION: u32 = 15;

/// Moves the name, the bitmap and the second half of `$MFT`'s runs into another record.
///
/// # Panics
/// When the volume is not as the lab makes them.
pub fn listed(mut filled: Filled<Vec<u8>>) -> Filled<Vec<u8>> {
    let geometry = filled.geometry;
    let (size, cluster) = (geometry.record(), geometry.cluster());
    let index = |place: u64| usize::try_from(place).expect("a small volume");
    let start = index(geometry.place(geometry.mft));
    let at = |number: u32| start + number as usize * size;
    let mut zero = filled.canvas[at(0)..at(1)].to_vec();
    unfix(&mut zero);
    let (list, _) = attributes(&zero);
    let of =
        |wanted: u32| list.iter().find(|a| a.kind() == wanted).expect("as it was laid down").bytes.to_vec();
    let data = list.iter().find(|a| a.kind() == kind::DATA).expect("as it was laid down");
    let bits = list.iter().find(|a| a.kind() == kind::BITMAP).expect("as it was laid down");
    let (runs, _) = decode(data.runs(), data.clusters(), geometry.clusters());
    let [all] = runs.as_slice() else { panic!("one run") };
    // The extension stands in the part that its own record tells of.
    let half = (u64::from(EXTENSION + 1) * size as u64).div_ceil(cluster);
    assert!(half < all.length, "there are records behind");
    let (mut one, mut two) = (*all, *all);
    one.length = half;
    two.first = all.first.map(|first| first + half);
    two.length = all.length - half;
    let piece = |run, first_vcn| {
        let runs = [run];
        outside(kind::DATA, "", Outside { first_vcn, ..Outside::plain(&runs, data.size(), cluster) })
    };
    let (mut first, mut second) = (piece(one, 0), piece(two, half));
    // The first piece tells the sizes of all.
    first[40..64].copy_from_slice(&data.bytes[40..64]);
    second[40..64].fill(0);
    let (base, other) = (reference(own::MFT, 1), reference(EXTENSION, 15));
    let entry = |kind: u32, first_vcn: u64, reference: u64, id: u16| list::Entry {
        kind,
        name: &[],
        first_vcn,
        reference,
        id,
        at: 0,
    };
    let entries = list::bytes(&[
        entry(kind::STANDARD, 0, base, 0),
        entry(kind::NAME, 0, other, 0),
        entry(kind::DATA, 0, base, 2),
        entry(kind::DATA, half, other, 1),
        entry(kind::BITMAP, 0, other, 2),
    ]);
    let own = Record::new(own::MFT, 1, 0)
        .with(of(kind::STANDARD))
        .with(resident(kind::LIST, "", &entries))
        .with(first);
    let extension = Record { base, ..Record::new(EXTENSION, 15, 0) };
    let extension = extension.with(of(kind::NAME)).with(second).with(of(kind::BITMAP));
    // The name counts where the file's own record is.
    let linked = |record: &Record, links: u16| {
        let mut bytes = record.bytes(size).expect("it fits");
        unfix(&mut bytes);
        put(&mut bytes, 18, &links.to_le_bytes());
        fix(&mut bytes);
        bytes
    };
    let (own, extension) = (linked(&own, 1), linked(&extension, 0));
    let (bitmap, _) = decode(bits.runs(), bits.clusters(), geometry.clusters());
    let bitmap = index(geometry.place(bitmap[0].first.expect("it lies somewhere")));
    let copy = index(geometry.place(geometry.mirror));
    filled.canvas[at(0)..at(1)].copy_from_slice(&own);
    filled.canvas[copy..copy + size].copy_from_slice(&own);
    filled.canvas[at(EXTENSION)..at(EXTENSION + 1)].copy_from_slice(&extension);
    filled.canvas[bitmap + 1] |= 0x80;
    filled
}
